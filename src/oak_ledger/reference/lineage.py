"""What a field is made of, down to columns and files, and what is made of it, up to panels of reports."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oak_ledger.definition.document import Document
from oak_ledger.definition.model import ConstantSpec, FieldSpec, FilterSpec
from oak_ledger.origin.spec import PartSpec
from oak_ledger.origin.stamps import origin_paths
from oak_ledger.reference.trace import Entry, Uses
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Piece:
    """Something that a field is made of or that is made of it: its kind (column, field, formula, panel, …), name, file and what it says."""

    kind: str
    name: str
    file: str
    text: str = ""


@dataclass(frozen=True, slots=True)
class Lineage:
    """A field with all that it is made of (`needs`) and all that is made of it (`users`): pairs of what is needed and what needs it, and the files."""

    piece: Piece
    needs: tuple[tuple[Piece, Piece], ...]
    users: tuple[tuple[Piece, Piece], ...]
    files: tuple[str, ...]


def lineage(source: Source, name: str, reports: Sequence[Document] = ()) -> Lineage:
    """The lineage of a field, constant or filter. Raises OakError for a name that is not there."""
    uses = Uses(source, reports)
    top = _piece(source, source.state(name).name)
    needs: dict[tuple[Piece, Piece], None] = {}
    _down(source, top, needs, set())
    users: dict[tuple[Piece, Piece], None] = {}
    _up(source, uses, top, (top.name.casefold(), ""), users, set())
    columns = any(piece.kind == "column" for pair in needs for piece in pair)
    parts = source.document.models("part", PartSpec)
    files = (
        [path.name for path in origin_paths(source.origin, source.folder, parts) or []]
        if columns and source.published is None
        else []
    )
    return Lineage(top, tuple(needs), tuple(users), tuple(files))


def _piece(source: Source, name: str) -> Piece:
    state, file = source.state(name), source.document.where
    spec = state.spec
    if isinstance(spec, FieldSpec):
        said = [" ".join((spec.formula or spec.clean).split())]
        said += [f"cleaned by {clean} until {day}" for clean, day in spec.earlier_clean.items()]
        said += [
            f"{old} until {day}, now {spec.renamed_values.get(old, '')}" for old, day in spec.earlier_values.items()
        ]
        return Piece("formula" if spec.calculated else "field", state.name, file, "; ".join(one for one in said if one))
    if isinstance(spec, ConstantSpec):
        return Piece("constant", state.name, file, str(spec.value) if spec.value is not None else f"by {spec.by}")
    return Piece("filter", state.name, file, " ".join(spec.where.split()) if isinstance(spec, FilterSpec) else "")


def _down(source: Source, piece: Piece, found: dict[tuple[Piece, Piece], None], seen: set[str]) -> None:
    if piece.name.casefold() in seen:
        return
    seen.add(piece.name.casefold())
    state = source.state(piece.name)
    if isinstance(state.spec, FieldSpec) and state.spec.column:
        days = {old: f" (its name until {day})" for old, day in state.spec.earlier.items()}
        before = [f"{old}{days.get(old, '')}" for old, new in source.origin.renamed.items() if new == state.spec.column]
        also = f"also read as {', '.join(before)}" if before else ""
        found[Piece("column", state.spec.column, "", also), piece] = None
    for name in state.uses:
        if name.casefold() in source.compiled.states and name != state.name:
            needed = _piece(source, name)
            found[needed, piece] = None
            _down(source, needed, found, seen)


def _up(
    source: Source,
    uses: Uses,
    piece: Piece,
    node: tuple[str, str],
    found: dict[tuple[Piece, Piece], None],
    seen: set[tuple[str, str]],
) -> None:
    if node in seen:
        return
    seen.add(node)
    for entry, own in uses.direct(*node):
        user = _user(source, entry)
        found[piece, user] = None
        if own is not None:
            _up(source, uses, user, own, found, seen)


def _user(source: Source, entry: Entry) -> Piece:
    if (
        entry.file == source.document.where
        and entry.name.casefold() in source.compiled.states
        and entry.kind not in ("rule", "key")
    ):
        return _piece(source, entry.name)
    return Piece(entry.kind, entry.name, entry.file)
