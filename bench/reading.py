"""Reading and profiling a large CSV, against general engines: `make bench`.

Makes the demo's loads at the size asked for, checks that all engines give the same answers, then times them in turn,
several times, and prints medians and ratios with the peak memory of each. The other engines come with the `bench` extra.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

ROWS = 5_000_000


def made(folder: Path, rows: int) -> Path:
    """One CSV file with so many loads."""
    from oak_ledger import make_demo_data

    target = folder / "loads.csv"
    make_demo_data(folder, rows, small=True)
    with target.open("wb") as out:
        for at, path in enumerate(sorted((folder / "intake").glob("*.csv"))):
            content = path.read_bytes()
            out.write(content if at == 0 else content.split(b"\n", 1)[1])
            path.unlink()
    return target


# -- reading, types included: each gives (rows, total of GROSS_VALUE) ------------------------------------------


def read_text(path: Path) -> tuple[int, float]:
    """Arrow's reader, every value left as text: nothing is judged."""
    import pyarrow as pa
    import pyarrow.csv as pa_csv

    names = path.open().readline().strip().replace('"', "").split(",")
    options = pa_csv.ConvertOptions(column_types=dict.fromkeys(names, pa.string()))
    return pa_csv.read_csv(path, convert_options=options).num_rows, 0.0


def read_arrow(path: Path) -> tuple[int, float]:
    """Arrow's reader as it is, types guessed from the first block."""
    import pyarrow.compute as pc
    import pyarrow.csv as pa_csv

    table = pa_csv.read_csv(path)
    return table.num_rows, pc.sum(table["GROSS_VALUE"]).as_py()


def read_duckdb(path: Path) -> tuple[int, float]:
    """duckdb into a table, types guessed from a sample; what it is not told to be text stops it."""
    import duckdb

    with duckdb.connect() as database:
        database.execute(
            f"create table t as select * from read_csv('{path}', types={{'VOLUME': 'VARCHAR', 'MOISTURE': 'VARCHAR', 'DELIVERED': 'VARCHAR'}})"
        )
        found = database.execute("select count(*), sum(cast(GROSS_VALUE as double)) from t").fetchone()
    return found or (0, 0.0)


def read_polars(path: Path) -> tuple[int, float]:
    """polars, types guessed from the first rows; what it is not told to be text stops it."""
    import polars as pl

    frame = pl.read_csv(path, schema_overrides={"VOLUME": pl.String, "MOISTURE": pl.String})
    return frame.height, float(frame["GROSS_VALUE"].sum())


def read_pandas(path: Path) -> tuple[int, float]:
    """pandas, types judged chunk by chunk; what does not fit becomes objects."""
    import pandas as pd

    frame = pd.read_csv(path, low_memory=False)
    return len(frame), float(frame["GROSS_VALUE"].sum())


def read_duckdb_all(path: Path) -> tuple[int, float]:
    """duckdb, types judged from every row."""
    import duckdb

    with duckdb.connect() as database:
        database.execute(f"create table t as select * from read_csv('{path}', sample_size=-1)")
        found = database.execute("select count(*), sum(cast(GROSS_VALUE as double)) from t").fetchone()
    return found or (0, 0.0)


def read_polars_all(path: Path) -> tuple[int, float]:
    """polars, types judged from every row."""
    import polars as pl

    frame = pl.read_csv(path, infer_schema_length=None)
    return frame.height, float(frame["GROSS_VALUE"].sum())


def read_oak(path: Path) -> tuple[int, float]:
    """Oak Ledger: types judged from every row, with the evidence."""
    import oak_ledger as oak

    found = oak.intake([path], definition=path.parent / "loads.oak.toml")
    return found.rows, 0.0


# -- profiling: each gives nulls and different values by column ------------------------------------------------

PROFILED = ("STAND", "MILL", "GRADE", "GROSS_VALUE", "HAULAGE_COST", "DISTANCE_KM")


def profile_oak(path: Path) -> dict[str, tuple[int, int]]:
    """Oak Ledger's profile of six columns: also lengths, shapes, distribution, commonest, suspicions."""
    import pyarrow.parquet as pq

    from oak_ledger.insight.profile import profile_of

    table = pq.read_table(path.with_suffix(".parquet"), columns=list(PROFILED))
    found = {name: profile_of(name, table.column(name)) for name in PROFILED}
    return {name: (one.nulls, one.distinct) for name, one in found.items()}


def profile_duckdb(path: Path) -> dict[str, tuple[int, int]]:
    """The same figures from duckdb: nulls, different values, ends, mean, middle, commonest, distribution."""
    import duckdb

    made: dict[str, tuple[int, int]] = {}
    with duckdb.connect() as database:
        for name in PROFILED:
            source = f"'{path.with_suffix('.parquet')}'"
            number = name in ("GROSS_VALUE", "HAULAGE_COST", "DISTANCE_KM")
            more = f", avg({name}), median({name})" if number else f", min(length({name})), max(length({name}))"
            found = database.execute(
                f"select count(*) - count({name}), count(distinct {name}), min({name}), max({name}){more} from {source}"
            ).fetchone()
            database.execute(
                f"select {name}, count(*) n from {source} where {name} is not null group by 1 order by n desc limit 8"
            ).fetchall()
            if number:
                database.execute(
                    f"select width_bucket, count(*) from (select cast(floor(cast({name} as double) / 50) as integer) width_bucket from {source}) group by 1"
                ).fetchall()
            else:
                shape = f"regexp_replace(regexp_replace(regexp_replace({name}, '\\p{{Lu}}', 'A', 'g'), '\\p{{Ll}}', 'a', 'g'), '[0-9]', '9', 'g')"
                database.execute(
                    f"select {shape}, count(*) n from {source} group by 1 order by n desc limit 5"
                ).fetchall()
            made[name] = (found[0], found[1]) if found else (0, 0)
    return made


def profile_polars(path: Path) -> dict[str, tuple[int, int]]:
    """The same figures from polars."""
    import polars as pl

    frame = pl.read_parquet(path.with_suffix(".parquet"), columns=list(PROFILED))
    made = {}
    for name in PROFILED:
        column = frame[name]
        column.drop_nulls().value_counts(sort=True).head(8)
        if column.dtype.is_numeric():
            (column.cast(pl.Float64) / 50).floor().value_counts()
            column.mean(), column.median(), column.min(), column.max()
        else:
            column.str.len_chars().min(), column.str.len_chars().max()
            column.str.replace_all(r"\p{Lu}", "A").str.replace_all(r"\p{Ll}", "a").str.replace_all(
                r"[0-9]", "9"
            ).value_counts(sort=True).head(5)
        made[name] = (column.null_count(), column.drop_nulls().n_unique())
    return made


def keep_oak(path: Path) -> tuple[int, float]:
    """Reading, and a typed copy written, as `oak intake` does."""
    import oak_ledger as oak
    from oak_ledger.source.cache import clear_cache

    clear_cache()
    found = oak.intake([path], definition=path.parent / "kept.oak.toml")
    found.save(replace=True)
    return found.rows, 0.0


def write_oak(path: Path) -> tuple[int, float]:
    """Writing the whole file through to Parquet, values read into their types."""
    import oak_ledger as oak

    source = oak.open_source(path.parent / "loads.oak.toml")
    source.write(path.with_suffix(".through.parquet"))
    return 0, 0.0


# -- a question asked of the text: each gives (mill, loads, value) in order ----------------------------------------

QUESTION = "select MILL, count(*), sum(GROSS_VALUE) from {} where DISTANCE_KM > 20 group by MILL order by MILL"
Groups = list[tuple[str, int, float]]


def ask_oak(path: Path) -> Groups:
    """Asked of a source; with a typed copy where there is one."""
    import oak_ledger as oak

    source = oak.open_source(path.parent / "loads.oak.toml")
    show = ["COUNT(*)", 'SUM("Gross value")']
    answer = source.tally(["Mill"], show, where=['"Distance km" > 20'])
    return _groups(answer.table)


def ask_duckdb(path: Path) -> Groups:
    """The same question, the file read as it is asked."""
    import duckdb

    types = "{'VOLUME': 'VARCHAR', 'MOISTURE': 'VARCHAR', 'DELIVERED': 'VARCHAR'}"
    with duckdb.connect() as database:
        return _groups(database.execute(QUESTION.format(f"read_csv('{path}', types={types})")).to_arrow_table())


def ask_polars(path: Path) -> Groups:
    """The same question, the file scanned as it is asked."""
    import polars as pl

    frame = pl.scan_csv(path, schema_overrides={"VOLUME": pl.String, "MOISTURE": pl.String})
    return _groups(pl.SQLContext(t=frame).execute(QUESTION.format("t"), eager=True).to_arrow())


def _groups(table: Any) -> Groups:
    rows = zip(*(column.to_pylist() for column in table.columns), strict=True)
    return sorted((mill or "", count, round(float(total), 2)) for mill, count, total in rows)


WORK: dict[str, Callable[[Path], Any]] = {
    "read text": read_text, "read arrow": read_arrow, "read duckdb": read_duckdb, "read polars": read_polars, "read pandas": read_pandas,
    "read duckdb all": read_duckdb_all, "read polars all": read_polars_all, "read oak": read_oak,
    "profile oak": profile_oak, "profile duckdb": profile_duckdb, "profile polars": profile_polars, "write oak": write_oak, "keep oak": keep_oak,
    "ask duckdb": ask_duckdb, "ask polars": ask_polars, "ask oak": ask_oak, "ask oak with a copy": ask_oak,
}  # fmt: skip


TOTALLED = ("read arrow", "read duckdb", "read polars", "read duckdb all", "read polars all")


def one(name: str, path: Path) -> None:
    """Run one piece of work in this process and print its seconds, its answer and the peak memory."""
    ready(name)
    before = time.perf_counter()
    answer = WORK[name](path)
    seconds = time.perf_counter() - before
    status = Path("/proc/self/status").read_text()
    peak = int(status.partition("VmHWM:")[2].split()[0]) / 1024
    print(json.dumps({"seconds": seconds, "answer": answer, "megabytes": peak}))


def ready(name: str) -> None:
    """Import what the work needs, so that starting up is not timed."""
    import pyarrow.csv
    import pyarrow.parquet  # noqa: F401

    engine = name.split()[1]
    if engine in ("duckdb", "polars"):
        import_module(engine)
    if engine == "oak":
        import oak_ledger as oak
        import oak_ledger.insight.profile

        _ = (oak.intake, oak.open_source)


def measured(name: str, path: Path) -> dict[str, Any]:
    """Run one piece of work in a process of its own."""
    kept = name in ("keep oak", "ask oak with a copy")
    environment = {**os.environ, "OAK_CACHE": "on" if kept else "off", "OAK_CACHE_FOLDER": str(path.parent / "cache")}
    command = [sys.executable, __file__, "--one", name, "--file", str(path)]
    done = subprocess.run(command, capture_output=True, text=True, check=False, env=environment)
    if done.returncode:
        raise SystemExit(f"{name} failed:\n{done.stderr[-2000:]}")
    found: dict[str, Any] = json.loads(done.stdout.splitlines()[-1])
    return found


def agree(answers: dict[str, Any], rows: int) -> None:
    """Stop where the engines do not give the same answers."""
    for name in ("read text", *TOTALLED, "read oak"):
        if answers[name][0] != rows:
            raise SystemExit(f"{name} read {answers[name][0]} rows, not {rows}")
    totals = [answers[name][1] for name in TOTALLED]
    if max(totals) - min(totals) > 1e-6 * max(totals):
        raise SystemExit(f"totals differ: {totals}")
    for name in ("profile duckdb", "profile polars"):
        if answers[name] != answers["profile oak"]:
            raise SystemExit(f"profiles differ: {answers['profile oak']} and {answers[name]}")
    for name in ("ask duckdb", "ask polars", "ask oak with a copy"):
        if answers[name] != answers["ask oak"]:
            raise SystemExit(f"{name} differs: {answers[name]} and {answers['ask oak']}")
    print("all engines give the same answers")


def main() -> None:
    """Make the data, compare the answers, then time."""
    options = argparse.ArgumentParser()
    options.add_argument("--rows", type=int, default=ROWS)
    options.add_argument("--repeats", type=int, default=5)
    options.add_argument("--one")
    options.add_argument("--file", type=Path)
    given = options.parse_args()
    if given.one:
        one(given.one, given.file)
        return
    with tempfile.TemporaryDirectory() as folder:
        path = made(Path(folder), given.rows)
        print(f"{given.rows:,} rows, {path.stat().st_size / 1e6:,.0f} MB")
        import pyarrow.csv as pa_csv
        import pyarrow.parquet as pq

        pq.write_table(pa_csv.read_csv(path), path.with_suffix(".parquet"))
        import oak_ledger as oak

        os.environ["OAK_CACHE_FOLDER"] = str(Path(folder) / "cache")
        oak.intake([path], definition=path.parent / "loads.oak.toml").save()
        times: dict[str, list[float]] = {name: [] for name in WORK}
        memory: dict[str, float] = {}
        for repeat in range(given.repeats):
            answers = {}
            for name in WORK:
                found = measured(name, path)
                answers[name] = found["answer"]
                times[name].append(found["seconds"])
                memory[name] = max(memory.get(name, 0.0), found["megabytes"])
            if repeat == 0:
                agree(answers, given.rows)
    middle = {name: statistics.median(values) for name, values in times.items()}
    print("\n| work | seconds | peak MB | oak's ratio to it |\n|---|---:|---:|---:|")
    for name in WORK:
        kind = name.split()[0]
        ratio = f"{middle[f'{kind} oak'] / middle[name]:.2f}"
        print(f"| {name} | {middle[name]:.2f} | {memory[name]:,.0f} | {ratio} |")


if __name__ == "__main__":
    main()
