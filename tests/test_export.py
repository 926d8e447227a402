"""Files for others: workbooks, texts that are no formulas, and descriptors that a program of the standard's own reads."""

from __future__ import annotations

import datetime as dt
import json
import unittest
from decimal import Decimal
from typing import Any
from unittest import mock

import frictionless
import openpyxl
import pyarrow as pa
import pyarrow.csv as pa_csv

import oak_ledger as oak
from tests.support import FolderCase

HOSTILE = [
    "=1+1",
    "@SUM(A1)",
    "+calc|' /C calc'!A0",
    "-2+3+cmd(1)",
    "\tx",
    "#N/A",
    "=",
    "plain",
    "-5",
    "+49 30 1",
    "a=b",
    "",
    None,
]


def source() -> oak.Source:
    rows = len(HOSTILE)
    table = pa.table(
        {
            "Id": pa.array(range(rows)), "Note": HOSTILE, "Big": pa.array([10**17 + 1, *range(1, rows)]), "Price": pa.array([Decimal("1234567890123456.78"), *[Decimal("1.50")] * (rows - 1)], pa.decimal128(20, 2)),
            "Share": [0.1] * rows, "Ok": [True, None, *[False] * (rows - 2)], "Day": [dt.date(1850, 1, 2), *[dt.date(2026, 3, 1)] * (rows - 1)], "At": [dt.datetime(2026, 3, 1, 7, 30)] * rows,
        }
    )  # fmt: skip
    return (
        oak.Source.from_table(table, name="Odd & ends").with_key(["Id"]).with_changed("Share", description="In parts")
    )


class Exported(FolderCase):
    def test_a_workbook_has_values_as_they_are_and_no_formula(self) -> None:
        written = source().write("out.xlsx")
        self.assertEqual(written.rows, len(HOSTILE))
        sheet = openpyxl.load_workbook("out.xlsx").active
        rows = [*sheet.iter_rows()]
        self.assertEqual([one.value for one in rows[0]], ["Id", "Note", "Big", "Price", "Share", "Ok", "Day", "At"])
        self.assertEqual([row[1].value for row in rows[1:]], [one or None for one in HOSTILE])
        self.assertEqual({row[1].data_type for row in rows[1:]} - {"s", "n"}, set())  # an empty cell counts as a number
        self.assertEqual([cell.value for cell in rows[1]][2:4], ["100000000000000001", "1234567890123456.78"])
        self.assertEqual(
            [cell.value for cell in rows[2]][2:],
            [1, 1.5, 0.1, None, dt.datetime(2026, 3, 1), dt.datetime(2026, 3, 1, 7, 30)],
        )
        self.assertEqual(rows[1][6].value, "1850-01-02")
        said = {one.place.where: one.message for one in written.findings}
        self.assertEqual({*said}, {"Big", "Price", "Day"})

    def test_a_workbook_shows_values_as_the_source_does(self) -> None:
        """Formats of fields; a moment finer than a workbook keeps is a text."""
        table = pa.table({"Net": [1234.5], "Rate": [0.25], "Day": [dt.date(2026, 3, 1)], "At": [dt.datetime(2026, 3, 1, 7, 30, 0, 5)]})  # fmt: skip
        made = oak.Source.from_table(table, name="F")
        for name, look in (("Net", "€ 0,000.00"), ("Rate", "0.0 %"), ("Day", "DD.MM.YYYY")):
            made = made.with_changed(name, format=look)
        written = made.write("f.xlsx")
        cells = [*openpyxl.load_workbook("f.xlsx").active.rows][1]
        self.assertEqual([one.number_format for one in cells[:3]], ['"€ "#,##0.00', '0.0" "%', 'dd"."mm"."yyyy'])
        self.assertEqual(
            [one.value for one in cells], [1234.5, 0.25, dt.datetime(2026, 3, 1), "2026-03-01 07:30:00.000005"]
        )
        self.assertEqual([one.place.where for one in written.findings], ["At"])

    def test_a_mark_for_spreadsheets(self) -> None:
        for marked in (True, False):
            source().write("m.csv", marked=marked)
            content = (self.folder / "m.csv").read_bytes()
            self.assertEqual(content.startswith(b"\xef\xbb\xbf"), marked)
            self.assertEqual(pa_csv.read_csv("m.csv").num_rows, len(HOSTILE))

    def test_empty_texts_stay_what_they_are_for_a_reader_of_the_descriptor(self) -> None:
        self.write("e.csv", 'Id,Note,Size\n1,"",5\n2,x,\n3,y,7\n')
        oak.intake("e.csv", name="E", definition="e.oak.toml").save()
        self.oak("export", "e", "--to", "out.csv", "--describe", "--byte-order-mark")
        (resource,) = json.loads((self.folder / "datapackage.json").read_text("utf-8"))["resources"]
        rows = frictionless.Package("datapackage.json").resources[0].read_rows()  # fmt: skip
        own = oak.open_source("e.oak.toml").rows().to_dicts()
        self.assertEqual([row["Note"] for row in rows], [row["Note"] for row in own])
        for name in ("Id", "Size"):
            self.assertEqual([row[name] for row in rows], [row[name] for row in own])
        self.assertEqual(resource["schema"]["missingValues"], [""])

    def test_names_that_would_run_are_harmless(self) -> None:
        made = oak.Source.from_table(pa.table({"a": [1]}), name="T")
        found = made.write("names.csv", [("=cmd()", "a"), ("-2\n+x(1)", "a"), ("-a", "a")])
        self.assertEqual(pa_csv.read_csv("names.csv", parse_options=pa_csv.ParseOptions(newlines_in_values=True)).column_names, ["'=cmd()", "'-2\n+x(1)", "-a"])  # fmt: skip
        self.assertEqual([one.code for one in found.findings], ["made-harmless"] * 2)

    def test_texts_that_would_run_are_harmless_in_csv_unless_all_is_exact(self) -> None:
        plain = source().write("plain.csv")
        self.assertEqual([one.code for one in plain.findings], ["made-harmless"])
        self.assertIn("6 texts of Note", plain.findings[0].message)
        notes = pa_csv.read_csv("plain.csv").column("Note").to_pylist()
        self.assertEqual([one for one in notes if one.startswith("'")], [f"'{one}" for one in HOSTILE[:5]] + ["'="])
        self.assertEqual(source().write("exact.csv", exact=True).findings, ())
        self.assertEqual(pa_csv.read_csv("exact.csv").column("Note").to_pylist()[:-1], HOSTILE[:-1])

    def test_what_a_sheet_cannot_hold_is_refused_and_nothing_is_written(self) -> None:
        long = oak.Source.from_table(pa.table({"t": ["x" * 40_000]}), name="L")
        self.assertIn("characters", str(self.raises("too-much", long.write, "l.xlsx")))
        with mock.patch("oak_ledger.source.workbook.COLUMNS", 2):
            wide = oak.Source.from_table(pa.table({"a": [1], "b": [1], "c": [1]}), name="L")
            self.assertIn("columns", str(self.raises("too-much", wide.write, "l.xlsx")))
        with mock.patch("oak_ledger.source.workbook.ROWS", 100):
            self.raises("too-much", oak.Source.from_table(pa.table({"n": range(100)}), name="L").write, "l.xlsx")
            self.assertEqual(oak.Source.from_table(pa.table({"n": range(99)}), name="L").write("fits.xlsx").rows, 99)
        (self.folder / "fits.xlsx").unlink()
        self.assertEqual([*self.folder.glob("*.xlsx")], [])
        wrong = oak.Source.from_table(pa.table({"t": ["a\x01b", "fine"]}), name="W").write("w.xlsx")
        self.assertEqual(openpyxl.load_workbook("w.xlsx").active["A2"].value, "a\ufffdb")
        self.assertIn("1 text has characters", wrong.findings[0].message)

    def test_descriptors_are_valid_and_true(self) -> None:
        self.write("rows.csv", "Id,Mill,Volume,Day\n1,Low Weir,1.50,2026-03-01\n2,High Ford,,2026-03-02\n")
        made = oak.intake("rows.csv", name="Loads ½", definition="l.oak.toml", keep_names=True).source.with_key(["Id"])
        made.with_changed("Volume", description="In m³").save("l.oak.toml")
        for name in ("out.csv", "out.parquet", "out.xlsx", "out.arrow"):
            with self.subTest(name):
                self.assertIn("described in", self.oak("export", "l", "--to", name, "--describe"))
                said: dict[str, Any] = json.loads((self.folder / "datapackage.json").read_text("utf-8"))
                (resource,) = said["resources"]
                self.assertEqual(resource["schema"]["primaryKey"], ["Id"])
                self.assertEqual(
                    [one["type"] for one in resource["schema"]["fields"]], ["integer", "string", "number", "date"]
                )
                self.assertEqual(resource["bytes"], (self.folder / name).stat().st_size)
                if name in ("out.csv", "out.xlsx"):
                    report = frictionless.validate("datapackage.json")
                    self.assertTrue(report.valid, report.flatten())

    def test_the_commands_say_what_was_changed(self) -> None:
        self.write("n.csv", "Id,Note\n1,=1+1\n2,x\n")
        oak.intake("n.csv", name="N", definition="n.oak.toml").source.save("n.oak.toml")
        self.assertIn(
            "1 text of Note that a spreadsheet would run is written behind an apostrophe",
            self.oak("export", "n", "--to", "o.csv"),
        )
        self.assertNotIn("apostrophe", self.oak("export", "n", "--to", "o.csv", "--exact"))
        self.assertIn("=1+1", (self.folder / "o.csv").read_text())


if __name__ == "__main__":
    unittest.main()
