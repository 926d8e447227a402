"""Feeds: an origin opened for reading. Each tells its columns with the types they arrive in, and gives batches."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.formula.types import TEXT, Type
from oak_ledger.formula.values import arrow_type, from_arrow_type
from oak_ledger.origin import delimited
from oak_ledger.origin.spec import OriginSpec

Progress = Callable[[int], None]
FILE_COLUMN = "File"


class OpenOrigin(Protocol):
    """An origin that can be read."""

    def columns(self) -> dict[str, Type]:
        """The columns that are there now, with the types they arrive in."""

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows in order, with these columns."""

    def place(self, row: int) -> str:
        """Where a row (counted from 1) stands, in words; empty where there is nothing better than its number."""


@dataclass(slots=True)
class TableFeed:
    """An Arrow table in memory."""

    table: pa.Table

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        known = ((name, from_arrow_type(self.table.schema.field(name).type)) for name in self.table.schema.names)
        return {name: kind for name, kind in known if kind is not None}

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        if not columns:
            yield counting(self.table.num_rows)
            return
        kinds = self.columns()
        for batch in self.table.select(list(columns)).to_batches(max_chunksize=1 << 17):
            yield settled(batch, kinds)

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


@dataclass(slots=True)
class ParquetFeed:
    """A Parquet file."""

    path: Path

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        import pyarrow.parquet as pq

        known = ((one.name, from_arrow_type(one.type)) for one in self._guarded(pq.read_schema, self.path))
        return {name: kind for name, kind in known if kind is not None}

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        import pyarrow.parquet as pq

        kinds = self.columns()
        with self._guarded(pq.ParquetFile, self.path) as file:
            if not columns:
                yield counting(file.metadata.num_rows)
                return
            for batch in file.iter_batches(batch_size=1 << 17, columns=list(columns)):
                yield settled(batch, kinds)

    def place(self, row: int) -> str:
        """Nothing better than the number."""
        return ""

    @staticmethod
    def _guarded(read: Callable[[Path], Any], path: Path) -> Any:
        try:
            return read(path)
        except FileNotFoundError:
            raise UnusableInput("no-file", f"There is no file {path}.") from None
        except (pa.ArrowInvalid, OSError) as error:
            raise UnusableInput("unreadable", f"{path} cannot be read: {str(error).splitlines()[0]}") from error


def counting(rows: int) -> pa.RecordBatch:
    """A batch that only says how many rows there are: what a question needs that reads no column."""
    return pa.RecordBatch.from_arrays([pa.nulls(rows)], names=["rows"])


def settled(batch: pa.RecordBatch, kinds: dict[str, Type]) -> pa.RecordBatch:
    """The batch with each column in the Arrow type that the language uses; NaN and infinity become null."""
    import pyarrow.compute as pc

    columns = []
    for name, column in zip(batch.schema.names, batch.columns, strict=True):
        values = column.dictionary_decode() if pa.types.is_dictionary(column.type) else column
        if pa.types.is_floating(values.type):
            values = pc.if_else(pc.is_finite(values), values, pa.scalar(None, values.type))
        wanted = arrow_type(kinds[name])
        columns.append(values if values.type == wanted else values.cast(wanted, safe=False))
    return pa.RecordBatch.from_arrays(columns, names=batch.schema.names)


@dataclass(slots=True)
class FilesFeed:
    """One delimited text file, or many of one shape read as one."""

    paths: list[Path]
    spec: OriginSpec
    counts: list[int] = field(default_factory=list)
    progress: Progress | None = None

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
            missing, more = (
                [one for one in first if one not in names],
                [one for one in names if one not in first],
            )
            if missing or more:
                found.append((path, missing, more))
        return found

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, file after file, as text."""
        self.counts.clear()
        total = 0
        for path in self.paths:
            given = self.parts(path)
            if self.spec.kind == "files":
                given.setdefault(FILE_COLUMN, path.name)
            own = [name for name in columns if name not in given]
            read = 0
            for batch in delimited.read(path, self.spec, own):
                read += batch.num_rows
                total += batch.num_rows
                arrays = [
                    pa.repeat(pa.scalar(given[name], pa.string()), batch.num_rows)
                    if name in given
                    else batch.column(name)
                    for name in columns
                ]
                if self.progress:
                    self.progress(total)
                yield pa.RecordBatch.from_arrays(arrays, names=list(columns)) if columns else batch
            self.counts.append(read)

    def parts(self, path: Path) -> dict[str, str]:
        """The parts of a file's name, by column."""
        if not self.spec.name_parts:
            return {}
        match = _name_pattern(self.spec.name_parts).fullmatch(path.name)
        if match is None:
            raise UnusableInput(
                "name-parts",
                f"The file name {path.name} does not read as {self.spec.name_parts}.",
                hint="Change name_parts under [origin], or the path, so that they agree.",
            )
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


def open_origin(spec: OriginSpec, folder: Path, progress: Progress | None = None) -> OpenOrigin:
    """Open what a definition names; paths are relative to the definition's folder."""
    if spec.kind == "parquet":
        return ParquetFeed(folder / spec.path)
    if spec.kind == "file":
        path = folder / spec.path
        delimited.head_of(path)
        return FilesFeed([path], spec, progress=progress)
    if spec.kind == "files":
        paths = matching(folder, spec.path)
        if not paths:
            raise UnusableInput(
                "no-file", f"No file matches {spec.path} in {folder}.", hint="Check path under [origin]."
            )
        return FilesFeed(paths, spec, progress=progress)
    raise UnusableInput(
        "memory-origin",
        "This source was made from a table in memory; its definition alone has no rows.",
        hint="Give it an [origin] that names a file.",
    )


def matching(folder: Path, pattern: str) -> list[Path]:
    """The files that a pattern names, in the order of their names."""
    path = Path(pattern)
    base = Path(path.anchor) if path.is_absolute() else folder
    return sorted(base.glob(str(path.relative_to(path.anchor) if path.is_absolute() else path)))
