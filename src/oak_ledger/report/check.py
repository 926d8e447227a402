"""Checking reports, any number at once: names, types and totals without computing a panel; filters and texts in one reading of the rows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress

from oak_ledger.definition.references import is_name
from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula import nodes, parse
from oak_ledger.insight.checks import beside_answer, formula_findings
from oak_ledger.insight.spelling import misspelt
from oak_ledger.report.kinds import KINDS
from oak_ledger.report.panel_spec import NamedFormula
from oak_ledger.report.report import Report, filled
from oak_ledger.source import Source

Text = tuple[str, Place, str]
"""Whose a formula is, where it is, and what it says."""


def check_reports(reports: Sequence[Report], source: Source) -> list[list[Finding]]:
    """What is broken or misleads in each report over a source, panel by panel."""
    over = [report.over(source) for report in reports]
    wholes = [whole for whole, _ in over]
    found = [_of_names(report, source, one) for report, one in zip(reports, over, strict=True)]
    own = [list(_texts(report)) for report in reports]
    local = [report.own_names for report in reports]
    shared = [(at, text) for at, texts in enumerate(own) for text in texts if not _names(text[2]) & local[at]]
    for finding in misspelt(source, dict.fromkeys(text for _, text in shared)):
        at = next(at for at, text in shared if text[1] == finding.place.in_text("", 0, 0))
        found[at].append(finding)
    for at, whole in enumerate(wholes):
        found[at] += misspelt(whole, [text for text in own[at] if _names(text[2]) & local[at]])
    for at, finding in _of_formulas(reports, source, wholes):
        found[at].append(finding)
    for at, place, condition in _matching_nothing(reports, source, wholes):
        hint = "Check letter case, spaces, and dates beyond the data."
        found[at].append(
            Finding("filter-matches-nothing", f"The filter lets no row through: {condition}", place, hint, "warning")
        )
    return [[*findings, *report.hiding(source)] for report, findings in zip(reports, found, strict=True)]


def _of_names(report: Report, source: Source, over: tuple[Source, list[Finding]]) -> list[Finding]:
    """Errors, and totals of what must not be added up."""
    plans, findings = report.planned_panels(source, over)
    if not report.reads(source.name):
        message = f"The report reads {report.about.source!r}, but was given {source.name!r}."
        findings.append(Finding("other-source", message, report.document.place("report"), severity="warning"))
    for panel in report.panels:
        with suppress(OakError):  # among the errors
            doubts = KINDS[panel.kind].doubts(panel, over[0], report.question(panel, over[0]))
            findings += [doubt.at(report.document.place("panel", filled(panel.title, over[0]))) for doubt in doubts]
    return findings + [
        finding.at(place) for place, planned in plans for finding in beside_answer(over[0], planned.summed)
    ]


Measures = dict[str, tuple[Place, str]]
"""Formulas of a report: what each is called, where it is, and what it says."""


def _of_formulas(reports: Sequence[Report], source: Source, wholes: Sequence[Source]) -> Iterator[tuple[int, Finding]]:
    """What a check says of the formulas of reports, as it says it of those of the source. Reports whose formulas get along are read together."""
    if source.reader:
        return  # what a check would say may be of fields that are hidden
    batches: list[tuple[dict[str, str], list[tuple[int, Measures]]]] = []
    for at, (report, whole) in enumerate(zip(reports, wholes, strict=True)):
        own = _measures(report, whole)
        if not own or report.own_names & source.shared.states.keys():
            continue  # a name of its own that hides a shared one means something else in a field of the source
        formulas = {name: text for name, (_, text) in own.items()}
        fitting = next((batch for batch in batches if all(batch[0].get(name, text) == text for name, text in formulas.items())), None)  # fmt: skip
        if fitting is None:
            batches.append(fitting := ({}, []))
        fitting[0].update(formulas)
        fitting[1].append((at, own))
    for formulas, members in batches:
        found = formula_findings(source, formulas)
        for at, own in members:
            yield from ((at, finding.at(place)) for name, (place, _) in own.items() for finding in found[name])


def _measures(report: Report, whole: Source) -> Measures:
    """The formulas of a report that have a value: its own fields, and what its panels show."""
    own = {
        local_field.name: (report.document.place("field", local_field.name), local_field.formula)
        for local_field in report.local_fields
    }
    for panel in report.panels:
        place = report.document.place("panel", filled(panel.title, whole))
        for item in panel.show:
            name, formula = (
                (item.name, item.formula) if isinstance(item, NamedFormula) else (" ".join(item.split()), item)
            )
            if isinstance(item, NamedFormula) or not is_name(item):
                taken = name.casefold() in whole.shared.states
                own.setdefault(f"{name} of the panel" if taken else name, (place, formula))
    return {name: one for name, one in own.items() if whole.check_formula(one[1]).checked is not None}


def _texts(report: Report) -> Iterator[Text]:
    """The formulas of a report that compare something with a text."""
    for text in report.formulas():
        if any(True for _ in nodes.compared_texts(parse(text[2]).tree)):
            yield text


def _names(formula: str) -> set[str]:
    return {name.name.casefold() for name in nodes.names(parse(formula).tree)}


def _matching_nothing(
    reports: Sequence[Report], source: Source, wholes: Sequence[Source]
) -> Iterator[tuple[int, Place, str]]:
    """The conditions of panels that no row meets: which report, where, what it says. Those of shared names are counted together."""
    places: dict[str, list[tuple[int, Place]]] = {}
    for at, (report, whole) in enumerate(zip(reports, wholes, strict=True)):
        for panel in report.panels:
            place = report.document.place("panel", filled(panel.title, whole))
            try:
                conditions = report.question(panel, whole)["where"] or ()
                if not conditions:
                    continue
                condition = (
                    " AND ".join(f"({condition})" for condition in conditions) if len(conditions) > 1 else conditions[0]
                )
                whole.planned_tally(show=["COUNT(*)"], where=condition)
            except OakError:
                continue  # among the errors
            if _names(condition) & report.own_names:
                if not whole.tally(show=["COUNT(*)"], where=condition).value():
                    yield at, place, condition
            else:
                places.setdefault(condition, []).append((at, place))
    if places:
        shown = [(f"rows {at}", f"COUNT(*) FILTER (WHERE {condition})") for at, condition in enumerate(places)]
        counts = source.tally(show=[*shown, ("rows", "COUNT(*)")]).to_dicts()[0]
        for (name, _), (condition, own) in zip(shown, places.items(), strict=True):
            if not counts[name] and counts["rows"]:
                yield from ((at, where, condition) for at, where in own)
