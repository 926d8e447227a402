"""What is wrong in a file: at once what its text shows, and after a save what its rows show."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from oak_ledger.editor.files import Desk, OpenFile
from oak_ledger.errors import Finding
from oak_ledger.insight.branches import doubtful
from oak_ledger.report.check import check_reports
from oak_ledger.report.report import Report
from oak_ledger.source.source import Source


def at_once(desk: Desk, file: OpenFile) -> list[Finding]:
    """What a file shows by itself: its form, its formulas, names that are not there. Raises OakError where the origin cannot be opened."""
    if file.findings:
        return list(file.findings)
    source = desk.source(file)
    if source is None:
        message = "There is no definition of the source that it reads in this folder or above."
        return [Finding("unknown-source", message, file.place("report"), severity="warning")] if file.is_report else []
    if file.is_report:
        report = desk.report(file)
        return report.errors(source) if report is not None else []
    wrong = [finding for state in source.compiled.states.values() for finding in state.findings if state.own_fault]
    return [*wrong, *doubtful(source)]


def with_rows(source: Source, reports: Sequence[Report]) -> Iterator[tuple[Path, list[Finding]]]:
    """What the rows show, too, by file: in the definition of a source and in each report. Raises OakError where they cannot be read."""
    checked = zip(reports, check_reports(reports, source), strict=True)
    for path, found in ((source.path, source.check()), *((report.path, found) for report, found in checked)):
        if path is not None:
            yield path, found
