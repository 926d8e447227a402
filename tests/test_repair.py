"""Changes upstream and their repair, on files: what the check says, what the mend does, and that nothing else is lost."""

from __future__ import annotations

import random
import unittest
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

import oak_ledger as oak
from oak_ledger.definition.references import references, with_replaced_values
from oak_ledger.reference import Uses, counted_entries
from tests.support import FolderCase

ROWS = 120
chance = random.Random(3)
SPECIES = [chance.choice(["oak", "ash", "larch"]) for _ in range(ROWS)]
COLUMNS: dict[str, list[Any]] = {
    "LOAD": [f"L{at:04}" for at in range(ROWS)],
    "STAND": [f"ST-{chance.randrange(30):03}" for _ in range(ROWS)],
    "SPECIES": SPECIES,
    "VOLUME": [f"{chance.uniform(2, 40):.2f}" for _ in range(ROWS)],
    "COST": [f"{chance.uniform(50, 400):.2f}" for _ in range(ROWS)],
}
# What the fields and the report say beside what is repaired; every line of it must be there afterwards.
REPORT = """\
# Kept by the haulage desk.
[report]
name = "Species"
source = "Loads"
text = "By {Species}"      # shown under the title

[[field]]
name = "Oak share"
formula = '''SUM(CASE Species WHEN 'oak' THEN Volume ELSE 0 END) / SUM(Volume)'''
format = "0.0%"

[[panel]]
kind = "bars"
title = "{Volume} by species"
by = ["Species"]
show = ["Volume"]
order = ["larch", "oak"]
colours = { oak = "#4a7c3a", ash = "#c8692f",   larch = "#26302a" }

[[panel]]
kind = "table"
title = "Stands"
by = ["Stand"]
show = ["Volume", "Cost", "Oak share"]
where = '''Species IN ('oak', 'larch') AND Cost > 60'''
sort = ["-Volume"]
limit = 5
totals = true

[[panel]]
kind = "figure"
title = "Broad-leaved"
show = ["Volume"]
where = "Broad"
"""


def delivered(columns: dict[str, list[Any]]) -> str:
    """A delivery as delimited text."""
    lines = [",".join(columns), *(",".join(map(str, row)) for row in zip(*columns.values(), strict=True))]
    return "\n".join(lines) + "\n"


class Delivered(FolderCase):
    """A released source with a report, and what its figures were."""

    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", delivered(COLUMNS))
        oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").save()
        for call in (
            (
                "field",
                "add",
                "loads",
                "Class",
                "CASE Species WHEN 'oak' THEN 'slow' WHEN 'larch' THEN 'quick' ELSE 'other' END",
            ),
            ("field", "add", "loads", "Cost per m³", "SUM(Cost) / SUM(Volume)", "--format", "0.00"),
            ("filter", "add", "loads", "Broad", "Species <> 'larch' AND UPPER(Stand) LIKE 'ST-%'"),
            ("rule", "add", "loads", "known", "Species IN ('oak', 'ash', 'larch')"),
            ("field", "key", "loads", "Load"),
        ):
            self.oak(*call)
        self.write("reports/species.report.toml", REPORT)
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        self.wanted = self.figures()

    def figures(self) -> list[Any]:
        """Every figure of the report, by panel, without the names of columns."""
        view = oak.open_report("reports/species.report.toml").view(oak.open_source("loads.oak.toml"))
        self.assertEqual([one.message for one in view.findings if one.severity == "error"], [])
        return [
            sorted(map(str, (tuple(row.values()) for row in one.answer.to_dicts())))
            for one in view.panels
            if one.answer
        ]

    def deliver(self, **changes: list[Any] | None) -> None:
        """Deliver again with some columns changed; None leaves one out."""
        columns = {**COLUMNS, **changes}
        self.write("loads.csv", delivered({name: values for name, values in columns.items() if values is not None}))

    def mended(self, *repairs: str, same: bool = True) -> str:
        """Mend; afterwards nothing is broken, and the figures are what they were."""
        self.assertIn("nothing was written", self.oak("mend", "loads", *repairs, "--dry-run", code=None))
        said = self.oak("mend", "loads", *repairs)
        check = self.oak_json("check", "loads", code=None)
        self.assertEqual((check["causes"], check["moved"]), ([], []))
        if same:
            self.assertEqual(self.figures(), self.wanted)
        return said


class Repairs(Delivered):
    def test_a_column_renamed(self) -> None:
        self.deliver(STAND=None, PLOT=COLUMNS["STAND"])
        check = self.oak_json("check", "loads", code=1)
        (cause,) = check["causes"]
        self.assertEqual(cause["what"], "column 'STAND' is missing")
        self.assertEqual(
            [(one["kind"], one["name"]) for one in cause["entries"]],
            [("field", "Stand"), ("filter", "Broad"), ("panel", "Stands"), ("panel", "Broad-leaved")],
        )
        self.assertEqual([(one["column"], one["sure"]) for one in cause["candidates"]], [("PLOT", True)])
        self.assertEqual(check["working"], {"fields": 7, "working_fields": 6, "panels": 3, "working_panels": 1})
        self.assertIn("1 field, 1 filter, 2 panels in 1 report", self.oak("check", "loads", "--width", "120", code=1))
        self.mended("STAND=PLOT")
        self.assertEqual(Path("reports/species.report.toml").read_text(), REPORT)

    def test_several_at_once_and_a_field_with_a_new_name(self) -> None:
        self.deliver(STAND=None, COST=None, PLOT=COLUMNS["STAND"], PRICE=COLUMNS["COST"])
        self.assertIn("oak mend loads 'STAND=PLOT' 'COST=PRICE'", self.oak("check", "loads", code=1))
        self.mended("STAND=PLOT", "COST=PRICE", "--rename", "Stand=Plot")
        text = Path("reports/species.report.toml").read_text()
        self.assertEqual(text, REPORT.replace('by = ["Stand"]', 'by = ["Plot"]'))

    def test_columns_that_changed_places(self) -> None:
        self.deliver(VOLUME=COLUMNS["COST"], COST=COLUMNS["VOLUME"])
        check = self.oak_json("check", "loads", code=1)
        self.assertEqual(
            {(one["field"], one["column"]) for one in check["moved"]}, {("Volume", "COST"), ("Cost", "VOLUME")}
        )
        self.mended("VOLUME=COST", "COST=VOLUME")

    def test_columns_shifted_by_one(self) -> None:
        self.deliver(STAND=COLUMNS["SPECIES"], SPECIES=COLUMNS["VOLUME"], VOLUME=COLUMNS["COST"], COST=COLUMNS["STAND"])
        self.mended("STAND=COST", "SPECIES=STAND", "VOLUME=SPECIES", "COST=VOLUME")

    def test_values_replaced(self) -> None:
        new = {"oak": "Oak", "ash": "Ash (white)", "larch": "LA"}
        self.deliver(SPECIES=[new[one] for one in SPECIES])
        self.mended("--values", "Species", *(f"{old}={one}" for old, one in new.items()), same=False)
        figures = [
            [row.replace("Ash (white)", "ash").replace("Oak", "oak").replace("'LA'", "'larch'") for row in panel]
            for panel in self.figures()
        ]
        self.assertEqual([sorted(panel) for panel in figures], self.wanted)
        text = Path("reports/species.report.toml").read_text()
        self.assertIn("WHEN 'Oak' THEN", text)
        self.assertIn("Species IN ('Oak', 'LA') AND Cost > 60", text)
        self.assertEqual(
            oak.open_report("reports/species.report.toml").panels[0].colours,
            {"Oak": "#4a7c3a", "Ash (white)": "#c8692f", "LA": "#26302a"},
        )
        self.assertEqual(oak.open_report("reports/species.report.toml").panels[0].order, ("LA", "Oak"))
        definition = Path("loads.oak.toml").read_text()
        self.assertIn("Species <> 'LA'", definition)
        self.assertIn("('Oak', 'Ash (white)', 'LA')", definition)
        self.assertIn("THEN 'slow'", definition)
        self.oak("undo", "loads")
        self.assertEqual(Path("reports/species.report.toml").read_text(), REPORT)

    def test_values_of_a_recode_list(self) -> None:
        self.oak("field", "recode", "loads", "Species", "oak=Quercus")
        self.oak("mend", "loads", "--values", "Species", "oak=Oak")
        self.assertIn('Oak = "Quercus"', Path("loads.oak.toml").read_text())

    def test_a_text_that_only_looks_the_same_is_left_alone(self) -> None:
        self.oak(
            "field", "add", "loads", "Other", "CASE WHEN Stand = 'oak' THEN 'oak' ELSE LOWER(Species) || 'oak' END"
        )
        self.oak("mend", "loads", "--values", "Species", "oak=Oak")
        self.assertIn("Stand = 'oak' THEN 'oak' ELSE LOWER(Species) || 'oak'", Path("loads.oak.toml").read_text())

    def test_field_and_column_of_one_name(self) -> None:
        self.oak("field", "rename", "loads", "Stand=STAND")
        self.deliver(STAND=None, PLOT=COLUMNS["STAND"])
        self.mended("STAND=PLOT")

    def test_a_report_that_was_away(self) -> None:
        away = self.write("elsewhere/far.report.toml", REPORT)
        Path("reports").rename("kept")
        self.oak("field", "rename", "loads", "Stand=Plot", "--reports", "kept")
        self.oak("mend", "loads", "Stand=Plot", "--reports", "elsewhere")
        self.assertEqual(away.read_text(), REPORT.replace('by = ["Stand"]', 'by = ["Plot"]'))

    def test_a_file_that_is_called_otherwise(self) -> None:
        Path("loads.csv").rename("deliveries.csv")
        self.oak("mend", "loads", "--path", "deliveries.csv")
        self.assertEqual(self.figures(), self.wanted)

    def test_without_a_successor(self) -> None:
        self.deliver(COST=None, REMARK=[f"note {at % 7}" for at in range(ROWS)])
        check = self.oak_json("check", "loads", code=1)
        self.assertEqual([one["candidates"] for one in check["causes"]], [[]])
        self.assertIn("no column of the origin looks like it", self.oak("check", "loads", code=1))

    def test_new_rows_alone_are_no_change(self) -> None:
        more = {name: values + values[:30] for name, values in COLUMNS.items()}
        more["LOAD"] = [f"L{at:04}" for at in range(ROWS + 30)]
        self.write("loads.csv", delivered(more))
        check = self.oak_json("check", "loads", code=None)
        self.assertEqual((check["causes"], check["moved"]), ([], []))

    def test_a_broken_report_alone_is_found(self) -> None:
        self.write("reports/wrong.report.toml", REPORT.replace('by = ["Stand"]', 'by = ["Stnd"]'))
        check = self.oak_json("check", "loads", code=1)
        (cause,) = check["causes"]
        self.assertEqual([(one["file"], one["name"]) for one in cause["entries"]], [("wrong.report.toml", "Stands")])
        self.assertIn("Stnd", cause["what"])

    def test_what_an_error_is_about_is_not_read_from_its_words(self) -> None:
        """A report file with a comma in its name; a broken field of its own whose name is a part of another name."""
        local = '[[field]]\nname = "e"\nformula = "Nowhere + 1"\n\n[[panel]]'
        text = REPORT.replace('by = ["Stand"]', 'by = ["Treehouse"]').replace("[[panel]]", local, 1)
        self.write("reports/first, second.report.toml", text)
        check = self.oak_json("check", "loads", code=1)
        entries = {(one["file"], one["kind"], one["name"]) for cause in check["causes"] for one in cause["entries"]}
        self.assertEqual({file for file, _, _ in entries}, {"first, second.report.toml"})
        self.assertIn(("first, second.report.toml", "panel", "Stands"), entries)
        said = " ".join(self.oak("report", "check", "reports", code=1).split())
        self.assertIn("There is no field 'Treehouse' in Loads", said)
        self.assertNotIn("It needs 'e'", said)

    def test_a_report_without_its_source_does_not_stop_the_others(self) -> None:
        self.write("reports/other.report.toml", REPORT.replace('source = "Loads"', 'source = "Nowhere"'))
        found = self.oak_json("report", "check", "reports", code=1)["reports"]
        self.assertEqual([[one["code"] for one in report["findings"]] for report in found], [["unknown-source"], []])

    def test_a_filter_that_is_broken(self) -> None:
        text = Path("loads.oak.toml").read_text()
        Path("loads.oak.toml").write_text(text.replace("Species <> 'larch' AND", "Specis <> 'larch' AND"))
        check = self.oak_json("check", "loads", code=1)
        (cause,) = check["causes"]
        self.assertEqual(
            [(one["kind"], one["name"]) for one in cause["entries"]], [("filter", "Broad"), ("panel", "Broad-leaved")]
        )
        self.assertEqual(check["working"]["working_panels"], 2)

    def test_nothing_to_compare_with_is_said(self) -> None:
        found = self.oak_json("check", "loads", "--catalogue", "nowhere", code=None)["findings"]
        self.assertIn("not-compared", [one["code"] for one in found])


class Drift(Delivered):
    """Columns that keep their names and change: seen on files by the check, before anything is published."""

    def test_each_change_is_seen(self) -> None:
        times = ROWS // 3
        cases: list[tuple[str, dict[str, Any], str, str]] = [
            ("a unit", {"VOLUME": [f"{float(one) * 35.315:.2f}" for one in COLUMNS["VOLUME"]]}, "drift-unit", "35.3"),
            ("a currency", {"COST": [f"{float(one) * 1.08:.2f}" for one in COLUMNS["COST"]]}, "drift-unit", "1.08 times"),
            ("nulls", {"COST": [one if at % 3 else "" for at, one in enumerate(COLUMNS["COST"])]}, "drift-nulls", f"{(ROWS - 2 * times) / ROWS:.1%}"),
            ("one value", {"SPECIES": ["oak"] * ROWS}, "drift-constant", "one value"),
            ("recoded", {"SPECIES": [f"{one[:2]}1" for one in COLUMNS["SPECIES"]]}, "drift-values", "'oak' → 'oa1'"),
            ("recased", {"SPECIES": [one.upper() for one in COLUMNS["SPECIES"]]}, "drift-values", "'oak' → 'OAK'"),
            ("a type", {"COST": ["dear"] * ROWS}, "values-lost", "not a"),
        ]  # fmt: skip
        for name, changes, code, words in cases:
            with self.subTest(name):
                self.deliver(**changes)
                found = {one["code"]: one["message"] for one in self.oak_json("check", "loads", code=None)["findings"]}
                self.assertIn(code, found)
                self.assertIn(words, found[code])

    def test_nulls_that_a_clean_fills_in(self) -> None:
        self.oak("field", "clean", "loads", "Cost", "COALESCE(VALUE, 0)")
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        self.deliver(COST=[one if at % 4 else "" for at, one in enumerate(COLUMNS["COST"])])
        found = [
            one["message"]
            for one in self.oak_json("check", "loads", code=None)["findings"]
            if one["code"] == "drift-nulls"
        ]
        self.assertEqual(len(found), 1)
        self.assertIn("Cost arrives without a value in 25.0% of the rows", found[0])

    def test_a_report_that_was_away_while_a_field_was_renamed(self) -> None:
        """It is said what the field is called now, by the log of edits, and by the released version."""
        for keep_log in (True, False):
            text = (self.folder / "reports/species.report.toml").read_text("utf-8")
            (self.folder / "reports/species.report.toml").unlink()
            self.oak("field", "rename", "loads", "Volume=Cubic")
            self.oak("field", "rename", "loads", "Cubic=Solid volume")
            if not keep_log:
                (self.folder / ".loads.oak.toml.edits").unlink()
            self.write("reports/species.report.toml", text)
            said = self.oak("check", "loads", code=1)
            self.assertIn("is now Solid volume: the field was renamed", " ".join(said.split()))
            self.assertIn("oak mend loads 'Volume=Solid volume' --dry-run", said)
            self.assertIn("use Solid volume", self.oak("mend", "loads", code=1))
            self.oak("mend", "loads", "--sure")
            self.assertEqual(self.figures(), self.wanted)
            self.oak("field", "rename", "loads", "Solid volume=Volume")

    def test_a_key_of_a_join(self) -> None:
        self.write("mills.csv", "MILL,TOWN\nLow Weir,x\nHigh Ford,y\n")
        self.write("tickets.csv", "NO,MILL,V\n1,Low Weir,3\n2,High Ford,4\n")
        self.oak("join", "tickets.csv", "mills.csv", "--on", "MILL", "--name", "Tickets", "--to", "tickets.oak.toml")
        before = self.oak("peek", "tickets.oak.toml")
        self.write("mills.csv", "SAWMILL,TOWN\nLow Weir,x\nHigh Ford,y\n")
        self.assertIn("oak mend tickets.oak.toml MILL=SAWMILL --dry-run", self.oak("check", "tickets.oak.toml", code=1))
        self.oak("mend", "tickets.oak.toml", "MILL=SAWMILL")
        self.assertEqual(self.oak("peek", "tickets.oak.toml"), before)


class Consequences(Delivered):
    def test_rows_behind_a_change_and_groups_with_other_names(self) -> None:
        changed = next(
            at for at, one in enumerate(COLUMNS["SPECIES"]) if one == "larch" and float(COLUMNS["COST"][at]) > 60
        )
        self.deliver(
            SPECIES=[{"oak": "Oak"}.get(one, one) for one in COLUMNS["SPECIES"]],
            COST=["999" if at == changed else one for at, one in enumerate(COLUMNS["COST"])],
        )
        self.oak("mend", "loads", "--values", "Species", "oak=Oak")
        found = self.oak_json("publish", "loads", "--dry-run", "--to", "changes.html")["changes"]
        names = {(tuple(pair["before"]), tuple(pair["after"])) for one in found for pair in one["renamed"]}
        self.assertIn((("oak",), ("Oak",)), names)
        page = Path("changes.html").read_text("utf-8")
        self.assertIn("oak → Oak", page)
        self.assertIn("Because of", page)
        since = self.oak_json("why", "reports/species.report.toml", "Stands", "--measure", "Cost", "--source", "loads", "--since", "1")["since"]  # fmt: skip
        self.assertEqual((since["changed"], since["came"], since["went"], since["key"]), (1, 0, 0, ["Load"]))
        self.assertEqual(since["sample"][0]["Cost, now"], "999.00")
        self.oak(
            "why", "reports/species.report.toml", "Stands", "--source", "loads", "--since", "1", "--to", "why.html"
        )
        self.assertIn("Since version 1", Path("why.html").read_text("utf-8"))


class References(Delivered):
    def test_every_place_has_its_span(self) -> None:
        documents = [
            oak.open_source("loads.oak.toml").document,
            oak.open_report("reports/species.report.toml").document,
        ]
        found = [one for document in documents for one in references(document)]
        self.assertGreater(len(found), 20)
        for one in found:
            self.assertEqual(one.text[one.start : one.end].strip('"').casefold(), one.name.casefold(), one)

    def test_what_uses_a_field(self) -> None:
        source = oak.open_source("loads.oak.toml")
        uses = Uses(source, [oak.open_report("reports/species.report.toml").document])
        said = counted_entries(uses.of("Species"))
        self.assertEqual(said, "1 formula, 1 filter, 1 rule, 1 local field, 3 panels, 1 text in 1 report")
        self.assertEqual(counted_entries(uses.of("Class")), "nothing")

    def test_a_trace_goes_down_to_columns_and_up_to_panels(self) -> None:
        found = self.oak_json("trace", "loads", "Volume")
        self.assertEqual(found["files"], ["loads.csv"])
        self.assertEqual(
            [(one["needed"]["kind"], one["needed"]["name"]) for one in found["made_of"]], [("column", "VOLUME")]
        )
        users = {(one["needed"]["name"], one["by"]["kind"], one["by"]["name"]) for one in found["used_by"]}
        self.assertIn(("Volume", "formula", "Cost per m³"), users)
        self.assertIn(("Volume", "local field", "Oak share"), users)
        self.assertIn(("Oak share", "panel", "Stands"), users)
        self.assertNotIn(("Volume", "formula", "Class"), users)

    def test_a_trace_of_sixty_fields_is_drawn(self) -> None:
        source = oak.open_source("loads.oak.toml")
        document = source.document
        for at in range(60):
            document = document.added(
                "field", {"name": f"Step {at}", "formula": f'"Step {at - 1}" + 1' if at % 6 else "Volume * 2"}
            )
        Path("loads.oak.toml").write_text(document.text)
        self.oak("trace", "loads", "Volume", "--to", "volume.png")
        with Image.open("volume.png") as picture:
            self.assertGreater(picture.height, 200)
            self.assertLess(picture.width, 3000)

    def test_a_local_field_hides_a_shared_one_only_in_its_report(self) -> None:
        source = oak.open_source("loads.oak.toml")
        hiding = REPORT.replace('name = "Oak share"', 'name = "Cost"').replace('"Cost", "Oak share"', '"Cost"')
        hiding = hiding.replace(" AND Cost > 60", "")
        other = self.write("hiding.report.toml", hiding)
        uses = Uses(source, [oak.open_report(path).document for path in ("reports/species.report.toml", other)])
        files = {one.file for one in uses.of("Cost") if one.kind == "panel"}
        self.assertEqual(files, {"species.report.toml"})

    def test_a_local_field_never_changes_a_shared_one(self) -> None:
        """The report has a field of a name that the source has, too: its panels show its own, shared formulas keep theirs."""
        source = oak.open_source("loads.oak.toml")
        wanted = source.tally(show=["Cost per m³"]).value()
        total = source.tally(show=["Cost"]).value()
        report = (
            REPORT[: REPORT.index("[[field]]")]
            + """
[[field]]
name = "Twice"
formula = "Cost + Cost"

[[field]]
name = "Cost"
formula = "Cost * 10"

[[panel]]
kind = "table"
title = "All"
show = ["Cost", "Twice", "Cost per m³"]
"""
        )
        self.write("own.report.toml", report)
        view = oak.open_report("own.report.toml").view(source)
        answer = view.panels[0].answer
        assert answer is not None
        self.assertEqual([*answer.names], ["Cost", "Twice", "Cost per m³"])
        self.assertEqual([*answer.to_dicts()[0].values()], [total * 10, total * 20, wanted])

    def test_a_later_version_brings_the_name_of_a_local_field(self) -> None:
        """The report keeps its own, and checking and publishing say so with both formulas."""
        self.oak("field", "add", "loads", "Oak share", "SUM(Volume) / 100")
        said = " ".join(self.oak("publish", "loads", "--width", "200").split())
        self.assertIn("shared-hidden species.report.toml, field 'Oak share'", said)
        self.assertIn(
            "There: SUM(Volume) / 100. Here: SUM(CASE Species WHEN 'oak' THEN Volume ELSE 0 END) / SUM(Volume).", said
        )
        self.assertEqual(self.figures(), self.wanted)
        self.assertIn("shared-hidden", [one["code"] for one in self.oak_json("check", "loads", code=1)["findings"]])
        self.assertIn("shared-hidden", self.oak("report", "check", "reports", "--source", "loads", code=1))

    def test_dropping_a_field_names_what_needs_it(self) -> None:
        self.assertIn("Cost per m³ needs Cost", self.oak("field", "drop", "loads", "Cost", code=2))
        said = self.oak("field", "drop", "loads", "Cost per m³", "Cost", code=2)
        self.assertIn("species.report.toml, panel 'Stands'", said)
        self.assertIn("--yes", said)
        self.assertEqual(self.figures(), self.wanted)
        self.oak("field", "drop", "loads", "Class")  # no report uses it

    def test_local_fields_that_need_each_other(self) -> None:
        source = oak.open_source("loads.oak.toml")
        fields = "".join(
            f'[[field]]\nname = "{one}"\nformula = "{other} + 1"\n\n'
            for one, other in (("A", "B"), ("B", "A"), ("C", "A"))
        )
        self.write("circle.report.toml", REPORT[: REPORT.index("[[field]]")] + fields)
        found = oak.open_report("circle.report.toml").errors(source)
        self.assertEqual([one.code for one in found], ["cycle"] * 3)


TEXTS = st.sampled_from(["oak", "ash", "larch", "it's"])
PIECES = st.one_of(
    st.builds("Species = '{}'".format, TEXTS.map(lambda one: one.replace("'", "''"))),
    st.builds("'{}' <> Species".format, TEXTS.map(lambda one: one.replace("'", "''"))),
    st.builds("Species IN ('{}', 'x')".format, TEXTS.map(lambda one: one.replace("'", "''"))),
    st.builds(
        "CASE (Species) WHEN '{}' THEN 'oak' ELSE 'ash' END = 'oak'".format,
        TEXTS.map(lambda one: one.replace("'", "''")),
    ),
    st.builds("Stand = '{}'".format, TEXTS.map(lambda one: one.replace("'", "''"))),
    st.just("LOWER(Species) = 'oak'"),
    st.just("Volume > 3  /* 'oak' */"),
)


class Values(Delivered):
    @settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.differing_executors])
    @given(st.lists(PIECES, min_size=1, max_size=4))
    def test_replaced_and_replaced_back(self, pieces: list[str]) -> None:
        """Only texts that the field is compared with change, every other character stays, and the way back gives the same file."""
        formula = "  AND ".join(f"({one})" for one in pieces)
        source = oak.open_source("loads.oak.toml")
        document = source.document.added("filter", {"name": "Tried", "where": formula})
        there = with_replaced_values(document, "species", {"oak": "Oak's", "ash": "A"})
        self.assertEqual(with_replaced_values(there, "Species", {"Oak's": "oak", "A": "ash"}).text, document.text)
        block = next(one for one in there.all("filter") if one.values["name"] == "Tried")
        self.assertEqual(oak.formula.parse(block.values["where"]).findings, ())
        self.assertNotIn("Species = 'oak'", block.values["where"])
        for kept in ("Stand = 'oak'", "LOWER(Species) = 'oak'", "THEN 'oak' ELSE 'ash' END = 'oak'", "/* 'oak' */"):
            self.assertEqual(formula.count(kept), block.values["where"].count(kept), kept)


if __name__ == "__main__":
    unittest.main()
