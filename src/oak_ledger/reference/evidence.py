"""How far the values of a column now are those of a field before: row by row where rows can be matched, else by distribution."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.functions.accumulators import as_floats

Codes = npt.NDArray[np.int64]
MIN_MATCHED_ROWS = 20  # rows that must be matched before agreement counts
MIN_KEY_OVERLAP = 0.2  # share of the rows now whose key was there before
FEW_VALUES = 12  # distinct values of which chance may make many alike
MIN_MAPPED_ROWS = 3  # rows that a replaced value must have, on average
SURE_AGREED = 0.95  # of the matched rows, for a column to be what the field was: some rows are corrected meanwhile
FACTOR_TOLERANCE = 0.003  # what rounding may do to a common factor


@dataclass(frozen=True, slots=True)
class Values:
    """Values of a column that can be compared: numbers, dates in days, or texts (`kind`); null where `present` is false."""

    kind: str
    items: Any
    present: npt.NDArray[np.bool_]

    @property
    def numeric(self) -> bool:
        """Whether they are numbers or dates."""
        return self.kind != "text"

    @property
    def rows(self) -> int:
        """How many rows."""
        return len(self.present)


def values_of(array: Any) -> Values | None:
    """The values of an Arrow array; None where there is no value at all."""
    array = array.combine_chunks() if isinstance(array, pa.ChunkedArray) else array
    if pa.types.is_dictionary(array.type):
        array = array.cast(array.type.value_type)
    present = ~np.asarray(array.is_null())
    if not present.any():
        return None
    if pa.types.is_string(array.type) or pa.types.is_large_string(array.type) or pa.types.is_boolean(array.type):
        return Values("text", array.cast(pa.string()), present)
    if pa.types.is_date(array.type) or pa.types.is_timestamp(array.type):
        array = array.cast(pa.timestamp("us")).cast(pa.int64())
        return Values("date", np.asarray(array.fill_null(0), np.float64) / 86_400_000_000, present)
    return Values("number", np.asarray(as_floats(array.fill_null(0)), np.float64), present)


@dataclass(frozen=True, slots=True)
class Side:
    """The plain fields of one state of a source: their types and values, in the same rows."""

    types: Mapping[str, str]
    values: Mapping[str, Values]
    nulls: Mapping[str, float]
    rows: int


@dataclass(frozen=True, slots=True)
class Coded:
    """Two columns with one code for each distinct value of either; -1 is null."""

    before: Codes
    now: Codes
    size: int

    def shares(self, *, now: bool) -> npt.NDArray[np.float64]:
        """Which share of the values each code has."""
        codes = self.now if now else self.before
        counts = np.bincount(codes[codes >= 0], minlength=self.size).astype(np.float64)
        shares: npt.NDArray[np.float64] = counts / max(counts.sum(), 1.0)
        return shares


def coded(before: Values, now: Values) -> Coded | None:
    """Both columns in codes; None where they are of different kinds."""
    if before.kind != now.kind:
        return None
    if before.numeric:
        whole = np.round(np.concatenate([before.items, now.items]), 9)
        distinct, codes = np.unique(whole, return_inverse=True)
        size = len(distinct)
    else:
        whole = pc.fill_null(pa.concat_arrays([before.items, now.items]), "")
        encoded = pc.utf8_trim_whitespace(whole).dictionary_encode()
        codes, size = np.asarray(encoded.indices), len(encoded.dictionary)
    present = np.concatenate([before.present, now.present])
    codes = np.where(present, codes, -1).astype(np.int64)
    return Coded(codes[: before.rows], codes[before.rows :], size)


@dataclass(frozen=True, slots=True)
class Matching:
    """Rows before and now that are the same row, by values that are unique on both sides."""

    before: Codes
    now: Codes
    column: str


def matching_by_several(before: Mapping[str, Values], now: Mapping[str, Values]) -> Matching | None:
    """Rows matched by several columns together, where no one is unique: those whose values together occur once on each side."""
    whole = [np.zeros(next(iter(side.values())).rows if side else 0, np.int64) for side in (before, now)]
    used = []
    for name, old in before.items():
        both = coded(old, now[name])
        if both is None:
            continue
        used.append(name)
        size = both.size + 1
        mixed = [array * size + more + 1 for array, more in zip(whole, (both.before, both.now), strict=True)]
        _, inverse = np.unique(np.concatenate(mixed), return_inverse=True)
        whole = [inverse[: len(whole[0])].astype(np.int64), inverse[len(whole[0]) :].astype(np.int64)]
    places = []
    for codes in whole:
        distinct, first, count = np.unique(codes, return_index=True, return_counts=True)
        places.append((distinct[count == 1], first[count == 1]))
    _, left, right = np.intersect1d(places[0][0], places[1][0], assume_unique=True, return_indices=True)
    if len(used) < 2 or len(left) < max(MIN_MATCHED_ROWS, MIN_KEY_OVERLAP * min(map(len, whole))):
        return None
    said = ", ".join(used[:-1]) + f" and {used[-1]}"
    return Matching(places[0][1][left].astype(np.int64), places[1][1][right].astype(np.int64), said)


def matching(before: Mapping[str, Values], now: Mapping[str, Values], keys: Collection[str] = ()) -> Matching | None:
    """The best way to match rows: a field before and a column now, both unique, that share the most values.

    Numbers that only count the rows match whatever comes first with whatever came first; they are taken where they are among `keys`.
    """
    unique = [
        {name: values for name, values in side.items() if values.present.all() and _is_unique(values)}
        for side in (before, now)
    ]
    best: tuple[float, Matching] | None = None
    for field, old in unique[0].items():
        for column, new in unique[1].items():
            both = coded(old, new)
            if both is None:
                continue
            _, left, right = np.intersect1d(both.before, both.now, assume_unique=True, return_indices=True)
            share = len(left) / max(min(new.rows, old.rows), 1) + 0.001 * (field.casefold() == column.casefold())
            counts_rows = field not in keys and old.numeric and new.numeric and _counts_rows(old) and _counts_rows(new)
            if len(left) < MIN_MATCHED_ROWS or share < MIN_KEY_OVERLAP or counts_rows:
                continue
            if best is None or share > best[0]:
                best = (share, Matching(left.astype(np.int64), right.astype(np.int64), column))
    return None if best is None else best[1]


def _is_unique(values: Values) -> bool:
    distinct = len(np.unique(values.items)) if values.numeric else len(pc.unique(values.items))
    return distinct == values.rows and distinct >= MIN_MATCHED_ROWS


def _counts_rows(values: Values) -> bool:
    """Whether numbers only count the rows, from 1 on in order: then they match whatever comes first with whatever came first."""
    return bool(np.array_equal(values.items, np.arange(values.rows) + values.items[0]))


@dataclass(frozen=True, slots=True)
class Likeness:
    """How far a column now is a field before, from 0 to 1, whether that proves anything, and why in words."""

    score: float
    proof: bool
    why: str
    replaced: Mapping[str, str] | None = None


NOTHING = Likeness(0.0, False, "its values are of another type")


def likeness(before: Values, now: Values, rows: Matching | None) -> Likeness:
    """Compare a field before with a column now."""
    both = coded(before, now)
    if both is None:
        return NOTHING
    if rows is not None and len(rows.before) >= MIN_MATCHED_ROWS:
        return _row_by_row(before, now, both, rows)
    return _by_distribution(before, now, both)


def _row_by_row(before: Values, now: Values, both: Coded, rows: Matching) -> Likeness:
    left, right = both.before[rows.before], both.now[rows.now]
    some = (left >= 0) | (right >= 0)
    left, right = left[some], right[some]
    count = len(left)
    if count < MIN_MATCHED_ROWS:
        return _by_distribution(before, now, both)
    by = f"{count:,} rows matched by {rows.column}"
    agreed = float((left == right).mean())
    chance = _chance(left, right, both.size)
    score = _beyond(agreed, chance)
    if agreed >= 0.5:
        return Likeness(
            score, agreed >= SURE_AGREED and score >= 0.5, f"{agreed:.0%} of {by} have the value that they had"
        )
    mapped = _replaced(before, now, left, right, rows, some)
    if mapped is not None:
        return mapped
    if before.kind == now.kind == "number":
        factor = _factor(before, now, rows)
        if factor is not None:
            share, times = factor
            return Likeness(
                0.75 * share, share >= 0.9, f"in {share:.0%} of {by} it is {times:.6g} times the value that it was"
            )
    return Likeness(score, False, f"only {agreed:.0%} of {by} have the value that they had")


def _chance(left: Codes, right: Codes, size: int) -> float:
    """Which share would agree if the values were dealt out at random."""
    shares = [np.bincount(array[array >= 0], minlength=size) / max(len(array), 1) for array in (left, right)]
    return float((shares[0] * shares[1]).sum())


def _beyond(share: float, chance: float) -> float:
    """A share as far as it is more than chance."""
    return max(0.0, (share - chance) / (1.0 - chance)) if chance < 1.0 else 0.0


def _replaced(before: Values, now: Values, left: Codes, right: Codes, rows: Matching, some: Any) -> Likeness | None:
    """Whether each value before has become one value now, and which."""
    valid = (left >= 0) & (right >= 0)
    old, new = (np.count_nonzero(np.bincount(side[valid])) for side in (left, right))
    if not 2 <= old <= max(valid.sum() / MIN_MAPPED_ROWS, 2) or old != new:
        return None
    size = int(right.max()) + 1
    both, counts = np.unique(left[valid] * size + right[valid], return_counts=True)
    pairs = np.divmod(both, size)
    order = np.argsort(-counts, kind="stable")
    first: dict[int, int] = {}
    kept = 0
    for at in order:
        one, other = int(pairs[0][at]), int(pairs[1][at])
        if one not in first and other not in first.values():
            first[one] = other
            kept += int(counts[at])
        elif first.get(one) == other:
            kept += int(counts[at])
    share = kept / max(int(valid.sum()), 1)
    largest = float(np.bincount(right[valid]).max() / max(int(valid.sum()), 1))
    if share < 0.95 or _beyond(share, largest) < 0.9:
        return None
    texts = {} if before.numeric else _texts(before, now, first, rows, some, left, right)
    shown = ", ".join(f"{one!r} → {other!r}" for one, other in [*texts.items()][:3] if one != other)
    why = f"each of its {old:,} values is one that was there before, replaced{': ' if shown else ''}{shown}"
    return Likeness(0.9 * share, True, why, {one: other for one, other in texts.items() if one != other})


def _texts(
    before: Values, now: Values, pairs: Mapping[int, int], rows: Matching, some: Any, left: Codes, right: Codes
) -> dict[str, str]:
    """The replaced values as texts."""
    found: dict[str, str] = {}
    at_before, at_now = rows.before[some], rows.now[some]
    for one, other in pairs.items():
        at = int(np.flatnonzero((left == one) & (right == other))[0])
        found[str(before.items[int(at_before[at])].as_py())] = str(now.items[int(at_now[at])].as_py())
    return found


def _factor(before: Values, now: Values, rows: Matching) -> tuple[float, float] | None:
    """Whether nearly all values are the value before times one number."""
    left, right = before.items[rows.before], now.items[rows.now]
    valid = before.present[rows.before] & now.present[rows.now] & (left != 0)
    if valid.sum() < MIN_MATCHED_ROWS or len(np.unique(left[valid])) < FEW_VALUES:
        return None
    ratios = right[valid] / left[valid]
    times = float(np.median(ratios))
    if times == 0 or abs(times - 1) < 1e-6:
        return None
    share = float((np.abs(ratios / times - 1) < FACTOR_TOLERANCE).mean())
    return (share, times) if share >= 0.9 else None


def _by_distribution(before: Values, now: Values, both: Coded) -> Likeness:
    old, new = both.shares(now=False), both.shares(now=True)
    had, has = old > 0, new > 0
    kept, known = float((had & has).sum() / max(had.sum(), 1)), float((had & has).sum() / max(has.sum(), 1))
    alike = float(np.minimum(old, new).sum())
    said = f"{known:.0%} of its distinct values were there before, and {kept:.0%} of those that were there are in it"
    few = had.sum() <= FEW_VALUES
    if few:
        score = alike * min(kept, known)
        small = had.sum() <= 2 or before.numeric
        limit, remark = (0.6, f"; {int(had.sum())} distinct values prove little") if small else (0.85, "")
        return Likeness(min(score, limit), not small and score >= 0.6, f"{said}{remark}")
    shape = _quantiles(before, now) if before.numeric else _patterns(before, now)
    if min(kept, known) >= 0.3 and not (before.numeric and _is_dense(before) and _is_dense(now)):
        score = max(kept, known) * (0.5 + 0.5 * shape)
        return Likeness(score, score >= 0.6, said)
    if before.kind == "date" and shape < 0.7:  # a later period
        middle = [float(np.median(values.items[values.present])) for values in (before, now)]
        spread = _quantiles(before, Values("date", now.items + middle[0] - middle[1], now.present))
        later = f"dates, spread over another period as before ({spread:.0%} alike)"
        return Likeness(0.4 + 0.3 * spread, False, later)
    what = "numbers are spread" if before.numeric else "texts are built"
    return Likeness(0.8 * shape, shape >= 0.85, f"its {what} as before ({shape:.0%} alike)")


def _quantiles(before: Values, now: Values) -> float:
    """How alike two distributions of numbers are: 1 minus the largest distance between them."""
    left, right = (np.sort(values.items[values.present]) for values in (before, now))
    every = np.concatenate([left, right])
    places = [np.searchsorted(side, every, "right") / len(side) for side in (left, right)]
    return float(max(0.0, 1.0 - 2.0 * np.abs(places[0] - places[1]).max()))


def _is_dense(values: Values) -> bool:
    """Whether numbers are whole and close together, as counts and codes are: then many are shared by chance."""
    items = values.items[values.present]
    if not np.array_equal(items, np.round(items)):
        return False
    span = float(items.max() - items.min()) + 1
    return span <= 4 * len(np.unique(items))


def _patterns(before: Values, now: Values) -> float:
    """How alike texts are built: letters, digits and other characters in their places, as shares of the rows."""
    sides = []
    for values in (before, now):
        texts = pc.drop_null(values.items)
        for pattern, mark in ((r"\p{Lu}", "A"), (r"\p{Ll}+", "a"), (r"\p{Nd}+", "9"), (r"\s+", " ")):
            texts = pc.replace_substring_regex(texts, pattern, mark)
        counted = texts.value_counts()
        total = len(texts)
        sides.append({item["values"]: item["counts"] / total for item in counted.to_pylist()})
    return float(sum(min(share, sides[1].get(shape, 0.0)) for shape, share in sides[0].items()))


def assignment(scores: Sequence[Sequence[float]]) -> list[int]:
    """The column of each row so that the sum of scores is the largest, each column once; -1 where there are fewer columns."""
    if not scores or not scores[0]:
        return [-1] * len(scores)
    size = max(len(scores), len(scores[0]))
    cost = np.zeros((size, size))
    cost[: len(scores), : len(scores[0])] = -np.asarray(scores)
    column_of_row = _cheapest(cost)
    return [column if column < len(scores[0]) else -1 for column in column_of_row[: len(scores)]]


def _cheapest(cost: npt.NDArray[np.float64]) -> list[int]:
    """The cheapest assignment of rows to columns of a square matrix, by shortest augmenting paths."""
    size = len(cost)
    row_price, column_price = np.zeros(size + 1), np.zeros(size + 1)
    row_of = np.zeros(size + 1, np.int64)
    for row in range(1, size + 1):
        row_of[0], column = row, 0
        least, used = np.full(size + 1, np.inf), np.zeros(size + 1, np.bool_)
        way = np.zeros(size + 1, np.int64)
        while row_of[column]:
            used[column] = True
            own = int(row_of[column])
            reduced = cost[own - 1] - row_price[own] - column_price[1:]
            better = ~used[1:] & (reduced < least[1:])
            least[1:][better], way[1:][better] = reduced[better], column
            following = int(np.argmin(np.where(used[1:], np.inf, least[1:]))) + 1
            step = least[following]
            row_price[row_of[used]] += step
            column_price[used] -= step
            least[~used] -= step
            column = following
        while column:
            row_of[column] = row_of[way[column]]
            column = int(way[column])
    found = [0] * size
    for column in range(1, size + 1):
        found[int(row_of[column]) - 1] = column - 1
    return found
