"""Functions of dates and moments against Python's calendar: over all years, and over few, where days go through a table."""

from __future__ import annotations

import calendar
import datetime as dt
import random
import unittest
from collections.abc import Callable
from typing import Any

import pyarrow as pa

import oak_ledger as oak


def month(day: dt.date) -> int:
    """Months since the year 0."""
    return day.year * 12 + day.month - 1


def moved(day: Any, months: int) -> Any:
    """A day or moment moved by months, clipped to the month's end; None beyond the calendar."""
    year, number = divmod(month(day) + months, 12)
    if not 1 <= year <= 9999:
        return None
    return day.replace(year=year, month=number + 1, day=min(day.day, calendar.monthrange(year, number + 1)[1]))


def by(span: dt.timedelta) -> Callable[[Any, Any], Any]:
    """The moment moved by a span; None beyond the calendar."""

    def later(_: dt.date, at: dt.datetime) -> dt.datetime | None:
        try:
            return at + span
        except OverflowError:
            return None

    return later


def midnight(day: dt.date) -> dt.datetime:
    """The moment in which a day begins."""
    return dt.datetime.combine(day, dt.time())


# A formula over a day A and a moment T, and what Python says of them.
TOLD: list[tuple[str, Callable[[dt.date, dt.datetime], Any]]] = [
    ("EXTRACT(YEAR FROM A)", lambda a, t: a.year),
    ("EXTRACT(QUARTER FROM T)", lambda a, t: (t.month + 2) // 3),
    ("EXTRACT(MONTH FROM T)", lambda a, t: t.month),
    ("EXTRACT(DAY FROM A)", lambda a, t: a.day),
    ("EXTRACT(WEEK FROM A)", lambda a, t: a.isocalendar()[1]),
    ("EXTRACT(WEEK FROM T)", lambda a, t: t.isocalendar()[1]),
    ("EXTRACT(ISOYEAR FROM T)", lambda a, t: t.isocalendar()[0]),
    ("EXTRACT(DOY FROM T)", lambda a, t: t.timetuple().tm_yday),
    ("EXTRACT(ISODOW FROM A)", lambda a, t: a.isoweekday()),
    ("EXTRACT(DOW FROM T)", lambda a, t: t.isoweekday() % 7),
    ("EXTRACT(HOUR FROM T)", lambda a, t: t.hour),
    ("EXTRACT(SECOND FROM T)", lambda a, t: (t.second * 10**6 + t.microsecond) / 1e6),
    ("DATE_TRUNC('year', T)", lambda a, t: dt.datetime(t.year, 1, 1)),
    ("DATE_TRUNC('quarter', A)", lambda a, t: dt.date(a.year, (a.month - 1) // 3 * 3 + 1, 1)),
    ("DATE_TRUNC('month', A)", lambda a, t: a.replace(day=1)),
    ("DATE_TRUNC('week', A)", lambda a, t: a - dt.timedelta(a.weekday())),
    ("DATE_TRUNC('week', T)", lambda a, t: midnight(t.date() - dt.timedelta(t.weekday()))),
    ("DATE_TRUNC('day', T)", lambda a, t: midnight(t.date())),
    ("DATE_TRUNC('minute', T)", lambda a, t: t.replace(second=0, microsecond=0)),
    ("DATE_DIFF('year', T, A)", lambda a, t: a.year - t.year),
    ("DATE_DIFF('quarter', A, T)", lambda a, t: month(t) // 3 - month(a) // 3),
    ("DATE_DIFF('month', A, T)", lambda a, t: month(t) - month(a)),
    ("DATE_DIFF('week', A, T)", lambda a, t: (t.toordinal() - 1) // 7 - (a.toordinal() - 1) // 7),
    ("DATE_DIFF('day', T, A)", lambda a, t: a.toordinal() - t.toordinal()),
    ("DATE_DIFF('hour', A, T)", lambda a, t: (t.toordinal() - a.toordinal()) * 24 + t.hour),
    ("A + INTERVAL '1' MONTH", lambda a, t: moved(a, 1)),
    ("A - INTERVAL '1' QUARTER", lambda a, t: moved(a, -3)),
    ("T - INTERVAL '13' MONTH", lambda a, t: moved(t, -13)),
    ("A + INTERVAL '4' YEAR", lambda a, t: moved(a, 48)),
    ("A + INTERVAL '90000' YEAR", lambda a, t: None),
    ("T - INTERVAL '9999999' DAY", lambda a, t: None),
    ("T - INTERVAL '90' MINUTE", by(dt.timedelta(minutes=-90))),
    ("T + INTERVAL '3' WEEK", by(dt.timedelta(weeks=3))),
    ("MAKE_DATE(EXTRACT(YEAR FROM A), EXTRACT(MONTH FROM A), EXTRACT(DAY FROM A))", lambda a, t: a),
    ("MAKE_DATE(EXTRACT(YEAR FROM A), 2, 29)", lambda a, t: dt.date(a.year, 2, 29) if calendar.isleap(a.year) else None),
    ("CAST(CAST(A AS TEXT) AS DATE)", lambda a, t: a),
    ("CAST(T AS DATE)", lambda a, t: t.date()),
    ("T < A", lambda a, t: t < midnight(a)),
]  # fmt: skip


class Dates(unittest.TestCase):
    def test_against_the_calendar(self) -> None:
        for name, first, last, rows in (
            ("all years", dt.date.min, dt.date.max, 400),
            ("few years", dt.date(1968, 11, 3), dt.date(1973, 2, 28), 6000),
            ("one day", dt.date(2024, 2, 29), dt.date(2024, 2, 29), 40),
        ):
            chance = random.Random(name)

            def day(first: dt.date = first, last: dt.date = last, chance: random.Random = chance) -> dt.date:
                return dt.date.fromordinal(chance.randint(first.toordinal(), last.toordinal()))

            days = [None if chance.random() < 0.1 else day() for _ in range(rows)]
            at = [midnight(day()) + dt.timedelta(microseconds=chance.randrange(86_400_000_000)) for _ in range(rows)]
            moments = [None if chance.random() < 0.1 else one for one in at]
            table = pa.table({"A": pa.array(days, pa.date32()), "T": pa.array(moments, pa.timestamp("us"))})
            source = oak.Source.from_table(table, name="Days")
            for formula, wanted in TOLD:
                with self.subTest(formula, days=name):
                    answer = source.rows(["A", "T", ("x", formula)])
                    faults = 0
                    for one, moment, found in zip(days, moments, answer.table.column("x").to_pylist(), strict=True):
                        if one is not None and moment is not None:
                            said = wanted(one, moment)
                            self.assertEqual(found, said, (one, moment))
                            faults += said is None
                    self.assertGreaterEqual(sum(fault.rows for fault in answer.faults), faults)
