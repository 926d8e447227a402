"""Which values may be added up, known from the formula itself.

A volume may be summed over rows; a price per volume may not: the sum of ratios is not the ratio of sums. The nature of a
field follows from its tree, through every field that it is made of.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from oak_ledger.definition.model import FieldSpec
from oak_ledger.formula import nodes as n
from oak_ledger.formula.parser import parse
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.source.source import Source
from oak_ledger.types import Grain

Kind = Literal["constant", "additive", "ratio", "whole", "rate"]
# Functions that leave the nature of their first arguments as it is.
_THROUGH = frozenset({"COALESCE", "ROUND", "TRUNC", "NULLIF", "GREATEST", "LEAST", "ABS", "FLOOR", "CEILING"})

_RANKS = frozenset({"ROW_NUMBER", "RANK", "DENSE_RANK", "NTILE", "PERCENT_RANK", "CUME_DIST"})
_NEIGHBOURS = frozenset({"LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE", "NTH_VALUE"})
_NEVER = {
    "EXTRACT": "it is a part of a date",
    "MOD": "it is a remainder",
    "WIDTH_BUCKET": "it is the number of a class",
    "SIGN": "it is a sign",
}


@dataclass(frozen=True, slots=True)
class Additivity:
    """How a value behaves when rows are added up.

    `ratio`: one row value over another; `part` and `whole` are their formulas. `whole`: one value over all rows, repeated in each; a
    share of it adds up. `rate`: not additive for another reason. `meant` is the aggregate that a window repeats in its rows.
    """

    kind: Kind
    part: str = ""
    whole: str = ""
    why: str = ""
    meant: str = ""

    @property
    def is_additive(self) -> bool:
        """Whether the sum over rows means something."""
        return self.kind in ("additive", "constant")


CONSTANT, ADDITIVE = Additivity("constant"), Additivity("additive")


def nature_of(source: Source, state: ResolvedName) -> Additivity:
    """The nature of one field."""
    return AdditivityAnalysis(source).of_state(state)


class AdditivityAnalysis:
    """The natures of a source's fields, each found once."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.known: dict[str, Additivity] = {}

    def of_state(self, state: ResolvedName) -> Additivity:
        """The nature of a field; those that it is made of are found first, so that no chain of them is recursed into."""
        waiting = [(state, False)]
        while waiting:
            one, ready = waiting.pop()
            if ready:
                self.known[one.name] = self._of_state(one)
            elif one.name not in self.known:
                self.known[one.name] = ADDITIVE  # holds while a cycle is followed
                waiting.append((one, True))
                waiting.extend((self.source.state(name), False) for name in one.uses)
        return self.known[state.name]

    def _of_state(self, state: ResolvedName) -> Additivity:
        spec = state.spec
        if not isinstance(spec, FieldSpec):
            return CONSTANT
        known = self.of(state.tree, spec.formula) if spec.calculated and state.tree is not None else ADDITIVE
        if known.is_additive and spec.total is not None and spec.total not in ("sum", "count"):
            return Additivity("rate", why=f"it is totalled as {spec.total}")
        if known.is_additive and "%" in spec.format:
            return Additivity("rate", why="it is a percentage")
        return known

    def of(self, node: n.Node, text: str) -> Additivity:
        """The nature of a formula of rows."""
        if isinstance(node, n.Literal):
            return CONSTANT
        if isinstance(node, n.Name):
            state = self.source.compiled.states.get(node.name.casefold())
            return ADDITIVE if state is None else self.of_state(state)
        if isinstance(node, (n.Parens, n.Unary, n.Cast)):
            return self.of(node.inner if isinstance(node, n.Parens) else node.operand, text)
        if isinstance(node, n.Binary):
            return self._binary(node, text)
        if isinstance(node, n.Case):
            values = [branch.value for branch in node.branches]
            return self._worst([*values, *([node.otherwise] if node.otherwise else [])], text)
        if isinstance(node, n.Call) and node.over is not None:
            return self._window(node, node.over, text)
        if isinstance(node, n.Call) and node.name in _NEVER:
            return Additivity("rate", why=_NEVER[node.name])
        if isinstance(node, n.Call) and node.name in _THROUGH:
            return self._worst(list(node.args[:1] if node.name in ("ROUND", "TRUNC", "NULLIF") else node.args), text)
        return ADDITIVE

    def _window(self, node: n.Call, over: n.Over, text: str) -> Additivity:
        """A window over rows: its value is in several rows, or counts rows before it, so that a sum counts things twice."""
        if node.name in _RANKS:
            return Additivity("rate", why="it is a rank")
        if node.name in _NEIGHBOURS:
            own = self.of(node.args[0], text) if node.args else ADDITIVE
            moved = node.name in ("LAG", "LEAD")
            return own if moved else Additivity("rate", why="it is the value of one row, repeated in others")
        meant = text[node.start : _end_of_call(node, text)]
        if over.order:
            return Additivity("rate", why="it is a running value", meant=meant)
        if over.partition:
            names = ", ".join(text[node.start : node.end] for node in over.partition)
            return Additivity("rate", why=f"it is one value for each {names}, repeated in its rows", meant=meant)
        return Additivity("whole", why="it is one value over all rows, repeated in each", meant=meant)

    def _worst(self, values: list[n.Node], text: str) -> Additivity:
        natures = [self.of(value, text) for value in values]
        for kind in ("ratio", "rate", "whole", "additive"):
            additivity = next((nature for nature in natures if nature.kind == kind), None)
            if additivity is not None:
                return additivity
        return CONSTANT

    def _binary(self, node: n.Binary, text: str) -> Additivity:
        spine: list[n.Binary] = []
        first: n.Node = node
        while isinstance(first, n.Binary):
            spine.append(first)
            first = first.left
        nature = self.of(first, text)
        for step in reversed(spine):
            nature = self._step(step, nature, self.of(step.right, text), text)
        return nature

    def _step(self, node: n.Binary, left: Additivity, right: Additivity, text: str) -> Additivity:
        op = node.op
        if op in "+-":
            odd = left if not left.is_additive else right
            return odd if not odd.is_additive else ADDITIVE if "additive" in (left.kind, right.kind) else CONSTANT
        if op == "*":
            if left.is_additive and right.is_additive:
                return ADDITIVE if "additive" in (left.kind, right.kind) else CONSTANT
            if "constant" in (left.kind, right.kind):
                return left if not left.is_additive else right
            return ADDITIVE if left.is_additive or right.is_additive else left  # a price times a quantity is an amount
        if op == "/":
            if right.kind in ("constant", "whole"):  # a share of all adds up to all
                return left if left.kind != "whole" else CONSTANT
            if left.is_additive and right.is_additive:
                part, whole = text[node.left.start : node.left.end], text[node.right.start : node.right.end]
                return Additivity("ratio", part, whole, f"it divides {part} by {whole} in each row")
            return Additivity("rate", why="it divides in each row")
        if op == "%":
            return Additivity("rate", why="it is a remainder")
        return ADDITIVE


def _end_of_call(node: n.Call, text: str) -> int:
    """Where the arguments of a windowed call end, with its filter: before OVER."""
    pieces = [*node.over.partition, *node.over.order] if node.over else []
    last = min((piece.start for piece in pieces), default=node.end)
    found = [match.start() for match in re.finditer(r"(?i)\bOVER\b", text[:last])]
    return len(text[: found[-1]].rstrip()) if found else node.end


def ratio_of_sums(source: Source, text: str, nature: Additivity) -> str:
    """The formula that says for groups what `text` says for a row: each side of the division summed.

    The formula around the division (a rounding, a factor) is kept where it can be computed for groups.
    """
    if nature.kind != "ratio":
        return nature.meant
    strip_widening = f"SUM({_unwrapped(nature.part)}) / SUM({_unwrapped(nature.whole)})"
    at = text.find(nature.part)
    for division in (node for node in n.walk(parse(text).tree) if isinstance(node, n.Binary) and node.op == "/"):
        left, right = (text[division.left.start : division.left.end], text[division.right.start : division.right.end])
        if (left, right) == (nature.part, nature.whole) and at >= 0:
            kept = text[: division.start] + strip_widening + text[division.end :]
            formula = source.check_formula(kept)
            if formula.checked is not None and formula.checked.grain == Grain.GROUP:
                return kept
    return strip_widening


def how_it_totals(source: Source, state: ResolvedName) -> str:
    """How the values of a field come to a total, in a sentence's part; empty for a constant or what is broken."""
    spec, kind = state.spec, state.type
    if kind is None or not isinstance(spec, FieldSpec) or state.grain == Grain.CONSTANT:
        return ""
    if state.grain == Grain.GROUP:
        return "computed again for each group and each total"
    if spec.total == "none":
        return "has no total"
    if spec.total in ("last", "first"):
        return f"adds up, but over {spec.total_by}: there the {spec.total} counts"
    if spec.total not in (None, "sum"):
        return f"totalled as {spec.total}"
    if not kind.numeric:
        return "not added up; it is grouped by, or counted"
    nature = nature_of(source, state)
    if nature.is_additive:
        return "adds up"
    right = ratio_of_sums(source, spec.formula, nature)
    return f"does not add up: {nature.why}" + (f"; for groups: {right}" if right else "")


def _unwrapped(text: str) -> str:
    """A formula without parentheses around the whole of it."""
    tree = parse(text).tree
    return text[tree.inner.start : tree.inner.end] if isinstance(tree, n.Parens) else text
