"""A function gives the same whether its arguments are constants or come from rows, one row at a time or all together."""

from __future__ import annotations

import datetime as dt
import itertools
import os
import random
import unittest
from decimal import Decimal
from typing import Any

import hypothesis
import pyarrow as pa
import pyarrow.compute as pc
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.engine.options import overridden
from oak_ledger.errors import OakError
from oak_ledger.origin.number_shapes import Mark, plain_numbers
from oak_ledger.origin.shapes import PLAIN, SHAPES
from tests.support import seed_of_the_code
from tests.test_engine import told

ALONE = float(os.environ.get("OAK_ALONE", "0.25"))  # share of the cases that are computed one row at a time, too
TEXTS = ("", " oak ", "**ash*", "Hölzer, größere", "ST-0417", "aaa", "ß\U00010400x", "a%b_c", None)
WHOLE = (-7, -1, 0, 1, 3, 9, 2**53 + 1, None)
FEW = (-2, 0, 1, 3, None)
DECIMALS = (Decimal("-2.50"), Decimal("0.00"), Decimal("1.10"), Decimal("7.25"), Decimal("123.45"), None)
FLOATS = (-2.5, 0.0, 0.1, 2.675, 7.0, 1e15, None)
DAYS = (dt.date(2024, 2, 29), dt.date(2026, 1, 31), dt.date(2026, 3, 1), dt.date(1969, 12, 31), None)
MOMENTS = (dt.datetime(2026, 3, 1, 7, 30), dt.datetime(2025, 12, 31, 23, 59, 59, 500_000), None)
KINDS = {
    TEXTS: (pa.string(), "TEXT"), WHOLE: (pa.int64(), "INTEGER"), FEW: (pa.int64(), "INTEGER"), DECIMALS: (pa.decimal128(38, 2), "DECIMAL(38, 2)"), FLOATS: (pa.float64(), "NUMBER"),
    DAYS: (pa.date32(), "DATE"), MOMENTS: (pa.timestamp("us"), "TIMESTAMP"),
}  # fmt: skip
TRUTHS, WRITTEN = (
    (True, False, None),
    ("7", "-3.25", "1e3", "2026-03-01", "2026-03-01 07:30:00", "true", "no", "", " 5", "9999999999999999999", None),
)
KINDS |= {TRUTHS: (pa.bool_(), "BOOLEAN"), WRITTEN: KINDS[TEXTS]}
MARKS, PARTS, PATTERNS = (
    ("*", " a", "", None),
    ("", "a", "ST-", "größe", "-", None),
    ("%a%", "_T-%", "", "ST-0417", "a!%b!_c", "%", None),
)
for _texts in (MARKS, PARTS, PATTERNS):
    KINDS[_texts] = KINDS[TEXTS]

# A formula, and the values of its arguments a, b, c.
CASES: tuple[tuple[str, tuple[Any, ...]], ...] = (
    *((f"TRIM({side} {{b}} FROM {{a}})", (TEXTS, MARKS)) for side in ("BOTH", "LEADING", "TRAILING")),
    *((f"{name}({{a}}, {{b}})", (TEXTS, PARTS)) for name in ("CONTAINS", "STARTS_WITH", "ENDS_WITH", "CONCAT")),
    *((f"{name}({{a}}, {{b}})", (TEXTS, FEW)) for name in ("LEFT", "RIGHT", "REPEAT", "SUBSTRING")),
    *((f"{name}({{a}}, {{b}}, {{c}})", (TEXTS, FEW, MARKS)) for name in ("LPAD", "RPAD")),
    ("SUBSTRING({a}, {b}, {c})", (TEXTS, FEW, FEW)), ("REPLACE({a}, {b}, {c})", (TEXTS, PARTS, MARKS)), ("SPLIT_PART({a}, {b}, {c})", (TEXTS, PARTS, FEW)),
    ("POSITION({b} IN {a})", (TEXTS, PARTS)), ("{a} || {b}", (TEXTS, PARTS)), ("{a} LIKE {b}", (TEXTS, PATTERNS)), ("{a} LIKE {b} ESCAPE '!'", (TEXTS, PATTERNS)),
    *((f"{{a}} {sign} {{b}}", (values, values)) for sign in ("=", "<>", "<", "<=", ">", ">=") for values in (TEXTS, WHOLE, DECIMALS, FLOATS, DAYS, MOMENTS)),
    *((f"{name}({{a}}, {{b}})", (values, values)) for name in ("COALESCE", "NULLIF", "GREATEST", "LEAST") for values in (TEXTS, WHOLE, DECIMALS, FLOATS, DAYS)),
    *((f"{{a}} {sign} {{b}}", pair) for sign in "+-*/%" for pair in itertools.product((WHOLE, DECIMALS, FLOATS), repeat=2)),
    *((f"{name}({{a}}, {{b}})", pair) for name in ("MOD", "DIV", "POWER") for pair in ((WHOLE, FEW), (DECIMALS, DECIMALS), (FLOATS, FLOATS), (DECIMALS, FEW))),
    *((f"{name}({{a}}, {{b}})", (values, FEW)) for name in ("ROUND", "TRUNC") for values in (WHOLE, DECIMALS, FLOATS)),
    *((f"{name}({{a}})", (values,)) for name in ("CEILING", "FLOOR", "SIGN", "ABS", "ROUND") for values in (WHOLE, DECIMALS, FLOATS)),
    *((f"{name}({{a}})", (FLOATS,)) for name in ("SQRT", "LN", "LOG10", "EXP")),
    ("WIDTH_BUCKET({a}, {b}, {c}, 4)", (FLOATS, FLOATS, FLOATS)), ("WIDTH_BUCKET({a}, 10, 0, {b})", (FLOATS, FEW)),
    *((f"DATE_DIFF('{unit}', {{a}}, {{b}})", (values, values)) for unit in ("day", "week", "month", "quarter", "year") for values in (DAYS, MOMENTS)),
    *((f"{name}({{a}})", (TEXTS,)) for name in ("UPPER", "LOWER", "INITCAP", "REVERSE", "CHAR_LENGTH", "BTRIM", "LTRIM", "RTRIM")),
    *((f"EXTRACT({unit} FROM {{a}})", (values,)) for unit in ("YEAR", "QUARTER", "MONTH", "WEEK", "DAY", "ISODOW", "DOY") for values in (DAYS, MOMENTS)), *((f"EXTRACT({unit} FROM {{a}})", (MOMENTS,)) for unit in ("HOUR", "MINUTE", "SECOND")),
    *((f"DATE_TRUNC('{unit}', {{a}})", (values,)) for unit in ("year", "quarter", "month", "week", "day") for values in (DAYS, MOMENTS)), *((f"{{a}} {way} INTERVAL '{count}' {unit}", (values,)) for way, count, unit in (("+", 1, "MONTH"), ("-", 13, "MONTH"), ("+", 400, "DAY"), ("-", 4, "YEAR")) for values in (DAYS, MOMENTS)),
    *((f"CAST({{a}} AS {kind})", (values,)) for values, kind in ((WHOLE, "TEXT"), (DECIMALS, "TEXT"), (FLOATS, "TEXT"), (DAYS, "TEXT"), (MOMENTS, "TEXT"), (TRUTHS, "TEXT"), (FLOATS, "INTEGER"), (DECIMALS, "INTEGER"), (WHOLE, "NUMBER"), (MOMENTS, "DATE"), (DAYS, "TIMESTAMP"), (FLOATS, "DECIMAL(9, 1)"))),
    *((f"CAST({{a}} AS {kind})", (WRITTEN,)) for kind in ("INTEGER", "NUMBER", "DECIMAL(9, 2)", "DATE", "TIMESTAMP", "BOOLEAN")), *((f"{{a}} {sign} {{b}}", (TRUTHS, TRUTHS)) for sign in ("AND", "OR", "=", "<>")), ("NOT {a}", (TRUTHS,)), ("{a} IS TRUE", (TRUTHS,)), ("{a} IS NOT FALSE", (TRUTHS,)),
    *((f"{{a}} IS {way}DISTINCT FROM {{b}}", (values, values)) for way in ("", "NOT ") for values in (TEXTS, WHOLE, FLOATS, DAYS, TRUTHS)),
    ("{a} - {b}", (DAYS, DAYS)), ("{a} + {b}", (DAYS, FEW)), ("{a} BETWEEN {b} AND {c}", (FEW, FEW, FEW)), ("{a} IN ({b}, {c})", (TEXTS, PARTS, MARKS)),
    ("CASE WHEN {a} > {b} THEN {a} ELSE {c} END", (WHOLE, WHOLE, FEW)), ("CASE {a} WHEN {b} THEN 'one' WHEN {c} THEN 'two' END", (TEXTS, PARTS, MARKS)), ("IF({a} IS NULL, {b}, {c})", (DAYS, DAYS, DAYS)),
)  # fmt: skip


def literal(value: Any, kind: str) -> str:
    """A value as it is written in a formula, of just this type."""
    if value is None or kind in ("NUMBER", "DECIMAL(38, 2)", "TIMESTAMP", "DATE"):
        text = "NULL" if value is None else "'" + str(value) + "'"
        return f"CAST({text} AS {kind})"
    return "'" + value.replace("'", "''") + "'" if isinstance(value, str) else f"({str(value).upper()})"


def shown(value: Any) -> str:
    """A value by all its digits; a decimal may have more zeros at its end, by the type that constants give it."""
    return repr(value.normalize() + 0 if isinstance(value, Decimal) else value)


class Arguments(unittest.TestCase):
    def values(self, table: pa.Table, formulas: list[str]) -> list[list[Any]]:
        """The values of formulas over a table."""
        answer = oak.Source.from_table(table, name="R").rows([(f"v{at}", one) for at, one in enumerate(formulas)])
        return [column.to_pylist() for column in answer.table.columns]

    def test_constants_and_columns(self) -> None:
        drawn = random.Random(seed_of_the_code())
        for template, given in CASES:
            names = "abc"[: len(given)]
            rows = [*itertools.product(*given)]
            table = pa.table({name: pa.array([row[at] for row in rows], KINDS[given[at]][0]) for at, name in enumerate(names)})  # fmt: skip
            for rows_at_a_time in (1, 1 << 17) if drawn.random() < ALONE else (1 << 17,):
                with (
                    self.subTest(template, kinds=[KINDS[one][1] for one in given], rows=rows_at_a_time),
                    overridden(rows=rows_at_a_time),
                ):
                    (wanted,) = self.values(table, [template.format(**dict(zip(names, names, strict=True)))])
                    others = [*itertools.product(*given[1:])]
                    constants = [
                        {"a": "a"} | {name: literal(value, KINDS[one][1]) for name, one, value in zip(names[1:], given[1:], row, strict=True)}
                        for row in others
                    ]  # fmt: skip
                    made = self.values(table, [template.format(**one) for one in constants])
                    each = dict(zip(others, made, strict=True))
                    found = [each[row[1:]][at] for at, row in enumerate(rows)]
                    self.assertEqual([*map(shown, found)], [*map(shown, wanted)])
                    at = len(rows) // 2
                    every = [literal(value, KINDS[one][1]) for one, value in zip(given, rows[at], strict=True)]
                    try:
                        alone = self.values(
                            table.slice(0, 1), [template.format(**dict(zip(names, every, strict=True)))]
                        )
                    except OakError as error:  # what goes wrong whatever the rows is told before any is read
                        self.assertEqual((error.code, wanted[at]), ("constant-fault", None))
                    else:
                        self.assertEqual(shown(alone[0][0]), shown(wanted[at]))
        self.assertGreater(len(CASES), 150)


class Looks(unittest.TestCase):
    def test_of_plain_numbers(self) -> None:
        cases: tuple[tuple[list[str | None], tuple[int, int] | None], ...] = (
            (["1", "22", None], (0, 2)), (["1.50", "22.5"], (2, 4)), (["-1.5", "2"], (1, 4)), (["007"], None), (["0.5", "0"], (1, 3)),
            (["1,5", "12345,678"], (3, 9)), (["1/2"], None), (["1-2"], None), (["-"], None), (["."], None), (["1."], None), ([".5"], None), (["1.2.3"], None), (["1,234.5"], None), (["--1"], None),
            ([" 1"], None), (["1e5"], None), ([None], None), (["9" * 18], (0, 18)), (["9" * 19], None), (["-" + "9" * 18], (0, 19)), (["9" * 19 + ".5"], (1, 21)), (["", "1"], None), (["-0"], (0, 2)),
            (["-01"], None), (["00.5"], None), (["١"], None), (["1,"], None), (["9" * 20 + "." + "1" * 11], (11, 32)), (["9" * 20 + "." + "1" * 12], None),
        )  # fmt: skip
        for texts, wanted in cases:
            values = pa.array(["x", *texts]).slice(1)
            with self.subTest(texts):
                found = plain_numbers(values)
                self.assertEqual(
                    None if found is None else (max(found.decimals(mark) for mark in Mark), found.longest), wanted
                )

    @hypothesis.settings(max_examples=60, deadline=None, derandomize=True)
    @hypothesis.given(st.lists(st.from_regex(r"\A-?(0|[1-9][0-9]{0,6})([.,][0-9]{1,5})?\Z"), min_size=1, max_size=20))
    def test_plain_numbers_have_the_shapes_that_patterns_find(self, texts: list[str]) -> None:
        found = plain_numbers(pa.array(texts))
        for name, pattern in SHAPES.items():
            known = found.count(PLAIN[name](found)) if name in PLAIN and found else 0
            self.assertEqual(known, pc.match_substring_regex(pa.array(texts), pattern).true_count, (name, texts))


NUMERALS = st.one_of(
    st.from_regex(r"\A-?[0-9]{0,12}\.?[0-9]{0,10}\Z"),
    st.sampled_from(["0.1", "2.675", "-0", "-0.00", "5.", ".5", "-.5", ".", "-", "007", "9" * 18, "9" * 19, "0." + "9" * 17, "9007199254740993", "1e3", "+4", " 7", "x", "1,5", "1.2.3", "٣", ""]),
)  # fmt: skip
READ = ("INTEGER", "DECIMAL(18, 2)", "DECIMAL(38, 9)", "DECIMAL(6, 0)", "NUMBER")


class Numerals(unittest.TestCase):
    @hypothesis.settings(max_examples=80, deadline=None, derandomize=True)
    @hypothesis.given(st.one_of(NUMERALS.map(lambda one: [one]), st.lists(st.one_of(st.none(), NUMERALS), max_size=5)))
    def test_texts_are_read_alike(self, texts: list[str | None]) -> None:
        source = oak.Source.from_table(pa.table({"T": pa.array(["0", *texts]).slice(1)}), name="N")
        shown = [(f"c{at}", f"CAST(T AS {kind})") for at, kind in enumerate(READ)]
        whole = told(source.rows(shown))
        with overridden(rows=1):
            self.assertEqual(told(source.rows(shown)), whole)


if __name__ == "__main__":
    unittest.main()
