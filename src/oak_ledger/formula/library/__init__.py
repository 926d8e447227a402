"""The function library: each function is one entry beside its implementation.

Help, search, checks, reference documentation and tests all read these entries. Importing this package
fills the library.
"""

from __future__ import annotations

from oak_ledger.formula.library import aggregates, conditions, dates, numbers, patterns, text, windows
from oak_ledger.formula.library.registry import LIBRARY, Function

__all__ = [
    "LIBRARY",
    "Function",
    "aggregates",
    "conditions",
    "dates",
    "find_functions",
    "numbers",
    "patterns",
    "text",
    "windows",
]


def find_functions(word: str = "") -> list[Function]:
    """The entries whose name or description has the word in it, by topic and name; all without a word.

    Entries whose name matches come first.
    """
    wanted = word.casefold()

    def rank(entry: Function) -> tuple[bool, bool, str, str]:
        name = entry.name.casefold()
        return wanted not in name, not name.startswith(wanted), entry.topic, entry.name

    found = [
        entry
        for entry in LIBRARY.entries.values()
        if wanted in entry.name.casefold() or wanted in entry.sentence.casefold() or wanted in entry.topic
    ]
    return sorted(found, key=rank)
