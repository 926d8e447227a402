"""Reading the rows of one delimited file: quickly by Arrow's reader, or line by line where a row is not as it should be."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import IO, Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.origin.delimited import column_names, head_of, header_lines
from oak_ledger.origin.spec import ReadingSpec

BLOCK = 1 << 23
LINE = 1 << 16  # how far back from a block's end a line's end is looked for
SLOW_ROWS = 20_000
_BREAK = ord("\n")
csv.field_size_limit(1 << 24)


@dataclass(frozen=True, slots=True)
class BadRow:
    """A row that is not as it should be: its file, its line, why, what it says, and whether it was kept."""

    file: str
    line: int
    why: str
    text: str
    kept: bool


Note = Callable[[BadRow], None]


Stretch = Callable[[], Iterable[pa.RecordBatch]]
"""Some of a file's rows, read when they are asked for, by whichever thread asks."""


def stretches(path: Path, spec: ReadingSpec, columns: Sequence[str], note: Note) -> Iterator[Stretch]:
    """The rows of a file as batches of text columns, in stretches of whole lines.

    A row that cannot be read stops the reading with its line and reason, or is dropped or kept as the definition
    says (`bad_rows`); then it is noted, and the file is read here, row by row.
    """
    names = column_names(path, spec)
    missing = [name for name in columns if name not in names]
    if missing:
        raise UnusableInput("missing-column", f"{path.name} has no column {missing[0]!r}; it has {', '.join(names)}.")
    odd = not spec.encoding.startswith("utf-16") and (b"\x00" in head_of(path) or _odd_quotes(path, spec.quote))
    if spec.bad_rows != "stop" or spec.comment or spec.footer or odd:
        for batch in _slowly(path, spec, names, columns, note):
            yield partial(iter, (batch,))
        return
    try:
        skip = header_lines(spec)
        for stretch in _stretches(path, spec):
            yield partial(_quickly, path, spec, names, columns, stretch, skip)
            skip = 0
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error}.") from error


def _quickly(
    path: Path, spec: ReadingSpec, names: list[str], columns: Sequence[str], stretch: pa.Buffer, skip: int
) -> list[pa.RecordBatch]:
    """One stretch by Arrow's reader. If it fails, going through the file once more finds the row that is wrong, and says so."""
    wanted = list(columns) or names[:1]
    parse = pa_csv.ParseOptions(
        delimiter=spec.separator, quote_char=spec.quote or False, newlines_in_values=bool(spec.quote)
    )
    convert = pa_csv.ConvertOptions(
        column_types=dict.fromkeys(names, pa.string()),
        include_columns=wanted,
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=False,
    )
    options = pa_csv.ReadOptions(
        column_names=names,
        skip_rows=skip,
        use_threads=False,
        block_size=stretch.size + 1,
        encoding="utf-8" if spec.encoding == "utf-8-sig" else spec.encoding,
    )
    try:
        found: list[pa.RecordBatch] = pa_csv.read_csv(pa.BufferReader(stretch), options, parse, convert).to_batches()
        return found
    except (pa.ArrowInvalid, UnicodeDecodeError) as error:
        if "Empty CSV" in str(error):
            return []
        for _ in _slowly(path, spec, names, columns, lambda _row: None):
            pass
        raise UnusableInput("unreadable", f"{path.name} cannot be read: {str(error).splitlines()[0]}.") from None
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error}.") from error


def _odd_quotes(path: Path, quote: str) -> bool:
    """Whether a quote may never be closed: then each row is looked at by itself."""
    if not quote:
        return False
    odd = 0
    with pa.OSFile(str(path)) as file:
        while (block := file.read_buffer(BLOCK)).size:
            odd += int(np.count_nonzero(np.frombuffer(block, np.uint8) == ord(quote)))
    return odd % 2 == 1


def _stretches(path: Path, spec: ReadingSpec) -> Iterator[pa.Buffer]:
    """The file in stretches of whole rows: each ends at a line's end that stands in no quotes."""
    with pa.OSFile(str(path)) as file:
        if spec.encoding.startswith("utf-16"):
            yield file.read_buffer()
            return
        start, wanted, size = 0, BLOCK, file.size()
        while start < size:
            file.seek(start)
            block = file.read_buffer(wanted)
            end = block.size if start + block.size == size else _line_end(np.frombuffer(block, np.uint8), spec.quote)
            if not end:  # a row that is longer than the block
                wanted *= 2
                continue
            yield block.slice(0, end)
            start, wanted = start + end, BLOCK


def _line_end(data: Any, quote: str) -> int:
    """The end of the last whole row; 0 where there is none."""
    for low in range(max(0, len(data) - LINE), -1, -LINE) if len(data) > LINE else (0,):
        for at in np.flatnonzero(data[low : low + LINE] == _BREAK)[::-1] + low:
            if not quote or np.count_nonzero(data[: at + 1] == ord(quote)) % 2 == 0:
                return int(at) + 1
    return 0


class _Lines:
    """The lines of a file without comments and footer, counted; bytes that are no text are told by line."""

    def __init__(self, file: IO[bytes], spec: ReadingSpec, path: Path) -> None:
        self.spec, self.path = spec, path
        self.number = 0
        self.lines: Iterator[bytes | str] = (
            iter(file) if not spec.encoding.startswith("utf-16") else _wide_lines(file, spec.encoding)
        )
        self.held: list[tuple[int, str]] = []
        self.wrong: dict[int, str] = {}

    def __iter__(self) -> Iterator[str]:
        for at, raw in enumerate(self.lines, 1):
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
            try:
                text = raw.decode(
                    "utf-8-sig" if at == 1 and self.spec.encoding.startswith("utf-8") else self.spec.encoding
                )
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


def _slowly(
    path: Path, spec: ReadingSpec, names: list[str], columns: Sequence[str], note: Note
) -> Iterator[pa.RecordBatch]:
    """The plain way, row by row; each row that is not as it should be is judged by itself. Empty text is no value here."""
    wanted = [names.index(name) for name in columns] or [0]
    kept: list[list[str | None]] = []
    with path.open("rb") as file:
        lines = _Lines(file, spec, path)
        for first, row, why in _checked_rows(lines, spec, len(names)):
            if why:
                shown = spec.separator.join(row)[:80]
                if spec.bad_rows == "stop":
                    raise _refused(path, first, why, shown)
                note(BadRow(path.name, first, why, shown, spec.bad_rows == "keep"))
                if spec.bad_rows == "drop":
                    continue
                row = [*row, *[""] * (len(names) - len(row))][: len(names)]
            kept.append([row[at] or None for at in wanted])
            if len(kept) == SLOW_ROWS:
                yield _batch(kept, columns or names[:1])
                kept = []
    if kept:
        yield _batch(kept, columns or names[:1])


def _checked_rows(lines: _Lines, spec: ReadingSpec, width: int) -> Iterator[tuple[int, list[str], str]]:
    """Each row with the line it begins in, and what is wrong with it (empty where nothing is)."""
    reader = csv.reader(lines, delimiter=spec.separator, quotechar=spec.quote or None, strict=True)
    if not spec.quote:
        reader = csv.reader(lines, delimiter=spec.separator, quoting=csv.QUOTE_NONE)
    skip = header_lines(spec)
    last = 0
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


def _batch(rows: list[list[Any]], columns: Sequence[str]) -> pa.RecordBatch:
    arrays = [pa.array(column, pa.string()) for column in zip(*rows, strict=True)]
    return pa.RecordBatch.from_arrays(arrays, names=list(columns))
