"""An origin that cannot be read where it was: files, sheets, tables and keys of a join that may be it now, by the columns and the values that they have."""

from __future__ import annotations

import datetime as dt
import re
import shlex
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import OakError
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.origin.database import tables
from oak_ledger.origin.files import FILE_COLUMN
from oak_ledger.origin.spec import PartSpec, ReadingSpec
from oak_ledger.origin.workbook import sheets
from oak_ledger.reference.evidence import Values, values_of
from oak_ledger.source.source import Source

MOST_FILES = 40
LEAST_COLUMNS = 0.8  # of the columns that fields use
LEAST_ROWS = 0.3  # of the values of a key that were there before
COMPARED_ROWS = 50_000


_KINDS = {"sheet": ("sheet",), "table": ("database",), "url": ("database",)}
"""The kinds of origins that have a key; path is for all others."""


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """Where the rows may be now: what is changed (`path`, `sheet`, `table`, a part's path, or a key), from what to what, why, and whether values prove it."""

    what: str
    gone: str
    now: str
    why: str
    sure: bool
    part: str = ""

    def repair(self) -> str:
        """The arguments of a mend."""
        if self.what == "key":
            return shlex.quote(f"{self.gone}={self.now}")
        return (
            f"--part {shlex.quote(f'{self.part}={self.now}')}"
            if self.part
            else f"--{self.what} {shlex.quote(self.now)}"
        )

    def sentence(self) -> str:
        """It in words."""
        return f"{self.now}: {self.why}"


@dataclass(frozen=True, slots=True)
class Moved:
    """Changes of where the rows are: keys of the origin, paths of parts by name."""

    origin: Mapping[str, str] = field(default_factory=dict)
    parts: Mapping[str, str] = field(default_factory=dict)


def unreadable(source: Source) -> OakError | None:
    """Why an origin cannot be read at all; None where it can."""
    try:
        source.opened.columns()
    except OakError as error:
        return error
    return None


def elsewhere(source: Source, before: Source | None) -> list[Elsewhere]:
    """Where the rows of a source may be now that cannot be read; those first that have all columns, and the values of before."""
    uses: list[Elsewhere] = []
    parts = source.document.models("part", PartSpec)
    if source.origin.kind == "join":
        for part in parts:
            if _there(source, part.name) is None:
                wanted = {name for _, name in part.key_pairs()}
                uses += _tried(source, before, part, wanted, part.name)
        uses += [] if uses else _keys(source, parts)
    else:
        wanted = {state.column for state in source.document.models("field", FieldSpec) if state.column and state.column != FILE_COLUMN}  # fmt: skip
        uses += _tried(source, before, source.origin, wanted)
    return sorted(uses, key=lambda use: not use.sure)


def moved(source: Source, change: Moved) -> Source:
    """The source with its rows elsewhere; one file that became several is read as such."""
    document = source.document
    if change.origin:
        keys: dict[str, Any] = dict(change.origin)
        kind = source.origin.kind
        stray = next((key for key in keys if kind not in _KINDS.get(key, (kind,))), None)
        if stray is not None:
            raise OakError("origin-key", f"An origin of the kind {kind!r} has no {stray}.", hint=f"{stray} is for {' and '.join(_KINDS[stray])}.")  # fmt: skip
        if "path" in keys and source.origin.kind in ("file", "files"):
            keys["kind"] = "files" if "*" in keys["path"] else "file"
        document = document.replaced(document.all("origin")[0], keys | _earlier(source.origin, change.origin))
    for name, path in change.parts.items():
        block = next((block for block in document.all("part") if block.values.get("name") == name), None)
        if block is None:
            raise OakError("unknown-part", f"There is no part {name!r}.", hint=f"Parts are {', '.join(str(block.values.get('name')) for block in document.all('part')) or 'none'}.")  # fmt: skip
        spec = block.spec
        before = _earlier(spec, {"path": path}) if isinstance(spec, ReadingSpec) else {}
        document = document.replaced(block, {"path": path} | before)
    return source.changed(document)


def _earlier(spec: ReadingSpec, changes: Mapping[str, str]) -> dict[str, Any]:
    """The key that remembers where the rows were until today."""
    were = {getattr(spec, key): dt.date.today() for key, now in changes.items() if getattr(spec, key) not in ("", now)}
    kept = {name: day for name, day in {**spec.earlier, **were}.items() if name not in changes.values()}
    return {"earlier": kept or None} if kept != spec.earlier else {}


def _there(source: Source, part: str = "") -> list[str] | None:
    """The columns of the origin, or of a part of it; None where they cannot be read."""
    spec = (
        next((model for model in source.document.models("part", PartSpec) if model.name == part), None)
        if part
        else None
    )
    try:
        return [*(source.opened if spec is None else source.opened_as(spec)).columns()]
    except OakError:
        return None


def _tried(
    source: Source, before: Source | None, spec: ReadingSpec, wanted: set[str], part: str = ""
) -> list[Elsewhere]:
    """The alternatives of a reading that have the columns that are wanted."""
    found: list[tuple[float, bool, Elsewhere]] = []
    for what, now in dict.fromkeys(_alternatives(source, spec)):
        there = _there(moved(source, Moved(parts={part: now}) if part else Moved({what: now})), part)
        share = len(wanted & {*(there or ())}) / max(len(wanted), 1)
        if there is None or share < LEAST_COLUMNS:
            continue
        rows = _same_rows(source, before, what, now) if not part else None
        why = "it has all columns" if share == 1 else f"it has {share:.0%} of the columns"
        why += f", and it was read from there until {spec.earlier[now]}" if now in spec.earlier else ""
        why += f", and {rows:.0%} of the values of {source.about.key[0]} that were there" if rows is not None else ""
        proven = share == 1 and (rows is None or rows >= LEAST_ROWS)
        found.append((share + (rows or 0), proven, Elsewhere(what, getattr(spec, what), now, why, False, part)))
    found.sort(key=lambda one: -one[0])
    known = [use for _, proven, use in found if proven and use.now in spec.earlier]
    best = known or [one for _, proven, one in found if proven]
    return [replace(one, sure=[one] == best) for *_, one in sorted(found, key=lambda one: one[2] not in known)[:3]]


def _alternatives(source: Source, spec: ReadingSpec) -> Iterator[tuple[str, str]]:
    """Where else to look: the tables and sheets that are there; files of the same ending in the same folder, alone and several as one."""
    if spec.kind == "database" and spec.table:
        with suppress(OakError):
            yield from [("table", table) for table in tables(spec, source.folder) if table != spec.table]
            return
    if spec.kind == "database":
        file = Path(spec.url.partition(":///")[2])
        for one in sorted((source.folder / file).parent.glob(f"*{file.suffix}")) if spec.url.startswith("sqlite:") and file.name else ():  # fmt: skip
            if one.name != file.name:
                yield "url", f"sqlite:///{(file.parent / one.name).as_posix()}"
        return
    path = source.folder / spec.path
    yield from (
        ("path", one)
        for one in spec.earlier
        if one != spec.path and [*(source.folder / one).parent.glob(Path(one).name)]
    )
    if spec.kind == "sheet" and "*" not in spec.path and path.is_file():
        yield from (("sheet", sheet.name) for sheet in sheets(path) if sheet.name != spec.sheet)
        return
    if not spec.path or not path.parent.is_dir():
        return
    endings = "".join(Path(spec.path.replace("*", "x")).suffixes[-2:] if spec.path.endswith((".gz", ".zst", ".bz2", ".xz")) else Path(spec.path).suffixes[-1:])  # fmt: skip
    used = {model.path for model in source.document.models("part", PartSpec)}
    beside = Path(spec.path).parent
    there = [one for one in path.parent.iterdir() if one.is_file() and one.name.endswith(endings) and str(beside / one.name) not in used]  # fmt: skip
    names = [path.name for path in sorted(there, key=lambda one: -one.stat().st_mtime)[:MOST_FILES]]
    patterns: dict[str, int] = {}
    for name in names:
        stem = name.removesuffix(endings)
        pattern = re.sub(r"[0-9][0-9_.-]*|(?<=[_ -])[^_ -]+$", "*", stem, count=1) + endings
        patterns[pattern] = patterns.get(pattern, 0) + 1
    for pattern, count in patterns.items():
        if count > 1 and "*" in pattern:
            yield "path", str(beside / pattern)
    several = {pattern for pattern, count in patterns.items() if count > 1}
    for name in names:
        if not any(re.fullmatch(re.escape(one).replace(r"\*", ".*"), name) for one in several):
            yield "path", str(beside / name)


def _same_rows(source: Source, before: Source | None, what: str, now: str) -> float | None:
    """Which share of the values of the key were there before; None where that cannot be known."""
    if before is None or not source.about.key:
        return None
    key = quote_identifier(source.about.key[0])
    try:
        tried = moved(source, Moved({what: now}))
        sides = [values_of(source.rows([key], limit=COMPARED_ROWS).table.column(0)) for source in (before, tried)]
    except OakError:
        return None
    return _overlap(sides[0], sides[1])


def _overlap(values: Values | None, other: Values | None) -> float:
    """Which share of the different values of one side the other has, of the side that has fewer."""
    if values is None or other is None or values.kind != other.kind:
        return 0.0
    sides = [set(side.items[side.present].tolist() if side.numeric else side.items.drop_null().to_pylist()) for side in (values, other)]  # fmt: skip
    return len(sides[0] & sides[1]) / max(min(map(len, sides)), 1)


def _keys(source: Source, parts: Sequence[PartSpec]) -> Iterator[Elsewhere]:
    """For a key of a join that a part does not have, the column whose values meet those of the other side; of both, if neither has it."""
    feeds = {part.name: source.opened_as(part) for part in parts}
    named: set[str] = set()
    for part in parts[1:]:
        for left, own in part.key_pairs():
            sides = [feeds[parts[0].name], feeds[part.name]]
            lacks = [name not in feed.columns() for name, feed in zip((left, own), sides, strict=True)]
            if not any(lacks) or {left, own} & named:
                continue
            named |= {left, own}
            choices = [[*feed.columns()] if lack else [name] for name, feed, lack in zip((left, own), sides, lacks, strict=True)]  # fmt: skip
            pairs = [(one, other) for one in choices[0] for other in choices[1] if not all(lacks) or one == other]
            scores = sorted(((_overlap(_values(sides[0], one), _values(sides[1], other)), one, other) for one, other in pairs), reverse=True)  # fmt: skip
            if scores and scores[0][0] >= LEAST_ROWS:
                best, *columns = scores[0]
                lead = best - (scores[1][0] if len(scores) > 1 else 0.0)
                name, now = (left, columns[0]) if lacks[0] else (own, columns[1])
                yield Elsewhere("key", name, now, f"{best:.0%} of its values are in both parts", best >= 0.5 and lead >= 0.2)  # fmt: skip


def _values(feed: Any, column: str) -> Values | None:
    rows, room = [], COMPARED_ROWS
    for batch in feed.batches([column]):
        rows.append(batch.slice(0, room))
        room -= rows[-1].num_rows
        if room <= 0:
            break
    return values_of(pa.Table.from_batches(rows).column(0)) if rows else None
