"""What a report builder makes of a source: report files (`definition`), computing them (`report`), what a change does to them (`report_changes`)."""

from __future__ import annotations

from oak_ledger.report.check import check_reports
from oak_ledger.report.report import PanelView, Report, ReportView, find_reports, open_report
from oak_ledger.report.report_changes import Change, GroupChange, report_changes

__all__ = [
    "Change",
    "GroupChange",
    "PanelView",
    "Report",
    "ReportView",
    "check_reports",
    "find_reports",
    "open_report",
    "report_changes",
]
