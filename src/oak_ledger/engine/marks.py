"""Different values by group as marks, for `COUNT(DISTINCT …)` where groups and values are few: one byte for each pair that may occur.

The plain meaning is that of `groups.distinct_counts` over all values. What grows too large gives its pairs back, to be kept as values are.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.groups import DENSE, Labels, numbered_cheaply
from oak_ledger.formula.values import array_of, mask_of
from oak_ledger.loops.groups import marked

Rows = npt.NDArray[np.int64]
Matrix = npt.NDArray[np.uint8]
LARGEST = 1 << 24  # bytes for all groups
_EACH = 8  # bytes for each row of a slice


@dataclass(frozen=True, slots=True)
class Marked:
    """The different values of a slice, and for each group (a row) which of them it has."""

    labels: Any
    seen: Matrix


def marks_of(values: Any, codes: Rows, groups: int) -> Marked | None:
    """The marks of a slice; None where there would be too many. Rows whose code is not below `groups` do not count."""
    found = numbered_cheaply(values)
    if found is None or groups * len(found[1]) > max(_EACH * len(codes), DENSE):
        return None
    numbers, labels = found
    seen = marked(numbers, codes, groups, len(labels))
    if seen is None:
        return None
    if labels.null_count:
        known = mask_of(pc.is_valid(labels))
        labels, seen = labels.filter(array_of(known)), seen[:, known]
    return Marked(labels, seen)


@dataclass(slots=True)
class Marks:
    """The marks of all slices so far."""

    labels: Labels = field(default_factory=Labels)
    seen: Matrix = field(default_factory=lambda: np.zeros((0, 0), np.uint8))

    @staticmethod
    def of(part: Marked) -> Marks:
        """Those of one slice."""
        made = Marks(seen=part.seen)
        made.labels.numbers(part.labels)
        return made

    def absorb(self, part: Marked, place: Rows, groups: int) -> bool:
        """Take in a slice, whose groups have these numbers among all; False where that would be too large."""
        numbers = self.labels.numbers(part.labels)
        height, width = max(self.seen.shape[0], groups), max(self.seen.shape[1], len(self.labels.values))
        if height * width > LARGEST:
            return False
        if self.seen.shape != (height, width):
            grown = np.zeros((height, width), np.uint8)
            grown[: self.seen.shape[0], : self.seen.shape[1]] = self.seen
            self.seen = grown
        if len(numbers) and numbers[-1] - numbers[0] == len(numbers) - 1 and (np.diff(numbers) == 1).all():
            self.seen[place, numbers[0] : numbers[-1] + 1] |= part.seen
        else:
            self.seen[np.ix_(place, numbers)] |= part.seen
        return True

    def counts(self, groups: int) -> Rows:
        """How many different values each group has."""
        found = self.seen[:groups].sum(axis=1, dtype=np.int64)
        return np.append(found, np.zeros(groups - len(found), np.int64))

    def overall(self) -> Rows:
        """How many there are in all groups together."""
        return np.array([np.count_nonzero(self.seen.any(axis=0))], np.int64)

    def pairs(self) -> tuple[Rows, Any]:
        """Each group and value once."""
        groups, values = np.nonzero(self.seen)
        labels = self.labels.values if self.labels.values is not None else pa.array([], pa.int64())
        return groups, labels.take(array_of(values))
