"""What intake learnt holds for later rows, and lists, rules and types that cannot be are said: each case is a command on small files."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import oak_ledger as oak
from tests.support import FolderCase, loads

ROWS = "Id,Code,Price,Phone,Qty,Pct\n" + "".join(
    f"{at},{100 + at},{at}.50,{at * 7},{at * 3},{at % 7}%\n" for at in range(1, 60)
)
# A later row, the field that is asked for, what it has there, and what is said.
LATER: tuple[tuple[str, str, Any, str], ...] = (
    ("60,007,1.50,1,1,1%", "Code", None, "a number would lose its leading zeros in 1 row, first in row 60: '007'"),
    ("60,+4912345678,1.50,1,1,1%", "Code", None, "a number would lose its plus"),
    ("60,0,1.50,1,1,1%", "Code", 0, ""),
    ("60,-5,1.50,1,1,1%", "Code", -5, ""),
    ("60,1,1.100,1,1,1%", "Price", None, "undecided between decimals and thousands in 1 row, first in row 60: '1.100'"),
    ("60,1,0.100,1,1,1%", "Price", Decimal("0.10"), ""),
    ("60,1,1.1000,1,1,1%", "Price", Decimal("1.10"), ""),
    ("60,1,1.125,1,1,1%", "Price", None, "in 1 row, first in row 60: '1.125'"),
    ("60,1,007.5,1,1,1%", "Price", Decimal("7.50"), ""),
    ("60,1,1.234.567,1,1,1%", "Price", None, "not a number"),
    ("60,1,1.5,1,1.100,1%", "Qty", None, "not a whole number"),
)
# What is in the folder, a command, its exit code, and what it says.
SAID: tuple[tuple[dict[str, str], str, int, str], ...] = (
    ({"n.csv": "1,x,1\n", "names.txt": "One\nTwo\ntwo\n"}, "intake n.csv --header none --names names.txt", 3, "has the name 'two' twice"),
    ({"r.csv": "found,meant\nx,one\nx,two\n"}, "field recode a Pct --from r.csv", 3, "gives 'x' two meanings"),
    ({"r.csv": "found,meant\nx,one\nx,one\n"}, "field recode a Pct --from r.csv", 0, "'x' is in 0 rows"),
    ({}, "field recode a Pct x=one x=two", 2, "is there twice"),
    ({}, "field rename a --pattern zzz --by y --standing", 0, "changes no name now"),
    ({}, "field rename a --pattern (", 2, "unterminated subpattern"),
    ({}, "field rename a --pattern P --by \\2", 2, "invalid group reference"),
    ({}, "intake a.csv --sample 5 --to b.oak.toml", 0, "others not looked at"),
    ({}, "field retype a Pct text", 0, "number → text; 59 values before, 59 after"),
    ({}, "field retype a Pct decimal(5,3)", 0, "59 values before, 59 after"),
)  # fmt: skip


class Held(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.csv", ROWS)
        self.oak("intake", "a.csv")

    def test_later_rows(self) -> None:
        for row, field, wanted, said in LATER:
            self.write("a.csv", f"{ROWS}{row}\n")
            with self.subTest(row):
                answer = oak.open_source("a.oak.toml").rows([field], where="Id = 60")
                self.assertEqual([*answer.to_dicts()[0].values()], [wanted])
                faults = [one.sentence() for one in answer.faults]
                self.assertEqual(len(faults), bool(said), faults)
                self.assertIn(said, "".join(faults))

    def test_what_is_said(self) -> None:
        for files, command, code, said in SAID:
            for name, text in files.items():
                self.write(name, text)
            with self.subTest(command):
                self.assertIn(said, " ".join(self.oak(*command.split(), code=code).split()))
                if command.startswith("field") and code == 0:
                    self.oak("undo", "a")

    def test_a_column_whose_name_is_taken_is_restored_under_another(self) -> None:
        self.oak("field", "drop", "a", "Qty")
        self.oak("field", "rename", "a", "Id=Qty")
        self.oak("field", "restore", "a", "Qty")
        source = oak.open_source("a.oak.toml")
        self.assertEqual(source.rows(["Qty", '"Qty 2"'], limit=1).to_dicts(), [{"Qty": 1, "Qty 2": 3}])

    def test_a_filter_that_is_always_on_may_hold_a_window(self) -> None:
        """The window is over all rows; a window of a question is over the rows that are left."""
        source = oak.open_source("a.oak.toml").with_field(
            "Last", "ROW_NUMBER() OVER (PARTITION BY Pct ORDER BY Id DESC)"
        )
        source = source.with_entry("filter", "Latest", where="Last <= 2", always=True)
        source = source.with_entry("filter", "Not small", where="Qty > 160", always=True)
        rows = source.rows(["Id", "Last", ("n", "COUNT(*) OVER ()")]).to_dicts()
        self.assertEqual([row["Id"] for row in rows], [54, 55, 56, 57, 58, 59])
        self.assertEqual({row["n"] for row in rows}, {6})
        self.assertEqual(source.tally(show=["COUNT(*)"]).value(), 6)


class ConditionsOnGroups(FolderCase):
    """Aggregates in a filter leave out groups; totals and shares are over those that remain. Drawn ones are held against a server elsewhere."""

    CASES: tuple[tuple[Any, list[list[Any]], list[Any]], ...] = (
        ("SUM(Volume) > 20", [["High Ford", Decimal("35.50")], ["Low Weir", Decimal("36.50")]], [Decimal("72.00")]),
        ("Sent AND COUNT(*) > 1", [["Low Weir", Decimal("32.00")]], [Decimal("32.00")]),
        (
            ["Sent IS NOT NULL", "MAX(Cost) >= 30", "COUNT(*) < 9"],
            [["High Ford", Decimal("35.50")]],
            [Decimal("35.50")],
        ),
        ("Mill IS NULL AND COUNT(*) = 1", [[None, Decimal("4.50")]], [Decimal("4.50")]),
        ("COUNT(*) > 99", [], [None]),
    )

    def test_groups_and_totals(self) -> None:
        for where, groups, totals in self.CASES:
            with self.subTest(where):
                answer = loads().tally(["Mill"], ["Volume"], where=where, totals=True)
                self.assertEqual([[*row.values()] for row in answer.to_dicts()], groups)
                self.assertEqual([*answer.totals.to_pylist()[0].values()][1:], totals)
                self.assertEqual(answer.groups, len(groups))
                self.assertEqual([one.code for one in answer.findings], [] if groups else ["filter-matches-nothing"])

    def test_where_it_has_no_meaning(self) -> None:
        source = loads()
        for where, code in (
            ("SUM(Volume)", "condition-wanted"),
            ("RANK() OVER (ORDER BY SUM(Volume)) = 1", "condition-wanted"),
            ("Sent OR COUNT(*) > 1", "grain-mixed"),
        ):
            with self.subTest(where), self.assertRaises(oak.OakError) as caught:
                source.tally(["Mill"], ["Volume"], where=where)
            self.assertEqual(caught.exception.code, code)
        with self.assertRaises(oak.OakError) as caught:
            source.rows(["Mill"], where="COUNT(*) > 1")
        self.assertEqual(caught.exception.code, "condition-wanted")
        self.write(
            "r.report.toml",
            '[report]\nname = "R"\nsource = "Loads"\n\n[[panel]]\nkind = "table"\ntitle = "P"\nby = ["Mill"]\nshow = ["Volume"]\nwhere = "COUNT(*) > 1"\n',
        )
        self.assertEqual(len(oak.open_report("r.report.toml").view(source).panels[0].content.lines), 2)
        text = (self.folder / "r.report.toml").read_text()
        self.write("r.report.toml", text + "limit = 1\n")
        (found,) = oak.open_report("r.report.toml").view(source).panels[0].findings
        self.assertEqual(found.code, "group-condition")


class SortedByWhatIsNotShown(FolderCase):
    def test_sorted(self) -> None:
        source = loads()
        for sort, wanted in (
            (["-COUNT(*)", "Mill"], ["Low Weir", "High Ford", None]),
            (["-Volume"], ["Low Weir", "High Ford", None]),
            (["MIN(Volume)", "-MAX(Cost)"], [None, "Low Weir", "High Ford"]),
        ):
            with self.subTest(sort):
                answer = source.tally(["Mill"], ["COUNT(Cost)"], sort=sort, totals=True)
                self.assertEqual([row["Mill"] for row in answer.to_dicts()], wanted)
                self.assertEqual(answer.names, ["Mill", "COUNT(Cost)"])
                self.assertEqual(answer.totals.schema.names, ["Mill", "COUNT(Cost)"])
        with self.assertRaises(oak.OakError) as caught:
            source.tally(["Mill"], ["Volume"], sort=["Zebra"])
        self.assertEqual(caught.exception.code, "unknown-sort")

    def test_groups_with_a_name_by_command(self) -> None:
        self.write("a.csv", ROWS)
        self.oak("intake", "a.csv")
        said = self.oak("tally", "a", "--by", "Even = Id % 2 = 0", "--show", "n = COUNT(*)", "--sort", "-SUM(Id)")
        self.assertEqual([line.split() for line in said.splitlines()[2:4]], [["false", "30"], ["true", "29"]])


class NamesInTwoRows(FolderCase):
    """Titles that are merged over the table, groups above names, a name that stands in the upper row alone."""

    def workbook(self, lines: list[list[Any]], *merged: str) -> None:
        import openpyxl

        book = openpyxl.Workbook()
        for line in [*lines, *([f"M{at}", at, at * 2, at * 3] for at in range(6))]:
            book.active.append(line)
        for cells in merged:
            book.active.merge_cells(cells)
        book.save(self.folder / "w.xlsx")

    def test_found(self) -> None:
        title, plain = ["Sales report 2026", None, None, None], ["Mill", "Vol", "Cost", "Fee"]
        groups, names = ["Mill", "2025", None, "2026"], [None, "Q1", "Q2", "Q1"]
        wanted = ["Mill", "2025 Q1", "2025 Q2", "2026 Q1"]
        cases = (
            ([title, plain], ("A1:D1",), plain),
            ([title, plain], (), plain),
            ([plain], (), plain),
            ([groups, names], ("B1:C1",), wanted),
            ([groups, names], ("A1:A2", "B1:C1"), ["Mill Mill", *wanted[1:]]),
            ([title, groups, names], ("A1:D1", "B2:C2"), wanted),
        )
        for at, (lines, merged, columns) in enumerate(cases):
            with self.subTest(at):
                self.workbook(lines, *merged)
                found = oak.intake("w.xlsx", definition=f"{at}.oak.toml", keep_names=True)
                self.assertEqual([one.column for one in found.proposals][1:], columns[1:])
                self.assertEqual(found.rows, 6)
                self.assertEqual(found.source.rows([f'"{columns[3]}"']).to_dicts()[5], {columns[3]: 15})

    def test_said_by_command(self) -> None:
        self.write("h.csv", "a,x,x,y\nMill,p,q,p\nA,1,2,3\nB,2,3,4\n")
        self.oak("intake", "h.csv", "--header-lines", "2", "--keep-names")
        self.assertEqual([one.name for one in oak.open_source("h.oak.toml").fields][1:], ["x p", "x q", "y p"])
