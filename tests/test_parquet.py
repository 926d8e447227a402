"""Parquet files: the same rows however a file is written, and no harm from what is broken."""

from __future__ import annotations

import datetime as dt
import itertools
import random
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.engine.options import overridden
from oak_ledger.errors import OakError
from oak_ledger.origin import ParquetReader, TableReader

ROWS = 5000


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
    feed = ParquetReader(path)
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
        """Each file against its table read in memory, by one thread and by two."""
        self.assertGreater(len(WRITTEN), 10)
        for options, rows in [
            *((one, ROWS) for one in WRITTEN),
            ({}, 0),
            ({}, 1),
            ({}, 8),
            ({"compression": "none"}, 9),
        ]:
            table = everything(min(rows, 20) if options.get("row_group_size") == 1 else rows, len(options))
            pq.write_table(table, self.path, **options)
            wanted = [*TableReader(table).batches(table.column_names)]
            for threads in (1, 2):
                with self.subTest(options=options, rows=rows, threads=threads), overridden(threads=threads):
                    found = read(self.path)
                    self.assertEqual(sum(one.num_rows for one in wanted), sum(one.num_rows for one in found))
                    self.assertEqual(same(wanted, found) if found else "", "")

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
                    self.assertIn(error.code, ("unreadable", "unreadable-value"))

    def test_a_file_that_ends_too_soon(self) -> None:
        pq.write_table(everything(300, 2), self.path, row_group_size=150)
        feed = ParquetReader(self.path)
        fragments = [*feed.fragments(["many", "ticket"])]
        self.path.write_bytes(self.path.read_bytes()[:200])
        with self.assertRaises(OakError) as caught:
            [*fragments[0]()]
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
