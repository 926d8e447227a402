"""Writing edits: all files or none, one at a time even from two terminals, each kept in a log for undo and redo.

The log keeps the lines that changed with those around them, not whole files. So an edit can be undone after somebody has changed other
lines by hand; where the same lines were changed, they are named and nothing is written.
"""

from __future__ import annotations

import datetime as dt
import getpass
import itertools
import json
import os
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.files import FileChange, finish_locked, locked, raw_text, write_together

MAX_LOGGED_EDITS = 200
MAX_LOG_CHARACTERS = 2_000_000
AROUND = 2  # lines kept before and after those that changed


@dataclass(frozen=True, slots=True)
class FileEdit:
    """A file's text before and after."""

    path: Path
    before: str
    after: str

    def lines(self) -> list[tuple[int, str, str]]:
        """The lines that change, each as (line number before, before, after); an empty text is a line that is not there."""
        return [line for hunk in hunks_of(self.before, self.after) for line in hunk.lines()]


@dataclass(frozen=True, slots=True)
class Hunk:
    """Lines next to each other that changed: from which line (from 0) before and after, what they were and are, and the lines around them."""

    start_before: int
    start_after: int
    before: tuple[str, ...]
    after: tuple[str, ...]
    above: tuple[str, ...]
    below: tuple[str, ...]

    def lines(self) -> Iterable[tuple[int, str, str]]:
        """Each line as (line number before, before, after)."""
        pairs = itertools.zip_longest(self.before, self.after, fillvalue="")
        return ((self.start_before + at, before, after) for at, (before, after) in enumerate(pairs, 1))

    def turned(self) -> Hunk:
        """The way back."""
        return Hunk(self.start_after, self.start_before, self.after, self.before, self.above, self.below)

    def place(self, lines: Sequence[str], start: int) -> int | None:
        """Where in a text these lines are before the change: nearest to `start`, with the most lines around them the same; None if nowhere."""
        size = len(self.before)
        best: tuple[tuple[int, int], int] | None = None
        places = 0
        around = len(self.above) + len(self.below)
        for at in (start, *range(len(lines) - size + 1)):
            if at < 0 or tuple(lines[at : at + size]) != self.before or (at == start and best is not None):
                continue
            above = sum(
                one == other
                for one, other in zip(reversed(self.above), reversed(lines[max(at - AROUND, 0) : at]), strict=False)
            )
            below = sum(
                one == other for one, other in zip(self.below, lines[at + size : at + size + AROUND], strict=False)
            )
            if above + below == around and at == start:
                return int(at)
            rank = (above + below, -abs(at - start))
            if any(self.before) or above + below == around:
                best = max(best, (rank, at)) if best is not None else (rank, at)
                places += 1
        known = best is not None and (best[0][0] > 0 or best[1] == start or places == 1)
        return best[1] if best is not None and known else None


def hunks_of(before: str, after: str) -> list[Hunk]:
    """What changed between two texts."""
    from rapidfuzz.distance import Indel

    old, new = before.split("\n"), after.split("\n")
    hunks: list[Hunk] = []
    groups = [
        (equal, list(some))
        for equal, some in itertools.groupby(Indel.opcodes(old, new), key=lambda opcode: opcode.tag == "equal")
    ]
    for number, (equal, some) in enumerate(groups):
        if not equal:
            first, last = some[0], some[-1]
            removed, added = old[first.src_start : last.src_end], new[first.dest_start : last.dest_end]
            # only lines that are the same before and after: those between this change and the next ones
            begin = groups[number - 1][1][0].src_start if number else first.src_start
            end = groups[number + 1][1][-1].src_end if number + 1 < len(groups) else last.src_end
            above = old[max(first.src_start - AROUND, begin) : first.src_start]
            below = old[last.src_end : min(last.src_end + AROUND, end)]
            hunks.append(Hunk(first.src_start, first.dest_start, *map(tuple, (removed, added, above, below))))
    return hunks


def patched(path: Path, text: str, hunks: Sequence[Hunk]) -> str:
    """A text with changes made, also where other lines of it have changed since. Raises UnusableInput where the same lines have."""
    lines, shift, missing = text.split("\n"), 0, []
    for hunk in hunks:
        start = hunk.start_before + shift
        at = hunk.place(lines, start)
        if at is None:
            missing.append(hunk)
            continue
        lines[at : at + len(hunk.before)] = hunk.after
        shift += at - start + len(hunk.after) - len(hunk.before)
    if missing:
        wanted = [
            f"line {number}: {before or 'a line more'} → {after or 'removed'}"
            for hunk in missing
            for number, before, after in hunk.lines()
        ]
        message = f"{path.name} has changed where this would be written: {'; '.join(wanted[:3])}{' …' if len(wanted) > 3 else ''}."
        raise UnusableInput("changed-meanwhile", message, hint="Change these lines by hand. Nothing was written.")
    return "\n".join(lines)


@dataclass(frozen=True, slots=True)
class LoggedFile:
    """What an edit changed in a file."""

    path: Path
    hunks: tuple[Hunk, ...]

    def lines(self) -> list[tuple[int, str, str]]:
        """The lines that changed, each as (line number before, before, after)."""
        return [line for hunk in self.hunks for line in hunk.lines()]

    def edit(self, *, back: bool) -> FileEdit:
        """The change to the file as it is now, there or back. Raises UnusableInput where the lines have changed since."""
        there = _plain(raw_text(self.path))
        hunks = [hunk.turned() for hunk in self.hunks] if back else self.hunks
        return FileEdit(self.path, there, patched(self.path, there, hunks))


@dataclass(frozen=True, slots=True)
class Edit:
    """One edit of the log: when, by whom, what was done, the files; whether it is undone."""

    at: str
    by: str
    what: str
    files: tuple[LoggedFile, ...]
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
        hint = "Remove the file to begin a new log."
        raise UnusableInput("bad-log", f"{log_path(definition)} cannot be read: {error}.", hint=hint) from error


_NAME = re.compile(r"""\s*name\s*=\s*(["'])(.*)\1""")


def names_in_log(definition: Path) -> dict[str, str]:
    """The names that entries had, as the log shows, each with the name that came of it (old: new)."""
    found: dict[str, str] = {}
    for edit in edits_of(definition):
        lines = [
            line
            for file in edit.files
            if file.path.name == definition.name and not edit.undone
            for line in file.lines()
        ]
        for _, before, after in lines:
            old, new = _NAME.match(before), _NAME.match(after)
            if old is not None and new is not None and old[2] != new[2]:
                found = {name: new[2] if now == old[2] else now for name, now in found.items()} | {old[2]: new[2]}
    return found


def _edit(values: dict[str, Any], folder: Path) -> Edit:
    files = tuple(LoggedFile(folder / one["path"], tuple(_hunks(one))) for one in values["files"])
    return Edit(values["at"], values["by"], values["what"], files, bool(values["undone"]))


def _hunks(values: dict[str, Any]) -> Iterable[Hunk]:
    return (Hunk(first, second, *map(tuple, texts)) for first, second, *texts in values["hunks"])


def write_edits(definition: Path, files: Sequence[FileEdit], what: str) -> None:
    """Write all files or none, and keep the edit in the definition's log.

    Raises UnusableInput where a file has changed since it was read, or cannot be written; then nothing is changed.
    """
    with locked(definition):
        finish_locked(definition)
        done = [edit for edit in edits_of(definition) if not edit.undone]
        who = os.environ.get("OAK_USER") or getpass.getuser()
        now = dt.datetime.now().isoformat(" ", "seconds")
        logged = tuple(LoggedFile(file.path, tuple(hunks_of(file.before, file.after))) for file in files)
        _write(definition, files, [*done, Edit(now, who, what, logged, undone=False)])


def undo(definition: Path) -> Edit:
    """Take back the last edit that is not undone; lines that were changed by hand elsewhere stay.

    Raises OakError where there is none, or where the same lines have changed since.
    """
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
    with locked(definition):
        finish_locked(definition)
        edits = edits_of(definition)
        at = _next(edits, definition, back=back)
        edit = edits[at]
        turned = [file.edit(back=back) for file in edit.files]
        edits[at] = Edit(edit.at, edit.by, edit.what, edit.files, undone=back)
        _write(definition, turned, edits)
        shown = tuple(LoggedFile(edit.path, tuple(hunks_of(edit.before, edit.after))) for edit in turned)
        return Edit(edit.at, edit.by, edit.what, shown, undone=back)


def _plain(raw: str | None) -> str:
    """A file's text as definitions are read: without a mark at the beginning, lines ended by one character."""
    return (raw or "").removeprefix("\ufeff").replace("\r\n", "\n")


def _write(definition: Path, files: Sequence[FileEdit], edits: Sequence[Edit]) -> None:
    """Write files and the log together, with the line ends and the mark that each file has."""
    changes = []
    for file in files:
        raw = raw_text(file.path)
        if _plain(raw) != file.before:
            message = f"{file.path.name} has changed since it was read; nothing was written."
            raise UnusableInput("changed-meanwhile", message, hint="Look at the file, then do it again.")
        after = file.after.replace("\n", "\r\n") if "\r\n" in (raw or "") else file.after
        changes.append(FileChange(file.path, raw, "\ufeff" + after if (raw or "").startswith("\ufeff") else after))
    log = log_path(definition)
    write_together(definition, [*changes, FileChange(log, raw_text(log), _log_text(definition, edits))])


def _log_text(definition: Path, edits: Sequence[Edit]) -> str:
    """The newest edits, as many as there is room for."""
    folder, room = definition.parent, MAX_LOG_CHARACTERS
    lines: list[str] = []
    for edit in reversed(edits[-MAX_LOGGED_EDITS:]):
        files = [
            {
                "path": os.path.relpath(str(file.path), str(folder) or "."),
                "hunks": [
                    [hunk.start_before, hunk.start_after, hunk.before, hunk.after, hunk.above, hunk.below]
                    for hunk in file.hunks
                ],
            }
            for file in edit.files
        ]
        values = {"at": edit.at, "by": edit.by, "what": edit.what, "undone": edit.undone, "files": files}
        line = json.dumps(values, ensure_ascii=False) + "\n"
        room -= len(line)
        if room < 0 and lines:
            break
        lines.append(line)
    return "".join(reversed(lines))
