"""Tables in memory."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import pyarrow as pa

from oak_ledger.origin.reader import BATCH_ROWS, BadRow, normalized_batch, row_count_batch, supported_columns
from oak_ledger.types import Type


@dataclass(slots=True)
class TableReader:
    """An Arrow table in memory."""

    table: pa.Table
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        return supported_columns(self.table.schema)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        if not columns:
            yield row_count_batch(self.table.num_rows)
            return
        kinds = self.columns()
        for batch in self.table.select(list(columns)).to_batches(max_chunksize=BATCH_ROWS):
            yield normalized_batch(batch, kinds)

    def locate(self, row: int) -> str:
        """Nothing better than the number."""
        return ""
