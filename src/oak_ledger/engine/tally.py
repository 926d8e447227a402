"""A grouped answer: each slice is grouped and aggregated by itself, then the slices' groups are put together.

Aggregates that can be computed in parts (see `formula.library.aggregates.Parts`) keep a few numbers a group; the others, such as medians and
`DISTINCT`, keep their values and are computed at the end.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.engine.account import timed
from oak_ledger.engine.asked_windows import window_inputs
from oak_ledger.engine.evaluate import Evaluator, Expression, is_grouped, needed
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.groups import GroupTable, aggregate, distinct_counts, group, local_groups, sorted_values
from oak_ledger.engine.marks import Marked, Marks, marks_of
from oak_ledger.engine.overflow import GroupRuns
from oak_ledger.engine.pool import ordered
from oak_ledger.engine.question import Question, Result, begun, in_order, table_of
from oak_ledger.engine.reading import Feed, joined, listed
from oak_ledger.engine.spool import Spool
from oak_ledger.engine.tuning import tuning
from oak_ledger.engine.windows import sorted_rows, windowed
from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.library.registry import MISSING, Run
from oak_ledger.formula.library.together import median_of
from oak_ledger.formula.values import Mask, array_of, arrow_type, held, mask_of, sort_numbers
from oak_ledger.loops.groups import narrowed

MANY = 20_000  # groups from which on they are not known by number any more
_ADDING = ("COUNT", "SUM", "AVG")  # aggregates that take little longer over a few rows more
PENDING = 200_000  # groups of slices that may wait before they are put together


@dataclass(slots=True)
class _Part:
    """One slice, grouped: the keys of its groups, columns of aggregates in parts, the values that others keep."""

    keys: list[tuple[Any, Any]]
    count: int
    columns: dict[c.Aggregate, list[Any]]
    values: dict[c.Aggregate, _Values]
    marks: dict[c.Aggregate, Marked]


@dataclass(slots=True)
class _Values:
    """What an aggregate needs from rows: the group of each in its slice, arguments, order."""

    codes: Rows
    args: list[Any]
    order: list[Any]

    def where(self, keep: Mask) -> _Values:
        """Only the rows where the mask holds."""
        index = array_of(np.flatnonzero(keep))
        return _Values(
            self.codes[held(index)], [one.take(index) for one in self.args], [one.take(index) for one in self.order]
        )


@dataclass(slots=True)
class _Tally:
    """The groups found so far: each known by its number while they are few, and put together now and then when they are many."""

    kinds: list[Any]
    count: int = 0
    table: GroupTable | None = None
    keys: list[list[Any]] = field(default_factory=list)
    places: list[Rows] = field(default_factory=list)
    columns: dict[c.Aggregate, list[list[Any]]] = field(default_factory=dict)
    spools: dict[c.Aggregate, Spool] = field(default_factory=dict)
    """The values that aggregates keep, with the groups of the slice that they came from (or of all, while groups are few)."""
    marks: dict[c.Aggregate, Marks] = field(default_factory=dict)
    """Different values by group, where both are few."""
    members: list[list[int]] = field(default_factory=list)
    """The slices that each of the parts is made of, and in `numbers` where their groups are in it."""
    numbers: dict[int, Rows] = field(default_factory=dict)
    slices: int = 0
    waiting: int = 0
    together: _Tally | None = None
    """For all groups as one: the groups that it is made of."""
    runs: GroupRuns | None = None
    """Groups that did not fit into memory."""

    def __post_init__(self) -> None:
        self.table = GroupTable(len(self.kinds))
        self.count = self.table.count

    def absorb(self, part: _Part) -> None:
        """Take in a slice."""
        for node, columns in part.columns.items():
            self.columns.setdefault(node, []).append(columns)
        number, place = 0, None
        if self.table is not None:
            place = self.table.absorb(part.keys, part.count)
            self.places.append(place)
            self.count = self.table.count
        else:
            self.slices += 1
            number = self.slices
            self.members.append([number])
            self.keys.append([dictionary.take(array_of(codes)) for codes, dictionary in part.keys])
        mapped: dict[int, Any] = {}  # aggregates of the same rows share their groups
        narrow = None if place is None else narrowed(place, self.count)
        as_they_are = place is not None and len(place) <= self.count and (place == np.arange(len(place))).all()
        for node, values in part.values.items():
            codes = values.codes
            if narrow is not None:
                if id(codes) not in mapped:
                    mapped[id(codes)] = codes.astype(narrow.dtype, copy=False) if as_they_are else narrow[codes]
                codes = mapped[id(codes)]
            self.keep(node, number, codes, [*values.args, *values.order])
        for node, marked in part.marks.items():
            if place is None or node in self.spools:
                groups, one = Marks.of(marked).pairs()
                self.keep(node, number, groups if place is None else place[groups], [one])
            elif not self.marks.setdefault(node, Marks()).absorb(marked, place, self.count):
                self.unmark(node)
                groups, one = Marks.of(marked).pairs()
                self.keep(node, number, place[groups], [one])
        self.waiting += part.count
        if self.waiting > PENDING + 4 * self.count:
            self.settle()
        if self.table is not None and self.count > MANY:
            self.settle()
            for node in [*self.marks]:
                self.unmark(node)
            self.keys, self.members, self.table = [self.key_values()], [[0]], None
        if self.table is None and self.width() * (self.count + self.waiting) > tuning().memory and self.may_overflow():
            self.overflow()

    def keep(self, node: c.Aggregate, number: int, codes: Rows, columns: Sequence[Any]) -> None:
        """Keep values of rows for the end, with the groups of a slice (or of all, where its number is 0)."""
        if node in self.marks:
            self.unmark(node)
        share = max(tuning().memory // max(len(self.spools) + (node not in self.spools), 1), 1)
        self.spools.setdefault(node, Spool(share)).add(number, codes, columns)

    def unmark(self, node: c.Aggregate) -> None:
        """Keep as values what was kept as marks."""
        groups, values = self.marks.pop(node).pairs()
        self.keep(node, 0, groups, [values])

    def may_overflow(self) -> bool:
        """Whether groups can be put together in any order: no values are kept beside them, and no aggregate goes by the order."""
        return (
            not self.spools
            and not self.marks
            and not any(getattr(node.function.parts, "in_order", False) for node in self.columns)
        )

    def width(self) -> int:
        """About how many bytes a group takes: what is kept of it, and half as much again while groups are put together."""
        return 12 * (len(self.kinds) + sum(len(parts[0]) for parts in self.columns.values()))

    def overflow(self) -> None:
        """Write all groups down, and begin anew."""
        self.settle()
        if self.runs is None:
            self.runs = GroupRuns()
        self.runs.add(self.keys[0], {node: parts[0] for node, parts in self.columns.items()})
        self.keys, self.columns, self.members, self.numbers, self.count = [], {}, [], {}, 0

    def settled(self) -> Iterator[_Tally]:
        """All groups, put together; where they did not fit into memory, some after the other."""
        if self.runs is None:
            self.settle()
            yield self
            return
        if self.keys:
            self.overflow()
        for batches in self.runs.each():
            one = _Tally(self.kinds)
            one.table = None  # its groups are put together as rows are
            for keys, columns in batches:
                one.keys.append(keys)
                one.members.append([len(one.members)])
                for node, parts in columns.items():
                    one.columns.setdefault(node, []).append(parts)
            if one.keys:
                one.settle()
                yield one

    def key_values(self) -> list[Any]:
        """The value of each key for each group."""
        if self.table is not None:
            return [self.table.values(at, kind) for at, kind in enumerate(self.kinds)]
        return self.keys[0]

    def settle(self) -> None:
        """Put the parts together, so that there is one."""
        self.waiting = 0
        if self.table is None:
            self._group_again()
        elif len(self.places) == 1 and len(self.places[0]) == self.count:
            return
        groups = Groups(np.concatenate(self.places) if self.places else np.zeros(0, np.int64), self.count)
        for node, parts in self.columns.items():
            columns = [_concatenated(pieces) for pieces in zip(*parts, strict=True)]
            self.columns[node] = [node.function.parts.merge(_run(node, groups.count), columns, groups)]
        self.places = [np.arange(self.count)] if self.table is not None else []

    def _group_again(self) -> None:
        """Many groups: those of all parts are grouped as rows are."""
        sizes = [len(keys[0]) for keys in self.keys]
        keys = [
            joined(list(pieces), kind) for pieces, kind in zip(zip(*self.keys, strict=True), self.kinds, strict=True)
        ]
        groups, values = group(keys, sum(sizes))
        ends = np.cumsum(sizes)
        self.places = [groups.codes[end - size : end] for size, end in zip(sizes, ends.tolist(), strict=True)]
        self.keys, self.count = [values], groups.count
        for place, members in zip(self.places, self.members, strict=True):
            for number in members:
                self.numbers[number] = place[self.numbers[number]] if number in self.numbers else place
        self.members = [[number for members in self.members for number in members]]

    def kept(self, node: c.Aggregate, low: int, high: int) -> Iterator[tuple[Rows, list[Any]]]:
        """The values that an aggregate keeps of a range of groups, with the group of each counted from the range's first, stretch by stretch."""
        spool = self.spools.get(node)
        for number, own, values in spool.chunks() if spool is not None else ():
            group_of = self.numbers[number][own] if number in self.numbers else own
            if (low, high) != (0, self.count):
                group_of = group_of.astype(np.int64)
                inside = (group_of >= low) & (group_of < high)
                group_of, values = group_of[inside] - low, [one.filter(array_of(inside)) for one in values]
            yield group_of, values


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


def tally(question: Question, feed: Feed, *, plainly: bool = False) -> Result:
    """Answer a question by groups."""
    faults = Faults()
    wanted = _aggregates(question)
    inner = [Expression(owner.name, owner.text, piece) for node, owner in wanted.items() for piece in _inputs(node)]
    reading = begun(question, feed, [*question.by, *inner], faults, plainly=plainly, spare=True)
    shown = ", ".join(one.name for one in question.by) or "all rows"
    reading.doing = ("groups", f"by {shown}: {listed(list(wanted.values()))}")
    found = _Tally([arrow_type(one.checked.type) for one in question.by])
    try:
        for part in reading.run(feed, lambda evaluator: _part(evaluator, question, wanted), faults):
            found.absorb(part)
        with timed(question.account, "put together", "groups"):
            pieces = _Pieces(question, wanted)
            for one in found.settled():
                pieces.add(one)
            keys, order = _by_keys(pieces.keys())
            table = _finished(question, wanted, keys, pieces.values(faults, order), faults)
        count = table.num_rows
        if question.account is not None:
            question.account.add("put together", "groups", rows=count, note=_how(found, wanted))
        table = in_order(table, question.sort)  # rows that it leaves open stay in the order of the keys
        if question.limit is not None:
            table = table.slice(0, question.limit)
        totals = None
        if question.totals:
            apart = Faults()
            nothing = [pa.nulls(1, arrow_type(one.checked.type)) for one in question.by]
            totals = _finished(question, wanted, nothing, pieces.overall(apart), apart, overall=True)
            faults.merge_missing(apart)
    finally:
        for spool in found.spools.values():
            spool.close()
        if found.runs is not None:
            found.runs.close()
    return Result(table, totals, faults, reading.read, reading.used, count)


def _part(evaluator: Evaluator, question: Question, wanted: dict[c.Aggregate, Expression]) -> _Part:
    """One slice, grouped and aggregated."""
    alive = evaluator.alive
    keys = [evaluator.coded(one) for one in question.by]
    codes, count, groups_of = local_groups(keys, evaluator.length, alive)
    part = _Part(groups_of, count, {}, {}, {})
    spare = count + (alive is not None)  # rejected rows go to a group of their own, which is left out
    for node, owner in wanted.items():
        args = [evaluator.array(evaluator.value(arg, owner)) for arg in node.args]
        keep = None
        if node.where is not None:
            keep = mask_of(evaluator.plain(evaluator.value(node.where, owner)))
        if _in_parts(node):
            values = None if not args else args[0] if _takes_codes(node) else evaluator.plain(args[0])
            groups = Groups(codes, spare)
            if keep is not None and node.function.name in _ADDING:  # they go where rejected rows do
                groups = Groups(np.where(keep, codes, count), count + 1)
            elif keep is not None:
                groups = groups.where(keep)
                values = None if values is None else values.filter(array_of(keep))
            columns = node.function.parts.part(_run(node, groups.count), values, groups)
            part.columns[node] = [column[:count] for column in columns]
            continue
        if _counts_different(node):
            counting = codes if keep is None else np.where(keep, codes, count)
            marks = marks_of(args[0], counting, count)
            if marks is not None:
                part.marks[node] = marks
                continue
            laid = sorted_values(evaluator.plain(args[0]), counting, count)
            if laid is not None:
                part.values[node] = _Values(laid[1], [laid[0]], [])
                continue
        order = [evaluator.plain(evaluator.value(key.key, owner)) for key in node.order]
        kept = [evaluator.plain(arg) for arg in args]
        if alive is not None:
            keep = alive if keep is None else keep & alive
        values = _Values(codes, kept, order)
        part.values[node] = values if keep is None else values.where(keep)
    return part


def _by_keys(keys: Sequence[Any]) -> tuple[Sequence[Any], Rows | None]:
    """The keys of the groups in their order, and which group stands where: so no answer depends on how it was made."""
    if not keys:
        return keys, None
    order = sorted_rows([sort_numbers(values) for values in keys], len(keys[0]))
    return [values.take(array_of(order)) for values in keys], order


def _how(found: _Tally, wanted: dict[c.Aggregate, Expression]) -> str:
    """In what way groups were put together, for the account."""
    notes = ["written to disk in between"] if found.runs is not None else []
    for what, nodes in (("marks for", found.marks), ("values kept for", found.spools)):
        texts = dict.fromkeys(wanted[node].text for node in nodes)
        notes += [f"{what} {', '.join(texts)}"] if texts else []
    return ", ".join(notes or ["all aggregates in parts"])


def _counts_different(node: c.Aggregate) -> bool:
    return node.distinct and node.function.name == "COUNT"


def _takes_codes(node: c.Aggregate) -> bool:
    """Whether an aggregate is content with codes and a dictionary."""
    return node.function.name in ("COUNT", "MIN", "MAX", "ANY_VALUE")


class _Pieces:
    """The groups some after the other: the keys and aggregates of each, and all groups as one."""

    def __init__(self, question: Question, wanted: dict[c.Aggregate, Expression]) -> None:
        self.question, self.wanted = question, wanted
        self.found: list[list[Any]] = [[] for _ in question.by]
        self.made: dict[c.Aggregate, list[Any]] = {node: [] for node in wanted}
        self.wrong: list[tuple[str, str, Rows]] = []
        self.all: dict[c.Aggregate, list[list[Any]]] = {}
        self.last: _Tally | None = None
        self.count = 0

    def add(self, one: _Tally) -> None:
        """Take in groups that are put together."""
        for into, values in zip(self.found, one.key_values(), strict=True):
            into.append(values)
        kept = [node for node in self.wanted if not _in_parts(node)]  # these sort all their values
        computed = dict(zip(kept, ordered(lambda node: self._computed(node, one), kept, tuning().threads), strict=True))
        for node, into in self.made.items():
            into.append(computed[node] if node in computed else self._computed(node, one))
        if self.question.totals:
            groups = Groups(np.zeros(one.count, np.int64), 1)
            for node, parts in one.columns.items():
                merged = [node.function.parts.merge(_run(node, 1), parts[0], groups)] if parts else []
                self.all.setdefault(node, []).extend(merged)
        self.last, self.count = one, self.count + one.count

    def _computed(self, node: c.Aggregate, one: _Tally) -> Any:
        def record(what: str, mask: Mask) -> None:
            self.wrong.append((self.wanted[node].name, what, np.flatnonzero(mask) + self.count))

        return _aggregated(node, one, one.count, record)

    def keys(self) -> list[Any]:
        """Each key's value for each group."""
        kinds = [one.checked.type for one in self.question.by]
        return [joined(parts, kind) for parts, kind in zip(self.found, kinds, strict=True)]

    def values(self, faults: Faults, order: Rows | None) -> dict[c.Aggregate, Any]:
        """Each aggregate's value for each group, in this order; what could not be computed is noted by the group's place in it."""
        made = {node: joined(parts, node.type) for node, parts in self.made.items()}
        place = np.arange(self.count)
        if order is not None:
            made = {node: values.take(array_of(order)) for node, values in made.items()}
            place[order] = np.arange(len(order))
        for owner, what, groups in self.wrong:
            faults.record(owner, what, np.sort(place[groups]), lambda _index: {})
        return made

    def overall(self, faults: Faults) -> dict[c.Aggregate, Any]:
        """Each aggregate over all groups as one."""
        one = _Tally([], together=self.last)
        for node, parts in self.all.items():
            one.columns[node] = parts
        one.places = [np.zeros(1, np.int64) for _ in next(iter(one.columns.values()), [])]
        one.settle()
        self.wrong, self.count = [], 0
        made = {node: self._computed(node, one) for node in self.wanted}
        for owner, what, groups in self.wrong:
            faults.record(owner, what, groups, lambda _index: {})
        return made


def _finished(
    question: Question,
    wanted: dict[c.Aggregate, Expression],
    keys: Sequence[Any],
    made: dict[c.Aggregate, Any],
    faults: Faults,
    *,
    overall: bool = False,
) -> pa.Table:
    """The answer for one grouping: aggregates by group, then what is computed from them."""
    count = len(keys[0]) if keys else 1
    numbers: Rows = np.arange(count, dtype=np.int64)
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
    marks = (found.together or found).marks.get(node)
    if marks is not None:
        return array_of(marks.counts(count) if found.together is None else marks.overall())
    if found.together is not None:
        pieces = [
            (np.zeros_like(codes), values) for codes, values in found.together.kept(node, 0, found.together.count)
        ]
        return _from_values(node, pieces, 1, record)
    spool = found.spools.get(node)
    made = []
    for low, high in spool.ranges(count) if spool is not None else [(0, count)]:

        def shifted(what: str, mask: Mask, low: int = low) -> None:
            whole = np.zeros(count, np.bool_)
            whole[low : low + len(mask)] = mask
            record(what, whole)

        made.append(_from_values(node, [*found.kept(node, low, high)], high - low, shifted))
    return joined(made, node.type)


def _from_values(node: c.Aggregate, pieces: Sequence[tuple[Rows, list[Any]]], count: int, record: Any) -> Any:
    """An aggregate from all values of its groups; the commonest need no stretch copied."""
    if pieces and _counts_different(node):
        return distinct_counts([(values[0], codes) for codes, values in pieces], count)
    if pieces and node.function.name == "MEDIAN" and not node.distinct:
        return median_of([(values[0], codes) for codes, values in pieces], count)
    kinds = [*(arg.type for arg in node.args), *(key.type for key in node.order)]
    codes = np.concatenate([np.zeros(0, np.int64), *(own for own, _ in pieces)])
    columns = [joined([values[at] for _, values in pieces], kind) for at, kind in enumerate(kinds)]
    if _counts_different(node):
        return distinct_counts([(columns[0], codes)], count)
    order = columns[len(node.args) :]
    return aggregate(node, columns[: len(node.args)], None, Groups(codes, count), record, order)
