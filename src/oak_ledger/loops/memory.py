"""Where arrays lie in memory, as the loops are told."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
from pyarrow import py_buffer


def place(numbers: npt.NDArray[Any] | None) -> int | None:
    """Where an array begins in memory; it must lie there without gaps."""
    return None if numbers is None else int(py_buffer(numbers).address)


def place_of(buffer: Any) -> int | None:
    """Where an Arrow buffer begins in memory."""
    return None if buffer is None else int(buffer.address)


def validity(values: Any) -> int | None:
    """Where the bits of an Arrow array begin that say which values are there; None where all are."""
    return place_of(values.buffers()[0]) if values.null_count else None


def known_bits(values: Any) -> Any | None:
    """The bits that say which values of an Arrow array are there, from the first one on; None where all are."""
    if not values.null_count:
        return None
    own = np.frombuffer(values.buffers()[0], np.uint8)[values.offset // 8 : (values.offset + len(values) + 7) // 8]
    begin = values.offset % 8
    if not begin:
        return py_buffer(own)
    unpacked = np.unpackbits(own, bitorder="little")[begin : begin + len(values)]
    return py_buffer(np.packbits(unpacked, bitorder="little"))


def bits(size: int) -> npt.NDArray[np.uint8]:
    """Room for so many bits, whole words of them."""
    return np.empty((size + 63) // 64 * 8, np.uint8)
