"""Values that could not be computed, as conditions that a place can count: it knows no rows by number."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from oak_ledger.engine.evaluate import Expression, needed
from oak_ledger.engine.query import Query
from oak_ledger.formula import checked as c
from oak_ledger.functions.registry import LIBRARY, internal_function
from oak_ledger.places.texts import WRONG
from oak_ledger.types import BOOLEAN, INTEGER, Grain

_IS_NULL, _AND, _NOT, _IS_TRUE, _IS_FALSE = (
    internal_function(name, lambda run, *_: None) for name in ("IS NULL", "AND", "NOT", "IS TRUE", "IS FALSE")
)
_FALSE = c.Constant(0, 0, BOOLEAN, Grain.CONSTANT, value=False)
_ZERO = ("/", "%", "DIV", "MOD")


@dataclass(frozen=True, slots=True)
class Condition:
    """Whether a value could not be computed: the field that it is of, what is wrong, and the condition, for rows or for groups."""

    owner: str
    what: str
    tree: c.TypedNode
    of_groups: bool
    of_filter: bool = False
    """Whether a filter needs it, of rows that it does not let through too."""


def conditions(query: Query) -> list[Condition]:
    """All that may be wrong in what a question computes."""
    asked = [*query.asked, *query.always]
    owners = [(expression.name, expression.checked) for expression in asked]
    owners += [
        (name.partition("\0")[0], query.fields[name].checked)
        for name in needed(query.fields, [expression.checked for expression in asked])
    ]
    filters = [expression.checked for expression in query.where]
    filtering = {expression.name for expression in query.where} | {
        name.partition("\0")[0] for name in needed(query.fields, filters)
    }
    return [
        Condition(owner, what, tree, of_groups, owner in filtering)
        for owner, node in owners
        for what, tree, of_groups in _wrong(node, node.grain == Grain.GROUP)
    ]


def as_counts(query: Query, found: Sequence[Condition]) -> Query:
    """The question how many rows are kept, then for each condition of rows, how many of these it holds for."""
    names = [f"fault {at}" for at in range(len(found))]
    fields = {
        **query.fields,
        **{name: Expression(name, "", condition.tree) for name, condition in zip(names, found, strict=True)},
    }
    kept = [expression.checked for expression in query.where]
    wanted = [kept]
    for name, one in zip(names, found, strict=True):
        wanted.append([*(() if one.of_filter else kept), c.FieldRef(0, 0, BOOLEAN, Grain.ROW, name)])
    counts = tuple(Expression(f"rows {at}", "", _count(trees)) for at, trees in enumerate(wanted))
    return Query(fields, counts, always=query.always, grouped=True)


def _count(trees: Sequence[c.TypedNode]) -> c.TypedNode:
    where = _all(trees) if trees else None
    return c.Aggregate(0, 0, INTEGER, Grain.GROUP, LIBRARY.entries["COUNT"], (), distinct=False, where=where)


def _wrong(node: c.TypedNode, of_groups: bool) -> Iterator[tuple[str, c.TypedNode, bool]]:
    """What may be wrong in a tree, and the condition for each."""
    if isinstance(node, c.Case):
        for at, branch in enumerate(node.branches):
            yield from _wrong(branch.condition, of_groups)
            yield from _chosen(node, at, branch.value, of_groups)
        yield from _chosen(node, len(node.branches), node.otherwise, of_groups)
        return
    if isinstance(node, c.Aggregate):
        for one in node.args:
            for what, tree, inner in _wrong(one, of_groups=False):
                yield what, tree if node.where is None else _all([node.where, tree]), inner
        if node.where is not None:
            yield from _wrong(node.where, of_groups=False)
        return
    args = getattr(node, "args", ())
    settles = isinstance(node, c.Call) and node.function.settled is not None
    for at, one in enumerate(args):
        for what, tree, inner in _wrong(one, of_groups):
            yield what, _left_open(node, args[:at], tree) if settles and at and inner == of_groups else tree, inner
    if isinstance(node, c.Call) and node.function.can_fault:
        there = [_call(_NOT, _call(_IS_NULL, arg)) for arg in node.args if not isinstance(arg, c.Constant)]
        yield _what(node), _all([*there, _call(_IS_NULL, node)]), of_groups


def _left_open(node: c.TypedNode, before: Sequence[c.TypedNode], tree: c.TypedNode) -> c.TypedNode:
    """A condition only in the rows that the arguments before leave open: of AND, OR and COALESCE."""
    name = node.function.name if isinstance(node, c.Call) else ""

    def settled(one: c.TypedNode) -> c.TypedNode:
        if name in ("AND", "OR"):
            return _call(_IS_FALSE if name == "AND" else _IS_TRUE, one)
        return _call(_NOT, _call(_IS_NULL, one))

    branches = tuple(c.Branch(0, 0, BOOLEAN, node.grain, settled(node), _FALSE) for node in before)
    return c.Case(0, 0, BOOLEAN, max(node.grain for node in (tree, *before)), branches, tree)


def _chosen(node: c.Case, at: int, value: c.TypedNode, of_groups: bool) -> Iterator[tuple[str, c.TypedNode, bool]]:
    """What may be wrong in one branch of a choice, in the rows that take it."""
    for what, tree, inner in _wrong(value, of_groups):
        branches = tuple(
            c.Branch(0, 0, BOOLEAN, branch.grain, branch.condition, tree if place == at else _FALSE)
            for place, branch in enumerate(node.branches)
        )
        last = tree if at == len(node.branches) else _FALSE
        taken = c.Case(0, 0, BOOLEAN, node.grain, branches, last)
        yield what, tree if inner != of_groups else taken, inner


def _what(node: c.Call) -> str:
    name = node.function.name
    if name in _ZERO:
        return "division by zero"
    if name == "CAST":
        return WRONG.get(node.type.kind, "no value")
    return "not a number with these marks" if name == "PLAIN_NUMBER" else f"too large for {name}"


def _call(function: object, *args: c.TypedNode) -> c.TypedNode:
    return c.Call(0, 0, BOOLEAN, max(arg.grain for arg in args), function, args)  # type: ignore[arg-type]


def _all(trees: Sequence[c.TypedNode]) -> c.TypedNode:
    node = trees[0]
    for tree in trees[1:]:
        node = _call(_AND, node, tree)
    return node
