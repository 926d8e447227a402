"""What is doubtful in formulas that are right: branches, boundaries, conditions that always or never hold, letter case."""

from __future__ import annotations

import unittest
from decimal import Decimal

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.formula.lint import lint
from oak_ledger.formula.ranges import IntervalSet, domain_of, predicate_ranges
from tests.support import D, FolderCase, loads

# A formula, and each doubt as (code, the piece it points at, words of its sentence).
DOUBTS: list[tuple[str, list[tuple[str, str, str]]]] = [
    ("CASE WHEN Volume < 10 THEN 'a' WHEN Volume < 30 THEN 'b' ELSE 'c' END", []),
    ("CASE WHEN Volume < 30 THEN 'a' WHEN Volume < 10 THEN 'b' ELSE 'c' END", [("branch-unreachable", "WHEN Volume < 10 THEN 'b'", "No value reaches")]),
    ("CASE WHEN Volume < 10 THEN 'a' WHEN Volume < 10 THEN 'b' END", [("branch-unreachable", "WHEN Volume < 10 THEN 'b'", "No value reaches")]),
    ("CASE WHEN Volume < 10 THEN 1 WHEN Volume >= 10 THEN 2 WHEN Volume = 3 THEN 4 ELSE 5 END", [("branch-unreachable", "WHEN Volume = 3 THEN 4", "No value reaches")]),
    ("CASE Mill WHEN 'a' THEN 1 WHEN 'b' THEN 2 WHEN 'a' THEN 3 END", [("branch-unreachable", "WHEN 'a' THEN 3", "WHEN 'a'")]),
    ("CASE WHEN Volume < 10 THEN 'a' WHEN Volume > 10 THEN 'b' END", [("branch-gap", "CASE", "10.00 falls in no branch; it gives null")]),
    ("CASE WHEN Volume < 0 THEN -1 WHEN Volume > 0 THEN 1 ELSE 0 END", []),
    ("CASE WHEN Volume < 0 THEN 'a' WHEN Volume > 100 THEN 'b' END", [("branch-gap", "CASE", "between 0.00 and 100.00")]),
    ("CASE WHEN Cost BETWEEN 0 AND 9 THEN 'a' WHEN Cost BETWEEN 10 AND 20 THEN 'b' ELSE 'c' END", []),
    ("CASE WHEN Cost BETWEEN 0 AND 8 THEN 'a' WHEN Cost BETWEEN 10 AND 20 THEN 'b' ELSE 'c' END", [("branch-gap", "CASE", "Cost = 9 falls")]),
    ("CASE WHEN Cost BETWEEN 0 AND 7 THEN 'a' WHEN Cost BETWEEN 10 AND 20 THEN 'b' END", [("branch-gap", "CASE", "Cost from 8 to 9 falls")]),
    ("CASE WHEN Volume BETWEEN 0 AND 9 THEN 'a' WHEN Volume BETWEEN 10 AND 20 THEN 'b' ELSE 'c' END", [("branch-gap", "CASE", "between 9.00 and 10.00")]),
    ("CASE WHEN Volume BETWEEN 0 AND 10 THEN 'a' WHEN Volume BETWEEN 10 AND 20 THEN 'b' ELSE 'c' END", [("branch-overlap", "WHEN Volume BETWEEN 10", "10.00 is in two branches")]),
    ("CASE WHEN Day <= DATE '2026-01-31' THEN 1 WHEN Day >= DATE '2026-02-01' THEN 2 END", []),
    ("CASE WHEN Day < DATE '2026-01-31' THEN 1 WHEN Day > DATE '2026-01-31' THEN 2 END", [("branch-gap", "CASE", "Day = 2026-01-31")]),
    ("CASE WHEN Day < TIMESTAMP '2026-01-31 00:00:00' THEN 1 WHEN Day >= DATE '2026-01-31' THEN 2 END", []),
    ("CASE WHEN Volume IS NULL THEN 0 WHEN Volume IS NOT NULL THEN 1 ELSE 2 END", []),
    ("CASE WHEN Volume < 10 AND Mill = 'a' THEN 1 WHEN Volume < 5 THEN 2 ELSE 3 END", []),
    ("IF(Volume > 10 AND Volume < 5, 1, 2)", [("holds-never", "Volume > 10 AND Volume < 5", "never holds")]),
    ("Volume <> 1 OR Volume <> 2", [("holds-always", "Volume <> 1 OR", "every value that is not null")]),
    ("NOT (Volume < 5 OR Volume >= 5)", [("holds-always", "(Volume < 5 OR Volume >= 5)", "every value")]),
    ("Cost = 2.5", [("holds-never", "Cost = 2.5", "never holds")]),
    ("Cost > 2.5 AND Cost < 3", [("holds-never", "Cost > 2.5 AND Cost < 3", "never holds")]),
    ("Cost IN (1.5, 2.5)", [("holds-never", "Cost IN (1.5, 2.5)", "never holds")]),
    ("EXTRACT(MONTH FROM Day) = 13", [("holds-never", "EXTRACT(MONTH FROM Day) = 13", "never holds")]),
    ("CHAR_LENGTH(Code) >= 0", [("holds-always", "CHAR_LENGTH(Code) >= 0", "every value")]),
    ("Volume = Volume", [("holds-always", "Volume = Volume", "with itself")]),
    ("Volume * 2 < Volume * 2", [("holds-never", "Volume * 2 < Volume * 2", "with itself")]),
    ("Mill = NULL", [("holds-never", "Mill = NULL", "nothing compares with null")]),
    ("Mill NOT IN ('a', NULL)", [("holds-never", "Mill NOT IN", "its list has a null")]),
    ("Mill = 'a' AND Mill = 'b'", [("holds-never", "Mill = 'a' AND", "never holds")]),
    ("Volume > 1 OR Mill = 'a'", []),
    ("CASE WHEN Mill LIKE 'a%' THEN 1 WHEN STARTS_WITH(Mill, 'ab') THEN 2 ELSE 3 END", [("branch-unreachable", "WHEN STARTS_WITH(Mill, 'ab') THEN 2", "No value reaches")]),
    ("CASE WHEN Mill LIKE 'ab%' THEN 1 WHEN Mill LIKE 'a%' THEN 2 WHEN Mill LIKE 'b%' THEN 3 END", []),
    ("CASE WHEN Mill LIKE 'a' THEN 1 WHEN Mill = 'a' THEN 2 ELSE 3 END", [("branch-unreachable", "WHEN Mill = 'a' THEN 2", "No value reaches")]),
    ("CASE WHEN Mill LIKE 'a_%' THEN 1 WHEN Mill LIKE 'a%b' THEN 2 WHEN Mill LIKE 'ab' ESCAPE '!' THEN 3 ELSE 3 END", []),
    ("CASE WHEN Mill LIKE '%' THEN 1 WHEN Mill = 'b' THEN 2 ELSE 3 END", [("branch-unreachable", "WHEN Mill = 'b' THEN 2", "No value reaches")]),
    ("Mill LIKE 'a%' AND Mill LIKE 'b%'", [("holds-never", "Mill LIKE 'a%' AND", "never holds")]),
]  # fmt: skip


class Doubts(unittest.TestCase):
    def test_each_in_its_place(self) -> None:
        source = loads()
        for formula, wanted in DOUBTS:
            with self.subTest(formula):
                found = list(lint(source.check_formula(formula).require(), formula))
                self.assertEqual([one.code for one in found], [code for code, _, _ in wanted])
                for one, (_, piece, words) in zip(found, wanted, strict=True):
                    self.assertTrue(formula[one.place.start :].startswith(piece), one.place)
                    self.assertIn(words, one.message)
                    self.assertEqual(one.severity, "warning")

    @settings(max_examples=200, deadline=None)
    @given(
        st.recursive(
            st.builds("{} {} {}".format, st.sampled_from(("Cost", "Volume")), st.sampled_from(("=", "<>", "<", "<=", ">", ">=")), st.sampled_from(("3", "4", "4.5", "NULL")))
            | st.sampled_from(("Cost IS NULL", "Volume IN (3, 4.5)", "Volume NOT IN (4, NULL)", "Cost BETWEEN 3 AND 4")),
            lambda inner: st.builds("({}) {} ({})".format, inner, st.sampled_from(("AND", "OR")), inner) | st.builds("NOT ({})".format, inner) | st.builds("({}) IS TRUE".format, inner),
            max_leaves=6,
        )
    )  # fmt: skip
    def test_where_a_condition_is_said_to_hold_it_holds(self, condition: str) -> None:
        values = [None, *(D(at) / 2 for at in range(2, 14))]
        table = pa.table({
            "Volume": pa.array(values, pa.decimal128(6, 2)), "Cost": pa.array([None if one is None else int(one) for one in values], pa.int64()),
        })  # fmt: skip
        source = oak.Source.from_table(table, name="Values")
        tree = source.check_formula(condition).require()
        found = predicate_ranges(tree)
        if found is None:
            return
        operand = condition[found.operand.start : found.operand.end]
        answer = source.rows([("x", condition), ("own", operand)]).table
        for value, own in zip(*answer.to_pydict().values(), strict=True):
            self.assertEqual(value is True, _within(found.holds, own), (condition, own))
            self.assertEqual(value is False, _within(found.fails, own), (condition, own))
        self.assertTrue(found.holds.intersection(found.fails).empty)
        self.assertFalse(domain_of(found.operand).empty)


def _within(values: IntervalSet, one: Decimal | int | None) -> bool:
    if one is None:
        return values.null
    return values.least ^ (sum(cut < (one, 0.5) for cut in values.cuts) % 2 == 1)


class Branches(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        mills = ["Low Weir"] * 4 + ["High Ford"] * 3 + [""]
        lines = [f"{at},{mill},{'' if at == 2 else at * 5}" for at, mill in enumerate(mills)]
        self.write("loads.csv", "Id,Mill,Volume\n" + "\n".join(lines) + "\n")
        self.source = oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").source

    def test_rows_of_each_branch(self) -> None:
        formula = "(CASE WHEN Volume < 10 THEN 'a' WHEN Volume < 10 * 2 THEN 'b' ELSE 'c' END)"
        found = [(one.branch, one.rows, one.nulls) for one in oak.branch_rows(self.source, formula)]
        self.assertEqual(found, [("WHEN Volume < 10", 2, 0), ("WHEN Volume < 10 * 2", 1, 0), ("ELSE", 5, 1)])
        self.assertEqual([one.rows for one in oak.branch_rows(self.source, "IF(Mill IS NULL, 1, 2)")], [1, 7])
        self.assertEqual(oak.branch_rows(self.source, "Volume + 1"), [])
        self.assertEqual(oak.branch_rows(self.source, "CASE WHEN SUM(Volume) > 1 THEN 1 END"), [])
        self.source.save()
        said = self.oak("try", "loads", formula)
        self.assertRegex(said, r"WHEN Volume < 10 +2 +25.0%")
        self.assertRegex(said, r"ELSE +5 +62.5% +1\n")

    def found(self, source: oak.Source, code: str) -> list[oak.Finding]:
        return [one for one in source.check() if one.code == code]

    def test_nulls_in_else_and_branches_without_rows(self) -> None:
        source = self.source.with_field(
            "Size", "CASE WHEN Volume > 900 THEN 'x' WHEN Volume > 20 THEN 'y' ELSE 'z' END"
        )
        null = self.found(source, "null-in-else")[0]
        self.assertIn("1 rows get 'z' because Volume is null", null.message)
        mended = source.with_changed("Size", formula=null.fixed)
        self.assertEqual(self.found(mended, "null-in-else"), [])
        self.assertEqual(mended.rows(["Size"], where="Volume IS NULL").value(), None)
        self.assertIn("no row reaches WHEN Volume > 900", self.found(source, "branch-empty")[0].message)
        told = self.source.with_field(
            "Told", "CASE WHEN Volume IS NULL THEN 'n' WHEN Volume > 20 THEN 'y' ELSE 'z' END"
        )
        self.assertEqual([one.code for one in told.check() if "Told" in one.message], [])

    def test_letter_case(self) -> None:
        cases = {
            "Mill = 'low weir'": "Mill = 'Low Weir'",
            "CASE Mill WHEN 'HIGH FORD' THEN 1 ELSE 0 END": "CASE Mill WHEN 'High Ford' THEN 1 ELSE 0 END",
            "Mill IN ('Low Weir', 'high Ford')": "Mill IN ('Low Weir', 'High Ford')",
            "REPLACE(Mill, 'weir', 'Dam')": None,
            "Mill LIKE 'low%'": None,
            "STARTS_WITH(Mill, 'HIGH')": None,
        }
        for formula, fixed in cases.items():
            with self.subTest(formula):
                found = self.found(self.source.with_field("X", formula), "letter-case")
                self.assertEqual([one.fixed for one in found], [fixed])
                self.assertRegex(found[0].message, "would match [34] rows")
        for fine in (
            "Mill = 'Low Weir'",
            "Mill = 'elsewhere'",
            "Mill LIKE 'Low%'",
            "Mill || 'LOW WEIR'",
            "Mill >= 'LOW WEIR'",
        ):
            self.assertEqual(self.found(self.source.with_field("X", fine), "letter-case"), [], fine)

    def test_letter_case_in_cleaning(self) -> None:
        cleaned = self.source.with_changed("Mill", clean="REPLACE(VALUE, 'weir', 'Dam')")
        self.assertIn("'weir' matches no value", self.found(cleaned, "letter-case")[0].message)
        recoded = self.source.with_changed("Mill", values={"low weir": "Low Weir", "High Ford": "Ford"})
        self.assertIn("'low weir' matches no value", self.found(recoded, "letter-case")[0].message)
        known = self.source.with_changed("Mill", clean="UPPER(REPLACE(VALUE, 'Weir', 'Dam'))")
        self.assertEqual(self.found(known, "letter-case"), [])


if __name__ == "__main__":
    unittest.main()
