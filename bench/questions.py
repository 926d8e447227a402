"""Random questions: a table of a drawn shape, and what is asked of it, written for Oak Ledger and as SQL for the other engines.

Each template of a formula is written once where all agree, else as (ours, duckdb's, polars'); None where an engine has no such thing.
"""

from __future__ import annotations

import random
import re
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

ENGINES = ("oak", "duckdb", "polars")
WriteResult = tuple[str | None, ...]
"""A formula as each engine writes it."""
Template = str | tuple[str | None, str | None, str | None]

# Formulas by the type that they give: i whole numbers, f floats, d decimals, t texts, y days, w moments, b truth values.
GRAMMAR: dict[str, tuple[Template, ...]] = {
    "i": (
        "{i} + {i}", "{i} - {i}", "{i} * 3", "{i} % 7", "ABS({i} - 500)", "COALESCE({i}, 0)", "NULLIF({i}, 3)", "CASE WHEN {b} THEN {i} ELSE {i} END", "SIGN({i} - 20)",
        "CHAR_LENGTH({t})", "EXTRACT(YEAR FROM {y})", "EXTRACT(MONTH FROM {y})", "EXTRACT(DAY FROM {y})", "EXTRACT(QUARTER FROM {y})", ("EXTRACT(ISODOW FROM {y})", "EXTRACT(ISODOW FROM {y})", None),
        "EXTRACT(HOUR FROM {w})", ("POSITION('a' IN {t})", "POSITION('a' IN {t})", "STRPOS({t}, 'a')"), ("DIV({i}, 7)", "({i}) // 7", None), ("DATE_DIFF('month', {y}, {y})", "DATE_DIFF('month', {y}, {y})", None),
        ("{y} - DATE '2024-01-01'", "{y} - DATE '2024-01-01'", None), ("CAST(SUBSTRING(code, 4, 5) AS INTEGER)", "CAST(SUBSTRING(code, 4, 5) AS BIGINT)", "CAST(SUBSTRING(code, 4, 5) AS BIGINT)"),
        ("GREATEST({i}, {i})", "GREATEST({i}, {i})", None), ("REGEXP_COUNT({t}, '[aeiou]')", "LENGTH(REGEXP_REPLACE({t}, '[^aeiou]', '', 'g'))", None),
    ),
    "f": (
        "{f} + {f}", "{f} - {f}", ("{f} * 1.5e0", "{f} * 1.5", "{f} * 1.5"), ("{f} / {i}", "{f} / NULLIF({i}, 0)", "{f} / NULLIF({i}, 0)"), "ABS({f})", "SQRT(ABS({f}))", "LN(ABS({f}) + 1)",
        "EXP(-ABS({f}))", "POWER({f}, 2)", "FLOOR({f})", ("CEILING({f})", "CEIL({f})", "CEIL({f})"), ("ROUND({f} * 0.7317e0, 1)", "ROUND({f} * 0.7317, 1)", "ROUND({f} * 0.7317, 1)"), ("TRUNC({f} * 0.7317e0)", "TRUNC({f} * 0.7317)", None),
        ("COALESCE({f}, 0e0)", "COALESCE({f}, 0)", "COALESCE({f}, 0.0)"), "CASE WHEN {b} THEN {f} ELSE {f} END", ("CAST({i} AS NUMBER)", "CAST({i} AS DOUBLE)", "CAST({i} AS DOUBLE)"),
        ("CAST({d} AS NUMBER)", "CAST({d} AS DOUBLE)", "CAST({d} AS DOUBLE)"), ("CAST(LEFT(amount, 7) AS NUMBER)", "CAST(LEFT(amount, 7) AS DOUBLE)", "CAST(LEFT(amount, 7) AS DOUBLE)"), ("{i} / {i}", "{i} / NULLIF({i}, 0)", None),
        ("GREATEST({f}, 0e0)", "GREATEST({f}, 0)", None), ("LOG10(ABS({f}) + 1)", "LOG10(ABS({f}) + 1)", "LOG10(ABS({f}) + 1)"),
    ),
    "d": (
        "{d} + {d}", "{d} - 3", ("{d} * 1.25", "{d} * 1.25", None), ("ROUND({d}, 1)", "ROUND({d}, 1)", None), ("TRUNC({d})", "TRUNC({d})", None), ("FLOOR({d})", "FLOOR({d})", None), "ABS({d})", "COALESCE({d}, 0)", "CASE WHEN {b} THEN {d} ELSE {d} END",
        ("CAST({i} AS DECIMAL(18, 2))", "CAST({i} AS DECIMAL(18, 2))", None), ("CAST(amount AS DECIMAL(12, 2))", "CAST(amount AS DECIMAL(12, 2))", None), ("{d} % 10", "{d} % 10", None),
    ),
    "t": (
        "UPPER({t})", "LOWER({t})", ("BTRIM({t})", "TRIM({t})", "TRIM({t})"), "SUBSTRING({t}, 2, 4)", "LEFT({t}, 3)", "RIGHT({t}, 3)", "REPLACE({t}, 'a', 'o')", "{t} || '-' || {t}", ("LPAD({t}, 14, '0')", "LPAD({t}, 14, '0')", None), ("RPAD({t}, 9)", "RPAD({t}, 9, ' ')", None),
        ("SPLIT_PART(code, '-', 2)", "SPLIT_PART(code, '-', 2)", "SPLIT_PART(code, '-', 2)"), ("SPLIT_PART(code, '-', -1)", "SPLIT_PART(code, '-', -1)", None), "REVERSE({t})", "CASE WHEN {b} THEN {t} ELSE 'other' END", "COALESCE({t}, 'none')", ("CAST({i} AS TEXT)", "CAST({i} AS VARCHAR)", "CAST({i} AS VARCHAR)"),
        ("CAST({y} AS TEXT FORMAT 'YYYY-MM')", "STRFTIME({y}, '%Y-%m')", "STRFTIME({y}, '%Y-%m')"), ("REGEXP_REPLACE({t}, '[0-9]+', '#')", "REGEXP_REPLACE({t}, '[0-9]+', '#')", None), ("REGEXP_SUBSTR(code, '[0-9]+')", "NULLIF(REGEXP_EXTRACT(code, '[0-9]+'), '')", None), ("CONCAT({t}, '/', {t})", "CONCAT({t}, '/', {t})", None),
        ("REPLACE({t}, LEFT({t}, 1), '*')", "REPLACE({t}, LEFT({t}, 1), '*')", None), ("LTRIM({t}, 'TK-')", "LTRIM({t}, 'TK-')", None), ("REPEAT({t}, 2)", "REPEAT({t}, 2)", None), ("CAST({d} AS TEXT)", "CAST({d} AS VARCHAR)", None), ("INITCAP({t})", None, "INITCAP({t})"),
        ("CAST({y} AS TEXT)", "CAST({y} AS VARCHAR)", "CAST({y} AS VARCHAR)"), "NULLIF({t}, 'oak')", ("LPAD(CAST({i} AS TEXT), 8, '0')", "LPAD(CAST({i} AS VARCHAR), 8, '0')", None),
    ),
    "y": (
        ("{y} + 30", "{y} + 30", None), ("DATE_TRUNC('month', {y})", "CAST(DATE_TRUNC('month', {y}) AS DATE)", "DATE_TRUNC('month', {y})"), ("CAST({w} AS DATE)", "CAST({w} AS DATE)", "CAST({w} AS DATE)"), ("{y} + INTERVAL '1' MONTH", "CAST({y} + INTERVAL '1' MONTH AS DATE)", "{y} + INTERVAL '1 month'"),
        ("MAKE_DATE(EXTRACT(YEAR FROM {y}), EXTRACT(MONTH FROM {y}), 1)", "MAKE_DATE(EXTRACT(YEAR FROM {y}), EXTRACT(MONTH FROM {y}), 1)", None), "COALESCE({y}, DATE '2024-02-29')", "CASE WHEN {b} THEN {y} ELSE {y} END",
        ("DATE_TRUNC('week', {y})", "CAST(DATE_TRUNC('week', {y}) AS DATE)", None), ("CAST(SUBSTRING(day_text, 1, 10) AS DATE)", "CAST(SUBSTRING(day_text, 1, 10) AS DATE)", "CAST(SUBSTRING(day_text, 1, 10) AS DATE)"), ("CAST(day_text AS DATE FORMAT 'YYYY-MM-DD')", "CAST(STRPTIME(day_text, '%Y-%m-%d') AS DATE)", None),
    ),
    "w": (("{w} + INTERVAL '3' HOUR", "{w} + INTERVAL '3' HOUR", "{w} + INTERVAL '3 hours'"), ("DATE_TRUNC('hour', {w})", "DATE_TRUNC('hour', {w})", "DATE_TRUNC('hour', {w})"), "COALESCE({w}, {w})"),
    "b": (
        "{i} < {i}", "{i} > 20", ("{f} > 50e0", "{f} > 50", "{f} > 50"), "{d} >= 100", "{y} < DATE '2025-01-01'", ("EXTRACT(YEAR FROM {w}) = 2025", "EXTRACT(YEAR FROM {w}) = 2025", "EXTRACT(YEAR FROM {w}) = 2025"), "{t} = 'oak'", "{t} LIKE '%a%'", "{t} LIKE 'a%'", "{t} LIKE '%k'", "{t} LIKE 'T%-%7%'", "{t} LIKE '_a%'",
        "{t} IN ('oak', 'ash', 'elm')", "{i} IN (1, 2, 3, 17)", "{i} BETWEEN 3 AND 300", "{t} IS NULL", "{f} IS NOT NULL", "({b}) AND ({b})", "({b}) OR ({b})", "NOT ({b})", ("CONTAINS({t}, 'as')", "CONTAINS({t}, 'as')", None), ("STARTS_WITH({t}, 'TK')", "STARTS_WITH({t}, 'TK')", "STARTS_WITH({t}, 'TK')"),
        ("REGEXP_LIKE({t}, '[0-9]7')", "REGEXP_MATCHES({t}, '[0-9]7')", "REGEXP_LIKE({t}, '[0-9]7')"), "{t} < 'm'", ("{i} IS DISTINCT FROM {i}", "{i} IS DISTINCT FROM {i}", None), "flag",
    ),
}  # fmt: skip
KEYS = ("t", "t", "i", "y", "b", "formula")
AGGREGATES: tuple[tuple[Template, str], ...] = (
    ("COUNT(*)", ""), ("COUNT({x})", "ift"), ("SUM({x})", "ifd"), ("SUM({x})", "if"), ("AVG({x})", "if"), ("MIN({x})", "ifdyt"), ("MAX({x})", "ifdyt"), ("COUNT(DISTINCT {x})", "ity"), ("COUNT(DISTINCT {x})", "it"), ("MEDIAN({x})", "if"),
    ("STDDEV_SAMP({x})", "f"), (("PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER BY {x})", "QUANTILE_CONT({x}, 0.9)", None), "if"), (("BOOL_OR({x})", "BOOL_OR({x})", None), "b"), (("VAR_POP({x})", "VAR_POP({x})", None), "f"),
)  # fmt: skip
WINDOWS: tuple[tuple[Template, str], ...] = (
    ("LAG({x}) OVER (PARTITION BY {k} ORDER BY id)", "if"), ("SUM({x}) OVER (PARTITION BY {k} ORDER BY id)", "i"), ("ROW_NUMBER() OVER (PARTITION BY {k} ORDER BY id)", ""), ("SUM({x}) OVER (PARTITION BY {k})", "i"),
    (("AVG({x}) OVER (PARTITION BY {k} ORDER BY id ROWS BETWEEN 5 PRECEDING AND CURRENT ROW)", "AVG({x}) OVER (PARTITION BY {k} ORDER BY id ROWS BETWEEN 5 PRECEDING AND CURRENT ROW)", None), "i"), (("RANK() OVER (PARTITION BY {k} ORDER BY {x})", "RANK() OVER (PARTITION BY {k} ORDER BY {x})", None), "i"),
    (("MAX({x}) OVER (PARTITION BY {k} ORDER BY id)", "MAX({x}) OVER (PARTITION BY {k} ORDER BY id)", None), "i"), (("FIRST_VALUE({x}) OVER (PARTITION BY {k} ORDER BY id)", "FIRST_VALUE({x}) OVER (PARTITION BY {k} ORDER BY id)", "FIRST_VALUE({x}) OVER (PARTITION BY {k} ORDER BY id)"), "i"),
)  # fmt: skip
WOODS = ("oak", "ash", "elm", "larch", "Sitka spruce", "birch", "alder", "beech", "maple", "walnut")


@dataclass(frozen=True)
class FileSchema:
    """A drawn table: its file, rows, and the columns by type."""

    path: Path
    rows: int
    columns: dict[str, tuple[str, ...]]
    says: str


@dataclass(frozen=True)
class Question:
    """What is asked, in a kind of questions: formulas by name, keys, what is shown, filters; and the SQL of the other engines."""

    kind: str
    shape: int
    fields: dict[str, WriteResult] = field(default_factory=dict)
    by: tuple[str, ...] = ()
    show: tuple[WriteResult, ...] = ()
    where: tuple[WriteResult, ...] = ()

    def sql(self, engine: str) -> str | None:
        """The statement for an engine; None where it has no word for something."""
        at = ENGINES.index(engine)
        pieces = [*self.fields.values(), *self.show, *self.where]
        if any(piece[at] is None for piece in pieces):
            return None
        made = "".join(f", {one[at]} as {name}" for name, one in self.fields.items())
        shown = [*self.by, *(f"{one[at]} as c{number}" for number, one in enumerate(self.show))]
        statement = f"with l as (select *{made} from loads) select {', '.join(shown)} from l"
        if self.where:
            statement += " where " + " and ".join(f"({one[at]})" for one in self.where)
        return statement + (f" group by {', '.join(self.by)}" if self.by else "")

    def text(self) -> str:
        """The question in a line, as Oak Ledger is asked it."""
        made = "; ".join(f"{name} = {one[0]}" for name, one in self.fields.items())
        by = f" by {', '.join(self.by)}" if self.by else ""
        where = f" where {' AND '.join(str(one[0]) for one in self.where)}" if self.where else ""
        return f"{', '.join(str(one[0]) for one in self.show)}{by}{where}" + (f" [{made}]" if made else "")


# -- data ---------------------------------------------------------------------------------------------------------


def shape(folder: Path, rng: random.Random, number: int, rows: int) -> FileSchema:
    """Draw a table and write it: types, nulls, how many different values, sorted or not, row groups of some size."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    chance = np.random.default_rng(rng.randrange(2**32))
    many = rng.choice((1_000, 30_000, 300_000, rows))
    group = rng.choice((122_880, 250_000, 1_000_000))
    nulls = {kind: rng.choice((0.0, 0.0, 0.02, 0.3)) for kind in "iifdtyw"}

    def some(values: Any, kind: str, arrow: Any = None) -> Any:
        mask = chance.random(rows) < nulls[kind] if nulls[kind] else None
        return pa.array(values, arrow, mask=mask)

    def words(count: int, pattern: str) -> Any:
        known = np.array([pattern.format(at, WOODS[at % len(WOODS)]) for at in range(count)], dtype=object)
        return known[chance.integers(0, count, rows)]

    cents = chance.integers(0, 99_999_999, rows) if rng.random() < 0.5 else chance.integers(0, 9_999, rows) * 25
    days = chance.integers(0, rng.choice((90, 900, 9000)), rows)
    if rng.random() < 0.4:
        days.sort()
    numbers = chance.integers(0, many, rows)
    columns = {
        "id": pa.array(np.arange(rows)),
        "few": some(chance.integers(0, 3, rows), "i"),
        "crew": some(chance.integers(0, 40, rows), "i"),
        "stand": some(chance.integers(0, 1000, rows), "i"),
        "hauler": pa.array(np.sort(numbers) if rng.random() < 0.2 else numbers),
        "volume": some(np.round(chance.gamma(4.0, 6.0, rows), 2), "f"),
        "rate": some(chance.normal(40, 25, rows), "f"),
        "cost": _decimals(cents, chance.random(rows) < nulls["d"]),
        "grade": some(words(4, "{1}"), "t"),
        "mill": some(words(40, "Mill {0:02d} {1}"), "t"),
        "code": some(words(min(many, 300_000), "TK-{0:05d}-{1}"), "t"),
        "amount": pa.array(np.char.mod("%07.2f", chance.integers(0, 999_999, rows) / 100).astype(object)),
        "day": some((np.datetime64("2023-11-01") + days).astype("datetime64[D]"), "y"),
        "day_text": pa.array((np.datetime64("2024-01-01") + days % 700).astype("datetime64[D]").astype(str).astype(object)),
        "moment": some(np.datetime64("2024-01-01", "us") + chance.integers(0, 2 * 365 * 86400, rows) * 1_000_000, "w"),
        "flag": some(chance.random(rows) < 0.3, "i"),
    }  # fmt: skip
    table = pa.table(columns)
    path = folder / f"shape{number}.parquet"
    pq.write_table(table, path, compression="snappy", row_group_size=group)
    kinds = {
        "i": ("few", "crew", "stand", "hauler"), "f": ("volume", "rate"), "d": ("cost",), "t": ("grade", "mill", "code"), "y": ("day",), "w": ("moment",), "b": ("flag",),
    }  # fmt: skip
    says = f"{rows:,} rows in groups of {group:,}, {many:,} different haulers, nulls " + ", ".join(f"{kind} {share:.0%}" for kind, share in nulls.items() if share)  # fmt: skip
    return FileSchema(path, rows, kinds, says)


def _decimals(cents: Any, nulls: Any) -> Any:
    """Whole cents as decimals of 18 digits, two of them behind the point."""
    import pyarrow as pa

    pairs = np.stack([cents, cents >> 63], axis=1).astype(np.int64)
    there = pa.py_buffer(np.packbits(~nulls, bitorder="little")) if nulls.any() else None
    return pa.Array.from_buffers(pa.decimal128(18, 2), len(cents), [there, pa.py_buffer(pairs)])


# -- questions ------------------------------------------------------------------------------------------------------


def _filled(template: Template, pieces: dict[str, WriteResult]) -> WriteResult:
    forms = (template,) * 3 if isinstance(template, str) else template
    made: list[str | None] = []
    for at, form in enumerate(forms):
        text: str | None = form
        for name, piece in pieces.items():
            if text is not None and f"{{{name}}}" in text:
                inner = piece[at]
                text = None if inner is None else text.replace(f"{{{name}}}", inner)
        made.append(text)
    return tuple(made)


def formula(rng: random.Random, columns: dict[str, tuple[str, ...]], kind: str, depth: int) -> WriteResult:
    """A random formula of a type; at depth 0 a column."""
    if depth <= 0:
        return (rng.choice(columns[kind]),) * 3
    template = rng.choice(GRAMMAR[kind])
    first = template if isinstance(template, str) else str(template[0])
    names = re.findall(r"\{(\w)\}", first)
    # each place gets its own piece, the same in all engines: places are told apart by their order
    pieces = [formula(rng, columns, name, depth - 1 - (rng.random() < 0.5)) for name in names]
    texts: list[str | None] = []
    for at in range(3):
        form = template if isinstance(template, str) else template[at]
        if form is None or len(re.findall(r"\{(\w)\}", form)) != len(names):
            texts.append(None if form is None else _repeated(form, names, pieces, at))
            continue
        texts.append(_placed(form, pieces, at))
    return tuple(texts)


def _wrapped(text: str) -> str:
    return text if re.fullmatch(r"\w+", text) else f"({text})"


def _placed(form: str, pieces: list[WriteResult], at: int) -> str | None:
    found = iter(pieces)
    parts = re.split(r"\{\w\}", form)
    made = parts[0]
    for part in parts[1:]:
        inner = next(found)[at]
        if inner is None:
            return None
        made += _wrapped(inner) + part
    return made


def _repeated(form: str, names: list[str], pieces: list[WriteResult], at: int) -> str | None:
    """A form that names its only piece more often than the others do."""
    inner = pieces[0][at] if pieces else ""
    return None if inner is None or len({*names}) > 1 else re.sub(r"\{\w\}", lambda _: _wrapped(inner), form)


def question(rng: random.Random, shapes: list[FileSchema]) -> Question:
    """Draw a question."""
    number = rng.randrange(len(shapes))
    columns = shapes[number].columns
    kind = rng.choices(("groups", "rows", "windows"), (6, 3, 2))[0]
    fields: dict[str, WriteResult] = {}

    def named(made: WriteResult) -> WriteResult:
        if made[0] in shape_columns:
            return made
        fields[f"x{len(fields)}"] = made
        return (f"x{len(fields) - 1}",) * 3

    shape_columns = {name for names in columns.values() for name in names}
    where = tuple(
        formula(rng, columns, "b", rng.choice((1, 1, 2))) for _ in range(rng.choices((0, 1, 2), (4, 4, 1))[0])
    )
    if kind == "rows":
        show = tuple(
            formula(rng, columns, rng.choice("iifdtttyb"), rng.choice((1, 2, 2, 3)))
            for _ in range(rng.choice((1, 2, 4)))
        )
        return Question(kind, number, {}, (), show, where)
    if kind == "windows":
        made = []
        for _ in range(rng.choice((1, 1, 2))):
            template, kinds = rng.choice(WINDOWS)
            key = (rng.choice(("crew", "stand", "hauler", "mill", "grade", "code")),) * 3
            x = formula(rng, columns, rng.choice(kinds), rng.choice((0, 0, 1))) if kinds else ("id",) * 3
            made.append(named(_filled(template, {"k": key, "x": x})))
        by = rng.choice(((), (), ("grade",), ("few",)))
        return Question(kind, number, fields, by, tuple(_filled("SUM({x})", {"x": one}) for one in made), where)
    by = []
    for _ in range(rng.choices((0, 1, 2, 3), (2, 5, 3, 1))[0]):
        key = rng.choice(KEYS)
        made_key = (
            formula(rng, columns, rng.choice("tiyb"), rng.choice((1, 2)))
            if key == "formula"
            else (rng.choice(columns[key]),) * 3
        )
        name = named(made_key)[0]
        if name is not None and name not in by:
            by.append(name)
    show = []
    for _ in range(rng.choice((1, 2, 3, 4))):
        template, kinds = rng.choice(AGGREGATES)
        x = named(formula(rng, columns, rng.choice(kinds), rng.choice((0, 0, 1, 1, 2)))) if kinds else ("",) * 3
        one = _filled(template, {"x": x})
        if rng.random() < 0.2 and "WITHIN" not in str(one[0]):
            holds = formula(rng, columns, "b", 1)
            one = _filled("{a} FILTER (WHERE {h})", {"a": one, "h": holds})
            one = (one[0], one[1], None)
        show.append(one)
    return Question(kind, number, fields, tuple(by), tuple(show), where)
