"""Whether what a question was answered from is whole: files that stayed as they were, rows at all, columns that are still there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa

from oak_ledger.definition.model import FieldSpec
from oak_ledger.engine.scan import Scan
from oak_ledger.errors import Finding, Place, UnusableInput
from oak_ledger.origin.csv.opened import changed, state_of
from oak_ledger.source.editable import EditableDefinition

LISTED = 6  # names of fields in a sentence
Source = TypeVar("Source", bound=EditableDefinition)
States = Sequence[tuple[Path, Any]]


def states_of(paths: Sequence[Path]) -> States:
    """The state of each file now."""
    return [(path, state_of(path)) for path in paths]


def unchanged_since(before: States) -> None:
    """Raise UnusableInput where a file is not as it was."""
    for path, state in before:
        if state_of(path) != state:
            raise changed(path)


def watched(tables: Iterator[pa.Table], scan: Scan, paths: Sequence[Path], name: str) -> Iterator[pa.Table]:
    """The tables of a scan; after them, UnusableInput where the origin had no row at all, or has changed meanwhile."""
    before = states_of(paths)
    yield from tables
    if not scan.rows_read:
        raise UnusableInput(
            "no-rows", no_rows(paths, name).message, hint="Check whether the file came whole; nothing was written."
        )
    unchanged_since(before)


def no_rows(paths: Sequence[Path], name: str) -> Finding:
    """That an origin has no row."""
    where = ", ".join(path.name for path in paths[:3]) or name
    message = f"There is no row in {where}."
    return Finding("no-rows", message, Place(where), "Check whether the file came whole.", "warning")


def over_origin(path: Path, name: str) -> UnusableInput:
    """The refusal to write over what rows come from."""
    message = f"{path} is one of the files that the rows of {name} come from."
    return UnusableInput("over-origin", message, hint="Write to another file; nothing was changed.")


def some_field(source: EditableDefinition, shown: Sequence[Any]) -> None:
    """Raise UnusableInput where no field works that could be written."""
    if not shown:
        message = f"No field of {source.name} works: there is nothing to write."
        raise UnusableInput("no-fields", message, hint="oak check says why.")


def left_out(source: EditableDefinition) -> list[Finding]:
    """Fields that do not work, and so are left out where no field is named."""
    broken = [state.name for state in source.fields if state.broken]
    if not broken:
        return []
    names = ", ".join(broken[:LISTED]) + (" …" if len(broken) > LISTED else "")
    many = len(broken) > 1
    message = (
        f"{len(broken)} field{'s do' if many else ' does'} not work and {'are' if many else 'is'} left out: {names}."
    )
    return [Finding("fields-broken", message, source.document.place(), "oak check says why.", "warning")]


def unfiltered(source: Source, *, broken: bool = False) -> Source:
    """The source without the filters that are part of every question: all of them, or only those that are broken."""
    document = source.document
    for block in document.all("filter"):
        state = source.compiled.states.get(str(block.values["name"]).casefold())
        if block.values.get("always") and (not broken or state is None or state.broken):
            document = document.replaced(block, {"always": None})
    return source if document is source.document else source.changed(document)


def columns_gone(source: EditableDefinition) -> list[Finding]:
    """That no column which the fields read is there any more, if it is so."""
    reading = [state for state in source.fields if isinstance(state.spec, FieldSpec) and state.spec.column]
    if not reading or not all(state.broken for state in reading):
        return []
    message = f"None of the columns that the fields of {source.name} read is there any more."
    return [Finding("columns-gone", message, source.document.place(), "oak check says what is there.", "warning")]
