"""Aggregates of aggregates, each value at its own level: held against SQL with a subquery, over drawn rows, filters, groups and totals."""

from __future__ import annotations

import datetime as dt
import random
import sqlite3
from typing import Any

import pyarrow as pa

import oak_ledger as oak
from tests.support import FolderCase

# A measure at the level of C (or of C and D), the same over the subquery `v`, and what the subquery computes.
MEASURES: tuple[tuple[str, str, dict[str, str], str], ...] = (
    ("AVG(SUM(N) PER (C))", "AVG(a)", {"a": "SUM(N)"}, "C"),
    ("MAX(COUNT(*) PER (C))", "MAX(a)", {"a": "COUNT(*)"}, "C"),
    ("COUNT(*) FILTER (WHERE COUNT(*) PER (C) > 2)", "SUM(a > 2)", {"a": "COUNT(*)"}, "C"),
    ("SUM(SUM(N) PER (C)) FILTER (WHERE COUNT(N) PER (C) > 1)", "SUM(CASE WHEN b > 1 THEN a END)", {"a": "SUM(N)", "b": "COUNT(N)"}, "C"),
    ("MIN(SUM(N) PER (C, D))", "MIN(a)", {"a": "SUM(N)"}, "C, D"),
    ("AVG((SUM(N) / COUNT(*)) PER (C)) * 2", "AVG(a) * 2", {"a": "SUM(N) * 1.0 / COUNT(*)"}, "C"),
    ("COUNT(DISTINCT C) FILTER (WHERE SUM(N) PER (C) >= 3)", "COUNT(DISTINCT CASE WHEN a >= 3 THEN C END)", {"a": "SUM(N)"}, "C"),
    ("SUM(N) - SUM(MAX(N) PER (C))", "SUM(a) - SUM(b)", {"a": "SUM(N)", "b": "MAX(N)"}, "C"),
    ("COUNT(*) FILTER (WHERE SUM(N) PER (UPPER(C)) IS NULL)", "SUM(a IS NULL)", {"a": "SUM(N)"}, "UPPER(C)"),
)  # fmt: skip
WRONG: tuple[tuple[str, str], ...] = (
    ("SUM(N) PER (C)", "level-alone"), ("AVG(N PER (C))", "level-of-row"), ("AVG(SUM(N) PER (C) + N)", "level-mixed"), ("AVG(SUM(N) PER (C) + SUM(N) PER (D))", "level-mixed"),
    ("AVG(SUM(N) PER (COUNT(*)))", "level-key"), ("AVG(SUM(N) PER ())", "value-missing"), ("AVG(SUM(N) PER (Zebra))", "unknown-field"), ("SUM(SUM(N))", "aggregate-nested"),
    ("SUM(AVG(N) PER (C)) OVER ()", "level-alone"),
)  # fmt: skip


class Levels(FolderCase):
    def drawn(self, rng: random.Random, count: int) -> list[dict[str, Any]]:
        names = ("a", "b", "B", "c", None)
        return [{"R": rng.choice(("x", "y", None)), "C": rng.choice(names), "D": rng.choice(("p", "q")), "N": rng.choice((None, 1, 2, 3, -1))} for _ in range(count)]  # fmt: skip

    def sql(
        self,
        rows: list[dict[str, Any]],
        by: str,
        measure: tuple[str, str, dict[str, str], str],
        where: str,
        having: str,
    ) -> list[tuple[Any, ...]]:
        base = sqlite3.connect(":memory:")
        self.addCleanup(base.close)
        base.execute("create table t (R text, C text, D text, N integer)")
        base.executemany("insert into t values (:R, :C, :D, :N)", rows)
        _, outer, inner, level = measure
        groups = ", ".join(filter(None, [by, *level.split(", ")]))
        shown = ", ".join([*groups.split(", "), *(f"{sql} AS {name}" for name, sql in inner.items())])
        query = f"SELECT {by + ', ' if by else ''}{outer} FROM (SELECT {shown} FROM t WHERE {where} GROUP BY {groups}) {f'GROUP BY {by}' if by else ''}"
        found = base.execute(query).fetchall()
        if not having:
            return found
        kept = {row[0] for row in base.execute(f"SELECT {by} FROM t WHERE {where} GROUP BY {by} HAVING {having}")}
        return [row for row in found if row[0] in kept]

    def test_drawn_questions(self) -> None:
        rng = random.Random(20261203)
        for draw in range(60):
            rows = self.drawn(rng, rng.choice((1, 5, 40, 200)))
            source = oak.Source.from_table(
                pa.Table.from_pylist(
                    rows,
                    schema=pa.schema([("R", pa.string()), ("C", pa.string()), ("D", pa.string()), ("N", pa.int64())]),
                ),
                name="T",
            )
            measure, by, where = (
                rng.choice(MEASURES),
                rng.choice(("", "R", "R")),
                rng.choice(("1 = 1", "N > 0", "D = 'p'", "C IS NOT NULL")),
            )
            having = rng.choice(("", "COUNT(*) > 3")) if by else ""
            with self.subTest(draw=draw, measure=measure[0], by=by, where=where, having=having):
                asked = [where, *([having] if having else [])]
                answer = source.tally(
                    [by] if by else [], [("x", measure[0])], where=asked, totals=bool(by) and not having
                )
                key = lambda row: (row[0] is None, str(row[0]))  # noqa: E731
                wanted = sorted(self.sql(rows, by, measure, where, having), key=key)
                got = sorted((tuple(row.values()) for row in answer.to_dicts()), key=key)
                self.same(got, wanted)
                if answer.totals is not None:
                    self.same([(answer.totals.column("x")[0].as_py(),)], self.sql(rows, "", measure, where, ""))

    def same(self, got: list[tuple[Any, ...]], wanted: list[tuple[Any, ...]]) -> None:
        """Equal, but that a sum over nothing is a count of nothing there or here."""
        self.assertEqual(len(got), len(wanted), (got, wanted))
        for one, other in zip(got, wanted, strict=True):
            self.assertEqual(one[:-1], other[:-1])
            left, right = float(one[-1] or 0), float(other[-1] or 0)
            self.assertAlmostEqual(left, right, places=9, msg=str((one, other)))

    def test_levels_within_levels_windows_fields_and_reports(self) -> None:
        rows = [
            {"R": "x", "C": c, "D": d, "N": n}
            for c, d, n in (("a", "p", 1), ("a", "q", 5), ("b", "p", 2), ("b", "p", 4), ("c", "q", 9))
        ]
        source = oak.Source.from_table(pa.Table.from_pylist(rows), name="T")
        self.assertEqual(source.tally(show=["MAX(AVG(SUM(N) PER (C, D)) PER (C))"]).value(), 9)
        self.assertEqual(source.tally(show=["SUM(AVG(SUM(N) PER (C, D)) PER (C))"]).value(), 3 + 6 + 9)
        named = source.with_field("Customer total", "AVG(SUM(N) PER (C))").with_field("Twice", '"Customer total" * 2')
        self.assertEqual(named.tally(show=["Twice"]).value(), 14)
        self.assertEqual(
            named.tally(["D"], ["Customer total"], sort=["D"]).to_dicts(),
            [{"D": "p", "Customer total": 3.5}, {"D": "q", "Customer total": 7.0}],
        )
        self.assertEqual(named.state("Customer total").uses, ("N", "C"))
        share = named.tally(["D"], [("s", '"Customer total" / SUM("Customer total") OVER ()')], sort=["D"]).to_dicts()
        self.assertAlmostEqual(sum(row["s"] for row in share), 1.0)
        text = '[report]\nname = "R"\nsource = "T"\n\n[[panel]]\nkind = "table"\ntitle = "P"\nby = ["C"]\nshow = ["SUM(N)", { name = "Days", formula = "AVG(SUM(N) PER (D))" }]\nsort = ["-SUM(N)"]\nlimit = 1\nrest = true\ntotals = true\n'
        panel = oak.open_report(self.write("r.report.toml", text)).view(named).panels[0]
        self.assertEqual(
            [[*line.cells] for line in panel.content.lines],
            [["c", "9", "9.00"], ["the other 2", "12", "6.00"], ["all", "21", "10.50"]],
        )

    def test_what_cannot_be_said(self) -> None:
        source = oak.Source.from_table(pa.table({"C": ["a"], "D": ["b"], "N": [1]}), name="T")
        for formula, code in WRONG:
            with self.subTest(formula):
                with self.assertRaises(oak.OakError) as caught:
                    source.tally(show=[("x", formula)])
                self.assertEqual(caught.exception.code, code, str(caught.exception))
        self.assertEqual(source.with_field("Per", "N").tally(show=["SUM(Per)"]).value(), 1)

    def test_faults_are_of_the_field_that_is_asked(self) -> None:
        source = oak.Source.from_table(pa.table({"C": ["a", "a", "b"], "N": [1, -1, 2]}), name="T")
        answer = source.with_field("Rate", "AVG((1 / SUM(N)) PER (C))").tally(show=["Rate"])
        self.assertEqual(
            (answer.value(), [(one.field, one.what, one.rows) for one in answer.faults]),
            (0.5, [("Rate", "division by zero", 1)]),
        )

    def test_renames_follow_and_places_compute_it_here(self) -> None:
        base = sqlite3.connect("t.db")
        base.executescript("create table t (C text, N integer); insert into t values ('a', 1), ('a', 2), ('b', 5)")
        base.close()
        self.oak("intake", "t.db", "--table", "t", "--keep-names")
        self.oak("field", "add", "t", "Typical", "MEDIAN(SUM(N) PER (C))")
        self.oak("field", "rename", "t", "C=Customer")
        self.assertIn("PER (Customer)", (self.folder / "t.oak.toml").read_text())
        answer = oak.open_source("t").tally(show=["Typical"])
        self.assertEqual((answer.value(), answer.place), (4.0, "here"))
        self.oak("check", "t", code=None)


class Totals(FolderCase):
    """Levels such as a stock: added up over everything but days; and the value of one field at the end of another."""

    def test_drawn_stocks(self) -> None:
        """The sum over the last day on which the group has a value; the most frequent value; the value at an end: said plainly."""
        rng = random.Random(20261203)
        for draw in range(40):
            rows = [{"Y": rng.choice(("a", "b", None)), "D": rng.choice((None, 1, 2, 3)), "N": rng.choice((None, 1, 2, 5, -3)), "T": rng.choice((None, "x", "y", "z"))} for _ in range(rng.choice((0, 1, 8, 60)))]  # fmt: skip
            schema = pa.schema([("Y", pa.string()), ("D", pa.int64()), ("N", pa.int64()), ("T", pa.string())])
            source = oak.Source.from_table(pa.Table.from_pylist(rows, schema=schema), name="S")
            measures = [
                "SUM_AT_LAST(N, D)",
                "SUM_AT_FIRST(N, D)",
                "MAX_BY(T, N)",
                "MIN_BY(N, T)",
                "MODE(T)",
                "MODE(N) FILTER (WHERE D > 1)",
            ]
            answer = source.tally(["Y"], [(str(at), one) for at, one in enumerate(measures)], totals=True, sort=["Y"])
            wanted = {}
            for group in {row["Y"] for row in rows} | {"all"}:
                own = [row for row in rows if group in ("all", row["Y"])]
                known = [row for row in own if row["N"] is not None and row["D"] is not None]
                days = [row["D"] for row in known]
                both = [row for row in own if row["N"] is not None and row["T"] is not None]
                counts = {value: sum(row["T"] == value for row in own) for value in {row["T"] for row in own} - {None}}
                late = [row["N"] for row in own if row["N"] is not None and (row["D"] or 0) > 1]
                wanted[group] = [
                    sum(row["N"] for row in known if row["D"] == max(days)) if known else None,
                    sum(row["N"] for row in known if row["D"] == min(days)) if known else None,
                    min(row["T"] for row in both if row["N"] == max(one["N"] for one in both)) if both else None,
                    min(row["N"] for row in both if row["T"] == min(one["T"] for one in both)) if both else None,
                    min((value for value, times in counts.items() if times == max(counts.values())), default=None),
                    min((value for value in late if late.count(value) == max(map(late.count, late))), default=None),
                ]
            with self.subTest(draw):
                got = {row["Y"]: [*row.values()][1:] for row in answer.to_dicts()}
                self.assertEqual(got, {group: values for group, values in wanted.items() if group != "all"})
                self.assertEqual([one[0].as_py() for one in answer.totals.columns][1:], wanted["all"])

    def test_a_stock_in_a_definition(self) -> None:
        self.write(
            "stock.csv",
            "Yard,Day,Stock\nA,2026-01-01,10\nA,2026-01-02,12\nB,2026-01-01,5\nB,2026-01-02,4\nC,2026-01-01,7\n",
        )
        self.oak("intake", "stock.csv")
        self.oak("field", "set", "stock", "Stock", "--total", "last", "--over", "Day")
        source = oak.open_source("stock")
        answer = source.tally(["Yard"], ["Stock"], totals=True, sort=["Yard"])
        self.assertEqual([[*row.values()] for row in answer.to_dicts()], [["A", 12], ["B", 4], ["C", 7]])
        self.assertEqual(
            [one[0].as_py() for one in answer.totals.columns][1:], [16]
        )  # on the last day of all there is no C
        self.assertIn("Stock, last", self.oak("tally", "stock", "--by", "Yard", "--show", "Stock"))
        self.oak("field", "rename", "stock", "Day=Counted on")
        self.assertEqual(oak.open_source("stock").tally(show=["Stock"]).value(), 16)
        self.assertIn("needs both total", self.oak("field", "set", "stock", "Stock", "--total", "last", code=2))

    def test_a_new_field_says_how_it_totals(self) -> None:
        self.write("t.csv", "A,B,D\n1,2,2026-01-01\n")
        self.oak("intake", "t.csv")
        for name, formula, said in (
            ("Sum", "A + B", "adds up"), ("Rate", "A / B", "does not add up: it divides A by B in each row; for groups: SUM(A) / SUM(B)"), ("Total", "SUM(A)", "computed again for each group"),
            ("Rank", "RANK() OVER (ORDER BY A)", "does not add up: it is a rank"), ("Year", "EXTRACT(YEAR FROM D)", "it is a part of a date"), ("Text", "CAST(A AS TEXT)", "not added up"),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertIn(said, " ".join(self.oak("field", "add", "t", name, formula).split()))


class Asked(FolderCase):
    """Whether a measure may be a level is asked at intake: by its name, or because it hardly changes from day to day; a flow is not."""

    def rows(self, kind: str) -> str:
        chance, lines = random.Random(5), ["Day,Site,Amount"]
        for site in "ABC":
            value = 200
            for day in range(40):
                value = value + chance.randint(-5, 5) if kind == "level" else chance.randint(1, 200)
                lines.append(f"{dt.date(2026, 1, 1) + dt.timedelta(day)},{site},{value}")
        return "\n".join(lines) + "\n"

    def test_levels_are_asked_about(self) -> None:
        for name, kind, asked in (
            ("tickets", "level", True), ("tickets", "flow", False), ("stock_daily", "flow", True), ("loads", "flow", False),
        ):  # fmt: skip
            with self.subTest(name, kind=kind):
                self.write(f"{name}.csv", self.rows(kind))
                found = oak.intake(f"{name}.csv", name="t").findings
                self.assertEqual([one.code for one in found], ["may-be-level"] if asked else [])
        self.write("t.csv", self.rows("level"))
        said = self.oak("intake", "t.csv")
        self.assertIn("oak field set t Amount --total last --over Day", " ".join(said.split()))
        self.assertNotIn("may-be-level", self.oak("check", "t"))  # asked once, where only the values say so
        self.oak("field", "rename", "t", "Amount=Stock on hand")
        self.assertIn("Stock on hand keeps within a tenth", " ".join(self.oak("check", "t").split()))
        self.oak("field", "rename", "t", "Stock on hand=Amount")
        self.oak("field", "set", "t", "Amount", "--total", "last", "--over", "Day")
