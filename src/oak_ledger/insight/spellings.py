"""Values of a text that are likely one, written in several ways: accents, punctuation, the order of words, a letter wrong."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping

MOST_VALUES = 5_000  # different ones that are compared
RARE = 20  # a mistyped value is so many times rarer than what it is like
LONG = 5  # letters of a word in which one may be wrong


def likely_one(values: Mapping[str, int]) -> dict[str, str]:
    """What values are likely meant to be, of values with how many rows have each; letter case and spaces alone are not looked at here."""
    if len(values) > MOST_VALUES:
        return {}
    groups: dict[str, list[str]] = {}
    for value in values:
        groups.setdefault(_key(value), []).append(value)
    usual = {key: max(own, key=lambda one: (values[one], one)) for key, own in groups.items() if key}
    meant = {one: usual[key] for key, own in groups.items() if key for one in own if _plain(one) != _plain(usual[key])}
    rows = {key: sum(values[one] for one in groups[key]) for key in usual}
    for key, other in _mistyped(rows).items():
        meant |= dict.fromkeys(groups[key], usual[other])
    return meant


def _plain(text: str) -> str:
    return " ".join(text.casefold().split())


def _key(text: str) -> str:
    """A value by its letters and digits alone: words sorted, accents and punctuation aside."""
    bare = "".join(one for one in unicodedata.normalize("NFKD", text.casefold()) if not unicodedata.combining(one))
    return " ".join(sorted(re.findall(r"\w+", bare)))


def _mistyped(rows: Mapping[str, int]) -> dict[str, str]:
    """Rare values that differ from a frequent one by one letter in one long word; what differs in digits is something else."""
    from rapidfuzz.distance import DamerauLevenshtein

    by_others: dict[tuple[str, ...], list[str]] = {}
    for key in rows:
        words = key.split()
        for at in range(len(words)):
            by_others.setdefault((*words[:at], "", *words[at + 1 :]), []).append(key)
    found: dict[str, str] = {}
    for others, keys in by_others.items():
        at = others.index("")
        alike = {key: word for key in keys if len(word := key.split()[at]) >= LONG and not re.search(r"\d", word)}
        least = min((rows[key] for key in alike), default=0)
        frequent = [key for key in alike if rows[key] >= RARE * least]
        for key, word in alike.items() if frequent else ():
            for other in frequent:
                likely = rows[key] * RARE <= rows[other] and rows[other] > rows.get(found.get(key, ""), 0)
                if likely and DamerauLevenshtein.distance(word, alike[other], score_cutoff=1) == 1:
                    found[key] = other
    return found
