"""Which values stand at given places when each group is in order: medians and percentiles.

Values are laid out group after group, and parted at the places. Where they are many, a sample tells beforehand between which values those at
the places will lie: then only these few are laid out, and the others counted. What the sample misses is found the first way.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from oak_ledger.formula.values import array_of, mask_of
from oak_ledger.loops.groups import Piece
from oak_ledger.loops.standing import between, by_group, sampled, standing

_MANY = 20_000  # groups that are too many to be parted one by one
EACH = 32  # one value of so many is in the sample
ENOUGH = 2048  # values a group, on the average, from which on a sample is worth it
SURE = 2.5  # how far beside the sample's own place one looks, times the root of its size: five standard deviations
Rows = npt.NDArray[np.int64]


Wanted = Callable[[Rows], Sequence[Rows]]
"""At which places values are wanted, from how many each group has: some for each group, counted from 0, when the group is in order."""


class Laid:
    """Numbers by group, without those that are null."""

    def __init__(self, pieces: Sequence[Piece], groups: int) -> None:
        """Each piece has values (which tell what is null), the same as numbers, as they lie in memory or in their order, and the groups."""
        self.pieces, self.groups = pieces, groups

    def at(self, wanted: Wanted) -> tuple[list[Any], Rows]:
        """The numbers that stand at the places wanted (0 where a group is empty), and how many there are of each group."""
        made = None
        if sum(len(numbers) for _, numbers, _ in self.pieces) >= ENOUGH * self.groups:
            made = self._by_sample(wanted)
        if made is None:
            self._lay()
            places, order = _upwards(wanted(self.counts))
            found = standing(self.numbers, self.starts, self.counts, places)
            made = self._parted(places) if found is None else found, order, self.counts
        found, order, counts = made
        back = np.empty_like(found)
        np.put_along_axis(back, order, found, axis=1)
        return [np.ascontiguousarray(back[:, at]) for at in range(back.shape[1])], counts

    def _lay(self) -> None:
        """All of them, group after group."""
        quick = by_group(self.pieces, self.groups)
        if quick is not None:
            self.numbers, self.starts, self.counts = quick
            return
        known = [mask_of(pc.is_valid(values)) for values, _, _ in self.pieces]
        numbers = np.concatenate([own[there] for (_, own, _), there in zip(self.pieces, known, strict=True)])
        codes = np.concatenate([own[there] for (_, _, own), there in zip(self.pieces, known, strict=True)])
        self.counts = np.bincount(codes, minlength=self.groups).astype(np.int64)
        self.starts = np.cumsum(self.counts) - self.counts
        if self.groups > _MANY:
            self.numbers = numbers[np.lexsort((numbers, codes))]
        else:  # small codes are sorted by counting
            self.numbers = numbers[np.argsort(codes.astype(np.uint16), kind="stable")]

    def _by_sample(self, wanted: Wanted) -> tuple[Any, Rows, Rows] | None:
        """What stands at the places, upwards, their order, and the counts, from those few that may stand there; None where the sample has misled."""
        found = sampled(self.pieces, EACH)
        if found is None or found[0].dtype not in _ENDS:
            return None
        sample = by_group([(array_of(found[0]), *found)], self.groups)
        if sample is None:
            return None
        numbers, starts, sizes = sample
        likely, _ = _upwards(wanted(sizes * EACH))
        away = SURE * np.sqrt(sizes) + 1
        first, last = np.floor(likely[:, 0] / EACH - away), np.ceil(likely[:, -1] / EACH + away)
        inside = np.clip(np.stack([first, last], axis=1), 0, np.maximum(sizes - 1, 0)[:, None]).astype(np.int64)
        ends = standing(numbers, starts, sizes, inside)
        if ends is None:
            return None
        least, most = _ENDS[numbers.dtype]
        low, high = np.where(first < 0, least, ends[:, 0]), np.where(last >= sizes, most, ends[:, 1])
        # the share of them that may lie between
        share = min(4 * float(np.max(away / np.maximum(sizes, 1), initial=0)), 1)
        few = between(self.pieces, low, high, int(share * sum(len(own) for _, _, own in self.pieces)) + _SPARE)
        if few is None:
            return None
        taken, of, below, counts = few
        laid = by_group([(array_of(taken), taken, of)], self.groups)
        places, order = _upwards(wanted(counts))
        inner = places - below[:, None]
        if laid is None or ((counts > 0) & ((inner[:, 0] < 0) | (inner[:, -1] >= laid[2]))).any():
            return None
        stand = standing(*laid, inner)
        return None if stand is None else (stand, order, counts)

    def _parted(self, places: Rows) -> Any:
        """The same, group by group: they are not sorted, only parted at the places."""
        if len(self.counts) <= _MANY:
            rows: Sequence[Any] = [self.starts.tolist(), self.counts.tolist(), places.tolist()]
            for start, count, wanted in zip(*rows, strict=True):
                if count > 1:
                    self.numbers[start : start + count].partition(sorted(set(wanted)))
        filled = self.counts > 0
        made = np.zeros(places.shape, self.numbers.dtype)
        made[filled] = self.numbers[(self.starts[:, None] + places)[filled]]
        return made


def _upwards(places: Sequence[Rows]) -> tuple[Rows, Rows]:
    """Places side by side, upwards for each group, and in which order they were."""
    wanted = np.stack(places, axis=1)
    order = np.argsort(wanted, axis=1, kind="stable")
    return np.ascontiguousarray(np.take_along_axis(wanted, order, axis=1)), order


_ENDS = {np.dtype(np.float64): (-np.inf, np.inf), np.dtype(np.int64): (-(2**63), 2**63 - 1)}
_SPARE = 1 << 16  # numbers more than a sample lets expect
