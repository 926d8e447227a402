"""What takes more memory than is allowed goes to disk, in stretches by a hash of its keys, and comes back one stretch at a time.

All that has the same keys stands in one stretch, so each stretch is worked on by itself; no answer depends on the hash.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula import checked as c
from oak_ledger.formula.values import array_of, decimal_pairs, held, mask_of

STRETCHES = 32
_TAIL = 8  # characters at a text's end that its hash looks at, beside its length
_MIX = np.uint64(0x9E3779B97F4A7C15)
Hashes = npt.NDArray[np.uint64]


def room(rows: int, kind: Any, *, on_disk: bool) -> Any:
    """A NumPy array to be filled; on disk it is a file without a name, which goes when the array does."""
    if not on_disk or not rows:
        return np.empty(rows, kind)
    with tempfile.TemporaryFile(prefix="oak-") as file:
        return np.memmap(file, kind, "w+", shape=(rows,))


class Stretches:
    """Rows on disk; each in the stretch of its keys, in the order in which they came."""

    def __init__(self) -> None:
        self.folder = tempfile.TemporaryDirectory(prefix="oak-")
        self.writers: dict[int, Any] = {}

    def add(self, keys: Sequence[Any], columns: Sequence[Any]) -> None:
        """Write rows down: where they go is by the keys, what is written are the columns."""
        batch = pa.RecordBatch.from_arrays(list(columns), names=[str(at) for at in range(len(columns))])
        if not keys:
            self._write(0, batch)
            return
        hashes = np.zeros(batch.num_rows, np.uint64)
        for key in keys:
            hashes = (hashes ^ _hashes(key)) * _MIX
        stretch = ((hashes >> np.uint64(40)) % np.uint64(STRETCHES)).astype(np.uint8)
        order = np.argsort(stretch, kind="stable")
        edges = np.searchsorted(stretch[order], np.arange(STRETCHES + 1))
        batch = batch.take(array_of(order))
        for at in range(STRETCHES):
            if edges[at] < edges[at + 1]:
                self._write(at, batch.slice(edges[at], edges[at + 1] - edges[at]))

    def _write(self, stretch: int, batch: pa.RecordBatch) -> None:
        if stretch not in self.writers:
            self.writers[stretch] = pa.ipc.new_file(str(self._path(stretch)), batch.schema)
        self.writers[stretch].write_batch(batch)

    def _path(self, stretch: int) -> Path:
        return Path(self.folder.name) / f"{stretch}.arrow"

    def each(self) -> Iterator[list[pa.RecordBatch]]:
        """The rows again, stretch by stretch; each goes from the disk when the next is asked for."""
        for writer in self.writers.values():
            writer.close()
        for stretch in sorted(self.writers):
            with pa.memory_map(str(self._path(stretch))) as file:
                reader = pa.ipc.open_file(file)
                yield [reader.get_batch(number) for number in range(reader.num_record_batches)]
            self._path(stretch).unlink()
        self.close()

    def close(self) -> None:
        """Remove the files."""
        self.folder.cleanup()


def _hashes(values: Any) -> Hashes:
    """A number for each value, the same for equal ones; null has one, too."""
    kind = values.type
    if pa.types.is_string(kind):
        made = _text_hashes(values)
    elif pa.types.is_boolean(kind):
        made = mask_of(values).astype(np.uint64)
    elif pa.types.is_decimal(kind):
        made = decimal_pairs(values)[:, 0].astype(np.uint64)
    elif pa.types.is_floating(kind):
        made = (held(values).astype(np.float64) + 0.0).view(np.uint64).copy()  # -0.0 is 0.0
    else:
        made = held(values).astype(np.int64).view(np.uint64)
    if values.null_count:
        made[mask_of(pc.is_null(values))] = 0
    made *= _MIX
    return np.asarray(made ^ (made >> np.uint64(29)))


def _text_hashes(texts: Any) -> Hashes:
    edges = np.frombuffer(texts.buffers()[1], np.int32)[texts.offset : texts.offset + len(texts) + 1].astype(np.int64)
    data = np.frombuffer(texts.buffers()[2] or b"\0", np.uint8)
    lengths = np.diff(edges)
    made = lengths.astype(np.uint64)
    for back in range(1, _TAIL + 1):
        at = np.where(lengths >= back, edges[1:] - back, -1)
        made = made * np.uint64(257) + np.where(at >= 0, data[at] if len(data) else 0, 0).astype(np.uint64)
    return made


class GroupRuns:
    """Groups on disk: their keys, and the columns of their aggregates in parts."""

    def __init__(self) -> None:
        self.stretches = Stretches()
        self.keys = 0
        self.shape: list[tuple[c.Aggregate, list[bool]]] = []

    def add(self, keys: Sequence[Any], columns: Mapping[c.Aggregate, Sequence[Any]]) -> None:
        """Write groups down."""
        self.keys = len(keys)
        self.shape = [(node, [isinstance(one, np.ndarray) for one in each]) for node, each in columns.items()]
        laid = [array_of(one) if isinstance(one, np.ndarray) else one for each in columns.values() for one in each]
        self.stretches.add(keys, [*keys, *laid])

    def each(self) -> Iterator[list[tuple[list[Any], dict[c.Aggregate, list[Any]]]]]:
        """The groups again, stretch by stretch; in each, what was written down at a time."""
        for batches in self.stretches.each():
            yield [self._read(batch) for batch in batches]

    def _read(self, batch: pa.RecordBatch) -> tuple[list[Any], dict[c.Aggregate, list[Any]]]:
        rest = iter(batch.columns[self.keys :])
        laid = {node: [held(next(rest)) if numbers else next(rest) for numbers in each] for node, each in self.shape}
        return list(batch.columns[: self.keys]), laid

    def close(self) -> None:
        """Remove the files."""
        self.stretches.close()
