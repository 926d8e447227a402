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


class Disguised(FolderCase):
    """What is something else in disguise is proposed with a clean that makes it so; what only looks a little like it is left alone."""

    FOUND = (
        ("Day", [f"202401{at:02d}" for at in range(1, 29)], "days written as numbers", {"2024-01-01", "2024-01-28"}),
        (
            "Created at",
            [str(1_700_000_000 + at * 86_400) for at in range(9)],
            "seconds since 1970",
            {"2023-11-14", "2023-11-22"},
        ),
        ("Temp", ["1", "5", "12", "-3"] * 9 + ["999"] * 4, "may mean no value, 999", {"1", "5", "12", "-3", "None"}),
        ("Age", ["1", "5", "12", "33"] * 9 + ["-1"] * 4, "may mean no value, -1", {"1", "5", "12", "33", "None"}),
        ("Flag", ["ja", "nein"] * 9, "yes and no as texts", {"True", "False"}),
        ("Flag", ["O", "N", ""] * 9, "yes and no as texts", {"True", "False", "None"}),
    )
    LEFT_ALONE = (
        ("Day", ["20240101", "20240230", "20240303"]),
        ("Load", [str(1_700_000_000 + at) for at in range(9)]),
        ("Temp", ["998", "999", "1000", "-2", "-1"] * 9),
        ("Temp", ["5", "7", "999"]),
        ("Balance", ["-1", "-5", "7"] * 9),
        ("Side", ["L", "R"] * 9),
        ("Class", ["N", "S", "O"] * 9),
    )

    def said(self, name: str, values: list[str]) -> tuple[oak.Source, list[oak.Suspicion]]:
        self.write("a.csv", f"No,{name}\n" + "".join(f"{at % 3},{one}\n" for at, one in enumerate(values)))
        (self.folder / "a.oak.toml").unlink(missing_ok=True)
        self.oak("intake", "a.csv", "--keep-names", code=None)
        source = oak.open_source("a.oak.toml")
        return source, [
            one for one in oak.profile(source, [name])[0].suspicions if one.what != "numbers stored as text"
        ]

    def test_found_and_left_alone(self) -> None:
        for name, values, what, wanted in self.FOUND:
            with self.subTest(name, what=what):
                source, (odd, *_) = self.said(name, values)
                self.assertIn(what, odd.what)
                cleaned = source.with_changed(name, clean=odd.clean).rows([f'"{name}"'])
                found = {str(row[name]) for row in cleaned.to_dicts()}
                self.assertLessEqual(wanted, found)
                self.assertFalse(cleaned.faults)
        for name, values in self.LEFT_ALONE:
            with self.subTest(name, values=values[:5]):
                self.assertEqual([one for one in self.said(name, values)[1] if "empty" not in one.what], [])
