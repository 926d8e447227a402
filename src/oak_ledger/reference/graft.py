"""Carrying calculated fields into a similar source, with what they need; what cannot be mapped arrives broken, not lost."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow.compute as pc

from oak_ledger.definition.document import Block
from oak_ledger.definition.model import ConstantSpec, FieldSpec
from oak_ledger.definition.references import renamed_references
from oak_ledger.errors import OakError
from oak_ledger.formula import Grain
from oak_ledger.formula.assist import format_formula
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.reference.evidence import Values, likeness, values_of
from oak_ledger.reference.mend import Mend, edits_between
from oak_ledger.source.source import Source

MIN_SCORE = 0.5
COMPARED_ROWS = 50_000
MOST_VALUES = 60  # of a text, to say that none is in common
OTHER_UNIT = 4.0  # between the medians of fields of one name, for their unit to be doubted


@dataclass(frozen=True, slots=True)
class Conflict:
    """A name that both sources have with another meaning: what it says in the one and in the other."""

    name: str
    there: str
    here: str


@dataclass(frozen=True, slots=True)
class Graft:
    """What carrying fields over does: the edit, what is added, what was there already, conflicts, plain fields that nothing is mapped to, and
    why plain fields that are taken for each other may not be the same (name: sentence)."""

    mend: Mend
    added: tuple[str, ...]
    same: tuple[str, ...]
    conflicts: tuple[Conflict, ...]
    unmapped: tuple[str, ...]
    doubts: Mapping[str, str]


def plan_graft(
    origin: Source,
    names: Sequence[str],
    target: Source,
    mapping: Mapping[str, str] | None = None,
    renamed: Mapping[str, str] | None = None,
) -> Graft:
    """Carry calculated fields of `origin` into `target`, with the fields, constants and filters that they need.

    `mapping` says what names of `origin` are called in `target`; names that are the same need none. `renamed` has new names for what is
    carried over. Raises OakError for a name that is not there, for a field of a column, and where a field would need itself.
    """
    given = {origin.state(old).name.casefold(): target.state(new).name for old, new in (mapping or {}).items()}
    new_names = {origin.state(old).name.casefold(): new for old, new in (renamed or {}).items()}
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
    pairs = {origin.state(old).name: new for old, new in given.items()}
    document = target.document
    for block in _needed(origin, names):
        name = str(block.values["name"])
        if name.casefold() in given:
            continue
        there = target.compiled.states.get(new_names.get(name.casefold(), name).casefold())
        if block.values.get("column"):
            if there is None:
                unmapped.append(name)
            else:
                pairs[name] = there.name
            continue
        values = _renamed(block, origin, given | new_names) | {"name": new_names.get(name.casefold(), name)}
        if there is not None:
            here = _meaning(values)
            other = _meaning(_block(target, there.name).values)
            if here == other:
                same.append(there.name)
            else:
                conflicts.append(Conflict(there.name, here, other))
            continue
        document = document.added(block.name, values)
        added.append(str(values["name"]))
    source = target.changed(document)
    cycle = next(
        (finding for name in added for finding in source.state(name).findings if finding.code == "cycle"), None
    )
    if cycle is not None:
        raise OakError(
            "cycle", cycle.message, hint="A field that is mapped to needs what is carried over: map another."
        )
    edits = edits_between([(target.path, target.document, document)])
    return Graft(Mend(source, edits), tuple(added), tuple(same), tuple(conflicts), tuple(unmapped), _doubts(origin, target, pairs))  # fmt: skip


def _doubts(origin: Source, target: Source, pairs: Mapping[str, str]) -> dict[str, str]:
    """Where fields that are taken for each other have values that do not look so: of another type, in another unit, none in common."""
    whole = {old: new for old, new in pairs.items() if origin.state(old).grain == target.state(new).grain == Grain.ROW}
    if not whole:
        return {}
    sides = [
        source.rows([quote_identifier(name) for name in dict.fromkeys(names)], limit=COMPARED_ROWS).table
        for source, names in ((origin, whole.keys()), (target, whole.values()))
    ]
    found = {}
    for old, new in whole.items():
        before, now = values_of(sides[0].column(old)), values_of(sides[1].column(new))
        said = _doubt(before, now, origin.name, target.name) if before is not None and now is not None else ""
        if said:
            found[new] = said
    return found


def _doubt(before: Values, now: Values, there: str, here: str) -> str:
    if before.kind != now.kind:
        return f"it is a {before.kind} in {there} and a {now.kind} in {here}"
    if before.kind == "number":
        medians = [float(np.median(np.abs(values.items[values.present]))) if values.present.any() else 0.0 for values in (before, now)]  # fmt: skip
        times = medians[1] / medians[0] if all(medians) else 1.0
        if not 1 / OTHER_UNIT < times < OTHER_UNIT:
            return f"its median is {medians[0]:,.4g} in {there} and {medians[1]:,.4g} in {here}: it may be in another unit"  # fmt: skip
    if before.kind == "text":
        known = [{*pc.unique(values.items.drop_null()).to_pylist()} for values in (before, now)]
        if known[0] and known[1] and len(known[0]) <= MOST_VALUES and not known[0] & known[1]:
            return f"{there} and {here} have no value of it in common: {min(known[0])!r} there, {min(known[1])!r} here"
    return ""


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


def _same_formula(origin: Source, name: str, target: Source, other: str) -> bool | None:
    """Whether two fields are calculated in the same way; None where one of them is a column."""
    texts = [getattr(source.state(field).spec, "formula", "") for source, field in ((origin, name), (target, other))]
    return format_formula(texts[0]) == format_formula(texts[1]) if all(texts) else None


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

    columns = [
        state.name for state in target.shown_fields
        if isinstance(state.spec, FieldSpec) and not state.broken and state.grain == Grain.ROW
    ]  # fmt: skip
    if not names or not columns:
        return {}
    before = origin.rows([quote_identifier(name) for name in names], limit=COMPARED_ROWS).table
    now = target.rows([quote_identifier(name) for name in columns], limit=COMPARED_ROWS).table
    found = {}
    for name in names:
        own = values_of(before.column(name))
        scores = []
        for column in columns:
            other = values_of(now.column(column))
            alike = fuzz.ratio(name, column, processor=utils.default_process) / 100
            if own is None or other is None or own.kind != other.kind:
                continue
            likely = 1.0 if _same_formula(origin, name, target, column) else likeness(own, other, None).score
            scores.append((0.6 * likely + 0.4 * alike, column))
        best = max(scores, default=(0.0, ""))
        if best[0] >= MIN_SCORE:
            found[name] = best[1]
    return found
