"""Days and moments as whole numbers and NumPy's datetimes."""

from __future__ import annotations

from typing import Any

import numpy as np

FIRST_DAY, LAST_DAY = -719162, 2932896  # 1 January of year 1, 31 December of year 9999
DAY_MICROSECONDS = 86400 * 10**6


def days_of(year: Any, month: Any, day: Any) -> tuple[Any, Any]:
    """Days since 1970 of years, months and days of the month, and where there is such a day in the years 1 to 9999."""
    fits = (year >= 1) & (year <= 9999) & (month >= 1) & (month <= 12) & (day >= 1) & (day <= 31)
    months = np.where(fits, (year - 1970) * 12 + month - 1, 0).astype("datetime64[M]")
    first = months.astype("datetime64[D]").astype(np.int64)
    length = (months + np.timedelta64(1, "M")).astype("datetime64[D]").astype(np.int64) - first
    fits &= day <= length
    return first + np.where(fits, day, 1) - 1, fits


_MONTHS = {"MONTH": 1, "QUARTER": 3, "YEAR": 12}
_MICROS = {
    "SECOND": 10**6,
    "MINUTE": 60 * 10**6,
    "HOUR": 3600 * 10**6,
    "DAY": DAY_MICROSECONDS,
    "WEEK": 7 * DAY_MICROSECONDS,
}


def shift_moments(values: Any, amount: int, unit: str) -> Any:
    """Moments (datetime64) moved by so many units; a month's last days are clipped."""
    if unit not in _MONTHS:
        return values + np.timedelta64(amount * _MICROS[unit], "us")
    month = values.astype("datetime64[M]")
    day = values - month
    moved = month + np.timedelta64(amount * _MONTHS[unit], "M")
    last = (moved + np.timedelta64(1, "M")).astype("datetime64[D]") - np.timedelta64(1, "D")
    day_index = day // np.timedelta64(1, "D")
    days_in = (last - moved.astype("datetime64[D]")).astype(np.int64)
    clipped = np.minimum(day_index, days_in).astype("timedelta64[D]")
    made = moved.astype("datetime64[D]") + clipped + (day - day_index.astype("timedelta64[D]"))
    return made.astype("datetime64[us]")
