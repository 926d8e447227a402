"""How values of the language are held in Arrow arrays, and views of them as NumPy arrays that copy nothing."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from decimal import Decimal
from functools import cache
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.types import MAX_DIGITS, NULL, Kind, Type, decimal

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
    """The type of the language that an Arrow type carries, or None where it has none. Times of day are texts, such as 08:15:00."""
    types = pa.types
    tests: tuple[tuple[Callable[[Any], bool], Kind], ...] = (
        (types.is_boolean, "boolean"),
        (types.is_integer, "integer"),
        (types.is_floating, "number"),
        (types.is_date, "date"),
        (types.is_timestamp, "timestamp"),
        (types.is_string, "text"),
        (types.is_large_string, "text"),
        (types.is_string_view, "text"),
        (types.is_time, "text"),
        (types.is_null, "text"),
    )
    if types.is_decimal(kind):
        return decimal(max(kind.scale, 0)) if abs(kind.scale) <= MAX_DIGITS else None
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


def from_numpy(numbers: Any, mask: Mask | None = None) -> Any:
    """A NumPy array as an Arrow array, null where the mask is true. Unlike `pa.array` it copies nothing and imports no pandas."""
    kind = _TYPES[numbers.dtype]
    data = np.packbits(numbers, bitorder="little") if numbers.dtype.kind == "b" else np.ascontiguousarray(numbers)
    validity = None
    if mask is not None and mask.any():
        validity = pa.py_buffer(np.packbits(~mask, bitorder="little"))
    return pa.Array.from_buffers(
        kind, len(numbers), [validity, pa.py_buffer(data.view(np.int64) if data.dtype.kind == "M" else data)]
    )


def from_values(values: Sequence[Any], kind: Type) -> Any:
    """A few Python values as an Arrow array."""
    return pa.array(list(values), arrow_type(kind))


def to_mask(array: Any) -> Mask:
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


def with_nulls(array: Any, mask: Mask) -> Any:
    """The array with null wherever the mask is true."""
    return pc.if_else(from_numpy(mask), pa.scalar(None, array.type), array)


_NUMPY = {
    kind.id: np.dtype(numbers)
    for kind, numbers in (
        (pa.int64(), np.int64), (pa.int32(), np.int32), (pa.int16(), np.int16), (pa.int8(), np.int8), (pa.uint64(), np.int64), (pa.uint32(), np.uint32),
        (pa.uint16(), np.uint16), (pa.uint8(), np.uint8), (pa.float64(), np.float64), (pa.float32(), np.float32), (pa.date32(), np.int32), (pa.timestamp("us"), np.int64),
    )
}  # fmt: skip
"""How values lie in memory, by the number of Arrow's type."""


def numpy_view(values: Any) -> Any:
    """The numbers of an array as they lie in memory, read-only; where null is, they may be anything. No copy, no pandas."""
    if isinstance(values, pa.ChunkedArray):
        values = values.combine_chunks()
    kind, buffer = _NUMPY[values.type.id], values.buffers()[1]
    if buffer is None:
        return np.zeros(len(values), kind)
    return np.frombuffer(buffer, kind)[values.offset : values.offset + len(values)]


def dictionary_decode(values: Any) -> Any:
    """The values themselves, where they are held as codes and a dictionary."""
    return values.dictionary_decode() if pa.types.is_dictionary(values.type) else values


def validity(values: Any) -> Any | None:
    """The bitmap of an array's values that are not null, from its first value on; None where all are there."""
    if not values.null_count:
        return None
    if pa.types.is_null(values.type):
        return pa.py_buffer(np.zeros((len(values) + 7) // 8, np.uint8))
    first, begin = values.offset // 8, values.offset % 8
    own = np.frombuffer(values.buffers()[0], np.uint8)[first : (values.offset + len(values) + 7) // 8]
    if not begin:
        return pa.py_buffer(own)
    unpacked = np.unpackbits(own, bitorder="little")[begin : begin + len(values)]
    return pa.py_buffer(np.packbits(unpacked, bitorder="little"))


def offsets_from_min(values: Any) -> tuple[Any, int, int]:
    """Whole numbers or days from the least one on: the distance of each (anything where null is), the least, how many there may be."""
    numbers = numpy_view(values)
    if values.null_count:
        ends = pc.min_max(values.cast(pa.int32()) if pa.types.is_date32(values.type) else values)
        low, high = ends["min"].as_py() or 0, ends["max"].as_py() or 0
    else:
        low, high = (int(numbers.min()), int(numbers.max())) if len(numbers) else (0, 0)
    if high - low >= 2**62:
        return numbers, low, high - low + 1
    wide = numbers if numbers.itemsize >= 4 else numbers.astype(np.int32)
    return wide - wide.dtype.type(low), low, high - low + 1


def all_finite(values: Any) -> bool:
    """Whether surely no float is infinite or NaN: their sum would be, too. (A sum of finite values may be; then nothing is sure.)"""
    if isinstance(values, pa.Scalar):
        return values.as_py() is None or bool(np.isfinite(values.as_py()))
    with np.errstate(over="ignore", invalid="ignore"):  # what is stored where null is may be anything
        return bool(np.isfinite(numpy_view(values).sum()))


def runs(numbers: npt.NDArray[np.int64]) -> tuple[npt.NDArray[np.int64], Mask]:
    """The rows in the order of numbers (from 0, with room for the row's own above them in 63 bits), and where a run of equal ones begins."""
    rows = len(numbers)
    row_bits = max(rows - 1, 1).bit_length()
    packed = numbers << row_bits
    packed |= np.arange(rows)
    packed.sort()
    at = packed & ((1 << row_bits) - 1)
    packed >>= row_bits
    begins = np.ones(rows, np.bool_)
    np.not_equal(packed[1:], packed[:-1], out=begins[1:])
    return at, begins
