"""A text file opened for its bytes, compressed or not, and watched: rows come from one state of the file, or reading is refused."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import lzma
import os
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, cast

from oak_ledger.errors import UnusableInput

HEAD = 1 << 18  # bytes looked at to find out how a file is written
TAIL = 1 << 14
_COMPRESSED = ((b"\x1f\x8b", gzip.open), (b"BZh", bz2.open), (b"\xfd7zXZ\x00", lzma.open))
ENDINGS = (".gz", ".bz2", ".xz")


def is_compressed(path: Path) -> bool:
    """Whether a file begins as compressed ones do, whatever its name."""
    with path.open("rb") as file:
        start = file.read(6)
    return any(start.startswith(mark) for mark, _ in _COMPRESSED)


@contextmanager
def opened(path: Path) -> Iterator[IO[bytes]]:
    """The file's bytes as they were written, whatever compressed them. What goes wrong inside is reported in our words.

    Raises UnusableInput also where the file has changed or was replaced since it was opened.
    """
    try:
        with path.open("rb") as plain:
            before = _state(os.fstat(plain.fileno()))
            start = plain.read(6)
            plain.seek(0)
            unpack = next((own for mark, own in _COMPRESSED if start.startswith(mark)), None)
            if unpack is None:
                yield plain
            else:
                with unpack(plain, "rb") as inner:
                    yield cast("IO[bytes]", inner)
            if not _state(os.fstat(plain.fileno())) == before == state_of(path):
                raise changed(path)
    except FileNotFoundError:
        raise UnusableInput("no-file", f"There is no file {path}.", hint="Check the path and the spelling.") from None
    except IsADirectoryError:
        hint = "Name a file, or quote a pattern such as 'loads_*.csv'."
        raise UnusableInput("is-folder", f"{path} is a folder.", hint=hint) from None
    except (EOFError, zlib.error, lzma.LZMAError, gzip.BadGzipFile) as error:
        message = f"{path} is compressed, and damaged or cut off: {str(error).rstrip('.')}."
        raise UnusableInput("unreadable", message, hint="Ask for the file again.") from error
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error.strerror or error}.") from error


def changed(path: Path) -> UnusableInput:
    """The refusal of rows that may come from two states of a file."""
    message = f"{path} was changed or replaced while it was read; nothing of what was read is used."
    return UnusableInput("file-changed", message, hint="Ask again once the file is complete.")


def state_of(path: Path) -> tuple[int, int, int] | None:
    """What distinguishes one state of a file from another while it is read; None where it is not there."""
    try:
        return _state(path.stat())
    except OSError:
        return None


def _state(found: os.stat_result) -> tuple[int, int, int]:
    return found.st_size, found.st_mtime_ns, found.st_ino


def digest_of(path: Path) -> str:
    """A digest of what a file holds, whatever compressed it."""
    digest = hashlib.blake2b(digest_size=16)
    with opened(path) as file:
        while data := file.read(1 << 22):
            digest.update(data)
    return digest.hexdigest()


def head_of(path: Path) -> bytes:
    """The first bytes of a file; a clear error where it is not there, empty or not readable."""
    with opened(path) as file:
        head = file.read(HEAD)
    if not head.removeprefix(b"\xef\xbb\xbf").strip():
        raise UnusableInput("empty-file", f"{path} is empty.", hint="Ask for the file again; nothing was read.")
    return head


def tail_of(path: Path) -> bytes:
    """The last bytes of a file."""
    with opened(path) as file:
        if not is_compressed(path):
            file.seek(max(0, os.fstat(file.fileno()).st_size - TAIL))
            return file.read()
        tail = b""
        while data := file.read(1 << 20):
            tail = (tail + data)[-TAIL:]
        return tail
