"""Values held as codes and a dictionary: computed once per different value, and gathered.

The plain meaning is that of the decoded values; a dictionary may hold a value twice, or one that no row has.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.tuning import Tuning
from oak_ledger.formula.values import array_of, held, near
from oak_ledger.loops.memory import known_bits
from oak_ledger.loops.places import crossed, taken
from oak_ledger.loops.text import FEW, few

CROSSED = 4096  # combinations of the values of several dictionaries that are worth computing each once


def is_coded(values: Any) -> bool:
    """Whether the values are codes and a dictionary."""
    return not isinstance(values, pa.Scalar) and pa.types.is_dictionary(values.type)


def coded_where_it_pays(values: Any, tuning: Tuning) -> Any:
    """The values as codes and a dictionary, where few enough of them differ that computing each once pays; else as they are.

    Days that lie close together are their own codes; for others a part in the middle is looked at.
    """
    if len(values) < tuning.sample:
        return values
    if pa.types.is_date32(values.type):
        codes, low, span = near(values)
        if span <= len(values) // 8:
            days = array_of(np.arange(low, low + span, dtype=np.int32)).cast(values.type)
            indices = pa.Array.from_buffers(pa.int32(), len(values), [known_bits(values), pa.py_buffer(codes)])
            return pa.DictionaryArray.from_arrays(indices, days, safe=False)
    found = few(values, FEW)
    if found is not None and len(found[2]) <= tuning.share * len(values):
        known = pa.py_buffer(np.packbits(found[0] >= 0, bitorder="little")) if values.null_count else None
        indices = pa.Array.from_buffers(pa.int32(), len(values), [known, pa.py_buffer(found[0])])
        return pa.DictionaryArray.from_arrays(indices, values.take(array_of(found[2])), safe=False)
    if pa.types.is_string(values.type) or pa.types.is_temporal(values.type):
        part = values.slice(len(values) // 2 - tuning.sample // 2, tuning.sample)
        if pc.count_distinct(part).as_py() <= tuning.share * len(part):
            return values.dictionary_encode()
    return values


class Crossed:
    """Several coded arguments as one: each combination of their values once, and which one each row has. Null is a value like others."""

    def __init__(self, values: Sequence[Any]) -> None:
        self.dictionaries: list[Any] = []
        self.codes: Any = None
        for one in values:
            codes, dictionary = _with_null(one)
            self.codes = codes if self.codes is None else crossed(self.codes, len(dictionary), codes)
            self.dictionaries.append(dictionary)
        self.total = math.prod(len(one) for one in self.dictionaries)

    @staticmethod
    def pays(values: Sequence[Any], rows: int) -> bool:
        """Whether there are few enough combinations."""
        size = math.prod(len(one.dictionary) + 1 for one in values)
        return size <= max(CROSSED if rows > 8 * CROSSED else rows, 8)

    def same(self, dictionaries: Sequence[Any]) -> bool:
        """Whether these are the dictionaries; which rows have which of their values may differ."""
        return all(one.equals(two) for one, two in zip(self.dictionaries, dictionaries, strict=True))

    def arguments(self) -> list[Any]:
        """Each argument's values, one a combination."""
        if len(self.dictionaries) == 1:
            return self.dictionaries
        made, after = [], self.total
        at = np.arange(self.total)
        for one in self.dictionaries:
            after //= max(len(one), 1)
            made.append(one.take(array_of(at // max(after, 1) % max(len(one), 1))))
        return made

    def gathered(self, made: Any, *, keep: bool) -> Any:
        """The result for each row; still coded if that is wanted."""
        own = self.codes.astype(np.int32, copy=False)
        if keep and not made.null_count:
            return pa.DictionaryArray.from_arrays(array_of(own), made, safe=False)  # each code has its value
        return taken(made, own)


def _with_null(values: Any) -> tuple[Any, Any]:
    """Codes and dictionary, null among the values where there is one."""
    indices, dictionary = values.indices, values.dictionary
    if not indices.null_count:
        return held(indices), dictionary
    codes = held(pc.fill_null(indices, len(dictionary)))
    return codes, pa.concat_arrays([dictionary, pa.nulls(1, dictionary.type)])
