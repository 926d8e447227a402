"""What is broken, by root cause: each missing column or name once, with everything that it takes down, in the source and in its reports."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from oak_ledger.definition.document import Document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.definition.references import PLACEHOLDER
from oak_ledger.errors import Finding
from oak_ledger.reference.candidates import Candidate
from oak_ledger.reference.trace import Entry, Uses, broken_states
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Cause:
    """Why something is broken: what it is about, the finding, every entry that is broken by it, what may have taken its place, and the column that is missing, if it is one."""

    what: str
    finding: Finding
    entries: tuple[Entry, ...]
    candidates: tuple[Candidate, ...] = ()
    missing: str = ""


@dataclass(frozen=True, slots=True)
class ReportErrors:
    """What is wrong in a report: the file, its text, and the errors of its entries."""

    path: Path | None
    document: Document
    errors: tuple[Finding, ...]


def causes(
    source: Source,
    reports: Sequence[ReportErrors],
    offered: Mapping[str, Sequence[Candidate]],
    renamed: Mapping[str, str] | None = None,
) -> list[Cause]:
    """The causes of all errors, those of the source first; each entry is listed under every cause that it has. `renamed` has names that
    fields had, with those that they have."""
    uses = Uses(source, [report.document for report in reports])
    found: list[Cause] = []
    explained: set[tuple[str, str]] = set()
    titles = {state.casefold(): one.name for state, one in source.compiled.states.items()}
    for state in broken_states(source):
        finding = next(finding for finding in state.findings if finding.severity == "error")
        column = state.spec.column if isinstance(state.spec, FieldSpec) else ""
        missing = finding.code == "missing-column"
        kind = (
            "formula"
            if isinstance(state.spec, FieldSpec) and state.spec.calculated
            else "field"
            if column
            else "filter"
        )
        entries = [Entry(source.document.where, kind, state.name), *uses.of(state.name)]
        explained |= {(entry.file, _filled(entry.name, titles).casefold()) for entry in entries}
        what = f"column {column!r} is missing" if missing else f"{state.what} {state.name!r} is broken"
        found.append(
            Cause(what, finding, tuple(entries), tuple(offered.get(state.name, ())), column if missing else "")
        )
    rest: dict[tuple[str, str], tuple[Finding, dict[Entry, None]]] = {}
    for report in reports:
        for error in report.errors:
            entry = _entry(report, error)
            if (entry.file, entry.name.casefold()) not in explained:
                named = error.place.piece.casefold()
                key = (error.code, named if named and error.code == "unknown-field" else error.message)
                rest.setdefault(key, (error, {}))[1][entry] = None
    return found + [
        Cause(error.message.rstrip("."), error, tuple(entries), tuple(_renamed(source, error, renamed or {})))
        for error, entries in rest.values()
    ]


def _renamed(source: Source, error: Finding, renamed: Mapping[str, str]) -> Iterator[Candidate]:
    """What a field is called that an error does not find under the name that it had, or under that of its column."""
    named = error.place.piece if error.code == "unknown-field" else ""
    before = {old.casefold(): new for old, new in renamed.items()}
    by_column = {state.spec.column.casefold(): state.name for state in source.fields if isinstance(state.spec, FieldSpec) and state.spec.column}  # fmt: skip
    for known, why in ((before, "the field was renamed"), (by_column, "the field of that column")):
        new = known.get(named.casefold(), "")
        if named and new.casefold() in source.compiled.states:
            yield Candidate(named, named, new, None, 1.0, 1.0, True, why)
            return


def _filled(title: str, names: Mapping[str, str]) -> str:
    """A title with each {Field} as the field is called."""
    return PLACEHOLDER.sub(lambda match: names.get(match[1].casefold(), match[0]), title)


def _entry(report: ReportErrors, error: Finding) -> Entry:
    """The entry that an error of a report is in, from its place."""
    kind = {"field": "local field", "report": "text"}.get(error.place.kind, error.place.kind or "text")
    return Entry(error.place.file or report.document.where, kind, error.place.name)
