"""How values of the language lie in Arrow arrays, and the few conversions that Arrow's own kernels get wrong."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable, Sequence
from decimal import Decimal
from functools import cache
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula.types import MAX_DIGITS, NULL, Kind, Type, decimal
from oak_ledger.loops import places
from oak_ledger.loops.text import taken

_ARROW: dict[Kind, Any] = {
    "text": pa.string(),
    "integer": pa.int64(),
    "number": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "timestamp": pa.timestamp("us"),
    "null": pa.null(),
}
INTEGER_MIN, INTEGER_MAX = -(2**63), 2**63 - 1
Mask = npt.NDArray[np.bool_]


def arrow_type(kind: Type) -> pa.DataType:
    """The Arrow type in which values of this type lie."""
    return pa.decimal128(MAX_DIGITS, kind.scale) if kind.kind == "decimal" else _ARROW[kind.kind]


@cache
def from_arrow_type(kind: pa.DataType) -> Type | None:
    """The type of the language that an Arrow type carries, or None where it has none."""
    types = pa.types
    tests: tuple[tuple[Callable[[Any], bool], Kind], ...] = (
        (types.is_boolean, "boolean"),
        (types.is_integer, "integer"),
        (types.is_floating, "number"),
        (types.is_date, "date"),
        (types.is_timestamp, "timestamp"),
        (types.is_string, "text"),
        (types.is_large_string, "text"),
        (types.is_null, "text"),
    )
    if types.is_decimal(kind) and kind.scale >= 0:
        return decimal(kind.scale)
    if types.is_dictionary(kind):
        return from_arrow_type(kind.value_type)
    return next((Type(name) for test, name in tests if test(kind)), None)


def type_of_value(value: Any) -> Type:
    """The type of a Python value."""
    if value is None:
        return NULL
    if isinstance(value, Decimal):
        return decimal(max(0, -int(value.as_tuple().exponent)))
    kinds: tuple[tuple[type, Kind], ...] = (
        (bool, "boolean"),
        (int, "integer"),
        (float, "number"),
        (str, "text"),
        (dt.datetime, "timestamp"),
        (dt.date, "date"),
    )
    return next(Type(kind) for python, kind in kinds if isinstance(value, python))


def scalar(value: Any, kind: Type) -> pa.Scalar:
    """A constant as an Arrow scalar."""
    return pa.scalar(value, arrow_type(kind))


_TYPES = {
    np.dtype(np.int64): pa.int64(),
    np.dtype(np.int32): pa.int32(),
    np.dtype(np.int8): pa.int8(),
    np.dtype(np.uint32): pa.uint32(),
    np.dtype(np.uint16): pa.uint16(),
    np.dtype(np.uint8): pa.uint8(),
    np.dtype(np.float64): pa.float64(),
    np.dtype(np.bool_): pa.bool_(),
    np.dtype("datetime64[us]"): pa.timestamp("us"),
}


def array_of(numbers: Any, mask: Mask | None = None) -> Any:
    """A NumPy array as an Arrow array, null where the mask is true. Unlike `pa.array` it copies nothing and imports no pandas."""
    kind = _TYPES[numbers.dtype]
    data = np.packbits(numbers, bitorder="little") if numbers.dtype.kind == "b" else np.ascontiguousarray(numbers)
    validity = None
    if mask is not None and mask.any():
        validity = pa.py_buffer(np.packbits(~mask, bitorder="little"))
    return pa.Array.from_buffers(
        kind, len(numbers), [validity, pa.py_buffer(data.view(np.int64) if data.dtype.kind == "M" else data)]
    )


def array_of_constants(values: Sequence[Any], kind: Type) -> Any:
    """A few Python values as an Arrow array."""
    return pa.concat_arrays([pa.repeat(scalar(value, kind), 1) for value in values])


def mask_of(array: Any) -> Mask:
    """A boolean array as a NumPy mask; null counts as false."""
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    validity, data = array.buffers() if pa.types.is_boolean(array.type) else (None, None)
    if data is None:  # nothing but nulls, or nothing at all
        return np.zeros(len(array), np.bool_)
    first, last = array.offset // 8, (array.offset + len(array) + 7) // 8
    bits = np.frombuffer(data, np.uint8)[first:last]
    if validity is not None and array.null_count:
        bits = bits & np.frombuffer(validity, np.uint8)[first:last]
    begin = array.offset - 8 * first
    return np.unpackbits(bits, bitorder="little")[begin : begin + len(array)].view(np.bool_)


def blanked(array: Any, mask: Mask) -> Any:
    """The array with null wherever the mask is true."""
    return pc.if_else(array_of(mask), pa.scalar(None, array.type), array)


def dense_ranks(values: Any, *, descending: bool = False, nulls_first: bool = False) -> npt.NDArray[np.int64]:
    """A number for each value by its order; equal values have the same, nulls stand before or after all others."""
    if pa.types.is_floating(values.type):
        values = pc.add(values, 0.0)  # so that -0.0 and 0.0 are one value
    if pa.types.is_boolean(values.type):
        values = values.cast(pa.int8())
    encoded = values.dictionary_encode()
    order = held(pc.sort_indices(encoded.dictionary))
    ranks = np.empty(len(order) + 1, np.int64)
    ranks[order] = np.arange(len(order))[::-1] if descending else np.arange(len(order))
    ranks[-1] = -1 if nulls_first else len(order)  # the place of null, which no value has
    return np.asarray(ranks[held(pc.fill_null(encoded.indices, len(order)))])


def sort_numbers(
    values: Any, *, descending: bool = False, nulls_first: bool = False
) -> tuple[npt.NDArray[np.int64], int]:
    """Whole numbers in the order of the values, equal for equal ones, and how many bits they take; nulls come first or last.

    Of 62 bits or fewer, the least is 0 or more, so that several can be packed into one number; others take the whole word.
    """
    nulls = mask_of(pc.is_null(values)) if values.null_count else None
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
        numbers = held(values).astype(np.float64) + 0.0  # -0.0 becomes 0.0
        with np.errstate(invalid="ignore", over="ignore"):
            cents = np.rint(numbers * 100.0)
            if (cents / 100.0 == numbers).all() and (np.abs(cents) < 2**52).all():
                return np.asarray(cents.astype(np.int64))
        bits = numbers.view(np.int64)
        return np.asarray(bits ^ ((bits >> 63) & (2**63 - 1)))
    if pa.types.is_decimal(kind):
        return unscaled(values)
    if pa.types.is_integer(kind) or pa.types.is_date32(kind) or pa.types.is_timestamp(kind):
        return np.asarray(held(values).astype(np.int64, copy=False))
    return None


_NUMPY = {
    kind.id: np.dtype(numbers)
    for kind, numbers in (
        (pa.int64(), np.int64), (pa.int32(), np.int32), (pa.int16(), np.int16), (pa.int8(), np.int8), (pa.uint64(), np.int64), (pa.uint32(), np.uint32),
        (pa.uint16(), np.uint16), (pa.uint8(), np.uint8), (pa.float64(), np.float64), (pa.float32(), np.float32), (pa.date32(), np.int32), (pa.timestamp("us"), np.int64),
    )
}  # fmt: skip
"""How values lie in memory, by the number of Arrow's type."""


def held(values: Any) -> Any:
    """The numbers of an array as they lie in memory, read-only; where null is, they may be anything. No copy, no pandas."""
    if isinstance(values, pa.ChunkedArray):
        values = values.combine_chunks()
    kind, buffer = _NUMPY[values.type.id], values.buffers()[1]
    if buffer is None:
        return np.zeros(len(values), kind)
    return np.frombuffer(buffer, kind)[values.offset : values.offset + len(values)]


def near(values: Any) -> tuple[Any, int, int]:
    """Whole numbers or days from the least one on: the distance of each (anything where null is), the least, how many there may be."""
    numbers = held(values)
    found = places.near(values, numbers)
    if found is not None:
        return found[0], found[1], found[2] - found[1] + 1
    ends = pc.min_max(values.cast(pa.int32()) if pa.types.is_date32(values.type) else values)
    low, high = ends["min"].as_py() or 0, ends["max"].as_py() or 0
    return (numbers - numbers.dtype.type(low) if high - low < 2**31 else numbers), low, high - low + 1


def is_ascii(texts: Any) -> bool:
    """Whether all texts of an array have one byte a character; then kernels that know no more can be used."""
    data = texts.buffers()[2]
    if data is None or not len(texts):
        return True
    edges = np.frombuffer(texts.buffers()[1], np.int32)
    begin, end = edges[texts.offset], edges[texts.offset + len(texts)]
    return bool(np.frombuffer(data, np.uint8)[begin:end].max(initial=0) < 128)


def decoded(values: Any) -> Any:
    """The values themselves, where they are held as codes and a dictionary."""
    if not pa.types.is_dictionary(values.type):
        return values
    made = None
    if pa.types.is_string(values.type.value_type) and len(values):
        made = taken(values.dictionary, held(values.indices), values.indices)
    return values.dictionary.take(values.indices) if made is None else made


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
    if wide.any() and (wide & mask_of(pc.is_valid(array))).any():
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
    nulls = mask_of(pc.is_null(array))
    whole = unscaled(array)
    scale = array.type.scale
    if whole is not None and scale <= 22 and (np.abs(whole[~nulls]) < 2**53).all():
        return array_of(whole.astype(np.float64) / 10.0**scale, mask=nulls)
    return pa.array([None if value is None else float(value) for value in array.to_pylist()], pa.float64())


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
