"""The rows of one delimited file as columns of text.

A file is cut into byte ranges of whole rows, which Arrow's reader parses. That reader takes broken quotes and zero bytes kindly, so both
are looked for before; where there are any, and where a range does not parse, the rows are read one by one, and the wrong one is named.
"""

from __future__ import annotations

import csv
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
from oak_ledger.origin.csv.sniff import column_names, header_lines
from oak_ledger.origin.reader import BadRow
from oak_ledger.origin.spec import ReadingSpec

BLOCK_BYTES = 1 << 23
MAX_ROW_BYTES = 1 << 27  # a quote open for so long is taken to be one that is never closed
SLOW_BATCH_ROWS = 20_000
csv.field_size_limit(1 << 24)
_NEWLINE, _RETURN = ord("\n"), ord("\r")


Note = Callable[[BadRow], None]
Fragment = Callable[[], Iterable[pa.RecordBatch]]
"""Some of the rows, parsed when they are asked for, by whichever thread asks."""


def fragments(path: Path, spec: ReadingSpec, columns: Sequence[str], note: Note) -> Iterator[Fragment]:
    """The rows of a file as batches of text columns; what is empty outside of quotes is null.

    A row that cannot be read stops the reading with its line and reason, or is dropped or kept as the definition says (`bad_rows`);
    then it is noted. Raises UnusableInput.
    """
    names = column_names(path, spec)
    missing = [name for name in columns if name not in names]
    if missing:
        raise UnusableInput("missing-column", f"{path.name} has no column {missing[0]!r}; it has {', '.join(names)}.")
    file = _File(path, spec, names, list(columns) or names[:1])
    try:
        begin, plain = 0, spec.bad_rows == "stop" and not spec.comment and not spec.footer
        if plain:
            for block in _blocks(path, spec):
                if not _is_strict(block, spec):
                    break
                yield partial(file.parsed, block.data, begin)
                begin += len(block.data)
            else:
                return
        for batch in file.row_by_row(note, begin):
            yield partial(iter, (batch,))
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error}.") from error


@dataclass(frozen=True, slots=True)
class _Block:
    """Bytes of whole rows, with the positions of quotes in them; `open` says whether a quote is not closed in them."""

    data: bytes
    quotes: npt.NDArray[np.int64]
    open: bool = False


def _blocks(path: Path, spec: ReadingSpec) -> Iterator[_Block]:
    """A file in blocks of whole rows: cut at line ends that stand in no quotes."""
    nothing = np.zeros(0, np.int64)
    with path.open("rb", buffering=0) as file:
        if spec.encoding.startswith("utf-16"):  # Arrow's reader decodes it as a whole
            yield _Block(file.readall() or b"", nothing)
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
        end = int(quotes[before - 1])  # where the value begins that this line end stands in
    return 0


def _is_strict(block: _Block, spec: ReadingSpec) -> bool:
    """Whether quotes stand only around whole values, doubled inside, all closed, and no byte is zero."""
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
            skip_rows=0 if begin else header_lines(spec),
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
        with self.path.open("rb") as file:
            lines = _Lines(file, spec, _lines_before(file, begin))
            for first, row, why in _checked_rows(lines, spec, len(self.names), 0 if begin else header_lines(spec)):
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
    """How many lines there are before a byte, where the file stands then."""
    count = 0
    while begin > 0 and (data := file.read(min(begin, BLOCK_BYTES))):
        count += data.count(b"\n")
        begin -= len(data)
    return count


class _Lines:
    """The lines of a file without comments and footer, counted; bytes that are no text are noted by line."""

    def __init__(self, file: IO[bytes], spec: ReadingSpec, before: int) -> None:
        self.spec, self.before = spec, before
        self.number = before
        wide = spec.encoding.startswith("utf-16")
        self.lines: Iterator[bytes | str] = _wide_lines(file, spec.encoding) if wide else iter(file)
        self.held: list[tuple[int, str]] = []
        self.wrong: dict[int, str] = {}

    def __iter__(self) -> Iterator[str]:
        for at, raw in enumerate(self.lines, self.before + 1):
            text = self._text(at, raw)
            if self.spec.comment and text.startswith(self.spec.comment):
                continue
            self.held.append((at, text))
            if len(self.held) > self.spec.footer:
                self.number, text = self.held.pop(0)
                yield text

    def _text(self, at: int, raw: bytes | str) -> str:
        if isinstance(raw, str):
            text = raw
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
        return text


def _wide_lines(file: IO[bytes], encoding: str) -> Iterator[str]:
    import io

    try:
        yield from io.TextIOWrapper(file, encoding=encoding, newline="")
    except UnicodeDecodeError as error:
        message = f"The file is not written in {encoding}: {error.reason}, byte {error.start + 1} of a block."
        raise UnusableInput("wrong-encoding", message, hint="Set `encoding` under [origin].") from error


def _checked_rows(lines: _Lines, spec: ReadingSpec, width: int, skip: int) -> Iterator[tuple[int, list[str], str]]:
    """Each row with the line it begins in, and what is wrong with it (empty where nothing is)."""
    reader = csv.reader(lines, delimiter=spec.separator, quotechar=spec.quote or None, strict=True)
    if not spec.quote:
        reader = csv.reader(lines, delimiter=spec.separator, quoting=csv.QUOTE_NONE)
    last = lines.number
    while True:
        first = last + 1
        try:
            row = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            row, why = [str(error)], f"a quote is wrong: {error}"
            last = lines.number
            if "end of data" in str(error):
                yield first, row, "a quote that begins here is never closed"
                return
            yield last, row, why
            continue
        first, last = max(first, lines.number - sum(cell.count("\n") for cell in row)), lines.number
        if reader.line_num <= skip or not row:
            continue
        why = next((said for at, said in lines.wrong.items() if first <= at <= last), "")
        if len(row) != width:
            why = f"it has {len(row)} values where {width} are due"
        yield first, row, why


def _refused(path: Path, line: int, why: str, shown: str) -> OakError:
    code = (
        "wrong-encoding"
        if "is not " in why and why.startswith("byte")
        else "ragged-row"
        if "values where" in why
        else "bad-row"
    )
    hint = "Correct the row in the file, or say what to do with such rows: --bad-rows drop or keep (bad_rows under [origin])."
    if code == "wrong-encoding":
        hint = 'Set `encoding` under [origin], for example "cp1252", or --bad-rows keep.'
    return UnusableInput(code, f"{path.name}, line {line}: {why}: {shown}", hint=hint)
