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
import pyarrow.compute as pc

from oak_ledger.formula import checked as c
from oak_ledger.formula.values import array_of, decimal_from_unscaled, held, mask_of, unscaled
from oak_ledger.loops.turns import neighbours, running_floats, running_wholes

_EXACT = 2**53  # whole numbers below it are the same as floats


@dataclass(frozen=True, slots=True)
class Turn:
    """The partition of each row, from 0, and how many there may be."""

    codes: npt.NDArray[np.int64]
    partitions: int


def in_turn(node: c.Window, args: Sequence[Any], turn: Turn) -> Any | None:
    """The values of a window, in the rows' own order; None where it must be done another way."""
    if not _known(node):
        return None
    if node.function.name in ("SUM", "AVG") and node.args[0].type.kind == "number":
        found = running_floats(args[0], held(args[0]), turn.codes, turn.partitions)
        return None if found is None else _totals(node, args[0], *found)
    return Going(node).on(args, turn)


def goes_on(node: c.Window) -> bool:
    """Whether a window's values can be told from rows that came before, and a little that is kept of each partition."""
    of_floats = (
        node.function.name in ("SUM", "AVG") and node.args[0].type.kind == "number"
    )  # exact by the largest of all
    return _known(node) and node.function.name != "LEAD" and not of_floats


def has_peers(node: c.Window) -> bool:
    """Whether rows of the same place in the order have the same value: all of them count for each."""
    return node.function.name in ("COUNT", "SUM", "AVG") and (node.frame is None or node.frame.unit != "ROWS")


def _known(node: c.Window) -> bool:
    """Whether there is a loop for a window."""
    name, constants = node.function.name, [arg.value for arg in node.args[1:] if isinstance(arg, c.Constant)]
    if node.where is not None or (node.frame is not None and not _up_to_here(node.frame)):
        return False
    if name in ("LAG", "LEAD"):
        fits = node.args[0].type.kind not in ("text", "boolean")
        return fits and len(node.args) == 1 + len(constants) and constants in ([], [1])
    return name == "ROW_NUMBER" or (name in ("COUNT", "SUM", "AVG") and (name == "COUNT" or bool(node.args)))


def _up_to_here(frame: c.FrameSpec) -> bool:
    return frame.low is None and frame.high is not None and frame.high[0] == 0


class Going:
    """A window over one stretch of rows after the other: what is kept of each partition goes on from stretch to stretch."""

    def __init__(self, node: c.Window) -> None:
        self.node = node
        self.state = np.zeros((0, 2), np.int64)

    def on(self, args: Sequence[Any], turn: Turn) -> Any | None:
        """The values for the rows that follow; None where they must be found another way."""
        name = self.node.function.name
        if len(self.state) < turn.partitions:
            more = np.zeros((max(turn.partitions, 2 * len(self.state)) - len(self.state), 2), np.int64)
            self.state = np.concatenate([self.state, more])
        if name in ("LAG", "LEAD"):
            return _neighbours(args[0], turn, self.state, backward=name == "LEAD")
        values: Any = args[0] if args else None
        if name not in ("SUM", "AVG"):
            found = running_wholes(values, None, turn.codes, self.state, sums=False)
            return None if found is None else array_of(found[1])
        whole = unscaled(values) if pa.types.is_decimal(values.type) else held(values)
        counted = name == "AVG" or values.null_count > 0
        found = (
            None if whole is None else running_wholes(values, whole, turn.codes, self.state, sums=True, counted=counted)
        )
        return None if found is None else _totals(self.node, values, *found)


def _neighbours(values: Any, turn: Turn, state: Any, *, backward: bool) -> Any | None:
    """The values beside, of a type whose values are words, or fit into one."""
    kind, days = values.type, pa.types.is_date32(values.type)
    words = unscaled(values) if pa.types.is_decimal(kind) else held(values)
    if words is None:
        return None
    made = neighbours(values, words.astype(np.int64) if days else words, turn.codes, state, backward=backward)
    if made is None or not (days or pa.types.is_decimal(kind)):
        return None if made is None else made.view(kind)
    if days:
        return made.cast(pa.int32()).view(kind)
    return decimal_from_unscaled(held(made), kind.scale, mask_of(pc.is_null(made)))


def _totals(node: c.Window, values: Any, sums: Any, counts: Any) -> Any | None:
    """Sums up to each row, or their means; `counts` may be None for sums of values that are all there."""
    kind = node.args[0].type
    empty = counts == 0 if values.null_count else None
    if node.function.name == "AVG":
        divisors = np.maximum(counts, 1) * 10**kind.scale
        if kind.kind != "number" and not (
            kind.scale <= 15 and (np.abs(sums) < _EXACT).all() and (divisors < _EXACT).all()
        ):
            return None
        return array_of(sums / divisors, mask=empty)
    return decimal_from_unscaled(sums, kind.scale, empty) if kind.kind == "decimal" else array_of(sums, mask=empty)
