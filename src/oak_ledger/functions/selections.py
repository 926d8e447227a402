"""Accumulators of aggregates that give one of the values: the least, the largest, the first; and those that decide between true and false."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, dictionary_decode, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.codes import encode
from oak_ledger.columnar.decimals import decimal_from_unscaled, unscaled
from oak_ledger.functions.accumulators import Groups, present
from oak_ledger.functions.registry import CallContext


class _OneOf:
    """An aggregate that gives one of the values: a slice's choice is chosen from again."""

    takes_dictionary, in_order = True, False

    def choose(self, values: Any, groups: Groups) -> Any:
        """The value of each group; `values` have no nulls."""
        raise NotImplementedError

    def partial(self, call: CallContext, values: Any, groups: Groups) -> list[Any]:
        """The choice of a slice."""
        if groups.by_row:
            return [dictionary_decode(values)]
        return [self.choose(*present(values, groups))]

    def combine(self, call: CallContext, columns: Sequence[Any], groups: Groups) -> list[Any]:
        """The choice among choices."""
        return self.partial(call, columns[0], groups)

    def finalize(self, call: CallContext, columns: Sequence[Any]) -> Any:
        """The choice."""
        return dictionary_decode(columns[0])


def ordered_numbers(values: Any) -> tuple[Any, Callable[[Any, Mask], Any]]:
    """Numbers in the order of the values, and how the values come back from them."""
    kind = values.type
    if pa.types.is_floating(kind) or pa.types.is_integer(kind):
        return numpy_view(values), lambda ends, empty: from_numpy(ends + ends.dtype.type(0), mask=empty)  # -0.0 is 0.0
    if pa.types.is_temporal(kind):
        bits = pa.int32() if pa.types.is_date32(kind) else pa.int64()
        numbers = numpy_view(values.cast(bits))

        def moments(ends: Any, empty: Mask) -> Any:
            return from_numpy(np.where(empty, 0, ends).astype(numbers.dtype), mask=empty).cast(kind)

        return numbers, moments
    low = unscaled(values) if pa.types.is_decimal(kind) else None
    if low is not None:
        return low, lambda ends, empty: decimal_from_unscaled(np.where(empty, 0, ends), kind.scale, empty)
    dictionary = pa.types.is_dictionary(kind)
    codes, different = (numpy_view(values.indices), values.dictionary) if dictionary else encode(values)
    order = numpy_view(pc.sort_indices(different)).astype(np.int64)
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))

    def back(ends: Any, empty: Mask) -> Any:
        index = np.where(empty, 0, ends)
        return different.take(from_numpy(order[index] if len(order) else index, mask=empty))

    return rank[codes], back


class ExtremeAccumulator(_OneOf):
    """The least or the largest value."""

    def __init__(self, *, largest: bool) -> None:
        self.largest = largest

    def choose(self, values: Any, groups: Groups) -> Any:
        """The end of each group."""
        if groups.count == 1 and pa.types.is_string(values.type):
            return pa.array([(pc.max if self.largest else pc.min)(values).as_py()], pa.string())
        numbers, back = ordered_numbers(values)
        floats = numbers.dtype.kind == "f"
        least, most = (-np.inf, np.inf) if floats else (np.iinfo(np.int64).min, np.iinfo(np.int64).max)
        ends = np.full(groups.count, least if self.largest else most, numbers.dtype if floats else np.int64)
        better = np.maximum if self.largest else np.minimum
        if groups.count == 1:
            if len(numbers):
                ends[0] = better.reduce(numbers)
        else:
            better.at(ends, groups.codes, numbers.astype(ends.dtype, copy=False))
        return back(ends, groups.sizes == 0)


class FirstAccumulator(_OneOf):
    """The first value, in the rows' order."""

    in_order = True

    def choose(self, values: Any, groups: Groups) -> Any:
        """The first of each group."""
        first = np.full(groups.count, -1, np.int64)
        first[groups.codes[::-1]] = np.arange(len(groups.codes) - 1, -1, -1)
        return dictionary_decode(values).take(from_numpy(first, mask=first < 0))


class LogicAccumulator(_OneOf):
    """Whether all values are true, or any is."""

    takes_dictionary = False

    def __init__(self, *, every: bool) -> None:
        self.every = every

    def choose(self, values: Any, groups: Groups) -> Any:
        """What the deciding values say: a false one for all, a true one for any."""
        decides = to_mask(values) != self.every
        decided = np.bincount(groups.codes[decides], minlength=groups.count) > 0
        return from_numpy(decided != self.every, mask=groups.sizes == 0)
