"""A report: what a report builder makes of a source. Its panels are questions; a broken one does not take the others down."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.report.definition import REPORT, LocalFieldSpec, NamedFormula, PanelSpec, ReportSpec
from oak_ledger.source import Answer, Source
from oak_ledger.source.definition import FieldSpec
from oak_ledger.source.document import Document, read_document
from oak_ledger.source.questions import Shown
from oak_ledger.source.references import PLACEHOLDER

SUFFIX = ".report.toml"


@dataclass(frozen=True, slots=True)
class PanelView:
    """A panel computed: its answer, or why there is none; its title with names filled in."""

    spec: PanelSpec
    title: str
    answer: Answer | None
    findings: tuple[Finding, ...]


@dataclass(frozen=True, slots=True)
class ReportView:
    """A report computed over a source: its panels in order, and which version of the source they show."""

    name: str
    owner: str
    text: str
    source: str
    version: str
    panels: tuple[PanelView, ...]

    @property
    def findings(self) -> list[Finding]:
        """Everything found in its panels."""
        return [found for panel in self.panels for found in panel.findings]


@dataclass(frozen=True, slots=True)
class Report:
    """A report file."""

    document: Document
    path: Path | None = None

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

    def over(self, source: Source) -> tuple[Source, list[Finding]]:
        """The source with this report's local fields beside it, and what is wrong with those."""
        fields = [
            FieldSpec(name=one.name, formula=one.formula, format=one.format, description=one.description)
            for one in self.local_fields
        ]
        whole, failed = source.with_local_fields(fields)
        where = self.document.where
        return whole, [found.at(f"{where}, field {name!r}") for name, findings in failed.items() for found in findings]

    def view(self, source: Source) -> ReportView:
        """Compute every panel. A panel that cannot be computed says why; the others are not touched by it."""
        whole, findings = self.over(source)
        local = {
            field.name.casefold(): [one for one in findings if repr(field.name) in one.place.where]
            for field in self.local_fields
        }
        panels = tuple(self._panel(panel, whole, local) for panel in self.panels)
        version = "working copy"
        if source.published is not None:
            made = source.published
            version = f"version {made.number} ({made.stage}), {made.made_at} by {made.made_by}"
        about = self.about
        return ReportView(about.name, about.owner, filled(about.text, whole), source.name, version, panels)

    def _panel(self, panel: PanelSpec, source: Source, local: dict[str, list[Finding]]) -> PanelView:
        title = filled(panel.title, source)
        where = f"{self.document.where}, panel {title!r}"
        try:
            answer = source.tally(**panel_question(panel, source))
        except OakError as error:
            causes = [cause for found in error.findings for cause in _causes(found, source, local)]
            found = tuple(one.at(where) for one in causes)
            return PanelView(panel, title, None, (*found, *_text_findings(panel.title, source, where)))
        found = tuple(one.at(where) for one in answer.findings if one.severity != "note")
        return PanelView(panel, title, answer, (*found, *_text_findings(panel.title, source, where)))

    def errors(self, source: Source, over: tuple[Source, list[Finding]] | None = None) -> list[Finding]:
        """What of this report does not work over a source; nothing is computed for it. `over` is what `over` gave, where it is known."""
        whole, found = over or self.over(source)
        local = {
            field.name.casefold(): [one for one in found if repr(field.name) in one.place.where]
            for field in self.local_fields
        }
        causes = [cause.at(one.place.where) for one in found for cause in _causes(one, whole, {})]
        errors = [*causes, *_text_findings(self.about.text, source, f"{self.document.where}, [report]")]
        for panel in self.panels:
            where = f"{self.document.where}, panel {filled(panel.title, whole)!r}"
            try:
                whole.planned_tally(**panel_question(panel, whole))
            except OakError as error:
                errors += [cause.at(where) for one in error.findings for cause in _causes(one, whole, local)]
            errors += _text_findings(panel.title, whole, where)
        return errors

    def hiding(self, source: Source) -> list[Finding]:
        """Fields of this report that have the name of a shared one: its panels show its own, shared formulas keep theirs."""
        found = []
        for one in self.local_fields:
            shared = source.shared.states.get(one.name.casefold())
            if shared is not None:
                there = getattr(shared.spec, "formula", "") or getattr(shared.spec, "column", "")
                message = f"{one.name} is a field of {source.name}, too. There: {' '.join(there.split())}. Here: {' '.join(one.formula.split())}."
                place = Place(f"{self.document.where}, field {one.name!r}")
                hint = "Rename one of them, or drop the report's own: oak report drop."
                found.append(Finding("shared-hidden", message, place, hint, "warning"))
        return found

    def lost(self, before: Source, after: Source) -> list[Finding]:
        """What works in this report over one state of a source and not over another."""
        first = {(one.place.where, one.message) for one in self.errors(before)}
        return [one for one in self.errors(after) if (one.place.where, one.message) not in first]

    def formulas(self) -> Iterator[tuple[str, str, str]]:
        """Every formula of the report: whose it is, where it is, what it says."""
        for field in self.local_fields:
            yield field.name, f"{self.document.where}, field {field.name!r}", field.formula
        for panel in self.panels:
            where = f"{self.document.where}, panel {panel.title!r}"
            if panel.where:
                yield "The condition", where, panel.where
            for item in (*panel.by, *panel.show):
                yield "The panel", where, item.formula if isinstance(item, NamedFormula) else item


def _causes(found: Finding, source: Source, local: dict[str, list[Finding]]) -> Iterator[Finding]:
    """A finding about a field that is broken itself is reported by its cause."""
    named = found.place.text[found.place.start : found.place.end].strip('"')
    if found.code in ("unknown-field", "unknown-sort"):
        for name, reasons in local.items():
            if repr(name)[1:-1] in found.message.casefold() and reasons:
                yield replace(
                    found, message=f"It needs {name!r}, which is broken: {reasons[0].message}", hint=reasons[0].hint
                )
                return
    state = source.compiled.states.get(named.casefold()) if named else None
    if found.code == "broken-field" and state is not None:
        root = root_cause(source, state.name)
        yield replace(found, message=f"It needs {state.name}, which is broken: {root.message}", hint=root.hint)
        return
    yield found


def root_cause(source: Source, name: str) -> Finding:
    """Why a broken field is broken, followed to where it begins."""
    seen = {name}
    state = source.state(name)
    while True:
        own = next((one for one in state.findings if one.code != "broken-field"), None)
        if own is not None:
            return own
        inner = next(
            (source.state(used) for used in state.uses if source.state(used).broken and used not in seen), None
        )
        if inner is None:
            return state.findings[0]
        seen.add(inner.name)
        state = inner


def panel_question(panel: PanelSpec, source: Source) -> dict[str, Any]:
    """What a panel asks, as arguments of a tally."""
    return {
        "by": [_item(item) for item in panel.by],
        "show": [_item(item) for item in panel.show],
        "where": _where(panel.where, source),
        "sort": panel.sort,
        "limit": panel.limit,
        "totals": panel.totals,
    }


def _item(item: str | NamedFormula) -> Shown:
    return item if isinstance(item, str) else (item.name, item.formula)


def _where(text: str, source: Source) -> str | None:
    if not text:
        return None
    known = source.compiled.states.get(text.casefold())
    return quote_identifier(known.name) if known is not None else text


def filled(text: str, source: Source) -> str:
    """A text with each {Field} as the field's name is written now."""

    def name(match: object) -> str:
        found = source.compiled.states.get(match[1].casefold())  # type: ignore[index]
        return found.name if found is not None else match[0]  # type: ignore[index]

    return PLACEHOLDER.sub(name, text)


def _text_findings(text: str, source: Source, where: str) -> Iterable[Finding]:
    for name in PLACEHOLDER.findall(text):
        if name.casefold() not in source.compiled.states:
            hint = nearest_hint(name, source.compiled.scope().names(), str)
            yield Finding(
                "unknown-field", f"The text names the field {{{name}}}, which is not there.", Place(where), hint
            )


def open_report(path: str | Path) -> Report:
    """Open a report file (`NAME.report.toml`). Raises UnusableInput where it cannot be read or is wrong."""
    file = Path(path)
    return Report(read_document(file, REPORT), file)


def find_reports(folder: str | Path, source: str = "") -> list[Report]:
    """The report files in a folder and below, of one source if it is named; in the order of their paths."""
    found = [open_report(path) for path in sorted(Path(folder).rglob(f"*{SUFFIX}"))]
    return [one for one in found if not source or one.about.source.casefold() == source.casefold()]
