"""Oak Ledger: curate a shared data source.

A `Source` is a definition file and the rows it yields: plain fields of columns, and calculated fields written
in a formula language. Sources are values: an edit returns a new one. The flow is that of the work:

    intake → Source (fields, clean, formulas) → check → rows, tally → Catalogue.publish, release → reports → mend

What is named here is the whole public library; the command line does nothing else. Everything is imported when it is
first used, so that starting is fast. An error is an `OakError` with code, place and hint.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from oak_ledger.handed import HANDED
from oak_ledger.version import __version__

if TYPE_CHECKING:
    from oak_ledger.catalogue import Catalogue as Catalogue
    from oak_ledger.catalogue import Registered as Registered
    from oak_ledger.catalogue import Signature as Signature
    from oak_ledger.catalogue import Snapshot as Snapshot
    from oak_ledger.catalogue import Version as Version
    from oak_ledger.catalogue import Watch as Watch
    from oak_ledger.catalogue import WatchResult as WatchResult
    from oak_ledger.columns.proposal import Proposal as Proposal
    from oak_ledger.definition.edits import Edit as Edit
    from oak_ledger.definition.edits import edits_of as edits_of
    from oak_ledger.definition.edits import redo as redo
    from oak_ledger.definition.edits import undo as undo
    from oak_ledger.definition.naming import NameRule as NameRule
    from oak_ledger.demo.hollowmere import make_demo_data as make_demo_data
    from oak_ledger.engine import Fault as Fault
    from oak_ledger.engine import OperatorStats as OperatorStats
    from oak_ledger.errors import Finding as Finding
    from oak_ledger.errors import FormulaError as FormulaError
    from oak_ledger.errors import OakError as OakError
    from oak_ledger.errors import Place as Place
    from oak_ledger.errors import UnusableInput as UnusableInput
    from oak_ledger.explain.compare import Comparison as Comparison
    from oak_ledger.explain.compare import FieldChange as FieldChange
    from oak_ledger.explain.compare import Retyped as Retyped
    from oak_ledger.explain.compare import compare as compare
    from oak_ledger.explain.compare import previous as previous
    from oak_ledger.explain.compare import retype as retype
    from oak_ledger.explain.outline import OutlineLine as OutlineLine
    from oak_ledger.explain.outline import outline as outline
    from oak_ledger.explain.trial import Trial as Trial
    from oak_ledger.explain.trial import try_formula as try_formula
    from oak_ledger.first_look.intake import Intake as Intake
    from oak_ledger.first_look.intake import intake as intake
    from oak_ledger.first_look.intake import intake_join as intake_join
    from oak_ledger.first_look.intake import restore_columns as restore_columns
    from oak_ledger.formula import Formula as Formula
    from oak_ledger.formula import Function as Function
    from oak_ledger.formula import find_functions as find_functions
    from oak_ledger.formula.assist import Completion as Completion
    from oak_ledger.formula.assist import SignatureHelp as SignatureHelp
    from oak_ledger.formula.assist import complete as complete
    from oak_ledger.formula.assist import format_formula as format_formula
    from oak_ledger.formula.assist import signature_at as signature_at
    from oak_ledger.insight import Fingerprint as Fingerprint
    from oak_ledger.insight import renamed_between as renamed_between
    from oak_ledger.insight.branches import BranchRows as BranchRows
    from oak_ledger.insight.branches import branch_rows as branch_rows
    from oak_ledger.insight.profile import FieldProfile as FieldProfile
    from oak_ledger.insight.profile import Suspicion as Suspicion
    from oak_ledger.insight.profile import profile as profile
    from oak_ledger.origin.workbook import Sheet as Sheet
    from oak_ledger.origin.workbook import sheets as sheets
    from oak_ledger.present.save import save_report as save_report
    from oak_ledger.reference import Broken as Broken
    from oak_ledger.reference import Candidate as Candidate
    from oak_ledger.reference import Mend as Mend
    from oak_ledger.reference import broken_names as broken_names
    from oak_ledger.reference import candidates as candidates
    from oak_ledger.reference import dependents as dependents
    from oak_ledger.reference import drift as drift
    from oak_ledger.reference import plan_mend as plan_mend
    from oak_ledger.report import Change as Change
    from oak_ledger.report import Report as Report
    from oak_ledger.report import ReportView as ReportView
    from oak_ledger.report import check_reports as check_reports
    from oak_ledger.report import find_reports as find_reports
    from oak_ledger.report import open_report as open_report
    from oak_ledger.report import report_changes as report_changes
    from oak_ledger.service.client import connect as connect
    from oak_ledger.source import Answer as Answer
    from oak_ledger.source import Source as Source
    from oak_ledger.source import open_source as open_source

_ROOMS = {
    "catalogue": ("Catalogue", "Registered", "Signature", "Snapshot", "Version", "Watch", "WatchResult"),
    "demo.hollowmere": ("make_demo_data",),
    "engine": ("Fault", "OperatorStats"),
    "errors": ("Finding", "FormulaError", "OakError", "Place", "UnusableInput"),
    "formula": ("Formula", "Function", "find_functions"),
    "formula.assist": ("Completion", "SignatureHelp", "complete", "format_formula", "signature_at"),
    "insight": ("Fingerprint", "renamed_between"),
    "insight.branches": ("BranchRows", "branch_rows"),
    "insight.profile": ("FieldProfile", "Suspicion", "profile"),
    "origin.workbook": ("Sheet", "sheets"),
    "present.save": ("save_report",),
    "reference": ("Broken", "Candidate", "Mend", "broken_names", "candidates", "dependents", "drift", "plan_mend"),
    "report": ("Change", "Report", "ReportView", "report_changes", "check_reports", "find_reports", "open_report"),
    "source": ("Answer", "Source", "open_source"),
    "explain.compare": ("Comparison", "FieldChange", "Retyped", "compare", "previous", "retype"),
    "definition.edits": ("Edit", "edits_of", "redo", "undo"),
    "explain.outline": ("OutlineLine", "outline"),
    "first_look.intake": ("Intake", "restore_columns", "intake", "intake_join"),
    "columns.proposal": ("Proposal",),
    "definition.naming": ("NameRule",),
    "service.client": ("connect",),
    "explain.trial": ("Trial", "try_formula"),
}
_HOMES = {name: room for room, names in _ROOMS.items() for name in names}
__all__ = ["__version__", *sorted(_HOMES)]


def __getattr__(name: str) -> Any:
    """Import a public name when it is first used."""
    room = _HOMES.get(name)
    if room is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    module = import_module(f"oak_ledger.{room}")
    value = getattr(module, name)
    globals()[name] = value
    return value


def _hand(room: str, name: str) -> Any:
    """A function of a room, which is imported when it is first called."""
    return lambda *given: getattr(import_module(f"oak_ledger.{room}"), name)(*given)


HANDED.checks, HANDED.beside_answer = _hand("insight.checks", "run_checks"), _hand("insight.checks", "beside_answer")
HANDED.names_before = _hand("insight.fingerprint", "names_before")
HANDED.in_origin, HANDED.narrowed = _hand("places.database", "asked"), _hand("places.database", "narrowed")
HANDED.on_cluster = _hand("places.spark", "asked")
HANDED.published, HANDED.drawn = _hand("catalogue.catalogue", "open_published"), _hand("present.notebook", "html")


def __dir__() -> list[str]:
    return __all__
