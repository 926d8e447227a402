"""Different values by group, for `COUNT(DISTINCT …)`: a bitmap where groups and values are few, else one sort of group and value together."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask
from oak_ledger.columnar.ordering import PACKED_BITS, dense_numbers
from oak_ledger.engine.aggregate.groups import DENSE_GROUPS, LabelDictionary, RowIndexes, encode_all, numbered
from oak_ledger.functions.accumulators import Groups

Matrix = npt.NDArray[np.uint8]
MAX_BITMAP_BYTES = 1 << 24
MAX_BYTES_A_ROW = 8  # of a slice's bitmap


@dataclass(frozen=True, slots=True)
class SliceBitmap:
    """The distinct values of a slice, and for each group (a row) which of them it has."""

    labels: Any
    seen: Matrix


def slice_bitmap(values: Any, groups: Groups) -> SliceBitmap | None:
    """Group by value for a slice; None where that would be too large."""
    kind = values.type
    if not (
        pa.types.is_dictionary(kind)
        or pa.types.is_integer(kind)
        or pa.types.is_date32(kind)
        or pa.types.is_boolean(kind)
    ):
        part = values.slice(len(values) // 2, 1024)  # others are hashed: only where a look at some says that few differ
        if pc.count_distinct(part).as_py() * 4 > len(part):
            return None
    numbers, labels = numbered(values)
    if groups.count * len(labels) > max(MAX_BYTES_A_ROW * len(groups.codes), DENSE_GROUPS):
        return None
    flat = np.zeros(groups.count * len(labels), np.uint8)
    flat[groups.codes * len(labels) + numbers] = 1
    seen = flat.reshape(groups.count, len(labels))
    if labels.null_count:
        known = to_mask(pc.is_valid(labels))
        labels, seen = labels.filter(from_numpy(known)), seen[:, known]
    return SliceBitmap(labels, seen)


@dataclass(slots=True)
class DistinctBitmap:
    """The bitmaps of all slices so far, as one."""

    labels: LabelDictionary = field(default_factory=LabelDictionary)
    seen: Matrix = field(default_factory=lambda: np.zeros((0, 0), np.uint8))

    @staticmethod
    def of(part: SliceBitmap) -> DistinctBitmap:
        """That of one slice."""
        bitmap = DistinctBitmap(seen=part.seen)
        bitmap.labels.numbers(part.labels)
        return bitmap

    def absorb(self, part: SliceBitmap, place: RowIndexes, groups: int) -> bool:
        """Take in a slice, whose groups have these numbers among all; False where that would be too large."""
        numbers = self.labels.numbers(part.labels)
        height, width = max(self.seen.shape[0], groups), max(self.seen.shape[1], len(self.labels.values))
        if height * width > MAX_BITMAP_BYTES:
            return False
        if self.seen.shape != (height, width):
            grown = np.zeros((height, width), np.uint8)
            grown[: self.seen.shape[0], : self.seen.shape[1]] = self.seen
            self.seen = grown
        self.seen[np.ix_(place, numbers)] |= part.seen
        return True

    def counts(self, groups: int) -> RowIndexes:
        """How many distinct values each group has."""
        found = self.seen[:groups].sum(axis=1, dtype=np.int64)
        return np.append(found, np.zeros(groups - len(found), np.int64))

    def overall(self) -> RowIndexes:
        """How many there are in all groups together."""
        return np.array([np.count_nonzero(self.seen.any(axis=0))], np.int64)

    def pairs(self) -> tuple[RowIndexes, Any]:
        """Each group and value once."""
        groups, values = np.nonzero(self.seen)
        labels = self.labels.values if self.labels.values is not None else pa.array([], pa.int64())
        return groups, labels.take(from_numpy(values))


def distinct_rows(values: Any, groups: Groups) -> RowIndexes:
    """One row for each distinct value of each group, the first one; nulls are left out."""
    packed, bits = _pairs(values, groups)
    _, first = dense_numbers(packed, bits)
    return np.sort(first if not values.null_count else first[to_mask(pc.is_valid(values))[first]])


def distinct_counts(values: Any, groups: Groups) -> Any:
    """How many distinct values each group has; nulls are left out."""
    if values.null_count:
        valid = to_mask(pc.is_valid(values))
        values, groups = values.filter(from_numpy(valid)), groups.where(valid)
    packed, bits = _pairs(values, groups)
    if bits > PACKED_BITS:
        _, first = dense_numbers(packed, bits)
        return from_numpy(np.bincount(groups.codes[first], minlength=groups.count))
    packed.sort()
    first = np.ones(len(packed), np.bool_)
    np.not_equal(packed[1:], packed[:-1], out=first[1:])
    value_bits = bits - _bits(groups.count)
    return from_numpy(np.bincount(packed[first] >> value_bits, minlength=groups.count))


def _pairs(values: Any, groups: Groups) -> tuple[RowIndexes, int]:
    """Group and value as one number a row, and how many bits it takes."""
    numbers, value_bits = _value_numbers(values)
    group_bits = _bits(groups.count)
    if group_bits + value_bits > PACKED_BITS:
        numbers, first = dense_numbers(numbers, value_bits)
        value_bits = _bits(len(first))
    packed = np.asarray(groups.codes, np.int64) << value_bits
    packed |= numbers
    return packed, group_bits + value_bits


def _bits(count: int) -> int:
    return max(count - 1, 1).bit_length()


def _value_numbers(values: Any) -> tuple[RowIndexes, int]:
    """A number from 0 for each distinct value, and how many bits they take."""
    kind = values.type
    whole = pa.types.is_integer(kind) or pa.types.is_temporal(kind)
    if whole and len(values) and not values.null_count:
        numbers = numpy_view(values).astype(np.int64, copy=False)
        low, high = int(numbers.min()), int(numbers.max())
        if high - low < 2**48:
            return numbers - low, max(high - low, 1).bit_length()
    codes, different = encode_all(values)
    return codes.astype(np.int64), _bits(len(different))
