"""A number for each distinct value of an array, and the values by number."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view
from oak_ledger.columnar.texts import text_codes

SAMPLE_ROWS = 1 << 12


def encode(values: Any) -> tuple[Any, Any]:
    """A number for each distinct value (null is one of them), and the values by number."""
    if pa.types.is_floating(values.type):
        values = pc.add(values, 0.0)  # so that -0.0 and 0.0 are one value
    if pa.types.is_string(values.type) and _hardly_repeats(values):
        found = text_codes(values)
        if found is not None:
            return found[0], values.take(from_numpy(found[1]))
    encoded = values.dictionary_encode(null_encoding="encode")
    return numpy_view(encoded.indices), encoded.dictionary


def _hardly_repeats(values: Any) -> bool:
    """Whether most of a part in the middle differ."""
    if len(values) <= SAMPLE_ROWS:
        return False
    part = values.slice(len(values) // 2, SAMPLE_ROWS)
    return bool(pc.count_distinct(part).as_py() > len(part) // 2)
