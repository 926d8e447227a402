"""Questions asked of rows: the rows themselves, or a tally by groups. Knows batches and formulas, no files."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

import pyarrow as pa

from oak_ledger.engine.account import Account, timed
from oak_ledger.engine.as_they_come import Coming, OutOfTurn
from oak_ledger.engine.asked_windows import windows_in
from oak_ledger.engine.before import Earlier
from oak_ledger.engine.evaluate import Evaluator, Expression, Fields
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.reading import Feed, Pass, listed
from oak_ledger.engine.row_windows import row_windows
from oak_ledger.engine.windows import sorted_rows
from oak_ledger.formula import checked as c
from oak_ledger.formula.types import Grain
from oak_ledger.formula.values import array_of, arrow_type, sort_numbers

Made = TypeVar("Made")


@dataclass(frozen=True, slots=True)
class SortBy:
    """A column of the answer to sort by."""

    name: str
    descending: bool = False


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked. `by` is empty for a key figure; `grouped` says whether groups are asked for at all."""

    fields: Fields
    show: tuple[Expression, ...]
    by: tuple[Expression, ...] = ()
    where: tuple[Expression, ...] = ()
    always: tuple[Expression, ...] = ()
    """The source's own filters: windows see only the rows that these let through, whatever `where` says."""
    grouped: bool = False
    sort: tuple[SortBy, ...] = ()
    limit: int | None = None
    totals: bool = False
    before: Mapping[c.Before, Earlier] = field(default_factory=dict)
    """The values that `BEFORE` finds, by key or by group; `before_overall` those over all rows together."""
    before_overall: Mapping[c.Before, Earlier] = field(default_factory=dict)
    account: Account | None = None
    """Where the steps are written down, if that is wanted."""


@dataclass(frozen=True, slots=True)
class Result:
    """What came out: the table, a table of one row with the totals if asked, what faulted, how many rows counted."""

    table: pa.Table
    totals: pa.Table | None
    faults: Faults
    rows_read: int
    rows_used: int
    groups: int | None = None


def answer(question: Question, feed: Feed) -> Result:
    """Answer a question from a feed of rows."""
    if not question.grouped:
        return at_once_or_plainly(question, lambda plainly: _rows(question, feed, plainly=plainly))
    from oak_ledger.engine.tally import tally

    return at_once_or_plainly(question, lambda plainly: tally(question, feed, plainly=plainly))


def at_once_or_plainly(question: Question, work: Callable[[bool], Made]) -> Made:
    """What `work` gives: with windows computed as rows come, or plainly where these come in another order."""
    try:
        return work(False)
    except OutOfTurn:
        if question.account is not None:
            question.account.anew("rows do not come in the order of the windows, or in few partitions")
        return work(True)


def begun(
    question: Question, feed: Feed, wanted: Sequence[Expression], faults: Faults, *, plainly: bool, spare: bool = False
) -> Pass:
    """The going through the rows that a question needs: its row windows are computed before, or (unless `plainly`) as rows come."""
    always, where = question.always, question.where
    made = Pass(question.fields, always, where, wanted, before=question.before, spare=spare, account=question.account)
    owners = [*always, *where, *wanted]
    windows = {node: of for node, of in windows_in(question.fields, owners).items() if node.grain != Grain.GROUP}
    made.coming = None if plainly else Coming.of(question.fields, windows, question.account)
    if made.coming is None:
        made.windows, made.bases = row_windows(question, feed, windows, faults)
    return made


def _rows(question: Question, feed: Feed, *, plainly: bool) -> Result:
    faults = Faults()
    enough = question.limit if not question.sort else None
    # what windows are computed from faults in any row, also beyond the limit
    reading = begun(question, feed, question.show, faults, plainly=plainly or enough is not None)
    reading.doing, reading.most = ("rows", listed(question.show)), enough
    parts: list[list[Any]] = [[] for _ in question.show]
    kept = 0

    def work(evaluator: Evaluator) -> list[Any]:
        columns = [evaluator.compute(one) for one in question.show]
        if question.limit is None or not question.sort or evaluator.length <= question.limit:
            return columns
        # the first of all are among the first of each slice
        first = in_order(table_of(question.show, columns), question.sort).slice(0, question.limit)
        return [column.combine_chunks() for column in first.columns]

    for columns in reading.run(feed, work, faults, in_turn=enough is not None):
        for into, column in zip(parts, columns, strict=True):
            into.append(column)
        kept += len(columns[0]) if columns else 0
        if enough is not None and kept >= enough:
            break
    table = table_of(
        question.show,
        [pa.chunked_array(kept, arrow_type(one.checked.type)) for kept, one in zip(parts, question.show, strict=True)],
    )
    with timed(question.account, "sort", ", ".join(one.name for one in question.sort), rows=table.num_rows):
        table = in_order(table, question.sort)
    if question.limit is not None:
        table = table.slice(0, question.limit)
    return Result(table, None, faults, reading.read, reading.used)


def stream(
    question: Question, feed: Feed, write: Callable[[Pass, Iterator[pa.Table], Faults], Made]
) -> tuple[Made, Faults]:
    """Give the rows of a question slice by slice to `write`, with what counts them; it may be asked to begin anew. Nothing is kept.

    Sort and limit do not apply. Gives what it gave, and what could not be computed.
    """

    def work(plainly: bool) -> tuple[Made, Faults]:
        faults = Faults()
        reading = begun(question, feed, question.show, faults, plainly=plainly)
        tables = reading.run(
            feed, lambda evaluator: table_of(question.show, [evaluator.compute(one) for one in question.show]), faults
        )
        return write(reading, tables, faults), faults

    return at_once_or_plainly(question, work)


def table_of(columns: Sequence[Expression], values: Sequence[Any]) -> pa.Table:
    """A table with the columns' names."""
    return pa.Table.from_arrays(list(values), names=[one.name for one in columns])


def in_order(table: pa.Table, keys: Sequence[SortBy]) -> pa.Table:
    """The table in order; nulls come last going up and first going down."""
    if not keys or not table.num_rows:
        return table
    columns = [(table.column(key.name).combine_chunks(), key.descending) for key in keys]
    numbers = [sort_numbers(values, descending=down, nulls_first=down) for values, down in columns]
    return table.take(array_of(sorted_rows(numbers, table.num_rows)))
