"""What every reader of an origin offers, and what readers of typed data share."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import all_finite, from_arrow_type, to_mask
from oak_ledger.columnar.calendar import DAY_MICROSECONDS, FIRST_DAY, LAST_DAY
from oak_ledger.errors import Place, UnusableInput
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


def shapes_of(named: Sequence[tuple[Path, Sequence[str]]]) -> list[tuple[Path, list[str], list[str]]]:
    """Files whose names of columns differ from the first one's: the path, what is missing, what is there in addition."""
    first = named[0][1]
    found = [
        (path, [one for one in first if one not in names], [name for name in names if name not in first])
        for path, names in named[1:]
    ]
    return [one for one in found if one[1] or one[2]]


def row_count_batch(rows: int) -> pa.RecordBatch:
    """A batch that only says how many rows there are: what a question needs that reads no column."""
    return pa.RecordBatch.from_arrays([pa.nulls(rows)], names=["rows"])


class TypedReader:
    """A reader of columns that have Arrow types: those whose values the language holds are read, the others named."""

    cut: set[str]
    """Columns with times finer than a microsecond, found while reading; what is finer was cut off."""
    garbled: dict[str, set[int]]
    """The rows, counted from 1, in which a column has a text that is not UTF-8; it is read as null."""

    def schema(self) -> pa.Schema:
        """The columns with their Arrow types."""
        raise NotImplementedError

    def columns(self) -> dict[str, Type]:
        """The columns that are read, with the types that the language has for them."""
        refused = self.refused_columns()
        kinds = {one.name: from_arrow_type(one.type) for one in self.schema()}
        return {name: kind for name, kind in kinds.items() if kind is not None and name not in refused}

    def refused_columns(self) -> dict[str, str]:
        """The columns that are not read, and why."""
        schema = self.schema()
        times = Counter(schema.names)
        refused = {one.name: f"is of the type {one.type}" for one in schema if from_arrow_type(one.type) is None}
        return refused | {name: f"is there {count} times" for name, count in times.items() if count > 1}

    def converted(self, batch: pa.RecordBatch, kinds: Mapping[str, Any], first: int) -> pa.RecordBatch:
        """The columns of a batch that are wanted, in their Arrow types. `first` is the number of its first row, for the error where a value has no place there."""
        columns = [self._converted(name, batch.column(name), kind, first) for name, kind in kinds.items()]
        return pa.RecordBatch.from_arrays(columns, names=list(kinds))

    def _converted(self, name: str, values: Any, wanted: Any, first: int) -> Any:
        try:
            if wanted == pa.string():
                values, wrong = _utf8(values)
                if wrong:
                    self.garbled.setdefault(name, set()).update(first + at for at in wrong)
            if not pa.types.is_timestamp(values.type) or values.type.unit != "ns":
                return normalized(values, wanted)
            try:
                return values.cast(wanted)
            except pa.ArrowInvalid:
                self.cut.add(name)  # (in nanoseconds no moment is outside the calendar)
                return pc.floor_temporal(values, unit="microsecond").cast(wanted)
        except (pa.ArrowException, ValueError) as error:
            rows = f"rows {first:,} to {first + len(values) - 1:,}"
            message = f"The column {name} cannot be read in {rows}: {str(error).splitlines()[0].rstrip('.')}."
            hint = "Mend the value where the file is made, or leave the column out."
            raise UnusableInput("unreadable-value", message, hint=hint, place=Place(name=name)) from error


def _utf8(values: Any) -> tuple[Any, list[int]]:
    """Texts with null where one is not UTF-8, and where that is; as they are where all of them are. Raises pa.ArrowInvalid where they are damaged."""
    if pa.types.is_dictionary(values.type):
        fixed, wrong = _utf8(values.dictionary)
        if not wrong:
            return values, []
        plain = pa.DictionaryArray.from_arrays(values.indices, fixed).dictionary_decode()
        return plain, np.flatnonzero(to_mask(pc.is_in(values.indices, value_set=pa.array(wrong, values.indices.type)))).tolist()  # fmt: skip
    if not (pa.types.is_string(values.type) or pa.types.is_large_string(values.type)):
        return values, []
    try:
        values.validate(full=True)
        return values, []
    except pa.ArrowInvalid:
        raw = values.view(pa.binary() if pa.types.is_string(values.type) else pa.large_binary())
        raw.validate(full=True)  # only its letters may be wrong
    wrong, texts = [], []
    for at, one in enumerate(raw.to_pylist()):
        try:
            texts.append(None if one is None else one.decode())
        except UnicodeDecodeError:
            texts.append(None)
            wrong.append(at)
    return pa.array(texts, pa.string()), wrong


def normalized(values: Any, wanted: Any) -> Any:
    """A column in the Arrow type that the language uses; texts may stay codes and a dictionary. NaN and infinity, if it may have any, become null.

    Raises pa.ArrowInvalid where a value has no place in that type, or a text is not UTF-8.
    """
    kind = values.type
    if kind == wanted and not pa.types.is_floating(kind) and not pa.types.is_temporal(kind):
        if pa.types.is_string(kind):
            values.validate(full=True)
        return values
    if pa.types.is_dictionary(kind):
        values.validate(full=True)
        if pa.types.is_string(kind.value_type) and wanted == kind.value_type:
            values.dictionary.validate(full=True)
            return values
        values = values.dictionary_decode()
    if pa.types.is_floating(values.type):
        values = values.cast(pa.float64())
        if not all_finite(values):
            values = pc.if_else(pc.is_finite(values), values, pa.scalar(None, values.type))
    if pa.types.is_decimal128(values.type) and pa.types.is_decimal128(wanted) and values.type.scale == wanted.scale:
        return pa.Array.from_buffers(wanted, len(values), values.buffers(), values.null_count, values.offset)
    if wanted == pa.string() and not pa.types.is_null(kind):
        values.validate(full=True)
    values = values if values.type == wanted else values.cast(wanted)
    if pa.types.is_temporal(wanted):
        _in_calendar(values)
    return values


def _in_calendar(values: Any) -> None:
    """Refuse dates and moments outside the years 1 to 9999, which neither Python nor the calendar's functions have."""
    what, unit = ("days", 1) if pa.types.is_date32(values.type) else ("microseconds", DAY_MICROSECONDS)
    ends = pc.min_max(values)
    for end in (ends["min"], ends["max"]):
        if end.is_valid and not FIRST_DAY * unit <= end.value < (LAST_DAY + 1) * unit:
            raise pa.ArrowInvalid(f"{end.value} {what} from 1970 on are outside the years 1 to 9999")


def schema_of(read: Callable[[str], pa.Schema], path: Path) -> pa.Schema:
    """A file's columns with their Arrow types; refused where it is damaged."""

    def read_schema(name: str) -> pa.Schema:
        schema = read(name)
        str(schema.names)  # a name that is not UTF-8 shows only here
        return schema

    return opening(read_schema, path)


def opening(read: Callable[[Any], Any], path: Path) -> Any:
    """What reading a file's beginning gives; what goes wrong is reported in our words."""
    if not path.is_file():
        raise UnusableInput("no-file", f"There is no file {path}.", hint="Check the path and the spelling.")
    try:
        return read(str(path))
    except (pa.ArrowException, OSError, ValueError) as error:
        raise unreadable(path, error) from error


def unreadable(path: Path, error: Exception) -> UnusableInput:
    """The error that says that a file is not what its name says."""
    message = f"{path} cannot be read as it is named: {str(error).splitlines()[0]}"
    return UnusableInput("unreadable", message, hint="Check whether the file is whole, and of this kind.")
