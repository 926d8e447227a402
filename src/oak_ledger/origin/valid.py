"""Which row of a part is valid on a day: the rows of a key by the day from which they are, and the last day on which they are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import arrow_type, to_mask
from oak_ledger.errors import Place, UnusableInput
from oak_ledger.origin.formulas import computed
from oak_ledger.origin.spec import PartSpec
from oak_ledger.types import DATE, Type, common

Rows = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Valid:
    """For each row before, the row of the part that is valid then, -1 where none is; of how many keys ranges overlap."""

    at: Rows
    overlapping: int


def valid_rows(left: pa.Table, right: pa.Table, keys: tuple[Rows, Rows], spec: PartSpec) -> Valid:
    """The row of the same key that is valid on the day of each row; of several, the one that began last.

    Raises UnusableInput where days cannot be read, or have not one type.
    """
    day, kind = _ordered(left, spec.day, spec)
    starts, own = _ordered(right, spec.valid_from, spec)
    ends, end_kind = _ordered(right, spec.valid_until, spec) if spec.valid_until else (None, own)
    shared = common([kind, own, end_kind])
    if shared is None:
        message = f"The part {spec.name}: {spec.day} is {kind}, {spec.valid_from} is {own}."
        raise UnusableInput("join-key", message, hint="Cast one of them: --day 'CAST(Day AS DATE)'.")
    wanted = arrow_type(shared)
    codes = keys[1]
    usable = np.flatnonzero((codes >= 0) & to_mask(pc.is_valid(starts)))
    # Days and starts are ranked together: ranks are compared where values would be.
    overlapping = 0
    both = pa.concat_arrays([starts.cast(wanted), day.cast(wanted), *([] if ends is None else [ends.cast(wanted)])])
    ranks = pc.rank(both, tiebreaker="dense").to_numpy().astype(np.int64)
    begin, on = ranks[: right.num_rows], ranks[right.num_rows : right.num_rows + left.num_rows]
    order = usable[np.lexsort((usable, begin[usable], codes[usable]))]
    step = int(ranks.max(initial=0)) + 1
    place = codes[order] * step + begin[order]
    same_key = codes[order][1:] == codes[order][:-1]
    if ends is None:
        last = np.full(len(order), step)
    else:
        end = ranks[right.num_rows + left.num_rows :]
        last = np.where(to_mask(pc.is_null(ends)), step, end)[order]
    found = np.searchsorted(place, keys[0] * step + on, "right") - 1
    none = (keys[0] < 0) | to_mask(pc.is_null(day)) | (found < 0)
    found = np.where(none, -1, found)
    if len(order):
        found[(found >= 0) & (codes[order][found] != keys[0])] = -1
    if ends is not None and len(order):
        reach = _running_maximum(last, codes[order])
        overlapping = len(np.unique(codes[order][1:][same_key & (reach[:-1] >= begin[order][1:])]))
        while len(
            over := np.flatnonzero((found >= 0) & (last[found] < on))
        ):  # another that began earlier may still be valid
            earlier = found[over] - 1
            able = (earlier >= 0) & (codes[order][earlier] == keys[0][over])
            able &= reach[np.maximum(earlier, 0)] >= on[over]
            found[over] = np.where(able, earlier, -1)
    at = np.where(found >= 0, order[np.maximum(found, 0)], -1) if len(order) else np.full(left.num_rows, -1)
    return Valid(at.astype(np.int64), overlapping)


def _running_maximum(values: Rows, codes: Rows) -> Rows:
    """The largest value so far within each run of equal codes, which are in order."""
    step = int(values.max(initial=0)) + 1
    return np.asarray(np.maximum.accumulate(values + codes * step) - codes * step)


def _ordered(table: pa.Table, formula: str, spec: PartSpec) -> tuple[Any, Type]:
    """What a formula gives, with its type; texts are read as days."""
    values, kind = computed(table, formula, place=Place(name=f"part {spec.name}"))
    if kind.kind == "text":
        return computed(table, f"CAST(({formula}) AS DATE)", place=Place(name=f"part {spec.name}"), hint=_HINT)[0], DATE
    return values, kind


_HINT = (
    "Say how they are written, CAST(Day AS DATE FORMAT 'DD.MM.YYYY'), or join definitions, whose columns have types."
)
