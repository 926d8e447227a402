"""The engine against general ones: grouped answers, row values, text, windows, distinct counts, medians. See `bench/run.py`.

One Parquet file of made-up loads with floats, whole numbers, dates and texts that repeat and that hardly repeat; one workload is one
question, asked of each engine in its own way. Each gives a table of plain values, so that the answers can be compared.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

MILLS = 40
GRADES = ("A", "B", "C", "D")


def made(folder: Path, rows: int) -> Path:
    """The file of loads; seeded, so that every run has the same."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    path = folder / "loads.parquet"
    wide = folder / "wide.parquet"
    writer = wide_writer = None
    for begin in range(0, rows, 1_000_000):
        size = min(1_000_000, rows - begin)
        rng = np.random.default_rng(7 + begin)
        stand = rng.integers(0, 1000, size)
        number = rng.integers(0, max(rows * 3 // 5, 1), size)
        volume = np.round(rng.gamma(4.0, 6.0, size), 2)
        cost = np.round(rng.gamma(3.0, 40.0, size), 2)
        columns = {
            "load": pa.array(np.arange(begin, begin + size)),
            "mill": pa.array(
                np.array([f"Mill {at:02d}" for at in range(MILLS)], dtype=object)[rng.integers(0, MILLS, size)]
            ),
            "grade": pa.array(np.array(GRADES, dtype=object)[rng.integers(0, len(GRADES), size)]),
            "stand": pa.array(stand),
            "ticket": pa.array(
                [
                    f" tk-{one:08x} {two}"
                    for one, two in zip((number * 2654435761) % 2**32, GRADES * (size // 4 + 1), strict=False)
                ]
            ),
            "hauler": pa.array(number),
            "day": pa.array(np.datetime64("2024-01-01") + rng.integers(0, 900, size)),
            "volume": pa.array(volume, mask=rng.random(size) < 0.02),
            "cost": pa.array(cost, mask=rng.random(size) < 0.05),
            "value": pa.array(np.round(volume * rng.uniform(60, 120, size), 2)),
            "distance": pa.array(np.round(rng.uniform(2, 180, size), 1)),
            "crew": pa.array(rng.integers(1, 60, size)),
        }
        table = pa.table(columns)
        writer = writer or pq.ParquetWriter(path, table.schema, compression="snappy")
        writer.write_table(table, row_group_size=1 << 17)
        if rows <= 10_000_000:
            more = {f"m{at:02d}": pa.array(rng.normal(size=size // 5)) for at in range(60)}
            more["mill"] = columns["mill"].slice(0, size // 5)
            wide_table = pa.table(more)
            wide_writer = wide_writer or pq.ParquetWriter(wide, wide_table.schema, compression="snappy")
            wide_writer.write_table(wide_table, row_group_size=1 << 17)
    for one in (writer, wide_writer):
        if one is not None:
            one.close()
    return path


Query = dict[str, Any]
Answer = list[tuple[Any, ...]]

# Each workload: how it is asked of Oak Ledger (fields, by, show, where), as SQL, in polars and in pandas.
SQL_C = (
    "value - coalesce(cost, 0)", "cost / volume", "round(value * 1.2, 2)", "upper(trim(ticket))", "substr(mill, 6, 2)", "year(day) * 100 + month(day)",
    "case when volume < 10 then 'small' when volume < 30 then 'middle' else 'large' end", "case grade when 'A' then 3 when 'B' then 2 else 1 end",
    "day + 30", "volume is null or cost is null", "replace(mill, 'Mill', 'Works')", "length(ticket)",
)  # fmt: skip
OAK_C = (
    "value - COALESCE(cost, 0)", "cost / volume", "ROUND(value * 1.2e0, 2)", "UPPER(TRIM(ticket))", "SUBSTRING(mill, 6, 2)",
    "EXTRACT(YEAR FROM day) * 100 + EXTRACT(MONTH FROM day)", "CASE WHEN volume < 10 THEN 'small' WHEN volume < 30 THEN 'middle' ELSE 'large' END",
    "CASE grade WHEN 'A' THEN 3 WHEN 'B' THEN 2 ELSE 1 END", "day + 30", "volume IS NULL OR cost IS NULL", "REPLACE(mill, 'Mill', 'Works')", "CHAR_LENGTH(ticket)",
)  # fmt: skip
FIELDS = {
    "margin": ("value - COALESCE(cost, 0)", "value - coalesce(cost, 0)"),
    "rate": ("cost / volume", "cost / nullif(volume, 0)"),
    "size": ("CASE WHEN volume < 10 THEN 'small' WHEN volume < 30 THEN 'middle' ELSE 'large' END", "case when volume < 10 then 'small' when volume < 30 then 'middle' else 'large' end"),
    "month": ("CAST(day AS TEXT FORMAT 'YYYY-MM')", "strftime(day, '%Y-%m')"),
    "far": ("distance > 100", "distance > 100"),
    "net": ("margin * IF(far, 0.9e0, 1e0)", "margin * case when far then 0.9 else 1 end"),
    "label": ("UPPER(mill) || '-' || grade", "upper(mill) || '-' || grade"),
    "heavy": ("IF(volume > 25, 1, 0)", "case when volume > 25 then 1 else 0 end"),
}  # fmt: skip
_WITH = "with l as (select *, " + ", ".join(f"{sql} as {name}" for name, (_, sql) in FIELDS.items()) + " from loads) "
CHAIN = 200

WORK: dict[str, Query] = {
    "A": {
        "says": "grouped, 8 calculated fields, with a distinct count",
        "by": ["label", "size"],
        "show": ["SUM(net)", "AVG(rate)", "SUM(heavy)", "COUNT(DISTINCT stand)", "COUNT(*)"],
        "where": "month >= '2024-03'",
        "sql": _WITH + "select label, size, sum(net), avg(rate), sum(heavy), count(distinct stand), count(*) from l where month >= '2024-03' group by all",
    },
    "B": {
        "says": "grouped, the same without the distinct count",
        "by": ["label", "size"],
        "show": ["SUM(net)", "AVG(rate)", "SUM(heavy)", "COUNT(*)"],
        "where": "month >= '2024-03'",
        "sql": _WITH + "select label, size, sum(net), avg(rate), sum(heavy), count(*) from l where month >= '2024-03' group by all",
    },
    "C": {
        "says": "twelve row values with text, dates and CASE, all rows",
        "rows": OAK_C,
        "sql": "select " + ", ".join(f"{sql} as c{at}" for at, sql in enumerate(SQL_C)) + " from loads",
    },
    "D": {
        "says": "text that hardly repeats: trimmed, in capitals, searched",
        "by": ["grade"],
        "show": ["COUNT(*) FILTER (WHERE CONTAINS(UPPER(ticket), '7F'))", "SUM(CHAR_LENGTH(TRIM(ticket)))", "MAX(SUBSTRING(ticket, 5, 4))"],
        "sql": "select grade, count(*) filter (where contains(upper(ticket), '7F')), sum(length(trim(ticket))), max(substr(ticket, 5, 4)) from loads group by all",
    },
    "E": {
        "says": "the value before and a running total by key",
        "fields": {"prev": "LAG(volume) OVER (PARTITION BY stand ORDER BY load)", "run": "SUM(crew) OVER (PARTITION BY stand ORDER BY load)"},
        "show": ["SUM(volume - prev)", "SUM(run)", "MAX(run)"],
        "sql": "select sum(volume - prev), sum(run), max(run) from (select volume, lag(volume) over (partition by stand order by load) prev, sum(crew) over (partition by stand order by load) run from loads)",
    },
    "F": {
        "says": "distinct counts with many values",
        "by": ["stand"],
        "show": ["COUNT(DISTINCT hauler)"],
        "sql": "select stand, count(distinct hauler) from loads group by all",
    },
    "G": {
        "says": "medians",
        "by": ["mill"],
        "show": ["MEDIAN(volume)", "MEDIAN(cost)"],
        "sql": "select mill, median(volume), median(cost) from loads group by all",
    },
    "I": {
        "says": "a filter that keeps 1 % of the rows",
        "by": ["mill"],
        "show": ["SUM(value)", "COUNT(*)"],
        "where": "distance > 178.2",
        "sql": "select mill, sum(value), count(*) from loads where distance > 178.2 group by all",
    },
    "J": {
        "says": "one figure from a file of 61 columns",
        "file": "wide",
        "show": ["SUM(m17)"],
        "sql": "select sum(m17) from wide",
    },
    "K": {
        "says": f"{CHAIN} calculated fields in a chain",
        "fields": {f"f{at}": "volume" if at == 0 else f"f{at - 1} * 0.99e0 + {at}" for at in range(CHAIN)},
        "show": [f"SUM(f{CHAIN - 1})"],
        "sql": "with "
        + ", ".join(f"t{at} as (select {'volume' if at == 0 else f'f{at - 1} * 0.99 + {at}'} as f{at} from {'loads' if at == 0 else f't{at - 1}'})" for at in range(CHAIN))
        + f" select sum(f{CHAIN - 1}) from t{CHAIN - 1}",
    },
}  # fmt: skip


# -- the engines --------------------------------------------------------------------------------------------------


def oak_source(folder: Path, work: Query) -> Any:
    """The source that a workload asks."""
    import oak_ledger as oak
    from oak_ledger.origin import ParquetReader

    feed = ParquetReader(folder / f"{work.get('file', 'loads')}.parquet")
    text = '[source]\nname = "Loads"\n\n[origin]\nkind = "memory"\n'
    fields = {
        **({name: one for name, (one, _) in FIELDS.items()} if "label" in str(work.get("by", "")) else {}),
        **work.get("fields", {}),
    }
    for column in feed.columns():
        text += f'\n[[field]]\nname = "{column}"\ncolumn = "{column}"\n'
    for name, formula in fields.items():
        text += f"\n[[field]]\nname = \"{name}\"\nformula = '''{formula}'''\n"
    from oak_ledger.definition.document import parse_document
    from oak_ledger.definition.model import DEFINITION

    return oak.Source(parse_document(text, DEFINITION, "loads"), folder, feed=feed)


def ask_oak(folder: Path, name: str) -> Any:
    """Oak Ledger."""
    work = WORK[name]
    source = oak_source(folder, work)
    if "rows" in work:
        return source.rows([(f"c{at}", one) for at, one in enumerate(work["rows"])]).table
    shown = [(f"c{at}", one) for at, one in enumerate(work["show"])]
    return source.tally(work.get("by", []), shown, where=work.get("where")).table


def ask_duckdb(folder: Path, name: str) -> Any:
    """duckdb, over the same Parquet file."""
    import duckdb

    with duckdb.connect() as database:
        for one in ("loads", "wide"):
            if (folder / f"{one}.parquet").exists():
                database.execute(f"create view {one} as select * from '{folder / one}.parquet'")
        return database.execute(WORK[name]["sql"]).to_arrow_table()


def ask_polars(folder: Path, name: str) -> Any:
    """polars, lazily, over the same Parquet file."""
    import polars as pl

    frame = pl.scan_parquet(folder / f"{WORK[name].get('file', 'loads')}.parquet")
    col, lit, when = pl.col, pl.lit, pl.when
    size = (
        when(col("volume") < 10).then(lit("small")).when(col("volume") < 30).then(lit("middle")).otherwise(lit("large"))
    )
    if name in "AB":
        frame = frame.with_columns(
            margin=col("value") - col("cost").fill_null(0), rate=col("cost") / col("volume"), size=size, month=col("day").dt.strftime("%Y-%m"),
            far=col("distance") > 100, label=col("mill").str.to_uppercase() + "-" + col("grade"), heavy=when(col("volume") > 25).then(1).otherwise(0),
        ).with_columns(net=col("margin") * when(col("far")).then(0.9).otherwise(1.0)).filter(col("month") >= "2024-03")  # fmt: skip
        distinct = [col("stand").n_unique().alias("c3")] if name == "A" else []
        return frame.group_by("label", "size").agg(col("net").sum().alias("c0"), col("rate").mean().alias("c1"), col("heavy").sum().alias("c2"), *distinct, pl.len().alias("c4")).collect().to_arrow()  # fmt: skip
    if name == "C":
        return frame.select(
            c0=col("value") - col("cost").fill_null(0), c1=col("cost") / col("volume"), c2=(col("value") * 1.2).round(2), c3=col("ticket").str.strip_chars(" ").str.to_uppercase(),
            c4=col("mill").str.slice(5, 2), c5=col("day").dt.year().cast(pl.Int64) * 100 + col("day").dt.month(), c6=size,
            c7=when(col("grade") == "A").then(3).when(col("grade") == "B").then(2).otherwise(1), c8=col("day").dt.offset_by("30d"),
            c9=col("volume").is_null() | col("cost").is_null(), c10=col("mill").str.replace_all("Mill", "Works", literal=True), c11=col("ticket").str.len_chars(),
        ).collect().to_arrow()  # fmt: skip
    if name == "D":
        return frame.group_by("grade").agg(col("ticket").str.to_uppercase().str.contains("7F", literal=True).sum().alias("c0"), col("ticket").str.strip_chars(" ").str.len_chars().sum().alias("c1"), col("ticket").str.slice(4, 4).max().alias("c2")).collect().to_arrow()  # fmt: skip
    if name == "E":
        made = (
            frame.select("stand", "load", "volume", "crew")
            .sort("load")
            .with_columns(prev=col("volume").shift(1).over("stand"), run=col("crew").cum_sum().over("stand"))
        )
        return (
            made.select(
                (col("volume") - col("prev")).sum().alias("c0"),
                col("run").sum().alias("c1"),
                col("run").max().alias("c2"),
            )
            .collect()
            .to_arrow()
        )
    if name == "F":
        return frame.group_by("stand").agg(col("hauler").n_unique()).collect().to_arrow()
    if name == "G":
        return frame.group_by("mill").agg(col("volume").median(), col("cost").median()).collect().to_arrow()
    if name == "I":
        return (
            frame.filter(col("distance") > 178.2)
            .group_by("mill")
            .agg(col("value").sum(), pl.len().alias("n"))
            .collect()
            .to_arrow()
        )
    if name == "J":
        return frame.select(col("m17").sum()).collect().to_arrow()
    made = frame.select(f0=col("volume"))
    for at in range(1, CHAIN):
        made = made.select((col(f"f{at - 1}") * 0.99 + at).alias(f"f{at}"))
    return made.select(col(f"f{CHAIN - 1}").sum()).collect().to_arrow()


NEEDS = {
    "A": ["value", "cost", "volume", "day", "distance", "mill", "grade", "stand"], "B": ["value", "cost", "volume", "day", "distance", "mill", "grade"],
    "C": ["value", "cost", "volume", "ticket", "mill", "day", "grade"], "D": ["grade", "ticket"], "E": ["stand", "load", "volume", "crew"],
    "F": ["stand", "hauler"], "G": ["mill", "volume", "cost"], "I": ["mill", "value", "distance"], "J": ["m17"], "K": ["volume"],
}  # fmt: skip


def only_read(folder: Path, name: str) -> Any:
    """Nothing but reading the columns that a workload needs, the way Oak Ledger reads them: no answer can come sooner."""
    import pyarrow as pa

    from oak_ledger.engine.options import options
    from oak_ledger.engine.pool import ordered
    from oak_ledger.origin import ParquetReader

    feed = ParquetReader(folder / f"{WORK[name].get('file', 'loads')}.parquet")
    counts = ordered(
        lambda part: sum(batch.num_rows for batch in part()), feed.fragments(NEEDS[name]), options().threads
    )
    return pa.table({"rows": [sum(counts)]})


def ask_pandas(folder: Path, name: str) -> Any:
    """pandas, reading the columns that it needs."""
    import pandas as pd
    import pyarrow as pa

    frame = pd.read_parquet(folder / f"{WORK[name].get('file', 'loads')}.parquet", columns=NEEDS[name])
    made = _PANDAS[name](frame, pd)
    return pa.Table.from_pandas(made, preserve_index=False)


def _sizes(frame: Any) -> Any:
    return np.select([frame["volume"] < 10, frame["volume"] < 30], ["small", "middle"], "large")


def _grouped(frame: Any, _pd: Any, *, distinct: bool) -> Any:
    frame["month"] = frame["day"].astype(str).str.slice(0, 7)
    frame = frame[frame["month"] >= "2024-03"]
    frame = frame.assign(
        net=(frame["value"] - frame["cost"].fillna(0)) * np.where(frame["distance"] > 100, 0.9, 1.0), rate=frame["cost"] / frame["volume"], size=_sizes(frame),
        label=frame["mill"].str.upper() + "-" + frame["grade"], heavy=np.where(frame["volume"] > 25, 1, 0),
    )  # fmt: skip
    asked = {
        "c0": ("net", "sum"),
        "c1": ("rate", "mean"),
        "c2": ("heavy", "sum"),
        **({"c3": ("stand", "nunique")} if distinct else {}),
        "c4": ("net", "size"),
    }
    return frame.groupby(["label", "size"]).agg(**asked).reset_index()


def _row_values(frame: Any, pd: Any) -> Any:
    return pd.DataFrame({
        "c0": frame["value"] - frame["cost"].fillna(0), "c1": frame["cost"] / frame["volume"], "c2": (frame["value"] * 1.2).round(2), "c3": frame["ticket"].str.strip(" ").str.upper(),
        "c4": frame["mill"].str.slice(5, 7), "c5": (day := pd.to_datetime(frame["day"])).dt.year * 100 + day.dt.month, "c6": _sizes(frame),
        "c7": np.select([frame["grade"] == "A", frame["grade"] == "B"], [3, 2], 1), "c8": day + pd.Timedelta(days=30), "c9": frame["volume"].isna() | frame["cost"].isna(),
        "c10": frame["mill"].str.replace("Mill", "Works", regex=False), "c11": frame["ticket"].str.len(),
    })  # fmt: skip


def _text(frame: Any, _pd: Any) -> Any:
    made = frame.assign(
        hit=frame["ticket"].str.upper().str.contains("7F", regex=False),
        length=frame["ticket"].str.strip(" ").str.len(),
        part=frame["ticket"].str.slice(4, 8),
    )
    return made.groupby("grade").agg(c0=("hit", "sum"), c1=("length", "sum"), c2=("part", "max")).reset_index()


def _windows(frame: Any, pd: Any) -> Any:
    frame = frame.sort_values("load")
    groups = frame.groupby("stand")
    run = groups["crew"].cumsum()
    return pd.DataFrame(
        {"c0": [(frame["volume"] - groups["volume"].shift(1)).sum()], "c1": [run.sum()], "c2": [run.max()]}
    )


def _chain(frame: Any, pd: Any) -> Any:
    one = frame["volume"]
    for at in range(1, CHAIN):
        one = one * 0.99 + at
    return pd.DataFrame({"c0": [one.sum()]})


_PANDAS: dict[str, Callable[[Any, Any], Any]] = {
    "A": lambda frame, pd: _grouped(frame, pd, distinct=True),
    "B": lambda frame, pd: _grouped(frame, pd, distinct=False),
    "C": _row_values,
    "D": _text,
    "E": _windows,
    "F": lambda frame, pd: frame.groupby("stand")["hauler"].nunique().reset_index(),
    "G": lambda frame, pd: frame.groupby("mill")[["volume", "cost"]].median().reset_index(),
    "I": lambda frame, pd: (
        frame[frame["distance"] > 178.2].groupby("mill").agg(c0=("value", "sum"), c1=("value", "size")).reset_index()
    ),
    "J": lambda frame, pd: pd.DataFrame({"c0": [frame["m17"].sum()]}),
    "K": _chain,
}
ENGINES: dict[str, Callable[[Path, str], Any]] = {
    "oak": ask_oak,
    "duckdb": ask_duckdb,
    "polars": ask_polars,
    "pandas": ask_pandas,
    "floor": only_read,
}


# -- are the answers the same? ------------------------------------------------------------------------------------


def different(one: Any, other: Any, *, ordered: bool, keys: int | None = None) -> str:
    """Where two tables differ: rows in any order unless told, numbers to nine digits, null and NaN alike; empty where they do not."""
    if (one.num_rows, one.num_columns) != (other.num_rows, other.num_columns):
        return f"{one.num_rows} x {one.num_columns} against {other.num_rows} x {other.num_columns}"
    columns = [(_plain(a), _plain(b)) for a, b in zip(one.columns, other.columns, strict=True)]
    if not ordered:
        by = (
            [at for at, (a, _) in enumerate(columns) if a.dtype.kind in "OU" or at == 0]
            if keys is None
            else [*range(keys)]
        )
        orders = [
            np.arange(one.num_rows)
            if not by
            else np.lexsort(
                [
                    pair[side].astype(str) if pair[side].dtype.kind == "O" else pair[side]
                    for pair in (columns[at] for at in by)
                ][::-1]
            )
            for side in (0, 1)
        ]
        columns = [(a[orders[0]], b[orders[1]]) for a, b in columns]
    for at, (a, b) in enumerate(columns):
        if a.dtype.kind == "f":
            fits = np.isclose(a, b.astype(np.float64), rtol=1e-9, atol=1e-6, equal_nan=True)
        else:
            fits = a == b
        if not fits.all():
            row = int(np.flatnonzero(~fits)[0])
            return f"column {at}, row {row}: {a[row]!r} against {b[row]!r}"
    return ""


def _plain(column: Any) -> Any:
    import pyarrow as pa
    import pyarrow.compute as pc

    whole = column.combine_chunks() if hasattr(column, "combine_chunks") else column
    kind = whole.type
    if pa.types.is_dictionary(kind):
        whole = whole.dictionary_decode()
    if pa.types.is_temporal(kind):
        return pc.cast(pc.cast(whole, pa.timestamp("us")), pa.int64()).to_numpy(zero_copy_only=False).astype(np.float64)
    if (
        pa.types.is_integer(kind)
        or pa.types.is_floating(kind)
        or pa.types.is_decimal(kind)
        or pa.types.is_boolean(kind)
    ):
        return pc.cast(
            pc.cast(whole, pa.int8()) if pa.types.is_boolean(kind) else whole, pa.float64(), safe=False
        ).to_numpy(zero_copy_only=False)
    return np.asarray(pc.fill_null(pc.cast(whole, pa.string()), "\0").to_pylist(), dtype=object)
