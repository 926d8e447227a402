"""Parts of a join as people have them: valid on a day, totalled first, sheets, tables, definitions and published sources; held against SQL."""

from __future__ import annotations

import csv
import random
import sqlite3
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.catalogue import Catalogue
from tests.support import FolderCase

Rows = list[tuple[Any, ...]]


class Joined(FolderCase):
    def csv(self, name: str, names: tuple[str, ...], rows: Rows) -> None:
        with (self.folder / name).open("w", encoding="utf-8", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(names)
            writer.writerows(rows)

    def sql(self, question: str, **tables: tuple[tuple[str, ...], Rows]) -> Rows:
        base = sqlite3.connect(":memory:")
        self.addCleanup(base.close)
        for name, (columns, rows) in tables.items():
            base.execute(f"create table {name} ({', '.join(columns)})")
            base.executemany(f"insert into {name} values ({', '.join('?' * len(columns))})", rows)
        return base.execute(question).fetchall()

    def joined(self, *paths: str, **keys: Any) -> oak.Intake:
        found = oak.intake_join(paths, keep_names=True, definition="made.oak.toml", **keys)
        found.save(replace=True)
        return found

    def asked(self) -> Rows:
        return [tuple(row.values()) for row in oak.open_source("made").rows().table.to_pylist()]

    def test_drawn_ranges_against_sql(self) -> None:
        """The row that is valid on the day, the one that began last where several are; with and without ends, gaps, nulls, blanks, repeats."""
        rng = random.Random(20261202)
        for draw in range(40):

            def day() -> str | None:
                days = [f"2026-0{rng.randrange(1, 4)}-{rng.randrange(1, 29):02}" for _ in range(9)]
                return rng.choice((None, *days))

            keys = ["a", "b", "c", " ", None]
            left = [(at, rng.choice(keys), day()) for at in range(rng.choice((0, 1, 30)))]
            right = [(rng.choice(keys), day(), day(), f"p{at}") for at in range(rng.choice((0, 1, 12)))]
            if not draw % 2:  # ends are after beginnings
                right = [
                    (key, *sorted((start or "2026-01-01", end or "2026-03-30")), price)
                    for key, start, end, price in right
                ]
            how, ended = rng.choice(("left", "inner")), rng.random() < 0.5
            until = "Until IS NULL OR Until >= Day" if ended else "TRUE"
            newest = "p.Since = (SELECT MAX(Since) FROM p AS q WHERE q.Key = l.Key AND q.Since <= l.Day" + (
                " AND (q.Until IS NULL OR q.Until >= l.Day))" if ended else ")"
            )
            wanted = self.sql(
                f"""SELECT l.Id, l.Key, l.Day, p.Until, p.Price FROM l {how.upper()} JOIN p
                ON p.Key = l.Key AND TRIM(p.Key) <> '' AND p.Since <= l.Day AND ({until}) AND {newest}
                AND p.rowid = (SELECT MAX(rowid) FROM p AS r WHERE r.Key = p.Key AND r.Since = p.Since AND ({until.replace("Until", "r.Until")}))
                ORDER BY l.Id""",
                l=(("Id", "Key", "Day"), left), p=(("Key", "Since", "Until", "Price"), right),
            )  # fmt: skip
            with self.subTest(draw=draw, left=left, right=right, how=how, ended=ended):
                self.typed("left.parquet", left, ("Id", "Key", "Day"), days=("Day",))
                self.typed("right.parquet", right, ("Key", "Since", "Until", "Price"), days=("Since", "Until"))
                found = self.joined(
                    "left.parquet", "right.parquet", on=["Key"], how=how, day="Day", valid_from="Since", valid_until="Until" if ended else "",
                )  # fmt: skip
                got = sorted(
                    (row["Id"], row["Key"], str(row["Day"]) if row["Day"] else None, str(row["Until"]) if row["Until"] else None, row["Price"])
                    for row in oak.open_source("made").rows(["Id", "Key", "Day", "Until", "Price"]).table.to_pylist()
                )  # fmt: skip
                self.assertEqual(got, wanted)
                step = found.joins[0]
                self.assertEqual(step.left_alone, len(left) - sum(row[-1] is not None for row in wanted))

    def typed(self, name: str, rows: Rows, names: tuple[str, ...], days: tuple[str, ...]) -> None:
        kinds = [pa.string() if one != "Id" else pa.int64() for one in names]
        columns = list(zip(*rows, strict=True)) or [()] * len(names)
        table = pa.table(
            [pa.array(column, kind) for column, kind in zip(columns, kinds, strict=True)], names=list(names)
        )
        for one in days:
            at = table.schema.get_field_index(one)
            table = table.set_column(at, one, table.column(one).cast(pa.date32()))
        pq.write_table(table, self.folder / name)

    def test_days_as_texts(self) -> None:
        self.csv(
            "loads.csv",
            ("Load", "Mill", "Day"),
            [(1, "A", "2026-03-01"), (2, "A", "2026-04-15"), (3, "B", "2026-03-01")],
        )
        self.csv(
            "prices.csv",
            ("Mill", "From", "Price"),
            [("A", "2026-01-01", "10"), ("A", "2026-04-01", "12"), ("C", "2026-01-01", "9")],
        )
        self.joined("loads.csv", "prices.csv", on=["Mill"], day="Day", valid_from='"From"')
        self.assertEqual([row[-1] for row in self.asked()], [10, 12, None])
        self.csv("other.csv", ("Mill", "From", "Price"), [("A", "01.01.2026", "10"), ("A", "01.04.2026", "12")])
        with self.assertRaises(oak.OakError) as caught:
            self.joined("loads.csv", "other.csv", on=["Mill"], day="Day", valid_from='"From"')
        self.assertEqual(caught.exception.code, "join-value")
        self.assertIn("FORMAT", str(caught.exception))
        self.joined(
            "loads.csv", "other.csv", on=["Mill"], day="Day", valid_from="CAST(\"From\" AS DATE FORMAT 'DD.MM.YYYY')"
        )
        self.assertEqual([row[-1] for row in self.asked()], [10, 12, None])
        with self.assertRaises(oak.OakError):
            oak.intake_join(["loads.csv", "prices.csv"], on=["Mill"], day="Day")

    def test_ranges_that_overlap_are_said(self) -> None:
        self.csv("loads.csv", ("Load", "Mill", "Day"), [(1, "A", "2026-03-01")])
        self.csv("prices.csv", ("Mill", "From", "To", "Price"), [("A", "2026-01-01", "2026-12-31", 10), ("A", "2026-02-01", "2026-02-10", 12), ("B", "2026-01-01", "2026-01-31", 1), ("B", "2026-02-01", "", 1)])  # fmt: skip
        said = self.oak("join", "loads.csv", "prices.csv", "--on", "Mill", "--day", "Day", "--valid-from", '"From"', "--valid-until", "NULLIF(\"To\", '')", "--to", "made.oak.toml")  # fmt: skip
        self.assertIn("1 key of Prices with rows valid on the same day", said)
        self.assertEqual(self.asked()[0][-1], 10)  # the later one has ended

    def test_totals_before_the_join(self) -> None:
        loads = [(mill, amount) for mill, amount in (("A", "1.50"), ("A", "2.25"), ("B", "4.00"), (" a", "1.00"))]
        self.csv("mills.csv", ("Mill", "Town"), [("A", "Elm"), ("B", "Fen"), ("C", "Ash")])
        self.csv("loads.csv", ("Mill", "Net"), loads)
        totals = {"Loads": "COUNT(*)", "Net": "SUM(CAST(Net AS DECIMAL(9, 2)))"}
        self.joined("mills.csv", "loads.csv", on=["Mill"], totals=totals)
        wanted = self.sql("SELECT m.Mill, Town, COUNT(l.Mill), SUM(Net) FROM m LEFT JOIN l USING (Mill) GROUP BY 1 ORDER BY 1",
                          m=(("Mill", "Town"), [("A", "Elm"), ("B", "Fen"), ("C", "Ash")]), l=(("Mill", "Net real"), loads))  # fmt: skip
        self.assertEqual([(*row[:2], row[2] or 0, row[3] and float(row[3])) for row in self.asked()], wanted)
        self.joined("mills.csv", "loads.csv", on=["Mill"], match="UPPER(BTRIM(VALUE))", totals=totals)
        self.assertEqual([row[2] for row in self.asked()], [3, 1, None])  # keys that match are totalled together
        for wrong, code in (("CAST(Net AS INTEGER)", "join-totals"), ("SUM(CAST(Mill AS INTEGER))", "join-value")):
            with self.assertRaises(oak.OakError) as caught:
                self.joined("mills.csv", "loads.csv", on=["Mill"], totals={"X": wrong})
            self.assertEqual(caught.exception.code, code)
        self.assertIn(
            "NAME = FORMULA", self.oak("join", "mills.csv", "loads.csv", "--on", "Mill", "--total", "COUNT(*)", code=2)
        )

    def test_sheets_and_tables_as_parts(self) -> None:
        import openpyxl

        book = openpyxl.Workbook()
        for name, rows in (
            ("Loads", [("Mill", "Net"), ("A", 5), ("B", 6)]),
            ("Towns", [("Mill", "Town"), ("A", "Elm")]),
        ):
            sheet = book.create_sheet(name)
            for row in rows:
                sheet.append(row)
        book.remove(book["Sheet"])
        book.save(self.folder / "book.xlsx")
        base = sqlite3.connect(self.folder / "yard.db")
        base.executescript(
            "create table rates (Mill text, Rate real); create table other (x); insert into rates values ('A', 0.5), ('B', 0.25)"
        )
        base.close()
        self.joined("book.xlsx#Loads", "book.xlsx#Towns", "yard.db#rates", on=["Mill"])
        self.assertEqual(self.asked(), [("A", 5, "Elm", 0.5), ("B", 6, None, 0.25)])

    def test_definitions_and_published_sources_as_parts(self) -> None:
        self.csv(
            "loads.csv",
            ("Mill", "Day", "Net"),
            [("A", "01.03.2026", "1.500,00"), ("B", "02.03.2026", "n/a"), ("A", "13.04.2026", "2,50")],
        )
        self.csv("towns.csv", ("Mill", "Town", "Secret"), [("A", "Elm", "x"), ("B", "Fen", "y")])
        oak.intake("loads.csv", definition="loads.oak.toml").save()
        oak.intake("towns.csv", definition="towns.oak.toml").save()
        self.oak("field", "set", "towns", "Secret", "--hidden")
        catalogue = Catalogue.open(self.folder / "shared", create=True)
        catalogue.publish(oak.open_source("towns"))
        catalogue.release("Towns")
        for towns in ("towns.oak.toml", "shared#Towns"):
            with self.subTest(towns):
                self.joined("loads.oak.toml", towns, on=["Mill"])
                made = oak.open_source("made")
                self.assertEqual([one.name for one in made.fields], ["Mill", "Day", "Net", "Town"])
                self.assertEqual([str(one.type) for one in made.fields][1], "date")
                self.assertEqual(made.rows(["Town", "Net"]).table.to_pylist()[0]["Town"], "Elm")
                self.assertEqual(float(made.tally(["Town"], ["SUM(Net)"]).table.column(1)[0].as_py()), 1502.5)

    def test_a_source_over_a_source(self) -> None:
        self.csv("loads.csv", ("Mill", "Net"), [("A", 1), ("B", 2), ("A", 0)])
        oak.intake("loads.csv", definition="loads.oak.toml").save()
        self.oak("field", "add", "loads", "Share", "1 / Net")
        oak.intake("loads.oak.toml", name="Above", definition="above.oak.toml").save()
        above = oak.open_source("above")
        answer = above.rows()
        self.assertEqual(answer.table.column("Share").to_pylist()[:2], [1, 0.5])
        self.assertIsNone(answer.table.column("Share").to_pylist()[2])
        self.assertIn("input-not-computed", [one.code for one in answer.findings])
        self.oak("field", "rename", "loads", "Net=Weight")
        self.assertIn("column 'Net' is missing", self.oak("check", "above", code=1))
        definition = self.folder / "loads.oak.toml"
        definition.write_text(
            definition.read_text("utf-8")
            .replace('kind = "file"\npath = "loads.csv"', 'kind = "source"\npath = "above.oak.toml"')
            .replace('header = "first"\n', ""),
            "utf-8",
        )
        said = self.oak("tally", "above", code=None)
        self.assertIn("need each other's rows", said)
