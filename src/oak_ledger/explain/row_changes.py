"""Rows of two states side by side: which came, which went, and which have other values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import numpy_view
from oak_ledger.engine.lookup import KeyLookup
from oak_ledger.errors import OakError


@dataclass(frozen=True, slots=True)
class RowChanges:
    """The rows of `after` that came, those of `before` that went, and those with other values: both sides in the same order.

    `columns` are those that differ in any row that is in both; empty without a key, when a changed row is one that went and one that came.
    """

    key: tuple[str, ...]
    came: pa.Table
    went: pa.Table
    changed_before: pa.Table
    changed_after: pa.Table
    columns: tuple[str, ...]

    @property
    def rows(self) -> int:
        """How many rows differ."""
        return int(self.came.num_rows + self.went.num_rows + self.changed_after.num_rows)

    def side_by_side(self) -> pa.Table:
        """The rows with other values: the key, then each column that differs as it was and as it is."""
        parts = {name: self.changed_after.column(name) for name in self.key}
        for name in self.columns:
            parts |= {
                f"{name}, before": self.changed_before.column(name),
                f"{name}, now": self.changed_after.column(name),
            }
        return pa.table(parts)


def row_changes(before: pa.Table, after: pa.Table, key: Sequence[str] = ()) -> RowChanges:
    """Compare two tables with the same columns, row by row where they have a key, else by whole rows.

    Raises OakError where the key is not different in every row.
    """
    if not key:
        return RowChanges((), _more(after, before), _more(before, after), after.slice(0, 0), after.slice(0, 0), ())
    place = _found(before, after, key, "before")
    _found(after, before, key, "now")
    there = ~np.isnan(place)
    went = np.ones(before.num_rows, np.bool_)
    went[place[there].astype(np.int64)] = False
    both_after = after.filter(pa.array(there))
    both_before = before.take(pa.array(place[there].astype(np.int64)))
    differs = np.zeros(both_after.num_rows, np.bool_)
    columns = []
    for name in after.schema.names:
        if name in key:
            continue
        own = _differs(both_before.column(name), both_after.column(name))
        if own.any():
            columns.append(name)
            differs |= own
    mask = pa.array(differs)
    return RowChanges(
        tuple(key), after.filter(pa.array(~there)), before.filter(pa.array(went)), both_before.filter(mask), both_after.filter(mask), tuple(columns),
    )  # fmt: skip


def _found(table: pa.Table, other: pa.Table, key: Sequence[str], when: str) -> np.ndarray:
    """Where each row of `other` is in `table`, by its key; NaN where it is not."""
    lookup = KeyLookup([table.column(name) for name in key], pa.array(np.arange(table.num_rows, dtype=np.float64)))
    if lookup.repeated is not None:
        shown = ", ".join(str(table.column(name)[lookup.repeated].as_py()) for name in key)
        raise OakError("baseline-key-repeats", f"The key {', '.join(key)} is in more than one row {when}, such as {shown}.", hint="oak field key SOURCE FIELD… names fields that are different in every row.")  # fmt: skip
    found = lookup.find([other.column(name) for name in key], other.num_rows)
    return np.asarray(pc.fill_null(found, float("nan")), dtype=np.float64)


def _differs(left: pa.ChunkedArray, right: pa.ChunkedArray) -> np.ndarray:
    """Where two columns have different values; null is a value like others."""
    try:
        both = pc.fill_null(pc.not_equal(left, right), False)
    except (
        pa.ArrowInvalid,
        pa.ArrowNotImplementedError,
    ):  # of kinds that cannot be compared: they differ unless they read the same
        both = pc.fill_null(pc.not_equal(left.cast(pa.string()), right.cast(pa.string())), False)
    return np.asarray(
        pc.or_(both, pc.xor(pc.is_null(left), pc.is_null(right))).combine_chunks().to_numpy(zero_copy_only=False)
    )


def _more(table: pa.Table, other: pa.Table) -> pa.Table:
    """The rows of a table that another has not, or has less often."""
    names = table.schema.names
    if not names or not table.num_rows:
        return table.slice(0, 0)
    together = pa.concat_tables([table, other.cast(table.schema)])
    codes = numpy_view(_codes(together))
    own, others = codes[: table.num_rows], codes[table.num_rows :]
    known = np.bincount(others, minlength=int(codes.max()) + 1)
    order = np.argsort(own, kind="stable")
    ordered = own[order]
    first = np.searchsorted(ordered, ordered, side="left")
    times = np.empty(len(own), np.int64)
    times[order] = np.arange(len(own)) - first  # how often the same row stood before
    return table.filter(pa.array(times >= known[own]))


def _codes(table: pa.Table) -> pa.Array:
    """A number for each row, the same for equal rows."""
    codes = np.zeros(table.num_rows, np.int64)
    for column in table.columns:
        whole = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
        encoded = whole if pa.types.is_dictionary(whole.type) else pc.dictionary_encode(whole, null_encoding="encode")
        part = np.asarray(pc.fill_null(encoded.indices, -1)).astype(np.int64) + 1
        _, codes = np.unique(codes * (int(part.max(initial=0)) + 1) + part, return_inverse=True)
    return pa.array(codes.astype(np.int64))
