"""Parquet and Arrow files, and tables in memory: every Arrow type is read right or refused by name; damaged files end no process."""

from __future__ import annotations

import datetime as dt
import os
import random
import signal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.first_look.intake import intake
from tests.support import D, FolderCase

# An Arrow array, the type it has here, and its values as they are read.
READ: dict[str, tuple[Any, str, list[Any]]] = {
    "uint8": (pa.array([1, None, 255], pa.uint8()), "integer", [1, None, 255]),
    "uint64": (pa.array([1, None, 2**63 - 1], pa.uint64()), "integer", [1, None, 2**63 - 1]),
    "int16": (pa.array([-(2**15), None, 2], pa.int16()), "integer", [-(2**15), None, 2]),
    "float16": (pa.array(np.array([1.5, np.nan, -2], np.float16)), "number", [1.5, None, -2.0]),
    "float32": (pa.array([0.5, None, float("inf")], pa.float32()), "number", [0.5, None, None]),
    "decimal32": (pa.array([D("1.25"), None, D("-3")], pa.decimal32(5, 2)), "decimal(38,2)", [D("1.25"), None, D("-3.00")]),
    "decimal64": (pa.array([D("1.25"), None, D("-3")], pa.decimal64(15, 2)), "decimal(38,2)", [D("1.25"), None, D("-3.00")]),
    "decimal256": (pa.array([D("1.25"), None, D("-3")], pa.decimal256(60, 2)), "decimal(38,2)", [D("1.25"), None, D("-3.00")]),
    "time32": (pa.array([29700500, None, 0], pa.time32("ms")), "text", ["08:15:00.500", None, "00:00:00.000"]),
    "time64": (pa.array([29700000001, None, 0], pa.time64("us")), "text", ["08:15:00.000001", None, "00:00:00.000000"]),
    "date64": (pa.array([86400000, None, 0], pa.date64()), "date", [dt.date(1970, 1, 2), None, dt.date(1970, 1, 1)]),
    "seconds": (pa.array([1, None, -1], pa.timestamp("s")), "timestamp", [dt.datetime(1970, 1, 1, 0, 0, 1), None, dt.datetime(1969, 12, 31, 23, 59, 59)]),
    "zoned": (pa.array([3600000000, None, 0], pa.timestamp("us", "Europe/Oslo")), "timestamp", [dt.datetime(1970, 1, 1, 1), None, dt.datetime(1970, 1, 1)]),
    "nanoseconds": (pa.array([1001, None, -1], pa.timestamp("ns")), "timestamp", [dt.datetime(1970, 1, 1, 0, 0, 0, 1), None, dt.datetime(1969, 12, 31, 23, 59, 59, 999999)]),
    "large text": (pa.array(["ä", None, ""], pa.large_string()), "text", ["ä", None, ""]),
    "viewed text": (pa.array(["ä", None, "a text longer than twelve bytes"], pa.string_view()), "text", ["ä", None, "a text longer than twelve bytes"]),
    "codes": (pa.DictionaryArray.from_arrays(pa.array([0, None, 1], pa.int8()), pa.array(["x", "x"])), "text", ["x", None, "x"]),
    "codes of numbers": (pa.array([5, None, 5]).dictionary_encode(), "integer", [5, None, 5]),
    "nothing": (pa.nulls(3), "text", [None, None, None]),
}  # fmt: skip
# What has no place in the language, and the word for it.
REFUSED: dict[str, tuple[Any, str]] = {
    "binary": (pa.array([b"a", None, b"\xff"]), "binary"),
    "list": (pa.array([[1], None, [2, 3]]), "list"),
    "struct": (pa.array([{"a": 1}, None, {"a": 2}]), "struct"),
    "map": (pa.array([[("a", 1)], None, []], pa.map_(pa.string(), pa.int64())), "map"),
    "duration": (pa.array([1, None, 2], pa.duration("s")), "duration"),
}
# Values that have none, in types that have.
UNREADABLE: dict[str, tuple[Any, str]] = {
    "uint64": (pa.array([1, None, 2**63], pa.uint64()), "9223372036854775808"),
    "decimal256": (pa.array([D(10) ** 40, None, D(1)], pa.decimal256(60, 2)), "38"),
    "date": (pa.array([0, None, 5_000_000], pa.int32()).cast(pa.date32()), "years 1 to 9999"),
    "timestamp": (pa.array([0, None, 2**60], pa.int64()).cast(pa.timestamp("us")), "years 1 to 9999"),
}


class TypedFiles(FolderCase):
    def files(self, table: pa.Table, group: int = 2) -> dict[str, Path]:
        """The table as a file of each format."""
        pq.write_table(table, "t.parquet", row_group_size=group)
        with pa.ipc.new_file("t.arrow", table.schema) as sink:
            sink.write_table(table)
        return {"parquet": Path("t.parquet"), "arrow": Path("t.arrow")}

    def intakes(self, table: pa.Table) -> Any:
        for kind, path in self.files(table).items():
            yield kind, intake([path], definition=f"{kind}.oak.toml", keep_names=True)

    def test_what_is_read_is_right(self) -> None:
        table = pa.table({name: values for name, (values, _, _) in READ.items()})
        sources = {kind: found.source for kind, found in self.intakes(table)}
        sources["memory"] = oak.Source.from_table(table, name="T")
        for where, source in sources.items():
            got = source.rows([f'"{name}"' for name in READ]).table
            for name, (_, kind, values) in READ.items():
                with self.subTest(f"{name}, {where}"):
                    self.assertEqual(str(source.state(name).type), kind)
                    self.assertEqual(got.column(name).to_pylist(), values)
                    counts = source.tally([f'"{name}"'], ["COUNT(*)"]).table.column(1).to_pylist()
                    self.assertEqual(sum(counts), 3)
                    self.assertEqual(len(counts), len(set(values)))

    def test_what_has_no_place_is_named_and_the_rest_is_read(self) -> None:
        good = {"Id": pa.array([1, 2, 3])}
        table = pa.table(good | {name: values for name, (values, _) in REFUSED.items()})
        for kind, found in self.intakes(table):
            with self.subTest(kind):
                self.assertEqual([field.name for field in found.source.fields], ["Id"])
                said = {one.place.where: one.message for one in found.findings if one.code == "column-not-read"}
                self.assertEqual(said.keys(), REFUSED.keys())
                for name, (_, word) in REFUSED.items():
                    self.assertIn(word, said[name])
                again = [one for one in found.source.check() if one.code == "column-not-read"]
                self.assertEqual(len(again), len(REFUSED))
                taken = taking(found.source, "binary")
                self.assertIn("cannot be read: it is of the type binary", taken.check()[0].message)

    def test_values_that_have_no_place_are_refused_with_column_and_rows(self) -> None:
        for name, (values, word) in UNREADABLE.items():
            table = pa.table({"Id": [1, 2, 3], "Odd": values})
            sources = {"memory": oak.Source.from_table(table, name="T")}
            for kind, found in self.intakes(table):
                with self.subTest(f"{name}, {kind}, intake"):
                    self.assertEqual([field.name for field in found.source.fields], ["Id"])
                    (said,) = (one for one in found.findings if one.code == "unreadable-value")
                    self.assertIn(word, said.message)
                sources[kind] = taking(found.source, "Odd")
            for kind, source in sources.items():
                with self.subTest(f"{name}, {kind}"):
                    error = self.raises("unreadable-value", source.rows, ["Odd"])
                    self.assertIn("Odd", error.message)
                    self.assertRegex(error.message, r"rows (1 to 3|3 to 3|1 to 2)")
                    self.assertEqual(source.rows(["Id"]).table.column(0).to_pylist(), [1, 2, 3])

    def test_texts_that_are_not_utf_8_are_null_and_counted(self) -> None:
        raw = pa.array([b"ok", b"\xff\xfe", None, b"ok", b"\xe9"])
        coded = pa.DictionaryArray.from_arrays(
            pa.array([0, 1, None, 0, 2], pa.int8()), pa.array([b"ok", b"\xff\xfe", b"\xe9"]).view(pa.string())
        )
        for values in (raw.view(pa.string()), raw.cast(pa.large_binary()).view(pa.large_string()), coded):
            table = pa.table({"Id": [1, 2, 3, 4, 5], "Odd": values})
            plain = pa.types.is_string(values.type)  # the others Arrow itself does not read from Parquet
            sources = {kind: found.source for kind, found in self.intakes(table)} if plain else {}
            for kind, source in {**sources, "memory": oak.Source.from_table(table, name="T")}.items():
                with self.subTest(kind, values=values.type):
                    answer = source.tally(["Odd"])
                    self.assertEqual(answer.table.to_pydict(), {"Odd": ["ok", None], "COUNT(*)": [2, 3]})
                    (said,) = (one for one in answer.findings if one.code == "text-garbled")
                    self.assertEqual((said.numbers["rows"], "first in row 2" in said.message), (2, True))
            for path in self.folder.glob("*.oak.toml"):
                path.unlink()

    def test_a_name_that_is_there_twice_is_not_guessed_at(self) -> None:
        table = pa.table([pa.array([1, 2]), pa.array([3, 4]), pa.array([5, 6])], names=["A", "A", "B"])
        for kind, found in self.intakes(table):
            with self.subTest(kind):
                self.assertEqual(found.source.rows(["B"]).table.to_pydict(), {"B": [5, 6]})
                self.assertIn("A is there 2 times", next(one.message for one in found.findings))

    def test_times_that_are_cut_are_said(self) -> None:
        fine, coarse = pa.array([1001, 2], pa.timestamp("ns")), pa.array([1000, 2000], pa.timestamp("ns"))
        found = intake([self.files(pa.table({"Fine": fine, "Coarse": coarse}))["arrow"]])
        self.assertEqual([(one.code, one.place.where) for one in found.findings], [("times-cut", "Fine")])

    def test_old_timestamps_beyond_nanoseconds_are_right(self) -> None:
        when = dt.datetime(9999, 12, 31, 23, 59, 59)
        pq.write_table(
            pa.table({"At": [when, dt.datetime(1, 1, 1)]}), "t.parquet", use_deprecated_int96_timestamps=True
        )
        got = intake([Path("t.parquet")], keep_names=True).source.rows(["At"]).table.column(0).to_pylist()
        self.assertEqual(got[0], when)

    def test_damaged_files_are_refused_and_end_no_process(self) -> None:
        count = 400
        table = pa.table(
            {
                "Key": [f"k{at % 7}" for at in range(count)],
                "Text": [f"v{at}" for at in range(count)],
                "Whole": [None if at % 3 else at for at in range(count)],
                "Day": pa.array(range(count), pa.int32()).cast(pa.date32()),
                "Codes": pa.array([f"z{at % 5}" for at in range(count)]).dictionary_encode(),
            }
        )
        for kind, path in self.files(table, 100).items():
            whole, chance, refused = path.read_bytes(), random.Random(20261127), 0
            self.assertEqual(asked(path), 0)  # and all is loaded before the first fork
            for at in range(60):
                damaged = bytearray(whole)
                if at % 6 == 0:
                    del damaged[chance.randrange(len(damaged)) :]
                for _ in range(1 + at % 4):
                    damaged[chance.randrange(len(damaged))] = chance.randrange(256)
                path.write_bytes(damaged)
                child = os.fork()
                if not child:
                    signal.alarm(20)
                    os._exit(asked(path))
                status = os.waitpid(child, 0)[1]
                self.assertIn(status, (0, 2 << 8), f"{kind}, damage {at}")
                refused += status != 0
            self.assertGreater(refused, 20, kind)


def taking(source: oak.Source, column: str) -> oak.Source:
    """The source with a field that takes a column over."""
    return source.changed(source.document.added("field", {"name": column, "column": column}))


def asked(path: Path) -> int:
    """0 where intake and a question went well, 2 where one of them was refused in our words, 1 for anything else."""
    try:
        source = intake([path], definition="x.oak.toml").source
        source.rows([f'"{one.name}"' for one in source.fields])
    except oak.OakError:
        return 2
    except BaseException:
        return 1
    return 0
