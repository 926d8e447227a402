"""A quick look at a batch of texts: are they all plain numbers, and how are they written? By bytes, without patterns.

What it says must be what the patterns of `judge` would say; where it cannot tell, it says nothing and the patterns decide.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula.values import mask_of

_MINUS, _DOT, _SLASH, _ZERO, _NINE = (ord(character) for character in "-./09")  # next to each other but for the digits


@dataclass(frozen=True, slots=True)
class PlainNumbers:
    """All values are plain numbers without leading zeros: the most decimals (0: whole numbers), the longest text."""

    decimals: int
    length: int


def plain_numbers(values: Any) -> PlainNumbers | None:
    """What a string array of plain numbers looks like; None where a value is anything else, or has a leading zero."""
    data_buffer = values.buffers()[2]
    if len(values) == values.null_count or data_buffer is None:
        return None
    edges = np.frombuffer(values.buffers()[1], np.int32)[values.offset : values.offset + len(values) + 1]
    data = np.frombuffer(data_buffer, np.uint8)[edges[0] : edges[-1]]
    if (data - np.uint8(_MINUS) > _NINE - _MINUS).any() or (data == _SLASH).any():
        return None
    starts, ends = edges[:-1] - edges[0], edges[1:] - edges[0]
    if values.null_count:
        valid = mask_of(pc.is_valid(values))
        starts, ends = starts[valid], ends[valid]
    lengths = ends - starts
    if lengths.min() == 0:
        return None
    long = starts[lengths > 1]
    if ((data[long] == _ZERO) & (data[long + 1] != _DOT)).any():
        return None
    try:
        pc.cast(values, pa.float64())
    except pa.ArrowInvalid:
        return None
    dots = np.flatnonzero(data == _DOT)
    if not len(dots):
        return PlainNumbers(0, int(lengths.max())) if lengths.max() <= 18 else None
    owners = ends if len(dots) == len(ends) else ends[np.searchsorted(ends, dots, "right")]
    return PlainNumbers(int((owners - dots - 1).max()), int(lengths.max()))
