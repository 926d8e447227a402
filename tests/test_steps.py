"""Incoming rows prepared: each step against a plain reading of what it says, over drawn rows, in every form that rows have."""

from __future__ import annotations

import csv
import json
import random
import re
import sqlite3
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.first_look.steps import effects_of, with_step, without_step
from oak_ledger.origin.spec import StepSpec
from oak_ledger.source import cache
from tests.support import FolderCase

Rows = list[dict[str, Any]]
NAMES = ("K", "Place", "A", "B", "C")


def into_rows(rows: Rows) -> Rows:
    return [
        {"K": row["K"], "Place": row["Place"], "Month": name, "Amount": row[name]} for row in rows for name in "ABC"
    ]


def into_columns(rows: Rows) -> Rows:
    """Of rows with a name and a value: K A -> one row a key, first value of each name."""
    keys: dict[Any, dict[str, Any]] = {}
    for row in rows:
        key = tuple(row[name] for name in ("Place", "B", "C"))
        made = keys.setdefault(
            key, {**dict(zip(("Place", "B", "C"), key, strict=True)), "X": None, "Y": None, "_": set()}
        )
        if row["K"] in ("X", "Y") and row["K"] not in made["_"]:
            made["_"].add(row["K"])
            made[row["K"]] = row["A"]
    return [{name: value for name, value in one.items() if name != "_"} for one in keys.values()]


def split(rows: Rows) -> Rows:
    made = []
    for row in rows:
        parts = [one.strip() or None for one in row["Place"].split("-", 1)] if row["Place"] is not None else []
        first, second = [*parts, None, None][:2]
        made.append({**{name: value for name, value in row.items() if name != "Place"}, "One": first, "Two": second})
    return made


def split_by_pattern(rows: Rows) -> Rows:
    made = []
    for row in rows:
        found = re.match(r"^([a-z]+)-(.*)$", row["Place"] or "")
        made.append(
            {
                **{name: value for name, value in row.items() if name != "Place"},
                "One": found[1] if found else None,
                "Two": (found[2].strip() or None) if found else None,
            }
        )
    return made


def put_together(rows: Rows) -> Rows:
    return [
        {
            "A": row["A"],
            "B": row["B"],
            "C": row["C"],
            "Both": "/".join(one for one in (row["K"], row["Place"]) if one) or None,
        }
        for row in rows
    ]


def filled(rows: Rows, *within: str) -> Rows:
    last: dict[Any, Any] = {}
    made = []
    for row in rows:
        key = tuple(row[name] for name in within)
        value = row["Place"] if row["Place"] is not None else last.get(key)
        last[key] = value
        made.append({**row, "Place": value})
    return made


def distinct(rows: Rows) -> Rows:
    return [*{tuple(row.values()): row for row in reversed(rows)}.values()][::-1]


def latest(rows: Rows) -> Rows:
    """The row of each key with the largest A, of equal ones the first; in their order."""
    best: dict[Any, int] = {}
    for at, row in enumerate(rows):
        known = best.get(row["K"])
        if known is None or (row["A"] is not None and (rows[known]["A"] is None or row["A"] > rows[known]["A"])):
            best[row["K"]] = at
    return [rows[at] for at in sorted(best.values())]


# A step, and what it makes of rows, said plainly.
STEPS: tuple[tuple[str, dict[str, Any], Callable[[Rows], Rows]], ...] = (
    ("columns into rows", {"columns": ["A", "B", "C"], "name": "Month", "value": "Amount"}, into_rows),
    ("columns into rows", {"columns": ["[ABC]"], "name": "Month", "value": "Amount", "nulls": False}, lambda rows: [row for row in into_rows(rows) if row["Amount"] is not None]),
    ("rows into columns", {"name": "K", "value": "A", "into": ["X", "Y"]}, into_columns),
    ("split", {"columns": ["Place"], "by": "-", "into": ["One", "Two"]}, split),
    ("split", {"columns": ["Place"], "pattern": "^([a-z]+)-(.*)$", "into": ["One", "Two"]}, split_by_pattern),
    ("put together", {"columns": ["K", "Place"], "by": "/", "into": ["Both"]}, put_together),
    ("fill down", {"columns": ["Place"]}, filled),
    ("fill down", {"columns": ["Place"], "within": ["K"]}, lambda rows: filled(rows, "K")),
    ("distinct", {}, distinct),
    ("distinct", {"within": ["K"], "order": "-A"}, latest),
    ("leave out", {"where": "A > 3 OR K = 'X'"}, lambda rows: [row for row in rows if not ((row["A"] or 0) > 3 or row["K"] == "X")]),
)  # fmt: skip
WRONG: tuple[tuple[str, dict[str, Any], str], ...] = (
    ("split", {"columns": ["Nowhere"], "by": "-", "into": ["One"]}, "there is no column 'Nowhere'"),
    ("split", {"columns": ["Place"], "into": ["One"]}, "needs either by or pattern"),
    ("split", {"columns": ["Place"], "pattern": "(", "into": ["One"]}, "cannot be used"),
    ("split", {"columns": ["Place"], "by": "-", "into": ["K"]}, "there is a column 'K' already"),
    ("fill down", {"columns": ["Place"], "where": "A > 1"}, "has no where"),
    ("leave out", {"where": "A > 'x'"}, "text"),
    ("leave out", {"where": "Zebra > 1"}, "Zebra"),
    ("columns into rows", {"columns": ["A"], "name": "N"}, "needs value"),
    ("turn", {}, "kind"),
)


def drawn(rng: random.Random, count: int) -> Rows:
    return [
        {
            "K": rng.choice(("X", "Y", "Z", None)),
            "Place": rng.choice((None, "a-b", "a - b-c", "ab", "-x", "oak-")),
            **{name: rng.choice((None, 1, 2, 5)) for name in "ABC"},
        }
        for _ in range(count)
    ]


class Steps(FolderCase):
    def forms(self, rows: Rows) -> dict[str, oak.Source]:
        """The rows as text, as text with a typed copy, as Parquet, in a database."""
        with Path("r.csv").open("w", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(NAMES)
            writer.writerows([["" if row[name] is None else row[name] for name in NAMES] for row in rows])
        kinds = {"K": pa.string(), "Place": pa.string(), **dict.fromkeys("ABC", pa.int64())}
        pq.write_table(
            pa.table({name: pa.array([row[name] for row in rows], kind) for name, kind in kinds.items()}),
            "r.parquet",
            row_group_size=3,
        )
        (self.folder / "r.db").unlink(missing_ok=True)
        base = sqlite3.connect("r.db")
        base.execute("create table r (K text, Place text, A integer, B integer, C integer)")
        base.executemany("insert into r values (?, ?, ?, ?, ?)", [[row[name] for name in NAMES] for row in rows])
        base.commit()
        base.close()
        fields = "".join(
            f'[[field]]\nname = "{name}"\ncolumn = "{name}"\ntype = "{"text" if name in ("K", "Place") else "integer"}"\n\n'
            for name in NAMES
        )
        origins = {
            "text": 'kind = "file"\npath = "r.csv"',
            "parquet": 'kind = "parquet"\npath = "r.parquet"',
            "database": 'kind = "database"\nurl = "sqlite:///r.db"\ntable = "r"',
        }
        found = {}
        for name, origin in origins.items():
            self.write(f"{name}.oak.toml", f'[source]\nname = "R"\n\n[origin]\n{origin}\n\n{fields}')
            found[name] = oak.open_source(f"{name}.oak.toml")
        return {**found, "typed copy": found["text"]}

    def test_each_step_over_drawn_rows(self) -> None:
        rng = random.Random(20261201)
        for count in (1, 6, 40):
            rows = drawn(rng, count)
            forms = self.forms(rows)
            for kind, keys, plainly in STEPS:
                for form, source in forms.items():
                    with (
                        self.subTest(kind, keys=keys, form=form),
                        mock.patch.dict(cache.MIN_BYTES, {"file": 0 if form == "typed copy" else 1 << 30}),
                    ):
                        try:
                            made = with_step(source, kind, **keys)
                        except oak.OakError as error:
                            self.assertEqual((form in ("text", "typed copy"), kind), (True, "leave out"), error)
                            continue  # in a text file all columns arrive as texts
                        wanted = plainly(rows)
                        answer = made.rows().to_dicts()
                        names = [*answer[0]] if answer else []
                        got = [tuple(as_number(row[name]) for name in names) for row in answer]
                        self.assertEqual(got, [tuple(as_number(row[name]) for name in names) for row in wanted])
                        self.assertEqual(made.tally(show=["COUNT(*)"]).value(), len(wanted))
                        self.assertEqual(
                            (effects_of(made)[0].before, effects_of(made)[0].after), (len(rows), len(wanted))
                        )
                        back = without_step(made, 1)
                        self.assertEqual({one.name for one in back.fields}, set(NAMES))

    def test_steps_that_cannot_be(self) -> None:
        source = self.forms(drawn(random.Random(1), 5))["parquet"]
        for kind, keys, said in WRONG:
            with self.subTest(kind, keys=keys):
                with self.assertRaises(oak.OakError) as caught:
                    with_step(source, kind, **keys)
                self.assertIn(said, str(caught.exception))

    def test_a_field_that_needs_a_column_keeps_the_step_from_being_added(self) -> None:
        source = self.forms(drawn(random.Random(1), 5))["parquet"].with_field("Sum", "A + B")
        with self.assertRaises(oak.OakError) as caught:
            with_step(source, "columns into rows", columns=["A", "B", "C"], name="Month", value="Amount")
        self.assertEqual(caught.exception.code, "still-used")

    def test_by_command(self) -> None:
        """Months as columns become a date and a value: added, listed, taken back."""
        self.write("m.csv", "Mill,Region,Jan 2026,Feb 2026\nLow,North - A,10,20\n,North - B,5,\nHigh,South - C,1,2\n")
        self.oak("intake", "m.csv")
        before = self.folder.joinpath("m.oak.toml").read_bytes()
        self.oak("step", "add", "m", "fill-down", "--column", "Mill")
        said = self.oak(
            "step",
            "add",
            "m",
            "columns-into-rows",
            "--column",
            "* 2026",
            "--name",
            "Month",
            "--value",
            "Volume",
            "--no-nulls",
        )
        self.assertIn("3 rows before, 5 after; 1 without a value left out", said)
        self.oak("step", "add", "m", "leave-out", "--where", "Mill = 'High'", "--dry-run")
        self.oak("field", "retype", "m", "Month", "date", "--template", "MON YYYY")
        listed = self.oak("step", "list", "m", "--width", "80")
        self.assertIn("fill down", listed)
        self.assertIn(
            "Step 2, columns into rows: 3 rows before, 5 after", " ".join(self.oak("check", "m", code=None).split())
        )
        source = oak.open_source("m.oak.toml")
        rows = source.tally(["Mill", "EXTRACT(MONTH FROM Month)"], ["SUM(Volume)"]).to_dicts()
        self.assertEqual(
            [[*row.values()] for row in rows], [["High", 1, 1], ["High", 2, 2], ["Low", 1, 15], ["Low", 2, 20]]
        )
        for _ in range(3):
            self.oak("undo", "m")
        self.assertEqual(self.folder.joinpath("m.oak.toml").read_bytes(), before)
        self.oak("step", "add", "m", "fill-down", "--column", "Mill")
        self.oak("step", "drop", "m", "1")
        self.oak("step", "drop", "m", "1", code=2)

    def test_lists_into_rows(self) -> None:
        """Drawn orders with lists of lines, in JSON and as texts elsewhere: each element a row, nothing lost unsaid."""
        rng = random.Random(20261202)
        for draw in range(12):
            orders: Rows = []
            for at in range(rng.choice((1, 5, 30))):
                lines: Any = [
                    {name: value for name, value in (("sku", rng.choice(("a", "b é", "x,y"))), ("price", rng.choice((1.5, 12, 0.1, None))), ("box", {"w": at})) if rng.random() < 0.9}
                    for _ in range(rng.choice((0, 1, 2, 3)))
                ]  # fmt: skip
                orders.append({"id": at, "lines": rng.choice((lines, lines, lines, None))})
            self.write("o.jsonl", "".join(json.dumps(one) + "\n" for one in orders))
            self.write("array.json", json.dumps(orders))
            texts = [None if one["lines"] is None else json.dumps(one["lines"]) for one in orders]
            pq.write_table(
                pa.table({"id": [one["id"] for one in orders], "lines": pa.array(texts, pa.string())}), "o.parquet"
            )
            for nulls in (True, False):
                wanted = []
                for one in orders:
                    own = one["lines"] if isinstance(one["lines"], list) else [one["lines"]] if one["lines"] else []
                    wanted += [
                        (one["id"], at, line.get("sku"), line.get("price"), line.get("box", {}).get("w"))
                        for at, line in enumerate(own, 1)
                    ]
                    wanted += [(one["id"], None, None, None, None)] if not own and nulls else []
                for path in ("o.jsonl", "array.json", "o.parquet"):
                    with self.subTest(draw=draw, nulls=nulls, path=path):
                        oak.intake(path, definition="o.oak.toml", keep_names=True).save(replace=True)
                        made = with_step(
                            oak.open_source("o"),
                            "list into rows",
                            columns=["lines"],
                            name="n",
                            into=["sku", "price", "box.w"],
                            **({} if nulls else {"nulls": False}),
                        )
                        got = [
                            tuple(as_number(value) for value in row.values())
                            for row in made.rows(["id", "n", "sku", "price", '"box.w"']).to_dicts()
                        ]
                        self.assertEqual(got, [tuple(as_number(value) for value in row) for row in wanted])
                        self.assertEqual(effects_of(made)[0].after, len(wanted))

    def test_lists_that_are_odd(self) -> None:
        self.write(
            "o.jsonl",
            '{"id": 1, "tags": ["a", 2.50, null, 12345678901234567890.123456789], "x": 1}\n{"id": 2, "tags": "plain", "x": 1}\n{"id": 3, "x": 1}\n',
        )
        self.oak("intake", "o.jsonl")
        said = self.oak("step", "add", "o", "list-into-rows", "--column", "tags", "--name", "at")
        self.assertIn("3 rows before, 6 after; 1 × not JSON; 1 × an empty list", said)
        rows = oak.open_source("o").rows(["Id", "at", "Tags"]).to_dicts()
        self.assertEqual(
            [row["Tags"] for row in rows], ["a", "2.5", None, "12345678901234567890.123456789", None, None]
        )
        self.write(
            "p.jsonl", '{"id": 1, "lines": [{"a": 1, "b": {"c": 2}}, 7]}\n{"id": 2, "lines": [{"a": 3, "d": 4}]}\n'
        )
        self.oak("intake", "p.jsonl")
        said = self.oak("step", "add", "p", "list-into-rows", "--column", "lines")
        self.assertIn("new: A, B.c, D", said)
        self.assertIn("1 × an element that is not an object", said)
        self.oak("step", "drop", "p", "1")
        said = self.oak("step", "add", "p", "list-into-rows", "--column", "lines", "--into", "a")
        self.assertIn("1 with 'd', which is not taken", " ".join(said.split()))

    def test_a_step_follows_a_renamed_column(self) -> None:
        self.write("m.csv", "Mill,Region,A\nLow,North,1\n,North,5\nHigh,South,2\n")
        self.oak("intake", "m.csv")
        self.oak("step", "add", "m", "fill-down", "--column", "Mill", "--within", "Region")
        self.oak("step", "add", "m", "leave-out", "--where", "Mill = 'High'")
        before = oak.open_source("m").tally(["Mill"], ["SUM(A)"]).to_dicts()
        self.write("m.csv", "Works,Area,A\nLow,North,1\n,North,5\nHigh,South,2\n")
        self.assertIn("oak mend SOURCE Mill=NEW", self.oak("check", "m", code=None))
        self.oak("mend", "m", "Mill=Works", "Region=Area")
        self.assertEqual(oak.open_source("m").tally(["Mill"], ["SUM(A)"]).to_dicts(), before)
        self.oak("undo", "m")
        self.assertIn("there is no column 'Mill'", self.oak("check", "m", code=None))

    def test_every_kind_has_its_keys(self) -> None:
        with self.assertRaises(ValueError):
            StepSpec(kind="distinct", order="A", pattern="x")


class Keys(FolderCase):
    """Joins as people have them: keys with two names, written in two ways."""

    def test_keys_against_a_plain_reading(self) -> None:
        rng = random.Random(7)
        codes = ["007", " 7", "12", "0012", "a-5", "A5", "oak", "Oak ", "", "x"]
        ways: tuple[tuple[str, Callable[[str], str]], ...] = (
            ("", lambda one: one.strip()),
            ("BTRIM(VALUE)", lambda one: one.strip()),
            ("LTRIM(UPPER(BTRIM(VALUE)), '0')", lambda one: one.strip().upper().lstrip("0")),
            ("REPLACE(UPPER(BTRIM(VALUE)), '-', '')", lambda one: one.strip().upper().replace("-", "")),
        )
        for match, way in ways:
            for how in ("inner", "left"):
                left = [(at, rng.choice(codes)) for at in range(30)]
                right = [(one, f"T{at}") for at, one in enumerate(rng.sample(codes, 6))]
                self.write("left.csv", "Id,Code\n" + "".join(f'{at},"{code}"\n' for at, code in left))
                self.write("right.csv", "Own,Town\n" + "".join(f'"{code}",{town}\n' for code, town in right))
                wanted = []
                for at, code in left:
                    met = [town for own, town in right if code.strip() and own.strip() and way(own) == way(code)]
                    wanted += [(at, town) for town in met] or ([(at, None)] if how == "left" else [])
                with self.subTest(match=match, how=how):
                    found = oak.intake_join(
                        ["left.csv", "right.csv"],
                        on=["Code=Own"],
                        match=match,
                        how=how,
                        name="J",
                        definition="j.oak.toml",
                    )
                    rows = [(row["Id"], row["Town"]) for row in found.source.rows(["Id", "Town"]).to_dicts()]
                    self.assertEqual(rows, wanted)

    def test_a_way_to_match_is_proposed_where_it_helps(self) -> None:
        self.write("left.csv", "Id,Code\n" + "".join(f"{at},{at % 9:03d}\n" for at in range(200)))
        self.write("right.csv", "Code,Town\n" + "".join(f"{at},T{at}\n" for at in range(9)))
        said = " ".join(self.oak("join", "left.csv", "right.csv", "--on", "Code", code=None).split())
        self.assertIn("200 rows before it without a partner, such as 000; 001; 002", said)
        self.assertIn("find one by: --match \"LTRIM(BTRIM(VALUE), '0')\"", said)
        self.write("same.csv", "Code,Town\n" + "".join(f"{at:03d},T{at}\n" for at in range(9)))
        self.assertNotIn(
            "--match", self.oak("join", "left.csv", "same.csv", "--on", "Code", "--to", "s.oak.toml", code=None)
        )
        listed = self.oak(
            "join", "left.csv", "right.csv", "--on", "Code", "--unmatched", "--to", "u.oak.toml", code=None
        )
        self.assertIn("007; 008", " ".join(listed.split()))


def as_number(value: Any) -> Any:
    """A number as text is the number: of text files all columns arrive as texts."""
    if isinstance(value, Decimal):
        return float(value)
    return int(value) if isinstance(value, str) and value.isdigit() else value
