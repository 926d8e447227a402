"""Aggregates over the frames of windows without laying each frame out: differences of running totals, and least and largest by doubling.

The plain meaning is the aggregate over the rows of each frame, which `windows` computes where there is no quicker way.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.decimals import decimal_from_unscaled, unscaled
from oak_ledger.formula import checked as c
from oak_ledger.functions.selections import ordered_numbers
from oak_ledger.functions.windows import Around

_SAFE_SUM = 2**62
_EXACT_FLOAT_INT = 2**53  # whole numbers below it are the same as floats
RowIndexes = npt.NDArray[np.int64]


def aggregate_frames(node: c.Window, args: Sequence[Any], where: Any | None, around: Around) -> Any | None:
    """The values of COUNT, SUM, AVG, MIN or MAX over the frames, in the sorted order; None where it must be done the plain way."""
    name = node.function.name
    if name not in ("COUNT", "SUM", "AVG", "MIN", "MAX") or node.distinct or not around.size:
        return None
    keep = None if where is None else to_mask(where)
    if args and args[0].null_count:
        valid = to_mask(pc.is_valid(args[0]))
        keep = valid if keep is None else keep & valid
    if name in ("MIN", "MAX"):
        return _extremes(args[0], keep, around, largest=name == "MAX")
    counts = _counts(keep, around)
    if name == "COUNT":
        return from_numpy(counts)
    if args[0].type == "double":
        return _float_totals(numpy_view(args[0]), keep, counts, around, mean=name == "AVG")
    return _whole_totals(node, args[0], keep, counts, around)


def _counts(keep: Mask | None, around: Around) -> RowIndexes:
    """How many rows of each frame count."""
    if keep is not None:
        return _between(np.cumsum(keep, dtype=np.int64), around)
    if around.usual and around.all_differ:
        return np.asarray(around.here - around.start + 1, np.int64)
    lengths: RowIndexes = np.maximum(around.high - around.low, 0)
    return lengths


def _between(totals: RowIndexes, around: Around) -> RowIndexes:
    """From totals up to and with each row, those of each frame."""
    if around.usual:
        reached: RowIndexes = totals if around.all_differ else totals[around.peers_end - 1]
        first = np.flatnonzero(around.begins)
        before = np.where(first > 0, totals[first - 1], 0)
        inside: RowIndexes = reached - np.repeat(before, np.diff(np.append(first, around.size)))
        return inside
    whole = np.concatenate([np.zeros(1, totals.dtype), totals])
    array: RowIndexes = whole[np.maximum(around.high, around.low)] - whole[around.low]
    return array


def _whole_totals(node: c.Window, values: Any, keep: Mask | None, counts: RowIndexes, around: Around) -> Any | None:
    """Sums and means of integers and decimals, which are exact."""
    kind = node.args[0].type
    whole = unscaled(values) if kind.kind == "decimal" else numpy_view(values)
    if whole is None or kind.scale > 15:  # beyond, what a mean is divided by might not fit
        return None
    if keep is not None:
        whole = np.where(keep, whole, 0)
    peak = max(int(whole.max()), -int(whole.min())) * around.size
    if peak >= (_SAFE_SUM if node.function.name == "SUM" else _EXACT_FLOAT_INT):
        return None
    sums = _between(np.cumsum(whole), around)
    empty = counts == 0
    if node.function.name == "AVG":
        divisors = np.maximum(counts, 1) * 10**kind.scale
        return from_numpy(sums / divisors, mask=empty) if int(divisors.max()) < _EXACT_FLOAT_INT else None
    return decimal_from_unscaled(sums, kind.scale, empty) if kind.kind == "decimal" else from_numpy(sums, mask=empty)


def _float_totals(
    numbers: npt.NDArray[np.float64], keep: Mask | None, counts: RowIndexes, around: Around, *, mean: bool
) -> Any | None:
    """Sums and means of floats from the partition's beginning on, or up to its end; each partition by itself, so that nothing leaks.

    Each number is cut in two, as in `library.aggregates`: the sums of the upper parts are exact.
    """
    backward = not around.usual and not np.array_equal(around.low, around.start)
    if backward and not np.array_equal(around.high, around.end):
        return None
    if keep is not None:
        numbers = np.where(keep, numbers, 0.0)
    array = np.empty(around.size)
    first = np.flatnonzero(around.begins).tolist()
    for begin, end in zip(first, [*first[1:], around.size], strict=True):
        part = numbers[begin:end]
        peak = max(float(part.max()), -float(part.min()))
        if not peak < 1e280:
            return None
        cut = math.ldexp(1.5, math.frexp(peak)[1] + max(end - begin, 2).bit_length() + 1) if peak else 0.0
        upper = (part + cut) - cut
        rest = part - upper
        if backward:
            array[begin:end] = (np.cumsum(upper[::-1]) + np.cumsum(rest[::-1]))[::-1]
        else:
            array[begin:end] = np.cumsum(upper) + np.cumsum(rest)
    if backward:
        array = array[np.minimum(around.low, around.size - 1)]
    elif not (around.usual and around.all_differ):
        array = array[around.high - 1]
    return from_numpy(array / np.maximum(counts, 1) if mean else array, mask=counts == 0)


def _extremes(values: Any, keep: Mask | None, around: Around, *, largest: bool) -> Any | None:
    """The least or largest of each frame: of two overlapping stretches of 1, 2, 4, 8 … rows that cover it."""
    ranks, back = ordered_numbers(values if keep is None else values.filter(from_numpy(keep)))
    if not len(ranks):
        return pa.nulls(around.size, values.type)
    better, numbers = (np.maximum if largest else np.minimum), ranks
    if keep is not None:  # what does not count is worse than all that does
        numbers = np.full(around.size, ranks.min() if largest else ranks.max(), ranks.dtype)
        numbers[keep] = ranks
    empty = _counts(keep, around) == 0
    low, high = around.low, around.high
    lengths = np.maximum(high - low, 0)
    level = np.frexp(lengths.astype(np.float64))[1] - 1  # the power of two that the length reaches
    array = np.zeros(around.size, numbers.dtype)
    domain_of = numbers
    for power in range(int(level.max()) + 1):
        at = np.flatnonzero(level == power)
        array[at] = better(domain_of[low[at]], domain_of[high[at] - (1 << power)])
        step = 1 << power
        domain_of = better(domain_of[: len(domain_of) - step], domain_of[step:]) if len(domain_of) > step else domain_of
    return back(array, empty)
