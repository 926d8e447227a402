"""What depends on what: from a broken name to everything that needs it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from oak_ledger.errors import Finding
from oak_ledger.source.compiled import ResolvedName
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Broken:
    """A field (constant, filter) that is broken by itself, why, and what is broken through it, nearest first."""

    name: str
    finding: Finding
    through: tuple[str, ...]


def dependents(source: Source, name: str) -> list[str]:
    """Every field, constant and filter that needs a field, directly or through others, nearest first."""
    users: dict[str, list[str]] = {}
    for state in source.compiled.states.values():
        for used in state.uses:
            users.setdefault(used.casefold(), []).append(state.name)
    found: dict[str, None] = {}
    waiting = [name]
    while waiting:
        following = [
            user for one in waiting for user in users.get(one.casefold(), ()) if user not in found and user != name
        ]
        found |= dict.fromkeys(following)
        waiting = following
    return list(found)


def broken_names(source: Source) -> list[Broken]:
    """Everything that is broken by itself, in the order of the definition."""
    return [
        Broken(
            state.name,
            next(one for one in state.findings if one.severity == "error"),
            tuple(dependents(source, state.name)),
        )
        for state in source.compiled.states.values()
        if state.broken and state.own_fault
    ]


def working(states: Iterable[ResolvedName]) -> int:
    """How many are not broken."""
    return sum(not state.broken for state in states)
