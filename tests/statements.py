"""Statements drawn at random, as clients of PostgreSQL write them, over a table with all types, nulls and odd texts: what two servers answer can be compared."""

from __future__ import annotations

import datetime as dt
import random
from decimal import Decimal
from typing import Any

import pyarrow as pa

COLUMNS = {"at": "bigint", "i": "bigint", "d": "numeric(38,2)", "f": "double precision", "b": "boolean", "t": "text", "k": "text", "y": "date", "w": "timestamp"}  # fmt: skip
ARROW = {"bigint": pa.int64(), "numeric(38,2)": pa.decimal128(38, 2), "double precision": pa.float64(), "boolean": pa.bool_(), "text": pa.string(), "date": pa.date32(), "timestamp": pa.timestamp("us")}  # fmt: skip
# Expressions of rows by type; what stands in braces is drawn again.
ROW: dict[str, tuple[str, ...]] = {
    "i": ("i", "at", "i + {i}", "-({i})", "abs({i})", "coalesce({i}, 0)", "char_length({t})", "extract(year from {y})::bigint", "cast({d} as bigint)", "case when {b} then {i} else 0 end", "3"),
    "d": ("d", "d + {d}", "{d} - i", "round({d}, 1)", "coalesce({d}, 0)", "1.25", "nullif({d}, 0)"),
    "f": ("f", "f * 2", "coalesce({f}, 0.5)"),
    "b": ("b", "{i} > 3", "{d} between -1 and 5.5", "t like '%a%'", "k in ('oak', 'ash')", "k not in ('oak')", "y >= '2026-02-15'", "w < '2026-03-01 10:00:00'", "{t} is null", "not {b}", "{b} is true", "({b} or {b})", "({b} and {b})",
          "i = any(array[1, 2, 3])", "{y} = date '2026-02-03'", "{t} = {t}", "i = '3'", "d in (1.25, 2)", "k <> ''"),
    "t": ("t", "k", "upper({t})", "t || k", "left({t}, 2)", "substring({t} from 2 for 2)", "replace({t}, 'a', 'bb')", "coalesce({t}, 'none')", "cast({i} as text)", "trim({t})", "'it''s'"),
    "y": ("y", "y + 3", "cast(w as date)", "coalesce({y}, date '2026-03-31')"),
    "w": ("w", "date_trunc('month', w)", "w + interval '3' hour", "w - interval '2 days'"),
}  # fmt: skip
GROUP: dict[str, tuple[str, ...]] = {
    "i": ("count(*)", "count({t})", "sum({i})", "count(distinct {t})", "count(*) filter (where {b})", "max({i})", "sum({i}) filter (where {b})"),
    "d": ("sum({d})", "min({d})", "max({d}) - min({d})", "coalesce(sum({d}), 0)", "sum(distinct {d})"),
    "f": ("avg({i})::double precision", "avg({f})", "sum({d})::double precision / nullif(count(*), 0)"),
    "t": ("min({t})", "max({t})", "upper(min({t}))"),
    "b": ("bool_or({b})", "bool_and({b})", "count(*) > 5", "sum({d}) >= 10"),
    "y": ("max({y})",),
}  # fmt: skip


def rows(chance: random.Random, count: int) -> pa.Table:
    """A table of the columns."""
    words = ["oak", "Oak", "ash 12", "", "日本", "a-b", " x ", "it's", None]
    makes: dict[str, Any] = {
        "i": lambda _: chance.choice([None, *range(-3, 6)]),
        "at": lambda at: at,
        "d": lambda _: chance.choice([None, Decimal(chance.randrange(-500, 900)) / 100]),
        "f": lambda _: chance.choice([None, 0.0, chance.randrange(-40, 90) / 8]),
        "b": lambda _: chance.choice([None, True, False]),
        "t": lambda _: chance.choice(words),
        "k": lambda _: chance.choice(["oak", "ash", "", None]),
        "y": lambda _: chance.choice([None, dt.date(2026, 1, 1) + dt.timedelta(chance.randrange(70))]),
        "w": lambda _: chance.choice([None, dt.datetime(2026, 2, 27, 23, 59, 58, 500_000) + dt.timedelta(hours=chance.randrange(200))]),
    }  # fmt: skip
    return pa.table({name: pa.array([makes[name](at) for at in range(count)], ARROW[kind]) for name, kind in COLUMNS.items()})  # fmt: skip


def expression(chance: random.Random, kind: str, of: dict[str, tuple[str, ...]] = ROW, depth: int = 2) -> str:
    """An expression of a type."""
    choices = [one for one in of[kind] if depth > 0 or "{" not in one] or list(of[kind])
    text = chance.choice(choices)
    for name in ROW:
        while f"{{{name}}}" in text:
            inner = expression(chance, name, ROW, depth - 1)
            text = text.replace(f"{{{name}}}", inner if inner.replace("_", "").isalnum() else f"({inner})", 1)
    return text


def statement(chance: random.Random) -> tuple[str, bool]:
    """A statement over `events`, and whether the order of its rows is wholly said."""
    kinds = [*ROW]
    where = f" where {expression(chance, 'b')}" if chance.random() < 0.5 else ""
    alias = chance.choice(["", " e", " as e"])
    table = chance.choice(["events", '"events"', "general.events"]) + alias
    form = chance.random()
    if form < 0.05:
        return f"select g.c0, g.c0 as again from (select k, b, count(*) as c0 from {table}{where} group by 1, 2) g", False  # fmt: skip
    if form < 0.1:
        text, ordered = _of_groups(chance, table, where)
        return f"select * from ({text}) g", ordered
    if form < 0.4:
        return _of_rows(chance, kinds, table, where)
    if form < 0.5:
        return f"select distinct {expression(chance, chance.choice(kinds), depth=1)} as v, b from {table}{where}", False
    return _of_groups(chance, table, where)


def _of_rows(chance: random.Random, kinds: list[str], table: str, where: str) -> tuple[str, bool]:
    items = [expression(chance, chance.choice(kinds)) + (chance.choice([f" as c{at}", f" as C{at}", f' as "C {at}"', f" c{at}"]) if chance.random() < 0.5 else "") for at in range(chance.randrange(1, 4))]  # fmt: skip
    if not where and chance.random() < 0.3:
        items.append(chance.choice(["row_number() over (partition by k order by at)", "sum(i) over (partition by b)", "lag(d) over (order by at)", "rank() over (order by d desc)"]))  # fmt: skip
    text = f"select {'*, ' if chance.random() < 0.1 else ''}{', '.join(items)} from {table}{where}"
    ordered = chance.random() < 0.5
    text += f" order by {chance.choice(['', 'd desc, ', 't, ', 'b desc nulls first, ', 'k nulls last, '])}at" if ordered else ""  # fmt: skip
    if ordered and chance.random() < 0.5:
        text += f" limit {chance.randrange(20)}" + (f" offset {chance.randrange(9)}" if chance.random() < 0.5 else "")
    if chance.random() < 0.1:
        text = f"select * from ({text}) as inside"
    return text, ordered


def _of_groups(chance: random.Random, table: str, where: str) -> tuple[str, bool]:
    keys = chance.sample(["k", "b", "upper(k)", "date_trunc('month', w)", "i > 2", "y", "coalesce(k, 'none')"], chance.randrange(0, 3))  # fmt: skip
    titled = [f"{one} as key{at}" if chance.random() < 0.4 else one for at, one in enumerate(keys)]
    by = [str(at + 1) if chance.random() < 0.3 else (f"key{at}" if " as key" in titled[at] and chance.random() < 0.3 else one) for at, one in enumerate(keys)]  # fmt: skip
    items = [expression(chance, chance.choice([*GROUP]), GROUP) for _ in range(chance.randrange(1, 4))]
    if keys and chance.random() < 0.4:
        first = keys[0]
        items.append(chance.choice([f"sum(sum(d)) over (order by {first})", f"rank() over (order by count(*) desc, {first})", "count(*) over ()", "sum(count(*)) over ()", f"coalesce(cast({first} as text), 'none') || '!'", f"case when {first} is null then 0 else count(*) end"]))  # fmt: skip
    text = f"select {', '.join([*titled, *items])} from {table}{where}"
    text += f" group by {', '.join(by)}" if by else ""
    text += f" having {expression(chance, 'b', GROUP)}" if chance.random() < 0.3 else ""
    ordered = bool(by) and chance.random() < 0.5
    text += " order by " + ", ".join(f"{at + 1}{chance.choice(['', ' desc'])}" for at in range(len(by))) if ordered else ""  # fmt: skip
    if ordered and chance.random() < 0.3:
        text += f" limit {chance.randrange(1, 6)}"
    return text, ordered
