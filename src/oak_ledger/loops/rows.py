"""Delimited text cut into columns of texts. None where there is no compiled loop, or where the text is not plain: then a reader that knows more is asked."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from pyarrow import py_buffer

from oak_ledger.loops import loops
from oak_ledger.loops.memory import bits, place, place_of
from oak_ledger.loops.text import KINDS, Numbers

Bytes = npt.NDArray[np.uint8]
Rows = npt.NDArray[np.int64]
_LONGEST = 1 << 29
_FULL, _NOT_SO, _MORE_ROOM = -2, 1, 2
_held = threading.local()


class Wanted(IntEnum):
    """What is wanted of a column that is cut."""

    TEXTS = 0
    """Its texts, as an Arrow array; what is empty in no quotes is null."""
    NULLS = 1
    """How many are null, and no more: as a `Look`, as the others."""
    NUMBERS = 2
    """Whether all that are there are plain numbers; else nothing is told."""
    FEW = 3
    """The different ones, where they are few; else nothing is told."""


@dataclass(frozen=True, slots=True)
class Look:
    """What a column's texts are: plain numbers, or few different ones (these, how often each comes, and the first row that has it)."""

    rows: int
    null_count: int
    numbers: Numbers | None = None
    few: tuple[Any, Rows, Rows] | None = None

    def __len__(self) -> int:
        return self.rows


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
    data: Any, begin: int, separator: int, quote: int | None, width: int, wanted: Mapping[int, Wanted], most: int = 0
) -> tuple[int, dict[int, Any]] | None:
    """How many rows there are from a byte of an Arrow buffer on, `width` values a row; of some of the columns what is wanted, or None where
    that is not so. `most` are the different texts that are few.
    """
    found, size = loops(), data.size - begin
    if found is None or size >= _LONGEST:
        return None
    if not hasattr(_held, "taken"):
        _held.taken = {}  # rows, and bytes of each column, that stretches of such files took so far: the next takes about as many
    start, quoting, asked = (place_of(data) or 0) + begin, -1 if quote is None else quote, np.array(sorted(wanted))
    lines = min(_held.taken.get(width, 0), size) or _lines(data)
    sizes = {at: min(_held.taken.get((width, at), 2 * size // width), size) for at in wanted}
    while True:
        rooms = [_Room(wanted[at], lines, sizes[at], most) for at in asked.tolist()]
        tasks = np.array([room.told() for room in rooms], np.int64)
        rows = found.oak_cut(start, size, separator, quoting, width, place(asked), len(asked), place(tasks), lines)
        if rows == _FULL:
            lines = _lines(data)
            continue
        if rows < 0:
            return None
        told = {at: task[_ROOM:] for at, task in zip(asked.tolist(), tasks.tolist(), strict=True)}
        short = {at: one[_SIZE] for at, one in told.items() if one[_STATUS] == _MORE_ROOM}
        if not short:
            break
        sizes |= short
    took: dict[Any, int] = {
        width: rows * 9 // 8 + 8,
        **{(width, at): one[_SIZE] * 9 // 8 + 64 for at, one in told.items()},
    }
    _held.taken |= {what: max(_held.taken.get(what, 0), size) for what, size in took.items()}
    return rows, {at: room.made(told[at], rows) for at, room in zip(asked.tolist(), rooms, strict=True)}


def _lines(data: Any) -> int:
    """How many lines there may be."""
    return count(np.frombuffer(data, np.uint8), ord("\n")) + 1


_ROOM = 9  # words of a task before those that tell what came of it
_STATUS, _NULLS, _SIZE, _DIFFERENT = 0, 1, 2, 3


class _Room:
    """Where what is wanted of a column goes."""

    def __init__(self, wanted: Wanted, rows: int, size: int, most: int) -> None:
        self.wanted, self.size, self.most = wanted, size, most
        nothing: Any = None
        self.edges = self.bytes = self.valid = self.counts = self.first = self.kinds = nothing
        if wanted is Wanted.FEW:
            self.counts, self.first = np.empty(most, np.int64), np.empty(most, np.int64)
        if wanted in (Wanted.TEXTS, Wanted.FEW):
            self.edges = np.empty((rows if wanted is Wanted.TEXTS else most) + 1, np.int32)
            self.bytes = np.empty(max(size, 1), np.uint8)
        if wanted is Wanted.TEXTS:
            self.valid = bits(rows)
        if wanted is Wanted.NUMBERS:
            self.kinds = np.zeros(KINDS, np.int32)

    def told(self) -> list[int]:
        """As the loop takes it."""
        places = [place(one) or 0 for one in (self.edges, self.bytes, self.valid, self.counts, self.first)]
        return [self.wanted, *places[:2], self.size, *places[2:], self.most, place(self.kinds) or 0, *[0] * 4]

    def made(self, told: Sequence[int], rows: int) -> Any:
        """What the loop made of it."""
        nulls = told[_NULLS]
        if told[_STATUS] == _NOT_SO:
            return None
        if self.wanted is Wanted.TEXTS:
            valid = py_buffer(self.valid) if nulls else None
            return pa.Array.from_buffers(
                pa.string(), rows, [valid, py_buffer(self.edges), py_buffer(self.bytes)], nulls
            )
        if self.wanted is Wanted.NUMBERS:
            return Look(rows, nulls, numbers=Numbers.of(self.kinds))
        if self.wanted is Wanted.NULLS:
            return Look(rows, nulls)
        different = told[_DIFFERENT]
        texts = pa.Array.from_buffers(pa.string(), different, [None, py_buffer(self.edges), py_buffer(self.bytes)], 0)
        return Look(rows, nulls, few=(texts, self.counts[:different], self.first[:different]))
