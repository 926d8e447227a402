"""A moment at which a question ends, wherever it is."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from oak_ledger.errors import OakError

_UNTIL: ContextVar[tuple[float, float]] = ContextVar("until", default=(float("inf"), 0.0))


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """What is asked inside ends after so many seconds, with the error `too-slow`."""
    token = _UNTIL.set((time.monotonic() + seconds, seconds))
    try:
        yield
    finally:
        _UNTIL.reset(token)


def in_time() -> None:
    """Raise OakError where the time is over."""
    end, seconds = _UNTIL.get()
    if time.monotonic() > end:
        raise OakError("too-slow", f"The question took longer than {seconds:g} s.", hint="Ask for less: a filter, fewer groups.")  # fmt: skip
