"""Bringing rows in: files as they really arrive."""

from __future__ import annotations

import codecs
from typing import Any

import pyarrow.csv as pa_csv

import oak_ledger as oak
from oak_ledger.columns.judging import nice_name
from oak_ledger.demo.hollowmere import MESS
from tests.support import FolderCase


def column(*values: str) -> str:
    """A file of two columns, the first one a counter."""
    return "N,X\n" + "".join(f"{at},{value}\n" for at, value in enumerate(values, 1))


# The values of a column, and the type, the nulls, the misfits and a word of the reason that must come out.
TYPES: list[tuple[tuple[str, ...], str, int, int, str]] = [
    (("1", "2", "-3", "+4"), "integer", 0, 0, "whole numbers"),
    (("007", "008", "12"), "text", 0, 0, "leading zeros"),
    (("0", "1", "10"), "integer", 0, 0, "whole"),
    (("1.5", "2", "3.25"), "decimal(18,2)", 0, 0, "decimal point"),
    (('"1,5"', '"2"', '"3,25"'), "decimal(18,2)", 0, 0, "decimal comma"),
    (('"1,5"', "2.5", "3"), "decimal(18,1)", 0, 0, "others"),
    (('"1,234.50"', '"12,345,678.00"', "1.00"), "decimal(18,2)", 0, 0, "thousands"),
    (("1.234.567", "2.345.678", "1.111.111"), "integer", 0, 0, "thousands"),
    (("1e5", "2.5E-3", "7"), "number", 0, 0, "exponents"),
    (("yes", "no", "Yes"), "boolean", 0, 0, "yes and no"),
    (("2026-01-31", "2026-02-01"), "date", 0, 0, "YYYY-MM-DD"),
    (("31.01.2026", "1.2.2026"), "date", 0, 0, "DD.MM.YYYY"),
    (("31/01/2026", "01/02/2026"), "date", 0, 0, "above 12 decide"),
    (("01/31/2026", "02/01/2026"), "date", 0, 0, "MM/DD/YYYY"),
    (("01/02/2026", "03/04/2026"), "date", 0, 0, "no row shows which"),
    (("14 Mar 2026", "01 dec 2025"), "date", 0, 0, "DD MON YYYY"),
    (("2026-01-31 10:20:30", "2026-02-01 00:00:00.5"), "timestamp", 0, 0, "HH24:MI:SS"),
    (("31.02.2026", "01.03.2026"), "date", 0, 1, "DD.MM.YYYY"),
    (("1", "-", "3", "NA"), "integer", 2, 0, "whole"),
    (("1", "", "3"), "integer", 1, 0, "whole"),
    (("oak", "ash", "-"), "text", 0, 0, "distinct value"),
    (("", "", ""), "text", 3, 0, "no value"),
    (("12345678901234567890", "1"), "decimal(38,0)", 0, 0, "whole"),
    ((" 1 ", "2", " 3"), "integer", 0, 0, "whole"),
    (("1", "2", "x"), "text", 0, 0, "distinct value"),
    ((*tuple(map(str, range(2000))), "x"), "integer", 0, 1, "whole"),
]

# A file, and what reading it must say: the error's code, and words of it.
UNREADABLE: list[tuple[str, bytes, str, str]] = [
    ("empty", b"", "empty-file", "is empty"),
    ("blank", b"\n \n", "empty-file", "is empty"),
    ("zeros", b"PK\x03\x04\x00\x00\x00", "not-text", "byte 5 is zero"),
    ("short row", b"A,B,C\n1,2,3\n4,5\n6,7,8\n", "ragged-row", "line 3: it has 2 values instead of 3: 4,5"),
    ("long row", b"A,B\n1,2\n3,4,5\n", "ragged-row", "line 3: it has 3 values instead of 2"),
]


class Types(FolderCase):
    def test_each_column_gets_its_type(self) -> None:
        for values, kind, nulls, misfits, why in TYPES:
            with self.subTest(values[:4]):
                found = oak.intake([self.write("t.csv", column(*values))])
                one = found.proposals[1]
                self.assertEqual(
                    (one.type, one.evidence.nulls, one.evidence.misfits), (kind, nulls, misfits), one.evidence
                )
                self.assertIn(why, one.evidence.why)
                answer = found.source.rows()
                self.assertEqual(sum(fault.rows for fault in answer.faults), misfits, answer.faults)
                self.assertEqual(answer.table.column("X").null_count, nulls + misfits)

    def test_a_misfit_is_named_with_its_row(self) -> None:
        found = oak.intake([self.write("t.csv", column(*map(str, range(2000)), "x", "5"))])
        self.assertEqual(found.proposals[1].evidence.samples, ((2001, "x"),))

    def test_judged_from_a_part(self) -> None:
        path = self.write("t.csv", column(*map(str, range(500)), "x"))
        found = oak.intake([path], sample=100)
        self.assertEqual((found.proposals[1].type, found.rows), ("integer", 100))
        fault = found.source.rows(["X"]).faults[0]
        self.assertEqual((fault.what, fault.samples[0]), ("not a whole number", (501, {"X": "x"})))

    def test_roles(self) -> None:
        found = oak.intake([self.write("r.csv", "Load no,Year,Volume,Mill,Count\n17,2026,1.5,A,3\n18,2026,2.5,B,3\n")])
        self.assertEqual(
            [one.role for one in found.proposals], ["dimension", "dimension", "measure", "dimension", "measure"]
        )

    def test_names(self) -> None:
        cases = {
            "LOAD_ID": "Load id",
            "grossValue": "Gross value",
            "order volume": "Order volume",
            "Mill": "Mill",
            "DISTANCE_KM": "Distance km",
            "m3": "M3",
        }
        for given, wanted in cases.items():
            self.assertEqual(nice_name(given), wanted)


class Files(FolderCase):
    def test_how_a_file_is_written_is_found_out(self) -> None:
        text = "Name;Größe;Preis\nEiche;1,5;10\nÄsche;2,5;20\n"
        for encoding, mark in (("utf-8", b""), ("utf-8", codecs.BOM_UTF8), ("utf-16", b""), ("cp1252", b"")):
            with self.subTest(encoding=encoding, mark=mark):
                found = oak.intake([self.write("f.csv", mark + text.encode(encoding))])
                self.assertEqual([one.name for one in found.proposals], ["Name", "Größe", "Preis"])
                self.assertEqual(found.source.origin.separator, ";")
                self.assertEqual(found.source.rows(["Name"]).table.column(0).to_pylist(), ["Eiche", "Äsche"])
        for separator in ("\t", "|", ","):
            found = oak.intake([self.write("s.csv", text.replace(",", ".").replace(";", separator))])
            self.assertEqual((found.source.origin.separator, len(found.proposals)), (separator, 3))

    def test_a_file_without_a_header(self) -> None:
        found = oak.intake([self.write("n.csv", "OAK,1,x\nASH,2,y\n")])
        self.assertEqual([one.name for one in found.proposals], ["Column 1", "Column 2", "Column 3"])
        self.assertEqual(found.source.rows().table.num_rows, 2)
        given = oak.intake([self.write("g.csv", "OAK,Oak\nASH,Ash\n")], header="none")
        self.assertEqual(given.source.rows().table.num_rows, 2)

    def test_quotes_line_breaks_and_spaces(self) -> None:
        path = self.write("q.csv", 'Id,Text\n1,"a, ""b""\nsecond line"\n2," x "\n3,""\n4,\n')
        values = oak.intake([path]).source.rows(["Text"]).table.column(0).to_pylist()
        self.assertEqual(values, ['a, "b"\nsecond line', " x ", "", None])

    def test_names_and_no_rows(self) -> None:
        found = oak.intake([self.write("h.csv", "A,B\n")])
        self.assertEqual((found.rows, found.source.rows().table.num_rows), (0, 0))
        self.assertEqual(found.source.tally().value(), 0)

    def test_unreadable_files(self) -> None:
        for name, content, code, words in UNREADABLE:
            with self.subTest(name):
                path = self.write("u.csv", content)
                error = self.raises(code, lambda path=path: oak.intake([path]).source.rows())
                self.assertIn(words, str(error))
                self.assertEqual(error.exit_code, 3)
        self.raises("no-file", oak.intake, [self.folder / "nothing.csv"])
        self.raises("no-file", oak.intake, ["nothing_*.csv"])
        self.raises("is-folder", oak.intake, [self.folder])

    def test_a_wrong_byte_far_down_is_named_with_its_line(self) -> None:
        rows = b"".join(b"%d,oak\n" % at for at in range(40_000))
        path = self.write("w.csv", b"N,X\n" + rows + b"40000,\xe4sche\n")
        error = self.raises("wrong-encoding", oak.intake, [path])
        self.assertIn("line 40002: byte 7", str(error))

    def test_many_files_of_one_shape(self) -> None:
        for month, volume in ((1, "1.5"), (2, "2,5"), (3, "3.5")):
            value = f'"{volume}"' if "," in volume else volume
            self.write(f"in/loads_2026-{month:02d}.csv", f"Id,Volume\n{month},{value}\n")
        found = oak.intake(["in/loads_*.csv"], name_parts="loads_{Year}-{Month}.csv", definition="loads.oak.toml")
        rows = found.source.rows(["Id", "Volume", "Year", "Month"], sort=["Id"]).to_dicts()
        self.assertEqual(
            [(row["Year"], row["Month"], str(row["Volume"])) for row in rows],
            [(2026, "01", "1.5"), (2026, "02", "2.5"), (2026, "03", "3.5")],
        )
        self.assertEqual(
            found.source.opened.locate(2),
            "loads_2026-02.csv row 1" if found.source.tally(show=["COUNT(*)"]).value() else "",
        )
        self.assertEqual(
            found.source.rows(["File"], sort=["-File"], limit=1).to_dicts(), [{"File": "loads_2026-03.csv"}]
        )
        self.write("in/loads_old.csv", "Id,Volume\n9,9\n")
        self.raises("name-parts", oak.intake, ["in/loads_*.csv"], name_parts="loads_{Year}-{Month}.csv")

    def test_a_file_of_another_shape_is_named_with_its_difference(self) -> None:
        self.write("in/a_1.csv", "Id,Volume\n1,2\n")
        self.write("in/a_2.csv", "Id,Amount\n1,2\n")
        found = oak.intake(["in/a_*.csv"])
        self.assertEqual([one.code for one in found.findings], ["file-differs"])
        self.assertIn("a_2.csv has no column Volume and the extra column Amount", found.findings[0].message)
        self.assertEqual(
            found.source.rows(["Volume", "Amount"]).to_dicts(),
            [{"Volume": 2, "Amount": None}, {"Volume": None, "Amount": 2}],
        )
        renamed = oak.intake(["in/a_*.csv"], renamed={"Amount": "Volume"})
        self.assertEqual((renamed.findings, [row["Volume"] for row in renamed.source.rows().to_dicts()]), ((), [2, 2]))

    def test_the_definition_is_never_overwritten(self) -> None:
        path = self.write("loads.csv", "A,B\nx,1\n")
        first = oak.intake([path], definition="loads.oak.toml")
        first.save()
        before = (self.folder / "loads.oak.toml").read_text()
        self.raises("file-exists", oak.intake([path], name="Other", definition="loads.oak.toml").save)
        self.assertEqual((self.folder / "loads.oak.toml").read_text(), before)
        self.assertEqual([one.name for one in self.folder.iterdir() if one.name.endswith(".part")], [])
        self.assertIn("already exists", self.oak("intake", "loads.csv", code=2))


class DemoData(FolderCase):
    def test_the_mess_is_as_counted(self) -> None:
        made = oak.make_demo_data(self.folder, 3_000, seed=11)
        again = oak.make_demo_data(self.folder / "again", 3_000, seed=11)
        self.assertEqual(made.mess, again.mess)
        self.assertEqual(set(made.mess), set(MESS))
        files = sorted((self.folder / "intake").glob("loads_*.csv"))
        self.assertEqual(len(files), 18)
        counts: dict[str, int] = dict.fromkeys(
            ("rows", "spaces", "capitals", "dash", "permit", "returned", "impossible"), 0
        )
        for path in files:
            strings: Any = dict.fromkeys(
                ("MILL", "MOISTURE", "VOLUME", "DELIVERED", "LOAD_ID", "PERMIT_COST"), "string"
            )
            table = pa_csv.read_csv(
                path, convert_options=pa_csv.ConvertOptions(column_types=strings, strings_can_be_null=True)
            )
            rows = table.to_pylist()
            counts["rows"] += len(rows)
            counts["spaces"] += sum(row["MILL"] != row["MILL"].strip() for row in rows)
            counts["capitals"] += sum(row["MILL"].isupper() for row in rows)
            counts["dash"] += sum(row["MOISTURE"] == "-" for row in rows)
            counts["permit"] += sum(row["PERMIT_COST"] is None for row in rows)
            counts["returned"] += sum(row["STATUS"] == "returned" for row in rows)
            counts["impossible"] += sum(row["DELIVERED"].startswith("31.02") for row in rows)
        wanted = (
            "padded ids",
            "mill spaces",
            "mill case",
            "moisture dash",
            "no permit cost",
            "returned",
            "impossible days",
        )
        self.assertEqual(list(counts.values()), [made.mess[name] for name in wanted])
        for name in (
            "stands.xlsx",
            "species_names.csv",
            "species_names_columns.txt",
            "cost_haulage.csv",
            "cost_loading.csv",
            "cost_permits.csv",
            "yard.db",
            "brackwater_loads.csv",
        ):
            self.assertTrue((self.folder / "intake" / name).stat().st_size > 0, name)
        later = (self.folder / "delivery" / files[0].name).read_text().splitlines()[0]
        self.assertIn("COMPARTMENT", later)
        self.assertNotIn("DISTANCE_KM", later)
