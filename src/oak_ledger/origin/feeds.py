"""Opening an origin for reading: each kind tells its columns with the types they arrive in, and gives batches."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from threading import Lock
from typing import Any, Protocol

import pyarrow as pa

from oak_ledger.engine.pool import ordered
from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.formula.types import TEXT, Type
from oak_ledger.loops.rows import Wanted
from oak_ledger.origin import delimited
from oak_ledger.origin.parquet import ParquetFeed
from oak_ledger.origin.rows_of_text import BadRow, Lines, Looked, Stretch, stretches
from oak_ledger.origin.spec import PartSpec, ReadingSpec
from oak_ledger.origin.tables import ArrowFeed, JsonLinesFeed, TableFeed

Progress = Callable[[int], None]
FILE_COLUMN = "File"
READERS = 2  # threads that read while another looks at what was read
SMALL = 1 << 20  # bytes of small files that are read one after the other, as one


class OpenOrigin(Protocol):
    """An origin that can be read. `bad_rows` holds what was dropped or mended in the last reading."""

    bad_rows: list[BadRow]

    def columns(self) -> dict[str, Type]:
        """The columns that are there now, with the types they arrive in."""

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows in order, with these columns."""

    def place(self, row: int) -> str:
        """Where a row (counted from 1) stands, in words; empty where there is nothing better than its number."""


def _one_after_the_other(some: Sequence[Stretch]) -> Iterator[pa.RecordBatch]:
    """Several stretches as one."""
    for stretch in some:
        yield from stretch()


@dataclass(frozen=True, slots=True)
class _Completed:
    """The rows of a stretch, counted, with the columns that the file itself does not have."""

    stretch: Stretch
    count: Callable[[int], None]
    given: Mapping[str, str]
    own: Sequence[str]
    columns: Sequence[str]

    def __call__(self) -> Iterator[pa.RecordBatch]:
        """As batches."""
        for batch in self.stretch():
            self.count(batch.num_rows)
            arrays = [
                batch.column(name) if name in self.own else self._told(name, batch.num_rows) for name in self.columns
            ]
            yield pa.RecordBatch.from_arrays(arrays, names=list(self.columns)) if self.columns else batch

    def looked(self, wanted: Mapping[str, Wanted], most: int) -> Looked | None:
        """What is wanted of each column; None where that cannot be told without its texts."""
        asked = {name: wanted.get(name, Wanted.TEXTS) for name in self.own}
        found = self.stretch.looked(asked, most) if asked and isinstance(self.stretch, Lines) else None
        if found is None:
            return None
        self.count(found.rows)
        more = {name: self._told(name, found.rows) for name in self.columns if name not in asked}
        return Looked(found.rows, {**found.columns, **more}, found.texts)

    def _told(self, name: str, rows: int) -> Any:
        return pa.repeat(pa.scalar(self.given.get(name), pa.string()), rows)


@dataclass(slots=True)
class FilesFeed:
    """One delimited text file, or many of one shape read as one."""

    paths: list[Path]
    spec: ReadingSpec
    counts: list[int] = field(default_factory=list)
    progress: Progress | None = None
    bad_rows: list[BadRow] = field(default_factory=list)
    lock: Any = field(default_factory=Lock, compare=False, repr=False)

    def part_names(self) -> list[str]:
        """The columns that come from the file's name."""
        return re.findall(r"\{([^{}]+)\}", self.spec.name_parts)

    def columns(self) -> dict[str, Type]:
        """The columns of the files (the first file's order), the parts of the name, and the file's name."""
        names: dict[str, Type] = {}
        for path in self.paths:
            names |= dict.fromkeys(delimited.column_names(path, self.spec), TEXT)
        names |= dict.fromkeys(self.part_names(), TEXT)
        if self.spec.kind == "files":
            names.setdefault(FILE_COLUMN, TEXT)
        return names

    def shapes(self) -> list[tuple[Path, list[str], list[str]]]:
        """Files whose columns differ from the first one's: the path, what is missing, what is there besides."""
        first = delimited.column_names(self.paths[0], self.spec)
        found = []
        for path in self.paths[1:]:
            names = delimited.column_names(path, self.spec)
            missing, more = [one for one in first if one not in names], [one for one in names if one not in first]
            if missing or more:
                found.append((path, missing, more))
        return found

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, file after file, as text. A column that a file does not have is null in its rows."""
        for found in ordered(lambda stretch: list(stretch()), self.stretches(columns), READERS):
            yield from found

    def stretches(self, columns: Sequence[str]) -> Iterator[Stretch]:
        """The same rows in parts that several threads can read; small files go together."""
        self.counts[:] = [0] * len(self.paths)
        self.bad_rows.clear()
        waiting: list[Stretch] = []
        left = SMALL
        for number, path in enumerate(self.paths):
            given = self.parts(path)
            if self.spec.kind == "files":
                given.setdefault(FILE_COLUMN, path.name)
            there = delimited.column_names(path, self.spec) if len(self.paths) > 1 else list(columns)
            own = [name for name in columns if name not in given and name in there]
            size = path.stat().st_size if path.exists() else 0
            if size > left and waiting:
                yield partial(_one_after_the_other, waiting)
                waiting, left = [], SMALL
            left -= size
            for stretch in stretches(path, self.spec, own, self.bad_rows.append):
                made = _Completed(stretch, partial(self._count, number), given, own, columns)
                if size > SMALL:
                    yield made
                else:
                    waiting.append(made)
        if waiting:
            yield partial(_one_after_the_other, waiting)

    def looked(self, columns: Sequence[str], wanted: Callable[[], Mapping[str, Wanted]], most: int) -> Iterator[Looked]:
        """The same rows, but of each column only what is wanted when their turn comes, where that can be told without its texts."""

        def look(stretch: Stretch) -> list[Looked]:
            found = stretch.looked(wanted(), most) if isinstance(stretch, _Completed) else None
            some = [Looked.of(batch) for batch in stretch()] if found is None else [found]
            return [one for one in some if one.rows]

        for found in ordered(look, self.stretches(columns), READERS):
            yield from found

    def _count(self, number: int, rows: int) -> None:
        with self.lock:
            self.counts[number] += rows
            if self.progress:
                self.progress(sum(self.counts))

    def parts(self, path: Path) -> dict[str, str]:
        """The parts of a file's name, by column."""
        if not self.spec.name_parts:
            return {}
        match = _name_pattern(self.spec.name_parts).fullmatch(path.name)
        if match is None:
            message = f"The file name {path.name} does not read as {self.spec.name_parts}."
            hint = "Change name_parts under [origin], or the path, so that they agree."
            raise UnusableInput("name-parts", message, hint=hint)
        return dict(zip(self.part_names(), match.groups(), strict=True))

    def place(self, row: int) -> str:
        """The file and the row in it."""
        before = 0
        for path, count in zip(self.paths, self.counts, strict=False):
            if row <= before + count:
                return f"{path.name} row {row - before:,}"
            before += count
        return f"{self.paths[min(len(self.counts), len(self.paths) - 1)].name} row {row - before:,}"


def _name_pattern(text: str) -> re.Pattern[str]:
    pieces = re.split(r"(\{[^{}]+\}|\*)", text)
    made = ["(.+?)" if piece.startswith("{") else ".*" if piece == "*" else re.escape(piece) for piece in pieces]
    try:
        return re.compile("".join(made))
    except re.error as error:
        raise OakError("bad-pattern", f"name_parts {text!r} cannot be used: {error}.") from error


def open_origin(
    spec: ReadingSpec, folder: Path, progress: Progress | None = None, parts: Sequence[PartSpec] = ()
) -> OpenOrigin:
    """Open what a definition names; paths are relative to the definition's folder."""
    path = folder / spec.path
    if spec.kind == "file":
        delimited.head_of(path)
        return FilesFeed([path], spec, progress=progress)
    if spec.kind == "files":
        paths = matching(folder, spec.path)
        if not paths:
            message = f"No file matches {spec.path} in {folder}."
            raise UnusableInput("no-file", message, hint="Check path under [origin].")
        return FilesFeed(paths, spec, progress=progress)
    if spec.kind == "sheet":
        from oak_ledger.origin.workbook import SheetFeed

        return SheetFeed(path, spec)
    if spec.kind == "database":
        from oak_ledger.origin.database import DatabaseFeed

        return DatabaseFeed(spec, folder)
    if spec.kind == "join":
        from oak_ledger.origin.joins import JoinFeed

        return JoinFeed([(part, open_origin(part, folder, progress)) for part in parts])
    simple: dict[str, OpenOrigin] = {
        "parquet": ParquetFeed(path),
        "arrow": ArrowFeed(path),
        "json lines": JsonLinesFeed(path, spec.bad_rows),
    }
    if spec.kind in simple:
        return simple[spec.kind]
    message = "This source was made from a table in memory; its definition alone has no rows."
    raise UnusableInput("memory-origin", message, hint="Give it an [origin] that names a file.")


def matching(folder: Path, pattern: str) -> list[Path]:
    """The files that a pattern names, in the order of their names."""
    path = Path(pattern)
    base = Path(path.anchor) if path.is_absolute() else folder
    return sorted(base.glob(str(path.relative_to(path.anchor) if path.is_absolute() else path)))


__all__ = ["FilesFeed", "OpenOrigin", "ParquetFeed", "Progress", "TableFeed", "matching", "open_origin"]
