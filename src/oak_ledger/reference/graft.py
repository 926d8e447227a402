"""Carrying calculated fields into a similar source, with what they need; what cannot be mapped arrives broken, not lost."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from oak_ledger.definition.document import Block
from oak_ledger.definition.model import ConstantSpec, FieldSpec
from oak_ledger.definition.references import renamed_references
from oak_ledger.errors import OakError
from oak_ledger.formula.assist import format_formula
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.reference.evidence import likeness, values_of
from oak_ledger.reference.mend import Mend, edits_between
from oak_ledger.source.source import Source

MIN_SCORE = 0.5


@dataclass(frozen=True, slots=True)
class Conflict:
    """A name that both sources have with another meaning: what it says in the one and in the other."""

    name: str
    there: str
    here: str


@dataclass(frozen=True, slots=True)
class Graft:
    """What carrying fields over does: the edit, what is added, what was there already, conflicts, and plain fields that nothing is mapped to."""

    mend: Mend
    added: tuple[str, ...]
    same: tuple[str, ...]
    conflicts: tuple[Conflict, ...]
    unmapped: tuple[str, ...]


def plan_graft(origin: Source, names: Sequence[str], target: Source, mapping: Mapping[str, str] | None = None) -> Graft:
    """Carry calculated fields of `origin` into `target`, with the fields, constants and filters that they need.

    `mapping` says what names of `origin` are called in `target`; names that are the same need none. Raises OakError for a name that is not
    there, and for a field of a column.
    """
    given = {origin.state(old).name.casefold(): target.state(new).name for old, new in (mapping or {}).items()}
    plain = [
        name
        for name in names
        if not getattr(origin.state(name).spec, "formula", "") and isinstance(origin.state(name).spec, FieldSpec)
    ]
    if plain:
        raise OakError(
            "not-calculated",
            f"{plain[0]} is a column, not a formula.",
            hint="Fields of columns are added with oak field restore.",
        )
    added, same, conflicts, unmapped = [], [], [], []
    document = target.document
    for block in _needed(origin, names):
        name = str(block.values["name"])
        if name.casefold() in given:
            continue
        there = target.compiled.states.get(name.casefold())
        if block.values.get("column"):
            if there is None:
                unmapped.append(name)
            continue
        values = _renamed(block, origin, given)
        if there is not None:
            here = _meaning(values)
            other = _meaning(_block(target, there.name).values)
            if here == other:
                same.append(there.name)
            else:
                conflicts.append(Conflict(there.name, here, other))
            continue
        document = document.added(block.name, values)
        added.append(name)
    made = target.changed(document)
    edits = edits_between([(target.path, target.document, document)])
    return Graft(Mend(made, edits), tuple(added), tuple(same), tuple(conflicts), tuple(unmapped))


def _needed(origin: Source, names: Sequence[str]) -> list[Block]:
    """The entries of the fields and of all that they need, each after what it needs."""
    found: dict[str, None] = {}

    def visit(name: str) -> None:
        state = origin.state(name)
        for used in state.uses:
            if used != state.name and used not in found and used.casefold() in origin.compiled.states:
                visit(used)
        found[state.name] = None

    for name in names:
        visit(name)
    return [_block(origin, name) for name in found]


def _block(source: Source, name: str) -> Block:
    """The entry of a field, constant or filter."""
    spec = source.state(name).spec
    kind = "field" if isinstance(spec, FieldSpec) else "constant" if isinstance(spec, ConstantSpec) else "filter"
    return source.block(name, kind)


def _renamed(block: Block, origin: Source, names: Mapping[str, str]) -> dict[str, Any]:
    """An entry's values with the names of the other source."""
    whole = renamed_references(origin.document, names)
    at = next(number for number, one in enumerate(origin.document.blocks) if one is block)
    return dict(whole.blocks[at].values)


def _meaning(values: Mapping[str, Any]) -> str:
    """What an entry says, whatever its layout."""
    text = values.get("formula") or values.get("where")
    if text:
        return format_formula(str(text))
    return str(values.get("value", values.get("values", values.get("column", ""))))


def suggestions(origin: Source, names: Sequence[str], target: Source) -> dict[str, str]:
    """For plain fields of `origin`, the fields of `target` whose values are spread alike, or that are called alike."""
    from rapidfuzz import fuzz, utils

    columns = [state.name for state in target.shown_fields if getattr(state.spec, "column", "") and not state.broken]
    if not names or not columns:
        return {}
    before = origin.rows([quote_identifier(name) for name in names], limit=50_000).table
    now = target.rows([quote_identifier(name) for name in columns], limit=50_000).table
    found = {}
    for name in names:
        own = values_of(before.column(name))
        scores = []
        for column in columns:
            other = values_of(now.column(column))
            alike = fuzz.ratio(name, column, processor=utils.default_process) / 100
            likely = likeness(own, other, None).score if own is not None and other is not None else 0.0
            scores.append((0.6 * likely + 0.4 * alike, column))
        best = max(scores)
        if best[0] >= MIN_SCORE:
            found[name] = best[1]
    return found
