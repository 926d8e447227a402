"""Parquet files: row groups read by whoever asks for them, with what the file's footer says of each."""

from __future__ import annotations

import datetime as dt
import os
import threading
import weakref
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.engine.pushdown import Rest
from oak_ledger.formula.ranges import ONLY_NULL, Values
from oak_ledger.formula.types import TEXT, Type
from oak_ledger.formula.values import array_of, arrow_type, decoded, from_arrow_type, held
from oak_ledger.loops import chunks, loops
from oak_ledger.loops.memory import known_bits
from oak_ledger.loops.places import taken
from oak_ledger.origin.rows_of_text import BadRow
from oak_ledger.origin.tables import BATCH, counting, guarded, known, settled, unreadable


@dataclass(slots=True)
class ParquetFeed:
    """A Parquet file."""

    path: Path
    bad_rows: list[BadRow] = field(default_factory=list)
    last: tuple[tuple[int, ...], Any] | None = field(default=None, compare=False, repr=False)
    """The footer as it was last read, and of which file."""
    told: tuple[Any, dict[str, Type]] | None = field(default=None, compare=False, repr=False)
    """The columns, and which footer told of them."""

    def footer(self) -> Any:
        """What the file's end says of it; read again when the file is another."""
        import pyarrow.parquet as pq

        stamp: tuple[int, ...] = ()
        if self.path.is_file():
            told = self.path.stat()
            stamp = told.st_ino, told.st_size, told.st_mtime_ns
        if self.last is None or self.last[0] != stamp:
            self.last = stamp, guarded(pq.read_metadata, self.path)
        return self.last[1]

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        footer = self.footer()
        if self.told is None or self.told[0] is not footer:
            self.told = footer, known(footer.schema.to_arrow_schema())
        return {**self.told[1]}

    def rows(self) -> int:
        """How many rows there are."""
        return int(self.footer().num_rows)

    def notes(self) -> dict[str, str]:
        """What the file's writer noted in it, by name."""
        found = self.footer().metadata or {}
        return {name.decode(errors="replace"): text.decode(errors="replace") for name, text in found.items()}

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        for stretch in self.stretches(columns):
            yield from stretch()

    def stretches(self, columns: Sequence[str]) -> Iterator[Callable[[], Iterator[pa.RecordBatch]]]:
        """The row groups, or parts of them where these are few, each read by whoever asks for it; texts that repeat come as codes and a dictionary."""
        metadata = self.footer()
        kinds = {name: kind for name, kind in self.columns().items() if name in columns}
        if not columns:
            yield lambda: iter((counting(metadata.num_rows),))
            return
        coded = _repeating(metadata, [name for name, kind in kinds.items() if kind == TEXT])
        files = _Opened(self.path, metadata, kinds, coded)
        wanted = {name: arrow_type(kind) for name, kind in kinds.items()}
        for number in range(metadata.num_row_groups):
            rows = metadata.row_group(number).num_rows
            size = max(rows, 1)
            if metadata.num_row_groups < ENOUGH and files.passable(number, columns):
                size = max(PART, rows // ENOUGH // BATCH * BATCH)
            for begin in range(0, rows, size):
                yield RowGroup(files, number, list(columns), wanted, begin, min(size, rows - begin))

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


# A text column is read as codes where its values take up so few bytes: then they repeat (measured, not a rule of the format).
CODED_BYTES = 4.0
ENOUGH = 8  # row groups that several threads can share out as they are; of fewer, each is cut into as many parts
PART = 1 << 18  # of so many rows at least
FEW = 1 << 12  # different texts of a column that all row groups share


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


class _Shared:
    """The different texts of a column in all row groups so far, while they are few: what is known of them once need not be found again."""

    def __init__(self) -> None:
        self.numbers: dict[str, int] = {}
        self.values: Any = None
        self.lock = threading.Lock()

    def numbered(self, dictionary: Any) -> tuple[Any, Any] | None:
        """The dictionary of all, and the numbers in it of the texts of a row group's own; also where one stands twice there. None where they are many."""
        if not len(dictionary) or len(dictionary) > FEW:
            return None
        try:
            texts = dictionary.to_pylist()
        except UnicodeDecodeError:
            return None
        with self.lock:
            new = [at for at, text in enumerate(texts) if text not in self.numbers]
            if None in texts or len(self.numbers) + len(new) > FEW:
                return None
            for at in new:
                self.numbers.setdefault(texts[at], len(self.numbers))
            if new:
                first = {texts[at]: at for at in reversed(new)}
                more = dictionary.take(array_of(np.array(sorted(first.values()), np.int64)))
                self.values = more if self.values is None else pa.concat_arrays([self.values, more])
            return self.values, np.array([self.numbers[text] for text in texts], np.int32)


def _renumbered(column: Any, values: Any, numbers: Any) -> Any:
    """Codes and a dictionary by the numbers and the dictionary of all."""
    indices = column.indices
    if (numbers != np.arange(len(numbers))).any():
        if indices.null_count:  # what null holds may be anything
            codes = array_of(np.take(numbers, held(indices), mode="clip"))
        else:
            codes = taken(array_of(numbers), held(indices))
        known = known_bits(indices)
        indices = pa.Array.from_buffers(pa.int32(), len(indices), [known, codes.buffers()[1]], indices.null_count)
    return pa.DictionaryArray.from_arrays(indices, values, safe=False)


def _once(column: Any) -> Any:
    """The same, with each text once in the dictionary."""
    if not pa.types.is_dictionary(column.type) or len(column.dictionary.unique()) == len(column.dictionary):
        return column
    return decoded(column).dictionary_encode()


_ENCODINGS = {"PLAIN", "PLAIN_DICTIONARY", "RLE", "RLE_DICTIONARY", "BIT_PACKED"}
_UNITS = {"ms": '"milliseconds"', "us": '"microseconds"', "ns": '"nanoseconds"'}


def _packed_as_known(chunk: Any) -> bool:
    return chunk.compression in chunks.CODECS


class _Opened:
    """The file, opened: for the loop that reads its bytes, and once by each thread for Arrow's reader."""

    def __init__(self, path: Path, metadata: Any, wanted: Iterable[str], coded: Sequence[str]) -> None:
        self.path, self.metadata, self.coded = path, metadata, list(coded)
        schema = metadata.schema.to_arrow_schema()
        paths = {metadata.schema.column(at).path: at for at in range(metadata.num_columns)}
        self.places = {one.name: paths[one.name] for one in schema if one.name in paths}
        self.schema = schema
        readable = loops() is not None and hasattr(os, "pread")  # without which the loop is not able to read
        forms = {name: self._form(name, schema.field(name).type) for name in wanted} if readable else {}
        self.forms = {name: form for name, form in forms.items() if form is not None}
        self.optional = {
            name for name in self.forms if metadata.schema.column(self.places[name]).max_definition_level > 0
        }
        self.bytes = -1
        if self.forms:
            self.bytes = guarded(lambda name: os.open(name, os.O_RDONLY | getattr(os, "O_BINARY", 0)), path)
            weakref.finalize(self, os.close, self.bytes)
        self.held = threading.local()
        self.shared = {name: _Shared() for name in coded}

    def _form(self, name: str, kind: Any) -> chunks.Form | None:
        """How the loop reads a column, if it is one value a row, of a type that it knows, written as it is read."""
        if name not in self.places:
            return None
        column = self.metadata.schema.column(self.places[name])
        if column.max_repetition_level > 0 or column.max_definition_level > 1:
            return None
        if pa.types.is_timestamp(kind) and _UNITS.get(kind.unit, "?") not in column.logical_type.to_json():
            return None
        return chunks.form_of(kind, column.physical_type, column.length)

    def chunks_of(self, number: int, names: Sequence[str]) -> chunks.Chunks:
        """The columns of a row group that the loop may be able to read."""
        group, wanted = self.metadata.row_group(number), []
        for name in names:
            if name in self.forms:
                place = self.places[name]
                chunk = group.column(place)
                begin, after = chunk.dictionary_page_offset, chunk.data_page_offset
                if _packed_as_known(chunk) and chunk.num_values == group.num_rows:
                    wanted.append(
                        chunks.Chunk(
                            name, self.forms[name], after if begin is None else min(begin, after),
                            chunk.total_compressed_size, chunk.total_uncompressed_size, group.num_rows,
                            name in self.optional, chunks.CODECS[chunk.compression], name in self.coded,
                        )
                    )  # fmt: skip
        return chunks.Chunks(self.bytes, wanted)

    def passable(self, number: int, names: Sequence[str]) -> bool:
        """Whether the loop reads all of these columns: it passes over rows without unpacking them."""
        group = self.metadata.row_group(number)
        return all(
            name in self.forms
            and _packed_as_known(group.column(self.places[name]))
            and _ENCODINGS.issuperset(group.column(self.places[name]).encodings)
            for name in names
        )

    def file(self) -> Any:
        """This thread's."""
        import pyarrow.parquet as pq

        if not hasattr(self.held, "file"):
            self.held.file = pq.ParquetFile(self.path, metadata=self.metadata, read_dictionary=self.coded or None)
        return self.held.file


class _ByArrow:
    """Columns of a row group as Arrow's reader gives them, some rows after the other."""

    def __init__(self, files: _Opened, number: int, names: Sequence[str], behind: int) -> None:
        self.files, self.behind = files, behind
        self.given = files.file().iter_batches(BATCH, row_groups=[number], columns=list(names), use_threads=False)
        self.left: Any = None  # of a batch, the rows that are not yet read

    def read(self, rows: int) -> dict[str, Any]:
        """The next rows."""
        pieces: list[Any] = []
        while rows or self.behind:
            if self.left is None or not self.left.num_rows:
                try:
                    self.left = next(self.given)
                except (pa.ArrowInvalid, OSError) as error:
                    raise unreadable(self.files.path, error) from error
                except StopIteration:
                    raise unreadable(self.files.path, EOFError("it has fewer rows than it says")) from None
            passed = min(self.behind, self.left.num_rows)
            piece = self.left.slice(passed, rows if passed == self.behind else 0)
            self.left = self.left.slice(passed + piece.num_rows)
            self.behind -= passed
            rows -= piece.num_rows
            if piece.num_rows:
                pieces.append(piece)
        table = pa.Table.from_batches(pieces).combine_chunks()
        return dict(zip(table.column_names, table.columns, strict=True))


class _Columns:
    """Columns of a row group, some rows after the other: what the loop reads, and the rest as Arrow's reader does."""

    def __init__(self, group: RowGroup, names: Sequence[str]) -> None:
        self.files, self.number, self.wanted, self.names = group.files, group.number, group.kinds, names
        self.chunks = self.files.chunks_of(self.number, names)
        self.done = 0
        self.by_arrow: dict[tuple[str, ...], _ByArrow] = {}
        self.numbered: dict[str, tuple[Any, Any]] = {}

    def pass_over(self, rows: int) -> None:
        """Leave out the next rows."""
        self.chunks.pass_over(rows)
        self.done += rows
        for one in self.by_arrow.values():
            one.behind += rows

    def read(self, rows: int, picked: Any = None) -> pa.RecordBatch:
        """The next rows, or those of them that are picked, as the language holds values."""
        made = self.chunks.read(rows, picked)
        finite = {name for name, values in made.items() if values.finite}
        columns = {name: values.array for name, values in made.items()}
        known = {name for names in self.by_arrow for name in names}
        rest = tuple(name for name in self.names if name not in made and name not in known)
        if rest:
            self.by_arrow[rest] = _ByArrow(self.files, self.number, rest, self.done)
        for one in self.by_arrow.values():
            found = {name: _whole(column) for name, column in one.read(rows).items()}
            columns |= found if picked is None else {name: taken(column, picked) for name, column in found.items()}
        self.done += rows
        columns |= {name: self._told(name, columns[name]) for name in self.names if name in self.files.shared}
        arrays = [settled(columns[name], self.wanted[name], finite=name in finite) for name in self.names]
        return pa.RecordBatch.from_arrays(arrays, names=list(self.names))

    def _told(self, name: str, column: Any) -> Any:
        """Codes and a dictionary by those of all row groups, where the texts are few."""
        if not pa.types.is_dictionary(column.type):
            return column
        own, last = column.dictionary, self.numbered.get(name)
        if last is None or last[0].buffers()[2] != own.buffers()[2] or len(last[0]) != len(own):
            last = self.numbered[name] = own, self.files.shared[name].numbered(own)
        return _once(column) if last[1] is None else _renumbered(column, *last[1])


def _whole(column: Any) -> Any:
    """A column as one array."""
    return column.combine_chunks() if column.num_chunks != 1 else column.chunk(0)


@dataclass(frozen=True, slots=True)
class RowGroup:
    """Rows of one of a Parquet file's row groups: read when it is called; what the file's footer says of them is known before."""

    files: _Opened
    number: int
    names: Sequence[str]
    kinds: Mapping[str, Any]
    """Arrow's type of each, as the language has it."""
    begin: int
    """The first one's number in the row group."""
    rows: int

    def __call__(self) -> Iterator[pa.RecordBatch]:
        """The rows."""
        for batch, _ in self.parts(self.names, BATCH):
            yield batch

    def parts(self, first: Sequence[str], rows: int) -> Iterator[tuple[pa.RecordBatch, Rest]]:
        """At most so many rows at a time: some of the columns, and what reads the others, of all these rows or of those picked.

        What is not asked for before the next rows are is not read.
        """
        now = _Columns(self, [name for name in self.names if name in first])
        later = _Columns(self, [name for name in self.names if name not in first])
        end = self.begin + self.rows
        if self.begin:
            now.pass_over(self.begin)
            later.pass_over(self.begin)
        try:
            for begin in range(self.begin, end, rows):
                size = min(rows, end - begin)
                yield now.read(size), partial(later.read, size)
                if later.done == begin:
                    later.pass_over(size)
        finally:
            now.chunks.close()
            later.chunks.close()

    def values_of(self, column: str) -> Values | None:
        """Among which values a column's lie, where the footer says it in a type that compares as the language does."""
        group = self.files.metadata.row_group(self.number)
        if column not in self.files.places or not _comparable(self.files.schema.field(column).type):
            return None
        said = group.column(self.files.places[column]).statistics
        if said is None or not said.has_null_count:
            return None
        if said.null_count == group.num_rows:
            return ONLY_NULL
        if not said.has_min_max or not isinstance(said.min, (int, float, str, Decimal, dt.date)):
            return None
        return Values(((said.min, 0), (said.max, 1)), null=said.null_count > 0 or isinstance(said.min, float))
