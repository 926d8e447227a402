"""What is kept of the groups while rows come: each slice's groups, and all of them so far."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from oak_ledger.columnar.arrays import from_numpy
from oak_ledger.engine.aggregate.compute import combined
from oak_ledger.engine.aggregate.distinct import DistinctBitmap, SliceBitmap
from oak_ledger.engine.aggregate.groups import GroupTable, Key, RowIndexes, group_all
from oak_ledger.engine.options import options
from oak_ledger.engine.pool import ordered
from oak_ledger.engine.scan import concatenated
from oak_ledger.engine.spill import SpillBuffer, SpilledGroups
from oak_ledger.formula import checked as c
from oak_ledger.functions.accumulators import Groups

MANY_GROUPS = 20_000  # from which on they are not known by number any more while rows come
PENDING_GROUPS = 200_000  # groups of slices that may wait before they are combined
POOR_SHARE = (
    4  # where a slice has more groups than one for so many rows, its rows are not grouped before all come together
)


@dataclass(slots=True)
class PartialAggregate:
    """One slice, grouped: the keys of its groups, columns of accumulators, the values that others keep."""

    keys: list[Key]
    count: int
    rows: int
    columns: dict[c.Aggregate, list[Any]] = field(default_factory=dict)
    values: dict[c.Aggregate, tuple[Any, list[Any]]] = field(default_factory=dict)
    """The group of each row, and the arguments and order keys."""
    bitmaps: dict[c.Aggregate, SliceBitmap] = field(default_factory=dict)


@dataclass(slots=True)
class AggregateState:
    """The groups found so far: each known by its number while they are few, and combined now and then when they are many."""

    kinds: list[Any]
    count: int = 0
    table: GroupTable | None = None
    keys: list[list[Any]] = field(default_factory=list)
    places: list[RowIndexes] = field(default_factory=list)
    """For each part that waits: which of all groups each of its groups is."""
    columns: dict[c.Aggregate, list[tuple[list[Any], int]]] = field(default_factory=dict)
    """For each part that waits: the columns, and how many groups it has."""
    buffers: dict[c.Aggregate, SpillBuffer] = field(default_factory=dict)
    """The values that aggregates keep, with the groups of the slice that they came from (or of all, while groups are few)."""
    bitmaps: dict[c.Aggregate, DistinctBitmap] = field(default_factory=dict)
    members: list[list[int]] = field(default_factory=list)
    """The slices that each of the parts is made of, and in `numbers` where their groups are in it."""
    numbers: dict[int, RowIndexes] = field(default_factory=dict)
    slices: int = 0
    waiting: int = 0
    by_row: bool = False
    """Whether grouping a slice by itself saves little, so that its rows are kept as they are."""
    parent: AggregateState | None = None
    """For all groups as one: the groups that it is made of."""
    spilled: SpilledGroups | None = None

    def __post_init__(self) -> None:
        self.table = GroupTable(len(self.kinds))
        self.count = self.table.count

    def absorb(self, part: PartialAggregate) -> None:
        """Take in a slice."""
        for node, columns in part.columns.items():
            self.columns.setdefault(node, []).append((columns, part.count))
        number, place = 0, None
        if self.table is not None and not any(codes is None for codes, _ in part.keys):
            place = self.table.absorb(part.keys, part.count)
            self.places.append(place)
            self.count = self.table.count
        else:
            self.slices += 1
            number = self.slices
            self.members.append([number])
            self.keys.append([one if codes is None else one.take(from_numpy(codes)) for codes, one in part.keys])
        for node, (codes, columns) in part.values.items():
            self._keep(node, number, codes if place is None else place[codes], columns)
        for node, bitmap in part.bitmaps.items():
            fits = node not in self.buffers
            if fits and place is not None:
                fits = self.bitmaps.setdefault(node, DistinctBitmap()).absorb(bitmap, place, self.count)
            if not fits or place is None:
                groups, values = DistinctBitmap.of(bitmap).pairs()
                self._keep(node, number, groups if place is None else place[groups], [values])
        self.waiting += part.count
        if self.waiting > PENDING_GROUPS + 4 * self.count and not self.by_row:
            self.combine()
        if self.table is not None and self.count > MANY_GROUPS:
            self._many()
        self.by_row = self.table is None and POOR_SHARE * part.count > part.rows
        width = 12 * (len(self.kinds) + sum(len(parts[0][0]) for parts in self.columns.values()))
        if self.table is None and width * (self.count + self.waiting) > options().memory and self._may_spill():
            self._spill()

    def _many(self) -> None:
        """From now on groups are not known by number."""
        self.combine()
        for node in [*self.bitmaps]:
            self._unmark(node)
        self.keys, self.members, self.table = [self.key_values()], [[0]], None

    def _keep(self, node: c.Aggregate, number: int, codes: Any, columns: Sequence[Any]) -> None:
        """Keep values of rows for the end, with the groups of a slice (or of all, where its number is 0)."""
        if node in self.bitmaps:
            self._unmark(node)
        share = max(options().memory // max(len(self.buffers) + (node not in self.buffers), 1), 1)
        self.buffers.setdefault(node, SpillBuffer(share)).add(number, codes, columns)

    def _unmark(self, node: c.Aggregate) -> None:
        """Keep as values what was kept as a bitmap."""
        groups, values = self.bitmaps.pop(node).pairs()
        self._keep(node, 0, groups, [values])

    def _may_spill(self) -> bool:
        """Whether groups can be combined in any order: no values are kept beside them, and no aggregate goes by the rows' order."""
        in_order = any(node.function.accumulator.in_order for node in self.columns)
        return not self.buffers and not self.bitmaps and not in_order

    def _spill(self) -> None:
        """Write all groups down, and begin with none."""
        self.combine()
        if self.spilled is None:
            self.spilled = SpilledGroups()
        self.spilled.add(self.keys[0], {node: parts[0][0] for node, parts in self.columns.items()})
        self.keys, self.columns, self.members, self.numbers, self.count = [], {}, [], {}, 0

    def finals(self) -> Iterator[AggregateState]:
        """All groups, combined; where they did not fit into memory, some after the other."""
        if self.spilled is None:
            self.combine()
            yield self
            return
        if self.keys:
            self._spill()
        for batches in self.spilled.each():
            state = AggregateState(self.kinds)
            state.table = None  # its groups are combined as rows are
            for keys, columns in batches:
                state.keys.append(keys)
                state.members.append([len(state.members)])
                for node, parts in columns.items():
                    state.columns.setdefault(node, []).append((parts, len(keys[0])))
            if state.keys:
                state.combine()
                yield state

    def key_values(self) -> list[Any]:
        """The value of each key for each group."""
        if self.table is not None:
            return [self.table.values(at, kind) for at, kind in enumerate(self.kinds)]
        return self.keys[0]

    def combine(self) -> None:
        """Combine the parts, so that there is one."""
        self.waiting = 0
        if self.table is None:
            self._group_again()
        elif len(self.places) == 1 and len(self.places[0]) == self.count:
            return
        groups = Groups(np.concatenate(self.places) if self.places else np.zeros(0, np.int64), self.count)

        def merged(node: c.Aggregate) -> list[Any]:
            return combined(node, self.columns[node], groups)

        nodes = [*self.columns]
        for node, columns in zip(nodes, ordered(merged, nodes, options().threads), strict=True):
            self.columns[node] = [(columns, self.count)]
        self.places = [np.arange(self.count)] if self.table is not None else []

    def _group_again(self) -> None:
        """Many groups: those of all parts are grouped as rows are."""
        sizes = [len(keys[0]) for keys in self.keys]
        pieces = zip(zip(*self.keys, strict=True), self.kinds, strict=True)
        groups, values = group_all([concatenated(list(each), kind) for each, kind in pieces], sum(sizes))
        ends = np.cumsum(sizes).tolist()
        self.places = [groups.codes[end - size : end] for size, end in zip(sizes, ends, strict=True)]
        self.keys, self.count = [values], groups.count
        for place, members in zip(self.places, self.members, strict=True):
            for number in members:
                self.numbers[number] = place[self.numbers[number]] if number in self.numbers else place
        self.members = [[number for members in self.members for number in members]]

    def kept(self, node: c.Aggregate, low: int, high: int) -> Iterator[tuple[RowIndexes, list[Any]]]:
        """The values that an aggregate keeps of a range of groups, with the group of each counted from the range's first."""
        buffer = self.buffers.get(node)
        for number, own, values in buffer.chunks() if buffer is not None else ():
            group_of = self.numbers[number][own] if number in self.numbers else own
            if (low, high) != (0, self.count):
                inside = (group_of >= low) & (group_of < high)
                group_of, values = group_of[inside] - low, [value.filter(from_numpy(inside)) for value in values]
            yield group_of, values

    def close(self) -> None:
        """Remove what is on disk."""
        for buffer in self.buffers.values():
            buffer.close()
        if self.spilled is not None:
            self.spilled.close()
