"""The checked tree: every piece bound and typed before any data is touched. The one contract with the engine."""

from __future__ import annotations

from collections.abc import Container, Iterator
from dataclasses import dataclass
from typing import Any

from oak_ledger.functions.registry import Function
from oak_ledger.types import Grain, Type


@dataclass(frozen=True, slots=True, eq=False)
class Checked:
    """A piece of a formula with its type and grain; `start` and `end` are its place in the text."""

    start: int
    end: int
    type: Type
    grain: Grain


@dataclass(frozen=True, slots=True, eq=False)
class Constant(Checked):
    """A value known from the formula alone."""

    value: Any


@dataclass(frozen=True, slots=True, eq=False)
class FieldRef(Checked):
    """The value of a field, a constant or a filter of the source."""

    name: str


@dataclass(frozen=True, slots=True, eq=False)
class ColumnRef(Checked):
    """The value of a physical column, as it arrives."""

    column: str


@dataclass(frozen=True, slots=True, eq=False)
class Apply(Checked):
    """An operator or function of one row (or one group); `extra` is what it was told beside its arguments."""

    function: Function
    args: tuple[Checked, ...]
    extra: Any = None


@dataclass(frozen=True, slots=True, eq=False)
class Branch(Checked):
    """One branch of a choice."""

    condition: Checked
    value: Checked


@dataclass(frozen=True, slots=True, eq=False)
class Choose(Checked):
    """The value of the first branch whose condition holds, else `otherwise`."""

    branches: tuple[Branch, ...]
    otherwise: Checked


@dataclass(frozen=True, slots=True, eq=False)
class OrderKey(Checked):
    """One key of an order, with where its nulls go."""

    key: Checked
    descending: bool
    nulls_first: bool


@dataclass(frozen=True, slots=True)
class FrameSpec:
    """The rows of a window around a row: `ROWS` or `RANGE`; each end as (offset, unit of time or empty), None for unbounded."""

    unit: str
    low: tuple[int, str] | None
    high: tuple[int, str] | None


@dataclass(frozen=True, slots=True, eq=False)
class Window(Checked):
    """One value a row (or a group) from those around it."""

    function: Function
    args: tuple[Checked, ...]
    where: Checked | None
    partition: tuple[Checked, ...]
    order: tuple[OrderKey, ...]
    frame: FrameSpec | None


@dataclass(frozen=True, slots=True, eq=False)
class Aggregate(Checked):
    """One value from the rows of a group; `where` limits the rows, `distinct` the values."""

    function: Function
    args: tuple[Checked, ...]
    distinct: bool
    where: Checked | None
    order: tuple[OrderKey, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class Before(Checked):
    """A value of the earlier state: for the same `keys` of a row, or for the same group (no keys)."""

    value: Checked
    keys: tuple[Checked, ...]


_UNDER: dict[type[Checked], tuple[str, ...]] = {
    Constant: (),
    FieldRef: (),
    ColumnRef: (),
    Apply: ("args",),
    Branch: ("condition", "value"),
    Choose: ("branches", "otherwise"),
    OrderKey: ("key",),
    Window: ("args", "where", "partition", "order"),
    Aggregate: ("args", "where", "order"),
    Before: ("value", "keys"),
}
"""In which of its parts a piece has others."""


def children(node: Checked) -> list[Checked]:
    """The pieces directly under this one."""
    found: list[Checked] = []
    for name in _UNDER[type(node)]:
        value = getattr(node, name)
        if isinstance(value, tuple):
            found.extend(value)
        elif value is not None:
            found.append(value)
    return found


def walk(node: Checked, known: Container[Checked] = (), *, branches: bool = True) -> Iterator[Checked]:
    """The piece and everything under it, without recursion; what is under those that are `known` is left out.

    Without `branches`, of a choice only its first condition, which all rows meet.
    """
    waiting = [node]
    while waiting:
        current = waiting.pop()
        yield current
        if isinstance(current, Choose) and not branches:
            waiting.append(current.branches[0].condition)
        elif current not in known:
            waiting.extend(reversed(children(current)))


def can_fault(node: Checked) -> bool:
    """Whether computing a piece may record a fault (of its own; a field's faults are the field's)."""
    return any(isinstance(piece, Apply) and piece.function.can_fault for piece in walk(node))


def fields_used(node: Checked, known: Container[Checked] = ()) -> list[str]:
    """The names of the fields that a checked formula reads directly, each once, in order; beside what is `known`."""
    return list(dict.fromkeys(piece.name for piece in walk(node, known) if isinstance(piece, FieldRef)))
