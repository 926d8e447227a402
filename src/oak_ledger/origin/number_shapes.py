"""Plain numbers by their kinds: what a batch of texts is like, if all of them are such, by arithmetic on their bytes."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from typing import Any

import numpy as np
import numpy.typing as npt

Counts = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
MAX_LENGTH, MAX_WHOLE_DIGITS = 32, 18
_MINUS, _ZERO = ord("-"), ord("0")
_CLASS = np.full(256, 4, np.uint8)  # 0 a digit, 1 a point, 2 a comma, 3 a minus, 4 anything else
_CLASS[ord("0") : ord("9") + 1] = 0
_CLASS[[ord("."), ord(","), _MINUS]] = 1, 2, 3


class Mark(IntEnum):
    """What comes before the decimals of a plain number."""

    NONE = 0
    DOT = 1
    COMMA = 2


@dataclass(frozen=True, slots=True)
class Numbers:
    """Plain numbers by their kinds: digits, maybe with a minus before and one mark between, without a zero before other digits, and of no more than
    18 digits where they have no mark. Of each kind the mark, how many digits come before and after it, whether there is a minus, and how many there are.
    """

    mark: Counts
    before: Counts
    after: Counts
    minus: Mask
    zero: Mask
    """Whether a zero comes first."""
    counts: Counts

    def count(self, which: Mask) -> int:
        """How many are of some kinds."""
        return int(self.counts[which].sum())

    def decimals(self, mark: Mark) -> int:
        """The most digits behind such a mark."""
        return int(self.after[self.mark == mark].max(initial=0))

    @property
    def wholes(self) -> int:
        """The most digits before a mark."""
        return int(self.before.max())

    @property
    def longest(self) -> int:
        """The most characters."""
        return int((self.minus + self.before + (self.after > 0) + self.after).max())


def plain_numbers(values: Any) -> Numbers | None:
    """What the numbers of a string array are like; None where a value is anything but a plain number, and where there is none."""
    if len(values) == values.null_count:
        return None
    texts = values.drop_null() if values.null_count else values
    edges = np.frombuffer(texts.buffers()[1], np.int32)[texts.offset : texts.offset + len(texts) + 1]
    starts, lengths = edges[:-1], np.diff(edges)
    if lengths.min() < 1 or lengths.max() > MAX_LENGTH:
        return None
    data = np.frombuffer(texts.buffers()[2], np.uint8)
    first = int(edges[0])
    classes = _CLASS[data[first : edges[-1]]]
    most = classes.max()
    if most > 3:
        return None
    minus = data[starts] == _MINUS
    if most == 3 and np.count_nonzero(classes == 3) != np.count_nonzero(minus):
        return None
    marks, before, after = np.zeros(len(texts), np.int32), lengths - minus, np.zeros(len(texts), np.int32)
    if most > 0:
        at = np.flatnonzero((classes - np.uint8(1)) < 2).astype(np.int32)  # of points and commas
        kind = classes[at]
        at += first
        if len(at) == len(texts) and (at >= starts).all() and (at < edges[1:]).all():  # one in each
            marks = kind.astype(np.int32)
            after, before = edges[1:] - at - 1, at - starts - minus
        else:
            owner = np.searchsorted(starts, at, "right") - 1
            if (np.diff(owner) == 0).any():
                return None
            marks[owner] = kind
            after[owner] = edges[owner + 1] - at - 1
            before[owner] = at - starts[owner] - minus[owner]
        if (after < 1)[marks > 0].any():
            return None
    if before.min() < 1 or (before[marks == Mark.NONE]).max(initial=0) > MAX_WHOLE_DIGITS:
        return None
    zero = data[starts + minus] == _ZERO
    if (zero & (before > 1)).any():
        return None
    kinds = (((marks * 2 + zero) * 2 + minus) * 32 + before) * 32 + after
    counts = np.bincount(kinds)
    array = np.flatnonzero(counts)
    return Numbers(
        array >> 12, array >> 5 & 31, array & 31, (array >> 10 & 1) > 0, (array >> 11 & 1) > 0, counts[array]
    )
