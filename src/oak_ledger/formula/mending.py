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
    for finding in findings:
        offers = [Repair(finding.hint, finding.fixed, finding.sure)] if finding.fixed is not None else []
        offers += repairs.get((finding.code, finding.place.start, finding.place.end), ())
        offers += [*_several_words(text, finding, scope), *_from_missing(text, finding)]
        good = next(
            (offer for offer in offers if offer.fixed and _better(errors(offer.fixed), finding, findings)), None
        )
        if good is not None:
            made.append(replace(finding, hint=good.hint, fixed=good.fixed, sure=good.sure))
        elif offers:
            made.append(
                replace(finding, hint="" if finding.fixed is not None else finding.hint, fixed=None, sure=False)
            )
        else:
            made.append(finding)
    return made


def _better(after: tuple[int, int], finding: Finding, findings: Sequence[Finding]) -> bool:
    """Whether a repair leaves fewer errors; one that closes something leaves none of form, else it closed it at the wrong place."""
    return after[0] < len(findings) and (after[1] == 0 or not finding.code.startswith("open-"))


def _several_words(text: str, finding: Finding, scope: Scope) -> Iterator[Repair]:
    """Words side by side, as one name of the scope, else as a text."""
    start = finding.place.start
    if finding.code == "unexpected" and finding.hint.startswith("A name of several words"):
        before = re.search(r"[^\W\d]\w*\s+$", text[:start])
        start = before.start() if before else start
    elif finding.code != "unknown-field" or not re.match(r"\s+[^\W\d]", text[finding.place.end :]):
        return
    words = re.match(r"\w+(?:\s+\w+)*", text[start:])
    parts = [
        *takewhile(lambda one: one.strip().upper() not in RESERVED, re.findall(r"\w+\s*", words[0] if words else ""))
    ][:MOST_WORDS]
    known = {name.casefold(): name for name in scope.names()}
    stretches = ["".join(parts[:count]).rstrip() for count in range(len(parts), 1, -1)]
    for stretch in stretches:
        name = known.get(" ".join(stretch.split()).casefold())
        if name is not None:
            new = quote_identifier(name)
            yield Repair(
                f"A name of several words goes in double quotes: {new}.",
                text[:start] + new + text[start + len(stretch) :],
                sure=True,
            )
    for stretch in stretches if _COMPARED.search(text[:start]) else ():
        new = quote_literal(stretch)
        meant = f"If text is meant, it goes in single quotes: {new}."
        yield Repair(meant, text[:start] + new + text[start + len(stretch) :], sure=True)


def _from_missing(text: str, finding: Finding) -> Iterator[Repair]:
    """A comma where FROM is due."""
    start, end = finding.place.start, finding.place.end
    if finding.code == "from-missing" and text[start:end] == ",":
        yield Repair("Write FROM instead of the comma.", f"{text[:start]} FROM{text[end:]}", sure=True)
