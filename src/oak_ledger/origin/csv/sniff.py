"""Delimited text files: finding out how one is written, from its beginning and its end, each decision with its evidence."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.origin.spec import Header, ReadingSpec

HEAD = 1 << 18  # bytes looked at to find out how a file is written
TAIL = 1 << 14
SEPARATORS = (",", ";", "\t", "|")
_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))
_TOTAL = re.compile(r"(?i)^\W*(grand )?(total|sum|subtotal|rows|count|records|end)s?\b")


@dataclass(frozen=True, slots=True)
class Dialect:
    """How a file is written, and why that is believed (`evidence`: what was decided, and from what)."""

    separator: str
    quote: str
    encoding: str
    header: Header
    comment: str
    footer: int
    evidence: tuple[tuple[str, str], ...]

    def keys(self) -> dict[str, object]:
        """What of it stands in a definition."""
        return {name: getattr(self, name) for name in ("separator", "quote", "encoding", "header", "comment", "footer")}


def head_of(path: Path) -> bytes:
    """The first bytes of a file; a clear error where it is not there, empty or not readable."""
    try:
        with path.open("rb") as file:
            head = file.read(HEAD)
    except FileNotFoundError:
        raise UnusableInput("no-file", f"There is no file {path}.", hint="Check the path and the spelling.") from None
    except IsADirectoryError:
        hint = "Name a file, or quote a pattern such as 'loads_*.csv'."
        raise UnusableInput("is-folder", f"{path} is a folder.", hint=hint) from None
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error.strerror}.") from error
    if not head.strip():
        raise UnusableInput("empty-file", f"{path} is empty.", hint="Ask for the file again; nothing was read.")
    return head


def detect(
    path: Path,
    *,
    separator: str | None = None,
    quote: str | None = None,
    encoding: str | None = None,
    header: Header | None = None,
    comment: str | None = None,
    footer: int | None = None,
) -> Dialect:
    """Find out how a file is written. What is given is taken as it is and not looked for."""
    head = head_of(path)
    evidence: list[tuple[str, str]] = []

    def decided(what: str, why: str) -> None:
        evidence.append((what, why))

    if encoding is None:
        encoding, why = _encoding(path, head)
        decided(f"encoding {encoding}", why)
    text = dictionary_decode(head, encoding)
    whole = len(head) < HEAD
    if comment is None:
        comment = "#" if re.match(r"\s*#", text) else ""
        if comment:
            decided("comment #", "the file begins with such a line")
    lines = [line for line in text.splitlines(keepends=True) if not comment or not line.startswith(comment)]
    text = "".join(lines if whole else lines[:-1] or lines)
    if quote is None:
        single = _quotes(text, "'")
        quote = "'" if single and single > 3 * _quotes(text, '"') else '"'
        if quote == "'":
            decided("quote '", "values stand in single quotes")
    if separator is None:
        separator, why = _separator(text, quote)
        decided(f"separator {shown_separator(separator)}", why)
    rows = _rows(text, separator, quote)
    if header is None:
        header, why = _header(rows)
        decided(f"header {header}", why)
    if footer is None:
        footer, why = _footer(path, encoding, separator, quote, rows)
        if footer:
            decided(f"footer {footer}", why)
    return Dialect(separator, quote, encoding, header, comment, footer, tuple(evidence))


def shown_separator(separator: str) -> str:
    """A separator by its name."""
    return {"\t": "tab", ";": "semicolon", ",": "comma", "|": "bar"}.get(separator, repr(separator))


def _quotes(text: str, quote: str) -> int:
    """How often a quote stands where one would begin or end a value."""
    return quote in text and len(re.findall(rf"(?:^|[,;\t|]){quote}|{quote}(?=[,;\t|\r\n])", text, re.MULTILINE))


def _encoding(path: Path, head: bytes) -> tuple[str, str]:
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name, "the file begins with its mark"
    odd, even = head[1::2].count(0), head[::2].count(0)
    if odd + even > len(head) // 4 and min(odd, even) == 0:
        return ("utf-16-le" if odd else "utf-16-be"), "every other byte is zero"
    if odd + even > len(head) // 100:
        at = head.index(b"\x00")
        hint = "Give a delimited text file; a workbook ends in .xlsx or .ods, an archive has to be unpacked first."
        raise UnusableInput("not-text", f"{path} is not a text file: byte {at + 1} is zero.", hint=hint)
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
    except UnicodeDecodeError as error:
        from charset_normalizer import from_bytes

        best = from_bytes(head, cp_isolation=["cp1252", "cp1250", "cp1251", "cp1253"]).best()
        name = best.encoding if best else "cp1252"
        return name, f"byte {error.start + 1} is not UTF-8; the characters fit {name}"
    return "utf-8", "every byte looked at is UTF-8"


def dictionary_decode(head: bytes, encoding: str) -> str:
    """The beginning of a file as text; bytes that do not fit are told when their row is read."""
    try:
        return codecs.getincrementaldecoder(encoding)("replace").decode(head)
    except LookupError:
        hint = "Try utf-8, utf-16 or cp1252."
        raise OakError("unknown-encoding", f"There is no encoding {encoding!r}.", hint=hint) from None


def _without_comments(text: str, spec: ReadingSpec) -> str:
    """The beginning of a file without its comments."""
    if not spec.comment:
        return text
    return "".join(line for line in text.splitlines(keepends=True) if not line.startswith(spec.comment))


def _each_row(text: str, separator: str, quote: str) -> Iterator[list[str]]:
    """One row after the other, blank lines as empty lists."""
    with suppress(csv.Error):  # what is wrong with a row is said when it is read
        yield from csv.reader(io.StringIO(text), delimiter=separator, quotechar=quote or None)


def _rows(text: str, separator: str, quote: str, count: int = 300) -> list[list[str]]:
    """The first rows."""
    return list(islice(_each_row(text, separator, quote), count))


def _separator(text: str, quote: str) -> tuple[str, str]:
    best = (0.0, 1, ",")
    for candidate in SEPARATORS:
        widths = [len(row) for row in _rows(text, candidate, quote) if row]
        if not widths:
            continue
        width, times = Counter(widths).most_common(1)[0]
        if width > 1:
            best = max(best, (times / len(widths), width, candidate))
    share, width, separator = best
    if share == 0.0:
        return ",", "no separator found; one column"
    return separator, f"{share:.0%} of the first lines have {width} values with it"


def _header(rows: Sequence[Sequence[str]]) -> tuple[Header, str]:
    """Where the names stand. Lines before a table, such as a title, have fewer values than the rows have."""
    filled = [sum(bool(cell.strip()) for cell in row) for row in rows]
    width = Counter(len(row) for row in rows if row).most_common(1)[0][0]
    start = next((at for at, row in enumerate(rows) if len(row) == width and filled[at] > width // 2), 0)
    titled = start > 0 and all(filled[at] <= max(1, width // 2) for at in range(start))
    first = rows[start] if titled else next(row for row in rows if row)
    named, why = _is_header(first, rows[start + 1 :])
    if named and titled:
        return start + 1, f"the lines above it are a title; {why}"
    return ("first", why) if named else ("none", why)


def _is_header(first: Sequence[str], rest: Sequence[Sequence[str]]) -> tuple[bool, str]:
    if len(set(first)) < len(first):
        return False, "the first row has a value twice, so it is no list of names"
    if any(not cell.strip() for cell in first):
        return False, "the first row has an empty value, so it is no list of names"
    if any(_looks_number(cell) for cell in first):
        return False, "the first row holds numbers"
    if not any(rest):
        return True, "the only row holds no numbers"
    return True, "the first row holds different texts and no numbers"


def _looks_number(cell: str) -> bool:
    bare = cell.strip().replace(",", ".").lstrip("+-")
    return bare.replace(".", "", 1).isdigit()


def _footer(path: Path, encoding: str, separator: str, quote: str, rows: Sequence[Sequence[str]]) -> tuple[int, str]:
    """How many lines at the end are no rows: totals, counts and the blank lines before them."""
    if encoding.startswith("utf-16"):
        return 0, ""
    width = Counter(len(row) for row in rows if row).most_common(1)[0][0]
    with path.open("rb") as file:
        file.seek(max(0, path.stat().st_size - TAIL))
        tail = file.read().decode(encoding, "replace").rstrip("\r\n")
    last = _rows("\n".join(tail.splitlines()[-6:]), separator, quote)
    count = 0
    for row in reversed(last):
        said = [cell.strip() for cell in row]
        total = bool(said and _TOTAL.match(said[0]))
        short = not any(said) or (len(said) != width and total)
        if not (total or short) or (count == 0 and not total):
            break
        count += 1
    return count, f"it begins with {last[-1][0].strip()!r}" if count else ""


def column_names(path: Path, spec: ReadingSpec) -> list[str]:
    """The names of a file's columns: from its header, from the definition, or `Column 1`, `Column 2`, ….

    Columns that arrive under other names have those that the definition gives them (`renamed`).
    """
    text = _without_comments(dictionary_decode(head_of(path), spec.encoding), spec)
    if isinstance(spec.header, int):
        rows = _rows(text, spec.separator, spec.quote, spec.header)
        first = rows[spec.header - 1] if len(rows) == spec.header else []
    else:
        first = next((row for row in _each_row(text, spec.separator, spec.quote) if row), [])
    if spec.names:
        if len(spec.names) != len(first):
            message = f"{path.name} has {len(first)} columns, but {len(spec.names)} names are given."
            raise UnusableInput("names-count", message, hint="Correct `names` under [origin].")
        return list(spec.names)
    if spec.header == "none":
        return [f"Column {at + 1}" for at in range(len(first))]
    names = [name.strip() for name in first]
    twice = next((name for name in names if name and names.count(name) > 1), None)
    if twice is not None:
        hint = "Give the columns different names in the file, or read it without its header."
        raise UnusableInput("column-twice", f"{path.name} has the column {twice!r} twice.", hint=hint)
    return [spec.renamed.get(name, name) or f"Column {at + 1}" for at, name in enumerate(names)]


def header_lines(spec: ReadingSpec) -> int:
    """How many lines (comments not counted) stand before the first row."""
    if isinstance(spec.header, int):
        return spec.header
    return 0 if spec.header == "none" else 1


def first_rows(path: Path, spec: ReadingSpec, count: int) -> tuple[list[str], list[list[str]]]:
    """The names and first rows of a file as they stand in it."""
    names = column_names(path, spec)
    text = _without_comments(dictionary_decode(head_of(path), spec.encoding), spec)
    rows = _rows(text, spec.separator, spec.quote, count + header_lines(spec) + 5)
    return names, [row for row in rows[header_lines(spec) :] if row][:count]


def two_columns(path: Path) -> dict[str, str]:
    """A file of two columns, found and meant, as a recode list; a first line that says so is a header."""
    head = head_of(path)
    encoding, _ = _encoding(path, head)
    text = path.read_text(encoding)
    separator, _ = _separator(text, '"')
    rows = [row for row in csv.reader(io.StringIO(text), delimiter=separator) if any(row)]
    bad = next((at for at, row in enumerate(rows, 1) if len(row) != 2), None)
    if bad is not None:
        message = f"{path.name}, row {bad} has {len(rows[bad - 1])} values; a recode list has two: found and meant."
        raise UnusableInput("bad-list", message)
    if rows and [cell.strip().lower() for cell in rows[0]] in (["found", "meant"], ["from", "to"], ["old", "new"]):
        rows = rows[1:]
    return {row[0]: row[1] for row in rows}


def listed_names(path: Path) -> list[str]:
    """A list of names, one a line or separated in one line."""
    head = head_of(path)
    encoding, _ = _encoding(path, head)
    lines = [line.strip() for line in path.read_text(encoding).splitlines() if line.strip()]
    if len(lines) == 1:
        separator, _ = _separator(lines[0], '"')
        return [cell.strip() for cell in next(csv.reader([lines[0]], delimiter=separator))]
    return lines
