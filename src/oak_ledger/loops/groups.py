"""Rows by group, in one going through the rows: each gives None where there is no compiled loop, or where it cannot tell.

`codes` is the group of each row, from 0; arrays of values are Arrow's, and rows that are null count for nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from oak_ledger.loops import loops
from oak_ledger.loops.memory import place, validity

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
_FLOATS = np.dtype([("sum", np.float64), ("rest", np.float64), ("count", np.float64), ("", np.float64)])
_WHOLES = np.dtype([("low", np.int64), ("high", np.int64), ("count", np.int64)])


def numbered(
    keys: Sequence[Any], sizes: Sequence[int], rows: int, alive: Mask | None, few: int
) -> tuple[Rows, Rows] | None:
    """The group of each row by its combination of codes, and the combination of each group as one number.

    `keys` are arrays of codes, each below its size. Rows that are not alive get the number after the last. Where there are no more than
    `few` combinations, groups go by them, else in the order in which they come.
    """
    found = loops()
    if found is None:
        return None
    held = [np.ascontiguousarray(one) for one in keys]
    told = np.array([(place(one), one.itemsize, size) for one, size in zip(held, sizes, strict=True)], np.int64)
    size = int(np.prod([max(one, 1) for one in sizes]))
    local, index = np.empty(rows, np.int64), np.empty(min(size, rows), np.int64)
    count = found.oak_number(
        rows, place(told), len(held), size, size <= few, _bytes(alive), place(local), place(index)
    )  # fmt: skip
    return (local, index[:count]) if count >= 0 else None


def sums_of_floats(values: Any, numbers: Any, codes: Rows, groups: int, power: int) -> tuple[Any, Any, Rows] | None:
    """Sums of floats as (sum, rest), cut `power` binary places above the largest, and how many there are; `numbers` are the values as they lie."""
    found = loops()
    if found is None:
        return None
    made = np.zeros(groups, _FLOATS)
    done = found.oak_sum_floats(
        len(numbers), place(codes), place(numbers), validity(values), values.offset, power, groups, place(made)
    )
    return (made["sum"].copy(), made["rest"].copy(), made["count"].astype(np.int64)) if done else None


def sums_of_wholes(values: Any, numbers: Any, codes: Rows, groups: int) -> tuple[Rows, Rows, Rows] | None:
    """Sums of whole numbers as (low, high), low + high * 2**32, and how many there are; `numbers` are words, or pairs of them for decimals."""
    found = loops()
    if found is None:
        return None
    made = np.zeros(groups, _WHOLES)
    done = found.oak_sum_wholes(
        len(numbers), place(codes), place(numbers), numbers.ndim, validity(values), values.offset, groups, place(made)
    )
    return (made["low"].copy(), made["high"].copy(), made["count"].copy()) if done else None


def best(values: Any, numbers: Any, codes: Rows, groups: int, *, largest: bool) -> tuple[Any, Rows] | None:
    """The largest or smallest number of each group (anything where it has none), and how many it has."""
    found = loops()
    if found is None or numbers.dtype not in (np.float64, np.int64):
        return None
    made, counts = np.zeros(groups, numbers.dtype), np.zeros(groups, np.int64)
    call = found.oak_best_float if numbers.dtype == np.float64 else found.oak_best_whole
    numbers = np.ascontiguousarray(numbers)
    told = len(numbers), place(codes), place(numbers), validity(values), values.offset, largest
    call(*told, groups, place(made), place(counts))
    return made, counts


def marked(numbers: Any, codes: Rows, groups: int, span: int) -> npt.NDArray[np.uint8] | None:
    """For each group which numbers it has, of those from 0 to below `span`: 1 where it does. Rows with a code from `groups` on are of none."""
    found = loops()
    if found is None:
        return None
    seen, numbers, codes = (
        np.zeros((groups, span), np.uint8),
        np.ascontiguousarray(numbers),
        np.ascontiguousarray(codes),
    )
    found.oak_mark(len(numbers), place(codes), groups, place(numbers), numbers.itemsize, span, place(seen))
    return seen


Piece = tuple[Any, Any, Rows]
"""A stretch of rows: Arrow's values, which tell what is null, the same as words in memory, and the group of each row; see `narrowed`."""


def narrowed(codes: Rows, groups: int) -> Any:
    """Numbers of groups in as few bytes as hold them: so many are kept that memory counts."""
    return codes.astype(_of(groups))


def _of(groups: int) -> type[np.unsignedinteger[Any]]:
    return np.uint8 if groups <= 1 << 8 else np.uint16 if groups <= 1 << 16 else np.uint32


def told_pieces(pieces: Sequence[Piece]) -> npt.NDArray[np.int64]:
    """The pieces as the loops take them."""
    return np.array(
        [
            (
                len(codes),
                place(codes),
                codes.itemsize,
                place(numbers),
                numbers.itemsize,
                validity(values) or 0,
                values.offset,
            )
            for values, numbers, codes in pieces
        ],
        np.int64,
    ).reshape(-1, 7)


def sorted_out(values: Any, numbers: Any, codes: Rows, groups: int) -> tuple[Any, Any] | None:
    """Words and their groups, without those that are null or of no group: equal words lie in the same piece of each stretch (see `different`).

    Both take as few bytes as they can: words 4 or 8.
    """
    found = loops()
    if found is None:
        return None
    codes = np.asarray(codes, np.int64)
    words, of, halved = np.empty(len(codes), np.int64), np.empty(len(codes), _of(groups)), np.zeros(1, np.int32)
    count = found.oak_sort_out(
        len(codes), place(codes), groups, place(numbers), validity(values), values.offset, place(words), place(of), of.itemsize, place(halved)
    )  # fmt: skip
    return ((words.view(np.int32) if halved[0] else words)[:count], of[:count]) if count >= 0 else None


def different(pieces: Sequence[Piece], groups: int, part: int, parts: int) -> Rows | None:
    """How many different words each group has, of one part of them; all parts together make the whole. The words must be sorted out."""
    found = loops()
    counts = np.zeros(groups, np.int64)
    if found is None:
        return None
    own = told_pieces(pieces)
    return None if found.oak_different(place(own), len(own), part, parts, place(counts)) else counts


def _bytes(mask: Mask | None) -> int | None:
    return None if mask is None else place(mask.view(np.uint8))
