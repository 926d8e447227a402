"""How a question was answered: each step with rows, bytes and time, for those who ask."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from threading import Lock
from typing import Any


@dataclass(slots=True)
class OperatorStats:
    """One step: what kind, on what, how many rows (or groups) came out, bytes where known, seconds of all threads together, what is notable."""

    kind: str
    what: str
    rows: int = 0
    bytes: int = 0
    seconds: float = 0.0
    note: str = ""

    def as_json(self) -> dict[str, Any]:
        """Plain values for a script."""
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass(slots=True)
class ExecutionStats:
    """The steps of one question, in the order in which they were begun; several threads may write here."""

    steps: dict[tuple[str, str], OperatorStats] = field(default_factory=dict)
    lock: Any = field(default_factory=Lock, repr=False)

    def add(self, kind: str, what: str, *, rows: int = 0, size: int = 0, seconds: float = 0.0, note: str = "") -> None:
        """Add to a step."""
        with self.lock:
            step = self.steps.setdefault((kind, what), OperatorStats(kind, what))
            step.rows += rows
            step.bytes += size
            step.seconds += seconds
            step.note = note or step.note

    @contextmanager
    def timed(self, kind: str, what: str, *, rows: int = 0, note: str = "") -> Iterator[None]:
        """Time what is done inside."""
        begin = time.perf_counter()
        try:
            yield
        finally:
            self.add(kind, what, rows=rows, seconds=time.perf_counter() - begin, note=note)


@contextmanager
def timed(stats: ExecutionStats | None, kind: str, what: str, *, rows: int = 0, note: str = "") -> Iterator[None]:
    """Time what is done inside, where statistics are kept."""
    if stats is None:
        yield
    else:
        with stats.timed(kind, what, rows=rows, note=note):
            yield
