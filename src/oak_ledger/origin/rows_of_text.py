"""Reading the rows of one delimited file: quickly by Arrow's reader, or line by line where a row is not as it should be."""

from __future__ import annotations

import csv
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import IO, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.csv as pa_csv

from oak_ledger.engine.pool import ordered
from oak_ledger.engine.tuning import tuning
from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.loops.rows import Wanted, count, last_line
from oak_ledger.loops.rows import columns as cut_columns
from oak_ledger.origin.delimited import column_names, head_of, header_lines
from oak_ledger.origin.spec import ReadingSpec

BLOCK = 1 << 23
PIECE = 1 << 18
LINE = (
    1 << 16
)  # how far back from a block's end a line's end is looked for; a heading that is longer is left to Arrow's reader
SLOW_ROWS = 20_000
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
    try:
        plain = spec.bad_rows == "stop" and not spec.comment and not spec.footer
        cuts = (
            _cuts(path, spec)
            if plain and (spec.encoding.startswith("utf-16") or b"\x00" not in head_of(path))
            else None
        )
        if cuts is None:
            for batch in _slowly(path, spec, names, columns, note):
                yield partial(iter, (batch,))
            return
        skip = header_lines(spec)
        for stretch in pairwise(cuts):
            yield Lines(path, spec, names, columns, *stretch, skip)
            skip = 0
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error}.") from error


@dataclass(frozen=True, slots=True)
class Looked:
    """Some rows: of each column its texts, or what was wanted of them (None where it is not so, see `loops.rows.Wanted`)."""

    rows: int
    columns: Mapping[str, Any]
    texts: Callable[[str], Any]
    """The texts of one of the columns, whatever is known of them."""

    @staticmethod
    def of(batch: pa.RecordBatch) -> Looked:
        """Rows with all their texts."""
        return Looked(batch.num_rows, dict(zip(batch.schema.names, batch.columns, strict=True)), batch.column)


@dataclass(frozen=True, slots=True)
class Lines:
    """Whole lines of a file, from one byte to another; the first ones may be no rows."""

    path: Path
    spec: ReadingSpec
    names: list[str]
    columns: Sequence[str]
    begin: int
    end: int
    skip: int

    def __call__(self) -> list[pa.RecordBatch]:
        """Their rows, of plain text or by Arrow's reader."""
        return self._batches(self._bytes(), list(self.columns) or self.names[:1])

    def looked(self, wanted: Mapping[str, Wanted], most: int) -> Looked | None:
        """What is wanted of some columns; None where a reader that knows more is needed. `most` are the different texts that are few."""
        found = self._cut(self._bytes(), wanted, most)
        return None if found is None else Looked(*found, partial(self._texts, found[0]))

    def _texts(self, rows: int, column: str) -> Any:
        """The texts of a column, of so many rows."""
        batches = self._batches(self._bytes(), [column])
        if sum(batch.num_rows for batch in batches) != rows or len(batches) != 1:
            hint = "Try again when nobody writes to it."
            raise UnusableInput("unreadable", f"{self.path} cannot be read: it was changed meanwhile.", hint=hint)
        return batches[0].column(0)

    def _batches(self, data: pa.Buffer, wanted: list[str]) -> list[pa.RecordBatch]:
        found = self._cut(data, dict.fromkeys(wanted, Wanted.TEXTS))
        if found is None:
            return _by_arrow(self.path, self.spec, self.names, wanted, data, self.skip)
        rows, made = found
        return [pa.RecordBatch.from_arrays([made[name] for name in wanted], names=wanted)] if rows else []

    def _bytes(self) -> pa.Buffer:
        try:
            return _between(self.path, self.begin, self.end)
        except OSError as error:
            raise UnusableInput("unreadable", f"{self.path} cannot be read: {error}.") from error

    def _cut(
        self, data: pa.Buffer, wanted: Mapping[str, Wanted], most: int = 0
    ) -> tuple[int, Mapping[str, Any]] | None:
        """How many rows there are, if they are UTF-8 and all as they should be, each value in its place; and what is wanted of columns."""
        spec = self.spec
        marks = [spec.separator, *([spec.quote] if spec.quote else [])]
        if spec.encoding not in ("utf-8", "utf-8-sig") or any(len(one) != 1 or not one.isascii() for one in marks):
            return None
        begin, head = 0, memoryview(data)
        if bytes(head[:3]) == b"\xef\xbb\xbf":
            begin = 3
        for _ in range(self.skip):
            ends = bytes(head[begin : begin + LINE]).find(b"\n")
            if ends < 0:
                return None
            begin += ends + 1
        asked = {self.names.index(name): one for name, one in wanted.items()}
        found = cut_columns(data, begin, ord(spec.separator), _byte(spec.quote), len(self.names), asked, most)
        return None if found is None else (found[0], {self.names[at]: one for at, one in found[1].items()})


_held = threading.local()


def _between(path: Path, begin: int, end: int) -> pa.Buffer:
    """The bytes of a file from one place to another, or to its end; until this thread asks for others, which take their place."""
    size = end - begin
    if getattr(_held, "room", None) is None or len(_held.room) < size or len(_held.room) > 4 * BLOCK > 4 * size:
        _held.room = np.empty(size, np.uint8)
    with path.open("rb", buffering=0) as file:
        file.seek(begin)
        got = 0
        while got < size and (some := file.readinto(memoryview(_held.room)[got:size])):
            got += some
    return pa.py_buffer(_held.room[:got])


def _pieces(path: Path, begin: int) -> Iterator[npt.NDArray[np.uint8]]:
    """A block of a file piece by piece, each in the same memory."""
    room, left = bytearray(PIECE), BLOCK
    piece = np.frombuffer(room, np.uint8)
    with path.open("rb", buffering=0) as file:
        file.seek(begin)
        while left and (size := file.readinto(memoryview(room)[:left])):
            yield piece[:size]
            left -= size


def _byte(mark: str) -> int | None:
    return ord(mark) if mark else None


def _by_arrow(
    path: Path, spec: ReadingSpec, names: list[str], wanted: Sequence[str], data: pa.Buffer, skip: int
) -> list[pa.RecordBatch]:
    """By Arrow's reader. If it fails, going through the file once more finds the row that is wrong, and says so."""
    parse = pa_csv.ParseOptions(
        delimiter=spec.separator, quote_char=spec.quote or False, newlines_in_values=bool(spec.quote)
    )
    convert = pa_csv.ConvertOptions(
        column_types=dict.fromkeys(names, pa.string()),
        include_columns=list(wanted),
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=False,
    )
    options = pa_csv.ReadOptions(
        column_names=names,
        skip_rows=skip,
        use_threads=False,
        block_size=data.size + 1,
        encoding="utf-8" if spec.encoding == "utf-8-sig" else spec.encoding,
    )
    try:
        found: list[pa.RecordBatch] = pa_csv.read_csv(pa.BufferReader(data), options, parse, convert).to_batches()
        return found
    except (pa.ArrowInvalid, UnicodeDecodeError) as error:
        if "Empty CSV" in str(error):
            return []
        for _ in _slowly(path, spec, names, wanted, lambda _row: None):
            pass
        raise UnusableInput("unreadable", f"{path.name} cannot be read: {str(error).splitlines()[0]}.") from None
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error}.") from error


def _cuts(path: Path, spec: ReadingSpec) -> list[int] | None:
    """Where the file is cut into stretches of whole rows: at lines' ends that stand in no quotes. None where a quote may never be closed:
    then each row must be looked at by itself.
    """
    size = path.stat().st_size
    if spec.encoding.startswith("utf-16"):
        return [0, size]
    quote = _byte(spec.quote)

    def quotes(begin: int) -> int:
        return sum(count(piece, quote) for piece in _pieces(path, begin)) if quote is not None else 0

    begins, cuts, inside = range(0, size, BLOCK), [0], False
    for begin, found in zip(begins, ordered(quotes, begins, tuning().threads), strict=True):
        end, inside = min(begin + BLOCK, size), inside ^ bool(found % 2)
        for low in (max(begin, end - LINE), begin):  # most lines are much shorter
            last = last_line(np.frombuffer(_between(path, low, end), np.uint8), quote, inside=inside)
            if last:
                break
        if last and low + last < size:
            cuts.append(low + last)
    return None if inside else [*cuts, size]


class _Counted:
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
        lines = _Counted(file, spec, path)
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


def _checked_rows(lines: _Counted, spec: ReadingSpec, width: int) -> Iterator[tuple[int, list[str], str]]:
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
