"""Typed formulas over Arrow data, a query at a time.

`query` says what is asked, `execute` answers it: `windows` over rows first, then one `scan` of the rows, in which `evaluate` computes formulas
batch by batch; `aggregate` puts groups together. `faults` keeps what could not be computed, `options` how the engine works.

- A question in five files. `engine/query.py` says what is asked; `engine/execute.py` computes row windows
  (`engine/windows/`), opens a scan, and sorts; `engine/scan.py` reads *fragments* (row groups, byte ranges of whole
  lines), filters, and hands batches of 131,072 rows to several threads, with results, row numbers and faults in the
  rows' order; `engine/evaluate.py` computes formulas over a batch; `engine/hash_aggregate.py` puts groups together.
  `--explain` writes down each step with rows, bytes and time.

- Groups are found twice. Each slice is grouped by itself with small dense numbers; then the slices' groups are
  combined. An aggregate with an *accumulator* (`functions/accumulators.py`) keeps a few numbers a group, and its
  plain meaning is one slice, finalized, so there is no second one to disagree. Medians and `DISTINCT` keep their
  values, in a file beyond `OAK_MEMORY`; where groups and distinct values are few, `COUNT(DISTINCT …)` keeps a bitmap
  instead. Where grouping a slice saves little, its rows are kept as they are and grouped once, at the end.

- What does not fit into memory goes to disk by its keys (`engine/spill.py`): very many groups, and the inputs of row
  windows, in partitions by a hash of their keys; each is worked on by itself.

- What a filter cannot let through is not read. For which values a condition holds is known from the formula
  (`formula/ranges.py`, as for warnings); a row group whose least and largest value lie outside is left out
  (`engine/pushdown.py`), unless a filter could fault, since faults are reported for every row. Columns that no filter
  needs are read, a row group at a time, when the first of its rows gets through.

- However the engine works, the same comes out. A test asks every question of the language in slices of one row, with
  dictionaries, several threads, many groups and spilling, and compares values, totals and faults.

- A window is computed before the rest (`engine/windows/prepass.py`). One scan collects what row windows need, over
  the rows that the source's own filters let through; a report's filter never changes a window. Partition, order and
  row number are packed and sorted once for all windows that share them; then whole partitions are computed by several
  threads. Frames are not laid out where running totals, or least and largest by doubling, do
  (`engine/windows/frames.py`).
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
