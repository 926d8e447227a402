"""Windows over rows that come in the window's order, each after the one before: nothing is sorted and nothing put back.

The plain meaning is that of `windows` over the sorted rows.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.formula import checked as c
from oak_ledger.formula.values import array_of, decimal_from_unscaled, held, unscaled
from oak_ledger.loops.turns import neighbours, running_floats, running_wholes

_EXACT = 2**53  # whole numbers below it are the same as floats


@dataclass(frozen=True, slots=True)
class Turn:
    """The partition of each row, from 0, and how many there may be."""

    codes: npt.NDArray[np.int64]
    partitions: int


def in_turn(node: c.Window, args: Sequence[Any], turn: Turn) -> Any | None:
    """The values of a window, in the rows' own order; None where it must be done another way."""
    name, constants = node.function.name, [arg.value for arg in node.args[1:] if isinstance(arg, c.Constant)]
    if node.where is not None or (node.frame is not None and not _up_to_here(node.frame)):
        return None
    if name in ("LAG", "LEAD") and len(node.args) == 1 + len(constants) and constants in ([], [1]):
        kind = args[0].type
        if not (pa.types.is_primitive(kind) and not pa.types.is_boolean(kind) and kind.bit_width == 64):
            return None
        return neighbours(args[0], held(args[0]), turn.codes, turn.partitions, backward=name == "LEAD")
    if name == "ROW_NUMBER" or (name == "COUNT" and not node.args):
        found = running_wholes(None, None, turn.codes, turn.partitions, sums=False)
        return None if found is None else array_of(found[1])
    if name in ("COUNT", "SUM", "AVG") and args:
        return _totals(node, args[0], turn)
    return None


def _up_to_here(frame: c.FrameSpec) -> bool:
    return frame.low is None and frame.high is not None and frame.high[0] == 0


def _totals(node: c.Window, values: Any, turn: Turn) -> Any | None:
    """How many values there are up to each row, their sum or their mean."""
    name, kind = node.function.name, node.args[0].type
    if name == "COUNT":
        found = running_wholes(values, None, turn.codes, turn.partitions, sums=False)
        return None if found is None else array_of(found[1])
    if kind.kind == "number":
        found = running_floats(values, held(values), turn.codes, turn.partitions)
    else:
        whole = unscaled(values) if kind.kind == "decimal" else held(values)
        found = None if whole is None else running_wholes(values, whole, turn.codes, turn.partitions, sums=True)
    if found is None:
        return None
    sums, counts = found
    empty = counts == 0 if values.null_count else None
    if name == "AVG":
        divisors = np.maximum(counts, 1) * 10**kind.scale
        if kind.kind != "number" and not (
            kind.scale <= 15 and (np.abs(sums) < _EXACT).all() and (divisors < _EXACT).all()
        ):
            return None
        return array_of(sums / divisors, mask=empty)
    return decimal_from_unscaled(sums, kind.scale, empty) if kind.kind == "decimal" else array_of(sums, mask=empty)
