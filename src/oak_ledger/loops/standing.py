"""Values by their place: which stand where when each group is in order. None where there is no compiled loop, or it cannot tell."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from oak_ledger.loops import loops
from oak_ledger.loops.groups import Piece, told_pieces
from oak_ledger.loops.memory import place

Rows = npt.NDArray[np.int64]


def by_group(pieces: Sequence[Piece], groups: int) -> tuple[Any, Rows, Rows] | None:
    """Words group after group, in the order of the rows, without those that are null: with where each group's begin, and how many it has."""
    found = loops()
    kind = pieces[0][1].dtype if pieces else np.dtype(np.float64)
    if found is None or any(numbers.dtype != kind or kind.itemsize != 8 for _, numbers, _ in pieces):
        return None
    starts, counts, told = np.empty(groups, np.int64), np.zeros(groups, np.int64), told_pieces(pieces)
    made = np.empty(sum(len(numbers) - values.null_count for values, numbers, _ in pieces), kind)
    found.oak_by_group(place(told), len(told), groups, place(starts), place(counts), place(made))
    return made, starts, counts


def standing(laid: Any, starts: Rows, counts: Rows, places: Rows) -> Any | None:
    """The numbers that stand at `places` (a row a group, upwards) when each group is in order; 0 where one is empty.

    `laid` has the numbers group after group, and is moved about.
    """
    found = loops()
    if found is None or laid.dtype not in (np.float64, np.int64):
        return None
    made = np.empty(places.shape, laid.dtype)
    found.oak_standing(
        place(laid), laid.dtype == np.float64, place(starts), place(counts), len(counts), place(places), places.shape[1], place(made)
    )  # fmt: skip
    return made


def sampled(pieces: Sequence[Piece], every: int) -> tuple[Any, Rows] | None:
    """A sample of the values: those of one row of `every`, with their groups."""
    found, kind = loops(), pieces[0][1].dtype if pieces else np.dtype(np.float64)
    if found is None or any(numbers.dtype != kind or kind.itemsize != 8 for _, numbers, _ in pieces):
        return None
    own, room = told_pieces(pieces), sum(len(codes) // every + 1 for _, _, codes in pieces)
    sample, of = np.empty(room, kind), np.empty(room, np.int64)
    size = found.oak_sample(place(own), len(own), every, place(sample), place(of))
    return sample[:size], of[:size]


def between(pieces: Sequence[Piece], low: Any, high: Any, room: int) -> tuple[Any, Rows, Rows, Rows] | None:
    """The values of each group from `low` to `high` (a number a group), as they come, with the group of each; how many lie below, and how many there are.

    None also where there is no `room` for so many.
    """
    found, kind = loops(), low.dtype
    if found is None or kind not in (np.float64, np.int64) or any(numbers.dtype != kind for _, numbers, _ in pieces):
        return None
    call = found.oak_floats_between if kind == np.float64 else found.oak_wholes_between
    taken, of, own = np.empty(room, kind), np.empty(room, np.int64), told_pieces(pieces)
    places = np.zeros((len(low), 4), np.int64)
    size = call(place(own), len(own), place(low), place(high), place(places), room, place(taken), place(of))
    return None if size < 0 else (taken[:size], of[:size], places[:, 0].copy(), places[:, :3].sum(axis=1))
