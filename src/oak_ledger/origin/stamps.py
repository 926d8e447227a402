"""What an origin is made of, so that a change can be told without reading the rows: each file with its size and its time."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from oak_ledger.origin.files import matching
from oak_ledger.origin.spec import PartSpec, ReadingSpec

Identity = dict[str, list[int]]
_SQLITE = "sqlite:///"


def identity(spec: ReadingSpec, folder: Path, parts: Sequence[PartSpec] = ()) -> Identity | None:
    """Each file of an origin with its size in bytes and its time in nanoseconds; None where a change could not be told.

    A database that is no file is such an origin, and a table in memory.
    """
    if spec.kind == "join":
        found: Identity = {}
        for part in parts:
            one = identity(part, folder)
            if one is None:
                return None
            found |= one
        return found
    if spec.kind == "memory" or (spec.kind == "database" and not spec.url.startswith(_SQLITE)):
        return None
    if spec.kind == "database":
        return identity_of_files([folder / spec.url.removeprefix(_SQLITE)], folder)
    return identity_of_files(matching(folder, spec.path) if spec.kind == "files" else [folder / spec.path], folder)


def identity_of_files(paths: Sequence[Path], folder: Path) -> Identity:
    """Files with their sizes and times; one that is not there has size -1."""
    found: Identity = {}
    for path in paths:
        name = path.relative_to(folder).as_posix() if path.is_relative_to(folder) else str(path)
        state = path.stat() if path.is_file() else None
        found[name] = [-1, 0] if state is None else [state.st_size, state.st_mtime_ns]
    return found
