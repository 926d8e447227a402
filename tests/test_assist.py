"""Help while a formula is written: completion, signatures, one look, repairs, outlines; the reference page."""

from __future__ import annotations

import os
import runpy
import unittest
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.formula import parse
from oak_ledger.formula.nodes import walk
from tests.support import FolderCase, Terminal, loads
from tests.test_language import GROUPS, ROWS, VALUES, WRONG
from tests.test_properties import PIECES

ROOT = Path(__file__).parent.parent

# A text with | where the cursor is, and the first proposals.
COMPLETIONS: list[tuple[str, list[str]]] = [
    ("|", ["Code", "Cost", "Day"]),
    ("Vo|", ["Volume"]),
    ("vol|", ["Volume"]),
    ("1 + C|", ["Code", "Cost", '"Haulage cost"', "CEILING"]),
    ("SUM(|", ["Cost", "Fee", '"Haulage cost"', "Volume"]),
    ("UPPER(|", ["Code", "Mill", "Cost"]),
    ("ROUND(Cost / Vol|", ["Volume"]),
    ("Cost |", ["AND", "OR", "IS NULL"]),
    ("Cost A|", ["AND"]),
    ("'in text |", []),
    ('"Haul|', ['"Haulage cost"']),
    ("cost|", ["Cost", '"Haulage cost"', "COS"]),
    ("Zebra + (1 - COAL|", ["COALESCE"]),
    ("CA|", ["CASE", "CAST"]),
    ("Mill = 'x' AND S|", ["Sent", "SIGN", "SPLIT_PART"]),
]

# A text with the cursor, the function that it stands in, and which argument.
SIGNATURES: list[tuple[str, str | None, int]] = [
    ("ROUND(|", "ROUND", 0),
    ("ROUND(Cost, |", "ROUND", 1),
    ("ROUND((1 + 2)|", "ROUND", 0),
    ("ROUND(1) + |", None, 0),
    ("REPLACE(UPPER(Mill), 'a,b', |", "REPLACE", 2),
    ("REPLACE(UPPER(|", "UPPER", 0),
    ("REPLACE((|", "REPLACE", 0),
    ("|", None, 0),
    ("ZEBRA(1, |", None, 0),
    ("ROUND(ZEBRA(|", "ROUND", 0),
]

# A formula, and its one look.
LOOKS: list[tuple[str, str]] = [
    ("sum( Cost )/count(*)", "SUM(Cost) / COUNT(*)"),
    ("a+-1", "a + -1"),
    ("(-a)*-b", "(-a) * -b"),
    ("a is not null and not b", "a IS NOT NULL AND NOT b"),
    ("x in(1,2 ,3)", "x IN (1, 2, 3)"),
    ("'It''s'||\"a\"\"b\"", "'It''s' || \"a\"\"b\""),
    ("case when a then 1 end", "CASE WHEN a THEN 1 END"),
    ("1 /* why */ +2 -- end", "1 /* why */ + 2 -- end"),
    ("cast(a as decimal(10,2))", "CAST(a as decimal (10, 2))"),
    ("Round(Order,2)", "ROUND(Order, 2)"),
]

REPAIRS: list[tuple[str, str]] = [
    ("Volum == 3", "Volume = 3"),
    ("Cost != 1 && Sent", "Cost <> 1 AND Sent"),
    ("Mill + 'x'", "Mill || 'x'"),
    ("(Cost + 1", "(Cost + 1)"),
    ("CASE WHEN Sent THEN 1", "CASE WHEN Sent THEN 1 END"),
    ("SUM(Cost) / Volume", "SUM(Cost) / Volume"),  # what is offered may mean something else
    ("Mill = 3", "Mill = 3"),
    ("UPER(Mil)", "UPPER(Mill)"),
    ("Zebra", "Zebra"),
]


class Writing(unittest.TestCase):
    def test_completion(self) -> None:
        source = loads().with_field("Haulage cost", "Cost")
        scope = source.compiled.scope()
        for marked, wanted in COMPLETIONS:
            with self.subTest(marked):
                text = marked.replace("|", "", 1)
                found = oak.complete(text, marked.index("|"), scope)
                names = [one.text for one in found]
                known = [name for name in wanted if name != "COS"]
                self.assertEqual(names[: len(known)], known)
                for one in found:
                    self.assertTrue(one.detail or one.kind == "keyword")
                    self.assertEqual(text[one.start : one.end].strip('"').casefold() in one.text.casefold(), True)

    def test_a_proposal_says_type_and_grain(self) -> None:
        source = loads().with_field("Rate", "SUM(Cost) / SUM(Volume)")
        details = {one.text: one.detail for one in oak.complete("", 0, source.compiled.scope())}
        self.assertEqual((details["Cost"], details["Rate"]), ("integer, per row", "number, per group"))

    def test_signatures(self) -> None:
        for marked, name, argument in SIGNATURES:
            with self.subTest(marked):
                found = oak.signature_at(marked.replace("|", "", 1), marked.index("|"))
                self.assertEqual(
                    (found.function.name if found else None, found.argument if found else 0), (name, argument)
                )
                if found:
                    self.assertTrue(found.written.startswith(found.function.name))

    @settings(max_examples=150, deadline=None)
    @given(st.lists(st.sampled_from(PIECES), max_size=8).map(" ".join), st.integers(0, 60))
    def test_help_never_fails(self, text: str, position: int) -> None:
        scope = loads().compiled.scope()
        at = min(position, len(text))
        for one in oak.complete(text, at, scope):
            self.assertTrue(0 <= one.start <= one.end <= len(text))
        oak.signature_at(text, at)


class Prompt(FolderCase):
    """The prompt in a real pseudo-terminal: typed into, and read from."""

    def test_typing_completing_and_saving(self) -> None:
        self.write("loads.csv", "Id,Mill,Volume\n1,a,2.5\n2,b,3.5\n")
        self.oak("intake", "loads.csv", "--name", "Loads")
        prompt = Terminal(self, "try", "loads")
        prompt.expect("formula>")
        for typed, words in (
            ("ROUND(Volum", "There is no field Volum"),
            ("e * 2", "ROUND(x numeric"),
            (")", "decimal(38,0) per row"),
            ("\r", "result"),
            ("save as Twice\r", "written when you leave"),
            ("Twic\t + 1\r", "2 rows, 0 nulls"),
            ("quit\r", "changed"),
        ):
            prompt.type(typed)
            prompt.expect(words)
        self.assertEqual(prompt.ended(), 0)
        self.assertEqual(oak.open_source("loads.oak.toml").rows(["Twice"]).table.column(0).to_pylist(), [5, 7])
        self.assertEqual(len(oak.edits_of(Path("loads.oak.toml"))), 1)


class OneLook(unittest.TestCase):
    def test_looks(self) -> None:
        for text, wanted in LOOKS:
            with self.subTest(text):
                self.assertEqual(oak.format_formula(text), wanted)
        with self.assertRaises(oak.FormulaError):
            oak.format_formula("1 +")

    def test_it_means_the_same_and_twice_is_once(self) -> None:
        formulas = [*(one[0] for one in VALUES), *(one[0] for one in ROWS), *(one[0] for one in GROUPS)]
        formulas += [
            f"CASE WHEN {one} THEN 'a long text that needs room' ELSE 'another text that needs room' END"
            for one in ("Cost > 1", "Sent -- why\n", "NOT Sent")
        ]
        for formula in formulas:
            with self.subTest(formula):
                made = oak.format_formula(formula)
                self.assertEqual(oak.format_formula(made), made)
                self.assertEqual(
                    [type(node) for node in walk(parse(made).tree)], [type(node) for node in walk(parse(formula).tree)]
                )
                self.assertEqual(self.value(made), self.value(formula))

    def value(self, formula: str) -> object:
        checked = loads().check_formula(formula).require()
        answer = (
            loads().tally(show=[("x", formula)]) if str(checked.grain) == "group" else loads().rows([("x", formula)])
        )
        return answer.table

    def test_comments_stay(self) -> None:
        made = oak.format_formula("case when a /* one */ then 1 -- two\n else 2 end")
        self.assertIn("/* one */", made)
        self.assertIn("-- two\n", made)


class Repairs(unittest.TestCase):
    def test_repairs_are_applied_one_after_the_other(self) -> None:
        source = loads()
        for text, wanted in REPAIRS:
            with self.subTest(text):
                self.assertEqual(source.repaired(text), wanted)
                if text != wanted:
                    self.assertEqual(source.check_formula(wanted).findings, ())

    def test_every_mistake_is_pinned(self) -> None:
        self.assertGreaterEqual(len(WRONG), 135)
        self.assertEqual(len({one[0] for one in WRONG}), len(WRONG))


class Outlines(unittest.TestCase):
    def test_down_to_the_columns(self) -> None:
        source = (
            loads()
            .with_changed("Mill", clean="TRIM(VALUE)")
            .with_field("Rate", "Cost / Volume")
            .with_field("Twice", "Rate * 2")
        )
        lines = ["  " * line.depth + line.text for line in oak.outline(source, "IF(Twice > 1, Mill, NULL)")]
        text = "\n".join(lines)
        for words in ("text, one value per row", "  Twice: Rate * 2, number, per row", "      Cost: the column Cost, integer, per row",
                      "  Mill: the column Mill, text, per row, cleaned by TRIM(VALUE)", "no branch of its CASE holds"):  # fmt: skip
            self.assertIn(words, text)
        with self.assertRaises(oak.FormulaError):
            oak.outline(source, "Zebra")

    def test_where_its_nulls_come_from(self) -> None:
        for formula, causes in (
            ("LAG(Cost) OVER (PARTITION BY Mill ORDER BY Cost)", ["it is the first row of its Mill, by Cost", "Cost is null"]),
            ("LAG(Cost, 1, 0) OVER (ORDER BY Mill)", ["Cost is null"]),
            ("LEAD(SUM(Cost), 2) OVER (ORDER BY Mill)", ["it is among the last 2 groups, by Mill", "a group has no value for SUM"]),
            ("SUM(Cost) OVER (PARTITION BY Mill)", ["its window has no value for SUM"]), ("RANK() OVER (ORDER BY Cost)", []),
            ("COUNT(Cost)", []), ("SUM(Cost) / COUNT(*)", ["what it divides by is zero", "a group has no value for SUM"]),
        ):  # fmt: skip
            lines = [line.text for line in oak.outline(loads(), formula)]
            found = lines[lines.index("is null where") + 1 :] if "is null where" in lines else []
            self.assertEqual(found, causes, formula)


class Clock(unittest.TestCase):
    def test_it_can_be_set(self) -> None:
        with mock.patch.dict(os.environ, {"OAK_CLOCK": "2026-03-14T07:30"}):
            row = (
                loads()
                .rows([("d", "CURRENT_DATE - DATE '2026-03-01'"), ("t", "current_timestamp")], limit=1)
                .to_dicts()[0]
            )
        self.assertEqual((row["d"], str(row["t"])), (13, "2026-03-14 07:30:00"))
        with mock.patch.dict(os.environ, {"OAK_CLOCK": "noon"}), self.assertRaises(oak.OakError):
            loads().check_formula("CURRENT_DATE")


class Pages(FolderCase):
    def test_the_reference_page_is_not_stale(self) -> None:
        made = runpy.run_path(str(ROOT / "tools" / "reference.py"))
        for page, write in made["PAGES"].items():
            self.assertEqual((ROOT / "docs" / page).read_text("utf-8"), write(), "run tools/reference.py")

    def test_the_commands(self) -> None:
        self.write("loads.csv", "Id,Mill,Volume\n1,a,2.5\n2,b,3.5\n")
        self.oak("intake", "loads.csv", "--name", "Loads")
        self.oak("field", "add", "loads", "Size", "case when volume<3 then 'small' else 'large' end")
        self.assertIn(
            "+ formula = \"CASE WHEN volume < 3 THEN 'small' ELSE 'large' END\"", self.oak("field", "reformat", "loads")
        )
        self.assertIn("nothing to change", self.oak("field", "reformat", "loads", "Size"))
        self.assertIn("repaired: Volume = 2.5", self.oak("try", "loads", "Volum == 2.5", "--fix"))
        self.assertIn("Volume: the column Volume", self.oak("try", "loads", "Size", "--explain"))
