"""The example notebook, run as a notebook runs it; and what it shows of each kind of thing."""

from __future__ import annotations

import datetime as dt
import re
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

import nbclient
import nbformat
import pandas as pd
import pyarrow as pa

import oak_ledger as oak
from tests.support import FolderCase

NOTEBOOK = Path(__file__).parent.parent / "examples" / "timber_loads.ipynb"


def ran() -> list[Any]:
    """The code cells of the example, run in a kernel of their own."""
    notebook = nbformat.read(NOTEBOOK, 4)
    nbclient.NotebookClient(notebook, timeout=120, kernel_name="python3").execute()
    return [cell for cell in notebook.cells if cell.cell_type == "code"]


def shown(cell: Any) -> str:
    """What a cell shows as a page."""
    return "".join(one["data"].get("text/html", "") for one in cell.outputs if "data" in one)


class Example(unittest.TestCase):
    def test_it_runs_from_top_to_bottom_and_shows_tables_and_figures(self) -> None:
        cells = ran()
        pages = [shown(cell) for cell in cells]
        drawn = {at for at, page in enumerate(pages) if 'class="oak"' in page}
        self.assertEqual(len(drawn), 7)
        whole = "".join(pages)
        for text in ("Timber loads", "INITCAP", "Warning:", "<tfoot>", "data:image/png", "Margin rate"):
            self.assertIn(text, whole)
        self.assertNotIn("<script", whole)
        self.assertEqual(
            [cell.outputs for cell in cells if any(one.output_type == "error" for one in cell.outputs)], []
        )
        # what stands in the file is what comes out now, but for times and pictures
        written = [shown(cell) for cell in nbformat.read(NOTEBOOK, 4).cells if cell.cell_type == "code"]
        self.assertEqual([plain(one) for one in written], [plain(one) for one in pages])


def plain(page: str) -> str:
    """A page without what is different every time."""
    return re.sub(r'src(?:set)?="[^"]*"|20\d\d-\d\d-\d\d \d\d:\d\d(:\d\d)?( by [^<·]+)?', "", page)


class Shown(FolderCase):
    SOURCE = oak.Source.from_table(
        pa.table(
            {
                "Mill": ["<b>Low</b> & Weir", "", None, "x"],
                "n": [1, None, 3, 4],
                "ok": [True, None, False, True],
                "day": [dt.date(2026, 3, 1), None, dt.date(1, 1, 1), dt.date(9999, 12, 31)],
                "at": [dt.datetime(2026, 3, 1, 7, 30), None, None, None],
                "price": [Decimal("1.10"), None, Decimal("12345678901234567.01"), Decimal("0.00")],
                "share": [0.5, None, 1.5, 2.0],
            }
        ),
        name="Odd",
    )

    def test_values_are_escaped_and_an_empty_text_is_not_null(self) -> None:
        page = self.SOURCE.rows(["Mill", "n"])._repr_html_()
        self.assertIn("&lt;b&gt;Low&lt;/b&gt; &amp; Weir", page)
        self.assertNotIn("<b>Low", page)
        self.assertIn('<th scope="row"></th>', page)
        self.assertIn('<span class="null">null</span>', page)

    def test_what_is_left_out_is_said(self) -> None:
        source = oak.Source.from_table(pa.table({"a": range(100)}), name="A")
        page = source.rows(["a", ("x", "1 / (a - 7)")], where="a < 50")._repr_html_()
        for text in ("the first 20 of 50", "50 of 100 rows", "division by zero in 1 row"):
            self.assertIn(text, page)

    def test_pandas_has_useful_types(self) -> None:
        frame = self.SOURCE.rows().to_pandas()
        self.assertEqual(
            [str(one) for one in frame.dtypes][:4], ["string", "Int64", "boolean", str(frame["day"].dtype)]
        )
        for name in ("day", "at"):
            self.assertTrue(pd.api.types.is_datetime64_any_dtype(frame[name].dtype), name)
        self.assertEqual(str(frame["price"].dtype), "float64")
        self.assertEqual(frame["n"].sum(), 8)
        self.assertEqual(frame["day"].dt.year.tolist()[2:], [1, 9999])
        exact = self.SOURCE.rows().to_pandas(decimals=True)
        self.assertEqual(exact["price"].tolist()[2], Decimal("12345678901234567.01"))

    def test_libraries_take_answers_and_sources_as_they_are(self) -> None:
        """By the Arrow PyCapsule protocol, there and back."""
        import duckdb

        class Streamed:
            def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
                return table.__arrow_c_stream__(requested_schema)

        table = pa.table({"a": [1, 2, None], "t": ["x", None, "z"]})
        source = oak.Source.from_table(Streamed(), name="T")
        answer = source.tally(["t"], ["a"], sort=["t"])
        self.assertTrue(pa.table(source).equals(table))
        self.assertTrue(pa.table(answer).equals(answer.table))
        self.assertEqual(duckdb.sql("select sum(a), count(*) from source").fetchall(), [(3, 3)])
        self.assertEqual(duckdb.sql("select t from answer where a = 1").fetchall(), [("x",)])

    def test_every_kind_of_thing_is_drawn(self) -> None:
        report = oak.open_report(
            self.write("r.report.toml", '[report]\nname = "R"\nsource = "Odd"\n\n[[panel]]\nkind = "bars"\ntitle = "N"\nby = ["Mill"]\nshow = ["n"]\n')
        )  # fmt: skip
        for thing, text in (
            (self.SOURCE, "<h1>Odd</h1>"),
            (self.SOURCE.tally(["Mill"], ["n"], totals=True), '<tr class="total">'),
            (oak.try_formula(self.SOURCE, "1 / (n - 1)", limit=2), "division by zero"),
            (oak.profile(self.SOURCE, ["Mill"])[0], "4 rows, 1 null, 3 distinct"),
            (report.view(self.SOURCE), "data:image/png"),
        ):
            self.assertEqual(repr(thing).count("\n"), 1, repr(thing))
            page = thing._repr_html_()  # type: ignore[attr-defined]
            self.assertIn(text, page)
            self.assertEqual((page.count("<div"), page.count("<table")), (page.count("</div>"), page.count("</table>")))


if __name__ == "__main__":
    unittest.main()
