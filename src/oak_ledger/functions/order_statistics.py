"""Which values are at given ranks of each group: medians and percentiles. Values are sorted group by group, as numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import to_mask
from oak_ledger.columnar.ordering import PACKED_BITS
from oak_ledger.functions.accumulators import Groups

MANY_GROUPS = 20_000  # too many to be sorted one by one
Ranks = npt.NDArray[np.int64]


class GroupedValues:
    """Numbers group after group, each group's in order, without those that are null."""

    def __init__(self, values: Any, numbers: Any, groups: Groups) -> None:
        """`values` are Arrow's, which say what is null; `numbers` the same in the order of the values."""
        codes = groups.codes
        if values.null_count:
            there = to_mask(pc.is_valid(values))
            numbers, codes = numbers[there], codes[there]
        self.counts = np.bincount(codes, minlength=groups.count)
        self.starts = np.cumsum(self.counts) - self.counts
        self.numbers = np.sort(numbers) if groups.count == 1 else self._by_group(numbers, codes, groups.count)

    def _by_group(self, numbers: Any, codes: Any, groups: int) -> Any:
        """Whole numbers are sorted together with their group, where both fit into one number; others group by group."""
        group_bits = max(groups - 1, 1).bit_length()
        if numbers.dtype.kind == "i" and len(numbers):
            low, high = int(numbers.min()), int(numbers.max())
            bits = max(high - low, 1).bit_length()
            if group_bits + bits <= PACKED_BITS:
                packed = np.asarray(codes, np.int64) << bits
                packed |= numbers - low
                packed.sort()
                return (packed & ((1 << bits) - 1)) + low
        row_bits = max(len(numbers) - 1, 1).bit_length()
        if groups > MANY_GROUPS:  # by their rank among all, packed with their group
            order = np.argsort(numbers)
            rank = np.empty(len(order), np.int64)
            rank[order] = np.arange(len(order))
            packed = np.asarray(codes, np.int64) << row_bits | rank
            packed.sort()
            return numbers[order[packed & ((1 << row_bits) - 1)]]
        rows = np.asarray(codes, np.int64) << row_bits
        rows |= np.arange(len(numbers))
        rows.sort()
        ordered = numbers[rows & ((1 << row_bits) - 1)]
        for begin, count in zip(self.starts.tolist(), self.counts.tolist(), strict=True):
            if count > 1:
                ordered[begin : begin + count].sort()
        return ordered

    def at(self, ranks: Ranks) -> Any:
        """The number at a rank of each group, counted from 0; 0 where a group is empty."""
        if not len(self.numbers):
            return np.zeros(len(ranks), self.numbers.dtype)
        found = self.numbers[np.minimum(self.starts + ranks, len(self.numbers) - 1)]
        return np.where(self.counts > 0, found, found.dtype.type(0))
