"""Opening an origin for reading: each kind tells its columns with the types they arrive in, and gives batches."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from threading import Lock
from typing import Any

import pyarrow as pa

from oak_ledger.engine.pool import ordered
from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.origin.csv import sniff
from oak_ledger.origin.csv.reader import Fragment, fragments
from oak_ledger.origin.reader import BadRow, Progress
from oak_ledger.origin.spec import ReadingSpec
from oak_ledger.types import TEXT, Type

FILE_COLUMN = "File"
READING_THREADS = 2  # threads that read while another looks at what was read
SMALL_BYTES = 1 << 20  # bytes of small files that are read one after the other, as one


def _one_after_the_other(some: Sequence[Fragment]) -> Iterator[pa.RecordBatch]:
    """Several fragmentes as one."""
    for fragment in some:
        yield from fragment()


@dataclass(frozen=True, slots=True)
class _CompletedFragment:
    """The rows of a fragment, counted, with the columns that the file itself does not have."""

    fragment: Fragment
    count: Callable[[int], None]
    given: Mapping[str, str]
    own: Sequence[str]
    columns: Sequence[str]

    def __call__(self) -> Iterator[pa.RecordBatch]:
        """As batches."""
        for batch in self.fragment():
            self.count(batch.num_rows)
            arrays = [
                batch.column(name) if name in self.own else self._told(name, batch.num_rows) for name in self.columns
            ]
            yield pa.RecordBatch.from_arrays(arrays, names=list(self.columns)) if self.columns else batch

    def _told(self, name: str, rows: int) -> Any:
        return pa.repeat(pa.scalar(self.given.get(name), pa.string()), rows)


@dataclass(slots=True)
class FilesReader:
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
            names |= dict.fromkeys(sniff.column_names(path, self.spec), TEXT)
        names |= dict.fromkeys(self.part_names(), TEXT)
        if self.spec.kind == "files":
            names.setdefault(FILE_COLUMN, TEXT)
        return names

    def shapes(self) -> list[tuple[Path, list[str], list[str]]]:
        """Files whose columns differ from the first one's: the path, what is missing, what is there besides."""
        first = sniff.column_names(self.paths[0], self.spec)
        found = []
        for path in self.paths[1:]:
            names = sniff.column_names(path, self.spec)
            missing, more = [one for one in first if one not in names], [one for one in names if one not in first]
            if missing or more:
                found.append((path, missing, more))
        return found

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, file after file, as text. A column that a file does not have is null in its rows."""
        for found in ordered(lambda fragment: list(fragment()), self.fragments(columns), READING_THREADS):
            yield from found

    def fragments(self, columns: Sequence[str]) -> Iterator[Fragment]:
        """The same rows in parts that several threads can read; small files go together."""
        self.counts[:] = [0] * len(self.paths)
        self.bad_rows.clear()
        waiting: list[Fragment] = []
        left = SMALL_BYTES
        for number, path in enumerate(self.paths):
            given = self.parts(path)
            if self.spec.kind == "files":
                given.setdefault(FILE_COLUMN, path.name)
            there = sniff.column_names(path, self.spec) if len(self.paths) > 1 else list(columns)
            own = [name for name in columns if name not in given and name in there]
            size = path.stat().st_size if path.exists() else 0
            if size > left and waiting:
                yield partial(_one_after_the_other, waiting)
                waiting, left = [], SMALL_BYTES
            left -= size
            for fragment in fragments(path, self.spec, own, self.bad_rows.append):
                made = _CompletedFragment(fragment, partial(self._count, number), given, own, columns)
                if size > SMALL_BYTES:
                    yield made
                else:
                    waiting.append(made)
        if waiting:
            yield partial(_one_after_the_other, waiting)

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

    def locate(self, row: int) -> str:
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


def matching(folder: Path, pattern: str) -> list[Path]:
    """The files that a pattern names, in the order of their names."""
    path = Path(pattern)
    base = Path(path.anchor) if path.is_absolute() else folder
    return sorted(base.glob(str(path.relative_to(path.anchor) if path.is_absolute() else path)))
