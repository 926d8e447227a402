"""Typed formulas over Arrow data, a query at a time.

`query` says what is asked, `execute` answers it: `windows` over rows first, then one `scan` of the rows, in which `evaluate` computes formulas
batch by batch; `aggregate` puts groups together. `faults` keeps what could not be computed, `options` how the engine works.
"""

from __future__ import annotations

from oak_ledger.engine.evaluate import Expression
from oak_ledger.engine.execute import execute, stream
from oak_ledger.engine.faults import Fault, Faults
from oak_ledger.engine.query import Query, Result, SortBy
from oak_ledger.engine.scan import Reader, Scan
from oak_ledger.engine.stats import ExecutionStats, OperatorStats

__all__ = [
    "ExecutionStats",
    "Expression",
    "Fault",
    "Faults",
    "OperatorStats",
    "Query",
    "Reader",
    "Result",
    "Scan",
    "SortBy",
    "execute",
    "stream",
]
