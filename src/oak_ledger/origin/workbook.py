"""Sheets of workbooks (.xlsx, .ods): listing them, finding the header under a title, and typed columns."""

from __future__ import annotations

import datetime as dt
import re
import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.columnar.texts import number_text, value_text
from oak_ledger.errors import UnusableInput
from oak_ledger.origin.csv.opened import state_of
from oak_ledger.origin.footer import LAST_LINES, lines_after_rows, own_footer
from oak_ledger.origin.header import arriving_names, column_names_of, judge_header, usual_width
from oak_ledger.origin.reader import BATCH_ROWS, BadRow, row_count_batch
from oak_ledger.origin.spec import ReadingSpec
from oak_ledger.types import BOOLEAN, DATE, INTEGER, NUMBER, TEXT, TIMESTAMP, Type

ENDINGS = (".xlsx", ".xlsm", ".xls", ".xlsb", ".ods")
_UNCOMPUTED = re.compile(
    rb"</f>\s*(?:<v\s*/>|<v>\s*</v>)?\s*</c>|<f\b[^>]*/>\s*(?:<v\s*/>|<v>\s*</v>)?\s*</c>"
)  # a formula without a value
MIN_HEADER_ROWS, MAX_HEADER_ROWS = 30, 300  # lines in which the names are looked for
HEADER_CELLS = 30_000  # so many cells are enough for that
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
    return _read(path, name)[0]


def _read(path: Path, name: str) -> tuple[list[list[Any]], list[tuple[int, int]]]:
    """The cells of one sheet, and which of them, as (row, column) from 0, hold a formula that was never computed."""
    book = _open(path)
    if name not in book.sheet_names:
        there = ", ".join(map(repr, book.sheet_names))
        raise UnusableInput("unknown-sheet", f"{path.name} has no sheet {name!r}.", hint=f"It has {there}.")
    errors, formulas = _special_cells(path, name)
    cells = _cells(book, name, errors)
    return cells, [
        (row, column)
        for row, column in formulas
        if row < len(cells) and column < len(cells[row]) and cells[row][column] == ""
    ]


def _special_cells(path: Path, name: str) -> tuple[list[tuple[int, int, str]], list[tuple[int, int]]]:
    """The cells of a sheet that hold an error, as (row, column, error) from 0, and those with a formula: the quick reader gives both as empty."""
    if path.suffix.lower() not in (".xlsx", ".xlsm"):
        return [], []
    with zipfile.ZipFile(path) as archive:
        parts = [archive.read(part) for part in archive.namelist() if part.startswith("xl/worksheets/")]
    errors = formulas = []
    if any(b't="e"' in part for part in parts):
        errors = [
            (row, column, str(value)) for row, column, value in _values(path, name, computed=True) if value in ERRORS
        ]
    if any(_UNCOMPUTED.search(part) for part in parts):
        formulas = [
            (row, column) for row, column, value in _values(path, name, computed=False) if str(value).startswith("=")
        ]
    return errors, formulas


def _values(path: Path, name: str, *, computed: bool) -> Iterator[tuple[int, int, Any]]:
    """Each filled cell with its place from 0: what a formula gave, or the formula."""
    from openpyxl import load_workbook

    book = load_workbook(path, read_only=True, data_only=computed)
    try:
        for row in book[name].iter_rows():
            yield from ((cell.row - 1, cell.column - 1, cell.value) for cell in row if cell.value is not None)
    finally:
        book.close()


@dataclass(frozen=True, slots=True)
class FirstLook:
    """Where the names are and which lines at the end are not rows, as keys of a definition; and why that is believed."""

    keys: Mapping[str, Any]
    evidence: tuple[tuple[str, str], ...]


def first_look(path: Path, name: str, given: Mapping[str, Any]) -> FirstLook:
    """A sheet, looked at for the first time; what is given is taken as it is."""
    cells = read_cells(path, name)
    while cells and not any(cell != "" for cell in cells[-1]):
        cells.pop()
    width = max((len(row) for row in cells), default=1)
    texts = [_texts(row) for row in cells[: max(MIN_HEADER_ROWS, min(MAX_HEADER_ROWS, HEADER_CELLS // max(width, 1)))]]
    texts = _titles_apart(texts)
    keys: dict[str, Any] = {}
    evidence = []
    if not texts:
        return FirstLook({"header": "first", **given}, ())
    if "header" not in given:
        found = judge_header([row if any(row) else [] for row in texts])
        first = next(at for at, row in enumerate(texts, 1) if any(row))
        keys = {"header": first if found.header == "first" else found.header, "header_lines": found.lines}
        evidence.append((f"header in line {keys['header']}" if found.header != "none" else "header none", found.why))
    if "footer" not in given:
        footer, why = lines_after_rows([_texts(row) for row in cells[-LAST_LINES:]], usual_width(cells))
        header = keys.get("header", given.get("header"))
        keys["footer"] = min(footer, len(cells) - header if isinstance(header, int) else len(cells))
        evidence += [(f"footer {footer}", why)] if footer else []
    return FirstLook({**given, **keys}, tuple(evidence))


def _titles_apart(lines: list[list[str]]) -> list[list[str]]:
    """The first lines with a title that was merged over several columns in its first cell only: it is not a group above names."""
    made: list[list[str]] = []
    for at, line in enumerate(lines):
        filled = [cell for cell in line if cell]
        if len({*filled}) > 1:
            return [*made, *lines[at:]]
        made.append([*filled[:1], *[""] * (len(line) - 1)] if filled else line)
    return lines  # nothing but such lines: they are rows


def _texts(row: Sequence[Any]) -> list[str]:
    """The cells of a line as texts."""
    return [value_text(cell) or "" for cell in row]


@dataclass(slots=True)
class SheetReader:
    """One sheet of a workbook."""

    path: Path
    spec: ReadingSpec
    bad_rows: list[BadRow] = field(default_factory=list)
    loaded: dict[str, Any] = field(default_factory=dict)
    kinds: dict[str, Type] = field(default_factory=dict)
    texts: set[str] = field(default_factory=set)
    state: Any = None
    footer: int = 0
    """How many lines at the end of this sheet are not rows."""

    def columns(self) -> dict[str, Type]:
        """The columns with the types that their cells have."""
        self._load()
        return self.kinds

    def text_cells(self) -> set[str]:
        """The columns of text in which every cell is a text, and none a number or a date."""
        self._load()
        return self.texts

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
        state = state_of(self.path)
        if self.loaded and state == self.state:
            return
        self.state = state
        self.loaded, self.kinds = {}, {}
        self.bad_rows.clear()
        cells, formulas = _read(self.path, self.spec.sheet)
        self.bad_rows += [
            BadRow(
                self.path.name,
                row + 1,
                "it holds a formula that was never computed, which counts as null",
                "",
                kept=True,
            )
            for row, _ in formulas
        ]
        while cells and not any(cell != "" for cell in cells[-1]):
            cells.pop()  # blank lines at the very end do not count
        header = 1 if self.spec.header == "first" else self.spec.header
        body = [_texts(row) for row in cells[header if isinstance(header, int) else 0 :][:MAX_HEADER_ROWS]]
        self.footer = min(own_footer([_texts(row) for row in cells[-LAST_LINES:]], body, self.spec.footer), len(body))
        cells = cells[: len(cells) - self.footer]
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
            lines = [_texts(line) for line in cells[max(header - self.spec.header_lines, 0) : header]]
            start = header
            body = [row for row in cells[start:] if row]
            named = bool(lines) and len(lines[-1]) == usual_width(body)  # then no cell of the rows counts
            written_names = arriving_names(lines, body if named else [*map(_texts, body)]) if lines else []
            names = column_names_of(written_names, self.spec.renamed)
        rows = [row for row in cells[start:] if any(cell != "" for cell in row)]
        used = [any(at < len(row) and row[at] != "" for row in rows) for at in range(len(names))]
        kept = [name if header == "none" or written_names[at] or used[at] else "" for at, name in enumerate(names)]
        return kept, rows

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
        types = {type(value) for value in made if value is not None}
        if types == {str}:
            self.texts.add(name)
        kind = _kind(types, made)
        convert = _CELLS.get(kind.kind, _text_cell)
        return pa.array([None if value is None else convert(value) for value in made], arrow_type(kind)), kind


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


def _text_cell(value: Any) -> Any:
    plain = isinstance(value, (int, float)) and not isinstance(value, bool)
    return number_text(float(value)) if plain else value_text(value)


_CELLS: dict[str, Callable[[Any], Any]] = {
    "integer": int,
    "number": float,
    "boolean": bool,
    "date": lambda value: value.date() if isinstance(value, dt.datetime) else value,
    "timestamp": lambda value: value if isinstance(value, dt.datetime) else dt.datetime.combine(value, dt.time()),
}
"""How a cell becomes a value of a type."""
