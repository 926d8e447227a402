"""Sheets of workbooks (.xlsx, .ods): listing them, finding the header under a title, and typed columns."""

from __future__ import annotations

import datetime as dt
import zipfile
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.columnar.texts import number_text, value_text
from oak_ledger.errors import UnusableInput
from oak_ledger.origin.reader import BATCH_ROWS, BadRow, row_count_batch
from oak_ledger.origin.spec import Header, ReadingSpec
from oak_ledger.types import BOOLEAN, DATE, INTEGER, NUMBER, TEXT, TIMESTAMP, Type

ENDINGS = (".xlsx", ".xlsm", ".xls", ".xlsb", ".ods")
ERRORS = ("#DIV/0!", "#N/A", "#NAME?", "#NULL!", "#NUM!", "#REF!", "#VALUE!")


@dataclass(frozen=True, slots=True)
class Sheet:
    """One sheet: its name, how many rows and columns it has, and its first filled rows as text."""

    name: str
    rows: int
    columns: int
    first: tuple[tuple[str, ...], ...]


def sheets(path: Path) -> list[Sheet]:
    """The sheets of a workbook, in its order."""
    book = _open(path)
    found = []
    for name in book.sheet_names:
        cells = _cells(book, name)
        shown = tuple(
            tuple(value_text(cell) or "" for cell in row[:8]) for row in cells if any(cell != "" for cell in row)
        )
        found.append(Sheet(name, len(cells), max((len(row) for row in cells), default=0), shown[:3]))
    return found


def _open(path: Path) -> Any:
    from python_calamine import CalamineError, CalamineWorkbook

    if not path.is_file():
        raise UnusableInput("no-file", f"There is no file {path}.", hint="Check the path and the spelling.")
    try:
        return CalamineWorkbook.from_path(str(path))
    except (CalamineError, OSError, ValueError) as error:
        raise UnusableInput("not-a-workbook", f"{path} cannot be read as a workbook: {error}.") from error


def _cells(book: Any, name: str, errors: Sequence[tuple[int, int, str]] = ()) -> list[list[Any]]:
    """The cells of a sheet, an empty one as empty text; merged cells all have the value of their first."""
    sheet = book.get_sheet_by_name(name)
    cells = [list(row) for row in sheet.to_python(skip_empty_area=False)]
    for row, column, said in errors:
        if row < len(cells) and column < len(cells[row]):
            cells[row][column] = said
    for (top, left), (bottom, right) in sheet.merged_cell_ranges or ():
        for row in range(top, min(bottom, len(cells) - 1) + 1):
            for column in range(left, min(right, len(cells[row]) - 1) + 1):
                cells[row][column] = cells[top][left]
    return cells


def read_cells(path: Path, name: str) -> list[list[Any]]:
    """The cells of one sheet; raises UnusableInput where it is not there."""
    book = _open(path)
    if name not in book.sheet_names:
        there = ", ".join(map(repr, book.sheet_names))
        raise UnusableInput("unknown-sheet", f"{path.name} has no sheet {name!r}.", hint=f"It has {there}.")
    return _cells(book, name, _error_cells(path, name))


def _error_cells(path: Path, name: str) -> list[tuple[int, int, str]]:
    """The cells of a sheet that hold an error, as (row, column, error) from 0: the quick reader tells them as empty."""
    if path.suffix.lower() not in (".xlsx", ".xlsm"):
        return []
    with zipfile.ZipFile(path) as archive:
        parts = [part for part in archive.namelist() if part.startswith("xl/worksheets/")]
        if not any(b't="e"' in archive.read(part) for part in parts):
            return []
    from openpyxl import load_workbook

    book = load_workbook(path, read_only=True, data_only=True)
    try:
        rows = book[name].iter_rows()
        return [
            (cell.row - 1, cell.column - 1, str(cell.value)) for row in rows for cell in row if cell.value in ERRORS
        ]
    finally:
        book.close()


def find_header(cells: Sequence[Sequence[Any]]) -> tuple[Header, str]:
    """The line in which the names stand (from 1), or `none`; and why."""
    filled = [len({str(cell) for cell in row if cell != ""}) for row in cells[:50]]
    width = Counter(count for count in filled if count).most_common(1)[0][0] if any(filled) else 0
    for at, row in enumerate(cells[:50]):
        if filled[at] < max(width, 1):
            continue
        texts = [cell for cell in row if cell != ""]
        if all(isinstance(cell, str) for cell in texts) and len(set(texts)) == len(texts):
            above = "the lines above it are a title; " if at else ""
            return at + 1, f"{above}it holds different texts only"
        return "none", "the first full line holds values that are no names"
    return "none", "no line is full"


@dataclass(slots=True)
class SheetReader:
    """One sheet of a workbook."""

    path: Path
    spec: ReadingSpec
    bad_rows: list[BadRow] = field(default_factory=list)
    loaded: dict[str, Any] = field(default_factory=dict)
    kinds: dict[str, Type] = field(default_factory=dict)

    def columns(self) -> dict[str, Type]:
        """The columns with the types that their cells have."""
        self._load()
        return self.kinds

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows."""
        self._load()
        rows = len(next(iter(self.loaded.values()), ()))
        if not columns:
            yield row_count_batch(rows)
            return
        table = pa.table({name: self.loaded[name] for name in columns})
        yield from table.to_batches(max_chunksize=BATCH_ROWS)

    def locate(self, row: int) -> str:
        """The line of the sheet."""
        first = self.spec.header if isinstance(self.spec.header, int) else int(self.spec.header == "first")
        return f"{self.path.name}, {self.spec.sheet} line {row + first:,}"

    def _load(self) -> None:
        if self.loaded:
            return
        cells = read_cells(self.path, self.spec.sheet)
        cells = cells[: len(cells) - self.spec.footer]
        header = 1 if self.spec.header == "first" else self.spec.header
        names, rows = self._split(cells, header)
        for at, name in enumerate(names):
            if name:
                values = [row[at] if at < len(row) else "" for row in rows]
                self.loaded[name], self.kinds[name] = self._column(name, values)

    def _split(self, cells: list[list[Any]], header: Any) -> tuple[list[str], list[list[Any]]]:
        width = max((len(row) for row in cells), default=0)
        if header == "none":
            names = list(self.spec.names) or [f"Column {at + 1}" for at in range(width)]
            start = 0
        else:
            line = cells[header - 1] if header <= len(cells) else []
            names = [self.spec.renamed.get(str(cell).strip(), str(cell).strip()) for cell in line]
            start = header
        rows = [row for row in cells[start:] if any(cell != "" for cell in row)]
        used = [any(at < len(row) and row[at] != "" for row in rows) for at in range(len(names))]
        names = [name or (f"Column {at + 1}" if used[at] else "") for at, name in enumerate(names)]
        twice = next((name for name in names if name and names.count(name) > 1), None)
        if twice is not None:
            raise UnusableInput(
                "column-twice", f"{self.path.name}, {self.spec.sheet}: the column {twice!r} occurs twice."
            )
        return names, rows

    def _column(self, name: str, values: list[Any]) -> tuple[Any, Type]:
        """The cells as one column: of their own type where they share one, else as text. Error cells are null, and noted."""
        made: list[Any] = []
        for row, value in enumerate(values, 1):
            if isinstance(value, str) and value in ERRORS:
                self.bad_rows.append(
                    BadRow(self.path.name, row, f"{name} holds the error {value}; it counts as null", value, kept=True)
                )
                value = ""
            made.append(None if value == "" else value)
        kind = _kind({type(value) for value in made if value is not None}, made)
        return pa.array([_cell(value, kind) for value in made], arrow_type(kind)), kind


def _kind(types: set[type], values: Sequence[Any]) -> Type:
    if types and types <= {bool}:
        return BOOLEAN
    if types and types <= {int, float}:
        whole = all(value is None or (float(value).is_integer() and abs(value) < 2**53) for value in values)
        return INTEGER if whole else NUMBER
    if types and types <= {dt.date, dt.datetime}:
        midnight = all(not isinstance(value, dt.datetime) or value.time() == dt.time() for value in values)
        return DATE if midnight else TIMESTAMP
    return TEXT


def _cell(value: Any, kind: Type) -> Any:
    if value is None:
        return None
    if kind == INTEGER:
        return int(value)
    if kind == NUMBER:
        return float(value)
    if kind == DATE:
        return value.date() if isinstance(value, dt.datetime) else value
    if kind == TIMESTAMP:
        return value if isinstance(value, dt.datetime) else dt.datetime.combine(value, dt.time())
    if kind == TEXT:
        return (
            number_text(float(value))
            if isinstance(value, (int, float)) and not isinstance(value, bool)
            else value_text(value)
        )
    return value
