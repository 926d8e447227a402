"""Typed copies of origins that are slow to read again: kept by themselves in a folder of the user's, and dropped when they are stale.

A copy has the values of each field as they are read from its column (their type, not what formulas and cleans make of them), or the column
itself where some values could not be read. Its name is a digest of how the definition says to read; its stamps are those of the origin's files.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine import Expression, Faults, Query, Scan, stream
from oak_ledger.errors import Finding, OakError
from oak_ledger.files import write_atomically
from oak_ledger.formula import Grain, Type
from oak_ledger.formula import checked as c
from oak_ledger.names.known import Read
from oak_ledger.origin import FilesReader, OriginReader, ParquetReader
from oak_ledger.origin.reader import BadRow
from oak_ledger.origin.spec import PartSpec, StepSpec
from oak_ledger.origin.stamps import FileStamp, origin_paths, stamps_of
from oak_ledger.version import __version__

LAYOUT = 3  # of the copies; another one makes all of them stale
MIN_BYTES = {
    "file": 4 << 20,
    "files": 4 << 20,
    "json lines": 1 << 20,
    "sheet": 1 << 16,
    "database": 1 << 18,
    "join": 1 << 20,
}
"""Kinds of origins that are slow to read, and how large they must be for a copy to be worth it."""
READ_THROUGH = ("json lines", "sheet", "join", "database")
"""Those that know their columns only when all of them is read."""
DEFAULT_LIMIT = 20 << 30
ROW_GROUP_ROWS = 1 << 17
MAX_ATTEMPTS = 8


# -- the folder ---------------------------------------------------------------------------------------------------


def enabled() -> bool:
    """Whether copies are kept: unless OAK_CACHE is `off`."""
    return os.environ.get("OAK_CACHE", "").strip().casefold() not in ("off", "no", "0", "false")


def cache_folder() -> Path:
    """Where copies are: OAK_CACHE_FOLDER, else the user's cache folder."""
    given = os.environ.get("OAK_CACHE_FOLDER", "")
    if given:
        return Path(given)
    from platformdirs import user_cache_path

    return user_cache_path("oak-ledger")


def cache_limit() -> int:
    """How many bytes all copies may take: OAK_CACHE_LIMIT, such as 5G."""
    from oak_ledger.engine.options import size_setting

    return size_setting("OAK_CACHE_LIMIT", DEFAULT_LIMIT)


@dataclass(frozen=True, slots=True)
class CacheEntry:
    """One copy in the folder: what it is of, its size in bytes, when it was last used (seconds since 1970), its files."""

    source: str
    origin: tuple[str, ...]
    rows: int
    size: int
    used: float
    note: Path
    data: Path


def cache_entries() -> list[CacheEntry]:
    """All copies, the one used last first; files that no note names, older than an hour, are removed."""
    folder, entries = cache_folder(), []
    for note in sorted(folder.glob("*.json")):
        metadata = _read_note(note)
        data = folder / metadata["data"] if metadata else note
        if metadata is None or not data.is_file():
            note.unlink(missing_ok=True)
            continue
        with suppress(FileNotFoundError):  # another process has just put a newer one in its place
            size, used = data.stat().st_size + note.stat().st_size, note.stat().st_mtime
            entries.append(
                CacheEntry(metadata["source"], tuple(metadata["stamps"]), metadata["rows"], size, used, note, data)
            )
    known = {entry.data for entry in entries}
    for stray in (*folder.glob("*.parquet*"), *folder.glob(".*.part")):
        with suppress(FileNotFoundError):
            if stray not in known and stray.stat().st_mtime < time.time() - 3600:
                stray.unlink()
    return sorted(entries, key=lambda entry: -entry.used)


def clear_cache(keep: int = 0) -> list[CacheEntry]:
    """Remove copies, those used least recently first, until all take at most so many bytes; what was removed."""
    removed, total = [], 0
    for entry in cache_entries():
        total += entry.size
        if total > keep:
            entry.note.unlink(missing_ok=True)
            entry.data.unlink(missing_ok=True)
            removed.append(entry)
    return removed


def _read_note(path: Path) -> dict[str, Any] | None:
    try:
        metadata = json.loads(path.read_text("utf-8"))
        return metadata if isinstance(metadata, dict) and metadata.get("layout") == LAYOUT else None
    except (OSError, ValueError):
        return None


# -- one copy -----------------------------------------------------------------------------------------------------


@dataclass(slots=True)
class CopyReader:
    """The rows of a copy, which knows where each row was in the origin."""

    parquet: ParquetReader
    origin: OriginReader
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns of the copy."""
        return self.parquet.columns()

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows."""
        return self.parquet.batches(columns)

    def fragments(self, columns: Sequence[str]) -> Iterator[Any]:
        """The rows in row groups."""
        return self.parquet.fragments(columns)

    def locate(self, row: int) -> str:
        """Where a row is in the origin."""
        return self.origin.locate(row)


@dataclass(frozen=True, slots=True)
class TypedCopy:
    """A copy that is there: its rows, and the expressions that are columns of it."""

    reader: CopyReader
    columns: Mapping[str, str]
    """For each expression that reads a column of the origin, by name: the column of the copy."""
    made: bool
    note: Path

    def over(self, query: Query) -> Query:
        """The query asked of the copy."""
        fields = {**query.fields}
        for name, column in self.columns.items():
            own = fields.get(name)
            if own is not None:
                fields[name] = Expression(own.name, own.text, _column(own.checked.type, column))
        return replace(query, fields=fields)

    def drop(self) -> None:
        """Remove it."""
        self.note.unlink(missing_ok=True)
        self.reader.parquet.path.unlink(missing_ok=True)


def _column(kind: Type, name: str) -> c.TypedNode:
    return c.ColumnRef(0, 0, kind, Grain.ROW, name)


def typed_copy(source: Read) -> tuple[TypedCopy | None, Finding | None]:
    """The copy of a source's origin, made now where there is none; and why there can be none, where somebody should know."""
    if not enabled() or source.feed is not None or source.published is not None:
        return None, None
    least = MIN_BYTES.get(source.origin.kind)
    parts = source.document.models("part", PartSpec)
    paths = origin_paths(source.origin, source.folder, parts) if least is not None else None
    if not paths or least is None or sum(path.stat().st_size for path in paths if path.is_file()) < least:
        return None, None
    note = cache_folder() / f"{_key(source, parts)}.json"
    try:
        copy = _open(source, note, paths)
        return copy if copy is not None else _make(source, note, paths), None
    except OSError as error:
        return None, _not_kept(source, error.strerror or str(error))
    except OakError as error:
        if error.code != "not-written":
            raise
        return None, _not_kept(source, error.findings[0].message)


def origin_columns(source: Read) -> dict[str, Type]:
    """The columns of a source's origin, with their types; remembered where all of it would have to be read to know them."""
    kind = source.origin.kind
    if source.feed is not None or kind not in READ_THROUGH or not enabled():
        return source.opened.columns()
    parts = source.document.models("part", PartSpec)
    paths = origin_paths(source.origin, source.folder, parts)
    stamps = stamps_of(paths) if paths else None
    if not stamps or sum(stamp.size for stamp in stamps.values()) < MIN_BYTES[kind]:
        return source.opened.columns()
    note = cache_folder() / f"{_digest(_origin_said(source, parts))}.columns"
    metadata = _read_note(note)
    known = metadata is not None and metadata["stamps"].keys() == stamps.keys()
    if known and metadata and all(FileStamp(**stamp).same(Path(path)) for path, stamp in metadata["stamps"].items()):
        return {name: Type(*kind) for name, kind in metadata["columns"].items()}
    columns = source.opened.columns()
    metadata = {"layout": LAYOUT, "stamps": {path: asdict(stamp) for path, stamp in stamps.items()}, "columns": {name: [one.kind, one.scale] for name, one in columns.items()}}  # fmt: skip
    with suppress(OSError, OakError):  # then they are found again the next time
        note.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        _write_note(note, metadata)
    return columns


def _not_kept(source: Read, why: str) -> Finding:
    message = f"A typed copy of the rows of {source.name} could not be kept: {why.rstrip('.')}. The answer is right, and the next one takes as long."
    hint = "Make room, or set OAK_CACHE=off."
    return Finding("copy-not-kept", message, source.document.place(), hint, severity="note")


def _key(source: Read, parts: Sequence[PartSpec]) -> str:
    """A digest of all that says how to read."""
    readings = sorted((column, reading) for column, reading, _ in source.compiled.readings.values())
    return _digest([*_origin_said(source, parts), readings])


def _origin_said(source: Read, parts: Sequence[PartSpec]) -> list[Any]:
    steps = source.document.models("step", StepSpec)
    said = [part.model_dump(mode="json") for part in (source.origin, *parts, *steps)]
    return [LAYOUT, __version__, str(source.folder.resolve()), *said]


def _digest(said: Any) -> str:
    return hashlib.blake2b(json.dumps(said, sort_keys=True, default=str).encode(), digest_size=12).hexdigest()


def _open(source: Read, note: Path, paths: Sequence[Path]) -> TypedCopy | None:
    """The copy that a note names, if it is one of the files as they are."""
    metadata = _read_note(note)
    if metadata is None or [*metadata["stamps"]] != [str(path) for path in paths]:
        return None
    stamps = {path: FileStamp(**stamp) for path, stamp in metadata["stamps"].items()}
    data = note.parent / metadata["data"]
    try:
        footer = _footer(data)
    except OSError:  # it is gone
        return None
    if metadata["footer"] != footer or not all(stamp.same(Path(path)) for path, stamp in stamps.items()):
        return None
    if any(stamp.whole for stamp in stamps.values()):  # by now their times may be enough
        metadata["stamps"] = {path: asdict(stamp) for path, stamp in (stamps_of(paths) or {}).items()}
        latest = _read_note(note)  # another process may have put a newer copy in its place
        if metadata["stamps"] and latest is not None and latest["data"] == metadata["data"]:
            _write_note(note, metadata)
    with suppress(FileNotFoundError):
        os.utime(note)
    source.opened.bad_rows[:] = [BadRow(**one) for one in metadata["bad_rows"]]
    if isinstance(source.opened, FilesReader):
        source.opened.counts[:] = metadata["counts"]
    reader = CopyReader(ParquetReader(data, checked=True), source.opened, source.opened.bad_rows)
    return TypedCopy(reader, _columns(source, metadata["raw"]), made=False, note=note)


def _columns(source: Read, raw: Sequence[str]) -> dict[str, str]:
    """The column of the copy for each expression that reads one of the origin; those of fields in `raw` are computed from the column as it comes."""
    return {key: name for name, (keys, typed) in _layout(source, raw).items() if typed for key in keys}


def _layout(source: Read, raw: Sequence[str]) -> dict[str, tuple[list[str], bool]]:
    """The columns of the copy: the expressions that each has, and whether it is what comes of reading; else it is the column as it comes."""
    columns: dict[str, tuple[list[str], bool]] = {}
    ways: dict[str, list[str]] = {}
    readings = source.compiled.readings
    plain = {column for column, reading, owner in readings.values() if not reading or owner in raw}
    for key, (column, reading, owner) in readings.items():
        if not reading or owner in raw:
            columns.setdefault(column, ([], False))[0].append(key)
            continue
        known = ways.setdefault(column, [])
        known += [] if reading in known else [reading]
        number = known.index(reading) + 1 + (column in plain)
        columns.setdefault(column if number == 1 else f"{column} ({number})", ([], True))[0].append(key)
    return columns


class _FaultyError(Exception):
    """Some values of these fields cannot be read: their columns are kept as they arrive."""

    def __init__(self, fields: set[str]) -> None:
        super().__init__(fields)
        self.fields = fields


def _make(source: Read, note: Path, paths: Sequence[Path]) -> TypedCopy | None:
    """Read the origin, and write its copy; None where a file changes meanwhile."""
    note.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    raw: set[str] = set()
    for _ in range(MAX_ATTEMPTS):
        before = stamps_of(paths)
        data = note.with_name(f"{note.stem}-{time.time_ns():x}-{os.getpid():x}.parquet")
        try:
            rows = _write(source, data, raw)
        except _FaultyError as found:
            raw |= found.fields
            continue
        after = stamps_of(paths)
        if before is None or after is None or not _alike(before, after):
            data.unlink(missing_ok=True)
            return None
        counts = [*source.opened.counts] if isinstance(source.opened, FilesReader) else []
        previous = _read_note(note)
        metadata = {
            "layout": LAYOUT, "source": source.name, "data": data.name, "footer": _footer(data), "rows": rows, "raw": sorted(raw), "counts": counts,
            "stamps": {path: asdict(stamp) for path, stamp in after.items()}, "bad_rows": [asdict(bad_row) for bad_row in source.opened.bad_rows],
        }  # fmt: skip
        _write_note(note, metadata)
        if previous is not None and previous["data"] != data.name:
            (note.parent / previous["data"]).unlink(missing_ok=True)
        clear_cache(cache_limit())
        copy = _open(source, note, paths)
        return None if copy is None else replace(copy, made=True)
    return None


def _footer(data: Path) -> str:
    """A digest of a Parquet file's footer, whose statistics no checksum of a page guards."""
    with data.open("rb") as file:
        file.seek(-8, os.SEEK_END)
        size = int.from_bytes(file.read(4), "little")
        file.seek(max(-size - 8, -data.stat().st_size), os.SEEK_END)
        return hashlib.blake2b(file.read(), digest_size=12).hexdigest()


def _alike(before: Mapping[str, FileStamp], after: Mapping[str, FileStamp]) -> bool:
    """Whether files were the same before and after; a digest of all of one may have been needed only before."""
    return [*before] == [*after] and all(
        replace(stamp, whole="") == replace(after[path], whole="")
        and (not stamp.whole or not after[path].whole or stamp.whole == after[path].whole)
        for path, stamp in before.items()
    )


def _write_note(note: Path, metadata: Mapping[str, Any]) -> None:
    def write(path: Path) -> None:
        path.write_text(json.dumps(metadata), "utf-8")
        path.chmod(0o600)

    write_atomically(note, write)


def _write(source: Read, data: Path, raw: set[str]) -> int:
    """Write the values as they are read to a file; how many rows. Raises _FaultyError as soon as some cannot be read."""
    import pyarrow.parquet as pq

    shown: list[Expression] = []
    names: list[str] = []
    owners: dict[str, set[str]] = {}
    for name, (keys, typed) in _layout(source, sorted(raw)).items():
        column = source.compiled.readings[keys[0]][0]
        own = source.compiled.expressions[keys[0]]
        tree = own.checked if typed else _column(source.compiled.origin_schema[column], column)
        shown.append(Expression(f"c{len(shown)}", own.text, tree))
        names.append(name)
        owners[shown[-1].name] = {source.compiled.readings[key][2] for key in keys}
    query = Query(source.compiled.expressions, tuple(shown))
    schema = pa.schema(
        [(name, arrow_type(expression.checked.type)) for name, expression in zip(names, shown, strict=True)]
    )

    def write(_: Scan, tables: Iterator[pa.Table], faults: Faults) -> int:
        rows, writer = 0, None

        def to_file(path: Path) -> None:
            nonlocal rows, writer
            path.chmod(0o600)
            for table in tables:
                wrong = {own for owner, *_ in faults.kept for own in owners.get(owner, {owner})}
                if wrong:
                    raise _FaultyError(wrong)
                if writer is None:
                    repeating = [name for at, name in enumerate(names) if _repeats(table.column(at))]
                    writer = pq.ParquetWriter(
                        path, schema, compression="lz4", use_dictionary=repeating, write_page_checksum=True, store_decimal_as_integer=True,
                    )  # fmt: skip
                writer.write_table(table.rename_columns(names), row_group_size=ROW_GROUP_ROWS)
                rows += table.num_rows
            writer = writer or pq.ParquetWriter(path, schema)
            writer.close()

        try:
            write_atomically(data, to_file)
        finally:
            if writer is not None and writer.is_open:
                writer.close()
        return rows

    return stream(query, source.opened, write)[0]


def _repeats(column: Any) -> bool:
    """Whether a dictionary of the values takes less room and time than they do."""
    return 4 * len(column.unique()) <= len(column)
