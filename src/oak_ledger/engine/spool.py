"""Values kept for the end of a question: in memory up to a limit, then in an Arrow file in a temporary folder."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.formula.values import array_of, held

Rows = npt.NDArray[np.int64]


def _wide(schema: pa.Schema) -> pa.Schema:
    """The same for all batches of a file: whole numbers may be held in fewer bytes in some of them."""
    return pa.schema([one.with_type(pa.int64()) if pa.types.is_integer(one.type) else one for one in schema])


@dataclass(slots=True)
class Spool:
    """Columns of values beside the group of each; `limit` in bytes is what is held in memory."""

    limit: int
    size: int = 0
    held_size: int = 0
    parts: list[int] = field(default_factory=list)
    waiting: list[tuple[Rows, Sequence[Any]]] = field(default_factory=list)
    folder: Any = None
    writer: Any = None

    @property
    def spilled(self) -> bool:
        """Whether there is a file."""
        return self.folder is not None

    def add(self, part: int, codes: Rows, columns: Sequence[Any]) -> None:
        """Keep some rows, with the number of the part that their groups are counted in."""
        self.parts.append(part)
        self.waiting.append((np.ascontiguousarray(codes), columns))
        size = codes.nbytes + sum(one.nbytes for one in columns)
        self.size += size
        self.held_size += size
        if self.held_size > self.limit:
            self._spill()

    def _spill(self) -> None:
        for codes, columns in self.waiting:
            names = [str(at) for at in range(len(columns) + 1)]
            batch = pa.RecordBatch.from_arrays([array_of(codes), *columns], names=names)
            if self.folder is None:
                self.folder = tempfile.TemporaryDirectory(prefix="oak-")
                self.writer = pa.ipc.new_file(str(self._path()), _wide(batch.schema))
            self.writer.write_batch(batch.cast(_wide(batch.schema)))
        self.waiting, self.held_size = [], 0

    def _path(self) -> Path:
        return Path(self.folder.name) / "values.arrow"

    def chunks(self) -> Iterator[tuple[int, Rows, list[Any]]]:
        """All rows again, in their order."""
        for part, (codes, columns) in zip(self.parts, self._kept(), strict=True):
            yield part, codes, [*columns]

    def _kept(self) -> Iterator[tuple[Rows, Sequence[Any]]]:
        if self.writer is not None:
            self.writer.close()
            self.writer = None
        if self.folder is not None:
            with pa.memory_map(str(self._path())) as file:
                reader = pa.ipc.open_file(file)
                for at in range(reader.num_record_batches):
                    batch = reader.get_batch(at)
                    yield held(batch.column(0)), batch.columns[1:]
        yield from self.waiting

    def ranges(self, groups: int) -> list[tuple[int, int]]:
        """Ranges of groups, so many that the values of each fit in memory (if groups are about alike)."""
        pieces = min(max(-(-2 * self.size // self.limit) if self.spilled else 1, 1), max(groups, 1))
        edges = np.linspace(0, groups, pieces + 1).astype(int).tolist()
        return list(pairwise(edges))

    def close(self) -> None:
        """Remove the file."""
        if self.writer is not None:
            self.writer.close()
        if self.folder is not None:
            self.folder.cleanup()
