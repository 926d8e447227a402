"""Text files cut by the compiled loop against Arrow's reader and the plain way: every edge, small files, what is not plain."""

from __future__ import annotations

import csv
import io
import itertools
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.engine.tuning import tuned
from oak_ledger.errors import OakError
from oak_ledger.loops import loops, without_loops
from oak_ledger.loops.rows import Wanted, columns
from oak_ledger.loops.text import few, plain_numbers
from oak_ledger.origin import feeds, rows_of_text
from oak_ledger.origin.spec import ReadingSpec
from tests.test_engine import told

CELL = st.one_of(
    st.sampled_from(["", '""', "a", '"a"', '"a,b"', '"x\ny"', '"say ""so"""', '""""', 'a"b', '"a"b', "7.50", " ", "ß\U00010400", '"\r"', "\r", "0123456789abcdefg", '"' + "q" * 70 + '"']),
    st.text('ab",\n\r', max_size=4),
)  # fmt: skip


class Delimited(unittest.TestCase):
    """Rows cut by the compiled loop are those that Arrow's reader gives, or the loop leaves them to it."""

    @settings(max_examples=250, deadline=None)
    @given(
        st.lists(st.lists(CELL, min_size=1, max_size=3), max_size=8),
        st.sampled_from(["\n", "\r\n"]),
        st.sampled_from([b"", b"\xef\xbb\xbf"]),
        st.booleans(),
        st.sampled_from(["utf-8", "cp1252"]),
        st.integers(1, 90),
        st.sampled_from(['"', ""]),
        st.one_of(st.just(0), st.integers(1, 70), st.integers(16_300, 16_400)),
        st.permutations(range(3)),
    )
    def test_the_same_rows(
        self,
        rows: Any,
        ends: str,
        mark: bytes,
        open_end: bool,
        encoding: str,
        block: int,
        quote: str,
        before: int,
        order: list[int],
    ) -> None:
        width = len(rows[0]) if rows else 2
        names = [f"c{at}" for at in range(width)]
        block = block if before < 100 else 1 << 20
        if before:  # what follows lies across edges of 64 bytes, and of 16 kB
            rows = [["x" * before] * width, *rows]
        text = ends.join([",".join(names), *(",".join(row) for row in rows)])
        text += ends * (
            open_end or text.endswith(",")
        )  # Arrow's reader takes an empty value at the very end for one in quotes
        spec = ReadingSpec(kind="files", path="x.csv", separator=",", quote=quote, encoding="utf-8", header="first")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.csv"
            path.write_bytes(mark + text.encode(encoding, "replace"))
            found = []
            for plain in (True, False):
                with (
                    mock.patch.object(rows_of_text, "BLOCK", block),
                    mock.patch.object(rows_of_text, "LINE", max(block // 2, 1)),
                    without_loops() if plain else tuned(),
                ):
                    try:
                        wanted = [names[at] for at in order[: max(before % 4, 1)] if at < width]
                        batches = [
                            batch
                            for stretch in rows_of_text.stretches(path, spec, wanted, lambda _: None)
                            for batch in stretch()
                        ]
                        found.append([row for batch in batches for row in batch.to_pylist()])
                    except OakError as error:
                        found.append([str(error)])
        self.assertEqual(found[0], found[1])


class SmallFiles(unittest.TestCase):
    """Small files are read together, and their rows computed together; what comes out says nothing of it."""

    def test_answers_faults_and_places_are_those_of_each_file_by_itself(self) -> None:
        sizes, row = (3, 1, 0, 40, 2, 2, 200, 1, 5), itertools.count(1)
        with tempfile.TemporaryDirectory() as folder:
            for at, size in enumerate(sizes):
                lines = [f"m{(one := next(row)) % 3},{one},{'no' if one % 29 == 0 else one / 4}" for _ in range(size)]
                lines = ["K,N,X", *lines]
                if at == 4:  # has a column less
                    lines = [line.rpartition(",")[0] for line in lines]
                (Path(folder) / f"part_{at}.csv").write_text("\n".join(lines) + "\n")
            text = '[source]\nname = "S"\n\n[origin]\nkind = "files"\npath = "part_*.csv"\n'
            for name, kind in {"K": "text", "N": "integer", "X": "number", "File": "text"}.items():
                text += f'\n[[field]]\nname = "{name}"\ncolumn = "{name}"\ntype = "{kind}"\n'
            text += '\n[[field]]\nname = "Z"\nformula = "100 / (N - 77)"\n'
            path = Path(folder) / "s.oak.toml"
            path.write_text(text)
            found = []
            sums = [("Sum", "SUM(X)"), ("Rows", "COUNT(*)"), ("Least", "MIN(Z)")]
            for small, rows in itertools.product((0, 900, 1 << 20), (7, 64, 1 << 17)):
                with mock.patch.object(feeds, "SMALL", small), tuned(rows=rows):
                    source = oak.open_source(path)
                    found.append([
                        told(source.rows(["N", "K", "X", "File", "Z"])),
                        told(source.rows(["N", "X", "File"], where="N > 5", limit=60)),
                        told(source.tally(["File"], sums, totals=True)),
                        told(source.rows([("Before", "LAG(N) OVER (PARTITION BY K ORDER BY N)")])),
                        [source.opened.place(one) for one in (3, 4, 5, 44, 45, 248)],
                    ])  # fmt: skip
            self.assertEqual(len(found[0][0][0][0]), sum(sizes))
            self.assertEqual(found[0][-1][:3], ["part_0.csv row 3", "part_1.csv row 1", "part_3.csv row 1"])
            for one in found[1:]:
                self.assertEqual(one, found[0])


PLAIN = ("a,b\n", '"a","b"\n', '"a,""b""",c\n', '"x\ny",z\n', '"""",""\n', "ß,\U00010400\n", '"ß\U00010400",""\n', ",\n", '"",\n', "a,b\r\n", '"a","b"\r\n', '"a\r",b\r\n', ',""\r\n', "\n\r\n\n", f'"{"q" * 80}",{"w" * 80}\n')  # fmt: skip
ODD = ('a"b,c\n', '"a"b,c\n', '"a"",c\n', 'a,""b\n', 'a, "b"\n', "a\rb,c\n", '"a"\r,b\n', '"a\n,b"\r\r\n', "a,b\r\r\n", "a,b,c\n", "a\n", '"a"\n', "a\nb\n")  # fmt: skip
EDGES = (*range(130), *range((1 << 14) - 70, (1 << 14) + 2))
NO_UTF_8 = (b"\xff,a\n", b"\xc3,a\n", b"a,\xed\xa0\x80\n", b"\xf0\x9f,b\n", b"a,\x80\n", b"\xc0\xaf,b\n", b"\xf4\x90\x80\x80,b\n", b"\xe2\x82\x82\x82,b\n")  # fmt: skip


class Cut(unittest.TestCase):
    """Rows lie across every edge of what the loop looks at in one go (64 bytes), and works on before rows are taken (16 kB)."""

    def _cut(self, lead: int, some: bytes) -> list[list[str | None]] | None:
        data = b"x" * lead + b",y\n" + some + b"last,row"
        wanted = ([0, 1], [1], [1, 0])[lead % 3]
        made = columns(pa.py_buffer(data), 0, ord(","), ord('"'), 2, dict.fromkeys(wanted, Wanted.TEXTS))
        if made is None:
            return None
        found = [made[1][at] for at in wanted]
        for one in found:
            one.validate(full=True)
        rows = [list(row) for row in zip(*(one.to_pylist() for one in found), strict=True)]
        self.assertEqual(made[0], len(rows))
        self.assertEqual([rows[0][wanted.index(1)], rows[-1][wanted.index(1)]], ["y", "row"])
        return [[row[wanted.index(at)] if at in wanted else "" for at in (0, 1)] for row in rows[1:-1]]

    def test_plain_rows_are_cut(self) -> None:
        for text, lead in itertools.product(PLAIN, EDGES):
            found = self._cut(lead, text.encode())
            known = [row for row in csv.reader(io.StringIO(text, newline="")) if row]
            shown = [[cell or "" for cell in row] for row in found or []]
            if lead % 3 == 1:
                known = [["", row[1]] for row in known]
            self.assertEqual((found is not None, shown), (True, known), (text, lead))

    def test_what_is_not_plain_is_left_to_others(self) -> None:
        for text, lead in itertools.product((*(one.encode() for one in ODD), *NO_UTF_8), EDGES):
            self.assertIsNone(self._cut(lead, text), (text, lead))

    def test_quoted_nothing_is_a_text(self) -> None:
        _, found = columns(
            pa.py_buffer(b'"",\r\n,""\n'), 0, ord(","), ord('"'), 2, dict.fromkeys((0, 1), Wanted.TEXTS)
        ) or (0, {})
        self.assertEqual([found[at].to_pylist() for at in (0, 1)], [["", None], [None, ""]])


WRITTEN = st.one_of(
    CELL,
    st.from_regex(r"\A-?[0-9]{0,9}[.,]?[0-9]{0,4}\Z"),
    st.sampled_from(["9" * 18, "9" * 19, "9" * 32, "9" * 33, "-0", "00.5", "1.", "1,234.5", "0123456789abcdefg"]),
)


@unittest.skipUnless(loops() is not None, "there are no compiled loops")
class LookedAt(unittest.TestCase):
    """What is told of columns without their texts is what the texts tell, wherever what is looked at in one go ends."""

    @settings(max_examples=150, deadline=None)
    @given(
        st.lists(st.lists(WRITTEN, min_size=3, max_size=3), min_size=1, max_size=6),
        st.lists(st.sampled_from([*Wanted]), min_size=3, max_size=3),
        st.sampled_from([1, 5, 9, 700]),
        st.sampled_from([1, 3, 2000]),
        st.sampled_from(["\n", "\r\n"]),
    )
    def test_as_their_texts(self, rows: list[list[str]], asked: list[Wanted], times: int, most: int, ends: str) -> None:
        data = pa.py_buffer((ends.join(",".join(row) for row in rows * times) + ends).encode("utf-8", "replace"))
        whole = columns(data, 0, ord(","), ord('"'), 3, dict.fromkeys(range(3), Wanted.TEXTS))
        some = columns(data, 0, ord(","), ord('"'), 3, dict(enumerate(asked)), most)
        self.assertEqual(whole is None, some is None)
        if whole is None or some is None:
            return
        self.assertEqual(whole[0], some[0])
        for at, wanted in enumerate(asked):
            texts, look = whole[1][at], some[1][at]
            if wanted is Wanted.TEXTS:
                self.assertTrue(look.equals(texts))
                continue
            numbers, known = plain_numbers(texts), few(texts, most)
            if look is None:  # numbers that are none, or texts that are many, or have quotes in them
                doubled = any('"' in (text or "") for text in texts.to_pylist())
                self.assertTrue(numbers is None if wanted is Wanted.NUMBERS else known is None or doubled)
                continue
            self.assertEqual((len(look), look.null_count), (len(texts), texts.null_count))
            if wanted is Wanted.NUMBERS:
                self.assertEqual(str(look.numbers), str(numbers))
            elif wanted is Wanted.FEW and known is not None:
                _, counts, first = known
                told = [one.tolist() for one in look.few[1:]]
                self.assertEqual(
                    (look.few[0].to_pylist(), *told),
                    (texts.take(pa.array(first)).to_pylist(), counts.tolist(), first.tolist()),
                )

    def test_a_file_that_changes_meanwhile_is_told(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.csv"
            path.write_text("A\n" + "1.5\n" * 9)
            spec = ReadingSpec(kind="file", path="x.csv", separator=",", quote='"', encoding="utf-8", header="first")
            (lines,) = rows_of_text.stretches(path, spec, ["A"], lambda _: None)
            some = lines.looked({"A": Wanted.NUMBERS}, 9)  # type: ignore[attr-defined]
            self.assertEqual(some.texts("A").to_pylist(), ["1.5"] * 9)
            path.write_text("A\n1.5\n")
            with self.assertRaises(OakError) as caught:
                some.texts("A")
            self.assertEqual(caught.exception.code, "unreadable")


if __name__ == "__main__":
    unittest.main()
