"""Which values may be added up, known from the formula itself.

A volume may be summed over rows; a price per volume may not: the sum of ratios is not the ratio of sums. The nature of a
field follows from its tree, through every field that it is made of.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from oak_ledger.formula import nodes as n
from oak_ledger.formula.parser import parse
from oak_ledger.source.compiled import State
from oak_ledger.source.definition import FieldSpec
from oak_ledger.source.source import Source
from oak_ledger.types import Grain

Kind = Literal["constant", "additive", "ratio", "rate"]
# Functions that leave the nature of their first arguments as it is.
_THROUGH = frozenset({"COALESCE", "ROUND", "TRUNC", "NULLIF", "GREATEST", "LEAST", "ABS", "FLOOR", "CEILING"})


@dataclass(frozen=True, slots=True)
class Nature:
    """How a value behaves when rows are added up.

    `ratio`: one row value over another; `part` and `whole` are their formulas. `rate`: not additive for another reason.
    """

    kind: Kind
    part: str = ""
    whole: str = ""
    why: str = ""

    @property
    def adds_up(self) -> bool:
        """Whether the sum over rows means something."""
        return self.kind in ("additive", "constant")


CONSTANT, ADDITIVE = Nature("constant"), Nature("additive")


def nature_of(source: Source, state: State) -> Nature:
    """The nature of one field."""
    return Natures(source).of_state(state)


class Natures:
    """The natures of a source's fields, each found once."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.known: dict[str, Nature] = {}

    def of_state(self, state: State) -> Nature:
        """The nature of a field; those that it is made of are found first, so that no chain of them is recursed into."""
        waiting = [(state, False)]
        while waiting:
            one, ready = waiting.pop()
            if ready:
                self.known[one.name] = self._of_state(one)
            elif one.name not in self.known:
                self.known[one.name] = ADDITIVE  # stands while a cycle is followed
                waiting.append((one, True))
                waiting.extend((self.source.state(name), False) for name in one.uses)
        return self.known[state.name]

    def _of_state(self, state: State) -> Nature:
        spec = state.spec
        if not isinstance(spec, FieldSpec):
            return CONSTANT
        known = self.of(state.tree, spec.formula) if spec.calculated and state.tree is not None else ADDITIVE
        if known.adds_up and spec.total is not None and spec.total not in ("sum", "count"):
            return Nature("rate", why=f"it is totalled as {spec.total}")
        if known.adds_up and "%" in spec.format:
            return Nature("rate", why="it is a percentage")
        return known

    def of(self, node: n.Node, text: str) -> Nature:
        """The nature of a formula of rows."""
        if isinstance(node, n.Literal):
            return CONSTANT
        if isinstance(node, n.Name):
            found = self.source.compiled.states.get(node.name.casefold())
            return ADDITIVE if found is None else self.of_state(found)
        if isinstance(node, (n.Parens, n.Unary, n.Cast)):
            return self.of(node.inner if isinstance(node, n.Parens) else node.operand, text)
        if isinstance(node, n.Binary):
            return self._binary(node, text)
        if isinstance(node, n.Case):
            values = [branch.value for branch in node.branches]
            return self._worst([*values, *([node.otherwise] if node.otherwise else [])], text)
        if isinstance(node, n.Call) and node.name in _THROUGH:
            return self._worst(list(node.args[:1] if node.name in ("ROUND", "TRUNC", "NULLIF") else node.args), text)
        return ADDITIVE

    def _worst(self, values: list[n.Node], text: str) -> Nature:
        natures = [self.of(value, text) for value in values]
        for kind in ("ratio", "rate", "additive"):
            found = next((nature for nature in natures if nature.kind == kind), None)
            if found is not None:
                return found
        return CONSTANT

    def _binary(self, node: n.Binary, text: str) -> Nature:
        spine: list[n.Binary] = []
        first: n.Node = node
        while isinstance(first, n.Binary):
            spine.append(first)
            first = first.left
        nature = self.of(first, text)
        for step in reversed(spine):
            nature = self._step(step, nature, self.of(step.right, text), text)
        return nature

    def _step(self, node: n.Binary, left: Nature, right: Nature, text: str) -> Nature:
        op = node.op
        if op in "+-":
            odd = left if not left.adds_up else right
            return odd if not odd.adds_up else ADDITIVE if "additive" in (left.kind, right.kind) else CONSTANT
        if op == "*":
            if left.adds_up and right.adds_up:
                return ADDITIVE if "additive" in (left.kind, right.kind) else CONSTANT
            if "constant" in (left.kind, right.kind):
                return left if not left.adds_up else right
            return ADDITIVE if left.adds_up or right.adds_up else left  # a price times a quantity is an amount
        if op == "/":
            if right.kind == "constant":
                return left
            if left.adds_up and right.adds_up:
                part, whole = text[node.left.start : node.left.end], text[node.right.start : node.right.end]
                return Nature("ratio", part, whole, f"it divides {part} by {whole} in each row")
            return Nature("rate", why="it divides in each row")
        if op == "%":
            return Nature("rate", why="it is a remainder")
        return ADDITIVE


def ratio_of_sums(source: Source, text: str, nature: Nature) -> str:
    """The formula that says for groups what `text` says for a row: each side of the division summed.

    The formula around the division (a rounding, a factor) is kept where it can be computed for groups.
    """
    if nature.kind != "ratio":
        return ""
    bare = f"SUM({_unwrapped(nature.part)}) / SUM({_unwrapped(nature.whole)})"
    at = text.find(nature.part)
    for division in (node for node in n.walk(parse(text).tree) if isinstance(node, n.Binary) and node.op == "/"):
        left, right = (text[division.left.start : division.left.end], text[division.right.start : division.right.end])
        if (left, right) == (nature.part, nature.whole) and at >= 0:
            kept = text[: division.start] + bare + text[division.end :]
            formula = source.check_formula(kept)
            if formula.checked is not None and formula.checked.grain == Grain.GROUP:
                return kept
    return bare


def _unwrapped(text: str) -> str:
    """A formula without parentheses around the whole of it."""
    tree = parse(text).tree
    return text[tree.inner.start : tree.inner.end] if isinstance(tree, n.Parens) else text
