"""What answering by rows and by groups share: the scan opened, with row windows computed; a table from columns; its order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.columnar.arrays import from_numpy
from oak_ledger.columnar.ordering import sort_numbers, sorted_rows
from oak_ledger.engine.evaluate import Expression
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.query import Query, SortBy
from oak_ledger.engine.scan import Reader, Scan
from oak_ledger.engine.windows.inputs import collect_windows
from oak_ledger.engine.windows.prepass import row_windows
from oak_ledger.formula import checked as c
from oak_ledger.types import BOOLEAN, Grain


def open_scan(query: Query, reader: Reader, wanted: Sequence[Expression], faults: Faults) -> Scan:
    """The scan that a query needs; its row windows are computed now, over all rows that the source's own filters let through."""
    query, values, starts = _always_known(query, reader, faults)
    filters = [*query.always, *query.where]
    found = collect_windows(query.fields, [*filters, *wanted])
    windows, starts = row_windows(
        query,
        reader,
        {node: owner for node, owner in found.items() if node.grain != Grain.GROUP},
        faults,
        values,
        starts,
    )
    return Scan(query.fields, filters, wanted, windows, query.before, starts, stats=query.stats)


def _always_known(query: Query, reader: Reader, faults: Faults) -> tuple[Query, dict[c.Window, Any], list[int] | None]:
    """The query with the source's own filters as one that is known by row, where windows are in them: those are over all rows, others over the rows that are left.

    With where each fragment of the rows begins.
    """
    found = collect_windows(query.fields, query.always)
    if not found:
        return query, {}, None
    windows, starts = row_windows(replace(query, always=()), reader, found, faults)
    scan = Scan(query.fields, query.always, (), windows, query.before, starts, stats=query.stats)
    kept = [rows + scan.found_starts[-1] for rows in scan.run(reader, lambda evaluator: evaluator.rows, faults)]
    mask = np.zeros(scan.rows_read, np.bool_)
    mask[np.concatenate([*kept, np.zeros(0, np.int64)])] = True
    first = query.always[0]
    known = c.Window(0, 0, BOOLEAN, Grain.ROW, next(iter(found)).function, (), None, (), (), None)
    text = " AND ".join(alway.text for alway in query.always)
    return replace(query, always=(Expression(first.name, text, known),)), {known: from_numpy(mask)}, starts


def table_of(columns: Sequence[Expression], values: Sequence[Any]) -> pa.Table:
    """A table with the columns' names."""
    return pa.Table.from_arrays(list(values), names=[column.name for column in columns])


def sort_table(table: pa.Table, keys: Sequence[SortBy]) -> pa.Table:
    """The table in order; nulls come last going up and first going down."""
    if not keys or not table.num_rows:
        return table
    columns = [(table.column(key.name).combine_chunks(), key.descending) for key in keys]
    numbers = [sort_numbers(values, descending=down, nulls_first=down) for values, down in columns]
    return table.take(from_numpy(sorted_rows(numbers, table.num_rows)))
