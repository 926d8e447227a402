"""The windows that formulas need, and what each is computed from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from oak_ledger.engine.aggregate.compute import filtered, filtered_args
from oak_ledger.engine.evaluate import Expression, Fields, needed
from oak_ledger.formula import checked as c
from oak_ledger.formula.ranges import key as meaning

InputIndexes = tuple[int, ...]
"""Where a window finds its own among the inputs of several."""


def collect_windows(fields: Fields, owners: Sequence[Expression]) -> dict[c.Window, Expression]:
    """Every window in the formulas and the fields that they need, with the formula that it is in."""
    names = needed(fields, [owner.checked for owner in owners])
    expressions = [*(fields[name] for name in names), *owners]
    return {piece: owner for owner in expressions for piece in c.walk(owner.checked) if isinstance(piece, c.Window)}


def inner_windows(fields: Fields, node: c.Window) -> set[c.Window]:
    """The windows that another is computed from."""
    return set(collect_windows(fields, [Expression("", "", piece) for piece in window_inputs(node)]))


def window_inputs(node: c.Window) -> list[c.TypedNode]:
    """What a window is computed from: arguments, filter, partition, order."""
    held = [node.where] if node.where is not None else []
    where = node.where if node.function.ordered else None
    return [*filtered_args(node), *held, *node.partition, *(filtered(key.key, where) for key in node.order)]


def deduplicated_inputs(
    windows: Mapping[c.Window, Expression],
) -> tuple[list[Expression], dict[c.Window, InputIndexes]]:
    """What windows are computed from, equal pieces once, and where each window finds its own among them."""
    pieces: list[Expression] = []
    known: dict[Any, int] = {}
    indexes: dict[c.Window, InputIndexes] = {}
    for node, owner in windows.items():
        own = []
        for piece in window_inputs(node):
            saying = (meaning(piece), owner.name if c.can_fault(piece) else "")
            if saying not in known:
                known[saying] = len(pieces)
                pieces.append(Expression(owner.name, owner.text, piece))
            own.append(known[saying])
        indexes[node] = tuple(own)
    return pieces, indexes


def partition_inputs(node: c.Window, indexes: InputIndexes) -> InputIndexes:
    """Which of the inputs a window's partition is."""
    first = len(node.args) + (node.where is not None)
    return indexes[first : first + len(node.partition)]
