"""Delimited text at every cut: what is well written comes out exactly, what is not is refused by the quick and the careful reader alike."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Any
from unittest import mock

import hypothesis
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.origin import OriginSpec, open_origin
from oak_ledger.origin.csv import reader
from tests.support import FolderCase

SETTINGS = hypothesis.settings(
    deadline=None, max_examples=150, derandomize=True, suppress_health_check=[*hypothesis.HealthCheck]
)
CELL = st.lists(st.sampled_from(["a", "é", "€", " ", '"', ",", ";", "\n", "\r\n", "1", "😀"]), max_size=6).map("".join)
# Texts after a header of two columns, each with what must be said of it: the line, and words; or the rows.
WRITTEN: list[tuple[str, bytes, list[tuple[str | None, str | None]] | str]] = [
    ("plain", b"1,2\n3,4\n", [("1", "2"), ("3", "4")]),
    ("no end", b"1,2\n3,", [("1", "2"), ("3", None)]),
    ("ends of another system", b"1,2\r\n3,4\r\n", [("1", "2"), ("3", "4")]),
    ("empty lines", b"\n1,2\n\n\n3,4\n\n", [("1", "2"), ("3", "4")]),
    ("empty in quotes is a text", b'"",2\n,""\n', [("", "2"), (None, "")]),
    ("quotes doubled", b'"a ""b""",2\n"""",4\n', [('a "b"', "2"), ('"', "4")]),
    ("line ends in quotes", b'"a\nb",2\n"c\r\nd",4\n', [("a\nb", "2"), ("c\r\nd", "4")]),
    ("spaces stay", b" 1 , 2\n", [(" 1 ", " 2")]),
    ("a quote that is never closed", b'1,2\n"3,4\n5,6\n', "line 3: a quote that begins here is never closed"),
    ("more after a quote", b'1,2\n"3"x,4\n', "line 3: a quote is wrong"),
    ("a value too many", b"1,2\n3,4,5\n6,7\n", "line 3: it has 3 values instead of 2"),
    ("a value too few", b"1,2\n3\n6,7\n", "line 3: it has 1 values instead of 2"),
    ("a zero byte", b"1,2\n3,\x004\n", "line 3: character 3 is a zero byte"),
    ("a byte of another encoding", b"1,2\n\xe4,4\n", "line 3: byte 1 is not utf-8"),
    ("after a value with line ends", b'"a\nb",2\n3,4,5\n', "line 4: it has 3 values instead of 2"),
]


class Delimited(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = Path("t.csv")

    def spec(self, **more: Any) -> OriginSpec:
        return OriginSpec(kind="file", path="t.csv", **{"header": 1, "encoding": "utf-8", **more})

    def read(self, block: int = 1 << 20, *, careful: bool = False, **more: Any) -> Any:
        """The rows as lists of texts, or the message of the refusal."""
        strict = mock.patch.object(reader, "_is_strict", return_value=False) if careful else mock.MagicMock()
        with mock.patch.object(reader, "BLOCK_BYTES", block), strict:
            feed = open_origin(self.spec(**more), Path())
            try:
                return [
                    row for batch in feed.batches(["A", "B"]) for row in zip(*batch.to_pydict().values(), strict=True)
                ]
            except oak.OakError as error:
                return error.message

    def test_what_is_written_is_read_or_refused(self) -> None:
        for name, content, wanted in WRITTEN:
            self.path.write_bytes(b"A,B\n" + content)
            for block in (1 << 20, 9):
                for careful in (False, True):
                    with self.subTest(name, block=block, careful=careful):
                        found = self.read(block, careful=careful)
                        if isinstance(wanted, str):
                            self.assertIn(wanted, found)
                        elif careful:  # it cannot tell what is empty in quotes from what is empty
                            self.assertEqual(found, [tuple(one or None for one in row) for row in wanted])
                        else:
                            self.assertEqual(found, wanted)

    @SETTINGS
    @hypothesis.given(
        rows=st.lists(st.tuples(CELL, CELL), max_size=8),
        separator=st.sampled_from(",;\t|"),
        quote=st.sampled_from("\"'"),
        ends=st.sampled_from(["\n", "\r\n"]),
        every=st.booleans(),
        block=st.integers(4, 40),
    )
    def test_what_is_well_written_comes_out_exactly(
        self, rows: list[tuple[str, str]], separator: str, quote: str, ends: str, every: bool, block: int
    ) -> None:
        out = io.StringIO()
        quoting: Any = csv.QUOTE_ALL if every else csv.QUOTE_MINIMAL
        writer = csv.writer(out, delimiter=separator, quotechar=quote, lineterminator=ends, quoting=quoting)
        writer.writerows([("A", "B"), *rows])
        self.path.write_bytes(out.getvalue().encode())
        found = self.read(block, separator=separator, quote=quote)
        self.assertEqual([tuple(one or "" for one in row) for row in found], rows)

    @SETTINGS
    @hypothesis.given(
        content=st.lists(st.sampled_from([b"a", b",", b",", b'"', b"\n", b"\n", b"\r\n", b" ", b"\xc3\xa9", b"\xff", b"\0"]), max_size=30).map(b"".join),
        block=st.integers(4, 40),
    )  # fmt: skip
    def test_both_readers_say_the_same_of_anything(self, content: bytes, block: int) -> None:
        self.path.write_bytes(b"A,B\n" + content)
        careful = self.read(careful=True)
        for size in (block, 1 << 20):
            found = self.read(size)
            if isinstance(careful, str):  # where several rows are wrong, either may be named
                self.assertIsInstance(found, str, careful)
            else:
                self.assertEqual([tuple(one or None for one in row) for row in found], careful)
