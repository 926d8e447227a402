"""The pages in a real browser: no sideways scrolling from a phone to a desk, nothing serious against them for who cannot see, and they say what they must."""

from __future__ import annotations

import shutil
import unittest
from itertools import pairwise
from pathlib import Path
from typing import Any, ClassVar

from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, sync_playwright

import oak_ledger as oak
from oak_ledger.present.dictionary import entry_of, files
from tests import service
from tests.support import FolderCase

WIDTHS = (360, 768, 1280)
QUIET = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
REPORT = """\
[report]
name = "Mills"
source = "Timber loads"
text = "What each mill took in"

[[panel]]
kind = "figure"
title = "Volume"
show = ["Volume"]

[[panel]]
kind = "bars"
title = "By mill"
by = ["Mill"]
show = ["Volume"]

[[panel]]
kind = "lines"
title = "By day"
by = ["Delivered"]
show = ["Volume"]

[[panel]]
kind = "table"
title = "By mill, grade and species"
by = ["Mill", "Grade", "Species"]
show = ["Volume", "Gross value", "Haulage cost", "Loading cost", "Rate"]
totals = true
subtotals = true

[[panel]]
kind = "table"
title = "Gone"
by = ["Nothing"]
show = ["Volume"]

[[panel]]
kind = "text"
title = "Note"
text = "Weighed at the gate."
"""


class InABrowser(FolderCase):
    browser: ClassVar[Any]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        playing = sync_playwright().start()
        cls.addClassCleanup(playing.stop)
        program = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
        cls.browser = playing.chromium.launch(executable_path=program, args=QUIET)
        cls.addClassCleanup(cls.browser.close)

    def setUp(self) -> None:
        super().setUp()
        data = Path("data")
        oak.make_demo_data(data, 3000)
        source = oak.intake([data / "intake" / "loads_*.csv"], name="Timber loads", definition="loads.oak.toml").source
        source = source.with_field("Rate", 'SUM("Haulage cost") / SUM(Volume)', format="0.00").with_changed(
            "Volume", description="Measured at the mill's <gate>"
        )
        self.place = oak.Catalogue.open("catalogue", create=True)
        self.place.publish(source)
        self.place.release("Timber loads")
        self.report = oak.open_report(self.write("mills.report.toml", REPORT))
        self.source = self.place.source("Timber loads")

    def page(self, width: int) -> Page:
        page = self.browser.new_page(viewport={"width": width, "height": 900})
        self.addCleanup(page.close)
        return page  # type: ignore[no-any-return]

    def check(self, address: str) -> None:
        """At every width nothing goes over the edge; at the narrowest and the widest axe has nothing serious against it."""
        for width in WIDTHS:
            with self.subTest(address.rpartition("/")[2], width=width):
                page = self.page(width)
                page.goto(address)
                self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), width)
                found = Axe().run(page).response["violations"]
                serious = [
                    (one["id"], one["nodes"][0]["html"][:200])
                    for one in found
                    if one["impact"] in ("serious", "critical")
                ]
                self.assertEqual(serious, [])

    def test_a_report(self) -> None:
        view = self.report.view(self.source)
        self.check(oak.save_report(view, "mills.html").resolve().as_uri())
        page = self.page(1280)
        page.goto(Path("mills.html").resolve().as_uri())
        self.assertEqual(page.locator("main").count(), 1)
        levels = [
            int(one[1]) for one in page.evaluate("[...document.querySelectorAll('h1,h2,h3')].map(one => one.tagName)")
        ]
        self.assertEqual(levels[0], 1)
        self.assertTrue(all(later - before <= 1 for before, later in pairwise(levels)))
        for table in page.locator("table").all():
            self.assertEqual((table.locator("caption").count(), table.locator("thead").count()), (1, 1))
            self.assertTrue(all(one.get_attribute("scope") for one in table.locator("th").all()))
        self.assertIn("all", page.locator("tfoot").last.inner_text())
        self.assertEqual(page.locator("details table").count(), 2)  # the numbers of each chart
        self.assertIn("There is no field 'Nothing'", page.locator(".broken").inner_text())
        self.assertIn("version 1 (released)", page.locator(".under").inner_text())
        printed = page.pdf(width="210mm", height="297mm")
        self.assertGreater(len(printed), 10_000)

    def test_the_dictionary(self) -> None:
        made = files([entry_of(self.source, self.place.versions("Timber loads"))], ["html"])
        for name, text in made.items():
            self.check(self.write(name, text).resolve().as_uri())
        page = self.page(360)
        name = next(one for one in made if one != "index.html")
        page.goto(Path(name).resolve().as_uri())
        page.locator("input[type=search]").fill("gate measured")
        shown = [one.inner_text() for one in page.locator("article:visible h3").all()]
        self.assertEqual(shown, ["Volume"])
        self.assertEqual(page.locator("output").inner_text(), "1 found")
        self.assertIn("Measured at the mill's <gate>", page.locator("article:visible").inner_text())
        page.goto(Path("index.html").resolve().as_uri())
        page.locator("nav a", has_text="Haulage cost").click()
        self.assertTrue(page.locator("#haulage-cost").is_visible())

    def test_what_the_service_shows(self) -> None:
        self.place.reports.publish(self.report)
        running = service.start(self)
        token = self.place.people.make_token("browser", rights=["read"])
        context = self.browser.new_context(
            http_credentials={"username": "anyone", "password": token}, viewport={"width": 360, "height": 800}
        )
        self.addCleanup(context.close)
        page = context.new_page()
        errors: list[str] = []
        page.on("console", lambda one: errors.append(one.text) if one.type == "error" else None)
        page.goto(running.url)
        page.locator("a", has_text="Timber loads").first.click()
        self.assertIn("Timber loads", page.locator("h1").inner_text())
        page.locator("a", has_text="All sources").click()
        self.assertIn("Sources", page.locator("h1").inner_text())
        page.goto(f"{running.url}/reports/Mills")
        self.assertIn("What each mill took in", page.locator(".under").inner_text())
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 360)
        self.assertEqual([one for one in errors if "favicon" not in one], [])


if __name__ == "__main__":
    unittest.main()
