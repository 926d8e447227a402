"""The checked tree: every piece bound and typed before any data is touched. The one contract with the engine."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator
from dataclasses import dataclass, replace
from typing import Any

from oak_ledger.functions.registry import Function
from oak_ledger.types import Grain, Type


@dataclass(frozen=True, slots=True, eq=False)
class TypedNode:
    """A piece of a formula with its type and grain; `start` and `end` are its place in the text."""

    start: int
    end: int
    type: Type
    grain: Grain


@dataclass(frozen=True, slots=True, eq=False)
class Constant(TypedNode):
    """A value known from the formula alone."""

    value: Any


@dataclass(frozen=True, slots=True, eq=False)
class FieldRef(TypedNode):
    """The value of a field, a constant or a filter of the source."""

    name: str


@dataclass(frozen=True, slots=True, eq=False)
class ColumnRef(TypedNode):
    """The value of a physical column, as it arrives."""

    column: str


@dataclass(frozen=True, slots=True, eq=False)
class Call(TypedNode):
    """An operator or function of one row (or one group); `extra` is what it needs besides its arguments."""

    function: Function
    args: tuple[TypedNode, ...]
    extra: Any = None


@dataclass(frozen=True, slots=True, eq=False)
class Branch(TypedNode):
    """One branch of a choice."""

    condition: TypedNode
    value: TypedNode


@dataclass(frozen=True, slots=True, eq=False)
class Case(TypedNode):
    """The value of the first branch whose condition holds, else `otherwise`."""

    branches: tuple[Branch, ...]
    otherwise: TypedNode


@dataclass(frozen=True, slots=True, eq=False)
class OrderKey(TypedNode):
    """One key of an order, with where its nulls go."""

    key: TypedNode
    descending: bool
    nulls_first: bool


@dataclass(frozen=True, slots=True)
class FrameSpec:
    """The rows of a window around a row: `ROWS` or `RANGE`; each end as (offset, unit of time or empty), None for unbounded."""

    unit: str
    low: tuple[int, str] | None
    high: tuple[int, str] | None


@dataclass(frozen=True, slots=True, eq=False)
class Window(TypedNode):
    """One value a row (or a group) from those around it; `order` is that of the partition, or that of WITHIN GROUP."""

    function: Function
    args: tuple[TypedNode, ...]
    where: TypedNode | None
    partition: tuple[TypedNode, ...]
    order: tuple[OrderKey, ...]
    frame: FrameSpec | None
    distinct: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Aggregate(TypedNode):
    """One value from the rows of a group; `where` limits the rows, `distinct` the values."""

    function: Function
    args: tuple[TypedNode, ...]
    distinct: bool
    where: TypedNode | None
    order: tuple[OrderKey, ...] = ()


@dataclass(frozen=True, slots=True, eq=False)
class Before(TypedNode):
    """A value of the earlier state: for the same `keys` of a row, or for the same group (no keys)."""

    value: TypedNode
    keys: tuple[TypedNode, ...]


@dataclass(frozen=True, slots=True, eq=False)
class LevelValue(TypedNode):
    """An aggregate for each combination of `keys`, as a value within another aggregate."""

    inner: TypedNode
    keys: tuple[TypedNode, ...]


@dataclass(frozen=True, slots=True, eq=False)
class Level(TypedNode):
    """An aggregate over values of a level: `inner` are computed for each group and combination of `keys`, and are the columns that
    `aggregate` reads, by `level_column`."""

    aggregate: TypedNode
    inner: tuple[TypedNode, ...]
    keys: tuple[TypedNode, ...]


def level_column(at: int, *, key: bool = False) -> str:
    """What a value of a level, or a key of it, is called as a column."""
    return f"\0{'key' if key else 'value'} {at}"


class _Apart:
    """The pieces whose values come from elsewhere: an aggregate in them is not one of the question."""

    def __contains__(self, node: object) -> bool:
        return isinstance(node, Level)


APART = _Apart()

_UNDER: dict[type[TypedNode], tuple[str, ...]] = {
    Constant: (),
    FieldRef: (),
    ColumnRef: (),
    Call: ("args",),
    Branch: ("condition", "value"),
    Case: ("branches", "otherwise"),
    OrderKey: ("key",),
    Window: ("args", "where", "partition", "order"),
    Aggregate: ("args", "where", "order"),
    Before: ("value", "keys"),
    LevelValue: ("inner", "keys"),
    Level: ("inner", "keys"),
}
"""In which of its parts a piece has others."""


def children(node: TypedNode) -> list[TypedNode]:
    """The pieces directly under this one."""
    nodes: list[TypedNode] = []
    for name in _UNDER[type(node)]:
        value = getattr(node, name)
        if isinstance(value, tuple):
            nodes.extend(value)
        elif value is not None:
            nodes.append(value)
    return nodes


def walk(node: TypedNode, known: Container[TypedNode] = (), *, branches: bool = True) -> Iterator[TypedNode]:
    """The piece and everything under it, without recursion; what is under those that are `known` is left out.

    Without `branches`, of a choice only what all rows meet: its first condition, the first of what AND joins.
    """
    waiting = [node]
    while waiting:
        current = waiting.pop()
        yield current
        if isinstance(current, Case) and not branches:
            waiting.append(current.branches[0].condition)
        elif isinstance(current, Call) and current.function.settled is not None and not branches:
            waiting.append(current.args[0])
        elif current not in known:
            waiting.extend(reversed(children(current)))


def rebuilt(node: TypedNode, change: Callable[[TypedNode], TypedNode | None]) -> TypedNode:
    """The tree with pieces replaced: those for which `change` gives another one, with all that is under them."""
    found: dict[TypedNode, TypedNode] = {}
    pieces, waiting = list[TypedNode](), [node]
    while waiting:
        one = waiting.pop()
        new = change(one)
        if new is not None:
            found[one] = new
        else:
            pieces.append(one)
            waiting.extend(children(one))
    for one in reversed(pieces):
        parts: dict[str, Any] = {}
        for name in _UNDER[type(one)]:
            value = getattr(one, name)
            if isinstance(value, tuple):
                parts[name] = tuple(found[part] for part in value)
            elif value is not None:
                parts[name] = found[value]
        found[one] = replace(one, **parts) if parts else one
    return found[node]


def can_fault(node: TypedNode) -> bool:
    """Whether computing a piece may record a fault (of its own; a field's faults are the field's)."""
    return any(isinstance(piece, Call) and piece.function.can_fault for piece in walk(node))


def fields_used(node: TypedNode, known: Container[TypedNode] = ()) -> list[str]:
    """The names of the fields that a checked formula reads directly, each once, in order; beside what is `known`."""
    return list(dict.fromkeys(piece.name for piece in walk(node, known) if isinstance(piece, FieldRef)))
