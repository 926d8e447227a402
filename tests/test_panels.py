"""Panels of reports: each kind computed, limited, compared, and drawn in every medium."""

from __future__ import annotations

import itertools
import random
import re
import tomllib
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

import oak_ledger as oak
from oak_ledger.definition.document import parse_document
from oak_ledger.present.area import Area
from oak_ledger.present.drawn_tables import draw_table, table_height, table_width
from oak_ledger.present.figures import PICTURES, rest_to_scale
from oak_ledger.present.page import PIECES
from oak_ledger.present.panels import PANELS
from oak_ledger.report.content import ChartContent, Line, TableContent, value_text
from oak_ledger.report.definition import REPORT
from oak_ledger.report.figure import figure_of, taken_apart
from oak_ledger.report.keys import table_keys
from oak_ledger.report.kinds import KINDS
from tests.support import FolderCase

ROWS = """\
Id,Mill,Species,Volume,Cost,Day
1,Low Weir,OAK,10,100,2026-01-05
2,Low Weir,ASH,20,100,2026-01-09
3,High Ford,OAK,5,,2026-02-01
4,High Ford,ASH,40,80,2026-02-11
5,Stonebeck,OAK,1,9,2026-02-28
6,,OAK,3,6,2026-03-02
7,Ember Quay,LARCH,2,8,2026-03-05
8,Ember Quay,,2,2,
"""
HEAD = '[report]\nname = "R"\nsource = "Loads"\n'


class WithPanels(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", ROWS)
        self.source = oak.intake("loads.csv", definition="loads.oak.toml", name="Loads").source.with_field(
            "Rate", "SUM(Cost) / SUM(Volume)", format="0.00"
        )

    def panel(self, keys: str, head: str = "", source: oak.Source | None = None) -> Any:
        """The one panel of a report with these keys; `head` has tables before it."""
        path = self.write("r.report.toml", f'{HEAD}{head}\n[[panel]]\ntitle = "P"\n{keys}\n')
        view = oak.open_report(path).view(source or self.source)
        for name in ("r.html", "r.png"):
            oak.save_report(view, name)
        return view.panels[0]

    def lines(self, keys: str, head: str = "") -> list[tuple[str, ...]]:
        """The lines of a table, each with its role first where it is not a row."""
        panel = self.panel(f'kind = "table"\n{keys}', head)
        self.assertIsNotNone(panel.content, panel.findings)
        return [(*([line.role] if line.role != "row" else []), *line.cells) for line in panel.content.lines]


class Tables(WithPanels):
    def test_lines(self) -> None:
        by_mill = 'by = ["Mill"]\nshow = ["Volume"]\nsort = ["-Volume"]\n'
        both = 'by = ["Mill", "Species"]\nshow = ["Volume", "Rate"]\nsort = ["-Volume"]\n'
        cases: list[tuple[str, str, list[tuple[str, ...]]]] = [
            (
                "limit and rest",
                f"{by_mill}limit = 2\nrest = true\ntotals = true",
                [("High Ford", "45"), ("Low Weir", "30"), ("rest", "the other 3", "8"), ("total", "all", "83")],
            ),
            ("nothing is beyond the limit", f"{by_mill}limit = 9\nrest = true", [("High Ford", "45"), ("Low Weir", "30"), ("Ember Quay", "4"), ("null", "3"), ("Stonebeck", "1")]),
            (
                "one is beyond, and the null is among the first",
                f"{by_mill}limit = 4\nrest = true",
                [("High Ford", "45"), ("Low Weir", "30"), ("Ember Quay", "4"), ("null", "3"), ("rest", "the other one", "1")],
            ),
            (
                "subtotals are computed, not added up",
                f"{both}subtotals = true\nlimit = 2\nrest = true\ntotals = true",
                [
                    ("High Ford", "ASH", "40", "2.00"),
                    ("", "OAK", "5", "null"),
                    ("subtotal", "all High Ford", "", "45", "1.78"),
                    ("Low Weir", "ASH", "20", "5.00"),
                    ("", "OAK", "10", "10.00"),
                    ("subtotal", "all Low Weir", "", "30", "6.67"),
                    ("rest", "the other 3", "", "8", "3.13"),
                    ("total", "all", "", "83", "3.67"),
                ],
            ),
            (
                "windows are over all groups, not only those that are shown; what compares groups has no value in the rest",
                'by = ["Mill", "Species"]\nshow = [{ name = "Share", formula = "100 * SUM(Volume) / SUM(SUM(Volume)) OVER ()" }, { name = "Of the largest", formula = "MAX(SUM(Volume)) OVER ()" }]\nlimit = 1\nrest = true\nsubtotals = true',
                [("Ember Quay", "LARCH", "2.41", "40"), ("", "null", "2.41", "40"), ("subtotal", "all Ember Quay", "", "4.82", "45"), ("rest", "the other 4", "", "95.18", "null")],
            ),
            (
                "a share of all is right in the rest; a rank has no value there",
                'by = ["Mill"]\nshow = [{ name = "Share", formula = "SUM(Volume) / SUM(SUM(Volume)) OVER ()" }, { name = "Rank", formula = "RANK() OVER (ORDER BY SUM(Volume) DESC)" }]\nsort = ["Rank"]\nlimit = 1\nrest = true',
                [("High Ford", "0.5422", "1"), ("rest", "the other 4", "0.4578", "null")],
            ),
            (
                "a key that is a formula",
                "by = [{ name = \"First\", formula = \"LEFT(Mill, 1)\" }]\nshow = [\"Volume\"]\nsort = [\"-Volume\"]\nlimit = 1\nrest = true",
                [("H", "45"), ("rest", "the other 4", "38")],
            ),
        ]  # fmt: skip
        for name, keys, expected in cases:
            with self.subTest(name):
                self.assertEqual(self.lines(keys), expected)

    def test_subtotals_over_three_fields(self) -> None:
        keys = 'by = ["Species", "Mill", "Day"]\nshow = ["Volume"]\nsubtotals = true\nwhere = "Species = \'OAK\' AND Mill IS NOT NULL"'
        lines = [line for line in self.lines(keys) if line[0] == "subtotal"]
        self.assertEqual(
            lines,
            [
                ("subtotal", "", "all High Ford", "", "5"),
                ("subtotal", "", "all Low Weir", "", "10"),
                ("subtotal", "", "all Stonebeck", "", "1"),
                ("subtotal", "all OAK", "", "", "16"),
            ],
        )

    def test_what_is_left_out_is_said(self) -> None:
        panel = self.panel('kind = "table"\nby = ["Mill"]\nshow = ["Volume"]\nlimit = 2\nwhere = "Volume > 1"')
        self.assertEqual(panel.content.notes, ("filtered by Volume > 1", "the first 2 of 4"))


class Filters(WithPanels):
    def test_groups_of_conditions(self) -> None:
        cases = [
            ("include = [\"Mill = 'Low Weir'\", \"Mill = 'Stonebeck'\"]", "31"),
            ("exclude = [\"Mill = 'Low Weir'\"]", "53"),  # the row without a mill stays
            ("include = [\"Species = 'OAK'\"]\nexclude = [\"Mill = 'Low Weir'\", 'Volume < 3']", "8"),
        ]
        for keys, expected in cases:
            for always in (False, True):
                with self.subTest(keys, always=always):
                    head = f'\n[[filter]]\nname = "Some rows"\n{keys}\n' + ("always = true\n" if always else "")
                    where = "" if always else 'where = "Some rows"\n'
                    panel = self.panel(f'kind = "figure"\nshow = ["Volume"]\n{where}', head)
                    self.assertEqual(panel.content.value, expected, panel.findings)
                    self.assertEqual(panel.content.notes, ("filtered by Some rows",))

    def test_several_conditions_of_a_panel_hold_together(self) -> None:
        head = '\n[[filter]]\nname = "Oak"\ninclude = ["Species = \'OAK\'"]\n'
        panel = self.panel('kind = "figure"\nshow = ["Volume"]\nwhere = ["Oak", "Volume > 3"]', head)
        self.assertEqual(panel.content.value, "15")

    def test_a_broken_filter_breaks_the_panels_that_use_it(self) -> None:
        head = '\n[[filter]]\nname = "Odd"\ninclude = ["Spezies = 1"]\n'
        path = self.write(
            "r.report.toml",
            f'{HEAD}{head}\n[[panel]]\nkind = "figure"\ntitle = "A"\nshow = ["Volume"]\nwhere = "Odd"\n\n[[panel]]\nkind = "figure"\ntitle = "B"\nshow = ["Volume"]\n',
        )
        report = oak.open_report(path)
        self.assertEqual([panel.content is None for panel in report.view(self.source).panels], [True, False])
        found = oak.check_reports([report], self.source)[0]
        self.assertIn("r.report.toml, filter 'Odd'", {one.place.where for one in found})

    def test_references_follow_a_rename(self) -> None:
        path = self.write(
            "r.report.toml",
            HEAD
            + '\n[[filter]]\nname = "Some"\ninclude = ["Volume > 3"]\nexclude = ["Volume > 30"]\n\n[[panel]]\nkind = "text"\ntitle = "T"\n'
            + 'text = "{Volume} counts"\n\n[[panel]]\nkind = "figure"\ntitle = "F"\nshow = ["Volume"]\nwhere = ["Some", "Volume > 4"]\nagainst = "SUM(Volume)"\n',
        )
        self.source.save("loads.oak.toml")
        self.oak("field", "rename", "loads", "Volume=Cubic")
        text = Path(path).read_text("utf-8")
        self.assertNotIn("Volume", text)
        self.assertEqual(text.count("Cubic"), 6)

    def test_a_name_twice(self) -> None:
        head = '\n[[filter]]\nname = "X"\ninclude = ["Volume > 3"]\n\n[[field]]\nname = "x"\nformula = "Volume"\n'
        self.panel('kind = "text"\ntext = "words"', head)
        found = oak.check_reports([oak.open_report("r.report.toml")], self.source)[0]
        self.assertEqual([one.code for one in found], ["name-taken"])


class Charts(WithPanels):
    def series(self, panel: Any) -> dict[str, tuple[str, ...]]:
        return {one.name: one.texts for one in panel.content.series}

    def test_bars(self) -> None:
        panel = self.panel('kind = "bars"\nby = ["Mill"]\nshow = ["Volume", "Cost"]\nsort = ["-Volume"]\nlimit = 2\nrest = true')  # fmt: skip
        self.assertEqual(panel.content.groups, ("High Ford", "Low Weir", "the other 3"))
        self.assertEqual(self.series(panel), {"Volume": ("45", "30", "8"), "Cost": ("80", "200", "25")})
        panel = self.panel('kind = "bars"\nby = ["Mill", "Species"]\nshow = ["Volume"]\nsort = ["-Volume"]\nlimit = 2\nrest = true\nstacked = true')  # fmt: skip
        self.assertEqual(panel.content.groups, ("High Ford", "Low Weir", "the other 3"))
        expected = {"ASH": ("40", "20", ""), "LARCH": ("", "", "2"), "OAK": ("5", "10", "4"), "null": ("", "", "2")}
        self.assertEqual(self.series(panel), expected)
        self.assertEqual(panel.findings, ())

    def test_values_in_a_given_order(self) -> None:
        """Groups and parts of bars in the order that is given, others after them, the rest at the end; the limit takes the same ones."""
        keys = 'kind = "bars"\nby = ["Mill", "Species"]\nshow = ["Volume"]\nsort = ["-Volume"]\nlimit = 2\nrest = true\norder = ["OAK", "Low Weir"]'
        panel = self.panel(keys)
        self.assertEqual(panel.content.groups, ("Low Weir", "High Ford", "the other 3"))
        self.assertEqual([*self.series(panel).items()], [("OAK", ("10", "5", "4")), ("ASH", ("20", "40", "")), ("LARCH", ("", "", "2")), ("null", ("", "", "2"))])  # fmt: skip

    def test_bars_below_zero_go_to_the_other_side(self) -> None:
        """On a terminal: all bars end or begin at one column, those below zero end there."""
        self.write(
            "r.report.toml", f'{HEAD}\n[[panel]]\ntitle = "P"\nkind = "bars"\nby = ["Mill"]\nshow = ["Volume - 20"]\n'
        )
        self.source.with_field("Volume - 20", "SUM(Volume) - 20").save("loads.oak.toml")
        self.oak("publish", "loads", "--release", "--yes")
        said = self.oak("report", "render", "r.report.toml", "--width", "80")
        bars = [(line.split("█")[0], line) for line in said.splitlines() if "█" in line]
        self.assertEqual(len(bars), 5)
        below = {line.rindex("█") + 1 for _, line in bars if re.search(r" -\d", line)}
        above = {line.index("█") for _, line in bars if not re.search(r" -\d", line)}
        self.assertEqual((len(below), below), (1, above))

    def test_what_cannot_be_stacked_is_said(self) -> None:
        for measure, odd in (
            ("Rate", True),
            ("MAX(Volume)", True),
            ("SUM(Volume) - SUM(Cost)", False),
            ("COUNT(*)", False),
        ):
            with self.subTest(measure):
                panel = self.panel(f'kind = "bars"\nby = ["Mill", "Species"]\nshow = ["{measure}"]\nstacked = true')
                self.assertEqual([one.code for one in panel.findings], ["stacked-no-sum"] if odd else [])

    def test_lines(self) -> None:
        month = '{ name = "Month", formula = "DATE_TRUNC(\'month\', Day)" }'
        panel = self.panel(f'kind = "lines"\nby = [{month}]\nshow = ["Volume"]')
        self.assertEqual(panel.content.groups, ("2026-01", "2026-02", "2026-03"))
        self.assertEqual(self.series(panel), {"Volume": ("30", "46", "5")})
        self.assertIn("rows without a date are not in the lines", panel.content.notes)
        panel = self.panel(f'kind = "lines"\nby = [{month}, "Species"]\nshow = ["Volume"]\nlimit = 1\nrest = true')
        self.assertEqual(self.series(panel), {"ASH": ("20", "40", ""), "the other 3": ("10", "6", "5")})

    def test_charts_that_cannot_be(self) -> None:
        cases = [
            ('kind = "lines"\nby = ["Mill"]\nshow = ["Volume"]', "dates-wanted"),
            ('kind = "bars"\nby = ["Mill"]\nshow = ["MIN(Species)"]', "numbers-wanted"),
            ('kind = "bars"\nby = ["Mil"]\nshow = ["Volume"]', "unknown-field"),
        ]
        for keys, code in cases:
            with self.subTest(keys):
                panel = self.panel(keys)
                self.assertIsNone(panel.content)
                self.assertEqual([one.code for one in panel.findings], [code])
                found = oak.check_reports([oak.open_report("r.report.toml")], self.source)[0]
                self.assertEqual([one.code for one in found], [code])


class Figures(WithPanels):
    def test_changes(self) -> None:
        self.write("before.csv", "".join(ROWS.splitlines(keepends=True)[:3]))
        before = oak.intake("before.csv", definition="before.oak.toml", name="Loads").source
        before.write("before.parquet")
        share = self.source.with_field("Oak", "SUM(Volume) FILTER (WHERE Species = 'OAK') / SUM(Volume)", format="0.0%")
        cases = [
            ('show = ["Volume"]\nchange = true', "83", "+176.7%, was 30"),
            ('show = ["Oak"]\nchange = true', "22.9%", "−10.4 points, was 33.3%"),
            ('show = ["Volume"]\nagainst = "SUM(Volume) FILTER (WHERE Mill = \'High Ford\')"', "83", "+84.4%, was 45"),
            ('show = ["Volume"]\nagainst = "SUM(Volume) FILTER (WHERE Mill = \'none\')"', "83", "was null"),
            ('show = ["Volume"]\nagainst = "SUM(Volume)"', "83", "no change, was 83"),
            ('show = ["Volume"]\nagainst = "SUM(Volume) - 83"', "83", "+83, was 0"),
            ('show = ["COUNT(*)"]', "8", ""),
        ]
        for keys, value, change in cases:
            with self.subTest(keys):
                panel = self.panel(f'kind = "figure"\n{keys}', source=share.with_baseline("before.parquet"))
                self.assertEqual((panel.content.value, panel.content.change), (value, change), panel.findings)

    def test_the_earlier_state_that_a_report_names(self) -> None:
        self.source.save("loads.oak.toml")
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        self.write("loads.csv", ROWS.replace("1,Low Weir,OAK,10", "1,Low Weir,OAK,14"))
        self.source.write("old.parquet")
        text = f'{HEAD}baseline = "1"\n\n[[panel]]\nkind = "figure"\ntitle = "V"\nshow = ["Volume"]\nchange = true\n'
        self.write("r.report.toml", text)
        shown = self.oak("report", "render", "r.report.toml", "--source", "loads.oak.toml")
        self.assertIn("87  +4.8%, was 83", shown)
        self.write("r.report.toml", text.replace('"1"', '"old.parquet"'))
        shown = self.oak("report", "render", "r.report.toml", "--source", "loads.oak.toml")
        self.assertIn("87  no change, was 87", shown)
        self.write("r.report.toml", text.replace('"1"', '"7"'))
        shown = self.oak("report", "render", "r.report.toml", "--source", "loads.oak.toml")
        self.assertIn("no-baseline", shown)
        self.assertIn("there is no earlier state", shown.casefold())


class Media(WithPanels):
    def test_no_kind_is_missing_in_a_medium(self) -> None:
        for medium in (PICTURES, PIECES, PANELS):
            self.assertEqual({*medium}, {*KINDS})

    def test_every_key_has_an_example_that_can_be_read(self) -> None:
        for table in table_keys():
            with self.subTest(table.header):
                used = set()
                for line in table.example.splitlines():
                    used.add(line.removeprefix("# ").partition(" = ")[0])
                self.assertEqual(
                    {key for key, _ in table.keys} - used - _SHOWN_UNDER_ORIGIN[table.header == "[[part]]"], set()
                )
                blocks: Any = tomllib.loads(table.example)
                if table.file == "NAME.report.toml" and table.header != "[report]":
                    self.assertTrue(parse_document(f"{HEAD}\n{table.example}", REPORT, "x").blocks)
                self.assertEqual([*blocks], [table.header.strip("[]")])

    def test_each_example_renders(self) -> None:
        self.write(
            "timber.csv",
            "Load,Mill,Species,Volume,Margin,Gross,Delivered\n1,Low Weir,OAK,10,5,9,2026-01-05\n2,High Ford,ASH,7,3,9,2026-02-05\n",
        )
        source = oak.intake("timber.csv", definition="t.oak.toml", name="Timber loads").source
        source = source.with_field("Margin rate", "SUM(Margin) / SUM(Gross)", format="0.0%")
        for kind in KINDS.values():
            with self.subTest(kind.word):
                path = self.write("x.report.toml", f"{HEAD.replace('Loads', 'Timber loads')}\n{kind.example}")
                view = oak.open_report(path).view(source)
                self.assertIsNotNone(view.panels[0].content, view.findings)
                oak.save_report(view, "x.html")
                oak.save_report(view, "x.png")

    def test_the_page_is_built_of_the_right_elements(self) -> None:
        self.panel('kind = "bars"\nby = ["Mill"]\nshow = ["Volume"]')
        tags = _Tags()
        tags.feed(Path("r.html").read_text("utf-8"))
        for tag, count in (
            ("main", 1),
            ("h1", 1),
            ("h2", 1),
            ("table", 1),
            ("caption", 1),
            ("thead", 1),
            ("details", 1),
        ):
            self.assertEqual(tags.count.get(tag), count, tag)
        self.assertEqual(tags.count["th"], 2 + 5)
        self.panel('kind = "table"\nby = ["Mill"]\nshow = ["Volume"]\ntotals = true')
        tags = _Tags()
        tags.feed(Path("r.html").read_text("utf-8"))
        self.assertEqual((tags.count["tbody"], tags.count["tfoot"]), (1, 1))

    def test_no_number_of_a_picture_is_cut_and_no_columns_run_together(self) -> None:
        """Drawn tables: few and many columns, long texts and names, large figures; what is drawn is measured."""
        rng = random.Random(4)
        for draw in range(30):
            texts, numbers = rng.randint(1, 2), rng.randint(1, 12)
            names = [f"Group {'with a long name ' * rng.randint(0, 2)}{at}" for at in range(texts)] + [f"Measure {'of a kind ' * rng.randint(0, 2)}{at}" for at in range(numbers)]  # fmt: skip
            cells = [[f"text {'x' * rng.randint(0, 40)}" for _ in range(texts)] + [f"{rng.uniform(-1, 1) * 10 ** rng.randint(0, 12):,.2f}" for _ in range(numbers)] for _ in range(6)]  # fmt: skip
            content = TableContent(tuple(names), (False,) * texts + (True,) * numbers, tuple(Line("total" if at == 5 else "row", tuple(row)) for at, row in enumerate(cells)), ())  # fmt: skip
            with self.subTest(draw=draw):
                width = min(max(table_width(content), 3.0), 12.0) if draw % 2 else 5.8
                figure = Figure(figsize=(width, table_height(None, content, width)))  # type: ignore[arg-type]
                draw_table(Area(figure, 0, 0, width, table_height(None, content, width)), None, content)  # type: ignore[arg-type]
                renderer = FigureCanvasAgg(figure).get_renderer()
                drawn = [(one.get_text(), one.get_window_extent(renderer)) for one in figure.texts if one.get_text()]
                shown = {text for text, _ in drawn}
                self.assertEqual({cell for row in cells for cell in row[texts:]} - shown, set())
                for (text, box), (other, beside) in itertools.combinations(drawn, 2):
                    if abs(box.y0 - beside.y0) < 6:
                        self.assertTrue(box.x1 <= beside.x0 + 1 or beside.x1 <= box.x0 + 1, (text, other))
                self.assertLessEqual(max(box.x1 for _, box in drawn), width * figure.dpi + 1)

    def test_a_rest_does_not_flatten_the_others(self) -> None:
        lengths, said = rest_to_scale(ChartContent("", "", (), (), "", rest="the other 9"), ["a", "b", "the other 9"], [3.0, 4.0, 90.0], ["3", "4", "90"])  # fmt: skip
        self.assertEqual((lengths, said), ([3.0, 4.0, 5.2], ["3", "4", "90  (bar cut short)"]))

    def test_empty_answers_in_every_medium(self) -> None:
        for kind in ("table", "bars", "lines"):
            with self.subTest(kind):
                by = "Day" if kind == "lines" else "Mill"
                panel = self.panel(f'kind = "{kind}"\nby = ["{by}"]\nshow = ["Volume"]\nwhere = "Volume > 100"')
                self.assertEqual([one.code for one in panel.findings], ["filter-matches-nothing"])

    def test_json_and_why(self) -> None:
        self.source.save("loads.oak.toml")
        self.write("r.report.toml", f'{HEAD}\n[[filter]]\nname = "Oak"\ninclude = ["Species = \'OAK\'"]\n\n[[panel]]\nkind = "bars"\ntitle = "P"\nby = ["Mill"]\nshow = ["Volume"]\nwhere = ["Oak"]\n\n[[panel]]\nkind = "text"\ntitle = "T"\ntext = "words"\n')  # fmt: skip
        shown = self.oak_json("report", "render", "r.report.toml", "--source", "loads.oak.toml")
        self.assertEqual(shown["panels"][0]["lines"][0], {"role": "row", "cells": ["High Ford", "5"]})
        self.assertEqual(shown["panels"][1]["text"], ["words"])
        shown = self.oak("why", "r.report.toml", "P", "Low Weir", "--source", "loads.oak.toml")
        self.assertIn("Oak", shown)
        self.assertIn("no-figure", self.oak("why", "r.report.toml", "T", "--source", "loads.oak.toml", code=2))

    def test_every_figure_of_a_table_is_taken_apart_as_it_is_shown(self) -> None:
        shown = 'show = ["Volume", "Rate", { name = "Share", formula = "SUM(Volume) / SUM(SUM(Volume)) OVER ()" }, { name = "Mean", formula = "AVG(Cost)" }]\n'
        rest = 'sort = ["-Volume"]\nlimit = 2\nrest = true\n'
        for by, keys in (
            ('["Mill"]', rest), ('["Mill", "Species"]', rest), ('["Mill", "Species"]', f"{rest}subtotals = true\ntotals = true\n"),
            ('["Mill"]', "totals = true\nwhere = \"Species = 'OAK'\"\n"),
        ):  # fmt: skip
            panel = self.panel(f'kind = "table"\nby = {by}\n{shown}{keys}')
            report, source, first = oak.open_report("r.report.toml"), self.source, by.count(",") + 1
            names: list[str] = []
            for line in panel.content.lines:
                own = line.cells[:first]
                names = [before if not one and line.role == "row" and before else one for before, one in itertools.zip_longest(names[:first], own, fillvalue="")]  # fmt: skip
                texts = [] if line.role == "total" else [one for one in names if one] if line.role != "subtotal" else [one for one in own if one]  # fmt: skip
                for measure, cell in zip(("Volume", "Rate", "Share", "Mean"), line.cells[first:], strict=True):
                    with self.subTest(by, line=line.cells, measure=measure):
                        found = taken_apart(source, figure_of(report, report.panels[0], source, texts, measure))
                        self.assertEqual(value_text(found.value, found.format), cell)
        self.source.save("loads.oak.toml")
        self.write("r.report.toml", f'{HEAD}\n[[panel]]\nkind = "figure"\ntitle = "F"\nshow = ["Rate"]\nagainst = "AVG(Cost)"\n\n[[panel]]\nkind = "table"\ntitle = "T"\nby = ["Mill"]\nshow = [{{ name = "Place", formula = "RANK() OVER (ORDER BY SUM(Volume))" }}]\nlimit = 1\nrest = true\n')  # fmt: skip
        self.assertIn("compared with = AVG(Cost)", self.oak("why", "r.report.toml", "F", "--source", "loads.oak.toml"))
        self.assertIn("no value for the other 4", self.oak("why", "r.report.toml", "T", "the other 4", "--source", "loads.oak.toml", code=2))  # fmt: skip

    def test_keys_of_another_kind_are_refused(self) -> None:
        cases = [
            ('kind = "figure"\nshow = ["Volume"]\nstacked = true', "no stacked; that is for bars"),
            ('kind = "table"\nby = ["Mill"]\nshow = ["Volume"]\nsubtotals = true', "two fields or more"),
            ('kind = "table"\nby = ["Mill"]\nshow = ["Volume"]\nrest = true', "no limit"),
            ('kind = "lines"\nby = ["Day"]\nshow = ["Volume"]\nlimit = 3', "a second field"),
            ('kind = "bars"\nby = ["Mill", "Species"]\nshow = ["Volume", "Cost"]', "show one measure"),
            ('kind = "figure"\nshow = ["Volume"]\nchange = true\nagainst = "1"', "choose one"),
            ('kind = "text"\ntext = " "', "has no text"),
        ]
        for keys, words in cases:
            with self.subTest(keys):
                path = self.write("r.report.toml", f'{HEAD}\n[[panel]]\ntitle = "P"\n{keys}\n')
                self.assertIn(words, str(self.raises("wrong-value", oak.open_report, path)))


_SHOWN_UNDER_ORIGIN = (set[str](), {key for one in table_keys() if one.header == "[origin]" for key, _ in one.keys})


class _Tags(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.count: dict[str, int] = {}

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.count[tag] = self.count.get(tag, 0) + 1
