"""What people bring from SQL dialects and spreadsheets: how each is written here, and that it gives what they expect; the library searched by their words."""

from __future__ import annotations

import random
import unittest

import oak_ledger as oak
from oak_ledger.formula.search import find_functions
from oak_ledger.formula.spellings import _table, spelling
from tests.support import D, FolderCase, loads

# A formula as it is written elsewhere, what `try --fix` makes of it (None: it is left alone), and its value in the first row, or of the group.
BROUGHT: list[tuple[str, str | None, object]] = [
    ("YEAR(Day)", "EXTRACT(YEAR FROM Day)", 2026),
    ("2 * MONTH(Day)", "2 * EXTRACT(MONTH FROM Day)", 6),
    ("DATEPART(quarter, Day)", "EXTRACT(QUARTER FROM Day)", 1),
    ("DATE_PART('doy', Day)", "EXTRACT(DOY FROM Day)", 60),
    ("TODAY() - CURDATE()", "CURRENT_DATE - CURRENT_DATE", 0),
    ("NOW() = GETDATE()", "CURRENT_TIMESTAMP = CURRENT_TIMESTAMP", True),
    ("IFNULL(Cost, 0) + NVL(Fee, 1)", "COALESCE(Cost, 0) + COALESCE(Fee, 1)", 11.5),
    ("ISNULL(Cost, 7)", "COALESCE(Cost, 7)", 10),
    ("ISNULL(Cost) OR Sent", "(Cost IS NULL) OR Sent", True),
    ("NVL2(Cost, 'there', 'not')", "IF(Cost IS NOT NULL, 'there', 'not')", "there"),
    ("IIF(Cost > 5, 'much', 'little')", "IF(Cost > 5, 'much', 'little')", "much"),
    ("IFS(Cost > 50, 'much', Cost > 5, 'some')", "CASE WHEN Cost > 50 THEN 'much' WHEN Cost > 5 THEN 'some' END", "some"),
    ("SWITCH(Mill, 'Low Weir', 1, 'High Ford', 2, 0)", "CASE Mill WHEN 'Low Weir' THEN 1 WHEN 'High Ford' THEN 2 ELSE 0 END", 1),
    ("CHOOSE(2, 'a', 'b')", "CASE 2 WHEN 1 THEN 'a' WHEN 2 THEN 'b' END", "b"),
    ("SUBSTR(Mill, 5)", "SUBSTRING(Mill, 5)", "Weir"),
    ("MID(Mill, 1, LEN(Code))", "SUBSTRING(Mill, 1, CHAR_LENGTH(Code))", "Low"),
    ("INSTR(Mill, 'W') + FIND('W', Mill)", "POSITION('W' IN Mill) + POSITION('W' IN Mill)", 10),
    ("SEARCH('w', Mill)", "POSITION(LOWER('w') IN LOWER(Mill))", 3),
    ("SUBSTITUTE(Mill, ' ', '')", "REPLACE(Mill, ' ', '')", "LowWeir"),
    ("UCASE(LEFT(Mill, 3))", "UPPER(LEFT(Mill, 3))", "LOW"),
    ("PROPER('low weir')", "INITCAP('low weir')", "Low Weir"),
    ("REPT('-', 3)", "REPEAT('-', 3)", "---"),
    ("EXACT(Mill, 'low weir')", "Mill = 'low weir'", False),
    ("Mill & ' ' & Code", "Mill || ' ' || Code", "Low Weir 007"),
    ("Cost > 5 & Fee > 1", "Cost > 5 AND Fee > 1", True),
    ("TO_CHAR(Day, 'YYYY-MM')", "CAST(Day AS TEXT FORMAT 'YYYY-MM')", "2026-03"),
    ("TO_DATE('14.03.2026', 'DD.MM.YYYY') - Day", "CAST('14.03.2026' AS DATE FORMAT 'DD.MM.YYYY') - Day", 13),
    ("MONTHNAME(Day)", "CAST(Day AS TEXT FORMAT 'Month')", "March"),
    ("DATEADD(month, -1, Day) < Day", "(Day + INTERVAL '-1' MONTH) < Day", True),
    ("DATEDIFF(day, DATE '2026-02-01', Day)", "DATE_DIFF('day', DATE '2026-02-01', Day)", 28),
    ("2 * DAYS(Day, DATE '2026-02-28')", "2 * (Day - (DATE '2026-02-28'))", 2),
    ("EXTRACT(DAY FROM EOMONTH(Day, 0))", "EXTRACT(DAY FROM (DATE_TRUNC('month', Day) + INTERVAL '1' MONTH - INTERVAL '1' DAY))", 31),
    ("DATE(2026, 3, 1) = Day", "MAKE_DATE(2026, 3, 1) = Day", True),
    ("ROUNDUP(-2.1) + ROUNDDOWN(2.9)", "(SIGN(-2.1) * CEILING(ABS(-2.1))) + TRUNC(2.9)", D(-1)),
    ("POW(Cost, 2)", "POWER(Cost, 2)", 100.0),
    ("Cost ^ 2", "POWER(Cost, 2)", 100.0),
    ("-2 ^ 2", "-POWER(2, 2)", -4.0),
    ("2 ** 3 ** 2", "POWER(2, POWER(3, 2))", 512.0),
    ("AND(Cost > 5, OR(Fee > 9, Sent))", "(Cost > 5 AND (Fee > 9 OR Sent))", True),
    ("Cost ≥ 10", "Cost >= 10", True),
    ("Cost − 3", "Cost - 3", 7),
    ("Cost != 10", "Cost <> 10", False),
    ("ROUND(Cost; 1)", "ROUND(Cost, 1)", 10),
    ("[Mill] = “Low Weir”", None, None),
    ("MEAN(Cost)", "AVG(Cost)", 20.0),
    ("ROUND(AVERAGE(Cost), 1)", "ROUND(AVG(Cost), 1)", 20.0),
    ("COUNT_DISTINCT(Mill)", "COUNT(DISTINCT Mill)", 2),
    ("COUNTIF(Cost > 15)", "COUNT(*) FILTER (WHERE Cost > 15)", 3),
    ("SUMIF(Cost, Sent)", "SUM(Cost) FILTER (WHERE Sent)", 50),
    ("QUANTILE(Cost, 0.5)", "PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY Cost)", 20.0),
    ("MEAN(Cost) FILTER (WHERE Sent)", "AVG(Cost) FILTER (WHERE Sent)", 50 / 3),
    ("VARP(Cost)", "VAR_POP(Cost)", 50.0),
    ("UPER(Mill)", "UPPER(Mill)", "LOW WEIR"),
    ("COALESC(Cost, 0)", "COALESCE(Cost, 0)", 10),
    ("Volum + 1", "Volume + 1", D("13.00")),
    # what may mean something else is asked about
    ("INT(Volume)", None, None), ("ROUNDUP(Volume, 1)", None, None), ("COUNTX(Mill)", None, None), ("SUMIF(Mill, 'Low Weir', Cost)", None, None), ("SUM(Mill)", None, None),
    ("WEEKDAY(Day)", None, None), ("LOG(Cost)", None, None), ("MAX(Cost, Fee)", None, None), ("DECODE(Mill, 'a', 1)", None, None), ("Cod = 7", None, None), ("Code = 7", None, None),
    ("DATEDIFF(Day, Day)", None, None), ("NETWORKDAYS(Day, Day)", None, None), ("DATEADD(month, Cost, Day)", None, None), ("VLOOKUP(Mill, Code, 2)", None, None), ("SUM(Cost) + Fee", None, None),
    ("SELECT SUM(Cost) FROM loads WHERE Sent", None, None), ("MEDIA(Cost)", "MEDIAN(Cost)", 20.0),
]  # fmt: skip
# What a newcomer types, and what they look for.
ASKED = (
    ("previous", "LAG"), ("running total", "SUM"), ("today", "CURRENT_DATE"), ("weekday", "EXTRACT"), ("difference", "DATE_DIFF LAG + - * / %"), ("round up", "CEILING"), ("average", "AVG"),
    ("without spaces", "BTRIM REPLACE"), ("first letters", "LEFT"), ("fill", "COALESCE"), ("rank", "RANK"), ("next row", "LEAD"), ("unique", "COUNT"), ("how many", "COUNT"), ("share", "+ - * / %"),
    ("missing", "COALESCE IS NULL"), ("division by zero", "NULLIF"), ("split", "SPLIT_PART"), ("join", "CONCAT || LISTAGG"), ("upper case", "UPPER"), ("month name", "CAST"), ("days between", "DATE_DIFF"),
    ("start of month", "DATE_TRUNC"), ("end of month", "INTERVAL"), ("quarter", "EXTRACT"), ("percentile", "PERCENTILE_CONT"), ("standard deviation", "STDDEV_SAMP"), ("largest", "MAX GREATEST"), ("latest", "MAX LAST_VALUE"),
    ("row number", "ROW_NUMBER"), ("moving average", "AVG"), ("remainder", "MOD"), ("leading zeros", "LTRIM LPAD"), ("bucket", "WIDTH_BUCKET"), ("categories", "CASE"), ("year to date", "SUM"), ("comma separated", "LISTAGG"),
    # not looked at while the words were written
    ("sum of sales", "SUM"), ("cumulative total", "SUM"), ("subtract dates", "DATE_DIFF INTERVAL + - * / %"), ("add days", "INTERVAL"), ("calendar week", "EXTRACT"), ("rounding", "ROUND"), ("uppercase", "UPPER"), ("lowercase", "LOWER"),
    ("capitalise", "INITCAP UPPER"), ("concat", "CONCAT"), ("text to number", "CAST PLAIN_NUMBER"), ("date to text", "CAST"), ("minimum date", "MIN"), ("first order", "MIN FIRST_VALUE ROW_NUMBER"), ("last value", "LAST_VALUE"), ("ranking", "RANK"),
    ("top 10", "RANK"), ("null to zero", "COALESCE"), ("if null", "COALESCE"), ("replace text", "REPLACE"), ("remove spaces", "BTRIM REPLACE"), ("length of text", "CHAR_LENGTH"), ("search text", "POSITION CONTAINS"), ("begins with", "STARTS_WITH"),
    ("extract digits", "REGEXP_SUBSTR REGEXP_REPLACE"), ("regex", "REGEXP_LIKE REGEXP_REPLACE REGEXP_SUBSTR"), ("compare with last month", "BEFORE LAG"), ("growth", "LAG BEFORE + - * / %"), ("median", "MEDIAN"), ("count distinct", "COUNT"),
    ("duplicates", "ROW_NUMBER COUNT"), ("group by month", "DATE_TRUNC"), ("age in years", "DATE_DIFF"), ("absolute value", "ABS"), ("square root", "SQRT"), ("modulo", "MOD"), ("either or", "IF CASE"), ("else", "CASE IF"), ("whole number", "FLOOR TRUNC CAST CEILING DIV"),
)  # fmt: skip


class Spellings(FolderCase):
    def test_each_is_written_here_and_gives_what_is_meant(self) -> None:
        source = loads()
        for formula, wanted, value in BROUGHT:
            with self.subTest(formula):
                self.assertNotEqual(source.check_formula(formula).findings, ())
                made = source.repaired(formula)
                if wanted is None:
                    self.assertTrue(source.check_formula(made).findings)
                    continue
                self.assertEqual(made, wanted)
                checked = source.check_formula(made)
                self.assertEqual(checked.findings, ())
                grouped = str(checked.require().grain) == "group"
                answer = source.tally(show=[("x", made)]) if grouped else source.rows([("x", made)], limit=1)
                self.assertEqual(answer.value(), value)

    def test_all_that_is_known_makes_a_formula_that_can_be_read(self) -> None:
        """With columns for its arguments each gives a formula that checks, or words."""
        source, said = loads(), 0
        kinds = ("Mill", "Day", "Cost", "Cost > 3")
        for name in _table():
            rng = random.Random(name)
            tries = [
                [rng.choice(kinds) for _ in range(count)]
                for count in (0, 1, 1, 1, 2, 2, 2, 2, 2, 3, 3, 3, 3)
                for _ in range(4)
            ]
            tries += [["Day", "1"], ["month", "2", "Day"], ["day", "Day", "Day"], ["Mill", "'YYYY'"], ["Day", "'YYYY'"], ["year", "Day"], ["Day", "Day", "'d'"], ["2026", "3", "1"], ["Cost", "0.5"], ["Mill", "1", "2"], ["Mill", "2"]]  # fmt: skip
            found = [spelling(name, args) for args in tries]
            with self.subTest(name):
                self.assertTrue(any(one is not None for one in found))
                good = [one for one in found if one is not None and one.written and "…" not in one.written and not source.check_formula(one.written).findings]  # fmt: skip
                notes = [one for one in found if one is not None and (not one.written or "…" in one.written)]
                self.assertTrue(good or notes)
                said += bool(good)
        self.assertGreater(said, 110)

    def test_a_typo_is_repaired_to_what_was_meant_or_left(self) -> None:
        """A letter of a field's or a function's name is wrong: the formula that comes of it is the one that was, or has its error still."""
        source, rng, repaired = loads(), random.Random(20261201), 0
        for _ in range(400):
            whole = rng.choice(("UPPER(Mill)", "COALESCE(Volume, Cost)", "ROUND(Volume * 1.5, 1)", "SUM(Volume) / COUNT(DISTINCT Mill)", "LEFT(Mill, 3) || Code", "MEDIAN(Cost)", "GREATEST(Cost, Volume)", "STDDEV_POP(Volume)"))  # fmt: skip
            word = rng.choice([one for one in ("Mill", "Volume", "Cost", "UPPER", "COALESCE", "ROUND", "MEDIAN", "GREATEST", "STDDEV_POP", "COUNT", "Code") if one in whole])  # fmt: skip
            at, letter = rng.randrange(len(word)), rng.choice("aeinorstl")
            typo = rng.choice(
                (word[:at] + word[at + 1 :], word[:at] + letter + word[at:], word[:at] + letter + word[at + 1 :])
            )
            formula = whole.replace(word, typo, 1)
            if not source.check_formula(formula).findings:
                continue
            made = source.repaired(formula)
            if not source.check_formula(made).findings:
                repaired += 1
                self.assertEqual(made.casefold(), whole.casefold(), formula)
        self.assertGreater(repaired, 150)

    def test_what_a_newcomer_types_is_found(self) -> None:
        missed = []
        for words, wanted in ASKED:
            found = [one.name for one in find_functions(words)[:3]]
            if not any(one in wanted if " " in one else one in wanted.split() for one in found):
                missed.append((words, found))
        self.assertLessEqual(len(missed), len(ASKED) // 10, missed)

    def test_the_command_says_how_it_is_written_here(self) -> None:
        self.assertIn("EOMONTH: DATE_TRUNC('month', x)", self.oak("help", "functions", "eomonth"))
        self.assertIn("VLOOKUP: Join the other table", self.oak("help", "functions", "vlookup"))
        self.assertIn("LAG(x any", self.oak("help", "functions", "row", "before"))
        self.oak("help", "functions", "qqq", code=2)
        self.assertEqual(oak.find_functions("qqq"), [])


if __name__ == "__main__":
    unittest.main()
