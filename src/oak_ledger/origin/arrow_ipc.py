"""Arrow files (also called Feather)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.origin.reader import BadRow, TypedReader, opening, row_count_batch, schema_of, unreadable


@dataclass(slots=True)
class ArrowReader(TypedReader):
    """An Arrow file (also called Feather)."""

    path: Path
    bad_rows: list[BadRow] = field(default_factory=list)
    cut: set[str] = field(default_factory=set)
    garbled: dict[str, set[int]] = field(default_factory=dict)

    def schema(self) -> pa.Schema:
        """The file's."""
        return schema_of(lambda path: pa.ipc.open_file(path).schema, self.path)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, as the language holds values."""
        types, first = self.columns(), 1
        kinds = {name: arrow_type(types[name]) for name in columns}
        with opening(pa.ipc.open_file, self.path) as file:
            for at in range(file.num_record_batches):
                try:
                    batch = file.get_batch(at)
                    batch.validate()
                except (pa.ArrowException, OSError) as error:
                    raise unreadable(self.path, error) from error
                yield self.converted(batch, kinds, first) if columns else row_count_batch(batch.num_rows)
                first += batch.num_rows

    def locate(self, row: int) -> str:
        """Nothing better than the number."""
        return ""
