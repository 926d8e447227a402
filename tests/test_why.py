"""A figure taken apart: what it says of each part is what a question of its own gives."""

from __future__ import annotations

import random
import unittest
from typing import Any

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.explain.row_changes import row_changes
from oak_ledger.explain.why import Why, rows_behind, why
from tests.support import LOADS, D, FolderCase

SOURCE = (
    oak.Source.from_table(LOADS, name="Loads")
    .with_field("Net", "Cost - COALESCE(Fee, 0)")
    .with_field("Net total", "SUM(Net)")
    .with_field("Net per m³", '"Net total" / SUM(Volume)', format="0.00")
    .with_entry("constant", "Tax", value=D("1.25"))
    .with_entry("constant", "Rate", by="Day", values={"2026-01-01": 2, "2026-03-03": 3})
    .with_entry("filter", "Big", where="Volume > 5 AND (Cost > 5 AND Mill IS NOT NULL)")
)
# A measure, what it is grouped by, the group, a condition; then its parts, the rows before and after each condition, nulls.
Case = tuple[Any, list[Any], list[Any], str | None, dict[str, Any], list[tuple[int, int]], dict[str, int]]
CASES: tuple[Case, ...] = (
    ("Volume", [], [], None, {}, [], {}),
    ("Cost", ["Mill"], ["Low Weir"], None, {}, [(6, 3)], {"Cost": 1}),
    ("Cost", ["Mill"], [None], None, {}, [(6, 1)], {"Cost": 1}),
    ("Net per m³", ["Mill"], ["Low Weir"], None, {'"Net total"': 28.5, "SUM(Volume)": D("36.50")}, [(6, 3)], {"Net": 1, "Cost": 1, "Fee": 1}),
    (("Ratio", "SUM(Cost) / SUM(Volume)"), ["Mill"], ["High Ford"], "Volume > 5", {"SUM(Cost)": 50, "SUM(Volume)": D("35.50")}, [(6, 4), (4, 2)], {}),
    (("Share", "SUM(Cost) / SUM(SUM(Cost)) OVER ()"), ["Mill"], ["High Ford"], None, {"SUM(Cost)": 50, "SUM(SUM(Cost)) OVER ()": 80}, [(6, 2)], {}),
    (("Rank", "RANK() OVER (ORDER BY SUM(Volume) DESC)"), ["Mill"], ["High Ford"], None, {}, [(6, 2)], {}),
    (("Most", "MAX(Cost) FILTER (WHERE Sent) * 2"), [], [], "Big", {"MAX(Cost) FILTER (WHERE Sent)": 20}, [(6, 4), (4, 4), (4, 4)], {}),
    (("With tax", "SUM(Cost) * Tax"), [], [], None, {"SUM(Cost)": 80}, [], {"Cost": 2}),
    (("Rated", "SUM(Cost * Rate)"), [("Month", "EXTRACT(MONTH FROM Day)")], [3], None, {}, [(6, 5)], {"Cost": 1}),
)  # fmt: skip


def bound(offset: int | None, otherwise: str) -> str:
    """An end of a frame; without an offset what it has no end to."""
    if offset is None:
        return f"UNBOUNDED {otherwise}"
    return "CURRENT ROW" if not offset else f"{abs(offset)} {'PRECEDING' if offset < 0 else 'FOLLOWING'}"


class RowsOfTwoStates(unittest.TestCase):
    def test_cases(self) -> None:
        """Rows before and now, the key; then how many came, went and have other values, and in which columns."""
        old = [(1, "a", 5), (2, "b", None), (3, None, 7), (3, None, 7)]
        cases: list[tuple[list[tuple[Any, ...]], list[tuple[Any, ...]], list[str], tuple[int, int, int, list[str]]]] = [
            (old, old, [], (0, 0, 0, [])),
            (old, old[::-1], [], (0, 0, 0, [])),
            (old, old[:3], [], (0, 1, 0, [])),  # one of two equal rows
            (old, [*old, old[3]], [], (1, 0, 0, [])),
            (old, [(1, "a", 6), *old[1:]], [], (1, 1, 0, [])),
            (old[:3], [(1, "a", 6), (2, "b", None), (4, "x", 1)], ["k"], (1, 1, 1, ["v"])),
            (old[:3], [(1, None, 5), (2, "c", 3), (3, None, 7)], ["k"], (0, 0, 2, ["t", "v"])),
            ([], old[:3], ["k"], (3, 0, 0, [])),
            (old[:3], [], ["k"], (0, 3, 0, [])),
        ]
        for before, now, key, expected in cases:
            with self.subTest(before=before, now=now, key=key):
                sides = [
                    pa.table({"k": [one[0] for one in rows], "t": pa.array([one[1] for one in rows], pa.string()), "v": pa.array([one[2] for one in rows], pa.int64())}, schema=pa.schema([("k", pa.int64()), ("t", pa.string()), ("v", pa.int64())]))
                    for rows in (before, now)
                ]  # fmt: skip
                found = row_changes(sides[0], sides[1], key)
                counts = (found.came.num_rows, found.went.num_rows, found.changed_after.num_rows, [*found.columns])
                self.assertEqual(counts, expected)

    def test_a_key_that_repeats(self) -> None:
        table = pa.table({"k": [1, 1], "v": [2, 3]})
        with self.assertRaises(oak.OakError):
            row_changes(table, table.slice(0, 1), ["k"])


class Figures(unittest.TestCase):
    def test_cases(self) -> None:
        for measure, by, group, where, parts, filters, nulls in CASES:
            with self.subTest(measure=measure, group=group):
                found = why(SOURCE, measure, by, group, where=where)
                answer = SOURCE.tally(by, [measure], where=where)
                rows = [[*row.values()] for row in answer.to_dicts()]
                wanted = next(row[-1] for row in rows if row[:-1] == group)
                self.assertEqual(found.value, wanted)
                self.assertEqual({one.text: one.value for one in found.steps[0].parts}, parts)
                self.assertEqual([(one.before, one.after) for one in found.filters], filters)
                self.assertEqual(dict(found.nulls), nulls)
                self.behind(found)

    def behind(self, found: Why) -> None:
        """The rows behind a figure are as many as it says."""
        self.assertEqual(rows_behind(SOURCE, found).table.num_rows, found.rows)

    def test_a_field_per_group_is_taken_apart_as_well(self) -> None:
        found = why(SOURCE, "Net per m³", ["Mill"], ["Low Weir"])
        self.assertEqual([(one.name, one.formula) for one in found.steps], [
            ("Net per m³", '"Net total" / SUM(Volume)'), ("Net total", "SUM(Net)"),
        ])  # fmt: skip
        self.assertEqual(found.steps[1].value, found.steps[0].parts[0].value)
        self.assertEqual(found.fields, ("Net per m³", "Net total", "Volume", "Net", "Cost", "Fee"))
        self.assertEqual(found.format, "0.00")

    def test_what_a_window_compares(self) -> None:
        """The groups of its partition, in its order: the values are those of the tally, and what it gives the own one is the figure."""
        by = ["Mill", ("M", "EXTRACT(DAY FROM Day)")]
        for formula, same_mill, taken in (
            ("SUM(SUM(Volume)) OVER (PARTITION BY Mill)", True, "SUM(Volume)"),
            ("SUM(SUM(Volume)) OVER (PARTITION BY Mill ORDER BY M DESC)", True, "SUM(Volume)"),
            ("RANK() OVER (ORDER BY SUM(Volume) DESC)", False, "SUM(Volume)"),
            ("LAG(MAX(Cost)) OVER (ORDER BY M, Mill)", False, "MAX(Cost)"),
        ):
            tally = [[*row.values()] for row in SOURCE.tally(by, [("t", taken), ("w", formula)]).to_dicts()]
            for row in tally:
                with self.subTest(formula, group=row[:2]):
                    found = why(SOURCE, ("w", formula), by, row[:2])
                    (one,) = found.compared
                    members = [other for other in tally if not same_mill or other[0] == row[0]]
                    self.assertEqual((one.count, list(one.rows[one.own])), (len(members), row))
                    self.assertEqual(one.columns, ("Mill", "M", taken, "value"))
                    for shown in one.rows:
                        self.assertIn([*shown], members)
                    if "DESC" in formula:
                        ordered = [shown[1] if same_mill else shown[2] for shown in one.rows]
                        self.assertEqual(ordered, sorted(ordered, reverse=True))

    def test_windows_by_hand(self) -> None:
        """Drawn groups and rows: the value of the own one is that of the values in the frame that is shown, added up in plain Python."""
        chance = random.Random(20261202)
        held = 0
        for at in range(60):
            rows = [
                (key, one, chance.choice([None, *range(9)])) for key in "abc" for one in range(chance.randrange(1, 8))
            ]
            chance.shuffle(rows)
            table = pa.table({name: [row[at] for row in rows] for at, name in enumerate(("Key", "Step", "Value"))})
            source = oak.Source.from_table(table, name="Q")
            source = source.with_key(["Key", "Step"])
            low, high = chance.choice([None, *range(-3, 3)]), chance.choice([None, *range(-3, 3)])
            if low is not None and high is not None and low > high:
                low, high = high, low
            frame = f"ROWS BETWEEN {bound(low, 'PRECEDING')} AND {bound(high, 'FOLLOWING')}"
            part = chance.choice(["PARTITION BY Key ", ""])
            over = f"OVER ({part}ORDER BY {'Key, ' * (not part)}Step {frame if at % 4 else ''})"
            low, high = (low, high) if at % 4 else (None, 0)
            key, step, _ = chance.choice(rows)
            if at % 2:
                found = why(source, ("W", f"SUM(SUM(Value)) {over}"), ["Key", "Step"], [key, step])
            else:
                source = source.with_field("W", f"SUM(Value) {over}")
                found = why(source, ("M", "MAX(W)"), where=f"Key = '{key}' AND Step = {step}")
            with self.subTest(over, key=key, step=step, rows=rows):
                (one,) = found.compared
                members = sorted(row for row in rows if not part or row[0] == key)
                own = members.index(next(row for row in members if row[:2] == (key, step)))
                first = 0 if low is None else max(own + low, 0)
                last = len(members) - 1 if high is None else min(own + high, len(members) - 1)
                values = [row[2] for row in members[first : max(last, -1) + 1] if row[2] is not None]
                self.assertEqual(
                    (one.of, one.count, one.begins + one.own), ("group" if at % 2 else "row", len(members), own + 1)
                )
                self.assertEqual(one.frame, (first + 1, last + 1) if first <= last else ())
                self.assertEqual(one.rows[one.own][-1], sum(values) if values else None)
                self.assertEqual(found.value, one.rows[one.own][-1])
                shown = [row[:2] for row in members[one.begins - 1 :][: len(one.rows)]]
                self.assertEqual([row[:2] for row in one.rows], shown)
                held += one.frame != (1, one.count)
        self.assertGreater(held, 30)

    def test_constants(self) -> None:
        self.assertEqual(why(SOURCE, ("x", "SUM(Cost) * Tax")).constants, (("Tax", "1.25"),))
        self.assertEqual(
            why(SOURCE, ("x", "SUM(Cost * Rate)")).constants, (("Rate", "2 from 2026-01-01, 3 from 2026-03-03"),)
        )

    def test_faults(self) -> None:
        found = why(SOURCE, ("x", "SUM(Cost / (Volume - 12))"))
        self.assertEqual([(one.what, one.rows) for one in found.faults], [("division by zero", 1)])

    def test_a_filter_of_the_source(self) -> None:
        source = SOURCE.with_entry("filter", "Sent only", where="Sent", always=True)
        found = why(source, "Cost")
        self.assertEqual([(one.text, one.before, one.after) for one in found.filters], [("Sent only", 6, 3)])

    def test_what_is_not_there(self) -> None:
        for by, group in ((["Mill"], ["Zebra"]), (["Mill"], []), ([], ["Zebra"])):
            with self.assertRaises(oak.OakError) as caught:
                why(SOURCE, "Cost", by, group)
            self.assertEqual(caught.exception.code, "no-group")


REPORT = """\
[report]
name = "Costs"
source = "T"

[[field]]
name = "Dear"
formula = "SUM(Cost) FILTER (WHERE Cost > 3)"

[[panel]]
kind = "table"
title = "{Cost} by mill"
by = ["Mill", { name = "Year", formula = "EXTRACT(YEAR FROM Day)" }]
show = ["Cost", "Dear", { name = "Half", formula = "SUM(Cost) / 2" }]
where = "Cost > 1 AND Mill <> 'c'"
"""


class Panels(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write(
            "t.csv", "Mill,Cost,Day\na,1,2025-01-01\na,5,2026-01-01\na,7,2026-02-01\nb,4,2026-01-01\nc,9,2026-01-01\n"
        )
        oak.intake(["t.csv"], name="T", definition="t.oak.toml").save()
        self.write("r.report.toml", REPORT)

    def asked(self, *more: str, code: int = 0) -> Any:
        return self.oak_json("why", "r.report.toml", *more, "--source", "t", code=code)

    def test_by_title_or_number_and_by_groups_as_they_are_shown(self) -> None:
        for panel in ("1", "Cost by mill", "{Cost} by mill"):
            found = self.asked(panel, "a", "2026")
            self.assertEqual((found["value"], found["rows"]), (12, 2))
        self.assertEqual([(one["text"], one["before"], one["after"]) for one in found["filters"]], [
            ("Cost > 1", 5, 4), ("Mill <> 'c'", 4, 3), ("Mill = 'a'", 3, 2), ("(EXTRACT(YEAR FROM Day)) = 2026", 2, 2),
        ])  # fmt: skip
        self.assertEqual(self.asked("1")["value"], 16)
        self.assertEqual(self.asked("1", "a")["value"], 12)  # a subtotal

    def test_a_local_field_and_a_formula_of_the_panel(self) -> None:
        self.assertEqual(self.asked("1", "a", "2026", "--measure", "dear")["value"], 12)
        half = self.asked("1", "b", "2026", "--measure", "Half")
        self.assertEqual((half["value"], half["steps"][0]["parts"]), (2.0, [{"text": "SUM(Cost)", "value": 4}]))

    def test_mistakes(self) -> None:
        for more, name in (
            (("2",), "unknown-panel"),
            (("1", "a", "2026", "b"), "no-group"),
            (("1", "z", "2026"), "no-group"),
            (("1", "--measure", "Zebra"), "unknown-field"),
        ):
            self.assertEqual(self.asked(*more, code=2)["errors"][0]["code"], name)

    def test_the_rows_behind_it_as_a_file(self) -> None:
        self.oak("why", "r.report.toml", "1", "a", "2026", "--source", "t", "--to", "rows.csv")
        self.assertEqual(sorted((self.folder / "rows.csv").read_text().splitlines()[1:]), ["5", "7"])


if __name__ == "__main__":
    unittest.main()
