"""What panels show, whatever draws it: tables of lines, charts of series, figures, texts."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from oak_ledger.definition.formats import show
from oak_ledger.errors import Finding
from oak_ledger.source.answer import Answer


@dataclass(frozen=True, slots=True)
class Line:
    """A line of a table: its cells as texts. A `subtotal` is of the first `level` keys."""

    role: Literal["row", "subtotal", "rest", "total"]
    cells: tuple[str, ...]
    level: int = 0


class Content:
    """What a panel shows; `notes` say what is left out, and which filters are in force."""

    __slots__ = ()
    notes: tuple[str, ...]

    def as_json(self) -> dict[str, Any]:
        """Plain values for a script."""
        return {"lines": [], "change": "", "text": [], "notes": [*self.notes]}


@dataclass(frozen=True, slots=True)
class TableContent(Content):
    """A table: its header, which columns are numbers, its lines in order."""

    names: tuple[str, ...]
    numeric: tuple[bool, ...]
    lines: tuple[Line, ...]
    notes: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """The lines with the role of each."""
        lines = [{"role": line.role, "cells": [*line.cells]} for line in self.lines]
        return {**Content.as_json(self), "lines": lines}


@dataclass(frozen=True, slots=True)
class Series:
    """One measure, or one value of the second key: a number for each group (None where there is none) and its text."""

    name: str
    numbers: tuple[float | None, ...]
    texts: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ChartContent(Content):
    """Groups with one or several series. `at` has the dates of lines, `format` is that of the first measure, `rest` the name of what is beyond the limit."""

    key: str
    measure: str
    groups: tuple[str, ...]
    series: tuple[Series, ...]
    format: str
    at: tuple[Any, ...] = ()
    rest: str = ""
    notes: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """The numbers of the chart, a line for each group."""
        return self.as_table().as_json()

    def as_table(self) -> TableContent:
        """The numbers of the chart."""
        lines = tuple(
            Line("row", (group, *(series.texts[at] for series in self.series))) for at, group in enumerate(self.groups)
        )
        names = (self.key, *(series.name for series in self.series))
        return TableContent(names, (False, *(True for _ in self.series)), lines, self.notes)


@dataclass(frozen=True, slots=True)
class FigureContent(Content):
    """A key figure, and how it differs from what it is compared with."""

    value: str
    change: str = ""
    notes: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """The change in words; the figure itself is in the answer's row."""
        return {**Content.as_json(self), "change": self.change}


@dataclass(frozen=True, slots=True)
class TextContent(Content):
    """Paragraphs."""

    paragraphs: tuple[str, ...]
    notes: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """The paragraphs."""
        return {**Content.as_json(self), "text": [*self.paragraphs]}


@dataclass(frozen=True, slots=True)
class Computed:
    """What a panel shows, the answer that it comes from, and what else to know."""

    content: Content
    answer: Answer | None = None
    findings: tuple[Finding, ...] = ()


def even_format(answer: Answer, name: str) -> str:
    """The display format of a column: its own, else one with as many decimals in every row."""
    import pyarrow as pa
    import pyarrow.compute as pc

    kind = answer.table.schema.field(name).type
    if answer.formats.get(name) or not is_number(kind):
        return answer.formats.get(name, "")
    if pa.types.is_integer(kind):
        return "0,000"
    values = pc.abs(answer.table.column(name).cast(pa.float64()))
    largest = pc.max(values).as_py() or 0.0
    if largest >= 1e15 or 0 < largest < 1e-3:
        return ""  # shown with an exponent, or all its digits
    decimals = min(kind.scale, 2) if pa.types.is_decimal(kind) else 2 if largest >= 1 else 4
    return f"0,000.{'0' * decimals}" if decimals else "0,000"


def is_number(kind: Any) -> bool:
    """Whether an Arrow type is one of numbers."""
    import pyarrow as pa

    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def value_text(value: Any, format_text: str) -> str:
    """A value as panels show it."""
    return "null" if value is None else "(empty)" if value == "" else show(value, format_text)
