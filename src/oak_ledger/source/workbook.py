"""Rows written to a workbook (.xlsx): numbers and dates as such, every text as a text, whatever it begins with."""

from __future__ import annotations

import datetime as dt
import re
from collections import Counter
from decimal import Decimal
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.texts import value_text
from oak_ledger.definition.formats import Format
from oak_ledger.errors import Finding, Place, UnusableInput

ROWS, COLUMNS, LETTERS = 1_048_576, 16_384, 32_767  # that a sheet, and a cell of it, can hold
_NOT_HELD = r"[\x00-\x08\x0b\x0c\x0e-\x1f]"  # characters that a workbook cannot have
DIGITS = 15  # of a number, which a workbook keeps in binary
FIRST_DAY = dt.date(1900, 3, 1)  # earlier ones are counted in another way there
FORMAT = b"format"  # where a schema says how values are shown
_PARTS = {"YYYY": "yyyy", "YY": "yy", "MONTH": "mmmm", "MON": "mmm", "MM": "mm", "DD": "dd", "DAY": "dddd", "DY": "ddd", "HH24": "hh", "MI": "mm", "SS": "ss"}  # fmt: skip
PLAIN = {"constant_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False}


class WorkbookWriter:
    """A workbook with one sheet, written row by row."""

    def __init__(self, path: Path, schema: pa.Schema) -> None:
        from xlsxwriter import Workbook

        if len(schema) > COLUMNS:
            raise _too_large(f"A sheet holds {COLUMNS:,} columns; these are {len(schema):,}.")
        self.book = Workbook(path, PLAIN)
        self.sheet = self.book.add_worksheet("rows")
        self.sheet.freeze_panes(1, 0)
        for at, one in enumerate(schema):
            day = pa.types.is_date(one.type)
            look = "yyyy-mm-dd" if day else "yyyy-mm-dd hh:mm:ss" if pa.types.is_temporal(one.type) else ""
            look = _look((one.metadata or {}).get(FORMAT, b"").decode()) or look
            if look:
                width = None if not pa.types.is_temporal(one.type) else 11 if day else 19
                self.sheet.set_column(at, at, width, self.book.add_format({"num_format": look}))
        self.sheet.write_row(0, 0, schema.names)
        self.rows = 1
        self.as_texts: Counter[str] = Counter()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.book.close()

    def write_table(self, table: pa.Table) -> None:
        """Further rows. Raises UnusableInput for more than a sheet can hold."""
        if self.rows + table.num_rows > ROWS:
            raise _too_large(f"A sheet holds {ROWS - 1:,} rows, and there are more.")
        for batch in table.to_batches(max_chunksize=10_000):
            columns = [
                self._column(column, name) for column, name in zip(batch.columns, batch.schema.names, strict=True)
            ]
            for row in zip(*columns, strict=True):
                self.sheet.write_row(self.rows, 0, row)
                self.rows += 1

    def _column(self, column: Any, name: str) -> list[Any]:
        """Values as cells have them; what a workbook would change is a text."""
        if pa.types.is_string(column.type):
            return self._texts(column, name)
        values: list[Any] = column.to_pylist()
        if pa.types.is_boolean(column.type) or pa.types.is_floating(column.type):
            return values
        if pa.types.is_temporal(column.type):
            odd = [value is not None and (_day(value) < FIRST_DAY or _finer(value)) for value in values]
        else:
            surely = 10 ** (DIGITS - getattr(column.type, "scale", 0))  # below it every number has all its digits
            odd = [value is not None and not -surely < value < surely and not _fits(value) for value in values]
        if any(odd):
            self.as_texts[name] += sum(odd)
        return [value_text(value) if one else value for value, one in zip(values, odd, strict=True)]

    def _texts(self, column: Any, name: str) -> list[Any]:
        longest = pc.max(pc.utf8_length(column)).as_py() or 0
        if longest > LETTERS:
            raise _too_large(f"A cell holds {LETTERS:,} characters; a text of {name} has {longest:,}.")
        wrong = pc.sum(pc.match_substring_regex(column, _NOT_HELD)).as_py() or 0
        if wrong:
            self.as_texts[f"\0{name}"] += wrong
            column = pc.replace_substring_regex(column, _NOT_HELD, "\ufffd")
        return column.to_pylist()  # type: ignore[no-any-return]

    def findings(self) -> tuple[Finding, ...]:
        """Values that were changed so that a workbook can hold them."""
        found = []
        for name, count in self.as_texts.items():
            own, many = name.lstrip("\0"), count != 1
            what = (
                f"{count:,} text{'s have' if many else ' has'} characters that a workbook cannot hold; each is replaced by a mark"
                if name != own
                else f"{count:,} value{'s are texts' if many else ' is a text'} in the workbook, which would change {'them' if many else 'it'}"
            )
            found.append(Finding("written-otherwise", f"{own}: {what}.", Place(name=own), severity="note"))
        return tuple(found)


def _too_large(message: str) -> UnusableInput:
    return UnusableInput("too-much", message, hint="Write a CSV or Parquet file, or filter.")


def _fits(value: int | Decimal) -> bool:
    """Whether a number in binary has all its digits."""
    return len(Decimal(value).normalize().as_tuple().digits) <= DIGITS


def _finer(value: dt.date) -> bool:
    """Whether a moment has parts that a workbook, which counts in thousandths of a second, does not keep."""
    return isinstance(value, dt.datetime) and value.microsecond % 1000 > 0


def _look(sample: str) -> str:
    """A format as workbooks write it; nothing where they have none like it."""
    if not sample:
        return ""
    read = Format.read(sample)
    if read.date is not None:
        pieces = [_PARTS.get(piece.name, "" if piece.name else f'"{piece.written}"') for piece in read.date.pieces]
        return "".join(pieces) if all(pieces) else ""
    number = ("#,##0" if read.mark else "0") + ("." + "0" * read.decimals if read.decimals else "")
    after = "".join(one if one == "%" else f'"{one}"' for one in re.findall(r"%|[^%\"]+", read.after))
    return (f'"{read.before}"' if read.before else "") + number + after


def _day(value: dt.date) -> dt.date:
    return value.date() if isinstance(value, dt.datetime) else value
