"""Window functions against plain Python: keys of every type, with nulls and ties, however the rows are cut and whatever memory there is."""

from __future__ import annotations

import datetime as dt
import itertools
import math
import random
import statistics
import tempfile
import unittest
from collections.abc import Callable, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.engine.options import overridden

Row = dict[str, Any]
ROWS = 150
WAYS = ({"threads": 1, "rows": 7}, {"threads": 2, "rows": 64}, {"threads": 1, "memory": 4000}, {})


def made(chance: random.Random) -> list[Row]:
    """Rows with keys of every type, each with nulls and ties; `Id` is the row's number."""

    def some(values: Sequence[Any]) -> Any:
        return None if chance.random() < 0.12 else chance.choice(values)

    return [
        {
            "Id": at,
            "Text": some(["", "a", "b", "é", "a text of more than eight bytes"]),
            "Whole": some([-(2**63), -1, 0, 2, 2**63 - 1]),
            "Number": some([-1.5, -0.0, 0.0, 0.25, 1e300]),
            "Decimal": some([Decimal("-0.01"), Decimal("0.00"), Decimal("99999999999999999999.99")]),
            "Day": some([dt.date(1, 1, 1), dt.date(2026, 3, 1), dt.date(9999, 12, 31)]),
            "At": some([dt.datetime(1969, 12, 31, 23), dt.datetime(2026, 3, 1, 8)]),
            "Flag": some([True, False]),
            "Value": some(range(-3, 9)),
        }
        for at in range(ROWS)
    ]


def key(value: Any) -> tuple[int, Any]:
    """How values are ordered going up: nulls come last, texts by their bytes."""
    return (1, 0) if value is None else (0, value.encode() if isinstance(value, str) else value)


def ordered(rows: list[Row], part: str, by: str, down: bool) -> list[list[Row]]:
    """The rows of each partition in the order of a key, then as they come; equal values of a partition key are one."""
    parts: dict[Any, list[Row]] = {}
    for row in rows:
        parts.setdefault(key(row[part]), []).append(row)
    return [
        sorted(own, key=lambda row: key(row[by]), reverse=False) if not down else _down(own, by)
        for own in parts.values()
    ]


def _down(rows: list[Row], by: str) -> list[Row]:
    present = sorted({key(row[by]) for row in rows}, reverse=True)
    return sorted(rows, key=lambda row: present.index(key(row[by])))


def peers(own: list[Row], by: str) -> list[list[Row]]:
    """The rows of a partition that have one key."""
    return [[*some] for _, some in itertools.groupby(own, key=lambda row: key(row[by]))]


def numbered(own: list[Row], by: str) -> list[Any]:
    """1, 2, 3."""
    return [*range(1, len(own) + 1)]


def ranked(own: list[Row], by: str) -> list[Any]:
    """The number of the first row with the same key."""
    starts = itertools.accumulate((len(some) for some in peers(own, by)), initial=1)
    return [start for start, some in zip(starts, peers(own, by), strict=False) for _ in some]


def densely_ranked(own: list[Row], by: str) -> list[Any]:
    """The number of the key."""
    return [at for at, some in enumerate(peers(own, by), 1) for _ in some]


def total(values: list[Any]) -> Any:
    """The sum of what is there, or nothing."""
    present = [one for one in values if one is not None]
    return sum(present) if present else None


def running(own: list[Row], by: str) -> list[Any]:
    """The total up to the last row with the same key."""
    made, before = [], []
    for some in peers(own, by):
        before += [row["Value"] for row in some]
        made += [total(before)] * len(some)
    return made


def least_so_far(own: list[Row], by: str) -> list[Any]:
    """The least of the rows up to each."""
    values = [row["Value"] for row in own]
    return [min((one for one in values[: at + 1] if one is not None), default=None) for at in range(len(values))]


def three_counted(own: list[Row], by: str) -> list[Any]:
    """How many values there are among a row and its neighbours."""
    values = [row["Value"] for row in own]
    return [sum(one is not None for one in values[max(at - 1, 0) : at + 2]) for at in range(len(values))]


def of_frame(before: int, after: int, told: Callable[[list[Any]], Any]) -> Callable[[list[Row], str], list[Any]]:
    """What is said of the values of the rows around a row."""

    def of(own: list[Row], by: str) -> list[Any]:
        values = [row["Value"] for row in own]
        frames = [values[max(at - before, 0) : at + after + 1] for at in range(len(own))]
        return [told([one for one in some if one is not None]) for some in frames]

    return of


def shifted(rows: int, otherwise: Any = None) -> Callable[[list[Row], str], list[Any]]:
    """The value so many rows before (after, where negative)."""

    def of(own: list[Row], by: str) -> list[Any]:
        places = [at - rows for at in range(len(own))]
        return [own[at]["Value"] if 0 <= at < len(own) else otherwise for at in places]

    return of


# A window function, whether it also needs the row's number in its order so that no tie is left open, and what Python says.
TOLD: list[tuple[str, bool, Callable[[list[Row], str], list[Any]]]] = [
    ("ROW_NUMBER() OVER ({})", True, numbered),
    ("RANK() OVER ({})", False, ranked),
    ("DENSE_RANK() OVER ({})", False, densely_ranked),
    ("SUM(Value) OVER ({})", False, running),
    ("MIN(Value) OVER ({} ROWS UNBOUNDED PRECEDING)", True, least_so_far),
    ("COUNT(Value) OVER ({} ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING)", True, three_counted),
    ("LAG(Value) OVER ({})", True, shifted(1)),
    ("LAG(Value, 3, 0) OVER ({})", True, shifted(3, 0)),
    ("LEAD(Value, 2) OVER ({})", True, shifted(-2)),
    ("FIRST_VALUE(Value) OVER ({})", True, lambda own, by: [own[0]["Value"]] * len(own)),
    ("MEDIAN(Value) OVER ({} ROWS BETWEEN 4 PRECEDING AND CURRENT ROW)", True, of_frame(4, 0, lambda some: statistics.median(some) if some else None)),
    ("COUNT(DISTINCT Value) OVER ({} ROWS BETWEEN 2 PRECEDING AND 3 FOLLOWING)", True, of_frame(2, 3, lambda some: len({*some}))),
    ("COUNT(*) OVER ({} ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)", True, lambda own, by: [len(own)] * len(own)),
]  # fmt: skip


class Windows(unittest.TestCase):
    def test_against_plain_python(self) -> None:
        chance = random.Random(20261128)
        rows = made(chance)
        kinds = {"Whole": pa.int64(), "Decimal": pa.decimal128(38, 2), "At": pa.timestamp("us"), "Value": pa.int64()}
        table = pa.table({name: pa.array([row[name] for row in rows], kinds.get(name)) for name in rows[0]})
        source = oak.Source.from_table(table, name="Rows")
        keys = [name for name in rows[0] if name not in ("Id", "Value")]
        for at, (part, by) in enumerate(itertools.permutations(keys, 2)):
            down = at % 2 == 1
            wanted: list[dict[int, Any]] = []
            shown = []
            for formula, unique, told in TOLD:
                order = f"PARTITION BY {part} ORDER BY {by}{' DESC' if down else ''}{', Id' if unique else ''}"
                shown.append((f"c{len(shown)}", formula.format(order)))
                values: dict[int, Any] = {}
                for own in ordered(rows, part, by, down):
                    values |= {row["Id"]: one for row, one in zip(own, told(own, by), strict=True)}
                wanted.append(values)
            for way in (WAYS[at % len(WAYS)], WAYS[(at + 1) % len(WAYS)]):
                with overridden(**way):
                    answer = source.rows(shown).table
                for number, (_, text) in enumerate(shown):
                    with self.subTest(text, way=way):
                        self.assertEqual(
                            answer.column(number).to_pylist(), [wanted[number][one] for one in range(ROWS)]
                        )

    def test_an_aggregate_over_whole_partitions(self) -> None:
        rows = made(random.Random(7))
        table = pa.table(
            {name: pa.array([row[name] for row in rows]) for name in ("Text", "Flag", "Number", "Id", "Value")}
        )
        source = oak.Source.from_table(table, name="Rows")
        told: list[tuple[str, Callable[[list[Any]], Any] | None]] = [
            ("SUM(Value)", total),
            ("COUNT(Value)", len),
            ("MAX(Value)", lambda values: max(values, default=None)),
            ("AVG(Value)", lambda values: statistics.mean(values) if values else None),
            ("SUM(Value) FILTER (WHERE Id < 70)", None),
        ]  # fmt: skip
        for part in (["Text"], ["Text", "Flag"], ["Number"], []):
            by = f"PARTITION BY {', '.join(part)}" if part else ""
            for way in WAYS:
                with overridden(**way):
                    answer = source.rows([(text, f"{text} OVER ({by})") for text, _ in told]).table.to_pylist()
                for row, found in zip(rows, answer, strict=True):
                    own = [one for one in rows if all(key(one[name]) == key(row[name]) for name in part)]
                    for text, compute in told:
                        values = [one["Value"] for one in own if one["Value"] is not None]
                        if compute is not None:
                            wanted = compute(values)
                        else:
                            wanted = total([one["Value"] for one in own if one["Id"] < 70])
                        if isinstance(wanted, float):
                            self.assertAlmostEqual(found[text], wanted, 12)
                        else:
                            self.assertEqual(found[text], wanted, (text, part, way, row["Id"]))

    def test_what_goes_wrong_in_a_partition_goes_wrong_in_each_of_its_rows(self) -> None:
        most = 2**63 - 1
        source = oak.Source.from_table(pa.table({"K": ["a", "b", "a", "c"], "V": [most, most, most, 1]}), name="Rows")
        answer = source.rows([("Sum", "SUM(V) OVER (PARTITION BY K)")])
        self.assertEqual(answer.table.column("Sum").to_pylist(), [None, most, None, 1])
        self.assertEqual([(one.rows, [row for row, _ in one.samples]) for one in answer.faults], [(2, [1, 3])])


def known_before(values: Sequence[Any], at: int, steps: int) -> Any:
    """The value so many rows that are not null before (after, where negative); the row's own at 0."""
    if not steps:
        return values[at]
    rest = [one for one in (values[:at][::-1] if steps > 0 else values[at + 1 :]) if one is not None]
    return rest[abs(steps) - 1] if len(rest) >= abs(steps) else None


# A window, and what it is of the values of a partition in order, at a place, with the keys of the order.
MORE: tuple[tuple[str, Callable[[Sequence[Any], Sequence[Any], int], Any]], ...] = (
    ("LAG(Value) RESPECT NULLS OVER ({})", lambda values, keys, at: values[at - 1] if at else None),
    ("LAG(Value) IGNORE NULLS OVER ({})", lambda values, keys, at: known_before(values, at, 1)),
    ("LAG(Value, 2) IGNORE NULLS OVER ({})", lambda values, keys, at: known_before(values, at, 2)),
    ("LEAD(Value) IGNORE NULLS OVER ({})", lambda values, keys, at: known_before(values, at, -1)),
    ("LEAD(Value, 3, -99) IGNORE NULLS OVER ({})", lambda values, keys, at: -99 if sum(one is not None for one in values[at + 1 :]) < 3 else known_before(values, at, -3)),
    ("FIRST_VALUE(Text) IGNORE NULLS OVER ({})", lambda values, keys, at: next((one for one in values if one is not None), None)),
    ("LAST_VALUE(Text) IGNORE NULLS OVER ({} ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW)", lambda values, keys, at: next((one for one in values[at::-1] if one is not None), None)),
    ("LAST_VALUE(Value) IGNORE NULLS OVER ({} ROWS BETWEEN 2 PRECEDING AND 1 FOLLOWING)", lambda values, keys, at: next((one for one in values[max(at - 2, 0) : at + 2][::-1] if one is not None), None)),
    ("NTILE(3) OVER ({})", lambda values, keys, at: next(part for part in range(1, 4) if at < sum(len(values) // 3 + (one < len(values) % 3) for one in range(part)))),
    ("LAG(Value) RESPECT NULLS OVER ({})", lambda values, keys, at: values[at - 1] if at else None),
    ("PERCENT_RANK() OVER ({})", lambda values, keys, at: keys.index(keys[at]) / max(len(keys) - 1, 1)),
    ("CUME_DIST() OVER ({})", lambda values, keys, at: (len(keys) - keys[::-1].index(keys[at])) / len(keys)),
)  # fmt: skip
WHOLE: tuple[tuple[str, Callable[[Sequence[Any]], Any]], ...] = (
    ("MEDIAN(Value) OVER (PARTITION BY Text)", lambda values: statistics.median(values) if values else None),
    ("COUNT(DISTINCT Value) OVER (PARTITION BY Text)", lambda values: len({*values})),
    ("SUM(DISTINCT Value) OVER (PARTITION BY Text)", lambda values: sum({*values}) if values else None),
    ("MODE(Value) OVER (PARTITION BY Text)", lambda values: min((one for one in values if values.count(one) == max(map(values.count, values))), default=None)),
    ("MAX_BY(Value, Value) OVER (PARTITION BY Text)", lambda values: max(values, default=None)),
    ("PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY Value DESC) OVER (PARTITION BY Text)", lambda values: statistics.median(values) if values else None),
    ("PERCENTILE_DISC(0.25) WITHIN GROUP (ORDER BY Value) OVER (PARTITION BY Text)", lambda values: sorted(values)[max(math.ceil(len(values) / 4) - 1, 0)] if values else None),
    ("PERCENTILE_DISC(1) WITHIN GROUP (ORDER BY Value) FILTER (WHERE Value < 0) OVER (PARTITION BY Text)", lambda values: max((one for one in values if one < 0), default=None)),
    ("LISTAGG(CAST(Value AS TEXT), '+') WITHIN GROUP (ORDER BY Value DESC) OVER (PARTITION BY Text)", lambda values: "+".join(map(str, sorted(values, reverse=True))) or None),
)  # fmt: skip


class MoreWindows(unittest.TestCase):
    def test_nulls_passed_over_shares_and_whole_partitions(self) -> None:
        for seed in range(4):
            chance = random.Random(seed)
            rows = made(chance)
            source = oak.Source.from_table(pa.Table.from_pylist(rows), name="T")
            for way in WAYS:
                with overridden(**way):
                    for text, plain in MORE:
                        keys = ("Flag", "Id") if "PERCENT" not in text and "CUME" not in text else ("Value",)
                        own = text.format(f"PARTITION BY Whole ORDER BY {', '.join(keys)}")
                        column = "Text" if "(Text)" in text else "Value"
                        got = source.rows([("x", own)]).table.column("x").to_pylist()
                        for _, part in itertools.groupby(
                            sorted(rows, key=lambda row: (row["Whole"] is None, row["Whole"] or 0)),
                            key=lambda row: row["Whole"],
                        ):
                            ordered = sorted(
                                part,
                                key=lambda row: [
                                    (row[key] is None, row[key] if row[key] is not None else 0) for key in keys
                                ],
                            )
                            values, ranks = (
                                [row[column] for row in ordered],
                                [tuple(row[key] for key in keys) for row in ordered],
                            )
                            for at, row in enumerate(ordered):
                                if "FIRST_VALUE" in text:  # up to the row itself
                                    wanted = plain(values[: at + 1], ranks, at)
                                else:
                                    wanted = plain(values, ranks, at)
                                self.assertEqual(got[rows.index(row)], wanted, (own, way, row["Id"]))
                    for text, of_group in WHOLE:
                        got = source.rows([("x", text)]).table.column("x").to_pylist()
                        for row, value in zip(rows, got, strict=True):
                            self.assertEqual(
                                value,
                                of_group(
                                    [
                                        one["Value"]
                                        for one in rows
                                        if one["Text"] == row["Text"] and one["Value"] is not None
                                    ]
                                ),
                                (text, way),
                            )

    def test_however_a_file_is_cut(self) -> None:
        """Windows in fields, conditions and the source's own filter over Parquet in row groups of every size, as over a table."""
        chance = random.Random(4)
        first = "(FIRST_VALUE(Text) OVER (PARTITION BY Part ORDER BY Id)) < 'b'"
        before = "LAG(Value) OVER (ORDER BY Id) IS NOT NULL"
        table = pa.table({"Id": [*range(30)], "Part": [chance.choice("xyz") for _ in range(30)], "Text": [chance.choice(["a", "b", "c", None]) for _ in range(30)], "Value": [chance.choice([1, 2, None]) for _ in range(30)]})  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "t.oak.toml")
            fields = "".join(f'[[field]]\nname = "{name}"\ncolumn = "{name}"\ntype = "{"text" if name in ("Part", "Text") else "integer"}"\n' for name in table.column_names)  # fmt: skip
            path.write_text(f'[source]\nname = "T"\n[origin]\nkind = "parquet"\npath = "t.parquet"\n{fields}')
            whole = table
            for size, always, where, threads in itertools.product((0, 1, 2, 7, 30), (None, first, before), (None, first, before), (1, 2)):  # fmt: skip
                table = whole if size else whole.slice(0, 0)
                pq.write_table(table, Path(folder, "t.parquet"), row_group_size=size or 1)
                answers = []
                for source in (oak.Source.from_table(table, name="T"), oak.open_source(path)):
                    source = source.with_entry("filter", "A", where=always, always=True) if always else source
                    with overridden(threads=threads, rows=5):
                        rows = source.rows(
                            ["Id", ("Running", "SUM(Value) OVER (PARTITION BY Part ORDER BY Id)")], where=where
                        )
                        groups = source.tally(["Part"], ["COUNT(*)", "Value", "MAX(COUNT(*) OVER ())"], where=where)
                    answers.append((rows.to_dicts(), groups.to_dicts()))
                with self.subTest(size=size, always=always, where=where, threads=threads):
                    self.assertEqual(answers[0], answers[1])

    def test_what_cannot_be_a_window(self) -> None:
        source = oak.Source.from_table(pa.table({"a": [1], "b": [2]}), name="T")
        for formula in (
            "SUM(a) IGNORE NULLS OVER (ORDER BY b)",
            "RANK() IGNORE NULLS OVER (ORDER BY b)",
            "MEDIAN(a) OVER (ORDER BY b)",
            "COUNT(DISTINCT a) OVER (ORDER BY b)",
            "MEDIAN(a) OVER (ORDER BY b ROWS UNBOUNDED PRECEDING)",
            "PERCENT_RANK() OVER ()",
            "PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY a) OVER (ORDER BY b)",
            "PERCENTILE_CONT(b) WITHIN GROUP (ORDER BY a) OVER ()",
            "PERCENTILE_CONT(0.5) OVER ()",
        ):
            with self.subTest(formula), self.assertRaises(oak.OakError):
                source.rows([("x", formula)])
