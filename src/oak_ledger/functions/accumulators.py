"""How aggregates are computed slice by slice: a few numbers a group from each slice, combined, and made a value at the end.

What comes out does not depend on how the rows are sliced. An empty column of numbers means zeros.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Context, Decimal
from functools import cached_property
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, arrow_type, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.decimals import decimal_from_unscaled, decimal_pairs, decimal_to_number, peak, unscaled
from oak_ledger.functions.operators import settle_decimal, settle_integer
from oak_ledger.functions.registry import CallContext, ComputeError

_LOW_HALF = 0xFFFFFFFF
_EXACT_FLOAT_INT = 2**53
_SAFE_SUM = 2**62
_WIDE = Context(prec=100)
_HUGE = 1e280  # floats from which on sums are scaled down, by a power of two
_SCALE_DOWN = 2.0**-600
RowIndexes = npt.NDArray[np.int64]
NO_ROWS: RowIndexes = np.zeros(0, np.int64)


@dataclass(frozen=True)
class Groups:
    """The group of each row, from 0, and how many groups there are."""

    codes: RowIndexes
    count: int
    by_row: bool = False
    """Whether each row is a group of its own, the first one the first."""

    def where(self, mask: Mask) -> Groups:
        """Only the rows where the mask holds."""
        return Groups(self.codes[mask], self.count)

    @cached_property
    def sizes(self) -> RowIndexes:
        """How many rows each group has."""
        if self.count == 1:
            return np.array([len(self.codes)], np.int64)
        return np.bincount(self.codes, minlength=self.count)

    def sizes_without(self, rows: RowIndexes) -> RowIndexes:
        """How many rows each group has beyond these."""
        return self.sizes - np.bincount(self.codes[rows], minlength=self.count) if len(rows) else self.sizes

    def float_sums(self, weights: Any) -> npt.NDArray[np.float64]:
        """The sum of a number of each row by group, in floats."""
        if self.count == 1:
            return np.array([weights.sum(dtype=np.float64)])
        return np.asarray(np.bincount(self.codes, weights=weights, minlength=self.count), np.float64)

    def whole_sums(self, numbers: RowIndexes) -> RowIndexes:
        """The sum of a whole number of each row by group; all sums must fit into 64 bits."""
        if not len(numbers):
            return np.zeros(self.count, np.int64)
        if peak(numbers) * len(numbers) < _EXACT_FLOAT_INT:  # every partial sum is exact in a float
            return self.float_sums(numbers).astype(np.int64)
        sums = np.zeros(self.count, np.int64)
        np.add.at(sums, self.codes, numbers)
        return sums


def present(values: Any, groups: Groups) -> tuple[Any, Groups]:
    """The values that are not null, and their groups."""
    if values.null_count == 0:
        return values, groups
    valid = to_mask(pc.is_valid(values))
    return values.filter(from_numpy(valid)), groups.where(valid)


def _null_rows(values: Any) -> RowIndexes:
    return np.flatnonzero(to_mask(pc.is_null(values))) if values.null_count else NO_ROWS


def _zeroed(numbers: Any, rows: RowIndexes) -> Any:
    """The numbers with zero in these rows, so that sums need not leave them out: that is much faster."""
    if len(rows):
        numbers = numbers.copy()
        numbers[rows] = 0
    return numbers


class Accumulator(Protocol):
    """An aggregate in parts: columns with an item a group from each slice, columns of many slices combined, and values made of them."""

    takes_dictionary: bool
    """Whether it is content with codes and a dictionary."""
    in_order: bool
    """Whether slices must come in the rows' order."""

    def partial(self, call: CallContext, values: Any, groups: Groups) -> list[Any]:
        """The columns of one slice; `values` are None for `*`."""

    def combine(self, call: CallContext, columns: Sequence[Any], groups: Groups) -> list[Any]:
        """Columns of several slices, one after the other, combined: `groups` says where each item goes."""

    def finalize(self, call: CallContext, columns: Sequence[Any]) -> Any:
        """The values of the aggregate, one a group."""


def at_once(accumulator: Accumulator) -> Callable[..., Any]:
    """The aggregate over all rows as one slice."""

    def run(call: CallContext, values: Any, groups: Groups) -> Any:
        return accumulator.finalize(call, accumulator.partial(call, values, groups))

    return run


class CountAccumulator:
    """How many values are not null."""

    takes_dictionary, in_order = True, False

    def partial(self, call: CallContext, values: Any, groups: Groups) -> list[Any]:
        """The counts."""
        return [groups.sizes if values is None else groups.sizes_without(_null_rows(values))]

    def combine(self, call: CallContext, columns: Sequence[Any], groups: Groups) -> list[Any]:
        """The counts, added up."""
        return [groups.whole_sums(columns[0])]

    def finalize(self, call: CallContext, columns: Sequence[Any]) -> Any:
        """The counts."""
        return from_numpy(columns[0])


# -- sums -----------------------------------------------------------------------------------------------------


def _carried(low: RowIndexes, high: RowIndexes) -> list[RowIndexes]:
    """Low and high put in order again: the low one has 32 bits."""
    return [low & _LOW_HALF, high + (low >> 32)]


def _exact_sums(numbers: RowIndexes, groups: Groups) -> list[RowIndexes]:
    """Sums of 64-bit whole numbers as low + high * 2**32, exact whatever the numbers; high is empty where all are small."""
    if peak(numbers) * max(len(numbers), 1) < _EXACT_FLOAT_INT:
        return [groups.whole_sums(numbers), NO_ROWS]
    return _carried(groups.whole_sums(numbers & _LOW_HALF), groups.whole_sums(numbers >> 32))


class WholeSum:
    """Sums of integers, or of decimals by their unscaled whole numbers: low and high parts of 32 bits, the same of what exceeds 64 bits, and how many values."""

    takes_dictionary, in_order = False, False

    def partial(self, call: CallContext, values: Any, groups: Groups) -> list[Any]:
        """The sums of a slice."""
        nulls = _null_rows(values)
        counts = groups.sizes_without(nulls)
        if not pa.types.is_decimal(values.type):
            whole = numpy_view(values).astype(np.int64, copy=False)
            return [*_exact_sums(_zeroed(whole, nulls), groups), NO_ROWS, NO_ROWS, counts]
        low = unscaled(values)
        if low is not None:
            return [*_exact_sums(_zeroed(low, nulls), groups), NO_ROWS, NO_ROWS, counts]
        pairs = _zeroed(decimal_pairs(values), nulls)
        unsigned = pairs[:, 0].view(np.uint64)
        halves = [(unsigned & np.uint64(_LOW_HALF)).astype(np.int64), (unsigned >> np.uint64(32)).astype(np.int64)]
        first, second = _carried(*(groups.whole_sums(half) for half in halves))
        wide = _exact_sums(pairs[:, 1], groups)
        return [first, second, wide[0], wide[1] if len(wide[1]) else np.zeros(groups.count, np.int64), counts]

    def combine(self, call: CallContext, columns: Sequence[Any], groups: Groups) -> list[Any]:
        """The sums, added up."""
        low, high, wide_low, wide_high, counts = columns
        if not len(high) and not len(wide_low) and peak(low) * max(len(low), 1) < _SAFE_SUM:
            return [groups.whole_sums(low), NO_ROWS, NO_ROWS, NO_ROWS, groups.whole_sums(counts)]
        low, high = low & _LOW_HALF, (low >> 32) + (high if len(high) else 0)
        sums = _carried(groups.whole_sums(low), groups.whole_sums(high))
        wide = [NO_ROWS, NO_ROWS]
        if len(wide_low):
            wide = _carried(groups.whole_sums(wide_low), groups.whole_sums(wide_high))
        return [*sums, *wide, groups.whole_sums(counts)]

    def totals(self, columns: Sequence[Any]) -> RowIndexes | list[int]:
        """The sums: in 64 bits where all fit, else Python's whole numbers."""
        low, high, wide_low, wide_high, counts = columns
        if not len(high) and not len(wide_low):
            return np.asarray(low)
        if not wide_low.any() and not wide_high.any() and peak(high) < 2**30:
            return np.asarray((high << 32) + low)
        filled = [column if len(column) else np.zeros(len(counts), np.int64) for column in columns[:4]]
        return [
            a + (b << 32) + ((c + (d << 32)) << 64)
            for a, b, c, d in zip(*(one.tolist() for one in filled), strict=True)
        ]

    def finalize(self, call: CallContext, columns: Sequence[Any]) -> Any:
        """The sums; a fault for each that its type cannot hold."""
        totals, empty, scale = self.totals(columns), columns[4] == 0, call.result.scale
        if not isinstance(totals, list):
            decimals = call.result.kind == "decimal"
            return decimal_from_unscaled(totals, scale, empty) if decimals else from_numpy(totals, mask=empty)
        if call.result.kind == "decimal":
            exact = [Decimal(total).scaleb(-scale, _WIDE) for total in totals]
            return _settled(call, exact, empty, lambda one: settle_decimal(one, scale))
        return _settled(call, totals, empty, settle_integer)


def _settled(call: CallContext, values: Sequence[Any], empty: Mask, settle: Callable[[Any], Any]) -> Any:
    """Values that may be too large for their type: a fault for each that is."""
    settled: list[Any] = []
    wrong = np.zeros(len(values), np.bool_)
    what = ""
    for at, value in enumerate(values):
        try:
            settled.append(None if empty[at] else settle(value))
        except ComputeError as error:
            settled.append(None)
            wrong[at], what = True, str(error)
    if wrong.any():
        call.record(what, wrong)
    return pa.array(settled, arrow_type(call.result))


def _split_sums(
    numbers: npt.NDArray[np.float64], groups: Groups
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Sums of floats as (sum, rest): each number is cut in two so that the sums of the upper parts are exact.

    The cut follows S. M. Rump, T. Ogita, S. Oishi, Accurate floating-point summation, 2008.
    """
    largest = _float_peak(numbers)
    if not largest:
        return np.zeros(groups.count), np.zeros(groups.count)
    cut = math.ldexp(1.5, math.frexp(largest)[1] + max(len(numbers), 2).bit_length() + 1)
    upper = numbers + cut
    upper -= cut
    sums = groups.float_sums(upper)
    return sums, groups.float_sums(np.subtract(numbers, upper, out=upper))


def _float_peak(numbers: npt.NDArray[np.float64]) -> float:
    """The largest, whatever its sign."""
    return max(float(numbers.max(initial=0.0)), -float(numbers.min(initial=0.0)))


class FloatSum:
    """Sums of floats to about 70 binary digits of the largest value, so that the nearest float comes out: a sum, the rest that it lacks, and how many values.

    Numbers that are huge are added up apart, as a sum and a rest, scaled down: so nothing overflows on the way to a sum that fits.
    """

    takes_dictionary, in_order = False, False

    def partial(self, call: CallContext, values: Any, groups: Groups) -> list[Any]:
        """The sums of a slice."""
        nulls = _null_rows(values)
        numbers, counts = _zeroed(as_floats(values), nulls), groups.sizes_without(nulls)
        if _float_peak(numbers) < _HUGE:
            return [*_split_sums(numbers, groups), counts, NO_ROWS, NO_ROWS]
        huge = np.abs(numbers) >= _HUGE
        apart = _split_sums(np.where(huge, numbers * _SCALE_DOWN, 0.0), groups)
        return [*_split_sums(np.where(huge, 0.0, numbers), groups), counts, *apart]

    def combine(self, call: CallContext, columns: Sequence[Any], groups: Groups) -> list[Any]:
        """The sums, added up."""
        sums, rest = _split_sums(columns[0], groups)
        rest = rest + groups.float_sums(columns[1])
        combined = [sums, rest, groups.whole_sums(columns[2])]
        if not len(columns[3]):
            return [*combined, NO_ROWS, NO_ROWS]
        huge, more = _split_sums(columns[3], groups)
        return [*combined, huge, more + groups.float_sums(columns[4])]

    def over(self, columns: Sequence[Any], divisors: Any) -> Any:
        """The sums, divided; infinite where that does not fit."""
        quotients = (columns[0] + columns[1]) / divisors
        if not len(columns[3]):
            return quotients
        huge = columns[3] + columns[4]
        with np.errstate(over="ignore"):
            scaled = (huge + (columns[0] + columns[1]) * _SCALE_DOWN) / divisors / _SCALE_DOWN
        return np.where(huge == 0, quotients, scaled)

    def finalize(self, call: CallContext, columns: Sequence[Any]) -> Any:
        """The sums."""
        return _finite(call, self.over(columns, 1), columns[2] == 0)


def _finite(call: CallContext, numbers: Any, empty: Mask) -> Any:
    """Floats, with a fault for each that is infinite."""
    lost = ~np.isfinite(numbers)
    return call.fault("number overflow", lost, from_numpy(np.where(lost, 0.0, numbers), mask=empty))


class SumAccumulator:
    """The total, by the type of the values."""

    takes_dictionary, in_order = False, False

    def of(self, call: CallContext) -> WholeSum | FloatSum:
        """The accumulator for the type."""
        return FloatSum() if call.types[0].kind == "number" else WholeSum()

    def partial(self, call: CallContext, values: Any, groups: Groups) -> list[Any]:
        """The sums of a slice."""
        return self.of(call).partial(call, values, groups)

    def combine(self, call: CallContext, columns: Sequence[Any], groups: Groups) -> list[Any]:
        """The sums, added up."""
        return self.of(call).combine(call, columns, groups)

    def finalize(self, call: CallContext, columns: Sequence[Any]) -> Any:
        """The sums."""
        return self.of(call).finalize(call, columns)


class MeanAccumulator(SumAccumulator):
    """The total over how many values there are, divided once."""

    def finalize(self, call: CallContext, columns: Sequence[Any]) -> Any:
        """The means."""
        kind = call.types[0]
        counts = columns[2 if kind.kind == "number" else -1]
        divisors = np.maximum(counts, 1)
        if kind.kind == "number":
            return _finite(call, FloatSum().over(columns, divisors), counts == 0)
        totals, unit = WholeSum().totals(columns), 10**kind.scale
        if (
            not isinstance(totals, list)
            and peak(totals) < _EXACT_FLOAT_INT
            and int(divisors.max(initial=1)) * unit < _EXACT_FLOAT_INT
        ):
            return from_numpy(totals.astype(np.float64) / (divisors * unit).astype(np.float64), mask=counts == 0)
        exact = [int(one) / (int(divisor) * unit) for one, divisor in zip(totals, divisors, strict=True)]
        return from_numpy(np.asarray(exact, np.float64), mask=counts == 0)


def as_floats(values: Any) -> npt.NDArray[np.float64]:
    """Numeric values as floats; anything where null is."""
    if pa.types.is_decimal(values.type):
        values = decimal_to_number(values)
    return np.asarray(numpy_view(values), dtype=np.float64)
