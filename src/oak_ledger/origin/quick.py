"""A quick look at a batch of texts: are they all plain numbers, and how are they written? By bytes, without patterns.

What it says must be what the patterns of `judge` would say; where it cannot tell, it says nothing and the patterns decide.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow.compute as pc

from oak_ledger.formula.values import mask_of
from oak_ledger.loops.text import plain_numbers as plain_texts

_MINUS, _DOT, _SLASH, _ZERO, _NINE = (ord(character) for character in "-./09")  # next to each other but for the digits
_LONGEST = 18  # digits of a whole number that surely fits 64 bits


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
    found = plain_texts(values)
    if found is not None:
        plain, places, longest, minus, dot = found
        return PlainNumbers(places, longest + minus) if plain and (dot or longest + minus <= _LONGEST) else None
    edges = np.frombuffer(values.buffers()[1], np.int32)[values.offset : values.offset + len(values) + 1]
    data = np.frombuffer(data_buffer, np.uint8)[edges[0] : edges[-1]]
    if (data - np.uint8(_MINUS) > _NINE - _MINUS).any() or (data == _SLASH).any():
        return None
    starts, ends = edges[:-1] - edges[0], edges[1:] - edges[0]
    if values.null_count:
        valid = mask_of(pc.is_valid(values))
        starts, ends = starts[valid], ends[valid]
    digits = ends - starts
    signs = data == _MINUS
    if signs.any():
        signed = signs[starts]
        if np.count_nonzero(signs) != np.count_nonzero(signed):
            return None
        starts, digits = starts + signed, digits - signed
    long = starts[digits > 1]
    if digits.min() == 0 or ((data[long] == _ZERO) & (data[long + 1] != _DOT)).any():
        return None
    length = int((ends - starts).max()) + bool(signs.any())
    dots = data == _DOT
    points = int(np.count_nonzero(dots))
    if not points:
        return PlainNumbers(0, length) if length <= _LONGEST else None
    if dots[starts].any() or dots[ends - 1].any():
        return None
    decimals = _decimals(dots, points, starts, ends)
    return None if decimals is None else PlainNumbers(decimals, length)


def _decimals(dots: Any, points: int, starts: Any, ends: Any) -> int | None:
    """The most digits after a dot; None where a value has two dots."""
    first = dots[starts[0] : ends[0]].nonzero()[0]
    if points == len(ends) and len(first):  # amounts are mostly written alike
        after = int(ends[0] - starts[0] - first[0] - 1)
        if (ends - starts > after).all() and dots[ends - 1 - after].all():
            return after
    at = np.flatnonzero(dots)
    owners = np.searchsorted(ends, at, "right")
    if (owners[1:] == owners[:-1]).any():
        return None
    return int((ends[owners] - at - 1).max())
