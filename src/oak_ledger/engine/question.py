"""Questions asked of rows: the rows themselves, or a tally by groups. Knows batches and formulas, no files."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.before import Earlier
from oak_ledger.engine.evaluate import Evaluator, Expression, Fields, columns_read, is_grouped, needed
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.groups import aggregate, group
from oak_ledger.engine.windows import window
from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.library.registry import Recorder
from oak_ledger.formula.types import BOOLEAN, Grain, Type
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
    always: tuple[Expression, ...] = ()
    """The source's own filters: windows see only the rows that these let through, whatever `where` says."""
    grouped: bool = False
    sort: tuple[SortBy, ...] = ()
    limit: int | None = None
    totals: bool = False
    before: Mapping[c.Before, Earlier] = field(default_factory=dict)
    """The values that `BEFORE` finds, by key or by group; `before_overall` those over all rows together."""
    before_overall: Mapping[c.Before, Earlier] = field(default_factory=dict)


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
        filters = [*question.always, *question.where]
        windows = self.windows([*(one.checked for one in filters), *wanted])
        for evaluator in self._filtered(filters, wanted, windows):
            self.used += evaluator.length
            yield evaluator

    def _filtered(
        self, filters: Sequence[Expression], wanted: Sequence[c.Checked], windows: Mapping[c.Window, Any]
    ) -> Iterator[Evaluator]:
        question = self.question
        fields = question.fields
        asked = [one.checked for one in filters]
        before, after = needed(fields, asked), needed(fields, wanted)
        self.read = 0
        for batch in self.feed.batches(columns_read(fields, [*asked, *wanted])):
            columns = {name: batch.column(at) for at, name in enumerate(batch.schema.names)}
            rows = np.arange(self.read, self.read + batch.num_rows, dtype=np.int64)
            self.read += batch.num_rows
            evaluator = Evaluator(fields, columns, rows, self.faults, windows=windows, before=question.before)
            if filters:
                evaluator.prepare(before)
                keep = np.ones(batch.num_rows, np.bool_)
                for one in filters:
                    keep &= mask_of(evaluator.compute(one))
                if not keep.all():
                    evaluator = evaluator.only(np.flatnonzero(keep))
            evaluator.prepare([name for name in after if fields[name].checked.grain != Grain.GROUP])
            yield evaluator

    def windows(self, trees: Sequence[c.Checked]) -> dict[c.Window, Any]:
        """The values of all row windows that the trees need, over the whole input; one reading for each level of nesting."""
        fields = self.question.fields
        waiting = {node: owner for node, owner in _windows(fields, trees).items() if node.grain != Grain.GROUP}
        made: dict[c.Window, Any] = {}
        while waiting:
            ready = {
                node: owner for node, owner in waiting.items() if not _inner_windows(fields, node) & waiting.keys()
            }
            inputs: dict[c.Window, list[list[Any]]] = {node: [[] for _ in _window_inputs(node)] for node in ready}
            places: list[Rows] = []
            inner = [piece for node in ready for piece in _window_inputs(node)]
            for evaluator in self._filtered(self.question.always, inner, made):
                places.append(evaluator.rows)
                for node, owner in ready.items():
                    for into, piece in zip(inputs[node], _window_inputs(node), strict=True):
                        into.append(evaluator.array(evaluator.value(piece, owner)))
            at = np.concatenate(places) if places else np.zeros(0, np.int64)
            back = np.full(self.read, -1, np.int64)
            back[at] = np.arange(len(at))
            for node, owner in ready.items():
                values = [
                    pa.chunked_array(parts, arrow_type(piece.type)).combine_chunks()
                    for parts, piece in zip(inputs[node], _window_inputs(node), strict=True)
                ]

                def record(what: str, mask: Mask, owner: Expression = owner, at: Rows = at) -> None:
                    self.faults.record(owner.name, what, at[mask], lambda _index: {})

                whole = windowed(node, values, len(at), record)
                made[node] = whole.take(pa.array(back, mask=back < 0))
                del waiting[node]
        return made


def _windows(fields: Fields, trees: Sequence[c.Checked]) -> dict[c.Window, Expression]:
    """Every window in the trees and the fields that they need, with the formula that it stands in."""
    owners = [fields[name] for name in needed(fields, trees)]
    owners += [Expression("", "", tree) for tree in trees]
    return {piece: owner for owner in owners for piece in c.walk(owner.checked) if isinstance(piece, c.Window)}


def _inner_windows(fields: Fields, node: c.Window) -> set[c.Window]:
    return set(_windows(fields, list(_window_inputs(node))))


def _window_inputs(node: c.Window) -> list[c.Checked]:
    """What a window is computed from: arguments, filter, partition, order."""
    held = [node.where] if node.where is not None else []
    return [*node.args, *held, *node.partition, *(key.key for key in node.order)]


def windowed(node: c.Window, inputs: Sequence[Any], rows: int, record: Recorder) -> Any:
    """A window from its inputs, in the order of `_window_inputs`."""
    args = list(inputs[: len(node.args)])
    at = len(args) + (node.where is not None)
    where = inputs[len(args)] if node.where is not None else None
    partition = inputs[at : at + len(node.partition)]
    return window(node, args, where, partition, inputs[at + len(node.partition) :], rows, record)


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
    return _whole(parts, expression.checked.type)


def _whole(parts: list[Any], kind: Type) -> Any:
    return pa.chunked_array(parts, arrow_type(kind)).combine_chunks()


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
    order: list[list[Any]]
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
    inputs = {node: _Inputs([[] for _ in node.args], [[] for _ in node.order]) for node in wanted}
    keys: list[list[Any]] = [[] for _ in question.by]
    inner = [
        piece
        for node in wanted
        for piece in (*node.args, node.where, *(key.key for key in node.order))
        if piece is not None
    ]
    for evaluator in reading.evaluators([*(one.checked for one in question.by), *inner]):
        for kept, expression in zip(keys, question.by, strict=True):
            kept.append(evaluator.compute(expression))
        for node, owner in wanted.items():
            for into, arg in zip(inputs[node].args, node.args, strict=True):
                into.append(evaluator.array(evaluator.value(arg, owner)))
            for into, key in zip(inputs[node].order, node.order, strict=True):
                into.append(evaluator.array(evaluator.value(key.key, owner)))
            if node.where is not None:
                inputs[node].where.append(evaluator.array(evaluator.value(node.where, owner)))
    joined = {
        node: (
            [_whole(parts, arg.type) for parts, arg in zip(one.args, node.args, strict=True)],
            _whole(one.where, BOOLEAN) if node.where is not None else None,
            [_whole(parts, key.type) for parts, key in zip(one.order, node.order, strict=True)],
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
        totals = _grouped(question, wanted, joined, whole, nothing, apart, overall=True)
        faults.merge_missing(apart)
    return Result(table, totals, faults, reading.read, reading.used, count)


def _grouped(
    question: Question,
    wanted: dict[c.Aggregate, Expression],
    inputs: dict[c.Aggregate, tuple[list[Any], Any, list[Any]]],
    groups: Groups,
    keys: Sequence[Any],
    faults: Faults,
    *,
    overall: bool = False,
) -> pa.Table:
    """The answer for one grouping: aggregates by group, then what is computed from them."""
    numbers: Rows = np.arange(groups.count, dtype=np.int64)
    made: dict[c.Aggregate, Any] = {}
    for node, owner in wanted.items():

        def record(what: str, mask: Mask, owner: Expression = owner) -> None:
            faults.record(owner.name, what, numbers[mask], lambda _index: {})

        args, where, order = inputs[node]
        made[node] = aggregate(node, args, where, groups, record, order)
    known = {one.name: value for one, value in zip(question.by, keys, strict=True)}
    windows: dict[c.Window, Any] = {}
    parts = [] if overall else keys
    before = question.before_overall if overall else question.before
    evaluator = Evaluator(question.fields, {}, numbers, faults, dict(known), made, windows, before, parts)
    order_needed = needed(question.fields, [one.checked for one in question.show])
    for owner in (*(question.fields[name] for name in order_needed), *question.show):
        if is_grouped(owner.checked):
            for window_node in (
                piece for piece in c.walk(owner.checked) if isinstance(piece, c.Window) and is_grouped(piece)
            ):
                values = [evaluator.array(evaluator.value(piece, owner)) for piece in _window_inputs(window_node)]
                windows[window_node] = windowed(window_node, values, groups.count, lambda what, mask: None)
            if owner.name in question.fields and question.fields[owner.name] is owner:
                evaluator.field_value(owner.name)
    shown = [evaluator.compute(one) for one in question.show]
    return _table([*question.by, *question.show], [*keys, *shown])
