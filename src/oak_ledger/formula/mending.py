"""Repairs of a formula: of those that findings offer, only such as make a formula with fewer errors are offered."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import takewhile

from oak_ledger.errors import Finding
from oak_ledger.formula.builder import Repair, Scope
from oak_ledger.formula.foreign import foreign_forms
from oak_ledger.formula.lexer import RESERVED, quote_identifier, quote_literal

_COMPARED = re.compile(r"(?:[=<>(,]|\b(?:LIKE|THEN|ELSE|IN))\s*$", re.IGNORECASE)  # what comes before a value
MOST_WORDS = 5  # of a name that is written without quotes


def mended(
    text: str,
    findings: Sequence[Finding],
    repairs: Mapping[tuple[str, int, int], Sequence[Repair]],
    scope: Scope,
    errors: Callable[[str], tuple[int, int]],
) -> list[Finding]:
    """The findings with the first of their repairs that gives a formula with fewer errors, or none.

    A formula in the form of another notation is reported as that alone, where it can be rewritten. `errors` counts those of a formula: all, and those of its form.
    """
    for form in foreign_forms(text):
        if form.fixed and errors(form.fixed)[0] == 0:
            return [form]
    made = []
    for found in findings:
        offers = [Repair(found.hint, found.fixed, found.sure)] if found.fixed is not None else []
        offers += repairs.get((found.code, found.place.start, found.place.end), ())
        offers += [*_several_words(text, found, scope), *_from_missing(text, found)]
        good = next((one for one in offers if one.fixed and _better(errors(one.fixed), found, findings)), None)
        if good is not None:
            made.append(replace(found, hint=good.hint, fixed=good.fixed, sure=good.sure))
        elif offers:
            made.append(replace(found, hint="" if found.fixed is not None else found.hint, fixed=None, sure=False))
        else:
            made.append(found)
    return made


def _better(after: tuple[int, int], found: Finding, findings: Sequence[Finding]) -> bool:
    """Whether a repair leaves fewer errors; one that closes something leaves none of form, else it closed it at the wrong place."""
    return after[0] < len(findings) and (after[1] == 0 or not found.code.startswith("open-"))


def _several_words(text: str, found: Finding, scope: Scope) -> Iterator[Repair]:
    """Words side by side, as one name of the scope, else as a text."""
    start = found.place.start
    if found.code == "unexpected" and found.hint.startswith("A name of several words"):
        before = re.search(r"[^\W\d]\w*\s+$", text[:start])
        start = before.start() if before else start
    elif found.code != "unknown-field" or not re.match(r"\s+[^\W\d]", text[found.place.end :]):
        return
    words = re.match(r"\w+(?:\s+\w+)*", text[start:])
    parts = [
        *takewhile(lambda one: one.strip().upper() not in RESERVED, re.findall(r"\w+\s*", words[0] if words else ""))
    ][:MOST_WORDS]
    known = {name.casefold(): name for name in scope.names()}
    stretches = ["".join(parts[:count]).rstrip() for count in range(len(parts), 1, -1)]
    for one in stretches:
        name = known.get(" ".join(one.split()).casefold())
        if name is not None:
            new = quote_identifier(name)
            yield Repair(
                f"A name of several words goes in double quotes: {new}.",
                text[:start] + new + text[start + len(one) :],
                sure=True,
            )
    for one in stretches if _COMPARED.search(text[:start]) else ():
        new = quote_literal(one)
        meant = f"If text is meant, it goes in single quotes: {new}."
        yield Repair(meant, text[:start] + new + text[start + len(one) :], sure=True)


def _from_missing(text: str, found: Finding) -> Iterator[Repair]:
    """A comma where FROM is due."""
    start, end = found.place.start, found.place.end
    if found.code == "from-missing" and text[start:end] == ",":
        yield Repair("Write FROM instead of the comma.", f"{text[:start]} FROM{text[end:]}", sure=True)
