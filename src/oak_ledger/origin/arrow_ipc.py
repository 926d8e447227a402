"""Arrow files (also called Feather)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import pyarrow as pa

from oak_ledger.origin.reader import BadRow, normalized_batch, opening, row_count_batch, supported_columns
from oak_ledger.types import Type


@dataclass(slots=True)
class ArrowReader:
    """An Arrow file (also called Feather)."""

    path: Path
    bad_rows: list[BadRow] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """The columns whose type the language knows."""
        with opening(pa.ipc.open_file, self.path) as file:
            return supported_columns(file.schema)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        kinds = self.columns()
        with opening(pa.ipc.open_file, self.path) as file:
            for at in range(file.num_record_batches):
                batch = file.get_batch(at)
                yield (
                    normalized_batch(batch.select(list(columns)), kinds) if columns else row_count_batch(batch.num_rows)
                )

    def locate(self, row: int) -> str:
        """Nothing better than the number."""
        return ""
