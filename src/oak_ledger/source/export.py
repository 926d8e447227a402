"""Writing rows to a file as they come: Parquet, Arrow or CSV, whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from itertools import chain
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine import Expression, Fault
from oak_ledger.errors import UnusableInput
from oak_ledger.files import write_atomically
from oak_ledger.functions.casts import text_of
from oak_ledger.types import TIMESTAMP


@dataclass(frozen=True, slots=True)
class WriteResult:
    """What was written: the file, how many rows, and what could not be computed."""

    path: Path
    rows: int
    faults: tuple[Fault, ...]


Writers = Callable[[Path, pa.Schema, pa.Table], AbstractContextManager[Any]]
"""Open a file for tables like the first of them."""
REPEATS = 4  # times a value must come on the average, so that a dictionary of the values takes less time and room than they do


def _parquet(path: Path, schema: pa.Schema, first: pa.Table) -> AbstractContextManager[Any]:
    import pyarrow.parquet as pq

    repeating = [name for name in schema.names if REPEATS * len(first.column(name).unique()) <= first.num_rows]
    made: AbstractContextManager[Any] = pq.ParquetWriter(path, schema, compression="zstd", use_dictionary=repeating)
    return made


def _arrow(path: Path, schema: pa.Schema, _first: pa.Table) -> AbstractContextManager[Any]:
    made: AbstractContextManager[Any] = pa.ipc.new_file(str(path), schema)
    return made


def _csv(path: Path, schema: pa.Schema, _first: pa.Table) -> AbstractContextManager[Any]:
    import pyarrow.csv as pa_csv

    options = pa_csv.WriteOptions(quoting_style="needed")
    made: AbstractContextManager[Any] = pa_csv.CSVWriter(
        str(path), as_text(schema.empty_table()).schema, write_options=options
    )
    return made


_WRITERS: dict[str, Writers] = {".parquet": _parquet, ".arrow": _arrow, ".feather": _arrow, ".csv": _csv}


def as_text(table: pa.Table) -> pa.Table:
    """Times as the language writes them, without trailing zeros; everything else as it is written anyhow."""
    for at, column in enumerate(table.columns):
        if pa.types.is_timestamp(column.type):
            table = table.set_column(at, table.column_names[at], text_of(column.combine_chunks(), TIMESTAMP))
    return table


def write_rows(
    path: Path, schema: pa.Schema, tables: Iterable[pa.Table], notes: Callable[[], Mapping[str, str]] | None = None
) -> int:
    """Write tables of one schema to a file by its ending; how many rows there were. Raises UnusableInput.

    `notes` are asked for when all rows are written, and go into a Parquet file beside them.
    """
    writer = _WRITERS.get(path.suffix.casefold())
    if writer is None:
        known = ", ".join(_WRITERS)
        raise UnusableInput(
            "unknown-ending",
            f"{path} has no file type that can be written.",
            hint=f"Name a file with one of the endings {known}.",
        )
    rows = 0

    def write(temporary: Path) -> None:
        nonlocal rows
        given = iter(tables)
        first = next(given, schema.empty_table())
        with writer(temporary, schema, first) as out:
            for table in chain((first,), given):
                rows += table.num_rows
                out.write_table(as_text(table) if writer is _csv else table)
            if notes is not None:
                out.add_key_value_metadata(notes())

    write_atomically(path, write)
    return rows


def schema_of(shown: Sequence[Expression]) -> pa.Schema:
    """The columns of written rows."""
    return pa.schema([(one.name, arrow_type(one.checked.type)) for one in shown])
