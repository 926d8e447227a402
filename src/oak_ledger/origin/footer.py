"""Lines at the end of a table that are not rows: totals, counts, notes, and what is between them."""

from __future__ import annotations

import re
from collections.abc import Sequence

LAST_LINES = 12  # that may be no rows
_WORDS = (
    r"sub-?totals?|grand totals?|totals?|sums?|overall|summe|gesamt(?:summe)?|zwischensumme|insgesamt|total g[eé]n[eé]ral|sous-total|somme|totale|totaal|suma|razem|celkem|"
    r"összesen|итого|всего"
)  # fmt: skip
_TOTAL = re.compile(rf"(?i)\W*(?:{_WORDS})\b(?:\s+(?:of|for|in|per)\b.*|[\W\d]*)")
_NOTE = re.compile(
    r"(?i)\W*(?:(?:no|number|count) of (?:rows|records|lines)\b.*|(?:rows?|records?|count|lines?)\W*\d+|\d+ (?:rows?|records?|lines?)\b.*|end of (?:report|file|list|data)\b.*|end)\W*"
)
_RULE = re.compile(r"[-=_*.+| ]+")


def lines_after_rows(last: Sequence[Sequence[str]], width: int) -> tuple[int, str]:
    """How many of the last lines of a table are not rows, and why; `width` is how many values rows have."""
    count, what = 0, ""
    for at, row in enumerate(reversed(last), 1):
        said = next((cell.strip() for cell in row if cell.strip()), "")
        if _ends(row, said, width):
            count, what = at, said
        elif said and not _RULE.fullmatch("".join(row)):
            break
    return min(count + _blanks_before(last, count), len(last)), f"it begins with {what!r}" if count else ""


def _ends(row: Sequence[str], said: str, width: int) -> bool:
    """Whether a last line is a total or a note."""
    if _TOTAL.fullmatch(said):
        return True
    return (
        bool(_NOTE.fullmatch(said))
        and (width > 1 or not said.isalnum())
        and sum(bool(cell.strip()) for cell in row) <= max(1, width - 1)
    )


def _blanks_before(last: Sequence[Sequence[str]], count: int) -> int:
    """How many lines without a value or with a rule come before those."""
    before = 0
    for row in last[: len(last) - count][::-1] if count else ():
        if not _RULE.fullmatch("".join(row) or " "):
            break
        before += 1
    return before
