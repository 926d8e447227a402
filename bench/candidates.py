"""How often a column is recognised after a change upstream: `python -m bench.candidates [--tables first|last|all] [--show]`.

Six made-up tables are published, changed in a known way (columns renamed, several at once, swapped, shifted, recoded, retyped, with new rows
only, split, merged, dropped), and read again. A change is right where every column that moved is named first for its field, nothing else is,
and nothing is named where nothing took its place. The rates are printed by kind of change; a wrong answer that was called sure is counted apart.
"""

from __future__ import annotations

import argparse
import csv
import datetime as dt
import random
import tempfile
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import oak_ledger as oak

Table = dict[str, list[str]]
ROWS = 1500
KINDS = {"renamed": 8, "several": 6, "swapped": 6, "shifted": 4, "recoded": 6, "retyped": 6, "new rows": 5, "split": 3, "merged": 3, "dropped": 3}  # fmt: skip
SYLLABLES = [first + second for first in "bdfghklmnprstvw" for second in "aeo"]
NEW_NAMES = [
    "Kind",
    "Ref",
    "Unit_2",
    "Value_A",
    "Basis",
    "Site_code",
    "Measure",
    "Entry",
    "Class_of",
    "Total_x",
    "Field_9",
    "Quantity",
    "Marker",
    "Origin_no",
]


def word(chance: random.Random, parts: int = 3) -> str:
    """A made-up name."""
    return "".join(chance.choice(SYLLABLES) for _ in range(parts)).capitalize()


def words(chance: random.Random, count: int, parts: int = 3) -> list[str]:
    """So many different made-up names."""
    found: dict[str, None] = {}
    while len(found) < count:
        found[word(chance, parts)] = None
    return list(found)


def weighted(chance: random.Random, values: list[str], rows: int) -> list[str]:
    """Values of which some are frequent and some are rare."""
    return chance.choices(values, [1 / (1 + at) for at in range(len(values))], k=rows)


def day(chance: random.Random, rows: int, first: int, days: int) -> list[str]:
    """Dates as they are written in the trade."""
    start = dt.date(2024, 1, 1) + dt.timedelta(days=first)
    return [f"{start + dt.timedelta(days=chance.randrange(days)):%d.%m.%Y}" for _ in range(rows)]


def money(chance: random.Random, rows: int, middle: float) -> list[str]:
    """Amounts."""
    return [f"{chance.lognormvariate(0, 0.5) * middle:.2f}" for _ in range(rows)]


def loads(chance: random.Random, start: int) -> Table:
    """Loads of timber."""
    stands, mills = (
        [f"ST-{at:04}" for at in range(1, 121)],
        ["Low Weir", "High Ford", "Stonebeck", "Ember Quay", "Fallow Wharf"],
    )
    volume = [chance.lognormvariate(3, 0.5) for _ in range(ROWS)]
    return {
        "LOAD_ID": [f"{at:08}" for at in range(start, start + ROWS)], "STAND": chance.choices(stands, k=ROWS), "SPECIES": weighted(chance, ["SPR", "LAR", "ASH", "OAK"], ROWS),
        "MILL": weighted(chance, mills, ROWS), "GRADE": weighted(chance, ["A", "B", "C"], ROWS), "DELIVERED": day(chance, ROWS, 300 * (start > 1), 300),
        "VOLUME": [f"{one:.2f}" for one in volume], "COST": [f"{one * chance.uniform(5, 9):.2f}" for one in volume], "DISTANCE": [f"{chance.uniform(3, 150):.1f}" for _ in range(ROWS)],
        "STATUS": weighted(chance, ["delivered", "returned"], ROWS),
    }  # fmt: skip


def stands(chance: random.Random, start: int) -> Table:
    """Stands of a forest."""
    owners, forests = words(random.Random(5), 60), words(random.Random(5), 8)
    return {
        "STAND_NO": [f"S{at}" for at in range(start, start + ROWS)], "FOREST": weighted(chance, forests, ROWS), "OWNER": chance.choices(owners, k=ROWS), "AREA": [f"{chance.lognormvariate(1, 0.8):.3f}" for _ in range(ROWS)],
        "AGE": [str(chance.randrange(10, 141)) for _ in range(ROWS)], "SLOPE": [str(int(chance.triangular(0, 45, 5))) for _ in range(ROWS)], "SOIL": weighted(chance, ["LO", "SA", "CL", "PE", "GR", "RO"], ROWS),
        "PLANTED": [str(chance.randrange(1890, 2015)) for _ in range(ROWS)], "REMARK": [f"{word(chance, 2).lower()} {word(chance, 4).lower()}" for _ in range(ROWS)],
    }  # fmt: skip


def invoices(chance: random.Random, start: int) -> Table:
    """Invoices."""
    net = [chance.lognormvariate(6, 1) for _ in range(ROWS)]
    customers = words(random.Random(5), 200)
    return {
        "INVOICE": [f"R-2025-{at:06}" for at in range(start, start + ROWS)], "CUSTOMER": chance.choices(customers, k=ROWS), "NET": [f"{one:.2f}" for one in net], "TAX": [f"{one * 0.21:.2f}" for one in net],
        "ISSUED": day(chance, ROWS, 400 * (start > 1), 200), "DUE": day(chance, ROWS, 30 + 400 * (start > 1), 220), "PAID": weighted(chance, ["yes", "no"], ROWS), "CURRENCY": weighted(chance, ["CRN", "MRK", "TLR"], ROWS),
        "LINES": [str(min(9, 1 + int(chance.expovariate(0.5)))) for _ in range(ROWS)],
    }  # fmt: skip


def hours(chance: random.Random, start: int) -> Table:
    """Hours of crews; no column is unique."""
    return {
        "CREW": chance.choices([f"Crew {at}" for at in range(1, 13)], k=ROWS), "DAY": day(chance, ROWS, 250 * (start > 1), 250), "TASK": weighted(chance, words(random.Random(5), 15), ROWS), "HOURS": [f"{chance.gauss(7.5, 1):.2f}" for _ in range(ROWS)],
        "BREAKS": [str(chance.choice([0, 1, 1, 1, 2, 3])) for _ in range(ROWS)], "OVERTIME": [f"{max(0.0, chance.gauss(-1, 1.5)):.2f}" for _ in range(ROWS)], "MACHINE": chance.choices([f"M{at:03}" for at in range(30)], k=ROWS), "WEATHER": weighted(chance, ["dry", "rain", "snow", "fog"], ROWS),
    }  # fmt: skip


def readings(chance: random.Random, start: int) -> Table:
    """Readings of machines."""
    begin = dt.datetime(2025, 1, 1) + dt.timedelta(minutes=7 * start)
    return {
        "READ_AT": [f"{begin + dt.timedelta(minutes=7 * at):%Y-%m-%d %H:%M:%S}" for at in range(ROWS)], "SERIAL": chance.choices([f"{at * 7919 % 100000:05}X" for at in range(1, 41)], k=ROWS), "FUEL": [f"{chance.uniform(0, 100):.1f}" for _ in range(ROWS)],
        "TEMPERATURE": [f"{chance.gauss(78, 6):.1f}" for _ in range(ROWS)], "RPM": [str(int(chance.gauss(1600, 250))) for _ in range(ROWS)], "PRESSURE": [f"{chance.gauss(4.2, 0.3):.2f}" for _ in range(ROWS)], "RUNNING": [f"{start + at * 0.117 + chance.random():.2f}" for at in range(ROWS)],
        "ALARM": chance.choices(["true", "false"], [1, 9], k=ROWS), "SITE": weighted(chance, words(random.Random(5), 10), ROWS),
    }  # fmt: skip


def contacts(chance: random.Random, start: int) -> Table:
    """Contacts; postcodes and telephone numbers are texts of digits."""
    towns = words(random.Random(5), 80)
    surnames = [word(chance, 4) for _ in range(ROWS)]
    return {
        "CONTACT": [str(40000 + 3 * (start + at)) for at in range(ROWS)], "SURNAME": surnames, "GIVEN": chance.choices(words(random.Random(5), 90, 2), k=ROWS), "MAIL": [f"{one.lower()}{at}@mail.example" for at, one in enumerate(surnames, start)],
        "PHONE": [f"0{chance.randrange(10**8, 10**9)}" for _ in range(ROWS)], "TOWN": weighted(chance, towns, ROWS), "POSTCODE": [f"{chance.randrange(0, 99999):05}" for _ in range(ROWS)], "SINCE": day(chance, ROWS, -2000, 2500), "SORT": weighted(chance, ["mill", "owner", "haulier"], ROWS),
    }  # fmt: skip


TABLES: dict[str, Callable[[random.Random, int], Table]] = {
    "loads": loads, "stands": stands, "invoices": invoices, "hours": hours, "readings": readings, "contacts": contacts,
}  # fmt: skip


def perturbed(table: Table, fresh: Table, chance: random.Random) -> Table:
    """The rows as a new delivery has them: as they were, in another order, some gone and some new, or some values corrected."""
    rows = list(range(ROWS))
    how = chance.choice(["same", "order", "some", "corrected"])
    if how == "order":
        chance.shuffle(rows)
    made = {name: [values[at] for at in rows] for name, values in table.items()}
    if how == "some":
        cut = ROWS // 12
        made = {name: values[cut:] + fresh[name][:cut] for name, values in made.items()}
    if how == "corrected":
        for values in made.values():
            if len(set(values)) < ROWS:
                for at in chance.sample(range(ROWS), ROWS // 100):
                    values[at] = chance.choice(values)
    return made


def recoded(values: list[str], chance: random.Random) -> list[str]:
    """Each value replaced by another."""
    distinct = sorted(set(values))
    ways = [str.upper, str.lower, None, None] if not distinct[0][0].isdigit() else [None]
    way = chance.choice(ways)
    new = (
        {one: way(one) for one in distinct}
        if way
        else {one: f"{chance.choice('KQX')}{at:02}" for at, one in enumerate(distinct)}
    )
    if {*new} == {*new.values()}:
        new = {one: f"Z{at:02}" for at, one in enumerate(distinct)}
    return [new[one] for one in values]


def retyped(values: list[str]) -> list[str]:
    """The same values, written otherwise."""
    if values[0].count(".") == 2 and len(values[0]) == 10:
        return [f"{one[6:]}-{one[3:5]}-{one[:2]}" for one in values]
    if values[0].count(".") == 1 and values[0].replace(".", "").isdigit():
        return [one.replace(".", ",") for one in values]
    if values[0].isdigit() and values[0][0] != "0":
        return [f"{one}.0" for one in values]
    return [f" {one} " for one in values]


def _loses(values: list[str]) -> bool:
    """Whether neither half of the texts still tells the values apart."""
    halves = [{one[: len(one) // 2] for one in values}, {one[len(one) // 2 :] for one in values}]
    return all(len(half) < 0.9 * len(set(values)) for half in halves)


def change(kind: str, before: Table, fresh: Table, chance: random.Random) -> tuple[Table, dict[str, str | None]]:
    """A table after a change, and what each column that is gone or moved is called now."""
    table = (
        {name: list(values) for name, values in fresh.items()}
        if kind == "new rows"
        else perturbed(before, fresh, chance)
    )
    names = list(table)
    free = chance.sample([name for name in NEW_NAMES if name not in names], 6)
    few = [
        name for name in names if 3 <= len(set(before[name])) <= 60 and not before[name][0].replace(".", "").isdigit()
    ]
    moves: dict[str, str | None] = {}
    if kind in ("renamed", "new rows"):
        moves = {chance.choice(names): free[0]}
    elif kind == "several":
        moves = dict(zip(chance.sample(names, 3), free, strict=False))
    elif kind in ("swapped", "shifted"):
        some = chance.sample(names, 2 if kind == "swapped" else 4)
        moves = dict(zip(some, some[1:] + some[:1], strict=True))
    elif kind == "recoded":
        name = chance.choice(few)
        table[name], moves = recoded(table[name], chance), {name: free[0]}
    elif kind == "retyped":
        name = chance.choice([one for one in names if retyped(before[one]) != before[one]])
        table[name], moves = retyped(table[name]), {name: free[0]}
    elif kind == "split":
        name = chance.choice([one for one in names if _loses(before[one])])
        values, moves = table.pop(name), {name: None}
        table[free[0]], table[free[1]] = (
            [one[: len(one) // 2] for one in values],
            [one[len(one) // 2 :] for one in values],
        )
    elif kind == "merged":
        first, second = chance.sample(names, 2)
        table[free[0]] = [f"{one} {other}" for one, other in zip(table.pop(first), table.pop(second), strict=True)]
        moves = {first: None, second: None}
    else:
        name = chance.choice(names)
        del table[name]
        moves = {name: None}
        if chance.random() < 0.5:
            table[free[0]] = [word(chance, 3) for _ in range(ROWS)]
    new = {old: name for old, name in moves.items() if name is not None}
    return {new.get(name, name): values for name, values in table.items()}, moves


def write(path: Path, table: Table) -> None:
    """A delimited text."""
    with path.open("w", newline="", encoding="utf-8") as file:
        out = csv.writer(file)
        out.writerow(table)
        out.writerows(zip(*table.values(), strict=True))


def judge(name: str, kind: str, chance: random.Random) -> tuple[bool, bool, str]:
    """One change: whether the answer is right, whether it is wrong and sure, and both in words."""
    seed = chance.randrange(10**9)
    before, fresh = TABLES[name](random.Random(seed), 1), TABLES[name](random.Random(seed + 1), ROWS + 1)
    after, moves = change(kind, before, fresh, chance)
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)
        write(here / "t.csv", before)
        source = oak.intake([here / "t.csv"], name="T", definition=here / "t.oak.toml", keep_names=True)
        source.save()
        place = oak.Catalogue.open(here / "catalogue", create=True)
        place.publish(oak.open_source(here / "t.oak.toml"))
        write(here / "t.csv", after)
        found = oak.candidates(oak.open_source(here / "t.oak.toml"), place.source("T", 1))
    named = {field: listed[0] for field, listed in found.items() if listed}
    if kind in ("split", "merged"):  # a part may be offered, but not as certain
        named = {field: one for field, one in named.items() if one.sure}
    wanted = {old: new for old, new in moves.items() if new is not None}
    got = {field: one.column for field, one in named.items()}
    wrong = {field: one for field, one in named.items() if one.sure and wanted.get(field) != one.column}
    said = f"{kind}: wanted {moves}, got { {field: (one.column, round(one.score, 2), one.sure, one.why) for field, one in named.items()} }"
    return got == wanted, bool(wrong), said


def main() -> None:
    """Print the rates."""
    arguments = argparse.ArgumentParser()
    arguments.add_argument("--tables", default="all")
    arguments.add_argument("--seed", type=int, default=1)
    arguments.add_argument("--show", action="store_true")
    asked = arguments.parse_args()
    names = {"first": [*TABLES][:3], "last": [*TABLES][3:], "all": [*TABLES]}.get(asked.tables, [asked.tables])
    right: Counter[str] = Counter()
    total: Counter[str] = Counter()
    sure = 0
    for name in names:
        chance = random.Random(f"{asked.seed} {name}")
        for kind, count in KINDS.items():
            for _ in range(count):
                good, wrong, said = judge(name, kind, chance)
                for key in (name, kind, "all"):
                    right[key] += good
                    total[key] += 1
                sure += wrong
                if asked.show and (wrong or not good):
                    print(f"{name}, {'SURE AND WRONG' if wrong else 'wrong'}: {said}", flush=True)
    rows: list[tuple[Any, ...]] = [(key, right[key], total[key]) for key in total]
    for key, good, count in rows:
        print(f"{key:>10}  {good:>3} of {count:>3}  {good / count:.1%}")
    print(f"wrong and called sure: {sure}")


if __name__ == "__main__":
    main()
