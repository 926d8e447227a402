"""How two states of a definition differ, in words; and what is said to those who read a source, publish it, or take a figure apart."""

from __future__ import annotations

import getpass
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.insight.fingerprint import arrived_null, names_before
from oak_ledger.origin.memory import RenamedReader
from oak_ledger.reference import recoded
from oak_ledger.reference.differences import differences
from tests.support import LOADS, D, FolderCase, loads

CHANGES: list[tuple[str, Callable[[oak.Source], oak.Source], dict[str, str], list[tuple[str, str]], list[str]]] = [
    ("nothing", lambda one: one, {}, [], []),
    ("a new field", lambda one: one.with_field("Net", "Cost - 1"), {}, [("field Net", "added")], ["Net is new"]),
    ("a field that went", lambda one: one.without(["Fee"]), {}, [("field Fee", "removed")], ["Fee is gone"]),
    ("a new name", lambda one: one.with_renamed({"Fee": "Charge"}), {"Charge": "Fee"}, [("field Charge", "renamed")], ["Fee is called Charge now"]),
    ("a new name that a formula uses", lambda one: one.with_renamed({"Cost": "Price"}), {"Price": "Cost"}, [("field Price", "renamed")], ["Cost is called Price now"]),
    ("another formula", lambda one: one.with_changed("Twice", formula="Cost * 3"), {}, [("field Twice", "formula")], ["Twice is computed as Cost * 3"]),
    ("another type", lambda one: one.with_changed("Twice", formula="Cost * 2.5"), {}, [("field Twice", "formula"), ("field Twice", "type")], ["Twice is computed as Cost * 2.5", "Twice is decimal(38,1), and was integer"]),
    ("described", lambda one: one.with_changed("Mill", description="Where it goes"), {}, [("field Mill", "description")], ["Mill is described as: Where it goes"]),
    ("hidden", lambda one: one.with_changed("Mill", hidden=True), {}, [("field Mill", "hidden")], ["Mill is hidden now"]),
    ("a filter", lambda one: one.with_entry("filter", "Big", where="Cost > 15"), {}, [("filter Big", "added")], ["Big is new"]),
    ("a constant", lambda one: one.with_entry("constant", "Rate", value=D("1.5")), {}, [("constant Rate", "added")], ["Rate is new"]),
    ("a rule is nothing for readers", lambda one: one.with_entry("rule", "Positive", holds="Volume > 0"), {}, [("rule Positive", "added")], []),
    ("a format is nothing for readers", lambda one: one.with_changed("Cost", format="0.00"), {}, [("field Cost", "format")], []),
]  # fmt: skip


class Words(unittest.TestCase):
    def test_cases(self) -> None:
        before = loads().with_field("Twice", "Cost * 2")
        for name, change, renamed, entries, sentences in CHANGES:
            with self.subTest(name):
                found = differences(before, change(before), renamed)
                self.assertEqual([(one.entry, one.what) for one in found], entries)
                self.assertEqual([text for one in found if (text := one.sentence())], sentences)

    def test_back_again(self) -> None:
        """What was added one way was removed the other way."""
        before = loads().with_field("Twice", "Cost * 2")
        opposite = {"added": "removed", "removed": "added"}
        for name, change, renamed, _, _ in CHANGES:
            with self.subTest(name):
                after = change(before)
                there = differences(before, after, renamed)
                back = differences(after, before, {old: new for new, old in renamed.items()})
                self.assertEqual(
                    sorted(opposite.get(one.what, one.what) for one in there), sorted(one.what for one in back)
                )


class Recognised(unittest.TestCase):
    """Fields under other names, values under other names, values that a clean fills in."""

    def test_names_before(self) -> None:
        ids = [f"L{at:03}" for at in range(60)]
        then = pa.table({"Id": ids, "Mass": [float(at) for at in range(60)], "Yes": [at % 2 == 0 for at in range(60)]})
        cases = [
            ({}, {}),
            ({"Mass": "Weight"}, {"Weight": "Mass"}),
            ({"Mass": "Weight", "Id": "Load"}, {"Weight": "Mass", "Load": "Id"}),
            ({"Yes": "Sent"}, {}),  # two values tell nothing
        ]
        for renamed, expected in cases:
            with self.subTest(renamed):
                now = then.rename_columns([renamed.get(name, name) for name in then.schema.names])
                source = oak.Source.from_table(now, name="W")
                self.assertEqual(names_before(source, oak.Source.from_table(then, name="W").opened, None), expected)

    def test_a_reader_under_other_names(self) -> None:
        reader = RenamedReader(oak.Source.from_table(LOADS, name="L").opened, {"Cubic": "Volume"})
        self.assertIn("Cubic", reader.columns())
        self.assertNotIn("Volume", reader.columns())
        (batch,) = reader.batches(["Cubic", "Mill"])
        self.assertEqual(batch.schema.names, ["Cubic", "Mill"])
        self.assertEqual(batch.column(0).to_pylist(), LOADS.column("Volume").to_pylist())
        self.assertEqual(sum(one.num_rows for one in reader.batches([])), LOADS.num_rows)

    def test_recoded_values(self) -> None:
        species = ["oak", "ash", "larch"] * 40
        then = pa.table({"Id": [f"L{at:03}" for at in range(120)], "Species": species})
        cases = [
            ({}, {}),
            ({"oak": "Oak"}, {"Species": {"Oak": "oak"}}),
            (
                {"oak": "Oak", "ash": "Ash", "larch": "Larch"},
                {"Species": {"Oak": "oak", "Ash": "ash", "Larch": "larch"}},
            ),
            ({"oak": "tree", "ash": "tree"}, {}),  # two into one: not the same values under other names
        ]
        for values, expected in cases:
            with self.subTest(values):
                now = then.set_column(1, "Species", [[values.get(one, one) for one in species]])
                found = recoded(oak.Source.from_table(now, name="S"), oak.Source.from_table(then, name="S"))
                self.assertEqual(found, expected)

    def test_nulls_before_a_clean(self) -> None:
        source = loads().with_changed("Cost", clean="COALESCE(VALUE, 0)").with_changed("Mill", clean="UPPER(VALUE)")
        self.assertEqual(
            {name: round(share, 4) for name, share in arrived_null(source).items()}, {"Cost": 0.3333, "Mill": 0.1667}
        )
        self.assertEqual(arrived_null(loads()), {})


class Told(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", "Id,Mill,Volume\n1,Low Weir,10\n2,High Ford,5\n")
        source = oak.intake("loads.csv", name="Loads", definition="loads.oak.toml").source
        source.save()
        self.write(
            "r.report.toml",
            '[report]\nname = "R"\nsource = "Loads"\n\n[[panel]]\nkind = "figure"\ntitle = "V"\nshow = ["Volume"]\n',
        )
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        self.oak("report", "publish", "r.report.toml")

    def test_readers_learn_what_changed_since_they_last_looked(self) -> None:
        self.assertNotIn("since you last looked", self.oak("report", "render", "R"))
        self.assertNotIn("since you last looked", self.oak("report", "render", "R"))
        self.oak("field", "add", "loads", "Half", "Volume / 2")
        self.oak("field", "set", "loads", "Mill", "--description", "Where it goes")
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        said = " ".join(self.oak("report", "render", "R").split())
        self.assertIn(
            "since you last looked: version 2 instead of 1; Mill is described as: Where it goes; Half is new", said
        )
        self.assertNotIn("since you last looked", self.oak("report", "render", "R"))
        shown = self.oak("versions", "Loads")
        self.assertIn("report R", shown)

    def test_who_publishes_learns_who_reads(self) -> None:
        self.oak("report", "render", "R", "--quiet")
        Path("r.report.toml").unlink()
        self.oak("field", "clean", "loads", "Volume", "VALUE * 2")
        said = " ".join(self.oak("publish", "loads", "--dry-run", "--width", "160").split())
        for words in (
            "How the definition differs from version 1",
            "field Volume clean VALUE * 2",
            "used by 1 report",
            "report R, which saw version 1",
            "+100.0%",
        ):
            self.assertIn(words, said)
        self.oak("field", "drop", "loads", "Volume", "--yes")
        refused = self.oak("publish", "loads", code=2)
        self.assertIn("1 panel will stop working", refused)
        self.assertEqual(len(oak.Catalogue.open("catalogue").versions("Loads")), 1)
        self.oak("publish", "loads", "--yes")

    def test_a_schedule_goes_on_after_a_failure(self) -> None:
        self.write(
            "nightly.toml",
            '[[snapshot]]\nsource = "gone.oak.toml"\n\n[[snapshot]]\nsource = "loads.oak.toml"\nkeep = 1\nwatch = true\n',
        )
        self.oak("watch", "add", "Loads", "much", "SUM(Volume) > 1")
        found = self.oak_json("snapshot", "run", "nightly.toml", code=None)
        self.assertEqual(
            (len(found["snapshots"]), [one["state"] for one in found["results"]], len(found["failed"])),
            (1, ["true"], 1),
        )
        self.oak("snapshot", "run", "nightly.toml", code=1)
        self.assertEqual(len(oak.Catalogue.open("catalogue").snapshots.all("Loads")), 1)
        for text in (
            "",
            "[snapshot]\nx = 1\n",
            "[[snapshot]]\nkeep = 3\n",
            '[[snapshot]]\nsource = "loads.oak.toml"\nkeep = "many"\n',
            "no toml =",
        ):
            with self.subTest(text):
                self.write("odd.toml", text)
                self.assertIn("not-a-schedule", self.oak("snapshot", "run", "odd.toml", code=3))

    def test_a_draft_is_marked_wherever_it_is_shown(self) -> None:
        self.oak("field", "set", "loads", "Mill", "--description", "x")
        self.oak("publish", "loads")
        for call in (
            "tally Loads --draft --show Volume",
            "peek Loads --draft -n 1",
            "profile Loads --draft",
            "export Loads --draft --to x.csv",
            "report render r.report.toml --draft",
        ):
            with self.subTest(call):
                self.assertIn("version 2 (draft)", self.oak(*call.split()))
        self.oak("report", "render", "r.report.toml", "--draft", "--to", "d.html")
        self.assertIn('class="draft">version 2 (draft)', Path("d.html").read_text("utf-8"))
        self.assertEqual(
            self.oak_json("tally", "Loads", "--draft", "--show", "Volume")["version"].partition(",")[0], "Loads"
        )

    def test_one_works_under_the_name_one_is_logged_in_by(self) -> None:
        self.assertEqual(oak.Catalogue.open("catalogue").person, getpass.getuser())
        with mock.patch.dict("os.environ", {"OAK_USER": "somebody else"}):
            self.assertEqual(oak.Catalogue.open("catalogue").person, getpass.getuser())


if __name__ == "__main__":
    unittest.main()
