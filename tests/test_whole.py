"""Rows come from one state of a file, in the writing that intake learnt: what changed since is told in the answer itself, or refused."""

from __future__ import annotations

import os
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.engine.options import overridden
from oak_ledger.origin.csv import reader
from tests.support import FolderCase

OLD = "Mill,Loads\n" + "".join(f"Low {at},1\n" for at in range(4000))
NEW = "Mill,Loads\n" + "".join(f"Ash {at},2\n" for at in range(5000))

# How a file is written when it is taken in, how later, and what every answer over X must say: a fault's words, a refusal's code, or nothing.
LATER: list[tuple[str, str, str, str]] = [
    ("a decimal comma becomes a point", "N;X\n1;1,5\n2;2,25\n", "N;X\n1;1.5\n2;2,25\n", "not a number with the decimal mark ,"),
    ("thousands become decimals", 'N,X\n1,"1,234.50"\n2,"2,000"\n', 'N,X\n1,"1,2"\n2,"2,000"\n', "not a number with the decimal mark . and the thousands mark ,"),
    ("points between thousands become decimals", "N;X\n1;1.234,50\n2;2.000\n", "N;X\n1;1.5\n2;2.000\n", "thousands mark ."),
    ("thousands marks come", "N\tX\n1\t1500\n2\t2000\n", "N\tX\n1\t1,500\n2\t2000\n", "not a whole number"),
    ("a currency comes", "N;X\n1;1,5\n2;2,25\n", "N;X\n1;1,5 EUR\n2;2,25\n", "not a number"),
    ("another currency comes", "N\tX\n1\t1.50 EUR\n2\t2.25 EUR\n", "N\tX\n1\t1.50 USD\n2\t2.25 EUR\n", "not a number"),
    ("months come first", "N,X\n1,31/01/2026\n2,01/02/2026\n", "N,X\n1,01/31/2026\n2,02/01/2026\n", "not a valid date"),
    ("days are written otherwise", "N,X\n1,2026-01-31\n2,2026-02-01\n", "N,X\n1,31.01.2026\n2,2026-02-01\n", "not a date"),
    ("moments get another zone", "N\tX\n1\t2026-01-31T10:20:30+01:00\n2\t2026-01-31T10:20:30+01:00\n", "N\tX\n1\t2026-07-31T10:20:30+02:00\n2\t2026-01-31T10:20:30+01:00\n", "not a timestamp"),
    ("moments lose their Z", "N\tX\n1\t2026-01-31T10:20:30Z\n2\t2026-01-31T10:20:30Z\n", "N\tX\n1\t2026-01-31T10:20:30+02:00\n2\t2026-01-31T10:20:30Z\n", "not a timestamp"),
    ("another separator", "N;X\n1;15\n2;25\n", "N,X\n1,15\n2,25\n", ""),
    ("a value more in a row", "N;X\n1;15\n2;25\n", "N;X\n1;15;7\n2;25\n", "!ragged-row"),
    ("another encoding", "N;X\n1;ä\n2;ö\n", "N;X\n1;\udce4\n2;\udcf6\n", "!wrong-encoding"),
    ("a title comes", "N;X\n1;15\n2;25\n", "Loads of June\nN;X\n1;15\n2;25\n", ""),
    ("only names", "N;X\n1;15\n2;25\n", "N;X\n", "There is no row in t.csv"),
    ("nothing", "N;X\n1;15\n2;25\n", "", "!empty-file"),
    ("as it was", "N;X\n1;15\n2;25\n", "N;X\n1;16\n2;26\n", ""),
]  # fmt: skip


def replaced(path: Path, content: bytes) -> None:
    """Another file takes the place of one."""
    other = path.with_name("other")
    other.write_bytes(content)
    other.replace(path)


def cut(path: Path, _content: bytes) -> None:
    """A file loses its second half."""
    os.truncate(path, path.stat().st_size // 2)


def longer(path: Path, content: bytes) -> None:
    """A file gets more."""
    with path.open("ab") as file:
        file.write(content[-2000:])


CHANGES: list[Callable[[Path, bytes], object]] = [replaced, Path.write_bytes, cut, longer]


class Whole(FolderCase):
    def taken(
        self, source: oak.Source, path: Path, change: Callable[[Path, bytes], object], new: bytes, old: bytes
    ) -> None:
        """A question during which the file changes: the old total, or a refusal; never anything else."""
        path.write_bytes(old)
        done = []

        def meanwhile(rows: int) -> None:
            if not done:
                done.append(rows)
                change(path, new)

        for threads in (1, 2):
            path.write_bytes(old)
            done.clear()
            opened = oak.open_source(self.folder / "t.oak.toml", progress=meanwhile)
            with overridden(threads=threads), mock.patch.object(reader, "BLOCK_BYTES", 3000):
                try:
                    self.assertEqual(opened.tally([], ["SUM(Loads)"]).value(), 4000)
                    self.assertFalse(done, "the change came too late to prove anything")
                except oak.OakError as error:
                    self.assertIn(error.code, ("file-changed", "unreadable"), str(error))
                    self.assertTrue(done)

    def test_text_that_changes_while_it_is_read(self) -> None:
        path = self.write("t.csv", OLD)
        found = oak.intake([path], definition="t.oak.toml")
        found.save()
        with mock.patch.dict(os.environ, {"OAK_CACHE": "off"}):
            for change in CHANGES:
                with self.subTest(change.__name__):
                    self.taken(found.source, path, change, NEW.encode(), OLD.encode())

    def test_nothing_is_written_of_a_file_that_changes(self) -> None:
        path = self.write("t.csv", OLD)
        oak.intake([path], definition="t.oak.toml").save()
        with mock.patch.dict(os.environ, {"OAK_CACHE": "off"}), mock.patch.object(reader, "BLOCK_BYTES", 3000):
            source = oak.open_source("t.oak.toml", progress=lambda _rows: replaced(path, NEW.encode()))
            self.raises("file-changed", source.write, "out.parquet")
        self.assertEqual([one.name for one in self.folder.iterdir() if "out" in one.name], [])

    def test_a_parquet_file_that_changes_while_it_is_read(self) -> None:
        path = self.folder / "t.parquet"

        def made(rows: int, value: int) -> bytes:
            table = pa.table({"Mill": [f"Low {at}" for at in range(rows)], "Loads": [value] * rows})
            pq.write_table(table, path, row_group_size=500, use_dictionary=False)
            return path.read_bytes()

        new, old = made(5000, 2), made(4000, 1)
        source = oak.intake([path], definition="t.oak.toml").source
        for change in CHANGES:
            path.write_bytes(old)
            batches = source.opened.fragments  # type: ignore[attr-defined]

            def changing(
                columns: list[str], change: Callable[[Path, bytes], object] = change, batches: object = batches
            ) -> object:
                for at, fragment in enumerate(batches(columns)):  # type: ignore[operator]
                    if at == 4:
                        change(path, new)
                    yield fragment

            with (
                self.subTest(change.__name__),
                mock.patch.object(type(source.opened), "fragments", lambda _self, columns: changing(columns)),
            ):
                try:
                    self.assertEqual(source.tally([], ["SUM(Loads)"]).value(), 4000)
                    self.fail("the change was not told")
                except oak.OakError as error:
                    self.assertIn(error.code, ("file-changed", "unreadable"), str(error))

    def test_what_intake_learnt_is_looked_at_by_every_answer(self) -> None:
        for about, first, later, wanted in LATER:
            with self.subTest(about):
                path = self.write("t.csv", first)
                oak.intake([path], definition="t.oak.toml").save(replace=True)
                path.write_bytes(later.encode("utf-8", "surrogateescape"))
                source = oak.open_source("t.oak.toml")
                if wanted.startswith("!"):
                    self.raises(wanted[1:], source.rows, ["X"])
                    continue
                answer = source.rows(["X"])
                told = [*(one.sentence() for one in answer.faults), *(one.message for one in answer.findings)]
                if wanted:
                    self.assertIn(wanted, " ".join(told))
                else:
                    self.assertEqual(told, [])
                self.assertEqual(answer.table.column(0).null_count, sum(one.rows for one in answer.faults))

    def test_no_rows_and_no_columns_are_told_and_never_written(self) -> None:
        path = self.write("t.csv", "N;X\n1;15\n2;25\n")
        self.oak("intake", "t.csv")
        self.oak("export", "t", "--to", "out.csv")
        kept = Path("out.csv").read_bytes()
        path.write_text("N;X\n")
        self.assertIn("no-rows", self.oak("tally", "t", "--show", "COUNT(*)", code=1))
        self.assertIn("no-rows", self.oak("export", "t", "--to", "out.csv", code=3))
        path.write_text("A;B\n1;2\n")
        self.assertIn("columns-gone", self.oak("tally", "t", "--show", "COUNT(*)", code=1))
        self.assertIn("no-fields", self.oak("export", "t", "--to", "out.csv", code=3))
        self.assertEqual(Path("out.csv").read_bytes(), kept)
        path.write_text("N;B\n1;2\n")
        self.assertIn("left out: X", self.oak("export", "t", "--to", "out.csv", code=1))
        self.assertIn("left out: X", self.oak("peek", "t", code=1))


if __name__ == "__main__":
    unittest.main()
