"""Row windows computed while rows are read, where these come in the windows' order: nothing is kept but a little of each partition.

The plain meaning is that of `row_windows`. Whether rows come in order is seen only as they are read; where they do not, `OutOfTurn` is
raised, and the question is answered the plain way.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from threading import Condition
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.engine.account import Account, timed
from oak_ledger.engine.asked_windows import Places, inner_windows, inputs_once, partition_of
from oak_ledger.engine.evaluate import Evaluator, Expression, Fields
from oak_ledger.engine.faults import Rows
from oak_ledger.engine.groups import GroupTable, local_groups
from oak_ledger.engine.in_turn import Going, Turn, goes_on
from oak_ledger.formula import checked as c
from oak_ledger.formula.values import decoded, held, unscaled
from oak_ledger.loops import loops
from oak_ledger.loops.places import Rising, rising


class OutOfTurn(Exception):
    """Rows do not come in the order of a window, or a window cannot be computed so after all."""


@dataclass(slots=True)
class _Line:
    """Windows of one partition and order: the partitions found so far, and the last row's place in the order."""

    partition: Places
    order: int
    descending: bool
    windows: list[tuple[Going, str]]
    """Each with its text."""
    table: GroupTable
    last: int | None = None


@dataclass(frozen=True, slots=True)
class Stretch:
    """Some rows, with what their windows are computed from; for each line the partition of each row, their keys, and the order."""

    evaluator: Evaluator
    inputs: Sequence[Any]
    lines: Sequence[tuple[Rows, int, list[tuple[Any, Any]], Rows]]


@dataclass(slots=True)
class Coming:
    """All row windows of a question; stretches of rows are prepared by several threads, and go on one after the other."""

    pieces: Sequence[Expression]
    places: Mapping[c.Window, Places]
    lines: Sequence[_Line]
    account: Account | None = None
    next: int = 0
    ended: bool = False
    turn: Condition = field(default_factory=Condition)

    @staticmethod
    def of(fields: Fields, windows: Mapping[c.Window, Expression], account: Account | None) -> Coming | None:
        """What computes these windows; None where one of them cannot be computed so."""
        if not windows or loops() is None or not all(_may_come(fields, node) for node in windows):
            return None
        pieces, places = inputs_once(windows)
        lines: dict[Any, _Line] = {}
        for node, owner in windows.items():
            partition = partition_of(node, places[node])
            order, descending = places[node][-len(node.order)], node.order[0].descending
            line = lines.setdefault(
                (partition, order, descending), _Line(partition, order, descending, [], GroupTable(len(partition)))
            )
            line.windows.append((Going(node), " ".join(owner.text[node.start : node.end].split())))
        return Coming(pieces, places, [*lines.values()], account)

    def prepared(self, evaluator: Evaluator) -> Stretch:
        """What can be told of rows without those before them. Raises OutOfTurn."""
        inputs = [evaluator.coded(one) for one in self.pieces]
        lines = []
        for line in self.lines:
            numbers = _numbers(decoded(inputs[line.order]), descending=line.descending)
            if numbers is None or rising(numbers) != Rising.ALWAYS:
                raise OutOfTurn
            codes, count, keys = local_groups([inputs[at] for at in line.partition], evaluator.length, None)
            lines.append((codes, count, keys, numbers))
        return Stretch(evaluator, [decoded(one) for one in inputs], lines)

    def go_on(self, number: int, stretches: Sequence[Stretch]) -> None:
        """Compute the windows of the stretches with this number, when those before it are done. Raises OutOfTurn."""
        with self.turn:
            self.turn.wait_for(lambda: self.ended or self.next == number)
            if self.ended:
                raise OutOfTurn
        for one in stretches:
            if one.evaluator.length:
                one.evaluator.coming = self._values(one)
        with self.turn:
            self.next += 1
            self.turn.notify_all()

    def end(self) -> None:
        """Nothing more comes: who waits need not wait."""
        with self.turn:
            self.ended = True
            self.turn.notify_all()

    def _values(self, one: Stretch) -> dict[c.Window, Any]:
        made = {}
        for line, (codes, count, keys, numbers) in zip(self.lines, one.lines, strict=True):
            if line.last is not None and numbers[0] <= line.last:
                raise OutOfTurn
            line.last = int(numbers[-1])
            turn = Turn(line.table.absorb(keys, count)[codes], line.table.count)
            for window, text in line.windows:
                args = [one.inputs[at] for at in self.places[window.node][: len(window.node.args)]]
                with timed(self.account, "window", text, rows=len(codes), note="as rows come"):
                    found = window.on(args, turn)
                if found is None:
                    raise OutOfTurn
                made[window.node] = found
        return made


def _may_come(fields: Fields, node: c.Window) -> bool:
    """Whether a window goes on from row to row, and has an order in which rows may come."""
    return goes_on(node) and len(node.order) == 1 and not inner_windows(fields, node)


def _numbers(values: Any, *, descending: bool) -> npt.NDArray[np.int64] | None:
    """Whole numbers that rise where values follow in the order; None where there are none, or one is null."""
    kind = values.type
    if values.null_count:
        return None
    if pa.types.is_decimal(kind):
        whole = unscaled(values)
    elif pa.types.is_integer(kind) or pa.types.is_date32(kind) or pa.types.is_timestamp(kind):
        whole = held(values).astype(np.int64, copy=False)
    else:
        return None
    return whole if whole is None or not descending else ~whole
