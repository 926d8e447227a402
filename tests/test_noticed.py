"""Small mistakes that would not be noticed elsewhere: each case is one that a changed sign, bound, condition or default would turn."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from decimal import Decimal
from threading import Event, Thread
from typing import Any
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.present import figures
from oak_ledger.present.dictionary import slug
from oak_ledger.service.limits import Limits, Slots, TooBusy
from tests.support import FolderCase

MOST = 2**63 - 1


def table(**columns: Any) -> oak.Source:
    return oak.Source.from_table(pa.table(columns), name="T")


class Numbers(FolderCase):
    def test_sums_that_do_not_fit_are_said(self) -> None:
        """In groups, in totals, in running windows and in frames: null with a fault, never a number that has gone round."""
        source = table(g=["a", "a", "b"], n=pa.array([MOST, 1, 5], pa.int64()), at=[1, 2, 3])
        answer = source.tally(["g"], ["SUM(n)"], totals=True)
        self.assertEqual(answer.table.column(1).to_pylist(), [None, 5])
        self.assertEqual(answer.totals.column(0).to_pylist(), [None])
        self.assertTrue(answer.faults)
        for window in (
            "SUM(n) OVER (ORDER BY at)", "SUM(n) OVER (ORDER BY at ROWS BETWEEN 1 PRECEDING AND CURRENT ROW)",
            "SUM(n) OVER (ORDER BY at ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW)", "SUM(n) OVER (PARTITION BY g)",
        ):  # fmt: skip
            with self.subTest(window):
                answer = source.rows([("x", window)])
                self.assertIsNone(answer.table.column(0)[1].as_py())
                self.assertTrue(answer.faults, answer.to_dicts())
        only = source.tally(["at"], ["SUM(n)"], totals=True)  # no group overflows, the total does
        self.assertEqual((only.table.column(1).to_pylist(), only.totals.column(0).to_pylist()), ([MOST, 1, 5], [None]))
        self.assertTrue(only.faults)

    def test_faults_of_totals_are_said(self) -> None:
        source = table(g=["a", "b"], n=[2, -2])
        answer = source.tally(["g"], [("x", "1 / SUM(n)")], totals=True)
        self.assertEqual(
            (answer.table.column(1).to_pylist(), answer.totals.column(0).to_pylist()), ([0.5, -0.5], [None])
        )
        self.assertEqual([one.what for one in answer.faults], ["division by zero"])

    def test_a_filter_that_faults_reads_every_row(self) -> None:
        """A row group in which no row can meet the condition is read all the same, where a value of it cannot be computed."""
        pq.write_table(pa.table({"n": [1, 2, 30, 40], "d": [1, 1, 0, 1]}), "r.parquet", row_group_size=2)
        oak.intake("r.parquet", definition="r.oak.toml", keep_names=True).save()
        answer = oak.open_source("r").rows(["n"], where="n < 10 AND 1 / d > 0")
        self.assertEqual([row["n"] for row in answer.to_dicts()], [1, 2])
        every = oak.open_source("r").rows(["n"], where=["1 / d > 0", "n < 10"])
        self.assertEqual(sum(one.rows for one in every.faults), 1)

    def test_decimals_keep_to_their_digits(self) -> None:
        source = table(t=["99.99", "100.00", "-99.99", "-100", "99.994", "99.995"])
        answer = source.rows([("x", "CAST(t AS DECIMAL(4, 2))")])
        self.assertEqual(
            answer.table.column(0).to_pylist(),
            [Decimal("99.99"), None, Decimal("-99.99"), None, Decimal("99.99"), None],
        )
        self.assertEqual(answer.faults[0].rows, 3)
        plain = table(t=["99.99", "100.00"]).rows([("x", "CAST(t AS DECIMAL(4, 2))")])
        self.assertEqual(plain.table.column(0).to_pylist(), [Decimal("99.99"), None])
        whole = table(n=[99, 100, -100]).rows([("x", "CAST(n AS DECIMAL(4, 2))")])
        self.assertEqual(whole.table.column(0).to_pylist(), [Decimal("99.00"), None, None])

    def test_null_is_apart_from_every_number(self) -> None:
        """Also from the largest and the least: in order, ranks, groups and distinct counts, with other keys beside."""
        for edge in (MOST, -MOST - 1, MOST - 1, 0):
            source = table(n=pa.array([edge, None, 7, None, edge], pa.int64()), g=["x"] * 5)
            with self.subTest(edge):
                self.assertEqual(source.tally(["n", "g"], ["COUNT(*)"]).table.num_rows, 3)
                self.assertEqual(source.tally(show=["COUNT(DISTINCT n)"]).value(), 2)
                ordered = source.rows(["n"], sort=["n"]).table.column(0).to_pylist()
                self.assertEqual(ordered, [*sorted((edge, edge, 7)), None, None])
                ranks = source.rows([("r", "RANK() OVER (PARTITION BY g ORDER BY n)")]).table.column(0).to_pylist()
                self.assertEqual((ranks[1], ranks[3]), (4, 4))
                first = source.rows([("r", "RANK() OVER (ORDER BY n DESC)")]).table.column(0).to_pylist()
                self.assertEqual((first[1], first[3]), (1, 1))

    def test_a_moment_with_a_zone_is_no_moment(self) -> None:
        source = table(n=[1])
        for text in (
            "2026-03-01 10:00:00+02:00",
            "2026-03-01 10:00:00Z",
            "2026-03-01 10:00:00 UTC",
            "2026-03-01T10:00:00-05",
        ):
            with self.subTest(text), self.assertRaises(oak.OakError):
                source.rows([("x", f"TIMESTAMP '{text}'")])
        self.assertEqual(
            source.rows([("x", "TIMESTAMP '2026-03-01 10:00:00'")]).table.column(0)[0].as_py(),
            dt.datetime(2026, 3, 1, 10),
        )


class Reading(FolderCase):
    def test_nulls_are_counted_over_all_batches(self) -> None:
        rows = ["" if at % 10 == 0 else str(at) for at in range(300_000)]
        self.write("n.csv", "N,T\n" + "\n".join(f"{one},x" for one in rows) + "\n")
        found = oak.intake("n.csv", definition="n.oak.toml")
        self.assertEqual(next(one for one in found.proposals if one.column == "N").evidence.nulls, 30_000)
        found.save()
        self.assertEqual(oak.profile(oak.open_source("n"), ["N"])[0].nulls, 30_000)
        column = pa.array([None if at % 10 == 0 else at for at in range(300_000)], pa.int64())
        pq.write_table(pa.table({"N": column}), "n.parquet")
        found = oak.intake("n.parquet", definition="p.oak.toml")
        self.assertEqual(found.proposals[0].evidence.nulls, 30_000)

    def test_blank_lines_at_the_end_of_a_sheet_are_no_rows(self) -> None:
        import openpyxl

        book = openpyxl.Workbook()
        for row in (("A", "B"), (1, "x"), (None, None), (2, "y"), (None, None), ("", None), (None, None)):
            book.active.append(row)
        for row in (9, 10):
            book.active.cell(row, 1, " ")
        book.save(self.folder / "b.xlsx")
        oak.intake("b.xlsx", definition="b.oak.toml").save()
        self.assertEqual([row["A"] for row in oak.open_source("b").rows().to_dicts() if row["A"] is not None], [1, 2])
        self.assertEqual(oak.open_source("b").tally().value(), 2)


class Rights(FolderCase):
    def test_faults_show_readers_nothing_hidden(self) -> None:
        source = table(open=[1, 2], secret=[0, 5]).with_field("rate", "open / secret")
        reader = replace(source.with_changed("secret", hidden=True), reader=True)
        (fault,) = reader.rows(["rate"]).faults
        self.assertEqual([inputs for _, inputs in fault.samples], [{"open": 1}])
        (whole,) = source.rows(["rate"]).faults
        self.assertEqual([inputs for _, inputs in whole.samples], [{"open": 1, "secret": 0}])

    def test_hidden_fields_are_for_makers_and_editors(self) -> None:
        self.write("t.csv", "A,S\n1,2\n")
        oak.intake("t.csv", name="T", definition="t.oak.toml", keep_names=True).save()
        place = oak.Catalogue.open("catalogue", create=True, person="anna")
        place.publish(oak.open_source("t").with_changed("S", hidden=True))
        place.release("T")
        for rights, sees in (
            (["read"], False),
            (["read", "release"], False),
            (["read", "administer"], False),
            (["read", "edit"], True),
        ):
            person = "-".join(rights)
            place.people.grant(person, rights, "general")
            source = oak.Catalogue.open("catalogue", person=person).source("T")
            with self.subTest(person):
                self.assertEqual("S" in source.rows().names, False)
                try:
                    source.rows(["S"])
                    self.assertTrue(sees)
                except oak.OakError:
                    self.assertFalse(sees)

    def test_a_stale_change_is_not_accepted(self) -> None:
        self.write("t.csv", "A\n1\n")
        oak.intake("t.csv", name="T", definition="t.oak.toml", keep_names=True).save()
        place = oak.Catalogue.open("catalogue", create=True, person="anna")
        place.publish(oak.open_source("t"))
        place.release("T")
        text = '[report]\nname = "R"\nsource = "T"\n\n[[panel]]\nkind = "figure"\ntitle = "V"\nshow = ["A"]\n'
        report = oak.open_report(self.write("r.report.toml", text))
        place.reports.publish(report)
        place.reports.propose("R", text.replace('"V"', '"W"'))
        place.reports.publish(report)
        self.raises("base-moved", place.reports.accept, "R")
        self.assertNotIn('"W"', place.reports.get("R").report.document.text)

    def test_no_question_over_the_limit(self) -> None:
        slots, go, inside = Slots(Limits(each=2, running=3, waiting=0)), Event(), []

        def ask(token: str) -> None:
            with slots.taken(token):
                inside.append(token)
                go.wait(10)

        threads = [Thread(target=ask, args=(token,)) for token in ("a", "a", "b")]
        for one in threads:
            one.start()
        while len(inside) < 3:
            pass
        for token, code in (("a", "too-many"), ("c", "too-busy")):
            with self.assertRaises(TooBusy) as caught, slots.taken(token):
                pass
            self.assertEqual(caught.exception.code, code)
        go.set()
        for one in threads:
            one.join()
        with slots.taken("c"):
            pass


class Addresses(FolderCase):
    def test_every_name_has_an_address_of_its_own(self) -> None:
        names = ["Net value", "Net-value", "net_value", "Net  value", "蜂蜜", "蜜蜂", "Größe", "Grösse", "Grosse", "a b", "a-b", "ab", "-", "--", "", "é", "e\u0301"]  # fmt: skip
        made = [slug(one) for one in names]
        self.assertEqual(len({*made}), len({one.casefold() for one in names}), made)
        for one in made:
            self.assertRegex(one, "^[a-z0-9]*(-[a-z0-9]+)*$")
        self.assertEqual((slug("Net value"), slug("NET VALUE")), ("net-value", "net-value"))


class Seen(FolderCase):
    def report(self, source: oak.Source, panel: str) -> Any:
        text = f'[report]\nname = "R"\nsource = "T"\n\n[[panel]]\ntitle = "P"\n{panel}'
        return oak.open_report(self.write("r.report.toml", text)).view(source).panels[0]

    def test_negative_parts_of_a_stack_go_the_other_way(self) -> None:
        source = table(g=["a", "a", "a"], k=["x", "y", "z"], n=[5, -3, 4])
        panel = self.report(source, 'kind = "bars"\nby = ["g", "k"]\nshow = ["n"]\nstacked = true\n')
        drawn: list[Any] = []
        with mock.patch.object(figures, "_png", side_effect=lambda figure, dpi: drawn.append(figure) or b""):
            figures.chart_png(panel, panel.content)
        (figure,) = drawn
        spans = sorted(
            (bar.get_x(), bar.get_x() + bar.get_width())
            for axes in figure.axes
            for bar in axes.patches
            if bar.get_width()
        )
        self.assertEqual([tuple(sorted(one)) for one in spans], sorted([(-3.0, 0.0), (0.0, 5.0), (5.0, 9.0)]))

    def test_changes_have_the_sign_of_the_difference(self) -> None:
        for value, before, said in (
            (-50, -100, "+50.0%"),
            (-100, -50, "−100.0%"),
            (50, -50, "+200.0%"),
            (-50, 50, "−200.0%"),
            (5, 0, "+5"),
        ):
            source = table(n=[value])
            panel = self.report(
                source, f'kind = "figure"\nshow = ["SUM(n)"]\nagainst = "SUM(n) - ({value} - ({before}))"\n'
            )
            with self.subTest(value=value, before=before):
                self.assertTrue(panel.content.change.startswith(said), panel.content.change)

    def test_null_is_seen_and_counted(self) -> None:
        source = table(g=["a", None, "b"], n=pa.array([None, 3, 4], pa.int64()))
        panel = self.report(source, 'kind = "table"\nby = ["g"]\nshow = ["n"]\n')
        cells = [[*line.cells] for line in panel.content.lines]
        self.assertEqual(
            sorted(map(str, (cell for line in cells for cell in line))), sorted(["a", "null", "b", "4", "null", "3"])
        )
        bars = self.report(source, 'kind = "bars"\nby = ["g"]\nshow = ["n"]\n')
        self.assertEqual(len(bars.content.groups), 3)
        self.write("t.csv", "g,n\na,\n,3\n")
        self.oak("intake", "t.csv", "--keep-names")
        self.assertEqual(self.oak("peek", "t").count("null"), 2)

    def test_the_rest_is_of_the_rows_that_the_filter_lets_through(self) -> None:
        source = table(g=["a", "b", "c", "c"], n=[10, 5, 1, 100], ok=[True, True, True, False])
        panel = self.report(
            source,
            'kind = "table"\nby = ["g"]\nshow = ["n"]\nsort = ["-n"]\nlimit = 1\nrest = true\ntotals = true\nwhere = "ok"\n',
        )
        self.assertEqual(
            [[*line.cells] for line in panel.content.lines], [["a", "10"], ["the other 2", "6"], ["all", "16"]]
        )

    def test_a_rule_that_cannot_be_computed_is_in_the_check(self) -> None:
        source = table(n=[1, 2]).with_changed("n", rule="VALUE > zebra")
        self.assertIn("bad-rule", [one.code for one in source.check()])
        self.assertIn("rule-broken", [one.code for one in table(n=[1, -2]).with_changed("n", rule="VALUE > 0").check()])
