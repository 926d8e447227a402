"""Drift without a rename: what is noticed with a key and without, and that ordinary growth raises no alarm."""

from __future__ import annotations

import datetime as dt
import itertools
import random
import unittest
from collections.abc import Callable
from typing import Any

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.definition.document import Document
from tests.support import FolderCase

ROWS = 900
Table = dict[str, list[Any]]


def table(seed: int, start: int = 0) -> Table:
    """Loads of three months."""
    chance = random.Random(seed)
    volume = [round(chance.lognormvariate(3, 0.5), 2) for _ in range(ROWS)]
    return {
        "Load": [f"L{at:06}" for at in range(start, start + ROWS)],
        "Code": [f"{chance.randrange(400):05}" for _ in range(ROWS)],
        "Mill": chance.choices(["Low Weir", "High Ford", "Stonebeck", "Ember Quay"], [8, 4, 2, 1], k=ROWS),
        "Day": [dt.date(2026, 1, 1) + dt.timedelta(at * 90 // ROWS) for at in range(ROWS)],
        "Volume": volume,
        "Cost": [round(one * chance.uniform(5, 9), 2) for one in volume],
        "Grade": [chance.choice(["A", "B", None]) for _ in range(ROWS)],
    }


def source(columns: Table, key: bool) -> oak.Source:
    """A source over a table, with a unique column or without."""
    return oak.Source.from_table(
        pa.table({name: values for name, values in columns.items() if key or name != "Load"}), name="T"
    )


def changed(
    name: str, how: Callable[[Any], Any], where: Callable[[Table, int], bool] = lambda _table, _at: True
) -> Callable[[Table], Table]:
    """A change of one column, in some rows."""
    return lambda old: {
        **old,
        name: [how(one) if one is not None and where(old, at) else one for at, one in enumerate(old[name])],
    }


def at_mill(columns: Table, at: int) -> bool:
    """Rows of one mill."""
    return bool(columns["Mill"][at] == "Stonebeck")


def in_february(columns: Table, at: int) -> bool:
    """Rows of one month."""
    return bool(columns["Day"][at].month == 2)


def without(where: Callable[[Table, int], bool]) -> Callable[[Table], Table]:
    """A change that leaves rows out."""
    return lambda old: {
        name: [one for at, one in enumerate(values) if not where(old, at)] for name, values in old.items()
    }


def twice(where: Callable[[Table, int], bool]) -> Callable[[Table], Table]:
    """A change that has rows again, with new numbers."""

    def made(old: Table) -> Table:
        again = [at for at in range(len(old["Load"])) if where(old, at)]
        more = {name: [values[at] for at in again] for name, values in old.items()}
        more["Load"] = [f"again {one}" for one in more["Load"]]
        return {name: values + more[name] for name, values in old.items()}

    return made


EXCHANGED = {"Low Weir": "High Ford", "High Ford": "Low Weir"}


# A change, what is found with rows matched, what is found without, and words of it.
CASES: tuple[tuple[str, Callable[[Table], Table], list[str], list[str], str], ...] = (
    ("nothing", lambda old: old, [], [], ""),
    ("a unit", changed("Volume", lambda one: round(one * 35.315, 2)), ["drift-unit"], ["drift-unit"], "Volume is 35.3"),
    ("a currency, two in a hundred", changed("Cost", lambda one: round(one * 1.02, 4)), ["drift-unit"], ["drift-unit"], "Cost is 1.02 times"),
    ("a unit at one mill", changed("Cost", lambda one: one * 100, at_mill), ["drift-unit"], ["drift-unit"], "all where Mill is Stonebeck"),
    ("a unit in one month", changed("Volume", lambda one: one / 1000, in_february), ["drift-unit"], ["drift-unit"], "all where Day is 2026-02"),
    ("corrections here and there", changed("Volume", lambda one: one * 1.3, lambda _table, at: at % 40 == 0), [], [], ""),
    ("one value only", changed("Mill", lambda _one: "Low Weir"), ["drift-constant"], ["drift-constant"], "Mill has one value"),
    ("other letters", changed("Mill", str.upper), ["drift-values"], ["drift-values"], "'High Ford' → 'HIGH FORD'"),
    ("other names", changed("Mill", {"Low Weir": "W1", "High Ford": "W2", "Stonebeck": "W3", "Ember Quay": "W4"}.get), ["drift-values"], ["drift-values"], "'W1'"),
    ("zeros lost", changed("Code", lambda one: one.lstrip("0") or "0"), ["drift-zeros"], ["drift-zeros"], "leading zeros are lost"),
    ("values lost", changed("Cost", lambda _one: None, lambda _table, at: at % 8 == 0), ["drift-nulls"], ["drift-nulls"], "12.6% of the rows"),
    ("a month missing", without(in_february), ["drift-rows"], ["drift-rows"], "none in 2026-02 by Day"),
    ("a mill missing", without(at_mill), ["drift-rows"], ["drift-rows"], "none with Stonebeck in Mill"),
    ("half of the rows missing", without(lambda _table, at: at % 2 == 0), ["drift-rows"], ["drift-rows"], "900 rows in version 1, 450 now."),
    ("a month twice", twice(in_february), ["drift-rows"], ["drift-rows"], "Rows of 2026-02 by Day are there about twice"),
    ("values exchanged", changed("Mill", lambda one: EXCHANGED.get(one, one)), ["drift-values"], [], "'High Ford' → 'Low Weir', 'Low Weir' → 'High Ford'"),
    ("no decimals", changed("Volume", lambda one: float(int(one))), ["drift-cut"], ["drift-cut"], "the decimals are cut off"),
    ("days later", changed("Day", lambda one: one + dt.timedelta(2)), ["drift-moved"], ["drift-moved"], "Day is 2 days later than in version 1"),
    ("another sign", changed("Cost", lambda one: -one), ["drift-unit"], ["drift-unit"], "Cost has the other sign"),
    ("a few nulls more", changed("Cost", lambda _one: None, lambda _table, at: at % 200 == 0), [], [], ""),
)  # fmt: skip


class Changes(unittest.TestCase):
    def test_each_is_noticed(self) -> None:
        old = table(1)
        for what, change, with_key, without, words in CASES:
            for key, wanted in ((True, with_key), (False, without)):
                with self.subTest(what, key=key):
                    found = oak.drift(source(change(old), key), source(old, key), "version 1")
                    self.assertEqual(
                        [one.code for one in found if one.severity != "note"], wanted, [one.message for one in found]
                    )
                    if key and wanted:
                        self.assertIn(words, found[0].message)

    def test_keys_of_which_none_was_there(self) -> None:
        old = table(1)
        for what, new, words, severity in (
            ("a prefix", [f"L-{one}" for one in old["Load"]], "they come with 'L-' at the beginning", "warning"),
            ("all new", [f"{one}9" for one in old["Load"]], "None of the 900 values of Load", "note"),
        ):
            with self.subTest(what):
                sources = [source(one, True) for one in ({**old, "Load": new}, old)]
                keyed = [one.changed(one.document.replaced(one.document.all("source")[0], {"key": ["Load"]})) for one in sources]  # fmt: skip
                found = [one for one in oak.drift(*keyed, "version 1") if one.code == "drift-keys"]
                self.assertEqual([one.severity for one in found], [severity])
                self.assertIn(words, found[0].message)

    def test_moments_in_another_zone(self) -> None:
        times = [dt.datetime(2026, 1, 1) + dt.timedelta(minutes=37 * at) for at in range(400)]
        sources = [
            oak.Source.from_table(
                pa.table({"Id": [f"x{at}" for at in range(400)], "At": [one + dt.timedelta(hours=by) for one in times]}), name="T",
            )
            for by in (2, 0)
        ]  # fmt: skip
        (found,) = oak.drift(*sources, "version 1")
        self.assertIn("At is 2 hours later than in version 1, in 400 of 400 matched rows", found.message)

    def test_new_values_are_a_note(self) -> None:
        old = table(1)
        new = changed("Mill", lambda _one: "New Mill", lambda _table, at: at % 30 == 0)(old)
        (found,) = oak.drift(source(new, True), source(old, True), "version 1")
        self.assertEqual((found.code, found.severity), ("drift-values", "note"))
        self.assertIn("'New Mill'", found.message)

    def test_who_uses_a_value_that_is_gone_is_named(self) -> None:
        old = table(1)
        new = changed("Mill", lambda one: "Low Weir" if one == "Ember Quay" else one)(old)
        now = source(new, True).with_field("Far", "CASE Mill WHEN 'Ember Quay' THEN 1 ELSE 0 END")
        (found,) = oak.drift(now, source(old, True), "version 1", [])
        self.assertIn("'Ember Quay' is in no row any more; used by field 'Far' of T", found.message)
        self.assertEqual(oak.drift(source(new, True), source(old, True), "version 1"), [])  # nobody uses it


class Growth(unittest.TestCase):
    """No alarm where nothing but rows came."""

    def alarms(self, before: oak.Source, after: oak.Source) -> list[str]:
        return [one.message for one in oak.drift(after, before, "before") if one.severity != "note"]

    def test_more_rows(self) -> None:
        old, more = table(1), table(2, ROWS)
        more["Day"] = [one + dt.timedelta(90) for one in more["Day"]]
        both = {name: values + more[name] for name, values in old.items()}
        for key in (True, False):
            self.assertEqual(self.alarms(source(old, key), source(both, key)), [])
            self.assertEqual(self.alarms(source(old, key), source(more, key)), [])

    def test_resampled_rows(self) -> None:
        old = table(1)
        found = []
        for seed in range(20):
            rows = random.Random(seed).choices(range(ROWS), k=ROWS)
            again = {name: [values[at] for at in rows] for name, values in old.items()}
            found += self.alarms(source(old, False), source(again, False))
        self.assertEqual(found, [])


class Months(FolderCase):
    def test_eighteen_months_of_the_demo(self) -> None:
        """Each month is compared with those before it, as the demo's own fields read them; the unmended mess is no drift."""
        oak.make_demo_data(self.folder / "demo", 9_000)
        paths = sorted((self.folder / "demo" / "intake").glob("loads_*.csv"))
        whole = oak.intake(["demo/intake/loads_*.csv"], name="Loads", definition="loads.oak.toml").source
        whole = whole.with_changed("Mill", clean="INITCAP(TRIM(VALUE))")
        self.assertEqual(len(paths), 18)

        def until(count: int) -> oak.Source:
            folder = self.folder / f"until{count}"
            folder.mkdir()
            for path in paths[:count]:
                (folder / path.name).symlink_to(path)
            document: Document = whole.document
            origin = document.all("origin")[0]
            return whole.changed(document.replaced(origin, {"path": f"until{count}/loads_*.csv"}))

        (lost,) = oak.drift(until(17), whole, "version 1")
        self.assertEqual(lost.code, "drift-files")
        self.assertIn("1 file of version 1 is missing: 'loads_2026-06.csv', with ", lost.message)
        states = [until(count) for count in range(1, 17)] + [whole]
        found = [
            (at, one.message)
            for at, (before, after) in enumerate(itertools.pairwise(states), 1)
            for one in oak.drift(after, before, "before")
        ]
        self.assertEqual(found, [])


if __name__ == "__main__":
    unittest.main()
