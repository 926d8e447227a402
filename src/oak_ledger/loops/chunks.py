"""Columns of a Parquet file's row group, as Arrow arrays, some rows after the other; what the loop does not know is left to Arrow's own reader."""

from __future__ import annotations

import ctypes
import threading
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.loops import UNPACK, loops
from oak_ledger.loops.memory import place

_DONE, _CANNOT, _MORE_ROOM = range(3)
_TEXTS, _CODES, _BITS, _WIDE = 0, 1, 2, 16
_WIDTH, _CURSOR, _BEHIND, _OUT, _ROOM, _STATUS, _NULLS, _FINITE, _BYTES, _ENTRIES = 4, 10, 11, 12, 16, 17, 18, 19, 20, 21  # fmt: skip
"""Where what is asked of a column, and what came of it, stands among the words that the loop takes."""
_WORDS = 22
SLACK = 64  # bytes that the loop may write beyond the last
CODECS = {name: at for at, name in enumerate(("UNCOMPRESSED", "SNAPPY", "ZSTD", "GZIP", "BROTLI"))}
"""The ways of packing by their names in a file; those after the second are unpacked by Arrow."""


@dataclass(frozen=True, slots=True)
class Form:
    """How values of a column are written and read."""

    kind: Any
    """Arrow's type as which they are read."""
    width: int
    """The bytes of each; _TEXTS and _BITS are told apart."""
    each: int = 0
    """The bytes of each in the file, where it is a number."""
    turned: bool = False
    """Whether the highest of these comes first."""


def form_of(kind: Any, written: str, length: int) -> Form | None:
    """The form of values of one of Arrow's types, written as one of the format's, of so many bytes if these are fixed; None where the loop cannot read it."""
    if pa.types.is_dictionary(kind):
        kind = kind.value_type
    if pa.types.is_large_string(kind):
        kind = pa.string()
    if kind.id in _SMALL:
        kind = pa.int32()
    if written in ("BYTE_ARRAY", "BOOLEAN"):
        read = pa.string() if written == "BYTE_ARRAY" else pa.bool_()
        return Form(kind, _TEXTS if written == "BYTE_ARRAY" else _BITS) if kind == read else None
    each = _FIXED.get(written, length)
    if pa.types.is_decimal128(kind):
        return Form(kind, _WIDE, each, written not in _FIXED) if 0 < each <= _WIDE and written != "INT96" else None
    width, only = _WIDTHS.get(kind.id, (0, ""))
    return Form(kind, width, each) if only == written else None


_FIXED = {"INT32": 4, "INT64": 8, "FLOAT": 4, "DOUBLE": 8}
_SMALL = {kind.id for kind in (pa.int8(), pa.int16(), pa.uint8(), pa.uint16())}
_WIDTHS = {
    pa.int32().id: (4, "INT32"), pa.uint32().id: (4, "INT32"), pa.date32().id: (4, "INT32"), pa.int64().id: (8, "INT64"),
    pa.timestamp("us").id: (8, "INT64"), pa.float32().id: (4, "FLOAT"), pa.float64().id: (8, "DOUBLE"),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Chunk:
    """One column of one row group: where its bytes lie in the file, and what they are."""

    name: str
    form: Form
    offset: int
    size: int
    raw: int
    """How many bytes it is when unpacked."""
    rows: int
    optional: bool
    codec: int
    coded: bool = False
    """Whether texts are wanted as codes and a dictionary."""

    def told(self) -> list[int]:
        """The words that the loop takes, without those that are told each time."""
        kind, each = self.form.kind, self.form.each
        width = _CODES if self.coded and self.form.width == _TEXTS else self.form.width
        made = [
            self.offset, self.size, self.raw, self.rows, width, each, self.form.turned, pa.types.is_floating(kind),
            self.optional, self.codec,
        ]  # fmt: skip
        return [*map(int, made), *[0] * (_WORDS - len(made))]

    @property
    def nothing(self) -> Any:
        """No value at all."""
        nothing = pa.array([], self.form.kind)
        return nothing.dictionary_encode() if self.coded else nothing


@dataclass(frozen=True, slots=True)
class Values:
    """The values of a chunk, and whether it is known that none of them is infinite or NaN."""

    array: Any
    finite: bool


_held = threading.local()


def _by_arrow(codec: int, packed: int, size: int, out: int, want: int) -> int:
    """Unpack by Arrow, for the loop."""
    try:
        if not hasattr(_held, "codecs"):  # they are not for several threads at a time
            _held.codecs = {}
        if codec not in _held.codecs:
            _held.codecs[codec] = pa.Codec([*CODECS][codec].lower())
        made = _held.codecs[codec].decompress(pa.foreign_buffer(packed, size), want)
        ctypes.memmove(out, made.address, want)
    except (pa.ArrowException, OSError, ValueError, MemoryError):
        return 0
    return 1


_NOTHING = pa.nulls(0, pa.string())
_unpack = UNPACK(_by_arrow)


class Chunks:
    """Chunks of an open file that are read together, some rows after the other."""

    def __init__(self, file: int, chunks: Sequence[Chunk]) -> None:
        self.loops: Any = loops()
        self.file, self.chunks = file, [*chunks] if self.loops is not None else []
        self.done = 0  # rows that were read or passed over
        self.told = [chunk.told() for chunk in self.chunks]
        self.texts: dict[str, Any] = {}  # the dictionaries of those that are wanted as codes

    def pass_over(self, rows: int) -> None:
        """Leave out the next rows."""
        for one in self.told:
            one[_BEHIND] += rows
        self.done += rows

    def read(self, rows: int, picked: Any = None) -> dict[str, Values]:
        """The next rows, or those of them that are picked (by their numbers from 0, rising), by the chunks' names.

        A chunk that cannot be read here is missing, now and from now on.
        """
        if not self.chunks:
            return {}
        size = rows if picked is None else len(picked)
        if not size:
            self.pass_over(rows)
            return {one.name: Values(one.nothing, finite=True) for one in self.chunks}
        made = {}
        try:
            rooms = [self._room(at, size) for at in range(len(self.chunks))]
            self._ask(rows, picked)
            for at, one in enumerate(self.told):
                if one[_STATUS] == _MORE_ROOM:  # it tells how much
                    rooms[at] = self._room(at, size, one[_BYTES])
                    one[_BEHIND] = self.done
                    self._ask(rows, picked, slice(at, at + 1))
            for chunk, one, room in zip(self.chunks, self.told, rooms, strict=True):
                if one[_STATUS] == _DONE:
                    made[chunk.name] = Values(self._array(chunk, one, room, size), bool(one[_FINITE]))
        except (MemoryError, pa.ArrowException):  # a broken file may tell of any size
            made = {}
        self.done += rows
        if len(made) < len(self.chunks):
            gone = [at for at, chunk in enumerate(self.chunks) if chunk.name not in made]
            self._leave(gone)
            self.told = [one for at, one in enumerate(self.told) if at not in gone]
            self.chunks = [one for at, one in enumerate(self.chunks) if at not in gone]
        return made

    def close(self) -> None:
        """Free what the loop keeps; nothing can be read here any more."""
        self._leave(range(len(self.told)))
        self.chunks, self.told = [], []

    def _leave(self, which: Iterable[int]) -> None:
        kept = np.array([self.told[at] for at in which if self.told[at][_CURSOR]], np.int64)
        if len(kept):
            self.loops.oak_leave_columns(place(kept), len(kept))

    def _ask(self, rows: int, picked: Any, which: slice = slice(None)) -> None:
        told, count = np.array(self.told[which], np.int64), 0 if picked is None else len(picked)
        self.loops.oak_read_columns(self.file, _unpack, place(told), len(told), rows, place(picked), count)
        self.told[which] = told.tolist()

    def _room(self, at: int, size: int, texts: int = 0) -> list[Any]:
        """Room for so many rows of a chunk, told to the loop: as `out`, `valid`, `edges` and `texts`."""
        chunk, told = self.chunks[at], self.told[at]
        width = told[_WIDTH]
        sizes = [0, (size + 63) // 64 * 8 if chunk.optional else 0, 0, 0]
        if width == _TEXTS:
            told[_ROOM] = texts or (chunk.raw if size == chunk.rows else chunk.raw * size // chunk.rows * 5 // 4)
            sizes[2:] = 4 * size + SLACK, told[_ROOM] + SLACK
        else:
            sizes[0] = ((size + 63) // 64 * 8 if width == _BITS else size * max(width, 4)) + SLACK
            if width == _CODES and chunk.name not in self.texts:
                told[_ROOM] = chunk.raw
                sizes[2:] = chunk.raw + SLACK, chunk.raw + SLACK
        room = [pa.allocate_buffer(one) if one else None for one in sizes]
        told[_OUT : _OUT + 4] = [0 if one is None else one.address for one in room]
        return room

    def _array(self, chunk: Chunk, told: Sequence[int], room: Sequence[Any], size: int) -> Any:
        """What the loop made, as an Arrow array."""
        out, valid, edges, texts = room
        nulls = told[_NULLS]
        if not nulls:
            valid = None
        if told[_WIDTH] > _CODES:
            return pa.Array.from_buffers(chunk.form.kind, size, [valid, out], nulls)
        data = None if texts is None else texts.slice(0, told[_BYTES])
        if told[_WIDTH] == _TEXTS:
            return pa.Array.from_buffers(pa.string(), size, [valid, edges, data], nulls)
        if told[_ENTRIES]:
            self.texts[chunk.name] = pa.Array.from_buffers(pa.string(), told[_ENTRIES], [None, edges, data], 0)
        codes = pa.Array.from_buffers(pa.int32(), size, [valid, out], nulls)
        known = self.texts.get(chunk.name, _NOTHING)  # so far all may be null
        return pa.DictionaryArray.from_arrays(codes, known, safe=False)  # the loop has looked at them
