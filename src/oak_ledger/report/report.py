"""A report: what a report builder makes of a source. Its panels are questions; a broken one does not take the others down."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from oak_ledger.definition.document import Document, read_document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.definition.references import PLACEHOLDER, bare_name, listed
from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.report.content import Content, TextContent
from oak_ledger.report.definition import REPORT, GroupedFilterSpec, LocalFieldSpec, ReportSpec
from oak_ledger.report.kinds import KINDS
from oak_ledger.report.panel_kind import Question
from oak_ledger.report.panel_spec import NamedFormula, PanelSpec
from oak_ledger.source import Answer, Source
from oak_ledger.source.notebook import InNotebook
from oak_ledger.source.questions import PlannedTally, Shown

SUFFIX = ".report.toml"


@dataclass(frozen=True, slots=True)
class PanelView:
    """A panel computed: what it shows and the answer behind that, or why there is nothing; its title with names filled in."""

    spec: PanelSpec
    title: str
    content: Content | None
    answer: Answer | None
    findings: tuple[Finding, ...]


@dataclass(frozen=True, slots=True)
class ReportView(InNotebook):
    """A report computed over a source: its panels in order, and which version of the source they show."""

    name: str
    owner: str
    text: str
    source: str
    version: str
    panels: tuple[PanelView, ...]

    def __repr__(self) -> str:
        broken = sum(panel.content is None for panel in self.panels)
        return (
            f"Report {self.name!r} over {self.source!r}, {self.version}\n  panels: {len(self.panels)}, broken: {broken}"
        )

    @property
    def is_draft(self) -> bool:
        """Whether it shows what nobody has released."""
        return "(draft" in self.version

    def under(self) -> str:
        """The line under its name: its text, the source with version, who built it."""
        built = f"built by {self.owner}" if self.owner else ""
        return " · ".join(part for part in (self.text, f"{self.source}, {self.version}", built) if part)

    def as_json(self) -> dict[str, Any]:
        """What it shows, panel by panel: rows, totals and faults, what is drawn of them, findings."""
        nothing: dict[str, Any] = {"lines": [], "change": "", "text": [], "notes": []}
        panels = [
            {
                **({"rows": None, "totals": None, "faults": []} if panel.answer is None else panel.answer.as_json()),
                "kind": panel.spec.kind,
                "title": panel.title,
                "broken": panel.content is None,
                **(nothing if panel.content is None else panel.content.as_json()),
                "findings": [finding.as_json() for finding in panel.findings],
            }
            for panel in self.panels
        ]
        return {"report": self.name, "source": self.source, "version": self.version, "panels": panels}

    @property
    def findings(self) -> list[Finding]:
        """Everything found in its panels."""
        return [finding for panel in self.panels for finding in panel.findings]


@dataclass(frozen=True, slots=True)
class Report:
    """A report file."""

    document: Document
    path: Path | None = None
    baseline: Source | Path | None = None
    """The earlier state that it compares with, unless the source that it is computed over has one already."""

    def __repr__(self) -> str:
        parts = f"panels: {len(self.panels)}, local fields: {len(self.local_fields)}"
        return f"Report {self.about.name!r} over {self.about.source!r}; {parts}\n  {self.path or 'not saved'}"

    @property
    def about(self) -> ReportSpec:
        """The `[report]` table."""
        return self.document.models("report", ReportSpec)[0]

    @property
    def local_fields(self) -> list[LocalFieldSpec]:
        """The fields that live in this report."""
        return self.document.models("field", LocalFieldSpec)

    @property
    def panels(self) -> list[PanelSpec]:
        """The panels, in order."""
        return self.document.models("panel", PanelSpec)

    @property
    def filters(self) -> list[GroupedFilterSpec]:
        """The named filters of this report."""
        return self.document.models("filter", GroupedFilterSpec)

    def reads(self, source: str) -> bool:
        """Whether it reads a source, by its name or AREA/NAME; where only one of both says the area, the names decide."""
        one, other = self.about.source.casefold(), source.casefold()
        return one == other if "/" in one and "/" in other else one.rpartition("/")[2] == other.rpartition("/")[2]

    def compared_with(self, baseline: Source | Path) -> Report:
        """The report with the earlier state that it compares with: a published version, or a file that `write` made."""
        return replace(self, baseline=baseline)

    @property
    def own_names(self) -> set[str]:
        """The names of its local fields and filters, in casefold."""
        return {
            *(local_field.name.casefold() for local_field in self.local_fields),
            *(filter_.name.casefold() for filter_ in self.filters),
        }

    def over(self, source: Source) -> tuple[Source, list[Finding]]:
        """The source with this report's local fields and filters beside it, and what is wrong with those."""
        if self.baseline is not None and source.baseline_feed is None:
            source = source.with_baseline(self.baseline)
        fields = [
            FieldSpec(
                name=local_field.name,
                formula=local_field.formula,
                format=local_field.format,
                description=local_field.description,
            )
            for local_field in self.local_fields
        ]
        fields += [FieldSpec(name=filter_.name, formula=_filter_formula(filter_, source)) for filter_ in self.filters]
        whole, failed = source.with_local_fields(fields)
        kinds = {filter_.name: "filter" for filter_ in self.filters}
        found = [
            finding.at(self.document.place(kinds.get(name, "field"), name))
            for name, findings in failed.items()
            for finding in findings
        ]
        counts = Counter(field.name.casefold() for field in fields)
        found += [
            Finding("name-taken", f"The report has {field.name!r} twice.", self.document.place())
            for field in fields
            if counts.pop(field.name.casefold(), 1) > 1
        ]
        return whole, found

    def view(self, source: Source) -> ReportView:
        """Compute every panel. A panel that cannot be computed says why; the others are not touched by it."""
        whole, findings = self.over(source)
        local = self.broken_locals(findings)
        panels = tuple(self._panel(panel, whole, local) for panel in self.panels)
        version = "working copy" if source.published is None else str(source.published)
        about = self.about
        return ReportView(about.name, about.owner, filled(about.text, whole), source.name, version, panels)

    def broken_locals(self, findings: Sequence[Finding]) -> dict[str, list[Finding]]:
        """What is wrong with each local field or filter, by its name in casefold."""
        names = [*(local_field.name for local_field in self.local_fields), *(filter_.name for filter_ in self.filters)]
        return {name.casefold(): [finding for finding in findings if finding.place.name == name] for name in names}

    def question(self, panel: PanelSpec, source: Source) -> Question:
        """What a panel asks of the source with this report's fields beside it, as arguments of a tally."""
        always = [filter_.name for filter_ in self.filters if filter_.always]
        return {
            "by": [_item(item) for item in panel.by],
            "show": [_item(item) for item in panel.show],
            "where": [*(_where(alway, source) for alway in (*always, *listed(panel.where)) if alway)] or None,
            **({"fill": panel.fill} if panel.fill else {}),
        }

    def planned(self, panel: PanelSpec, source: Source) -> PlannedTally | None:
        """A panel's question, checked and not computed; None where it asks nothing. Raises OakError where it cannot be asked."""
        return KINDS[panel.kind].planned(panel, source, self.question(panel, source))

    def working(self, source: Source) -> int:
        """How many of its panels can be asked of a source."""
        whole, _ = self.over(source)
        return sum(self._can_be_asked(panel, whole) for panel in self.panels)

    def _can_be_asked(self, panel: PanelSpec, source: Source) -> bool:
        try:
            self.planned(panel, source)
        except OakError:
            return False
        return True

    def answer(self, panel: PanelSpec, source: Source) -> Answer | None:
        """All groups of a panel with their totals; None where it asks nothing. Raises OakError where it cannot be asked."""
        asked = KINDS[panel.kind].question(panel, self.question(panel, source))
        return None if asked is None else source.tally(**asked, totals=bool(panel.by))

    def _panel(self, panel: PanelSpec, source: Source, local: dict[str, list[Finding]]) -> PanelView:
        title = filled(panel.title, source)
        place = self.document.place("panel", title)
        texts = tuple(_text_findings(f"{panel.title} {panel.text}", source, place))
        kind = KINDS[panel.kind]
        try:
            question = self.question(panel, source)
            kind.planned(panel, source, question)
            computed = kind.compute(panel, source, question)
        except OakError as error:
            causes = causes_of(error, source, local)
            return PanelView(panel, title, None, None, (*(cause.at(place) for cause in causes), *texts))
        content = computed.content
        if isinstance(content, TextContent):
            content = replace(content, paragraphs=tuple(filled(paragraph, source) for paragraph in content.paragraphs))
        findings = tuple(finding.at(place) for finding in computed.findings if finding.severity != "note")
        return PanelView(panel, title, content, computed.answer, (*findings, *texts))

    def errors(self, source: Source) -> list[Finding]:
        """What of this report does not work over a source; nothing is computed for it."""
        return self.planned_panels(source, self.over(source))[1]

    def planned_panels(
        self, source: Source, over: tuple[Source, list[Finding]]
    ) -> tuple[list[tuple[Place, PlannedTally]], list[Finding]]:
        """The questions of panels that can be asked, each with where it is, and what does not work; `over` is what `over` gives."""
        whole, findings = over
        local = self.broken_locals(findings)
        causes = [cause.at(finding.place) for finding in findings for cause in _causes(finding, whole, {})]
        errors = [*causes, *_text_findings(self.about.text, source, self.document.place("report"))]
        plans = []
        for panel in self.panels:
            place = self.document.place("panel", filled(panel.title, whole))
            try:
                planned = self.planned(panel, whole)
                plans += [(place, planned)] if planned is not None else []
            except OakError as error:
                errors += [cause.at(place) for cause in causes_of(error, whole, local)]
            errors += _text_findings(f"{panel.title} {panel.text}", whole, place)
        return plans, errors

    def hiding(self, source: Source) -> list[Finding]:
        """Fields of this report that have the name of a shared one: its panels show its own, shared formulas keep theirs."""
        findings = []
        for local_field in self.local_fields:
            shared = source.shared.states.get(local_field.name.casefold())
            if shared is not None:
                there = getattr(shared.spec, "formula", "") or getattr(shared.spec, "column", "")
                message = f"{local_field.name} is a field of {source.name}, too. There: {' '.join(there.split())}. Here: {' '.join(local_field.formula.split())}."
                place = self.document.place("field", local_field.name)
                hint = "Rename one of them, or drop the report's own: oak report drop."
                findings.append(Finding("shared-hidden", message, place, hint, "warning"))
        return findings

    def lost(self, before: Source, after: Source) -> list[Finding]:
        """What works in this report over one state of a source and not over another."""
        first = {(error.place.where, error.code, error.place.piece) for error in self.errors(before)}
        after_it = [((error.place.where, error.code, error.place.piece), error) for error in self.errors(after)]
        return [error for key, error in after_it if key not in first]

    def formulas(self) -> Iterator[tuple[str, Place, str]]:
        """Every formula of the report: whose it is, where it is, what it says."""
        for field in self.local_fields:
            yield field.name, self.document.place("field", field.name), field.formula
        for filter_ in self.filters:
            for text in (*filter_.include, *filter_.exclude):
                yield "The condition", self.document.place("filter", filter_.name), text
        for panel in self.panels:
            place = self.document.place("panel", panel.title)
            for text in listed(panel.where):
                yield "The condition", place, text
            for item in (*panel.by, *panel.show, *([panel.against] if panel.against else [])):
                yield "The panel", place, item.formula if isinstance(item, NamedFormula) else item


def causes_of(error: OakError, source: Source, local: dict[str, list[Finding]]) -> list[Finding]:
    """What an error is about; one about a name that is broken itself is reported by its cause."""
    return [cause for finding in error.findings for cause in _causes(finding, source, local)]


def _causes(finding: Finding, source: Source, local: dict[str, list[Finding]]) -> Iterator[Finding]:
    """A finding about a field that is broken itself is reported by its cause."""
    named = finding.place.piece
    if finding.code in ("unknown-field", "unknown-sort"):
        for name, reasons in local.items():
            if name.casefold() == named.casefold() and reasons:
                yield replace(
                    finding, message=f"It needs {name!r}, which is broken: {reasons[0].message}", hint=reasons[0].hint
                )
                return
    state = source.compiled.states.get(named.casefold()) if named else None
    if finding.code == "broken-field" and state is not None:
        root = root_cause(source, state.name)
        yield replace(finding, message=f"It needs {state.name}, which is broken: {root.message}", hint=root.hint)
        return
    yield finding


def root_cause(source: Source, name: str) -> Finding:
    """Why a broken field is broken, followed to where it begins."""
    seen = {name}
    state = source.state(name)
    while True:
        own = next((finding for finding in state.findings if finding.code != "broken-field"), None)
        if own is not None:
            return own
        inner = next(
            (source.state(used) for used in state.uses if source.state(used).broken and used not in seen), None
        )
        if inner is None:
            return state.findings[0]
        seen.add(inner.name)
        state = inner


def _item(item: str | NamedFormula) -> Shown:
    return item if isinstance(item, str) else (item.name, item.formula)


def _where(text: str, source: Source) -> str:
    known = source.compiled.states.get(bare_name(text).casefold())
    return quote_identifier(known.name) if known is not None else text


def _filter_formula(spec: GroupedFilterSpec, source: Source) -> str:
    """A named filter as a condition on a row: a row of which a condition is undecided is not excluded by it."""
    kept, gone = (" OR ".join(f"({_where(one, source)})" for one in listed) for listed in (spec.include, spec.exclude))
    return " AND ".join([*([f"({kept})"] if kept else []), *([f"({gone}) IS NOT TRUE"] if gone else [])])


def filled(text: str, source: Source) -> str:
    """A text with each {Field} as the field's name is written now."""

    def name(match: object) -> str:
        state = source.compiled.states.get(match[1].casefold())  # type: ignore[index]
        return state.name if state is not None else match[0]  # type: ignore[index]

    return PLACEHOLDER.sub(name, text)


def _text_findings(text: str, source: Source, place: Place) -> Iterable[Finding]:
    for match in PLACEHOLDER.finditer(text):
        name = match[1]
        if name.casefold() not in source.compiled.states:
            hint = nearest_hint(name, source.compiled.scope().names(), str)
            message = f"The text names the field {{{name}}}, which is not there."
            yield Finding("unknown-field", message, place.in_text(text, match.start(1), match.end(1)), hint)


def open_report(path: str | Path) -> Report:
    """Open a report file (`NAME.report.toml`). Raises UnusableInput where it cannot be read or is wrong."""
    file = Path(path)
    return Report(read_document(file, REPORT), file)


def find_reports(folder: str | Path, source: str = "", unread: list[Finding] | None = None) -> list[Report]:
    """The report files in a folder and below, of one source if it is named; in the order of their paths.

    What is wrong with files that cannot be read goes into `unread` where that is given; else it is raised.
    """
    reports = []
    for path in sorted(Path(folder).rglob(f"*{SUFFIX}")):
        try:
            reports.append(open_report(path))
        except OakError as error:
            if unread is None:
                raise
            unread += error.findings
    return [report for report in reports if not source or report.reads(source)]
