"""Texts: which hold a part, and which is the largest of each group. None where there is no compiled loop."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.loops import loops
from oak_ledger.loops.memory import bits, known_bits, place, place_of, validity

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
KINDS = 4096  # of plain numbers: see `looks.h`
FEW = 2000  # different texts that a slice is looked through for; the loop has room for 2048


def contains(texts: Any, part: str) -> Any | None:
    """Whether each text of an Arrow array holds the part; null where it is null."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None or not part:
        return None
    made, needle = bits(len(texts)), part.encode()
    found.oak_contains(len(texts), edges, data, needle, len(needle), place(made))
    return pa.Array.from_buffers(pa.bool_(), len(texts), [known_bits(texts), pa.py_buffer(made)], texts.null_count)


def best(texts: Any, codes: Rows, groups: int, *, largest: bool) -> Rows | None:
    """The row of the largest or smallest text of each group, by its bytes; -1 where a group has none."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None:
        return None
    rows, begins = np.full(groups, -1, np.int64), np.zeros(groups, np.uint64)
    found.oak_best_text(
        len(texts), place(codes), edges, data, validity(texts), texts.offset, largest, place(rows), place(begins)
    )
    return rows


class Mark(IntEnum):
    """What stands before the decimals of a plain number."""

    NONE = 0
    DOT = 1
    COMMA = 2


@dataclass(frozen=True, slots=True)
class Numbers:
    """Plain numbers by their kinds: digits, maybe with a minus before and one mark between, without a zero before other digits, and of no more than
    18 digits where they have no mark. Of each kind the mark, how many digits stand before and after it, whether there is a minus, and how many there are.
    """

    mark: Rows
    before: Rows
    after: Rows
    minus: Mask
    counts: Rows

    @staticmethod
    def of(kinds: npt.NDArray[np.int32]) -> Numbers:
        """From how many there are of each kind, as the loops number them."""
        found = np.flatnonzero(kinds)
        size, after, minus, comma = (found & 31) + 1, found >> 5 & 31, (found >> 10 & 1) > 0, found >> 11
        marked = after > 0
        return Numbers(
            np.where(marked, 1 + comma, 0), size - minus - marked - after, after, minus, kinds[found].astype(np.int64)
        )

    def count(self, which: Mask) -> int:
        """How many are of some kinds."""
        return int(self.counts[which].sum())

    @property
    def decimals(self) -> int:
        """The most digits behind a mark."""
        return int(self.after.max())

    @property
    def longest(self) -> int:
        """The most characters."""
        return int((self.minus + self.before + (self.after > 0) + self.after).max())


def plain_numbers(texts: Any) -> Numbers | None:
    """What the numbers of an Arrow array are like; None where a text that is there is none, and where there is no loop."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None:
        return None
    kinds = np.zeros(KINDS, np.int32)
    plain = found.oak_plain_numbers(len(texts), edges, data, validity(texts), texts.offset, place(kinds))
    return Numbers.of(kinds) if plain else None


def wholes(texts: Any, scale: int, *, pairs: bool) -> tuple[Any, int] | None:
    """Texts as whole numbers times ten to the scale (0 for null), and the largest without its sign: as decimals' pairs, or single from texts without
    a point. None where a text is not plain, has more decimals, or takes more than 18 digits.
    """
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None:
        return None
    step = 2 if pairs else 1
    made = np.empty(len(texts) * step, np.int64)
    most = found.oak_read_wholes(len(texts), edges, data, validity(texts), texts.offset, scale, step, place(made))
    return None if most < 0 else (made, most)


def floats(texts: Any) -> Any | None:
    """Texts as floats (0 for null), each the nearest one. None where a text is not plain, or has too many digits for that."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None:
        return None
    made = np.empty(len(texts))
    done = found.oak_read_floats(len(texts), edges, data, validity(texts), texts.offset, place(made))
    return made if done else None


def few(texts: Any, most: int) -> tuple[npt.NDArray[np.int32], Rows, Rows] | None:
    """A number for each different text (-1 for null), how often each comes, and the first row that has it; None where there are more than `most`."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None:
        return None
    codes, counts, first = np.empty(len(texts), np.int32), np.zeros(most, np.int64), np.zeros(most, np.int64)
    size = found.oak_few_texts(
        len(texts), edges, data, validity(texts), texts.offset, most, place(codes), place(counts), place(first)
    )
    return None if size < 0 else (codes, counts[:size], first[:size])


def taken(texts: Any, rows: Any, given: Any | None = None) -> Any | None:
    """The texts of these rows; null where `given`, an Arrow array with an item a row, is null."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None:
        return None
    rows, count = np.ascontiguousarray(rows), len(rows)
    begins, ends, known, nulls = (
        np.empty(count, np.int32),
        np.empty(count + 1, np.int32),
        bits(count),
        np.zeros(1, np.int64),
    )
    size = found.oak_take_edges(
        count, place(rows), rows.itemsize, None if given is None else validity(given), 0 if given is None else given.offset, edges,
        validity(texts), texts.offset, place(begins), place(ends), place(known), place(nulls),
    )  # fmt: skip
    if size < 0:
        return None
    return _copied(texts, begins, ends, pa.py_buffer(known) if nulls[0] else None, int(nulls[0]))


def trimmed(texts: Any, characters: str, *, first: bool, last: bool) -> Any | None:
    """The texts without these characters at the beginning, or the end; None also where they are not ASCII."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None or not characters.isascii():
        return None
    struck = np.zeros(256, np.uint8)
    struck[np.frombuffer(characters.encode(), np.uint8)] = 1
    begins, ends = np.empty(len(texts), np.int32), np.empty(len(texts) + 1, np.int32)
    found.oak_trim_edges(len(texts), edges, data, place(struck), first, last, place(begins), place(ends))
    return _copied(texts, begins, ends, known_bits(texts), texts.null_count)


def part(texts: Any, begin: int, end: int = 2**62) -> Any | None:
    """The part of each text from one byte to another, counted from its beginning, or where below zero from its end."""
    found = loops()
    edges, data = _lying(texts)
    if found is None or data is None:
        return None
    begins, ends = np.empty(len(texts), np.int32), np.empty(len(texts) + 1, np.int32)
    found.oak_part_edges(len(texts), edges, begin, end, place(begins), place(ends))
    return _copied(texts, begins, ends, known_bits(texts), texts.null_count)


def _copied(texts: Any, begins: Any, ends: Any, known: Any, nulls: int) -> Any:
    """Texts from where each begins among the bytes of others, and where it will end."""
    made, data = np.empty(int(ends[-1]) + 16, np.uint8), texts.buffers()[2]
    loops().oak_copy_texts(len(begins), place(begins), place(ends), place_of(data), place(made))  # type: ignore[union-attr]
    return pa.Array.from_buffers(pa.string(), len(begins), [known, pa.py_buffer(ends), pa.py_buffer(made)], nulls)


def _lying(texts: Any) -> tuple[int, int | None]:
    """Where the edges of the first text, and the bytes of all, lie in memory."""
    if texts.type != pa.string():
        return 0, None
    _, edges, data = texts.buffers()
    if edges is None or data is None:
        return 0, None
    return (place_of(edges) or 0) + 4 * texts.offset, place_of(data)
