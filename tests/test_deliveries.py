"""What may come instead of the last delivery, in every kind of origin: whether it is noticed, the right column named, repaired, the figures equal, and undone.

A part of the table is played in each run, another one each day; all of it with OAK_DELIVERIES=all.
"""

from __future__ import annotations

import datetime as dt
import itertools
import os
import random
import re
import shutil
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from tests.support import FolderCase, seed_of_the_code

SHARE = os.environ.get("OAK_DELIVERIES", "12")
COUNT = 160
KINDS = ("text", "files", "workbook", "sqlite", "parquet", "join")
TEXTS = ("text", "files")
TYPED = ("workbook", "sqlite", "parquet")
Columns = dict[str, list[Any]]


def columns() -> Columns:
    """The rows as they were released: texts, numbers, dates."""
    rng = random.Random(11)
    days = [dt.date(2026, 1, 1) + dt.timedelta(at * 90 // COUNT) for at in range(COUNT)]
    return {
        "LOAD": [f"L-{at + 1:04}" for at in range(COUNT)],
        "STAND": [f"ST-{rng.randrange(14):02}" for _ in range(COUNT)],
        "SPECIES": [rng.choice(("oak", "ash", "larch")) for _ in range(COUNT)],
        "VOLUME": [round(rng.uniform(2, 40), 2) for _ in range(COUNT)],
        "COST": [round(rng.uniform(1000, 4000), 2) for _ in range(COUNT)],
        "TRIPS": [rng.randrange(1, 60) for _ in range(COUNT)],
        "DAY": days,
        "GRADE": [rng.randrange(1, 4) for _ in range(COUNT)],
    }


BASE = columns()
REPORT = """\
[report]
name = "R"
source = "Loads"

[[panel]]
kind = "table"
title = "By species"
by = ["Species"]
show = ["Volume", "Rate", { name = "Oak", formula = "COUNT(*) FILTER (WHERE Species = 'oak')" }]

[[panel]]
kind = "table"
title = "By month"
by = [{ name = "Month", formula = "DATE_TRUNC('month', Day)" }]
show = ["Volume", "Cost", { name = "Trips", formula = "SUM(Trips)" }, { name = "Stands", formula = "COUNT(DISTINCT Stand)" }, { name = "Grades", formula = "SUM(Grade)" }]
"""


@dataclass(frozen=True)
class Change:
    """A change of a delivery. `noticed` are codes of findings, `cause` for a column that is missing or moved, of which one must be there (none: it goes by
    without alarm); `repair` are arguments of `oak mend` (None: there is nothing to mend), by default what values prove. `same` says whether the figures
    are then what they were."""

    about: str
    make: Callable[[Columns], Columns]
    noticed: tuple[str, ...] = ("cause",)
    repair: tuple[str, ...] | None = ("--sure",)
    kinds: tuple[str, ...] = KINDS
    same: bool = True
    column: str = ""
    writing: dict[str, Any] = field(default_factory=dict)


def named(**names: str) -> Callable[[Columns], Columns]:
    return lambda own: {names.get(name, name): values for name, values in own.items()}


def put(**values: Callable[[Any], Any]) -> Callable[[Columns], Columns]:
    return lambda own: {
        name: [values[name](one) for one in some] if name in values else some for name, some in own.items()
    }


def rows(keep: Callable[[int, Columns], bool]) -> Callable[[Columns], Columns]:
    def make(own: Columns) -> Columns:
        at = [one for one in range(len(own["LOAD"])) if keep(one, own)]
        return {name: [values[one] for one in at] for name, values in own.items()}

    return make


def after(*steps: Callable[[Columns], Columns]) -> Callable[[Columns], Columns]:
    def make(own: Columns) -> Columns:
        for step in steps:
            own = step(own)
        return own

    return make


def more_rows(count: int, *, also: bool = True) -> Callable[[Columns], Columns]:
    def make(own: Columns) -> Columns:
        rng = random.Random(5)
        new = {
            "LOAD": [f"L-{COUNT + at + 1:04}" for at in range(count)], "STAND": [rng.choice(own["STAND"]) for _ in range(count)],
            "SPECIES": [rng.choice(own["SPECIES"]) for _ in range(count)], "VOLUME": [round(rng.uniform(2, 40), 2) for _ in range(count)],
            "COST": [round(rng.uniform(1000, 4000), 2) for _ in range(count)], "TRIPS": [rng.randrange(1, 60) for _ in range(count)],
            "DAY": [dt.date(2026, 4, 1 + at % 28) for at in range(count)], "GRADE": [rng.randrange(1, 4) for _ in range(count)],
        }  # fmt: skip
        return {name: [*(values if also else []), *new[name]] for name, values in own.items()}

    return make


def shuffled(own: Columns) -> Columns:
    order = [*range(len(own["LOAD"]))]
    random.Random(3).shuffle(order)
    return {name: [values[at] for at in order] for name, values in own.items()}


def one_month(own: Columns) -> Columns:
    return {
        **own,
        "COST": [
            round(one * 100, 2) if day.month == 3 else one for one, day in zip(own["COST"], own["DAY"], strict=True)
        ],
    }


GERMAN = {"oak": "Eiche", "ash": "Esche", "larch": "Lärche"}
CHANGES: tuple[Change, ...] = (
    *(Change(f"{name} has another name", named(**{name: new}), column=new) for name, new in (
        ("LOAD", "TICKET"), ("STAND", "PLOT"), ("SPECIES", "TREE"), ("VOLUME", "CUBIC"), ("COST", "AMOUNT"), ("TRIPS", "RUNS"), ("DAY", "DELIVERED"))),
    Change("two names", named(VOLUME="CUBIC", SPECIES="TREE"), column="CUBIC"),
    Change("four names", named(VOLUME="CUBIC", SPECIES="TREE", DAY="DELIVERED", COST="AMOUNT"), column="AMOUNT"),
    Change("a new name and more rows", after(more_rows(30), named(VOLUME="CUBIC")), same=False, column="CUBIC"),
    Change("a new name and another order", after(shuffled, named(COST="AMOUNT")), column="AMOUNT"),
    Change("two columns changed places", named(VOLUME="COST", COST="VOLUME")),
    Change("three changed places", named(VOLUME="COST", COST="TRIPS", TRIPS="VOLUME")),
    Change("a name that another took over", lambda own: {("VOLUME" if name == "COST" else name): values for name, values in own.items() if name != "VOLUME"}, repair=("COST=VOLUME", "--gone", "Volume", "--yes"), same=False),
    Change("a column is gone", lambda own: {name: values for name, values in own.items() if name != "TRIPS"}, repair=("--gone", "Trips", "--yes"), same=False),
    Change("labels in another language", put(SPECIES=GERMAN.get), ("drift-values",)),
    Change("labels in capitals", put(SPECIES=str.upper), ("drift-values",)),
    Change("one label", put(SPECIES=lambda one: "Quercus" if one == "oak" else one), ("drift-values",)),
    Change("labels and name", after(put(SPECIES=GERMAN.get), named(SPECIES="BAUM")), ("cause", "drift-values"), column="BAUM"),
    Change("labels that changed places", put(SPECIES=lambda one: {"oak": "ash", "ash": "oak"}.get(one, one)), ("drift-values",), None),
    Change("cents", put(COST=lambda one: round(one * 100)), ("drift-unit", "drift-type", "drift-cut"), ("--clean-by-hand", "Cost", "VALUE * 0.01")),
    Change("thousands", put(COST=lambda one: round(one / 1000, 5)), ("drift-unit",), ("--clean-by-hand", "Cost", "VALUE * 1000")),
    Change("a name and cents", after(put(COST=lambda one: round(one * 100)), named(COST="CENTS")), ("cause",), None, column="CENTS"),
    Change("one month in cents", one_month, ("drift-unit",), ("--clean-by-hand", "Cost", "CASE WHEN Day >= DATE '2026-03-01' THEN VALUE * 0.01 ELSE VALUE END")),
    Change("the sign", put(COST=lambda one: -one), ("drift-unit",), ("--clean-by-hand", "Cost", "VALUE * -1")),
    Change("cut to whole numbers", put(VOLUME=lambda one: float(int(one))), ("drift-cut", "drift-unit", "drift-type"), None),
    Change("texts cut", put(STAND=lambda one: one[:3]), ("drift-cut", "drift-values", "drift-constant"), None),
    Change("days later by one", put(DAY=lambda one: one + dt.timedelta(1)), ("drift-moved",), None),
    Change("a month is missing", rows(lambda at, own: own["DAY"][at].month != 2), ("drift-rows", "drift-files"), None),
    Change("half of the rows", rows(lambda at, own: at % 2 == 0), ("drift-rows",), None),
    Change("rows twice", lambda own: {name: values + values[:80] for name, values in own.items()}, ("drift-rows", "key-repeats"), None),
    Change("no rows", rows(lambda at, own: False), ("drift-rows", "no-rows", "drift-files"), None),
    Change("only new rows", more_rows(160, also=False), ("drift-keys",), None),
    Change("keys without their prefix", put(LOAD=lambda one: one[2:]), ("drift-keys", "drift-values"), None),
    Change("a stand is missing", rows(lambda at, own: own["STAND"][at] != own["STAND"][0]), ("drift-rows", "drift-values"), None),
    Change("a column is empty", put(COST=lambda one: None), ("drift-nulls",), None),
    Change("a third is empty", lambda own: {**own, "STAND": [None if at % 3 == 0 else one for at, one in enumerate(own["STAND"])]}, ("drift-nulls",), None),
    Change("one value everywhere", put(SPECIES=lambda one: "oak"), ("drift-constant", "drift-values"), None),
    Change("dates written otherwise", put(DAY=lambda one: one.strftime("%d.%m.%Y")), ("values-lost", "drift-reading", "drift-nulls", "clean-wanted", "drift-type"), ("--sure",), TEXTS),
    Change("a decimal comma", put(COST=lambda one: f"{one:.2f}".replace(".", ",")), ("values-lost", "drift-reading", "drift-nulls", "drift-type"), ("--sure",), TEXTS, writing={"separator": ";"}),
    Change("thousands marks", put(COST=lambda one: f"{one:,.2f}"), ("values-lost", "drift-reading", "drift-nulls", "drift-type"), ("--sure",), TEXTS, writing={"separator": ";"}),
    Change("another word for null", lambda own: {**own, "COST": ["n/a" if at % 4 == 0 else one for at, one in enumerate(own["COST"])]}, ("drift-reading",), ("--sure",), TEXTS, same=False),
    Change("numbers as texts with a unit", put(VOLUME=lambda one: f"{one} m3"), ("drift-reading",), ("--sure",), (*TEXTS, "workbook", "parquet", "join")),
    Change("a name and a unit", after(put(VOLUME=lambda one: f"{one} m3"), named(VOLUME="CUBIC")), column="CUBIC"),
    Change("a currency before, a comma within", put(COST=lambda one: f"EUR {one:.2f}".replace(".", ",")), ("drift-reading",), ("--sure",), TEXTS, writing={"separator": ";"}),
    Change("a unit in some rows", lambda own: {**own, "TRIPS": [f"{one} x" if at % 5 == 0 else one for at, one in enumerate(own["TRIPS"])]}, ("drift-reading",), ("--sure",), TEXTS),
    Change("labels in place of codes", put(GRADE={1: "prime", 2: "good", 3: "fair"}.get), ("drift-reading",), ("--sure",)),
    Change("names in line 3", lambda own: own, (), None, ("text",), writing={"above": "March\n\n"}),
    Change("another separator", lambda own: own, (), None, ("text",), writing={"separator": ";"}),
    Change("names in small letters", lambda own: {name.lower(): values for name, values in own.items()}, (), None, ("text",)),
    Change("names in small letters, typed", lambda own: {name.lower(): values for name, values in own.items()}, ("cause",), ("--sure",), ("sqlite", "parquet")),
    Change("a column more", lambda own: {**own, "NOTE": ["x"] * len(own["LOAD"])}, (), None),
    Change("columns in another order", lambda own: dict(reversed(own.items())), (), None),
    Change("rows in another order", shuffled, (), None),
    Change("a fifth more rows", more_rows(32), (), None, same=False),
    Change("as it was", lambda own: own, (), None),
)  # fmt: skip


def text_of(own: Columns, separator: str = ",", above: str = "") -> str:
    lines = [
        separator.join(own),
        *(separator.join("" if one is None else str(one) for one in row) for row in zip(*own.values(), strict=True)),
    ]
    return above + "\n".join(lines) + "\n"


class Deliveries(FolderCase):
    def deliver(self, kind: str, own: Columns, **writing: Any) -> None:
        """Write the rows as this kind of origin has them."""
        if kind == "text":
            self.write("loads.csv", text_of(own, **writing))
        elif kind == "files":
            for month in (1, 2, 3):
                day = next((name for name in ("DAY", "DELIVERED") if name in own), "")
                part = [
                    at
                    for at, one in enumerate(own[day])
                    if self.month(one) == month or (month == 3 and self.month(one) > 3)
                ]
                self.write(
                    f"loads_{month}.csv",
                    text_of({name: [values[at] for at in part] for name, values in own.items()}, **writing),
                )
        elif kind == "workbook":
            book = openpyxl.Workbook()
            sheet = book.active
            assert sheet is not None
            sheet.title = "Loads"
            for row in [[*own], *zip(*own.values(), strict=True)]:
                sheet.append([*row])
            book.save("loads.xlsx")
        elif kind == "sqlite":
            with sqlite3.connect("loads.db") as base:
                base.execute("drop table if exists loads")
                base.execute(f"create table loads ({', '.join(own)})")
                base.executemany(
                    f"insert into loads values ({', '.join('?' * len(own))})",
                    [
                        [str(one) if isinstance(one, dt.date) else one for one in row]
                        for row in zip(*own.values(), strict=True)
                    ],
                )
            base.close()
        elif kind == "parquet":
            pq.write_table(pa.table({name: pa.array(values) for name, values in own.items()}), "loads.parquet")
        else:
            names = [*own]
            key = next(name for name in names if name.lower() in ("load", "ticket"))
            left = {name: own[name] for name in names if name == key or name in names[: len(names) // 2]}
            right = {name: own[name] for name in names if name == key or name not in left}
            self.write("loads.csv", text_of(left, **writing))
            self.write("costs.csv", text_of(right, **writing))

    @staticmethod
    def month(day: Any) -> int:
        return int(day.month if isinstance(day, dt.date) else str(day)[3:5])

    def released(self, kind: str) -> None:
        self.deliver(kind, BASE)
        if kind == "join":
            oak.intake_join(["loads.csv", "costs.csv"], on=["LOAD"], name="Loads", definition="loads.oak.toml").save()
        elif kind == "sqlite":
            oak.intake(url="sqlite:///loads.db", table="loads", name="Loads", definition="loads.oak.toml").save()
        else:
            path = {"text": "loads.csv", "files": "loads_*.csv", "workbook": "loads.xlsx", "parquet": "loads.parquet"}[
                kind
            ]
            oak.intake(path, name="Loads", definition="loads.oak.toml").save()
        self.oak("field", "add", "loads", "Rate", "SUM(Cost) / SUM(Volume)")
        self.oak("filter", "add", "loads", "Real", "Volume > 0 AND Species <> 'none'", "--always")
        self.oak("field", "key", "loads", "Load")
        self.write("r.report.toml", REPORT)
        self.oak("publish", "loads", "--release", "--yes")

    def figures(self) -> Any:
        """The numbers of each panel, whatever its groups are called."""
        view = oak.open_report("r.report.toml").view(oak.open_source("loads.oak.toml"))
        return [sorted([str(one) if one is None else f"{float(one):.4f}" for one in [*row.values()][1:]] for row in panel.answer.to_dicts()) if panel.answer else None for panel in view.panels]  # fmt: skip

    def written(self) -> dict[str, bytes]:
        return {path.name: path.read_bytes() for path in sorted(self.folder.glob("*.toml"))}

    def test_the_table(self) -> None:
        whole = [(change, kind) for change in CHANGES for kind in change.kinds]
        self.assertGreaterEqual(len(whole), 80 * 2)
        seed = seed_of_the_code()
        played = whole if SHARE == "all" else random.Random(seed).sample(whole, int(SHARE))
        wanted: dict[str, Any] = {}
        for kind, group in itertools.groupby(
            sorted(played, key=lambda one: KINDS.index(one[1])), key=lambda one: one[1]
        ):
            self.setUp()
            self.released(kind)
            wanted[kind] = self.figures()
            before = self.written()
            (self.folder / ".loads.oak.toml.edits").unlink()
            for change, _ in group:
                with self.subTest(change.about, kind=kind, seed=seed):
                    try:
                        self.play(change, kind, wanted[kind], before)
                    finally:
                        for name, content in before.items():
                            self.write(name, content)
                        (self.folder / ".loads.oak.toml.edits").unlink(missing_ok=True)

    def test_rows_that_are_elsewhere(self) -> None:
        """Files, sheets, tables and keys of a join that are called otherwise: the new place is named, read by --sure, and undone."""

        def renamed_sheet() -> None:
            book = openpyxl.load_workbook("loads.xlsx")
            book["Loads"].title = "March"
            book.create_sheet("Notes", 0)
            book.save("loads.xlsx")

        def renamed_table() -> None:
            with sqlite3.connect("loads.db") as base:
                base.execute("alter table loads rename to tickets")
                base.execute("create table notes (note text)")
            base.close()

        def became_several() -> None:
            Path("loads.csv").unlink()
            self.deliver("files", BASE)

        for kind, about, act, repair in (
            ("text", "a file", lambda: Path("loads.csv").rename("march.csv"), "--path march.csv"),
            ("parquet", "a file", lambda: Path("loads.parquet").rename("march.parquet"), "--path march.parquet"),
            ("workbook", "a file", lambda: Path("loads.xlsx").rename("march.xlsx"), "--path march.xlsx"),
            ("workbook", "a sheet", renamed_sheet, "--sheet March"),
            ("sqlite", "a database", lambda: Path("loads.db").rename("yard.db"), "--url sqlite:///yard.db"),
            ("sqlite", "a table", renamed_table, "--table tickets"),
            ("files", "all files", lambda: [Path(f"loads_{one}.csv").rename(f"tickets_{one}.csv") for one in (1, 2, 3)], "--path 'tickets_*.csv'"),
            ("text", "one file became several", became_several, "--path 'loads_*.csv'"),
            ("join", "a part", lambda: Path("costs.csv").rename("charges.csv"), "--part Costs=charges.csv"),
            ("join", "the key", lambda: self.deliver("join", named(LOAD="TICKET")(BASE)), "LOAD=TICKET"),
            ("join", "the key and a column", lambda: self.deliver("join", named(LOAD="TICKET", COST="AMOUNT")(BASE)), "LOAD=TICKET"),
        ):  # fmt: skip
            with self.subTest(about, kind=kind):
                self.setUp()
                self.released(kind)
                wanted, before = self.figures(), self.written()
                self.write("stray.csv", "A,B\n1,2\n")
                act()
                self.assertIn(f"oak mend loads {repair} --dry-run", self.oak("check", "loads", code=1))
                (cause,) = self.oak_json("check", "loads", code=1)["causes"]
                self.assertTrue(cause["candidates"][0]["sure"])
                self.assertIn("read" if "key" not in about else "join", self.oak("mend", "loads", code=1))
                self.oak(
                    "mend", "loads", "--sure", code=1 if about == "all files" else 0
                )  # that files have other names is said
                self.assertEqual(self.figures(), wanted)
                self.oak("undo", "loads")
                self.assertEqual(self.written(), before)
        self.setUp()  # it comes back to where it was, beside another with the same rows
        self.released("text")
        Path("loads.csv").rename("march.csv")
        self.oak("mend", "loads", "--sure")
        today = dt.date.today()
        self.assertIn(f'earlier = {{ "loads.csv" = {today}', Path("loads.oak.toml").read_text("utf-8"))
        Path("march.csv").rename("loads.csv")
        shutil.copy("loads.csv", "april.csv")
        self.assertIn(f"it was read from there until {today}", " ".join(self.oak("check", "loads", code=1).split()))
        self.oak("mend", "loads", "--sure")
        self.assertIn('path = "loads.csv"', Path("loads.oak.toml").read_text("utf-8"))
        self.deliver("text", named(COST="AMOUNT")(BASE))
        self.oak("mend", "loads", "--sure")
        self.assertIn(
            f"also read as COST (its name until {today})", " ".join(self.oak("trace", "loads", "Rate").split())
        )
        self.setUp()
        self.released("text")
        Path("loads.csv").rename("loads.old")
        self.assertIn("nothing beside it has its columns", self.oak("check", "loads", code=1))
        self.assertIn("origin-key", self.oak("mend", "loads", "--table", "t", code=2))
        self.assertIn("unknown-part", self.oak("mend", "loads", "--part", "Costs=a.csv", code=2))
        self.oak("mend", "loads", "--sure", code=1)

    def play(self, change: Change, kind: str, wanted: Any, before: dict[str, bytes]) -> None:
        self.deliver(kind, change.make(BASE), **change.writing)
        check = self.oak_json("check", "loads", code=None)
        self.assertNotIn("errors", check)
        codes = {one["code"] for one in check["findings"] if one["severity"] != "note" or one["code"] in change.noticed}
        codes |= {"cause"} if check["causes"] or check["moved"] else set()
        if not change.noticed:
            self.assertEqual(codes, set(), check["findings"])
            self.assertEqual(self.figures() == wanted, change.same)
            return
        self.assertTrue(codes & {*change.noticed}, (codes, check["findings"]))
        if change.column:
            offered = [one for cause in check["causes"] for one in cause["candidates"]]
            self.assertIn(change.column, [one["column"] for one in offered if one["sure"]], offered)
        published = self.oak_json("publish", "loads", "--dry-run", code=None)
        self.assertTrue(
            {one["code"] for one in published.get("findings", [])} & {*change.noticed}
            or "cause" in codes
            or "errors" in published
        )
        if change.repair is None:
            return
        if change.repair[0] == "--clean-by-hand":
            self.assertIn(change.repair[2], " ".join(one["hint"] for one in check["findings"]))
            more = re.search(r"decimal\(18,\d+\)", " ".join(one["hint"] for one in check["findings"]))
            if more is not None:
                self.oak("field", "retype", "loads", change.repair[1], more[0])
            self.oak("field", "clean", "loads", change.repair[1], change.repair[2])
        else:
            self.oak("mend", "loads", *change.repair, code=None)
        after_mend = self.oak_json("check", "loads", code=None)
        self.assertEqual((after_mend["causes"] if change.repair[0] == "--sure" else [], after_mend["moved"]), ([], []))
        if change.same:
            self.assertEqual(self.figures(), wanted)
        self.assertNotEqual(self.written(), before)
        for _ in oak.edits_of(self.folder / "loads.oak.toml"):
            self.oak("undo", "loads")
        self.assertEqual(self.written(), before)
