"""Delimited text files: finding out how one is written, from its beginning and its end, each decision with its evidence."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from itertools import accumulate, islice
from pathlib import Path
from typing import Any

from oak_ledger.errors import UnusableInput
from oak_ledger.origin.csv.encoding import decoded, encoding_of
from oak_ledger.origin.csv.opened import HEAD, head_of, tail_of
from oak_ledger.origin.footer import LAST_LINES, lines_after_rows, own_footer
from oak_ledger.origin.header import arriving_names, column_names_of, judge_header, said_of_names, usual_width
from oak_ledger.origin.spec import Header, ReadingSpec

SEPARATORS = ("\t", ";", "|", ",")
_NAMES = {"tab": "\t", "semicolon": ";", "comma": ",", "bar": "|", "pipe": "|", "space": " ", "colon": ":", "\\t": "\t"}
DETECTION_ROWS = 1000  # rows
ENCLOSED_IN = 1 << 16  # characters in which values in quotes are counted
CONSISTENT = 0.95  # so many rows must have one number of values for a separator to be beyond doubt


@dataclass(frozen=True, slots=True)
class Dialect:
    """How a file is written, and why that is believed (`evidence`: what was decided, and from what)."""

    separator: str
    quote: str
    escape: str
    spaces: bool
    encoding: str
    header: Header
    header_lines: int
    comment: str
    footer: int
    evidence: tuple[tuple[str, str], ...]

    def keys(self) -> dict[str, object]:
        """What of it a definition holds."""
        return {name: getattr(self, name) for name in self.__slots__ if name != "evidence"}


@dataclass(frozen=True, slots=True)
class _Writing:
    """One way in which values may be written."""

    separator: str
    quote: str = '"'
    escape: str = ""
    spaces: bool = False


@dataclass(frozen=True, slots=True)
class _Parsed:
    """The first rows in some way of writing: whether they are well written in it, and how many have the usual number of values."""

    rows: list[list[str]]
    strict: bool
    share: float
    width: int


def separator_named(text: str) -> str:
    """A separator by its name, or as it is written."""
    return _NAMES.get(text.lower(), text)


def shown_separator(separator: str) -> str:
    """A separator by its name."""
    return {"\t": "tab", ";": "semicolon", ",": "comma", "|": "bar", " ": "space"}.get(separator, repr(separator))


def detect(
    path: Path,
    *,
    separator: str | None = None,
    quote: str | None = None,
    escape: str | None = None,
    spaces: bool | None = None,
    encoding: str | None = None,
    header: Header | None = None,
    header_lines: int | None = None,
    comment: str | None = None,
    footer: int | None = None,
) -> Dialect:
    """Find out how a file is written. What is given is taken as it is and not looked for."""
    head = head_of(path)
    evidence: list[tuple[str, str]] = []
    if encoding is None:
        encoding, why = encoding_of(path, head)
        evidence.append((f"encoding {encoding}", why))
    text = decoded(head, encoding).removeprefix("\ufeff")
    if comment is None:
        comment = "#" if re.match(r"\s*#", text) else ""
        if comment:
            evidence.append(("comment #", "the file begins with such a line"))
    text = _whole_lines(_without_comments(text, comment), whole=len(head) < HEAD)
    if separator is None:
        separator, why = _separator(text)
        evidence.append((f"separator {shown_separator(separator)}", why))
    writing, why = _quoting(text, separator, quote, escape, spaces)
    if why:
        evidence.append((_shown_quoting(writing), why))
    rows = _parsed(text, writing).rows
    if not any(rows):
        raise UnusableInput(
            "empty-file", f"{path} has no line with a value.", hint="Ask for the file again; nothing was read."
        )
    if header is None:
        found = judge_header(rows)
        header, header_lines = found.header, header_lines or found.lines
        evidence.append((f"header {header}", found.why))
        if header != "none":
            evidence += _named(rows, header, header_lines)
    if footer is None:
        footer, why = _footer(path, encoding, writing, rows)
        last = header if isinstance(header, int) else int(header == "first")
        if len(head) < HEAD:
            footer = min(footer, max(len(rows) - last, 0))
        if footer:
            evidence.append((f"footer {footer}", why))
    return Dialect(
        separator, writing.quote, writing.escape, writing.spaces, encoding, header, header_lines or 1, comment, footer, tuple(evidence),
    )  # fmt: skip


def _named(rows: Sequence[Sequence[str]], header: Header, lines: int) -> list[tuple[str, str]]:
    last = header if isinstance(header, int) else 1 + next(at for at, row in enumerate(rows) if row)
    body = [row for row in rows[last:] if row]
    written_names = arriving_names(rows[max(last - lines, 0) : last], body)
    said = said_of_names(written_names, column_names_of(written_names, {}))
    width = len(rows[last - 1])
    if len(written_names) < width:
        said.append((f"names {len(written_names)}", "the header has a separator at the end, the rows have none"))
    unnamed = [at for at, name in enumerate(written_names) if not name and body]
    empty = [f"Column {at + 1}" for at in unnamed if not any(row[at].strip() for row in body if at < len(row))]
    return said + ([(f"hidden {', '.join(empty)}", "no name and no value in the rows looked at")] if empty else [])


def _whole_lines(text: str, *, whole: bool) -> str:
    """The beginning of a file up to its last whole record: a line that is not within quotes, unless they do not come in pairs."""
    if whole:
        return text
    lines = [*io.StringIO(text, newline="")][:-1]
    within = [*accumulate(line.count('"') for line in lines)]
    count = next((at + 1 for at in range(len(lines) - 1, -1, -1) if within[at] % 2 == 0), len(lines))
    return "".join(lines[:count]) or text


def _without_comments(text: str, comment: str) -> str:
    """The beginning of a file without its comments."""
    if not comment:
        return text
    return "".join(line for line in io.StringIO(text, newline="") if not line.startswith(comment))


def _reader(text: str, writing: _Writing, *, strict: bool = False) -> Any:
    """One row after the other, blank lines as empty lists. A separator of several characters is taken for one that no text has."""
    delimiter = writing.separator
    if len(delimiter) > 1:
        text, delimiter = text.replace(delimiter, "\x1f"), "\x1f"
    return csv.reader(
        io.StringIO(text, newline=""), delimiter=delimiter, quotechar=writing.quote or None, escapechar=writing.escape or None,
        quoting=csv.QUOTE_MINIMAL if writing.quote else csv.QUOTE_NONE, skipinitialspace=writing.spaces, strict=strict,
    )  # fmt: skip


def _rows(text: str, writing: _Writing, count: int = DETECTION_ROWS) -> list[list[str]]:
    """The first rows; what is wrong with one is said when it is read."""
    rows: list[list[str]] = []
    with suppress(csv.Error):
        rows.extend(islice(_reader(text, writing), count))
    return rows


def _parsed(text: str, writing: _Writing) -> _Parsed:
    """The first rows in a way of writing."""
    rows: list[list[str]] = []
    strict = True
    try:
        rows.extend(islice(_reader(text, writing, strict=True), DETECTION_ROWS))
    except csv.Error:
        strict, rows = False, _rows(text, writing)
    widths = Counter(len(row) for row in rows if row)
    if not widths:
        return _Parsed(rows, strict, 0.0, 0)
    width, times = widths.most_common(1)[0]
    return _Parsed(rows, strict, times / widths.total(), width)


def _separator(text: str) -> tuple[str, str]:
    """The separator with which most rows have one number of values; of several beyond doubt, the rarer character in texts and numbers."""
    best: tuple[bool, float, int, str] = (False, 0.0, 1, ",")
    for candidate in SEPARATORS[::-1]:
        if candidate not in text:
            continue
        parsed = max(
            (_parsed(text, _Writing(candidate, quote)) for quote in ('"', "")), key=lambda one: (one.share, one.width)
        )
        if parsed.width > 1:
            sure = parsed.share >= CONSISTENT
            own = (
                sure,
                0.0 if sure else parsed.share,
                SEPARATORS[::-1].index(candidate) if sure else parsed.width,
                candidate,
            )
            best = max(best, own)
    separator = best[3]
    share = max(_parsed(text, _Writing(separator, quote)).share for quote in ('"', ""))
    width = max((_parsed(text, _Writing(separator, quote)) for quote in ('"', "")), key=lambda one: one.share).width
    if width < 2:
        return ",", "no separator found; one column"
    return separator, f"{share:.0%} of the first lines have {width} values with it"


def _quoting(
    text: str, separator: str, quote: str | None, escape: str | None, spaces: bool | None
) -> tuple[_Writing, str]:
    """Which character encloses values, if any: one is believed only where it encloses whole values, and rows then have one width."""
    if quote is None:
        quote = '"'
        plain = _parsed(text, _Writing(separator, ""))
        single = _parsed(text, _Writing(separator, "'"))
        if (
            _encloses(text, separator, "'") > _encloses(text, separator, '"')
            and single.strict
            and single.share == 1.0
            and (plain.share < 1.0 or single.width >= plain.width)
        ):
            return _Writing(
                separator, "'", escape or "", bool(spaces)
            ), "each that begins a value ends it, and rows have one width"
        if '"' in text and not _encloses(text, separator, '"') and not _begins(text, separator):
            where = next(line for line in text.splitlines() if '"' in line)
            return _Writing(
                separator, "", escape or "", bool(spaces)
            ), f'the character " occurs only inside values: {where.strip()[:40]}'
    writing = _Writing(separator, quote, escape or "", bool(spaces))
    usual = _parsed(text, writing)
    if quote and escape is None and f"\\{quote}" in text and not (usual.strict and usual.share == 1.0):
        escaped = _parsed(text, _Writing(separator, quote, "\\", bool(spaces)))
        if escaped.strict and escaped.share >= usual.share:
            return _Writing(separator, quote, "\\", bool(spaces)), "quotes inside a value follow it"
    if quote and spaces is None and re.search(rf"{re.escape(separator)} +{re.escape(quote)}", text):
        spaced = _parsed(text, _Writing(separator, quote, writing.escape, spaces=True))
        held = any(re.fullmatch(rf" +{quote}.*{quote} *", cell, re.DOTALL) for row in usual.rows for cell in row)
        if spaced.strict and spaced.share >= usual.share and (held or not usual.strict):
            return _Writing(
                separator, quote, writing.escape, spaces=True
            ), "there are spaces between a separator and a quote"
    return writing, ""


def _shown_quoting(writing: _Writing) -> str:
    if writing.escape:
        return f"escape {writing.escape}"
    return "spaces left out" if writing.spaces else f"quote {writing.quote or 'none'}"


def _encloses(text: str, separator: str, quote: str) -> int:
    """How many values a character encloses: it begins them, and ends them before a separator or the end of the line."""
    mark, own = re.escape(separator), re.escape(quote)
    value = rf"(?:^|(?<={mark})|(?<=\r)) *{own}(?:[^{own}]|{own}{own}|\\{own})*{own}(?= *(?:{mark}|\r|\n|\Z))"
    return len(re.findall(value, text[:ENCLOSED_IN], re.MULTILINE)) if quote in text else 0


def _begins(text: str, separator: str) -> bool:
    """Whether a value begins with a quote that is not followed by another in the same line and then by more of the value."""
    begun = re.findall(rf"(?:^|{re.escape(separator)})(\"[^\r\n]*)", text[:ENCLOSED_IN], re.MULTILINE)
    return any(not re.match(rf'"[^"]*"(?!{re.escape(separator)}|")[^\r\n]', one) for one in begun)


def _footer(path: Path, encoding: str, writing: _Writing, rows: Sequence[Sequence[str]]) -> tuple[int, str]:
    """How many lines at the end are not rows; blank lines at the very end do not count."""
    if encoding.startswith("utf-16"):
        return 0, ""
    records = _last_records(path, encoding, writing.quote)
    count, why = lines_after_rows([next(iter(_rows(record, writing)), []) for record in records], usual_width(rows))
    return sum(record.count("\n") + 1 for record in records[len(records) - count :]), why


def footer_of(path: Path, spec: ReadingSpec) -> int:
    """How many lines at the end of this file are not rows, whatever another file or the definition has there."""
    if spec.encoding.startswith("utf-16"):
        return spec.footer
    writing, head = writing_of(spec), head_of(path)
    text = _without_comments(decoded(head, spec.encoding).removeprefix("\ufeff"), spec.comment)
    rows = _parsed(_whole_lines(text, whole=len(head) < HEAD), writing).rows
    first = spec.header if isinstance(spec.header, int) else int(spec.header == "first")
    records = _last_records(path, spec.encoding, writing.quote)
    told = next(
        (
            at
            for at in range(len(records) + 1)
            if sum(record.count("\n") + 1 for record in records[len(records) - at :]) >= spec.footer
        ),
        len(records),
    )
    count = own_footer([next(iter(_rows(record, writing)), []) for record in records], rows[first:], told)
    if len(head) < HEAD:
        count = min(count, max(len(rows) - first, 0))
    return sum(record.count("\n") + 1 for record in records[len(records) - count :])


def _last_records(path: Path, encoding: str, quote: str) -> list[str]:
    """The last records of a file, whose values may have line breaks in them: from behind, each goes on until its quotes come in pairs."""
    text = tail_of(path).decode(encoding, "replace").replace("\r\n", "\n").replace("\r", "\n")
    lines = text.rstrip("\n").split("\n")
    records: list[str] = []
    waiting: list[str] = []
    for line in reversed(lines[-LAST_LINES * 100 :]):
        waiting.insert(0, line)
        if not quote or sum(one.count(quote) for one in waiting) % 2 == 0:
            records.insert(0, "\n".join(waiting))
            waiting = []
        if len(records) == LAST_LINES:
            break
    if waiting and not records:  # quotes that do not come in pairs: they enclose nothing
        return list(lines[-LAST_LINES:])
    return records


def writing_of(spec: ReadingSpec) -> _Writing:
    """How values are written, as a definition says."""
    return _Writing(spec.separator, spec.quote, spec.escape, spec.spaces)


def column_names(path: Path, spec: ReadingSpec) -> list[str]:
    """The names of a file's columns: from its header, from the definition, or `Column 1`, `Column 2`, ….

    Columns that arrive under other names have those that the definition gives them (`renamed`).
    """
    rows = _beginning(path, spec)
    if spec.names:
        width = len(next((row for row in rows if row), []))
        if len(spec.names) != width:
            message = f"{path.name} has {width} columns, but {len(spec.names)} names are given."
            raise UnusableInput("names-count", message, hint="Correct `names` under [origin].")
        return list(spec.names)
    if spec.header == "none":
        return [f"Column {at + 1}" for at in range(max((len(row) for row in rows[:1]), default=0))]
    lines = rows[: header_lines(spec)]
    body = [row for row in rows[header_lines(spec) :] if row]
    if not lines or len(lines) < header_lines(spec):
        return []
    return column_names_of(arriving_names(lines[-spec.header_lines :], body), spec.renamed)


def _beginning(path: Path, spec: ReadingSpec) -> list[list[str]]:
    """The first rows of a file, as the definition says that they are written; blank lines before a header in the first row are left out."""
    text = _without_comments(decoded(head_of(path), spec.encoding).removeprefix("\ufeff"), spec.comment)
    rows = _rows(text, writing_of(spec))
    if len(text.encode("utf-8", "replace")) >= HEAD:
        rows = rows[:-1] or rows
    return rows if isinstance(spec.header, int) else [row for row in rows if row]


def header_lines(spec: ReadingSpec) -> int:
    """How many rows come before the first that holds values."""
    if isinstance(spec.header, int):
        return spec.header
    return 0 if spec.header == "none" else 1


def lines_before_rows(path: Path, spec: ReadingSpec) -> int:
    """How many lines of a file (comments not counted) come before the first row: a name may go over several."""
    text = _without_comments(decoded(head_of(path), spec.encoding).removeprefix("\ufeff"), spec.comment)
    left, each = header_lines(spec), _reader(text, writing_of(spec))
    while left:
        row = next(each, None)
        if row is None:
            break
        left -= bool(row) or isinstance(spec.header, int)
    return int(each.line_num)


def first_rows(path: Path, spec: ReadingSpec, count: int) -> tuple[list[str], list[list[str]]]:
    """The names and first rows of a file as they are written in it."""
    names = column_names(path, spec)
    return names, [row for row in _beginning(path, spec)[header_lines(spec) :] if row][:count]


def rows_of(text: str) -> list[list[str]]:
    """The rows of a short text, its separator found out."""
    return list(_reader(text, _Writing(_separator(text)[0])))
