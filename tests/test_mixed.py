"""Texts mixed of several forms: what profile proposes reads every value as it was meant, and what is open is only said."""

from __future__ import annotations

import datetime as dt
import random

import oak_ledger as oak
from oak_ledger.insight.mixed import mixed
from tests.support import FolderCase

# Different texts with their rows; what is said begins so, and whether a clean is proposed.
CASES: tuple[tuple[dict[str, int], str, bool], ...] = (
    ({"2026-03-01": 5, "2026-03-17": 5, "13.04.2026": 3, "01.05.2026": 2}, "dates in several forms (YYYY-MM-DD × 10", True),
    ({"2026-03-01": 5, "2026-03-17": 5, "01/02/2026": 3, "04/05/2026": 2}, "dates in several forms", False),
    ({"2026-03-01": 5, "2026-03-02": 5}, "", False),
    ({"2026-03-01": 5, "13.04.2026": 3, "see note": 4}, "", False),
    ({"12 kg": 5, "3.5 kg": 5, "900 g": 2}, "numbers with several units (kg × 10, g × 2)", True),
    ({"12 kg": 5, "3 lb": 5}, "numbers with several units", False),
    ({"12 kg": 5, "3": 5}, "numbers with several units (kg × 5, none × 5)", False),
    ({"12 kg": 5, "3kg": 5}, "numbers with a unit (kg × 10)", True),
    ({"1,5 kg": 5, "3kg": 5}, "numbers with a unit (kg × 10)", False),
    ({"12.50 EUR": 5, "3.00 USD": 5}, "amounts in several currencies (EUR × 5, USD × 5)", False),
    ({"€ 12.50": 5, "$ 3.00": 5}, "amounts in several currencies", False),
    ({"A 12": 5, "B 3": 5, "C 7": 1, "D 8": 1, "E 9": 1, "F 1": 1, "G 2": 1}, "", False),
    ({"Contract 12": 5, "Contract 3": 5}, "", False),
    ({"12": 5, "3": 5}, "", False),
    ({}, "", False),
)  # fmt: skip


class MixedForms(FolderCase):
    def test_what_is_said(self) -> None:
        for rows, said, cleaned in CASES:
            with self.subTest(rows):
                found = mixed(rows)
                self.assertTrue((found.what if found else "").startswith(said), found)
                self.assertEqual(bool(said), found is not None)
                self.assertEqual(bool(found and found.clean), cleaned)

    def test_drawn_values_are_read_as_they_were_meant(self) -> None:
        rng = random.Random(20261201)
        forms = ("%Y-%m-%d", "%d.%m.%Y", "%Y%m%d", "%d %b %Y", "%Y/%m/%d")
        for draw in range(12):
            days = [dt.date(2024, 1, 1) + dt.timedelta(rng.randrange(800)) for _ in range(80)]
            chosen = rng.sample(forms, rng.choice((2, 3)))
            sizes = {"g": 0.001, "kg": 1.0, "t": 1000.0}
            weights = [(round(rng.uniform(1, 90), 2), rng.choice([*sizes, "kg", "kg"])) for _ in days]
            lines = [
                f"{day.strftime(rng.choice(chosen))},{amount}{rng.choice(('', ' '))}{unit}"
                for day, (amount, unit) in zip(days, weights, strict=True)
            ]
            self.write("m.csv", "Day,Weight\n" + "\n".join(lines) + "\n")
            oak.intake("m.csv", definition="m.oak.toml").save(replace=True)
            source = oak.open_source("m")
            with self.subTest(draw, forms=chosen):
                for name in ("Day", "Weight"):
                    if source.state(name).type_name == "text":
                        odd = next(one for one in oak.profile(source, [name])[0].suspicions if "several" in one.what)
                        source = source.with_changed(name, clean=odd.clean)
                answer = source.rows(["Day", "Weight"])
                self.assertEqual((answer.faults, answer.table.column("Day").to_pylist()), ((), days))
                for got, (amount, unit) in zip(answer.table.column("Weight").to_pylist(), weights, strict=True):
                    self.assertAlmostEqual(got, amount * sizes[unit])
