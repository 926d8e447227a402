"""Calculated fields carried into a similar source, and reports pointed at one: what is mapped, what is the same, what arrives broken."""

from __future__ import annotations

import random
import unittest
from pathlib import Path

import oak_ledger as oak
from oak_ledger.reference.graft import plan_graft
from tests.support import FolderCase

chance = random.Random(5)
ROWS = [
    (f"L{at}", chance.choice(["a", "b", "c"]), round(chance.uniform(1, 40), 2), round(chance.uniform(50, 90), 2))
    for at in range(60)
]


class Grafting(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        lines = [",".join(map(str, row)) for row in ROWS]
        self.write("one.csv", "\n".join(["Load,Mill,Volume,Cost", *lines]) + "\n")
        self.write("two.csv", "\n".join(["Load,Works,Volume,Outlay", *lines]) + "\n")
        for name in ("one", "two"):
            oak.intake([f"{name}.csv"], name=name.title(), definition=f"{name}.oak.toml").save()
        for call in (
            ("constant", "set", "one", "Tax", "1.25"),
            ("filter", "add", "one", "Large", "Volume > 20"),
            ("field", "add", "one", "With tax", "Cost * Tax", "--format", "0.00"),
            ("field", "add", "one", "Large cost", 'SUM("With tax") FILTER (WHERE Large)'),
            ("field", "add", "one", "By mill", "Mill || ' ' || Load"),
        ):
            self.oak(*call)

    def test_with_all_that_they_need(self) -> None:
        wanted = oak.open_source("one.oak.toml").tally(show=["Large cost"]).value()
        said = self.oak("field", "graft", "one", "two", "Large cost", "--map", "Cost=Outlay")
        self.assertIn('formula = "Outlay * Tax"', said)
        two = oak.open_source("two.oak.toml")
        self.assertEqual(two.tally(show=["Large cost"]).value(), wanted)
        self.assertEqual(two.state("With tax").format, "0.00")
        self.assertNotIn("By mill", [one.name for one in two.fields])
        again = self.oak("field", "graft", "one", "two", "Large cost", "--map", "Cost=Outlay")
        self.assertIn("there already, with the same meaning: Tax, With tax, Large, Large cost", " ".join(again.split()))
        self.oak("undo", "two")
        self.assertNotIn("Large cost", Path("two.oak.toml").read_text())

    def test_what_is_not_mapped_arrives_broken_and_a_field_with_like_values_is_proposed(self) -> None:
        said = self.oak("field", "graft", "one", "two", "With tax", "By mill", code=1)
        self.assertIn("Two has no field 'Cost'", said)
        self.assertIn("--map 'Cost=Outlay'", said)
        self.assertIn("--map 'Mill=Works'", said)
        two = oak.open_source("two.oak.toml")
        self.assertEqual([two.state(name).broken for name in ("With tax", "By mill", "Tax")], [True, True, False])
        self.assertEqual([one.name for one in oak.broken_names(two)], ["With tax", "By mill"])

    def test_conflicts_side_by_side(self) -> None:
        self.oak("field", "add", "two", "With tax", "Outlay * 2")
        facts = self.oak_json("field", "graft", "one", "two", "Large cost", "--map", "Cost=Outlay", code=1)["facts"]
        self.assertEqual(facts["conflicts"], [{"name": "With tax", "there": "Outlay * Tax", "here": "Outlay * 2"}])
        self.assertEqual(oak.open_source("two.oak.toml").state("With tax").spec.formula, "Outlay * 2")

    def test_mistakes(self) -> None:
        one, two = oak.open_source("one.oak.toml"), oak.open_source("two.oak.toml")
        self.raises("not-calculated", plan_graft, one, ["Cost"], two)
        self.raises("unknown-field", plan_graft, one, ["Zebra"], two)
        self.raises("unknown-field", plan_graft, one, ["With tax"], two, {"Cost": "Zebra"})

    def test_a_report_is_pointed_at_another_source(self) -> None:
        text = '[report]\nname = "R"   # mine\nsource = "One"\n\n[[panel]]\nkind = "bars"\ntitle = "{Cost} by mill"\nby = ["Mill"]\nshow = ["Cost"]\nsort = ["-Cost"]\n'
        self.write("r.report.toml", text)
        self.oak(
            "report",
            "retarget",
            "r.report.toml",
            "two",
            "--map",
            "Cost=Outlay",
            "--map",
            "Mill=Works",
            "--to",
            "s.report.toml",
        )
        self.assertEqual(Path("r.report.toml").read_text(), text)
        new = (
            text.replace('"One"', '"Two"')
            .replace("{Cost}", "{Outlay}")
            .replace('["Cost"]', '["Outlay"]')
            .replace('"-Cost"', '"-Outlay"')
            .replace('"Mill"', '"Works"')
        )
        self.assertEqual(Path("s.report.toml").read_text(), new)
        figures = [
            [[*row.values()] for row in oak.open_report(path).view(oak.open_source(source)).panels[0].answer.to_dicts()]
            for path, source in (("r.report.toml", "one.oak.toml"), ("s.report.toml", "two.oak.toml"))
        ]
        self.assertEqual(figures[0], figures[1])
        self.assertIn(
            "unknown-field", self.oak("report", "retarget", "r.report.toml", "two", "--map", "Cost=Outlay", code=1)
        )


if __name__ == "__main__":
    unittest.main()
