"""Long answers page by page: on a terminal, of commands that only look."""

from __future__ import annotations

import io
import os
import shutil
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import click

from oak_ledger.cli.shared.app import command_called

LOOKING = frozenset({
    "check", "tally", "peek", "profile", "trace", "why", "versions list", "versions compare", "snapshot changes",
    "undo list", "undo compare", "export sql", "help functions", "help keys", "help codes",
})  # fmt: skip


class _Held(io.StringIO):
    """What is printed, as if to the terminal."""

    encoding = "utf-8"

    def isatty(self) -> bool:
        """It will be shown on one."""
        return True


@contextmanager
def paged(arguments: Sequence[str]) -> Iterator[None]:
    """What is printed within goes through the pager (the variable PAGER, else less) where it is longer than the terminal; PAGER=cat has none."""
    command = command_called([argument for argument in arguments if not argument.startswith("-")])
    stdout = sys.stdout
    if command not in LOOKING or "--json" in arguments or not stdout.isatty() or os.environ.get("PAGER") == "cat":
        yield
        return
    sys.stdout = held = _Held()
    try:
        yield
    finally:
        sys.stdout = stdout
        text = held.getvalue()
        if text.count("\n") < shutil.get_terminal_size().lines:
            stdout.write(text)
            stdout.flush()
        else:
            click.echo_via_pager(text.removesuffix("\n"), color=True)
