"""Lines at the end of a table that are not rows: totals, counts, notes, and what is between them."""

from __future__ import annotations

import re
from collections.abc import Sequence

from oak_ledger.origin.header import column_kind, usual_width

LAST_LINES = 12  # that may be no rows
KIND_ROWS, MOST_FILLED = 200, 0.9  # rows by which the kinds of columns are judged, and how many must have a value there
_WORDS = (
    r"sub-?totals?|grand totals?|totals?|sums?|overall|summe|gesamt(?:summe)?|zwischensumme|insgesamt|total g[eé]n[eé]ral|sous-total|somme|totale|totaal|suma|razem|celkem|"
    r"összesen|итого|всего"
)  # fmt: skip
_TOTAL = re.compile(rf"(?i)\W*(?:{_WORDS})\b(?:\s+(?:of|for|in|per)\b.*|[\W\d]*)")
_NOTE = re.compile(
    r"(?i)\W*(?:(?:no|number|count) of (?:rows|records|lines)\b.*|(?:total\W+)?(?:rows?|records?|count|lines?)\W*\d+|\d+ (?:rows?|records?|lines?)\b.*|end of (?:report|file|list|data)\b.*|end)\W*"
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


def own_footer(last: Sequence[Sequence[str]], body: Sequence[Sequence[str]], told: int) -> int:
    """How many of the last records of this table are not rows: those that say so themselves, and of those that the definition tells of (`told`)
    the ones that do not look as the rows in `body` do."""
    found, _ = lines_after_rows(last, usual_width(body))
    body = body[: max(len(body) - max(found, told), 1)] if len(body) <= KIND_ROWS else body
    extra = last[max(len(last) - told, 0) : len(last) - found]
    return found if any(_is_row(row, body) for row in extra) else max(found, min(told, len(last)))


def _is_row(row: Sequence[str], body: Sequence[Sequence[str]]) -> bool:
    """Whether a record looks as most rows do: as wide, and with values of their kinds wherever they have some."""
    width = usual_width(body)
    if len(row) != width:
        return False
    for at in range(width):
        column = [one[at] for one in body[:KIND_ROWS] if len(one) == width]
        usual = column_kind([one for one in column if one.strip()])
        if sum(bool(one.strip()) for one in column) > MOST_FILLED * len(column) and column_kind([row[at]]) != usual:
            return False
    return True


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
