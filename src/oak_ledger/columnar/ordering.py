"""Values as whole numbers in the same order, packed with others into one 64-bit number: such sort far sooner than values do."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import INTEGER_MAX, INTEGER_MIN, Mask, numpy_view, runs, to_mask
from oak_ledger.columnar.codes import encode
from oak_ledger.columnar.decimals import unscaled

PACKED_BITS = 62
RowIndexes = npt.NDArray[np.int64]


def dense_ranks(values: Any, *, descending: bool = False, nulls_first: bool = False) -> npt.NDArray[np.int64]:
    """A number for each value by its order; equal values have the same, nulls come before or after all others."""
    if pa.types.is_boolean(values.type):
        values = values.cast(pa.int8())
    codes, different = encode(values)
    order = numpy_view(pc.sort_indices(different)).astype(np.int64)  # null, if there is one, comes last
    known = len(order) - different.null_count
    ranks = np.empty(len(order), np.int64)
    ranks[order] = np.arange(len(order))
    if descending:
        ranks[order[:known]] = np.arange(known)[::-1]
    if different.null_count and nulls_first:
        ranks[order[-1]] = -1
    return np.asarray(ranks[codes])


def sort_numbers(
    values: Any, *, descending: bool = False, nulls_first: bool = False
) -> tuple[npt.NDArray[np.int64], int]:
    """Whole numbers in the order of the values, equal for equal ones, and how many bits they take; nulls come first or last.

    Of 62 bits or fewer, the least is 0 or more, so that several can be packed into one number; others take the whole word.
    """
    nulls = to_mask(pc.is_null(values)) if values.null_count else None
    whole, low, high = _with_ends(_whole_numbers(values), nulls)
    if whole is None or (
        nulls is not None and (low == INTEGER_MIN or high == INTEGER_MAX)
    ):  # null needs a place of its own
        whole, low, high = _with_ends(dense_ranks(values), nulls)
    if low > high or high - low >= 2**61:
        numbers = ~whole if descending else whole
        if nulls is not None:
            numbers = np.where(nulls, -(2**63) if nulls_first else 2**63 - 1, numbers)
        return numbers, 64
    numbers = high - whole if descending else whole - low
    if nulls is not None:
        numbers = np.where(nulls, -1 if nulls_first else high - low + 1, numbers) + nulls_first
    return numbers, int(high - low + (nulls is not None)).bit_length()


def _with_ends(whole: Any, nulls: Mask | None) -> tuple[Any, int, int]:
    """Numbers with the least and the largest of those that are not null; the least is above the largest where there is none."""
    if whole is None:
        return None, 0, 0
    known = whole if nulls is None else whole[~nulls]
    return whole, int(known.min(initial=INTEGER_MAX)), int(known.max(initial=INTEGER_MIN))


def _whole_numbers(values: Any) -> npt.NDArray[np.int64] | None:
    """Numbers, days and moments as whole numbers in the same order; None for what has no such."""
    kind = values.type
    if pa.types.is_floating(kind):
        numbers = numpy_view(values).astype(np.float64) + 0.0  # -0.0 becomes 0.0
        with np.errstate(invalid="ignore", over="ignore"):
            cents = np.rint(numbers * 100.0)
            if (cents / 100.0 == numbers).all() and (np.abs(cents) < 2**52).all():
                return np.asarray(cents.astype(np.int64))
        bits = numbers.view(np.int64)
        return np.asarray(bits ^ ((bits >> 63) & (2**63 - 1)))
    if pa.types.is_decimal(kind):
        return unscaled(values)
    if pa.types.is_integer(kind) or pa.types.is_date32(kind) or pa.types.is_timestamp(kind):
        return np.asarray(numpy_view(values).astype(np.int64, copy=False))
    return None


def dense_numbers(numbers: RowIndexes, bits: int) -> tuple[RowIndexes, RowIndexes]:
    """Numbers from 0 without gaps in the order of the numbers given (from 0, of so many bits), and the first row of each.

    By one sort of number and row packed together, where both fit: a fifth of the time of a sort of places.
    """
    rows = len(numbers)
    if bits < 30 and (1 << bits) <= max(4 * rows, 1 << 16):
        first = np.full(1 << bits, rows, np.int64)
        first[numbers[::-1]] = np.arange(rows - 1, -1, -1)
        present = first < rows
        return (np.cumsum(present) - 1)[numbers], first[present]
    row_bits = max(rows - 1, 1).bit_length()
    if bits + row_bits > PACKED_BITS + 1:
        _, first, dense = np.unique(numbers, return_index=True, return_inverse=True)
        return np.asarray(dense, np.int64), first
    at, begins = runs(numbers)
    dense = np.empty(rows, np.int64)
    dense[at] = np.cumsum(begins) - 1
    return dense, at[begins]


def sorted_rows(keys: Sequence[tuple[RowIndexes, int]], rows: int) -> RowIndexes:
    """The rows in the order of some keys (see `sort_numbers`), the first one first; equal ones in the order in which they arrive."""
    packed, row_bits = packed_keys(keys, rows)
    if packed is not None:
        packed &= (1 << row_bits) - 1
        return packed
    return np.lexsort([numbers for numbers, _ in reversed(keys)])


def packed_keys(keys: Sequence[tuple[RowIndexes, int]], rows: int) -> tuple[RowIndexes | None, int]:
    """Keys and row number as one number a row, in order, and the bits of the row; None where they do not fit into one."""
    row_bits = max(rows - 1, 1).bit_length()
    if sum(bits for _, bits in keys) + row_bits > PACKED_BITS:
        return None, row_bits
    packed = np.zeros(rows, np.int64)
    for numbers, bits in keys:
        packed <<= bits
        packed |= numbers
    packed <<= row_bits
    packed |= np.arange(rows)
    packed.sort()
    return packed, row_bits
