"""Mending: "this is now that", said once, followed by every place in the definition and in the reports; all or nothing."""

from __future__ import annotations

import datetime as dt
import shlex
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from oak_ledger.definition.document import Document
from oak_ledger.definition.edits import FileEdit, write_edits
from oak_ledger.definition.model import FieldSpec
from oak_ledger.definition.references import references, renamed_in_formula, renamed_references, with_replaced_values
from oak_ledger.errors import Finding, FormulaError, OakError, Place
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.origin.files import FilesReader
from oak_ledger.origin.several import SeveralReader
from oak_ledger.origin.spec import PartSpec, StepSpec
from oak_ledger.origin.steps import PreparedReader
from oak_ledger.reference import elsewhere
from oak_ledger.reference.gone import with_hidden, without_fields, without_names
from oak_ledger.reference.judged import losses
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Mend:
    """What a mend would do: the source as it would be, every file that changes, and what would be lost by it."""

    source: Source
    edits: tuple[FileEdit, ...]
    losses: tuple[Finding, ...] = ()
    """Values that would become null and rows that would be missing."""

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
    values: Mapping[str, Mapping[str, str]] | None = None,
    origin: Mapping[str, str] | None = None,
    parts: Mapping[str, str] | None = None,
    cleans: Mapping[str, str] | None = None,
    types: Mapping[str, str] | None = None,
    reading: Mapping[str, Mapping[str, Any]] | None = None,
    gone: Sequence[str] = (),
    hidden: Sequence[str] = (),
) -> Mend:
    """What must change so that each old name is the new one, in the definition and in other files (reports).

    An old name is a column that is gone (or the field that took it over), and the new one a column that is there; columns that changed
    places are named both ways; of many files, a column that some call otherwise is read from both; or a key of a join that a part has
    under another name; or both are names of fields. `names` also gives fields new names (old: new), `values` says for a field
    which values became others, `cleans` what is made of a field's values from now on, `types` which type it has, `reading` keys by which a field is read (template, decimal_mark, …; None takes one out), `gone` has fields that nobody delivers any more (they
    leave the definition with the formulas, filters and rules that need them, and the reports with what shows them), `hidden` fields that are hidden with those that need them, `origin` has keys of the origin that changed (path, sheet, table), `parts` new paths of parts of a join. The fields are read through what
    comes of it: `losses` says what is null or missing then and was not before. Raises OakError where a name is unknown
    or where nothing is broken.
    """
    mended = elsewhere.moved(source, elsewhere.Moved(origin or {}, parts or {})) if origin or parts else source
    mended = without_fields(mended, gone) if gone else mended
    went = {field.name for field in source.fields} - {field.name for field in mended.fields} if gone else set[str]()
    mended = with_hidden(mended, hidden) if hidden else mended
    renames: dict[str, str] = {}
    moved: dict[str, str] = {}
    mended, joined = _with_join_keys(mended, repairs)
    mended, aliased = _with_names_of_files(mended, repairs, others)
    mended, prepared = _with_step_columns(mended, repairs)
    for old, new in repairs.items():
        if old in joined | aliased or (old in prepared and not _fields_of(mended, old)):
            continue
        column = _column_repair(mended, old, new, repairs)
        if column is not None:
            moved[column[0]] = column[1]
        else:
            renames[old.casefold()] = _field_repair(mended, old, new, others)
    mended = _remembering(_with_columns(mended, moved, reading or {}), mended, moved)
    recoded = {mended.state(field).name: pairs for field, pairs in (values or {}).items()}
    for field, pairs in recoded.items():
        mended = _remembering_values(mended.changed(with_replaced_values(mended.document, field, pairs)), field, pairs)
    for name, kind in (types or {}).items():
        mended = mended.with_changed(name, type=kind)
    for name, clean in (cleans or {}).items():
        mended = mended.with_changed(name, clean=clean or None)
    mended = _remembering_cleans(mended, source)
    if renames:
        mended = mended.changed(renamed_references(mended.document, renames))
    lost = (*losses(source, mended), *_read_twice(source, mended, moved))
    if names:
        renames |= {mended.state(old).name.casefold(): new for old, new in names.items()}
        mended = mended.with_renamed(names)

    def changed(other: Document) -> Document:
        other = without_names(other, went) if went else other
        for field, pairs in recoded.items():
            other = with_replaced_values(other, field, pairs)
        return renamed_references(other, renames)

    return replace(_mend(source, mended, others, changed), losses=lost)


def _read_twice(before: Source, after: Source, moved: Mapping[str, str]) -> Iterator[Finding]:
    """Columns that a field takes from another, which goes on reading them."""
    for state in after.fields:
        column = state.spec.column if isinstance(state.spec, FieldSpec) else ""
        taker = next((name for name, new in moved.items() if new == column and name != state.name), "")
        if column and taker and state.name not in moved and not before.state(state.name).broken:
            message = f"{taker} and {state.name} would both be read from the column {column}."
            yield Finding("mend-loses", message, Place(name=state.name), f"If {state.name} is not delivered any more: --gone {shlex.quote(state.name)}", "warning")  # fmt: skip


def _with_join_keys(source: Source, repairs: Mapping[str, str]) -> tuple[Source, set[str]]:
    """The source with the keys of a join read under their old names from the parts where they have new ones, and which those are."""
    document, found = source.document, set[str]()
    keys = {name for part in document.models("part", PartSpec) for pair in part.key_pairs() for name in pair}
    for old, new in repairs.items():
        for block in document.all("part") if old in keys else ():
            if isinstance(block.spec, PartSpec):
                columns = source.opened_as(block.spec).columns()
                if old not in columns and new in columns:
                    document = document.replaced(block, {"renamed": {**block.spec.renamed, new: old}})
                    found.add(old)
    return (source.changed(document) if found else source), found


def _with_names_of_files(
    source: Source, repairs: Mapping[str, str], others: Sequence[tuple[Path, Document]]
) -> tuple[Source, set[str]]:
    """The source with a column read under its name from files that call it otherwise, while others still have that name; and which those are.

    A field that was made of the other name, and that nothing refers to, goes.
    """
    found = set[str]()
    if not repairs or "*" not in source.origin.path:
        return source, found
    feed = source.opened
    feed = feed.under if isinstance(feed, PreparedReader) else feed
    columns = {state.name: state.spec.column for state in source.fields if isinstance(state.spec, FieldSpec)}
    names = dict(source.origin.renamed)
    files = feed.named() if isinstance(feed, (FilesReader, SeveralReader)) else []
    for old, new in repairs.items():
        column = columns.get(old) or old
        having = [{column, new} & {*there} for _, there in files]
        if {column} in having and {new} in having and {column, new} not in having:
            names[new] = column
            found.add(old)
    if not found:
        return source, found
    document = source.document.replaced(source.document.all("origin")[0], {"renamed": names})
    used = {
        reference.name.casefold()
        for made in (document, *(other for _, other in others))
        for reference in references(made)
    }
    theirs = {repairs[old] for old in found}
    idle = [
        block
        for block in document.all("field")
        if block.values.get("column") in theirs and str(block.values["name"]).casefold() not in used
    ]
    return source.changed(document.without(idle) if idle else document), found


def _with_step_columns(source: Source, repairs: Mapping[str, str]) -> tuple[Source, set[str]]:
    """The source with steps that name columns by their new names, and which old ones a step named."""
    blocks = source.document.all("step")
    if not blocks:
        return source, set()
    arriving = source.opened_as(source.origin, source.document.models("part", PartSpec)).columns()
    names = {old: new for old, new in repairs.items() if old not in arriving and new in arriving}
    document, found = source.document, set[str]()
    for block in blocks:
        spec = block.spec
        if not isinstance(spec, StepSpec):
            continue
        changes: dict[str, Any] = {}
        for key, value in (("columns", spec.columns), ("within", spec.within)):
            changes |= {key: [names.get(one, one) for one in value]} if names.keys() & {*value} else {}
        for key, one in (("name", spec.name), ("value", spec.value)) if spec.kind == "rows into columns" else ():
            changes |= {key: names[one]} if one in names else {}
        column = spec.order.removeprefix("-")
        if column in names:
            changes["order"] = spec.order.removesuffix(column) + names[column]
        where = renamed_in_formula(spec.where, {old.casefold(): new for old, new in names.items()})
        changes |= {"where": where} if where != spec.where else {}
        if changes:
            document = document.replaced(block, changes)
            used = {*spec.columns, *spec.within, spec.name, spec.value, column}
            found |= names.keys() & used | {old for old in names if where != spec.where}
        made = {*spec.into, *((spec.name, spec.value) if spec.kind == "columns into rows" else ())}
        names = {old: new for old, new in names.items() if old not in made}
    return (source.changed(document) if found else source), found


def _fields_of(source: Source, column: str) -> bool:
    """Whether a field takes a column over."""
    return any(block.values.get("column") == column for block in source.document.all("field"))


def _with_columns(source: Source, columns: Mapping[str, str], reading: Mapping[str, Mapping[str, Any]]) -> Source:
    """The source with other columns, and read in other ways, for some fields, all at once. Raises FormulaError where a field cannot be read from its column."""
    document = source.document
    for block in document.all("field"):
        name = str(block.values["name"])
        changes = {**({"column": columns[name]} if name in columns else {}), **reading.get(name, {})}
        if changes:
            document = document.replaced(block, changes)
    made = source.changed(document)
    broken = [made.state(field) for field in columns if made.state(field).broken]
    if broken:
        raise FormulaError.of([finding for state in broken for finding in state.findings])
    return made


def _remembering_values(source: Source, field: str, pairs: Mapping[str, str]) -> Source:
    """The source with the names that values had, so that they are read as the new ones, should they come back. Not where values changed places,
    and not where a clean or a recode list says what arriving values are."""
    spec = source.state(field).spec
    if not isinstance(spec, FieldSpec) or spec.calculated or spec.clean or spec.values or spec.values_from:
        return source
    if spec.type not in ("", "text") or {*pairs} & {*pairs.values()}:
        return source
    known = {old: pairs.get(new, new) for old, new in spec.renamed_values.items()} | dict(pairs)
    names = {old: new for old, new in known.items() if old != new and old not in known.values()}
    days = {**spec.earlier_values, **dict.fromkeys(pairs, dt.date.today())}
    days = {old: day for old, day in days.items() if old in names}
    return source.with_changed(field, renamed_values=names or None, earlier_values=days or None)


def _remembering_cleans(source: Source, before: Source) -> Source:
    """The source with the cleans that fields had, and until when, where they are cleaned otherwise now."""
    cleans = {block.values["name"]: block.values.get("clean", "") for block in before.document.all("field")}
    for block in source.document.all("field"):
        name, old = block.values["name"], cleans.get(block.values["name"], "")
        if old and old != block.values.get("clean", ""):
            days = {**block.values.get("earlier_clean", {}), old: dt.date.today()}
            source = source.with_changed(name, earlier_clean=days)
    return source


def _remembering(source: Source, before: Source, moved: Mapping[str, str]) -> Source:
    """The source with the names that columns had, so that they are read under those, too, should they come back."""
    there = source.compiled.origin_schema
    columns = {name: str(before.block(name).values["column"]) for name in moved}
    gone = {columns[name]: new for name, new in moved.items() if columns[name] not in there}
    if not gone or source.origin.kind in ("join", "memory"):
        return source
    for name in moved:
        if columns[name] not in there:
            spec = source.state(name).spec
            earlier = spec.earlier if isinstance(spec, FieldSpec) else {}
            source = source.with_changed(name, earlier={**earlier, columns[name]: dt.date.today()})
    known = {old: gone.get(new, new) for old, new in source.origin.renamed.items()}
    names = {old: new for old, new in {**known, **gone}.items() if old != new}
    return source.changed(source.document.replaced(source.document.all("origin")[0], {"renamed": names or None}))


def renaming(source: Source, renamed: Source, others: Sequence[tuple[Path, Document]]) -> Mend:
    """What must change so that other files follow a source whose fields have other names in the same order."""
    old, new = ([state.name for state in one.fields] for one in (source, renamed))
    renames = {before.casefold(): after for before, after in zip(old, new, strict=True) if before != after}
    return _mend(source, renamed, others, lambda other: renamed_references(other, renames))


def _mend(
    source: Source, mended: Source, others: Sequence[tuple[Path, Document]], change: Callable[[Document], Document]
) -> Mend:
    """The edits from one state of a source to another, with what `change` makes of the other files."""
    changed = [(source.path, source.document, mended.document)]
    changed += [(path, other, change(other)) for path, other in others]
    return Mend(mended, edits_between(changed))


def edits_between(changed: Sequence[tuple[Path | None, Document, Document]]) -> tuple[FileEdit, ...]:
    """The edits from files as they are to files as they shall be."""
    return tuple(FileEdit(path, old.text, new.text) for path, old, new in changed if path and old.text != new.text)


def _column_repair(source: Source, old: str, new: str, repairs: Mapping[str, str]) -> tuple[str, str] | None:
    """The field whose column is gone and the column that it shall take, if that is what is meant."""
    wanted = old.casefold()
    there = {name.casefold(): name for name in source.compiled.origin_schema}
    for state in source.fields:
        spec = state.spec
        if isinstance(spec, FieldSpec) and spec.column and wanted in (spec.column.casefold(), state.name.casefold()):
            if spec.column in source.compiled.origin_schema:
                if wanted == spec.column.casefold() and _is_free(source, new, repairs):
                    return state.name, there[new.casefold()]
                states = source.compiled.states
                if wanted == spec.column.casefold() and (wanted in states or new.casefold() not in states):
                    raise OakError(
                        "not-broken",
                        f"The column {spec.column!r} is there; so nothing is broken.",
                        hint=f"Another name for the field: oak field rename. Columns that changed places: {spec.column}={new} {new}={spec.column}.",
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


def _is_free(source: Source, column: str, repairs: Mapping[str, str]) -> bool:
    """Whether a column is there and no field uses it, or only one that gets another column as well."""
    repaired = {old.casefold() for old in repairs}
    users = [
        state.spec.column
        for state in source.fields
        if isinstance(state.spec, FieldSpec) and state.spec.column.casefold() == column.casefold()
    ]
    there = {name.casefold() for name in source.compiled.origin_schema}
    return column.casefold() in there and all(user.casefold() in repaired for user in users)


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
    named = [
        reference
        for document in documents
        for reference in references(document)
        if reference.name.casefold() == old.casefold()
    ]
    if not named:
        names = sorted({reference.name for document in documents for reference in references(document)})
        raise OakError("unknown-name", f"Nothing refers to {old!r}.", hint=nearest_hint(old, names, str))
    return source.state(new).name
