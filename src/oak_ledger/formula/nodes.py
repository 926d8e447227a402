"""The tree of a formula as it was written: frozen nodes with exact places, so that edits can be made by span."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields
from typing import Any


@dataclass(frozen=True, slots=True, eq=False)
class Node:
    """A piece of a formula; `start` and `end` are offsets into its text."""

    start: int
    end: int


@dataclass(frozen=True, slots=True, eq=False)
class Literal(Node):
    """A value as written: `kind` names its type, `value` is a Python value (text for dates)."""

    kind: str
    value: Any


@dataclass(frozen=True, slots=True, eq=False)
class Interval(Node):
    """A whole span of time, such as `INTERVAL '3' DAY`."""

    amount: int
    unit: str


@dataclass(frozen=True, slots=True, eq=False)
class Name(Node):
    """A reference to a field, a constant or a filter."""

    name: str


@dataclass(frozen=True, slots=True, eq=False)
class Parens(Node):
    """Something in parentheses; kept, so that a place covers them."""

    inner: Node


@dataclass(frozen=True, slots=True, eq=False)
class Per(Node):
    """A value of its own level: `inner PER (keys)`, one for each combination of the keys."""

    inner: Node
    keys: tuple[Node, ...]


@dataclass(frozen=True, slots=True, eq=False)
class Unary(Node):
    """A sign or `NOT`."""

    op: str
    operand: Node


@dataclass(frozen=True, slots=True, eq=False)
class Binary(Node):
    """Two operands; `at` is where the operator is."""

    op: str
    left: Node
    right: Node
    at: int


@dataclass(frozen=True, slots=True, eq=False)
class Is(Node):
    """`x IS [NOT] NULL|TRUE|FALSE|UNKNOWN`."""

    operand: Node
    test: str
    negated: bool


@dataclass(frozen=True, slots=True, eq=False)
class Between(Node):
    """`x [NOT] BETWEEN low AND high`."""

    operand: Node
    low: Node
    high: Node
    negated: bool


@dataclass(frozen=True, slots=True, eq=False)
class In(Node):
    """`x [NOT] IN (…)`."""

    operand: Node
    items: tuple[Node, ...]
    negated: bool


@dataclass(frozen=True, slots=True, eq=False)
class Like(Node):
    """`x [NOT] LIKE pattern [ESCAPE character]`."""

    operand: Node
    pattern: Node
    escape: Node | None
    negated: bool


@dataclass(frozen=True, slots=True, eq=False)
class When(Node):
    """One branch of a `CASE`."""

    condition: Node
    value: Node


@dataclass(frozen=True, slots=True, eq=False)
class Case(Node):
    """`CASE … END`; `operand` is None in the form with conditions. `IF` is read as this, too."""

    operand: Node | None
    branches: tuple[When, ...]
    otherwise: Node | None


@dataclass(frozen=True, slots=True, eq=False)
class Cast(Node):
    """`CAST(x AS type [FORMAT template])`; `target` is the type's name, `parameters` those in its parentheses."""

    operand: Node
    target: str
    parameters: tuple[int, ...]
    template: Literal | None
    target_start: int
    target_end: int


@dataclass(frozen=True, slots=True, eq=False)
class SortKey(Node):
    """One key of an `ORDER BY`; `nulls_first` is None where it is not said."""

    key: Node
    descending: bool
    nulls_first: bool | None


@dataclass(frozen=True, slots=True, eq=False)
class Bound(Node):
    """One end of a frame: `kind` is `unbounded`, `current` or `offset`; `after` says following."""

    kind: str
    after: bool
    offset: Node | None


@dataclass(frozen=True, slots=True, eq=False)
class Frame(Node):
    """`ROWS|RANGE BETWEEN … AND …`."""

    unit: str
    low: Bound
    high: Bound


@dataclass(frozen=True, slots=True, eq=False)
class Over(Node):
    """`OVER (PARTITION BY … ORDER BY … frame)`."""

    partition: tuple[Node, ...]
    order: tuple[SortKey, ...]
    frame: Frame | None


@dataclass(frozen=True, slots=True, eq=False)
class Call(Node):
    """A function with its arguments; `name_end` is where its name ends."""

    name: str
    args: tuple[Node, ...]
    name_end: int
    star: bool = False
    distinct: bool = False
    within: tuple[SortKey, ...] = ()
    where: Node | None = None
    over: Over | None = None
    ignore_nulls: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class ErrorNode(Node):
    """Where something could not be read; a finding says what."""


_NAMES: dict[str, tuple[str, ...]] = {}  # the names of fields by class, looked up once


def children(node: Node) -> list[Node]:
    """The nodes directly under this one, in the order of the text."""
    nodes: list[Node] = []
    kind = type(node).__name__
    if kind not in _NAMES:
        _NAMES[kind] = tuple(field.name for field in fields(node))
    for name in _NAMES[kind]:
        value = getattr(node, name)
        if isinstance(value, Node):
            nodes.append(value)
        elif isinstance(value, tuple):
            nodes.extend(item for item in value if isinstance(item, Node))
    return nodes


def walk(node: Node) -> Iterator[Node]:
    """The node and everything under it; any depth, since no recursion is used."""
    waiting = [node]
    while waiting:
        current = waiting.pop()
        yield current
        waiting.extend(reversed(children(current)))


def names(node: Node) -> list[Name]:
    """Every name in the tree, in the order of the text."""
    return sorted((found for found in walk(node) if isinstance(found, Name)), key=lambda name: name.start)


_IN_TEXTS = frozenset({"REPLACE", "CONTAINS", "STARTS_WITH", "ENDS_WITH"})


def compared_texts(tree: Node) -> Iterator[tuple[Node, Node, Literal]]:
    """Every place where values are compared with a text: the piece, what is compared, the text."""
    return (
        (node, operand, value)
        for node, operand, value in compared_values(tree)
        if isinstance(value, Literal) and value.kind == "text"
    )


def compared_values(tree: Node) -> Iterator[tuple[Node, Node, Literal | Unary]]:
    """Every place where values are compared with one that is written there: the piece, what is compared, the value (with its sign)."""
    for node in walk(tree):
        pairs: Sequence[tuple[Node, Node]] = ()
        if isinstance(node, Binary) and node.op in ("=", "<>"):
            pairs = [(node.left, node.right), (node.right, node.left)]
        elif isinstance(node, In):
            pairs = [(node.operand, item) for item in node.items]
        elif isinstance(node, Like):
            pairs = [(node.operand, node.pattern)]
        elif isinstance(node, Case) and node.operand is not None:
            pairs = [(node.operand, branch.condition) for branch in node.branches]
        elif isinstance(node, Call) and node.name in _IN_TEXTS and len(node.args) > 1:
            pairs = [(node.args[0], node.args[1])]
        for operand, literal in pairs:
            value = literal.operand if isinstance(literal, Unary) and literal.op in "+-" else literal
            if (
                isinstance(value, Literal)
                and isinstance(literal, (Literal, Unary))
                and not isinstance(operand, Literal)
            ):
                yield node, operand, literal
