"""Groups of dates that no row has: every day, week, month, … between the first and the last, for each combination of the other keys."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import arrow_type, from_numpy, numpy_view
from oak_ledger.columnar.calendar import DAY_MICROSECONDS
from oak_ledger.engine.evaluate import Expression, Fields
from oak_ledger.errors import OakError
from oak_ledger.formula import checked as c

STEPS = {
    "DAY": ("D", 1),
    "WEEK": ("D", 7),
    "MONTH": ("M", 1),
    "QUARTER": ("M", 3),
    "YEAR": ("M", 12),
    "HOUR": ("h", 1),
    "MINUTE": ("m", 1),
}
MOST = 2_000_000  # groups that are filled up to


def step_of(key: Expression, fields: Fields) -> str:
    """The unit from one value of a key to the next: what it is cut off to, a day for a plain date; empty for what is not a date."""
    tree = key.checked
    while isinstance(tree, c.FieldRef) and tree.name in fields:
        tree = fields[tree.name].checked
    if isinstance(tree, c.Call) and tree.function.name == "DATE_TRUNC" and isinstance(tree.args[0], c.Constant):
        unit = str(tree.args[0].value).upper()
        return unit if unit in STEPS else ""
    return "DAY" if key.checked.type.kind == "date" else ""


def filled(
    at: int, unit: str, keys: Sequence[Any], values: Mapping[c.Aggregate, Any], *, zero: bool
) -> tuple[list[Any], dict[c.Aggregate, Any]]:
    """The groups with those that are missing: nothing was counted in them, and sums are null, or with `zero` 0.

    `at` is the place of the date among the keys. Raises OakError where they would be too many.
    """
    dates = keys[at].drop_null()
    if not len(dates):
        return [*keys], dict(values)
    every = _every(dates, unit)
    others = [one for place, one in enumerate(keys) if place != at]
    combinations = pa.table({str(place): one for place, one in enumerate(others)}).group_by([str(place) for place in range(len(others))]).aggregate([]) if others else None  # fmt: skip
    count = 1 if combinations is None else combinations.num_rows
    if count * len(every) > MOST:
        message = (
            f"{len(every):,} dates for each of {count:,} combinations of the other keys are more than {MOST:,} groups."
        )
        raise OakError("too-many-groups", message, hint="Cut the dates off to months, or group by less.")
    made = [column.combine_chunks().take(pa.array(np.repeat(np.arange(count), len(every)))) for column in combinations.columns] if combinations is not None else []  # fmt: skip
    made.insert(at, pa.concat_arrays([every] * count))
    whole = [pa.concat_arrays([one, new.cast(one.type)]) for one, new in zip(keys, made, strict=True)]
    codes = np.zeros(len(whole[0]), np.int64)
    for one in whole:
        encoded = one.dictionary_encode(null_encoding="encode")
        _, codes = np.unique(codes * (len(encoded.dictionary) + 1) + numpy_view(encoded.indices), return_inverse=True)
    there = len(keys[0])
    new = np.flatnonzero(~np.isin(codes[there:], codes[:there])) + there
    kept = from_numpy(np.concatenate([np.arange(there), new]))
    return [one.take(kept) for one in whole], {node: pa.concat_arrays([one, _nothing(node, len(new), zero=zero)]) for node, one in values.items()}  # fmt: skip


def _nothing(node: c.Aggregate, count: int, *, zero: bool) -> Any:
    """What an aggregate is over no rows."""
    kind = arrow_type(node.type)
    counts = node.function.counts_values
    if counts or (zero and node.function.name == "SUM"):
        return pa.array(np.zeros(count, np.int64)).cast(kind)
    return pa.nulls(count, kind)


def _every(dates: Any, unit: str) -> Any:
    """Every date from the first to the last, a step apart."""
    base, step = STEPS[unit]
    ends = pc.min_max(dates)
    moments = [np.datetime64(ends[one].cast(pa.timestamp("us")).value, "us").astype(f"datetime64[{base}]") for one in ("min", "max")]  # fmt: skip
    if (moments[1] - moments[0]).astype(np.int64) // step > MOST:
        raise OakError("too-many-groups", f"There are more than {MOST:,} of {unit} between the first and the last.", hint="Cut them off to months.")  # fmt: skip
    array = np.arange(moments[0], moments[1] + 1, step).astype("datetime64[us]").astype(np.int64)
    if pa.types.is_date32(dates.type):
        return pa.array(array // DAY_MICROSECONDS, pa.int64()).cast(pa.int32()).cast(pa.date32())
    return pa.array(array, pa.int64()).cast(dates.type)
