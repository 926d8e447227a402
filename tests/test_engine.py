"""However the engine works, the same comes out: slices of any size, codes and dictionaries, threads, spilling; answers and faults alike."""

from __future__ import annotations

import csv
import io
import itertools
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.engine.aggregate import state
from oak_ledger.engine.options import overridden
from oak_ledger.engine.spill import SpillBuffer
from oak_ledger.origin import memory
from oak_ledger.origin.csv import reader as csv_reader
from tests.support import LOADS, FolderCase
from tests.test_database import ARROW, COLUMNS, GROUPED, OVER_GROUPS, ROWS, WINDOWS, grown
from tests.test_language import GROUPS as GROUP_CASES
from tests.test_language import ROWS as ROW_CASES

# How the engine is made to work: threads, rows at a time, rows that the feed gives at a time, texts coded or not, memory.
PLAIN = {"threads": 1, "rows": 1 << 20}
WAYS: dict[str, tuple[dict[str, Any], int, bool]] = {
    "one row at a time": ({"threads": 1, "rows": 1}, 1 << 17, False),
    "two threads, small slices": ({"threads": 2, "rows": 4}, 3, False),
    "columns that come as codes": ({"threads": 2, "rows": 5}, 11, True),
    "codes in one slice": ({"threads": 1, "rows": 1 << 17}, 1 << 17, True),
    "everything spills": ({"threads": 2, "rows": 6, "memory": 1}, 6, False),
}  # fmt: skip
FORMULAS = 80


def wide_table() -> pa.Table:
    """The rows that the language is compared over, several times, in another order each time."""
    rng = random.Random(5)
    rows = [row for _ in range(9) for row in rng.sample(ROWS, len(ROWS))]
    columns = {
        name: pa.array([row[at] for row in rows], ARROW[kind]) for at, (name, kind) in enumerate(COLUMNS.items())
    }
    return pa.table({"at": list(range(1, len(rows) + 1)), **columns})


def coded(table: pa.Table) -> pa.Table:
    """The table with its texts as codes and dictionaries, a value twice in each."""
    for at, column in enumerate(table.columns):
        if pa.types.is_string(column.type):
            once = column.combine_chunks().dictionary_encode()
            twice = pa.concat_arrays([once.dictionary, once.dictionary])
            more = np.where(np.arange(len(once)) % 2, len(once.dictionary), 0)
            codes = pa.array(
                [
                    None if code is None else code + add
                    for code, add in zip(once.indices.to_pylist(), more.tolist(), strict=True)
                ],
                pa.int32(),
            )
            table = table.set_column(at, table.column_names[at], pa.DictionaryArray.from_arrays(codes, twice))
    return table


def told(answer: Any) -> tuple[Any, ...]:
    """All that an answer says, as plain values; a float by its digits."""
    rows = [[repr(value) for value in column.to_pylist()] for column in answer.table.columns]
    totals = [] if answer.totals is None else [repr(column.to_pylist()) for column in answer.totals.columns]
    faults = [(one.field, one.what, one.rows, one.samples) for one in answer.faults]
    return rows, totals, faults


class Ways(unittest.TestCase):
    def each_way(self, table: pa.Table, questions: list[tuple[str, Any]]) -> None:
        """Ask all questions in every way; each question is a function of a source, with a name."""
        with overridden(**PLAIN):
            source = oak.Source.from_table(table, name="R")
            wanted = [told(ask(source)) for _, ask in questions]
        for way, (changes, batch, as_codes) in WAYS.items():
            source = oak.Source.from_table(coded(table) if as_codes else table, name="R")
            many = 2 if changes["threads"] == 2 else state.MANY_GROUPS  # groups that are many already
            with (
                overridden(**changes),
                mock.patch.object(memory, "BATCH_ROWS", batch),
                mock.patch.object(state, "MANY_GROUPS", many),
                mock.patch.object(state, "PENDING_GROUPS", many),
            ):
                for (what, ask), expected in zip(questions, wanted, strict=True):
                    with self.subTest(way=way, question=what):
                        self.assertEqual(told(ask(source)), expected)

    def test_tables_of_the_language(self) -> None:
        questions: list[tuple[str, Any]] = [
            (formula, lambda source, formula=formula: source.rows([("x", formula)])) for formula, _ in ROW_CASES
        ]
        for formula, *_ in GROUP_CASES:
            questions.append(
                (formula, lambda source, formula=formula: source.tally(["Mill"], [("x", formula)], totals=True))
            )
        self.each_way(LOADS, questions)

    def test_groups_windows_and_filters(self) -> None:
        questions: list[tuple[str, Any]] = []
        for template in WINDOWS:
            formula = template.replace("{at}", "at")
            questions.append((formula, lambda source, formula=formula: source.rows([("x", formula)], where="j > 2")))
        for formula in (*GROUPED, *(one for one, _ in OVER_GROUPS)):
            for by in (["b"], ["t", "b"], ["y"], []):
                if "OVER" in formula and by != ["b"]:
                    continue
                questions.append((f"{formula} by {by}", lambda source, formula=formula, by=by: source.tally(by, [("x", formula)], totals="OVER" not in formula)))  # fmt: skip
        measures = ["COUNT(*)", "SUM(d)", "COUNT(DISTINCT u)", "SUM(1 / j)", "MEDIAN(f)", "MAX(t)"]
        questions.extend(
            (where, lambda source, where=where: source.tally(["UPPER(t) || COALESCE(u, '')"], measures, where=where))
            for where in ("i > 0", "t <> 'oak'", "u IS NOT NULL AND j < 5", "1 / i > 0.5", "FALSE")
        )
        questions.append(("limit", lambda source: source.rows(["at", ("x", "1 / i")], limit=7)))
        questions.append(("sort", lambda source: source.rows(["at", "t"], sort=["-t", "at"], limit=9)))
        self.each_way(wide_table(), questions)

    def test_random_formulas(self) -> None:
        rng = random.Random(int(os.environ.get("OAK_SEED", "20261123")))
        formulas = [grown(rng, rng.choice("idfbbtttyw"), rng.choice((1, 2, 3))) for _ in range(FORMULAS)]
        source = oak.Source.from_table(wide_table(), name="R")
        formulas = [one for one in formulas if source.check_formula(one).checked is not None]
        self.assertGreater(len(formulas), FORMULAS * 0.7)
        questions: list[tuple[str, Any]] = [
            (one, lambda source, one=one: source.rows([("x", one)])) for one in formulas
        ]
        questions += [
            (f"by {one}", lambda source, one=one: source.tally([("k", one)], ["COUNT(*)", "SUM(f)"]))
            for one in formulas[::3]
        ]
        self.each_way(wide_table(), questions)


class Sums(unittest.TestCase):
    """Sums of floats are the nearest float, in whatever order and slices, unless far more than 60 binary digits cancel out."""

    def test_against_exact_sums(self) -> None:
        import math

        rng = np.random.default_rng(3)
        cases = {
            "mixed sizes": rng.normal(size=5000) * 10.0 ** rng.integers(-12, 12, 5000),
            "money": np.round(rng.gamma(3, 40, 5000), 2),
            "cancelling": np.concatenate([(big := np.round(rng.gamma(3, 4e6, 2000), 2)), -big, [0.1, 0.2, 0.3]]),
            "tiny": rng.normal(size=100) * 5e-324,
            "huge": np.array([1e270, 1e270, -1e270, 1e260]),
            "one": np.array([0.1]),
        }
        for what, values in cases.items():
            for rows, shuffled in itertools.product((7, 1 << 17), (False, True)):
                with self.subTest(what, rows=rows), overridden(rows=rows):
                    given = rng.permutation(values) if shuffled else values
                    source = oak.Source.from_table(pa.table({"x": given}), name="S")
                    self.assertEqual(source.tally(show=["SUM(x)"]).value(), math.fsum(values))

    def test_whole_numbers_of_any_size(self) -> None:
        big = [2**63 - 1, 2**63 - 1, -(2**63), 5, None, -(2**63), 2]
        source = oak.Source.from_table(pa.table({"x": pa.array(big, pa.int64())}), name="S")
        for rows in (1, 2, 100):
            with overridden(rows=rows):
                self.assertEqual(source.tally(show=["SUM(x)"]).value(), sum(one for one in big if one is not None))
                over = source.tally(show=["SUM(x)"], where="x > 100")
                self.assertIsNone(over.value())
                self.assertEqual(over.faults[0].what, "integer overflow")


class Accounts(FolderCase):
    def test_the_steps_of_a_question(self) -> None:
        source = (
            oak.Source.from_table(coded(wide_table()), name="R")
            .with_field("Up", "UPPER(t)")
            .with_field("Half", "j / 2")
        )
        with overridden(rows=200):
            answer = source.tally(["Up"], ["SUM(Half)", "COUNT(DISTINCT u)", "MEDIAN(j)"], where="j > 0", explain=True)
            steps = {(one.kind, one.what): one for one in answer.steps}
            self.assertEqual(steps["filter", "j > 0"].rows, answer.rows_used)
            self.assertEqual(steps["field", "Up"].note, "once per distinct value")
            self.assertEqual(steps["field", "Half"].note, "")
            read = next(one for one in answer.steps if one.kind == "read")
            self.assertEqual((read.rows, set(read.what.split(", "))), (len(ROWS) * 9, {"t", "j", "u"}))
            self.assertGreater(read.bytes, 100)
            self.assertEqual(next(one for one in answer.steps if one.kind == "groups").rows, answer.rows_used)
            last = answer.steps[-1]
            self.assertEqual((last.kind, last.rows), ("put together", answer.table.num_rows))
            self.assertEqual(last.note, "bitmap for COUNT(DISTINCT u), values kept for MEDIAN(j)")
            window = source.rows([("x", "LAG(i) OVER (ORDER BY at)")], explain=True)
            self.assertIn(("window", "LAG(i) OVER (ORDER BY at)"), [(one.kind, one.what) for one in window.steps])
        self.assertEqual(source.tally(["Up"]).steps, ())

    def test_from_the_command_line(self) -> None:
        self.write("loads.csv", "Mill,Volume\na,1\nb,2\na,3\n")
        self.oak("intake", "loads.csv", "--name", "Loads")
        said = self.oak("tally", "loads", "--by", "Mill", "--show", "Volume", "--explain")
        self.assertRegex(said, r"read +Mill, Volume +3 ")
        self.assertRegex(said, r"put together +groups +2 ")
        self.assertIn('"steps"', self.oak("peek", "loads", "--explain", "--json"))


class Spilling(FolderCase):
    def test_values_go_to_a_file_that_is_removed(self) -> None:
        rng = np.random.default_rng(2)
        table = pa.table({"k": rng.integers(0, 50, 20_000), "x": rng.integers(0, 3000, 20_000)})
        source = oak.Source.from_table(table, name="S")
        measures = ["COUNT(DISTINCT x)", "MEDIAN(x)", "LISTAGG(CAST(x AS TEXT), ' ') WITHIN GROUP (ORDER BY x)"]
        wanted = source.tally(["k"], measures, totals=True)
        for many in (state.MANY_GROUPS, 5):
            with (
                mock.patch.object(tempfile, "tempdir", str(self.folder)),
                mock.patch.object(SpillBuffer, "_spill", autospec=True, side_effect=SpillBuffer._spill) as spills,
                mock.patch.object(state, "MANY_GROUPS", many),
                overridden(memory=60_000, rows=700),
            ):
                answer = source.tally(["k"], measures, totals=True)
            self.assertGreater(spills.call_count, 10)
            self.assertEqual(answer.table, wanted.table)
            self.assertEqual(answer.totals, wanted.totals)
            self.assertEqual(list(self.folder.iterdir()), [])

    def test_settings_from_the_environment(self) -> None:
        from oak_ledger.engine import options

        for given, wanted in (("500M", 500 << 20), ("2gb", 2 << 30), ("4096", 4096)):
            with mock.patch.dict(os.environ, {"OAK_MEMORY": given, "OAK_THREADS": "3"}):
                self.assertEqual(options._memory(), wanted)
                self.assertEqual(options._number("OAK_THREADS", 1), 3)
        for name, given in (("OAK_MEMORY", "much"), ("OAK_MEMORY", "0"), ("OAK_THREADS", "two")):
            with mock.patch.dict(os.environ, {name: given}):
                self.raises("bad-setting", options._standard.__wrapped__)


class Interrupted(FolderCase):
    def test_nothing_is_left_half_written(self) -> None:
        self.write("loads.csv", "Name\n" + "".join(f"lot number {at * 7919 % 1_000_003}\n" for at in range(600_000)))
        oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").source.with_field(
            "Nice", "INITCAP(Name)"
        ).save()
        before = {path.name for path in self.folder.iterdir()}
        command = [
            sys.executable,
            "-c",
            "from oak_ledger.cli import main; main()",
            "export",
            "loads",
            "--to",
            "out.parquet",
        ]
        running = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            preexec_fn=lambda: signal.signal(
                signal.SIGINT, signal.SIG_DFL
            ),  # it is ignored where tests run in the background
        )
        until = time.monotonic() + 20
        while {path.name for path in self.folder.iterdir()} == before and time.monotonic() < until:
            time.sleep(0.02)  # until the writing has begun
        self.assertNotEqual({path.name for path in self.folder.iterdir()}, before)
        begun = time.monotonic()
        running.send_signal(signal.SIGINT)
        said, _ = running.communicate(timeout=20)
        self.assertEqual((running.returncode, said.strip()), (130, "stopped"))
        self.assertLess(time.monotonic() - begun, 5)
        self.assertEqual({path.name for path in self.folder.iterdir()}, before)


class FromText(FolderCase):
    """Text files in stretches of any size, by one thread or two."""

    def ways(self) -> Any:
        for block, threads in itertools.product((40, 150, 1 << 20), (1, 2)):
            with (
                self.subTest(block=block, threads=threads),
                mock.patch.object(csv_reader, "BLOCK_BYTES", block),
                overridden(threads=threads),
            ):
                yield

    def test_rows_of_several_files(self) -> None:
        notes = ["plain", 'with "quotes"', "two\nlines", "a, comma", "", "ümläut", "x" * 70]
        wanted: list[tuple[int, str | None, str]] = []
        for month in ("01", "02", "03"):
            rows = [(at, notes[(at + int(month)) % len(notes)]) for at in range(25 * int(month))]
            out = io.StringIO()
            writer = csv.writer(out, lineterminator="\n")
            writer.writerow(["Id", "Note"])
            writer.writerows(rows)
            self.write(f"loads_{month}.csv", out.getvalue())
            wanted += [(at, note or None, month) for at, note in rows]
        found = oak.intake(
            ["loads_*.csv"], definition="loads.oak.toml", name_parts="loads_{Month}.csv", keep_names=True
        )
        found.save()
        for _ in self.ways():
            source = oak.open_source("loads.oak.toml")
            rows = source.rows(["Id", "Note", "Month"]).table.to_pydict()
            self.assertEqual(list(zip(*rows.values(), strict=True)), [(at, note, month) for at, note, month in wanted])
            self.assertEqual(source.tally(["Month"], ["COUNT(*)"]).table.column(1).to_pylist(), [25, 50, 75])

    def test_faults_and_windows_know_their_rows(self) -> None:
        for number in (1, 2):
            lines = [f"{at},{'x' if at in (3, 33) else at * number}" for at in range(40)]
            self.write(f"part_{number}.csv", "Id,Value\n" + "\n".join(lines) + "\n")
        source = oak.intake(["part_*.csv"], definition="part.oak.toml", keep_names=True).source
        source = source.with_changed("Value", type="integer").with_field(
            "Before", "LAG(Value) OVER (ORDER BY File, Id)"
        )
        source.save()
        for _ in self.ways():
            answer = oak.open_source("part.oak.toml").rows(["File", "Id", "Value", "Before"])
            self.assertEqual(
                [(one.rows, [row for row, _ in one.samples]) for one in answer.faults], [(4, [4, 34, 44, 74])]
            )
            values = answer.table.column("Value").to_pylist()
            self.assertEqual(answer.table.column("Before").to_pylist(), [None, *values[:-1]])

    def test_a_wrong_row_is_named_from_any_stretch(self) -> None:
        self.write("loads.csv", "Id,Note\n" + "".join(f"{at},n\n" for at in range(90)))
        source = oak.intake(["loads.csv"], definition="loads.oak.toml").source
        source.save()
        self.write("loads.csv", "Id,Note\n" + "".join(f"{at},n{',more' * (at == 77)}\n" for at in range(90)))
        for _ in self.ways():
            opened = oak.open_source("loads.oak.toml")
            error = self.raises("ragged-row", opened.tally)
            self.assertIn("line 79: it has 3 values instead of 2", error.message)


class FromFiles(FolderCase):
    def test_many_row_groups_and_wide_keys(self) -> None:
        rng = np.random.default_rng(1)
        size = 30_000
        table = pa.table({
            "key": [f"k{one}" for one in rng.integers(0, 9000, size)], "few": [f"f{one}" for one in rng.integers(0, 5, size)],
            "x": rng.integers(-50, 50, size), "d": pa.array(rng.integers(0, 9, size), mask=rng.random(size) < 0.1),
        })  # fmt: skip
        pq.write_table(table, "many.parquet", row_group_size=700)
        source = oak.intake(["many.parquet"], definition="many.oak.toml", keep_names=True).source
        answer = source.tally(["key", "few"], ["SUM(x)", "COUNT(DISTINCT d)", "COUNT(*)"], totals=True)
        frame = table.to_pandas()
        wanted = frame.groupby(["key", "few"]).agg(s=("x", "sum"), n=("d", "nunique"), c=("x", "size")).reset_index()
        got = answer.table.to_pandas()
        self.assertEqual(len(got), len(wanted))
        for mine, theirs in zip(got.columns, wanted.columns, strict=True):
            self.assertEqual(got[mine].tolist(), wanted[theirs].tolist(), mine)
        assert answer.totals is not None
        self.assertEqual([column[0].as_py() for column in answer.totals.columns[2:]], [int(frame.x.sum()), 9, size])


class ManyKeys(unittest.TestCase):
    def test_more_combinations_of_keys_than_a_number_holds(self) -> None:
        rows = 60_000
        at = np.arange(rows)
        table = pa.table(
            {
                "a": at * 7919 % 1_000_003,
                "b": [f"x{one}" for one in at],
                "c": at * 1.5,
                "d": [f"y{one % 50_000}" for one in at],
                "v": np.ones(rows),
            }
        )
        source = oak.Source.from_table(table, name='My "best" data\\ ü')
        self.assertEqual(source.name, 'My "best" data\\ ü')
        for size in (1 << 17, 20_000):
            with overridden(rows=size):
                answer = source.tally(["a", "b", "c", "d"], [("n", "COUNT(*)"), ("v", "SUM(v)")]).table
            self.assertEqual(
                (answer.num_rows, pc.sum(answer.column("n")).as_py(), pc.sum(answer.column("v")).as_py()),
                (rows, rows, rows),
            )
            again = answer.sort_by("c").select(["a", "b", "c", "d"])
            self.assertTrue(again.equals(table.sort_by("c").select(["a", "b", "c", "d"]).cast(again.schema)))


if __name__ == "__main__":
    unittest.main()
