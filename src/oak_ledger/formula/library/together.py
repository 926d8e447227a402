"""Aggregates that look at all values of a group together: medians and percentiles, spreads, texts one after the other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.formula.library.aggregates import Groups, as_numbers, present, ranked
from oak_ledger.formula.library.registry import Run, function
from oak_ledger.formula.library.standing import Laid
from oak_ledger.formula.values import array_of, dense_ranks


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
    return median_of([(values, groups.codes)], groups.count)


def median_of(pieces: Sequence[tuple[Any, npt.NDArray[np.int64]]], groups: int) -> Any:
    """The same from several stretches of values, each with the group of each row; none is copied."""
    laid = Laid([(values, as_numbers(values), codes) for values, codes in pieces], groups)
    (below, above), counts = laid.at(lambda counts: (np.maximum(counts - 1, 0) // 2, counts // 2))
    return array_of(between(below, above, 0.5), mask=counts == 0)


def between(below: Any, above: Any, share: Any) -> Any:
    """What lies between two numbers, so far from the one to the other; also where they are too far apart to be subtracted."""
    with np.errstate(over="ignore"):
        gap = above - below
    return np.where(
        np.isfinite(gap), below + np.where(np.isfinite(gap), gap, 0.0) * share, below * (1 - share) + above * share
    )


def _spread(sample: bool, root: bool) -> Callable[..., Any]:
    def run_spread(run: Run, values: Any, groups: Groups) -> Any:
        values, groups = present(values, groups)
        counts = groups.sizes
        numbers = as_numbers(values)
        least = 2 if sample else 1
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            means = groups.sums(numbers) / counts
            away = numbers - means[groups.codes]
            squares = groups.sums(away * away)
            made = squares / (counts - (1 if sample else 0))
            made = np.sqrt(made) if root else made
        empty = counts < least
        return run.fault(
            "number overflow", ~np.isfinite(made) & ~empty, array_of(np.where(empty, 0.0, made), mask=empty)
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


def _percentile(exact: bool) -> Callable[..., Any]:
    def run_percentile(run: Run, shares: Any, groups: Groups, order: Sequence[tuple[Any, bool, bool]]) -> Any:
        key, descending, _ = order[0]
        if exact:  # only values that are there have a rank
            key, groups = present(key, groups)
        numbers, back = ranked(key) if exact else (as_numbers(key), None)
        laid = Laid([(key, numbers, groups.codes)], groups.count)
        share = float(run.constants[0])

        def from_end(place: Any, last: Any) -> Any:
            return last - place if descending else place

        def first_beyond(counts: Any) -> list[Any]:
            last = np.maximum(counts - 1, 0)
            place = np.ceil(share * counts - 1e-12).astype(np.int64) - 1
            return [from_end(np.minimum(np.maximum(place, 0), last), last)]

        def around(counts: Any) -> list[Any]:
            last = np.maximum(counts - 1, 0)
            ends = np.floor(share * last), np.ceil(share * last)
            return [from_end(one.astype(np.int64), last) for one in ends]

        if back is not None:
            (found,), counts = laid.at(first_beyond)
            return back(found, counts == 0)
        (below, above), counts = laid.at(around)
        place = share * np.maximum(counts - 1, 0)
        return array_of(between(below, above, place - np.floor(place)), mask=counts == 0)

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
