"""Parquet files read by the loop and by Arrow's reader: the same rows, whatever a file looks like, and no harm from what is broken."""

from __future__ import annotations

import datetime as dt
import itertools
import random
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.errors import OakError
from oak_ledger.loops import chunks, loops, without_loops
from oak_ledger.origin import ParquetFeed, parquet

ROWS = 5000
COMPILED = loops() is not None


def everything(rows: int, seed: int) -> pa.Table:
    """Columns of every type that the language knows, with few and many different values, and nulls: none, some, most, all."""
    rng = np.random.default_rng(seed)
    many = rng.integers(0, rows, rows)
    moment = dt.datetime(2026, 3, 1, 7, 30)
    plain: dict[str, pa.Array] = {
        "few": pa.array(rng.integers(-3, 3, rows)), "many": pa.array(many * 2**40 - 2**50), "ramp": pa.array(np.arange(rows)), "half": pa.array(many.astype(np.int32)),
        "float": pa.array(np.round(rng.normal(size=rows), 1)), "floats": pa.array(rng.normal(size=rows)), "short": pa.array(rng.normal(size=rows).astype(np.float32)),
        "wild": pa.array([(1.5, float("inf"), float("nan"), -0.0)[at % 4] for at in range(rows)]), "day": pa.array((many - 100).astype("datetime64[D]")),
        "moment": pa.array([moment + dt.timedelta(microseconds=int(one)) for one in many], pa.timestamp("us")), "second": pa.array(many, pa.timestamp("s")),
        "nano": pa.array(many * 1000, pa.timestamp("ns")), "money": pa.array([Decimal(int(one)).scaleb(-2) for one in many], pa.decimal128(12, 2)), "yes": pa.array(many % 3 == 0),
        "grade": pa.array([("oak", "ash", "", "Hölzer, größere")[at % 4] for at in many]), "ticket": pa.array(["x" * (int(at) % 40) + str(at) for at in many]),
        "byte": pa.array((many % 200 - 100).astype(np.int8)), "count": pa.array((many % 60000).astype(np.uint16)), "big": pa.array((many * 900_000 % 2**32).astype(np.uint32)),
        "zoned": pa.array(many, pa.timestamp("us", "UTC")), "kind": pa.array(["saw" if at % 2 else "pulp" for at in many]).dictionary_encode(), "deep": pa.array([Decimal(int(one) - 900).scaleb(20) for one in many], pa.decimal128(38, 3)),
        "long": pa.array([("wood " * 60)[: int(at) % 300] for at in many]), "small": pa.array((many % 100).astype(np.int16)), "same": pa.array(["larch"] * rows), "large": pa.array([str(at) for at in many], pa.large_string()),
    }  # fmt: skip
    made = dict(plain)
    for name, share in (("some", 0.1), ("most", 0.97), ("all", 1.0)):
        for column in ("few", "floats", "day", "moment", "grade", "ticket", "half", "yes", "money"):
            gone = pa.array(rng.random(rows) < share)
            made[f"{column} {name}"] = pc.if_else(gone, pa.scalar(None, plain[column].type), plain[column])
    return pa.table(made)


def read(path: Path) -> list[pa.RecordBatch]:
    feed = ParquetFeed(path)
    return [*feed.batches([*feed.columns()])]


def same(one: list[pa.RecordBatch], other: list[pa.RecordBatch]) -> str:
    """Where two readings differ in the columns of the second; codes and dictionaries count as what they stand for."""
    for name in other[0].schema.names:
        pieces = [pa.chunked_array([_plain(batch.column(name)) for batch in side]) for side in (one, other)]
        for piece in itertools.chain.from_iterable(each.chunks for each in pieces):
            piece.validate(full=True)
        if not pieces[0].equals(pieces[1]):
            return str(name)
    return ""


def _plain_batch(batch: Any) -> Any:
    return pa.RecordBatch.from_arrays([_plain(one) for one in batch.columns], names=batch.schema.names)


def _plain(values: Any) -> Any:
    return values.cast(values.type.value_type) if pa.types.is_dictionary(values.type) else values


WRITTEN: tuple[dict[str, Any], ...] = (
    {}, {"compression": "none"}, {"compression": "zstd"}, {"compression": "gzip", "data_page_size": 2000}, {"compression": "brotli"}, {"compression": "lz4"}, {"store_decimal_as_integer": True},
    {"data_page_version": "2.0"}, {"data_page_version": "2.0", "compression": "none"}, {"use_dictionary": False},
    {"use_dictionary": False, "compression": "none", "data_page_version": "2.0"}, {"data_page_size": 200}, {"dictionary_pagesize_limit": 300}, {"row_group_size": 700},
    {"row_group_size": 1}, {"use_dictionary": False, "data_page_size": 64}, {"write_page_checksum": True}, {"store_schema": False}, {"version": "1.0"},
    {"use_dictionary": False, "column_encoding": {"few": "DELTA_BINARY_PACKED", "ticket": "DELTA_BYTE_ARRAY", "floats": "BYTE_STREAM_SPLIT", "long": "DELTA_LENGTH_BYTE_ARRAY"}},
    {"use_byte_stream_split": ["floats"], "use_dictionary": False}, {"write_page_index": True, "write_statistics": False},
)  # fmt: skip


class Chunks(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "loads.parquet"

    def test_the_same_rows_however_a_file_is_written(self) -> None:
        self.assertGreater(len(WRITTEN), 10)
        for options, rows in [
            *((one, ROWS) for one in WRITTEN),
            ({}, 0),
            ({}, 1),
            ({}, 8),
            ({"compression": "none"}, 9),
        ]:
            with self.subTest(options=options, rows=rows):
                table = everything(min(rows, 20) if options.get("row_group_size") == 1 else rows, len(options))
                pq.write_table(table, self.path, **options)
                with without_loops():
                    plain = read(self.path)
                for part in (parquet.PART, 770):
                    with mock.patch.object(parquet, "PART", part):
                        quick = read(self.path)
                    self.assertEqual(sum(one.num_rows for one in plain), sum(one.num_rows for one in quick))
                    self.assertEqual(same(plain, quick) if plain else "", "")

    def test_some_rows_after_the_other_and_some_columns_only_of_rows_that_are_picked(self) -> None:
        rng = np.random.default_rng(11)
        first = ["few", "grade some", "money"]
        for options in WRITTEN:
            if options.get("row_group_size") == 1:
                continue
            pq.write_table(everything(ROWS, 6), self.path, **options)
            with without_loops():
                plain = pa.Table.from_batches([_plain_batch(batch) for batch in read(self.path)])
            feed = ParquetFeed(self.path)
            for size, shares in ((ROWS, (0.01, 0.5, 1.0)), (1537, (0.0, 0.002, 0.3)), (97, (0.0, 0.0, 0.0, 0.1, 0.9))):
                with self.subTest(options=options, size=size):
                    begin, number, late, kept = 0, 0, [], []
                    for stretch in feed.stretches([*feed.columns()]):
                        for batch, rest in stretch.parts(first, size):  # type: ignore[attr-defined]
                            rows = plain.slice(begin, batch.num_rows)
                            self.assertEqual(
                                (sorted(batch.schema.names), same(rows.to_batches(), [batch])), (sorted(first), "")
                            )
                            share = shares[number % len(shares)]
                            picked = np.flatnonzero(rng.random(batch.num_rows) < share)
                            if share or number % 2:  # else they are passed over
                                found = rest() if share == 1.0 else rest(picked)
                                found.validate(full=True)
                                late.append(_plain_batch(found))
                                kept.append(begin + picked)
                            begin, number = begin + batch.num_rows, number + 1
                    wanted = plain.take(pa.array(np.concatenate(kept)))
                    self.assertEqual(begin, ROWS)
                    self.assertEqual(same(wanted.to_batches(), late), "")

    def test_a_column_with_more_texts_than_row_groups_share(self) -> None:
        table = everything(ROWS, 3)
        pq.write_table(table, self.path, row_group_size=700)
        with without_loops():
            plain = read(self.path)
        for few in (0, 2, 3):
            with self.subTest(few=few), mock.patch.object(parquet, "FEW", few):
                self.assertEqual(same(plain, read(self.path)), "")

    def test_columns_that_cannot_be_null_and_nested_ones_beside(self) -> None:
        schema = pa.schema([pa.field("load", pa.int64(), nullable=False), pa.field("mill", pa.string(), nullable=False), pa.field("list", pa.list_(pa.int64())), pa.field("pair", pa.struct([("a", pa.int64())])), pa.field("pair.a", pa.int64())])  # fmt: skip
        rows = [
            {"load": at, "mill": f"mill {at % 3}", "list": [at] * (at % 3), "pair": {"a": at}, "pair.a": -at}
            for at in range(500)
        ]
        pq.write_table(pa.Table.from_pylist(rows, schema), self.path)
        quick = read(self.path)
        self.assertEqual(quick[0].schema.names, ["load", "mill", "pair.a"])
        self.assertEqual([one["load"] for one in quick[0].to_pylist()], [*range(500)])
        with without_loops():
            self.assertEqual(same(read(self.path), quick), "")

    @unittest.skipUnless(COMPILED, "there are no compiled loops")
    def test_what_most_files_hold_is_read_by_the_loop(self) -> None:
        plainly = chunks.Chunks.read
        made: set[str] = set()

        def noted(self: chunks.Chunks, rows: int, picked: Any = None) -> Any:
            found = plainly(self, rows, picked)
            made.update(found)
            return found

        for options in ({}, {"compression": "zstd"}, {"data_page_version": "2.0"}, {"store_decimal_as_integer": True}):
            with self.subTest(options=options), mock.patch.object(chunks.Chunks, "read", noted):
                made.clear()
                pq.write_table(everything(ROWS, 1), self.path, **options)
                read(self.path)
                self.assertEqual({*ParquetFeed(self.path).columns()} - made, set())

    def test_broken_bytes_are_told_or_give_values_and_harm_nothing(self) -> None:
        chance = random.Random(5)
        for options in ({}, {"compression": "none"}, {"data_page_version": "2.0"}):
            pq.write_table(everything(300, 2), self.path, **options)
            whole = self.path.read_bytes()
            size = int.from_bytes(whole[-8:-4], "little") + 8
            for _ in range(60):
                broken = bytearray(whole)
                for _ in range(chance.choice([1, 3, 40])):
                    broken[chance.randrange(4, len(whole) - size)] = chance.choice([0, 1, 127, 128, 255])
                self.path.write_bytes(broken)
                try:
                    rows = sum(batch.num_rows for batch in read(self.path))
                    self.assertEqual(rows, 300)
                except OakError as error:
                    self.assertIn(error.code, ("unreadable",))

    def test_a_file_that_ends_too_soon(self) -> None:
        pq.write_table(everything(300, 2), self.path)
        feed = ParquetFeed(self.path)
        stretches = [*feed.stretches(["many", "ticket"])]
        self.path.write_bytes(self.path.read_bytes()[:200])
        with self.assertRaises(OakError) as caught:
            [*stretches[0]()]
        self.assertEqual(caught.exception.code, "unreadable")

    def test_a_text_twice_in_a_dictionary_is_one_value(self) -> None:
        twice = pa.DictionaryArray.from_arrays(pa.array([0, 1, 2] * 100, pa.int32()), pa.array(["oak", "ash", "oak"]))
        pq.write_table(pa.table({"wood": twice}), self.path)
        found = oak.Source.from_table(pa.table({"wood": twice}), name="Loads").tally(["wood"], ["COUNT(*)"])
        (self.folder / "loads.oak.toml").write_text(
            '[source]\nname = "Loads"\n[origin]\nkind = "parquet"\npath = "loads.parquet"\n[[field]]\nname = "wood"\ncolumn = "wood"\n'
        )
        again = oak.open_source(self.folder / "loads.oak.toml").tally(["wood"], ["COUNT(*)"])
        self.assertEqual(found.to_arrow().to_pylist(), again.to_arrow().to_pylist())
        self.assertEqual([one["wood"] for one in again.to_arrow().to_pylist()], ["ash", "oak"])


if __name__ == "__main__":
    unittest.main()
