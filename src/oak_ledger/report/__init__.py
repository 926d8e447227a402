"""What a report builder makes of a source: report files (`definition`), computing them (`report`), what a change does to them (`consequences`)."""

from __future__ import annotations

from oak_ledger.report.consequences import Change, consequences
from oak_ledger.report.report import PanelView, Report, ReportView, find_reports, open_report

__all__ = ["Change", "PanelView", "Report", "ReportView", "consequences", "find_reports", "open_report"]
