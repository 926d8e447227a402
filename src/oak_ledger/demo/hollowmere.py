"""Made-up data of the timber co-operative Hollowmere, at any size, from a seed. Nothing is downloaded.

What is wrong with the data is wrong on purpose, and listed in `MESS`; `Made` counts each thing as it was made.
"""

from __future__ import annotations

import datetime as dt
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv

MESS: Mapping[str, str] = {
    "padded ids": "load ids have leading zeros, which a number would lose",
    "mill spaces": "some mill names have spaces around them",
    "mill case": "some mill names are in capitals",
    "comma months": "in some months volumes have a decimal comma, in the others a point",
    "no permit cost": "most loads need no permit, and their permit cost is empty",
    "no loading cost": "some loading costs are empty",
    "no haulage cost": "a few haulage costs are empty",
    "no grade": "some grades are empty",
    "moisture dash": "an unmeasured moisture is written as a dash",
    "impossible days": "a few days of delivery do not exist, such as 31.02.2026",
    "returned": "some tickets were returned and should not count",
}
MONTHS = 18
FIRST_MONTH = (2025, 1)
COMMA_MONTHS = frozenset({2, 3, 7, 8, 13})  # counted from 0
MILLS = ("Low Weir", "High Ford", "Stonebeck", "Fallow Wharf", "Ember Quay")
SPECIES = ("OAK", "ASH", "LAR", "SPR")
SPECIES_NAMES = (
    ("OAK", "Oak", "hardwood"),
    ("ASH", "Ash", "hardwood"),
    ("LAR", "Larch", "softwood"),
    ("SPR", "Spruce", "softwood"),
)
GRADES = ("A", "B", "C")
DISTRICTS = ("Upper Hollow", "Mere Bank", "Thornside")
STANDS = 120
SUPPLIED_HAULAGE = "148.00"
Strings = Any
Numbers = npt.NDArray[np.float64]


@dataclass(slots=True)
class Made:
    """What was made: the folder, how many loads, and how often each thing of `MESS` occurs."""

    folder: Path
    loads: int
    mess: dict[str, int] = field(default_factory=lambda: dict.fromkeys(MESS, 0))

    def count(self, what: str, mask: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
        """Count occurrences, and hand them on."""
        self.mess[what] += int(mask.sum())
        return mask


def months() -> list[tuple[int, int]]:
    """The months with deliveries, as (year, month)."""
    first = FIRST_MONTH[0] * 12 + FIRST_MONTH[1] - 1
    return [divmod(first + at, 12) for at in range(MONTHS)]


def make_demo_data(folder: Path, loads: int = 60_000, seed: int = 7, *, small: bool = False) -> Made:
    """Make all the data under `folder`: `intake/` as first delivered and `delivery/` as it came later.

    With `small`, only the monthly files of `intake/` are made, for benchmarks. Takes about 8 seconds a million loads.
    """
    made = Made(folder, loads)
    intake = folder / "intake"
    intake.mkdir(parents=True, exist_ok=True)
    shares = np.full(MONTHS, loads // MONTHS)
    shares[: loads % MONTHS] += 1
    first = 1
    for at, (year, month) in enumerate((year, month + 1) for year, month in months()):
        rng = np.random.default_rng([seed, at])
        table = _month(rng, int(shares[at]), first, year, month, at in COMMA_MONTHS, made)
        _write(table, intake / f"loads_{year}-{month:02d}.csv")
        if not small:
            (folder / "delivery").mkdir(exist_ok=True)
            _write(_as_redelivered(table), folder / "delivery" / f"loads_{year}-{month:02d}.csv")
        first += int(shares[at])
    if not small:
        _extras(folder, np.random.default_rng([seed, 1000]))
    return made


def _write(table: pa.Table, path: Path) -> None:
    pa_csv.write_csv(table, path, pa_csv.WriteOptions(quoting_style="needed"))


def _pointed(whole: npt.NDArray[np.int64], decimals: int) -> Strings:
    unit = 10**decimals
    tail = pc.utf8_lpad(pc.cast(pa.array(whole % unit), pa.string()), decimals, "0")
    return pc.binary_join_element_wise(pc.cast(pa.array(whole // unit), pa.string()), tail, ".")


def _blank(values: Strings, mask: npt.NDArray[np.bool_]) -> Strings:
    return pc.if_else(pa.array(mask), pa.scalar(None, pa.string()), values)


def _pick(rng: np.random.Generator, names: tuple[str, ...], size: int, weights: tuple[float, ...]) -> Strings:
    codes = rng.choice(len(names), size, p=np.array(weights) / sum(weights))
    return pa.array(names).take(pa.array(codes))


def _month(rng: np.random.Generator, size: int, first: int, year: int, month: int, comma: bool, made: Made) -> pa.Table:
    """One month's loads, as text columns, mess included."""
    species = rng.choice(4, size, p=[0.2, 0.15, 0.3, 0.35])
    mill = rng.choice(len(MILLS), size, p=[0.3, 0.25, 0.2, 0.15, 0.1])
    stand = rng.integers(1, STANDS + 1, size)
    volume = np.round(np.clip(rng.gamma(6.0, 4.0, size), 1.5, 90.0), 2)
    volume = np.where(rng.random(size) < 0.06, np.round(volume / 12, 2) + 0.4, volume)  # part loads: dear per m³
    moisture = np.round(np.clip(rng.normal(41, 7, size) - species * 1.5, 12, 68), 1)
    price = np.array([142.0, 118.0, 96.0, 84.0])[species] * (1 + 0.006 * (year * 12 + month - 24300))
    value = np.round(volume * price * rng.normal(1, 0.06, size), 2)
    distance = np.round(rng.gamma(4.0, 11.0, size) + mill * 6, 1)
    haulage = np.round(38 + distance * (0.9 + volume * 0.055), 2)
    loading = np.round(11 + volume * 1.35, 2)
    permit = np.round(25 + rng.gamma(2.0, 20.0, size), 2)
    days = (dt.date(year + month // 12, month % 12 + 1, 1) - dt.date(year, month, 1)).days
    day = rng.integers(1, days + 1, size)
    impossible = made.count("impossible days", rng.random(size) < min(0.0001, 200 / max(made.loads, 1)))
    spaces = made.count("mill spaces", rng.random(size) < 0.06)
    capitals = made.count("mill case", rng.random(size) < 0.05)
    names = pa.array(MILLS).take(pa.array(mill))
    names = pc.if_else(pa.array(capitals), pc.utf8_upper(names), names)
    names = pc.if_else(pa.array(spaces), pc.binary_join_element_wise("", names, " ", " "), names)
    made.mess["padded ids"] += size
    made.mess["comma months"] += comma
    volumes = _pointed(np.rint(volume * 100).astype(np.int64), 2)
    dates = pc.binary_join_element_wise(_padded(day, 2), f"{month:02d}", str(year), ".")
    bad = f"31.02.{year}"
    dry = made.count("moisture dash", rng.random(size) < 0.03)
    return pa.table(
        {
            "LOAD_ID": _padded(np.arange(first, first + size), 8),
            "STAND": pc.binary_join_element_wise("ST", _padded(stand, 4), "-"),
            "SPECIES": pa.array(SPECIES).take(pa.array(species)),
            "MILL": names,
            "GRADE": _blank(_pick(rng, GRADES, size, (5, 3, 1)), made.count("no grade", rng.random(size) < 0.04)),
            "DELIVERED": pc.if_else(pa.array(impossible), bad, dates),
            "VOLUME": pc.replace_substring(volumes, ".", ",") if comma else volumes,
            "MOISTURE": pc.if_else(pa.array(dry), "-", _pointed(np.rint(moisture * 10).astype(np.int64), 1)),
            "GROSS_VALUE": _pointed(np.rint(value * 100).astype(np.int64), 2),
            "HAULAGE_COST": _blank(
                _pointed(np.rint(haulage * 100).astype(np.int64), 2),
                made.count("no haulage cost", rng.random(size) < 0.01),
            ),
            "LOADING_COST": _blank(
                _pointed(np.rint(loading * 100).astype(np.int64), 2),
                made.count("no loading cost", rng.random(size) < 0.12),
            ),
            "PERMIT_COST": _blank(
                _pointed(np.rint(permit * 100).astype(np.int64), 2),
                made.count("no permit cost", rng.random(size) < 0.7),
            ),
            "DISTANCE_KM": _pointed(np.rint(distance * 10).astype(np.int64), 1),
            "STATUS": pc.if_else(pa.array(made.count("returned", rng.random(size) < 0.025)), "returned", "delivered"),
        }
    )


def _padded(numbers: npt.NDArray[np.int64], width: int) -> Strings:
    return pc.utf8_lpad(pc.cast(pa.array(numbers), pa.string()), width, "0")


def _as_redelivered(table: pa.Table) -> pa.Table:
    """The same month as the new system writes it: a column renamed, two costs in each other's place, species under their names, moisture as a
    share, one column gone.

    Haulage costs that were empty have been supplied, so that figures change as well.
    """
    moisture = table.column("MOISTURE").combine_chunks()
    measured = pc.not_equal(moisture, "-")
    percent = pc.cast(pc.if_else(measured, moisture, pa.scalar(None, pa.string())), pa.float64())
    share = _pointed(np.rint(pc.fill_null(percent, 0).to_numpy(zero_copy_only=False) * 10).astype(np.int64), 3)
    columns = {
        "COMPARTMENT" if name == "STAND" else name: table.column(name)
        for name in table.schema.names
        if name != "DISTANCE_KM"
    }
    columns["HAULAGE_COST"] = pc.fill_null(table.column("HAULAGE_COST"), SUPPLIED_HAULAGE)
    columns["MOISTURE"] = pc.if_else(measured, share, "-")
    columns["LOADING_COST"], columns["PERMIT_COST"] = columns["PERMIT_COST"], columns["LOADING_COST"]
    codes, names, _ = zip(*SPECIES_NAMES, strict=True)
    columns["SPECIES"] = pa.array(names).take(pc.index_in(table.column("SPECIES"), pa.array(codes)))
    return pa.table(columns)


# -- everything else ------------------------------------------------------------------------------------


def _extras(folder: Path, rng: np.random.Generator) -> None:
    intake = folder / "intake"
    _stands(intake / "stands.xlsx", rng)
    rows = "\n".join(",".join(row) for row in SPECIES_NAMES)
    (intake / "species_names.csv").write_text(rows + "\n", encoding="utf-8")
    (intake / "species_names_columns.txt").write_text("Species code\nSpecies name\nWood\n", encoding="utf-8")
    for name, start, step, level in (("haulage", 0, 1, 4200.0), ("loading", 4, 1, 1500.0), ("permits", 0, 3, 310.0)):
        _feed(intake / f"cost_{name}.csv", rng, start, step, level)
    _yard(intake / "yard.db", rng)
    _second_group(intake / "brackwater_loads.csv", rng)
    _plan(intake / "plan.csv", rng)
    _contracts(intake, rng)


def _plan(path: Path, rng: np.random.Generator) -> None:
    """What mills plan to take, as they send it: months as columns, the mill only in its first row."""
    lines = ["Mill,Wood," + ",".join(f"{month} 2026" for month in ("Jan", "Feb", "Mar", "Apr", "May", "Jun"))]
    for mill in ("Low Weir", "High Ford", "Stonebeck"):
        for at, wood in enumerate(("hardwood", "softwood")):
            months = [str(integer) if integer > 250 else "" for integer in rng.integers(200, 900, 6).tolist()]
            lines.append(",".join([mill if at == 0 else "", wood, *months]))
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _contracts(intake: Path, rng: np.random.Generator) -> None:
    """Contracts, and their terms from another office, which writes their numbers without zeros."""
    numbers = rng.permutation(np.arange(3, 90))[:40].tolist()
    rows = [
        f"{one:04d},{mill},{volume}"
        for one, mill, volume in zip(
            numbers, ["Low Weir", "High Ford"] * 20, rng.integers(50, 400, 40).tolist(), strict=True
        )
    ]
    (intake / "contracts.csv").write_text("Contract,Mill,Volume\n" + "\n".join(rows) + "\n", encoding="utf-8")
    terms = [
        f"{one},{fee / 100:.2f}"
        for one, fee in zip(sorted(numbers)[:38], rng.integers(150, 420, 38).tolist(), strict=True)
    ]
    (intake / "contract_terms.csv").write_text("Number,Fee\n" + "\n".join(terms) + "\n", encoding="utf-8")


def _stands(path: Path, rng: np.random.Generator) -> None:
    """A workbook of several sheets; the first has a title above its header."""
    from openpyxl import Workbook

    book = Workbook()
    sheet: Any = book.active
    sheet.title = "Stands"
    sheet.append(["Hollowmere stands, state of spring 2025"])
    sheet.append([])
    sheet.append(["Stand", "District", "Hectares", "Planted", "Steep"])
    for number in range(1, STANDS + 1):
        planted = dt.date(1930, 4, 1) + dt.timedelta(days=int(rng.integers(0, 25_000)))
        sheet.append(
            [
                f"ST-{number:04d}",
                DISTRICTS[number % 3],
                float(round(rng.gamma(3.0, 4.0), 1)),
                planted,
                bool(rng.random() < 0.2),
            ]
        )
    districts = book.create_sheet("Districts")
    districts.append(["District", "Forester"])
    for name in DISTRICTS:
        districts.append([name, f"Forester of {name}"])
    notes = book.create_sheet("Notes")
    notes.append(["Areas are rounded to a tenth of a hectare."])
    book.save(path)


def _feed(path: Path, rng: np.random.Generator, start: int, step: int, level: float) -> None:
    """A cost feed by day; feeds begin on different days and leave out different ones."""
    lines = ["Day,Cost"]
    for offset in range(start, 540, step):
        if rng.random() < 0.93:
            day = dt.date(2025, 1, 1) + dt.timedelta(days=offset)
            lines.append(f"{day.isoformat()},{level * rng.normal(1, 0.15):.2f}")
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _yard(path: Path, rng: np.random.Generator) -> None:
    """Daily stock by yard and grade, in SQLite."""
    path.unlink(missing_ok=True)
    rows = []
    for yard in ("North yard", "South yard"):
        for grade in GRADES:
            stock = 400.0
            for offset in range(180):
                stock = max(0.0, stock + rng.normal(0, 22))
                rows.append(
                    (
                        (dt.date(2026, 1, 1) + dt.timedelta(days=offset)).isoformat(),
                        yard,
                        grade,
                        round(stock, 1),
                        int(stock * 2.4),
                    )
                )
    connection = sqlite3.connect(path)
    try:
        connection.execute("create table stock (day text, yard text, grade text, volume real, logs integer)")
        connection.executemany("insert into stock values (?, ?, ?, ?, ?)", rows)
        connection.commit()
    finally:
        connection.close()


def _second_group(path: Path, rng: np.random.Generator) -> None:
    """Another mill group's loads: nearly the same fields, other names, and a unit price already divided."""
    size = 4000
    volume = np.round(np.clip(rng.gamma(6.0, 4.0, size), 1.5, 90.0), 2)
    price = np.round(rng.normal(104, 14, size), 2)
    columns: dict[str, Any] = {
        "ticket": _padded(np.arange(1, size + 1), 6),
        "stand no": pc.binary_join_element_wise("ST", _padded(rng.integers(1, STANDS + 1, size), 4), "-"),
        "species": pa.array(SPECIES).take(pa.array(rng.integers(0, 4, size))),
        "works": pa.array(("Brack Lane", "Water End")).take(pa.array(rng.integers(0, 2, size))),
        "delivered on": pa.array(
            [dt.date(2026, 1, 1) + dt.timedelta(days=int(day)) for day in rng.integers(0, 180, size)]
        ),
        "order volume": _pointed(np.rint(volume * 100).astype(np.int64), 2),
        "unit price": _pointed(np.rint(price * 100).astype(np.int64), 2),
        "haulage": _pointed(np.rint((30 + volume * 2.5) * 100).astype(np.int64), 2),
    }
    _write(pa.table(columns), path)
