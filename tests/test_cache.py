"""Typed copies of origins that are slow to read: they never change an answer, are told stale, and a damaged one is dropped."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any
from unittest import mock

import oak_ledger as oak
from oak_ledger.origin import stamps
from oak_ledger.source import cache
from tests.support import FolderCase

DEFINITION = """[source]
name = "Loads"
key = ["No"]

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
clean = '''ROUND(VALUE, 1)'''

[[field]]
name = "Volume as it came"
column = "VOL"

[[field]]
name = "Day"
column = "DAY"
type = "date"

[[field]]
name = "Volume not rounded"
column = "VOL"
type = "decimal(12,2)"

[[field]]
name = "Day again"
column = "DAY"
type = "date"

[[field]]
name = "Double"
formula = '''"Volume" * 2'''

[[field]]
name = "Before"
formula = '''LAG("Volume") OVER (ORDER BY "No")'''

[[filter]]
name = "Real"
where = '''"Volume" >= 0'''
always = true
"""
QUESTIONS: tuple[tuple[list[Any], list[Any], str | None], ...] = (
    (["Mill"], ["SUM(Double) / COUNT(*)", "SUM(Volume)", "SUM(Before)"], None),
    (["Mill"], ["COUNT(*)"], "Double > 10"),
    ([], ["MAX(Day)", "SUM(LAG(Double) OVER (ORDER BY No))", 'MAX("Volume as it came")'], None),
    (["Day"], ["COUNT(*)"], "Day IS NULL"),
    (["Day again"], ['SUM("Volume not rounded")', "SUM(Volume)"], None),
    ([], ['COUNT("Volume as it came")', 'SUM("Volume not rounded")'], '"Day again" = Day'),
)
HEAD = "NO,MILL,VOL,DAY\n"


def told(source: oak.Source) -> list[Any]:
    """What a source answers: values, faults with places, rows counted."""
    said = []
    for by, show, where in QUESTIONS:
        answer = source.tally(by, show, where=where)
        faults = [(one.field, one.what, one.samples) for one in answer.faults]
        said.append((answer.table.to_pydict(), faults, answer.rows_read, answer.rows_used))
    return said


class Copies(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.cache = self.folder / "cache"
        self.enterContext(mock.patch.dict(os.environ, {"OAK_CACHE_FOLDER": str(self.cache)}))
        self.enterContext(mock.patch.dict(cache.MIN_BYTES, dict.fromkeys(cache.MIN_BYTES, 1)))
        self.write("in/a.csv", HEAD + "1,w,3.54,2026-01-05\n2,e,-1,2026-01-06\n3,w,8.25,2026-02-30\n")
        self.write("in/b.csv", HEAD + "4,e,,2026-01-09\n5,e,20,2026-01-11\n")
        self.write("mills.csv", "found,meant\nw,West\ne,East\n")
        self.write("loads.oak.toml", DEFINITION)

    def source(self) -> oak.Source:
        return oak.open_source("loads.oak.toml")

    def plain(self) -> list[Any]:
        """What is answered without a copy."""
        with mock.patch.dict(os.environ, {"OAK_CACHE": "off"}):
            return told(self.source())

    def how(self) -> str:
        """Whether a question made a copy, used one, or did neither."""
        steps = self.source().tally([], ["COUNT(*)"], explain=True).steps
        return next((one.note or "used" for one in steps if one.kind == "typed copy"), "none")

    def test_the_first_question_makes_it_and_the_next_ones_use_it(self) -> None:
        wanted = self.plain()
        self.assertFalse(self.cache.exists())
        self.assertEqual([self.how(), self.how()], ["made now", "used"])
        self.assertEqual(told(self.source()), wanted)
        self.assertEqual(self.cache.stat().st_mode & 0o777, 0o700)
        self.assertEqual({path.stat().st_mode & 0o077 for path in self.cache.iterdir()}, {0})
        fault = self.source().tally(["Day"], ["COUNT(*)"]).faults[0]
        self.assertEqual((fault.field, fault.samples[0]), ("Day", (3, {"Day": "2026-02-30"})))
        opened = self.source()
        opened.tally(["Day"])
        self.assertEqual([opened.opened.locate(row) for row in (3, 5)], ["a.csv row 3", "b.csv row 2"])
        self.write("in/a.csv", HEAD + "1,w,3.5,2026-01-05\n")
        self.assertEqual((self.how(), told(self.source())), ("made now", self.plain()))

    def test_an_edited_formula_does_not_make_it_stale_and_another_reading_does(self) -> None:
        for old, new, how in (
            ("", "", "made now"),
            ('"Volume" * 2', '"Volume" * 3', "used"),
            ("ROUND(VALUE, 1)", "ROUND(VALUE, 0)", "used"),
            ("always = true", "always = false", "used"),
            ("decimal(12,2)", "number", "made now"),
            ('name = "Double"', 'name = "Twice"', "used"),
            ('path = "in/*.csv"', 'path = "in/a*.csv"', "made now"),
        ):
            text = Path("loads.oak.toml").read_text()
            self.assertIn(old, text)
            self.write("loads.oak.toml", text.replace(old, new))
            with self.subTest(new):
                self.assertEqual(self.how(), how)
        self.write("loads.oak.toml", DEFINITION)
        self.write("mills.csv", "found,meant\nw,Western\n")
        self.assertEqual(told(self.source()), self.plain())

    def test_a_change_of_a_file_is_told_whatever_its_size_and_time(self) -> None:
        path = self.folder / "in" / "a.csv"
        body = path.read_bytes()
        changes = {
            "one byte, the same size and time": body.replace(b"3.54", b"3.64"),
            "the same again": body,
            "longer": body + b"9,w,1,2026-01-01\n",
        }
        self.how()
        for what, content in changes.items():
            times = path.stat()
            path.write_bytes(content)
            os.utime(path, ns=(times.st_atime_ns, times.st_mtime_ns))
            with self.subTest(what):
                self.assertEqual((self.how(), told(self.source())), ("made now", self.plain()))
        other = self.write("in/other", path.read_bytes())
        other.replace(path)  # another file under the same name
        self.assertEqual((self.how(), self.how()), ("made now", "used"))
        path.unlink()
        self.assertEqual((self.how(), told(self.source())), ("made now", self.plain()))

    def test_a_time_that_is_too_young_is_not_trusted(self) -> None:
        with mock.patch.object(stamps, "YOUNG_NANOSECONDS", -1):
            old = stamps.stamp_of(self.folder / "in" / "a.csv")
        young = stamps.stamp_of(self.folder / "in" / "a.csv")
        assert old is not None
        assert young is not None
        self.assertEqual((old.whole, bool(young.whole)), ("", True))
        path = self.folder / "in" / "a.csv"
        lying = cache.FileStamp(old.size, old.modified, old.changed, old.inode, old.ends, "0" * 32)
        self.assertEqual([one.same(path) for one in (old, young, lying)], [True, True, False])

    def test_a_damaged_copy_is_dropped_and_said(self) -> None:
        wanted = self.plain()
        self.how()
        (data,) = self.cache.glob("*.parquet")
        body = bytearray(data.read_bytes())
        rows, said = self.source().rows().table, []
        for at in range(4, len(body), len(body) // 40):
            broken = bytearray(body)
            broken[at] ^= 1 << at % 8
            (data,) = self.cache.glob("*.parquet")
            data.write_bytes(broken)
            with self.subTest(at):
                answer = self.source().rows(explain=True)
                self.assertEqual(answer.table, rows)
                told_so = [one.code for one in answer.findings if one.code == "copy-damaged"]
                said.append(told_so or [one.note for one in answer.steps if one.kind == "typed copy" and one.note])
                self.assertEqual(told(self.source()), wanted)
        self.assertGreater(len([one for one in said if one]), 30)  # else it was a byte that says nothing of values
        self.assertIn(["copy-damaged"], said)
        (note,) = self.cache.glob("*.json")
        for text in ("", "{", "[]", json.dumps({"layout": 0})):
            note.write_text(text)
            self.assertEqual(self.how(), "made now", text)

    def test_a_file_that_changes_while_it_is_read_leaves_no_copy(self) -> None:
        real = cache._write

        def meanwhile(source: oak.Source, data: Path, raw: set[str]) -> int:
            rows = real(source, data, raw)
            self.write("in/b.csv", HEAD + "7,e,1,2026-01-09\n")
            return rows

        with mock.patch.object(cache, "_write", meanwhile):
            self.assertEqual(self.how(), "none")
        self.assertEqual([*self.cache.iterdir()], [])
        self.assertEqual((self.how(), told(self.source())), ("made now", self.plain()))

    def test_a_full_disk_costs_nothing_but_the_copy(self) -> None:
        full = OSError(28, "No space left on device")
        for what in ("mkdir", "chmod", "replace"):
            with self.subTest(what), mock.patch.object(Path, what, side_effect=full):
                answer = self.source().tally(["Mill"], ["SUM(Volume)"])
            self.assertEqual([one.code for one in answer.findings if one.code.startswith("copy")], ["copy-not-kept"])
            self.assertIn("No space left", next(one.message for one in answer.findings if one.code == "copy-not-kept"))
            self.assertEqual([path.name for path in self.folder.glob("cache/*.parquet")], [])
        self.assertEqual(told(self.source()), self.plain())

    def test_two_at_once(self) -> None:
        wanted, found = self.plain(), []
        workers = [threading.Thread(target=lambda: found.append(told(self.source()))) for _ in range(4)]
        for one in workers:
            one.start()
        for one in workers:
            one.join()
        self.assertEqual(found, [wanted] * 4)
        code = "import oak_ledger as oak; from oak_ledger.source import cache; cache.MIN_BYTES['files'] = 1; print(oak.open_source('loads.oak.toml').tally().value())"
        cache.clear_cache()
        processes = [
            subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) for _ in range(3)
        ]
        self.assertEqual([one.communicate()[0].strip() for one in processes], ["3"] * 3)
        self.assertEqual((self.how(), told(self.source())), ("used", wanted))
        self.assertEqual(len(cache.cache_entries()), 1)

    def test_the_least_recently_used_goes_first(self) -> None:
        for name in ("one", "two", "three"):
            self.write(f"{name}.csv", "A\n" + "1\n" * 50)
            self.write(f"{name}.oak.toml", f'[source]\nname = "{name}"\n[origin]\nkind = "file"\npath = "{name}.csv"\n[[field]]\nname = "A"\ncolumn = "A"\ntype = "integer"\n')  # fmt: skip
            oak.open_source(f"{name}.oak.toml").tally()
        for at, name in enumerate(("three", "one", "two")):
            (note,) = [one.note for one in cache.cache_entries() if one.source == name]
            os.utime(note, (1000 + at, 1000 + at))
        self.assertEqual([one.source for one in cache.cache_entries()], ["two", "one", "three"])
        size = cache.cache_entries()[0].size
        with mock.patch.dict(os.environ, {"OAK_CACHE_LIMIT": str(int(size * 2.5))}):
            cache.clear_cache(cache.cache_limit())
        self.assertEqual([one.source for one in cache.cache_entries()], ["two", "one"])
        self.assertIn("two.csv", self.oak("cache"))
        self.assertEqual(len(json.loads(self.oak("cache", "--json"))["copies"]), 2)
        self.assertIn("2 typed copies", self.oak("cache", "--clear"))
        self.assertEqual([path for path in self.cache.iterdir() if path.suffix != ".columns"], [])
        with mock.patch.dict(os.environ, {"OAK_CACHE": "off"}):
            self.assertIn("OAK_CACHE is off", self.oak("cache"))

    def test_other_kinds_of_origins(self) -> None:
        from openpyxl import Workbook

        book = Workbook()
        sheet: Any = book.active
        for row in (["Mill", "Volume"], *(["Low Weir", at / 2] for at in range(40))):
            sheet.append(row)
        book.save("book.xlsx")
        self.write("rows.jsonl", "".join(json.dumps({"Mill": "Low Weir", "Volume": at / 2}) + "\n" for at in range(40)))
        with sqlite3.connect("yard.db") as base:
            base.execute("create table stock (Mill text, Volume real)")
            base.executemany("insert into stock values (?, ?)", [("Low Weir", at / 2) for at in range(40)])
        base.close()
        takes: dict[str, Any] = {"book.xlsx": {}, "rows.jsonl": {}, "yard.db": {"table": "stock"}}
        for name, given in takes.items():
            Path("x.oak.toml").unlink(missing_ok=True)
            oak.intake([name], definition="x.oak.toml", **given).save()
            found = []
            for _ in range(2):
                answer = oak.open_source("x.oak.toml").tally(["Mill"], ["SUM(Volume)"], explain=True)
                found.append((answer.to_dicts(), [one.note for one in answer.steps if one.kind == "typed copy"]))
            with self.subTest(name):
                self.assertEqual(found[0][0], found[1][0])
                self.assertEqual([notes for _, notes in found], [[""], [""]])  # intake made it
                self.assertEqual(found[0][0][0]["Mill"], "Low Weir")
        with self.subTest("a workbook that is known is not opened again"):
            oak.intake(["book.xlsx"], definition="y.oak.toml").save()
            oak.open_source("y.oak.toml").tally(["Mill"], ["SUM(Volume)"])
            with mock.patch("oak_ledger.origin.workbook._open", side_effect=AssertionError("it was opened")):
                self.assertEqual(oak.open_source("y.oak.toml").tally([], ["SUM(Volume)"]).value(), 390)

    def test_rows_that_were_left_out_are_still_told(self) -> None:
        self.write("in/b.csv", HEAD + "4,e,,2026-01-09\n5,e\n")
        self.write("loads.oak.toml", DEFINITION.replace('kind = "files"', 'kind = "files"\nbad_rows = "drop"'))
        said = []
        for _ in range(2):
            answer = self.source().tally([], ["COUNT(*)"])
            said.append([one.message for one in answer.findings if one.code == "rows-dropped"])
        self.assertEqual(said[0], said[1])
        self.assertEqual(len(said[0]), 1)


if __name__ == "__main__":
    import unittest

    unittest.main()
