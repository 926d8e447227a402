"""Where the names of a table's columns are, and what they are: judged from its first rows, with the reason."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from oak_ledger.origin.evidence import NULL_WORDS
from oak_ledger.origin.spec import Header

Row = Sequence[str]
_NUMBER = re.compile(r"[+-]?(?:\d[\d.,' ]*|[.,]\d+)(?:[eE][+-]?\d+)?\s?%?")
_DATE = re.compile(r"\d{4}[-/.]\d{1,2}(?:[-/.]\d{1,2})?(?:[T ].*)?|\d{1,2}[-/.]\d{1,2}[-/.]\d{2,4}(?: .*)?")
DIFFERS = "the first row differs from those below"
_YEARS = range(1900, 2101)
MOST = 0.9  # so many of a column's values say what it holds


@dataclass(frozen=True, slots=True)
class FoundHeader:
    """The line that holds the names (or `first`, `none`), how many lines they take, and why that is believed."""

    header: Header
    lines: int
    why: str


def judge_header(rows: Sequence[Row]) -> FoundHeader:
    """Where the names are in the first rows of a table; blank lines are empty rows."""
    width = usual_width(rows)
    start = next((at for at, row in enumerate(rows) if not _is_title(row, width)), 0)
    full = next((at for at, row in enumerate(rows) if len(row) == width), start)
    if full > start and _is_header(rows[full], [row for row in rows[full + 1 :] if row])[1].startswith(DIFFERS):
        start = full  # shorter rows above names are facts about the table
    titled = any(rows[:start]) and start > 0
    start = start if titled else next((at for at, row in enumerate(rows) if row), 0)
    body = [row for row in rows[start + 1 :] if row]
    two, why = _two_lines(rows[start], body), ""
    if two:
        start, why = rows.index(body[0], start + 1), "the names are in two rows, a group above a name"
    else:
        named, why = _is_header(rows[start], body)
        if not named:
            return FoundHeader("none", 1, why)
    why = f"the lines above it are a title; {why}" if titled else why
    return FoundHeader(start + 1 if titled or two else "first", 2 if two else 1, why)


def usual_width(rows: Sequence[Row]) -> int:
    """How many values most rows have."""
    return Counter(len(row) for row in rows if row).most_common(1)[0][0] if any(rows) else 0


def _is_title(row: Row, width: int) -> bool:
    """Whether a line before the table is a title: it has values at its beginning only, and no more than half as many as the rows have."""
    filled = [at for at, cell in enumerate(row) if cell.strip()]
    return len(filled) <= max(1, width // 2) and filled == [*range(len(filled))] and (width > 1 or not filled)


def _kind(cell: str) -> str:
    text = cell.strip()
    if not text or text in NULL_WORDS:
        return ""
    return "date" if _DATE.fullmatch(text) else "number" if _NUMBER.fullmatch(text) else "text"


def column_kind(column: Sequence[str]) -> str:
    """What most values of a column are; empty where it has none."""
    found = Counter(kind for kind in map(_kind, column) if kind)
    if not found:
        return ""
    kind, times = found.most_common(1)[0]
    return kind if times >= MOST * found.total() else "text"


def _columns(first: Row, body: Sequence[Row]) -> Iterator[tuple[str, list[str]]]:
    """Each value of the first row with what is below it."""
    for at, cell in enumerate(first):
        yield cell, [row[at] for row in body if at < len(row)]


def _is_header(first: Row, body: Sequence[Row]) -> tuple[bool, str]:
    """Whether a row holds names, by its difference from what is below."""
    kinds = [(cell, _kind(cell), column_kind(column)) for cell, column in _columns(first, body)]
    if not body:
        numbers = [cell for cell, kind, _ in kinds if kind in ("number", "date")]
        return not numbers, "the only row holds " + ("numbers" if numbers else "no numbers")
    steps = _steps([cell for cell, kind, own in kinds if kind == own == "number"], first, body)
    unlike = [cell for cell, kind, own in kinds if kind and own and kind != own and own != "text"]
    alike = [cell for cell, kind, own in kinds if kind == own != "text" and kind] if not steps else []
    if unlike or steps:
        if len(alike) > len(unlike):
            return False, f"the first row holds {alike[0]!r}, as the rows below do"
        what = f", {steps}" if steps else f", such as {unlike[0].strip()!r} over values that are not text"
        return True, f"{DIFFERS}{what}"
    if alike:
        return False, f"the first row holds numbers or dates, such as {alike[0]!r}, as the rows below do"
    if len({*first}) < len([*first]):
        return False, "the first row has a value twice, and nothing else sets it apart"
    if any(not cell.strip() for cell in first):
        return False, "the first row has an empty value, and nothing else sets it apart"
    again = next((cell for cell, column in _columns(first, body) if cell in column), None)
    if again is not None:
        return False, f"{again!r} of the first row comes again below it"
    return True, "the first row holds different texts and no numbers"


def _steps(numbers: Sequence[str], first: Row, body: Sequence[Row]) -> str:
    """What numbers in the first row count as names: years, or 1, 2, 3, where the values below are not."""
    if len(numbers) < 2 or not all(number.strip().isdigit() for number in numbers):
        return ""
    whole = [int(number) for number in numbers]
    places = [at for at, cell in enumerate(first) if cell in numbers]
    below = [[row[at].strip() for at in places if at < len(row)] for row in body]
    if all(one in _YEARS for one in whole) and len({*whole}) == len(whole):
        years = sum(cell.isdigit() and int(cell) in _YEARS for row in below for cell in row)
        return "its numbers are years" if years * 2 < sum(map(len, below)) else ""
    counted = len(whole) > 2 and all(after - before == 1 for before, after in pairwise(whole))
    again = any([cell.isdigit() and int(cell) for cell in row] == whole for row in below)
    return "its numbers count the columns" if counted and not again else ""


def _two_lines(first: Row, body: Sequence[Row]) -> bool:
    """Whether the first row groups the names in the row below it."""
    if len(body) < 2:
        return False
    groups = [cell.strip() for cell in first]
    filled = [at for at, cell in enumerate(groups) if cell]
    spread = filled != [*range(len(filled))] or len({groups[at] for at in filled}) < len(filled)
    second = [cell.strip() for cell in body[0]]
    if not spread or len(filled) < 2 or len(second) < len(first) or 2 * sum(map(bool, second)) < len(second):
        return False
    if not all(own or above for own, above in zip(second, [*groups, *second[len(groups) :]], strict=False)):
        return False  # a name may be in the upper row alone
    joined = _joined(groups, second)
    texts = all(_kind(cell) == "text" for cell in second if cell)
    return (
        texts and len({*joined}) == len(joined) and _is_header(second, body[1:])[1].startswith("the first row differs")
    )


def _joined(groups: Row, names: Row) -> list[str]:
    """A group and a name as one; a group holds for the columns after it that have none."""
    made, group = [], ""
    for at, name in enumerate(names):
        group = (groups[at].strip() if at < len(groups) else "") or group
        made.append(" ".join(f"{group} {name}".split()))
    return made


def arriving_names(lines: Sequence[Row], body: Sequence[Row]) -> list[str]:
    """The names in some lines, for the columns that the rows have; empty where a column has no name.

    Line ends in a name become spaces. A name is missing at the beginning where rows are counted, and at the end where lines end in a separator.
    """
    names = [" ".join(cell.split()) for cell in lines[-1]]
    for groups in lines[-2::-1]:
        names = _joined(groups, names)
    width = usual_width(body) if body else len(names)
    if len(names) == width + 1 and not names[-1]:
        return names[:-1]
    if len(names) == width - 1:
        last, first = [[row[at].strip() for row in body if len(row) == width] for at in (-1, 0)]
        if not any(last):
            return [*names, ""]
        counted = [int(one) for one in first if one.isdigit()]
        if len(counted) == len(first) and all(after - before == 1 for before, after in pairwise(counted)):
            return ["", *names]
    return names


def renamed_among(names: Sequence[str], renamed: Mapping[str, str]) -> dict[str, str]:
    """What of `renamed` concerns these names: a name that is meant to become one that is there itself stays what it is."""
    there = {name.casefold() for name in names}
    return {old: new for old, new in renamed.items() if old in names and new.casefold() not in there - {old.casefold()}}


def column_names_of(written_names: Sequence[str], renamed: Mapping[str, str]) -> list[str]:
    """The names of columns: renamed as the definition says, `Column 1` where there is none, `Loads 2` where `Loads` is taken."""
    meant = renamed_among(written_names, renamed)
    names = [meant.get(name, name) or f"Column {at + 1}" for at, name in enumerate(written_names)]
    taken = {name.casefold() for name in names}
    made: list[str] = []
    seen: set[str] = set()
    for name in names:
        number = 1
        if name.casefold() in seen:
            while f"{name} {(number := number + 1)}".casefold() in taken:
                pass
            name = f"{name} {number}"
            taken.add(name.casefold())
        seen.add(name.casefold())
        made.append(name)
    return made


def said_of_names(written_names: Sequence[str], names: Sequence[str]) -> list[tuple[str, str]]:
    """What was done about names that were missing or there twice, as decisions of intake."""
    unnamed = [name for given, name in zip(written_names, names, strict=True) if not given]
    said = [(f"names {', '.join(unnamed)}", "the file gives these columns no name")] if unnamed else []
    numbered = [name for given, name in zip(written_names, names, strict=True) if given and name != given]
    twice = [name for name in numbered if any(name.startswith(f"{given} ") for given in written_names if given)]
    return said + ([(f"names {', '.join(twice)}", "the file has the name more than once")] if twice else [])
