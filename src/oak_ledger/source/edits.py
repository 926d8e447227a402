"""Writing edits: all files or none, one at a time even from two terminals, each kept in a log for undo and redo."""

from __future__ import annotations

import datetime as dt
import getpass
import itertools
import json
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.source.document import write_text

MAX_LOGGED_EDITS = 200
WAIT_SECONDS = 5.0


@dataclass(frozen=True, slots=True)
class FileEdit:
    """A file's text before and after."""

    path: Path
    before: str
    after: str

    def lines(self) -> list[tuple[int, str, str]]:
        """The lines that change, each as (line number before, before, after); an empty text is a line that is not there."""
        from rapidfuzz.distance import Levenshtein

        old, new = self.before.split("\n"), self.after.split("\n")
        found = []
        for hunk in Levenshtein.opcodes(old, new):
            if hunk.tag == "equal":
                continue
            removed, added = old[hunk.src_start : hunk.src_end], new[hunk.dest_start : hunk.dest_end]
            pairs = itertools.zip_longest(removed, added, fillvalue="")
            found += [(hunk.src_start + at, before, after) for at, (before, after) in enumerate(pairs, 1)]
        return found


@dataclass(frozen=True, slots=True)
class Edit:
    """One edit of the log: when, by whom, what was done, the files; whether it is undone."""

    at: str
    by: str
    what: str
    files: tuple[FileEdit, ...]
    undone: bool


def log_path(definition: Path) -> Path:
    """Where the log of a definition is: beside it."""
    return definition.parent / f".{definition.name}.edits"


def edits_of(definition: Path) -> list[Edit]:
    """The edits of a definition, oldest first."""
    try:
        lines = log_path(definition).read_text("utf-8").splitlines()
        return [_edit(json.loads(line), definition.parent) for line in lines]
    except FileNotFoundError:
        return []
    except (OSError, ValueError, KeyError, TypeError) as error:
        hint = "Take the file away to begin a new log."
        raise UnusableInput("bad-log", f"{log_path(definition)} cannot be read: {error}.", hint=hint) from error


def _edit(values: dict[str, Any], folder: Path) -> Edit:
    files = tuple(FileEdit(folder / one["path"], one["before"], one["after"]) for one in values["files"])
    return Edit(values["at"], values["by"], values["what"], files, bool(values["undone"]))


def write_edits(definition: Path, files: Sequence[FileEdit], what: str) -> None:
    """Write all files or none, and keep the edit in the definition's log.

    Raises UnusableInput where a file has changed since it was read, or cannot be written; then nothing is changed.
    """
    with _locked(definition):
        _write_all(files)
        done = [edit for edit in edits_of(definition) if not edit.undone]
        who = os.environ.get("OAK_USER") or getpass.getuser()
        now = dt.datetime.now().isoformat(" ", "seconds")
        _keep(definition, [*done, Edit(now, who, what, tuple(files), undone=False)])


def undo(definition: Path) -> Edit:
    """Take back the last edit that is not undone; raises OakError where there is none, or a file has changed since."""
    return _revert(definition, back=True)


def redo(definition: Path) -> Edit:
    """Do again what was undone last; raises OakError where there is none."""
    return _revert(definition, back=False)


def last_done(definition: Path, *, undone: bool) -> Edit:
    """The edit that `undo` would take back, or (`undone`) that `redo` would do again."""
    edits = edits_of(definition)
    return edits[_next(edits, definition, back=not undone)]


def _next(edits: Sequence[Edit], definition: Path, *, back: bool) -> int:
    wanted = [at for at, edit in enumerate(edits) if edit.undone != back]
    if not wanted:
        said = "undo" if back else "redo"
        raise OakError(f"nothing-to-{said}", f"There is nothing to {said} in {definition.name}.")
    return wanted[-1] if back else wanted[0]


def _revert(definition: Path, *, back: bool) -> Edit:
    with _locked(definition):
        edits = edits_of(definition)
        at = _next(edits, definition, back=back)
        edit = edits[at]
        turned = [FileEdit(one.path, one.after, one.before) if back else one for one in edit.files]
        _write_all(turned)
        edits[at] = Edit(edit.at, edit.by, edit.what, edit.files, undone=back)
        _keep(definition, edits)
        return Edit(edit.at, edit.by, edit.what, tuple(turned), undone=back)


def _write_all(files: Sequence[FileEdit]) -> None:
    for one in files:
        there = one.path.read_text("utf-8").replace("\r\n", "\n") if one.path.exists() else ""
        if there != one.before:
            message = f"{one.path.name} has changed since it was read; nothing was written."
            raise UnusableInput("changed-meanwhile", message, hint="Look at the file, then do it again.")
    written: list[FileEdit] = []
    try:
        for one in files:
            write_text(one.path, one.after)
            written.append(one)
    except UnusableInput:
        for one in written:
            write_text(one.path, one.before)
        raise


def _keep(definition: Path, edits: Sequence[Edit]) -> None:
    folder = definition.parent
    lines = [
        json.dumps({
            "at": edit.at, "by": edit.by, "what": edit.what, "undone": edit.undone,
            "files": [{"path": os.path.relpath(str(one.path), str(folder) or "."), "before": one.before, "after": one.after} for one in edit.files],
        }, ensure_ascii=False)
        for edit in edits[-MAX_LOGGED_EDITS:]
    ]  # fmt: skip
    write_text(log_path(definition), "".join(line + "\n" for line in lines))


@contextmanager
def _locked(definition: Path) -> Iterator[None]:
    """Only one process edits a definition at a time; a second one waits, and gets an error if it has to wait too long."""
    from filelock import FileLock, Timeout

    lock = FileLock(definition.parent / f".{definition.name}.lock", timeout=WAIT_SECONDS, poll_interval=0.02)
    try:
        lock.acquire()
    except Timeout:
        message = f"{definition.name} is being edited in another terminal."
        raise UnusableInput("locked", message, hint="Try again when that is done. Nothing was changed.") from None
    except OSError as error:
        message = f"{definition} cannot be written: {error.strerror}."
        raise UnusableInput("not-written", message, hint="Nothing was changed.") from error
    try:
        yield
    finally:
        lock.release()
