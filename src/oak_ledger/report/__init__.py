"""What a report builder makes of a source: report files (`definition`), computing them (`report`), what a change does to them (`report_changes`).

- A kind of panel is a class; a medium draws what it shows. A panel computes lines of a table, series of a chart, a
  figure or paragraphs; terminal, picture and page each have one function a kind, and a test says when one is missing.
  What is beyond a limit is asked for as one group, so that ratios and shares of it are right; subtotals are asked
  for, never added up.
"""

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
