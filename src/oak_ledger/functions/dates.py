"""Functions on dates and timestamps."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask
from oak_ledger.columnar.calendar import (
    DAY_MICROSECONDS,
    FIRST_DAY,
    LAST_DAY,
    days_of,
    first_days,
    months_of,
    shift_moments,
    through_table,
)
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
_SECONDS = {"week": 7 * 86400, "day": 86400, "hour": 3600, "minute": 60, "second": 1}
_MONTHS_PER = {"year": 12, "quarter": 3, "month": 1}
_SLOW_PARTS = ("WEEK", "ISOYEAR", "DOY")  # Arrow's kernels take ten times as long for these as for others
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
    _has_time(moments, name)
    if name == "SECOND":
        micros = pc.add(pc.multiply(pc.millisecond(moments), 1000), pc.microsecond(moments))
        whole = pc.add(pc.multiply(pc.second(moments), 1_000_000), micros)
        return pc.divide(pc.cast(whole, pa.float64()), 1e6)
    if name in _SLOW_PARTS:
        return _of_days(moments, lambda days: numpy_view(pc.cast(_PARTS[name](_dates(days)), pa.int64())))
    return pc.cast(_PARTS[name](moments), pa.int64())


def _has_time(moments: Any, unit: str | None) -> None:
    """Raise ComputeError where a date is asked for what only a timestamp has."""
    if pa.types.is_date(moments.type) and unit is not None and unit.upper() in ("HOUR", "MINUTE", "SECOND"):
        raise ComputeError(f"a date has no {unit.upper()}; only a timestamp has")


def _of_days(moments: Any, compute: Callable[[Any], Any]) -> Any:
    """What `compute` gives of the days (since 1970) of dates or moments, as an array; null where they are."""
    nulls = to_mask(pc.is_null(moments)) if moments.null_count else None
    return from_numpy(through_table(_days(moments), compute), mask=nulls)


def _days(moments: Any) -> Any:
    """The days, since 1970, of dates or moments; 0 where null is."""
    numbers = numpy_view(
        pc.fill_null(moments, pa.scalar(0, pa.int32()).cast(moments.type) if pa.types.is_date(moments.type) else 0)
    )
    return numbers if pa.types.is_date(moments.type) else numbers // DAY_MICROSECONDS


def _dates(days: Any) -> Any:
    return from_numpy(days.astype(np.int32)).cast(pa.date32())


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
        raise ComputeError(f"'{name}' is not a unit; units are {', '.join(_TRUNCATED)}")
    array = run.array(d)
    _has_time(array, name)
    if pa.types.is_date(array.type) and name == "day":
        return array
    if name not in ("year", "quarter", "month", "week"):
        return pc.floor_temporal(array, unit=name)

    def begins(days: Any) -> Any:
        if name == "week":
            return days - (days + 3) % 7  # 1970-01-01 was a Thursday
        per = _MONTHS_PER[name]
        return first_days(months_of(days) // per * per)

    if pa.types.is_date(array.type):
        return _of_days(array, lambda days: begins(days).astype(np.int32)).cast(pa.date32())
    return _of_days(array, lambda days: begins(days) * DAY_MICROSECONDS).cast(pa.timestamp("us"))


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
    nulls = np.logical_or.reduce([to_mask(pc.is_null(array)) for array in arrays])
    y, m, d = (np.where(nulls, 1, numpy_view(array)) for array in arrays)
    days, fits = days_of(y, m, d)
    result = from_numpy(np.where(fits, days, 0).astype(np.int32), mask=nulls).cast(pa.date32())
    return run.fault("not a valid date", ~fits, result)


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
        raise ComputeError(f"'{name}' is not a unit; units are {', '.join(_TRUNCATED)}")
    sides = [run.array(side) for side in (a, b)]
    nulls = to_mask(pc.is_null(sides[0])) | to_mask(pc.is_null(sides[1]))
    if name in _MONTHS_PER:
        counts = [months_of(_days(side)) // _MONTHS_PER[name] for side in sides]
    else:
        per = _SECONDS[name] * 1_000_000
        origin = 3 * DAY_MICROSECONDS if name == "week" else 0  # 1970-01-01 was a Thursday
        micros = [numpy_view(pc.fill_null(pc.cast(side, pa.timestamp("us")), 0)) for side in sides]
        counts = [(micro + origin) // per for micro in micros]
    return from_numpy(counts[1] - counts[0], mask=nulls)


@function(
    "AGE(unit text, a temporal, b temporal) -> integer",
    topic="date",
    sentence="How many whole units (year, quarter, month, week, day, hour, minute, second) have passed from a to b; negative where b is before a.",
    examples=[
        ("AGE('year', DATE '1990-06-15', DATE '2026-06-14')", "35"),
        ("AGE('month', DATE '2026-01-31', DATE '2026-03-30')", "1"),
        ("AGE('hour', TIMESTAMP '2026-03-14 07:30:00', TIMESTAMP '2026-03-14 09:29:59')", "1"),
    ],
    constant_args=(0,),
)
def age(run: CallContext, unit: Any, a: Any, b: Any) -> Any:
    """Whole units passed from a to b."""
    name = str(run.constants[0]).lower()
    if name not in _TRUNCATED:
        raise ComputeError(f"'{name}' is not a unit; units are {', '.join(_TRUNCATED)}")
    sides = [run.array(side) for side in (a, b)]
    nulls = to_mask(pc.is_null(sides[0])) | to_mask(pc.is_null(sides[1]))
    micros = [numpy_view(pc.fill_null(pc.cast(side, pa.timestamp("us")), 0)) for side in sides]
    first, last = np.minimum(*micros), np.maximum(*micros)
    if name in _MONTHS_PER:
        months = [months_of(one // DAY_MICROSECONDS) for one in (first, last)]
        into = [one - first_days(own) * DAY_MICROSECONDS for one, own in zip((first, last), months, strict=True)]
        counts = (months[1] - months[0] - (into[1] < into[0])) // _MONTHS_PER[name]
    else:
        counts = (last - first) // (_SECONDS[name] * 1_000_000)
    return from_numpy(np.where(micros[1] < micros[0], -counts, counts), mask=nulls)


@function(
    "WORKING_DAYS(a date, b date) -> integer",
    "WORKING_DAYS(a date, b date, off text) -> integer",
    "WORKING_DAYS(a date, b date, off date) -> integer",
    topic="date",
    sentence="How many days from Monday to Friday there are from a until the day before b, but for the days off; negative where b is before a. "
    "The days off are one text, such as a constant of the source: '2026-01-01, 2026-04-03'.",
    examples=[
        ("WORKING_DAYS(DATE '2026-03-13', DATE '2026-03-16')", "1"),
        ("WORKING_DAYS(DATE '2026-04-01', DATE '2026-04-08', '2026-04-03, 2026-04-06')", "3"),
    ],
    constant_args=(2,),
)
def working_days(run: CallContext, a: Any, b: Any, off: Any = None) -> Any:
    """Working days from a until b."""
    listed = "" if off is None else run.constants[2]
    days = [dt.date.fromisoformat(one) for one in _off(listed)]
    sides = [run.array(side) for side in (a, b)]
    nulls = to_mask(pc.is_null(sides[0])) | to_mask(pc.is_null(sides[1]))
    moments = [_days(side).astype("datetime64[D]") for side in sides]
    counts = np.busday_count(np.minimum(*moments), np.maximum(*moments), holidays=days).astype(np.int64)
    unknown = nulls if listed is not None else np.ones(len(nulls), np.bool_)
    return from_numpy(np.where(moments[1] < moments[0], -counts, counts), mask=unknown)


def _off(text: Any) -> list[str]:
    """The days of a list of days off. Raises ComputeError for what is none."""
    days = [one for one in re.split(r"[,;\s]+", str(text or "")) if one]
    for day in days:
        if not re.fullmatch(r"\d{4}-\d\d-\d\d", day) or not _is_day(day):
            raise ComputeError(f"'{day}' is not a day; days off are written 2026-01-01, 2026-04-03")
    return days


def _is_day(text: str) -> bool:
    try:
        dt.date.fromisoformat(text)
    except ValueError:
        return False
    return True


def _shift(run: CallContext, moment: Any) -> Any:
    """A date or timestamp moved by an interval (`extra` is its amount and unit); months are clipped to their end."""
    amount, unit = run.extra
    array = pc.cast(run.array(moment), pa.timestamp("us"))
    nulls = to_mask(pc.is_null(array))
    values = numpy_view(pc.fill_null(array, 0))
    made = shift_moments(values, amount, unit)
    outside = ((made < FIRST_DAY * DAY_MICROSECONDS) | (made >= (LAST_DAY + 1) * DAY_MICROSECONDS)) & ~nulls
    moments = from_numpy(np.where(outside, values, made), mask=nulls).cast(pa.timestamp("us"))
    kept = pc.cast(moments, pa.date32() if run.result.kind == "date" else pa.timestamp("us"), safe=False)
    return run.fault("a date outside years 1 to 9999", outside, kept)


_SHIFT = internal_function("INTERVAL", _shift, can_fault=True, costly=True)


def shifted(moment: Type, unit: str) -> tuple[Type, Function] | None:
    """The type that a date or timestamp has after an interval of the unit is added, and the function that adds."""
    if moment.kind not in ("date", "timestamp", "null"):
        return None
    keeps_day = moment.kind == "date" and unit in ("DAY", "WEEK", "MONTH", "QUARTER", "YEAR")
    return (DATE if keeps_day else TIMESTAMP), _SHIFT
