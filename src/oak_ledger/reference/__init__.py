"""Every place that names a field, as one kind of thing: what depends on it (`trace`), what it may be now (`candidates`), mending.

- Evidence before names (`reference/evidence.py`). Rows now and before are matched by any column that is unique, or by
  several together; then agreement beyond chance, replaced values and common factors are measured. Without a match,
  distributions are compared. Columns are assigned to fields together, so that swaps come out; `sure` needs values
  that prove it, and a lead over every other column.
"""

from __future__ import annotations

from oak_ledger.reference.candidates import Candidate, candidates
from oak_ledger.reference.causes import Cause, ReportErrors, causes
from oak_ledger.reference.drift import drift, recoded
from oak_ledger.reference.lineage import Lineage, Piece, lineage
from oak_ledger.reference.mend import Mend, plan_mend
from oak_ledger.reference.trace import Broken, Entry, Uses, broken_names, counted_entries, dependents

__all__ = [
    "Broken",
    "Candidate",
    "Cause",
    "Entry",
    "Lineage",
    "Mend",
    "Piece",
    "ReportErrors",
    "Uses",
    "broken_names",
    "candidates",
    "causes",
    "counted_entries",
    "dependents",
    "drift",
    "lineage",
    "plan_mend",
    "recoded",
]
