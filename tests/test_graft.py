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

    def test_a_field_in_conflict_comes_under_another_name(self) -> None:
        self.oak("field", "add", "two", "With tax", "Outlay * 2")
        wanted = oak.open_source("one.oak.toml").tally(show=["Large cost"]).value()
        self.oak("field", "graft", "one", "two", "Large cost", "--map", "Cost=Outlay", "--rename", "With tax=Taxed")
        two = oak.open_source("two.oak.toml")
        self.assertIn("SUM(Taxed)", two.state("Large cost").spec.formula)
        self.assertEqual((two.tally(show=["Large cost"]).value(), two.state("With tax").spec.formula), (wanted, "Outlay * 2"))  # fmt: skip

    def test_fields_of_one_name_are_compared_by_their_values(self) -> None:
        litres = [",".join(map(str, (load, "xyz"["abc".index(mill)], volume * 1000, "dear" if cost > 70 else "cheap"))) for load, mill, volume, cost in ROWS]  # fmt: skip
        self.write("three.csv", "\n".join(["Load,Mill,Volume,Cost", *litres]) + "\n")
        oak.intake(["three.csv"], name="Three", definition="three.oak.toml").save()
        for field, names, doubts in (
            ("Dense", ("Cost / Volume", "Mill"), {"Volume": "in another unit", "Cost": "number in One and a text in Three"}),
            ("Of a", ("COUNT(*) FILTER (WHERE Mill = 'a')",), {"Mill": "no value of it in common: 'a' there, 'x' here"}),
            ("Loads", ("COUNT(DISTINCT Load)",), {}),
        ):  # fmt: skip
            self.oak("field", "add", "one", field, names[0])
            found = plan_graft(oak.open_source("one.oak.toml"), [field], oak.open_source("three.oak.toml"))
            self.assertEqual({*found.doubts}, {*doubts}, found.doubts)
            for name, words in doubts.items():
                self.assertIn(words, found.doubts[name])
        self.assertIn("Mill may not be the same", self.oak("field", "graft", "one", "three", "Of a", code=1))

    def test_a_field_that_would_need_itself_is_refused(self) -> None:
        self.oak("field", "add", "two", "Tariff", '"With tax" + Outlay', code=2)
        self.write("four.csv", "Load,Outlay\n1,2\n")
        source = oak.intake(["four.csv"], name="Four", definition="four.oak.toml").source
        source.with_field("Taxed", "Outlay * 2").save()
        document = oak.open_source("four.oak.toml").document
        text = document.text.replace('"Outlay * 2"', "'Outlay * 2 + \"With tax\"'")
        self.write("four.oak.toml", text)
        one, four = oak.open_source("one.oak.toml"), oak.open_source("four.oak.toml")
        self.raises("cycle", plan_graft, one, ["With tax"], four, {"Cost": "Taxed"})

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
            .replace('name = "R"', 'name = "R, Two"')
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
        said = self.oak("report", "retarget", "r.report.toml", "two", "--map", "Cost=Outlay", code=1)
        self.assertIn("unknown-field", said)
        self.assertIn("Mill may be Works: --map 'Mill=Works'", said)


if __name__ == "__main__":
    unittest.main()
