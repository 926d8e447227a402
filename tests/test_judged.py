"""A mend is judged by its result: what it would lose is said, and refused until it is confirmed."""

from __future__ import annotations

import json
import random
from pathlib import Path

import openpyxl
import pyarrow as pa
import pyarrow.ipc as ipc
import pyarrow.parquet as pq

import oak_ledger as oak
from tests.support import FolderCase


def csv(path: Path, rows: list[dict[str, float]]) -> None:
    lines = [";".join(rows[0]), *(";".join(map(str, row.values())) for row in rows)]
    path.write_text("\n".join(lines) + "\n", "utf-8")


def json_lines(path: Path, rows: list[dict[str, float]]) -> None:
    path.write_text("".join(json.dumps(row) + "\n" for row in rows), "utf-8")


def parquet(path: Path, rows: list[dict[str, float]]) -> None:
    pq.write_table(pa.Table.from_pylist(rows), path)


def arrow(path: Path, rows: list[dict[str, float]]) -> None:
    table = pa.Table.from_pylist(rows)
    with ipc.new_file(path, table.schema) as writer:
        writer.write_table(table)


def workbook(path: Path, rows: list[dict[str, float]]) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.append([*rows[0]])
    for row in rows:
        sheet.append([*row.values()])
    book.save(path)


WRITERS = {"csv": csv, "jsonl": json_lines, "parquet": parquet, "arrow": arrow, "xlsx": workbook}


class ManyFiles(FolderCase):
    """Files of which some call a column otherwise: after the mend all are read, whichever came first, in every kind."""

    def test_both_names_are_read(self) -> None:
        rng = random.Random(20261201)
        for ending, write in WRITERS.items():
            for case in range(3):
                with self.subTest(ending, case=case):
                    folder = self.folder / f"{ending}{case}"
                    folder.mkdir()
                    called = [True, True, False, False, False]
                    rng.shuffle(called)
                    rows = [
                        [{"Id": at, "Volume": rng.randrange(1, 900) / 10, "Cost": rng.randrange(90)} for at in range(4)]
                        for _ in called
                    ]
                    pattern = f"{folder.name}/load-*.{ending}"
                    for number, own in enumerate(rows):
                        write(folder / f"load-{number}.{ending}", own)
                    name = f"s{ending}{case}"
                    self.oak("intake", pattern, "--name", name)
                    self.oak("field", "add", name, "Doubled", "Volume * 2")
                    wanted = self.oak_json("tally", name, "--show", "SUM(Volume)", "--show", "SUM(Doubled)")["rows"]
                    for number, own in enumerate(rows):
                        if not called[number]:
                            other = [
                                {("Cubic" if key == "Volume" else key): one for key, one in row.items()} for row in own
                            ]
                            write(folder / f"load-{number}.{ending}", other)
                    self.assertIn(f"mend {name} ", self.oak("check", name, code=None))
                    self.oak("mend", name, "Volume=Cubic")
                    self.assertEqual(
                        self.oak_json("tally", name, "--show", "SUM(Volume)", "--show", "SUM(Doubled)")["rows"], wanted
                    )
                    self.oak("undo", name)

    def test_a_file_that_has_both_keeps_both(self) -> None:
        for number, names in enumerate(("Id;Volume", "Id;Volume;Cubic", "Id;Cubic;Volume")):
            row = ";".join({"Id": str(number), "Volume": "1.5", "Cubic": "7.5"}[name] for name in names.split(";"))
            self.write(f"d/load-{number}.csv", f"{names}\n{row}\n")
        self.oak("intake", "d/*.csv", "--name", "d", code=1)
        text = Path("d.oak.toml").read_text("utf-8").replace("[origin]\n", '[origin]\nrenamed = { Cubic = "Volume" }\n')
        Path("d.oak.toml").write_text(text, "utf-8")
        self.assertEqual(self.oak_json("tally", "d", "--show", "SUM(Volume)")["rows"], [{"SUM(Volume)": "4.5"}])


class Losses(FolderCase):
    """Repairs that lose something: each is said with its number, nothing is written, and with --yes it is."""

    BEFORE = "Id,Volume,Day,Mill\n1,1.5,2026-01-02,A\n2,2.5,2026-01-03,B\n3,3.5,2026-01-04,A\n"
    CASES = (
        ("a decimal comma", "Id;Cubic;Day;Mill\n1;1,5;2026-01-02;A\n2;2,5;2026-01-03;B\n3;3;2026-01-04;A\n", ("Volume=Cubic",), "Volume would be null in 2 of 3 rows"),
        ("another form of dates", "Id,Volume,Date,Mill\n1,1.5,02.01.2026,A\n2,2.5,03.01.2026,B\n3,3.5,04.01.2026,A\n", ("Day=Date",), "Day would be null in 3 of 3 rows"),
        ("a column of nothing", "Id,Volume,Day,Site\n1,1.5,2026-01-02,\n2,2.5,2026-01-03,\n3,3.5,2026-01-04,\n", ("Mill=Site",), "Mill would be null in 3 of 3 rows"),
        ("nothing at all", "Id,Cubic,Day,Mill\n1,1.5,2026-01-02,A\n2,2.5,2026-01-03,B\n3,3.5,2026-01-04,A\n", ("Volume=Cubic",), ""),
        ("nulls as there were", "Id,Cubic,Day,Mill\n1,1.5,2026-01-02,A\n2,,2026-01-03,B\n3,3.5,2026-01-04,A\n", ("Volume=Cubic",), ""),
    )  # fmt: skip

    def test_what_a_repair_would_lose(self) -> None:
        for what, after, repairs, said in self.CASES:
            with self.subTest(what):
                self.write("w.csv", self.BEFORE)
                Path("w.oak.toml").unlink(missing_ok=True)
                self.oak("intake", "w.csv", "--name", "w")
                if ";" in after:
                    text = Path("w.oak.toml").read_text("utf-8")
                    Path("w.oak.toml").write_text(text.replace('path = "w.csv"', 'path = "w.csv"\nseparator = ";"'))
                self.write("w.csv", after)
                before = Path("w.oak.toml").read_text("utf-8")
                tried = self.oak("mend", "w", *repairs, "--dry-run")
                got = self.oak("mend", "w", *repairs, code=2 if said else 0)
                if said:
                    self.assertIn(said, got)
                    self.assertIn(said, tried)
                    self.assertEqual(Path("w.oak.toml").read_text("utf-8"), before)
                    facts = self.oak_json("mend", "w", *repairs, "--yes")["facts"]
                    self.assertEqual([one["code"] for one in facts["losses"]], ["mend-loses"])
                self.assertNotEqual(Path("w.oak.toml").read_text("utf-8"), before)

    def test_a_path_with_fewer_rows(self) -> None:
        self.write("w.csv", self.BEFORE)
        self.oak("intake", "w.csv", "--name", "w")
        self.write("v.csv", "\n".join(self.BEFORE.splitlines()[:3]) + "\n")
        self.assertIn("1 of 3 rows would be missing", self.oak("mend", "w", "--path", "v.csv", code=2))
        planned = oak.plan_mend(oak.open_source("w.oak.toml"), {}, origin={"path": "v.csv"})
        self.assertEqual([one.code for one in planned.losses], ["mend-loses"])
        self.write("v.csv", self.BEFORE + "4,4.5,2026-01-05,B\n")
        self.oak("mend", "w", "--path", "v.csv")

    def test_values_of_every_type_are_replaced_where_they_are_compared(self) -> None:
        self.write("w.csv", "Id,Status,Paid,Day,V\n1,1,true,2026-01-01,1.5\n2,2,false,2026-01-02,-2.5\n3,1,true,2026-01-02,3.5\n")  # fmt: skip
        self.oak("intake", "w.csv", "--name", "w", code=None)
        cases = (
            ("Status", "CASE WHEN Status = 1 THEN 1 WHEN Status IN (2, 3) THEN 2 END", "1=10", "CASE WHEN Status = 10 THEN 1 WHEN Status IN (2, 3) THEN 2 END"),
            ("Status", "CASE Status WHEN 10 THEN Id + 10 ELSE 2 END", "10=7", "CASE Status WHEN 7 THEN Id + 10 ELSE 2 END"),
            ("V", "IF(V <> -2.50 AND 1.5 = V, 1.5, 2.5)", "-2.5=-7", "IF(V <> -7 AND 1.5 = V, 1.5, 2.5)"),
            ("V", "IF(V = 15e-1, 1, 0)", "1.5=1.25", "IF(V = 1.25, 1, 0)"),
            ("Day", "IF(Day = DATE '2026-01-02', 1, 0)", "2026-01-02=2026-02-02", "IF(Day = DATE '2026-02-02', 1, 0)"),
            ("Paid", "IF(Paid = TRUE, 1, 0)", "true=false", "IF(Paid = FALSE, 1, 0)"),
        )  # fmt: skip
        for number, (field, before, pair, after) in enumerate(cases):
            with self.subTest(before):
                self.oak("field", "add", "w", f"F{number}", before)
                self.oak("mend", "w", "--values", field, "--", pair)
                self.assertEqual(oak.open_source("w.oak.toml").state(f"F{number}").spec.formula, after)  # type: ignore[union-attr]
                self.oak("field", "drop", "w", f"F{number}")

    def test_a_repair_that_breaks_a_field(self) -> None:
        self.write("w.csv", self.BEFORE)
        self.oak("intake", "w.csv", "--name", "w")
        self.oak("field", "add", "w", "First", "IF(Id IN (1, 2), 'a', 'b')")
        self.assertIn("First would be broken", self.oak("mend", "w", "--values", "Id", "1=one", code=2))
