"""The frame of a window: which rows around a row it holds, from what was written."""

from __future__ import annotations

from collections.abc import Sequence

from oak_ledger.formula import checked as c
from oak_ledger.formula import nodes as n


class BadFrame(Exception):
    """A frame that cannot be; its text says why, and `at` is the piece concerned."""

    def __init__(self, message: str, at: n.Node) -> None:
        super().__init__(message)
        self.at = at


def frame_spec(frame: n.Frame, order: Sequence[c.OrderKey]) -> c.FrameSpec:
    """The frame of a window with this order; raises BadFrame."""
    ends: list[tuple[int, str] | None] = []
    for bound in (frame.low, frame.high):
        if bound.kind == "unbounded":
            ends.append(None)
            continue
        if bound.kind == "current":
            ends.append((0, ""))
            continue
        if not isinstance(bound.offset, n.Interval) and not (
            isinstance(bound.offset, n.Literal) and bound.offset.kind == "integer"
        ):
            raise BadFrame("How far a frame reaches is a whole number, or an INTERVAL over dates.", bound)
        amount, unit = (
            (bound.offset.amount, bound.offset.unit)
            if isinstance(bound.offset, n.Interval)
            else (int(bound.offset.value), "")
        )
        kind = order[0].type.kind if len(order) == 1 else ""
        fits = (
            not unit
            if frame.unit == "ROWS"
            else kind in ("date", "timestamp")
            if unit
            else kind in ("integer", "decimal", "number", "date")
        )
        if amount < 0 or not fits:
            wanted = (
                "a whole number of rows"
                if frame.unit == "ROWS"
                else "one key to order by, a number or a date, and a distance that fits it"
            )
            raise BadFrame(f"This frame needs {wanted}.", bound)
        ends.append((amount if bound.after else -amount, unit))
    if (frame.low.kind == "unbounded" and frame.low.after) or (frame.high.kind == "unbounded" and not frame.high.after):
        raise BadFrame("A frame begins before it ends.", frame)
    low, high = ends
    if (
        low is not None
        and high is not None
        and low[0] > high[0]
        and (low[1] == high[1] or not low[0] or not high[0] or low[0] > 0 > high[0])
    ):
        raise BadFrame("A frame begins before it ends: this one holds no row.", frame)
    return c.FrameSpec(frame.unit, ends[0], ends[1])
