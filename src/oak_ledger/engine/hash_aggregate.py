"""A grouped query: each slice is grouped and aggregated by itself, then the slices' groups are combined.

Aggregates with an accumulator (see `functions.accumulators`) keep a few numbers a group; the others, such as medians and `DISTINCT`, keep
their values and are computed at the end.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, arrow_type, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.ordering import sort_numbers, sorted_rows
from oak_ledger.engine.aggregate.compute import aggregate, aggregate_inputs, call_context, combined
from oak_ledger.engine.aggregate.distinct import slice_bitmap
from oak_ledger.engine.aggregate.groups import Key, RowIndexes, local_groups
from oak_ledger.engine.aggregate.state import AggregateState, PartialAggregate
from oak_ledger.engine.deadline import in_time
from oak_ledger.engine.evaluate import Evaluator, Expression, is_grouped, may_fault, needed
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.fill import filled, step_of
from oak_ledger.engine.options import options
from oak_ledger.engine.pool import ordered
from oak_ledger.engine.prepare import open_scan, sort_table, table_of
from oak_ledger.engine.query import Query, Result
from oak_ledger.engine.scan import Reader, concatenated, formulas_line
from oak_ledger.engine.stats import timed
from oak_ledger.engine.windows.evaluate import evaluate_window
from oak_ledger.engine.windows.inputs import window_inputs
from oak_ledger.formula import checked as c
from oak_ledger.functions.accumulators import Groups


def _aggregates(query: Query) -> dict[c.Aggregate, Expression]:
    """Every aggregate that the answer needs, with the formula that it is part of."""
    grouped = [expression for expression in (*query.show, *query.having) if is_grouped(expression.checked)]
    names = needed(query.fields, [expression.checked for expression in grouped])
    owners = [*grouped, *(query.fields[name] for name in names if is_grouped(query.fields[name].checked))]
    return {
        piece: owner for owner in owners for piece in c.walk(owner.checked, c.APART) if isinstance(piece, c.Aggregate)
    }


def aggregate_rows(query: Query, reader: Reader) -> Result:
    """Answer a grouped query."""
    faults = Faults()
    aggregates = _aggregates(query)
    inputs = {node: aggregate_inputs(node) for node in aggregates}
    inner = [Expression(owner.name, owner.text, piece) for node, owner in aggregates.items() for piece in inputs[node]]
    scan = open_scan(query, reader, [*query.by, *inner], faults)
    shown = ", ".join(expression.name for expression in query.by) or "all rows"
    scan.operator = ("groups", f"by {shown}: {formulas_line(list(aggregates.values()))}")
    state = AggregateState([arrow_type(expression.checked.type) for expression in query.by])
    try:
        for part in scan.run(reader, lambda evaluator: _partial(evaluator, query, aggregates, inputs, state), faults):
            state.absorb(part)
        with timed(query.stats, "put together", "groups"):
            final = FinalAggregate(query, aggregates)
            for one in state.finals():
                final.add(one)
            keys, order = _by_keys(final.keys())
            of_groups = Faults(of_groups=True)
            values = final.values(of_groups, order)
            if query.having:
                keys, values, of_groups = _having(query, keys, values, of_groups)
            if query.fill:
                keys, values = _with_all_dates(query, keys, values)
            table = _finished(query, keys, values, of_groups)
        count = table.num_rows
        if query.stats is not None:
            query.stats.add("put together", "groups", rows=count, note=_how(state, aggregates))
        table = sort_table(table, query.sort)  # rows that it leaves open stay in the order of the keys
        if query.limit is not None:
            table = table.slice(0, query.limit)
        totals = None
        if query.totals:
            apart = Faults(of_groups=True)
            nothing = [pa.nulls(1, arrow_type(expression.checked.type)) for expression in query.by]
            totals = _finished(query, nothing, final.overall(apart), apart, overall=True)
            of_groups.merge_missing(apart)
        faults.merge_missing(of_groups)
    finally:
        state.close()
    return Result(table, totals, faults, scan.rows_read, scan.rows_used, count)


def _with_all_dates(
    query: Query, keys: Sequence[Any], values: dict[c.Aggregate, Any]
) -> tuple[Sequence[Any], dict[c.Aggregate, Any]]:
    """The groups with those of dates between them that have no rows, in the order of the keys."""
    steps = [step_of(expression, query.fields) for expression in query.by]
    at = next(place for place, step in enumerate(steps) if step)
    found, more = filled(at, steps[at], keys, values, zero=query.fill == "zero")
    ordered_keys, order = _by_keys(found)
    places = from_numpy(np.arange(len(found[0])) if order is None else order)
    return ordered_keys, {node: one.take(places) for node, one in more.items()}


def _having(
    query: Query, keys: Sequence[Any], values: dict[c.Aggregate, Any], faults: Faults
) -> tuple[Sequence[Any], dict[c.Aggregate, Any], Faults]:
    """The groups that meet the conditions on groups. Of what could not be computed, that of the conditions counts for every group, the rest for those that stay."""
    kept_faults = Faults(of_groups=True)
    said = _finished(replace(query, show=query.having), keys, values, kept_faults)
    mask = np.ones(said.num_rows, np.bool_)
    for at in range(len(query.by), said.num_columns):
        mask &= to_mask(pc.fill_null(said.column(at).combine_chunks(), False))
    kept = np.flatnonzero(mask)
    deciding = {expression.name for expression in query.having}
    for (owner, what, _), parts in faults.kept.items():
        rows = np.concatenate(parts)
        rows = rows if owner in deciding else np.searchsorted(kept, rows[mask[rows]])
        kept_faults.record(owner, what, np.sort(rows), lambda _index: {})
    places = from_numpy(kept)
    return [key.take(places) for key in keys], {node: one.take(places) for node, one in values.items()}, kept_faults


def _partial(
    evaluator: Evaluator,
    query: Query,
    aggregates: dict[c.Aggregate, Expression],
    inputs: dict[c.Aggregate, list[c.TypedNode]],
    state: AggregateState,
) -> PartialAggregate:
    """One slice, grouped and aggregated; or with each row as a group of its own."""
    rows, by_row = evaluator.length, state.by_row and bool(query.by)  # the state goes on meanwhile
    if by_row:
        codes, count = np.arange(rows), rows
        groups_of: list[Key] = [(None, evaluator.compute(expression)) for expression in query.by]
    else:
        codes, count, groups_of = local_groups([evaluator.coded(expression) for expression in query.by], rows)
    groups = Groups(codes, count, by_row=by_row)
    part = PartialAggregate(groups_of, count, rows)
    for node, owner in aggregates.items():
        values_of = [evaluator.array(evaluator.value(piece, owner)) for piece in inputs[node]]
        own, count_args = groups, len(node.args)
        args, order = values_of[:count_args], [*map(evaluator.plain, values_of[len(values_of) - len(node.order) :])]
        if node.where is not None:
            keep = to_mask(evaluator.plain(values_of[count_args]))
            own, kept = groups.where(keep), from_numpy(keep)
            args, order = [arg.filter(kept) for arg in args], [one.filter(kept) for one in order]
        accumulator = node.function.accumulator
        if accumulator is not None and not node.distinct:
            values = None if not args else args[0] if accumulator.takes_dictionary else evaluator.plain(args[0])
            part.columns[node] = accumulator.partial(call_context(node, count), values, own)
            continue
        if node.distinct and node.function.counts_values and not by_row:
            bitmap = slice_bitmap(args[0], own)
            if bitmap is not None:
                part.bitmaps[node] = bitmap
                continue
        part.values[node] = (own.codes, [*(evaluator.plain(arg) for arg in args), *order])
    return part


def _by_keys(keys: Sequence[Any]) -> tuple[Sequence[Any], RowIndexes | None]:
    """The keys of the groups in their order, and which group comes where: so no answer depends on how it was made."""
    if not keys:
        return keys, None
    if len(keys) == 1 and pa.types.is_string(keys[0].type):
        order = numpy_view(pc.sort_indices(keys[0])).astype(np.int64)
    else:
        order = sorted_rows([sort_numbers(values) for values in keys], len(keys[0]))
    return [values.take(from_numpy(order)) for values in keys], order


def _how(state: AggregateState, aggregates: dict[c.Aggregate, Expression]) -> str:
    """In what way groups were combined, for the statistics."""
    notes = ["written to disk in between"] if state.spilled is not None else []
    for what, nodes in (("bitmap for", state.bitmaps), ("values kept for", state.buffers)):
        texts = dict.fromkeys(aggregates[node].text for node in nodes)
        notes += [f"{what} {', '.join(texts)}"] if texts else []
    return ", ".join(notes or ["all aggregates in parts"])


class FinalAggregate:
    """The groups some after the other: the keys and aggregates of each, and all groups as one."""

    def __init__(self, query: Query, aggregates: dict[c.Aggregate, Expression]) -> None:
        self.query, self.aggregates = query, aggregates
        self.key_parts: list[list[Any]] = [[] for _ in query.by]
        self.parts: dict[c.Aggregate, list[Any]] = {node: [] for node in aggregates}
        self.wrong: list[tuple[str, str, RowIndexes]] = []
        self.all: dict[c.Aggregate, list[tuple[list[Any], int]]] = {}
        self.last: AggregateState | None = None
        self.count = 0

    def add(self, state: AggregateState) -> None:
        """Take in groups that are combined."""
        for into, values in zip(self.key_parts, state.key_values(), strict=True):
            into.append(values)
        nodes = [*self.parts]
        for node, values in zip(
            nodes, ordered(lambda one: self._computed(one, state), nodes, options().threads), strict=True
        ):
            in_time()
            self.parts[node].append(values)
        if self.query.totals:
            groups = Groups(np.zeros(state.count, np.int64), 1)
            for node, parts in state.columns.items():
                self.all.setdefault(node, []).extend([(combined(node, parts, groups), 1)] if parts else [])
        self.last, self.count = state, self.count + state.count

    def _computed(self, node: c.Aggregate, state: AggregateState) -> Any:
        def record(what: str, mask: Mask) -> None:
            self.wrong.append((self.aggregates[node].name, what, np.flatnonzero(mask) + self.count))

        return _finalized(node, state, record)

    def keys(self) -> list[Any]:
        """Each key's value for each group."""
        kinds = [expression.checked.type for expression in self.query.by]
        return [concatenated(parts, kind) for parts, kind in zip(self.key_parts, kinds, strict=True)]

    def values(self, faults: Faults, order: RowIndexes | None) -> dict[c.Aggregate, Any]:
        """Each aggregate's value for each group, in this order; what could not be computed is noted by the group's place in it."""
        values = {node: concatenated(parts, node.type) for node, parts in self.parts.items()}
        place = np.arange(self.count)
        if order is not None:
            values = {node: one.take(from_numpy(order)) for node, one in values.items()}
            place[order] = np.arange(len(order))
        for owner, what, groups in self.wrong:
            faults.record(owner, what, np.sort(place[groups]), lambda _index: {})
        return values

    def overall(self, faults: Faults) -> dict[c.Aggregate, Any]:
        """Each aggregate over all groups as one."""
        state = AggregateState([], parent=self.last)
        for node, parts in self.all.items():
            state.columns[node] = parts
        state.places = [np.zeros(1, np.int64) for _ in next(iter(state.columns.values()), [])]
        state.combine()
        self.wrong, self.count = [], 0
        values = {node: self._computed(node, state) for node in self.aggregates}
        for owner, what, groups in self.wrong:
            faults.record(owner, what, groups, lambda _index: {})
        return values


def _finalized(node: c.Aggregate, state: AggregateState, record: Any) -> Any:
    """One aggregate by group."""
    accumulator, count = node.function.accumulator, state.count
    if accumulator is not None and not node.distinct:
        call = call_context(node, count, record)
        parts = state.columns.get(node)
        if not parts:  # there was no slice at all
            nothing = None if not node.args else pa.array([], arrow_type(node.args[0].type))
            return accumulator.finalize(call, accumulator.partial(call, nothing, Groups(np.zeros(0, np.int64), count)))
        return accumulator.finalize(call, parts[0][0])
    bitmap = (state.parent or state).bitmaps.get(node)
    if bitmap is not None:
        return from_numpy(bitmap.counts(count) if state.parent is None else bitmap.overall())
    if state.parent is not None:
        kept = [(np.zeros_like(codes), values) for codes, values in state.parent.kept(node, 0, state.parent.count)]
        return _from_values(node, kept, 1, record)
    buffer = state.buffers.get(node)
    values = []
    for low, high in buffer.ranges(count) if buffer is not None else [(0, count)]:

        def shifted(what: str, mask: Mask, low: int = low) -> None:
            whole = np.zeros(count, np.bool_)
            whole[low : low + len(mask)] = mask
            record(what, whole)

        values.append(_from_values(node, [*state.kept(node, low, high)], high - low, shifted))
    return concatenated(values, node.type)


def _from_values(node: c.Aggregate, pieces: Sequence[tuple[RowIndexes, list[Any]]], count: int, record: Any) -> Any:
    """An aggregate from all values of its groups."""
    kinds = [*(arg.type for arg in node.args), *(key.type for key in node.order)]
    codes = np.concatenate([np.zeros(0, np.int64), *(own for own, _ in pieces)])
    columns = [concatenated([values[at] for _, values in pieces], kind) for at, kind in enumerate(kinds)]
    return aggregate(node, columns[: len(node.args)], Groups(codes, count), record, columns[len(node.args) :])


def _finished(
    query: Query, keys: Sequence[Any], aggregates: dict[c.Aggregate, Any], faults: Faults, *, overall: bool = False
) -> pa.Table:
    """The answer for one grouping: aggregates by group, then what is computed from them."""
    count = len(keys[0]) if keys else 1
    known = {expression.name: value for expression, value in zip(query.by, keys, strict=True)}
    windows: dict[c.Window, Any] = {}
    evaluator = Evaluator(
        query.fields,
        {},
        np.arange(count, dtype=np.int64),
        faults,
        dict(known),
        aggregates,
        windows,
        query.before_overall if overall else query.before,
        [] if overall else keys,
    )
    trees = [expression.checked for expression in query.show]
    every = needed(query.fields, trees, aggregates)
    evaluator.faulting = may_fault(query.fields, every)
    at_once = {*needed(query.fields, trees, aggregates, evaluator.faulting)}
    for owner in (*(query.fields[name] for name in every), *query.show):
        if is_grouped(owner.checked):
            found = [node for node in c.walk(owner.checked) if isinstance(node, c.Window) and is_grouped(node)]
            for node in reversed(found):  # the inner ones first
                values = [evaluator.plain(evaluator.value(piece, owner)) for piece in window_inputs(node)]

                def record(what: str, mask: Mask, owner: Expression = owner) -> None:
                    faults.record(owner.name, what, np.flatnonzero(mask), lambda _index: {})

                windows[node] = evaluate_window(node, values, count, record)
            if owner.name in at_once and query.fields[owner.name] is owner:
                evaluator.field_value(owner.name)
    shown = [evaluator.compute(expression) for expression in query.show]
    return table_of([*query.by, *query.show], [*keys, *shown])
