"""What something in a file is: a field with its facts, a function, a key; types of calculated fields, and figures above them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from oak_ledger.catalogue import Catalogue
from oak_ledger.editor.files import Desk, OpenFile, Span, text_at
from oak_ledger.editor.names import is_formula, name_at, named, whole
from oak_ledger.errors import OakError
from oak_ledger.formula.assist import SignatureHelp, signature_at
from oak_ledger.formula.lexer import quote_identifier, tokenize
from oak_ledger.functions import LIBRARY
from oak_ledger.insight.additivity import how_it_totals
from oak_ledger.insight.branches import branch_rows
from oak_ledger.insight.profile import FieldProfile, profile_of
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.reference.candidates import Candidate, candidates
from oak_ledger.source.source import Source
from oak_ledger.types import Grain

FIRST = 100_000  # rows of which an editor shows values


@dataclass(frozen=True, slots=True)
class Note:
    """Some lines about a piece of a file."""

    lines: tuple[str, ...]
    span: Span


def meaning(desk: Desk, file: OpenFile, offset: int, profiles: Mapping[str, FieldProfile]) -> Note | None:
    """What is at a place: a field, a function, or a key. `profiles` has those that are known by now, by the field's name in casefold."""
    at = text_at(file, offset)
    source = desk.source(file)
    found = name_at(file, offset)
    if found is not None and source is not None:
        over = whole(source, desk.report(file) if file.is_report else None)
        state = over.compiled.states.get(found.name.casefold())
        if state is not None:
            return Note(tuple(_facts(over, state, profiles.get(state.name.casefold()))), found.span)
    if at is not None and is_formula(file, *at):
        text = at[1]
        for token in tokenize(text.value)[0]:
            if token.start <= text.in_value(offset) <= token.end and token.word in LIBRARY.entries:
                entry = LIBRARY.entries[token.word]
                lines = (*entry.written, entry.sentence, entry.nulls, *(f"{call} → {gives}" for call, gives in entry.examples[:2]))  # fmt: skip
                return Note(tuple(line for line in lines if line), (text.in_file(token.start), text.in_file(token.end)))
    piece = file.piece_at(offset)
    if piece is None or piece.table not in file.shape.models:
        return None
    for key, info in file.shape.models[piece.table].model_fields.items():
        start, end = piece.key_span(key)
        if start <= offset <= end and info.description and file.text[start:end].strip('"') == key:
            return Note((f"{key}: {info.description}",), (start, end))
    return None


def _facts(source: Source, state: ResolvedName, seen: FieldProfile | None) -> Iterator[str]:
    """A field in some lines: its type and grain, how it totals, what it says, what its values are like."""
    yield (
        f"{state.name}: {state.what}, {state.type_name} per {state.grain}"
        if not state.broken
        else f"{state.name} is broken"
    )
    yield from (finding.message for finding in state.findings if finding.severity == "error")
    totals = how_it_totals(source, state)
    if totals:
        yield f"It {totals}." if not totals.startswith(("totalled", "computed", "not")) else f"{totals.capitalize()}."
    spec: Any = state.spec
    for text in (getattr(spec, "formula", ""), getattr(spec, "description", "")):
        if text:
            yield " ".join(text.split())
    if seen is not None:
        rows = f"the first {FIRST:,}" if seen.rows == FIRST else f"{seen.rows:,}"
        yield f"{seen.nulls:,} of {rows} are null; {seen.distinct:,} distinct"
        yield ", ".join(f"{value} ({rows:,})" for value, rows in seen.common[:5])


def signature(file: OpenFile, offset: int) -> SignatureHelp | None:
    """The call that a place is in, of a formula."""
    at = text_at(file, offset)
    return signature_at(at[1].value, at[1].in_value(offset)) if at is not None and is_formula(file, *at) else None


def types(desk: Desk, file: OpenFile) -> Iterator[tuple[int, str]]:
    """Beside each formula of a field its type and grain: the end of the text, and what is said."""
    source = desk.source(file)
    if source is None:
        return
    states = whole(source, desk.report(file) if file.is_report else None).compiled.states
    for piece in file.pieces:
        state = states.get(piece.name.casefold()) if piece.table == "field" else None
        if state is not None and not state.broken:
            yield from (
                (piece.start + text.end, f"{state.type_name} per {state.grain}")
                for text in piece.read.texts
                if text.key == "formula"
            )


def users(desk: Desk, file: OpenFile) -> Iterator[tuple[Span, str]]:
    """Above each field, constant and filter: in how many places it is used."""
    counts: dict[str, int] = {}
    source = desk.source(file)
    files = [file]
    if source is not None and not file.is_report:
        files += [one for report in desk.reports(source) if report.path and (one := desk.file(report.path)) is not None]
    for one in files:
        for found in named(one):
            counts[found.name.casefold()] = counts.get(found.name.casefold(), 0) + 1
    for piece in file.pieces:
        if piece.table in ("field", "constant", "filter") and piece.name:
            count = counts.get(piece.name.casefold(), 0)
            yield piece.header, f"used in {count:,} place{'s' * (count != 1)}" if count else "used nowhere here"


@dataclass(frozen=True, slots=True)
class Figures:
    """What is known of a source from its rows: profiles of fields, and a line about each calculated field."""

    profiles: Mapping[str, FieldProfile]
    lines: Mapping[str, str]
    offered: Mapping[str, Sequence[Candidate]]
    """By field what may replace a column that is missing, by its values where a version is released."""

    @property
    def values(self) -> dict[str, list[Any]]:
        """The values of text fields, the commonest first."""
        return {
            name: [value for value, _ in seen.common] for name, seen in self.profiles.items() if seen.type == "text"
        }


def figures_of(source: Source) -> Figures:
    """Read the rows for what an editor shows of them. Raises OakError where they cannot be read."""
    names = [state.name for state in source.fields if not state.broken and state.grain == Grain.ROW]
    table = source.rows([quote_identifier(name) for name in names], limit=FIRST).table if names else None
    profiles = {name.casefold(): profile_of(name, table.column(name)) for name in names} if table is not None else {}
    lines: dict[str, str] = {}
    for state in source.fields:
        formula = getattr(state.spec, "formula", "")
        if formula and not state.broken:
            try:
                taken = branch_rows(source, formula)
            except OakError:
                continue
            if taken:
                lines[state.name.casefold()] = "; ".join(f"{one.branch}: {one.rows:,}" for one in taken)
            elif state.grain == Grain.GROUP:
                lines[state.name.casefold()] = f"over all rows: {source.tally(show=[state.name]).value()}"
    missing = any(finding.code == "missing-column" for state in source.fields for finding in state.findings)
    return Figures(profiles, lines, candidates(source, _released(source)) if missing else {})


def _released(source: Source) -> Source | None:
    """The version of a source that is released in the catalogue beside its definition; None where there is none."""
    with suppress(OakError):
        place = Catalogue.open(source.folder / "catalogue")
        last = place.released(source.name)
        return place.source(last.source, last.number) if last is not None else None
    return None
