"""A few loops in C, for what NumPy and Arrow would go over many times.

Each is a quick way to something that is computed elsewhere too; where this machine has none compiled, that is taken, and the same comes
out. They take addresses of NumPy's and Arrow's memory and let other threads work meanwhile. What they mean is said beside each.
"""

from __future__ import annotations

import ctypes
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

_WORD, _HALF, _PLACE = ctypes.c_int64, ctypes.c_int32, ctypes.c_void_p
UNPACK = ctypes.CFUNCTYPE(_HALF, _WORD, _PLACE, _WORD, _PLACE, _WORD)
"""What a loop calls back for bytes that it cannot unpack: see `chunks.c`."""
_SHAPES: dict[str, tuple[Any, ...]] = {
    "oak_run": (
        _HALF, _WORD, _PLACE, _HALF, _PLACE, _HALF, _PLACE, _HALF, _HALF, _HALF, _HALF, _PLACE, _PLACE, _PLACE, _PLACE,
    ),
    "oak_number": (_WORD, _WORD, _PLACE, _HALF, _WORD, _HALF, _PLACE, _PLACE, _PLACE),
    "oak_sum_floats": (_HALF, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _HALF, _WORD, _PLACE),
    "oak_sum_wholes": (_HALF, _WORD, _PLACE, _PLACE, _HALF, _PLACE, _WORD, _WORD, _PLACE),
    "oak_best_float": (None, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _HALF, _WORD, _PLACE, _PLACE),
    "oak_best_whole": (None, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _HALF, _WORD, _PLACE, _PLACE),
    "oak_best_text": (None, _WORD, _PLACE, _PLACE, _PLACE, _PLACE, _WORD, _HALF, _PLACE, _PLACE),
    "oak_plain_numbers": (_HALF, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _PLACE),
    "oak_read_wholes": (_WORD, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _HALF, _HALF, _PLACE),
    "oak_read_floats": (_HALF, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _PLACE),
    "oak_few_texts": (_WORD, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _WORD, _PLACE, _PLACE, _PLACE),
    "oak_take_edges": (
        _WORD, _WORD, _PLACE, _HALF, _PLACE, _WORD, _PLACE, _PLACE, _WORD, _PLACE, _PLACE, _PLACE, _PLACE,
    ),
    "oak_trim_edges": (_WORD, _WORD, _PLACE, _PLACE, _PLACE, _HALF, _HALF, _PLACE, _PLACE),
    "oak_part_edges": (_WORD, _WORD, _PLACE, _WORD, _WORD, _PLACE, _PLACE),
    "oak_copy_texts": (None, _WORD, _PLACE, _PLACE, _PLACE, _PLACE),
    "oak_contains": (None, _WORD, _PLACE, _PLACE, ctypes.c_char_p, _WORD, _PLACE),
    "oak_count_byte": (_WORD, _PLACE, _WORD, _HALF),
    "oak_last_line": (_WORD, _PLACE, _WORD, _HALF, _HALF),
    "oak_cut": (_WORD, _PLACE, _WORD, _HALF, _HALF, _WORD, _PLACE, _WORD, _PLACE, _WORD),
    "oak_neighbour": (_WORD, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _HALF, _PLACE, _PLACE, _PLACE),
    "oak_running_wholes": (_HALF, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _PLACE, _PLACE, _PLACE),
    "oak_running_floats": (_HALF, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _WORD, _PLACE, _PLACE, _PLACE),
    "oak_mark": (None, _WORD, _PLACE, _WORD, _PLACE, _HALF, _WORD, _PLACE),
    "oak_sort_out": (_WORD, _WORD, _PLACE, _WORD, _PLACE, _PLACE, _WORD, _PLACE, _PLACE, _HALF, _PLACE),
    "oak_different": (_HALF, _PLACE, _WORD, _HALF, _HALF, _PLACE),
    "oak_cross": (None, _WORD, _PLACE, _WORD, _PLACE, _PLACE),
    "oak_holding": (_WORD, _WORD, _PLACE, _PLACE, _WORD, _PLACE),
    "oak_near": (_HALF, _WORD, _PLACE, _HALF, _PLACE, _WORD, _PLACE, _PLACE),
    "oak_finite": (_HALF, _WORD, _PLACE),
    "oak_gather": (_WORD, _WORD, _PLACE, _HALF, _PLACE, _HALF, _PLACE, _WORD, _PLACE, _PLACE),
    "oak_scatter": (None, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _PLACE, _PLACE),
    "oak_rising": (_HALF, _WORD, _PLACE),
    "oak_read_columns": (None, _HALF, UNPACK, _PLACE, _WORD, _WORD, _PLACE, _WORD),
    "oak_leave_columns": (None, _PLACE, _WORD),
    "oak_sample": (_WORD, _PLACE, _WORD, _WORD, _PLACE, _PLACE),
    "oak_floats_between": (_WORD, _PLACE, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _PLACE, _PLACE),
    "oak_wholes_between": (_WORD, _PLACE, _WORD, _PLACE, _PLACE, _PLACE, _WORD, _PLACE, _PLACE),
    "oak_by_group": (None, _PLACE, _WORD, _WORD, _PLACE, _PLACE, _PLACE),
    "oak_standing": (None, _PLACE, _HALF, _PLACE, _PLACE, _WORD, _PLACE, _HALF, _PLACE),
}  # fmt: skip
"""What each gives back, and what it takes."""
_kept_off: list[bool] = []


@cache
def _library() -> Any:
    """The compiled loops; None where there are none."""
    if sys.byteorder != "little":  # they take Arrow's memory and files as they lie
        return None
    for name in ("loops.so", "loops.dll"):
        path = Path(__file__).with_name(name)
        if path.exists():
            try:
                found = ctypes.CDLL(str(path))
                for call, (result, *takes) in _SHAPES.items():
                    getattr(found, call).restype = result
                    getattr(found, call).argtypes = takes
                return found
            except (OSError, AttributeError):  # made for another machine, or from other sources
                return None
    return None


def loops() -> Any | None:
    """The loops, by name; None where there are none, or they are not wanted."""
    return None if _kept_off else _library()


@contextmanager
def without_loops() -> Iterator[None]:
    """Work without them for a while."""
    _kept_off.append(True)
    try:
        yield
    finally:
        _kept_off.pop()
