"""Aggregates: one value from the rows of each group.

An implementation gets the values of all rows that count and, beside them, the group of each; filters and
`DISTINCT` have been applied before. Nulls are left out by each.
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

from oak_ledger.formula.library.operators import settle_decimal, settle_integer
from oak_ledger.formula.library.registry import Run, Unfit, function
from oak_ledger.formula.values import (
    Mask,
    array_of,
    arrow_type,
    decimal_from_unscaled,
    decimal_pairs,
    decimal_to_number,
    decoded,
    held,
    mask_of,
    unscaled,
)
from oak_ledger.loops.groups import best, sums_of_floats, sums_of_wholes
from oak_ledger.loops.text import best as best_text

_LOW = 0xFFFFFFFF
_FIRST, _LAST = -(2**63), 2**63 - 1
_WIDE = Context(prec=100)
_HUGE = 1e280  # floats from which on sums are made small, by a power of two
_SMALL = 2.0**-600


@dataclass(frozen=True)
class Groups:
    """The group of each row, from 0, and how many groups there are."""

    codes: npt.NDArray[np.int64]
    count: int

    def where(self, mask: npt.NDArray[np.bool_]) -> Groups:
        """Only the rows where the mask holds."""
        if self.count == 1:
            return Groups(np.zeros(np.count_nonzero(mask), np.int64), 1)
        return Groups(self.codes[mask], self.count)

    @cached_property
    def sizes(self) -> npt.NDArray[np.int64]:
        """How many rows each group has."""
        if self.count == 1:
            return np.array([len(self.codes)], np.int64)
        return np.bincount(self.codes, minlength=self.count).astype(np.int64)

    def sizes_without(self, rows: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """How many rows each group has besides these."""
        if not len(rows):
            return self.sizes
        return self.sizes - np.bincount(self.codes[rows], minlength=self.count)

    def sums(self, weights: Any) -> npt.NDArray[np.float64]:
        """The sum of a number of each row by group, in floats."""
        if self.count == 1:
            return np.array([weights.sum(dtype=np.float64)])
        return np.bincount(self.codes, weights=weights, minlength=self.count).astype(np.float64, copy=False)


def present(values: Any, groups: Groups) -> tuple[Any, Groups]:
    """The values that are not null, and their groups."""
    if values.null_count == 0:
        return values, groups
    valid = mask_of(pc.is_valid(values))
    return values.filter(array_of(valid)), groups.where(valid)


def _null_rows(values: Any) -> npt.NDArray[np.int64]:
    """Which rows are null."""
    return np.flatnonzero(mask_of(pc.is_null(values))) if values.null_count else np.zeros(0, np.int64)


def _zeroed(numbers: Any, rows: npt.NDArray[np.int64]) -> Any:
    """The numbers with zero in these rows, so that sums need not leave them out: that is much faster."""
    if len(rows):
        numbers = numbers.copy()
        numbers[rows] = 0
    return numbers


class Parts(Protocol):
    """An aggregate in parts: each slice of rows gives columns with an item a group, and columns of many slices are put together.

    What comes out does not depend on how the rows are sliced.
    """

    def part(self, run: Run, values: Any, groups: Groups) -> list[Any]:
        """The columns of one slice; `values` are None for `*`."""

    def merge(self, run: Run, columns: Sequence[Any], groups: Groups) -> list[Any]:
        """Columns of several slices, one after the other, put together: `groups` says where each item goes."""

    def finish(self, run: Run, columns: Sequence[Any]) -> Any:
        """The values of the aggregate, one a group."""


def whole(parts: Parts) -> Callable[..., Any]:
    """The aggregate over all rows at once: its only slice, finished."""

    def run_whole(run: Run, values: Any, groups: Groups) -> Any:
        return parts.finish(run, parts.part(run, values, groups))

    return run_whole


def _added(whole: npt.NDArray[np.int64], groups: Groups) -> npt.NDArray[np.int64]:
    """Sums of whole numbers that are known to fit."""
    made = np.zeros(groups.count, np.int64)
    np.add.at(made, groups.codes, whole)
    return made


class _Count:
    def part(self, run: Run, values: Any, groups: Groups) -> list[Any]:
        return [groups.sizes if values is None else groups.sizes_without(_null_rows(values))]

    def merge(self, run: Run, columns: Sequence[Any], groups: Groups) -> list[Any]:
        return [_added(columns[0], groups)]

    def finish(self, run: Run, columns: Sequence[Any]) -> Any:
        return array_of(columns[0])


count = function(
    "COUNT(x any) -> integer",
    topic="aggregate",
    sentence="How many values are not null; COUNT(*) counts the rows, COUNT(DISTINCT x) the different values.",
    nulls="Nulls are not counted; 0 over no rows.",
    examples=[("COUNT(*)", "6"), ("COUNT(Cost)", "4"), ("COUNT(DISTINCT Mill)", "2")],
    aggregate=True,
    parts=_Count(),
)(whole(_Count()))


# -- totals ---------------------------------------------------------------------------------------------------


def _exact_sums(whole: npt.NDArray[np.int64], groups: Groups) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Sums of 64-bit whole numbers as (low, high), low + high * 2**32, exact whatever the numbers."""
    peak = max(abs(int(whole.max(initial=0))), abs(int(whole.min(initial=0))))
    if peak * len(whole) < 2**53:  # every partial sum is exact in a float
        sums = groups.sums(whole).astype(np.int64)
        return sums & _LOW, sums >> 32
    pieces = (whole & 0xFFFFFF, (whole >> 24) & 0xFFFFFF, whole >> 48)
    low, middle, high = (groups.sums(piece).astype(np.int64) for piece in pieces)
    return low + ((middle & 0xFF) << 24), (middle >> 8) + (high << 16)


def _halves(sums: npt.NDArray[np.int64], more: npt.NDArray[np.int64]) -> list[npt.NDArray[np.int64]]:
    """Low and high put in order again: the low one has 32 bits."""
    return [sums & _LOW, more + (sums >> 32)]


class _WholeTotal:
    """Sums of integers, or of decimals by their unscaled whole numbers: four columns of 32 bits each, and how many values."""

    def part(self, run: Run, values: Any, groups: Groups) -> list[Any]:
        wide = [np.zeros(groups.count, np.int64)] * 2
        numbers = (
            decimal_pairs(values) if pa.types.is_decimal(values.type) else held(values).astype(np.int64, copy=False)
        )
        quick = sums_of_wholes(values, numbers, groups.codes, groups.count)
        if quick is not None:
            return [*_halves(*quick[:2]), *wide, quick[2]]
        nulls = _null_rows(values)
        counts = groups.sizes_without(nulls)
        if pa.types.is_decimal(values.type):
            low = unscaled(values)
            if low is None:
                pairs = _zeroed(decimal_pairs(values), nulls)
                unsigned, wide = pairs[:, 0].view(np.uint64), list(_exact_sums(pairs[:, 1], groups))
                halves = [(unsigned & np.uint64(_LOW)).astype(np.int64), (unsigned >> np.uint64(32)).astype(np.int64)]
                first, second = (_exact_sums(half, groups) for half in halves)
                return [first[0], first[1] + second[0], wide[0] + second[1], wide[1], counts]
        else:
            low = numbers
        low = _zeroed(low, nulls)
        return [*_exact_sums(low, groups), *wide, counts]

    def merge(self, run: Run, columns: Sequence[Any], groups: Groups) -> list[Any]:
        low, high, wide_low, wide_high, counts = (_added(column, groups) for column in columns)
        return [*_halves(low, high), *_halves(wide_low, wide_high), counts]

    def totals(self, columns: Sequence[Any]) -> npt.NDArray[np.int64] | list[int]:
        """The sums: in 64 bits where all fit, else Python's whole numbers."""
        low, high, wide_low, wide_high, _ = columns
        if (np.abs(high) < 2**30).all() and not wide_low.any() and not wide_high.any():
            return np.asarray((high << 32) + low)
        parts = zip(*(column.tolist() for column in columns[:4]), strict=True)
        return [a + (b << 32) + ((c + (d << 32)) << 64) for a, b, c, d in parts]

    def finish(self, run: Run, columns: Sequence[Any]) -> Any:
        totals, empty = self.totals(columns), columns[4] == 0
        scale = run.result.scale
        if not isinstance(totals, list):
            decimals = run.result.kind == "decimal"
            return decimal_from_unscaled(totals, scale, empty) if decimals else array_of(totals, mask=empty)
        if run.result.kind == "decimal":
            exact = [Decimal(one).scaleb(-scale, _WIDE) for one in totals]
            return _settled(run, exact, empty, lambda one: settle_decimal(one, scale))
        return _settled(run, totals, empty, settle_integer)


def _settled(run: Run, values: Sequence[Any], empty: Mask, settle: Callable[[Any], Any]) -> Any:
    """Values that may be too large for their type: a fault for each that is."""
    made: list[Any] = []
    wrong = np.zeros(len(values), np.bool_)
    what = ""
    for at, value in enumerate(values):
        try:
            made.append(None if empty[at] else settle(value))
        except Unfit as unfit:
            made.append(None)
            wrong[at], what = True, str(unfit)
    if wrong.any():
        run.record(what, wrong)
    return pa.array(made, arrow_type(run.result))


def _split_sums(
    numbers: npt.NDArray[np.float64], groups: Groups
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Sums of floats as (sum, rest): each number is cut in two so that the sums of the upper parts are exact.

    The cut follows S. M. Rump, T. Ogita, S. Oishi, Accurate floating-point summation, 2008.
    """
    peak = _peak(numbers)
    if not peak:
        return np.zeros(groups.count), np.zeros(groups.count)
    cut = math.ldexp(1.5, math.frexp(peak)[1] + _above(len(numbers)))
    with np.errstate(invalid="ignore"):  # rows that a filter rejects may hold anything, and are of a group of their own
        upper = numbers + cut
        upper -= cut
        sums = groups.sums(upper)
        return sums, groups.sums(np.subtract(numbers, upper, out=upper))


def _peak(numbers: npt.NDArray[np.float64]) -> float:
    """The largest, whatever its sign."""
    return max(float(numbers.max(initial=0.0)), -float(numbers.min(initial=0.0)))


def _above(rows: int) -> int:
    """How many binary places above the largest number the cut is, so that so many can be added exactly."""
    return max(rows, 2).bit_length() + 1


class _NumberTotal:
    """Sums of floats to about 70 binary digits of the largest value, so that the nearest float comes out: a sum, the rest that it lacks, and how many values.

    Numbers that are huge are added up apart, as a sum and a rest, made small: so nothing overflows on the way to a sum that fits.
    """

    def part(self, run: Run, values: Any, groups: Groups) -> list[Any]:
        numbers, none = as_numbers(values), np.zeros(groups.count)
        quick = sums_of_floats(values, numbers, groups.codes, groups.count, _above(len(numbers)))
        if quick is not None:
            return [*quick, none, none]
        nulls = _null_rows(values)
        numbers, counts = _zeroed(numbers, nulls), groups.sizes_without(nulls)
        if _peak(numbers) < _HUGE:
            return [*_split_sums(numbers, groups), counts, none, none]
        huge = np.abs(numbers) >= _HUGE
        apart = _split_sums(np.where(huge, numbers * _SMALL, 0.0), groups)
        return [*_split_sums(np.where(huge, 0.0, numbers), groups), counts, *apart]

    def merge(self, run: Run, columns: Sequence[Any], groups: Groups) -> list[Any]:
        (sums, rest), (huge, apart) = _split_sums(columns[0], groups), _split_sums(columns[3], groups)
        rest, apart = rest + groups.sums(columns[1]), apart + groups.sums(columns[4])
        return [sums, rest, _added(columns[2], groups), huge, apart]

    def over(self, columns: Sequence[Any], divisors: Any) -> Any:
        """The sums, divided; infinite where that does not fit."""
        huge = columns[3] + columns[4]
        made = (columns[0] + columns[1]) / divisors
        if not huge.any():
            return made
        with np.errstate(over="ignore"):
            return np.where(huge == 0, made, (huge + (columns[0] + columns[1]) * _SMALL) / divisors / _SMALL)

    def finish(self, run: Run, columns: Sequence[Any]) -> Any:
        sums = self.over(columns, 1)
        lost = ~np.isfinite(sums)
        return run.fault("number overflow", lost, array_of(np.where(lost, 0.0, sums), mask=columns[2] == 0))


class _Total:
    """Whole or float, by the type."""

    def of(self, run: Run) -> _WholeTotal | _NumberTotal:
        return _NumberTotal() if run.types[0].kind == "number" else _WholeTotal()

    def part(self, run: Run, values: Any, groups: Groups) -> list[Any]:
        return self.of(run).part(run, values, groups)

    def merge(self, run: Run, columns: Sequence[Any], groups: Groups) -> list[Any]:
        return self.of(run).merge(run, columns, groups)

    def finish(self, run: Run, columns: Sequence[Any]) -> Any:
        return self.of(run).finish(run, columns)


total = function(
    "SUM(x numeric) -> same",
    topic="aggregate",
    sentence="The total.",
    nulls="Nulls are left out; null over no values.",
    examples=[("SUM(Volume)", "76.5"), ("SUM(Cost) FILTER (WHERE Mill = 'Low Weir')", "30")],
    aggregate=True,
    can_fault=True,
    parts=_Total(),
)(whole(_Total()))


def as_numbers(values: Any) -> npt.NDArray[np.float64]:
    """Numeric values without nulls, as floats."""
    if pa.types.is_decimal(values.type):
        values = decimal_to_number(values)
    return np.asarray(held(values), dtype=np.float64)


class _Mean(_Total):
    """The total over how many there are, divided once."""

    def finish(self, run: Run, columns: Sequence[Any]) -> Any:
        kind = run.types[0]
        counts = columns[2 if kind.kind == "number" else -1]
        divisors = np.maximum(counts, 1)
        if kind.kind == "number":
            means = _NumberTotal().over(columns, divisors)
            lost = ~np.isfinite(means)
            return run.fault("number overflow", lost, array_of(np.where(lost, 0.0, means), mask=counts == 0))
        totals, unit = _WholeTotal().totals(columns), 10**kind.scale
        if (
            not isinstance(totals, list)
            and (np.abs(totals) < 2**53).all()
            and int(divisors.max(initial=1)) * unit < 2**53
        ):
            return array_of(totals.astype(np.float64) / (divisors * unit).astype(np.float64), mask=counts == 0)
        exact = [int(one) / (int(divisor) * unit) for one, divisor in zip(totals, divisors, strict=True)]
        return array_of(np.asarray(exact, np.float64), mask=counts == 0)


average = function(
    "AVG(x numeric) -> number",
    topic="aggregate",
    sentence="The mean of the values, each row counting the same.",
    nulls="Nulls are left out, also from the count; null over no values.",
    examples=[("AVG(Volume)", "12.75"), ("AVG(Cost)", "17.5")],
    aggregate=True,
    can_fault=True,
    parts=_Mean(),
)(whole(_Mean()))


# -- one of the values ----------------------------------------------------------------------------------------


class _OneOf:
    """An aggregate that gives one of the values: a slice's choice is chosen from again."""

    def choose(self, values: Any, groups: Groups) -> Any:
        """The value of each group; `values` have no nulls."""
        raise NotImplementedError

    def part(self, run: Run, values: Any, groups: Groups) -> list[Any]:
        return [self.choose(*present(values, groups))]

    def merge(self, run: Run, columns: Sequence[Any], groups: Groups) -> list[Any]:
        return self.part(run, columns[0], groups)

    def finish(self, run: Run, columns: Sequence[Any]) -> Any:
        return decoded(columns[0])


def ranked(values: Any) -> tuple[Any, Callable[[Any, Mask], Any]]:
    """Numbers in the order of the values, and how the values come back from them."""
    kind = values.type
    if pa.types.is_floating(kind) or pa.types.is_integer(kind):
        return held(values), lambda ends, empty: array_of(ends + ends.dtype.type(0), mask=empty)  # -0.0 becomes 0.0
    if pa.types.is_temporal(kind):
        bits = pa.int32() if pa.types.is_date32(kind) else pa.int64()
        numbers = held(values.cast(bits))
        return numbers, lambda ends, empty: array_of(np.where(empty, 0, ends).astype(numbers.dtype), mask=empty).cast(
            kind
        )
    low = unscaled(values) if pa.types.is_decimal(kind) else None
    if low is not None:
        return low, lambda ends, empty: decimal_from_unscaled(np.where(empty, 0, ends), kind.scale, empty)
    encoded = values if pa.types.is_dictionary(kind) else values.dictionary_encode()
    order = held(pc.sort_indices(encoded.dictionary))
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    taken = encoded.dictionary

    def back(ends: Any, empty: Mask) -> Any:
        index = np.where(empty, 0, ends)
        return taken.take(array_of(order[index] if len(order) else index, mask=empty))

    return place[held(encoded.indices)], back


class _Extreme(_OneOf):
    def __init__(self, *, largest: bool) -> None:
        self.largest = largest

    def part(self, run: Run, values: Any, groups: Groups) -> list[Any]:
        quick = self._quick(values, groups)
        return super().part(run, values, groups) if quick is None else [quick]

    def _quick(self, values: Any, groups: Groups) -> Any | None:
        """By a compiled loop, which leaves out nulls itself."""
        if pa.types.is_string(values.type):
            rows = best_text(values, groups.codes, groups.count, largest=self.largest)
            return None if rows is None else values.take(array_of(rows, mask=rows < 0))
        kind = values.type
        plain = pa.types.is_floating(kind) or pa.types.is_integer(kind) or pa.types.is_temporal(kind)
        if not plain and not (pa.types.is_decimal(kind) and unscaled(values) is not None):
            return None
        numbers, back = ranked(values)
        found = best(
            values,
            numbers.astype(np.int64) if numbers.dtype == np.int32 else numbers,
            groups.codes,
            groups.count,
            largest=self.largest,
        )
        return None if found is None else back(found[0], found[1] == 0)

    def choose(self, values: Any, groups: Groups) -> Any:
        if pa.types.is_string(values.type):
            return self._text(values, groups)
        ranks, back = ranked(values)
        ends = np.full(
            groups.count, _FIRST if self.largest else _LAST, ranks.dtype if ranks.dtype.kind == "f" else np.int64
        )
        if ranks.dtype.kind == "f":
            ends[:] = -np.inf if self.largest else np.inf
        better = np.maximum if self.largest else np.minimum
        if groups.count == 1:
            if len(ranks):
                ends[0] = better.reduce(ranks)
        else:
            better.at(ends, groups.codes, ranks)
        return back(ends, groups.sizes == 0)

    def _text(self, texts: Any, groups: Groups) -> Any:
        rows = pa.Table.from_arrays([array_of(groups.codes), texts], names=["group", "text"])
        what = "max" if self.largest else "min"
        found = pa.TableGroupBy(rows, ["group"], use_threads=False).aggregate([("text", what)])
        at = np.full(groups.count, -1, np.int64)
        at[held(found["group"])] = np.arange(found.num_rows)
        return found[f"text_{what}"].combine_chunks().take(array_of(at, mask=at < 0))


least = function(
    "MIN(x any) -> same",
    topic="aggregate",
    sentence="The smallest value; of text, the first by code point.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MIN(Volume)", "4.5"), ("MIN(Mill)", "High Ford")],
    aggregate=True,
    parts=_Extreme(largest=False),
)(whole(_Extreme(largest=False)))

largest = function(
    "MAX(x any) -> same",
    topic="aggregate",
    sentence="The largest value; of text, the last by code point.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MAX(Volume)", "24.0"), ("MAX(Day)", "2026-03-05")],
    aggregate=True,
    parts=_Extreme(largest=True),
)(whole(_Extreme(largest=True)))


class _First(_OneOf):
    in_order = True  # slices must come in their order

    def choose(self, values: Any, groups: Groups) -> Any:
        first = np.full(groups.count, -1, np.int64)
        first[groups.codes[::-1]] = np.arange(len(groups.codes) - 1, -1, -1)
        return decoded(values).take(array_of(first, mask=first < 0))


any_value = function(
    "ANY_VALUE(x any) -> same",
    topic="aggregate",
    sentence="One of the values, for what is the same in all rows of a group; the first one, in fact.",
    nulls="Nulls are left out; null over no values.",
    examples=[("ANY_VALUE(Mill)", "Low Weir"), ("ANY_VALUE(Cost)", "10")],
    aggregate=True,
    parts=_First(),
)(whole(_First()))


class _Logic(_OneOf):
    def __init__(self, *, every: bool) -> None:
        self.every = every

    def choose(self, values: Any, groups: Groups) -> Any:
        wanted = mask_of(values) != self.every  # rows that decide: a false one for all, a true one for any
        decided = np.bincount(groups.codes, weights=wanted, minlength=groups.count) > 0
        return array_of(decided != self.every, mask=groups.sizes == 0)


bool_and = function(
    "BOOL_AND(x boolean) -> boolean",
    topic="aggregate",
    sentence="Whether all values are true.",
    nulls="Nulls are left out; null over no values.",
    examples=[("BOOL_AND(Volume > 0)", "true"), ("BOOL_AND(Cost > 10)", "false")],
    aggregate=True,
    parts=_Logic(every=True),
)(whole(_Logic(every=True)))

bool_or = function(
    "BOOL_OR(x boolean) -> boolean",
    topic="aggregate",
    sentence="Whether any value is true.",
    nulls="Nulls are left out; null over no values.",
    examples=[("BOOL_OR(Volume > 20)", "true"), ("BOOL_OR(Cost > 100)", "false")],
    aggregate=True,
    parts=_Logic(every=False),
)(whole(_Logic(every=False)))
