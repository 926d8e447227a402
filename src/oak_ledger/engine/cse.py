"""Pieces of formulas that occur more than once, found by what they say: each is computed once a slice."""

from __future__ import annotations

from collections.abc import Hashable, Iterable

from oak_ledger.engine.evaluate import Expression
from oak_ledger.formula import checked as c


def common_subexpressions(owners: Iterable[Expression]) -> dict[c.TypedNode, int]:
    """A number for each function piece whose equal is elsewhere, the same for equal ones.

    A piece that may fault is shared within its own formula only, since a fault is reported for the field that made it.
    """
    numbers: dict[Hashable, int] = {}
    seen: dict[int, list[c.TypedNode]] = {}
    for owner in owners:
        for piece, number in _numbered(owner, numbers):
            if isinstance(piece, c.Call) and piece.args:
                seen.setdefault(number, []).append(piece)
    return {piece: number for number, pieces in seen.items() if len(pieces) > 1 for piece in pieces}


def _numbered(owner: Expression, numbers: dict[Hashable, int]) -> Iterable[tuple[c.TypedNode, int]]:
    """Every piece of a formula with a number that equal pieces share; the inner ones first, without recursion."""
    of: dict[c.TypedNode, int] = {}
    waiting = [(owner.checked, False)]
    while waiting:
        piece, ready = waiting.pop()
        if not ready:
            waiting.append((piece, True))
            waiting.extend((inner, False) for inner in c.children(piece))
            continue
        inner = tuple(of[child] for child in c.children(piece))
        of[piece] = numbers.setdefault(_saying(piece, inner, owner), len(numbers))
        yield piece, of[piece]


def _saying(piece: c.TypedNode, inner: tuple[int, ...], owner: Expression) -> Hashable:
    if isinstance(piece, c.FieldRef):
        return ("field", piece.name)
    if isinstance(piece, c.ColumnRef):
        return ("column", piece.column)
    if isinstance(piece, c.Constant):
        return ("constant", piece.type, str(piece.value), piece.value is None)
    if isinstance(piece, c.Call):
        fault = owner.name if piece.function.can_fault else ""
        return ("apply", id(piece.function), piece.type, repr(piece.extra), fault, inner)
    return ("one", id(piece))
