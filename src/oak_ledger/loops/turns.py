"""Windows over rows that come in the window's order. None where there is no compiled loop, or where it cannot hold what comes out.

`codes` is the partition of each row, and `state` what is known of each partition from rows that came before: two words, 0 at first.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.loops import loops
from oak_ledger.loops.memory import bits, place, validity

Rows = npt.NDArray[np.int64]


def neighbours(values: Any, numbers: Any, codes: Rows, state: Rows, *, backward: bool) -> Any | None:
    """The word of the row before in the same partition (after, where `backward`), null where there is none; `numbers` are the values as words."""
    found = loops()
    if found is None or numbers.itemsize != 8:
        return None
    made, known = np.empty(len(codes), np.int64), bits(len(codes))
    nulls = found.oak_neighbour(
        len(codes), place(codes), place(numbers), validity(values), values.offset, backward, place(state), place(made), place(known)
    )  # fmt: skip
    return pa.Array.from_buffers(pa.int64(), len(codes), [pa.py_buffer(known), pa.py_buffer(made)], nulls)


def running_wholes(
    values: Any | None, numbers: Any | None, codes: Rows, state: Rows, *, sums: bool, counted: bool = True
) -> tuple[Any, Any] | None:
    """Sums of whole numbers up to and with each row of a partition, and how many there are, each if asked for; without values rows are counted."""
    found = loops()
    if found is None:
        return None
    made = np.empty(len(codes), np.int64) if sums else None
    counts = np.empty(len(codes), np.int64) if counted else None
    done = found.oak_running_wholes(
        len(codes), place(codes), place(numbers), None if values is None else validity(values), 0 if values is None else values.offset,
        place(state), place(made), place(counts),
    )  # fmt: skip
    return (made, counts) if done else None


def running_floats(values: Any, numbers: Any, codes: Rows, partitions: int) -> tuple[Any, Rows] | None:
    """The same of floats."""
    found = loops()
    if found is None:
        return None
    made, counts, groups = np.empty(len(codes)), np.empty(len(codes), np.int64), np.zeros((partitions, 5), np.int64)
    done = found.oak_running_floats(
        len(codes), place(codes), place(numbers), validity(values), values.offset, partitions, place(groups), place(made), place(counts)
    )  # fmt: skip
    return (made, counts) if done else None
