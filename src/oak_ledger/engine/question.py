"""Questions asked of rows: the rows themselves, or a tally by groups. Knows batches and formulas, no files."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.engine.account import Account, timed
from oak_ledger.engine.before import Earlier
from oak_ledger.engine.evaluate import Evaluator, Expression, Fields, can_fault, needed
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.reading import Feed, Pass
from oak_ledger.engine.windows import Sorted, sorted_rows, window_inputs, windowed
from oak_ledger.engine.windows import in_order as window_order
from oak_ledger.formula import checked as c
from oak_ledger.formula.ranges import key as meaning
from oak_ledger.formula.types import Grain, Type
from oak_ledger.formula.values import Mask, array_of, arrow_type, sort_numbers


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
        return _rows(question, feed)
    from oak_ledger.engine.tally import tally

    return tally(question, feed)


def begun(question: Question, feed: Feed, wanted: Sequence[Expression], faults: Faults, *, spare: bool = False) -> Pass:
    """The going through the rows that a question needs, its row windows computed."""
    filters = [*question.always, *question.where]
    made = Pass(question.fields, filters, wanted, before=question.before, spare=spare, account=question.account)
    made.windows, made.bases = _row_windows(question, feed, [*filters, *wanted], faults)
    return made


def _rows(question: Question, feed: Feed) -> Result:
    faults = Faults()
    reading = begun(question, feed, question.show, faults)
    reading.doing = ("rows", listed(question.show))
    parts: list[list[Any]] = [[] for _ in question.show]
    enough = question.limit if not question.sort else None
    kept = 0

    def work(evaluator: Evaluator) -> list[Any]:
        # the rows beyond the limit are not asked for, and their faults are not either
        if enough is not None and kept + evaluator.length > enough:
            evaluator = evaluator.only(np.arange(enough - kept))
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


def stream(question: Question, feed: Feed, faults: Faults) -> tuple[Pass, Iterator[pa.Table]]:
    """The rows of a question slice by slice, for writing through, and what counts them: nothing is kept. Sort and limit do not apply."""
    reading = begun(question, feed, question.show, faults)
    return reading, reading.run(
        feed, lambda evaluator: table_of(question.show, [evaluator.compute(one) for one in question.show]), faults
    )


def listed(pieces: Sequence[Expression]) -> str:
    """Formulas in a line."""
    texts = dict.fromkeys(one.text[one.checked.start : one.checked.end] or one.name for one in pieces)
    return ", ".join([*texts][:6]) + (" …" if len(texts) > 6 else "")


def joined(parts: Sequence[Any], kind: Any) -> Any:
    """Arrays one after the other, of a type of the language or of Arrow."""
    if len(parts) == 1 and isinstance(parts[0], pa.Array):
        return parts[0]
    return pa.chunked_array(parts, arrow_type(kind) if isinstance(kind, Type) else kind).combine_chunks()


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


# -- row windows: before everything else, over all rows of the source -------------------------------------------


def _row_windows(
    question: Question, feed: Feed, owners: Sequence[Expression], faults: Faults
) -> tuple[dict[c.Window, Any], list[int] | None]:
    """The values of all row windows that are needed, over the whole input, and where each stretch begins.

    One going through the rows for each level of nesting.
    """
    fields = question.fields
    waiting = {node: owner for node, owner in _windows(fields, owners).items() if node.grain != Grain.GROUP}
    made: dict[c.Window, Any] = {}
    begins: list[int] | None = None
    while waiting:
        ready = {node: owner for node, owner in waiting.items() if not _inner_windows(fields, node) & waiting.keys()}
        pieces, places_of = _inputs_once(ready)
        reading = Pass(fields, question.always, pieces, made, question.before, begins, account=question.account)
        reading.doing = ("window inputs", listed(pieces))
        parts: list[list[Any]] = [[] for _ in pieces]
        places: list[Rows] = []

        def work(evaluator: Evaluator, pieces: Sequence[Expression] = pieces) -> tuple[Rows, list[Any]]:
            return evaluator.rows, [evaluator.compute(one) for one in pieces]

        for rows, columns in reading.run(feed, work, faults):
            places.append(rows if not reading.begins[-1] else rows + reading.begins[-1])
            for into, column in zip(parts, columns, strict=True):
                into.append(column)
        begins = reading.begins
        at = np.concatenate(places) if places else np.zeros(0, np.int64)
        places.clear()
        values = [joined(kept, one.checked.type) for kept, one in zip(parts, pieces, strict=True)]
        orders: dict[Any, Sorted] = {}
        for node, owner in ready.items():

            def record(what: str, mask: Mask, owner: Expression = owner, at: Rows = at) -> None:
                faults.record(owner.name, what, at[mask], lambda _index: {})

            inputs = [values[place] for place in places_of[node]]
            first = len(node.args) + (node.where is not None)
            alike = (
                tuple(places_of[node][first:]),
                len(node.partition),
                *((one.descending, one.nulls_first) for one in node.order),
            )
            said = " ".join(owner.text[node.start : node.end].split())
            with timed(question.account, "window", said, rows=len(at)):
                if alike not in orders:
                    begin = first + len(node.partition)
                    orders[alike] = window_order(node, inputs[first:begin], inputs[begin:], len(at))
                whole = windowed(node, inputs, len(at), record, orders[alike])
            made[node] = whole if len(at) == reading.read else _spread(whole, at, reading.read)
            del waiting[node]
    return made, begins


def _inputs_once(windows: Mapping[c.Window, Expression]) -> tuple[list[Expression], dict[c.Window, list[int]]]:
    """What windows are computed from, equal pieces once, and where each window finds its own among them."""
    pieces: list[Expression] = []
    known: dict[Any, int] = {}
    places: dict[c.Window, list[int]] = {}
    for node, owner in windows.items():
        places[node] = []
        for piece in window_inputs(node):
            saying = (meaning(piece), owner.name if can_fault(piece) else "")
            if saying not in known:
                known[saying] = len(pieces)
                pieces.append(Expression(owner.name, owner.text, piece))
            places[node].append(known[saying])
    return pieces, places


def _spread(values: Any, at: Rows, rows: int) -> Any:
    """The values at their rows, null in the others."""
    back = np.full(rows, -1, np.int64)
    back[at] = np.arange(len(at))
    return values.take(array_of(back, mask=back < 0))


def _windows(fields: Fields, owners: Sequence[Expression]) -> dict[c.Window, Expression]:
    """Every window in the formulas and the fields that they need, with the formula that it stands in."""
    names = needed(fields, [one.checked for one in owners])
    found = [*(fields[name] for name in names), *owners]
    return {piece: owner for owner in found for piece in c.walk(owner.checked) if isinstance(piece, c.Window)}


def _inner_windows(fields: Fields, node: c.Window) -> set[c.Window]:
    return set(_windows(fields, [Expression("", "", piece) for piece in window_inputs(node)]))
