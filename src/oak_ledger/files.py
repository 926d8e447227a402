"""Writing files: one whole or not at all; several all or none, even when the process is killed at any moment.

Several files are written after an intent that says all of them before and after. Whoever opens one of them later finishes what was begun,
or takes it back where somebody has changed a file since.

- All files or none, under any kill (`files.py`). Before several files are written, an *intent* with all of them
  before and after is put on the disk, and beside each file what names it. Whoever opens one of them next finishes
  what was begun, or takes it back where somebody has changed a file since. The edit log keeps differences with the
  lines around them, so that undo works after other lines were changed by hand.

- Writing is atomic. Beside the file first, flushed, then put in its place; an edit of several files puts back what it
  wrote if one fails, and is kept in a log beside the definition, under a lock, for undo.
"""

from __future__ import annotations

import json
import os
import secrets
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oak_ledger.errors import UnusableInput

WAIT_SECONDS = 5.0


@dataclass(frozen=True, slots=True)
class FileChange:
    """A file's bytes before and after, as text; None where there is no file."""

    path: Path
    before: str | None
    after: str | None


def write_text(path: Path, text: str) -> None:
    """Write a text file whole or not at all: beside it first, then in its place."""
    write_atomically(path, lambda temporary: temporary.write_bytes(text.encode("utf-8")))


def write_atomically(path: Path, write: Callable[[Path], Any]) -> None:
    """Have a file written beside its place, and put it there only when it is whole and on the disk."""
    temporary = path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")
    try:  # an interruption at any moment from here on leaves nothing behind
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary.open("xb").close()
        temporary.chmod(path.stat().st_mode & 0o777 if path.exists() else 0o644)
        write(temporary)
        with temporary.open("rb+") as file:
            os.fsync(file.fileno())
        temporary.replace(path)
    except OSError as error:
        said = error.strerror or str(error)
        raise UnusableInput("not-written", f"{path} cannot be written: {said}.", hint="Nothing was changed.") from error
    finally:
        with suppress(OSError):  # it was never made, or is in its place
            temporary.unlink()


def raw_text(path: Path) -> str | None:
    """A text file with its line ends and its mark as they are; None where there is none."""
    try:
        return path.read_bytes().decode("utf-8")
    except FileNotFoundError:
        return None


@contextmanager
def locked(owner: Path) -> Iterator[None]:
    """Only one process edits a file and what belongs to it at a time; a second one waits, and gets an error if that takes too long."""
    from filelock import FileLock, Timeout

    lock = FileLock(owner.parent / f".{owner.name}.lock", timeout=WAIT_SECONDS, poll_interval=0.02)
    try:
        lock.acquire()
    except Timeout:
        message = f"{owner.name} is being edited in another terminal."
        raise UnusableInput("locked", message, hint="Try again when that is done. Nothing was changed.") from None
    except OSError as error:
        message = f"{owner} cannot be written: {error.strerror}."
        raise UnusableInput("not-written", message, hint="Nothing was changed.") from error
    try:
        yield
    finally:
        lock.release()


def write_together(owner: Path, changes: Sequence[FileChange]) -> None:
    """Write several files, all or none. `owner` is the file whose lock is held. Raises UnusableInput; then nothing is changed."""
    intent = _intent_path(owner)
    try:
        entries = [
            {"path": _from(intent, change.path), "before": change.before, "after": change.after} for change in changes
        ]
        write_text(intent, json.dumps(entries))
        for change in changes:
            if change.path != owner:
                write_text(_intent_path(change.path), json.dumps({"intent": _from(change.path, intent)}))
        for change in changes:
            _put(change.path, change.after)
    except BaseException:
        _put_all(changes, back=True)
        _forget(intent, changes)
        raise
    _forget(intent, changes)


def finish(path: Path) -> None:
    """Finish what a process that was killed had begun with a file, or take it back; nothing where nothing was begun."""
    own = _intent_path(path)
    if not own.exists():
        return
    intent = _named_by(own)
    owner = intent.with_name(intent.name[1:].removesuffix(_ENDING))
    with locked(owner):
        finish_locked(owner)
        with suppress(OSError):
            own.unlink()  # where it named an intent that was forgotten already


def finish_locked(owner: Path) -> None:
    """The same, by whoever has the lock of the owner."""
    intent = _intent_path(owner)
    text = raw_text(intent)
    if text is None:
        return
    changes = [FileChange(intent.parent / load["path"], load["before"], load["after"]) for load in json.loads(text)]
    untouched = all(raw_text(change.path) in (change.before, change.after) for change in changes)
    _put_all(changes, back=not untouched)
    _forget(intent, changes)


_ENDING = ".intent"


def _intent_path(path: Path) -> Path:
    return path.with_name(f".{path.name}{_ENDING}")


def _named_by(own: Path) -> Path:
    """The intent that is meant: this one, or the one that it names."""
    try:
        said = json.loads(own.read_bytes())
    except FileNotFoundError:
        return own
    return Path(os.path.normpath(own.parent / said["intent"])) if isinstance(said, dict) else own


def _from(place: Path, path: Path) -> str:
    return os.path.relpath(path, place.parent)


def _put(path: Path, text: str | None) -> None:
    if text is not None:
        write_text(path, text)
    else:
        path.unlink(missing_ok=True)


def _put_all(changes: Sequence[FileChange], *, back: bool) -> None:
    """Bring the files that are at one end of their change to the other; what somebody else has changed stays."""
    for change in changes:
        there, wanted = (change.after, change.before) if back else (change.before, change.after)
        if raw_text(change.path) == there and there != wanted:
            _put(change.path, wanted)


def _forget(intent: Path, changes: Sequence[FileChange]) -> None:
    """Remove what was needed to finish: the intent last."""
    for change in changes:
        for left in change.path.parent.glob(f".{change.path.name}.*.part"):
            left.unlink(missing_ok=True)
        own = _intent_path(change.path)
        if own != intent:
            own.unlink(missing_ok=True)
    intent.unlink(missing_ok=True)
