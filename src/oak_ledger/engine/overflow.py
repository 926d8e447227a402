"""Very many groups: when they take more memory than is allowed they go to disk, in stretches of a key, and come back one stretch at a time.

A group stands in one stretch only, so each stretch is put together by itself; no answer depends on where the cuts are.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula import checked as c
from oak_ledger.formula.values import array_of, held, mask_of

STRETCHES = 16
_SAMPLE = 20_000
Columns = Mapping[c.Aggregate, Sequence[Any]]


class GroupRuns:
    """Groups on disk: their keys, and the columns of their aggregates in parts."""

    def __init__(self) -> None:
        self.folder = tempfile.TemporaryDirectory(prefix="oak-")
        self.key = 0
        self.cuts: list[Any] = []
        self.shape: list[tuple[c.Aggregate, list[bool]]] = []
        self.writers: list[Any] = []

    def add(self, keys: Sequence[Any], columns: Columns) -> None:
        """Write groups down."""
        laid = [array_of(one) if isinstance(one, np.ndarray) else one for each in columns.values() for one in each]
        batch = pa.RecordBatch.from_arrays([*keys, *laid], names=[str(at) for at in range(len(keys) + len(laid))])
        if not self.writers:
            self.shape = [(node, [isinstance(one, np.ndarray) for one in each]) for node, each in columns.items()]
            self._choose(keys)
            self.writers = [pa.ipc.new_file(str(self._path(at)), batch.schema) for at in range(len(self.cuts) + 1)]
        values = keys[self.key]
        stretch = np.zeros(len(values), np.int8)
        for cut in self.cuts:
            stretch += mask_of(pc.greater_equal(values, cut))
        for at, writer in enumerate(self.writers):
            writer.write_batch(batch.filter(array_of(stretch == at)))

    def _choose(self, keys: Sequence[Any]) -> None:
        """The key with the most different values, and where it is cut."""
        samples = [key.slice(0, _SAMPLE).drop_null().unique() for key in keys]
        self.key = int(np.argmax([len(one) for one in samples]))
        sample = samples[self.key]
        ordered = sample.take(pc.sort_indices(sample))
        places = np.linspace(0, len(ordered), STRETCHES + 1).astype(int)[1:-1]
        self.cuts = [ordered[int(at)] for at in np.unique(places[places < len(ordered)])]

    def _path(self, stretch: int) -> Path:
        return Path(self.folder.name) / f"{stretch}.arrow"

    def stretches(self) -> Iterator[Iterator[tuple[list[Any], dict[c.Aggregate, list[Any]]]]]:
        """The groups again, stretch by stretch; in each, what was written down at a time."""
        for writer in self.writers:
            writer.close()
        for at in range(len(self.writers)):
            with pa.memory_map(str(self._path(at))) as file:
                yield self._batches(pa.ipc.open_file(file))
            self._path(at).unlink()

    def _batches(self, reader: Any) -> Iterator[tuple[list[Any], dict[c.Aggregate, list[Any]]]]:
        keys = len(reader.schema) - sum(len(each) for _, each in self.shape)
        for number in range(reader.num_record_batches):
            columns = list(reader.get_batch(number).columns)
            rest = iter(columns[keys:])
            laid = {
                node: [held(next(rest)) if numbers else next(rest) for numbers in each] for node, each in self.shape
            }
            yield columns[:keys], laid

    def close(self) -> None:
        """Remove the files."""
        self.folder.cleanup()
