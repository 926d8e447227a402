"""JSON lines: one object a line. Values come as text, so that types are judged as for any text."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.errors import UnusableInput
from oak_ledger.origin.reader import BATCH_ROWS, BadRow, row_count_batch
from oak_ledger.types import TEXT, Type


@dataclass(slots=True)
class JsonLinesReader:
    """JSON lines: one object a line. Values come as text, so that types are judged as for any text."""

    path: Path
    bad: str = "stop"
    bad_rows: list[BadRow] = field(default_factory=list)
    names: dict[str, Type] = field(default_factory=dict)

    def columns(self) -> dict[str, Type]:
        """The keys of all objects, in the order in which they first occur."""
        if not self.names:
            for _, item in self._objects():
                self.names |= dict.fromkeys(item, TEXT)
            self.bad_rows.clear()
        return self.names

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows; a key that an object does not have is null."""
        kept: list[dict[str, Any]] = []
        for _, item in self._objects():
            kept.append(item)
            if len(kept) == BATCH_ROWS:
                yield self._as_batch(kept, columns)
                kept = []
        if kept:
            yield self._as_batch(kept, columns)

    def _as_batch(self, items: list[dict[str, Any]], columns: Sequence[str]) -> pa.RecordBatch:
        if not columns:
            return row_count_batch(len(items))
        arrays = [pa.array([_json_text(item.get(name)) for item in items], pa.string()) for name in columns]
        return pa.RecordBatch.from_arrays(arrays, names=list(columns))

    def _objects(self) -> Iterator[tuple[int, dict[str, Any]]]:
        if not self.path.is_file():
            raise UnusableInput("no-file", f"There is no file {self.path}.", hint="Check the path and the spelling.")
        with self.path.open("rb") as file:
            for number, line in enumerate(file, 1):
                if not line.strip():
                    continue
                try:
                    item = json.loads(line)
                    why = "" if isinstance(item, dict) else "it is no object"
                except (ValueError, RecursionError) as error:
                    item, why = None, f"it is no JSON: {error}"
                if not why:
                    yield number, item
                    continue
                shown = line[:80].decode("utf-8", "replace").strip()
                if self.bad != "drop":
                    hint = "Correct the line, or leave such lines out: --bad-rows drop."
                    raise UnusableInput("bad-row", f"{self.path.name}, line {number}: {why}: {shown}", hint=hint)
                self.bad_rows.append(BadRow(self.path.name, number, why, shown, kept=False))

    def locate(self, row: int) -> str:
        """The row in the file."""
        return f"{self.path.name} row {row:,}"


def _json_text(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    return json.dumps(value, ensure_ascii=False)
