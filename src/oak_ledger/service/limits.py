"""What one question may take, and how many may be asked at a time: beyond that it is refused at once, and nothing falls over."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from threading import Condition

from oak_ledger.engine.deadline import Deadline, within
from oak_ledger.engine.options import size_of
from oak_ledger.errors import OakError


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
    def taken(self, token: str) -> Iterator[Deadline]:
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
                with within(limits.seconds) as until:
                    yield until
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


def bound_memory(size: str) -> None:
    """Let this process take no more memory than that (such as `4G`; half of the machine's where it is empty): a question that wants more is refused,
    and the machine is left alone. Raises UnusableInput for a size that is none."""
    import resource

    import psutil

    wanted = size_of(size, "--memory") if size else psutil.virtual_memory().total // 2
    taken = psutil.Process().memory_info().vms  # addresses that are there already, of libraries for the most part
    resource.setrlimit(resource.RLIMIT_AS, (taken + wanted, resource.RLIM_INFINITY))
