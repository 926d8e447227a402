"""The function library: each function is one entry beside its implementation.

Help, search, checks, reference documentation and tests all read these entries. Importing this package
fills the library.
"""

from __future__ import annotations

from oak_ledger.functions import (
    aggregates,
    conditions,
    constructs,
    dates,
    holistic,
    marks,
    numbers,
    patterns,
    text,
    windows,
)
from oak_ledger.functions.registry import LIBRARY, Function

__all__ = [
    "LIBRARY",
    "Function",
    "aggregates",
    "conditions",
    "constructs",
    "dates",
    "find_functions",
    "holistic",
    "is_named",
    "marks",
    "numbers",
    "patterns",
    "text",
    "windows",
]


def find_functions(word: str = "") -> list[Function]:
    """The entries, functions and constructs (CASE, CAST, operators), whose name or description has the word in it, by topic and name; all without a word.

    Entries whose name matches come first.
    """
    wanted = word.casefold()

    def rank(entry: Function) -> tuple[bool, bool, bool, str, str]:
        name = entry.name.casefold()
        return not is_named(entry, word), wanted not in name, not name.startswith(wanted), entry.topic, entry.name

    found = [
        entry
        for entry in (*LIBRARY.entries.values(), *LIBRARY.constructs.values())
        if any(wanted in text.casefold() for text in (entry.name, entry.sentence, entry.topic, entry.usage))
    ]
    return sorted(found, key=rank)


def is_named(entry: Function, word: str) -> bool:
    """Whether a word is an entry's name, or one of its signs."""
    wanted = word.casefold()
    return bool(wanted) and wanted in (entry.name.casefold(), *entry.name.casefold().split())
