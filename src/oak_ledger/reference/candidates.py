"""What a missing column may be called now: candidates ranked by evidence, the values themselves before the name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from oak_ledger.errors import OakError
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.insight.fingerprint import Fingerprint, fingerprint, shared
from oak_ledger.source.compiled import ResolvedName
from oak_ledger.source.definition import FieldSpec
from oak_ledger.source.source import Source

MAX_COMPARED_ROWS = 200_000


@dataclass(frozen=True, slots=True)
class Candidate:
    """A column that a field may use instead of the one that is gone.

    `values` is about which share of its distinct values the field had when last published (None where nothing is
    known of it), `name` how like the names are; both from 0 to 1. `score` ranks.
    """

    field: str
    gone: str
    column: str
    values: float | None
    name: float

    @property
    def score(self) -> float:
        """Values count four times as much as names; a name alone is weak evidence."""
        return 0.8 * self.values + 0.2 * self.name if self.values is not None else 0.5 * self.name

    def sentence(self) -> str:
        """The evidence in words."""
        alike = f"the names are {self.name:.0%} similar"
        if self.values is None:
            return f"{self.column}: {alike}; no published values to compare"
        return (
            f"{self.column}: {self.values:.0%} of its distinct values were in {self.field} when last published; {alike}"
        )


def candidates(source: Source, before: Mapping[str, Fingerprint], limit: int = 3) -> dict[str, list[Candidate]]:
    """For each field whose column is gone, the columns it may be now, best first."""
    taken = {state.spec.column for state in source.fields if isinstance(state.spec, FieldSpec)}
    free = [name for name in source.compiled.origin_schema if name not in taken]
    found: dict[str, list[Candidate]] = {}
    for state in source.fields:
        if any(finding.code == "missing-column" for finding in state.findings):
            ranked = sorted((_candidate(source, state, column, before) for column in free), key=lambda one: -one.score)
            found[state.name] = [one for one in ranked[:limit] if one.score > 0.2]
    return found


def _candidate(source: Source, state: ResolvedName, column: str, before: Mapping[str, Fingerprint]) -> Candidate:
    from rapidfuzz import fuzz, utils

    gone = state.spec.column if isinstance(state.spec, FieldSpec) else ""
    alike = (
        max(
            fuzz.ratio(gone, column, processor=utils.default_process),
            fuzz.ratio(state.name, column, processor=utils.default_process),
        )
        / 100
    )
    known = before.get(state.name)
    values = None
    if known is not None:
        try:
            tried = source.with_changed(state.name, column=column)
            table = tried.rows([quote_identifier(state.name)], limit=MAX_COMPARED_ROWS).table
            values = shared(fingerprint(table.column(0)), known)
        except OakError:
            values = 0.0
    return Candidate(state.name, gone, column, values, alike)
