"""Columns of a Parquet file's row group, as Arrow arrays, some rows after the other; what the loop does not know is left to Arrow's own reader."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.loops import loops
from oak_ledger.loops.memory import place

_DONE, _CANNOT, _MORE_ROOM = range(3)
_TEXTS, _CODES = 0, 1
_ASKED = [
    "offset", "size", "raw", "rows", "kind", "floats", "optional", "snappy", "cursor", "behind", "out", "valid", "edges", "texts", "room", "status", "nulls", "finite", "bytes", "entries",
]  # fmt: skip
_COLUMN = np.dtype([(name, np.int64) for name in _ASKED])
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

    @property
    def width(self) -> int:
        """How it is wanted, as the loop is told."""
        return _WIDTHS.get(self.kind.id, _CODES if self.coded else _TEXTS)

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
        self.columns = np.zeros(len(self.chunks), _COLUMN)
        self.texts: dict[str, Any] = {}  # the dictionaries of those that are wanted as codes
        for chunk, column in zip(self.chunks, self.columns, strict=True):
            told = (
                chunk.offset,
                chunk.size,
                chunk.raw,
                chunk.rows,
                chunk.width,
                pa.types.is_floating(chunk.kind),
                chunk.optional,
                chunk.snappy,
            )
            for name, one in zip(_ASKED, told, strict=False):
                column[name] = one

    def pass_over(self, rows: int) -> None:
        """Leave out the next rows."""
        self.columns["behind"] += rows
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
            self._ask(self.columns, rows, picked)
            for at in np.flatnonzero(self.columns["status"] == _MORE_ROOM).tolist():  # it tells how much
                rooms[at] = self._room(at, size, int(self.columns["bytes"][at]))
                self.columns["behind"][at] = self.done
                self._ask(self.columns[at : at + 1], rows, picked)
            for at, (chunk, column) in enumerate(zip(self.chunks, self.columns, strict=True)):
                if column["status"] == _DONE:
                    made[chunk.name] = Values(self._array(chunk, column, rooms[at], size), bool(column["finite"]))
        except (MemoryError, pa.ArrowException):  # a broken file may tell of any size
            made = {}
        self.done += rows
        if len(made) < len(self.chunks):
            self._only([at for at, chunk in enumerate(self.chunks) if chunk.name in made])
        return made

    def close(self) -> None:
        """Free what the loop keeps."""
        if self.columns["cursor"].any():
            self.loops.oak_leave_columns(place(self.columns), len(self.columns))

    def _only(self, kept: Sequence[int]) -> None:
        """Go on with some of the chunks."""
        columns = self.columns[kept]
        self.columns["cursor"][kept] = 0
        self.close()
        self.columns, self.chunks = columns, [self.chunks[at] for at in kept]

    def _ask(self, columns: Any, rows: int, picked: Any) -> None:
        count = 0 if picked is None else len(picked)
        self.loops.oak_read_columns(self.file, place(columns), len(columns), rows, place(picked), count)

    def _room(self, at: int, size: int, texts: int = 0) -> dict[str, Any]:
        """Room for so many rows of a chunk, told to the loop."""
        chunk, column = self.chunks[at], self.columns[at]
        width = chunk.width
        sizes = {"valid": (size + 63) // 64 * 8} if chunk.optional else {}
        if width != _TEXTS:
            sizes["out"] = size * max(width, 4) + SLACK
        if width == _TEXTS:
            column["room"] = texts or (chunk.raw if size == chunk.rows else chunk.raw * size // chunk.rows * 5 // 4)
            sizes |= {"texts": int(column["room"]) + SLACK, "edges": 4 * size + SLACK}
        elif width == _CODES and chunk.name not in self.texts:
            column["room"] = chunk.raw
            sizes |= {"texts": chunk.raw + SLACK, "edges": chunk.raw + SLACK}
        room = {name: pa.allocate_buffer(size) for name, size in sizes.items()}
        for name, buffer in room.items():
            column[name] = buffer.address
        return room

    def _array(self, chunk: Chunk, column: Any, room: dict[str, Any], size: int) -> Any:
        """What the loop made, as an Arrow array."""
        nulls = int(column["nulls"])
        valid = room["valid"] if nulls else None
        if chunk.width > _CODES:
            return pa.Array.from_buffers(chunk.kind, size, [valid, room["out"]], nulls)
        data = room["texts"].slice(0, int(column["bytes"])) if "texts" in room else None
        if chunk.width == _TEXTS:
            return pa.Array.from_buffers(pa.string(), size, [valid, room["edges"], data], nulls)
        if data is not None:
            texts = pa.Array.from_buffers(pa.string(), int(column["entries"]), [None, room["edges"], data], 0)
            self.texts[chunk.name] = texts
        codes = pa.Array.from_buffers(pa.int32(), size, [valid, room["out"]], nulls)
        return pa.DictionaryArray.from_arrays(codes, self.texts[chunk.name], safe=False)  # the loop has looked at them
