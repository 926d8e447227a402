"""The function library: each function is one entry beside its implementation.

Help, search, checks, reference documentation and tests all read these entries. Importing this package
fills the library.
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
