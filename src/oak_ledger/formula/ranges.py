"""For which values of one piece a condition holds: sets of values, with null apart.

A condition over one operand and constants (`Volume < 10`, `Mill IN ('a', 'b')`, joined by AND, OR, NOT) is followed exactly, in
three-valued logic; about any other condition nothing is said.
"""

from __future__ import annotations

import datetime as dt
import math
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from oak_ledger.formula import checked as c
from oak_ledger.types import NUMERIC

# What a function can give at all.
_REACH: dict[str, tuple[Any, Any]] = {
    "CHAR_LENGTH": (0, None), "POSITION": (0, None), "REGEXP_COUNT": (0, None), "COUNT": (0, None), "ABS": (0, None), "SIGN": (-1, 1),
}  # fmt: skip
_PARTS: dict[str, tuple[Any, Any]] = {
    "QUARTER": (1, 4), "MONTH": (1, 12), "WEEK": (1, 53), "DAY": (1, 31), "DOW": (0, 6), "ISODOW": (1, 7), "DOY": (1, 366), "HOUR": (0, 23),
    "MINUTE": (0, 59), "SECOND": (0, 60),
}  # fmt: skip

Cut = tuple[Any, int]
"""A place between values: just before a value (0) or just after it (1)."""


@dataclass(frozen=True, slots=True)
class IntervalSet:
    """A set of values: at each cut, in order, it begins or ends. `least`: whether it holds the values before the first cut."""

    cuts: tuple[Cut, ...] = ()
    least: bool = False
    null: bool = False

    @property
    def empty(self) -> bool:
        """Whether nothing is in it, not even null."""
        return not (self.cuts or self.least or self.null)

    @property
    def complement(self) -> IntervalSet:
        """Everything that is not in it."""
        return IntervalSet(self.cuts, not self.least, not self.null)

    def intersection(self, other: IntervalSet) -> IntervalSet:
        """What is in both."""
        made: list[Cut] = []
        one, two = self.least, other.least
        inside = least = one and two
        for cut in sorted({*self.cuts, *other.cuts}):
            one ^= cut in self.cuts
            two ^= cut in other.cuts
            if (one and two) != inside:
                inside = not inside
                made.append(cut)
        return IntervalSet(tuple(made), least, self.null and other.null)

    def union(self, other: IntervalSet) -> IntervalSet:
        """What is in one or the other."""
        return self.complement.intersection(other.complement).complement

    def values(self) -> IntervalSet:
        """The set without null."""
        return IntervalSet(self.cuts, self.least)

    def stretches(self) -> Iterator[tuple[Cut | None, Cut | None]]:
        """Its stretches in order; None where one has no end."""
        ends: list[Cut | None] = [*([None] if self.least else []), *self.cuts]
        if len(ends) % 2:
            ends.append(None)
        yield from zip(ends[::2], ends[1::2], strict=True)


EVERYTHING = IntervalSet(least=True, null=True)
ANY_VALUE = IntervalSet(least=True)
ONLY_NULL = IntervalSet(null=True)


@dataclass(frozen=True, slots=True)
class PredicateRanges:
    """Where a condition over one operand holds, and where it is false; elsewhere it is null."""

    operand: c.TypedNode
    holds: IntervalSet
    fails: IntervalSet


def predicate_ranges(condition: c.TypedNode) -> PredicateRanges | None:
    """For which values of its operand a condition holds; None where it is not about one operand and constants."""
    if not isinstance(condition, c.Call):
        return None
    name, args = condition.function.name, condition.args
    if name == "NOT":
        inner = predicate_ranges(args[0])
        return None if inner is None else PredicateRanges(inner.operand, inner.fails, inner.holds)
    if name in ("AND", "OR"):
        return _joined(name, predicate_ranges(args[0]), predicate_ranges(args[1]))
    if name == "IS NULL" and args[0].type.kind != "boolean":
        return PredicateRanges(strip_widening(args[0]), ONLY_NULL, ANY_VALUE)
    if name in ("IS TRUE", "IS FALSE"):
        inner = predicate_ranges(args[0])
        if inner is None:
            return None
        holds = inner.holds if name == "IS TRUE" else inner.fails
        return PredicateRanges(inner.operand, holds, holds.complement)
    if name in ("LIKE", "STARTS_WITH"):
        return _begun(name, args)
    return _listed(args) if name == "IN" else _compared(name, args)


def _joined(name: str, left: PredicateRanges | None, right: PredicateRanges | None) -> PredicateRanges | None:
    if left is None or right is None or key(left.operand) != key(right.operand):
        return None
    if name == "AND":
        return PredicateRanges(left.operand, left.holds.intersection(right.holds), left.fails.union(right.fails))
    return PredicateRanges(left.operand, left.holds.union(right.holds), left.fails.intersection(right.fails))


def _listed(args: Sequence[c.TypedNode]) -> PredicateRanges | None:
    items = [item.value for item in args[1:] if isinstance(item, c.Constant)]
    if isinstance(args[0], c.Constant) or len(items) < len(args) - 1 or args[0].type.kind == "boolean":
        return None
    operand, found = strip_widening(args[0]), IntervalSet()
    for item in items:
        if item is not None:
            found = found.union(_side("=", item, operand))
    return PredicateRanges(operand, found, IntervalSet() if None in items else found.complement.values())


def _begun(name: str, args: Sequence[c.TypedNode]) -> PredicateRanges | None:
    """Texts that begin so, which lie side by side; or that a pattern without wildcards equals."""
    operand, pattern = args[0], args[1]
    if isinstance(operand, c.Constant) or not isinstance(pattern, c.Constant) or len(args) > 2:
        return None
    if pattern.value is None:
        return PredicateRanges(operand, IntervalSet(), IntervalSet())
    begin = str(pattern.value)
    if name == "LIKE":
        begin, wildcard = begin.removesuffix("%"), begin.endswith("%")
        if "%" in begin or "_" in begin:
            return None
        if not wildcard:
            return _compared("=", args)
    last = begin.rstrip(chr(sys.maxunicode))
    holds = IntervalSet(((begin, 0),)) if begin else ANY_VALUE
    if last:
        after = chr(ord(last[-1]) + 1)
        holds = IntervalSet(((begin, 0), (last[:-1] + (after if after != "\ud800" else "\ue000"), 0)))
    return PredicateRanges(operand, holds, holds.complement.values())


_TURNED = {"=": "=", "<>": "<>", "<": ">", "<=": ">=", ">": "<", ">=": "<="}


def _compared(name: str, args: Sequence[c.TypedNode]) -> PredicateRanges | None:
    if name not in _TURNED:
        return None
    left, right = args
    if isinstance(left, c.Constant):
        left, right, name = right, left, _TURNED[name]
    if isinstance(left, c.Constant) or not isinstance(right, c.Constant) or right.type.kind == "boolean":
        return None
    operand = strip_widening(left)
    if right.value is None:
        return PredicateRanges(operand, IntervalSet(), IntervalSet())
    holds = _side(name, right.value, operand)
    return PredicateRanges(operand, holds, holds.complement.values())


def _side(op: str, value: Any, operand: c.TypedNode) -> IntervalSet:
    """The values in a relation to a constant."""
    before, after = _cut((value, 0), operand), _cut((value, 1), operand)
    if op in ("=", "<>"):
        same = IntervalSet((before, after)) if before != after else IntervalSet()
        return same if op == "=" else same.complement.values()
    return IntervalSet((before if op in ("<", ">=") else after,), least=op in ("<", "<="))


def _cut(cut: Cut, operand: c.TypedNode) -> Cut:
    """The cut as it is among the values that the operand can have: after 9 is before 10 for whole numbers and days."""
    value, after = cut
    if operand.type.kind == "integer" and isinstance(value, (int, float, Decimal)):
        return (int(value) + after if value == int(value) else math.ceil(value)), 0
    if operand.type.kind == "date" and isinstance(value, dt.date):
        day, exact = value, True
        if isinstance(value, dt.datetime):
            day, exact = value.date(), value.time() == dt.time()
        return (day + dt.timedelta(1) if (after or not exact) and day < dt.date.max else day), 0
    return cut


def domain_of(operand: c.TypedNode) -> IntervalSet:
    """What a piece can give at all, null included."""
    low = high = None
    if isinstance(operand, (c.Call, c.Aggregate)):
        low, high = _REACH.get(operand.function.name, (None, None))
        first = operand.args[0] if operand.args else None
        if operand.function.name == "EXTRACT" and isinstance(first, c.Constant):
            low, high = _PARTS.get(str(first.value), (None, None))
    made = EVERYTHING if low is None else IntervalSet((_cut((low, 0), operand),), null=True)
    return made if high is None else made.intersection(IntervalSet((_cut((high, 1), operand),), least=True, null=True))


def strip_widening(piece: c.TypedNode) -> c.TypedNode:
    """A piece without the widening that an operator put around it; that keeps the order of values."""
    while isinstance(piece, c.Call) and piece.function.name == "CAST" and _widens(piece, piece.args[0]):
        piece = piece.args[0]
    return piece


def _widens(piece: c.TypedNode, inner: c.TypedNode) -> bool:
    numbers = inner.type.kind in NUMERIC and piece.type.kind in NUMERIC
    moments = inner.type.kind == "date" and piece.type.kind == "timestamp"
    return (numbers or moments) and (piece.start, piece.end) == (inner.start, inner.end)


def key(piece: c.TypedNode) -> Any:
    """What two pieces share that mean the same."""
    if isinstance(piece, c.FieldRef):
        return ("field", piece.name.casefold())
    if isinstance(piece, c.ColumnRef):
        return ("column", piece.column)
    if isinstance(piece, c.Constant):
        return ("constant", piece.type, piece.value)
    if isinstance(piece, c.Call):
        return (piece.function.name, repr(piece.extra), piece.type, *(key(arg) for arg in piece.args))
    return ("one", id(piece))
