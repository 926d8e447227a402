"""Windows: each row's value from the rows around it. Sorted once, computed, and put back in the rows' own order."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.groups import aggregate, group
from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.library.dates import shift_moments
from oak_ledger.formula.library.registry import MISSING, Recorder, Run
from oak_ledger.formula.library.windows import Around
from oak_ledger.formula.values import (
    Mask,
    array_of,
    arrow_type,
    decimal_from_unscaled,
    held,
    mask_of,
    small_numbers,
    unscaled,
)

EXPANDED = 4_000_000  # rows of frames that are laid out at a time
_SAFE = 2**62
_PACKED_BITS = 62
Places = npt.NDArray[np.int64]


def window_inputs(node: c.Window) -> list[c.Checked]:
    """What a window is computed from: arguments, filter, partition, order."""
    held = [node.where] if node.where is not None else []
    return [*node.args, *held, *node.partition, *(key.key for key in node.order)]


@dataclass(slots=True)
class Sorted:
    """Rows in the order of a window's partition and order: which row stands where, where partitions and peers begin."""

    rows: Places
    begins: npt.NDArray[np.bool_]
    differs: npt.NDArray[np.bool_]

    def back(self, values: Any) -> Any:
        """Values in this order, put back in the rows' own."""
        if pa.types.is_floating(values.type) or pa.types.is_integer(values.type):
            made = np.empty(len(self.rows), held(values).dtype)
            made[self.rows] = held(values)
            if not values.null_count:
                return array_of(made)
            nulls = np.empty(len(self.rows), np.bool_)
            nulls[self.rows] = mask_of(pc.is_null(values))
            return array_of(made, mask=nulls)
        back = np.empty(len(self.rows), np.int64)
        back[self.rows] = np.arange(len(self.rows))
        return values.take(array_of(back))


def in_order(node: c.Window, partition: Sequence[Any], order: Sequence[Any], rows: int) -> Sorted:
    """The rows sorted. Small enough numbers are packed with the row's own into one, and sorted by value: that is much faster."""
    groups = [small_numbers(values) for values in partition]
    ranks = [
        small_numbers(values, descending=key.descending, nulls_first=key.nulls_first)
        for values, key in zip(order, node.order, strict=True)
    ]
    row_bits = max(rows - 1, 1).bit_length()
    if sum(bits for _, bits in (*groups, *ranks)) + row_bits <= _PACKED_BITS:
        packed = np.zeros(rows, np.int64)
        below = row_bits
        for numbers, bits in (*groups, *ranks):
            packed = packed << bits | numbers
        packed = packed << row_bits | np.arange(rows)
        packed.sort()
        below = row_bits + sum(bits for _, bits in ranks)
        return Sorted(packed & ((1 << row_bits) - 1), _changes(packed >> below), _changes(packed >> row_bits))
    codes = group(list(partition), rows)[0].codes
    sort = np.lexsort((*(numbers for numbers, _ in ranks[::-1]), codes)) if rows else np.zeros(0, np.int64)
    begins = _changes(codes[sort])
    differs = begins.copy()
    for numbers, _ in ranks:
        differs |= _changes(numbers[sort])
    return Sorted(sort, begins, differs)


def _changes(numbers: Places) -> npt.NDArray[np.bool_]:
    """Where a number differs from the one before; the first one does."""
    made = np.ones(len(numbers), np.bool_)
    np.not_equal(numbers[1:], numbers[:-1], out=made[1:])
    return made


def windowed(node: c.Window, inputs: Sequence[Any], rows: int, record: Recorder, known: Sorted | None = None) -> Any:
    """The values of a window over all rows, in their own order, from its inputs (see `window_inputs`).

    `known` is the order of the rows where another window of the same partition and order has found it.
    """
    args = list(inputs[: len(node.args)])
    at = len(args) + (node.where is not None)
    where = inputs[len(args)] if node.where is not None else None
    order = inputs[at + len(node.partition) :]
    made_order = known or in_order(node, inputs[at : at + len(node.partition)], order, rows)
    index = array_of(made_order.rows)
    around = Around(
        made_order.begins, made_order.differs if node.order else made_order.begins, _edges(node, order, index)
    )
    laid = [arg.take(index) for arg in args]

    def note(what: str, mask: Mask) -> None:
        own = np.zeros(rows, np.bool_)
        own[made_order.rows[np.flatnonzero(mask)]] = True
        record(what, own)

    if node.function.window:
        constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
        run = Run(rows, [arg.type for arg in node.args], node.type, constants, note)
        made = node.function.run(run, around, *laid)
    else:
        kept = None if where is None else where.take(index)
        made = _aggregated(node, laid, kept, around, note)
    return made_order.back(made)


def _edges(node: c.Window, order: Sequence[Any], index: Any) -> Callable[[Around], tuple[Places, Places]] | None:
    """How a window's frame is found; None where it is the usual one."""
    frame = node.frame
    if frame is None:
        return None

    def edges(around: Around) -> tuple[Places, Places]:
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
    size = around.size
    inner = c.Aggregate(
        node.start, node.end, node.type, node.grain, node.function, node.args, distinct=False, where=node.where
    )
    if node.function.name in ("SUM", "COUNT"):
        quick = _running(node, args, where, around)
        if quick is not None:
            return quick
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


def _running(node: c.Window, args: list[Any], where: Any | None, around: Around) -> Any | None:
    """Sums and counts of whole numbers by one running sum, which is exact; None where it would not be."""
    size = around.size
    keep = np.ones(size, np.bool_) if where is None else mask_of(where)
    if args:
        keep = keep & mask_of(pc.is_valid(args[0]))
    low, high = around.low, np.maximum(around.high, around.low)
    counts = np.concatenate([[0], np.cumsum(keep)])
    present = counts[high] - counts[low]
    if node.function.name == "COUNT":
        return array_of(present.astype(np.int64))
    kind = node.type.kind
    if kind == "number" or not size:
        return None
    whole = unscaled(args[0]) if kind == "decimal" else held(pc.fill_null(args[0], 0))
    if whole is None:
        return None
    whole = np.where(keep, whole, 0)
    if int(np.abs(whole).max(initial=0)) * size >= _SAFE:
        return None
    sums = np.concatenate([[0], np.cumsum(whole)])
    made = sums[high] - sums[low]
    empty = present == 0
    return decimal_from_unscaled(made, node.type.scale, empty) if kind == "decimal" else array_of(made, mask=empty)
