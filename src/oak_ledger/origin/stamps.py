"""What an origin is made of, so that a change is noticed without reading the rows: each file with size, times, number and a digest of its ends."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from oak_ledger.origin.files import matching
from oak_ledger.origin.spec import PartSpec, ReadingSpec

END_BYTES = 1 << 16
YOUNG_NANOSECONDS = 2_000_000_000  # a change so soon after another may leave the same time
_SQLITE = "sqlite:///"


@dataclass(frozen=True, slots=True)
class FileStamp:
    """What distinguishes one state of a file from another; `whole` is a digest of all of it, where its time is too recent to prove anything."""

    size: int
    modified: int
    changed: int
    inode: int
    ends: str
    whole: str = ""

    def same(self, path: Path) -> bool:
        """Whether a file is still as it was."""
        now = stamp_of(path)
        if now is None or (now.size, now.modified, now.changed, now.inode, now.ends) != (
            self.size, self.modified, self.changed, self.inode, self.ends,
        ):  # fmt: skip
            return False
        return not self.whole or self.whole == (now.whole or _digest(path, 0, now.size))


def origin_paths(spec: ReadingSpec, folder: Path, parts: Sequence[PartSpec] = ()) -> list[Path] | None:
    """The files of an origin; None where a change could not be noticed: a database that is not a file, a table in memory."""
    if spec.kind == "join":
        paths: list[Path] = []
        for part in parts:
            own = origin_paths(part, folder)
            if own is None:
                return None
            paths += own
        return paths
    if spec.kind in ("memory", "source") or (spec.kind == "database" and not spec.url.startswith(_SQLITE)):
        return None
    if spec.kind == "database":
        path = folder / spec.url.removeprefix(_SQLITE)
        journal = path.with_name(path.name + "-wal")
        return [path, journal] if journal.exists() else [path]
    return matching(folder, spec.path) if "*" in spec.path or spec.kind == "files" else [folder / spec.path]


def stamps_of(paths: Sequence[Path]) -> dict[str, FileStamp] | None:
    """A stamp of each file, by its path; None where one is not there."""
    stamps: dict[str, FileStamp] = {}
    for path in paths:
        stamp = stamp_of(path)
        if stamp is None:
            return None
        stamps[str(path)] = stamp
    return stamps


def stamp_of(path: Path) -> FileStamp | None:
    """The stamp of a file; None where it is not there."""
    try:
        state = path.stat()
        ends = _digest(path, 0, END_BYTES) + _digest(path, max(state.st_size - END_BYTES, 0), END_BYTES)
        young = time.time_ns() - max(state.st_mtime_ns, state.st_ctime_ns) < YOUNG_NANOSECONDS
        whole = _digest(path, 0, state.st_size) if young else ""
    except OSError:
        return None
    return FileStamp(state.st_size, state.st_mtime_ns, state.st_ctime_ns, state.st_ino, ends, whole)


def _digest(path: Path, begin: int, size: int) -> str:
    """A digest of some bytes of a file."""
    digest = hashlib.blake2b(digest_size=16)
    with path.open("rb") as file:
        file.seek(begin)
        while size > 0 and (data := file.read(min(size, 1 << 22))):
            digest.update(data)
            size -= len(data)
    return digest.hexdigest()
