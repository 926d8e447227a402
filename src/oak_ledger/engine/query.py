"""What is asked of rows, and what comes out: data only."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import pyarrow as pa

from oak_ledger.engine.evaluate import Expression, Fields
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.lookup import KeyLookup
from oak_ledger.engine.stats import ExecutionStats
from oak_ledger.formula import checked as c


@dataclass(frozen=True, slots=True)
class SortBy:
    """A column of the answer to sort by."""

    name: str
    descending: bool = False


@dataclass(frozen=True, slots=True)
class Query:
    """What is asked. `by` is empty for a key figure; `grouped` says whether groups are asked for at all."""

    fields: Fields
    show: tuple[Expression, ...]
    by: tuple[Expression, ...] = ()
    where: tuple[Expression, ...] = ()
    always: tuple[Expression, ...] = ()
    """The source's own filters: windows see only the rows that these let through, whatever `where` says."""
    having: tuple[Expression, ...] = ()
    """Conditions on groups: those that do not meet them are left out, before windows over groups and the order."""
    grouped: bool = False
    sort: tuple[SortBy, ...] = ()
    limit: int | None = None
    totals: bool = False
    fill: str = ""
    """Whether groups of dates without rows are there, too: their sums null or, with zero, 0."""
    before: Mapping[c.TypedNode, KeyLookup] = field(default_factory=dict)
    """The values that `BEFORE` and aggregates of a level find, by key or by group; `before_overall` those over all rows together."""
    before_overall: Mapping[c.TypedNode, KeyLookup] = field(default_factory=dict)
    stats: ExecutionStats | None = None
    """Where the steps are written down, if that is wanted."""

    @property
    def asked(self) -> tuple[Expression, ...]:
        """All formulas of the question itself, without the source's own filters."""
        return (*self.show, *self.by, *self.where, *self.having)


@dataclass(frozen=True, slots=True)
class Result:
    """What came out: the table, a table of one row with the totals if asked, what faulted, how many rows counted."""

    table: pa.Table
    totals: pa.Table | None
    faults: Faults
    rows_read: int
    rows_used: int
    groups: int | None = None
