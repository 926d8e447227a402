"""Making checked pieces: types joined and converted, grain found, constant parts computed, and what is wrong noted."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import pyarrow as pa

from oak_ledger.columnar.arrays import Mask, scalar
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import checked as c
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.functions import casts
from oak_ledger.functions.registry import MISSING, CallContext, ComputeError, FaultSink, Function
from oak_ledger.functions.templates import template
from oak_ledger.types import BOOLEAN, NULL, NUMERIC, TEMPORAL, TEXT, Grain, Type, common

Piece = c.TypedNode | None
NEAR = 80  # per cent of two names that agree
SHORT, LONG = 3, 8  # letters of a name that can be mistyped at all, and in two places


@dataclass(frozen=True, slots=True)
class Known:
    """What a name means. `type` is None where it is broken; `what` says the sort of thing in words."""

    name: str
    type: Type | None
    grain: Grain
    what: str = "field"
    template: str = ""
    """How its dates are written where they come from."""
    fixed: tuple[Any, ...] = ()
    """The value of a constant that has one value for all rows."""


class Scope(Protocol):
    """The names that a formula may use."""

    def find(self, name: str) -> Known | None:
        """What a name means; letter case does not count."""

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


def is_near(name: str, other: str) -> bool:
    """Whether a name is most likely another mistyped."""
    from rapidfuzz import fuzz

    return bool(fuzz.ratio(name.casefold(), other.casefold()) >= NEAR)


def mistyped(name: str, names: Iterable[str]) -> str:
    """The one name that another is with one letter wrong (two of eight or more); empty where there are several, or one is the beginning of the other."""
    from rapidfuzz.distance import OSA

    word = name.casefold()
    close = [name for name in names if OSA.distance(word, name.casefold()) <= 1 + (len(word) >= LONG)]
    if len(close) != 1 or len(word) < SHORT:
        return ""
    other = close[0].casefold()
    return (
        ""
        if abs(len(word) - len(other)) > 0
        and (word.startswith(other) or other.startswith(word))
        and len(word) > len(other)
        else close[0]
    )


def nearest_hint(name: str, names: Iterable[str], written: Callable[[str], str] = quote_identifier) -> str:
    """`Did you mean …?`, or nothing where no name is like it."""
    close = [written(one) for one in nearest(name, names)]
    if not close:
        return ""
    return f"Did you mean {close[0]}?" if len(close) == 1 else f"Did you mean {', '.join(close[:-1])} or {close[-1]}?"


class Repair(NamedTuple):
    """A hint, the whole formula mended so, and whether it means what was written."""

    hint: str
    fixed: str | None
    sure: bool = False


class TypedTreeBuilder:
    """Collects what is wrong with one formula, and makes its pieces; a piece that is wrong is None."""

    def __init__(self, text: str, scope: Scope) -> None:
        self.text, self.scope = text, scope
        self.findings: list[Finding] = []
        self.repairs: dict[tuple[str, int, int], Sequence[Repair]] = {}
        """For a finding, by code and place, other ways to mend it, in the order of preference."""

    def report(
        self,
        code: str,
        message: str,
        at: n.Node | c.TypedNode,
        hint: str = "",
        fixed: str | None = None,
        sure: bool = False,
        more: Sequence[Repair] = (),
    ) -> None:
        """Note what is wrong at a piece; `more` are other repairs, for where the first gives no formula that is right."""
        place = Place(text=self.text, start=at.start, end=at.end)
        self.findings.append(Finding(code, message, place, hint, fixed=fixed, sure=sure))
        if more:
            self.repairs[code, at.start, at.end] = more

    def shown(self, piece: n.Node | c.TypedNode) -> str:
        """A piece as written, shortened."""
        text = " ".join(self.text[piece.start : piece.end].split())
        return text if len(text) <= 40 else text[:38] + "…"

    def edited(self, start: int, end: int, new: str) -> str:
        """The whole formula with one stretch replaced."""
        return self.text[:start] + new + self.text[end:]

    def cast_hint(self, piece: c.TypedNode, wanted: str, like: c.TypedNode | None = None) -> Repair:
        """How a piece is made into the wanted type, and the whole formula with that. `like` is what it is compared with."""
        text = self.text[piece.start : piece.end]
        constant, sure = isinstance(piece, c.Constant), True
        if constant and wanted == "text" and piece.type.kind in NUMERIC:
            new, sure = quote_literal(text), like is None  # a code may be written with zeros before it
        elif isinstance(piece, c.Constant) and piece.type == TEXT and wanted in NUMERIC and is_number(piece.value):
            new = str(piece.value).strip()
        elif isinstance(piece, c.Constant) and piece.type == TEXT and wanted in ("date", "timestamp"):
            known = self.scope.find(like.name) if isinstance(like, c.FieldRef) else None
            written = dated_literal(str(piece.value), known.template if known is not None else "")
            if not written:
                return Repair(f"It is written {_EXAMPLES[wanted]}.", None)
            new = written
        elif isinstance(piece, c.Constant) and piece.type == TEXT and wanted == "boolean":
            word = str(piece.value).strip().lower()
            if word not in casts.TRUE_WORDS | casts.FALSE_WORDS:
                return Repair(f"It is written {_EXAMPLES[wanted]}.", None)
            new = "TRUE" if word in casts.TRUE_WORDS else "FALSE"
        elif isinstance(piece, c.Constant) and piece.type == TEXT and wanted in NUMERIC:
            return Repair("A number is written without quotes, with a decimal point.", None)
        elif casts.cast(piece.type, Type(wanted)) is None:  # type: ignore[arg-type]
            return Repair(f"It is written {_EXAMPLES[wanted]}." if wanted in _EXAMPLES else "", None)
        else:
            new, sure = f"CAST({text} AS {wanted.upper()})", wanted == "text"
        if sure:
            return Repair(f"Write {new}.", self.edited(piece.start, piece.end, new), sure=True)
        return Repair(f"Did you mean {new}?", self.edited(piece.start, piece.end, new))

    def dated_bounds(self, x: c.TypedNode, low: c.TypedNode, high: c.TypedNode) -> None:
        """Add to the last finding how both bounds are written, if they are texts that say dates."""
        known = self.scope.find(x.name) if isinstance(x, c.FieldRef) else None
        written = [
            dated_literal(str(node.value), known.template if known else "")
            if isinstance(node, c.Constant) and node.type == TEXT
            else ""
            for node in (low, high)
        ]
        if x.type.kind in TEMPORAL and all(written):
            fixed = (
                self.text[: low.start]
                + written[0]
                + self.text[low.end : high.start]
                + written[1]
                + self.text[high.end :]
            )
            finding = self.findings[-1]
            self.repairs[finding.code, finding.place.start, finding.place.end] = [
                Repair(f"Write {written[0]} AND {written[1]}.", fixed, sure=True)
            ]

    def condition(self, piece: Piece, of: str) -> Piece:
        """The piece if it is a condition; else nothing, and a finding."""
        if piece is None or piece.type == BOOLEAN:
            return piece
        if piece.type == NULL:
            return self.convert(piece, BOOLEAN)
        message = f"{of} needs a condition, but {self.shown(piece)} is {a_type(piece.type)}."
        value = {"text": "'…'", "date": _EXAMPLES["date"], "timestamp": _EXAMPLES["timestamp"]}.get(
            piece.type.kind, "0"
        )
        self.report(
            "condition-wanted",
            message,
            piece,
            f"Compare it: {self.shown(piece)} {'=' if value != '0' else '<>'} {value}.",
        )
        return None

    def shared_type(self, pieces: Sequence[c.TypedNode], of: str) -> Type | None:
        """What all pieces widen to; points at the first that does not fit what most of them are."""
        shared = common([piece.type for piece in pieces])
        if shared is not None:
            return TEXT if shared == NULL else shared
        first = (
            pieces[0]
            if of == "IN"
            else max(pieces, key=lambda node: sum(common([node.type, other.type]) is not None for other in pieces))
        )
        odd = next((piece for piece in pieces if common([first.type, piece.type]) is None), pieces[-1])
        message = f"All values of {of} need one type; {self.shown(odd)} is {a_type(odd.type)}, {'others are' if of != 'IN' else self.shown(first) + ' is'} {first.type.kind}."
        self.report("wrong-type", message, odd, *self.cast_hint(odd, first.type.kind, first))
        return None

    def grain_of(self, node: n.Node, parts: Sequence[c.TypedNode]) -> Grain | None:
        """The grain of what is made of the parts; row and group together are an error."""
        row = next((part for part in parts if part.grain == Grain.ROW), None)
        group = next((part for part in parts if part.grain == Grain.GROUP), None)
        if row is None or group is None:
            return max((part.grain for part in parts), default=Grain.CONSTANT)
        row_text, group_text = self.shown(row), self.shown(group)
        message = f"{row_text} has a value per row, {group_text} one per group; they cannot meet in one operation."
        hint, fixed, more = self._of_one_grain(node, row, group)
        self.report("grain-mixed", message, row, hint, fixed, more=more)
        return None

    def _of_one_grain(self, node: n.Node, row: c.TypedNode, group: c.TypedNode) -> tuple[str, str, list[Repair]]:
        """How a piece of rows and one of groups become one: a condition as the aggregate's filter, else one value for the group."""
        own, aggregate = self.text[row.start : row.end], self.text[group.start : group.end]
        every = f"{aggregate} OVER ()"
        simple = isinstance(group, c.Aggregate) and not (
            group.distinct or group.function.ordered or group.function.accumulator is None
        )
        whole = [Repair(f"For each row: {every}.", self.edited(group.start, group.end, every))] if simple else []
        if row.type == BOOLEAN and isinstance(group, c.Aggregate):
            new = f"{aggregate} FILTER (WHERE {own})"
            filtered = (f"If only those rows are meant: {new}.", self.edited(node.start, node.end, new))
            one = f"BOOL_OR({own})"
            return *filtered, [Repair(f"One value for the group: {one}.", self.edited(row.start, row.end, one)), *whole]
        kind = "number" if row.type.numeric else row.type.kind
        names = {"number": ("SUM", "MAX"), "boolean": ("BOOL_OR", "BOOL_AND"), "text": ("ANY_VALUE", "MAX")}.get(
            kind, ("MAX", "MIN")
        )
        first = f"{names[0]}({own})"
        hint = f"One value for the group: {first} or {names[1]}({own})" + (
            f"; or for each row: {every}." if simple else "."
        )
        return hint, self.edited(row.start, row.end, first), whole

    def convert(self, piece: c.TypedNode, target: Type) -> c.TypedNode:
        """The piece widened to a type; the checker has made sure that this can be done."""
        if piece.type == target:
            return piece
        function = casts.cast(piece.type, target)
        if function is None:
            raise AssertionError((piece.type, target))
        node = self.apply(piece, function, [piece], target, extra=casts.CastTo(target))
        return piece if node is None else node

    def apply(
        self, at: n.Node | c.TypedNode, function: Function, args: Sequence[c.TypedNode], result: Type, extra: Any = None
    ) -> Piece:
        """A function over its arguments; over constants it is computed at once."""
        node = at if isinstance(at, n.Node) else n.ErrorNode(at.start, at.end)
        grain = self.grain_of(node, args)
        if grain is None:
            return None
        call = c.Call(at.start, at.end, result, grain, function, tuple(args), extra)
        if args and all(isinstance(arg, c.Constant) for arg in args):
            return self.folded(call)
        return call

    def folded(self, call: c.Call) -> Piece:
        """A constant part, computed by the function's own implementation over one row; a fault in it is an error."""
        faults: list[str] = []

        def record(what: str, mask: Mask) -> None:
            faults.append(what)

        try:
            value = run_constant(call.function, call.args, call.type, call.extra, 1, record)
        except ComputeError as unfit:
            faults.append(str(unfit))
        if faults:
            self.report("constant-fault", f"{self.shown(call)} cannot be computed: {faults[0]}.", call)
            return None
        return c.Constant(call.start, call.end, call.type, Grain.CONSTANT, value[0].as_py())


def run_constant(
    function: Function, args: Sequence[c.TypedNode], result: Type, extra: Any, length: int, record: FaultSink
) -> Any:
    """Run a function over `length` rows of constants (others are null)."""
    types = [arg.type for arg in args]
    run = CallContext(length, types, result, constants(args), record, extra)
    values = [pa.repeat(scalar(arg.value if isinstance(arg, c.Constant) else None, arg.type), length) for arg in args]
    return function.run(run, *values)


_EXAMPLES = {"boolean": "TRUE or FALSE", "date": "DATE '2026-03-31'", "timestamp": "TIMESTAMP '2026-03-31 07:30:00'"}
_WRITTEN = (
    "YYYY-MM-DD",
    "DD.MM.YYYY",
    "YYYY/MM/DD",
    "DD MON YYYY",
    "MON DD YYYY",
    "MON DD, YYYY",
    "DD-MON-YYYY",
    "DD/MM/YYYY",
    "MM/DD/YYYY",
)
_CLOCKS = ("", " HH24:MI", " HH24:MI:SS")


def dated_literal(text: str, written: str) -> str:
    """A date or moment that a text says, as the language writes it: by the template given, else by one that leaves no doubt; else empty."""
    moments = [
        moment
        for one in ([written] if written else [day + time for day in _WRITTEN for time in _CLOCKS])
        if (moment := _read(one, text)) is not None
    ]
    if written and not moments:
        return dated_literal(text, "")
    if len({*moments}) != 1:
        return ""
    moment = moments[0]
    if moment.time() == dt.time():
        return f"DATE {quote_literal(str(moment.date()))}"
    return f"TIMESTAMP {quote_literal(str(moment))}"


def _read(written: str, text: str) -> dt.datetime | None:
    try:
        return template(written).read(text)
    except ComputeError:
        return None


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


def constants(args: Sequence[c.TypedNode]) -> list[Any]:
    """The value of each argument that is a constant, else MISSING."""
    return [arg.value if isinstance(arg, c.Constant) else MISSING for arg in args]
