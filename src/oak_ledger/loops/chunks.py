"""Columns of a Parquet file's row group, as Arrow arrays; what the loop does not know is left to Arrow's own reader."""

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
    "offset", "size", "raw", "rows", "kind", "floats", "optional", "snappy", "out", "valid", "edges", "texts", "room", "status", "nulls", "finite", "bytes", "entries",
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


def read(file: int, chunks: Sequence[Chunk]) -> dict[str, Values]:
    """The chunks of an open file, by name; without those that cannot be read here."""
    found = loops()
    if found is None or not chunks:
        return {}
    columns = np.zeros(len(chunks), _COLUMN)
    try:
        rooms = [_room(chunk, column) for chunk, column in zip(chunks, columns, strict=True)]
    except (MemoryError, pa.ArrowException):  # a broken file may tell of any size
        return {}
    found.oak_read_columns(file, place(columns), len(columns))
    for at in np.flatnonzero(columns["status"] == _MORE_ROOM).tolist():  # it tells how much
        rooms[at] = _room(chunks[at], columns[at], int(columns["bytes"][at]))
        found.oak_read_columns(file, place(columns[at : at + 1]), 1)
    made = {}
    for chunk, column, room in zip(chunks, columns, rooms, strict=True):
        if column["status"] == _DONE:
            made[chunk.name] = Values(_array(chunk, column, room), bool(column["finite"]))
    return made


def _room(chunk: Chunk, column: Any, texts: int = 0) -> dict[str, Any]:
    """Room for what a chunk holds, told to the loop."""
    width = _WIDTHS.get(chunk.kind.id, _CODES if chunk.coded else _TEXTS)
    sizes = {"valid": (chunk.rows + 63) // 64 * 8} if chunk.optional else {}
    if width != _TEXTS:
        sizes["out"] = chunk.rows * max(width, 4) + SLACK
    if width in (_TEXTS, _CODES):
        column["room"] = max(texts, chunk.raw)
        sizes |= {
            "texts": int(column["room"]) + SLACK,
            "edges": 4 * (chunk.rows if width == _TEXTS else chunk.raw // 4) + SLACK,
        }
    room = {name: pa.allocate_buffer(size) for name, size in sizes.items()}
    for name, buffer in room.items():
        column[name] = buffer.address
    told = (
        chunk.offset,
        chunk.size,
        chunk.raw,
        chunk.rows,
        width,
        pa.types.is_floating(chunk.kind),
        chunk.optional,
        chunk.snappy,
    )
    for name, one in zip(_ASKED[: len(told)], told, strict=True):
        column[name] = one
    return room


def _array(chunk: Chunk, column: Any, room: dict[str, Any]) -> Any:
    """What the loop made, as an Arrow array."""
    nulls = int(column["nulls"])
    valid = room["valid"] if nulls else None
    if "texts" not in room:
        return pa.Array.from_buffers(chunk.kind, chunk.rows, [valid, room["out"]], nulls)
    data = room["texts"].slice(0, int(column["bytes"]))
    if "out" not in room:
        return pa.Array.from_buffers(pa.string(), chunk.rows, [valid, room["edges"], data], nulls)
    codes = pa.Array.from_buffers(pa.int32(), chunk.rows, [valid, room["out"]], nulls)
    texts = pa.Array.from_buffers(pa.string(), int(column["entries"]), [None, room["edges"], data], 0)
    return pa.DictionaryArray.from_arrays(codes, texts, safe=False)  # the loop has looked at the codes
