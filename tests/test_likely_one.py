"""Values that are likely one: proposed as a recode list, and never where they may be two."""

from __future__ import annotations

import random

import oak_ledger as oak
from oak_ledger.insight.spellings import likely_one
from tests.support import FolderCase

# Values with their rows, and what is proposed.
CASES: tuple[tuple[dict[str, int], dict[str, str]], ...] = (
    ({"Café Nord": 50, "Cafe Nord": 2, "Nord, Café": 1}, {"Cafe Nord": "Café Nord", "Nord, Café": "Café Nord"}),
    ({"Smith & Sons": 9, "Smith Sons": 3, "SMITH & SONS": 4}, {"Smith Sons": "Smith & Sons"}),
    ({"Stonebeck": 100, "Stonebck": 2, "Stonebekc": 1}, {"Stonebck": "Stonebeck", "Stonebekc": "Stonebeck"}),
    (
        {"Ember Quay": 400, "Ember Quay.": 3, "Embr Quay": 3},
        {"Ember Quay.": "Ember Quay"},
    ),  # short words are left alone
    ({"Embers Quay": 400, "Ember Quays": 3}, {}),
    ({"Hollowmere North": 400, "Hollowmere South": 9}, {}),
    ({"Contract 1001": 400, "Contract 1002": 2}, {}),
    ({"Contract A": 400, "Contract B": 2}, {}),
    ({"Marina": 400, "Martina": 300}, {}),  # as frequent: two names
    ({"low weir": 400, "Low Weir": 9, " Low  Weir": 2}, {}),  # letter case and spaces are said elsewhere
    ({"": 3, "-": 2, "?": 1}, {}),
)


class LikelyOne(FolderCase):
    def test_values(self) -> None:
        for values, wanted in CASES:
            with self.subTest(values):
                self.assertEqual(likely_one(values), wanted)

    def test_drawn_mistakes_are_found_and_nothing_else(self) -> None:
        """Names with a letter swapped, lost or doubled in few rows come back to what they were; names that are different stay."""
        rng = random.Random(20261201)
        names = [
            "Alderbrook",
            "Birchwater",
            "Cedarhollow",
            "Dunmarsh",
            "Elmsgate",
            "Foxglove Dale",
            "Greenhithe",
            "Hawksmoor",
        ]
        for _ in range(40):
            rows = {name: rng.randrange(200, 900) for name in names}
            mistakes: dict[str, str] = {}
            for name in rng.sample(names, 3):
                at = rng.randrange(1, 6)
                wrong = rng.choice(
                    (
                        name[:at] + name[at + 1] + name[at] + name[at + 2 :],
                        name[:at] + name[at + 1 :],
                        name[:at] + name[at] + name[at:],
                    )
                )
                if wrong not in names and wrong != name:
                    mistakes[wrong] = name
            found = likely_one({**rows, **dict.fromkeys(mistakes, 2)})
            self.assertEqual(found, mistakes)

    def test_by_command(self) -> None:
        rows = ["Café Nord"] * 40 + ["Cafe Nord", "Stonebeck"] * 2 + ["Stonebeck"] * 60 + ["Stonebck"]
        self.write("a.csv", "Id,Place\n" + "".join(f"{at},{one}\n" for at, one in enumerate(rows)))
        self.oak("intake", "a.csv")
        said = self.oak("profile", "a", "Place", code=None)
        self.assertIn("oak field recode a Place 'Cafe Nord=Café Nord' Stonebck=Stonebeck", " ".join(said.split()))
        (odd,) = [one for one in oak.profile(oak.open_source("a.oak.toml"), ["Place"])[0].suspicions if one.recode]
        self.assertEqual(odd.rows, 3)
        self.oak("field", "recode", "a", "Place", *(f"{found}={meant}" for found, meant in odd.recode))
        self.assertEqual(oak.open_source("a.oak.toml").tally(["Place"], ["COUNT(*)"]).table.num_rows, 2)
        self.assertNotIn("likely one", self.oak("profile", "a", "Place", code=None))
