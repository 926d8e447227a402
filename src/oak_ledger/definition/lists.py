"""Lists kept in small files: what is meant by what is found, and names."""

from __future__ import annotations

from pathlib import Path

from oak_ledger.errors import UnusableInput
from oak_ledger.origin.csv.dialect import rows_of
from oak_ledger.origin.csv.encoding import encoding_of
from oak_ledger.origin.csv.opened import head_of


def two_columns(path: Path) -> dict[str, str]:
    """A file of two columns, found and meant, as a recode list; a first line that says so is a header."""
    rows = [row for row in rows_of(_text_of(path)) if any(row)]
    bad = next((at for at, row in enumerate(rows, 1) if len(row) != 2), None)
    if bad is not None:
        message = f"{path.name}, row {bad} has {len(rows[bad - 1])} values; a recode list has two: found and meant."
        raise UnusableInput("bad-list", message)
    if rows and [cell.strip().lower() for cell in rows[0]] in (["found", "meant"], ["from", "to"], ["old", "new"]):
        rows = rows[1:]
    meant: dict[str, str] = {}
    for found, now in rows:
        if meant.setdefault(found, now) != now:
            message = f"{path.name} gives {found!r} two meanings: {meant[found]!r} and {now!r}."
            raise UnusableInput("bad-list", message, hint="Keep one of the two lines.")
    return meant


def listed_names(path: Path) -> list[str]:
    """A list of names, one a line or separated in one line. Raises UnusableInput where a name is there twice."""
    names = [line.strip() for line in _text_of(path).splitlines() if line.strip()]
    if len(names) == 1:
        names = [cell.strip() for cell in rows_of(names[0])[0]]
    known: dict[str, str] = {}
    for name in names:
        if name.casefold() in known:
            message = f"{path.name} has the name {name!r} twice."
            raise UnusableInput(
                "bad-list", message, hint="Each column needs a name of its own; letter case does not tell them apart."
            )
        known[name.casefold()] = name
    return names


def _text_of(path: Path) -> str:
    return path.read_text(encoding_of(path, head_of(path))[0])
