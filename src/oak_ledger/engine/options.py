"""How the engine works, but never what comes out: threads, rows at a time, memory."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

from oak_ledger.errors import OakError

MEMORY_SHARE = 4  # a quarter of the machine's, unless set otherwise


@dataclass(frozen=True, slots=True)
class ExecutionOptions:
    """`threads` work at a time, each on at most `rows` rows; `memory` in bytes is what a question may hold before it spills."""

    threads: int
    memory: int
    rows: int = 1 << 17


@cache
def _standard() -> ExecutionOptions:
    return ExecutionOptions(_number("OAK_THREADS", min(os.cpu_count() or 1, 4)), _memory())


def _number(variable: str, otherwise: int) -> int:
    given = os.environ.get(variable, "")
    if not given:
        return otherwise
    if not given.isdigit() or int(given) < 1:
        raise OakError("bad-setting", f"{variable} holds {given!r}, which is not a whole number of 1 or more.")
    return int(given)


_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30}


def size_setting(variable: str, otherwise: int) -> int:
    """A number of bytes from the environment, such as 500M or 2G. Raises OakError where it is none."""
    given = os.environ.get(variable, "")
    return size_of(given, variable) if given.strip() else otherwise


def size_of(given: str, what: str) -> int:
    """A number of bytes written as 500M or 2G. Raises OakError where it is none; `what` says whose it is."""
    text = given.strip().upper().removesuffix("B")
    number, unit = text.rstrip("KMG"), text[-1:] if text[-1:] in ("K", "M", "G") else ""
    if not number.isdigit() or int(number) < 1 or len(number) + len(unit) != len(text):
        raise OakError("bad-setting", f"{what} holds {given!r}.", hint="Write a size such as 500M or 2G.")
    return int(number) * _UNITS[unit]


def _memory() -> int:
    return size_setting("OAK_MEMORY", _machine_memory() // MEMORY_SHARE)


def _machine_memory() -> int:
    import psutil

    return int(psutil.virtual_memory().total)


_given: list[ExecutionOptions] = []


def options() -> ExecutionOptions:
    """What holds now."""
    return _given[-1] if _given else _standard()


@contextmanager
def overridden(**changes: Any) -> Iterator[ExecutionOptions]:
    """Work otherwise for a while; answers and faults stay the same."""
    _given.append(replace(options(), **changes))
    try:
        yield _given[-1]
    finally:
        _given.pop()
