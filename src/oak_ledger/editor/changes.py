"""What can be done about a place of a file: repairs that findings offer, columns that may replace a missing one, a field moved, cut or renamed."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from oak_ledger.definition.document import Document
from oak_ledger.definition.edits import FileEdit
from oak_ledger.definition.model import FieldSpec
from oak_ledger.definition.references import renamed_references
from oak_ledger.editor.files import Desk, OpenFile, Span, text_at
from oak_ledger.editor.names import declared, name_at
from oak_ledger.errors import Finding, OakError
from oak_ledger.formula.assist import format_formula
from oak_ledger.reference.candidates import Candidate, candidates
from oak_ledger.reference.mend import edits_between, plan_mend, renaming
from oak_ledger.reference.reshape import plan_inlined, with_extracted
from oak_ledger.report.local import plan_lift
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Change:
    """Something that can be done: what it is called, the files that change by it, and the finding that it answers."""

    title: str
    files: tuple[FileEdit, ...]
    finding: Finding | None = None


def renamed(desk: Desk, file: OpenFile, offset: int, new: str) -> tuple[FileEdit, ...]:
    """The files in which a name changes, in the definition and in reports. Raises OakError where the name is unknown or the new one taken."""
    found = name_at(file, offset)
    said = declared(desk, file, found.name) if found is not None else None
    source = desk.source(said[0]) if said is not None else None
    document = said[0].document if said is not None and not said[0].findings else None
    if found is None or said is None or source is None or document is None:
        raise OakError("unknown-field", "Nothing here has a name that can change.", hint="Go to a field, a constant or a filter.")  # fmt: skip
    where, piece = said
    if where.is_report:
        report = desk.report(where)
        if report is not None and new.casefold() in report.own_names - {found.name.casefold()}:
            raise OakError("name-taken", f"The report has {new!r} already.")
        block = next(one for one in document.blocks if one.values.get("name") == piece.name)
        made = renamed_references(document.replaced(block, {"name": new}), {piece.name.casefold(): new})
        return _as_typed(desk, edits_between([(where.path, document, made)]))
    return _as_typed(desk, renaming(source, source.with_renamed({piece.name: new}), _others(desk, source)).edits)


def changes(
    desk: Desk,
    file: OpenFile,
    start: int,
    end: int,
    findings: Sequence[Finding],
    offered: Mapping[str, Sequence[Candidate]],
) -> list[Change]:
    """What can be done from `start` to `end`; `findings` are those of the file there, `offered` what is known by now of columns that may replace missing ones."""
    if file.findings:
        return []  # what it says is not known while it cannot be read
    made = [change for finding in findings for change in _of_finding(desk, file, finding, offered)]
    return [change for change in (*made, *_of_place(desk, file, start, end)) if _is_typed(desk, change.files)]


def _of_place(desk: Desk, file: OpenFile, start: int, end: int) -> list[Change]:
    """What can be done with what is chosen, whatever was found there."""
    made: list[Change] = []
    source = desk.source(file)
    at = text_at(file, start)
    if source is None or at is None:
        return made
    piece, text = at
    if file.is_report and piece.table == "field":
        plan = lambda: plan_lift(source, desk.reports(source), piece.name, desk.report(file)).edits  # noqa: E731
        made += _if_possible(f"Make {piece.name!r} a field of the source", plan)
    if file.is_report or piece.table != "field" or source.path is None:
        return made
    if start < end and text.key == "formula" and text.holds(end):
        name = _free(source, f"Part of {piece.name}")
        span = (text.in_value(start), text.in_value(end))

        def extract() -> tuple[FileEdit, ...]:
            cut = with_extracted(source, piece.name, *span, name)
            return edits_between([(source.path, source.document, cut.document)])

        made += _if_possible(f"Make this piece a field: {name!r}", extract)
    found = name_at(file, start)
    state = source.compiled.states.get(found.name.casefold()) if found is not None else None
    if found is not None and state is not None and isinstance(state.spec, FieldSpec) and state.spec.calculated:
        plan = lambda: plan_inlined(source, found.name, _others(desk, source)).edits  # noqa: E731
        made += _if_possible(f"Put the formula of {state.name!r} where it is used", plan)
    return made


def _of_finding(
    desk: Desk, file: OpenFile, finding: Finding, offered: Mapping[str, Sequence[Candidate]]
) -> Iterator[Change]:
    """The repairs of a finding: the formula that it offers, and columns in place of one that is missing."""
    entry = file.entry(finding.place.kind, finding.place.name)
    if finding.fixed is not None and entry is not None and file.document is not None:
        keys = [text.key for text in entry.texts if text.value == finding.place.text and not text.path]
        block = next((one for one in file.document.blocks if one.text == entry.text), None)
        if keys and block is not None:
            changed = file.document.replaced(block, {keys[0]: finding.fixed})
            title = " ".join(f"Write {finding.fixed}".split())
            yield Change(title, edits_between([(file.path, file.document, changed)]), finding)
    source = desk.source(file)
    if finding.code != "missing-column" or source is None:
        return
    by_name = candidates(source, None).get(finding.place.name, [])
    for candidate in {one.column: one for one in (*by_name, *offered.get(finding.place.name, ()))}.values():
        plan = lambda one=candidate: _mended(desk, source, one)  # noqa: E731
        for change in _if_possible(candidate.sentence(), plan):
            yield Change(change.title, change.files, finding)


def _mended(desk: Desk, source: Source, candidate: Candidate) -> tuple[FileEdit, ...]:
    """The changes by which a field takes the column of a candidate."""
    repairs = {} if candidate.reread else {candidate.gone: candidate.column}
    reading = {candidate.field: candidate.reading} if candidate.reading else {}
    gone = [candidate.takes] if candidate.takes else []
    return plan_mend(source, repairs, _others(desk, source), reading=reading, gone=gone).edits


def _is_typed(desk: Desk, files: Sequence[FileEdit]) -> bool:
    """Whether files are as changes of them begin, and not in the middle of something that cannot be read."""
    return all((file := desk.file(one.path)) is not None and file.text == one.before for one in files)


def _as_typed(desk: Desk, files: tuple[FileEdit, ...]) -> tuple[FileEdit, ...]:
    """The changes. Raises OakError where a file cannot be read as it is typed."""
    if not _is_typed(desk, files):
        raise OakError("not-toml", "A file that would change cannot be read as it is.", hint="Mend what is marked in it first.")  # fmt: skip
    return files


def _if_possible(title: str, plan: Callable[[], tuple[FileEdit, ...]]) -> list[Change]:
    try:
        files = plan()
    except OakError:
        return []
    return [Change(title, files)] if files else []


def _others(desk: Desk, source: Source) -> list[tuple[Path, Document]]:
    return [(report.path, report.document) for report in desk.reports(source) if report.path is not None]


def _free(source: Source, name: str) -> str:
    """A name that nothing has."""
    taken, number, own = source.compiled.states, 1, name
    while own.casefold() in taken:
        number += 1
        own = f"{name} {number}"
    return own


def formatted(file: OpenFile) -> str:
    """The file with the formulas of its fields in the one look; as it is where it cannot be read, and what is wrong in it as it is."""
    document = file.document
    if document is None or file.findings:
        return file.text
    for block in document.all("field"):
        with suppress(OakError):
            if "formula" in block.values:
                document = document.replaced(block, {"formula": format_formula(str(block.values["formula"]))})
    return document.text


def text_edits(before: str, after: str) -> list[tuple[Span, str]]:
    """The least that makes one text of another, by whole lines: spans of the first, and what comes there."""
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    starts = [0]
    for line in old:
        starts.append(starts[-1] + len(line))
    steps = difflib.SequenceMatcher(a=old, b=new, autojunk=False).get_opcodes()
    return [((starts[a], starts[b]), "".join(new[c:d])) for kind, a, b, c, d in steps if kind != "equal"]
