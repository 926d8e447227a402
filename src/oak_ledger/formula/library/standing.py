"""Values laid out group after group, and which of them stand at given places when each group is in order: medians and percentiles."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from oak_ledger.formula.values import mask_of
from oak_ledger.loops.groups import Piece, by_group, standing

_MANY = 20_000  # groups that are too many to be parted one by one
Rows = npt.NDArray[np.int64]


class Laid:
    """Numbers group after group, without those that are null; `counts` says how many each group has."""

    def __init__(self, pieces: Sequence[Piece], groups: int) -> None:
        """Each piece has values (which tell what is null), the same as numbers, as they lie in memory or in their order, and the groups."""
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
        found = standing(self.numbers, self.starts, self.counts, upwards)
        if found is None:
            found = self._parted(upwards)
        made = np.empty_like(found)
        np.put_along_axis(made, order, found, axis=1)
        return [np.ascontiguousarray(made[:, at]) for at in range(len(places))]

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
