"""What every reader of an origin offers, and what readers of typed data share."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import all_finite, arrow_type, from_arrow_type
from oak_ledger.errors import UnusableInput
from oak_ledger.types import Type

BATCH_ROWS = 1 << 17
Progress = Callable[[int], None]


@dataclass(frozen=True, slots=True)
class BadRow:
    """A row that is not as it should be: its file, its line, why, what it says, and whether it was kept."""

    file: str
    line: int
    why: str
    text: str
    kept: bool


class OriginReader(Protocol):
    """An origin that can be read. `bad_rows` holds what was dropped or mended in the last reading."""

    bad_rows: list[BadRow]

    def columns(self) -> dict[str, Type]:
        """The columns that are there now, with the types they arrive in."""

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows in order, with these columns."""

    def locate(self, row: int) -> str:
        """Where a row (counted from 1) is, in words; empty where there is nothing better than its number."""


def row_count_batch(rows: int) -> pa.RecordBatch:
    """A batch that only says how many rows there are: what a question needs that reads no column."""
    return pa.RecordBatch.from_arrays([pa.nulls(rows)], names=["rows"])


def normalized(values: Any, wanted: Any, *, finite: bool = False) -> Any:
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
    if pa.types.is_decimal128(values.type) and pa.types.is_decimal128(wanted) and values.type.scale == wanted.scale:
        return pa.Array.from_buffers(wanted, len(values), values.buffers(), values.null_count, values.offset)
    return values if values.type == wanted else values.cast(wanted, safe=False)


def normalized_batch(batch: pa.RecordBatch, kinds: Mapping[str, Type]) -> pa.RecordBatch:
    """The batch with its columns in the types that the language uses."""
    names = batch.schema.names
    columns = [normalized(column, arrow_type(kinds[name])) for name, column in zip(names, batch.columns, strict=True)]
    return pa.RecordBatch.from_arrays(columns, names=names)


def supported_columns(schema: pa.Schema) -> dict[str, Type]:
    """The columns whose type the language knows."""
    kinds = ((one.name, from_arrow_type(one.type)) for one in schema)
    return {name: kind for name, kind in kinds if kind is not None}


def opening(read: Callable[[Any], Any], path: Path) -> Any:
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
