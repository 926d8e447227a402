"""Row windows: computed before everything else, over all rows of the source; then each row finds its value by its number.

Their inputs are held in memory, or beyond what is allowed on disk, in parts of whole partitions (see `spill`).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from oak_ledger.columnar.arrays import Mask, arrow_type, from_numpy, numpy_view
from oak_ledger.engine.deadline import in_time
from oak_ledger.engine.evaluate import Evaluator, Expression
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.options import options
from oak_ledger.engine.query import Query
from oak_ledger.engine.scan import Reader, Scan, concatenated, formulas_line
from oak_ledger.engine.spill import SpillPartitions
from oak_ledger.engine.stats import timed
from oak_ledger.engine.windows.evaluate import (
    ScatterBuffer,
    SortedPartitions,
    evaluate_window,
    over_whole_partitions,
    window_order,
)
from oak_ledger.engine.windows.inputs import InputIndexes, deduplicated_inputs, inner_windows, partition_inputs
from oak_ledger.formula import checked as c
from oak_ledger.functions.accumulators import Groups

INPUT_SHARE = 4  # a quarter of the memory is for inputs: sorting and results take as much again, and more


def row_windows(
    query: Query,
    reader: Reader,
    windows: Mapping[c.Window, Expression],
    faults: Faults,
    known: Mapping[c.Window, Any] | None = None,
    starts: list[int] | None = None,
) -> tuple[dict[c.Window, Any], list[int] | None]:
    """The values of row windows, over the whole input, and where each fragment of it begins; some are `known`, and with them these `starts`.

    One scan of the rows for each level of nesting.
    """
    fields = query.fields
    values: dict[c.Window, Any] = {**(known or {})}
    waiting = {node: owner for node, owner in windows.items() if node not in values}
    while waiting:
        ready = {node: owner for node, owner in waiting.items() if not inner_windows(fields, node) & waiting.keys()}
        pieces, indexes = deduplicated_inputs(ready)
        scan = Scan(fields, query.always, pieces, values, query.before, starts, stats=query.stats)
        scan.operator = ("window inputs", formulas_line(pieces))
        partitions = [*dict.fromkeys(partition_inputs(node, indexes[node]) for node in ready)]
        inputs = _Inputs(pieces, partitions, options().memory // INPUT_SHARE)

        def work(evaluator: Evaluator, pieces: Sequence[Expression] = pieces) -> tuple[Rows, list[Any]]:
            return evaluator.rows, [evaluator.compute(piece) for piece in pieces]

        try:
            for rows, columns in scan.run(reader, work, faults):
                inputs.add(rows + scan.found_starts[-1], columns)
            starts = scan.found_starts
            for by in partitions:
                alike = {node: owner for node, owner in ready.items() if partition_inputs(node, indexes[node]) == by}
                values |= _computed(query, inputs, by, alike, indexes, scan.rows_read, faults)
        finally:
            inputs.close()
        waiting = {node: owner for node, owner in waiting.items() if node not in values}
    return values, starts


def _computed(
    query: Query,
    inputs: _Inputs,
    by: InputIndexes,
    nodes: Mapping[c.Window, Expression],
    indexes: Mapping[c.Window, InputIndexes],
    rows: int,
    faults: Faults,
) -> dict[c.Window, Any]:
    """The values of windows that share their partition."""
    spilled = bool(inputs.spilled)
    whole = not spilled and inputs.count == rows  # then the values come in the rows' own order, all at once
    backs = {}
    if not whole:
        backs = {
            node: ScatterBuffer(arrow_type(node.type), rows, inputs.count, on_disk=spilled) for node in nodes
        }  # fmt: skip
    values: dict[c.Window, Any] = {}
    wrong: dict[tuple[str, str], list[Rows]] = {}
    note = "inputs and values on disk" if spilled else ""
    for at, columns in inputs.partitioned(by):
        orders: dict[Any, SortedPartitions | Groups] = {}
        for node, owner in nodes.items():
            own = [columns[index] for index in indexes[node]]
            first = len(node.args) + (node.where is not None)
            alike = (
                over_whole_partitions(node),
                indexes[node][first:],
                *((key.descending, key.nulls_first) for key in node.order),
            )

            def record(what: str, mask: Mask, owner: Expression = owner, at: Rows = at) -> None:
                wrong.setdefault((owner.name, what), []).append(at[mask])

            text = " ".join(owner.text[node.start : node.end].split())
            in_time()
            with timed(query.stats, "window", text, rows=len(at), note=note):
                if alike not in orders:
                    begin = first + len(node.partition)
                    orders[alike] = window_order(node, own[first:begin], own[begin:], len(at))
                found = evaluate_window(node, own, len(at), record, orders[alike])
                if whole:
                    values[node] = found
                else:
                    backs[node].put(at, found)
    for (name, what), masked in wrong.items():
        faults.record(name, what, np.sort(np.concatenate(masked)), lambda _index: {})
    return values | {node: back.array() for node, back in backs.items()}


@dataclass(slots=True)
class _Inputs:
    """What row windows are computed from, with the number of each row: in memory, or on disk by each of the partitions that are asked for."""

    pieces: Sequence[Expression]
    partitions: Sequence[InputIndexes]
    limit: int
    count: int = 0
    size: int = 0
    rows: list[Rows] = field(default_factory=list)
    parts: list[list[Any]] = field(default_factory=list)
    spilled: dict[InputIndexes, SpillPartitions] = field(default_factory=dict)

    def add(self, rows: Rows, columns: list[Any]) -> None:
        """Some rows more."""
        self.count += len(rows)
        self.rows.append(rows)
        self.parts.append(columns)
        self.size += rows.nbytes + sum(column.nbytes for column in columns)
        if self.size > self.limit:
            for by in self.partitions:
                spill = self.spilled.get(by) or self.spilled.setdefault(by, SpillPartitions())
                for own, values in zip(self.rows, self.parts, strict=True):
                    spill.add([values[at] for at in by], [from_numpy(own), *values])
            self.rows, self.parts, self.size = [], [], 0

    def partitioned(self, by: InputIndexes) -> Iterator[tuple[Rows, list[Any]]]:
        """The rows in parts of whole partitions: numbers and inputs."""
        kinds = [piece.checked.type for piece in self.pieces]
        if not self.spilled:
            at = np.concatenate(self.rows) if self.rows else np.zeros(0, np.int64)
            yield at, [concatenated([part[place] for part in self.parts], kind) for place, kind in enumerate(kinds)]
            return
        if self.rows:
            self.limit = 0
            rows, parts, self.rows, self.parts = self.rows, self.parts, [], []
            self.count -= sum(len(row) for row in rows)
            for own, columns in zip(rows, parts, strict=True):
                self.add(own, columns)
        for batches in self.spilled[by].each():
            at = np.concatenate([numpy_view(batch.column(0)) for batch in batches])
            columns = [[batch.column(place + 1) for batch in batches] for place in range(len(kinds))]
            yield at, [concatenated(own, kind) for own, kind in zip(columns, kinds, strict=True)]

    def close(self) -> None:
        """Remove what is on disk."""
        for spill in self.spilled.values():
            spill.close()
