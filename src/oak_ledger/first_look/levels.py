"""Whether a column may be a level, such as a stock or a headcount, which is added up over everything but days: asked, since only the curator knows."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator, Sequence

from oak_ledger.columns.proposal import Proposal
from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.source.source import Source

_LEVELS = re.compile(r"(?i)\b(stock|stocks|balance|level|inventory|headcount|staff|employees|on hand|backlog|outstanding|occupancy|bestand|saldo|effectif|solde|existencias)\b")  # fmt: skip
_NUMBERS = ("integer", "decimal", "number")
MIN_DAYS, MIN_ROWS = 4, 20
STEADY_SHARE = 0.7  # of the rows whose value is within a tenth of the one before
MOST_KEYS = 4


def proposed_levels(source: Source, proposals: Sequence[Proposal]) -> Iterator[Finding]:
    """The measures among proposed fields that may be levels."""
    day, key, measure = (
        [
            proposal.name
            for proposal in proposals
            if proposal.keys.get("role") == role and proposal.evidence.kind in kinds
        ]
        for role, kinds in (("dimension", ("date",)), ("dimension", ("text",)), ("measure", _NUMBERS))
    )
    yield from _levels(source, day, key, measure)


def named_levels(source: Source) -> Iterator[Finding]:
    """The measures that are called as levels are, do as levels do, and are added up all the same, since nobody said how they total."""
    fields = [
        (state.name, state.spec, state.type.kind)
        for state in source.fields
        if isinstance(state.spec, FieldSpec) and state.type is not None and not state.spec.calculated
    ]
    measures = [
        name for name, spec, kind in fields
        if spec.role != "dimension" and spec.total is None and kind in _NUMBERS and _LEVELS.search(f"{name} {_subject(source)}")
    ]  # fmt: skip
    if measures:
        day, key = ([name for name, spec, kind in fields if spec.role != "measure" and kind == one] for one in ("date", "text"))  # fmt: skip
        yield from _levels(source, day, key, measures)


def _subject(source: Source) -> str:
    origin = source.origin
    return " ".join(re.split(r"[\W_]+", f"{source.name} {origin.path} {origin.sheet} {origin.table}"))


def _levels(source: Source, days: Sequence[str], keys: Sequence[str], measures: Sequence[str]) -> Iterator[Finding]:
    """The measures that may be levels: by their names, or because each key keeps near its last value from day to day."""
    if not days or not measures or len(keys) > MOST_KEYS:
        return
    day = days[0]
    try:
        found = _steady(source, day, keys, measures)
    except OakError:
        return  # what cannot be read is said elsewhere
    whole = _subject(source)
    for name, share in found.items():
        named = _LEVELS.search(name) or _LEVELS.search(whole)
        if named is None and share < STEADY_SHARE:
            continue
        of = f" for each {', '.join(keys)}" if keys else ""
        why = f"keeps within a tenth of its last value{of} in {share:.0%} of the rows"
        said = why if named is None or share >= STEADY_SHARE else f"is part of {named[0]!r}"
        hint = (
            f"If it is: oak field set {source.as_argument} {shlex.quote(name)} --total last --over {shlex.quote(day)}"
        )
        message = f"{name} {said}: it may be a level, such as a stock, which is not added up over {day}."
        yield Finding("may-be-level", message, Place(name=name), hint, "note")


def _steady(source: Source, day: str, keys: Sequence[str], measures: Sequence[str]) -> dict[str, float]:
    """For each measure the share of rows near the value before; empty where the keys do not have one row a day each, on most days."""
    own, others = quote_identifier(day), [quote_identifier(key) for key in keys]
    counts = source.tally(show=["COUNT(*)", f"COUNT(DISTINCT {own})"]).table.to_pylist()[0]
    rows, days = counts.values()
    groups = source.tally([own, *others], ["COUNT(*)"], limit=1).groups or 0
    each = (source.tally(others, ["COUNT(*)"], limit=1).groups or 1) if others else 1
    if rows < MIN_ROWS or days < MIN_DAYS or groups < rows or rows < days * each / 2:
        return {}
    partition = f"PARTITION BY {', '.join(others)} " if others else ""
    over = f"OVER ({partition}ORDER BY {own})"
    temporary = source
    for at, name in enumerate(measures):
        field = quote_identifier(name)
        near = f"CASE WHEN ABS({field} - LAG({field}) {over}) * 10 <= ABS(LAG({field}) {over}) THEN 1 WHEN LAG({field}) {over} IS NOT NULL THEN 0 END"
        temporary = temporary.with_field(f"near {at}", near)
    answer = temporary.tally(show=[(name, f'AVG("near {at}")') for at, name in enumerate(measures)])
    return {name: share or 0.0 for name, share in answer.to_dicts()[0].items()}
