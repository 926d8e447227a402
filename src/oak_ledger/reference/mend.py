"""Mending: "this is now that", said once, followed by every place in the definition and in the reports; all or nothing."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from oak_ledger.errors import OakError
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.source.definition import FieldSpec
from oak_ledger.source.document import Document
from oak_ledger.source.edits import FileEdit, write_edits
from oak_ledger.source.references import references, renamed_references
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Mend:
    """What a mend would do: the source as it would be, and every file that changes."""

    source: Source
    edits: tuple[FileEdit, ...]

    def apply(self, what: str = "mend") -> None:
        """Write every file, or none; the edit is kept in the definition's log as `what`."""
        if self.source.path is not None and self.edits:
            write_edits(self.source.path, self.edits, what)


def plan_mend(
    source: Source,
    repairs: Mapping[str, str],
    others: Sequence[tuple[Path, Document]] = (),
    *,
    names: Mapping[str, str] | None = None,
) -> Mend:
    """What must change so that each old name is the new one, in the definition and in other files (reports).

    An old name is a column that is gone (or the field that took it over), and the new one a column that is there; or
    both are names of fields. `names` also gives fields new names (old: new). Raises OakError where a name is
    unknown or so nothing is broken.
    """
    mended = source
    renames: dict[str, str] = {}
    for old, new in repairs.items():
        column = _column_repair(mended, old, new)
        if column is not None:
            field, there = column
            mended = mended.with_changed(field, column=there)
        else:
            renames[old.casefold()] = _field_repair(mended, old, new, others)
    if renames:
        mended = mended.changed(renamed_references(mended.document, renames))
    if names:
        renames |= {mended.state(old).name.casefold(): new for old, new in names.items()}
        mended = mended.with_renamed(names)
    return _mend(source, mended, others, lambda other: renamed_references(other, renames))


def renaming(source: Source, renamed: Source, others: Sequence[tuple[Path, Document]]) -> Mend:
    """What must change so that other files follow a source whose fields have other names in the same order."""
    old, new = ([state.name for state in one.fields] for one in (source, renamed))
    renames = {before.casefold(): after for before, after in zip(old, new, strict=True) if before != after}
    return _mend(source, renamed, others, lambda other: renamed_references(other, renames))


def plan_upgrade(source: Source, others: Sequence[tuple[Path, Document]] = ()) -> Mend:
    """What must change so that the definition and other files (reports) are written with today's keys."""
    return _mend(source, source.changed(source.document.with_todays_keys()), others, Document.with_todays_keys)


def _mend(
    source: Source, mended: Source, others: Sequence[tuple[Path, Document]], change: Callable[[Document], Document]
) -> Mend:
    """The edits from one state of a source to another, with what `change` makes of the other files."""
    changed = [(source.path, source.document, mended.document)]
    changed += [(path, other, change(other)) for path, other in others]
    edits = [FileEdit(path, old.text, new.text) for path, old, new in changed if path and old.text != new.text]
    return Mend(mended, tuple(edits))


def _column_repair(source: Source, old: str, new: str) -> tuple[str, str] | None:
    """The field whose column is gone and the column that it shall take, if that is what is meant."""
    wanted = old.casefold()
    there = {name.casefold(): name for name in source.compiled.origin_schema}
    for state in source.fields:
        spec = state.spec
        if isinstance(spec, FieldSpec) and spec.column and wanted in (spec.column.casefold(), state.name.casefold()):
            if spec.column in source.compiled.origin_schema:
                if wanted == spec.column.casefold():
                    raise OakError(
                        "not-broken",
                        f"The column {spec.column!r} is there; so nothing is broken.",
                        hint=f"To give the field {state.name!r} another name: oak field rename.",
                    )
                return None
            if new.casefold() not in there:
                hint = (
                    nearest_hint(new, source.compiled.origin_schema, str)
                    or f"Columns are {', '.join(source.compiled.origin_schema)}."
                )
                raise OakError("unknown-column", f"There is no column {new!r} in the origin.", hint=hint)
            return state.name, there[new.casefold()]
    return None


def _field_repair(source: Source, old: str, new: str, others: Sequence[tuple[Path, Document]]) -> str:
    """The name that every reference to a name that is gone shall have."""
    known = source.compiled.states.get(old.casefold())
    if known is not None and not known.broken:
        raise OakError(
            "not-broken",
            f"{known.name} is there and works; so nothing is broken.",
            hint="To give it another name: oak field rename.",
        )
    documents = [source.document, *(document for _, document in others)]
    named = [one for document in documents for one in references(document) if one.name.casefold() == old.casefold()]
    if not named:
        names = sorted({one.name for document in documents for one in references(document)})
        raise OakError("unknown-name", f"Nothing refers to {old!r}.", hint=nearest_hint(old, names, str))
    return source.state(new).name
