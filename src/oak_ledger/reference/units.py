"""Numbers that are in another unit than they were: a factor that matched rows have in common, or a median that moved."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow.compute as pc

from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.names.compiled import literal_text
from oak_ledger.reference.evidence import Matching, Values

MIN_ROWS = 30
MOST_DECIMALS = 9  # that a decimal has
MIN_CHANGED_ROWS = 20  # rows with a common factor that are worth a word
MIN_FACTOR = 0.015  # by how much a value must differ to count as changed: a unit or a currency from 2 % on
FACTOR_TOLERANCE, FACTOR_SHARE = 0.004, 0.9
GROUP_SHARE = 0.95  # of the changed rows that are in one group
MIN_SHIFT = 0.08  # of a median, as a logarithm
SHIFT_ERRORS = 6.0  # standard errors that are no chance
PAST_MARGIN = 1.3  # beyond what past months show


@dataclass(frozen=True, slots=True)
class UnitChange:
    """A sentence, what to do, and the formula that brings the unit back where one does."""

    said: str
    hint: str
    back: str | None = None
    numbers: dict[str, float] = field(default_factory=dict)


_TIMES = re.compile(r"\s*VALUE\s*([*/])\s*([0-9.]+)\s*", re.IGNORECASE)


def is_back(change: UnitChange, clean: str) -> bool:
    """Whether a change is what a clean makes of values that need it no longer."""
    written, times = _TIMES.fullmatch(clean), change.numbers.get("factor")
    if written is None or times is None or not float(written[2]):
        return False
    by = float(written[2]) if written[1] == "*" else 1 / float(written[2])
    return abs(times / by - 1) < FACTOR_TOLERANCE


def wide_enough(decimals: int) -> str:
    """The type that keeps so many decimals."""
    return f"decimal(18,{decimals})" if decimals <= MOST_DECIMALS else "number"


def common_factor(
    name: str, before: Values, now: Values, rows: Matching, others: Mapping[str, Values], since: str
) -> UnitChange | None:
    """The factor that the changed ones of matched rows have in common; `others` are fields of now that may say where they are."""
    left, right = before.items[rows.before], now.items[rows.now]
    valid = before.present[rows.before] & now.present[rows.now] & (left != 0)
    ratios = np.divide(right, left, out=np.ones_like(right), where=valid)
    changed = valid & (np.abs(ratios - 1) > MIN_FACTOR)
    count, compared = int(changed.sum()), int(valid.sum())
    if count < MIN_CHANGED_ROWS:
        return None
    times = float(np.median(ratios[changed]))
    common = float((np.abs(ratios[changed] / times - 1) < FACTOR_TOLERANCE).mean()) if times else 0.0
    where, condition = ("", "") if count >= 0.5 * compared else _group(changed, valid, rows.now, others)
    if common < FACTOR_SHARE or (not where and count < 0.5 * compared):
        return None
    how, unit = ("has the other sign than", "") if times == -1 else (f"is {times:.4g} times what it was", " Its unit may have changed.")  # fmt: skip
    said = f"{name} {how} in {since}, in {count:,} of {compared:,} matched rows{where}.{unit}"
    back = f"VALUE * {_decimal(1 / times)}"
    if condition:
        back = f"CASE WHEN {condition} THEN {back} ELSE VALUE END"
    hint = f"If so, clean it: {back}"
    return UnitChange(said, hint, back, {"factor": times, "rows": count})


def _group(changed: Any, valid: Any, at: Any, others: Mapping[str, Values]) -> tuple[str, str]:
    """Where all changed rows are, if they are in one group, in one month or from a month on, and nearly all of it changed; in words, and as a condition."""
    for name, values in others.items():
        if values.kind == "number":
            continue
        field, there = quote_identifier(name), values.present[at]
        if not (changed & there).any():
            continue
        if values.kind == "date":
            months = _months(values)[at]
            first = months[changed & there].min()
            inside = [(months >= first, f"from {first} on by {name}", f"{field} >= DATE '{first}-01'")]
            own, counts = np.unique(months[changed & there], return_counts=True)
            month = own[int(counts.argmax())]
            next_one = f"{field} < DATE '{month + 1}-01'"
            inside.append((months == month, f"where {name} is {month}", f"{field} >= DATE '{month}-01' AND {next_one}"))
        else:
            labels = np.asarray(values.items.fill_null("").to_numpy(zero_copy_only=False))[at].astype(str)
            own, counts = np.unique(labels[changed & there], return_counts=True)
            label = str(own[int(counts.argmax())])
            inside = [(labels == label, f"where {name} is {label}", f"{field} = {literal_text(label)}")]
        for own_rows, said, condition in inside:
            rows = own_rows & there
            whole = int((changed & rows).sum()) >= FACTOR_SHARE * int((valid & rows).sum())
            if whole and int((changed & rows).sum()) >= GROUP_SHARE * int(changed.sum()):
                return f", all {said}", condition
    return "", ""


def shifted_median(
    name: str, before: Values, now: Values, others: Mapping[str, Values], since: str
) -> UnitChange | None:
    """How far the median moved, if that is neither chance nor what the months before did; `others` are fields of before."""
    left, right = (values.items[values.present] for values in (before, now))
    if distinct_count(before) == len(left) and distinct_count(now) == len(right) and _is_whole(left):
        return None  # what numbers rows has no unit
    if min(len(left), len(right)) < MIN_ROWS or np.median(left) <= 0 or np.median(right) <= 0:
        return None
    shift = float(np.log(np.median(right) / np.median(left)))
    error = float(np.hypot(*(1.25 * _spread(side) / np.sqrt(len(side)) for side in (left, right))))
    if abs(shift) <= max(MIN_SHIFT, SHIFT_ERRORS * error, PAST_MARGIN * _past(before, others)):
        return None
    ratio = float(np.exp(shift))
    times = f"{ratio:.3g} times" if ratio >= 1 else f"about 1/{1 / ratio:.3g}"
    said = f"{name}: the median went from {np.median(left):,.4g} ({since}) to {np.median(right):,.4g}, {times}. Its unit may have changed."
    power = 10 ** max(round(float(np.log10(1 / ratio))), 0)
    near = power > 1 and abs(1 / ratio / power - 1) < 0.1
    hint = f"If so, clean it: VALUE * {power}" if near else "Ask what the figures are in now, and clean it."
    return UnitChange(said, hint, None, {"before": float(np.median(left)), "now": float(np.median(right))})


def _past(values: Values, others: Mapping[str, Values]) -> float:
    """The largest shift of the median that one of the past months shows."""
    for other in others.values():
        if other.kind == "date":
            months = _months(other)
            whole = np.median(values.items[values.present])
            own = [values.items[values.present & other.present & (months == month)] for month in np.unique(months[other.present])]  # fmt: skip
            medians = [float(np.median(one)) for one in own if len(one) >= MIN_ROWS]
            return max(
                (abs(float(np.log(median / whole))) for median in medians if median > 0 and whole > 0), default=0.0
            )
    return 0.0


def _months(dates: Values) -> Any:
    return (dates.items * 86_400).astype("datetime64[s]").astype("datetime64[M]")


def _spread(values: Any) -> float:
    """The standard deviation of the logarithms, from the quartiles."""
    positive = values[values > 0]
    low, high = np.quantile(np.log(positive), [0.25, 0.75]) if len(positive) else (0.0, 0.0)
    return float(high - low) / 1.35


def _decimal(factor: float) -> str:
    """A factor as a decimal, which keeps decimals what they are; a power of ten where it is nearly one."""
    power = round(float(np.log10(abs(factor))))
    exact = 10.0**power * np.sign(factor)
    near = abs(factor / exact - 1) < FACTOR_TOLERANCE
    return format(Decimal(f"{exact if near else factor:.6g}"), "f")


def _is_whole(values: Any) -> bool:
    return bool(np.array_equal(values, np.round(values)))


def distinct_count(values: Values) -> int:
    """How many different values there are, nulls left aside."""
    return len(np.unique(values.items[values.present])) if values.numeric else len(pc.unique(values.items.drop_null()))
