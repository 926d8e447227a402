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
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.account import Account, timed
from oak_ledger.engine.asked_windows import Places, inner_windows, inputs_once, partition_of
from oak_ledger.engine.evaluate import Evaluator, Expression, Fields
from oak_ledger.engine.faults import Rows
from oak_ledger.engine.groups import GroupTable, local_groups
from oak_ledger.engine.in_turn import Going, Turn, goes_on, has_peers
from oak_ledger.formula import checked as c
from oak_ledger.formula.values import arrow_type, decoded, held, mask_of
from oak_ledger.loops import loops
from oak_ledger.loops.places import Rising, rising

MANY = 10_000  # partitions from which on sorting all rows is quicker than finding theirs in each slice
Key = tuple[Any, ...]
"""A place in an order: the value of each key."""


class OutOfTurn(Exception):
    """Rows do not come in the order of a window, have too many partitions, or a window cannot be computed so after all."""


@dataclass(slots=True)
class _Line:
    """Windows of one partition and order: the partitions found so far, and the last row's place in the order."""

    partition: Places
    order: Sequence[tuple[int, bool]]
    """The inputs that it goes by, the first one first, and whether downwards."""
    strictly: bool
    """Whether no two rows may have the same place."""
    windows: list[tuple[Going, str]]
    """Each with its text."""
    table: GroupTable
    last: Key | None = None


@dataclass(frozen=True, slots=True)
class Stretch:
    """Some rows, with what their windows are computed from; for each line the partition of each row, their keys, and the first and last place in the order."""

    evaluator: Evaluator
    inputs: Sequence[Any]
    lines: Sequence[tuple[Rows, int, list[tuple[Any, Any]], tuple[Key, Key]]]


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
            ends = [key.descending for key in node.order]
            order = tuple(zip(places[node][-len(ends) :], ends, strict=True))
            line = lines.setdefault((partition, order), _Line(partition, order, False, [], GroupTable(len(partition))))
            line.strictly |= has_peers(node)
            line.windows.append((Going(node), " ".join(owner.text[node.start : node.end].split())))
        return Coming(pieces, places, [*lines.values()], account)

    def prepared(self, evaluator: Evaluator) -> Stretch:
        """What can be told of rows without those before them. Raises OutOfTurn."""
        coded = [evaluator.coded(one) for one in self.pieces]
        inputs = [decoded(one) for one in coded]
        if not evaluator.length:
            return Stretch(evaluator, inputs, [])
        lines = []
        for line in self.lines:
            ends = _ends([(inputs[at], descending) for at, descending in line.order], strictly=line.strictly)
            lines.append((*local_groups([coded[at] for at in line.partition], evaluator.length, None), ends))
        return Stretch(evaluator, inputs, lines)

    def go_on(self, number: int, stretches: Sequence[Stretch]) -> None:
        """Compute the windows of the stretches with this number, when those before it are done. Raises OutOfTurn."""
        with self.turn:
            self.turn.wait_for(lambda: self.ended or self.next == number)
            if self.ended:
                raise OutOfTurn
        for one in stretches:
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
        if not one.evaluator.length:
            return {node: pa.array([], arrow_type(node.type)) for node in self.places}
        made = {}
        for line, (codes, count, keys, (first, last)) in zip(self.lines, one.lines, strict=True):
            if line.last is not None and not _follows(line, first):
                raise OutOfTurn
            line.last = last
            if max(count, line.table.count) > MANY:
                raise OutOfTurn
            numbers = line.table.absorb(keys, count)
            as_they_are = (numbers == np.arange(count)).all()
            turn = Turn(codes if as_they_are else numbers[codes], line.table.count)
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
    return goes_on(node) and bool(node.order) and not inner_windows(fields, node)


def _ends(keys: Sequence[tuple[Any, bool]], *, strictly: bool) -> tuple[Key, Key]:
    """The first and the last place of rows that come in the order of these keys. Raises OutOfTurn where they do not, or one is null."""
    if any(values.null_count for values, _ in keys):
        raise OutOfTurn
    values, descending = keys[0]
    if len(keys) == 1 and pa.types.is_integer(values.type) and not descending:
        steady = rising(held(values).astype(np.int64, copy=False))
        if steady == Rising.NOT_ALWAYS or (strictly and steady != Rising.ALWAYS):
            raise OutOfTurn
    else:
        alike = np.ones(len(values) - 1, np.bool_)  # so far, with the row before
        for values, descending in keys:
            numbers = values.cast(pa.int8()) if pa.types.is_boolean(values.type) else values
            ends = (numbers.slice(0, len(alike)), numbers.slice(1))
            before, after = ends[::-1] if descending else ends
            if (mask_of(pc.greater(before, after)) & alike).any():
                raise OutOfTurn
            alike &= mask_of(pc.equal(before, after))
        if strictly and alike.any():
            raise OutOfTurn
    return tuple(values[0].as_py() for values, _ in keys), tuple(values[-1].as_py() for values, _ in keys)


def _follows(line: _Line, first: Key) -> bool:
    """Whether a place comes after the last one."""
    for (_, descending), one, two in zip(line.order, line.last or first, first, strict=True):
        if one != two:
            return bool((one > two) == descending)
    return not line.strictly
