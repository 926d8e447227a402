"""Starting without pandas: pyarrow imports it at its first value, which takes longer than a small answer, and no command needs it for that."""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Sequence
from types import ModuleType
from typing import Any

WANTED = False  # only the `oak` command itself asks for it; in a program that uses the library pandas stays as it is


class _Absent:
    """Says that pandas is not there."""

    def find_spec(self, name: str, path: Sequence[str] | None = None, target: ModuleType | None = None) -> Any:
        """Nothing is found; pandas is refused."""
        if name == "pandas":
            raise ImportError(name)


def hurry() -> None:
    """Start without what a short run does not need: plugins of the model library, and looking for garbage while modules are read."""
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    gc.set_threshold(100_000, 50, 100)


def start() -> None:
    """Let pyarrow look for pandas once, in vain. A later `import pandas` of our own works as ever."""
    if not WANTED or "pandas" in sys.modules:
        return
    import pyarrow as pa

    absent = _Absent()
    sys.meta_path.insert(0, absent)
    try:
        pa.scalar(1)
    finally:
        sys.meta_path.remove(absent)
