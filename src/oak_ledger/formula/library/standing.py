"""Which values stand at given places when each group is in order: medians and percentiles.

Values are laid out group after group, and parted at the places. Where they are many, a sample tells beforehand between which values those at
the places will lie: then only these few are laid out, and the others counted. What the sample misses is found the first way.
"""

from __future__ import annotations

from collections.abc import Sequence
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


class Laid:
    """Numbers by group, without those that are null; `counts` says how many each group has."""

    def __init__(self, pieces: Sequence[Piece], groups: int) -> None:
        """Each piece has values (which tell what is null), the same as numbers, as they lie in memory or in their order, and the groups."""
        self.pieces = pieces
        self.laid = False
        if sum(len(numbers) for _, numbers, _ in pieces) >= ENOUGH * groups:
            found = sampled(pieces, groups, EACH)
            if found is not None:
                self.counts, *self.sample = found
                return
        self._lay(groups)

    def _lay(self, groups: int) -> None:
        """All of them, group after group."""
        self.laid, pieces = True, self.pieces
        quick = by_group(pieces, groups)
        if quick is not None:
            self.numbers, self.starts, self.counts = quick
            return
        known = [mask_of(pc.is_valid(values)) for values, _, _ in pieces]
        numbers = np.concatenate([own[there] for (_, own, _), there in zip(pieces, known, strict=True)])
        codes = np.concatenate([own[there] for (_, _, own), there in zip(pieces, known, strict=True)])
        self.counts = np.bincount(codes, minlength=groups).astype(np.int64)
        self.starts = np.cumsum(self.counts) - self.counts
        if groups > _MANY:
            self.numbers = numbers[np.lexsort((numbers, codes))]
        else:  # small codes are sorted by counting
            self.numbers = numbers[np.argsort(codes.astype(np.uint16), kind="stable")]

    def at(self, *places: Rows) -> list[Any]:
        """The numbers that stand at these places, counted from 0 in each group, when the group is in order; 0 where a group is empty."""
        wanted = np.stack(places, axis=1)
        order = np.argsort(wanted, axis=1, kind="stable")
        upwards = np.ascontiguousarray(np.take_along_axis(wanted, order, axis=1))
        found = None if self.laid else self._by_sample(upwards)
        if found is None:
            if not self.laid:
                self._lay(len(self.counts))
            found = standing(self.numbers, self.starts, self.counts, upwards)
        if found is None:
            found = self._parted(upwards)
        made = np.empty_like(found)
        np.put_along_axis(made, order, found, axis=1)
        return [np.ascontiguousarray(made[:, at]) for at in range(len(places))]

    def _by_sample(self, places: Rows) -> Any | None:
        """The same from those few that may stand there; None where the sample has misled."""
        groups, (chosen, of_chosen) = len(self.counts), self.sample
        sample = by_group([(array_of(chosen), chosen, of_chosen)], groups)
        if sample is None or chosen.dtype not in _ENDS:
            return None
        numbers, starts, sizes = sample
        share = sizes / np.maximum(self.counts, 1)
        away = SURE * np.sqrt(sizes) + 1
        first, last = np.floor(places[:, 0] * share - away), np.ceil(places[:, -1] * share + away)
        inside = np.clip(np.stack([first, last], axis=1), 0, np.maximum(sizes - 1, 0)[:, None]).astype(np.int64)
        ends = standing(numbers, starts, sizes, inside)
        if ends is None:
            return None
        least, most = _ENDS[numbers.dtype]
        low, high = np.where(first < 0, least, ends[:, 0]), np.where(last >= sizes, most, ends[:, 1])
        most = min(
            4 * float(np.max(away / np.maximum(sizes, 1), initial=0)), 1
        )  # the share of them that may lie between
        found = between(self.pieces, low, high, int(most * sum(len(own) for _, _, own in self.pieces)) + _SPARE)
        if found is None:
            return None
        taken, of, below = found
        laid = by_group([(array_of(taken), taken, of)], groups)
        inner = places - below[:, None]
        if laid is None or ((self.counts > 0) & ((inner[:, 0] < 0) | (inner[:, -1] >= laid[2]))).any():
            return None
        return standing(*laid, inner)

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


_ENDS = {np.dtype(np.float64): (-np.inf, np.inf), np.dtype(np.int64): (-(2**63), 2**63 - 1)}
_SPARE = 1 << 16  # numbers more than a sample lets expect
