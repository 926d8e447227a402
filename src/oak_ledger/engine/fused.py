"""Arithmetic in one go: a whole tree of operators is computed block by block, in a memory that is fast, and without looking at each step.

Before, the least and largest of what goes in tell whether any step could overflow or divide by zero. If one could, nothing is computed
here and the plain way is taken, which tells of each fault; so the plain meaning is that of the operators, one after the other.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula import checked as c
from oak_ledger.formula.types import NUMERIC, Type
from oak_ledger.formula.values import array_of, decimal_from_unscaled, held, mask_of, unscaled

BLOCK = (
    1 << 16
)  # values of a step: few enough to stay in a fast memory, so many that threads do not wait for each other
_WHOLE, _EXACT, _LARGE = 2**62, 2**53, 1e300
Bounds = tuple[Any, Any]


@dataclass(frozen=True, slots=True)
class Step:
    """One operation on what stands on top of the stack; `bounds` tells those of its result, or None where it might go wrong."""

    function: Any
    takes: int
    kind: Type
    constant: Any = None
    bounds: Callable[..., Bounds | None] = lambda *_: None


@dataclass(slots=True)
class Program:
    """A tree as steps over leaves (an index pushes a leaf), and the fields whose formulas it runs through."""

    kind: Type
    code: list[Step | int] = field(default_factory=list)
    leaves: list[tuple[c.Checked, Any]] = field(default_factory=list)
    through: list[str] = field(default_factory=list)

    @property
    def steps(self) -> int:
        """How many operations there are."""
        return sum(isinstance(one, Step) for one in self.code)


# -- from trees to programs ----------------------------------------------------------------------------------------


def programs(
    fields: Mapping[str, Any], inner: Sequence[str], wanted: Sequence[Any], shared: Mapping[c.Checked, int], least: int
) -> dict[c.Checked, Program]:
    """A program for each tree of at least so many operators, by its root.

    `inner` are fields that are needed for what is `wanted` and nothing else; one that is used only once is run through.
    """
    owners = [*(fields[name] for name in inner), *wanted]
    used: dict[str, int] = {}
    for owner in owners:
        for piece in c.walk(owner.checked):
            if isinstance(piece, c.FieldRef):
                used[piece.name] = used.get(piece.name, 0) + 1
    known = {*inner}
    once = {
        name for name, times in used.items() if times == 1 and name in known and _step(fields[name].checked) is not None
    }
    found: dict[c.Checked, Program] = {}
    through: set[str] = set()
    for owner in reversed(owners):  # those that use come before those that are used, which may be run through
        if owner.name in through and fields.get(owner.name) is owner:
            continue
        for root in _roots(owner.checked):
            made = _program(root, owner, fields, once, shared)
            if made.steps >= least:
                found[root] = made
                through.update(made.through)
    return found


def _roots(tree: c.Checked) -> Iterator[c.Checked]:
    """The outermost operators, also those inside of other things."""
    waiting = [(tree, False)]
    while waiting:
        piece, inside = waiting.pop()
        step = _step(piece) is not None
        if step and not inside:
            yield piece
        waiting.extend((one, step) for one in c.children(piece))


def _program(
    root: c.Checked, owner: Any, fields: Mapping[str, Any], once: set[str], shared: Mapping[c.Checked, int]
) -> Program:
    made = Program(root.type)
    leaves: dict[Any, int] = {}
    waiting: list[tuple[c.Checked, Any, Step | None]] = [(root, owner, None)]
    while waiting:
        piece, of, ready = waiting.pop()
        if ready is not None:
            made.code.append(ready)
            continue
        while isinstance(piece, c.FieldRef) and piece.name in once:
            made.through.append(piece.name)
            of = fields[piece.name]
            piece = of.checked
        step = _step(piece)
        if step is not None and isinstance(piece, c.Apply) and (piece is root or piece not in shared):
            waiting.append((piece, of, step))
            waiting.extend((arg, of, None) for arg in reversed(piece.args))
            continue
        key = piece.name if isinstance(piece, c.FieldRef) else id(piece)
        if key not in leaves:
            leaves[key] = len(made.leaves)
            made.leaves.append((piece, of))
        made.code.append(leaves[key])
    return made


def _step(piece: c.Checked) -> Step | None:
    """The step that an operator or a conversion between numbers is; None for anything else."""
    if not isinstance(piece, c.Apply) or piece.type.kind not in NUMERIC or not piece.args:
        return None
    kinds = [arg.type for arg in piece.args]
    if any(kind.kind not in NUMERIC for kind in kinds):
        return None
    name, kind = piece.function.name, piece.type
    if piece.function.topic != "operator":
        return None
    if name == "CAST":
        return _conversion(kinds[0], kind, piece.extra)
    if len(kinds) == 1:
        return Step(np.negative, 1, kind, None, _limited(kind, lambda a: (-a[1], -a[0]))) if name == "-" else None
    if name == "/" and kind.kind == "number":
        return Step(np.divide, 2, kind, None, _limited(kind, _quotient))
    scale = kinds[0].scale + kinds[1].scale if name == "*" else kinds[0].scale
    if name not in _BOUNDS or kind.scale != scale or (name != "*" and kinds[0] != kinds[1]):
        return None
    function, bounds = _BOUNDS[name]
    return Step(function, 2, kind, None, _limited(kind, bounds))


def _products(a: Bounds, b: Bounds) -> Bounds:
    corners = [x * y for x in a for y in b]
    return min(corners), max(corners)


def _quotient(a: Bounds, b: Bounds) -> Bounds | None:
    if b[0] <= 0 <= b[1]:
        return None
    corners = [x / y for x in a for y in b]
    return min(corners), max(corners)


_BOUNDS: dict[str, tuple[Any, Callable[..., Bounds | None]]] = {
    "+": (np.add, lambda a, b: (a[0] + b[0], a[1] + b[1])),
    "-": (np.subtract, lambda a, b: (a[0] - b[1], a[1] - b[0])),
    "*": (np.multiply, _products),
}


def _limited(kind: Type, bounds: Callable[..., Bounds | None]) -> Callable[..., Bounds | None]:
    """Bounds that are surely within what the type holds."""
    limit = _LARGE if kind.kind == "number" else _WHOLE

    def checked(*args: Bounds) -> Bounds | None:
        try:
            found = bounds(*args)
        except OverflowError:
            return None
        return found if found is not None and -limit < found[0] and found[1] < limit else None

    return checked


def _conversion(source: Type, target: Type, told: Any) -> Step | None:
    """A conversion that keeps the value."""
    if target.kind == "number" and source.kind in ("integer", "decimal") and source.scale <= 22:
        unit = 10.0**source.scale
        exact = lambda a: (a[0] / unit, a[1] / unit) if a[0] > -_EXACT and a[1] < _EXACT else None  # noqa: E731
        return Step(np.divide, 1, target, unit, exact)
    if target.kind == "decimal" and source.kind in ("integer", "decimal") and 0 <= target.scale - source.scale <= 18:
        more, most = 10 ** (target.scale - source.scale), min(10 ** getattr(told, "precision", 38), _WHOLE)
        fits = lambda a: (a[0] * more, a[1] * more) if -most < a[0] * more and a[1] * more < most else None  # noqa: E731
        return Step(np.multiply, 1, target, more, fits)
    return None


# -- running ---------------------------------------------------------------------------------------------------------


def run(program: Program, values: Sequence[Any], rows: int) -> Any | None:
    """The values of a tree from those of its leaves (arrays without codes, or scalars); None where the plain way must be taken."""
    data: list[Any] = []
    bounds: list[Bounds] = []
    nulls: Any = None
    for (leaf, _), value in zip(program.leaves, values, strict=True):
        if isinstance(value, pa.Scalar):
            if not value.is_valid:
                return None
            plain = value.as_py()
            if leaf.type.kind == "decimal":
                plain = int(plain * 10**leaf.type.scale) if abs(plain) < _EXACT else _WHOLE
            if leaf.type.kind != "number" and abs(plain) >= _WHOLE:
                return None
            data.append(plain)
            bounds.append((plain, plain))
            continue
        numbers = unscaled(value) if leaf.type.kind == "decimal" else held(value)
        if numbers is None or numbers.dtype not in (np.float64, np.int64):
            return None
        if value.null_count:
            missing = mask_of(pc.is_null(value))
            nulls = missing if nulls is None else nulls | missing
        data.append(numbers)
        bounds.append(_ends(value, numbers))
    if not _safe(program, bounds):
        return None
    made: Any = np.empty(rows, np.float64 if program.kind.kind == "number" else np.int64)
    with np.errstate(all="ignore"):  # what lies where null is may be anything
        _blocks(program, data, made)
    if program.kind.kind == "decimal":
        return decimal_from_unscaled(made, program.kind.scale, nulls)
    return array_of(made, mask=nulls)


def _ends(value: Any, numbers: Any) -> Bounds:
    if pa.types.is_decimal(value.type):
        return int(numbers.min(initial=0)), int(numbers.max(initial=0))
    ends = pc.min_max(value)
    return ends["min"].as_py() or 0, ends["max"].as_py() or 0


def _safe(program: Program, leaves: Sequence[Bounds]) -> bool:
    """Whether no step can go wrong."""
    stack: list[Bounds] = []
    for one in program.code:
        if isinstance(one, int):
            stack.append(leaves[one])
            continue
        found = one.bounds(*stack[-one.takes :])
        if found is None:
            return False
        stack[-one.takes :] = [found]
    return True


def _blocks(program: Program, data: Sequence[Any], made: Any) -> None:
    """Run the steps block by block: each writes where its first operand stood on the stack."""
    places: list[Any] = list(data)  # the leaves, then the working places, last where the result goes
    working: dict[tuple[int, bool], int] = {}
    code: list[tuple[Any, int, int, int]] = []
    stack: list[int] = []
    last = len(program.code) - 1
    for at, one in enumerate(program.code):
        if isinstance(one, int):
            stack.append(one)
            continue
        slot = (len(stack) - one.takes, one.kind.kind == "number")
        if slot not in working:
            working[slot] = len(places)
            places.append(np.empty(min(BLOCK, len(made)), np.float64 if slot[1] else np.int64))
        operands = stack[-one.takes :]
        if one.constant is not None:
            operands.append(len(places))
            places.append(one.constant)
        target = working[slot]
        if at == last:
            target = len(places)
            places.append(made)
        code.append((one.function, operands[0], operands[-1] if len(operands) > 1 else -1, target))
        stack[-one.takes :] = [target]
    arrays = [place for place, one in enumerate(places) if isinstance(one, np.ndarray)]
    for low in range(0, len(made), BLOCK):
        high = min(low + BLOCK, len(made))
        now = list(places)
        for place in arrays:
            whole = places[place]
            now[place] = (
                whole[low:high] if len(whole) == len(made) and place not in working.values() else whole[: high - low]
            )
        for function, one, two, out in code:
            if two < 0:
                function(now[one], now[out])
            else:
                function(now[one], now[two], now[out])
