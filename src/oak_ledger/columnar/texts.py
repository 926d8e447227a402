"""Values as text, and texts as bytes."""

from __future__ import annotations

import datetime as dt
import math
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, runs, to_mask, validity

Bytes = npt.NDArray[np.uint8]
Offsets = npt.NDArray[np.int32]
_MIDDLE_BYTE = 0xC0  # the two highest bits of a byte, which are 10 where a character goes on


def text_bytes(texts: Any) -> tuple[Offsets, Bytes]:
    """Where each text begins and the last one ends among the bytes of all; both as they are in memory."""
    _, edges, data = texts.buffers()
    if edges is None:
        return np.zeros(len(texts) + 1, np.int32), np.zeros(0, np.uint8)
    offsets = np.frombuffer(edges, np.int32)[texts.offset : texts.offset + len(texts) + 1]
    return offsets, np.frombuffer(data, np.uint8) if data is not None else np.zeros(0, np.uint8)


def texts_like(texts: Any, offsets: Offsets, data: Bytes) -> Any:
    """Other texts from their bytes, null where the given ones are."""
    buffers = [validity(texts), pa.py_buffer(np.ascontiguousarray(offsets)), pa.py_buffer(data)]
    return pa.Array.from_buffers(pa.string(), len(texts), buffers, texts.null_count)


def is_ascii(texts: Any) -> bool:
    """Whether all texts of an array have one byte a character; then kernels that know no more can be used."""
    offsets, data = text_bytes(texts)
    return bool(data[offsets[0] : offsets[-1]].max(initial=0) < 128)


def fixed_width(texts: Any, width: int) -> npt.NDArray[np.uint8] | None:
    """The bytes of texts that all have so many, a row each; None where one has another length. Texts have no nulls."""
    offsets, data = text_bytes(texts)
    if not len(texts) or not (np.diff(offsets) == width).all():
        return None
    return data[offsets[0] : offsets[-1]].reshape(len(texts), width)


def characters_before(texts: Any, ends: npt.NDArray[np.int32]) -> npt.NDArray[np.int64]:
    """How many characters of each text come before one of its bytes, counted from 0."""
    offsets, data = text_bytes(texts)
    begins = (data & _MIDDLE_BYTE) != 0x80
    before = np.concatenate([np.zeros(1, np.int64), np.cumsum(begins)])
    starts = offsets[:-1]
    counts: npt.NDArray[np.int64] = before[starts + ends] - before[starts]
    return counts


def number_text(value: float) -> str:
    """A number in the shortest form that reads back, with an exponent below 1e-4 and from 1e+15."""
    if value == 0:
        return "0"
    if math.isfinite(value) and 1e-4 <= abs(value) < 1e15:
        text = format(Decimal(repr(value)), "f")
        return text.rstrip("0").rstrip(".") if "." in text else text
    mantissa, _, exponent = f"{Decimal(repr(value)):e}".lower().partition("e")
    if "." in mantissa:
        mantissa = mantissa.rstrip("0").rstrip(".")
    power = int(exponent or 0)
    return f"{mantissa}e{'-' if power < 0 else '+'}{abs(power):02d}"


def value_text(value: Any) -> str | None:
    """A value as text, the way a cast to text writes it."""
    if value is None:
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return number_text(value)
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, dt.datetime):
        text = value.isoformat(" ")
        return text.rstrip("0") if value.microsecond else text
    return str(value)


def list_element(lists: Any, number: int) -> Any:
    """The text with a number in each list, from 1, or from the end where it is below zero; empty where there is none."""
    offsets = np.frombuffer(lists.buffers()[1], np.int32)[lists.offset : lists.offset + len(lists) + 1]
    at = offsets[:-1].astype(np.int64) + number - 1 if number > 0 else offsets[1:].astype(np.int64) + number
    inside = (at >= offsets[:-1]) & (at < offsets[1:])
    found = lists.values.take(from_numpy(np.where(inside, at, 0), mask=~inside))
    filled = pc.fill_null(found, "")
    return filled if not lists.null_count else pc.if_else(pc.is_valid(lists), filled, pa.scalar(None, pa.string()))


MAX_WORDS = 4  # of eight bytes, that a text is compared by
_BYTES_KEPT = np.array([0, *((1 << 8 * size) - 1 for size in range(1, 8)), -1], np.int64)  # masks of so many low bytes
_MULTIPLIER = np.int64(-0x61C8864680B583EB)  # an odd number near 2**64 over the golden ratio


def text_words(texts: Any) -> list[npt.NDArray[np.int64]] | None:
    """Numbers that are equal where texts are: their bytes, eight a number, and their length (-1 for null); None where a text is too long."""
    offsets, data = text_bytes(texts)
    lengths = np.diff(offsets).astype(np.int64)
    longest = int(lengths.max(initial=0))
    if longest > 8 * MAX_WORDS:
        return None
    padded = np.zeros(len(data) + 8 * MAX_WORDS, np.uint8)
    padded[: len(data)] = data
    at_each_byte = np.ndarray((len(padded) - 7,), "<i8", padded, strides=(1,))
    words = []
    for first in range(0, longest, 8):
        kept = _BYTES_KEPT[np.clip(lengths - first, 0, 8)]
        words.append(at_each_byte[offsets[:-1] + first] & kept)
    if texts.null_count:
        nulls = to_mask(pc.is_null(texts))
        words = [np.where(nulls, 0, word) for word in words]
        lengths = np.where(nulls, -1, lengths)
    return [lengths, *words]


def text_codes(texts: Any) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]] | None:
    """A number from 0 for each different text (null is one), and a row that has it; None where a text is too long.

    A hash of each text and its row, packed into one number, are sorted, and texts with one hash compared: where few texts repeat this
    takes a third of the time of a dictionary.
    """
    words = text_words(texts)
    rows = len(texts)
    row_bits = max(rows - 1, 1).bit_length()
    if words is None or row_bits > 31:
        return None
    hashes = np.zeros(rows, np.int64)
    for word in words:
        hashes ^= word
        hashes *= _MULTIPLIER
        hashes ^= (hashes >> 29) & 0x7FFFFFFFF
    at, begins = runs((hashes >> (row_bits + 2)) & ((1 << (62 - row_bits)) - 1))
    run = np.cumsum(begins) - 1
    codes, first = np.empty(rows, np.int64), at[begins]
    codes[at] = run
    differs = np.zeros(rows, np.bool_)
    for word in words:
        ordered = word[at]
        differs[1:] |= ordered[1:] != ordered[:-1]
    clashes = np.unique(run[differs & ~begins])
    if len(clashes):  # different texts with one hash: these few are distinguished by a dictionary
        some = np.flatnonzero(np.isin(codes, clashes))
        encoded = texts.take(from_numpy(some)).dictionary_encode(null_encoding="encode")
        numbers = np.concatenate([clashes, np.arange(len(first), len(first) + len(encoded.dictionary) - len(clashes))])
        own = numbers[numpy_view(encoded.indices)]
        codes[some] = own
        first = np.concatenate([first, np.zeros(len(encoded.dictionary) - len(clashes), np.int64)])
        first[own[::-1]] = some[::-1]
    return codes, first
