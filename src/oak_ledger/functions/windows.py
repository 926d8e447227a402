"""Window functions: the value of a row from the rows around it.

An implementation gets the rows sorted by partition and order, and for each its place: where its partition and its
peers begin and end, and where its frame does.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, to_mask
from oak_ledger.functions.registry import LIBRARY, CallContext, ComputeError, Function, function

Places = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Around:
    """The surroundings of each row, in the sorted order, as positions from 0; ends are exclusive.

    Made from where partitions and peers begin, and from the frame: `edges` gives (low, high), empty where low is not below high;
    without one it reaches from the partition's beginning to the last peer.
    """

    begins: npt.NDArray[np.bool_]
    differs: npt.NDArray[np.bool_]
    edges: Callable[[Around], tuple[Places, Places]] | None = None

    @property
    def usual(self) -> bool:
        """Whether the frame is the usual one: from the partition's beginning to the last peer."""
        return self.edges is None

    @cached_property
    def all_differ(self) -> bool:
        """Whether no row has a peer."""
        return bool(self.differs.all())

    @cached_property
    def size(self) -> int:
        """How many rows there are."""
        return len(self.begins)

    @cached_property
    def here(self) -> Places:
        """Each row's own position."""
        return np.arange(self.size)

    @cached_property
    def _partition(self) -> tuple[Places, Places]:
        return spans(self.begins)

    @cached_property
    def _peers(self) -> tuple[Places, Places]:
        return spans(self.differs)

    @property
    def start(self) -> Places:
        """Where the row's partition begins."""
        return self._partition[0]

    @property
    def end(self) -> Places:
        """Where it ends."""
        return self._partition[1]

    @property
    def peers(self) -> Places:
        """Where the rows begin that are equal in order."""
        return self._peers[0]

    @property
    def peers_end(self) -> Places:
        """Where they end."""
        return self._peers[1]

    @cached_property
    def _frame(self) -> tuple[Places, Places]:
        if self.edges is None:
            return self.start, self.peers_end
        low, high = self.edges(self)
        return np.clip(low, self.start, self.end), np.clip(high, self.start, self.end)

    @property
    def low(self) -> Places:
        """Where the row's frame begins."""
        return self._frame[0]

    @property
    def high(self) -> Places:
        """Where it ends."""
        return self._frame[1]


def spans(begins: npt.NDArray[np.bool_]) -> tuple[Places, Places]:
    """Where the span of each position begins and ends."""
    size = len(begins)
    first = np.flatnonzero(begins)
    lengths = np.diff(np.append(first, size))
    return np.repeat(first, lengths), np.repeat(first + lengths, lengths)


def _taken(values: Any, at: Places, inside: npt.NDArray[np.bool_]) -> Any:
    return values.take(from_numpy(np.where(inside, at, 0), mask=~inside))


def _shift(run: CallContext, around: Around, values: Any, rest: tuple[Any, ...], direction: int) -> Any:
    if not around.size:
        return values
    fixed = run.constants[1] if rest else 1
    if isinstance(fixed, int) and 0 <= fixed <= around.size:
        return _shifted(around, values, direction * fixed, rest)
    steps = rest[0].to_numpy(zero_copy_only=False)
    unknown = np.isnan(steps) if steps.dtype.kind == "f" else np.zeros(len(steps), np.bool_)
    at = around.here + direction * np.where(unknown, 0, steps).astype(np.int64)
    inside = (at >= around.start) & (at < around.end)
    made = _taken(values, at, inside & ~unknown)
    return made if len(rest) < 2 else pc.if_else(from_numpy(inside | unknown), made, rest[1])


def _shifted(around: Around, values: Any, steps: int, rest: tuple[Any, ...]) -> Any:
    """Every row's value so many rows after (before, where negative): the whole column moved, its partitions' edges with_nulls."""
    size, away = around.size, abs(steps)
    gap = pa.nulls(away, values.type)
    if steps < 0:
        moved = pa.concat_arrays([gap, values.slice(0, size - away)])
        inside = ~around.begins if away == 1 else around.here - around.start >= away
    else:
        moved = pa.concat_arrays([values.slice(away), gap])
        inside = around.end - around.here > away
    return pc.if_else(from_numpy(inside), moved, rest[1] if len(rest) > 1 else pa.scalar(None, values.type))


@function(
    "LAG(x any, [n integer], [default any]) -> same",
    topic="window",
    sentence="The value n rows before (1 when left out) in the order of the window; the default, else null, where there is none.",
    nulls="Null where that row's value is null.",
    examples=[("LAG(Volume) OVER (ORDER BY Day)", "4.5"), ("LAG(Volume, 1, 0) OVER (ORDER BY Day)", "4.5")],
    window=True,
)
def lag(run: CallContext, around: Around, values: Any, *rest: Any) -> Any:
    """The value of a row before."""
    return _shift(run, around, values, rest, -1)


@function(
    "LEAD(x any, [n integer], [default any]) -> same",
    topic="window",
    sentence="The value n rows after (1 when left out) in the order of the window; the default, else null, where there is none.",
    nulls="Null where that row's value is null.",
    examples=[("LEAD(Volume) OVER (ORDER BY Day)", "24.0"), ("LEAD(Volume, 2) OVER (ORDER BY Day)", "11.5")],
    window=True,
)
def lead(run: CallContext, around: Around, values: Any, *rest: Any) -> Any:
    """The value of a row after."""
    return _shift(run, around, values, rest, 1)


@function(
    "FIRST_VALUE(x any) -> same",
    topic="window",
    sentence="The first value of the window's frame.",
    nulls="Null where that value is null, or the frame is empty.",
    examples=[
        ("FIRST_VALUE(Volume) OVER (ORDER BY Day)", "4.5"),
        ("FIRST_VALUE(Mill) OVER (PARTITION BY Mill ORDER BY Day)", "Low Weir"),
    ],
    window=True,
)
def first_value(run: CallContext, around: Around, values: Any) -> Any:
    """The first value of the frame."""
    return _taken(values, around.low, around.low < around.high)


@function(
    "LAST_VALUE(x any) -> same",
    topic="window",
    sentence="The last value of the window's frame, which ends with the row itself and its peers unless said otherwise.",
    nulls="Null where that value is null, or the frame is empty.",
    examples=[
        ("LAST_VALUE(Volume) OVER (ORDER BY Day)", "12.0"),
        ("LAST_VALUE(Volume) OVER (ORDER BY Day ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING)", "12.5"),
    ],
    window=True,
)
def last_value(run: CallContext, around: Around, values: Any) -> Any:
    """The last value of the frame."""
    return _taken(values, around.high - 1, around.low < around.high)


@function(
    "ROW_NUMBER() -> integer",
    topic="window",
    sentence="The number of the row in its partition, from 1; rows that are equal in order are numbered in the order in which they arrive.",
    nulls="Never null.",
    examples=[
        ("ROW_NUMBER() OVER (ORDER BY Day)", "2"),
        ("ROW_NUMBER() OVER (PARTITION BY Mill ORDER BY Day DESC)", "2"),
    ],
    window=True,
)
def row_number(run: CallContext, around: Around) -> Any:
    """Numbers from 1."""
    return from_numpy(around.here - around.start + 1)


@function(
    "RANK() -> integer",
    topic="window",
    sentence="One more than the rows that come before in order; equal rows have the same rank, and gaps follow them.",
    nulls="Never null.",
    examples=[("RANK() OVER (ORDER BY Mill)", "4"), ("RANK() OVER (ORDER BY Volume)", "3")],
    window=True,
)
def rank(run: CallContext, around: Around) -> Any:
    """Ranks with gaps."""
    return from_numpy(around.peers - around.start + 1)


@function(
    "DENSE_RANK() -> integer",
    topic="window",
    sentence="One more than the distinct values that come before in order: ranks without gaps.",
    nulls="Never null.",
    examples=[("DENSE_RANK() OVER (ORDER BY Mill)", "2"), ("DENSE_RANK() OVER (ORDER BY Volume)", "3")],
    window=True,
)
def dense_rank(run: CallContext, around: Around) -> Any:
    """Ranks without gaps."""
    begins = np.cumsum(around.peers == around.here)
    return from_numpy(begins - begins[around.start] + 1 if len(begins) else begins)


@function(
    "NTILE(n integer) -> integer",
    topic="window",
    sentence="In which of n parts of nearly the same size the row lies, from 1; the first parts are larger by one where it does not come out even.",
    examples=[("NTILE(2) OVER (ORDER BY Day)", "1"), ("NTILE(3) OVER (ORDER BY Day)", "1")],
    window=True,
    constant_args=(0,),
)
def ntile(run: CallContext, around: Around, n: Any) -> Any:
    """Parts of nearly the same size."""
    parts = run.constants[0]
    if parts is None:
        return pa.nulls(around.size, pa.int64())
    if parts < 1:
        raise ComputeError("fewer than one part")
    size = around.end - around.start
    small, larger = size // parts, size % parts
    at = around.here - around.start
    edge = larger * (small + 1)
    made = np.where(at < edge, at // (small + 1), larger + (at - edge) // np.maximum(small, 1))
    return from_numpy(made + 1)


@function(
    "PERCENT_RANK() -> number",
    topic="window",
    sentence="The share of the other rows that come before in order, from 0 for the first to 1 for the last.",
    nulls="Never null; 0 in a partition of one row.",
    examples=[
        ("PERCENT_RANK() OVER (ORDER BY Day)", "0.2"),
        ("PERCENT_RANK() OVER (PARTITION BY Volume ORDER BY Day)", "0"),
    ],
    window=True,
)
def percent_rank(run: CallContext, around: Around) -> Any:
    """Ranks from 0 to 1."""
    return from_numpy((around.peers - around.start) / np.maximum(around.end - around.start - 1, 1).astype(np.float64))


@function(
    "CUME_DIST() -> number",
    topic="window",
    sentence="The share of the rows that come before in order or are equal in it, the row itself among them.",
    nulls="Never null.",
    examples=[
        ("CUME_DIST() OVER (ORDER BY Mill)", "1"),
        ("CUME_DIST() OVER (PARTITION BY Mill ORDER BY Volume DESC)", "0.6666666666666666"),
    ],
    window=True,
)
def cume_dist(run: CallContext, around: Around) -> Any:
    """Shares up to the last peer."""
    return from_numpy((around.peers_end - around.start) / (around.end - around.start).astype(np.float64))


def _known(values: Any) -> tuple[npt.NDArray[np.bool_], Places, Places]:
    """Which rows have a value, their positions, and for each position how many of them lie before it."""
    known = to_mask(pc.is_valid(values))
    return known, np.flatnonzero(known), np.concatenate([[0], np.cumsum(known)])


def _end_known(run: CallContext, around: Around, values: Any, *, last: bool) -> Any:
    """The first or the last value of the frame that is not null."""
    _, places, before = _known(values)
    at = before[around.high] - 1 if last else before[around.low]
    inside = before[around.high] > before[around.low]
    return _taken(values, places[np.where(inside, at, 0)] if len(places) else around.here, inside & (len(places) > 0))


def _shift_known(run: CallContext, around: Around, values: Any, *rest: Any, direction: int) -> Any:
    """The value so many rows that are not null before or after."""
    known, places, before = _known(values)
    steps = np.full(around.size, 1) if not rest else np.nan_to_num(rest[0].to_numpy(zero_copy_only=False)).astype(np.int64)  # fmt: skip
    at = before[around.here] - steps if direction < 0 else before[around.here] + known + steps - 1
    low, high = before[around.start], before[around.end]
    inside = (at >= low) & (at < high)
    here = (steps == 0) & known
    array = places[np.where(inside, at, 0)] if len(places) else around.here
    made = _taken(values, np.where(steps == 0, around.here, array), np.where(steps == 0, here, inside))
    outside = ~np.where(steps == 0, True, inside)
    return made if len(rest) < 2 else pc.if_else(from_numpy(outside), rest[1], made)


IGNORING_NULLS: dict[str, Function] = {
    name: replace(LIBRARY.entries[name], name=f"{name} IGNORE NULLS", run=run)
    for name, run in (
        ("LAG", partial(_shift_known, direction=-1)),
        ("LEAD", partial(_shift_known, direction=1)),
        ("FIRST_VALUE", partial(_end_known, last=False)),
        ("LAST_VALUE", partial(_end_known, last=True)),
    )
}
"""What these are with IGNORE NULLS: rows whose value is null are passed over."""
