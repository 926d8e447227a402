"""Delimited text files: finding out how one is written, and reading it as text, row by row accounted for."""

from __future__ import annotations

import codecs
import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.csv as pa_csv

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.origin.spec import OriginSpec

HEAD = 1 << 18  # bytes looked at to find out how a file is written
BLOCK = 1 << 23
SEPARATORS = (",", ";", "\t", "|")
_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))


@dataclass(frozen=True, slots=True)
class Dialect:
    """How a file is written, and why that is believed (`evidence`: what was decided, and from what)."""

    separator: str
    encoding: str
    header: str
    evidence: tuple[tuple[str, str], ...]


def head_of(path: Path) -> bytes:
    """The first bytes of a file; a clear error where it is not there, empty or not text."""
    try:
        with path.open("rb") as file:
            head = file.read(HEAD)
    except FileNotFoundError:
        raise UnusableInput("no-file", f"There is no file {path}.", hint="Check the path and the spelling.") from None
    except IsADirectoryError:
        raise UnusableInput(
            "is-folder", f"{path} is a folder.", hint="Name a file, or quote a pattern such as 'loads_*.csv'."
        ) from None
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error.strerror}.") from error
    if not head.strip():
        raise UnusableInput("empty-file", f"{path} is empty.", hint="Ask for the file again; nothing was read.")
    return head


def detect(
    path: Path, *, separator: str | None = None, encoding: str | None = None, header: str | None = None
) -> Dialect:
    """Find out how a file is written. What is given is taken as it is and not looked for."""
    head = head_of(path)
    evidence: list[tuple[str, str]] = []
    if encoding is None:
        encoding, why = _encoding(path, head)
        evidence.append((f"encoding {encoding}", why))
    text = _decoded(path, head, encoding)
    if separator is None:
        separator, why = _separator(text)
        evidence.append((f"separator {_shown(separator)}", why))
    if header is None:
        header, why = _header(text, separator)
        evidence.append((f"header {header}", why))
    return Dialect(separator, encoding, header, tuple(evidence))


def _shown(separator: str) -> str:
    return {"\t": "tab", ";": "semicolon", ",": "comma", "|": "bar"}.get(separator, repr(separator))


def _encoding(path: Path, head: bytes) -> tuple[str, str]:
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name, "the file begins with its mark"
    if b"\x00" in head:
        at = head.index(b"\x00")
        raise UnusableInput(
            "not-text",
            f"{path} is not a text file: byte {at + 1} is zero.",
            hint="Give a delimited text file; a workbook or archive has to be exported first.",
        )
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
    except UnicodeDecodeError as error:
        from charset_normalizer import from_bytes

        best = from_bytes(head, cp_isolation=["cp1252", "cp1250", "latin_1"]).best()
        name = best.encoding if best else "cp1252"
        return name, f"byte {error.start + 1} is not UTF-8; the characters fit {name}"
    return "utf-8", "every byte looked at is UTF-8"


def _decoded(path: Path, head: bytes, encoding: str) -> str:
    try:
        return codecs.getincrementaldecoder(encoding)().decode(head)
    except LookupError:
        raise OakError(
            "unknown-encoding", f"There is no encoding {encoding!r}.", hint="Try utf-8, utf-16 or cp1252."
        ) from None
    except UnicodeDecodeError as error:
        raise UnusableInput(
            "wrong-encoding",
            f"{path} is not written in {encoding}: byte {error.start + 1} does not fit.",
            hint="Leave the encoding out to have it detected.",
        ) from error


def _lines(text: str, separator: str, count: int = 200) -> list[list[str]]:
    rows = []
    for row in csv.reader(io.StringIO(text), delimiter=separator):
        if row:
            rows.append(row)
        if len(rows) == count:
            break
    return rows[:-1] if len(rows) > 2 and len(text) >= HEAD // 2 and len(rows) < count else rows


def _separator(text: str) -> tuple[str, str]:
    best = (0.0, 1, ",")
    for candidate in SEPARATORS:
        widths = [len(row) for row in _lines(text, candidate)]
        common = max(set(widths), key=widths.count)
        if common > 1:
            best = max(best, (widths.count(common) / len(widths), common, candidate))
    share, width, separator = best
    if share == 0.0:
        return ",", "no separator found; one column"
    return separator, f"{share:.0%} of the first lines have {width} values with it"


def _header(text: str, separator: str) -> tuple[str, str]:
    rows = _lines(text, separator)
    first, rest = rows[0], rows[1:]
    if len(set(first)) < len(first):
        return "none", "the first row has a value twice, so it is no list of names"
    if any(not cell.strip() for cell in first):
        return "none", "the first row has an empty value, so it is no list of names"
    if any(_looks_number(cell) for cell in first):
        return "none", "the first row holds numbers"
    if not rest:
        return "first", "the only row holds no numbers"
    return "first", "the first row holds different texts and no numbers"


def _looks_number(cell: str) -> bool:
    bare = cell.strip().replace(",", ".").lstrip("+-")
    return bare.replace(".", "", 1).isdigit()


def column_names(path: Path, spec: OriginSpec) -> list[str]:
    """The names of a file's columns: its first row, or `Column 1`, `Column 2`, … where it has no header."""
    text = _decoded(path, head_of(path), spec.encoding)
    first = next((row for row in csv.reader(io.StringIO(text), delimiter=spec.separator) if row), [])
    if spec.header == "none":
        return [f"Column {at + 1}" for at in range(len(first))]
    names = [name.strip() for name in first]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise UnusableInput(
            "column-twice",
            f"{path.name} has the column {twice!r} twice.",
            hint="Give the columns different names in the file, or read it without its header.",
        )
    return [name or f"Column {at + 1}" for at, name in enumerate(names)]


def read(path: Path, spec: OriginSpec, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
    """The rows of a file as batches of text columns; raises UnusableInput naming the row that cannot be read."""
    names = column_names(path, spec)
    missing = [name for name in columns if name not in names]
    if missing:
        raise UnusableInput("missing-column", f"{path.name} has no column {missing[0]!r}; it has {', '.join(names)}.")
    read_options = pa_csv.ReadOptions(
        column_names=names,
        skip_rows=1 if spec.header == "first" else 0,
        block_size=BLOCK,
        encoding="utf-8" if spec.encoding == "utf-8-sig" else spec.encoding,
    )
    parse = pa_csv.ParseOptions(
        delimiter=spec.separator, quote_char=spec.quote or False, newlines_in_values=_quotes_breaks(path)
    )
    convert = pa_csv.ConvertOptions(
        column_types=dict.fromkeys(names, pa.string()),
        include_columns=list(columns) or names[:1],
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=False,
    )
    try:
        with pa_csv.open_csv(path, read_options, parse, convert) as reader:
            yield from reader
    except (pa.ArrowInvalid, UnicodeDecodeError) as error:
        if "Empty CSV" in str(error):
            return  # names and no rows
        raise _bad_row(path, spec, len(names), error) from None
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error}.") from error


def _quotes_breaks(path: Path) -> bool:
    """Whether a value may hold a line break; only then is the slower way of splitting lines taken."""
    return b'"' in head_of(path) or path.stat().st_size > HEAD


def _bad_row(path: Path, spec: OriginSpec, width: int, error: Exception) -> OakError:
    """Say which row cannot be read, by going through the file once more, slowly."""
    try:
        with path.open(encoding=spec.encoding, newline="") as file:
            reader = csv.reader(file, delimiter=spec.separator, quotechar=spec.quote or None, strict=True)
            for number, row in enumerate(reader, 1):
                if row and len(row) != width:
                    shown = spec.separator.join(row)[:80]
                    return UnusableInput(
                        "ragged-row",
                        f"{path.name}, line {reader.line_num}: row {number} has {len(row)} values where {width} are due: {shown}",
                        hint="Correct the row in the file, or ask for the file again; nothing was changed.",
                    )
    except UnicodeDecodeError as wrong:
        return UnusableInput(
            "wrong-encoding",
            f"{path.name} is not {spec.encoding} throughout: {_where(path, wrong)}.",
            hint='Set `encoding` under [origin], for example "cp1252".',
        )
    except csv.Error as wrong:
        return UnusableInput("bad-row", f"{path.name}: {wrong}.", hint="Look for a quote that is never closed.")
    return UnusableInput("unreadable", f"{path.name} cannot be read: {str(error).splitlines()[0]}.")


def _where(path: Path, wrong: UnicodeDecodeError) -> str:
    """The line of the first byte that does not fit."""
    with path.open("rb") as file:
        for number, line in enumerate(file, 1):
            try:
                line.decode(wrong.encoding)
            except UnicodeDecodeError as error:
                return f"line {number}, byte {error.start + 1}"
    return f"byte {wrong.start + 1} of a block"


def first_rows(path: Path, spec: OriginSpec, count: int) -> tuple[list[str], list[list[Any]]]:
    """The names and first rows of a file as they stand in it."""
    names = column_names(path, spec)
    text = _decoded(path, head_of(path), spec.encoding)
    rows = _lines(text, spec.separator, count + 1)
    return names, rows[1 if spec.header == "first" else 0 :][:count]
