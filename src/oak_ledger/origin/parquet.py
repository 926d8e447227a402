"""Parquet files by Arrow's reader: row groups read by whoever asks for them, with what the file's footer says of each."""

from __future__ import annotations

import datetime as dt
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from decimal import Decimal
from functools import partial
from itertools import accumulate
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type, from_arrow_type
from oak_ledger.engine.options import options
from oak_ledger.formula.ranges import ONLY_NULL, IntervalSet
from oak_ledger.origin.reader import BATCH_ROWS, BadRow, TypedReader, opening, row_count_batch, schema_of, unreadable

# A text column is read as codes where its values take up so few bytes: then they repeat (measured, not a rule of the format).
MAX_DICTIONARY_BYTES_A_VALUE = 4.0


@dataclass(slots=True)
class ParquetReader(TypedReader):
    """A Parquet file."""

    path: Path
    checked: bool = False
    """Whether pages carry checksums that are to be verified."""
    bad_rows: list[BadRow] = field(default_factory=list)
    cut: set[str] = field(default_factory=set)
    garbled: dict[str, set[int]] = field(default_factory=dict)
    last: tuple[tuple[int, ...], Any] | None = field(default=None, compare=False, repr=False)
    """The footer as it was last read, and of which file."""

    def footer(self) -> Any:
        """What the file's end says of it; read again when the file is another."""
        import pyarrow.parquet as pq

        stamp: tuple[int, ...] = ()
        with suppress(OSError):  # then opening it says why
            state = self.path.stat()
            stamp = state.st_ino, state.st_size, state.st_mtime_ns
        if self.last is None or self.last[0] != stamp:
            self.last = stamp, opening(pq.read_metadata, self.path)
        return self.last[1]

    def schema(self) -> pa.Schema:
        """The file's."""
        return schema_of(lambda _: self.footer().schema.to_arrow_schema(), self.path)

    def rows(self) -> int:
        """How many rows there are."""
        return int(self.footer().num_rows)

    def metadata(self) -> dict[str, str]:
        """What the file's writer noted in it, by name."""
        found = self.footer().metadata or {}
        return {name.decode(errors="replace"): text.decode(errors="replace") for name, text in found.items()}

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        for fragment in self.fragments(columns):
            yield from fragment()

    def fragments(self, columns: Sequence[str]) -> Iterator[Callable[[], Iterator[pa.RecordBatch]]]:
        """The row groups, each read by whoever asks for it; of fewer than there are threads, the batches, read here. Texts that repeat come in codes."""
        footer = self.footer()
        kinds = {name: kind for name, kind in self.columns().items() if name in columns}
        file = _OpenFile(self, footer, {name: arrow_type(kinds[name]) for name in columns})
        sizes = [footer.row_group(number).num_rows for number in range(footer.num_row_groups)]
        starts = accumulate(sizes, initial=1)
        groups = [
            RowGroup(file, number, rows, first)
            for number, (rows, first) in enumerate(zip(sizes, starts, strict=False))
            if rows
        ]
        apart = len(groups) >= options().threads
        if apart and columns:
            yield from groups
            return
        for group in groups:  # cut alike whichever columns are read
            size = group.rows if apart else BATCH_ROWS
            counted = (row_count_batch(min(size, group.rows - at)) for at in range(0, group.rows, max(size, 1)))
            for batch in group.some(columns, threads=True) if columns else counted:
                yield partial(iter, (batch,))

    def locate(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


def _repeating(footer: Any, names: Sequence[str]) -> list[str]:
    """The text columns whose values repeat, by the sizes that the file states for its first row group."""
    if not footer.num_row_groups:
        return []
    group = footer.row_group(0)
    columns = {group.column(at).path_in_schema: group.column(at) for at in range(group.num_columns)}
    return [
        name
        for name in names
        if name in columns
        and columns[name].total_uncompressed_size < MAX_DICTIONARY_BYTES_A_VALUE * max(columns[name].num_values, 1)
        and any("DICTIONARY" in encoding for encoding in columns[name].encodings)
    ]


class _OpenFile:
    """The file, opened once by each thread, with the columns that are wanted and their types."""

    def __init__(self, reader: ParquetReader, footer: Any, kinds: Mapping[str, Any]) -> None:
        self.reader, self.footer, self.kinds = reader, footer, kinds
        schema = reader.schema()
        self.comparable = {one.name for one in schema if _comparable(one.type)}
        self.in_codes = _repeating(
            footer, [one.name for one in schema if one.name in kinds and pa.types.is_string(one.type)]
        )
        self.places = {footer.schema.column(at).path: at for at in range(footer.num_columns)}
        self.held = threading.local()

    def here(self) -> Any:
        """This thread's."""
        import pyarrow.parquet as pq

        if not hasattr(self.held, "file"):
            self.held.file = pq.ParquetFile(
                self.reader.path,
                metadata=self.footer,
                read_dictionary=self.in_codes or None,
                page_checksum_verification=self.reader.checked,
                coerce_int96_timestamp_unit="us",  # in nanoseconds, years after 2262 would wrap round
            )
        return self.held.file


def _comparable(kind: Any) -> bool:
    """Whether the least and largest that a file states for a column can be compared with constants."""
    if pa.types.is_timestamp(kind):
        return kind.tz is None and kind.unit != "ns"
    return not (pa.types.is_uint64(kind) or pa.types.is_time(kind)) and from_arrow_type(kind) is not None


@dataclass(frozen=True, slots=True)
class RowGroup:
    """One of a Parquet file's row groups: read when it is called; what the file's footer says of it is known before."""

    file: _OpenFile
    number: int
    rows: int
    first: int
    """The number of its first row in the file, counted from 1."""

    def __call__(self) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        return self.some(list(self.file.kinds))

    def some(self, names: Sequence[str], *, threads: bool = False) -> Iterator[pa.RecordBatch]:
        """The rows with some of the columns."""
        read = 0
        try:
            batches = self.file.here().iter_batches(
                BATCH_ROWS, row_groups=[self.number], columns=list(names), use_threads=threads
            )  # fmt: skip
            for batch in batches:
                yield self.file.reader.converted(
                    batch, {name: self.file.kinds[name] for name in names}, self.first + read
                )
                read += batch.num_rows
        except (pa.ArrowException, OSError) as error:
            raise unreadable(self.file.reader.path, error) from error
        if read != self.rows:
            raise unreadable(self.file.reader.path, EOFError(f"it says {self.rows:,} rows and has {read:,}"))

    def values_of(self, column: str) -> IntervalSet | None:
        """Among which values a column's are, where the footer says it in a type that compares as the language does."""
        if column not in self.file.comparable or column not in self.file.places:
            return None
        said = self.file.footer.row_group(self.number).column(self.file.places[column]).statistics
        if said is None or not said.has_null_count:
            return None
        if said.null_count == self.rows:
            return ONLY_NULL
        try:
            least, most = (said.min, said.max) if said.has_min_max else (None, None)
        except (OverflowError, ValueError):  # no date of the calendar, or no text: reading will say so
            return None
        if not isinstance(least, (int, float, str, Decimal, dt.date)):
            return None
        return IntervalSet(((least, 0), (most, 1)), null=said.null_count > 0 or isinstance(least, float))
