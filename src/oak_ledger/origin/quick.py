"""A quick look at a batch of texts: are they all plain numbers, and of what kinds? By a loop, or by what it means: a pattern."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula.values import held
from oak_ledger.loops import loops
from oak_ledger.loops.text import Mark, Numbers
from oak_ledger.loops.text import plain_numbers as by_loop

_PLAIN = r"^(?P<minus>-?)(?P<before>0|[1-9][0-9]*)(?:(?P<mark>[.,])(?P<after>[0-9]+))?$"
_LONGEST, _LONGEST_WHOLE = 32, 18
_MARKS = ("", ".", ",")  # by the numbers of `Mark`


def plain_numbers(values: Any) -> Numbers | None:
    """What the numbers of a string array are like; None where a value is anything but a plain number, and where there is none."""
    if len(values) == values.null_count:
        return None
    return by_loop(values) if loops() is not None else _by_pattern(values.drop_null())


def _by_pattern(values: Any) -> Numbers | None:
    parts = pc.extract_regex(values, _PLAIN)
    if parts.null_count:
        return None
    minus, before, after = (
        held(pc.utf8_length(pc.struct_field(parts, name))).astype(np.int64) for name in ("minus", "before", "after")
    )
    marks = held(pc.index_in(pc.struct_field(parts, "mark"), value_set=pa.array(_MARKS))).astype(np.int64)
    sizes, whole = minus + before + (marks > 0) + after, before[marks == Mark.NONE]
    if sizes.max() > _LONGEST or whole.max(initial=0) > _LONGEST_WHOLE:
        return None
    (mark, digits, decimals, signs), counts = np.unique(
        np.stack([marks, before, after, minus]), axis=1, return_counts=True
    )
    return Numbers(mark, digits, decimals, signs > 0, counts)
