"""Rows written to a workbook (.xlsx): numbers and dates as such, every text as a text, whatever it begins with."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from decimal import Decimal
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.texts import value_text
from oak_ledger.errors import Finding, Place, UnusableInput

ROWS, COLUMNS, LETTERS = 1_048_576, 16_384, 32_767  # that a sheet, and a cell of it, can hold
_NOT_HELD = r"[\x00-\x08\x0b\x0c\x0e-\x1f]"  # characters that a workbook cannot have
DIGITS = 15  # of a number, which a workbook keeps in binary
FIRST_DAY = dt.date(1900, 3, 1)  # earlier ones are counted in another way there
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
            if pa.types.is_temporal(one.type):
                look = "yyyy-mm-dd" if pa.types.is_date(one.type) else "yyyy-mm-dd hh:mm:ss"
                self.sheet.set_column(
                    at, at, 11 if pa.types.is_date(one.type) else 19, self.book.add_format({"num_format": look})
                )
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
            odd = [value is not None and _day(value) < FIRST_DAY for value in values]
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
                f"{count:,} text{'s have' if many else ' has'} characters that a workbook cannot hold; a mark stands for each"
                if name != own
                else f"{count:,} value{'s are texts' if many else ' is a text'} in the workbook, which would change {'them' if many else 'it'}"
            )
            found.append(Finding("written-otherwise", f"{own}: {what}.", Place(own), severity="note"))
        return tuple(found)


def _too_large(message: str) -> UnusableInput:
    return UnusableInput("too-much", message, hint="Write a CSV or Parquet file, or filter.")


def _fits(value: int | Decimal) -> bool:
    """Whether a number in binary has all its digits."""
    return len(Decimal(value).normalize().as_tuple().digits) <= DIGITS


def _day(value: dt.date) -> dt.date:
    return value.date() if isinstance(value, dt.datetime) else value
