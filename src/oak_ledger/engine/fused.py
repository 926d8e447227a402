"""Arithmetic, comparisons and choices in one go: a whole tree of them is a program that one compiled loop runs, block by block.

The plain meaning is that of the operators, one after the other. A program tells no faults: where one would count, nothing comes out of it
and the plain way is taken, for these rows; where there is no compiled loop (see `loops`), there are no programs.
"""

from __future__ import annotations

import datetime as dt
import struct
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Context, Decimal
from enum import IntEnum
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from oak_ledger.formula import checked as c
from oak_ledger.formula.types import MAX_DIGITS, NUMERIC, Type
from oak_ledger.formula.values import Mask, array_of_constants, arrow_type
from oak_ledger.loops import loops
from oak_ledger.loops.memory import bits, place

_REGISTERS = 512  # each takes ten thousand bytes while a program runs
_WHOLE, _EXACT_SCALE, _MOST_SCALE = 2**62, 22, 18
_WIDE = Context(prec=100)
_EPOCH = dt.datetime(1970, 1, 1)


class Lie(IntEnum):
    """How values lie in memory; the numbers are those of the loop."""

    FLOAT = 0
    WHOLE = 1
    DAYS = 2
    TRUTH = 3
    PAIRS = 4
    SMALL = 5


_LIES = {
    "number": Lie.FLOAT, "integer": Lie.WHOLE, "date": Lie.DAYS, "timestamp": Lie.WHOLE, "boolean": Lie.TRUTH, "decimal": Lie.PAIRS,
}  # fmt: skip
_CODES: dict[str, int] = {
    name: code
    for code, name in enumerate((
        "ADD_F", "SUB_F", "MUL_F", "DIV_F", "NEG_F", "ABS_F", "ADD_I", "SUB_I", "MUL_I", "NEG_I", "ABS_I", "WHOLE_TO_FLOAT", "SCALE_UP", "EQ_F", "NE_F",
        "LT_F", "LE_F", "EQ_I", "NE_I", "LT_I", "LE_I", "AND", "OR", "NOT", "IS_NULL", "IS_TRUE", "IS_FALSE", "SELECT", "SELECT_T", "COALESCE", "COALESCE_T",
        "NULLIF_F", "NULLIF_I", "MAX_F", "MIN_F", "MAX_I", "MIN_I", "ROUND_F", "TRUNC_F",
    ))
}  # fmt: skip
"""What the loop can do, in its own order: `_F` with floats, `_I` with whole numbers, `_T` with truths."""
_ARITHMETIC = {"+": "ADD", "-": "SUB", "*": "MUL"}
_COMPARE = {"=": "EQ", "<>": "NE", "<": "LT", "<=": "LE", ">": "LT", ">=": "LE"}  # the last two turned round
_LOGIC = {"AND": "AND", "OR": "OR", "NOT": "NOT", "IS NULL": "IS_NULL", "IS TRUE": "IS_TRUE", "IS FALSE": "IS_FALSE"}
_CHAINS = {"COALESCE": "COALESCE", "GREATEST": "MAX", "LEAST": "MIN"}


@dataclass(frozen=True, slots=True)
class Known:
    """A constant of a program: 64 bits, or true or false, or null."""

    bits: int = 0
    null: bool = False
    truth: bool = False


@dataclass(frozen=True, slots=True)
class Step:
    """What one operator does: its code, how many values it takes from those made before, and constants that it also needs."""

    code: str
    takes: int
    more: tuple[Known, ...] = ()
    turned: bool = False


@dataclass(frozen=True, slots=True)
class Ready:
    """A program as the loop takes it: its steps, its constants, how many registers it needs, and which has the result."""

    steps: npt.NDArray[np.int32]
    constants: npt.NDArray[np.int64]
    registers: int
    result: int


@dataclass(slots=True)
class Program:
    """A tree as steps over leaves, with the fields whose formulas it runs through.

    `code` names what goes in by place: leaves are 0 and up, constants -1 and down.
    """

    kind: Type
    code: list[Step | int] = field(default_factory=list)
    leaves: list[tuple[c.Checked, Any]] = field(default_factory=list)
    constants: dict[Known, int] = field(default_factory=dict)
    through: list[str] = field(default_factory=list)
    texts: list[Any] = field(default_factory=list)
    """The texts that a choice among texts gives: the program gives their places."""
    guarded: bool = False
    """Whether computing a leaf may fault."""
    ready: Ready | None = None

    @property
    def steps(self) -> int:
        """How many operations there are."""
        return sum(isinstance(one, Step) for one in self.code)

    def constant(self, one: Known) -> int:
        """The place of a constant."""
        return -1 - self.constants.setdefault(one, len(self.constants))

    def settle(self) -> None:
        """Give each step its registers: leaves first, then constants, then what the steps write, as on a stack."""
        for one in self.code:
            for more in one.more if isinstance(one, Step) else ():
                self.constant(more)
        first, own = len(self.leaves), len(self.leaves) + len(self.constants)
        registers, stack, steps = own, [], []
        for one in self.code:
            if isinstance(one, int):
                stack.append(one if one >= 0 else first - 1 - one)
                continue
            operands = [*stack[len(stack) - one.takes :], *(first - 1 - self.constant(more) for more in one.more)]
            operands = operands[::-1] if one.turned else operands
            del stack[len(stack) - one.takes :]
            out = own + len(stack)
            registers = max(registers, out + 1)
            steps.append([_CODES[one.code], out, *operands, *[operands[-1]] * (3 - len(operands))])
            stack.append(out)
        constants = np.array([(one.bits, one.null, one.truth) for one in self.constants], np.int64)
        self.ready = Ready(np.array(steps, np.int32), constants, registers, stack[-1])
        self.guarded = any(c.can_fault(leaf) for leaf, _ in self.leaves)


# -- from trees to programs ----------------------------------------------------------------------------------------


def programs(
    fields: Mapping[str, Any], inner: Sequence[str], wanted: Sequence[Any], shared: Mapping[c.Checked, int], least: int
) -> dict[c.Checked, Program]:
    """A program for each tree of at least so many operators, by its root.

    `inner` are fields that are needed for what is `wanted` and nothing else; one that is used only once is run through.
    """
    if loops() is None:
        return {}
    owners = [*(fields[name] for name in inner), *wanted]
    used: dict[str, int] = {}
    for owner in owners:
        for piece in c.walk(owner.checked):
            if isinstance(piece, c.FieldRef):
                used[piece.name] = used.get(piece.name, 0) + 1
    known = {*inner}
    once = {name for name, times in used.items() if times == 1 and name in known and _fits(fields[name].checked)}
    found: dict[c.Checked, Program] = {}
    through: set[str] = set()
    for owner in reversed(owners):  # those that use come before those that are used, which may be run through
        if owner.name in through and fields.get(owner.name) is owner:
            continue
        for root in _roots(owner.checked, shared):
            made = _Writer(fields, once, shared).written(root, owner)
            if made is not None and made.steps >= least:
                found[root] = made
                through.update(made.through)
    return found


def _roots(tree: c.Checked, shared: Mapping[c.Checked, int]) -> Iterator[c.Checked]:
    """The outermost operators and choices, also those inside of other things."""
    waiting = [(tree, False)]
    while waiting:
        piece, inside = waiting.pop()
        fits = _fits(piece) or _picks_text(piece)
        if fits and (not inside or piece in shared):
            yield piece
        waiting.extend((one, _fits(piece)) for one in c.children(piece))


def _fits(piece: c.Checked) -> bool:
    return _step(piece) is not None or (isinstance(piece, c.Choose) and _choice(piece))


def _choice(piece: c.Choose) -> bool:
    """Whether a choice can be made in a program."""
    return _of_one_kind(piece) and not _apart(piece)


def _of_one_kind(piece: c.Choose) -> bool:
    """Whether what is chosen lies as values do that the loop knows."""
    values = [*(branch.value for branch in piece.branches), piece.otherwise]
    return piece.type.kind in _LIES and all(isinstance(one, c.Constant) or one.type == piece.type for one in values)


def _picks_text(piece: c.Checked) -> bool:
    """Whether it is a choice among a few given texts."""
    if not isinstance(piece, c.Choose) or piece.type.kind != "text" or len(piece.branches) > 100 or _apart(piece):
        return False
    values = [*(branch.value for branch in piece.branches), piece.otherwise]
    return all(isinstance(one, c.Constant) and one.value is not None for one in values)


def _apart(piece: c.Choose) -> bool:
    """Whether something under a choice, beside what the loop knows, may fault: then it must be computed for its own rows only."""
    waiting: list[c.Checked] = c.children(piece)
    while waiting:
        one = waiting.pop()
        if isinstance(one, c.Branch) or _step(one) is not None:
            waiting.extend(c.children(one))
        elif c.can_fault(one):
            if not isinstance(one, c.Choose) or not _of_one_kind(one):
                return True
            waiting.extend(c.children(one))
    return False


@dataclass(slots=True)
class _Writer:
    """Writes the program of one tree, without recursion: what goes in before what takes it."""

    fields: Mapping[str, Any]
    once: set[str]
    shared: Mapping[c.Checked, int]
    places: dict[Any, int] = field(default_factory=dict)

    def written(self, root: c.Checked, owner: Any) -> Program | None:
        """The program; None where the loop cannot hold what it needs."""
        made = Program(root.type)
        if root.type.kind == "text" and isinstance(root, c.Choose):
            values = [*(branch.value for branch in root.branches), root.otherwise]
            made.texts = [one.value for one in values if isinstance(one, c.Constant)]
        waiting: list[tuple[c.Checked, Any, bool, Step | None]] = [(root, owner, False, None)]
        while waiting:
            piece, of, within, ready = waiting.pop()
            if ready is not None:
                made.code.append(ready)
                continue
            while not within and isinstance(piece, c.FieldRef) and piece.name in self.once:
                made.through.append(piece.name)
                of = self.fields[piece.name]
                piece = of.checked
            more = self._operator(piece, root, made, of, within)
            if more is None:
                return None
            waiting.extend(reversed(more))
        made.settle()
        return made if made.ready is not None and made.ready.registers <= _REGISTERS else None

    def _operator(self, piece: c.Checked, root: c.Checked, made: Program, of: Any, within: bool) -> Any:
        """What stands for a piece: what it takes, then what it does. A constant or a leaf is noted at once."""
        if isinstance(piece, c.Constant):
            known = _constant(piece.value, piece.type)
            if known is None:
                return None
            made.code.append(made.constant(known))
            return []
        step = _step(piece)
        if step is not None and isinstance(piece, c.Apply) and (piece is root or within or piece not in self.shared):
            chain: list[Any] = [(piece.args[0], of, within, None)]
            times = len(piece.args) - 1 if piece.function.name in _CHAINS else 1
            rest = [(arg, of, within, None) for arg in (piece.args[1:] if step.takes > 1 else ())]
            if times == 1:
                return [*chain, *rest, (piece, of, within, step)]
            for one in rest:
                chain += [one, (piece, of, within, step)]
            return chain
        if isinstance(piece, c.Choose) and (piece is root or _choice(piece)):
            return self._choice(piece, made, of)
        key = piece.name if isinstance(piece, c.FieldRef) else id(piece)
        if key not in self.places:
            self.places[key] = len(made.leaves)
            made.leaves.append((piece, of))
        made.code.append(self.places[key])
        return [] if piece.type.kind in _LIES else None

    def _choice(self, piece: c.Choose, made: Program, of: Any) -> Any:
        chain: list[Any] = []
        select = Step("SELECT_T" if piece.type.kind == "boolean" else "SELECT", 3)
        for at, value in enumerate([*(branch.value for branch in piece.branches), piece.otherwise]):
            if at < len(piece.branches):
                chain.append((piece.branches[at].condition, of, True, None))
            if piece.type.kind == "text":  # its place among the texts
                value = c.Constant(value.start, value.end, Type("integer"), value.grain, at)
            elif isinstance(value, c.Constant):
                value = c.Constant(value.start, value.end, piece.type, value.grain, value.value)
            chain.append((value, of, True, None))
        return chain + [(piece, of, True, select)] * len(piece.branches)


def _constant(value: Any, kind: Type) -> Known | None:
    """A value as the loop holds it; None where it cannot."""
    if value is None:
        return Known(null=True)
    if kind.kind == "boolean":
        return Known(truth=bool(value))
    if kind.kind == "number":
        return Known(struct.unpack("<q", struct.pack("<d", float(value)))[0])
    if kind.kind == "decimal":
        if abs(value) >= 10**_MOST_SCALE or kind.scale > _MOST_SCALE:
            return None
        whole = int(Decimal(value).scaleb(kind.scale, _WIDE))
    elif kind.kind == "integer":
        whole = int(value)
    elif isinstance(value, dt.datetime):
        whole = (value - _EPOCH) // dt.timedelta(microseconds=1)
    elif isinstance(value, dt.date):
        whole = value.toordinal() - _EPOCH.toordinal()
    else:
        return None
    return Known(whole) if -(2**63) <= whole < 2**63 else None


def _step(piece: c.Checked) -> Step | None:
    """The step that an operator or a function of numbers and truths is; None for anything else."""
    if not isinstance(piece, c.Apply) or not piece.args or piece.type.kind not in _LIES:
        return None
    name, kind, kinds = piece.function.name, piece.type, [arg.type for arg in piece.args]
    if any(one.kind not in _LIES for one in kinds):
        return None
    if piece.function.topic == "operator":
        if name == "CAST":
            return _conversion(kinds[0], kind, piece.extra)
        if name in _LOGIC and (name == "IS NULL" or {one.kind for one in kinds} == {"boolean"}):
            return Step(_LOGIC[name], len(kinds))
        same = kinds[0] == kinds[-1] and kinds[0].kind != "boolean"
        if name in _COMPARE and same:
            return Step(f"{_COMPARE[name]}_{_of(kinds[0])}", 2, turned=name in (">", ">="))
        return _arithmetic(name, kind, kinds)
    if name in ("ROUND", "TRUNC"):
        return _rounding(name, piece)
    if any(one != kind for one in kinds):
        return None
    if name == "COALESCE" and len(kinds) > 1:
        return Step("COALESCE_T" if kind.kind == "boolean" else "COALESCE", 2)
    if kind.kind == "boolean":
        return None
    if name in _CHAINS and len(kinds) > 1:
        return Step(f"{_CHAINS[name]}_{_of(kind)}", 2)
    if name == "NULLIF":
        return Step(f"NULLIF_{_of(kind)}", 2)
    return Step(f"ABS_{_of(kind)}", 1) if name == "ABS" and kind.kind in NUMERIC else None


def _rounding(name: str, piece: c.Apply) -> Step | None:
    """Floats to a given number of decimals."""
    digits = piece.args[1] if len(piece.args) > 1 else None
    asked = digits.value if isinstance(digits, c.Constant) else 0
    if piece.type.kind != "number" or (digits is not None and not isinstance(digits, c.Constant)):
        return None
    return Step(f"{name}_F", 1, (Known(asked),)) if type(asked) is int and -12 <= asked <= 12 else None


def _of(kind: Type) -> str:
    return "F" if kind.kind == "number" else "I"


def _arithmetic(name: str, kind: Type, kinds: Sequence[Type]) -> Step | None:
    if kind.kind not in NUMERIC or any(one.kind not in NUMERIC for one in kinds):
        return None
    if len(kinds) == 1:
        return Step(f"NEG_{_of(kind)}", 1) if name == "-" else None
    if name == "/" and kind.kind == "number":
        return Step("DIV_F", 2)
    scale = kinds[0].scale + kinds[1].scale if name == "*" else kinds[0].scale
    if name not in _ARITHMETIC or kind.scale != scale or (name != "*" and kinds[0] != kinds[1]):
        return None
    return Step(f"{_ARITHMETIC[name]}_{_of(kind)}", 2)


def _conversion(source: Type, target: Type, told: Any) -> Step | None:
    """A conversion that keeps the value, or tells that it cannot."""
    if target.kind == "number" and source.kind in ("integer", "decimal") and source.scale <= _EXACT_SCALE:
        unit = _constant(10.0**source.scale, target)
        return Step("WHOLE_TO_FLOAT", 1, (unit,)) if unit is not None else None
    if target.kind != "decimal" or source.kind not in ("integer", "decimal"):
        return None
    if not 0 <= target.scale - source.scale <= _MOST_SCALE:
        return None
    most = min(10 ** getattr(told, "precision", MAX_DIGITS), _WHOLE)
    return Step("SCALE_UP", 1, (Known(10 ** (target.scale - source.scale)), Known(most)))


# -- running ---------------------------------------------------------------------------------------------------------


def run(program: Program, values: Sequence[Any], rows: int, alive: Mask | None) -> Any | None:
    """The values of a tree from those of its leaves (arrays without codes); None where the plain way must be taken.

    What goes wrong counts only where `alive`.
    """
    found, ready = loops(), program.ready
    if found is None or ready is None or not rows:
        return None
    told: list[tuple[int, int, int, int]] = []
    for (leaf, _), value in zip(program.leaves, values, strict=True):
        known, data = value.buffers()[:2]
        if value.type != arrow_type(leaf.type) or data is None:
            return None
        told.append((data.address, known.address if value.null_count else 0, value.offset, _LIES[leaf.type.kind]))
    leaves = np.array(told, np.int64)
    lie = Lie.SMALL if program.texts else _LIES[program.kind.kind]
    made = bits(rows) if lie is Lie.TRUTH else np.empty(2 * rows if lie is Lie.PAIRS else rows, _ROOM[lie])
    valid, nulls = bits(rows), np.zeros(1, np.int64)
    wrong = found.oak_run(
        rows, place(leaves), len(leaves), place(ready.constants), len(ready.constants), place(ready.steps), len(ready.steps),
        ready.registers, ready.result, lie, place(made), place(valid), place(alive.view(np.uint8)) if alive is not None else None, place(nulls),
    )  # fmt: skip
    if wrong:
        return None
    missing = int(nulls[0])
    kind = pa.int8() if program.texts else arrow_type(program.kind)
    array = pa.Array.from_buffers(kind, rows, [pa.py_buffer(valid) if missing else None, pa.py_buffer(made)], missing)
    if program.texts:
        return pa.DictionaryArray.from_arrays(array, array_of_constants(program.texts, program.kind), safe=False)
    return array


_ROOM: dict[Lie, Any] = {
    Lie.FLOAT: np.float64, Lie.WHOLE: np.int64, Lie.DAYS: np.int32, Lie.PAIRS: np.int64, Lie.SMALL: np.int8,
}  # fmt: skip
