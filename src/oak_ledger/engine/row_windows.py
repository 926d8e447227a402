"""Row windows: computed before everything else, over all rows of the source; then each row finds its value by its number.

Their inputs are held in memory, or beyond what is allowed on disk, in stretches of whole partitions (see `overflow`).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from oak_ledger.engine.account import timed
from oak_ledger.engine.asked_windows import Places, inner_windows, inputs_once, partition_of
from oak_ledger.engine.evaluate import Evaluator, Expression
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.overflow import Stretches
from oak_ledger.engine.reading import Feed, Pass, joined, listed
from oak_ledger.engine.tuning import tuning
from oak_ledger.engine.windows import Back, Order, in_order, windowed
from oak_ledger.formula import checked as c
from oak_ledger.formula.values import Mask, array_of, arrow_type, held

if TYPE_CHECKING:
    from oak_ledger.engine.question import Question

SHARE = 4  # a quarter of the memory is for inputs: sorting and results take as much again, and more


def row_windows(
    question: Question, feed: Feed, windows: Mapping[c.Window, Expression], faults: Faults
) -> tuple[dict[c.Window, Any], list[int] | None]:
    """The values of row windows, over the whole input, and where each stretch of it begins.

    One going through the rows for each level of nesting.
    """
    fields = question.fields
    waiting = {**windows}
    made: dict[c.Window, Any] = {}
    begins: list[int] | None = None
    while waiting:
        ready = {node: owner for node, owner in waiting.items() if not inner_windows(fields, node) & waiting.keys()}
        pieces, places = inputs_once(ready)
        reading = Pass(
            fields, question.always, [], pieces, made, before=question.before, bases=begins, account=question.account
        )
        reading.doing = ("window inputs", listed(pieces))
        inputs = _Inputs(pieces, [partition_of(node, places[node]) for node in ready], tuning().memory // SHARE)

        def work(evaluator: Evaluator, pieces: Sequence[Expression] = pieces) -> tuple[Rows, list[Any]]:
            return evaluator.rows, [evaluator.compute(one) for one in pieces]

        try:
            for rows, columns in reading.run(feed, work, faults):
                inputs.add(rows if not reading.begins[-1] else rows + reading.begins[-1], columns)
            begins = reading.begins
            for by in dict.fromkeys(partition_of(node, places[node]) for node in ready):
                alike = {node: owner for node, owner in ready.items() if partition_of(node, places[node]) == by}
                made |= _computed(question, inputs, by, alike, places, reading.read, faults)
        finally:
            inputs.close()
        waiting = {node: owner for node, owner in waiting.items() if node not in made}
    return made, begins


def _computed(
    question: Question,
    inputs: _Inputs,
    by: Places,
    nodes: Mapping[c.Window, Expression],
    places: Mapping[c.Window, Places],
    rows: int,
    faults: Faults,
) -> dict[c.Window, Any]:
    """The values of windows that share their partition."""
    spilled = bool(inputs.spilled)
    whole = not spilled and inputs.count == rows  # then the values come in the rows' own order, all at once
    backs = {} if whole else {node: Back(arrow_type(node.type), rows, inputs.count, on_disk=spilled) for node in nodes}
    made: dict[c.Window, Any] = {}
    wrong: dict[tuple[str, str], list[Rows]] = {}
    note = "inputs and values on disk" if spilled else ""
    for at, values in inputs.stretches(by):
        orders: dict[Any, Order] = {}
        for node, owner in nodes.items():
            own = [values[place] for place in places[node]]
            first = len(node.args) + (node.where is not None)
            alike = (places[node][first:], *((one.descending, one.nulls_first) for one in node.order))

            def record(what: str, mask: Mask, owner: Expression = owner, at: Rows = at) -> None:
                wrong.setdefault((owner.name, what), []).append(at[mask])

            said = " ".join(owner.text[node.start : node.end].split())
            with timed(question.account, "window", said, rows=len(at), note=note):
                if alike not in orders:
                    begin = first + len(node.partition)
                    orders[alike] = in_order(node, own[first:begin], own[begin:], len(at))
                found = windowed(node, own, len(at), record, orders[alike])
                if whole:
                    made[node] = found
                else:
                    backs[node].put(at, found)
    for (name, what), masked in wrong.items():
        faults.record(name, what, np.sort(np.concatenate(masked)), lambda _index: {})
    return made | {node: back.array() for node, back in backs.items()}


@dataclass(slots=True)
class _Inputs:
    """What row windows are computed from, with the number of each row: in memory, or on disk by each of the partitions that are asked for."""

    pieces: Sequence[Expression]
    partitions: Sequence[Places]
    limit: int
    count: int = 0
    size: int = 0
    places: list[Rows] = field(default_factory=list)
    parts: list[list[Any]] = field(default_factory=list)
    spilled: dict[Places, Stretches] = field(default_factory=dict)

    def add(self, rows: Rows, columns: list[Any]) -> None:
        """Some rows more."""
        self.count += len(rows)
        self.places.append(rows)
        self.parts.append(columns)
        self.size += rows.nbytes + sum(column.nbytes for column in columns)
        if self.size > self.limit:
            for by in self.partitions:
                stretches = self.spilled.get(by) or self.spilled.setdefault(by, Stretches())
                for places, values in zip(self.places, self.parts, strict=True):
                    stretches.add([values[at] for at in by], [array_of(places), *values])
            self.places, self.parts, self.size = [], [], 0

    def stretches(self, by: Places) -> Iterator[tuple[Rows, list[Any]]]:
        """The rows in stretches of whole partitions: numbers and inputs."""
        kinds = [one.checked.type for one in self.pieces]
        if not self.spilled:
            at = np.concatenate(self.places) if self.places else np.zeros(0, np.int64)
            yield at, [joined([part[place] for part in self.parts], kind) for place, kind in enumerate(kinds)]
            return
        if self.places:
            self.limit = 0
            places, parts, self.places, self.parts = self.places, self.parts, [], []
            self.count -= sum(len(one) for one in places)
            for rows, columns in zip(places, parts, strict=True):
                self.add(rows, columns)
        for batches in self.spilled[by].each():
            at = np.concatenate([held(batch.column(0)) for batch in batches])
            yield at, [joined([batch.column(place + 1) for batch in batches], kind) for place, kind in enumerate(kinds)]

    def close(self) -> None:
        """Remove what is on disk."""
        for stretches in self.spilled.values():
            stretches.close()
