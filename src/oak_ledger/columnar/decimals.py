"""Decimals as whole numbers: Arrow's 128-bit values, and those of them that fit into 64 bits."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, from_numpy, to_mask
from oak_ledger.types import MAX_DIGITS


def decimal_pairs(array: Any) -> npt.NDArray[np.int64]:
    """The 128 bits of each decimal as (low, high)."""
    buffer = array.buffers()[1]
    if buffer is None:
        return np.zeros((len(array), 2), np.int64)
    return np.frombuffer(buffer, np.int64)[2 * array.offset : 2 * (array.offset + len(array))].reshape(-1, 2)


def unscaled(array: Any) -> npt.NDArray[np.int64] | None:
    """A decimal array's whole numbers (value times ten to its scale), or None if they need more than 64 bits.

    Places that are null hold anything.
    """
    pairs = decimal_pairs(array)
    low, high = pairs[:, 0], pairs[:, 1]
    wide = high != (low >> 63)
    if wide.any() and (wide & to_mask(pc.is_valid(array))).any():
        return None
    return np.ascontiguousarray(low)


def decimal_from_unscaled(whole: npt.NDArray[np.int64], scale: int, nulls: Mask | None) -> Any:
    """The decimal array of whole numbers over ten to the scale; null where the mask is true."""
    pairs = np.empty((len(whole), 2), np.int64)
    pairs[:, 0] = whole
    pairs[:, 1] = whole >> 63
    validity = None
    if nulls is not None and nulls.any():
        validity = pa.py_buffer(np.packbits(~nulls, bitorder="little").tobytes())
    kind = pa.decimal128(MAX_DIGITS, scale)
    return pa.Array.from_buffers(kind, len(whole), [validity, pa.py_buffer(pairs.tobytes())])


def decimal_to_number(array: Any) -> Any:
    """A decimal array as 64-bit floats, each the nearest one; Arrow's own cast can be one unit off."""
    nulls = to_mask(pc.is_null(array))
    whole = unscaled(array)
    scale = array.type.scale
    if whole is not None and scale <= 22 and peak(whole[~nulls]) < 2**53:
        return from_numpy(whole.astype(np.float64) / 10.0**scale, mask=nulls)
    return pa.array([None if value is None else float(value) for value in array.to_pylist()], pa.float64())


def peak(numbers: Any) -> int:
    """The largest of whole numbers, whatever its sign; 0 of none."""
    return max(int(numbers.max(initial=0)), -int(numbers.min(initial=0)))


def divided_half_away(numbers: npt.NDArray[np.int64], unit: int) -> npt.NDArray[np.int64]:
    """Whole numbers over a unit of at most 10**18, rounded half away from zero."""
    quotients = numbers // unit
    rest = (numbers - quotients * unit) * 2
    quotients += (rest > unit) | ((rest == unit) & (numbers > 0))
    return quotients


def divided_towards_zero(numbers: npt.NDArray[np.int64], unit: int) -> npt.NDArray[np.int64]:
    """Whole numbers over a unit, cut off."""
    quotients = numbers // unit
    quotients += (numbers < 0) & (quotients * unit != numbers)
    return quotients
