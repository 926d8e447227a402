"""Opening an origin for reading: each kind gives its columns with the types they arrive in, and gives batches."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from threading import Lock
from typing import Any, NamedTuple

import pyarrow as pa

from oak_ledger.engine.pool import ordered
from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.origin.csv import dialect
from oak_ledger.origin.csv.opened import digest_of, is_compressed, state_of
from oak_ledger.origin.csv.reader import Fragment, fragments
from oak_ledger.origin.one_of_many import own_spec
from oak_ledger.origin.reader import BadRow, Progress, shapes_of
from oak_ledger.origin.spec import ReadingSpec
from oak_ledger.types import TEXT, Type

FILE_COLUMN = "File"
_PART = re.compile(r"\{(?P<name>[^{}:]+)(?::(?P<width>[1-9][0-9]?))?\}")
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
                batch.column(name) if name in self.own else self._given(name, batch.num_rows) for name in self.columns
            ]
            yield pa.RecordBatch.from_arrays(arrays, names=list(self.columns)) if self.columns else batch

    def _given(self, name: str, rows: int) -> Any:
        return pa.repeat(pa.scalar(self.given.get(name), pa.string()), rows)


class _Looked(NamedTuple):
    """How a file is written, what of it the definition says in another way, and the names of its columns."""

    spec: ReadingSpec
    what: str
    names: tuple[str, ...]


MOST_LOOKED = 10_000
_LOOKED: dict[tuple[str, Any, str, tuple[str, ...]], _Looked] = {}
"""What was found in files: a definition is opened again for each edit, and its files are looked at once for each of their states."""


@dataclass(slots=True)
class FilesReader:
    """One delimited text file, or many of one shape read as one."""

    paths: list[Path]
    spec: ReadingSpec
    expected: Sequence[str] = ()
    """The columns that are read: where some are missing, the file may have another separator or header than the definition says."""
    counts: list[int] = field(default_factory=list)
    progress: Progress | None = None
    bad_rows: list[BadRow] = field(default_factory=list)
    lock: Any = field(default_factory=Lock, compare=False, repr=False)
    own: dict[Path, tuple[Any, _Looked]] = field(default_factory=dict)
    """How each file is written, with its state then."""
    said: str = ""
    """What the definition says of reading, to know what was looked at by it."""

    def __post_init__(self) -> None:
        self.said = self.spec.model_dump_json()

    def columns(self) -> dict[str, Type]:
        """The columns of the files (the first file's order), the parts of the name, and the file's name."""
        names: dict[str, Type] = {}
        for path in self.paths:
            names |= dict.fromkeys(self.names_in(path), TEXT)
        known = {name.casefold() for name in [*names, FILE_COLUMN]}
        for part in part_names(self.spec):
            if part.casefold() in known:
                hint = "Call the part otherwise in name_parts, or rename the column: renamed = { 'arriving' = 'name' }."
                raise UnusableInput(
                    "part-taken", f"The part {part!r} of the file's name is called as a column is.", hint=hint
                )
        names |= dict.fromkeys(part_names(self.spec), TEXT)
        if self.spec.kind == "files":
            names.setdefault(FILE_COLUMN, TEXT)
        return names

    def shapes(self) -> list[tuple[Path, list[str], list[str]]]:
        """Files whose columns differ from the first one's: the path, what is missing, what is there in addition."""
        return shapes_of(self.named())

    def named(self) -> list[tuple[Path, Sequence[str]]]:
        """The names that each file has."""
        return [(path, self.names_in(path)) for path in self.paths]

    def twice(self) -> list[tuple[Path, Path]]:
        """Files that hold the same bytes as another before them, compressed or not."""
        sizes = Counter(path.stat().st_size for path in self.paths)
        packed = any(is_compressed(path) for path in self.paths)
        seen: dict[str, Path] = {}
        found = []
        for path in self.paths:
            if len(self.paths) > 1 and (packed or sizes[path.stat().st_size] > 1):
                other = seen.setdefault(digest_of(path), path)
                found += [(path, other)] if other is not path else []
        return found

    def beside(self) -> list[Path]:
        """Files beside these that are newer than all of them, have the same ending and columns, and that the path does not name."""
        newest = max(path.stat().st_mtime_ns for path in self.paths)
        first = self.names_in(self.paths[0])
        paths = []
        for path in sorted(
            {one for here in {path.parent for path in self.paths} for one in here.iterdir()} - {*self.paths}
        ):
            if path.suffix == self.paths[0].suffix and path.is_file() and path.stat().st_mtime_ns > newest:
                try:
                    names = dialect.column_names(path, own_spec(path, self.spec, first)[0])
                except OakError:
                    continue
                paths += [path] if {*names} >= {*first} else []
        return paths

    def otherwise_written(self) -> list[tuple[Path, str]]:
        """Files that differ from what the definition says of reading, and in what."""
        described = [(path, self._own(path).what) for path in self.paths]
        return [(path, what) for path, what in described if what]

    def written(self, path: Path) -> ReadingSpec:
        """How a file is written."""
        return self._own(path).spec

    def given(self, path: Path) -> dict[str, str]:
        """The columns whose value comes from a file's name."""
        given = name_parts_of(self.spec, path)
        if self.spec.kind == "files":
            given.setdefault(FILE_COLUMN, path.name)
        return given

    def names_in(self, path: Path) -> list[str]:
        """The columns that a file has."""
        return [*self._own(path).names]

    def _own(self, path: Path) -> _Looked:
        state = state_of(path)
        known = self.own.get(path)
        if known is not None and known[0] == state is not None:
            return known[1]
        like = tuple(self.names_in(self.paths[0]) if path != self.paths[0] else self.expected)
        key = (str(path.resolve()), state, self.said, like)
        found = _LOOKED.get(key) if state is not None else None
        if found is None:
            spec, what = own_spec(path, self.spec, like)
            found = _Looked(spec, what, tuple(dialect.column_names(path, spec)))
            if len(_LOOKED) >= MOST_LOOKED:
                _LOOKED.clear()
            _LOOKED[key] = found
        self.own[path] = (state, found)
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
            given = self.given(path)
            there = self.names_in(path) if len(self.paths) > 1 else list(columns)
            own = [name for name in columns if name not in given and name in there]
            size = path.stat().st_size if path.exists() else 0
            if size > left and waiting:
                yield partial(_one_after_the_other, waiting)
                waiting, left = [], SMALL_BYTES
            left -= size
            for fragment in fragments(path, self.written(path), own, self.bad_rows.append):
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

    def locate(self, row: int) -> str:
        """The file and the row in it."""
        before = 0
        for path, count in zip(self.paths, self.counts, strict=False):
            if row <= before + count:
                return f"{path.name} row {row - before:,}"
            before += count
        return f"{self.paths[min(len(self.counts), len(self.paths) - 1)].name} row {row - before:,}"


def part_names(spec: ReadingSpec) -> list[str]:
    """The columns that come from the files' names."""
    return [match["name"] for match in _PART.finditer(spec.name_parts)]


def name_parts_of(spec: ReadingSpec, path: Path) -> dict[str, str]:
    """The parts of a file's name, by column."""
    if not spec.name_parts:
        return {}
    match = _name_pattern(spec.name_parts).fullmatch(path.name)
    if match is None:
        message = f"The file name {path.name} does not read as {spec.name_parts}."
        hint = "Change name_parts under [origin], or the path, so that they agree."
        raise UnusableInput("name-parts", message, hint=hint)
    return dict(zip(part_names(spec), match.groups(), strict=True))


def _name_pattern(text: str) -> re.Pattern[str]:
    """The pattern of a file's name: `{Year}` any characters, `{Year:4}` so many. Raises OakError where it would be open which part has which."""
    made, before = "", ""
    for piece in filter(None, re.split(r"(\{[^{}]+\}|\*)", text)):
        part = _PART.fullmatch(piece)
        free = piece == "*" or bool(part and not part["width"])
        if free and before:
            hint = "Say how long a part is, as in {Year:4}{Month:2}."
            raise OakError(
                "bad-pattern", f"In {text!r} nothing shows where {before} ends and {piece} begins.", hint=hint
            )
        if part:
            made += f"(.{{{part['width']}}})" if part["width"] else "(.+?)"
        else:
            made += ".*" if piece == "*" else re.escape(piece)
        before = piece if free else before if part else ""
    return re.compile(made)


def matching(folder: Path, pattern: str) -> list[Path]:
    """The files that a pattern names, in the order of their names."""
    path = Path(pattern)
    base = Path(path.anchor) if path.is_absolute() else folder
    return sorted(base.glob(str(path.relative_to(path.anchor) if path.is_absolute() else path)))
