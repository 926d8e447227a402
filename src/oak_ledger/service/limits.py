"""What one question may take, and how many may be asked at a time: beyond that it is refused at once, and nothing falls over."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from threading import Condition
from typing import Any

from oak_ledger.engine.deadline import within
from oak_ledger.engine.options import size_of
from oak_ledger.errors import OakError
from oak_ledger.origin import OriginReader
from oak_ledger.source import Source
from oak_ledger.types import Type


@dataclass(frozen=True, slots=True)
class Limits:
    """`rows` in one answer, `seconds` that a question may be computed, how many are computed at a time (`running`), how many wait for that, and how
    many one token may have among both."""

    rows: int = 100_000
    seconds: float = 30.0
    running: int = 4
    waiting: int = 16
    each: int = 8


class TooBusy(OakError):
    """There is no room for another question now."""


@dataclass
class Slots:
    """Room for questions."""

    limits: Limits
    _there: Counter[str] = field(default_factory=Counter)
    _computed: Counter[str] = field(default_factory=Counter)
    _changed: Condition = field(default_factory=Condition)

    @contextmanager
    def taken(self, token: str) -> Iterator[None]:
        """One question of a token, which ends in time. Raises TooBusy at once where there is no room, or when it has waited too long."""
        limits = self.limits
        with self._changed:
            if self._there[token] >= limits.each:
                raise TooBusy("too-many", f"{limits.each} questions of this token are being answered.", hint="Ask again when one of them is.")  # fmt: skip
            if self._there.total() >= limits.running + limits.waiting:
                raise TooBusy("too-busy", "The service is busy.", hint="Ask again in a moment.")
            self._there[token] += 1
        try:
            with self._changed:
                if not self._changed.wait_for(lambda: self._has_room(token), timeout=limits.seconds):
                    raise TooBusy("too-busy", "The service is busy.", hint="Ask again in a moment.")
                self._computed[token] += 1
            try:
                with within(limits.seconds):
                    yield
            finally:
                self._one_less(self._computed, token)
        finally:
            self._one_less(self._there, token)

    def _has_room(self, token: str) -> bool:
        """One token never takes all the room: the last place is for another."""
        running = self.limits.running
        return self._computed.total() < running and self._computed[token] < max(running - 1, 1)

    def _one_less(self, of: Counter[str], token: str) -> None:
        with self._changed:
            of[token] -= 1
            if not of[token]:
                del of[token]
            self._changed.notify_all()


@dataclass(slots=True)
class TimedReader:
    """Rows that come until a moment; then the question that reads them ends."""

    reader: OriginReader
    end: float
    seconds: float
    bad_rows: list[Any] = field(default_factory=list)

    def columns(self) -> dict[str, Type]:
        """Those of the rows."""
        return self.reader.columns()

    def batches(self, columns: Sequence[str]) -> Iterator[Any]:
        """The rows, as long as there is time."""
        for batch in self.reader.batches(columns):
            self._in_time()
            yield batch

    def fragments(self, columns: Sequence[str]) -> Iterator[Callable[[], Iterator[Any]]]:
        """The rows in parts, as long as there is time."""
        for fragment in self.reader.fragments(columns):  # type: ignore[attr-defined]
            yield lambda fragment=fragment: self._timed(fragment)  # type: ignore[misc]

    def _timed(self, fragment: Callable[[], Iterator[Any]]) -> Iterator[Any]:
        for batch in fragment():
            self._in_time()
            yield batch

    def _in_time(self) -> None:
        if time.monotonic() > self.end:
            raise OakError("too-slow", f"The question took longer than {self.seconds:g} s.", hint="Ask for less: a filter, fewer groups.")  # fmt: skip

    def locate(self, row: int) -> str:
        """Where a row is."""
        return self.reader.locate(row)


def bound_memory(size: str) -> None:
    """Let this process take no more memory than that (such as `4G`; half of the machine's where it is empty): a question that wants more is refused,
    and the machine is left alone. Raises UnusableInput for a size that is none."""
    import resource

    import psutil

    wanted = size_of(size, "--memory") if size else psutil.virtual_memory().total // 2
    taken = psutil.Process().memory_info().vms  # addresses that are there already, of libraries for the most part
    resource.setrlimit(resource.RLIMIT_AS, (taken + wanted, resource.RLIM_INFINITY))


def timed(source: Source, seconds: float) -> Source:
    """A published source whose questions end after so many seconds."""
    return replace(source, feed=TimedReader(source.opened, time.monotonic() + seconds, seconds), earlier=source.shared)
