"""Mending: "this is now that", said once, followed by every place in the definition and in the reports; all or nothing."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.formula.checker import nearest_hint
from oak_ledger.source.definition import FieldSpec
from oak_ledger.source.document import Document, write_text
from oak_ledger.source.places import references, repointed
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class FileEdit:
    """A file before and after."""

    path: Path
    before: Document
    after: Document

    def lines(self) -> list[tuple[int, str, str]]:
        """The lines that change, each as (line number before, before, after); an empty text is a line that is not there."""
        old, new = self.before.text.split("\n"), self.after.text.split("\n")
        found = []
        for tag, start, end, new_start, new_end in difflib.SequenceMatcher(
            None, old, new, autojunk=False
        ).get_opcodes():
            if tag != "equal":
                for at in range(max(end - start, new_end - new_start)):
                    before = old[start + at] if start + at < end else ""
                    after = new[new_start + at] if new_start + at < new_end else ""
                    found.append((start + at + 1, before, after))
        return found


@dataclass(frozen=True, slots=True)
class Mend:
    """What a mend would do: the source as it would be, and every file that changes."""

    source: Source
    edits: tuple[FileEdit, ...]

    def apply(self) -> None:
        """Write every file, or none: where one cannot be written, those written before are put back."""
        written: list[FileEdit] = []
        for edit in self.edits:
            if edit.path.read_text("utf-8").replace("\r\n", "\n") != edit.before.text:
                message = f"{edit.path} has changed since it was read; nothing was written."
                raise UnusableInput("changed-meanwhile", message, hint="Run the mend again.")
        try:
            for edit in self.edits:
                write_text(edit.path, edit.after.text)
                written.append(edit)
        except UnusableInput:
            for edit in written:
                write_text(edit.path, edit.before.text)
            raise


def plan_mend(
    source: Source,
    repairs: Mapping[str, str],
    others: Sequence[tuple[Path, Document]] = (),
    *,
    names: Mapping[str, str] | None = None,
) -> Mend:
    """What must change so that each old name is the new one, in the definition and in other files (reports).

    An old name is a column that is gone (or the field that took it over), and the new one a column that is there; or
    both are names of fields. `names` gives fields new names besides (old: new). Raises OakError where a name is
    unknown or nothing is broken about it.
    """
    mended, document = source, source.document
    renames: dict[str, str] = {}
    for old, new in repairs.items():
        column = _column_repair(mended, old, new)
        if column is not None:
            field, there = column
            mended = mended.with_changed(field, column=there)
        else:
            renames[old.casefold()] = _field_repair(mended, old, new, others)
    if renames:
        mended = mended.changed(repointed(mended.document, renames))
    if names:
        renames |= {mended.state(old).name.casefold(): new for old, new in names.items()}
        mended = mended.with_renamed(names)
    edits = []
    if mended.document.text != document.text and source.path is not None:
        edits.append(FileEdit(source.path, document, mended.document))
    for path, other in others:
        after = repointed(other, renames)
        if after.text != other.text:
            edits.append(FileEdit(path, other, after))
    return Mend(mended, tuple(edits))


def _column_repair(source: Source, old: str, new: str) -> tuple[str, str] | None:
    """The field whose column is gone and the column that it shall take, if that is what is meant."""
    wanted = old.casefold()
    there = {name.casefold(): name for name in source.compiled.arriving}
    for state in source.fields:
        spec = state.spec
        if isinstance(spec, FieldSpec) and spec.column and wanted in (spec.column.casefold(), state.name.casefold()):
            if spec.column in source.compiled.arriving:
                if wanted == spec.column.casefold():
                    raise OakError(
                        "not-broken",
                        f"The column {spec.column!r} is there; nothing is broken about it.",
                        hint=f"To give the field {state.name!r} another name: oak field rename.",
                    )
                return None
            if new.casefold() not in there:
                hint = (
                    nearest_hint(new, source.compiled.arriving, str)
                    or f"Columns are {', '.join(source.compiled.arriving)}."
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
            f"{known.name} is there and works; nothing is broken about it.",
            hint="To give it another name: oak field rename.",
        )
    documents = [source.document, *(document for _, document in others)]
    named = [one for document in documents for one in references(document) if one.name.casefold() == old.casefold()]
    if not named:
        names = sorted({one.name for document in documents for one in references(document)})
        raise OakError("unknown-name", f"Nothing refers to {old!r}.", hint=nearest_hint(old, names, str))
    return source.state(new).name
