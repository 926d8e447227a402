"""How a column is recognised: rows matched, distributions, replaced values, common factors; what proves little says so."""

from __future__ import annotations

import datetime as dt
import itertools
import random
import unittest
from typing import Any

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_ledger.reference.evidence import Matching, assignment, likeness, matching, matching_by_several, values_of

ROWS = 400
chance = random.Random(11)
IDS = [f"K{at:05}" for at in range(ROWS)]
AMOUNTS = [round(chance.lognormvariate(3, 1), 2) for _ in range(ROWS)]
MILLS = chance.choices(["Low Weir", "High Ford", "Stonebeck", "Ember Quay"], [8, 4, 2, 1], k=ROWS)
STATES = chance.choices(["wet", "dry"], k=ROWS)
OWNERS = chance.choices([f"Owner {at}" for at in range(80)], k=ROWS)
GRADES = [chance.randrange(1, 6) for _ in range(ROWS)]
SAME = Matching(np.arange(ROWS), np.arange(ROWS), "K")

# What a column is now beside what it was: (what is tried, before, now, with rows matched, at least, at most, whether it proves anything, words).
Case = tuple[str, list[Any], list[Any], bool, float, float, bool, str]
CASES: tuple[Case, ...] = (
    ("the same, row by row", AMOUNTS, AMOUNTS, True, 1.0, 1.0, True, "100% of 400 rows matched by K"),
    ("two values, row by row, prove a lot", STATES, STATES, True, 1.0, 1.0, True, "100%"),
    ("the same with 2 % corrected", AMOUNTS, [*AMOUNTS[:392], *[0.5] * 8], True, 0.95, 0.99, True, "98%"),
    ("two values dealt out anew agree by chance only", STATES, chance.sample(STATES, ROWS), True, 0.0, 0.3, False, ""),
    ("numbers that others have", AMOUNTS, chance.sample(AMOUNTS, ROWS), True, 0.0, 0.1, False, "only"),
    ("numbers as texts", AMOUNTS, [str(one) for one in AMOUNTS], True, 0.0, 0.0, False, "another type"),
    ("each value replaced", MILLS, [one.upper() for one in MILLS], True, 0.85, 0.95, True, "'Low Weir' → 'LOW WEIR'"),
    ("values merged are not replaced", MILLS, ["x" if one < "M" else "y" for one in MILLS], True, 0.0, 0.4, False, "only"),
    ("another unit", AMOUNTS, [round(one * 35.3147, 3) for one in AMOUNTS], True, 0.6, 0.8, True, "35.3"),
    ("half of the rows in another unit", AMOUNTS, [one * (2 if at % 2 else 1) for at, one in enumerate(AMOUNTS)], True, 0.4, 0.6, False, "50%"),
    ("the same values in another order", OWNERS, chance.sample(OWNERS, ROWS), False, 0.9, 1.0, True, "100% of its distinct values"),
    ("a few texts, spread as before", MILLS, chance.sample(MILLS, ROWS), False, 0.8, 0.9, True, "100%"),
    ("two values prove little", STATES, chance.sample(STATES, ROWS), False, 0.5, 0.6, False, "2 distinct values prove little"),
    ("small whole numbers prove little", GRADES, chance.sample(GRADES, ROWS), False, 0.5, 0.6, False, "5 distinct values prove little"),
    ("texts of one shape", IDS, [f"K{at:05}" for at in range(9000, 9400)], False, 0.7, 0.8, True, "texts are built as before"),
    ("texts of another shape", IDS, [f"{at}-x" for at in range(ROWS)], False, 0.0, 0.1, False, "texts"),
    ("numbers spread as before", AMOUNTS, [round(random.Random(at).lognormvariate(3, 1), 3) for at in range(ROWS)], False, 0.5, 0.8, True, "spread as before"),
    ("numbers spread otherwise", AMOUNTS, [round(1000 + one, 3) for one in AMOUNTS], False, 0.0, 0.1, False, "spread"),
)  # fmt: skip


def values(items: list[Any]) -> Any:
    """Values as an array has them."""
    found = values_of(pa.array(items))
    assert found is not None
    return found


class Likenesses(unittest.TestCase):
    def test_cases(self) -> None:
        for what, before, now, matched, least, most, proof, words in CASES:
            with self.subTest(what):
                found = likeness(values(before), values(now), SAME if matched else None)
                self.assertGreaterEqual(found.score, least, found)
                self.assertLessEqual(found.score, most, found)
                self.assertEqual(found.proof, proof, found)
                self.assertIn(words, found.why)

    def test_replaced_values_are_listed(self) -> None:
        codes = {one: f"{at}" for at, one in enumerate(sorted(set(MILLS)))}
        found = likeness(values(MILLS), values([codes[one] for one in MILLS]), SAME)
        self.assertEqual(found.replaced, codes)

    def test_nulls(self) -> None:
        holes = [None if at % 3 == 0 else one for at, one in enumerate(AMOUNTS)]
        self.assertEqual(likeness(values(holes), values(holes), SAME).score, 1.0)
        self.assertLess(likeness(values(holes), values(AMOUNTS), SAME).score, 0.7)
        self.assertIsNone(values_of(pa.array([None, None], pa.string())))

    def test_a_later_period(self) -> None:
        days = [dt.date(2025, 1, 1) + dt.timedelta(chance.randrange(200)) for _ in range(ROWS)]
        found = likeness(values(days), values([day + dt.timedelta(400) for day in days]), None)
        self.assertFalse(found.proof)
        self.assertGreater(found.score, 0.6)
        self.assertIn("another period", found.why)


class Matchings(unittest.TestCase):
    def test_by_a_unique_column_whatever_its_name(self) -> None:
        order = chance.sample(range(ROWS), ROWS)
        found = matching(
            {"Id": values(IDS), "Mill": values(MILLS)},
            {"Ref": values([IDS[at] for at in order]), "Mill": values(MILLS)},
        )
        assert found is not None
        self.assertEqual(found.column, "Ref")
        self.assertEqual([order[at] for at in found.now], found.before.tolist())

    def test_never_by_numbers_that_only_count_the_rows(self) -> None:
        self.assertIsNone(matching({"No": values([*range(1, ROWS + 1)])}, {"No": values([*range(1, ROWS + 1)])}))

    def test_never_by_few_rows(self) -> None:
        others = [f"K{at:05}" for at in range(5000, 5000 + ROWS - 30)]
        self.assertIsNone(matching({"Id": values(IDS)}, {"Id": values([*IDS[:30], *others])}))

    def test_by_several_columns_together(self) -> None:
        before = {"Amount": values(AMOUNTS), "Owner": values(OWNERS)}
        order = chance.sample(range(ROWS), ROWS)
        now = {"Amount": values([AMOUNTS[at] for at in order]), "Owner": values([OWNERS[at] for at in order])}
        found = matching_by_several(before, now)
        assert found is not None
        self.assertEqual(found.column, "Amount and Owner")
        self.assertTrue(all(order[one] == other for one, other in zip(found.now, found.before, strict=True)))
        self.assertIsNone(matching_by_several({"Owner": before["Owner"]}, {"Owner": now["Owner"]}))


class Assignments(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.integers(1, 5), st.integers(1, 5), st.randoms(use_true_random=False))
    def test_against_all_of_them(self, rows: int, columns: int, chance: random.Random) -> None:
        scores = [[chance.random() for _ in range(columns)] for _ in range(rows)]
        chosen = assignment(scores)
        taken = [one for one in chosen if one >= 0]
        self.assertEqual(len(taken), len(set(taken)))
        self.assertEqual(len(taken), min(rows, columns))
        best = max(
            sum(scores[row][column] for row, column in zip(some, others, strict=True))
            for some in itertools.combinations(range(rows), len(taken))
            for others in itertools.permutations(range(columns), len(taken))
        )
        self.assertAlmostEqual(sum(scores[row][column] for row, column in enumerate(chosen) if column >= 0), best)

    def test_nothing_to_assign(self) -> None:
        self.assertEqual(assignment([]), [])
        self.assertEqual(assignment([[], []]), [-1, -1])


if __name__ == "__main__":
    unittest.main()
