"""Rows to groups: dense group numbers from key columns, and aggregates over them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.library.registry import MISSING, Recorder, Run
from oak_ledger.formula.values import Mask, mask_of

_LIMIT = 2**62


def encode(values: Any) -> tuple[np.ndarray[Any, np.dtype[np.int64]], Any]:
    """A number for each different value (null is one of them), and the values by number."""
    if pa.types.is_floating(values.type):
        values = pc.add(values, 0.0)  # so that -0.0 and 0.0 are one value
    encoded = values.dictionary_encode(null_encoding="encode")
    return encoded.indices.to_numpy(zero_copy_only=False).astype(np.int64), encoded.dictionary


def group(keys: Sequence[Any], rows: int) -> tuple[Groups, list[Any]]:
    """The group of each row, and each key's value per group. Without keys all rows are one group."""
    if not keys:
        return Groups(np.zeros(rows, np.int64), 1), []
    codes, _ = encode(keys[0])
    cardinality = int(codes.max(initial=0)) + 1
    for key in keys[1:]:
        more, _ = encode(key)
        size = int(more.max(initial=0)) + 1
        if cardinality * size >= _LIMIT:
            _, codes = np.unique(codes, return_inverse=True)
            cardinality = int(codes.max(initial=0)) + 1
        codes, cardinality = codes * size + more, cardinality * size
    _, first, dense = np.unique(codes, return_index=True, return_inverse=True)
    index = pa.array(first)
    return Groups(dense.astype(np.int64), len(first)), [key.take(index) for key in keys]


def aggregate(
    node: c.Aggregate,
    args: Sequence[Any],
    where: Any | None,
    groups: Groups,
    record: Recorder,
    order: Sequence[Any] = (),
) -> Any:
    """One aggregate by group: its filter and its `DISTINCT` first, then its own implementation."""
    if where is not None:
        keep = mask_of(where)
        groups = groups.where(keep)
        args = [arg.filter(pa.array(keep)) for arg in args]
        order = [key.filter(pa.array(keep)) for key in order]
    if node.distinct and args:
        keep = _first_of_each(args[0], groups)
        groups = groups.where(keep)
        args = [arg.filter(pa.array(keep)) for arg in args]
        order = [key.filter(pa.array(keep)) for key in order]
    constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
    run = Run(groups.count, [arg.type for arg in node.args], node.type, constants, record)
    if node.function.ordered:
        keys = [(values, key.descending, key.nulls_first) for values, key in zip(order, node.order, strict=True)]
        return node.function.run(run, *args, groups, keys)
    return node.function.run(run, args[0] if args else None, *args[1:], groups)


def _first_of_each(values: Any, groups: Groups) -> Mask:
    """Where a value stands for the first time in its group."""
    codes, different = encode(values)
    _, first = np.unique(groups.codes * max(len(different), 1) + codes, return_index=True)
    keep = np.zeros(len(codes), np.bool_)
    keep[first] = True
    return keep
