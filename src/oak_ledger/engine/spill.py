"""What takes more memory than is allowed goes to disk, in partitions by a hash of its keys, and comes back one partition at a time.

All that has the same keys is in one partition, so each partition is worked on by itself; no answer depends on the hash.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask
from oak_ledger.columnar.decimals import decimal_pairs
from oak_ledger.formula import checked as c

N_PARTITIONS = 32
_TAIL = 8  # characters at a text's end that its hash looks at, beside its length
_MIX = np.uint64(0x9E3779B97F4A7C15)
Hashes = npt.NDArray[np.uint64]
RowIndexes = npt.NDArray[np.int64]


def scratch_array(rows: int, kind: Any, *, on_disk: bool) -> Any:
    """A NumPy array to be filled; on disk it is a file without a name, which goes when the array does."""
    if not on_disk or not rows:
        return np.empty(rows, kind)
    with tempfile.TemporaryFile(prefix="oak-") as file:
        return np.memmap(file, kind, "w+", shape=(rows,))


class SpillPartitions:
    """Rows on disk; each in the partition of its keys, in the order in which they came."""

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
        partition = ((hashes >> np.uint64(40)) % np.uint64(N_PARTITIONS)).astype(np.uint8)
        order = np.argsort(partition, kind="stable")
        edges = np.searchsorted(partition[order], np.arange(N_PARTITIONS + 1))
        batch = batch.take(from_numpy(order))
        for at in range(N_PARTITIONS):
            if edges[at] < edges[at + 1]:
                self._write(at, batch.slice(edges[at], edges[at + 1] - edges[at]))

    def _write(self, partition: int, batch: pa.RecordBatch) -> None:
        if partition not in self.writers:
            self.writers[partition] = pa.ipc.new_file(str(self._path(partition)), batch.schema)
        self.writers[partition].write_batch(batch)

    def _path(self, partition: int) -> Path:
        return Path(self.folder.name) / f"{partition}.arrow"

    def each(self) -> Iterator[list[pa.RecordBatch]]:
        """The rows again, partition by partition; each goes from the disk when the next is asked for."""
        for writer in self.writers.values():
            writer.close()
        for partition in sorted(self.writers):
            with pa.memory_map(str(self._path(partition))) as file:
                reader = pa.ipc.open_file(file)
                yield [reader.get_batch(number) for number in range(reader.num_record_batches)]
            self._path(partition).unlink()
        self.close()

    def close(self) -> None:
        """Remove the files."""
        self.folder.cleanup()


def _hashes(values: Any) -> Hashes:
    """A number for each value, the same for equal ones; null has one, too."""
    kind = values.type
    if pa.types.is_string(kind):
        array = _text_hashes(values)
    elif pa.types.is_boolean(kind):
        array = to_mask(values).astype(np.uint64)
    elif pa.types.is_decimal(kind):
        array = decimal_pairs(values)[:, 0].astype(np.uint64)
    elif pa.types.is_floating(kind):
        array = (numpy_view(values).astype(np.float64) + 0.0).view(np.uint64).copy()  # -0.0 is 0.0
    else:
        array = numpy_view(values).astype(np.int64).view(np.uint64)
    if values.null_count:
        array[to_mask(pc.is_null(values))] = 0
    array *= _MIX
    return np.asarray(array ^ (array >> np.uint64(29)))


def _text_hashes(texts: Any) -> Hashes:
    edges = np.frombuffer(texts.buffers()[1], np.int32)[texts.offset : texts.offset + len(texts) + 1].astype(np.int64)
    data = np.frombuffer(texts.buffers()[2] or b"\0", np.uint8)
    lengths = np.diff(edges)
    array = lengths.astype(np.uint64)
    for back in range(1, _TAIL + 1):
        at = np.where(lengths >= back, edges[1:] - back, -1)
        array = array * np.uint64(257) + np.where(at >= 0, data[at] if len(data) else 0, 0).astype(np.uint64)
    return array


class SpilledGroups:
    """Groups on disk: their keys, and the columns of their aggregates in parts."""

    def __init__(self) -> None:
        self.partitions = SpillPartitions()
        self.keys = 0
        self.shape: list[tuple[c.Aggregate, list[bool]]] = []

    def add(self, keys: Sequence[Any], columns: Mapping[c.Aggregate, Sequence[Any]]) -> None:
        """Write groups down."""
        self.keys = len(keys)
        self.shape = [(node, [isinstance(one, np.ndarray) for one in each]) for node, each in columns.items()]
        count = len(keys[0])
        filled = [
            from_numpy(one if len(one) == count else np.zeros(count, one.dtype)) if isinstance(one, np.ndarray) else one
            for each in columns.values()
            for one in each
        ]
        self.partitions.add(keys, [*keys, *filled])

    def each(self) -> Iterator[list[tuple[list[Any], dict[c.Aggregate, list[Any]]]]]:
        """The groups again, partition by partition; in each, what was written down at a time."""
        for batches in self.partitions.each():
            yield [self._read(batch) for batch in batches]

    def _read(self, batch: pa.RecordBatch) -> tuple[list[Any], dict[c.Aggregate, list[Any]]]:
        rest = iter(batch.columns[self.keys :])
        laid = {
            node: [numpy_view(next(rest)) if numbers else next(rest) for numbers in each] for node, each in self.shape
        }
        return list(batch.columns[: self.keys]), laid

    def close(self) -> None:
        """Remove the files."""
        self.partitions.close()


def _wide(schema: pa.Schema) -> pa.Schema:
    """The same for all batches of a file: whole numbers may be held in fewer bytes in some of them."""
    return pa.schema([one.with_type(pa.int64()) if pa.types.is_integer(one.type) else one for one in schema])


@dataclass(slots=True)
class SpillBuffer:
    """Columns of values beside the group of each; `limit` in bytes is what is held in memory."""

    limit: int
    size: int = 0
    in_memory: int = 0
    parts: list[int] = field(default_factory=list)
    waiting: list[tuple[RowIndexes, Sequence[Any]]] = field(default_factory=list)
    folder: Any = None
    writer: Any = None

    @property
    def spilled(self) -> bool:
        """Whether there is a file."""
        return self.folder is not None

    def add(self, part: int, codes: RowIndexes, columns: Sequence[Any]) -> None:
        """Keep some rows, with the number of the part that their groups are counted in."""
        self.parts.append(part)
        self.waiting.append((np.ascontiguousarray(codes), columns))
        size = codes.nbytes + sum(column.nbytes for column in columns)
        self.size += size
        self.in_memory += size
        if self.in_memory > self.limit:
            self._spill()

    def _spill(self) -> None:
        for codes, columns in self.waiting:
            names = [str(at) for at in range(len(columns) + 1)]
            batch = pa.RecordBatch.from_arrays([from_numpy(codes), *columns], names=names)
            if self.folder is None:
                self.folder = tempfile.TemporaryDirectory(prefix="oak-")
                self.writer = pa.ipc.new_file(str(self._path()), _wide(batch.schema))
            self.writer.write_batch(batch.cast(_wide(batch.schema)))
        self.waiting, self.in_memory = [], 0

    def _path(self) -> Path:
        return Path(self.folder.name) / "values.arrow"

    def chunks(self) -> Iterator[tuple[int, RowIndexes, list[Any]]]:
        """All rows again, in their order."""
        for part, (codes, columns) in zip(self.parts, self._kept(), strict=True):
            yield part, codes, [*columns]

    def _kept(self) -> Iterator[tuple[RowIndexes, Sequence[Any]]]:
        if self.writer is not None:
            self.writer.close()
            self.writer = None
        if self.folder is not None:
            with pa.memory_map(str(self._path())) as file:
                reader = pa.ipc.open_file(file)
                for at in range(reader.num_record_batches):
                    batch = reader.get_batch(at)
                    yield numpy_view(batch.column(0)), batch.columns[1:]
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
