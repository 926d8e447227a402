"""Values taken from places and put back at them."""

from __future__ import annotations

from enum import IntEnum
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.loops import loops, text
from oak_ledger.loops.memory import bits, place, place_of, validity

Rows = npt.NDArray[np.int64]


def taken(values: Any, rows: Any) -> Any:
    """The values of these rows (given as 32- or 64-bit numbers), as an Arrow array."""
    if pa.types.is_dictionary(values.type):
        return pa.DictionaryArray.from_arrays(taken(values.indices, rows), values.dictionary, safe=False)
    texts = text.taken(values, rows)
    if texts is not None:
        return texts
    found, kind, index = loops(), values.type, pa.int64() if rows.itemsize == 8 else pa.int32()
    plain = pa.types.is_primitive(kind) and kind.bit_width in (1, 32, 64)
    rows = np.ascontiguousarray(rows)
    if found is None or not plain or not len(rows) or values.buffers()[1] is None:
        return values.take(pa.Array.from_buffers(index, len(rows), [None, pa.py_buffer(rows)]))
    width = kind.bit_width // 8
    made = np.empty(len(rows) * width, np.uint8) if width else bits(len(rows))
    known = bits(len(rows)) if values.null_count else None
    start = (place_of(values.buffers()[1]) or 0) + values.offset * width
    nulls = found.oak_gather(
        len(rows), place(rows), rows.itemsize, start, width, validity(values), values.offset, place(made), place(known)
    )
    return pa.Array.from_buffers(kind, len(rows), [pa.py_buffer(known) if nulls else None, pa.py_buffer(made)], nulls)


def holding(conditions: Any) -> Rows | None:
    """The numbers of the rows where a condition, given as an Arrow array, is true; None where there is no loop."""
    found = loops()
    if found is None or conditions.buffers()[1] is None:
        return None
    made = np.empty(len(conditions), np.int64)
    bits_set = place_of(conditions.buffers()[1])
    return made[: found.oak_holding(len(made), bits_set, validity(conditions), conditions.offset, place(made))]


def crossed(first: Any, times: int, second: Any) -> Any:
    """Two codes (32-bit numbers) as one: the first times how many the second may be, and the second."""
    found = loops()
    if found is None or first.dtype != np.int32 or second.dtype != np.int32:
        return first * times + second
    made = np.empty(len(first), np.int32)
    found.oak_cross(len(made), place(first), times, place(second), place(made))
    return made


def finite(numbers: Any) -> bool | None:
    """Whether no float is infinite or not a number; None where there is no loop."""
    found = loops()
    return (
        None if found is None or numbers.dtype != np.float64 else bool(found.oak_finite(len(numbers), place(numbers)))
    )


def near(values: Any, numbers: Any) -> tuple[Any, int, int] | None:
    """How far each whole number lies above the least (32-bit numbers; anything where null is), the least, and the largest; also None where they lie too far apart."""
    found = loops()
    if found is None or numbers.dtype not in (np.int32, np.int64):
        return None
    made, ends = np.empty(len(numbers), np.int32), np.zeros(2, np.int64)
    done = found.oak_near(
        len(numbers), place(numbers), numbers.itemsize, validity(values), values.offset, place(made), place(ends)
    )
    return (made, int(ends[0]), int(ends[1])) if done else None


def put(rows: Rows, values: Any, numbers: Any, out: Any, nulls: npt.NDArray[np.bool_]) -> bool:
    """Words put at these rows, and which of them are null; `numbers` are the values as they lie. False where there is no loop."""
    found = loops()
    if found is None or numbers.itemsize != 8:
        return False
    found.oak_scatter(
        len(rows), place(rows), place(numbers), validity(values), values.offset, place(out), place(nulls.view(np.uint8))
    )  # fmt: skip
    return True


class Rising(IntEnum):
    """Whether each number is larger than the one before, or at least not less."""

    NOT_ALWAYS = 0
    OR_EQUAL = 1
    ALWAYS = 2


def rising(numbers: Rows) -> Rising:
    """How numbers go on."""
    found = loops()
    if found is None:
        falls, stays = (numbers[1:] < numbers[:-1]).any(), (numbers[1:] == numbers[:-1]).any()
        return Rising.NOT_ALWAYS if falls else Rising.OR_EQUAL if stays else Rising.ALWAYS
    return Rising(found.oak_rising(len(numbers), place(np.ascontiguousarray(numbers))))
