"""Checking reports, any number at once: names, types and totals without computing a panel; filters and texts in one reading of the rows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula import nodes, parse
from oak_ledger.insight.checks import beside_answer
from oak_ledger.insight.spelling import misspelt
from oak_ledger.report.report import Report, filled
from oak_ledger.source import Source

Text = tuple[str, str, str]
"""Whose a formula is, where it is, and what it says."""


def check_reports(reports: Sequence[Report], source: Source) -> list[list[Finding]]:
    """What is broken or misleads in each report over a source, panel by panel."""
    over = [report.over(source) for report in reports]
    wholes = [whole for whole, _ in over]
    found = [_of_names(report, source, one) for report, one in zip(reports, over, strict=True)]
    own = [list(_texts(report)) for report in reports]
    local = [report.own_names for report in reports]
    shared = [(at, text) for at, texts in enumerate(own) for text in texts if not _names(text[2]) & local[at]]
    for one in misspelt(source, dict.fromkeys(text for _, text in shared)):
        at = next(at for at, text in shared if text[1] == one.place.where)
        found[at].append(one)
    for at, whole in enumerate(wholes):
        found[at] += misspelt(whole, [text for text in own[at] if _names(text[2]) & local[at]])
    for at, place, condition in _matching_nothing(reports, source, wholes):
        hint = "Check letter case, spaces, and dates beyond the data."
        found[at].append(
            Finding(
                "filter-matches-nothing", f"The filter lets no row through: {condition}", Place(place), hint, "warning"
            )
        )
    return [[*findings, *report.hiding(source)] for report, findings in zip(reports, found, strict=True)]


def _of_names(report: Report, source: Source, over: tuple[Source, list[Finding]]) -> list[Finding]:
    """Errors, and totals of what must not be added up."""
    plans, found = report.planned_panels(source, over)
    if not report.reads(source.name):
        message = f"The report reads {report.about.source!r}, but was given {source.name!r}."
        found.append(Finding("other-source", message, Place(f"{report.document.where}, [report]"), severity="warning"))
    return found + [one.at(where) for where, planned in plans for one in beside_answer(over[0], planned.summed)]


def _texts(report: Report) -> Iterator[Text]:
    """The formulas of a report that compare something with a text."""
    for text in report.formulas():
        if any(True for _ in nodes.compared_texts(parse(text[2]).tree)):
            yield text


def _names(formula: str) -> set[str]:
    return {one.name.casefold() for one in nodes.names(parse(formula).tree)}


def _matching_nothing(
    reports: Sequence[Report], source: Source, wholes: Sequence[Source]
) -> Iterator[tuple[int, str, str]]:
    """The conditions of panels that no row meets: which report, where, what it says. Those of shared names are counted together."""
    places: dict[str, list[tuple[int, str]]] = {}
    for at, (report, whole) in enumerate(zip(reports, wholes, strict=True)):
        for panel in report.panels:
            where = f"{report.document.where}, panel {filled(panel.title, whole)!r}"
            try:
                conditions = report.question(panel, whole)["where"] or ()
                if not conditions:
                    continue
                condition = " AND ".join(f"({one})" for one in conditions) if len(conditions) > 1 else conditions[0]
                whole.planned_tally(show=["COUNT(*)"], where=condition)
            except OakError:
                continue  # among the errors
            if _names(condition) & report.own_names:
                if not whole.tally(show=["COUNT(*)"], where=condition).value():
                    yield at, where, condition
            else:
                places.setdefault(condition, []).append((at, where))
    if places:
        shown = [(f"rows {at}", f"COUNT(*) FILTER (WHERE {condition})") for at, condition in enumerate(places)]
        counts = source.tally(show=[*shown, ("rows", "COUNT(*)")]).to_dicts()[0]
        for (name, _), (condition, own) in zip(shown, places.items(), strict=True):
            if not counts[name] and counts["rows"]:
                yield from ((at, where, condition) for at, where in own)
