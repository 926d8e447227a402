"""What a new state of a source does to the figures of reports: each panel's measures before and after."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from oak_ledger.report.report import Report, ReportView
from oak_ledger.source import Source
from oak_ledger.source.references import renamed_references


@dataclass(frozen=True, slots=True)
class Change:
    """One measure of one panel over all its rows, before and after; `after` is None and `broken` says why where it no longer works."""

    report: str
    panel: str
    measure: str
    before: Any
    after: Any
    format: str = ""
    broken: str = ""
    after_works: bool = True


def report_changes(
    reports: Iterable[Report], before: Source, after: Source, renamed: Mapping[str, str] | None = None
) -> list[Change]:
    """The measures whose figure, or whose groups, differ between two states of a source, and those that broke or work again.

    The reports are written for `after`; `renamed` lists fields that have other names in `before` (new name: old name).
    """
    found: list[Change] = []
    back = {new.casefold(): old for new, old in (renamed or {}).items()}
    for report in reports:
        earlier = Report(renamed_references(report.document, back), report.path)
        old, new = _whole(earlier, before), _whole(report, after)
        for left, right in zip(old.panels, new.panels, strict=True):
            name = right.title
            if right.answer is None or left.answer is None:
                if (left.answer is None) != (right.answer is None):
                    said = (right if right.answer is None else left).findings[0].message
                    works = right.answer is not None
                    found.append(Change(report.about.name, name, "(whole panel)", None, None, "", said, works))
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
    for name, before, value in zip(right[0], left[0].values(), right[0].values(), strict=True):
        if not _same(before, value):
            found.append(Change(report, panel, name, before, value, new.formats.get(name, "")))
    if not found and counts[0] != counts[1]:
        found.append(Change(report, panel, "(groups)", counts[0], counts[1]))
    return found


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, float) and isinstance(other, float):
        return abs(one - other) <= 1e-9 * max(abs(one), abs(other))
    return bool(one == other)
