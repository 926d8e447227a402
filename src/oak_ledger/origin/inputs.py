"""A source that is the origin of another one, or a part of it: its visible fields are columns, with their types."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.errors import Finding, Place, UnusableInput
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.handed import HANDED
from oak_ledger.origin.memory import TableReader
from oak_ledger.origin.reader import BadRow
from oak_ledger.origin.spec import ReadingSpec
from oak_ledger.types import Type

_READING: ContextVar[tuple[str, ...]] = ContextVar("_READING", default=())


@dataclass(slots=True)
class SourceReader:
    """The rows of another source. `findings` says what was not computed, or left out, in the last reading."""

    name: str
    open: Callable[[], Any]
    bad_rows: list[BadRow] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    _opened: Any = None

    def columns(self) -> dict[str, Type]:
        """Its visible fields that have a value in each row, and work."""
        with self._source() as source:
            return {
                shown_field.name: shown_field.type
                for shown_field in source.shown_fields
                if shown_field.type is not None
            }

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, with these fields."""
        with self._source() as source:
            answer = source.rows([quote_identifier(column) for column in columns])
        place = Place(self.name)
        self.findings = [
            Finding(
                "input-not-computed",
                f"{self.name}: {fault.sentence()}; null here.",
                place,
                f"oak check {self.name}",
                "warning",
            )
            for fault in answer.faults
        ] + [finding for finding in answer.findings if finding.severity != "note"]
        yield from TableReader(answer.table).batches(columns)

    def locate(self, row: int) -> str:
        """Where a row is in the source's own origin is not kept."""
        return ""

    @contextmanager
    def _source(self) -> Iterator[Any]:
        """The source, opened once; refused where it needs itself."""
        above = _READING.get()
        if self.name in above:
            message = (
                f"{' → '.join((*above[above.index(self.name) :], self.name))}: these sources need each other's rows."
            )
            raise UnusableInput("source-cycle", message, hint="Take one of them out of [origin] or [[part]].")
        token = _READING.set((*above, self.name))
        try:
            if self._opened is None:
                self._opened = self.open()
            yield self._opened
        finally:
            _READING.reset(token)


def open_input(open_definition: Callable[[Path], Any]) -> Callable[[ReadingSpec, Path], SourceReader]:
    """What opens an origin of kind source: a definition beside the one that names it, or a source of a catalogue."""

    def open_one(spec: ReadingSpec, folder: Path) -> SourceReader:
        path = folder / spec.path
        if not spec.published:
            return SourceReader(str(path), lambda: open_definition(path))
        version = spec.version or None
        return SourceReader(f"{spec.path}#{spec.published}", lambda: HANDED.published(path, spec.published, version))

    return open_one
