"""The function library: each function is one entry beside its implementation.

Help, search, checks, reference documentation and tests all read these entries. Importing this package
fills the library.

- A function is one entry beside its implementation: signature, sentence, null rule, examples. Help, checks, documents
  and tests read it.

- Functions of more than one column. A kernel takes its other arguments as constants; where these come from columns of
  few distinct values, it is called once for each combination (`CallContext.for_each_constant`), else values are
  computed one by one, each different one once.

- No special case without a general reason. A quicker path exists for a *kind of data* only: few distinct values,
  ASCII, dense whole numbers, texts of one width, values that hardly repeat. None exists for the shape of a formula.
  Which kernel a function uses, and how long it takes, is measured (`docs/benchmarks_functions.md`).

- A sum does not depend on how rows are sliced. Whole numbers and decimals are summed exactly in 32-bit halves where
  they are large; floats are cut in two so that the sum of the upper parts is exact, and those so huge that a sum
  might overflow on the way are added up apart, scaled down by a power of two. One limit is known: beside a value
  10^15 times as large in another group of its slice, a sum of floats may differ in its last place.
"""

from __future__ import annotations

from oak_ledger.functions import (
    aggregates,
    conditions,
    constructs,
    dates,
    holistic,
    marks,
    numbers,
    patterns,
    text,
    windows,
)
from oak_ledger.functions.registry import LIBRARY, Function

__all__ = [
    "LIBRARY",
    "Function",
    "aggregates",
    "conditions",
    "constructs",
    "dates",
    "holistic",
    "marks",
    "numbers",
    "patterns",
    "text",
    "windows",
]
