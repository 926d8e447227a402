"""JSON: an object a line, or one array of objects. Values come as text, so that types are judged as for any text."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.errors import UnusableInput
from oak_ledger.origin.csv.opened import head_of, opened
from oak_ledger.origin.reader import BATCH_ROWS, BadRow, row_count_batch
from oak_ledger.types import TEXT, Type


@dataclass(slots=True)
class JsonLinesReader:
    """JSON: an object a line, or one array of objects. An object inside another gives columns with a dot: `mill.town`."""

    path: Path
    bad: str = "stop"
    bad_rows: list[BadRow] = field(default_factory=list)
    names: dict[str, Type] = field(default_factory=dict)

    def columns(self) -> dict[str, Type]:
        """The keys of all objects, in the order in which they first occur."""
        if not self.names:
            for item in self._objects():
                self.names |= dict.fromkeys(item, TEXT)
            self.bad_rows.clear()
        return self.names

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows; a key that an object does not have is null."""
        self.bad_rows.clear()
        kept: list[dict[str, Any]] = []
        for item in self._objects():
            kept.append(item)
            if len(kept) == BATCH_ROWS:
                yield self._as_batch(kept, columns)
                kept = []
        if kept:
            yield self._as_batch(kept, columns)

    def _as_batch(self, items: list[dict[str, Any]], columns: Sequence[str]) -> pa.RecordBatch:
        if not columns:
            return row_count_batch(len(items))
        arrays = [pa.array([item.get(name) for item in items], pa.string()) for name in columns]
        return pa.RecordBatch.from_arrays(arrays, names=list(columns))

    def _objects(self) -> Iterator[dict[str, str | None]]:
        """Each object as texts by column; what is none is refused, or left out and noted."""
        what = "line"
        if head_of(self.path).removeprefix(b"\xef\xbb\xbf").lstrip().startswith(b"["):
            what = "object"
        for number, text, read in self._array() if what == "object" else self._lines():
            try:
                item = read()
                if not isinstance(item, dict):
                    raise ValueError("it is not an object")  # noqa: TRY004, TRY301
                flat = flat_texts(item)
                "".join(text or "" for text in flat.values()).encode()
            except UnicodeEncodeError as error:
                why = f"it holds half a character, {error.object[error.start]!a}"
            except (ValueError, RecursionError) as error:
                why = f"it is not JSON: {error}" if isinstance(error, json.JSONDecodeError) else str(error)
            else:
                yield flat
                continue
            if self.bad != "drop":
                hint = "Correct it, or leave such ones out: --bad-rows drop."
                raise UnusableInput("bad-row", f"{self.path.name}, {what} {number}: {why}: {text}", hint=hint)
            self.bad_rows.append(BadRow(self.path.name, number, why, text, kept=False))

    def _lines(self) -> Iterator[tuple[int, str, Any]]:
        with opened(self.path) as file:
            for number, line in enumerate(file, 1):
                if line.strip():
                    yield number, line[:80].decode("utf-8", "replace").strip(), lambda line=line: read_json(line)

    def _array(self) -> Iterator[tuple[int, str, Any]]:
        with opened(self.path) as file:
            data = file.read()
        try:
            items = read_json(data)
        except (ValueError, RecursionError) as error:
            message = f"{self.path.name} is not JSON: {error}."
            raise UnusableInput("not-json", message, hint="Check whether the file is whole.") from error
        for number, item in enumerate(items, 1):
            yield number, str(item)[:80], lambda item=item: item

    def locate(self, row: int) -> str:
        """The row in the file."""
        return f"{self.path.name} row {row:,}"


def read_json(text: bytes) -> Any:
    """JSON as Python's values; a number keeps its digits, a key that is there twice is refused."""
    return json.loads(text, parse_float=Decimal, parse_constant=str, object_pairs_hook=_once)


def _once(pairs: Sequence[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(pairs)
    if len(made) < len(pairs):
        names = [name for name, _ in pairs]
        raise ValueError(f"the key {next(name for name in names if names.count(name) > 1)!r} is there twice")
    return made


def flat_texts(item: dict[str, Any], before: str = "") -> dict[str, str | None]:
    """An object's values as texts; those of an object inside are under its name and a dot."""
    made: dict[str, str | None] = {}
    for name, value in item.items():
        own = (
            flat_texts(value, f"{before}{name}.")
            if isinstance(value, dict) and value
            else {f"{before}{name}": text_of(value)}
        )
        twice = next((key for key in own if key in made), None)
        if twice is not None:
            raise ValueError(f"there are two values for {twice!r}")
        made |= own
    return made


def text_of(value: Any) -> str | None:
    """A value as a text; lists and objects in JSON's writing."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, Decimal):
        return str(value)
    return json.dumps(value, ensure_ascii=False, default=_number)


def _number(value: Decimal) -> float | str:
    """A number within a list; one with more digits than a float has stays whole as a text."""
    return float(value) if Decimal(repr(float(value))) == value else str(value)
