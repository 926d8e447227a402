"""Functions on dates and timestamps."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask, with_nulls
from oak_ledger.columnar.calendar import days_of, shift_moments
from oak_ledger.functions.registry import CallContext, ComputeError, Function, function, internal_function
from oak_ledger.types import DATE, INTEGER, NUMBER, TIMESTAMP, Type

_PARTS: dict[str, Any] = {
    "YEAR": pc.year,
    "QUARTER": pc.quarter,
    "MONTH": pc.month,
    "WEEK": pc.iso_week,
    "DAY": pc.day,
    "ISODOW": lambda x: pc.day_of_week(x, count_from_zero=False, week_start=1),
    "DOW": lambda x: pc.day_of_week(x, count_from_zero=True, week_start=7),
    "DOY": pc.day_of_year,
    "ISOYEAR": pc.iso_year,
    "HOUR": pc.hour,
    "MINUTE": pc.minute,
}
_TRUNCATED = ("year", "quarter", "month", "week", "day", "hour", "minute", "second")


def _extract_type(types: Sequence[Type], constants: Sequence[Any]) -> Type:
    return NUMBER if constants[0] == "SECOND" else INTEGER


@function(
    "EXTRACT(part text, d temporal) -> integer",
    topic="date",
    sentence="A part of a date: YEAR, QUARTER, MONTH, WEEK (ISO), DAY, DOW (Sunday is 0), ISODOW (Monday is 1), DOY, "
    "ISOYEAR, HOUR, MINUTE, SECOND.",
    examples=[
        ("EXTRACT(MONTH FROM DATE '2026-03-14')", "3"),
        ("EXTRACT(ISODOW FROM DATE '2026-03-14')", "6"),
        ("EXTRACT(SECOND FROM TIMESTAMP '2026-03-14 07:30:15.5')", "15.5"),
    ],
    usage="EXTRACT(part FROM d)",
    costly=True,
    result=_extract_type,
    constant_args=(0,),
)
def extract(run: CallContext, part: Any, d: Any) -> Any:
    """A part, as a whole number; seconds with their fraction."""
    moments, name = run.array(d), run.constants[0]
    if pa.types.is_date(moments.type) and name in ("HOUR", "MINUTE", "SECOND"):
        moments = pc.cast(moments, pa.timestamp("us"))
    if name == "SECOND":
        micros = pc.add(pc.multiply(pc.millisecond(moments), 1000), pc.microsecond(moments))
        whole = pc.add(pc.multiply(pc.second(moments), 1_000_000), micros)
        return pc.divide(pc.cast(whole, pa.float64()), 1e6)
    return pc.cast(_PARTS[name](moments), pa.int64())


@function(
    "DATE_TRUNC(unit text, d temporal) -> same",
    topic="date",
    sentence="The beginning of the year, quarter, month, week (Monday), day, hour, minute or second that holds d.",
    examples=[
        ("DATE_TRUNC('month', DATE '2026-03-14')", "2026-03-01"),
        ("DATE_TRUNC('week', DATE '2026-03-14')", "2026-03-09"),
    ],
    result=lambda types, _constants: types[1],
    constant_args=(0,),
    costly=True,
)
def date_trunc(run: CallContext, unit: Any, d: Any) -> Any:
    """The beginning of a span of time, of the same type."""
    name = str(run.constants[0]).lower()
    if name not in _TRUNCATED:
        raise ComputeError(f"'{name}' is no unit; units are {', '.join(_TRUNCATED)}")
    array = run.array(d)
    if pa.types.is_date(array.type) and name in ("day", "hour", "minute", "second"):
        return array
    return pc.cast(pc.floor_temporal(array, unit=name, week_starts_monday=True), array.type, safe=False)


@function(
    "MAKE_DATE(year integer, month integer, day integer) -> date",
    topic="date",
    sentence="The date of a year, a month and a day; a fault where there is no such day.",
    examples=[("MAKE_DATE(2026, 2, 28)", "2026-02-28"), ("MAKE_DATE(2028, 2, 29)", "2028-02-29")],
    can_fault=True,
)
def make_date(run: CallContext, year: Any, month: Any, day: Any) -> Any:
    """A day of the calendar."""
    arrays = [run.array(one) for one in (year, month, day)]
    nulls = np.logical_or.reduce([to_mask(pc.is_null(one)) for one in arrays])
    y, m, d = (np.where(nulls, 1, numpy_view(one)) for one in arrays)
    days, fits = days_of(y, m, d)
    result = from_numpy(np.where(fits, days, 0).astype(np.int32), mask=nulls).cast(pa.date32())
    return run.fault("no day of the calendar", ~fits, result)


@function(
    "DATE_DIFF(unit text, a temporal, b temporal) -> integer",
    topic="date",
    sentence="How many boundaries of the unit (day, week, month, quarter, year, hour, minute, second) lie between a and b.",
    examples=[
        ("DATE_DIFF('month', DATE '2026-01-31', DATE '2026-02-01')", "1"),
        ("DATE_DIFF('day', DATE '2026-03-01', DATE '2026-02-27')", "-2"),
    ],
    constant_args=(0,),
)
def date_diff(run: CallContext, unit: Any, a: Any, b: Any) -> Any:
    """Boundaries crossed from a to b."""
    name = str(run.constants[0]).lower()
    if name not in _TRUNCATED:
        raise ComputeError(f"'{name}' is no unit; units are {', '.join(_TRUNCATED)}")
    sides = [pc.cast(run.array(side), pa.timestamp("us")) for side in (a, b)]
    nulls = to_mask(pc.is_null(sides[0])) | to_mask(pc.is_null(sides[1]))
    first, second = (numpy_view(pc.fill_null(side, 0)).view("datetime64[us]") for side in sides)
    if name in ("year", "quarter", "month"):
        counts = [side.astype("datetime64[M]").astype(np.int64) for side in (first, second)]
        per = {"year": 12, "quarter": 3, "month": 1}[name]
        made = (counts[1] // per) - (counts[0] // per)
    else:
        per = {"week": 7 * 86400, "day": 86400, "hour": 3600, "minute": 60, "second": 1}[name] * 1_000_000
        origin = 3 * 86400 * 1_000_000 if name == "week" else 0  # 1970-01-01 was a Thursday
        micros = [side.astype(np.int64) + origin for side in (first, second)]
        made = micros[1] // per - micros[0] // per
    return with_nulls(from_numpy(made), nulls)


def _shift(run: CallContext, moment: Any) -> Any:
    """A date or timestamp moved by an interval (`extra` is its amount and unit); months are clipped to their end."""
    amount, unit = run.extra
    array = pc.cast(run.array(moment), pa.timestamp("us"))
    nulls = to_mask(pc.is_null(array))
    values = numpy_view(pc.fill_null(array, 0)).view("datetime64[us]")
    made = shift_moments(values, amount, unit)
    low, high = np.datetime64("0001-01-01"), np.datetime64("10000-01-01")
    outside = ((made < low) | (made >= high)) & ~nulls
    moments = from_numpy(np.where(outside, values, made), mask=nulls)
    kept = pc.cast(moments, pa.date32() if run.result.kind == "date" else pa.timestamp("us"), safe=False)
    return run.fault("a date outside years 1 to 9999", outside, kept)


_SHIFT = internal_function("INTERVAL", _shift, can_fault=True, costly=True)


def shifted(moment: Type, unit: str) -> tuple[Type, Function] | None:
    """The type that a date or timestamp has after an interval of the unit is added, and the function that adds."""
    if moment.kind not in ("date", "timestamp", "null"):
        return None
    keeps_day = moment.kind == "date" and unit in ("DAY", "WEEK", "MONTH", "QUARTER", "YEAR")
    return (DATE if keeps_day else TIMESTAMP), _SHIFT
