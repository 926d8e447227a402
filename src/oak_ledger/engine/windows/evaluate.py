"""One window over all rows: sorted once by partition and order, computed some whole partitions at a time, and put back in the rows' own order.

An aggregate over whole partitions is computed by group instead, without sorting.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, arrow_type, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.calendar import shift_moments
from oak_ledger.columnar.ordering import packed_keys, sort_numbers
from oak_ledger.engine.aggregate.compute import aggregate, call_context
from oak_ledger.engine.aggregate.groups import encode_all, group_all
from oak_ledger.engine.options import options
from oak_ledger.engine.pool import ordered
from oak_ledger.engine.spill import scratch_array
from oak_ledger.engine.windows.frames import aggregate_frames
from oak_ledger.formula import checked as c
from oak_ledger.functions.accumulators import Groups
from oak_ledger.functions.registry import FaultSink
from oak_ledger.functions.windows import Around

MAX_FRAME_ROWS = 4_000_000  # rows of frames that are laid out at a time
RowIndexes = npt.NDArray[np.int64]


@dataclass(slots=True)
class SortedPartitions:
    """Rows in the order of a window's partition and order: which row comes where, where partitions and peers begin."""

    rows: RowIndexes
    begins: npt.NDArray[np.bool_]
    differs: npt.NDArray[np.bool_]

    def spans(self, rows: int) -> list[tuple[int, int]]:
        """The positions in spans of whole partitions, each of about so many rows, more where a partition has more."""
        first = np.append(np.flatnonzero(self.begins), len(self.begins))
        cuts = [0]
        while cuts[-1] < len(self.begins):
            reached = int(np.searchsorted(first, cuts[-1] + rows, "right")) - 1
            after = int(np.searchsorted(first, cuts[-1], "right"))
            cuts.append(int(first[max(reached, after)]))
        return list(pairwise(cuts)) or [(0, 0)]


class ScatterBuffer:
    """Values that come in some order, each put at its row; several threads may put theirs."""

    def __init__(self, kind: Any, rows: int, given: int, *, on_disk: bool = False) -> None:
        """`rows` in all, of which `given` get a value; the others are null. Numbers may be put on disk."""
        self.kind, self.rows = kind, rows
        self.fixed = pa.types.is_floating(kind) or pa.types.is_integer(kind)
        numbers = np.float64 if pa.types.is_floating(kind) else np.int64
        self.numbers: Any = scratch_array(rows, numbers, on_disk=on_disk) if self.fixed else None
        self.nulls: Mask = np.full(rows if self.fixed else 0, given < rows)
        self.parts: list[tuple[RowIndexes, Any]] = []

    def put(self, rows: RowIndexes, values: Any) -> None:
        """Some of the values, and the row of each."""
        if not self.fixed:
            self.parts.append((rows, values))
            return
        self.numbers[rows] = numpy_view(values)
        if values.null_count or self.nulls.any():
            self.nulls[rows] = to_mask(pc.is_null(values))

    def array(self) -> Any:
        """All of them."""
        if self.fixed:
            return from_numpy(self.numbers, mask=self.nulls)
        back = np.full(self.rows, -1, np.int64)
        indexes = np.concatenate([rows for rows, _ in self.parts] or [np.zeros(0, np.int64)])
        back[indexes] = np.arange(len(indexes))
        values = pa.chunked_array([values for _, values in self.parts], self.kind).combine_chunks()
        return values.take(from_numpy(back, mask=back < 0))


def over_whole_partitions(node: c.Window) -> bool:
    """Whether a window is an aggregate that has one value for all rows of a partition."""
    return not node.function.window and node.frame is None and (node.function.ordered or not node.order)


def window_order(
    node: c.Window, partition: Sequence[Any], order: Sequence[Any], rows: int
) -> SortedPartitions | Groups:
    """The rows in the order that a window needs, or by group where it needs none."""
    return group_all(partition, rows)[0] if over_whole_partitions(node) else _sorted(node, partition, order, rows)


def _sorted(node: c.Window, partition: Sequence[Any], order: Sequence[Any], rows: int) -> SortedPartitions:
    """The rows sorted by partition and order; rows that are equal in both stay in the order in which they arrive.

    Numbers that are small enough are packed with the row's own into one, and sorted by value: that is much faster.
    """
    groups = [_partition_numbers(values) for values in partition]
    ranks = [
        sort_numbers(values, descending=key.descending, nulls_first=key.nulls_first)
        for values, key in zip(order, node.order, strict=True)
    ]
    packed, row_bits = packed_keys((*groups, *ranks), rows)
    if packed is not None:
        below = row_bits + sum(bits for _, bits in ranks)
        begins, differs = np.ones(rows, np.bool_), np.ones(rows, np.bool_)
        changed = (
            packed[1:] ^ packed[:-1]
        )  # the highest bit in which a number differs from the one before says what differs
        np.greater_equal(changed, 1 << below, out=begins[1:])
        np.greater_equal(changed, 1 << row_bits, out=differs[1:])
        packed &= (1 << row_bits) - 1
        return SortedPartitions(packed, begins, differs)
    codes = group_all(list(partition), rows)[0].codes
    sort = np.lexsort((*(numbers for numbers, _ in ranks[::-1]), codes)) if rows else np.zeros(0, np.int64)
    begins = _changes(codes[sort])
    differs = begins.copy()
    for numbers, _ in ranks:
        differs |= _changes(numbers[sort])
    return SortedPartitions(sort, begins, differs)


def _partition_numbers(values: Any) -> tuple[RowIndexes, int]:
    """Whole numbers, equal for equal values, and how many bits they take; texts need no order."""
    if pa.types.is_string(values.type):
        codes, different = encode_all(values)
        return codes.astype(np.int64), max(len(different) - 1, 1).bit_length()
    return sort_numbers(values)


def _changes(numbers: RowIndexes) -> npt.NDArray[np.bool_]:
    """Where a number differs from the one before; the first one does."""
    changes = np.ones(len(numbers), np.bool_)
    np.not_equal(numbers[1:], numbers[:-1], out=changes[1:])
    return changes


def evaluate_window(
    node: c.Window, inputs: Sequence[Any], rows: int, record: FaultSink, known: SortedPartitions | Groups | None = None
) -> Any:
    """The values of a window over all rows, in their own order, from its inputs (see `window_inputs`).

    Partitions are computed some at a time, by several threads. `known` are the rows in order, or by group, where another window of the same
    partition and order has put them so.
    """
    at = len(node.args) + (node.where is not None)
    order = inputs[at + len(node.partition) :]
    found = known or window_order(node, inputs[at : at + len(node.partition)], order, rows)
    if isinstance(found, Groups):
        return _by_group(node, inputs, order, found, record)
    wrong: dict[str, Mask] = {}
    back = ScatterBuffer(arrow_type(node.type), rows, rows)

    def work(span: tuple[int, int]) -> tuple[tuple[int, int], list[tuple[str, Mask]]]:
        notes: list[tuple[str, Mask]] = []
        values = _of_partitions(node, inputs, order, found, span, lambda what, mask: notes.append((what, mask)))
        back.put(found.rows[slice(*span)], values)
        return span, notes

    for (low, high), notes in ordered(work, found.spans(options().rows), options().threads):
        for what, mask in notes:
            wrong.setdefault(what, np.zeros(rows, np.bool_))[found.rows[low:high][mask]] = True
    for what, mask in wrong.items():
        record(what, mask)
    return back.array()


def _by_group(node: c.Window, inputs: Sequence[Any], order: Sequence[Any], groups: Groups, record: FaultSink) -> Any:
    """The aggregate of each partition, for each of its rows."""
    args, own = inputs[: len(node.args)], groups
    if node.where is not None:
        keep = to_mask(inputs[len(node.args)])
        args, order = ([one.filter(from_numpy(keep)) for one in some] for some in (args, order))
        own = groups.where(keep)
    values = aggregate(_plain_aggregate(node), args, own, lambda what, mask: record(what, mask[groups.codes]), order)
    return values.take(from_numpy(groups.codes))


def _plain_aggregate(node: c.Window) -> c.Aggregate:
    """The aggregate of a window, its filter aside."""
    order = node.order if node.function.ordered else ()
    return c.Aggregate(
        node.start, node.end, node.type, node.grain, node.function, node.args, node.distinct, None, order
    )


def _of_partitions(
    node: c.Window,
    inputs: Sequence[Any],
    order: Sequence[Any],
    partitions: SortedPartitions,
    span: tuple[int, int],
    note: FaultSink,
) -> Any:
    """The values of a window over some whole partitions, in the sorted order."""
    low, high = span
    index = from_numpy(partitions.rows[low:high])
    begins = partitions.begins[low:high]
    around = Around(begins, partitions.differs[low:high] if node.order else begins, _edges(node, order, index))
    args = [arg.take(index) for arg in inputs[: len(node.args)]]
    if node.function.window:
        return node.function.run(call_context(node, around.size, note), around, *args)
    where = None if node.where is None else inputs[len(node.args)].take(index)
    return _aggregated(node, args, where, around, note)


def _edges(
    node: c.Window, order: Sequence[Any], index: Any
) -> Callable[[Around], tuple[RowIndexes, RowIndexes]] | None:
    """How a window's frame is found; None where it is the usual one."""
    frame = node.frame
    if frame is None:
        return None

    def edges(around: Around) -> tuple[RowIndexes, RowIndexes]:
        if frame.unit == "ROWS":
            low = around.start if frame.low is None else around.here + frame.low[0]
            high = around.end if frame.high is None else around.here + frame.high[0] + 1
            return low, high
        laid = [values.take(index) for values in order[:1]]
        places = (around.start, around.end, around.peers, around.peers_end)
        low = around.start if frame.low is None else _range_edge(frame.low, laid, node, places, first=True)
        high = around.end if frame.high is None else _range_edge(frame.high, laid, node, places, first=False)
        return low, high

    return edges


def _range_edge(
    bound: tuple[int, str], order: Sequence[Any], node: c.Window, spans: tuple[RowIndexes, ...], *, first: bool
) -> RowIndexes:
    """The edge of a RANGE frame: the rows whose order value lies so far away; nulls are each other's peers."""
    start, end, peers, peers_end = spans
    amount, unit = bound
    if amount == 0:
        return peers if first else peers_end
    key, values = node.order[0], order[0]
    amount = -amount if key.descending else amount
    if unit:
        own = numpy_view(pc.fill_null(pc.cast(values, pa.timestamp("us")), 0))
        edge, numbers = shift_moments(own, amount, unit).astype(np.float64), own.astype(np.float64)
    else:
        days = pc.cast(values, pa.int32()) if pa.types.is_date(values.type) else values
        numbers = np.asarray(pc.fill_null(pc.cast(days, pa.float64()), 0.0))
        edge = numbers + amount
    if key.descending:
        numbers, edge = -numbers, -edge
    null = to_mask(pc.is_null(values))
    array = np.where(null, peers if first else peers_end, 0)
    for at in np.unique(start[~null]):
        inside = np.arange(at, end[at])
        inside = inside[~null[inside]]
        found = np.searchsorted(numbers[inside], edge[inside], "left" if first else "right")
        array[inside] = inside[0] + found
    return array


def _aggregated(node: c.Window, args: list[Any], where: Any | None, around: Around, record: FaultSink) -> Any:
    """An aggregate over each row's frame."""
    quick = aggregate_frames(node, args, where, around)
    if quick is not None:
        return quick
    size = around.size
    inner = _plain_aggregate(node)
    lengths = np.maximum(around.high - around.low, 0)
    parts = []
    begin = 0
    while begin < size:
        domain_of = np.cumsum(lengths[begin:])
        stop = begin + max(1, int(np.searchsorted(domain_of, MAX_FRAME_ROWS, "right")))
        count = lengths[begin:stop]
        codes = np.repeat(np.arange(stop - begin), count)
        at = (
            np.repeat(around.low[begin:stop], count)
            + np.arange(len(codes))
            - np.repeat(np.cumsum(count) - count, count)
        )
        if where is not None:
            keep = to_mask(where)[at]
            codes, at = codes[keep], at[keep]
        index = from_numpy(at)
        laid = [arg.take(index) for arg in args]

        def note(what: str, mask: Mask, begin: int = begin) -> None:
            whole = np.zeros(size, np.bool_)
            whole[begin : begin + len(mask)] = mask
            record(what, whole)

        parts.append(aggregate(inner, laid, Groups(codes, stop - begin), note))
        begin = stop
    return pa.chunked_array(parts, arrow_type(node.type)).combine_chunks()
