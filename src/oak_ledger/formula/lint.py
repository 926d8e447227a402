"""What is most likely not meant in a formula that is right: known from the formula alone, before any data.

A branch that can never be reached, a value between two branches that falls in neither or in both, a condition that always or never holds.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from oak_ledger.columnar.texts import value_text
from oak_ledger.errors import NOWHERE, Finding, Place
from oak_ledger.formula import checked as c
from oak_ledger.formula.ranges import ANY_VALUE, Cut, IntervalSet, PredicateRanges, domain_of, key, predicate_ranges
from oak_ledger.types import INTEGER

NARROW = 1  # a gap between numbers this wide is most likely meant to be none


def lint(tree: c.TypedNode, text: str, place: Place = NOWHERE) -> Iterator[Finding]:
    """What is doubtful in a checked formula, as warnings with their places."""
    for piece in c.walk(tree):
        if isinstance(piece, c.Case):
            yield from _branches(piece, text, place)
        elif isinstance(piece, c.Call) and piece.type.kind == "boolean":
            finding = _never_or_always(piece, text, place)
            if finding is not None:
                yield finding


def _warning(code: str, message: str, piece: c.TypedNode, text: str, place: Place, hint: str = "") -> Finding:
    return Finding(code, message, place.in_text(text, piece.start, piece.end), hint, "warning")


def _shown(piece: c.TypedNode, text: str) -> str:
    return " ".join(text[piece.start : piece.end].split())


# -- conditions -------------------------------------------------------------------------------------------------


def _never_or_always(piece: c.Call, text: str, place: Place) -> Finding | None:
    """A comparison, or comparisons joined, whose answer is known; parts of it that are doubtful by themselves speak for themselves."""
    name, shown = piece.function.name, _shown(piece, text)
    if name in ("=", "<>", "<", "<=", ">", ">="):
        if all(not isinstance(arg, c.Constant) for arg in piece.args) and key(piece.args[0]) == key(piece.args[1]):
            holds = "always" if name in ("=", "<=", ">=") else "never"
            return _warning(
                f"holds-{holds}", f"{shown} compares a value with itself: it {holds} holds.", piece, text, place
            )
        if any(isinstance(arg, c.Constant) and arg.value is None for arg in piece.args):
            other = next((arg for arg in piece.args if not isinstance(arg, c.Constant)), piece.args[0])
            test = "IS NULL" if name == "=" else "IS NOT NULL"
            hint = f"Write {_shown(other, text)} {test}." if name in ("=", "<>") else ""
            return _warning(
                "holds-never", f"{shown} never holds: nothing compares with null.", piece, text, place, hint
            )
    if name == "NOT" and isinstance(piece.args[0], c.Call) and piece.args[0].function.name == "IN":
        items = piece.args[0].args[1:]
        if any(isinstance(item, c.Constant) and item.value is None for item in items):
            hint = "Take the NULL out of the list."
            return _warning("holds-never", f"{shown} never holds: its list has a null.", piece, text, place, hint)
    if name not in ("=", "<>", "<", "<=", ">", ">=", "IN", "AND", "OR"):
        return None
    ranges = predicate_ranges(piece)
    if ranges is None or any(_known(inner) for arg in piece.args if (inner := predicate_ranges(arg)) is not None):
        return None
    said = _known(ranges)
    return _warning(f"holds-{said}", f"{shown} {_SAID[said]}.", piece, text, place) if said else None


_SAID = {"never": "never holds, whatever the value", "always": "holds for every value that is not null"}


def _known(ranges: PredicateRanges) -> str:
    """Whether a condition `never` or `always` holds; empty where it depends."""
    possible = domain_of(ranges.operand)
    if ranges.holds.intersection(possible).empty:
        return "never" if not ranges.fails.empty else ""
    return "always" if possible.intersection(ANY_VALUE).intersection(ranges.holds.complement).empty else ""


# -- branches ---------------------------------------------------------------------------------------------------


def _branches(choice: c.Case, text: str, place: Place) -> Iterator[Finding]:
    truths = [predicate_ranges(branch.condition) for branch in choice.branches]
    first = next((truth for truth in truths if truth is not None), None)
    known = [
        truth if truth is not None and first is not None and key(truth.operand) == key(first.operand) else None
        for truth in truths
    ]
    if first is None:
        return
    left = domain_of(first.operand)  # what no branch has taken yet
    taken: list[tuple[c.Branch, IntervalSet]] = []
    for branch, ranges in zip(choice.branches, known, strict=True):
        if ranges is None:
            continue
        new = ranges.holds.intersection(left)
        if new.empty and _known(ranges) != "never":
            message = f"No value reaches {_label(branch, text)}: earlier branches already cover all its values."
            yield _warning("branch-unreachable", message, branch, text, place, "Put the narrower branch first.")
        for other, held in taken if not new.empty else ():
            shared = _point(ranges.holds.intersection(held))
            if shared is not None:
                message = f"{value_text(shared[0])} is in two branches; the first, {_label(other, text)}, takes it."
                hint = "Let one of them end before that value."
                yield _warning("branch-overlap", message, branch, text, place, hint)
                break
        taken.append((branch, ranges.holds))
        left = left.intersection(ranges.holds.complement)
    if len(taken) == len(choice.branches):
        yield from _gaps(choice, first.operand, left, text, place)


def _label(branch: c.Branch, text: str) -> str:
    shown = _shown(branch.condition, text)
    if shown.upper().startswith("WHEN "):  # the condition of CASE x WHEN value
        shown = shown[5:]
    return f"WHEN {shown}"


def _point(values: IntervalSet) -> tuple[Any] | None:
    """The one value that a set holds, if it does."""
    stretches = list(values.stretches())
    if len(stretches) != 1:
        return None
    low, high = stretches[0]
    return (low[0],) if low is not None and high is not None and _width(low, high) == "point" else None


def _width(low: Cut, high: Cut) -> str:
    """`point`, `narrow` or `wide`."""
    if low[0] == high[0] or (high[1] == 0 == low[1] and _next(low[0]) == high[0]):
        return "point"
    if isinstance(low[0], (int, float, Decimal)) and isinstance(high[0], (int, float, Decimal)):
        return "narrow" if float(high[0]) - float(low[0]) <= NARROW else "wide"
    return "wide"


def _next(value: Any) -> Any:
    """The neighbour of a whole number or a day."""
    if isinstance(value, dt.date) and not isinstance(value, dt.datetime):
        return value + dt.timedelta(1)
    return value + 1 if isinstance(value, int) else None


def _gaps(choice: c.Case, operand: c.TypedNode, left: IntervalSet, text: str, place: Place) -> Iterator[Finding]:
    """Values between two branches that fall in neither."""
    no_else = isinstance(choice.otherwise, c.Constant) and choice.otherwise.value is None
    shown = _shown(operand, text)
    stretches = list(left.stretches())
    if operand.type.kind == "text":
        return
    if len(stretches) == 1 and not no_else:  # what is left over is meant, unless it is one value, and not zero
        low, high = stretches[0]
        if low is None or high is None or _width(low, high) != "point" or not low[0]:
            return
    for low, high in stretches:
        if low is None or high is None:
            continue
        width = _width(low, high)
        if width == "wide" and not no_else:
            continue
        if width == "point":
            message = f"{shown} = {value_text(low[0])} falls in no branch"
        else:
            first, last = value_text(low[0]), value_text(high[0])
            if operand.type == INTEGER:
                message = f"{shown} from {first} to {high[0] - 1} falls in no branch"
            else:
                message = f"{shown} between {first} and {last} falls in no branch"
        message += "; it gives null." if no_else else "; it goes to ELSE."
        yield _warning("branch-gap", message, choice, text, place, "Let the branches meet: <= in one of them.")
