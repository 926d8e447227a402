"""Calls of every function and operator with every kind of argument: as columns of edge values, as constants, null, and null throughout."""

from __future__ import annotations

import datetime as dt
import itertools
import random
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa

from oak_ledger.functions.registry import LIBRARY, Function
from oak_ledger.types import KINDS

ROWS = 90
COLUMNS = ("a", "b", "c", "d")  # of each kind; one more is null throughout
VALUES: dict[str, tuple[Any, ...]] = {
    "text": ("", " ", "oak", " Oak ", "a-b-c", "äöü", "日本", "12", "a_b%", "\\", "it's", "\U00010400x", "--", "a"),
    "integer": (0, 1, -1, 2, -3, 7, 12, 2**31, -(2**31), 2**53 + 1, 2**63 - 1, -(2**63), -5, 3),
    "decimal": tuple(map(Decimal, ("0.00", "1.50", "-2.25", "0.05", "-0.05", "12.00", "99999999.99", "-99999999.99", "7.00", "0.15"))),
    "number": (0.0, 1.0, 0.5, -1.25, 2.5, 2.675, 1e15, 1e16, 1e300, -1e300, 1e-300, 123456.789, -7.0),
    "boolean": (True, False),
    "date": tuple(dt.date(*one) for one in ((2024, 2, 29), (2026, 1, 31), (1, 1, 1), (9999, 12, 31), (1969, 12, 31), (2026, 3, 1), (2020, 12, 31), (2021, 1, 3))),
    "timestamp": tuple(dt.datetime(*one) for one in ((2024, 2, 29, 23, 59, 59), (1970, 1, 1), (1969, 12, 31, 23, 59, 59, 500000), (2026, 3, 1, 7, 30), (9999, 12, 31, 23), (1, 1, 1), (2025, 12, 29, 12))),
}  # fmt: skip
ARROW = {"text": pa.string(), "integer": pa.int64(), "decimal": pa.decimal128(12, 2), "number": pa.float64(), "boolean": pa.bool_(),
         "date": pa.date32(), "timestamp": pa.timestamp("us")}  # fmt: skip
UNITS = {"EXTRACT": ("YEAR", "QUARTER", "MONTH", "WEEK", "DAY", "DOW", "ISODOW", "DOY", "ISOYEAR", "HOUR", "MINUTE", "SECOND"),
         "DATE_TRUNC": ("year", "quarter", "month", "week", "day", "hour", "minute"), "DATE_DIFF": ("day", "month")}  # fmt: skip
TEMPLATES = ("YYYY-MM", "DD.MM.YYYY", "MON YYYY", "YY/DDD", "YYYYMMDD", 'YYYY "Q" MM', "Month", "DY DD")
_SMALL = {"REPEAT", "LPAD", "RPAD"}  # whose whole number says how long a text becomes
_ARITHMETIC = [*itertools.product(("integer", "decimal", "number"), repeat=2)]
# Operators and what is written with words, by the kinds of their arguments.
OPERATORS: tuple[tuple[str, Sequence[Sequence[str]]], ...] = (
    *((f"{{}} {sign} {{}}", _ARITHMETIC) for sign in "+-*/%"), ("-{}", [("integer",), ("decimal",), ("number",)]), ("+{}", [("integer",), ("decimal",)]),
    ("{} + {}", [("date", "integer"), ("integer", "date")]), ("{} - {}", [("date", "integer"), ("date", "date")]),
    *((f"{{}} {sign} {{}}", [*((kind, kind) for kind in VALUES), ("date", "timestamp"), ("integer", "number"), ("decimal", "integer")]) for sign in ("=", "<>", "<", "<=", ">", ">=", "IS DISTINCT FROM", "IS NOT DISTINCT FROM")),
    *((f"{{}} {word} {{}}", [("boolean", "boolean")]) for word in ("AND", "OR")), *((f"{{}} {test}", [("boolean",)]) for test in ("IS TRUE", "IS NOT FALSE", "IS UNKNOWN")), ("NOT {}", [("boolean",)]),
    ("{} IS NULL", [(kind,) for kind in VALUES]), ("{} BETWEEN {} AND {}", [(kind,) * 3 for kind in VALUES if kind != "boolean"]), ("{} IN ({}, {})", [(kind,) * 3 for kind in VALUES]),
    ("{} || {}", [("text", "text")]), ("{} LIKE {}", [("text", "text")]), ("{} LIKE '%a_'", [("text",)]), ("{} LIKE 'a!_%' ESCAPE '!'", [("text",)]), ("TRIM({})", [("text",)]), ("TRIM(BOTH 'a ' FROM {})", [("text",)]),
    ("CASE WHEN {} THEN {} ELSE {} END", [("boolean", kind, kind) for kind in VALUES]), ("CASE {} WHEN {} THEN 1 ELSE 2 END", [(kind, kind) for kind in VALUES]),
    *((f"CAST({{}} AS {name})", [(kind,) for kind in kinds]) for name, kinds in (("TEXT", (*VALUES,)), ("INTEGER", ("integer", "decimal", "number", "text")), ("DECIMAL(12,1)", ("integer", "decimal", "number", "text")),
      ("DECIMAL(4,2)", ("decimal", "integer")), ("NUMBER", ("integer", "decimal", "number", "text")), ("DATE", ("date", "timestamp", "text")), ("TIMESTAMP", ("date", "timestamp", "text")), ("BOOLEAN", ("boolean", "text")))),
    *((f"CAST({{}} AS TEXT FORMAT '{one}')", [("date",), ("timestamp",)]) for one in TEMPLATES), ("CAST({} AS TEXT FORMAT 'YYYY-MM-DD HH24:MI:SS')", [("timestamp",)]), ("CAST({} AS TEXT FORMAT 'HH12:MI AM FF3')", [("timestamp",)]),
    ("CAST({} AS DATE FORMAT 'DD.MM.YYYY')", [("text",)]), *((f"{{}} {sign} INTERVAL '{count}' {unit}", [("date",), ("timestamp",)]) for sign, count, unit in (("+", 1, "MONTH"), ("-", 4, "YEAR"), ("+", 400, "DAY"))),
    *((f"{name}({{}}, {count})", [("decimal",), ("integer",)]) for name in ("ROUND", "TRUNC") for count in (1, -1)),
    ("{} + INTERVAL '90' MINUTE", [("timestamp",)]),
)  # fmt: skip
WINDOW_KINDS = ("text", "integer", "decimal", "number", "boolean", "date", "timestamp")


def table(seed: int) -> pa.Table:
    """Rows in which the edge values of each kind meet."""
    rng = random.Random(seed)
    columns: dict[str, Any] = {"at": pa.array(range(ROWS), pa.int64())}
    for kind, values in VALUES.items():
        for name in COLUMNS:
            columns[f"{kind}_{name}"] = pa.array([None if rng.random() < 0.12 else rng.choice(values) for _ in range(ROWS)], ARROW[kind])  # fmt: skip
        columns[f"{kind}_none"] = pa.nulls(ROWS, ARROW[kind])
        columns[f"{kind}_few"] = pa.array([rng.choice(values[:2]) for _ in range(ROWS)], ARROW[kind])
    return pa.table(columns)


def literal(value: Any, kind: str) -> str:
    """A value as it is written in a formula."""
    if value is None:
        return f"CAST(NULL AS {kind})" if kind != "decimal" else "CAST(NULL AS DECIMAL(12,2))"
    if kind in ("number", "date", "timestamp"):
        return f"CAST('{value}' AS {kind})"
    return "'" + value.replace("'", "''") + "'" if isinstance(value, str) else f"({str(value).upper()})"


def _argument_kinds(function: Function) -> Iterator[tuple[str, ...]]:
    """The kinds of arguments with which a function is called."""
    for one in function.signatures:
        least = sum(not parameter.optional for parameter in one.parameters)
        most = 3 if one.parameters and one.parameters[-1].repeated else len(one.parameters)
        for count in range(least, most + 1):
            given = [one.parameter(at) for at in range(count)]
            alike = any("any" in parameter.kind_text for parameter in given)
            for kind in [one for one in KINDS if one != "null"] if alike else [""]:
                choices = [(kind,) if parameter.kind_text == "any" else tuple(one for one in VALUES if one in parameter.kinds) for parameter in given]  # fmt: skip
                yield from itertools.product(*choices)


def _forms(template: str, kinds: Sequence[str], rng: random.Random) -> Iterator[str]:
    """A call with columns; then with a column that is null throughout, a null, a constant in the place of each argument."""
    columns = [f"{kind}_{name}" for kind, name in zip(kinds, COLUMNS, strict=False)]
    yield template.format(*columns)
    for at, kind in enumerate(kinds):
        for other in (f"{kind}_none", f"{kind}_few", literal(None, kind), *(literal(one, kind) for one in rng.sample(VALUES[kind], 2))):  # fmt: skip
            yield template.format(*columns[:at], other, *columns[at + 1 :])


def row_calls(rng: random.Random) -> Iterator[tuple[str, list[str]]]:
    """What is called, and the calls."""
    for name, function in LIBRARY.entries.items():
        if function.aggregate or function.window:
            continue
        forms: list[str] = []
        for kinds in _argument_kinds(function):
            if name == "POSITION":
                forms += _forms("POSITION({} IN {})", kinds, rng)
            elif name in UNITS:
                for unit in UNITS[name]:
                    start = f"EXTRACT({unit} FROM " if name == "EXTRACT" else f"{name}('{unit}', "
                    forms += _forms(f"{start}{', '.join(['{}'] * (len(kinds) - 1))})", kinds[1:], rng)
            elif name in _SMALL:
                shown = ["{}", "integer_few", *["{}"] * (len(kinds) - 2)]
                forms += _forms(f"{name}({', '.join(shown)})", (kinds[0], *kinds[2:]), rng)
                forms += [
                    f"{name}({', '.join([kinds[0] + '_a', str(count), *(one + '_c' for one in kinds[2:])])})"
                    for count in (-2, 0, 1, 5)
                ]
            elif not function.constant_args:
                forms += _forms(f"{name}({', '.join(['{}'] * len(kinds))})", kinds, rng)
        yield name, forms
    for template, every in OPERATORS:
        yield template, [form for kinds in every for form in _forms(template, kinds, rng)]


def group_calls() -> Iterator[str]:
    """Every aggregate over every kind that it takes: plain, of distinct values, filtered, over nothing but nulls, over no rows."""
    yield "COUNT(*)"
    for name, function in LIBRARY.entries.items():
        if not function.aggregate:
            continue
        kinds = sorted({kinds[0] for kinds in _argument_kinds(function)}) if not function.ordered else ("text", "decimal", "number", "integer", "date")  # fmt: skip
        for kind in kinds:
            summed = kind == "number" and name not in (
                "MIN",
                "MAX",
                "COUNT",
                "ANY_VALUE",
            )  # the order of such a sum shows in its digits
            for column in (f"{kind}_none", f"{kind}_few", *(() if summed else (f"{kind}_a",))):
                if name == "LISTAGG":
                    if kind == "text":
                        yield f"LISTAGG({column}, '; ') WITHIN GROUP (ORDER BY {column} DESC, at)"
                        yield f"LISTAGG(DISTINCT {column}, '') WITHIN GROUP (ORDER BY {column})"
                        yield f"LISTAGG({column}, '-') WITHIN GROUP (ORDER BY at) FILTER (WHERE boolean_a)"
                elif function.ordered:
                    if name == "PERCENTILE_DISC" or kind in ("decimal", "number", "integer"):
                        yield from (f"{name}({share}) WITHIN GROUP (ORDER BY {column}{down})" for share, down in ((0, ""), (0.5, " DESC"), (0.9, ""), (1, "")))  # fmt: skip
                else:
                    taken = column if len(function.signatures[0].parameters) == 1 else f"{column}, at"
                    yield f"{name}({taken})"
                    yield f"{name}({taken}) FILTER (WHERE boolean_a)"
                    yield f"{name}({taken}) FILTER (WHERE boolean_none)"
                    if name != "ANY_VALUE" and taken == column:
                        yield f"{name}(DISTINCT {column})"


def window_calls() -> Iterator[str]:
    """Every window function and aggregate over every kind, in orders that leave no ties open."""
    for kind in WINDOW_KINDS:
        yield f"LAG({kind}_a) OVER (ORDER BY at)"
        yield f"LEAD({kind}_a, 2) OVER (PARTITION BY boolean_a ORDER BY at DESC)"
        yield f"LEAD({kind}_a) OVER (ORDER BY at)"
        yield f"LAG({kind}_a, 0) OVER (ORDER BY at)"
        yield f"LAG({kind}_a, 1, {kind}_b) OVER (ORDER BY at)"
        yield f"LEAD({kind}_a, 3, {literal(VALUES[kind][1], kind)}) OVER (ORDER BY {kind}_a NULLS FIRST, at)"
        yield f"FIRST_VALUE({kind}_a) OVER (PARTITION BY {kind}_few ORDER BY at)"
        yield f"LAST_VALUE({kind}_a) OVER (ORDER BY at ROWS BETWEEN 1 PRECEDING AND 2 FOLLOWING)"
        yield from (f"{name}() OVER (ORDER BY {kind}_a{down})" for name in ("RANK", "DENSE_RANK", "PERCENT_RANK", "CUME_DIST") for down in ("", " DESC", " DESC NULLS LAST"))  # fmt: skip
        yield f"ROW_NUMBER() OVER (PARTITION BY {kind}_none ORDER BY {kind}_b DESC, at)"
        yield f"COUNT({kind}_a) OVER (PARTITION BY {kind}_b)"
        yield f"COUNT(*) OVER (PARTITION BY {kind}_b ORDER BY at)"
        if kind != "boolean":
            yield f"MIN({kind}_a) OVER (PARTITION BY {kind}_few ORDER BY at)"
            yield f"MAX({kind}_a) FILTER (WHERE boolean_a) OVER (ORDER BY at ROWS BETWEEN 2 PRECEDING AND CURRENT ROW)"
        if kind in ("integer", "decimal"):
            yield f"SUM({kind}_few) OVER (ORDER BY at)"
            yield f"AVG({kind}_few) OVER (ORDER BY at ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING)"
            yield f"VAR_POP({kind}_few) OVER (PARTITION BY boolean_a)"
    yield from (f"NTILE({count}) OVER (ORDER BY at)" for count in (1, 4, 200))
    yield from (f"{name}(boolean_a) OVER (PARTITION BY boolean_b ORDER BY at)" for name in ("BOOL_AND", "BOOL_OR"))
    yield "COUNT(*) OVER (ORDER BY date_a RANGE BETWEEN INTERVAL '1' MONTH PRECEDING AND CURRENT ROW)"
    yield "COUNT(*) OVER (ORDER BY integer_few RANGE BETWEEN 1 PRECEDING AND 1 FOLLOWING)"
