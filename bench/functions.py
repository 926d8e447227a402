"""Every function over a million values that repeat and a million that do not, against duckdb's and polars': `python bench/functions.py`.

Tables are in memory; each engine gives a column of the results. Answers are compared first. Which kernels of Arrow a function called is noted
while it runs. Written to docs/benchmarks_functions.md.
"""

from __future__ import annotations

import argparse
import os
import sys
import time
from functools import wraps
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

sys.path.insert(0, str(Path(__file__).parent))
called: list[str] | None = None
HELPERS = {"is_null", "is_valid", "fill_null", "if_else", "any", "max", "cast", "take", "filter", "invert", "and_", "equal", "binary_length", "count_distinct", "is_inf", "is_nan", "coalesce"}  # fmt: skip


def _traced(name: str, kernel: Any) -> Any:
    @wraps(kernel)
    def run(*args: Any, **more: Any) -> Any:
        if called is not None and name not in called:
            called.append(name)
        return kernel(*args, **more)

    return run


for _name in pc.list_functions():
    if hasattr(pc, _name):
        setattr(pc, _name, _traced(_name, getattr(pc, _name)))

import duckdb  # noqa: E402 - the kernels are traced before anything takes them
import engine  # noqa: E402
import polars as pl  # noqa: E402

import oak_ledger as oak  # noqa: E402
from oak_ledger.functions import LIBRARY  # noqa: E402

DOCS = Path(__file__).parent.parent / "docs"
# Each function (or construct): how it is called here, in duckdb, in polars (as SQL); the same where one is left out, None where there is none.
CALLS: tuple[tuple[str, str, str | None, str | None], ...] = (
    ("UPPER", "UPPER(t)", "", ""), ("LOWER", "LOWER(t)", "", ""), ("INITCAP", "INITCAP(t)", None, ""), ("BTRIM", "BTRIM(t)", "TRIM(t)", "TRIM(t)"), ("LTRIM", "LTRIM(t, 'TK')", "", ""), ("RTRIM", "RTRIM(t)", "", ""),
    ("REPLACE", "REPLACE(t, 'a', 'o')", "", ""), ("REPLACE by a column", "REPLACE(t, LEFT(t, 1), '*')", "", None), ("SUBSTRING", "SUBSTRING(t, 2, 4)", "", ""), ("LEFT", "LEFT(t, 3)", "", ""), ("RIGHT", "RIGHT(t, 3)", "", ""), ("CHAR_LENGTH", "CHAR_LENGTH(t)", "", ""),
    ("POSITION", "POSITION('a' IN t)", "", "STRPOS(t, 'a')"), ("CONTAINS", "CONTAINS(t, 'as')", "", None), ("STARTS_WITH", "STARTS_WITH(t, 'TK')", "", ""), ("ENDS_WITH", "ENDS_WITH(t, 'k')", "", ""), ("CONCAT", "CONCAT(t, '/', t)", "", ""), ("||", "t || '-' || t", "", ""),
    ("LPAD", "LPAD(t, 20, '0')", "", None), ("RPAD", "RPAD(t, 20, '0')", "", None), ("SPLIT_PART", "SPLIT_PART(t, '-', 2)", "", ""), ("REVERSE", "REVERSE(t)", "", ""), ("REPEAT", "REPEAT(t, 2)", "", None),
    ("REGEXP_LIKE", "REGEXP_LIKE(t, '[0-9]7')", "REGEXP_MATCHES(t, '[0-9]7')", ""), ("REGEXP_REPLACE", "REGEXP_REPLACE(t, '[0-9]+', '#')", "", None), ("REGEXP_SUBSTR", "REGEXP_SUBSTR(t, '[0-9]+')", "NULLIF(REGEXP_EXTRACT(t, '[0-9]+'), '')", None), ("REGEXP_COUNT", "REGEXP_COUNT(t, '[aeiou]')", "LENGTH(REGEXP_REPLACE(t, '[^aeiou]', '', 'g'))", None),
    ("LIKE", "t LIKE '%a%'", "", ""), ("LIKE in the middle", "t LIKE 'T%-%7%'", "", ""), ("IN", "t IN ('oak', 'ash')", "", ""), ("< of texts", "t < 'm'", "", ""),
    ("+", "i + j", "", ""), ("* of decimals", "d * 1.25", "", None), ("/", "f / j", "", ""), ("%", "i % 7", "", ""), ("ABS", "ABS(f)", "", ""), ("SIGN", "SIGN(i)", "", ""), ("ROUND", "ROUND(f * 0.7317e0, 1)", "ROUND(f * 0.7317, 1)", "ROUND(f * 0.7317, 1)"), ("ROUND of decimals", "ROUND(d, 1)", "", None), ("TRUNC", "TRUNC(f)", "", None), ("CEILING", "CEILING(f)", "CEIL(f)", "CEIL(f)"), ("FLOOR", "FLOOR(f)", "", ""),
    ("FLOOR of decimals", "FLOOR(d)", "", None), ("MOD", "MOD(i, 7)", "", ""), ("DIV", "DIV(i, 7)", "i // 7", None), ("POWER", "POWER(f, 2)", "", ""), ("SQRT", "SQRT(f)", "", ""), ("EXP", "EXP(-f)", "", ""), ("LN", "LN(f + 1)", "", ""), ("LOG10", "LOG10(f + 1)", "", ""), ("WIDTH_BUCKET", "WIDTH_BUCKET(f, 0, 100, 20)", "CASE WHEN f < 0 THEN 0 WHEN f >= 100 THEN 21 ELSE CAST(FLOOR(f / 5) AS BIGINT) + 1 END", None),
    ("EXTRACT YEAR", "EXTRACT(YEAR FROM y)", "", ""), ("EXTRACT MONTH", "EXTRACT(MONTH FROM y)", "", ""), ("EXTRACT ISODOW", "EXTRACT(ISODOW FROM y)", "", None), ("EXTRACT HOUR", "EXTRACT(HOUR FROM w)", "", ""), ("DATE_TRUNC", "DATE_TRUNC('month', y)", "CAST(DATE_TRUNC('month', y) AS DATE)", ""), ("DATE_TRUNC of moments", "DATE_TRUNC('hour', w)", "", ""),
    ("MAKE_DATE", "MAKE_DATE(EXTRACT(YEAR FROM y), 1, 15)", "", None), ("DATE_DIFF", "DATE_DIFF('month', y, DATE '2025-01-01')", "", None), ("INTERVAL", "y + INTERVAL '1' MONTH", "CAST(y + INTERVAL '1' MONTH AS DATE)", "y + INTERVAL '1 month'"), ("date + days", "y + 30", "", None),
    ("CAST text to INTEGER", "CAST(n AS INTEGER)", "CAST(n AS BIGINT)", "CAST(n AS BIGINT)"), ("CAST text to NUMBER", "CAST(a AS NUMBER)", "CAST(a AS DOUBLE)", "CAST(a AS DOUBLE)"), ("CAST text to DECIMAL", "CAST(a AS DECIMAL(12, 2))", "", None), ("CAST text to DATE", "CAST(v AS DATE)", "", ""), ("CAST by a template", "CAST(v AS DATE FORMAT 'YYYY-MM-DD')", "CAST(STRPTIME(v, '%Y-%m-%d') AS DATE)", "CAST(v AS DATE)"),
    ("CAST INTEGER to text", "CAST(i AS TEXT)", "CAST(i AS VARCHAR)", "CAST(i AS VARCHAR)"), ("CAST NUMBER to text", "CAST(f AS TEXT)", "CAST(f AS VARCHAR)", "CAST(f AS VARCHAR)"), ("CAST DECIMAL to text", "CAST(d AS TEXT)", "CAST(d AS VARCHAR)", None), ("CAST DATE to text", "CAST(y AS TEXT FORMAT 'YYYY-MM')", "STRFTIME(y, '%Y-%m')", "STRFTIME(y, '%Y-%m')"),
    ("CASE", "CASE WHEN i > 20 THEN t ELSE 'other' END", "", ""), ("COALESCE", "COALESCE(g, 0e0)", "COALESCE(g, 0)", "COALESCE(g, 0.0)"), ("NULLIF", "NULLIF(i, 3)", "", ""), ("GREATEST", "GREATEST(i, j)", "", ""), ("LEAST", "LEAST(f, 20e0)", "LEAST(f, 20)", "LEAST(f, 20.0)"), ("IS DISTINCT FROM", "i IS DISTINCT FROM j", "", None), ("BETWEEN", "i BETWEEN 3 AND 30", "", ""),
)  # fmt: skip


def table(rows: int, different: int) -> pa.Table:
    """Columns of every type, with so many different values."""
    rng = np.random.default_rng(different)
    at = rng.integers(0, different, rows)
    woods = np.array(["oak", "ash", "elm", "larch", "spruce"], dtype=object)
    texts = np.array([f"TK-{one:06d}-{woods[one % 5]}" for one in range(different)], dtype=object)
    days = (np.datetime64("2024-01-01") + np.arange(different) % 20_000).astype("datetime64[D]")
    cents = at * 7 % 9_999_999
    pairs = np.stack([cents, np.zeros(rows, np.int64)], axis=1)
    return pa.table({
        "t": texts[at], "i": at, "j": at % 97 + 1, "f": cents / 100, "g": pa.array(cents / 100, mask=at % 10 == 0), "d": pa.Array.from_buffers(pa.decimal128(18, 2), rows, [None, pa.py_buffer(pairs)]),
        "y": days[at], "w": (np.datetime64("2024-01-01", "us") + at.astype(np.int64) * 61_000_000), "n": np.char.mod("%d", at).astype(object), "a": np.char.mod("%.2f", cents / 100).astype(object), "v": days.astype(str).astype(object)[at],
    })  # fmt: skip


def least(work: Any, repeats: int) -> float:
    """The least of several times, in milliseconds."""
    times = []
    for _ in range(repeats):
        begin = time.perf_counter()
        work()
        times.append(time.perf_counter() - begin)
    return min(times) * 1000


# Why some take more than twice the time of the faster one.
REASONS = {
    "of some ten milliseconds, a good part is the question itself: its formula read and checked, rows cut into slices, faults looked for": (
        "IN", "< of texts", "LEAST", "GREATEST", "COALESCE", "NULLIF", "CEILING", "FLOOR", "ABS", "SIGN", "/", "BETWEEN", "+", "date + days", "CHAR_LENGTH", "STARTS_WITH", "ENDS_WITH", "LIKE", "EXP", "LN",
    ),
    "values for which there is no result are faults with their rows, which has to be looked for before the kernel runs": ("SQRT", "LOG10", "POWER"),
    "half goes away from zero, by the decimal digits that the number shows": ("ROUND", "TRUNC"),
    "Arrow has no kernel with the sign of the dividend and a fault for zero; NumPy takes several passes": ("%", "MOD", "DIV", "WIDTH_BUCKET", "MAKE_DATE"),
    "128 bits are taken down to 64 where they fit, and every result is looked at for its digits": ("* of decimals", "ROUND of decimals", "CAST text to DECIMAL"),
    "Arrow searches a regular expression in each text as it is; several wildcards are one too": ("LIKE in the middle", "REGEXP_LIKE"),
    "one kernel call for each different text searched for, or a kernel that looks at every place": ("REPLACE by a column", "POSITION"),
    "every byte is held against the template, so that nothing else than a date is taken for one": ("CAST text to DATE", "CAST by a template", "CAST text to INTEGER"),
    "a capital after what is neither letter nor digit: six passes over the bytes": ("INITCAP",),
    "different days are written one after the other where they hardly repeat": ("CAST DATE to text",),
}  # fmt: skip


def main() -> None:
    """Compare, time, write."""
    global called
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--rows", type=int, default=1_000_000)
    options.add_argument("--repeats", type=int, default=5)
    options.add_argument("--only", default="")
    given = options.parse_args()
    lines = ["| function | kernels of Arrow | repeating: oak ms | duckdb | polars | hardly repeating: oak ms | duckdb | polars | times the faster |", "|---|---|---:|---:|---:|---:|---:|---:|---:|"]  # fmt: skip
    database = duckdb.connect()
    database.execute(f"set threads = {os.cpu_count()}")
    slow: list[tuple[float, str]] = []
    tables = [table(given.rows, 50), table(given.rows, given.rows)]
    for name, ours, duck, other in CALLS:
        if given.only and given.only.casefold() not in name.casefold():
            continue
        cells, worst, called = [], 0.0, None
        for data in tables:
            source = oak.Source.from_table(data, name="R")
            called = []
            mine = source.rows([("c", ours)]).table
            kernels, called = [one for one in called if one not in HELPERS], None
            own = least(lambda source=source, ours=ours: source.rows([("c", ours)]), given.repeats)
            database.register("r", data)
            frame = pl.from_arrow(data)
            others = []
            for who, sql in (("duckdb", duck), ("polars", other)):
                if sql is None:
                    others.append(None)
                    continue
                statement = f"select {sql or ours} as c from {'r' if who == 'duckdb' else 'self'}"
                ask = (lambda s=statement: database.execute(s).to_arrow_table()) if who == "duckdb" else (lambda s=statement, frame=frame: frame.sql(s).to_arrow())  # fmt: skip
                try:
                    answer = ask()
                except Exception:
                    others.append(None)
                    continue
                said = engine.different(mine, answer.cast(pa.schema([("c", pa.string())])) if str(answer.schema.types[0]) in ("string_view", "large_string") else answer, ordered=True)  # fmt: skip
                others.append(None if said else least(ask, given.repeats))
                if said:
                    print(f"{name}: {who} differs: {said}", file=sys.stderr)
            known = [one for one in others if one is not None]
            worst = max(worst, own / min(known)) if known else worst
            cells += [f"{own:.1f}", *("" if one is None else f"{one:.1f}" for one in others)]
        if worst > 2:
            slow.append((worst, name))
        shown = ", ".join(kernels[:4]) or "NumPy"
        lines.append(f"| {name} | {shown} | " + " | ".join(cells) + f" | {f'{worst:.1f}' if worst else ''} |")
        print(lines[-1], file=sys.stderr, flush=True)
    told = {one[0].split()[0] for one in CALLS}
    missing = sorted(
        one.name for one in LIBRARY.entries.values() if not one.aggregate and not one.window and one.name not in told
    )
    head = f"# Functions, as measured\n\nOne run of `python bench/functions.py`: {given.rows:,} values in memory, {os.cpu_count()} cores, the least of {given.repeats} times; answers were compared first. Repeating: 50 distinct values.\n\n"
    tail = (
        "\n\nThe reasons below were read from the code; they were not measured one by one.\n\nMore than twice the time of the faster one: "
        + (", ".join(f"{name} ({ratio:.1f})" for ratio, name in sorted(slow, reverse=True)) or "none")
        + ".\n"
    )
    why = {name: reason for reason, names in REASONS.items() for name in names}
    for reason in dict.fromkeys(why.get(name, "no reason is known") for _, name in slow):
        names = ", ".join(name for _, name in slow if why.get(name, "no reason is known") == reason)
        tail += f"\n- {names}: {reason}."
    tail += f"\n\nNot in the table: {', '.join(missing) or 'none'}.\n"
    if not given.only:
        (DOCS / "benchmarks_functions.md").write_text(head + "\n".join(lines) + tail, encoding="utf-8")
    print(tail)


if __name__ == "__main__":
    main()
