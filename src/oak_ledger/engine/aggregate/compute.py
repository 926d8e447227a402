"""One aggregate: what it is computed from, over all rows of its groups at once, and from the columns of slices."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.columnar.arrays import from_numpy
from oak_ledger.engine.aggregate.distinct import distinct_counts, distinct_rows
from oak_ledger.formula import checked as c
from oak_ledger.functions.accumulators import Groups
from oak_ledger.functions.registry import MISSING, CallContext, FaultSink
from oak_ledger.types import Grain


def aggregate_inputs(node: c.Aggregate) -> list[c.TypedNode]:
    """What an aggregate is computed from: arguments, filter, order."""
    where = [node.where] if node.where is not None else []
    return [*filtered_args(node), *where, *(filtered(key.key, node.where) for key in node.order)]


def filtered_args(node: c.Aggregate | c.Window) -> list[c.TypedNode]:
    """The arguments of an aggregate, each only for the rows that its filter takes."""
    return [filtered(arg, node.where) for arg in node.args]


def filtered(piece: c.TypedNode, where: c.TypedNode | None) -> c.TypedNode:
    """A piece as a choice that computes it only where a condition holds, unless it is at hand in every row."""
    if where is None or isinstance(piece, c.ColumnRef):
        return piece
    nothing = c.Constant(piece.start, piece.end, piece.type, Grain.CONSTANT, None)
    branch = c.Branch(piece.start, piece.end, piece.type, piece.grain, where, piece)
    return c.Case(piece.start, piece.end, piece.type, piece.grain, (branch,), nothing)


def call_context(node: c.Aggregate | c.Window, groups: int, record: FaultSink | None = None) -> CallContext:
    """What an aggregate's implementation knows."""
    constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
    sink = record or (lambda what, mask: None)
    return CallContext(groups, [arg.type for arg in node.args], node.type, constants, sink)


def aggregate(
    node: c.Aggregate, args: Sequence[Any], groups: Groups, record: FaultSink, order: Sequence[Any] = ()
) -> Any:
    """One aggregate by group over all rows at once: its `DISTINCT` first, then its own implementation."""
    if node.distinct and args:
        if node.function.counts_values:
            return distinct_counts(args[0], groups)
        index = distinct_rows(args[0], groups)
        rows = from_numpy(index)
        groups = Groups(groups.codes[index], groups.count)
        args, order = [arg.take(rows) for arg in args], [key.take(rows) for key in order]
    call = call_context(node, groups.count, record)
    if node.function.ordered:
        keys = [(values, key.descending, key.nulls_first) for values, key in zip(order, node.order, strict=True)]
        return node.function.run(call, *args, groups, keys)
    return node.function.run(call, args[0] if args else None, *args[1:], groups)


def combined(node: c.Aggregate, parts: Sequence[tuple[Sequence[Any], int]], groups: Groups) -> list[Any]:
    """The columns of several slices combined; each with how many groups it has."""
    columns = [
        _one_after_the_other(pieces, [count for _, count in parts])
        for pieces in zip(*(columns for columns, _ in parts), strict=True)
    ]
    combine: list[Any] = node.function.accumulator.combine(call_context(node, groups.count), columns, groups)
    return combine


def _one_after_the_other(pieces: Sequence[Any], counts: Sequence[int]) -> Any:
    """Columns one after the other; an empty one means zeros, unless all are empty."""
    if not isinstance(pieces[0], np.ndarray):
        return pa.chunked_array(pieces).combine_chunks()
    if not any(len(piece) for piece in pieces):
        return pieces[0]
    filled = [
        piece if len(piece) == count else np.zeros(count, piece.dtype)
        for piece, count in zip(pieces, counts, strict=True)
    ]
    return np.concatenate(filled)
