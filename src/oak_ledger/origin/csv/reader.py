"""The rows of one delimited file as columns of text.

A file is cut into byte ranges of whole rows, which Arrow's reader parses. That reader takes broken quotes and zero bytes kindly, so both
are looked for before; where there are any, and where a range does not parse, the rows are read one by one, and the wrong one is named.
"""

from __future__ import annotations

import csv
import io
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import IO

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.csv as pa_csv

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.origin.csv.dialect import column_names, lines_before_rows
from oak_ledger.origin.csv.opened import changed, opened, state_of
from oak_ledger.origin.reader import BadRow
from oak_ledger.origin.spec import ReadingSpec

BLOCK_BYTES = 1 << 23
MAX_ROW_BYTES = 1 << 27  # a quote open for so long is taken to be one that is never closed
SLOW_BATCH_ROWS = 20_000
csv.field_size_limit(1 << 24)
_UNIT = "\x1f"  # takes the place of a separator of several characters
_BY_CHARACTERS = (
    "shift_jis",
    "gb18030",
    "gbk",
    "big5",
)  # encodings in which a byte of ASCII may be part of another character
_NEWLINE, _RETURN = ord("\n"), ord("\r")
# Encodings in which a byte of ASCII always is that character, so that bytes can be looked at; and UTF-16.
_BY_ARROW = ("utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "ascii", "latin-1", *(f"cp125{at}" for at in range(9)), "koi8-u", "koi8-r", "iso8859-2", "cp866", "cp850", "mac-roman")  # fmt: skip


Note = Callable[[BadRow], None]
Fragment = Callable[[], Iterable[pa.RecordBatch]]
"""Some of the rows, parsed when they are asked for, by whichever thread asks."""


def fragments(path: Path, spec: ReadingSpec, columns: Sequence[str], note: Note) -> Iterator[Fragment]:
    """The rows of a file as batches of text columns; what is empty outside of quotes is null.

    A row that cannot be read stops the reading with its line and reason, or is dropped or kept as the definition says (`bad_rows`);
    then it is noted. Raises UnusableInput.
    """
    before = state_of(path)
    names = column_names(path, spec)
    missing = [name for name in columns if name not in names]
    if missing:
        raise UnusableInput("missing-column", f"{path.name} has no column {missing[0]!r}; it has {', '.join(names)}.")
    file = _File(path, spec, names, list(columns) or names[:1], lines_before_rows(path, spec))
    yield from _fragments(file, note)
    if state_of(path) != before:
        raise changed(path)


def _fragments(file: _File, note: Note) -> Iterator[Fragment]:
    """The rows, by Arrow's reader as far as they are written strictly."""
    begin = 0
    if _is_plain(file.spec):
        for block in _blocks(file.path, file.spec):
            if not _is_strict(block, file.spec):
                break
            yield partial(file.parsed, block.data, begin)
            begin += len(block.data)
        else:
            return
    for batch in file.row_by_row(note, begin):
        yield partial(iter, (batch,))


def _is_plain(spec: ReadingSpec) -> bool:
    """Whether Arrow's reader can take a file that is written so."""
    special = spec.comment or spec.footer or spec.escape or spec.spaces or len(spec.separator) > 1
    return spec.bad_rows == "stop" and not special and spec.encoding in _BY_ARROW


@dataclass(frozen=True, slots=True)
class _Block:
    """Bytes of whole rows, with the positions of quotes in them; `open` says whether a quote is not closed in them."""

    data: bytes
    quotes: npt.NDArray[np.int64]
    open: bool = False


def _blocks(path: Path, spec: ReadingSpec) -> Iterator[_Block]:
    """A file in blocks of whole rows: cut at line ends that are not in quotes."""
    nothing = np.zeros(0, np.int64)
    with opened(path) as file:
        if spec.encoding.startswith("utf-16"):  # Arrow's reader decodes it as a whole
            yield _Block(file.read(), nothing)
            return
        rest, line_end = b"", b""
        while data := file.read(BLOCK_BYTES):
            line_end = line_end or (b"\r" if b"\r" in data and b"\n" not in data else b"\n")
            data = rest + data
            quotes = nothing
            if spec.quote and spec.quote.encode() in data:
                quotes = np.flatnonzero(np.frombuffer(data, np.uint8) == ord(spec.quote))
            cut = _last_line_end(data, quotes, line_end)
            rest = data[cut:]
            if cut:
                yield _Block(data[:cut], quotes[: np.searchsorted(quotes, cut)])
            elif len(rest) > MAX_ROW_BYTES:
                break
        if rest:
            at = np.flatnonzero(np.frombuffer(rest, np.uint8) == ord(spec.quote)) if spec.quote else nothing
            yield _Block(rest, at, open=len(at) % 2 > 0)


def _last_line_end(data: bytes, quotes: npt.NDArray[np.int64], line_end: bytes) -> int:
    """Where the last line ends that ends in no quotes; 0 where none does. Bytes begin outside of quotes."""
    end = len(data)
    while (at := data.rfind(line_end, 0, end)) >= 0:
        before = int(np.searchsorted(quotes, at))
        if before % 2 == 0:
            return at + 1
        end = int(quotes[before - 1])  # where the value begins that this line end is in
    return 0


def _is_strict(block: _Block, spec: ReadingSpec) -> bool:
    """Whether quotes are only around whole values, doubled inside, all closed, and no byte is zero."""
    if not spec.encoding.startswith("utf-16") and b"\0" in block.data:
        return False
    if block.open:
        return False
    if not len(block.quotes):
        return True
    data, opening, closing = np.frombuffer(block.data, np.uint8), block.quotes[0::2], block.quotes[1::2]
    own, separator = ord(spec.quote), ord(spec.separator)
    before = data[np.maximum(opening - 1, 0)]
    after = data[np.minimum(closing + 1, len(data) - 1)]
    begins = (opening == 0) | (before == separator) | (before == own) | (before == _NEWLINE) | (before == _RETURN)
    ends = (closing + 1 == len(data)) | (after == separator) | (after == own) | (after == _NEWLINE) | (after == _RETURN)
    if block.data.startswith(b"\xef\xbb\xbf"):
        begins |= opening == 3
    return bool(begins.all() and ends.all())


@dataclass(frozen=True, slots=True)
class _File:
    """A file that is being read: how it is written, its columns, and those that are wanted."""

    path: Path
    spec: ReadingSpec
    names: list[str]
    wanted: list[str]
    before: int
    """How many lines come before the first row."""

    def parsed(self, data: bytes, begin: int) -> list[pa.RecordBatch]:
        """The rows of some bytes, by Arrow's reader. Where that fails, reading row by row finds the wrong one, and says so."""
        spec, quote = self.spec, self.spec.quote
        parse = pa_csv.ParseOptions(
            delimiter=spec.separator, quote_char=quote or False, newlines_in_values=bool(quote)
        )  # fmt: skip
        convert = pa_csv.ConvertOptions(
            column_types=dict.fromkeys(self.names, pa.string()),
            include_columns=self.wanted,
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
        )
        wide = spec.encoding.startswith("utf-16")
        options = pa_csv.ReadOptions(
            column_names=self.names,
            skip_rows=0 if begin else self.before,
            use_threads=False,
            block_size=len(data) + 2,
            encoding="utf-8" if spec.encoding == "utf-8-sig" else spec.encoding,
        )
        if not wide and data[-1] not in (_NEWLINE, _RETURN):
            data += b"\n"  # without it an empty value at the very end counts as one in quotes
        try:
            found: list[pa.RecordBatch] = pa_csv.read_csv(pa.BufferReader(data), options, parse, convert).to_batches()
            return found
        except (pa.ArrowInvalid, UnicodeDecodeError) as error:
            if "Empty CSV" in str(error):
                return []
            for _ in self.row_by_row(lambda _row: None, begin):
                pass
            raise UnusableInput(
                "unreadable", f"{self.path.name} cannot be read: {str(error).splitlines()[0]}."
            ) from None
        except OSError as error:
            raise UnusableInput("unreadable", f"{self.path} cannot be read: {error}.") from error

    def row_by_row(self, note: Note, begin: int = 0) -> Iterator[pa.RecordBatch]:
        """The rows from a byte on, one after the other; each that is not as it should be is judged by itself. Empty text is null."""
        spec, wanted = self.spec, [self.names.index(name) for name in self.wanted]
        kept: list[list[str | None]] = []
        with opened(self.path) as file:
            lines = _Lines(file, spec, _lines_before(file, begin))
            for first, row, why in _checked_rows(lines, spec, len(self.names), 0 if begin else self.before):
                if why:
                    shown = spec.separator.join(row)[:80]
                    if spec.bad_rows == "stop":
                        raise _refused(self.path, first, why, shown)
                    note(BadRow(self.path.name, first, why, shown, spec.bad_rows == "keep"))
                    if spec.bad_rows == "drop":
                        continue
                    row = [*row, *[""] * (len(self.names) - len(row))][: len(self.names)]
                kept.append([row[at] or None for at in wanted])
                if len(kept) == SLOW_BATCH_ROWS:
                    yield self._batch(kept)
                    kept = []
        if kept:
            yield self._batch(kept)

    def _batch(self, rows: list[list[str | None]]) -> pa.RecordBatch:
        arrays = [pa.array(column, pa.string()) for column in zip(*rows, strict=True)]
        return pa.RecordBatch.from_arrays(arrays, names=self.wanted)


def _lines_before(file: IO[bytes], begin: int) -> int:
    """How many lines there are before a byte, up to where the file is then."""
    count = 0
    while begin > 0 and (data := file.read(min(begin, BLOCK_BYTES))):
        count += data.count(b"\n")
        begin -= len(data)
    return count


class _Lines:
    """The lines of a file without comments and footer, counted, and kept until they are let go; bytes that are not text are noted by line."""

    def __init__(self, file: IO[bytes], spec: ReadingSpec, before: int) -> None:
        self.spec, self.before = spec, before
        self.number = before
        self.wrong: dict[int, str] = {}
        self.kept: deque[tuple[int, str]] = deque()
        """The lines of the row that is being read; those before `again` were given already."""
        self.again = 0
        self._lines = self._numbered(file)

    def __iter__(self) -> Iterator[str]:
        return self

    def __next__(self) -> str:
        if self.again == len(self.kept):
            self.kept.append(next(self._lines))
        self.number, text = self.kept[self.again]
        self.again += 1
        return text

    def let_go(self) -> None:
        """The row is read: its lines are needed no more."""
        for _ in range(self.again):
            self.wrong.pop(self.kept.popleft()[0], None)
        self.again = 0

    def back(self) -> tuple[int, str]:
        """Let only the first line of the row go, and give the others once more."""
        self.again = 0
        first = self.kept.popleft()
        self.wrong.pop(first[0], None)
        return first

    def _numbered(self, file: IO[bytes]) -> Iterator[tuple[int, str]]:
        wide = self.spec.encoding in _BY_CHARACTERS or self.spec.encoding.startswith("utf-16")
        lines: Iterator[bytes | str] = _text_lines(file, self.spec.encoding) if wide else _byte_lines(file)
        held: deque[tuple[int, str]] = deque()
        blank = 0  # lines at the end of those held
        for at, raw in enumerate(lines, self.before + 1):
            text = self._text(at, raw)
            if self.spec.comment and text.startswith(self.spec.comment):
                continue
            held.append((at, text))
            blank = 0 if text.strip("\r\n") else blank + 1
            while len(held) - blank > self.spec.footer:
                yield held.popleft()
        while not self.spec.footer and held:
            yield held.popleft()

    def _text(self, at: int, raw: bytes | str) -> str:
        if isinstance(raw, str):
            text = raw.removeprefix("\ufeff") if at == 1 else raw
        else:
            utf_8 = self.spec.encoding.startswith("utf-8")
            try:
                text = raw.decode("utf-8-sig" if at == 1 and utf_8 else self.spec.encoding)
            except UnicodeDecodeError as error:
                self.wrong[at] = f"byte {error.start + 1} is not {self.spec.encoding}"
                text = raw.decode(self.spec.encoding, "replace")
        if "\x00" in text:
            self.wrong[at] = f"character {text.index(chr(0)) + 1} is a zero byte"
            text = text.replace("\x00", "")
        return text if len(self.spec.separator) == 1 else text.replace(self.spec.separator, _UNIT)


def _byte_lines(file: IO[bytes]) -> Iterator[bytes]:
    """The lines of a file; returns end them where no line ends in a newline."""
    rest = b""
    while data := file.read(BLOCK_BYTES):
        end = b"\n" if b"\n" in data or b"\r" not in data else b"\r"
        pieces = (rest + data).split(end)
        rest = pieces.pop()
        for piece in pieces:
            yield piece + end
    if rest:
        yield rest


def _text_lines(file: IO[bytes], encoding: str) -> Iterator[str]:
    wrapper = io.TextIOWrapper(file, encoding=encoding, newline="")
    try:
        yield from wrapper
    except UnicodeDecodeError as error:
        message = f"The file is not written in {encoding}: {error.reason}, byte {error.start + 1} of a block."
        raise UnusableInput("wrong-encoding", message, hint="Set `encoding` under [origin].") from error
    finally:
        if not file.closed:
            wrapper.detach()


def _checked_rows(lines: _Lines, spec: ReadingSpec, width: int, skip: int) -> Iterator[tuple[int, list[str], str]]:
    """Each row with the line it begins in, and what is wrong with it (empty where nothing is).

    A row that goes over several lines and is wrong may have swallowed others by a quote that is never closed: then its first line alone is
    wrong, and the next row begins in the second.
    """
    separator = spec.separator if len(spec.separator) == 1 else _UNIT
    for _ in range(skip):
        next(lines, None)
    lines.let_go()
    while True:
        reader = csv.reader(
            lines, delimiter=separator, quotechar=spec.quote or None, escapechar=spec.escape or None,
            quoting=csv.QUOTE_MINIMAL if spec.quote else csv.QUOTE_NONE, skipinitialspace=spec.spaces, strict=bool(spec.quote),
        )  # fmt: skip
        try:
            for row in reader:
                first = lines.kept[0][0]
                if row:
                    why = next((said for at, said in lines.wrong.items() if first <= at <= lines.number), "")
                    why = why or (f"it has {len(row)} values instead of {width}" if len(row) != width else "")
                    if why and lines.again > 1 and _fits_by_lines(lines, separator, width):
                        number, text = lines.back()
                        yield number, text.rstrip("\r\n").split(separator), "a quote that begins here is never closed"
                        break
                    yield (
                        first,
                        row if separator != _UNIT else [cell.replace(_UNIT, spec.separator) for cell in row],
                        why,
                    )
                lines.let_go()
            else:
                return
        except csv.Error as error:
            several, ended = lines.again > 1, "end of data" in str(error)
            number, text = lines.back()
            why = (
                f"a quote is wrong: {error}"
                if not several and not ended
                else "a quote that begins here is never closed"
            )
            yield number, text.rstrip("\r\n").split(separator), why


def _fits_by_lines(lines: _Lines, separator: str, width: int) -> bool:
    """Whether the lines after a row's first have as many values as are due, each by itself."""
    after = [text for _, text in list(lines.kept)[1 : lines.again]]
    return all(text.count(separator) == width - 1 for text in after)


def _refused(path: Path, line: int, why: str, shown: str) -> OakError:
    code = (
        "wrong-encoding"
        if "is not " in why and why.startswith("byte")
        else "ragged-row"
        if "values instead of" in why
        else "bad-row"
    )
    hint = "Correct the row in the file, or say what to do with such rows: --bad-rows drop or keep (bad_rows under [origin])."
    if code == "wrong-encoding":
        hint = 'Set `encoding` under [origin], for example "cp1252", or --bad-rows keep.'
    return UnusableInput(code, f"{path.name}, line {line}: {why}: {shown}", hint=hint)
