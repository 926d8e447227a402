"""Where behaviour turns: joins with null keys and repeats, thresholds of type inference, slices of rows, the edit log, figures under a limit."""

from __future__ import annotations

import csv
import io
import random
import unittest
from collections import Counter
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.definition import edits
from oak_ledger.engine.options import overridden
from oak_ledger.origin.csv import reader as csv_reader
from oak_ledger.report import open_report, report_changes
from tests.support import LOADS, FolderCase

Pair = tuple[str, str]


def table(*columns: str, rows: list[tuple[Any, ...]]) -> str:
    """A delimited text."""
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows([columns, *rows])
    return text.getvalue()


def joined(left: list[Pair], right: list[Pair], how: str) -> list[tuple[str, str, str]]:
    """What a join must give, by nested loops; an empty key is null and equals nothing."""
    found = [(key, x, y) for key, x in left for other, y in right if key and key == other]
    if how != "inner":
        keys = {key for key, _ in right if key}
        found += [(key, x, "") for key, x in left if key not in keys]
    if how == "full":
        keys = {key for key, _ in left if key}
        found += [(key, "", y) for key, y in right if key not in keys]
    return found


KEYS = st.sampled_from(["", "a", "b", "c", "d"])
SIDES = st.lists(st.tuples(KEYS, st.sampled_from(["1", "2", "3"])), min_size=1, max_size=7)


class Joins(FolderCase):
    def brute_force(self, left: list[Pair], right: list[Pair], how: str) -> None:
        for name in ("left.csv", "right.csv", "joined.oak.toml"):
            (self.folder / name).unlink(missing_ok=True)
        self.write(
            "left.csv", table("Key", "X", rows=[*left, ("z", "9")])
        )  # a key of its own, so that types are the same
        self.write("right.csv", table("Key", "Y", rows=[*right, ("y", "8")]))
        found = oak.intake_join(["left.csv", "right.csv"], on=["Key"], how=how, name="Joined", keep_names=True)
        rows = [
            tuple(str(one) if one is not None else "" for one in row.values()) for row in found.source.rows().to_dicts()
        ]
        wanted = joined([*left, ("z", "9")], [*right, ("y", "8")], how)
        self.assertEqual(Counter(rows), Counter(wanted))
        (step,) = found.joins
        counts = [Counter(key for key, _ in side if key) for side in ([*left, ("z", "9")], [*right, ("y", "8")])]
        alone = [
            sum(not key or key not in {other for other, _ in theirs} for key, _ in side)
            for side, theirs in (
                ([*left, ("z", "9")], [*right, ("y", "8")]),
                ([*right, ("y", "8")], [*left, ("z", "9")]),
            )
        ]
        self.assertEqual((step.rows, step.left_alone, step.right_alone), (len(wanted), *alone))
        repeats = [sum(count > 1 for count in side.values()) for side in counts]
        self.assertEqual((step.left_repeats, step.right_repeats), tuple(repeats))

    @settings(max_examples=25, deadline=None)
    @given(SIDES, SIDES, st.sampled_from(["left", "inner", "full"]))
    def test_against_nested_loops(self, left: list[Pair], right: list[Pair], how: str) -> None:
        self.brute_force(left, right, how)

    def test_nulls_meet_nothing_and_repeats_multiply(self) -> None:
        for how in ("left", "inner", "full"):
            self.brute_force([("", "1"), ("", "2"), ("a", "3"), ("a", "4")], [("", "5"), ("a", "6"), ("a", "7")], how)

    def test_totals_that_a_join_multiplies_are_named(self) -> None:
        self.write("left.csv", table("Key", "X", rows=[("a", 10), ("b", 5)]))
        self.write("right.csv", table("Key", "Y", rows=[("a", 1), ("a", 2)]))
        (step,) = oak.intake_join(["left.csv", "right.csv"], on=["Key"], how="left", name="Joined").joins
        self.assertEqual([(one.column, one.before, one.after) for one in step.measures], [("X", 15.0, 25.0)])


# Values of a column, and the type that it gets: each pair of lines is the last case on one side of a threshold, and the first on the other.
NUMBERS = [f"{at}" for at in range(2, 2_000)]
EDGES: tuple[tuple[str, list[str], str], ...] = (
    ("1 in 200 does not fit", [*NUMBERS[:199], "oak"], "integer"),
    ("1 in 199 does not fit", [*NUMBERS[:198], "oak"], "text"),
    ("18 digits", ["9" * 18, "1"], "integer"),
    ("19 digits", ["9" * 19, "1"], "decimal(38,0)"),
    ("18 digits with decimals", ["9" * 16 + ".25"], "decimal(18,2)"),
    ("19 digits with decimals", ["9" * 17 + ".25"], "decimal(38,2)"),
    ("38 digits", ["9" * 38, "1"], "decimal(38,0)"),
    ("39 digits", ["9" * 39, "1"], "text"),
    ("9 decimals", ["1.123456789", "2"], "decimal(18,9)"),
    ("no leading zero", ["10", "20", "30"], "integer"),
    ("a leading zero", ["010", "20", "30"], "text"),
    ("a day that is not in the calendar", ["30.02.2025", "13.01.2025"], "date"),
    ("a month that is not in the calendar", ["10.13.2025", "14.14.2025"], "text"),
)
# Names and numbers of rows, and the role.
ROLES: tuple[tuple[str, str, list[int], str], ...] = (
    ("numbers the rows", "Load", [*range(1, 51)], "dimension"),
    ("one is missing, too few to tell", "Load", [*range(1, 50), 51], "measure"),
    ("every second is there, of 100", "Load", [*range(0, 199, 2)], "dimension"),
    ("every third is there, of 100", "Load", [*range(0, 300, 3)], "measure"),
    ("one is there twice", "Load", [*range(1, 150), 149], "measure"),
    ("by its name", "Load no", [5, 5, 9], "dimension"),
    ("a rate", "Growth rate", [5, 5, 9], "measure"),
)


class Inference(FolderCase):
    def test_types_at_their_edges(self) -> None:
        for what, values, kind in EDGES:
            with self.subTest(what):
                self.write("t.csv", table("Id", "X", rows=[(f"r{at}", one) for at, one in enumerate(values)]))
                found = oak.intake(["t.csv"], definition="t.oak.toml").proposals[1]
                self.assertEqual(found.type, kind)
                (self.folder / "t.oak.toml").unlink(missing_ok=True)

    def test_roles_at_their_edges(self) -> None:
        for what, name, values, role in ROLES:
            with self.subTest(what):
                self.write("t.csv", table("Mill", name, rows=[("oak", one) for one in values]))
                self.assertEqual(oak.intake(["t.csv"], definition="t.oak.toml").proposals[1].role, role)


class Slices(FolderCase):
    """Answers do not depend on where rows are cut: into slices, or into blocks of a file."""

    ROWS = 97

    def setUp(self) -> None:
        super().setUp()
        chance = random.Random(7)
        rows = [
            (at, chance.choice(["oak", "ash", "", 'a "b"\nc']), chance.choice([1, 2, None]), chance.randrange(100) / 4)
            for at in range(self.ROWS)
        ]
        self.write("t.csv", table("Id", "Mill", "Grade", "Volume", rows=rows))
        self.source = oak.intake(["t.csv"], definition="t.oak.toml", keep_names=True).source
        self.questions: list[Any] = [
            lambda source: source.tally(
                ["Mill", "Grade"],
                [
                    "COUNT(*)",
                    "SUM(Volume)",
                    "MEDIAN(Volume)",
                    "COUNT(DISTINCT Grade)",
                    "LISTAGG(Mill, '|') WITHIN GROUP (ORDER BY Id)",
                ],
                totals=True,
            ),
            lambda source: source.rows(
                ["Id", "LAG(Volume) OVER (PARTITION BY Mill ORDER BY Id)", "RANK() OVER (ORDER BY Volume)"]
            ),
            lambda source: source.rows(
                ["Id", "SUM(Volume) OVER (ORDER BY Id ROWS BETWEEN 2 PRECEDING AND 1 FOLLOWING)"]
            ),
            lambda source: source.rows(["Id", "Volume"], where="Grade = 2", sort=["-Volume", "Id"], limit=5),
        ]

    def answers(self) -> list[Any]:
        found = [question(self.source) for question in self.questions]
        return [(one.to_dicts(), None if one.totals is None else one.totals.to_pylist()) for one in found]

    def test_of_any_size(self) -> None:
        whole = self.answers()
        for rows in (1, 2, 7, self.ROWS - 1, self.ROWS, self.ROWS + 1):
            for block in (64, 1 << 12):
                before = csv_reader.BLOCK_BYTES
                csv_reader.BLOCK_BYTES = block
                self.addCleanup(setattr, csv_reader, "BLOCK_BYTES", before)
                with self.subTest(rows=rows, block=block), overridden(rows=rows):
                    self.assertEqual(self.answers(), whole)

    def test_the_first_fault_is_in_the_same_row(self) -> None:
        faults = []
        for rows in (3, 40, 1000):
            with overridden(rows=rows):
                answer = self.source.tally([], [("x", "SUM(Volume / (Id - 50))")])
                faults.append([(one.rows, one.samples[0][0]) for one in answer.faults])
        self.assertEqual(faults, [[(1, 51)]] * 3)


class EditLog(FolderCase):
    def test_it_keeps_the_newest_edits(self) -> None:
        self.write("t.csv", "X\n1\n")
        self.oak("intake", "t.csv", "--name", "T")
        kept, edits.MAX_LOGGED_EDITS = edits.MAX_LOGGED_EDITS, 5
        self.addCleanup(setattr, edits, "MAX_LOGGED_EDITS", kept)
        for number in range(7):
            self.oak("field", "set", "t", "X", "--description", f"text {number}")
        log = oak.edits_of(self.folder / "t.oak.toml")
        self.assertEqual([one.what[-7:-1] for one in log], [f"text {number}" for number in range(2, 7)])
        for number in (5, 4, 3, 2, 1):
            self.oak("undo", "t")
            self.assertIn(f'"text {number}"', (self.folder / "t.oak.toml").read_text())
        self.assertIn("nothing-to-undo", self.oak("undo", "t", code=2))
        for number in (2, 3):
            self.oak("undo", "redo", "t")
            self.assertIn(f'"text {number}"', (self.folder / "t.oak.toml").read_text())
        self.oak("field", "set", "t", "X", "--description", "another")
        self.assertIn("nothing-to-redo", self.oak("undo", "redo", "t", code=2))
        self.oak("undo", "t")
        self.assertIn('"text 3"', (self.folder / "t.oak.toml").read_text())


class Consequences(FolderCase):
    """A figure that changes outside of what a panel shows still changes its total, and is named."""

    def report(self, panel: str) -> oak.Report:
        self.write(
            "r.report.toml",
            f'[report]\nname = "R"\nsource = "Loads"\n\n[[panel]]\nkind = "table"\ntitle = "P"\n{panel}',
        )
        return open_report(self.folder / "r.report.toml")

    def found(self, panel: str, before: oak.Source, after: oak.Source) -> list[oak.Change]:
        return report_changes([self.report(panel)], before, after)

    def changes(self, panel: str, before: oak.Source, after: oak.Source) -> list[tuple[str, Any, Any]]:
        return [(one.measure, one.before, one.after) for one in self.found(panel, before, after)]

    def test_with_a_limit(self) -> None:
        before = oak.Source.from_table(LOADS, name="Loads")
        more = LOADS.to_pylist()
        self.assertEqual(min(more, key=lambda row: row["Volume"])["Mill"], "Low Weir")
        more[1]["Cost"] += 5  # High Ford has the smaller total, and is not shown
        after = oak.Source.from_table(LOADS.from_pylist(more, schema=LOADS.schema), name="Loads")
        panel = 'by = ["Mill"]\nshow = ["Cost"]\nsort = ["Cost"]\nlimit = 1\n'
        self.assertEqual(self.changes(panel, before, after), [("Cost", 80, 85)])
        self.assertEqual(self.changes(panel + "where = \"Mill = 'Low Weir'\"\n", before, after), [])

    def test_groups_that_come_or_go_with_equal_totals(self) -> None:
        rows = LOADS.to_pylist()
        before = oak.Source.from_table(LOADS, name="Loads")
        rows[0]["Mill"] = "New Mill"
        after = oak.Source.from_table(LOADS.from_pylist(rows, schema=LOADS.schema), name="Loads")
        (change,) = self.found('by = ["Mill"]\nshow = ["Cost"]\n', before, after)
        self.assertEqual((change.before, change.after), (80, 80))
        self.assertEqual(
            [(one.group, one.before, one.after) for one in change.groups],
            [(("Low Weir",), 30, 20), (("New Mill",), None, 10)],
        )

    def test_two_groups_that_changed_places(self) -> None:
        """The total is what it was, and both groups are named."""
        rows = LOADS.to_pylist()
        names = {"Low Weir": "High Ford", "High Ford": "Low Weir"}
        before = oak.Source.from_table(LOADS, name="Loads")
        swapped = [{**row, "Mill": names.get(row["Mill"], row["Mill"])} for row in rows]
        after = oak.Source.from_table(LOADS.from_pylist(swapped, schema=LOADS.schema), name="Loads")
        panel = 'by = ["Mill"]\nshow = ["Cost", "Share"]\n\n[[field]]\nname = "Share"\nformula = "SUM(Cost) / SUM(SUM(Cost)) OVER ()"\n'
        found = self.found(panel, before, after)
        self.assertEqual((found[0].measure, found[0].before, found[0].after), ("Cost", 80, 80))
        groups = {one.group[0]: (one.before, one.after) for one in found[0].groups}
        self.assertEqual(groups, {"Low Weir": (30, 50), "High Ford": (50, 30)})
        self.assertEqual(self.found(panel, before, before), [])

    def test_what_a_change_comes_from(self) -> None:
        before = oak.Source.from_table(LOADS, name="Loads").with_field("Net", "Cost - COALESCE(Fee, 0)")
        after = before.with_changed("Net", formula="Cost - 2 * COALESCE(Fee, 0)")
        panel = 'by = ["Mill"]\nshow = ["Twice"]\n\n[[field]]\nname = "Twice"\nformula = "SUM(Net) * 2"\n'
        report = self.report(panel)
        (change,) = report_changes([report], before, after, {}, ["Net", "Volume"])
        self.assertEqual(change.because, ("Net",))
        sizes = [one.size for one in change.groups]
        self.assertEqual(sizes, sorted(sizes, reverse=True))


if __name__ == "__main__":
    unittest.main()
