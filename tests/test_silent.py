"""What would mislead without a word, each told by the check with its count and what mends it; and what is right, of which nothing is said."""

from __future__ import annotations

import unittest

import oak_ledger as oak
from tests.support import FolderCase

ROWS = "Id,Mill,Day,Volume\n1,Low Weir,2026-01-05,3\n2, High Ford ,2026-02-05,5\n3,low weir,2025-12-31,7\n4,,,9\n"
FIELDS = """[source]
name = "Loads"
[origin]
kind = "file"
path = "loads.csv"
[[field]]
name = "Id"
column = "Id"
type = "integer"
[[field]]
name = "Day"
column = "Day"
type = "date"
[[field]]
name = "Volume"
column = "Volume"
type = "integer"
role = "measure"
"""
MILL = '[[field]]\nname = "Mill"\ncolumn = "Mill"\n'
# What is written beside those fields; the code of the finding that must come (none where it is empty), words of it, and of what mends it.
SAID: list[tuple[str, str, str, str, str]] = [
    ("a constant begins late", MILL + '[[constant]]\nname = "Rate"\nby = "Day"\nvalues = { 2026-01-01 = 2, 2026-02-01 = 3 }\n', "constant-late", "Rate has values from 2026-01-01 on; 1 rows are earlier, from 2025-12-31, and in 1 rows Day is null", "from the first day on"),
    ("a clean changes nothing", MILL + "clean = \"REPLACE(VALUE, 'x', 'y')\"\n", "clean-idle", "The clean of Mill changes no value", "Take it out"),
    ("a clean changes something", MILL + 'clean = "BTRIM(VALUE)"\n', "", "", ""),
    ("replacements that match nothing", MILL + "type = \"text\"\nvalues = { 'Low Weir' = 'LW', 'Elm' = 'E', 'Oak' = 'O' }\n", "recode-idle", "2 of 3 replacements match no value: 'Elm', 'Oak'", ""),
    ("a clean hides replacements", MILL + "type = \"text\"\nvalues = { 'Low Weir' = 'low WEIR' }\nclean = \"UPPER(VALUE)\"\n", "recode-hidden", "the replacements change 1 rows, and the clean after them hides it: UPPER(VALUE)", "Let the clean come"),
    ("replacements that a clean keeps", MILL + "type = \"text\"\nvalues = { 'Low Weir' = 'Weir' }\nclean = \"UPPER(VALUE)\"\n", "", "", ""),
    ("a filter in another letter case", MILL + '[[filter]]\nname = "Weirs"\nwhere = "Mill IN (\'LOW WEIR\')"\n', "letter-case", "The filter 'Weirs': 'LOW WEIR' matches no value, but would match 2 rows in another letter case", "Write 'Low Weir'"),
    ("a filter without spaces", MILL + '[[filter]]\nname = "Fords"\nwhere = "Mill = \'High Ford\'"\n', "letter-case", "would match 1 rows without the spaces around, such as ' High Ford '", "Write ' High Ford '"),
    ("one of a list", MILL + '[[filter]]\nname = "Both"\nwhere = "Mill IN (\'Low Weir\', \'HIGH FORD\')"\n', "letter-case", "'HIGH FORD' matches no value", ""),
    ("a rule", MILL + '[[rule]]\nname = "known"\nholds = "Mill <> \'LOW WEIR\'"\n', "letter-case", "The rule 'known'", ""),
    ("a filter that is right", MILL + '[[filter]]\nname = "Weirs"\nwhere = "Mill = \'Low Weir\'"\n', "", "", ""),
    ("a branch that no row takes", MILL + '[[field]]\nname = "Size"\nformula = "CASE WHEN Volume > 100 THEN \'large\' ELSE \'small\' END"\n', "branch-empty", "no row reaches WHEN Volume > 100", ""),
    ("a boundary that falls to ELSE", MILL + '[[field]]\nname = "Size"\nformula = "CASE WHEN Volume < 5 THEN \'small\' WHEN Volume > 5 THEN \'large\' ELSE \'none\' END"\n', "branch-gap", "Volume = 5 falls in no branch; it goes to ELSE", "Let the branches meet"),
    ("zero falls to ELSE, and is meant to", MILL + '[[field]]\nname = "Sign"\nformula = "CASE WHEN Volume - 5 < 0 THEN -1 WHEN Volume - 5 > 0 THEN 1 ELSE 0 END"\n', "", "", ""),
    ("an order with ties", MILL + '[[field]]\nname = "Last"\nformula = "LAG(Volume) OVER (ORDER BY EXTRACT(YEAR FROM Day))"\n', "order-leaves-ties", "Last: 2 rows are alike in what LAG is ordered by", "different in every row"),
    ("the last value so far", '[[field]]\nname = "Last"\nformula = "LAST_VALUE(Volume) OVER (ORDER BY Day, Id)"\n[[field]]\nname = "Late"\nformula = "IF(Last > 1, 1, 0)"\n', "frame-ends-here", "Last: without a frame LAST_VALUE looks no further", "UNBOUNDED FOLLOWING"),
    ("the last value of all", '[[field]]\nname = "Last"\nformula = "LAST_VALUE(Volume) OVER (ORDER BY Day, Id ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)"\n', "", "", ""),
    ("binary fractions compared", '[[field]]\nname = "Is"\nformula = "IF(1e0 * Id * 0.1 = Id / 1e1, 1, 0)"\n', "nearly-equal", "by less than a billionth", "ROUND("),
    ("decimals compared", '[[field]]\nname = "Is"\nformula = "IF(Volume * 0.1 = 0.5, 1, 0)"\n', "", "", ""),
    ("a text joined with nulls", '[[field]]\nname = "Note"\nformula = "CASE WHEN Id = 2 THEN \'x\' END"\n[[field]]\nname = "Label"\nformula = "CAST(Id AS TEXT) || \' \' || Note"\n', "text-emptied", "because Note is", "COALESCE(Note, '')"),
    ("a ratio over other rows", '[[field]]\nname = "Part"\nformula = "CASE WHEN Id > 1 THEN Volume END"\n[[field]]\nname = "Rate"\nformula = "SUM(Part) / SUM(Volume)"\n', "ratio-rows", "Part is null in 1 rows that count in Volume", "FILTER (WHERE Part IS NOT NULL)"),
    ("a ratio over the same rows", '[[field]]\nname = "Twice"\nformula = "Volume * 2"\n[[field]]\nname = "Rate"\nformula = "SUM(Twice) / SUM(Volume)"\n', "", "", ""),
    ("distinct counts added", '[[field]]\nname = "Half"\nformula = "Id % 2"\n[[field]]\nname = "Sum"\nformula = "SUM(COUNT(DISTINCT Half) PER (Day))"\n', "distinct-added", "SUM(COUNT(DISTINCT Half) PER (Day)) says 4; COUNT(DISTINCT Half) says 2", "COUNT(DISTINCT Half)"),
    ("distinct counts of what is in one group", '[[field]]\nname = "Sum"\nformula = "SUM(COUNT(DISTINCT Id) PER (Day))"\n', "", "", ""),
    ("shares averaged", '[[field]]\nname = "Share of oak"\ncolumn = "Volume"\ntype = "integer"\n[[field]]\nname = "Mean"\nformula = "AVG(\\"Share of oak\\")"\n', "shares-averaged", "gives every row the same weight", "* weight"),
    ("volumes averaged", '[[field]]\nname = "Mean"\nformula = "AVG(Volume)"\n', "", "", ""),
    ("an order without ties", MILL + '[[field]]\nname = "Last"\nformula = "LAG(Volume) OVER (PARTITION BY Mill ORDER BY Day, Id)"\n', "", "", ""),
    ("ranks may tie", MILL + '[[field]]\nname = "R"\nformula = "RANK() OVER (ORDER BY EXTRACT(YEAR FROM Day))"\n', "", "", ""),
    ("nulls that a filter leaves out", MILL + '[[filter]]\nname = "Not low"\nwhere = "Mill <> \'Low Weir\'"\n', "nulls-left-out", "1 row in which Mill is null is left out as well by Mill <> 'Low Weir'", "IS DISTINCT FROM"),
    ("and by a list", MILL + '[[filter]]\nname = "Not low"\nwhere = "Mill NOT IN (\'Low Weir\')"\n', "nulls-left-out", "1 row in", "OR Mill IS NULL"),
    ("nulls that stay", MILL + '[[filter]]\nname = "Not low"\nwhere = "Mill <> \'Low Weir\' OR Mill IS NULL"\n', "", "", ""),
    ("nulls that another condition leaves out", MILL + '[[filter]]\nname = "Not low"\nwhere = "Mill <> \'Low Weir\' AND LENGTH(Mill) > 0"\n', "", "", ""),
    ("no nulls to leave out", MILL + '[[filter]]\nname = "Not one"\nwhere = "Id <> 1"\n', "", "", ""),
    ("a last day at midnight", '[[field]]\nname = "At"\nformula = "CAST(Day AS TIMESTAMP) + INTERVAL \'5\' HOUR"\n[[filter]]\nname = "Until"\nwhere = "At BETWEEN DATE \'2026-01-01\' AND DATE \'2026-02-05\'"\n', "midnight-end", "is the beginning of that day; 1 rows later on it", "< DATE '2026-02-05' + 1"),
    ("a last day of dates", '[[filter]]\nname = "Until"\nwhere = "Day BETWEEN DATE \'2026-01-01\' AND DATE \'2026-02-05\'"\n', "", "", ""),
    ("numbers as texts", '[[field]]\nname = "No"\nformula = "CAST(Id AS TEXT)"\n[[filter]]\nname = "High"\nwhere = "No > \'10\'"\n', "text-order", "compared letter by letter", "CAST(No AS NUMBER) > 10"),
    ("texts as texts", MILL + '[[filter]]\nname = "High"\nwhere = "Mill > \'10\'"\n', "", "", ""),
    ("several currencies", '[[field]]\nname = "Currency"\nformula = "CASE WHEN Id < 3 THEN \'EUR\' ELSE \'USD\' END"\n[[field]]\nname = "Amount"\nformula = "Volume * 1.5"\n', "currencies-mixed", "Currency has 2 currencies, and Amount is added up over them", "Group by Currency"),
    ("one currency", '[[field]]\nname = "Currency"\nformula = "CASE WHEN Id < 99 THEN \'EUR\' END"\n[[field]]\nname = "Amount"\nformula = "Volume * 1.5"\n', "", "", ""),
]  # fmt: skip
MEANT = {
    "distinct-added",
    "shares-averaged",
    "frame-ends-here",
    "nearly-equal",
    "text-emptied",
    "ratio-rows",
    "order-leaves-ties",
    "nulls-left-out",
    "midnight-end",
    "text-order",
    "currencies-mixed",
    "constant-late",
    "clean-idle",
    "recode-idle",
    "recode-hidden",
    "letter-case",
    "branch-empty",
    "branch-gap",
}


class Silent(FolderCase):
    def test_each_is_told(self) -> None:
        for about, more, code, words, mended in SAID:
            with self.subTest(about):
                self.write("loads.csv", ROWS)
                self.write("loads.oak.toml", FIELDS + more)
                found = [one for one in oak.open_source("loads.oak.toml").check() if one.code in MEANT]
                self.assertEqual([one.code for one in found], [code] if code else [])
                if found:
                    self.assertIn(words, found[0].message)
                    self.assertIn(mended, found[0].hint)

    def test_nulls_that_a_question_leaves_out(self) -> None:
        self.write("loads.csv", ROWS)
        self.write("loads.oak.toml", FIELDS + MILL + '[[filter]]\nname = "Not low"\nwhere = "Mill <> \'Low Weir\'"\n')
        for where, said in (
            ("Mill <> 'Low Weir'", 1), ('"Not low"', 1), ("Mill = 'Low Weir'", 0), ("Mill <> 'Low Weir' OR Mill IS NULL", 0),
            ("Mill NOT IN ('Low Weir') AND COUNT(*) > 0", 1), ("Id <> 1", 0),
        ):  # fmt: skip
            found = self.oak_json("tally", "loads", "--by", "Mill", "--show", "COUNT(*)", "--where", where)["findings"]
            self.assertEqual([one["code"] for one in found if one["severity"] == "note"], ["nulls-left-out"] * said, where)  # fmt: skip

    def test_totals_that_a_join_multiplies(self) -> None:
        self.write("loads.csv", "Stand,Volume\n1,100\n2,50\n")
        self.write("crews.csv", "Stand,Crew\n1,A\n1,B\n1,C\n2,D\n")
        oak.intake_join(["loads.csv", "crews.csv"], on=["Stand"], name="J", definition="j.oak.toml").save()
        for _ in range(2):  # at every check, also when a typed copy of the joined rows is there
            found = [one for one in oak.open_source("j.oak.toml").check() if one.code == "join-multiplies"]
            self.assertEqual(len(found), 1)
            self.assertIn("multiplies Volume: its total grows from 150 to 350", found[0].message)
            self.assertIn("one for each Stand first", found[0].hint)
        self.write("crews.csv", "Stand,Crew\n1,A\n2,D\n")
        self.assertNotIn("join-multiplies", [one.code for one in oak.open_source("j.oak.toml").check()])

    def test_texts_that_a_report_looks_for(self) -> None:
        self.write("loads.csv", ROWS)
        self.write("loads.oak.toml", FIELDS + MILL)
        panels = {
            "where = \"Mill = 'LOW WEIR'\"\nshow = [\"Volume\"]": "The condition: 'LOW WEIR' matches no value",
            "by = [{ name = \"Kind\", formula = \"CASE WHEN Mill = 'HIGH FORD' THEN 1 ELSE 2 END\" }]\nshow = [\"Volume\"]": "letter case and without the spaces",
            "where = \"Mill = 'Low Weir'\"\nshow = [\"Volume\"]": "",
        }  # fmt: skip
        for panel, words in panels.items():
            with self.subTest(panel):
                self.write(
                    "r.report.toml",
                    f'[report]\nname = "R"\nsource = "Loads"\n[[panel]]\ntitle = "One"\nkind = "table"\n{panel}\n',
                )
                found = oak.check_reports([oak.open_report("r.report.toml")], oak.open_source("loads.oak.toml"))[0]
                told = " ".join(one.message for one in found if one.code == "letter-case")
                self.assertEqual(bool(told), bool(words))
                self.assertIn(words, told)


class RowsTwice(FolderCase):
    def test_rows_that_are_there_again(self) -> None:
        rows = [f"{at},Mill {at % 3},2026-01-{at % 28 + 1:02},{at / 4}" for at in range(100)]
        for what, more, wanted in (
            ("three again", rows[:3], ["rows-twice"]),
            ("none", [], []),
            ("all again", rows, []),  # rows that are not told apart by their fields
        ):
            with self.subTest(what):
                self.write("t.csv", "\n".join(["No,Mill,Day,Volume", *rows, *more]) + "\n")
                source = oak.intake("t.csv", name="t").source
                found = [one for one in source.check() if one.code == "rows-twice"]
                self.assertEqual([one.code for one in found], wanted)
                if wanted:
                    self.assertIn("3 of 103 rows are there again", found[0].message)


class OfReports(FolderCase):
    """A formula of a report is told what a field of the source is told, in its place; and what cannot be drawn is refused by the check."""

    def found(self, local: str, panel: str) -> list[tuple[str, str]]:
        self.write("loads.csv", ROWS)
        self.write("loads.oak.toml", FIELDS)
        text = f'[report]\nname = "R"\nsource = "Loads"\n{local}\n[[panel]]\ntitle = "P"\nkind = "table"\n{panel}\n'
        report = oak.open_report(self.write("r.report.toml", text))
        (found,) = oak.check_reports([report], oak.open_source("loads"))
        return [(one.code, one.place.where.rpartition(", ")[2]) for one in found]

    def test_formulas_of_a_report(self) -> None:
        rate = '[[field]]\nname = "Rate"\nformula = "Volume / Id"\n'
        last = '[[field]]\nname = "Last"\nformula = "LAST_VALUE(Volume) OVER (ORDER BY Day, Id)"\n'
        for local, panel, wanted in (
            (rate, 'by = ["Day"]\nshow = ["AVG(Rate)"]', [("not-additive", "panel 'P'")]),
            (rate, 'by = ["Day"]\nshow = [{ name = "Id", formula = "SUM(Rate)" }]', [("not-additive", "panel 'P'")]),
            (last, 'by = ["Last"]\nshow = ["COUNT(*)"]', [("frame-ends-here", "field 'Last'")]),
            ("", 'by = ["Day"]\nshow = ["SUM(Volume) / SUM(Id)"]', []),
            ("", 'by = ["Id", "Day"]\nsubtotals = true\nshow = ["SUM(SUM(Volume)) OVER (PARTITION BY Day)"]', [("window-key", "panel 'P'")]),
            ("", 'by = ["Id", "Day"]\nsubtotals = true\nshow = ["SUM(SUM(Volume)) OVER (PARTITION BY Id)"]', []),
            ("", 'by = ["Day"]\nshow = ["Volume"]\n[[panel]]\ntitle = "Q"\nkind = "bars"\nby = ["Day", "Id"]\nstacked = true\nshow = ["MAX(Volume)"]', [("stacked-no-sum", "panel 'Q'")]),
        ):  # fmt: skip
            with self.subTest(local + panel):
                self.assertEqual(self.found(local, panel), wanted)


if __name__ == "__main__":
    unittest.main()
