"""Questions asked of rows: the rows themselves, or a tally by groups. Knows batches and formulas, no files."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.evaluate import Evaluator, Expression, Fields, columns_read, is_grouped, needed
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.groups import aggregate, group
from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.types import Grain
from oak_ledger.formula.values import Mask, arrow_type, mask_of


class Feed(Protocol):
    """Where rows come from."""

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows in order, with at least these columns, in batches of any size."""


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
    grouped: bool = False
    sort: tuple[SortBy, ...] = ()
    limit: int | None = None
    totals: bool = False


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
    return _tally(question, feed) if question.grouped else _rows(question, feed)


@dataclass(slots=True)
class _Reading:
    """Reads batches, computes the filter, and counts."""

    question: Question
    feed: Feed
    faults: Faults
    read: int = 0
    used: int = 0

    def evaluators(self, wanted: Sequence[c.Checked]) -> Iterator[Evaluator]:
        """One evaluator a batch, over the rows that the filters let through."""
        question = self.question
        filters = [one.checked for one in question.where]
        before = needed(question.fields, filters)
        after = needed(question.fields, wanted)
        for batch in self.feed.batches(columns_read(question.fields, [*filters, *wanted])):
            columns = {name: batch.column(at) for at, name in enumerate(batch.schema.names)}
            rows = np.arange(self.read, self.read + batch.num_rows, dtype=np.int64)
            self.read += batch.num_rows
            evaluator = Evaluator(question.fields, columns, rows, self.faults)
            if filters:
                evaluator.prepare(before)
                keep = np.ones(batch.num_rows, np.bool_)
                for one in question.where:
                    keep &= mask_of(evaluator.compute(one))
                if not keep.all():
                    evaluator = evaluator.only(np.flatnonzero(keep))
            evaluator.prepare([name for name in after if question.fields[name].checked.grain != Grain.GROUP])
            self.used += evaluator.length
            yield evaluator


def _rows(question: Question, feed: Feed) -> Result:
    faults = Faults()
    reading = _Reading(question, feed, faults)
    parts: list[list[Any]] = [[] for _ in question.show]
    enough = question.limit if not question.sort else None
    for evaluator in reading.evaluators([one.checked for one in question.show]):
        if enough is not None and reading.used > enough:
            # the rows beyond the limit are not asked for, and their faults are not either
            evaluator = evaluator.only(np.arange(evaluator.length - (reading.used - enough)))
        for kept, expression in zip(parts, question.show, strict=True):
            kept.append(evaluator.compute(expression))
        if enough is not None and reading.used >= enough:
            break
    table = _table(question.show, [_joined(kept, one) for kept, one in zip(parts, question.show, strict=True)])
    table = _sorted(table, question.sort)
    if question.limit is not None:
        table = table.slice(0, question.limit)
    return Result(table, None, faults, reading.read, reading.used)


def stream(question: Question, feed: Feed, faults: Faults) -> Iterator[pa.Table]:
    """The rows of a question batch by batch, for writing through: nothing is kept. Sort and limit do not apply."""
    reading = _Reading(question, feed, faults)
    for evaluator in reading.evaluators([one.checked for one in question.show]):
        yield _table(question.show, [evaluator.compute(one) for one in question.show])


def _joined(parts: list[Any], expression: Expression) -> Any:
    kind = arrow_type(expression.checked.type)
    return pa.chunked_array(parts, kind).combine_chunks() if parts else pa.array([], kind)


def _table(columns: Sequence[Expression], values: Sequence[Any]) -> pa.Table:
    return pa.Table.from_arrays(list(values), names=[one.name for one in columns])


def _sorted(table: pa.Table, keys: Sequence[SortBy]) -> pa.Table:
    """The table in order; nulls come last going up and first going down."""
    if not keys or not table.num_rows:
        return table
    columns: dict[str, Any] = {}
    order: list[tuple[str, str]] = []
    for at, key in enumerate(keys):
        values = table.column(key.name)
        direction = "descending" if key.descending else "ascending"
        columns[f"null {at}"], columns[f"value {at}"] = pc.cast(pc.is_null(values), pa.int8()), values
        order += [(f"null {at}", direction), (f"value {at}", direction)]
    return table.take(pc.sort_indices(pa.table(columns), sort_keys=order))


@dataclass(slots=True)
class _Inputs:
    """What one aggregate needs from the rows, batch by batch."""

    args: list[list[Any]]
    where: list[Any] = field(default_factory=list)


def _aggregates(question: Question) -> dict[c.Aggregate, Expression]:
    """Every aggregate that the answer needs, with the formula that it stands in."""
    grouped = [one for one in question.show if is_grouped(one.checked)]
    names = needed(question.fields, [one.checked for one in grouped])
    owners = [*grouped, *(question.fields[name] for name in names if is_grouped(question.fields[name].checked))]
    return {piece: owner for owner in owners for piece in c.walk(owner.checked) if isinstance(piece, c.Aggregate)}


def _tally(question: Question, feed: Feed) -> Result:
    faults = Faults()
    reading = _Reading(question, feed, faults)
    wanted = _aggregates(question)
    inputs = {node: _Inputs([[] for _ in node.args]) for node in wanted}
    keys: list[list[Any]] = [[] for _ in question.by]
    inner = [piece for node in wanted for piece in (*node.args, node.where) if piece is not None]
    for evaluator in reading.evaluators([*(one.checked for one in question.by), *inner]):
        for kept, expression in zip(keys, question.by, strict=True):
            kept.append(evaluator.compute(expression))
        for node, owner in wanted.items():
            for into, arg in zip(inputs[node].args, node.args, strict=True):
                into.append(evaluator.array(evaluator.value(arg, owner)))
            if node.where is not None:
                inputs[node].where.append(evaluator.array(evaluator.value(node.where, owner)))
    joined = {
        node: (
            [
                pa.chunked_array(parts, arrow_type(arg.type)).combine_chunks()
                for parts, arg in zip(one.args, node.args, strict=True)
            ],
            pa.chunked_array(one.where, pa.bool_()).combine_chunks() if node.where is not None else None,
        )
        for node, one in inputs.items()
    }
    groups, values = group([_joined(kept, one) for kept, one in zip(keys, question.by, strict=True)], reading.used)
    table = _grouped(question, wanted, joined, groups, values, faults)
    count = table.num_rows
    table = _sorted(table, question.sort or tuple(SortBy(one.name) for one in question.by))
    if question.limit is not None:
        table = table.slice(0, question.limit)
    totals = None
    if question.totals:
        apart = Faults()
        nothing = [pa.nulls(1, arrow_type(one.checked.type)) for one in question.by]
        whole = Groups(np.zeros(reading.used, np.int64), 1)
        totals = _grouped(question, wanted, joined, whole, nothing, apart)
        faults.merge_missing(apart)
    return Result(table, totals, faults, reading.read, reading.used, count)


def _grouped(
    question: Question,
    wanted: dict[c.Aggregate, Expression],
    inputs: dict[c.Aggregate, tuple[list[Any], Any]],
    groups: Groups,
    keys: Sequence[Any],
    faults: Faults,
) -> pa.Table:
    """The answer for one grouping: aggregates by group, then what is computed from them."""
    numbers: Rows = np.arange(groups.count, dtype=np.int64)
    made: dict[c.Aggregate, Any] = {}
    for node, owner in wanted.items():

        def record(what: str, mask: Mask, owner: Expression = owner) -> None:
            faults.record(owner.name, what, numbers[mask], lambda _index: {})

        args, where = inputs[node]
        made[node] = aggregate(node, args, where, groups, record)
    known = {one.name: value for one, value in zip(question.by, keys, strict=True)}
    evaluator = Evaluator(question.fields, {}, numbers, faults, dict(known), made)
    evaluator.prepare(
        [
            name
            for name in needed(question.fields, [one.checked for one in question.show])
            if is_grouped(question.fields[name].checked)
        ]
    )
    shown = [evaluator.compute(one) for one in question.show]
    return _table([*question.by, *question.show], [*keys, *shown])
