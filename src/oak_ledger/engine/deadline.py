"""A moment at which a question ends, wherever it is."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

from oak_ledger.errors import OakError


@dataclass(slots=True)
class Deadline:
    """When a question ends at the latest; whoever asked may end it before."""

    end: float = float("inf")
    seconds: float = 0.0
    cancelled: bool = False

    def error(self) -> OakError | None:
        """Why the question ends now, if it does."""
        if self.cancelled:
            return OakError("cancelled", "The question was cancelled.")
        if time.monotonic() > self.end:
            return OakError("too-slow", f"The question took longer than {self.seconds:g} s.", hint="Ask for less: a filter, fewer groups.")  # fmt: skip
        return None


_UNTIL: ContextVar[Deadline] = ContextVar("until", default=Deadline())  # noqa: B039  nobody cancels what has no end


@contextmanager
def until(deadline: Deadline) -> Iterator[None]:
    """What is asked inside ends at a deadline, or once whoever has it cancels."""
    token = _UNTIL.set(deadline)
    try:
        yield
    finally:
        _UNTIL.reset(token)


@contextmanager
def within(seconds: float) -> Iterator[Deadline]:
    """What is asked inside ends after so many seconds, with the error `too-slow`, or once it is cancelled."""
    deadline = Deadline(time.monotonic() + seconds, seconds)
    with until(deadline):
        yield deadline


def in_time() -> None:
    """Raise OakError where the time is over."""
    error = _UNTIL.get().error()
    if error is not None:
        raise error
