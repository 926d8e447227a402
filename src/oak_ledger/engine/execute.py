"""A query answered: row windows first, then one scan of the rows, grouped or not, then order and limit."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeVar

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine.evaluate import Evaluator
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.hash_aggregate import aggregate_rows
from oak_ledger.engine.prepare import open_scan, sort_table, table_of
from oak_ledger.engine.query import Query, Result
from oak_ledger.engine.scan import Reader, Scan, formulas_line
from oak_ledger.engine.stats import timed

Made = TypeVar("Made")


def execute(query: Query, reader: Reader) -> Result:
    """Answer a query over the rows of a reader."""
    if query.grouped:
        return aggregate_rows(query, reader)
    faults = Faults()
    enough = query.limit if not query.sort else None
    scan = open_scan(query, reader, query.show, faults)
    scan.operator, scan.limit = ("rows", formulas_line(query.show)), enough
    chunks: list[list[Any]] = [[] for _ in query.show]
    kept = 0

    def work(evaluator: Evaluator) -> list[Any]:
        columns = [evaluator.compute(expression) for expression in query.show]
        if query.limit is None or not query.sort or evaluator.length <= query.limit:
            return columns
        # the first of all are among the first of each slice
        first = sort_table(table_of(query.show, columns), query.sort).slice(0, query.limit)
        return [column.combine_chunks() for column in first.columns]

    for columns in scan.run(reader, work, faults, lazily=enough is not None):
        for into, column in zip(chunks, columns, strict=True):
            into.append(column)
        kept += len(columns[0]) if columns else 0
        if enough is not None and kept >= enough:
            break
    kinds = [arrow_type(expression.checked.type) for expression in query.show]
    table = table_of(query.show, [pa.chunked_array(own, kind) for own, kind in zip(chunks, kinds, strict=True)])
    with timed(query.stats, "sort", ", ".join(by.name for by in query.sort), rows=table.num_rows):
        table = sort_table(table, query.sort)
    if query.limit is not None:
        table = table.slice(0, query.limit)
    return Result(table, None, faults, scan.rows_read, scan.rows_used)


def stream(
    query: Query, reader: Reader, write: Callable[[Scan, Iterator[pa.Table], Faults], Made]
) -> tuple[Made, Faults]:
    """Give the rows of a query slice by slice to `write`, with the scan that counts them; sort and limit do not apply. Nothing is kept.

    Gives what `write` gave, and what could not be computed.
    """
    faults = Faults()
    scan = open_scan(query, reader, query.show, faults)
    tables = scan.run(
        reader,
        lambda evaluator: table_of(query.show, [evaluator.compute(expression) for expression in query.show]),
        faults,
    )
    return write(scan, tables, faults), faults
