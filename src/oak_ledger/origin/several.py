"""Several workbooks, Parquet, Arrow or JSON files of one shape, read as one: each row knows its file."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.errors import UnusableInput
from oak_ledger.origin.files import FILE_COLUMN, name_parts_of, part_names
from oak_ledger.origin.reader import BadRow, OriginReader, row_count_batch, shapes_of
from oak_ledger.origin.spec import ReadingSpec
from oak_ledger.types import INTEGER, NUMBER, TEXT, Type


@dataclass(slots=True)
class SeveralReader:
    """Files that are each read by a reader of their own; columns are found by name, letter case aside."""

    paths: Sequence[Path]
    spec: ReadingSpec
    opened: Callable[[Path], OriginReader]
    bad_rows: list[BadRow] = field(default_factory=list)
    readers: list[OriginReader] = field(default_factory=list)
    kinds: dict[str, Type] = field(default_factory=dict)
    counts: list[int] = field(default_factory=list)

    def _load(self) -> None:
        if self.readers:
            return
        self.readers = [self.opened(path) for path in self.paths]
        for path, reader in zip(self.paths, self.readers, strict=True):
            for name, kind in reader.columns().items():
                known = self._known(name)
                self.kinds[known] = _together(self.kinds[known], kind) if known in self.kinds else kind
            for part in part_names(self.spec):
                if self._known(part) in reader.columns():
                    raise UnusableInput(
                        "part-taken", f"The part {part!r} of the file's name is called as a column of {path.name} is."
                    )
        self.kinds |= dict.fromkeys([*part_names(self.spec), FILE_COLUMN], TEXT)

    def _known(self, name: str) -> str:
        return next((known for known in self.kinds if known.casefold() == name.casefold()), name)

    def columns(self) -> dict[str, Type]:
        """The columns of all files, the parts of their names, and the file's name."""
        self._load()
        return self.kinds

    def shapes(self) -> list[tuple[Path, list[str], list[str]]]:
        """Files whose columns differ from the first one's: the path, what is missing, what is there in addition."""
        return shapes_of(self.named())

    def named(self) -> list[tuple[Path, Sequence[str]]]:
        """The names that each file has."""
        self._load()
        named = [[self._known(name) for name in reader.columns()] for reader in self.readers]
        return [*zip(self.paths, named, strict=True)]

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, file after file. A column that a file does not have is null in its rows."""
        self._load()
        self.bad_rows.clear()
        self.counts[:] = [0] * len(self.paths)
        for at, (path, reader) in enumerate(zip(self.paths, self.readers, strict=True)):
            given = {FILE_COLUMN: path.name, **name_parts_of(self.spec, path)}
            own = {self._known(name): name for name in reader.columns()}
            for batch in reader.batches([own[name] for name in columns if name in own]):
                self.counts[at] += batch.num_rows
                values = [self._column(name, batch, own, given) for name in columns]
                yield (
                    pa.RecordBatch.from_arrays(values, names=[*columns]) if columns else row_count_batch(batch.num_rows)
                )
            self.bad_rows += reader.bad_rows

    def _column(self, name: str, batch: pa.RecordBatch, own: dict[str, str], given: dict[str, str]) -> Any:
        kind = arrow_type(self.kinds[name])
        if name not in own:
            return pa.repeat(pa.scalar(given.get(name), kind), batch.num_rows)
        values = batch.column(own[name])
        return values.dictionary_decode().cast(kind) if pa.types.is_dictionary(values.type) else values.cast(kind)

    def locate(self, row: int) -> str:
        """The file and the row in it."""
        for reader, count in zip(self.readers, self.counts, strict=False):
            if row <= count:
                return reader.locate(row)
            row -= count
        return ""


def _together(kind: Type, other: Type) -> Type:
    """The type for values of two types: text where they have nothing in common."""
    if kind == other:
        return kind
    if {kind, other} == {INTEGER, NUMBER}:
        return NUMBER
    if kind.kind == other.kind == "decimal":
        return kind if kind.scale > other.scale else other
    return TEXT
