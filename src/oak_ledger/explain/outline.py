"""A formula as a short outline: what it gives, what it needs down to the columns, where its nulls come from."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from oak_ledger.definition.model import FieldSpec
from oak_ledger.formula import Grain
from oak_ledger.formula import checked as c
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.source.source import Source

DEEPEST = 12


@dataclass(frozen=True, slots=True)
class OutlineLine:
    """One line of an outline, and how far it is indented."""

    depth: int
    text: str


def outline(source: Source, formula: str) -> list[OutlineLine]:
    """The outline of a formula: its type and grain, the fields that it needs and those that they need, and what can make it null.

    Raises FormulaError where it is wrong.
    """
    checked = source.check_formula(formula).require()
    per = "one value for all" if checked.grain == Grain.CONSTANT else f"one value per {checked.grain}"
    lines = [OutlineLine(0, f"{checked.type}, {per}")]
    names = c.fields_used(checked)
    if names:
        lines.append(OutlineLine(0, "needs"))
        for name in names:
            _needs(source, source.state(name), 1, lines, ())
    nulls = list(dict.fromkeys(_nulls(checked, formula)))
    if nulls:
        lines.append(OutlineLine(0, "is null where"))
        lines += [OutlineLine(1, text) for text in nulls]
    return lines


def _needs(source: Source, state: ResolvedName, depth: int, lines: list[OutlineLine], path: tuple[str, ...]) -> None:
    spec = state.spec
    kind = f"{state.type_name}, per {state.grain}" if state.type else "broken"
    if isinstance(spec, FieldSpec) and spec.column:
        clean = f", cleaned by {spec.clean}" if spec.clean else ""
        lines.append(OutlineLine(depth, f"{state.name}: the column {spec.column}, {kind}{clean}"))
        return
    text = spec.formula if isinstance(spec, FieldSpec) else state.what
    lines.append(OutlineLine(depth, f"{state.name}: {' '.join(text.split())}, {kind}"))
    if depth < DEEPEST and state.name not in path:
        for used in state.uses:
            _needs(source, source.state(used), depth + 1, lines, (*path, state.name))


def _nulls(node: c.TypedNode, text: str) -> list[str]:
    """What can make a formula null, in words."""
    found = [*_causes(node, text)]
    kept = any(isinstance(piece, c.Call) and piece.function.name == "COALESCE" for piece in c.walk(node))
    return [f"{one} (unless COALESCE fills it)" if kept and one.endswith("is null") else one for one in found]


def _causes(piece: c.TypedNode, text: str) -> Iterator[str]:
    """What can make a piece null. By what a window partitions and orders its rows makes none of its values null."""
    under = c.children(piece)
    if isinstance(piece, c.FieldRef) and piece.grain == Grain.ROW:
        yield f"{piece.name} is null"
    elif isinstance(piece, c.Call) and piece.function.can_fault:
        said = {
            "/": "what it divides by is zero",
            "%": "what it divides by is zero",
            "CAST": "a value does not fit its cast",
        }
        yield said.get(piece.function.name, f"{piece.function.name} cannot be computed")
    elif isinstance(piece, c.Case) and isinstance(piece.otherwise, c.Constant) and piece.otherwise.value is None:
        yield "no branch of its CASE holds"
    elif isinstance(piece, c.Aggregate):
        if piece.function.name != "COUNT":
            yield f"a group has no value for {piece.function.name}"
        under = []
    elif isinstance(piece, c.Window):
        yield from _of_window(piece, text)
        under = [*piece.args] if piece.function.window else []
    for node in under:
        yield from _causes(node, text)


def _of_window(node: c.Window, text: str) -> Iterator[str]:
    """What is at an end of a partition has nothing before or after it; a frame may be without a value."""
    name = node.function.name.split()[0]
    if name in ("LAG", "LEAD") and len(node.args) < 3:
        steps = node.args[1].value if len(node.args) > 1 and isinstance(node.args[1], c.Constant) else 1
        parts = ", ".join(text[one.start : one.end] for one in node.partition)
        order = ", ".join(text[key.start : key.end] for key in node.order)
        end = "first" if name == "LAG" else "last"
        which = f"it is the {end} {node.grain}" if steps == 1 else f"it is among the {end} {steps} {node.grain}s"
        yield f"{which}{f' of its {parts}' if parts else ''}, by {order}"
    elif not node.function.window and node.function.name != "COUNT":
        yield f"its window has no value for {node.function.name}"
