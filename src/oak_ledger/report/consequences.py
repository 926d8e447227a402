"""What a new state of a source does to the figures of reports: each panel's measures before and after."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from oak_ledger.report.report import Report, ReportView
from oak_ledger.source import Source


@dataclass(frozen=True, slots=True)
class Change:
    """One measure of one panel over all its rows, before and after; `after` is None and `broken` says why where it no longer works."""

    report: str
    panel: str
    measure: str
    before: Any
    after: Any
    rows_before: int
    rows_after: int
    broken: str = ""


def consequences(reports: Iterable[Report], before: Source, after: Source) -> list[Change]:
    """The measures whose figure, or whose groups, differ between two states of a source, and those that broke or work again."""
    found: list[Change] = []
    for report in reports:
        old, new = _whole(report, before), _whole(report, after)
        for left, right in zip(old.panels, new.panels, strict=True):
            name = right.title
            if right.answer is None or left.answer is None:
                if (left.answer is None) != (right.answer is None):
                    said = right.findings[0].message if right.answer is None else ""
                    found.append(Change(report.about.name, name, "(whole panel)", None, None, 0, 0, said or "works again"))
                continue
            found += _differences(report.about.name, name, left.answer, right.answer)
    return found


def _whole(report: Report, source: Source) -> ReportView:
    """The report with each panel's totals asked for and no limit, so that figures can be compared."""
    document = report.document
    for block in document.all("panel"):
        if block.values["kind"] != "figure":
            document = document.replaced(block, {"totals": True, "limit": None})
    return Report(document, report.path).view(source)


def _differences(report: str, panel: str, old: Any, new: Any) -> list[Change]:
    found = []
    left = (old.totals or old.table).to_pylist()[:1]
    right = (new.totals or new.table).to_pylist()[:1]
    if not left or not right:
        return []
    counts = old.table.num_rows, new.table.num_rows
    for name, value in right[0].items():
        if name not in left[0]:
            continue
        before = left[0][name]
        if not _same(before, value):
            found.append(Change(report, panel, name, before, value, *counts))
    if not found and counts[0] != counts[1]:
        found.append(Change(report, panel, "(groups)", counts[0], counts[1], *counts))
    return found


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, float) and isinstance(other, float):
        return abs(one - other) <= 1e-9 * max(abs(one), abs(other))
    return bool(one == other)


