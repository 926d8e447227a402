"""Writing rows to a file as they are computed: Parquet, Arrow or CSV, whole or not at all."""

from __future__ import annotations

import codecs
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from functools import partial
from itertools import chain
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine import Expression, Fault
from oak_ledger.errors import Finding, Place, UnusableInput
from oak_ledger.files import write_atomically
from oak_ledger.functions.casts import text_of
from oak_ledger.types import TIMESTAMP


@dataclass(frozen=True, slots=True)
class WriteResult:
    """What was written: the file, how many rows, and what could not be computed."""

    path: Path
    rows: int
    faults: tuple[Fault, ...]
    findings: tuple[Finding, ...] = ()
    """Values that were changed so that the file can hold them."""


Writers = Callable[[Path, pa.Schema, pa.Table], AbstractContextManager[Any]]
"""Open a file for tables like the first of them."""
REPEATS = 4  # times a value must come on the average, so that a dictionary of the values takes less time and room than they do


def _parquet(path: Path, schema: pa.Schema, first: pa.Table) -> AbstractContextManager[Any]:
    import pyarrow.parquet as pq

    repeating = [name for name in schema.names if REPEATS * len(first.column(name).unique()) <= first.num_rows]
    manager: AbstractContextManager[Any] = pq.ParquetWriter(path, schema, compression="zstd", use_dictionary=repeating)
    return manager


def _arrow(path: Path, schema: pa.Schema, _first: pa.Table) -> AbstractContextManager[Any]:
    manager: AbstractContextManager[Any] = pa.ipc.new_file(str(path), schema)
    return manager


@contextmanager
def _csv(path: Path, schema: pa.Schema, _first: pa.Table, mark: bytes = b"") -> Iterator[Any]:
    import pyarrow.csv as pa_csv

    options = pa_csv.WriteOptions(quoting_style="needed")
    with pa.OSFile(str(path), "wb") as file:
        file.write(mark)
        with pa_csv.CSVWriter(file, as_text(schema.empty_table()).schema, write_options=options) as made:
            yield made


def _xlsx(path: Path, schema: pa.Schema, _first: pa.Table) -> AbstractContextManager[Any]:
    from oak_ledger.source.workbook import WorkbookWriter

    return WorkbookWriter(path, schema)


_WRITERS: dict[str, Writers] = {
    ".parquet": _parquet,
    ".arrow": _arrow,
    ".feather": _arrow,
    ".csv": _csv,
    ".xlsx": _xlsx,
}
# What a spreadsheet would run when it opens a text file: what begins as a formula, and after a sign what calls something.
_RUN = r"(?s)^[=@\t\r\n]|^[+-].*[(|!]"


def harmless(table: pa.Table, counts: Counter[str]) -> pa.Table:
    """Texts that a spreadsheet would run behind an apostrophe, names of columns too; how many is counted by column."""
    for at, name in enumerate(table.column_names):
        column = table.column(at)
        if pa.types.is_string(column.type):
            runs = pc.fill_null(pc.match_substring_regex(column, _RUN), False)
            if (found := pc.sum(runs).as_py() or 0) > 0:
                counts[name] += found
                table = table.set_column(
                    at, name, pc.if_else(runs, pc.binary_join_element_wise("'", column, ""), column)
                )
    names = [f"'{name}" if re.search(_RUN, name) else name for name in table.column_names]
    return table.rename_columns(names) if names != table.column_names else table


def as_text(table: pa.Table) -> pa.Table:
    """Times as the language writes them, without trailing zeros; everything else as it is written anyhow."""
    for at, column in enumerate(table.columns):
        if pa.types.is_timestamp(column.type):
            table = table.set_column(at, table.column_names[at], text_of(column.combine_chunks(), TIMESTAMP))
    return table


def write_rows(
    path: Path, schema: pa.Schema, tables: Iterable[pa.Table], *, exact: bool = False, marked: bool = False
) -> tuple[int, tuple[Finding, ...]]:
    """Write tables of one schema to a file by its ending; how many rows there were, and which values were changed. Raises UnusableInput.

    In a text file, texts that a spreadsheet would run are made harmless, unless all is to be `exact`; `marked` puts a byte order mark before it.
    """
    writer = _WRITERS.get(path.suffix.casefold())
    if writer is None:
        known = ", ".join(_WRITERS)
        raise UnusableInput(
            "unknown-ending",
            f"{path} has no file type that can be written.",
            hint=f"Name a file with one of the endings {known}.",
        )
    rows, counts = 0, Counter[str]()
    findings: list[Finding] = []

    def write(temporary: Path) -> None:
        nonlocal rows
        given = iter(tables)
        first = next(given, schema.empty_table())
        plain = writer is _csv and not exact
        written = harmless(schema.empty_table(), Counter()).schema if plain else schema
        opened = partial(_csv, mark=codecs.BOM_UTF8) if writer is _csv and marked else writer
        with opened(temporary, written, first) as out:
            for table in chain((first,), given):
                rows += table.num_rows
                out.write_table(as_text(harmless(table, counts) if plain else table) if writer is _csv else table)
        findings.extend(getattr(out, "findings", lambda: ())())

    write_atomically(path, write)
    names = [name for name in schema.names if re.search(_RUN, name)] if writer is _csv and not exact else []
    told = [_made_harmless(name, found) for name, found in counts.items()]
    told += [Finding("made-harmless", f"The name {name} is written behind an apostrophe, since a spreadsheet would run it.", Place(name=name), severity="note") for name in names]  # fmt: skip
    return rows, (*told, *findings)


def _made_harmless(name: str, found: int) -> Finding:
    message = f"{found:,} text{'s' * (found != 1)} of {name} that a spreadsheet would run {'are' if found != 1 else 'is'} written behind an apostrophe."
    return Finding("made-harmless", message, Place(name=name), "For programs: --exact leaves them as they are.", "note")


def schema_of(shown: Sequence[Expression]) -> pa.Schema:
    """The columns of written rows."""
    return pa.schema([(expression.name, arrow_type(expression.checked.type)) for expression in shown])
