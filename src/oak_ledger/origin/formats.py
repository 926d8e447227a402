"""Every kind of origin and the reader of it: the one list that says what can be read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from oak_ledger.errors import UnusableInput
from oak_ledger.origin.reader import OriginReader, Progress
from oak_ledger.origin.spec import OriginKind, PartSpec, ReadingSpec, StepSpec

OpenInput = Callable[[ReadingSpec, Path], OriginReader]


@dataclass(frozen=True, slots=True)
class Opening:
    """What an origin is opened from; paths are relative to the definition's folder."""

    spec: ReadingSpec
    folder: Path
    progress: Progress | None
    parts: Sequence[PartSpec]
    sources: OpenInput | None = None
    """What opens another source as an origin: that is known above this room."""
    expected: Sequence[str] = ()
    """The columns that are read of it."""

    @property
    def path(self) -> Path:
        """The file."""
        return self.folder / self.spec.path


def _file(origin: Opening) -> OriginReader:
    from oak_ledger.origin.csv.opened import head_of
    from oak_ledger.origin.files import FilesReader

    head_of(origin.path)
    return FilesReader([origin.path], origin.spec, origin.expected, progress=origin.progress)


def _files(origin: Opening) -> OriginReader:
    from oak_ledger.origin.files import FilesReader

    return FilesReader(_matching(origin), origin.spec, origin.expected, progress=origin.progress)


def _matching(origin: Opening) -> list[Path]:
    """The files that the path names, of which there must be one."""
    from oak_ledger.origin.files import matching

    paths = matching(origin.folder, origin.spec.path)
    if not paths:
        message = f"No file matches {origin.spec.path} in {origin.folder}."
        raise UnusableInput("no-file", message, hint="Check path under [origin].")
    return paths


def _one_or_several(origin: Opening, reader: Callable[[Path], OriginReader]) -> OriginReader:
    """One file, or where the path is a pattern, all that it names as one."""
    from oak_ledger.origin.several import SeveralReader

    if "*" not in origin.spec.path:
        return reader(origin.path)
    return SeveralReader(_matching(origin), origin.spec, reader)


def _with_names(reader: OriginReader, spec: ReadingSpec) -> OriginReader:
    """A reader that knows nothing of names that the definition gives to columns, with these names."""
    from oak_ledger.origin.header import renamed_among
    from oak_ledger.origin.memory import RenamedReader

    meant = renamed_among([*reader.columns()], spec.renamed) if spec.renamed else {}
    return RenamedReader(reader, {new: old for old, new in meant.items()}) if meant else reader


def _sheet(origin: Opening) -> OriginReader:
    from oak_ledger.origin.workbook import SheetReader

    return _one_or_several(origin, lambda path: SheetReader(path, origin.spec))


def _database(origin: Opening) -> OriginReader:
    from oak_ledger.origin.database import DatabaseReader

    return _with_names(DatabaseReader(origin.spec, origin.folder), origin.spec)


def _join(origin: Opening) -> OriginReader:
    from oak_ledger.origin.join import JoinReader

    return JoinReader(
        [(part, open_origin(part, origin.folder, origin.progress, sources=origin.sources)) for part in origin.parts]
    )


def _source(origin: Opening) -> OriginReader:
    if origin.sources is None:
        raise UnusableInput("source-origin", "Another source is read only by a definition that is opened as a whole.")
    return _with_names(origin.sources(origin.spec, origin.folder), origin.spec)


def _parquet(origin: Opening) -> OriginReader:
    from oak_ledger.origin.parquet import ParquetReader

    return _one_or_several(origin, lambda path: _with_names(ParquetReader(path), origin.spec))


def _arrow(origin: Opening) -> OriginReader:
    from oak_ledger.origin.arrow_ipc import ArrowReader

    return _one_or_several(origin, lambda path: _with_names(ArrowReader(path), origin.spec))


def _json_lines(origin: Opening) -> OriginReader:
    from oak_ledger.origin.jsonl import JsonLinesReader

    return _one_or_several(origin, lambda path: _with_names(JsonLinesReader(path, origin.spec.bad_rows), origin.spec))


def _memory(origin: Opening) -> OriginReader:
    message = "This source was made from a table in memory; its definition alone has no rows."
    raise UnusableInput("memory-origin", message, hint="Give it an [origin] that names a file.")


READERS: Mapping[OriginKind, Callable[[Opening], OriginReader]] = {
    "file": _file,
    "files": _files,
    "sheet": _sheet,
    "parquet": _parquet,
    "arrow": _arrow,
    "json lines": _json_lines,
    "database": _database,
    "source": _source,
    "join": _join,
    "memory": _memory,
}


def open_origin(
    spec: ReadingSpec,
    folder: Path,
    progress: Progress | None = None,
    parts: Sequence[PartSpec] = (),
    steps: Sequence[StepSpec] = (),
    sources: OpenInput | None = None,
    expected: Sequence[str] = (),
) -> OriginReader:
    """Open what a definition names, with its steps; `sources` opens what is itself a source, `expected` are the columns that are read. Raises UnusableInput where that is not there, or is something else."""
    reader = READERS[spec.kind](Opening(spec, folder, progress, parts, sources, expected))
    if not steps:
        return reader
    from oak_ledger.origin.steps import PreparedReader

    return PreparedReader(reader, steps)
