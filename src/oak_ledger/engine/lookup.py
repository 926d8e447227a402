"""Values of an earlier state, found by key: what `BEFORE` takes for a row or a group."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view

MAX_PACKED_KEY = 2**62


class KeyLookup:
    """The values that something had, each under its key; a key that is not there gives null. Null is a key like others."""

    def __init__(self, keys: Sequence[Any], values: Any) -> None:
        """`keys` are arrays, one for each part of the key; `values` one array of the same length."""
        self._parts = [_whole(key).unique() for key in keys]
        self._values = _whole(values)
        self._keys = from_numpy(self._codes([_whole(key) for key in keys], len(self._values)))

    @property
    def repeated(self) -> int | None:
        """The first position whose key stood before; None where all keys differ."""
        codes = numpy_view(self._keys)
        _, first = np.unique(codes, return_index=True)
        rest = np.setdiff1d(np.arange(len(codes)), first, assume_unique=True)
        return int(rest[0]) if len(rest) else None

    def find(self, keys: Sequence[Any], rows: int) -> Any:
        """The value for each of so many keys."""
        if not keys:
            return self._values.take(from_numpy(np.zeros(rows, np.int64)))
        return self._values.take(pc.index_in(from_numpy(self._codes([_whole(key) for key in keys], rows)), self._keys))

    def _codes(self, keys: Sequence[Any], rows: int) -> Any:
        """One number for each key; -1 where a part of it is not known."""
        codes, unknown = np.zeros(rows, np.int64), np.zeros(rows, np.bool_)
        size = 1
        for key, part in zip(keys, self._parts, strict=True):
            at = numpy_view(pc.fill_null(pc.index_in(key.cast(part.type), part), -1))
            size *= len(part) + 1
            if size >= MAX_PACKED_KEY:
                raise OverflowError("the keys of the earlier state are too many to number")
            codes, unknown = codes * (len(part) + 1) + at, unknown | (at < 0)
        return np.where(unknown, -1, codes)


def _whole(values: Any) -> Any:
    return values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values
