"""A kept copy never changes an answer; filters leave out what a file says cannot get through, and change nothing either."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from tests.support import FolderCase

DEFINITION = """[source]
name = "Loads"
key = ["No"]
kept = "loads.kept.parquet"

[origin]
kind = "files"
path = "in/*.csv"

[[field]]
name = "No"
column = "NO"
type = "integer"

[[field]]
name = "Mill"
column = "MILL"
values_from = "mills.csv"

[[field]]
name = "Volume"
column = "VOL"
type = "decimal(12,2)"

[[field]]
name = "Day"
column = "DAY"
type = "date"

[[field]]
name = "Double"
formula = '''"Volume" * 2'''

[[field]]
name = "Before"
formula = '''LAG("Volume") OVER (ORDER BY "No")'''

[[field]]
name = "Old"
formula = '''CURRENT_DATE - DATE '2026-01-01' '''

[[field]]
name = "Rate"
formula = '''SUM("Double") / COUNT(*)'''

[[filter]]
name = "Real"
where = '''"Volume" >= 0'''
always = true
"""
QUESTIONS = (
    (["Mill"], ["Rate", "SUM(Volume)", "SUM(Before)", "MAX(Old)"], None),
    (["Mill"], ["COUNT(*)"], "Double > 10"),
    ([], ["MAX(Day)", "SUM(LAG(Double) OVER (ORDER BY No))"], None),
    (["Day"], ["COUNT(*)"], "Day IS NULL"),
)


def written(folder: Path) -> Path:
    (folder / "in").mkdir()
    (folder / "in" / "a.csv").write_text(
        "NO,MILL,VOL,DAY\n1,w,3.50,2026-01-05\n2,e,-1,2026-01-06\n3,w,8.25,2026-02-30\n"
    )
    (folder / "in" / "b.csv").write_text("NO,MILL,VOL,DAY\n4,e,,2026-01-09\n5,e,20,2026-01-11\n")
    (folder / "mills.csv").write_text("found,meant\nw,West\ne,East\n")
    path = folder / "loads.oak.toml"
    path.write_text(DEFINITION)
    return path


def told(source: oak.Source) -> list[object]:
    found: list[object] = []
    for by, show, where in QUESTIONS:
        answer = source.tally(by, show, where=where, totals=True)
        codes = [one.code for one in answer.findings if one.code != "copy-stale"]
        found.append(
            (
                answer.to_dicts(),
                answer.totals,
                [one.as_json() for one in answer.faults],
                codes,
                answer.rows_read,
                answer.rows_used,
            )
        )
    return found


def asked_copy(path: Path, show: str) -> bool:
    return "kept copy" in [step.kind for step in oak.open_source(path).tally([], [show], explain=True).steps]


class KeptCopy(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = written(self.folder)
        os.environ["OAK_CLOCK"] = "2026-03-01"
        self.addCleanup(os.environ.pop, "OAK_CLOCK")

    def without_copy(self) -> list[object]:
        text = self.path.read_text()
        plain = self.path.with_name("plain.oak.toml")
        plain.write_text(text.replace('kept = "loads.kept.parquet"\n', ""))
        return told(oak.open_source(plain))

    def test_answers_are_those_of_the_origin_after_every_change(self) -> None:
        changes = (
            ("nothing", lambda: None, {"SUM(Double)": True, "SUM(Before)": True, "MAX(Day)": False, "MAX(Old)": True}),
            ("a description", lambda: self.edit('name = "Double"', 'name = "Double"\ndescription = "twice"'), {"SUM(Double)": True}),
            ("a formula", lambda: self.edit('"Volume" * 2', '"Volume" * 3'), {"SUM(Double)": True, "SUM(Before)": True}),
            ("a field more", lambda: self.edit("[[filter]]", "[[field]]\nname = \"More\"\nformula = '''Double + 1'''\n\n[[filter]]"), {"SUM(More)": True}),
            ("a clean", lambda: self.edit('type = "date"', 'type = "date"\nclean = "VALUE + 1"'), {"MAX(Day)": False, "MAX(No)": True, "SUM(Double)": True}),
            ("the day", lambda: os.environ.update(OAK_CLOCK="2026-03-02"), {"MAX(Old)": True, "SUM(No)": True}),
            ("a filter", lambda: self.edit('"Volume" >= 0', '"Volume" >= -5'), {"SUM(No)": False}),
            ("a list", lambda: (self.folder / "mills.csv").write_text("found,meant\nw,Western\n"), {"SUM(No)": False}),
            ("a file", lambda: (self.folder / "in" / "c.csv").write_text("NO,MILL,VOL,DAY\n6,w,1,2026-01-05\n"), {"SUM(No)": False}),
        )  # fmt: skip
        for name, change, served in changes:
            with self.subTest(name):
                oak.open_source(self.path).keep()
                change()
                self.assertEqual(told(oak.open_source(self.path)), self.without_copy())
                for show, wanted in served.items():
                    self.assertEqual(asked_copy(self.path, show), wanted, show)

    def edit(self, old: str, new: str) -> None:
        text = self.path.read_text()
        self.assertIn(old, text)
        self.path.write_text(text.replace(old, new, 1))

    def test_a_changed_file_is_told_and_keeping_again_mends_it(self) -> None:
        source = oak.open_source(self.path)
        self.assertEqual(
            source.tally([], ["SUM(No)"]).findings[0].message,
            "The kept copy is not there; the origin was read instead.",
        )
        source.keep()
        os.utime(self.folder / "in" / "b.csv", (1, 1))
        found = oak.open_source(self.path).tally([], ["SUM(No)"]).findings
        self.assertEqual([one.code for one in found], ["copy-stale"])
        self.assertIn("older than in/b.csv", found[0].message)
        self.oak("run", str(self.path), "--keep")
        self.assertTrue(asked_copy(self.path, "SUM(No)"))

    def test_the_command_names_the_file_and_refuses_what_cannot_be_kept(self) -> None:
        self.edit('kept = "loads.kept.parquet"\n', "")
        self.assertIn("3 rows", self.oak("run", str(self.path), "--keep"))
        self.assertIn('kept = "loads.kept.parquet"', self.path.read_text())
        self.oak("run", str(self.path), "--keep", "--to", "x.csv", code=2)
        self.raises("no-copy", oak.Source.from_table(pa.table({"a": [1]}), name="A").keep)
        before = (self.folder / "in" / "a.csv").read_bytes()
        self.assertIn("over-origin", self.oak("run", str(self.path), "--to", "in/a.csv", code=3))
        self.assertEqual((self.folder / "in" / "a.csv").read_bytes(), before)
        (self.folder / "loads.kept.parquet").write_bytes(b"no Parquet")
        self.assertEqual(told(oak.open_source(self.path)), self.without_copy())


class LeftOut(FolderCase):
    """Parts of a Parquet file that a filter lets nothing through from are not read; answers are those of the whole table."""

    CONDITIONS = (
        ("d >= DATE '2024-02-01'", True), ("n < 10", True), ("n BETWEEN 100 AND 200 AND x > 0.5", True), ("m = 'M3' AND n > 5", True), ("m IN ('M0', 'M2')", True),
        ("n = 700.5", True), ("x > 2", True), ("NOT (n >= 5)", True), ("q >= 1.5", True), ("x IS NULL", False), ("e IS NOT NULL", True), ("big < 0", True),
        ("n < 10 OR x > 0.5", False), ("n / (n - 5) > 0 AND n < 10", False), ("b", False), ("at < TIMESTAMP '2024-01-01 01:00:00'", True), ("n IS DISTINCT FROM 3", False),
    )  # fmt: skip

    def test_answers(self) -> None:
        size = 1000
        numbers = np.arange(size)
        table = pa.table({
            "n": numbers, "x": pa.array(np.where(numbers % 7 == 0, np.nan, numbers % 10 / 10)), "m": [f"M{at // 250}" for at in range(size)], "b": numbers % 2 == 0,
            "d": pa.array(np.datetime64("2024-01-01") + numbers // 10), "q": pa.array(numbers / 500).cast(pa.decimal128(10, 3)), "e": pa.array([None] * 900 + [1] * 100, pa.int64()),
            "at": pa.array(np.datetime64("2024-01-01T00:00:00", "us") + numbers * 60_000_000), "big": pa.array(numbers.astype(np.uint64)),
        })  # fmt: skip
        table = table.rename_columns([name.capitalize() for name in table.column_names])
        pq.write_table(table, "loads.parquet", row_group_size=100)
        self.oak("intake", "loads.parquet", "--name", "Loads")
        source = oak.open_source("loads.oak.toml")
        whole = oak.Source.from_table(table, name="Loads")
        for condition, left_out in self.CONDITIONS:
            with self.subTest(condition):
                one, two = (
                    each.tally(["m"], ["COUNT(*)", "SUM(n)"], where=condition, explain=True) for each in (source, whole)
                )
                self.assertEqual(one.table, two.table)
                self.assertEqual((one.rows_read, one.rows_used), (two.rows_read, two.rows_used))
                self.assertEqual([each.as_json() for each in one.faults], [each.as_json() for each in two.faults])
                if condition != "big < 0":
                    self.assertEqual("not read" in [step.kind for step in one.steps], left_out)
