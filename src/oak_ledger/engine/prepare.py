"""What answering by rows and by groups share: the scan opened, with row windows computed; a table from columns; its order."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.arrays import from_numpy
from oak_ledger.columnar.ordering import sort_numbers, sorted_rows
from oak_ledger.engine.evaluate import Expression
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.query import Query, SortBy
from oak_ledger.engine.scan import Reader, Scan
from oak_ledger.engine.windows.inputs import collect_windows
from oak_ledger.engine.windows.prepass import row_windows
from oak_ledger.types import Grain


def open_scan(query: Query, reader: Reader, wanted: Sequence[Expression], faults: Faults) -> Scan:
    """The scan that a query needs; its row windows are computed now, over all rows that the source's own filters let through."""
    filters = [*query.always, *query.where]
    found = collect_windows(query.fields, [*filters, *wanted])
    windows, starts = row_windows(
        query, reader, {node: owner for node, owner in found.items() if node.grain != Grain.GROUP}, faults
    )
    return Scan(query.fields, filters, wanted, windows, query.before, starts, stats=query.stats)


def table_of(columns: Sequence[Expression], values: Sequence[Any]) -> pa.Table:
    """A table with the columns' names."""
    return pa.Table.from_arrays(list(values), names=[one.name for one in columns])


def sort_table(table: pa.Table, keys: Sequence[SortBy]) -> pa.Table:
    """The table in order; nulls come last going up and first going down."""
    if not keys or not table.num_rows:
        return table
    columns = [(table.column(key.name).combine_chunks(), key.descending) for key in keys]
    numbers = [sort_numbers(values, descending=down, nulls_first=down) for values, down in columns]
    return table.take(from_numpy(sorted_rows(numbers, table.num_rows)))
