"""Before and after an edit: fields side by side, first rows side by side, what a retype does to the values."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from oak_ledger.definition.document import parse_document
from oak_ledger.definition.edits import edits_of, patched
from oak_ledger.definition.formats import show
from oak_ledger.definition.model import DEFINITION, FieldSpec
from oak_ledger.engine import Fault
from oak_ledger.errors import OakError
from oak_ledger.formula import Grain, nodes, parse
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.functions.casts import LOST
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.source.answer import Answer
from oak_ledger.source.source import Source

MAX_COMPARED_ROWS = 1_000  # rows that are compared
SAMPLES = 5


@dataclass(frozen=True, slots=True)
class Retyped:
    """What came of a retype: the new source, the types, how many values there were and are, and those that were lost.

    `samples` has distinct values as (before, after): those that are lost first, then those that change, the most frequent first.
    """

    source: Source
    field: str
    type_before: str
    type_after: str
    rows: int
    values_before: int
    values_after: int
    lost: tuple[Fault, ...]
    samples: tuple[tuple[Any, Any], ...]

    @property
    def lost_rows(self) -> int:
        """In how many rows a value could not be converted."""
        return sum(fault.rows for fault in self.lost)


def retype(source: Source, name: str, kind: str, **keys: Any) -> Retyped:
    """Read a plain field's column as another type, and say what that does to every value.

    `kind` is a type as a definition writes it; `keys` are other keys of the field (template, decimal_mark, …). A clean that makes
    the type of a text follows: it makes the other type, or goes where the text itself is wanted. Where numbers would lose zeros of the
    texts, a clean is written, which says that they may. Raises OakError where the field is calculated, or where its clean does not fit
    the new type.
    """
    state = source.state(name)
    made = source.with_changed(state.name, **_followed(state, kind), **keys)
    shown = quote_identifier(state.name)
    before = None if state.broken else source.rows([shown])
    after = made.rows([shown])
    spec = made.state(state.name).spec
    if (
        isinstance(spec, FieldSpec)
        and not spec.clean
        and any(fault.what in LOST and fault.field == state.name for fault in after.faults)
    ):
        made = source.with_changed(state.name, type="text", clean=f"CAST(VALUE AS {kind.upper()})", **keys)
        after = made.rows([shown])
    known = {(fault.what, fault.rows) for fault in before.faults} if before else set()
    lost = tuple(fault for fault in after.faults if fault.field == state.name and (fault.what, fault.rows) not in known)
    old = before.table.column(0) if before else None
    new = after.table.column(0)
    samples = _samples(old, new) if old is not None else ()
    values_before = 0 if old is None else len(old) - old.null_count
    return Retyped(
        made,
        state.name,
        state.type_name or "broken",
        made.state(state.name).type_name,
        len(new),
        values_before,
        len(new) - new.null_count,
        lost,
        samples,
    )


def _followed(state: ResolvedName, kind: str) -> dict[str, Any]:
    """The keys of a field that give it another type."""
    spec = state.spec
    shown = {"format": None, "total": None, "role": None} if kind == "text" else {}
    if (
        not isinstance(spec, FieldSpec)
        or not spec.clean
        or spec.type != "text"
        or state.type is None
        or state.type.kind == "text"
    ):
        return {"type": kind} | (
            shown if kind == "text" and isinstance(spec, FieldSpec) and spec.type != "text" else {}
        )
    if kind == "text":
        return {"clean": None, **shown}
    tree = parse(spec.clean).tree
    if isinstance(tree, nodes.Cast) and tree.template is None:
        return {"clean": spec.clean[: tree.target_start] + kind.upper() + spec.clean[tree.target_end :]}
    return {"clean": f"CAST({spec.clean} AS {kind.upper()})"}


def _samples(old: pa.ChunkedArray, new: pa.ChunkedArray) -> tuple[tuple[Any, Any], ...]:
    """Distinct values before and after: those that are lost, then those that are written in another way, the most frequent first."""
    counted = pa.table({"old": old, "new": new}).group_by(["old", "new"]).aggregate([([], "count_all")])
    pairs = [*zip(*(counted.column(name).to_pylist() for name in ("old", "new", "count_all")), strict=True)]
    pairs.sort(key=lambda one: (one[1] is not None or one[0] is None, str(one[0]) == str(one[1]), -one[2], str(one[0])))
    return tuple((pair[0], pair[1]) for pair in pairs[:SAMPLES])


@dataclass(frozen=True, slots=True)
class FieldChange:
    """A field before and after: its names (None where it is not there), types, and which keys changed.

    `lost` counts values that can no longer be read, with a `sample`.
    """

    before: str | None
    after: str | None
    type_before: str
    type_after: str
    changes: tuple[str, ...]
    lost: int = 0
    sample: str = ""

    def as_json(self) -> dict[str, Any]:
        """Plain values."""
        return {name: getattr(self, name) for name in FieldChange.__slots__}


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two states of a source: the fields side by side, and the first rows of both."""

    fields: tuple[FieldChange, ...]
    before: Answer
    after: Answer
    paired: tuple[tuple[str, str], ...]

    def cells(self) -> Iterator[tuple[int, str, str, str]]:
        """Each value that is shown differently in the first rows: row from 1, field, before, after."""
        old, new = self.before.to_dicts(), self.after.to_dicts()
        for number, (left, right) in enumerate(zip(old, new, strict=False), 1):
            for one, other in self.paired:
                if one in left and other in right:
                    texts = _shown(left[one], self.before, one), _shown(right[other], self.after, other)
                    if texts[0] != texts[1]:
                        yield number, other, *texts


def _shown(value: Any, answer: Answer, name: str) -> str:
    if value is None:
        return "null"
    text = show(value, answer.formats.get(name, ""))
    return repr(text) if isinstance(value, str) and text != text.strip() else text


def previous(source: Source, back: int = 1) -> Source:
    """The source as it was before its last edits. Raises OakError where the log does not go back so far."""
    path = source.path
    done = [edit for edit in edits_of(path) if not edit.undone] if path is not None else []
    mine = [file for edit in done for file in edit.files if path is not None and file.path.name == path.name]
    text = source.document.text
    if path is None or len(mine) < back:
        raise OakError(
            "no-earlier", f"Only {len(mine)} edits of this source are recorded.", hint="oak undo list lists them."
        )
    for file in reversed(mine[-back:]):
        text = patched(path, text, [hunk.turned() for hunk in file.hunks])
    document = parse_document(text, DEFINITION, path.name)
    return Source(document, source.folder, path)


def compare(before: Source, after: Source, *, limit: int = MAX_COMPARED_ROWS) -> Comparison:
    """Two states of a source side by side, with the first `limit` rows of both. Fields are paired by name, or by column or formula where they were renamed."""
    pairs = _paired(before, after)
    old, new = (source.rows(limit=limit) for source in (before, after))
    changes = tuple(_change(before, after, left, right) for left, right in pairs)
    paired = tuple((left.name, right.name) for left, right in pairs if left is not None and right is not None)
    return Comparison(changes, old, new, paired)


def _paired(before: Source, after: Source) -> list[tuple[ResolvedName | None, ResolvedName | None]]:
    left = {state.name.casefold(): state for state in before.fields}
    pairs: list[tuple[ResolvedName | None, ResolvedName | None]] = []
    used: set[str] = set()
    for state in after.fields:
        partner = left.get(state.name.casefold()) or next(
            (one for one in left.values() if _same_making(one, state)), None
        )
        if partner is not None and partner.name in used:
            partner = None
        if partner is not None:
            used.add(partner.name)
        pairs.append((partner, state))
    return [*pairs, *((state, None) for state in before.fields if state.name not in used)]


def _same_making(state: ResolvedName, other: ResolvedName) -> bool:
    if not (isinstance(state.spec, FieldSpec) and isinstance(other.spec, FieldSpec)):
        return False
    return (state.spec.column, state.spec.formula) == (other.spec.column, other.spec.formula)


def _change(before: Source, after: Source, left: ResolvedName | None, right: ResolvedName | None) -> FieldChange:
    if left is None or right is None:
        if left is None:
            return FieldChange(None, right.name if right else None, "", str(right.type if right else ""), ("new",))
        return FieldChange(left.name, None, str(left.type or "broken"), "", ("gone",))
    old, new = left.spec.model_dump(), right.spec.model_dump()
    changes = tuple("renamed" if key == "name" else key for key in old if old[key] != new.get(key))
    kinds = str(left.type or "broken"), str(right.type or "broken")
    lost, sample = 0, ""
    if kinds[0] != kinds[1] and not right.broken and right.grain == Grain.ROW:
        faults = [fault for fault in after.rows([quote_identifier(right.name)]).faults if fault.field == right.name]
        lost = sum(fault.rows for fault in faults)
        sample = ", ".join(repr(value) for fault in faults[:1] for value in fault.samples[0][1].values())
    return FieldChange(left.name, right.name, *kinds, changes, lost, sample)
