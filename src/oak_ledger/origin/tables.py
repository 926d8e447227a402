"""Feeds of data that has types of its own: tables in memory and Arrow files; and JSON lines, read as text."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.errors import UnusableInput
from oak_ledger.formula.library.operators import all_finite
from oak_ledger.formula.types import TEXT, Type
from oak_ledger.formula.values import arrow_type, from_arrow_type
from oak_ledger.origin.rows_of_text import BadRow

BATCH = 1 << 17


def counting(rows: int) -> pa.RecordBatch:
    """A batch that only says how many rows there are: what a question needs that reads no column."""
    return pa.RecordBatch.from_arrays([pa.nulls(rows)], names=["rows"])


def settled(values: Any, wanted: Any, *, finite: bool = False) -> Any:
    """A column in the Arrow type that the language uses; texts may stay codes and a dictionary. NaN and infinity, if it may have any, become null."""
    kind = values.type
    if kind == wanted and (finite or not pa.types.is_floating(kind)):
        return values
    if pa.types.is_dictionary(kind):
        if pa.types.is_string(kind.value_type) and wanted == kind.value_type:
            return values
        values = values.dictionary_decode()
    if not finite and pa.types.is_floating(values.type) and not all_finite(values):
        values = pc.if_else(pc.is_finite(values), values, pa.scalar(None, values.type))
    return values if values.type == wanted else values.cast(wanted, safe=False)


def _batch(batch: pa.RecordBatch, kinds: Mapping[str, Type]) -> pa.RecordBatch:
    """The batch with its columns in the types that the language uses."""
    names = batch.schema.names
    columns = [settled(column, arrow_type(kinds[name])) for name, column in zip(names, batch.columns, strict=True)]
    return pa.RecordBatch.from_arrays(columns, names=names)


def known(schema: pa.Schema) -> dict[str, Type]:
    """The columns whose type the language knows."""
    kinds = ((one.name, from_arrow_type(one.type)) for one in schema)
    return {name: kind for name, kind in kinds if kind is not None}


@dataclass(slots=True)
class TableFeed:
    """An Arrow table in memory."""

    table: pa.Table
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        return known(self.table.schema)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        if not columns:
            yield counting(self.table.num_rows)
            return
        kinds = self.columns()
        for batch in self.table.select(list(columns)).to_batches(max_chunksize=BATCH):
            yield _batch(batch, kinds)

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


@dataclass(slots=True)
class ArrowFeed:
    """An Arrow file (also called Feather)."""

    path: Path
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        with guarded(pa.ipc.open_file, self.path) as file:
            return known(file.schema)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        kinds = self.columns()
        with guarded(pa.ipc.open_file, self.path) as file:
            for at in range(file.num_record_batches):
                batch = file.get_batch(at)
                yield _batch(batch.select(list(columns)), kinds) if columns else counting(batch.num_rows)

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


def guarded(read: Callable[[Any], Any], path: Path) -> Any:
    """What reading a file's beginning gives; what goes wrong is told in our words."""
    if not path.is_file():
        raise UnusableInput("no-file", f"There is no file {path}.", hint="Check the path and the spelling.")
    try:
        return read(str(path))
    except (pa.ArrowInvalid, OSError) as error:
        raise unreadable(path, error) from error


def unreadable(path: Path, error: Exception) -> UnusableInput:
    """The error that says that a file is not what its name says."""
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
