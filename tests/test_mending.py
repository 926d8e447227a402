"""Repairs that errors of formulas offer: each, applied, parses and checks; and it is the one that is meant."""

from __future__ import annotations

import random
import unittest

import oak_ledger as oak
from tests.support import FolderCase

ROWS = "Mill;Volume;Cost;Day;Sent;Code;Dry state\nLow Weir;12,5;10;31.01.2026;true;007;dry\nHigh Ford;24,0;30;01.02.2026;false;x;wet\n"
# A formula, the code of its first error, the text it points at, and what comes of applying its repairs one after the other; None where none is right.
MENDED: list[tuple[str, str, str, str | None]] = [
    ('CASE WHEN Mill = \'a\' THEN "dry" END', "unknown-field", '"dry"', "CASE WHEN Mill = 'a' THEN 'dry' END"),
    ('CASE WHEN Mill = \'a\' THEN "dry" ELSE "wet" END', "unknown-field", '"dry"', "CASE WHEN Mill = 'a' THEN 'dry' ELSE 'wet' END"),
    ('Mill = "Low Weir"', "unknown-field", '"Low Weir"', "Mill = 'Low Weir'"),
    ('"Dry stat" = \'x\'', "unknown-field", '"Dry stat"', "\"Dry state\" = 'x'"),
    ("Dry State = 'dry'", "unexpected", "State", "\"Dry state\" = 'dry'"),
    ("CASE WHEN Mill = Low Weir THEN 1 END", "unknown-field", "Low", "CASE WHEN Mill = 'Low Weir' THEN 1 END"),
    ("Day > '31.01.2026'", "wrong-type", "'31.01.2026'", "Day > DATE '2026-01-31'"),
    ("Day > '2026-01-31'", "wrong-type", "'2026-01-31'", "Day > DATE '2026-01-31'"),
    ("'31.01.2026' <= Day", "wrong-type", "'31.01.2026'", "DATE '2026-01-31' <= Day"),
    ("Day IN ('31.01.2026')", "wrong-type", "'31.01.2026'", "Day IN (DATE '2026-01-31')"),
    ("Day BETWEEN '01.01.2026' AND '31.01.2026'", "wrong-type", "'01.01.2026'", "Day BETWEEN DATE '2026-01-01' AND DATE '2026-01-31'"),
    ("Day = 'soon'", "wrong-type", "'soon'", None),
    ("VALUE + 1", "unknown-field", "VALUE", None),
    ("IF Cost > 3 THEN 'a' ELSE 'b'", "if-then", "IF", "CASE WHEN Cost > 3 THEN 'a' ELSE 'b' END"),
    ("IF Cost > 3 THEN 'IF' ELSEIF Cost > 2 THEN 'c' ELSE 'b' END IF", "if-then", "IF", "CASE WHEN Cost > 3 THEN 'IF' WHEN Cost > 2 THEN 'c' ELSE 'b' END"),
    ("IF (Cost > 3) THEN 1 END", "if-then", "IF", "CASE WHEN (Cost > 3) THEN 1 END"),
    ("SELECT SUM(Cost) FROM loads WHERE Mill = 'a'", "select", "SELECT", "SUM(Cost)"),
    ("SELECT Mill", "select", "SELECT", "Mill"),
    ("SUM(Cost) + Volume", "grain-mixed", "Volume", "SUM(Cost) + SUM(Volume)"),
    ("MAX(Day) - Day", "grain-mixed", "Day", "MAX(Day) - MAX(Day)"),
    ("CONCAT(Mill, SUM(Cost))", "grain-mixed", "Mill", "CONCAT(ANY_VALUE(Mill), SUM(Cost))"),
    ("IF(Mill = 'a', SUM(Cost), 0)", "grain-mixed", "Mill = 'a'", "SUM(Cost) FILTER (WHERE Mill = 'a')"),
    ("CASE WHEN Sent THEN SUM(Cost) END", "grain-mixed", "Sent", "SUM(Cost) FILTER (WHERE Sent)"),
    ("SUM(Cost) > 5 AND Sent", "grain-mixed", "Sent", "SUM(Cost) > 5 AND BOOL_OR(Sent)"),
    ("LPAD(Mill, 'x', 5)", "wrong-type", "'x'", "LPAD(Mill, 5, 'x')"),
    ("DATE_TRUNC(Day, 'month')", "wrong-type", "Day", "DATE_TRUNC('month', Day)"),
    ("ROUND(Cost, 'x')", "wrong-type", "'x'", None),
    ("COALESCE(0, Mill, Code)", "wrong-type", "0", "COALESCE('0', Mill, Code)"),
    ("CASE WHEN Sent THEN 1 WHEN Cost > 3 THEN 'a' ELSE 'b' END", "wrong-type", "1", "CASE WHEN Sent THEN '1' WHEN Cost > 3 THEN 'a' ELSE 'b' END"),
    ("REGEXP_LIKE(Mill, 'a', 'q')", "bad-argument", "'q'", None),
    ("REPLACE(Mill, 1, 'x')", "wrong-type", "1", "REPLACE(Mill, '1', 'x')"),
    ("Cost + 'a'", "wrong-type", "'a'", None),
    ("Mill + 'x'", "text-added", "Mill + 'x'", "Mill || 'x'"),
    ("[Mill] = 'a'", "stray-character", "[", "\"Mill\" = 'a'"),
    ("Mill = \u2019a\u2019", "stray-character", "\u2019", "Mill = 'a'"),
    ("Cost * 1,5", "decimal-comma", "1,5", "Cost * 1.5"),
    ("Cost > 1.000,5", "decimal-comma", "1.000,5", "Cost > 1000.5"),
    ("EXTRACT(MONTH, Day)", "open-parenthesis", "(", "EXTRACT(MONTH FROM Day)"),
    ("SUM(Cost", "open-parenthesis", "(", "SUM(Cost)"),
    ("Mil = 'x'", "unknown-field", "Mil", "Mill = 'x'"),
    ("Cost == 3 && Sent", "foreign-operator", "==", "Cost = 3 AND Sent"),
    ("LEFT(Cost, 2)", "wrong-type", "Cost", "LEFT(CAST(Cost AS TEXT), 2)"),
    ("Mill & Code", "foreign-operator", "&", "Mill || Code"),
]  # fmt: skip
# Those whose repairs may mean something else: they are offered, and not applied.
QUESTIONS = frozenset((
    "SELECT SUM(Cost) FROM loads WHERE Mill = 'a'", "SUM(Cost) + Volume", "MAX(Day) - Day", "CONCAT(Mill, SUM(Cost))", "IF(Mill = 'a', SUM(Cost), 0)", "CASE WHEN Sent THEN SUM(Cost) END", "SUM(Cost) > 5 AND Sent",
    "LPAD(Mill, 'x', 5)", "COALESCE(0, Mill, Code)", "CASE WHEN Sent THEN 1 WHEN Cost > 3 THEN 'a' ELSE 'b' END",
))  # fmt: skip
WHOLE = (
    "CASE WHEN Mill = 'Low Weir' AND Cost > 3 THEN 'a' ELSE UPPER(Mill) END", "SUM(Cost) FILTER (WHERE Sent) / COUNT(DISTINCT Mill)", "Day BETWEEN DATE '2026-01-01' AND Day + INTERVAL '1' DAY",
    "ROUND(Volume * 1.5, 2) - COALESCE(Cost, 0)", "SUBSTRING(Mill, 2, 3) || LPAD(CAST(Cost AS TEXT), 5, '0')", "\"Dry state\" IN ('dry', 'wet') OR Mill LIKE 'a%'", "EXTRACT(MONTH FROM Day) = 3 AND NOT Sent",
    "RANK() OVER (PARTITION BY Mill ORDER BY Cost)",
)  # fmt: skip


class Mending(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", ROWS)
        self.source = oak.intake(["loads.csv"], definition="loads.oak.toml").source

    def applied(self, formula: str) -> None:
        """Each repair that is offered leaves fewer errors than there were, and what it says is in the formula that it makes."""
        findings = self.source.check_formula(formula).findings
        for found in findings:
            if found.fixed is not None:
                left = self.source.check_formula(found.fixed).findings
                self.assertLess(len(left), len(findings), (formula, found))
            if (
                found.fixed is not None
                and found.hint.startswith("Write ")
                and ":" not in found.hint
                and " instead " not in found.hint
            ):
                new = found.hint.removeprefix("Write ").removesuffix(".").partition(", or ")[0].partition("; ")[0]
                self.assertIn(new, found.fixed)

    def offered(self, formula: str) -> str:
        """The formula with the first repair of its errors that is offered, one after the other."""
        for _ in range(4):
            fixed = next((one.fixed for one in self.source.check_formula(formula).findings if one.fixed), None)
            if fixed is None:
                break
            formula = fixed
        return formula

    def test_each_repair_is_right(self) -> None:
        for formula, code, at, wanted in MENDED:
            with self.subTest(formula):
                findings = self.source.check_formula(formula).findings
                first = next(one for one in findings if one.code == code)
                self.assertEqual(formula[first.place.start : first.place.end], at)
                self.applied(formula)
                self.assertEqual(
                    self.source.repaired(formula), formula if wanted is None or formula in QUESTIONS else wanted
                )
                made = self.offered(formula)
                self.assertEqual(made, formula if wanted is None else wanted)
                if wanted is not None:
                    self.assertEqual(self.source.check_formula(made).findings, ())

    def test_whatever_is_wrong_no_repair_makes_it_worse(self) -> None:
        chance = random.Random(20261130)
        for _ in range(400):
            formula = chance.choice(WHOLE)
            for _ in range(chance.randrange(1, 3)):
                at = chance.randrange(len(formula) + 1)
                formula = chance.choice([
                    lambda text, at: text[:at] + text[at + 1 :],
                    lambda text, at: text[:at] + chance.choice("(),'\"=<5 ax.|") + text[at:],
                    lambda text, at: text.replace("'", '"', 1),
                    lambda text, at: text.replace(chance.choice(["Mill", "Cost", "Day", "Sent"]), chance.choice(["Mil", "Costs", "VALUE", "Dry", "'x'", "3"]), 1),
                ])(formula, at)  # fmt: skip
            with self.subTest(formula):
                self.applied(formula)

    def test_a_filter_that_does_not_parse_says_so_at_its_place(self) -> None:
        for where, code in (
            ("Volume > ", "value-missing"),
            ("Cost > 3 AND", "value-missing"),
            ("(Cost > 3", "open-parenthesis"),
        ):
            with self.subTest(where):
                error = self.raises(code, self.source.rows, ["Mill"], where=where)
                self.assertEqual(error.findings[0].place.text, where)
        self.raises("unknown-field", self.source.rows, ["Mill"], where="Dry states")

    def test_names_in_a_clean(self) -> None:
        error = self.raises("unknown-field", self.source.with_changed, "Mill", type="text", clean="UPPER(Mill)")
        self.assertIn("VALUE", error.findings[0].hint)


if __name__ == "__main__":
    unittest.main()
