"""A repair judged by its result: the fields are read through it, and what is lost by it is said."""

from __future__ import annotations

from contextlib import suppress

from oak_ledger.definition.document import Document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.source.source import Source
from oak_ledger.source.whole import unfiltered

_HINT = "Look at them: oak peek. Numbers or dates in another form: oak field clean, oak field retype."
# Keys of a field that say how its values are read.
_READING = (
    "column",
    "type",
    "template",
    "decimal_mark",
    "thousands_mark",
    "null_words",
    "values",
    "values_from",
    "renamed_values",
    "clean",
)


def losses(before: Source, after: Source) -> list[Finding]:
    """Rows and values that were there before and are not after, and values of repaired fields that cannot be read; worst first."""
    findings = []
    with suppress(OakError):  # where the origin is not there, everything is broken, and a repair breaks nothing
        for state in after.compiled.states.values():
            if state.broken and not _broken(before, state.name):
                message = f"{state.name} would be broken: {state.findings[0].message}"
                findings.append(Finding("mend-loses", message, Place(name=state.name), severity="warning"))
    names = _read_anew(before, after)
    now = _counts(after, names) if names else None
    if now is None:
        return findings
    rows, values, faults = now
    was = _counts(before, names)
    if was is not None and rows < was[0]:
        message = f"{was[0] - rows:,} of {was[0]:,} rows would be missing."
        findings.append(Finding("mend-loses", message, Place(name=before.name), severity="warning"))
    earlier_columns = {block.values["name"]: block.values.get("column") for block in before.document.all("field")}
    swapped = {
        field.name
        for field in after.fields
        if isinstance(field.spec, FieldSpec)
        and field.spec.column in {*earlier_columns.values()} - {earlier_columns.get(field.name)}
    }  # what such a field reads now is another's: there is nothing to compare with
    for name in names:
        if name not in values:
            continue
        nulls = rows - values[name]
        earlier = was[0] - was[1][name] if was is not None and name in was[1] and name not in swapped else None
        worse = nulls == rows > 0 if earlier is None or (was and rows != was[0]) else nulls > earlier
        if worse or (name in faults and earlier != nulls):
            message = f"{name} would be null in {nulls:,} of {rows:,} rows"
            message += f"; it is in {earlier:,} now." if was and earlier is not None and rows == was[0] else "."
            message += f" What cannot be read: {faults[name]}." if name in faults else ""
            findings.append(Finding("mend-loses", message, Place(name=name), _HINT, "warning"))
    return findings


def _read_anew(before: Source, after: Source) -> list[str]:
    """The plain fields whose values come in another way than before, by their names after it."""
    if _origin(before.document) != _origin(after.document):
        return [state.name for state in after.fields if isinstance(state.spec, FieldSpec) and state.spec.column]
    earlier = {block.values["name"]: block for block in before.document.all("field")}
    changed = {
        new.values["name"]
        for new in after.document.all("field")
        for old in [earlier.get(new.values["name"], new)]
        if new.values.get("column")
        and [old.values.get(key) for key in _READING] != [new.values.get(key) for key in _READING]
    }
    return [state.name for state in after.fields if state.name in changed]


def _origin(document: Document) -> list[object]:
    """All that says where rows come from."""
    return [block.values for kind in ("origin", "part", "step") for block in document.all(kind)]


def _broken(source: Source, name: str) -> bool:
    state = source.compiled.states.get(name.casefold())
    return state is None or state.broken


def _counts(source: Source, names: list[str]) -> tuple[int, dict[str, int], dict[str, str]] | None:
    """How many rows there are, in how many each field has a value, and what could not be read; None where the rows cannot be read."""
    try:
        readable = [name for name in names if not _broken(source, name)]
        answer = unfiltered(source).tally(show=["COUNT(*)", *(f"COUNT({quote_identifier(name)})" for name in readable)])
    except OakError:
        return None
    rows, *values = (column[0].as_py() for column in answer.table.columns)
    faults = {name: fault.said() for fault in answer.faults for name in readable if fault.field == name}
    return rows, dict(zip(readable, values, strict=True)), faults
