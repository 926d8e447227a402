"""Aggregates that look at all values of a group together: medians and percentiles, spreads, texts one after the other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask
from oak_ledger.columnar.ordering import dense_ranks
from oak_ledger.functions.accumulators import Groups, as_floats, present
from oak_ledger.functions.aggregates import total
from oak_ledger.functions.order_statistics import GroupedValues
from oak_ledger.functions.registry import CallContext, function
from oak_ledger.functions.selections import ordered_numbers


@function(
    "MEDIAN(x numeric) -> number",
    topic="aggregate",
    sentence="The median; of an even number of values, the average of the two nearest to it.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MEDIAN(Volume)", "12"), ("MEDIAN(Cost)", "15")],
    aggregate=True,
)
def median(run: CallContext, values: Any, groups: Groups) -> Any:
    """Medians by group."""
    sorted_values = GroupedValues(values, _numbers(values), groups)
    last = np.maximum(sorted_values.counts - 1, 0)
    below, above = sorted_values.at(last // 2), sorted_values.at((last + 1) // 2)
    return from_numpy(between(below, above, 0.5), mask=sorted_values.counts == 0)


def _numbers(values: Any) -> Any:
    """Whole numbers as they are, others as floats."""
    return numpy_view(values) if pa.types.is_integer(values.type) else as_floats(values)


def between(below: Any, above: Any, share: Any) -> Any:
    """What lies between two numbers, so far from the one to the other; also where they are too far apart to be subtracted."""
    below, above = below.astype(np.float64), above.astype(np.float64)
    with np.errstate(over="ignore"):
        gap = above - below
    return np.where(
        np.isfinite(gap), below + np.where(np.isfinite(gap), gap, 0.0) * share, below * (1 - share) + above * share
    )


def _spread(sample: bool, root: bool) -> Callable[..., Any]:
    def run_spread(run: CallContext, values: Any, groups: Groups) -> Any:
        values, groups = present(values, groups)
        counts = groups.sizes
        numbers = as_floats(values)
        least = 2 if sample else 1
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            means = groups.float_sums(numbers) / counts
            away = numbers - means[groups.codes]
            squares = groups.float_sums(away * away)
            array = squares / (counts - (1 if sample else 0))
            array = np.sqrt(array) if root else array
        empty = counts < least
        return run.fault(
            "number overflow", ~np.isfinite(array) & ~empty, from_numpy(np.where(empty, 0.0, array), mask=empty)
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


def _both(values: Any, by: Any, groups: Groups) -> tuple[Any, Any, Groups]:
    """The rows in which there are both values."""
    if not values.null_count and not by.null_count:
        return values, by, groups
    there = to_mask(pc.and_(pc.is_valid(values), pc.is_valid(by)))
    kept = from_numpy(there)
    return values.filter(kept), by.filter(kept), groups.where(there)


def _one_by(last: bool) -> Callable[..., Any]:
    def run_one_by(run: CallContext, values: Any, by: Any, groups: Groups) -> Any:
        values, by, groups = _both(values, by, groups)
        ranks = dense_ranks(by)
        order = np.lexsort((dense_ranks(values), -ranks if last else ranks, groups.codes))
        codes = groups.codes[order]
        begins = np.flatnonzero(np.diff(codes, prepend=-1))
        places = np.full(groups.count, -1)
        places[codes[begins]] = order[begins]
        return values.take(pa.array(places, mask=places < 0))

    return run_one_by


def _sum_at(last: bool) -> Callable[..., Any]:
    def run_sum_at(run: CallContext, values: Any, by: Any, groups: Groups) -> Any:
        values, by, groups = _both(values, by, groups)
        ranks = dense_ranks(by)
        ends = np.full(groups.count, -1 if last else len(ranks), np.int64)
        (np.maximum if last else np.minimum).at(ends, groups.codes, ranks)
        there = ranks == ends[groups.codes]
        return total(run, values.filter(from_numpy(there)), groups.where(there))

    return run_sum_at


for _end, _last, _word in (("MAX", True, "greatest"), ("MIN", False, "least")):
    function(
        f"{_end}_BY(x any, y any) -> same",
        topic="aggregate",
        sentence=f"The value of x in the row with the {_word} y; of several such rows, the least x.",
        nulls="Rows in which either is null are left out; null over no rows.",
        examples=[
            (f"{_end}_BY(Mill, Volume)", "High Ford" if _last else "Low Weir"),
            (f"{_end}_BY(Cost, Day)", "30" if _last else "10"),
        ],
        aggregate=True,
    )(_one_by(_last))
for _end, _last, _word in (("LAST", True, "greatest"), ("FIRST", False, "least")):
    function(
        f"SUM_AT_{_end}(x numeric, y any) -> same",
        topic="aggregate",
        sentence=f"The total of x over the rows with the {_word} y: for a level, such as a stock, over the {_end.lower()} day on which it is known.",
        nulls="Rows in which either is null are left out; null over no rows.",
        examples=[
            (f"SUM_AT_{_end}(Volume, Day)", "24.5" if _last else "4.5"),
            (f"SUM_AT_{_end}(Cost, Mill)", "30" if _last else "40"),
        ],
        aggregate=True,
        can_fault=True,
    )(_sum_at(_last))


@function(
    "MODE(x any) -> same",
    topic="aggregate",
    sentence="The most frequent value; of several, the least.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MODE(Mill)", "High Ford"), ("MODE(Volume)", "12.0")],
    aggregate=True,
)
def mode(run: CallContext, values: Any, groups: Groups) -> Any:
    """The most frequent value by group."""
    values, groups = present(values, groups)
    ranks = dense_ranks(values)
    size = int(ranks.max(initial=0)) + 1
    found, first, times = np.unique(groups.codes * size + ranks, return_index=True, return_counts=True)
    order = np.lexsort((found, -times, found // size))
    codes = found[order] // size
    begins = np.flatnonzero(np.diff(codes, prepend=-1))
    places = np.full(groups.count, -1)
    places[codes[begins]] = first[order[begins]]
    return values.take(pa.array(places, mask=places < 0))


def _percentile(exact: bool) -> Callable[..., Any]:
    def run_percentile(run: CallContext, shares: Any, groups: Groups, order: Sequence[tuple[Any, bool, bool]]) -> Any:
        key, descending, _ = order[0]
        share = float(run.constants[0])
        if exact:
            key, groups = present(key, groups)  # only values that are there have a rank
            numbers, back = ordered_numbers(key)
            sorted_values = GroupedValues(key, numbers, groups)
            last = np.maximum(sorted_values.counts - 1, 0)
            rank = np.ceil(share * sorted_values.counts - 1e-12).astype(np.int64) - 1
            rank = np.minimum(np.maximum(rank, 0), last)
            return back(sorted_values.at(last - rank if descending else rank), sorted_values.counts == 0)
        sorted_values = GroupedValues(key, _numbers(key), groups)
        last = np.maximum(sorted_values.counts - 1, 0)
        place = share * last
        ranks = [end.astype(np.int64) for end in (np.floor(place), np.ceil(place))]
        below, above = (sorted_values.at(last - rank if descending else rank) for rank in ranks)
        return from_numpy(between(below, above, place - np.floor(place)), mask=sorted_values.counts == 0)

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
def listagg(
    run: CallContext, values: Any, separators: Any, groups: Groups, order: Sequence[tuple[Any, bool, bool]]
) -> Any:
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
