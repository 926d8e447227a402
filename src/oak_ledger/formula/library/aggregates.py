"""Aggregates: one value from the rows of each group.

An implementation gets the values of all rows that count and, beside them, the group of each; filters and
`DISTINCT` have been applied before. Nulls are left out by each.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal, localcontext
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula.library.operators import settle_decimal, settle_integer
from oak_ledger.formula.library.registry import Run, Unfit, function
from oak_ledger.formula.values import (
    arrow_type,
    decimal_from_unscaled,
    decimal_to_number,
    dense_ranks,
    mask_of,
    unscaled,
)

_SAFE = 2**62


@dataclass(frozen=True, slots=True)
class Groups:
    """The group of each row, from 0, and how many groups there are."""

    codes: npt.NDArray[np.int64]
    count: int

    def where(self, mask: npt.NDArray[np.bool_]) -> Groups:
        """Only the rows where the mask holds."""
        return Groups(self.codes[mask], self.count)


def _present(values: Any, groups: Groups) -> tuple[Any, Groups]:
    if values.null_count == 0:
        return values, groups
    valid = mask_of(pc.is_valid(values))
    return values.filter(pa.array(valid)), groups.where(valid)


def _counts(groups: Groups) -> npt.NDArray[np.int64]:
    return np.bincount(groups.codes, minlength=groups.count).astype(np.int64)


@function(
    "COUNT(x any) -> integer",
    topic="aggregate",
    sentence="How many values are not null; COUNT(*) counts the rows, COUNT(DISTINCT x) the different values.",
    nulls="Nulls are not counted; 0 over no rows.",
    examples=[("COUNT(*)", "6"), ("COUNT(Cost)", "4"), ("COUNT(DISTINCT Mill)", "2")],
    aggregate=True,
)
def count(run: Run, values: Any, groups: Groups) -> Any:
    """The number of values."""
    if values is not None:
        _, groups = _present(values, groups)
    return pa.array(_counts(groups))


def _whole_sums(whole: npt.NDArray[np.int64], groups: Groups) -> npt.NDArray[np.int64] | None:
    """Sums of whole numbers by group, exact; None where 64 bits may not hold them."""
    if len(whole) == 0:
        return np.zeros(groups.count, np.int64)
    peak = max(abs(int(whole.max())), abs(int(whole.min())))
    if peak * len(whole) >= _SAFE:
        return None
    if peak * len(whole) < 2**53:  # every partial sum is exact in a float
        return np.bincount(groups.codes, weights=whole, minlength=groups.count).astype(np.int64)
    low = np.bincount(groups.codes, weights=whole & 0xFFFFFF, minlength=groups.count).astype(np.int64)
    high = np.bincount(groups.codes, weights=whole >> 24, minlength=groups.count).astype(np.int64)
    return low + (high << 24)


def _by_group(run: Run, values: Any, groups: Groups, compute: Callable[[list[Any]], Any]) -> Any:
    """One Python call a group, over its values: the plain meaning."""
    lists: list[list[Any]] = [[] for _ in range(groups.count)]
    for code, value in zip(groups.codes.tolist(), values.to_pylist(), strict=True):
        lists[code].append(value)
    made: list[Any] = []
    wrong = np.zeros(groups.count, np.bool_)
    what = ""
    for index, items in enumerate(lists):
        try:
            made.append(compute(items) if items else None)
        except Unfit as unfit:
            made.append(None)
            wrong[index], what = True, str(unfit)
    if wrong.any():
        run.record(what, wrong)
    return pa.array(made, arrow_type(run.result))


@function(
    "SUM(x numeric) -> same",
    topic="aggregate",
    sentence="The total.",
    nulls="Nulls are left out; null over no values.",
    examples=[("SUM(Volume)", "76.5"), ("SUM(Cost) FILTER (WHERE Mill = 'Low Weir')", "30")],
    aggregate=True,
    can_fault=True,
)
def total(run: Run, values: Any, groups: Groups) -> Any:
    """Totals by group: exact for integers and decimals."""
    values, groups = _present(values, groups)
    empty = _counts(groups) == 0
    if run.result.kind == "number":
        numbers = values.to_numpy(zero_copy_only=False)
        sums = np.bincount(groups.codes, weights=numbers, minlength=groups.count).astype(np.float64)
        return run.fault("number overflow", np.isinf(sums), pa.array(sums, mask=empty))
    whole = unscaled(values) if run.result.kind == "decimal" else values.to_numpy(zero_copy_only=False)
    whole_sums = None if whole is None else _whole_sums(whole, groups)
    if whole_sums is not None:
        if run.result.kind == "decimal":
            return decimal_from_unscaled(whole_sums, run.result.scale, empty)
        return pa.array(whole_sums, mask=empty)
    if run.result.kind == "decimal":
        return _by_group(run, values, groups, lambda items: settle_decimal(_exact_sum(items), run.result.scale))
    return _by_group(run, values, groups, lambda items: settle_integer(sum(items)))


def _exact_sum(items: Sequence[Decimal]) -> Decimal:
    with localcontext() as context:
        context.prec = 100
        return sum(items, Decimal(0))


def as_numbers(values: Any) -> npt.NDArray[np.float64]:
    """Numeric values without nulls, as floats."""
    if pa.types.is_decimal(values.type):
        values = decimal_to_number(values)
    return np.asarray(values.to_numpy(zero_copy_only=False), dtype=np.float64)


@function(
    "AVG(x numeric) -> number",
    topic="aggregate",
    sentence="The mean of the values, each row counting the same.",
    nulls="Nulls are left out, also from the count; null over no values.",
    examples=[("AVG(Volume)", "12.75"), ("AVG(Cost)", "17.5")],
    aggregate=True,
)
def average(run: Run, values: Any, groups: Groups) -> Any:
    """Means by group."""
    values, groups = _present(values, groups)
    counts = _counts(groups)
    numbers = as_numbers(values)
    sums = np.bincount(groups.codes, weights=numbers, minlength=groups.count)
    with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
        means = sums / counts
    if not np.isfinite(means[counts > 0]).all():
        return _by_group(run, pa.array(numbers), groups, lambda items: math.fsum(x / len(items) for x in items))
    return pa.array(means, mask=counts == 0)


def _extreme(largest: bool) -> Callable[..., Any]:
    def run_extreme(run: Run, values: Any, groups: Groups) -> Any:
        values, groups = _present(values, groups)
        order = pc.sort_indices(values, sort_keys=[("", "descending" if largest else "ascending")])
        index = order.to_numpy(zero_copy_only=False)
        codes = groups.codes[index]
        first = np.full(groups.count, -1, np.int64)
        first[codes[::-1]] = index[::-1]  # the last write of a group is its first in order
        return values.take(pa.array(first, mask=first < 0))

    return run_extreme


least = function(
    "MIN(x any) -> same",
    topic="aggregate",
    sentence="The smallest value; of text, the first by code point.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MIN(Volume)", "4.5"), ("MIN(Mill)", "High Ford")],
    aggregate=True,
)(_extreme(largest=False))

largest = function(
    "MAX(x any) -> same",
    topic="aggregate",
    sentence="The largest value; of text, the last by code point.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MAX(Volume)", "24.0"), ("MAX(Day)", "2026-03-05")],
    aggregate=True,
)(_extreme(largest=True))


@function(
    "MEDIAN(x numeric) -> number",
    topic="aggregate",
    sentence="The middle value; of an even number of values, the mean of the two in the middle.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MEDIAN(Volume)", "12"), ("MEDIAN(Cost)", "15")],
    aggregate=True,
)
def median(run: Run, values: Any, groups: Groups) -> Any:
    """Medians by group."""
    values, groups = _present(values, groups)
    numbers = as_numbers(values)
    order = np.lexsort((numbers, groups.codes))
    counts = _counts(groups)
    starts = np.cumsum(counts) - counts
    filled = counts > 0
    low = order[(starts + (counts - 1) // 2)[filled]]
    high = order[(starts + counts // 2)[filled]]
    made = np.zeros(groups.count)
    made[filled] = numbers[low] + (numbers[high] - numbers[low]) / 2
    return pa.array(made, mask=~filled)


def _spread(sample: bool, root: bool) -> Callable[..., Any]:
    def run_spread(run: Run, values: Any, groups: Groups) -> Any:
        values, groups = _present(values, groups)
        counts = _counts(groups)
        numbers = as_numbers(values)
        least = 2 if sample else 1
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            means = np.bincount(groups.codes, weights=numbers, minlength=groups.count) / counts
            away = numbers - means[groups.codes]
            squares = np.bincount(groups.codes, weights=away * away, minlength=groups.count)
            made = squares / (counts - (1 if sample else 0))
            made = np.sqrt(made) if root else made
        empty = counts < least
        return run.fault(
            "number overflow", ~np.isfinite(made) & ~empty, pa.array(np.where(empty, 0.0, made), mask=empty)
        )

    return run_spread


_SPREADS = (
    ("STDDEV_SAMP", True, True, "The standard deviation of a sample.", "null over fewer than two values", "9.5743"),
    ("STDDEV_POP", False, True, "The standard deviation of a whole population.", "null over no values", "8.2916"),
    ("VAR_SAMP", True, False, "The variance of a sample.", "null over fewer than two values", "91.6667"),
    ("VAR_POP", False, False, "The variance of a whole population.", "null over no values", "68.75"),
)
for _name, _sample, _root, _sentence, _over, _shown in _SPREADS:
    function(
        f"{_name}(x numeric) -> number",
        topic="aggregate",
        sentence=_sentence,
        nulls=f"Nulls are left out; {_over}.",
        examples=[(f"ROUND({_name}(Cost), 4)", _shown), (f"{_name}(Cost) FILTER (WHERE Cost > 100)", "null")],
        aggregate=True,
        can_fault=True,
    )(_spread(_sample, _root))


@function(
    "ANY_VALUE(x any) -> same",
    topic="aggregate",
    sentence="One of the values, for what is the same in all rows of a group; the first one, in fact.",
    nulls="Nulls are left out; null over no values.",
    examples=[("ANY_VALUE(Mill)", "Low Weir"), ("ANY_VALUE(Cost)", "10")],
    aggregate=True,
)
def any_value(run: Run, values: Any, groups: Groups) -> Any:
    """The first value of each group."""
    values, groups = _present(values, groups)
    first = np.full(groups.count, -1, np.int64)
    first[groups.codes[::-1]] = np.arange(len(groups.codes) - 1, -1, -1)
    return values.take(pa.array(first, mask=first < 0))


def _all_or_any(every: bool) -> Callable[..., Any]:
    def run_logic(run: Run, values: Any, groups: Groups) -> Any:
        values, groups = _present(values, groups)
        wanted = mask_of(values) != every  # rows that decide: a false one for all, a true one for any
        decided = np.bincount(groups.codes, weights=wanted, minlength=groups.count) > 0
        return pa.array(decided != every, mask=_counts(groups) == 0)

    return run_logic


bool_and = function(
    "BOOL_AND(x boolean) -> boolean",
    topic="aggregate",
    sentence="Whether all values are true.",
    nulls="Nulls are left out; null over no values.",
    examples=[("BOOL_AND(Volume > 0)", "true"), ("BOOL_AND(Cost > 10)", "false")],
    aggregate=True,
)(_all_or_any(every=True))

bool_or = function(
    "BOOL_OR(x boolean) -> boolean",
    topic="aggregate",
    sentence="Whether any value is true.",
    nulls="Nulls are left out; null over no values.",
    examples=[("BOOL_OR(Volume > 20)", "true"), ("BOOL_OR(Cost > 100)", "false")],
    aggregate=True,
)(_all_or_any(every=False))


def _percentile(exact: bool) -> Callable[..., Any]:
    def run_percentile(run: Run, shares: Any, groups: Groups, order: Sequence[tuple[Any, bool, bool]]) -> Any:
        key, descending, nulls_first = order[0]
        values, groups = _present(key, groups)
        at = np.lexsort((dense_ranks(values, descending=descending, nulls_first=nulls_first), groups.codes))
        counts = _counts(groups)
        starts = np.cumsum(counts) - counts
        filled = counts > 0
        share = float(run.constants[0])
        if exact:
            wanted = starts + np.maximum(np.ceil(share * counts - 1e-12).astype(np.int64) - 1, 0)
            index = np.full(groups.count, -1, np.int64)
            index[filled] = at[wanted[filled]]
            return values.take(pa.array(index, mask=~filled))
        numbers = as_numbers(values)
        place = share * np.maximum(counts - 1, 0)
        low = np.floor(place).astype(np.int64)
        high = np.ceil(place).astype(np.int64)
        made = np.zeros(groups.count)
        below, above = numbers[at[(starts + low)[filled]]], numbers[at[(starts + high)[filled]]]
        made[filled] = below + (above - below) * (place - low)[filled]
        return pa.array(made, mask=~filled)

    return run_percentile


percentile_cont = function(
    "PERCENTILE_CONT(share number) -> number",
    topic="aggregate",
    sentence="The value below which the given share of the values lies, between two values where it falls between.",
    nulls="Nulls are left out; null over no values.",
    examples=[
        ("PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY Cost)", "15"),
        ("PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER BY Volume)", "18.25"),
    ],
    aggregate=True,
    ordered=True,
    usage="PERCENTILE_CONT(share) WITHIN GROUP (ORDER BY x)",
)(_percentile(exact=False))

percentile_disc = function(
    "PERCENTILE_DISC(share number) -> number",
    topic="aggregate",
    sentence="The first of the ordered values at or beyond the given share of them: always one of the values.",
    nulls="Nulls are left out; null over no values.",
    examples=[
        ("PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY Cost)", "10"),
        ("PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY Mill)", "High Ford"),
    ],
    aggregate=True,
    ordered=True,
    usage="PERCENTILE_DISC(share) WITHIN GROUP (ORDER BY x)",
)(_percentile(exact=True))


@function(
    "LISTAGG(x text, separator text) -> text",
    topic="aggregate",
    sentence="All texts of a group, one after the other, with the separator between them, in the order given.",
    nulls="Nulls are left out; null over no values.",
    examples=[
        ("LISTAGG(Mill, ', ') WITHIN GROUP (ORDER BY Day) FILTER (WHERE Volume > 12)", "High Ford, High Ford"),
        ("LISTAGG(CAST(Cost AS TEXT), '+') WITHIN GROUP (ORDER BY Cost DESC)", "30+20+10+10"),
    ],
    aggregate=True,
    ordered=True,
    constant_args=(1,),
    usage="LISTAGG(x, separator) WITHIN GROUP (ORDER BY y)",
)
def listagg(run: Run, values: Any, separators: Any, groups: Groups, order: Sequence[tuple[Any, bool, bool]]) -> Any:
    """Texts in order, joined."""
    at = np.arange(len(values))
    for key, descending, nulls_first in reversed(order):
        ranks = dense_ranks(key, descending=descending, nulls_first=nulls_first)
        at = at[np.argsort(ranks[at], kind="stable")]
    lists: list[list[str]] = [[] for _ in range(groups.count)]
    texts = values.to_pylist()
    for row in at.tolist():
        if texts[row] is not None:
            lists[groups.codes[row]].append(texts[row])
    separator = run.constants[1]
    return pa.array([None if not parts or separator is None else separator.join(parts) for parts in lists], pa.string())
