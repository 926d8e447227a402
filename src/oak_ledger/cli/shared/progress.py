"""Progress of long work on standard error: which step of how many, and how many rows were read; it only ever goes forward."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

SECONDS = 0.1  # between two updates


@dataclass(slots=True)
class Progress:
    """The steps of a command. Called with the rows of one reading so far, it counts the rows of all readings."""

    steps: tuple[str, ...]
    show: Callable[[str], None]
    step: int = 0
    read: int = 0
    before: int = 0
    shown: float = 0.0

    def __call__(self, rows: int) -> None:
        """Note how many rows of the reading that is going on were read."""
        if rows < self.before:  # another reading
            self.before = 0
        self.read += rows - self.before
        self.before = rows
        if time.monotonic() - self.shown > SECONDS:
            self._update()

    def next(self) -> None:
        """Begin the next step."""
        self.step += 1
        self._update()

    def _update(self) -> None:
        self.shown = time.monotonic()
        self.show(self.text())

    def text(self) -> str:
        """What is shown."""
        which = f"step {self.step + 1} of {len(self.steps)}, " if len(self.steps) > 1 else ""
        rows = f" {self.read:,} rows read" if self.read else ""
        return f"{which}{self.steps[self.step]} …{rows}"


@contextmanager
def progress_of(*steps: str) -> Iterator[Progress]:
    """Progress through some steps, of which the first begins; nothing is shown where standard error is not a terminal."""
    from oak_ledger.present.look import LOOK

    if not sys.stderr.isatty() or LOOK.no_progress or LOOK.quiet:
        yield Progress(steps, lambda _text: None)
        return
    from oak_ledger.present.terminal import console

    with console(to_errors=True).status(f"{steps[0]} …") as status:
        yield Progress(steps, status.update)
