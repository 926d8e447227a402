"""A grouped answer: each slice is grouped and aggregated by itself, then the slices' groups are put together.

Aggregates that can be computed in parts (see `formula.library.aggregates.Parts`) keep a few numbers a group; the others, such as medians and
`DISTINCT`, keep their values and are computed at the end.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.engine.account import timed
from oak_ledger.engine.evaluate import Evaluator, Expression, is_grouped, needed
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.groups import GroupTable, aggregate, distinct_counts, local_groups
from oak_ledger.engine.question import Question, Result, SortBy, begun, in_order, joined, listed, table_of
from oak_ledger.engine.reading import Feed
from oak_ledger.engine.windows import window_inputs, windowed
from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.library.registry import MISSING, Run
from oak_ledger.formula.values import Mask, array_of, arrow_type, mask_of

PENDING = 200_000  # groups of slices that may wait before they are put together


@dataclass(slots=True)
class _Part:
    """One slice, grouped: the keys of its groups, columns of aggregates in parts, the values that others keep."""

    keys: list[tuple[Any, Any]]
    count: int
    columns: dict[c.Aggregate, list[Any]]
    values: dict[c.Aggregate, _Values]


@dataclass(slots=True)
class _Values:
    """What an aggregate needs from rows: the group of each, arguments, order."""

    codes: Rows
    args: list[Any]
    order: list[Any]


@dataclass(slots=True)
class _Tally:
    """The groups found so far."""

    table: GroupTable
    columns: dict[c.Aggregate, list[list[Any]]] = field(default_factory=dict)
    places: list[Rows] = field(default_factory=list)
    values: dict[c.Aggregate, list[_Values]] = field(default_factory=dict)
    waiting: int = 0

    def absorb(self, part: _Part) -> None:
        """Take in a slice."""
        place = self.table.absorb(part.keys, part.count)
        self.places.append(place)
        self.waiting += part.count
        for node, columns in part.columns.items():
            self.columns.setdefault(node, []).append(columns)
        for node, values in part.values.items():
            values.codes = place[values.codes]
            self.values.setdefault(node, []).append(values)
        if self.waiting > PENDING + 4 * self.table.count:
            self.settle()

    def settle(self) -> None:
        """Put the parts of aggregates together, so that each has one."""
        if len(self.places) == 1 and len(self.places[0]) == self.table.count:
            return
        groups = Groups(np.concatenate(self.places) if self.places else np.zeros(0, np.int64), self.table.count)
        for node, parts in self.columns.items():
            columns = [_concatenated(pieces) for pieces in zip(*parts, strict=True)]
            self.columns[node] = [node.function.parts.merge(_run(node, groups.count), columns, groups)]
        self.places = [np.arange(self.table.count)]
        self.waiting = 0


def _concatenated(pieces: Sequence[Any]) -> Any:
    if isinstance(pieces[0], np.ndarray):
        return np.concatenate(pieces)
    return pa.chunked_array(pieces).combine_chunks()


def _run(node: c.Aggregate, groups: int, record: Any = None) -> Run:
    constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
    return Run(groups, [arg.type for arg in node.args], node.type, constants, record or (lambda _what, _mask: None))


def _in_parts(node: c.Aggregate) -> bool:
    return node.function.parts is not None and not node.distinct


def _aggregates(question: Question) -> dict[c.Aggregate, Expression]:
    """Every aggregate that the answer needs, with the formula that it stands in."""
    grouped = [one for one in question.show if is_grouped(one.checked)]
    names = needed(question.fields, [one.checked for one in grouped])
    owners = [*grouped, *(question.fields[name] for name in names if is_grouped(question.fields[name].checked))]
    return {piece: owner for owner in owners for piece in c.walk(owner.checked) if isinstance(piece, c.Aggregate)}


def _inputs(node: c.Aggregate) -> list[c.Checked]:
    where = [node.where] if node.where is not None else []
    return [*node.args, *where, *(key.key for key in node.order)]


def tally(question: Question, feed: Feed) -> Result:
    """Answer a question by groups."""
    faults = Faults()
    wanted = _aggregates(question)
    inner = [Expression(owner.name, owner.text, piece) for node, owner in wanted.items() for piece in _inputs(node)]
    reading = begun(question, feed, [*question.by, *inner], faults, spare=True)
    shown = ", ".join(one.name for one in question.by) or "all rows"
    kept = [owner.text for node, owner in wanted.items() if not _in_parts(node)]
    reading.doing = ("groups", f"by {shown}: {listed(list(wanted.values()))}")
    found = _Tally(GroupTable(len(question.by)))
    for part in reading.run(feed, lambda evaluator: _part(evaluator, question, wanted), faults):
        found.absorb(part)
    found.settle()
    if question.account is not None:
        note = f"values kept for {', '.join(dict.fromkeys(kept))}" if kept else "all aggregates in parts"
        question.account.add("put together", f"{found.table.count:,} groups", rows=found.table.count, note=note)
    keys = [found.table.values(at, arrow_type(one.checked.type)) for at, one in enumerate(question.by)]
    with timed(question.account, "put together", f"{found.table.count:,} groups"):
        table = _finished(question, wanted, found, keys, faults)
    count = table.num_rows
    table = in_order(table, question.sort or tuple(SortBy(one.name) for one in question.by))
    if question.limit is not None:
        table = table.slice(0, question.limit)
    totals = None
    if question.totals:
        apart = Faults()
        nothing = [pa.nulls(1, arrow_type(one.checked.type)) for one in question.by]
        totals = _finished(question, wanted, _overall(found), nothing, apart, overall=True)
        faults.merge_missing(apart)
    return Result(table, totals, faults, reading.read, reading.used, count)


def _part(evaluator: Evaluator, question: Question, wanted: dict[c.Aggregate, Expression]) -> _Part:
    """One slice, grouped and aggregated."""
    alive = evaluator.alive
    keys = [evaluator.coded(one) for one in question.by]
    codes, count, groups_of = local_groups(keys, evaluator.length, alive)
    part = _Part(groups_of, count, {}, {})
    spare = count + (alive is not None)  # rejected rows go to a group of their own, which is left out
    for node, owner in wanted.items():
        args = [evaluator.array(evaluator.value(arg, owner)) for arg in node.args]
        keep = None
        if node.where is not None:
            keep = mask_of(evaluator.plain(evaluator.value(node.where, owner)))
        if _in_parts(node):
            values = None if not args else args[0] if _takes_codes(node) else evaluator.plain(args[0])
            groups = Groups(codes, spare)
            if keep is not None:
                groups = groups.where(keep)
                values = None if values is None else values.filter(array_of(keep))
            columns = node.function.parts.part(_run(node, spare), values, groups)
            part.columns[node] = [column[:count] for column in columns]
            continue
        order = [evaluator.plain(evaluator.value(key.key, owner)) for key in node.order]
        kept = [evaluator.plain(arg) for arg in args]
        if alive is not None:
            keep = alive if keep is None else keep & alive
        if keep is not None:
            chosen = array_of(keep)
            part.values[node] = _Values(
                codes[keep], [one.filter(chosen) for one in kept], [one.filter(chosen) for one in order]
            )
        else:
            part.values[node] = _Values(codes, kept, order)
    return part


def _takes_codes(node: c.Aggregate) -> bool:
    """Whether an aggregate is content with codes and a dictionary."""
    return node.function.name in ("COUNT", "MIN", "MAX", "ANY_VALUE")


def _overall(found: _Tally) -> _Tally:
    """All groups as one."""
    made = _Tally(GroupTable(0))
    made.table.count = 1
    groups = Groups(np.zeros(found.table.count, np.int64), 1)
    for node, parts in found.columns.items():
        made.columns[node] = [node.function.parts.merge(_run(node, 1), parts[0], groups)] if parts else []
    for node, values in found.values.items():
        made.values[node] = [_Values(np.zeros(len(one.codes), np.int64), one.args, one.order) for one in values]
    return made


def _finished(
    question: Question,
    wanted: dict[c.Aggregate, Expression],
    found: _Tally,
    keys: Sequence[Any],
    faults: Faults,
    *,
    overall: bool = False,
) -> pa.Table:
    """The answer for one grouping: aggregates by group, then what is computed from them."""
    count = found.table.count
    numbers: Rows = np.arange(count, dtype=np.int64)
    made: dict[c.Aggregate, Any] = {}
    for node, owner in wanted.items():

        def record(what: str, mask: Mask, owner: Expression = owner) -> None:
            faults.record(owner.name, what, numbers[mask], lambda _index: {})

        made[node] = _aggregated(node, found, count, record)
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
                values = [evaluator.plain(evaluator.value(piece, owner)) for piece in window_inputs(window_node)]
                windows[window_node] = windowed(window_node, values, count, lambda what, mask: None)
            if owner.name in question.fields and question.fields[owner.name] is owner:
                evaluator.field_value(owner.name)
    shown = [evaluator.compute(one) for one in question.show]
    return table_of([*question.by, *question.show], [*keys, *shown])


def _aggregated(node: c.Aggregate, found: _Tally, count: int, record: Any) -> Any:
    """One aggregate by group."""
    if _in_parts(node):
        run = _run(node, count, record)
        parts = found.columns.get(node)
        if not parts:  # there was no slice at all
            nothing = None if not node.args else pa.array([], arrow_type(node.args[0].type))
            return node.function.parts.finish(
                run, node.function.parts.part(run, nothing, Groups(np.zeros(0, np.int64), count))
            )
        return node.function.parts.finish(run, parts[0])
    values = found.values.get(node, [])
    codes = np.concatenate([one.codes for one in values]) if values else np.zeros(0, np.int64)
    args = [joined([one.args[at] for one in values], arg.type) for at, arg in enumerate(node.args)]
    if node.distinct and node.function.name == "COUNT":
        return distinct_counts(args[0], Groups(codes, count))
    order = [joined([one.order[at] for one in values], key.type) for at, key in enumerate(node.order)]
    return aggregate(node, args, None, Groups(codes, count), record, order)
