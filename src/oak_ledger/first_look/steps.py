"""Steps of an origin added and taken away; the fields follow the columns that come and go."""

from __future__ import annotations

from typing import Any

from oak_ledger.definition.document import Document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import OakError
from oak_ledger.first_look.intake import restore_columns
from oak_ledger.origin.jsonl import flat_texts
from oak_ledger.origin.spec import StepSpec
from oak_ledger.origin.steps import Effect, PreparedReader, list_of
from oak_ledger.source.source import Source


def with_step(source: Source, kind: str, **keys: Any) -> Source:
    """The source with one more step after the others: `kind` and keys as a `[[step]]` has them.

    Fields are made of new columns, types judged, and those of columns that are gone go. Raises OakError where the step does not fit the
    columns, or where something else needs a field that would go.
    """
    blocks = source.document.blocks
    last = [block for block in blocks if block.name in ("origin", "part", "step")][-1]
    given = {"kind": kind} | {key: value for key, value in keys.items() if value not in ((), "", None)}
    if kind == "list into rows" and len(given.get("columns", ())) == 1 and "into" not in given:
        given |= {"into": members} if (members := _members(source, given["columns"][0])) else {}
    return _followed(source, source.document.added("step", given, last))


def _members(source: Source, column: str) -> list[str]:
    """The members of the objects in a column of lists, in the order in which they first occur."""
    if column not in source.opened.columns():
        return []
    found: dict[str, None] = {}
    for batch in source.opened.batches([column]):
        for text in batch.column(0).to_pylist():
            found |= {name: None for one in list_of(text) or () if isinstance(one, dict) for name in flat_texts(one)}
    return [*found]


def without_step(source: Source, number: int) -> Source:
    """The source without one of its steps, counted from 1. Raises OakError where there is none, or as `with_step` does."""
    steps = source.document.all("step")
    if not 1 <= number <= len(steps):
        raise OakError("no-step", f"There is no step {number}.", hint=f"There are {len(steps)}: oak step list SOURCE.")
    return _followed(source, source.document.without([steps[number - 1]]))


def effects_of(source: Source) -> list[Effect]:
    """What each step does to the rows, read now if they were not yet."""
    return source.opened.told() if isinstance(source.opened, PreparedReader) else []


def steps_of(source: Source) -> list[StepSpec]:
    """The steps, in order."""
    return source.document.models("step", StepSpec)


def _followed(source: Source, document: Document) -> Source:
    made = source.changed(document)
    there = made.opened.columns()
    gone = [
        field.name
        for field in source.fields
        if isinstance(field.spec, FieldSpec) and field.spec.column and field.spec.column not in there
    ]
    made = made.without(gone) if gone else made
    return restore_columns(made, made.new_columns())
