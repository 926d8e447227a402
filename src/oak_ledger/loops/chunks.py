"""Columns of a Parquet file's row group, as Arrow arrays, some rows after the other; what the loop does not know is left to Arrow's own reader."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.loops import loops
from oak_ledger.loops.memory import place

_DONE, _CANNOT, _MORE_ROOM = range(3)
_TEXTS, _CODES = 0, 1
_WIDTH, _CURSOR, _BEHIND, _OUT, _ROOM, _STATUS, _NULLS, _FINITE, _BYTES, _ENTRIES = 4, 8, 9, 10, 14, 15, 16, 17, 18, 19
"""Where what is asked of a column, and what came of it, stands among the words that the loop takes."""
_WORDS = 20
SLACK = 64  # bytes that the loop may write beyond the last


@dataclass(frozen=True, slots=True)
class Chunk:
    """One column of one row group: where its bytes lie in the file, and what they are."""

    name: str
    kind: Any
    """Arrow's type."""
    offset: int
    size: int
    raw: int
    """How many bytes it is when unpacked."""
    rows: int
    optional: bool
    snappy: bool
    coded: bool = False
    """Whether texts are wanted as codes and a dictionary."""

    def told(self) -> list[int]:
        """The words that the loop takes, without those that are told each time."""
        width = _WIDTHS.get(self.kind.id, _CODES if self.coded else _TEXTS)
        floats = pa.types.is_floating(self.kind)
        made = [self.offset, self.size, self.raw, self.rows, width, floats, self.optional, self.snappy]
        return [*map(int, made), *[0] * (_WORDS - len(made))]

    @property
    def nothing(self) -> Any:
        """No value at all."""
        nothing = pa.array([], self.kind)
        return nothing.dictionary_encode() if self.coded else nothing


@dataclass(frozen=True, slots=True)
class Values:
    """The values of a chunk, and whether it is known that none of them is infinite or NaN."""

    array: Any
    finite: bool


def known(kind: Any) -> bool:
    """Whether values of an Arrow type can be read here."""
    return kind.id in _WIDTHS or kind == pa.string()


_WIDTHS = {
    pa.int32().id: 4,
    pa.date32().id: 4,
    pa.float32().id: 4,
    pa.int64().id: 8,
    pa.float64().id: 8,
    pa.timestamp("us").id: 8,
}


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
        """Free what the loop keeps."""
        self._leave(range(len(self.told)))

    def _leave(self, which: Iterable[int]) -> None:
        kept = np.array([self.told[at] for at in which if self.told[at][_CURSOR]], np.int64)
        if len(kept):
            self.loops.oak_leave_columns(place(kept), len(kept))

    def _ask(self, rows: int, picked: Any, which: slice = slice(None)) -> None:
        told, count = np.array(self.told[which], np.int64), 0 if picked is None else len(picked)
        self.loops.oak_read_columns(self.file, place(told), len(told), rows, place(picked), count)
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
            sizes[0] = size * max(width, 4) + SLACK
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
            return pa.Array.from_buffers(chunk.kind, size, [valid, out], nulls)
        data = None if texts is None else texts.slice(0, told[_BYTES])
        if told[_WIDTH] == _TEXTS:
            return pa.Array.from_buffers(pa.string(), size, [valid, edges, data], nulls)
        if data is not None:
            self.texts[chunk.name] = pa.Array.from_buffers(pa.string(), told[_ENTRIES], [None, edges, data], 0)
        codes = pa.Array.from_buffers(pa.int32(), size, [valid, out], nulls)
        return pa.DictionaryArray.from_arrays(codes, self.texts[chunk.name], safe=False)  # the loop has looked at them
