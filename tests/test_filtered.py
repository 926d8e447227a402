"""Questions with filters over Parquet files: columns that no filter needs are read only where rows are let through, and the same comes out as of a table in memory."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.engine.tuning import tuned
from oak_ledger.errors import OakError
from oak_ledger.loops import loops
from oak_ledger.origin import ParquetFeed, parquet
from tests.test_engine import told
from tests.test_parquet import everything

ROWS = 3000
COMPILED = loops() is not None
COLUMNS = {
    "Load": "ramp", "Few": "few", "Value": "floats", "Cost": "floats some", "Wild": "wild", "Day": "day", "Moment": "moment", "Money": "money", "Paid": "yes some",
    "Grade": "grade", "Wood": "grade some", "Ticket": "ticket", "Note": "long", "Kind": "kind", "Gone": "few all", "Byte": "byte",
}  # fmt: skip
FILTERS = (
    "Load = 1234", "Load < 5", "Load >= 2990 OR Load < 3", "Few = 2 AND Grade = 'oak'", "Value > 2.2e0", "Cost IS NULL", "Wild IS NOT NULL", "Gone IS NULL", "Gone > 0", "Grade = 'larch'",
    "CHAR_LENGTH(Ticket) < 9", "CONTAINS(Note, 'wood wood wood') AND NOT Paid", "Money > 12.50", "Kind = 'saw'", "Byte / Few > 30", "EXTRACT(YEAR FROM Day) = 1970", "TRUE", "FALSE",
)  # fmt: skip
ROW_VALUES = (
    ["Load", "Ticket", "Money"],
    ["Grade", "Cost / Few", "Wood"],
    ["UPPER(Kind)", "Moment", "Paid", "Note", "Wild"],
    ["LAG(Few) OVER (ORDER BY Load)", "Load"],
)
GROUPED = (
    ([], ["COUNT(*)", "SUM(Value)", "SUM(Few)", "MEDIAN(Cost)"]), (["Grade"], ["SUM(Money)", "COUNT(DISTINCT Ticket)", "MAX(Note)", "AVG(Byte)"]), (["Wood", "Kind"], ["SUM(Few / Byte)", "MIN(Moment)", "BOOL_OR(Paid)"]),
    (["Paid"], ["SUM(Few) FILTER (WHERE Value > 0)", "MEDIAN(Few)", "COUNT(Gone)"]),
)  # fmt: skip


class Filtered(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "loads.parquet"

    def source(self, rows: int = ROWS, **options: Any) -> oak.Source:
        """The file as a source."""
        pq.write_table(everything(rows, 8), self.path, **options)
        text = '[source]\nname = "Loads"\n[origin]\nkind = "parquet"\npath = "loads.parquet"\n'
        text += "".join(f'[[field]]\nname = "{name}"\ncolumn = "{column}"\n' for name, column in COLUMNS.items())
        (self.folder / "loads.oak.toml").write_text(text)
        return oak.open_source(self.folder / "loads.oak.toml")

    def answers(self, source: oak.Source, where: str) -> list[Any]:
        """What comes out of each question: values, faults, rows counted."""
        made = [told(source.rows(values, where=where)) for values in ROW_VALUES]
        made += [told(source.tally(by, show, where=where)) for by, show in GROUPED]
        if "/" not in where:  # what goes wrong beyond a limit is told or not, as it is met
            made.append(told(source.rows(["Load", "Ticket"], where=where, limit=7)))
        return made

    def test_the_same_as_of_a_table_in_memory(self) -> None:
        self.source()
        columns = {name: pq.read_table(self.path).column(column) for name, column in COLUMNS.items()}
        wild = columns["Wild"]
        columns["Wild"] = pc.if_else(pc.is_finite(wild), wild, pa.scalar(None, pa.float64()))
        plain = oak.Source.from_table(pa.table(columns), name="Loads")
        wanted = {where: self.answers(plain, where) for where in FILTERS}
        self.assertGreater(sum(len(one[0]) > 0 for one in wanted.values()), 10)
        files: tuple[dict[str, Any], ...] = (
            {}, {"row_group_size": 700}, {"compression": "zstd", "data_page_size": 900}, {"use_dictionary": False, "data_page_version": "2.0"},
        )  # fmt: skip
        for options, way, part in zip(
            (*files, {}), ({"rows": 1 << 17}, {"rows": 400, "threads": 2}, {"rows": 97}, {"threads": 2}, {"rows": 64}), (1 << 18, 257, 1001, 513, 448), strict=True
        ):  # fmt: skip
            source = self.source(**options)
            for where in FILTERS[part % 3 :: 3]:
                with self.subTest(where=where, options=options), tuned(**way), mock.patch.object(parquet, "PART", part):
                    self.assertEqual(self.answers(source, where), wanted[where])

    def test_the_steps_tell_what_was_read_of_how_many_rows(self) -> None:
        answer = self.source().tally(["Grade"], ["SUM(Value)"], where="Load < 30", explain=True)
        read = {one.what: one.rows for one in answer.steps if one.kind == "read"}
        self.assertEqual(read, {"ramp": ROWS, "grade, floats": 30})

    @unittest.skipUnless(COMPILED, "there are no compiled loops")
    def test_pages_without_a_wanted_row_are_not_unpacked(self) -> None:
        rows = 40_000
        table = pa.table({"load": np.arange(rows), "value": np.arange(rows) * 3.0})
        pq.write_table(table, self.path, use_dictionary=False, data_page_size=20_000)
        broken = bytearray(self.path.read_bytes())
        at = pq.read_metadata(self.path).row_group(0).column(1).data_page_offset
        broken[at + 100 : at + 4000] = b"\xff" * 3900  # in the first page
        self.path.write_bytes(broken)
        picked = np.array([39_990, 39_999])
        for wanted, fails in ((picked, False), (np.append(7, picked), True)):
            (stretch,) = ParquetFeed(self.path).stretches(["load", "value"])
            parts = stretch.parts(["load"], rows)  # type: ignore[attr-defined]
            _, rest = next(parts)
            if fails:
                with self.assertRaises(OakError) as caught:
                    rest(wanted)
                self.assertEqual(caught.exception.code, "unreadable")
            else:
                found = rest(wanted).column(0).to_pylist()
                self.assertEqual(found, table.column("value").take(pa.array(wanted)).to_pylist())
            parts.close()
            with self.assertRaises(OakError):  # when all is closed, nothing that was freed is read
                rest(np.array([1]))

    def test_texts_that_grow_longer_than_was_expected(self) -> None:
        texts = pa.array(["x" * (at // 20) for at in range(4000)])
        pq.write_table(pa.table({"note": texts, "load": np.arange(4000)}), self.path, use_dictionary=False)
        found = [pa.array([], pa.string())]
        for stretch in ParquetFeed(self.path).stretches(["note", "load"]):
            for batch, rest in stretch.parts(["note"], 300):  # type: ignore[attr-defined]
                found.append(batch.column(0))
                self.assertEqual(rest(np.array([7])).column(0).to_pylist(), [sum(map(len, found)) - batch.num_rows + 7])
        self.assertTrue(pa.chunked_array(found).combine_chunks().equals(texts))

    def test_a_chunk_much_longer_than_what_is_read_at_once(self) -> None:
        rows = 700_000
        table = pa.table({"value": np.random.default_rng(4).normal(size=rows), "load": np.arange(rows)})
        pq.write_table(table, self.path, compression="none", row_group_size=rows, data_page_size=1 << 16)
        for size in (1 << 17, 50_000):
            kept, begin = [], 0
            for stretch in ParquetFeed(self.path).stretches(["load", "value"]):
                for batch, rest in stretch.parts(["load"], size):  # type: ignore[attr-defined]
                    picked = np.flatnonzero(np.asarray(batch.column(0)) % 99_991 == 3)
                    if begin % 3:  # else passed over
                        found = rest(picked).column(0)
                        kept += zip((begin + picked).tolist(), found.to_pylist(), strict=True)
                    begin += batch.num_rows
            self.assertEqual(begin, rows)
            self.assertEqual([one for _, one in kept], table.column("value").take([at for at, _ in kept]).to_pylist())
            self.assertGreater(len(kept), 2)


class FewRowGroups(unittest.TestCase):
    def test_a_large_row_group_is_cut_and_the_parts_know_their_rows(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "loads.parquet"
            pq.write_table(everything(2000, 5), path)
            with mock.patch.object(parquet, "PART", 300):
                parts = [*ParquetFeed(path).stretches(["ramp", "ticket"])]
                self.assertEqual([one.rows for one in parts], [300] * 6 + [200] if COMPILED else [2000])  # type: ignore[attr-defined]
                rows = [at for one in reversed(parts) for batch in one() for at in batch.column(0).to_pylist()]
                self.assertEqual(sorted(rows), [*range(2000)])
                nested = pa.table({"load": range(900), "marks": pa.array([[1]] * 900)})
                pq.write_table(nested, path)
                self.assertEqual(len([*ParquetFeed(path).stretches(["load"])]), 3 if COMPILED else 1)


if __name__ == "__main__":
    unittest.main()
