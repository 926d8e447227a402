"""Windows: each row's value from the rows around it. Sorted once, computed, and put back in the rows' own order."""

from __future__ import annotations

from collections.abc import Sequence
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
from oak_ledger.formula.values import Mask, arrow_type, decimal_from_unscaled, dense_ranks, mask_of, unscaled

EXPANDED = 4_000_000  # rows of frames that are laid out at a time
_SAFE = 2**62
Places = npt.NDArray[np.int64]


def window_inputs(node: c.Window) -> list[c.Checked]:
    """What a window is computed from: arguments, filter, partition, order."""
    held = [node.where] if node.where is not None else []
    return [*node.args, *held, *node.partition, *(key.key for key in node.order)]


def windowed(node: c.Window, inputs: Sequence[Any], rows: int, record: Recorder) -> Any:
    """A window from its inputs, in the order of `window_inputs`."""
    args = list(inputs[: len(node.args)])
    at = len(args) + (node.where is not None)
    where = inputs[len(args)] if node.where is not None else None
    partition = inputs[at : at + len(node.partition)]
    return window(node, args, where, partition, inputs[at + len(node.partition) :], rows, record)


def window(
    node: c.Window,
    args: Sequence[Any],
    where: Any | None,
    partition: Sequence[Any],
    order: Sequence[Any],
    rows: int,
    record: Recorder,
) -> Any:
    """The values of a window over all rows, in their own order."""
    groups, _ = group(list(partition), rows)
    ranks = [
        dense_ranks(values, descending=key.descending, nulls_first=key.nulls_first)
        for values, key in zip(order, node.order, strict=True)
    ]
    sort = np.lexsort((*ranks[::-1], groups.codes)) if rows else np.zeros(0, np.int64)
    around = _around(
        node, groups.codes[sort], [rank[sort] for rank in ranks], [values.take(pa.array(sort)) for values in order]
    )
    index = pa.array(sort)
    laid = [arg.take(index) for arg in args]

    def note(what: str, mask: Mask) -> None:
        own = np.zeros(rows, np.bool_)
        own[sort[np.flatnonzero(mask)]] = True
        record(what, own)

    if node.function.window:
        constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
        run = Run(rows, [arg.type for arg in node.args], node.type, constants, note)
        made = node.function.run(run, around, *laid)
    else:
        kept = None if where is None else where.take(index)
        made = _aggregated(node, laid, kept, around, note)
    back = np.empty(rows, np.int64)
    back[sort] = np.arange(rows)
    return made.take(pa.array(back))


def _around(node: c.Window, codes: Places, ranks: Sequence[Places], order: Sequence[Any]) -> Around:
    size = len(codes)
    here = np.arange(size)
    breaks = np.ones(size, np.bool_)
    breaks[1:] = codes[1:] != codes[:-1]
    start, end = _spans(breaks)
    differs = breaks.copy()
    for rank in ranks:
        differs[1:] |= rank[1:] != rank[:-1]
    peers, peers_end = _spans(differs) if node.order else (start, end)
    frame = node.frame
    if frame is None:
        return Around(start, end, peers, peers_end, start, peers_end)
    if frame.unit == "ROWS":
        low = start if frame.low is None else here + frame.low[0]
        high = end if frame.high is None else here + frame.high[0] + 1
    else:
        low = (
            start
            if frame.low is None
            else _range_edge(frame.low, order, node, (start, end, peers, peers_end), first=True)
        )
        high = (
            end
            if frame.high is None
            else _range_edge(frame.high, order, node, (start, end, peers, peers_end), first=False)
        )
    return Around(start, end, peers, peers_end, np.clip(low, start, end), np.clip(high, start, end))


def _spans(begins: npt.NDArray[np.bool_]) -> tuple[Places, Places]:
    """Where the span of each position begins and ends."""
    size = len(begins)
    first = np.flatnonzero(begins)
    number = np.cumsum(begins) - 1
    edges = np.append(first, size)
    return edges[number] if size else edges[:0], edges[number + 1] if size else edges[:0]


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
    size = len(around.start)
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
        index = pa.array(at)
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
    size = len(around.start)
    keep = np.ones(size, np.bool_) if where is None else mask_of(where)
    if args:
        keep = keep & mask_of(pc.is_valid(args[0]))
    low, high = around.low, np.maximum(around.high, around.low)
    counts = np.concatenate([[0], np.cumsum(keep)])
    present = counts[high] - counts[low]
    if node.function.name == "COUNT":
        return pa.array(present.astype(np.int64))
    kind = node.type.kind
    if kind == "number" or not size:
        return None
    whole = unscaled(args[0]) if kind == "decimal" else pc.fill_null(args[0], 0).to_numpy(zero_copy_only=False)
    if whole is None:
        return None
    whole = np.where(keep, whole, 0)
    if int(np.abs(whole).max(initial=0)) * size >= _SAFE:
        return None
    sums = np.concatenate([[0], np.cumsum(whole)])
    made = sums[high] - sums[low]
    empty = present == 0
    return decimal_from_unscaled(made, node.type.scale, empty) if kind == "decimal" else pa.array(made, mask=empty)
