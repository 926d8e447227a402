"""Dates without rows put in: each day, week, month between the first and the last, for each combination of the other keys; said plainly and compared."""

from __future__ import annotations

import datetime as dt
import random
from typing import Any

import pyarrow as pa

import oak_ledger as oak
from tests.support import FolderCase

UNITS = ("day", "week", "month", "quarter", "year")


def cut(day: dt.date, unit: str) -> dt.date:
    if unit == "week":
        return day - dt.timedelta(day.weekday())
    month = {"month": day.month, "quarter": day.month - (day.month - 1) % 3, "year": 1}.get(unit, day.month)
    return day if unit == "day" else dt.date(day.year, month, 1)


def after(day: dt.date, unit: str) -> dt.date:
    if unit in ("day", "week"):
        return day + dt.timedelta(7 if unit == "week" else 1)
    months = day.year * 12 + day.month - 1 + {"month": 1, "quarter": 3, "year": 12}[unit]
    return dt.date(months // 12, months % 12 + 1, 1)


class Fill(FolderCase):
    def test_drawn_dates(self) -> None:
        rng = random.Random(20261204)
        for draw in range(60):
            unit, zero, keyed = rng.choice(UNITS), rng.random() < 0.5, rng.random() < 0.5
            span = {"day": 40, "week": 200, "month": 700}.get(unit, 3000)
            rows = [
                {"D": rng.choice((None, *(dt.date(2023, 1, 1) + dt.timedelta(rng.randrange(span)) for _ in range(5)))), "K": rng.choice(("a", "b", None)), "N": rng.choice((None, 1, 2))}
                for _ in range(rng.choice((0, 1, 6, 30)))
            ]  # fmt: skip
            schema = pa.schema([("D", pa.date32()), ("K", pa.string()), ("N", pa.int64())])
            source = oak.Source.from_table(pa.Table.from_pylist(rows, schema=schema), name="T").with_field(
                "Cut", f"DATE_TRUNC('{unit}', D)"
            )
            groups: dict[tuple[Any, ...], list[Any]] = {}
            for row in rows:
                groups.setdefault((*((row["K"],) if keyed else ()), row["D"] and cut(row["D"], unit)), []).append(
                    row["N"]
                )
            days = [key[-1] for key in groups if key[-1] is not None]
            every = []
            at = min(days, default=dt.date.max)
            while days and at <= max(days):
                every.append(at)
                at = after(at, unit)
            for first in {key[:-1] for key in groups}:
                for day in every:
                    groups.setdefault((*first, day), [])
            with self.subTest(draw=draw, unit=unit, zero=zero, keyed=keyed):
                by = [*(["K"] if keyed else []), "Cut"]
                answer = source.tally(
                    by, ["SUM(N)", "COUNT(*)", "MAX(N)"], fill="zero" if zero else "null", totals=True
                )
                got = {tuple(row.values())[:-3]: [*row.values()][-3:] for row in answer.to_dicts()}
                wanted = {}
                for key, values in groups.items():
                    known = [one for one in values if one is not None]
                    nothing = 0 if zero and not values else None
                    wanted[key] = [sum(known) if known else nothing, len(values), max(known, default=None)]
                self.assertEqual(got, wanted)
                self.assertEqual(answer.totals.column("COUNT(*)")[0].as_py(), len(rows))

    def test_windows_reports_and_commands(self) -> None:
        self.write("t.csv", "Day,N\n2026-01-05,6\n2026-01-20,3\n2026-04-02,3\n")
        self.oak("intake", "t.csv", "--name", "T")
        self.oak("field", "add", "t", "Month", "DATE_TRUNC('month', Day)")
        source = oak.open_source("t")
        average = "AVG(SUM(N)) OVER (ORDER BY Month ROWS BETWEEN 2 PRECEDING AND CURRENT ROW)"
        rows = source.tally(["Month"], [("a", average)], fill="zero").to_dicts()
        self.assertEqual([row["a"] for row in rows], [9, 4.5, 3, 1])
        self.assertEqual(
            source.tally(["Month"], ["N"], fill="null", sort=["-Month"], limit=2).table.column("N").to_pylist(),
            [3, None],
        )
        said = self.oak("tally", "t", "--by", "Month", "--show", "N", "--fill", "null")
        self.assertEqual(said.count("null"), 2)
        text = '[report]\nname = "R"\nsource = "T"\n\n[[panel]]\nkind = "{}"\ntitle = "P"\nby = ["Month"]\nshow = ["N"]\nfill = "zero"\n'
        for kind in ("lines", "table", "bars"):
            report = oak.open_report(self.write("r.report.toml", text.format(kind)))
            self.assertEqual(report.view(source).panels[0].answer.table.column("N").to_pylist(), [9, 0, 0, 3], kind)
        for by, said in (
            (["N"], "none of the keys is a date"),
            (["Day", "Month"], "more than one"),
            (["CAST(Day AS TEXT)"], "none of the keys is a date"),
        ):
            with self.assertRaises(oak.OakError) as caught:
                source.tally(by, ["COUNT(*)"], fill="zero")
            self.assertIn(said, str(caught.exception))
        self.write("far.csv", "Day,K\n0001-01-01,1\n9999-12-31,2\n")
        oak.intake("far.csv", definition="far.oak.toml").save()
        with self.assertRaises(oak.OakError) as caught:
            oak.open_source("far").tally(["Day"], ["COUNT(*)"], fill="zero")
        self.assertEqual(caught.exception.code, "too-many-groups")
