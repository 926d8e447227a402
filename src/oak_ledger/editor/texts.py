"""Where values are written in a TOML file: from a place in the file to one in the text that it means, and back."""

from __future__ import annotations

import itertools
import re
import tomllib
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from oak_ledger.definition.document import block_offsets

_TOKEN = re.compile(
    r"""#[^\n]*|'''(?:[^']|'{1,2}(?!'))*'{3,5}|\"{3}(?:\\[\s\S]|[^"\\]|"{1,2}(?!"))*"{3,5}|'[^'\n]*'|"(?:\\.|[^"\\\n])*\""""
)
_KEY = re.compile(r"\s*=")
_PIECE = re.compile(r"\\u[0-9A-Fa-f]{4}|\\U[0-9A-Fa-f]{8}|\\[ \t]*\n\s*|\\.|[\s\S]")
_HEADER = re.compile(r"^[ \t]*\[\[?[ \t]*([A-Za-z_][\w-]*)", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class WrittenText:
    """A text in a file: the key it belongs to, what it says, and where each character of it is written.

    `path` leads to it within the key's value (a number in a list, a name in a table); `start` and `end` are those of
    the whole with its quotes, `edges` has one offset more than `value` has characters; all are offsets in the file.
    """

    key: str
    path: tuple[str | int, ...]
    value: str
    start: int
    end: int
    edges: tuple[int, ...]

    def in_value(self, offset: int) -> int:
        """The place in the text of a place in the file that is between its quotes."""
        return max(0, min(len(self.value), bisect_right(self.edges, offset) - 1))

    def in_file(self, position: int) -> int:
        """The place in the file of a place in the text."""
        return self.edges[position]

    def holds(self, offset: int) -> bool:
        """Whether a place in the file is between its quotes."""
        return self.edges[0] <= offset <= self.edges[-1]


@dataclass(frozen=True, slots=True)
class _Read:
    """What a table of a file says, wherever in the file it is."""

    table: str
    values: dict[str, Any] | None
    texts: tuple[WrittenText, ...]


@dataclass(frozen=True, slots=True)
class Piece:
    """One table of a file as it is written: its text, and where that begins."""

    text: str
    start: int
    read: _Read

    @property
    def table(self) -> str:
        """The name in its header."""
        return self.read.table

    @property
    def values(self) -> dict[str, Any] | None:
        """Its values; None while it is no TOML."""
        return self.read.values

    @property
    def texts(self) -> list[WrittenText]:
        """The texts among its values, where they are in the file."""
        by = self.start
        return [
            WrittenText(
                one.key, one.path, one.value, one.start + by, one.end + by, tuple(edge + by for edge in one.edges)
            )
            for one in self.read.texts
        ]

    @property
    def name(self) -> str:
        """What the entry is called; empty where it has no name."""
        values = self.read.values or {}
        return str(values.get("name") or values.get("title") or "")

    @property
    def header(self) -> tuple[int, int]:
        """Where its header, or the value of its name, is."""
        named = next((text for text in self.texts if text.key in ("name", "title")), None)
        if named is not None:
            return named.edges[0], named.edges[-1]
        match = _HEADER.search(self.text)
        return (self.start + match.start(1), self.start + match.end(1)) if match else (self.start, self.start)

    def key_span(self, key: str) -> tuple[int, int]:
        """Where a key is written; the header where it is not."""
        match = re.search(rf"^[ \t]*(\"?{re.escape(key)}\"?)[ \t]*=", self.text, re.MULTILINE) if key else None
        return (self.start + match.start(1), self.start + match.end(1)) if match else self.header

    def text_at(self, offset: int) -> WrittenText | None:
        """The text between whose quotes a place is."""
        return next((text for text in self.texts if text.holds(offset)), None)


def pieces_of(text: str) -> list[Piece]:
    """A file table by table, also one that cannot be read as a whole."""
    edges = [0, *block_offsets(text), len(text)]
    return pieces(text[start:end] for start, end in itertools.pairwise(edges))


def pieces(texts: Iterable[str]) -> list[Piece]:
    """The tables of a file from their texts, in its order."""
    found, start = [], 0
    for text in texts:
        if text:
            found.append(Piece(text, start, _read(text)))
            start += len(text)
    return found


@lru_cache(maxsize=8_192)
def _read(text: str) -> _Read:
    header = _HEADER.search(text)
    table = header[1] if header else ""
    try:
        found: Any = tomllib.loads(text).get(table)
    except tomllib.TOMLDecodeError:
        return _Read(table, None, ())
    values = found[0] if isinstance(found, list) and found else found
    if not isinstance(values, dict):
        return _Read(table, None, ())
    leaves = [(key, path, said) for key, value in values.items() for path, said in _leaves(value)]
    written = list(_written(text))
    if [said for _, _, said in leaves] != [tomllib.loads(f"v = {text[start:end]}")["v"] for start, end in written]:
        return _Read(table, values, ())  # texts out of their order, as in tables of tables
    texts = (
        WrittenText(key, path, said, start, end, _edges(text, start, end))
        for (key, path, said), (start, end) in zip(leaves, written, strict=True)
    )
    return _Read(table, values, tuple(texts))


def _leaves(value: Any, path: tuple[str | int, ...] = ()) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """The texts of a value in the order in which they are written."""
    if isinstance(value, str):
        yield path, value
    elif isinstance(value, dict | list):
        for key, inner in value.items() if isinstance(value, dict) else enumerate(value):
            yield from _leaves(inner, (*path, key))


def _written(text: str) -> Iterator[tuple[int, int]]:
    """Where texts are, those that are keys left out."""
    for match in _TOKEN.finditer(text):
        if not match[0].startswith("#") and not _KEY.match(text, match.end()):
            yield match.span()


def _edges(text: str, start: int, end: int) -> tuple[int, ...]:
    """Where each character of a text between `start` and `end` is written, and where the last one ends."""
    quote = text[start : start + 3] if text[start : start + 3] in ("'''", '"""') and end - start >= 6 else text[start]
    at, last = start + len(quote), end - len(quote)
    if len(quote) == 3 and text[at] == "\n":
        at += 1
    if quote[0] == "'":
        return (*range(at, last), last)
    pieces = _PIECE.finditer(text, at, last)
    return (*(match.start() for match in pieces if not (match[0][0] == "\\" and match[0][1:].isspace())), last)
