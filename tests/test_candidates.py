"""What a column is called now: a part of the labelled changes, what is sure and what is not, and that no column is named twice."""

from __future__ import annotations

import random
import unittest
from typing import Any

from bench.candidates import KINDS, judge
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from tests.support import FolderCase

chance = random.Random(8)
ROWS = 150
COLUMNS: dict[str, list[Any]] = {
    "Id": [f"N{at:04}" for at in range(ROWS)],
    "Left": [chance.choice(["yes", "no"]) for _ in range(ROWS)],
    "Right": [chance.choice(["yes", "no"]) for _ in range(ROWS)],
    "Mill": [chance.choice(["Low Weir", "High Ford", "Stonebeck"]) for _ in range(ROWS)],
    "Volume": [round(chance.uniform(1, 50), 2) for _ in range(ROWS)],
    "Cost": [round(chance.uniform(1, 50), 2) for _ in range(ROWS)],
}


class Labelled(unittest.TestCase):
    def test_a_part_of_the_labelled_changes(self) -> None:
        """The whole set is `python -m bench.candidates`; this is one change of each kind for one table."""
        wrong, sure = [], []
        for name in ("hours",):
            chance = random.Random(f"tests {name}")
            for kind in KINDS:
                good, certain, said = judge(name, kind, chance)
                wrong += [] if good else [f"{name}: {said}"]
                sure += [said] if certain else []
        self.assertEqual(sure, [])
        self.assertLessEqual(len(wrong), 1, wrong)


class Candidates(FolderCase):
    def deliver(self, columns: dict[str, list[Any]]) -> None:
        lines = [",".join(columns), *(",".join(map(str, row)) for row in zip(*columns.values(), strict=True))]
        self.write("t.csv", "\n".join(lines) + "\n")

    def setUp(self) -> None:
        super().setUp()
        self.deliver(COLUMNS)
        oak.intake(["t.csv"], name="T", definition="t.oak.toml", keep_names=True).save()
        self.oak("publish", "t")
        self.before = oak.Catalogue.open("catalogue").source("T", 1)

    def found(self, **changes: list[Any] | None) -> dict[str, list[oak.Candidate]]:
        columns = {name: values for name, values in (COLUMNS | changes).items() if values is not None}
        self.deliver(columns)
        return oak.candidates(oak.open_source("t.oak.toml"), self.before)

    def test_two_columns_that_nothing_tells_apart(self) -> None:
        """Without rows that can be matched, two columns of yes and no are both named, and neither is sure."""
        order = chance.sample(range(ROWS), ROWS)
        new = {name: [values[at] for at in chance.sample(order, ROWS)] for name, values in COLUMNS.items()}
        columns = {
            "A": new["Left"],
            "B": new["Right"],
            "Mill": new["Mill"],
            "Volume": new["Volume"],
            "Cost": new["Cost"],
        }
        found = self.found(**{**dict.fromkeys(COLUMNS), **columns})
        self.assertEqual({listed[0].sure for name, listed in found.items() if name in ("Left", "Right")}, {False})
        self.assertEqual(len({listed[0].column for name, listed in found.items() if name in ("Left", "Right")}), 2)
        self.assertIn("prove little", found["Left"][0].why)

    def test_with_rows_matched_two_values_are_enough(self) -> None:
        found = self.found(Left=None, Right=None, A=COLUMNS["Right"], B=COLUMNS["Left"])
        self.assertEqual(
            {name: (listed[0].column, listed[0].sure) for name, listed in found.items()},
            {"Left": ("B", True), "Right": ("A", True)},
        )

    def test_the_field_reads_the_column_as_it_was_read(self) -> None:
        """A clean of the field is applied before its values are compared."""
        self.oak("field", "clean", "t", "Mill", "UPPER(VALUE)")
        self.oak("publish", "t")
        self.before = oak.Catalogue.open("catalogue").source("T", 2)
        (best, *_) = self.found(Mill=None, Works=COLUMNS["Mill"])["Mill"]
        self.assertEqual((best.column, best.sure), ("Works", True))

    def test_names_alone_are_weak(self) -> None:
        self.deliver({**{name: values for name, values in COLUMNS.items() if name != "Cost"}, "Costs": COLUMNS["Cost"]})
        (best, *_) = oak.candidates(oak.open_source("t.oak.toml"), None)["Cost"]
        self.assertEqual((best.column, best.values, best.sure), ("Costs", None, False))

    @settings(max_examples=6, deadline=None, suppress_health_check=[HealthCheck.differing_executors])
    @given(st.permutations(list(COLUMNS)[1:]), st.integers(0, 4))
    def test_any_shuffle_of_names_comes_out(self, order: list[str], renamed: int) -> None:
        """Whatever columns change places, and some get new names: each field finds its own, and no column is named twice."""
        names = [f"New {at}" if at < renamed else name for at, name in enumerate(order)]
        columns = dict(zip(names, (COLUMNS[name] for name in list(COLUMNS)[1:]), strict=True))
        found = self.found(**{**dict.fromkeys(list(COLUMNS)[1:]), **columns})
        wanted = {old: new for old, new in zip(list(COLUMNS)[1:], names, strict=True) if old != new}
        self.assertEqual({field: listed[0].column for field, listed in found.items()}, wanted)
        self.assertTrue(all(listed[0].sure for listed in found.values()))


if __name__ == "__main__":
    unittest.main()
