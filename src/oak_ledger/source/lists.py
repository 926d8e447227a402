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
    return {row[0]: row[1] for row in rows}


def listed_names(path: Path) -> list[str]:
    """A list of names, one a line or separated in one line."""
    lines = [line.strip() for line in _text_of(path).splitlines() if line.strip()]
    if len(lines) == 1:
        return [cell.strip() for cell in rows_of(lines[0])[0]]
    return lines


def _text_of(path: Path) -> str:
    return path.read_text(encoding_of(path, head_of(path))[0])
