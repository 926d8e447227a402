"""Names in a file as it is typed: which name a place is in, everything that may be named there, and where each is named."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache

from oak_ledger.definition.references import VALUE, names_in
from oak_ledger.editor.files import Desk, OpenFile, Span, text_at
from oak_ledger.editor.texts import Piece, WrittenText
from oak_ledger.formula.builder import Known
from oak_ledger.names.compiled import SymbolTable
from oak_ledger.report.report import Report
from oak_ledger.source.source import Source

FORMULAS = ("formula", "over value")


@dataclass(frozen=True, slots=True)
class Named:
    """A name in a file, and where it is written."""

    name: str
    span: Span


def refers(file: OpenFile, piece: Piece, text: WrittenText) -> str:
    """How a text names fields: `formula`, `over value`, `name`, `shown`, `sort`, `text`; empty where it names none."""
    model = file.shape.models.get(piece.table)
    info = model.model_fields.get(text.key) if model is not None else None
    extra = info.json_schema_extra if info is not None else None
    kind = str(extra.get("refers", "")) if isinstance(extra, dict) else ""
    if text.path and isinstance(text.path[-1], str):
        return "formula" if kind and text.path[-1] == "formula" else ""
    return "name" if kind == "names" else kind


def is_formula(file: OpenFile, piece: Piece, text: WrittenText) -> bool:
    """Whether a text is a formula, or may be one."""
    return refers(file, piece, text) in (*FORMULAS, "shown")


def named(file: OpenFile, pieces: Iterable[Piece] | None = None) -> Iterator[Named]:
    """Every name of a field in a file, or in some of its tables, in the order of the file."""
    for piece in file.pieces if pieces is None else pieces:
        for text in piece.read.texts:
            kind = refers(file, piece, text)
            for name, start, end in _names(kind, text.value) if kind and text.value else ():
                yield Named(name, (piece.start + text.in_file(start), piece.start + text.in_file(end)))


@lru_cache(maxsize=65_536)
def _names(kind: str, value: str) -> tuple[tuple[str, int, int], ...]:
    """The names in a text, each with its span."""
    return tuple((name, start, end) for name, _, start, end in names_in(kind, value))


def name_at(file: OpenFile, offset: int) -> Named | None:
    """The name that a place is in: one that is used, or the one that an entry has."""
    piece = file.piece_at(offset)
    for found in named(file, [piece] if piece is not None else []):
        if found.span[0] <= offset <= found.span[1]:
            return found
    at = text_at(file, offset)
    if at is None or at[0].table not in ("field", "constant", "filter") or at[1].key != "name":
        return None
    return Named(at[1].value, (at[1].edges[0], at[1].edges[-1]))


def whole(source: Source, report: Report | None) -> Source:
    """A source with the fields of a report beside its own."""
    return report.over(source)[0] if report is not None else source


def scope_at(desk: Desk, file: OpenFile, piece: Piece, text: WrittenText) -> tuple[Source, SymbolTable] | None:
    """What a formula in a text may name, and the source that has it."""
    source = desk.source(file)
    if source is None:
        return None
    source = whole(source, desk.report(file) if file.is_report else None)
    extra: dict[str, Known] = {}
    state = source.compiled.states.get(piece.name.casefold())
    if refers(file, piece, text) == "over value" and state is not None:
        kind = source.compiled.origin_schema.get(getattr(state.spec, "column", ""), state.type)
        if kind is not None:
            extra[VALUE] = Known(state.name, kind, state.grain)
    return source, source.compiled.scope(extra)


def declared(desk: Desk, file: OpenFile, name: str) -> tuple[OpenFile, Piece] | None:
    """Where a name is said: in the file itself, else in the definition of its source."""
    source = desk.source(file)
    files = [file, *([desk.file(source.path)] if file.is_report and source is not None and source.path else [])]
    for one in files:
        for piece in one.pieces if one is not None else ():
            if piece.table in ("field", "constant", "filter") and piece.name.casefold() == name.casefold():
                return one, piece  # type: ignore[return-value]
    return None


def used(desk: Desk, file: OpenFile, name: str) -> Iterator[tuple[OpenFile, Span]]:
    """Where a name is used, in the definition and in every report; of one that is a report's own in that report only."""
    said = declared(desk, file, name)
    if said is None:
        return
    files = [said[0]]
    source = desk.source(said[0])
    if not said[0].is_report and source is not None:
        for report in desk.reports(source):
            other = desk.file(report.path) if report.path is not None else None
            if other is not None and name.casefold() not in report.own_names:
                files.append(other)
    for one in files:
        yield from ((one, found.span) for found in named(one) if found.name.casefold() == name.casefold())
