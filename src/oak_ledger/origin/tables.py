"""Feeds of data that has types of its own: tables in memory, Parquet, Arrow files; and JSON lines, read as text."""

from __future__ import annotations

import datetime as dt
import json
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.errors import UnusableInput
from oak_ledger.formula.library.operators import all_finite
from oak_ledger.formula.ranges import ONLY_NULL, Values
from oak_ledger.formula.types import TEXT, Type
from oak_ledger.formula.values import arrow_type, from_arrow_type
from oak_ledger.origin.rows_of_text import BadRow

BATCH = 1 << 17


def counting(rows: int) -> pa.RecordBatch:
    """A batch that only says how many rows there are: what a question needs that reads no column."""
    return pa.RecordBatch.from_arrays([pa.nulls(rows)], names=["rows"])


def settled(batch: pa.RecordBatch, kinds: Mapping[str, Type]) -> pa.RecordBatch:
    """The batch with each column in the Arrow type that the language uses; NaN and infinity become null."""
    columns = [
        _settled(column, arrow_type(kinds[name]))
        for name, column in zip(batch.schema.names, batch.columns, strict=True)
    ]
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


def _settled(values: Any, wanted: Any) -> Any:
    """A column in the type wanted; texts may stay codes and a dictionary."""
    if pa.types.is_dictionary(values.type):
        if pa.types.is_string(values.type.value_type) and wanted == values.type.value_type:
            return values
        values = values.dictionary_decode()
    if pa.types.is_floating(values.type) and not all_finite(values):
        values = pc.if_else(pc.is_finite(values), values, pa.scalar(None, values.type))
    return values if values.type == wanted else values.cast(wanted, safe=False)


def _known(schema: pa.Schema) -> dict[str, Type]:
    kinds = ((one.name, from_arrow_type(one.type)) for one in schema)
    return {name: kind for name, kind in kinds if kind is not None}


@dataclass(slots=True)
class TableFeed:
    """An Arrow table in memory."""

    table: pa.Table
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        return _known(self.table.schema)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        if not columns:
            yield counting(self.table.num_rows)
            return
        kinds = self.columns()
        for batch in self.table.select(list(columns)).to_batches(max_chunksize=BATCH):
            yield settled(batch, kinds)

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


@dataclass(slots=True)
class ParquetFeed:
    """A Parquet file."""

    path: Path
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        import pyarrow.parquet as pq

        return _known(_guarded(pq.read_schema, self.path))

    def rows(self) -> int:
        """How many rows there are."""
        import pyarrow.parquet as pq

        return int(_guarded(pq.read_metadata, self.path).num_rows)

    def notes(self) -> dict[str, str]:
        """What the file's writer noted in it, by name."""
        import pyarrow.parquet as pq

        found = _guarded(pq.read_metadata, self.path).metadata or {}
        return {name.decode(errors="replace"): text.decode(errors="replace") for name, text in found.items()}

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        for stretch in self.stretches(columns):
            yield from stretch()

    def stretches(self, columns: Sequence[str]) -> Iterator[Callable[[], Iterator[pa.RecordBatch]]]:
        """The row groups, each read by whoever asks for it; texts that repeat come as codes and a dictionary."""
        import pyarrow.parquet as pq

        with _guarded(pq.ParquetFile, self.path) as file:
            metadata = file.metadata
            kinds = {name: kind for name, kind in _known(file.schema_arrow).items() if name in columns}
        if not columns:
            yield lambda: iter((counting(metadata.num_rows),))
            return
        coded = _repeating(metadata, [name for name, kind in kinds.items() if kind == TEXT])
        files = _FilesByThread(self.path, metadata, coded)
        for number in range(metadata.num_row_groups):
            yield RowGroup(files, number, list(columns), kinds)

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


# A text column is read as codes where its values take up so few bytes: then they repeat (measured, not a rule of the format).
CODED_BYTES = 4.0


def _repeating(metadata: Any, names: Sequence[str]) -> list[str]:
    """The text columns whose values repeat, by the sizes that the file tells of its first row groups."""
    if not metadata.num_row_groups:
        return []
    group = metadata.row_group(0)
    columns = {group.column(at).path_in_schema: group.column(at) for at in range(group.num_columns)}
    return [
        name
        for name in names
        if name in columns
        and columns[name].total_uncompressed_size < CODED_BYTES * max(columns[name].num_values, 1)
        and any("DICTIONARY" in encoding for encoding in columns[name].encodings)
    ]


def _comparable(kind: Any) -> bool:
    """Whether the least and largest that a file tells of a column can be compared with constants."""
    if pa.types.is_timestamp(kind):
        return kind.tz is None and kind.unit != "ns"
    return not pa.types.is_uint64(kind) and from_arrow_type(kind) is not None


class _FilesByThread:
    """The file opened once by each thread that reads it."""

    def __init__(self, path: Path, metadata: Any, coded: Sequence[str]) -> None:
        self.path, self.metadata, self.coded = path, metadata, list(coded)
        schema = metadata.schema.to_arrow_schema()
        paths = {metadata.schema.column(at).path: at for at in range(metadata.num_columns)}
        self.places = {one.name: paths[one.name] for one in schema if one.name in paths and _comparable(one.type)}
        self.held = threading.local()

    def file(self) -> Any:
        """This thread's."""
        import pyarrow.parquet as pq

        if not hasattr(self.held, "file"):
            self.held.file = pq.ParquetFile(self.path, metadata=self.metadata, read_dictionary=self.coded or None)
        return self.held.file


@dataclass(frozen=True, slots=True)
class RowGroup:
    """Some of a Parquet file's rows: read when it is called; what the file's footer says of them is known before."""

    files: _FilesByThread
    number: int
    names: Sequence[str]
    kinds: Mapping[str, Type]

    def __call__(self) -> Iterator[pa.RecordBatch]:
        """The rows."""
        try:
            table = self.files.file().read_row_group(self.number, columns=list(self.names), use_threads=False)
        except (pa.ArrowInvalid, OSError) as error:
            raise _unreadable(self.files.path, error) from error
        for batch in table.select(list(self.names)).combine_chunks().to_batches(max_chunksize=BATCH):
            yield settled(batch, self.kinds)

    @property
    def rows(self) -> int:
        """How many there are."""
        return int(self.files.metadata.row_group(self.number).num_rows)

    def values_of(self, column: str) -> Values | None:
        """Among which values a column's lie, where the footer says it in a type that compares as the language does."""
        group = self.files.metadata.row_group(self.number)
        place = self.files.places.get(column)
        if place is None:
            return None
        said = group.column(place).statistics
        if said is None or not said.has_null_count:
            return None
        if said.null_count == group.num_rows:
            return ONLY_NULL
        if not said.has_min_max or not isinstance(said.min, (int, float, str, Decimal, dt.date)):
            return None
        return Values(((said.min, 0), (said.max, 1)), null=said.null_count > 0 or isinstance(said.min, float))


@dataclass(slots=True)
class ArrowFeed:
    """An Arrow file (also called Feather)."""

    path: Path
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        with _guarded(pa.ipc.open_file, self.path) as file:
            return _known(file.schema)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        kinds = self.columns()
        with _guarded(pa.ipc.open_file, self.path) as file:
            for at in range(file.num_record_batches):
                batch = file.get_batch(at)
                yield settled(batch.select(list(columns)), kinds) if columns else counting(batch.num_rows)

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


def _guarded(read: Callable[[Any], Any], path: Path) -> Any:
    if not path.is_file():
        raise UnusableInput("no-file", f"There is no file {path}.", hint="Check the path and the spelling.")
    try:
        return read(str(path))
    except (pa.ArrowInvalid, OSError) as error:
        raise _unreadable(path, error) from error


def _unreadable(path: Path, error: Exception) -> UnusableInput:
    message = f"{path} cannot be read as it is named: {str(error).splitlines()[0]}"
    return UnusableInput("unreadable", message, hint="Look whether the file is whole, and of this kind.")


@dataclass(slots=True)
class JsonLinesFeed:
    """JSON lines: one object a line. Values come as text, so that types are judged as for any text."""

    path: Path
    bad: str = "stop"
    bad_rows: list[BadRow] = field(default_factory=list)
    names: dict[str, Type] = field(default_factory=dict)

    def columns(self) -> dict[str, Type]:
        """The keys of all objects, in the order in which they first occur."""
        if not self.names:
            for _, item in self._objects():
                self.names |= dict.fromkeys(item, TEXT)
            self.bad_rows.clear()
        return self.names

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows; a key that an object does not have is null."""
        kept: list[dict[str, Any]] = []
        for _, item in self._objects():
            kept.append(item)
            if len(kept) == BATCH:
                yield self._batch(kept, columns)
                kept = []
        if kept:
            yield self._batch(kept, columns)

    def _batch(self, items: list[dict[str, Any]], columns: Sequence[str]) -> pa.RecordBatch:
        if not columns:
            return counting(len(items))
        arrays = [pa.array([_json_text(item.get(name)) for item in items], pa.string()) for name in columns]
        return pa.RecordBatch.from_arrays(arrays, names=list(columns))

    def _objects(self) -> Iterator[tuple[int, dict[str, Any]]]:
        if not self.path.is_file():
            raise UnusableInput("no-file", f"There is no file {self.path}.", hint="Check the path and the spelling.")
        with self.path.open("rb") as file:
            for number, line in enumerate(file, 1):
                if not line.strip():
                    continue
                try:
                    item = json.loads(line)
                    why = "" if isinstance(item, dict) else "it is no object"
                except (ValueError, RecursionError) as error:
                    item, why = None, f"it is no JSON: {error}"
                if not why:
                    yield number, item
                    continue
                shown = line[:80].decode("utf-8", "replace").strip()
                if self.bad != "drop":
                    hint = "Correct the line, or leave such lines out: --bad-rows drop."
                    raise UnusableInput("bad-row", f"{self.path.name}, line {number}: {why}: {shown}", hint=hint)
                self.bad_rows.append(BadRow(self.path.name, number, why, shown, kept=False))

    def place(self, row: int) -> str:
        """The row in the file."""
        return f"{self.path.name} row {row:,}"


def _json_text(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    return json.dumps(value, ensure_ascii=False)
