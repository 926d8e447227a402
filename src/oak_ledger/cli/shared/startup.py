"""Starting without pandas: pyarrow imports it at its first value, which takes longer than a small answer, and no command needs it for that."""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Sequence
from types import ModuleType
from typing import Any

ENABLED = False  # only the `oak` command itself asks for it; in a program that uses the library pandas stays as it is


class _Absent:
    """Says that pandas is not there."""

    def find_spec(self, name: str, path: Sequence[str] | None = None, target: ModuleType | None = None) -> Any:
        """Nothing is found; pandas is refused."""
        if name == "pandas":
            raise ImportError(name)


def tune_process() -> None:
    """Run as a command does: without plugins of the model library, seldom looking for garbage, and with freed memory kept for the next slice.

    Arrow takes its memory from the system's allocator, like everything else, so that each can use what the other has freed. NumPy starts no
    threads for products of matrices, because there are none.
    """
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    os.environ.setdefault("ARROW_DEFAULT_MEMORY_POOL", "system")
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    gc.set_threshold(100_000, 50, 100)
    set_malloc_options()


_TRIM, _PAD, _APART, _ARENAS = (
    -1,
    -2,
    -3,
    -8,
)  # numbers of GNU's mallopt: M_TRIM_THRESHOLD, M_TOP_PAD, M_MMAP_THRESHOLD, M_ARENA_MAX


def set_malloc_options() -> None:
    """Keep freed memory between slices, where the C library allows it: memory that comes back from the system is cleared each time."""
    import ctypes

    try:
        mallopt = ctypes.CDLL(None).mallopt
    except (OSError, AttributeError, TypeError):
        return
    for what, size in ((_TRIM, 1 << 30), (_PAD, 1 << 26), (_APART, 1 << 25), (_ARENAS, 2)):
        mallopt(what, size)


def start() -> None:
    """Let pyarrow look for pandas once, in vain. A later `import pandas` of our own works as ever."""
    if not ENABLED or "pandas" in sys.modules:
        return
    import pyarrow as pa

    absent = _Absent()
    sys.meta_path.insert(0, absent)
    try:
        pa.scalar(1)
    finally:
        sys.meta_path.remove(absent)
