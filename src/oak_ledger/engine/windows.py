"""Windows: each row's value from the rows around it. Sorted once, computed, and put back in the rows' own order."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.groups import aggregate, group
from oak_ledger.engine.in_turn import Turn, in_turn
from oak_ledger.engine.overflow import room
from oak_ledger.engine.pool import ordered
from oak_ledger.engine.running import over_frames
from oak_ledger.engine.tuning import tuning
from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.library.dates import shift_moments
from oak_ledger.formula.library.registry import MISSING, Recorder, Run
from oak_ledger.formula.library.windows import Around
from oak_ledger.formula.values import Mask, array_of, arrow_type, held, mask_of, sort_numbers
from oak_ledger.loops.places import Rising, put, rising, taken
from oak_ledger.loops.standing import by_group

EXPANDED = 4_000_000  # rows of frames that are laid out at a time
_SAFE = 2**62
_PACKED_BITS = 62
_BLOCK = 1 << 16
_FEW = 1 << 16  # partitions that may always have a place each
Places = npt.NDArray[np.int64]


@dataclass(slots=True)
class Sorted:
    """Rows in the order of a window's partition and order: which row stands where, where partitions and peers begin."""

    rows: Places
    begins: npt.NDArray[np.bool_]
    differs: npt.NDArray[np.bool_]

    def spans(self, rows: int) -> list[tuple[int, int]]:
        """The positions in stretches of whole partitions, each of about so many rows, more where a partition has more."""
        first = np.append(np.flatnonzero(self.begins), len(self.begins))
        cuts = [0]
        while cuts[-1] < len(self.begins):
            reached = int(np.searchsorted(first, cuts[-1] + rows, "right")) - 1
            after = int(np.searchsorted(first, cuts[-1], "right"))
            cuts.append(int(first[max(reached, after)]))
        return list(pairwise(cuts)) or [(0, 0)]


class Back:
    """Values that come in some order, each put at its row; several threads may put theirs."""

    def __init__(self, kind: Any, rows: int, given: int, *, on_disk: bool = False) -> None:
        """`rows` in all, of which `given` get a value; the others are null. Numbers may be put on disk."""
        self.kind, self.rows = kind, rows
        self.fixed = pa.types.is_floating(kind) or pa.types.is_integer(kind)
        numbers = np.float64 if pa.types.is_floating(kind) else np.int64
        self.made: Any = room(rows, numbers, on_disk=on_disk) if self.fixed else None
        self.nulls: Mask = np.full(rows if self.fixed else 0, given < rows)
        self.parts: list[tuple[Places, Any]] = []

    def put(self, rows: Places, values: Any) -> None:
        """Some of the values, and the row of each."""
        if not self.fixed:
            self.parts.append((rows, values))
            return
        numbers = held(values)
        if not put(rows, values, numbers, self.made, self.nulls):
            self.made[rows] = numbers
            self.nulls[rows] = mask_of(pc.is_null(values))

    def array(self) -> Any:
        """All of them."""
        if self.fixed:
            return array_of(self.made, mask=self.nulls)
        back = np.full(self.rows, -1, np.int64)
        places = np.concatenate([rows for rows, _ in self.parts] or [np.zeros(0, np.int64)])
        back[places] = np.arange(len(places))
        return (
            pa.chunked_array([values for _, values in self.parts], self.kind)
            .combine_chunks()
            .take(array_of(back, mask=back < 0))
        )


class Order:
    """The order of rows by a window's partition and order; windows that share these share it. Rows are sorted when that is needed."""

    def __init__(self, sort: Callable[[], Sorted], turn: Turn | None) -> None:
        """`turn` is there where each row comes after the one before anyway."""
        self._sort, self.turn = sort, turn

    @cached_property
    def sorted(self) -> Sorted:
        """The rows sorted."""
        return self._sort()


def in_order(node: c.Window, partition: Sequence[Any], order: Sequence[Any], rows: int) -> Order:
    """The order of rows."""
    groups = [sort_numbers(values) for values in partition]
    ranks = [
        sort_numbers(values, descending=key.descending, nulls_first=key.nulls_first)
        for values, key in zip(order, node.order, strict=True)
    ]
    coming = _as_they_come(groups, ranks, rows)
    if coming is None:
        return Order(partial(_sorted, partition, groups, ranks, rows), None)
    turn, steady = coming
    numbers = ranks[0][0] if ranks and steady != Rising.ALWAYS else None
    return Order(partial(_laid_out, turn, numbers, bool(ranks)), turn if steady == Rising.ALWAYS else None)


def _sorted(
    partition: Sequence[Any], groups: Sequence[tuple[Places, int]], ranks: Sequence[tuple[Places, int]], rows: int
) -> Sorted:
    """The rows sorted. Small enough numbers are packed with the row's own into one, and sorted by value: that is much faster."""
    packed, row_bits = _packed((*groups, *ranks), rows)
    if packed is not None:
        below = row_bits + sum(bits for _, bits in ranks)
        begins, differs = np.ones(rows, np.bool_), np.ones(rows, np.bool_)
        for low, high in blocks(
            rows - 1
        ):  # the highest bit in which a number differs from the one before says what differs
            changed = packed[low + 1 : high + 1] ^ packed[low:high]
            np.greater_equal(changed, 1 << below, out=begins[low + 1 : high + 1])
            np.greater_equal(changed, 1 << row_bits, out=differs[low + 1 : high + 1])
        packed &= (1 << row_bits) - 1
        return Sorted(packed, begins, differs)
    codes = group(list(partition), rows)[0].codes
    sort = np.lexsort((*(numbers for numbers, _ in ranks[::-1]), codes)) if rows else np.zeros(0, np.int64)
    begins = _changes(codes[sort])
    differs = begins.copy()
    for numbers, _ in ranks:
        differs |= _changes(numbers[sort])
    return Sorted(sort, begins, differs)


def _as_they_come(
    groups: Sequence[tuple[Places, int]], ranks: Sequence[tuple[Places, int]], rows: int
) -> tuple[Turn, Rising] | None:
    """The partition of each row, where rows come in the window's order already and partitions are not too many; and how they come."""
    bits = sum(bits for _, bits in groups)
    if not groups or len(ranks) > 1 or 1 << bits > max(rows, _FEW):
        return None
    steady = rising(ranks[0][0]) if ranks else Rising.OR_EQUAL
    if steady == Rising.NOT_ALWAYS:
        return None
    codes = groups[0][0]
    for numbers, more in groups[1:]:
        codes = codes << more | numbers
    return Turn(np.ascontiguousarray(codes), 1 << bits), steady


def _laid_out(turn: Turn, numbers: Places | None, ordered: bool) -> Sorted:
    """Rows that come in order, laid out by their partition; `numbers` tell which are equal in order, where some may be."""
    rows = np.arange(len(turn.codes))
    laid = by_group([(array_of(rows), rows, turn.codes)], turn.partitions)
    if laid is None:
        counts = np.bincount(turn.codes, minlength=turn.partitions)
        laid = np.argsort(turn.codes, kind="stable"), np.cumsum(counts) - counts, counts
    sort, starts, counts = laid
    begins = np.zeros(len(rows), np.bool_)
    begins[starts[counts > 0]] = True
    if numbers is not None:
        return Sorted(sort, begins, begins | _changes(numbers[sort]))
    return Sorted(sort, begins, np.ones(len(rows), np.bool_) if ordered else begins)


def sorted_rows(keys: Sequence[tuple[Places, int]], rows: int) -> Places:
    """The rows in the order of some keys (see `values.sort_numbers`), the first one first; equal ones as they come."""
    packed, row_bits = _packed(keys, rows)
    if packed is not None:
        packed &= (1 << row_bits) - 1
        return packed
    return np.lexsort([numbers for numbers, _ in reversed(keys)])


def _packed(keys: Sequence[tuple[Places, int]], rows: int) -> tuple[Places | None, int]:
    """Keys and row number as one number a row, in order, and the bits of the row; None where they do not fit into one."""
    row_bits = max(rows - 1, 1).bit_length()
    if sum(bits for _, bits in keys) + row_bits > _PACKED_BITS:
        return None, row_bits
    packed = np.empty(rows, np.int64)
    for low, high in blocks(rows):
        part = packed[low:high]
        part[:] = 0
        for numbers, bits in keys:
            part <<= bits
            part |= numbers[low:high]
        part <<= row_bits
        part |= np.arange(low, high)
    packed.sort()
    return packed, row_bits


def blocks(rows: int) -> list[tuple[int, int]]:
    """Stretches of rows whose numbers fit into a fast memory."""
    return [(low, min(low + _BLOCK, rows)) for low in range(0, rows, _BLOCK)]


def _changes(numbers: Places) -> npt.NDArray[np.bool_]:
    """Where a number differs from the one before; the first one does."""
    made = np.ones(len(numbers), np.bool_)
    np.not_equal(numbers[1:], numbers[:-1], out=made[1:])
    return made


def windowed(node: c.Window, inputs: Sequence[Any], rows: int, record: Recorder, known: Order | None = None) -> Any:
    """The values of a window over all rows, in their own order, from its inputs (see `window_inputs`).

    Partitions are computed some at a time, by several threads. `known` is the order of the rows where another window of the same
    partition and order has found it.
    """
    at = len(node.args) + (node.where is not None)
    order = inputs[at + len(node.partition) :]
    own = known or in_order(node, inputs[at : at + len(node.partition)], order, rows)
    quick = in_turn(node, inputs[: len(node.args)], own.turn) if own.turn is not None else None
    if quick is not None:
        return quick
    found = own.sorted
    wrong: dict[str, Mask] = {}

    back = Back(arrow_type(node.type), rows, rows)

    def work(span: tuple[int, int]) -> tuple[tuple[int, int], list[tuple[str, Mask]]]:
        notes: list[tuple[str, Mask]] = []
        made = _of_partitions(node, inputs, order, found, span, lambda what, mask: notes.append((what, mask)))
        back.put(found.rows[slice(*span)], made)
        return span, notes

    for (low, high), notes in ordered(work, found.spans(tuning().rows), tuning().threads):
        for what, mask in notes:
            wrong.setdefault(what, np.zeros(rows, np.bool_))[found.rows[low:high][mask]] = True
    for what, mask in wrong.items():
        record(what, mask)
    return back.array()


def _of_partitions(
    node: c.Window, inputs: Sequence[Any], order: Sequence[Any], found: Sorted, span: tuple[int, int], note: Recorder
) -> Any:
    """The values of a window over some whole partitions, in the sorted order."""
    low, high = span
    index = found.rows[low:high]
    begins = found.begins[low:high]
    around = Around(begins, found.differs[low:high] if node.order else begins, _edges(node, order, index))
    args = [taken(arg, index) for arg in inputs[: len(node.args)]]
    if node.function.window:
        constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
        return node.function.run(
            Run(around.size, [arg.type for arg in node.args], node.type, constants, note), around, *args
        )
    where = None if node.where is None else taken(inputs[len(node.args)], index)
    return _aggregated(node, args, where, around, note)


def _edges(node: c.Window, order: Sequence[Any], index: Places) -> Callable[[Around], tuple[Places, Places]] | None:
    """How a window's frame is found; None where it is the usual one."""
    frame = node.frame
    if frame is None:
        return None

    def edges(around: Around) -> tuple[Places, Places]:
        if frame.unit == "ROWS":
            low = around.start if frame.low is None else around.here + frame.low[0]
            high = around.end if frame.high is None else around.here + frame.high[0] + 1
            return low, high
        laid = [taken(values, index) for values in order[:1]]
        places = (around.start, around.end, around.peers, around.peers_end)
        low = around.start if frame.low is None else _range_edge(frame.low, laid, node, places, first=True)
        high = around.end if frame.high is None else _range_edge(frame.high, laid, node, places, first=False)
        return low, high

    return edges


def _range_edge(
    bound: tuple[int, str], order: Sequence[Any], node: c.Window, spans: tuple[Places, ...], *, first: bool
) -> Places:
    """The edge of a RANGE frame: the rows whose order value lies so far away; nulls are each other's peers."""
    start, end, peers, peers_end = spans
    amount, unit = bound
    if amount == 0:
        return peers if first else peers_end
    key, values = node.order[0], order[0]
    amount = -amount if key.descending else amount
    if unit:
        own = np.asarray(pc.fill_null(pc.cast(values, pa.timestamp("us")), 0)).astype("datetime64[us]")
        edge = shift_moments(own, amount, unit).astype(np.int64).astype(np.float64)
        numbers = own.astype(np.int64).astype(np.float64)
    else:
        days = pc.cast(values, pa.int32()) if pa.types.is_date(values.type) else values
        numbers = np.asarray(pc.fill_null(pc.cast(days, pa.float64()), 0.0))
        edge = numbers + amount
    if key.descending:
        numbers, edge = -numbers, -edge
    null = mask_of(pc.is_null(values))
    made = np.where(null, peers if first else peers_end, 0)
    for at in np.unique(start[~null]):
        inside = np.arange(at, end[at])
        inside = inside[~null[inside]]
        found = np.searchsorted(numbers[inside], edge[inside], "left" if first else "right")
        made[inside] = inside[0] + found
    return made


def _aggregated(node: c.Window, args: list[Any], where: Any | None, around: Around, record: Recorder) -> Any:
    """An aggregate over each row's frame."""
    quick = over_frames(node, args, where, around)
    if quick is not None:
        return quick
    size = around.size
    inner = c.Aggregate(
        node.start, node.end, node.type, node.grain, node.function, node.args, distinct=False, where=node.where
    )
    lengths = np.maximum(around.high - around.low, 0)
    parts = []
    begin = 0
    while begin < size:
        reach = np.cumsum(lengths[begin:])
        stop = begin + max(1, int(np.searchsorted(reach, EXPANDED, "right")))
        count = lengths[begin:stop]
        codes = np.repeat(np.arange(stop - begin), count)
        at = (
            np.repeat(around.low[begin:stop], count)
            + np.arange(len(codes))
            - np.repeat(np.cumsum(count) - count, count)
        )
        index = array_of(at)
        laid = [arg.take(index) for arg in args]
        kept = None if where is None else where.take(index)

        def note(what: str, mask: Mask, begin: int = begin) -> None:
            whole = np.zeros(size, np.bool_)
            whole[begin : begin + len(mask)] = mask
            record(what, whole)

        parts.append(aggregate(inner, laid, kept, Groups(codes.astype(np.int64), stop - begin), note))
        begin = stop
    return pa.chunked_array(parts, arrow_type(node.type)).combine_chunks()
