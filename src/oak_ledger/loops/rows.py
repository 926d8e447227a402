"""Delimited text cut into columns of texts. None where there is no compiled loop, or where the text is not plain: then a reader that knows more is asked."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.loops import loops
from oak_ledger.loops.memory import bits, place, place_of

Bytes = npt.NDArray[np.uint8]
_VALUE = np.dtype([("begin", np.uint32), ("size", np.uint32)])
_COLUMN = np.dtype([(name, np.int64) for name in ("edges", "bytes", "room", "valid", "nulls", "size")])
_LONGEST = 1 << 29
_FULL = -2
_held = threading.local()


def _values(size: int) -> Any:
    """Room for so many values or more, which each thread keeps for its next stretch."""
    if getattr(_held, "values", None) is None or len(_held.values) < size:
        _held.values = np.empty(size, _VALUE)
    return _held.values


def count(data: Bytes, byte: int) -> int:
    """How often a byte occurs."""
    found = loops()
    if found is None:
        return int(np.count_nonzero(data == byte))
    return int(found.oak_count_byte(place(data), len(data), byte))


def last_line(data: Bytes, quote: int | None, *, inside: bool) -> int:
    """Where the last line ends that ends in no quotes; 0 where none does. `inside` says whether the bytes end in quotes."""
    found = loops()
    if found is not None:
        return int(found.oak_last_line(place(data), len(data), -1 if quote is None else quote, int(inside)))
    for at in np.flatnonzero(data == ord("\n"))[::-1]:
        after = 0 if quote is None else np.count_nonzero(data[at:] == quote)
        if (after + inside) % 2 == 0:
            return int(at) + 1
    return 0


def columns(
    data: Any, begin: int, separator: int, quote: int | None, width: int, wanted: Sequence[int]
) -> list[Any] | None:
    """Some of the columns of the rows from a byte of an Arrow buffer on, `width` values a row. What is empty in no quotes is null."""
    found = loops()
    size = data.size - begin
    if found is None or size >= _LONGEST:
        return None
    start, quoting, asked = (place_of(data) or 0) + begin, -1 if quote is None else quote, np.unique(wanted)
    rows, lines, values, room, sizes = _FULL, 0, _values(0), 0, np.zeros(0, np.uint32)
    while rows == _FULL:  # room is made where what is left from the last stretch does not do
        values, sizes = _values(lines * len(asked)), np.zeros(len(asked), np.uint32)
        room = len(values) // max(len(asked), 1)
        rows = found.oak_split(
            start, size, separator, quoting, width, place(asked), len(asked), place(values), room, place(sizes)
        )
        lines = count(np.frombuffer(data, np.uint8), ord("\n")) * 9 // 8 + 1
    if rows < 0:
        return None
    laid = [(np.empty(rows + 1, np.int32), np.empty(max(one, 1), np.uint8), bits(rows)) for one in sizes.tolist()]
    told = np.zeros(len(laid), _COLUMN)
    for at, (edges, texts, valid) in enumerate(laid):
        told[at] = (place(edges), place(texts), len(texts), place(valid), 0, 0)
    found.oak_columns(start, size, place(values), rows, quoting, place(told), len(laid))
    made = {}
    for at, (edges, texts, valid), nulls in zip(asked.tolist(), laid, told["nulls"].tolist(), strict=True):
        buffers = [pa.py_buffer(valid) if nulls else None, pa.py_buffer(edges), pa.py_buffer(texts)]
        made[at] = pa.Array.from_buffers(pa.string(), rows, buffers, nulls)
    return [made[at] for at in wanted]
