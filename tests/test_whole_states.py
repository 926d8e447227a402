"""Deliveries that once ended a check, or went by in silence: each is said, and the rest is checked all the same."""

from __future__ import annotations

import datetime as dt
import json
import random
from collections.abc import Sequence
from typing import Any

import oak_ledger as oak
from tests.support import FolderCase, Terminal

CHANCE = random.Random(7)
NAMES = ["Load", "Stand", "Species", "Volume", "Cost", "Day"]
ROWS = [
    [at, f"ST-{at % 3}", CHANCE.choice(["oak", "ash", "larch"]), round(CHANCE.uniform(1, 30), 2), round(CHANCE.uniform(9, 900), 2), f"2026-0{at % 4 + 1}-{at % 28 + 1:02}"]
    for at in range(1, 401)
]  # fmt: skip
REPORT = '[report]\nname = "A"\nsource = "loads"\n\n[[panel]]\ntitle = "By species"\nkind = "table"\nby = ["Species"]\nshow = ["SUM(Volume)", "Rate"]\n'


def delivered(
    names: Sequence[str] = NAMES, rows: Sequence[Sequence[Any]] = ROWS, separator: str = ",", before: str = ""
) -> str:
    return before + "".join(separator.join(map(str, row)) + "\n" for row in [names, *rows])


def called(**others: str) -> list[str]:
    return [others.get(name, name) for name in NAMES]


# What is delivered, the exit code of check, and words of what it says.
DELIVERIES: tuple[tuple[str, str, int, tuple[str, ...]], ...] = (
    ("the key has another name", delivered(called(Load="Ticket")), 1, ("is now Ticket", "mend loads 'Load=Ticket'")),
    ("a field of the filter of every question is gone", delivered([one for one in NAMES if one != "Volume"], [[*row[:3], *row[4:]] for row in ROWS]), 1, ("column 'Volume' is missing", "1 filter")),
    ("it has another name", delivered(called(Volume="Cubic")), 1, ("is now Cubic: 100%", "panel 'By species'")),
    ("three at once", delivered(called(Load="Ticket", Species="Kind", Volume="Cubic")), 1, ("'Load=Ticket' 'Species=Kind' 'Volume=Cubic'",)),
    ("the names are in line 3", delivered(before="March\n\n"), 0, ("names in line 3",)),
    ("names in capitals", delivered([one.upper() for one in NAMES]), 0, ("names in another letter case",)),
    ("another separator", delivered(separator=";"), 0, ("separator semicolon",)),
    ("nothing but names", delivered(rows=[]), 1, ("400 rows in version 1, 0 now",)),
    ("the last month is missing", delivered(rows=[row for row in ROWS if "-04-" not in row[5]]), 1, ("none in 2026-04 by Day",)),
    ("income times a hundred", delivered(rows=[[*row[:4], round(row[4] * 100), row[5]] for row in ROWS]), 1, ("VALUE * 0.01",)),
    ("more rows", delivered(rows=[*ROWS, *([at, *row[1:5], "2026-05-03"] for at, row in enumerate(ROWS[:90], 401))]), 0, ("no problems",)),
    ("as it was", delivered(), 0, ("no problems",)),
)  # fmt: skip


class Deliveries(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.publish()

    def publish(self: FolderCase) -> None:
        """A source with a key, a filter of every question and a report, released."""
        self.write("loads.csv", delivered())
        for call in (
            ("intake", "loads.csv"),
            ("field", "add", "loads", "Rate", "SUM(Cost) / SUM(Volume)"),
            ("filter", "add", "loads", "Valid", "Volume > 0 AND Species <> 'none'", "--always"),
            ("field", "key", "loads", "Load"),
        ):
            self.oak(*call)
        self.write("a.report.toml", REPORT)
        self.oak("publish", "loads")
        self.oak("release", "loads", "--yes")

    def test_each_is_said_and_nothing_ends_the_check(self) -> None:
        for what, content, code, words in DELIVERIES:
            with self.subTest(what):
                self.write("loads.csv", content)
                said = self.oak("check", "loads", code=code)
                for word in words:
                    self.assertIn(word, " ".join(said.split()))
                found = self.oak("publish", "loads", "--dry-run", code=None)
                self.assertTrue("dry run" in found or "nothing was published" in found, found)
                if "drift" in said:
                    self.assertIn(next(one for one in said.split() if one.startswith("drift")), found)

    def test_a_report_that_cannot_be_read(self) -> None:
        self.write("b.report.toml", "[report\n")
        self.write("loads.csv", delivered(called(Volume="Cubic")))
        said = self.oak("check", "loads", code=1)
        self.assertIn("is now Cubic", said)
        self.assertIn("b.report.toml is not well written", said)
        self.assertIn("b.report.toml is not well written", self.oak("mend", "loads", "Volume=Cubic"))
        self.assertIn("b.report.toml is not well written", self.oak("publish", "loads", "--dry-run"))

    def test_the_release_says_what_publishing_found(self) -> None:
        self.write("loads.csv", delivered(rows=[[*row[:4], round(row[4] * 100), row[5]] for row in ROWS]))
        self.assertIn("drift-unit", self.oak("publish", "loads"))
        self.assertIn("drift-unit 1", self.oak("release", "loads", "--yes"))


class Guided(FolderCase):
    """`oak mend SOURCE` alone: what values prove is taken, the rest is asked, a plan goes to and fro, and a stop writes nothing."""

    def setUp(self) -> None:
        super().setUp()
        Deliveries.publish(self)
        changed = [[*row[:2], row[2].upper(), row[3], round(row[4] * 100), row[5]] for row in ROWS]
        self.write("loads.csv", delivered(called(Load="Ticket", Volume="Cubic"), rows=changed))

    def figures(self) -> Any:
        return self.oak_json("tally", "loads", "--by", "Stand", "--show", "SUM(Volume)", "--show", "COUNT(*)")["rows"]

    def test_what_values_prove(self) -> None:
        before = (self.folder / "loads.oak.toml").read_bytes()
        said = self.oak("mend", "loads", code=1)
        for words in ("column 'Volume' is missing", "broken by it: Volume, Rate, Valid", "read it from Cubic", "values of Species have other names now", "clean it: VALUE * 0.01", "--sure"):  # fmt: skip
            self.assertIn(words, said)
        plan = self.oak("mend", "loads", "--json", code=1)
        choice = json.loads(plan)["facts"]["decisions"][0]["choices"][0]
        self.assertEqual((choice["sure"], len(choice["examples"])), (True, 3))
        self.assertEqual((self.folder / "loads.oak.toml").read_bytes(), before)
        self.assertIn("left: Cost is 100 times", self.oak("mend", "loads", "--sure", code=1))
        mended = (self.folder / "loads.oak.toml").read_bytes()
        self.assertNotEqual(mended, before)
        self.oak("undo", "loads")
        self.write("plan.json", plan)
        self.oak("mend", "loads", "--plan", "plan.json")
        self.assertEqual((self.folder / "loads.oak.toml").read_bytes(), mended)
        self.assertEqual([one["COUNT(*)"] for one in self.figures()], [133, 134, 133])
        self.assertIn("will read what is published", self.oak("publish", "loads", "--release", code=2))
        self.assertIn("released, signed by", self.oak("publish", "loads", "--release", "--yes"))
        self.assertEqual([one["stage"] for one in self.oak_json("versions")["versions"]], ["retired", "released"])

    def test_a_plan_that_is_none(self) -> None:
        for text in ('{"gone": 5}', "", "[]", '{"columns": {"a": 1}}', '{"values": {"a": "b"}}'):
            with self.subTest(text):
                self.assertIn("is not the plan of a mend", self.oak("mend", "loads", "--plan", str(self.write("p.json", text)), code=3))  # fmt: skip

    def test_on_a_terminal(self) -> None:
        before = (self.folder / "loads.oak.toml").read_bytes()
        terminal = Terminal(self, "mend", "loads")
        for _ in range(3):
            terminal.expect("which")
            terminal.seen = ""
            terminal.type("\n")
        terminal.expect("which")
        self.assertEqual((self.folder / "loads.oak.toml").read_bytes(), before)
        terminal.type("1\n")
        terminal.expect("what changes in them:")
        terminal.expect("Write it?")
        self.assertEqual((self.folder / "loads.oak.toml").read_bytes(), before)
        terminal.type("\n")
        terminal.expect("changed")
        self.assertEqual(terminal.ended(), 0)
        self.assertIn('clean = "VALUE * 0.01"', (self.folder / "loads.oak.toml").read_text("utf-8"))
        self.oak("undo", "loads")
        for again, asked in (
            ((), 2),
            ((), 0),
            (("--again",), 2),
        ):  # what is left for later is not asked again with the same evidence
            terminal = Terminal(self, "mend", "loads", *again)
            for _ in range(asked):
                terminal.expect("which")
                terminal.seen = ""
                terminal.type("later\n")
            terminal.expect("nothing was written" if asked else "not asked again: 4")
            self.assertEqual(terminal.ended(), 1)
        self.oak("check", "loads", code=None)

    def test_another_column_is_named_and_what_is_gone_is_dropped(self) -> None:
        """Two columns are missing that nothing looks like: one is typed by its name, the other is dropped with what needs it."""
        chance = random.Random(9)
        changed = [[*row[:1], f"x{chance.random()}", *row[2:3], chance.random(), *row[4:]] for row in ROWS]
        self.write("loads.csv", delivered(called(Volume="Cubic", Stand="Plot"), rows=changed))
        before = (self.folder / "loads.oak.toml").read_bytes()
        terminal = Terminal(self, "mend", "loads")
        terminal.expect("column 'Volume' is missing")
        terminal.expect("which")
        terminal.type("zebra\n")
        terminal.expect("neither a number")
        terminal.expect("which [later]")
        terminal.type("\x03")
        self.assertNotEqual(terminal.ended(), 0)
        self.assertEqual((self.folder / "loads.oak.toml").read_bytes(), before)
        terminal = Terminal(self, "mend", "loads", "--yes")
        terminal.expect("which")
        terminal.seen = ""
        terminal.type("cubic\n")
        terminal.expect("which")
        terminal.type("1\n")
        terminal.expect("changed")
        terminal.ended()
        source = oak.open_source("loads")
        self.assertEqual(source.state("Volume").spec.column, "Cubic")
        self.assertNotIn("Stand", [one.name for one in source.fields])

    def test_what_is_gone_goes_from_reports_or_is_hidden(self) -> None:
        """Measures, an order, a panel's comparison and whole panels; all of it comes back by undo. Hidden, it stays as it is and works again with the column."""
        report = """\
[report]
name = "R"
source = "Loads"

[[field]]
name = "Dear"
formula = "SUM(Cost) FILTER (WHERE Volume > 3)"

[[panel]]
kind = "table"
title = "Stands"
by = ["Stand"]
show = ["Cost", "Rate", { name = "Most", formula = "MAX(Volume)" }, "Dear"]
sort = ["-Most", "Stand"]

[[panel]]
kind = "figure"
title = "All"
show = ["Cost"]
against = "SUM(Volume)"

[[panel]]
kind = "bars"
title = "Large ones"
by = ["Stand"]
show = ["Cost"]
where = "Volume > 3"
"""
        path = self.write("r.report.toml", report)
        self.write(
            "loads.csv", delivered(called(Volume="x")[:3] + called()[4:], rows=[[*row[:3], *row[4:]] for row in ROWS])
        )
        before = (self.folder / "loads.oak.toml").read_bytes()
        self.assertIn("Repeat the command with --yes", self.oak("mend", "loads", "--gone", "Volume", code=2))
        self.oak("mend", "loads", "--gone", "Volume", "--yes")
        changed = path.read_text("utf-8")
        for words, there in (("MAX(Volume)", False), ("Rate", False), ("-Most", False), ('sort = ["Stand"]', True), ("Large ones", False), ("against", False), ("Dear", False), ('show = ["Cost"]', True)):  # fmt: skip
            self.assertEqual(words in changed, there, (words, changed))
        self.assertEqual(oak.open_report(path).errors(oak.open_source("loads")), [])
        self.oak("undo", "loads")
        self.assertEqual((path.read_text("utf-8"), (self.folder / "loads.oak.toml").read_bytes()), (report, before))
        self.oak("mend", "loads", "--hide", "Volume")
        hidden = {one.name for one in oak.open_source("loads").fields if one.hidden}
        self.assertEqual(hidden, {"Volume", "Rate"})
        self.assertEqual(path.read_text("utf-8"), report)
        self.write("loads.csv", delivered())
        self.assertEqual(oak.open_source("loads").state("Rate").broken, False)

    def test_what_was_decided_is_remembered(self) -> None:
        """The old name, the old unit come back: read and said, the clean removed; with both names the new one is read."""
        self.oak("mend", "loads", "--sure", code=1)
        self.oak("field", "clean", "loads", "Cost", "VALUE * 0.01")
        self.assertNotIn("Species", self.oak("check", "loads"))  # what is mended is not reported again
        self.assertIn("nothing to repair", self.oak("mend", "loads"))
        self.oak("publish", "loads", "--release", "--yes")
        self.write(
            "loads.csv", delivered(called(Volume="Cubic"), [[*row[:4], round(row[4] * 100), row[5]] for row in ROWS])
        )
        self.assertEqual({one["Species"] for one in self.oak_json("tally", "loads", "--by", "Species", "--show", "COUNT(*)")["rows"]}, {"OAK", "ASH", "LARCH"})  # fmt: skip
        self.assertNotIn("Species", self.oak("check", "loads"))
        wanted = self.figures()
        self.assertIn("also read as Volume", self.oak("trace", "loads", "Rate"))
        cents = [[*row[:2], row[2].upper(), row[3], round(row[4] * 100), row[5]] for row in ROWS]
        self.write("loads.csv", delivered(rows=cents))
        self.assertEqual(self.figures(), wanted)
        said = " ".join(self.oak("check", "loads").split())
        self.assertIn("Volume is how the column Cubic is called in this delivery, as it was before; it is read.", said)
        self.write("loads.csv", delivered([*called(Volume="Cubic"), "Volume"], [[*row, 0] for row in cents]))
        self.assertEqual(self.figures(), wanted)
        self.assertIn("Volume and Cubic are both there; Cubic is read.", " ".join(self.oak("check", "loads").split()))
        self.write("loads.csv", delivered(rows=[[*row[:2], row[2].upper(), *row[3:]] for row in ROWS]))
        self.assertIn("unit-back", self.oak("check", "loads", code=1))
        self.oak("mend", "loads", "--sure")
        today = dt.date.today()
        definition = (self.folder / "loads.oak.toml").read_text("utf-8")
        self.assertIn(f'earlier_clean = {{ "VALUE * 0.01" = {today}', definition)
        self.assertIn(f"oak = {today}", definition)
        self.assertNotIn("\nclean", definition)
        self.assertNotIn("Cost", self.oak("check", "loads"))
        self.assertIn(f"cleaned by VALUE * 0.01 until {today}", " ".join(self.oak("trace", "loads", "Cost").split()))
        self.assertIn(f"oak until {today}, now OAK", " ".join(self.oak("trace", "loads", "Species").split()))
        self.oak("publish", "loads", "--release", "--yes")
        self.write("loads.csv", delivered(rows=cents))
        said = " ".join(self.oak("check", "loads", code=1).split())
        self.assertIn(f"Until {today} it was cleaned by VALUE * 0.01.", said)

    def test_nothing_to_repair(self) -> None:
        self.write("loads.csv", delivered())
        self.assertIn("nothing to repair", self.oak("mend", "loads"))
