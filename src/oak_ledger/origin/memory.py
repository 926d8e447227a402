"""Tables in memory."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.formula import Grain, Known
from oak_ledger.origin.reader import BATCH_ROWS, BadRow, OriginReader, TypedReader, row_count_batch
from oak_ledger.types import Type


@dataclass(slots=True)
class TableReader(TypedReader):
    """An Arrow table in memory."""

    table: pa.Table
    bad_rows: list[BadRow] = field(default_factory=list)
    cut: set[str] = field(default_factory=set)
    garbled: dict[str, set[int]] = field(default_factory=dict)

    def schema(self) -> pa.Schema:
        """The table's."""
        return self.table.schema

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        types, first = self.columns(), 1
        kinds = {name: arrow_type(types[name]) for name in columns}
        for whole in self.table.to_batches(max_chunksize=BATCH_ROWS):  # cut alike whichever columns are read
            yield self.converted(whole.select([*columns]), kinds, first) if columns else row_count_batch(len(whole))
            first += len(whole)

    def locate(self, row: int) -> str:
        """Nothing better than the number."""
        return ""


@dataclass(slots=True)
class RenamedReader:
    """A reader whose columns have other names: new ones by which they are asked for, with the ones that they have."""

    reader: OriginReader
    names: Mapping[str, str]
    bad_rows: list[BadRow] = field(init=False)

    def __post_init__(self) -> None:
        self.bad_rows = self.reader.bad_rows

    def columns(self) -> dict[str, Type]:
        """The columns under their new names."""
        back = {old: new for new, old in self.names.items()}
        return {back.get(name, name): kind for name, kind in self.reader.columns().items()}

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows in order, with these columns."""
        for batch in self.reader.batches([self.names.get(name, name) for name in columns]):
            yield batch.rename_columns(list(columns)) if columns else batch

    def locate(self, row: int) -> str:
        """Where a row is, as the reader says."""
        return self.reader.locate(row)


@dataclass(frozen=True, slots=True)
class ColumnNames:
    """The names that a formula over columns as they arrive may use."""

    kinds: Mapping[str, Type]

    def find(self, name: str) -> Known | None:
        """What a name means."""
        found = next((kind for kind in self.kinds if kind.casefold() == name.casefold()), None)
        return None if found is None else Known(found, self.kinds[found], Grain.ROW, "column")

    def names(self) -> Sequence[str]:
        """All names."""
        return [*self.kinds]

    def advice(self, _name: str) -> str:
        """Nothing more is known."""
        return ""

    def baseline_key(self) -> None:
        """There is no earlier state."""
