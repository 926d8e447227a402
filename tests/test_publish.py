"""The catalogue and reports: drafts, releases, what reports read, what is drawn."""

from __future__ import annotations

import sqlite3
import struct
from html.parser import HTMLParser
from pathlib import Path
from typing import Any
from unittest import mock

import oak_ledger as oak
from oak_ledger.catalogue import storage
from oak_ledger.catalogue.versions import public_definition
from tests.support import D, FolderCase

CSV = "Id,Mill,Volume,Cost\n" + "".join(
    f"{at},{'Low Weir' if at % 3 else 'High Ford'},{at}.5,{at * 2}\n" for at in range(1, 41)
)
REPORT = """\
[report]
name = "Costs & more"
source = "Loads"
owner = "Mill desk"
text = "{Rate} per mill <really>"

[[field]]
name = "Share"
formula = '''SUM(Cost) / SUM(Twice)'''
format = "0%"

[[panel]]
kind = "figure"
title = "Rate"
show = ["Rate"]

[[panel]]
kind = "bars"
title = "{volume} by mill"
by = ["Mill"]
show = ["Volume"]
colours = { "Low Weir" = "#4b7f3c" }

[[panel]]
kind = "table"
title = "Mills"
by = ["Mill"]
show = ["Volume", "Rate", "Share"]
totals = true
"""


class WithCatalogue(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", CSV)
        source = oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").source
        source = source.with_field("Twice", "Cost * 2", hidden=True).with_field(
            "Rate", "SUM(Cost) / SUM(Volume)", format="0.00"
        )
        source.save()
        self.source = oak.open_source("loads.oak.toml")
        self.report = oak.open_report(self.write("r.report.toml", REPORT))

    def catalogue(self) -> oak.Catalogue:
        return oak.Catalogue.open("catalogue", create=True)


class Publishing(WithCatalogue):
    def test_no_path_of_a_machine_is_published(self) -> None:
        for path in ("/srv/own/loads.csv", "C:\\own\\loads.csv", "d:/own/loads.csv", "~/own/loads.csv", "loads.csv"):
            with self.subTest(path):
                document = self.source.document
                moved = document.replaced(document.all("origin")[0], {"path": path})
                self.assertEqual(public_definition(moved).all("origin")[0].values["path"], "loads.csv")
        kept = document.replaced(document.all("origin")[0], {"path": "own/loads.csv"})
        self.assertEqual(public_definition(kept).all("origin")[0].values["path"], "own/loads.csv")

    def test_draft_release_and_what_reports_get(self) -> None:
        place = self.catalogue()
        first = place.publish(self.source, note="first")
        self.assertEqual((first.number, first.stage, first.rows, first.note), (1, "draft", 40, "first"))
        self.raises("not-released", place.source, "Loads")
        self.assertEqual(place.source("Loads", drafts=True).tally().value(), 40)
        place.release("Loads", note="proven")
        published = place.source("loads")
        self.assertEqual(published.rows(limit=2).to_dicts(), self.source.rows(limit=2).to_dicts())
        self.assertAlmostEqual(published.tally(show=["Rate"]).value(), self.source.tally(show=["Rate"]).value())
        self.write("loads.csv", "Id,Mill,Volume,Cost\n1,Low Weir,1.5,2\n")
        self.assertEqual(place.source("Loads").tally().value(), 40)  # published rows stay as they were
        second = place.publish(oak.open_source("loads.oak.toml"))
        self.assertEqual([(one.number, one.stage) for one in place.versions("Loads")], [(1, "released"), (2, "draft")])
        place.release("Loads", second.number)
        self.assertEqual(
            [(one.number, one.stage) for one in place.versions("Loads")], [(1, "retired"), (2, "released")]
        )
        self.assertEqual(place.source("Loads").tally().value(), 1)
        place.release("Loads", 1)  # going back
        self.assertEqual(place.source("Loads").tally().value(), 40)
        self.raises("released-already", place.release, "Loads", 1)
        self.raises("unknown-version", place.release, "Loads", 9)
        self.assertIn("Loads", self.raises("unknown-source", place.source, "Load").hint)

    def test_every_type_comes_back_exactly(self) -> None:
        made = self.source.with_field("Day", "DATE '2026-01-01' + Id").with_field("When", "CAST(Day AS TIMESTAMP)")
        made = (
            made.with_field("Big", "Id > 20")
            .with_field("Exact", "Volume * 1.001")
            .with_field("Half", "Id / 2")
            .with_field("Name", "NULLIF(Mill, 'Low Weir')")
        )
        self.catalogue().publish(made)
        back = self.catalogue().source("Loads", drafts=True)
        self.assertTrue(back.rows().table.equals(made.rows().table))
        self.assertEqual([str(one.type) for one in back.fields], [str(one.type) for one in made.fields])

    def test_a_broken_source_is_refused(self) -> None:
        made = self.source.changed(self.source.document.added("field", {"name": "X", "formula": "Zebra"}))
        self.raises("not-publishable", self.catalogue().publish, made)
        self.assertEqual(self.catalogue().sources(), [])

    def test_nothing_is_half_published(self) -> None:
        place = self.catalogue()
        place.publish(self.source)
        data = sorted(path.name for path in Path("catalogue/data").iterdir())
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")):
            self.raises("not-written", place.publish, self.source)
        with (
            mock.patch.object(Path, "replace", side_effect=OSError(28, "No space left on device")),
            self.assertRaises((oak.OakError, OSError)),
        ):
            place.publish(self.source)
        self.assertEqual(sorted(path.name for path in Path("catalogue/data").iterdir()), data)
        self.assertEqual(len(place.versions("Loads")), 1)

    def test_a_catalogue_that_cannot_be_used(self) -> None:
        self.raises("no-catalogue", oak.Catalogue.open, "nowhere")
        place = self.catalogue()
        place.publish(self.source)
        with mock.patch.object(storage, "LOCK_SECONDS", 0.05):
            blocked = oak.Catalogue.open("catalogue")
            other = sqlite3.connect("catalogue/catalogue.db")
            other.execute("begin immediate")
            error = self.raises("locked", blocked.publish, self.source)
            other.rollback()
            other.close()
        self.assertEqual(error.exit_code, 3)
        self.assertEqual(len(place.versions("Loads")), 1)
        Path("bad").mkdir()
        Path("bad/catalogue.db").write_bytes(b"this is no database, whatever its name says" * 40)
        self.raises("catalogue-unusable", oak.Catalogue.open, "bad")
        Path("file").write_text("x")
        self.raises("not-written", oak.Catalogue.open, "file", create=True)


class Page(HTMLParser):
    """Collects what a page shows and loads."""

    def __init__(self) -> None:
        super().__init__()
        self.texts: list[str] = []
        self.loads: list[str] = []

    def handle_data(self, data: str) -> None:
        self.texts.append(data.strip())

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.loads += [value or "" for name, value in attrs if name in ("src", "href")]


class Reports(WithCatalogue):
    def test_panels_and_local_fields(self) -> None:
        view = self.report.view(self.source)
        self.assertEqual([panel.title for panel in view.panels], ["Rate", "Volume by mill", "Mills"])
        self.assertEqual(view.findings, [])
        table: Any = view.panels[2].answer
        self.assertEqual(table.names, ["Mill", "Volume", "Rate", "Share"])
        self.assertEqual(table.totals_shown(), ["", "840.0", "1.95", "50%"])
        self.assertEqual(sum(row["Volume"] for row in table.to_dicts()), D("840.0"))
        self.assertEqual(view.version, "working copy")

    def test_a_broken_panel_does_not_take_the_others_down(self) -> None:
        made = self.source.without(["Twice"])
        view = self.report.view(made)
        self.assertEqual([panel.answer is None for panel in view.panels], [False, False, True])
        self.assertEqual(
            {one.place.where for one in oak.check_reports([self.report], made)[0]},
            {"r.report.toml, field 'Share'", "r.report.toml, panel 'Mills'"},
        )

    def test_a_sum_of_ratios_in_a_panel(self) -> None:
        made = self.source.with_field("Row rate", "Cost / Volume")
        report = oak.open_report(
            self.write("x.report.toml", REPORT.replace('["Volume", "Rate", "Share"]', '["Row rate"]'))
        )
        found = oak.check_reports([report], made)[0]
        self.assertEqual([one.code for one in found], ["not-additive"])
        self.assertIn("panel 'Mills'", found[0].place.where)

    def test_wrong_report_files(self) -> None:
        cases = [
            ('kind = "bars"', 'kind = "pie"', "wrong-value", "kinds are table, bars, lines"),
            ('by = ["Mill"]\nshow = ["Volume"]', 'show = ["Volume"]', "wrong-value", "group it by one field"),
            (
                'show = ["Rate"]',
                'by = ["Mill"]\nshow = ["Rate"]',
                "wrong-value",
                "has no by; that is for table, bars, lines",
            ),
            ('"#4b7f3c"', '"green"', "wrong-value", "#4a7c3a"),
            ("title = ", "titel = ", "unknown-key", "Did you mean title?"),
            ('show = ["Rate"]', "show = []", "wrong-value", "name one thing in show"),
        ]
        for old, new, code, words in cases:
            with self.subTest(new):
                path = self.write("w.report.toml", REPORT.replace(old, new, 1))
                self.assertIn(words, str(self.raises(code, oak.open_report, path)))

    def test_the_page_needs_nothing_beside_it(self) -> None:
        self.catalogue().publish(self.source)
        view = self.report.view(self.catalogue().source("Loads", drafts=True))
        oak.save_report(view, "out/r.html")
        page = Page()
        page.feed(Path("out/r.html").read_text("utf-8"))
        shown = " ".join(page.texts)
        for words in (
            "Costs & more",
            "Rate per mill <really>",
            "1.95",
            "840.0",
            "version 1 (draft)",
            "Mill desk",
            "all",
        ):
            self.assertIn(words, shown)
        self.assertTrue(page.loads)
        self.assertTrue(all(one.startswith("data:image/png;base64,") for one in page.loads))

    def test_the_picture_has_the_size_of_a_sheet(self) -> None:
        oak.save_report(self.report.view(self.source), "r.png")
        content = Path("r.png").read_bytes()
        width, height = struct.unpack(">II", content[16:24])
        self.assertEqual((content[:8], width), (b"\x89PNG\r\n\x1a\n", 1280))
        self.assertGreater(height, 400)
        oak.save_report(self.report.view(self.source.without(["Twice"])), "b.png")
        self.raises("unknown-ending", oak.save_report, self.report.view(self.source), "r.doc")

    def test_an_empty_source_gives_an_empty_report(self) -> None:
        self.write("loads.csv", "Id,Mill,Volume,Cost\n")
        view = self.report.view(oak.open_source("loads.oak.toml"))
        self.assertEqual({one.code for one in view.findings}, {"no-rows"})
        oak.save_report(view, "e.png")
        oak.save_report(view, "e.html")

    def test_what_a_change_does_to_the_figures(self) -> None:
        after = self.source.with_changed("Cost", clean="VALUE + 1")
        changes = oak.report_changes([self.report], self.source, after)
        self.assertEqual([(one.panel, one.measure) for one in changes], [("Rate", "Rate"), ("Mills", "Rate")])
        self.assertAlmostEqual(changes[0].after - changes[0].before, 40 / 840)
        self.assertEqual(oak.report_changes([self.report], self.source, self.source), [])
        broken = oak.report_changes([self.report], self.source, self.source.without(["Twice"]))
        self.assertEqual([(one.panel, one.after_works) for one in broken], [("Mills", False)])
        renamed = self.source.with_renamed({"Mill": "Works"})
        report = oak.Report(oak.open_report(self.write("n.report.toml", REPORT.replace('"Mill"', '"Works"'))).document)
        self.assertEqual(oak.report_changes([report], self.source, renamed, {"Works": "Mill"}), [])
        fewer = oak.report_changes([self.report], self.source, self.source.with_changed("Mill", clean="'one'"))
        self.assertEqual(
            {(one.panel, one.measure, one.before == one.after, len(one.groups)) for one in fewer},
            {
                ("Volume by mill", "Volume", True, 3),
                ("Mills", "Volume", True, 3),
                ("Mills", "Rate", True, 3),
                ("Mills", "Share", True, 3),
            },
        )
