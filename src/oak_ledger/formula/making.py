"""Making checked pieces: types joined and converted, grain found, constant parts computed, and what is wrong noted."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import pyarrow as pa

from oak_ledger.columnar.arrays import Mask, scalar
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import checked as c
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import name_text, quote_text
from oak_ledger.functions import casts
from oak_ledger.functions.registry import MISSING, CallContext, ComputeError, FaultSink, Function
from oak_ledger.types import BOOLEAN, NULL, NUMERIC, TEXT, Grain, Type, common

Piece = c.Checked | None


@dataclass(frozen=True, slots=True)
class Known:
    """What a name stands for. `type` is None where it is broken; `what` says the sort of thing in words."""

    name: str
    type: Type | None
    grain: Grain
    what: str = "field"


class Scope(Protocol):
    """The names that a formula may use."""

    def find(self, name: str) -> Known | None:
        """What a name stands for; letter case does not count."""

    def names(self) -> Iterable[str]:
        """All names, for suggestions."""

    def advice(self, name: str) -> str:
        """What is known about a name that is not there, as a hint; may be empty."""

    def baseline_key(self) -> Sequence[str] | None:
        """The key by which rows are found in the earlier state that they are compared with; None where there is no such state."""


def nearest(name: str, names: Iterable[str], limit: int = 3) -> list[str]:
    """The names most like this one, best first."""
    from rapidfuzz import fuzz, process, utils

    found = process.extract(
        name, list(names), scorer=fuzz.WRatio, processor=utils.default_process, limit=limit, score_cutoff=72
    )
    return [match[0] for match in found]


def nearest_hint(name: str, names: Iterable[str], written: Callable[[str], str] = name_text) -> str:
    """`Did you mean …?`, or nothing where no name is like it."""
    close = [written(one) for one in nearest(name, names)]
    if not close:
        return ""
    return f"Did you mean {close[0]}?" if len(close) == 1 else f"Did you mean {', '.join(close[:-1])} or {close[-1]}?"


class Maker:
    """Collects what is wrong with one formula, and makes its pieces; a piece that is wrong is None."""

    def __init__(self, text: str, scope: Scope) -> None:
        self.text, self.scope = text, scope
        self.findings: list[Finding] = []

    def wrong(self, code: str, message: str, at: n.Node | c.Checked, hint: str = "", fixed: str | None = None) -> None:
        """Note what is wrong at a piece."""
        self.findings.append(Finding(code, message, Place("", self.text, at.start, at.end), hint, fixed=fixed))

    def shown(self, piece: n.Node | c.Checked) -> str:
        """A piece as written, shortened."""
        text = " ".join(self.text[piece.start : piece.end].split())
        return text if len(text) <= 40 else text[:38] + "…"

    def edited(self, start: int, end: int, new: str) -> str:
        """The whole formula with one stretch replaced."""
        return self.text[:start] + new + self.text[end:]

    def cast_hint(self, piece: c.Checked, wanted: str) -> tuple[str, str | None]:
        """How a piece is made into the wanted type, and the whole formula with that."""
        text = self.text[piece.start : piece.end]
        if isinstance(piece, c.Constant) and wanted == "text" and piece.type.kind in NUMERIC:
            new = quote_text(text)
        elif isinstance(piece, c.Constant) and piece.type == TEXT and wanted in NUMERIC and is_number(piece.value):
            new = str(piece.value).strip()
        elif casts.cast(piece.type, Type(wanted)) is None:  # type: ignore[arg-type]
            return "", None
        else:
            new = f"CAST({text} AS {wanted.upper()})"
        return f"Write {new}.", self.edited(piece.start, piece.end, new)

    def condition(self, piece: Piece, of: str) -> Piece:
        """The piece if it is a condition; else nothing, and a finding."""
        if piece is None or piece.type == BOOLEAN:
            return piece
        if piece.type == NULL:
            return self.convert(piece, BOOLEAN)
        message = f"{of} needs a condition, but {self.shown(piece)} is {a_type(piece.type)}."
        self.wrong("condition-wanted", message, piece, "Compare it with something.")
        return None

    def shared_type(self, pieces: Sequence[c.Checked], of: str) -> Type | None:
        """What all pieces widen to; points at the first that does not fit."""
        shared = common([piece.type for piece in pieces])
        if shared is not None:
            return TEXT if shared == NULL else shared
        before: list[Type] = []
        for piece in pieces:
            if common([*before, piece.type]) is None:
                wanted = common(before) or TEXT
                message = f"All values of {of} need one type; {self.shown(piece)} is {a_type(piece.type)}, those before are {wanted.kind}."
                self.wrong("wrong-type", message, piece, *self.cast_hint(piece, wanted.kind))
                return None
            before.append(piece.type)
        return None

    def grain_of(self, node: n.Node, parts: Sequence[c.Checked]) -> Grain | None:
        """The grain of what is made of the parts; row and group together are an error."""
        row = next((part for part in parts if part.grain == Grain.ROW), None)
        group = next((part for part in parts if part.grain == Grain.GROUP), None)
        if row is None or group is None:
            return max((part.grain for part in parts), default=Grain.CONSTANT)
        row_text, group_text = self.shown(row), self.shown(group)
        message = f"{row_text} has a value per row, {group_text} one per group; they cannot meet in one operation."
        hint, fixed = "Make both the same: aggregate the row part, or leave the aggregate out.", None
        if row.type.numeric:
            new = f"SUM({self.text[row.start : row.end]})"
            hint, fixed = f"Aggregate the row part: {new}.", self.edited(row.start, row.end, new)
        self.wrong("grain-mixed", message, row, hint, fixed)
        return None

    def convert(self, piece: c.Checked, target: Type) -> c.Checked:
        """The piece widened to a type; the checker has made sure that this can be done."""
        if piece.type == target:
            return piece
        function = casts.cast(piece.type, target)
        if function is None:
            raise AssertionError((piece.type, target))
        made = self.apply(piece, function, [piece], target, extra=casts.CastTo(target))
        return piece if made is None else made

    def apply(
        self, at: n.Node | c.Checked, function: Function, args: Sequence[c.Checked], result: Type, extra: Any = None
    ) -> Piece:
        """A function over its arguments; over constants it is computed at once."""
        node = at if isinstance(at, n.Node) else n.Wrong(at.start, at.end)
        grain = self.grain_of(node, args)
        if grain is None:
            return None
        made = c.Apply(at.start, at.end, result, grain, function, tuple(args), extra)
        if args and all(isinstance(arg, c.Constant) for arg in args):
            return self.folded(made)
        return made

    def folded(self, made: c.Apply) -> Piece:
        """A constant part, computed by the function's own implementation over one row; a fault in it is an error."""
        faults: list[str] = []

        def record(what: str, mask: Mask) -> None:
            faults.append(what)

        try:
            value = run_constant(made.function, made.args, made.type, made.extra, 1, record)
        except ComputeError as unfit:
            faults.append(str(unfit))
        if faults:
            self.wrong("constant-fault", f"{self.shown(made)} cannot be computed: {faults[0]}.", made)
            return None
        return c.Constant(made.start, made.end, made.type, Grain.CONSTANT, value[0].as_py())


def run_constant(
    function: Function, args: Sequence[c.Checked], result: Type, extra: Any, length: int, record: FaultSink
) -> Any:
    """Run a function over `length` rows of constants (others are null)."""
    types = [arg.type for arg in args]
    run = CallContext(length, types, result, constants(args), record, extra)
    values = [pa.repeat(scalar(arg.value if isinstance(arg, c.Constant) else None, arg.type), length) for arg in args]
    return function.run(run, *values)


def is_number(text: str | None) -> bool:
    """Whether a text reads as a number."""
    try:
        float(text or "")
    except ValueError:
        return False
    return True


def a_type(kind: Type) -> str:
    """A type in a sentence."""
    if kind == NULL:
        return "null"
    return {"integer": "an integer", "text": "text"}.get(kind.kind, f"a {kind.kind}")


def constants(args: Sequence[c.Checked]) -> list[Any]:
    """The value of each argument that is a constant, else MISSING."""
    return [arg.value if isinstance(arg, c.Constant) else MISSING for arg in args]
