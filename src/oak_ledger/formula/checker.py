"""The tree to a checked tree: names bound, types and grain known, constant parts computed, before any data.

Nothing raises: every error of a formula is collected, and a piece that is wrong silences the pieces above it.
"""

from __future__ import annotations

import datetime as dt
import os
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any, Protocol

import pyarrow as pa

from oak_ledger.errors import Finding, FormulaError, OakError, Place
from oak_ledger.formula import checked as c
from oak_ledger.formula import nodes as n
from oak_ledger.formula.frames import BadFrame, frame_spec
from oak_ledger.formula.lexer import name_text, quote_text
from oak_ledger.formula.library import LIBRARY, casts, dates, operators
from oak_ledger.formula.library.registry import MISSING, Function, Recorder, Run, Signature, Unfit
from oak_ledger.formula.library.templates import BadTemplate, template
from oak_ledger.formula.parser import Parsed, parse
from oak_ledger.formula.types import (
    BOOLEAN,
    CAST_NAMES,
    DATE,
    INTEGER,
    MAX_DIGITS,
    NULL,
    NUMBER,
    NUMERIC,
    TEXT,
    TIMESTAMP,
    Grain,
    Type,
    common,
    decimal,
)
from oak_ledger.formula.values import INTEGER_MAX, INTEGER_MIN, Mask, scalar, type_of_value


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


@dataclass(frozen=True, slots=True)
class Formula:
    """A formula with all that is known of it before data: its tree, its checked tree if it has no error."""

    text: str
    tree: n.Node
    checked: c.Checked | None
    findings: tuple[Finding, ...]

    def require(self) -> c.Checked:
        """The checked tree; raises FormulaError with every error where there is none."""
        if self.checked is None:
            raise FormulaError.of(self.findings)
        return self.checked


def check(formula: str | Parsed, scope: Scope, *, where: str = "") -> Formula:
    """Check a formula against the names it may use. `where` says in words where it stands."""
    parsed = parse(formula) if isinstance(formula, str) else formula
    checker = _Checker(parsed.text, scope)
    tree = checker.piece(parsed.tree)
    findings = [*parsed.findings, *(one for one in checker.findings if not _part_of_words(one, parsed))]
    if tree is not None and tree.type == NULL:
        tree = checker.convert(tree, TEXT)
    placed = tuple(found.at(where) for found in sorted(findings, key=lambda found: found.place.start))
    return Formula(parsed.text, parsed.tree, None if findings else tree, placed)


def _part_of_words(found: Finding, parsed: Parsed) -> bool:
    """Whether an unknown name is the first word of several that were meant as one name: that is said there already."""
    after = {len(parsed.text[: one.place.start].rstrip()) for one in parsed.findings if one.code == "unexpected"}
    return found.code == "unknown-field" and found.place.end in after


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


Piece = c.Checked | None
CLOCKS = frozenset({"CURRENT_DATE", "CURRENT_TIMESTAMP"})


def clock() -> dt.datetime:
    """The run's clock: the variable OAK_CLOCK where it is set (such as 2026-03-01T07:30), else the time."""
    given = os.environ.get("OAK_CLOCK")
    if not given:
        return dt.datetime.now()
    try:
        return dt.datetime.fromisoformat(given)
    except ValueError:
        raise OakError(
            "bad-clock", f"OAK_CLOCK holds {given!r}, which is no time.", hint="Write 2026-03-01T07:30."
        ) from None


class _Checker:
    def __init__(self, text: str, scope: Scope) -> None:
        self.text, self.scope = text, scope
        self.findings: list[Finding] = []

    # -- saying what is wrong ------------------------------------------------------------------------------

    def wrong(self, code: str, message: str, at: n.Node | c.Checked, hint: str = "", fixed: str | None = None) -> None:
        self.findings.append(Finding(code, message, Place("", self.text, at.start, at.end), hint, fixed=fixed))

    def shown(self, piece: n.Node | c.Checked) -> str:
        """A piece as written, shortened."""
        text = " ".join(self.text[piece.start : piece.end].split())
        return text if len(text) <= 40 else text[:38] + "…"

    def edited(self, start: int, end: int, new: str) -> str:
        """The whole formula with one stretch replaced."""
        return self.text[:start] + new + self.text[end:]

    # -- pieces ----------------------------------------------------------------------------------------------

    def piece(self, node: n.Node) -> Piece:
        method = _METHODS.get(type(node))
        return method(self, node) if method else None

    def literal(self, node: n.Literal) -> Piece:
        value = node.value
        kind = Type(node.kind) if node.kind != "decimal" else type_of_value(value)  # type: ignore[arg-type]
        if node.kind == "integer" and not (isinstance(value, int) and INTEGER_MIN <= value <= INTEGER_MAX):
            value, kind = Decimal(value), decimal(0)
        digits = len(value.as_tuple().digits) if isinstance(value, Decimal) else 0
        if max(digits, kind.scale) > MAX_DIGITS or value in (float("inf"), float("-inf")):
            self.wrong("too-large", f"{self.shown(node)} has more digits than a number can hold.", node)
            return None
        return c.Constant(node.start, node.end, kind, Grain.CONSTANT, value)

    def name(self, node: n.Name) -> Piece:
        known = self.scope.find(node.name)
        if known is None and self.text[node.start] != '"' and node.name.upper() in CLOCKS:
            moment = clock()
            day = node.name.upper() == "CURRENT_DATE"
            kind, value = (DATE, moment.date()) if day else (TIMESTAMP, moment)
            return c.Constant(node.start, node.end, kind, Grain.CONSTANT, value)
        if known is None:
            self.unknown_name(node)
            return None
        if known.type is None:
            self.wrong("broken-field", f"{name_text(known.name)} is broken itself.", node, "Mend that field first.")
            return None
        return c.FieldRef(node.start, node.end, known.type, known.grain, known.name)

    def unknown_name(self, node: n.Name) -> None:
        names = list(self.scope.names())
        close = nearest(node.name, names)
        hint = self.scope.advice(node.name) or nearest_hint(node.name, names)
        fixed = self.edited(node.start, node.end, name_text(close[0])) if close else None
        if not close and self.text[node.start] == '"':
            hint = hint or f"If text is meant, it goes in single quotes: {quote_text(node.name)}."
            fixed = self.edited(node.start, node.end, quote_text(node.name))
        self.wrong("unknown-field", f"There is no field {name_text(node.name)}.", node, hint, fixed)

    def parens(self, node: n.Parens) -> Piece:
        inner = self.piece(node.inner)
        return None if inner is None else replace(inner, start=node.start, end=node.end)

    def interval(self, node: n.Interval) -> Piece:
        self.wrong("stray-interval", "An interval is only added to a date or taken from one.", node)
        return None

    def unary(self, node: n.Unary) -> Piece:
        operand = self.piece(node.operand)
        if operand is None:
            return None
        if node.op == "NOT":
            held = self.condition(operand, "NOT")
            return None if held is None else self.apply(node, operators.NOT, [held], BOOLEAN)
        meaning = operators.sign(node.op, operand.type)
        if meaning is None:
            self.wrong(
                "wrong-type",
                f"{node.op} goes before a number, but {self.shown(operand)} is {_a(operand.type)}.",
                operand,
                *self.cast_hint(operand, "number"),
            )
            return None
        return self.apply(node, meaning.function, [self.convert(operand, meaning.left)], meaning.result)

    def binary(self, node: n.Binary) -> Piece:
        """Chains of operators lean to the left; they are followed without recursion, however long."""
        spine: list[n.Binary] = []
        left_node: n.Node = node
        while isinstance(left_node, n.Binary):
            spine.append(left_node)
            left_node = left_node.left
        left = self.piece(left_node)
        for step in reversed(spine):
            left = self.step(step, left)
        return left

    def step(self, node: n.Binary, left: Piece) -> Piece:
        if isinstance(node.right, n.Interval) and node.op in "+-":
            return self.shift(node, left, node.right, -1 if node.op == "-" else 1)
        if isinstance(node.left, n.Interval) and node.op == "+":
            self.findings = [found for found in self.findings if found.code != "stray-interval"]
            return self.shift(node, self.piece(node.right), node.left, 1)
        right = self.piece(node.right)
        if left is None or right is None:
            return None
        meaning = operators.binary(node.op, left.type, right.type)
        if meaning is None:
            self.wrong_operands(node, left, right)
            return None
        args = [self.convert(left, meaning.left), self.convert(right, meaning.right)]
        return self.apply(node, meaning.function, args, meaning.result)

    def shift(self, node: n.Binary, moment: Piece, interval: n.Interval, sign: int) -> Piece:
        if moment is None:
            return None
        found = dates.shifted(moment.type, interval.unit)
        if found is None:
            message = f"An interval is added to a date, but {self.shown(moment)} is {_a(moment.type)}."
            self.wrong("wrong-type", message, moment, *self.cast_hint(moment, "date"))
            return None
        result, function = found
        if moment.type == NULL:
            moment = self.convert(moment, TIMESTAMP)
        return self.apply(node, function, [moment], result, extra=(sign * interval.amount, interval.unit))

    def wrong_operands(self, node: n.Binary, left: c.Checked, right: c.Checked) -> None:
        op, kinds = node.op, (left.type.kind, right.type.kind)
        at_op = self.edited(node.at, node.at + len(op), "||")
        if op == "+" and kinds == ("text", "text"):
            self.wrong("text-added", "+ adds numbers; text is joined with ||.", node, "Write || instead of +.", at_op)
            return
        if op in ("AND", "OR"):
            odd = left if left.type.kind not in ("boolean", "null") else right
            self.condition(odd, op)
            return
        wanted, odd = self.odd_operand(op, left, right)
        first, second = self.shown(left), self.shown(right)
        message = f"{op} cannot take {first}, which is {_a(left.type)}, and {second}, which is {_a(right.type)}."
        if op == "||":
            message = f"|| joins text, but {self.shown(odd)} is {_a(odd.type)}."
        self.wrong("wrong-type", message, odd, *self.cast_hint(odd, wanted))

    def odd_operand(self, op: str, left: c.Checked, right: c.Checked) -> tuple[str, c.Checked]:
        """The type that would do and the operand that does not have it."""
        if op == "||":
            return "text", left if left.type.kind != "text" else right
        for one, other in ((left, right), (right, left)):
            if one.type.kind == "text" and op in operators.COMPARISON and isinstance(other, c.Constant):
                return "text", other
            if one.type.kind == "text":
                return ("number" if op in operators.ARITHMETIC else other.type.kind), one
        if op in operators.ARITHMETIC:
            return "number", left if not left.type.numeric else right
        return left.type.kind, right

    def cast_hint(self, piece: c.Checked, wanted: str) -> tuple[str, str | None]:
        """How a piece is made into the wanted type, and the whole formula with that."""
        text = self.text[piece.start : piece.end]
        if isinstance(piece, c.Constant) and wanted == "text" and piece.type.kind in NUMERIC:
            new = quote_text(text)
        elif isinstance(piece, c.Constant) and piece.type == TEXT and wanted in NUMERIC and _is_number(piece.value):
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
        message = f"{of} needs a condition, but {self.shown(piece)} is {_a(piece.type)}."
        self.wrong("condition-wanted", message, piece, "Compare it with something.")
        return None

    def is_test(self, node: n.Is) -> Piece:
        operand = self.piece(node.operand)
        if node.test != "NULL":
            operand = self.condition(operand, f"IS {node.test}")
        if operand is None:
            return None
        function = {"TRUE": operators.IS_TRUE, "FALSE": operators.IS_FALSE}.get(node.test, operators.IS_NULL)
        made = self.apply(node, function, [operand], BOOLEAN)
        return self.negated(node, made, node.negated)

    def negated(self, node: n.Node, piece: Piece, negated: bool) -> Piece:
        return self.apply(node, operators.NOT, [piece], BOOLEAN) if negated and piece is not None else piece

    def between(self, node: n.Between) -> Piece:
        x, low, high = self.piece(node.operand), self.piece(node.low), self.piece(node.high)
        if x is None or low is None or high is None:
            return None
        sides = []
        for op, bound in ((">=", low), ("<=", high)):
            meaning = operators.binary(op, x.type, bound.type)
            if meaning is None:
                self.wrong_operands(
                    n.Binary(node.start, node.end, "BETWEEN", node.operand, node, bound.start), x, bound
                )
                return None
            args = [self.convert(x, meaning.left), self.convert(bound, meaning.right)]
            sides.append(self.apply(node, meaning.function, args, BOOLEAN))
        meaning = operators.binary("AND", BOOLEAN, BOOLEAN)
        if meaning is None or sides[0] is None or sides[1] is None:
            return None
        return self.negated(node, self.apply(node, meaning.function, [sides[0], sides[1]], BOOLEAN), node.negated)

    def in_list(self, node: n.In) -> Piece:
        pieces = [self.piece(item) for item in (node.operand, *node.items)]
        known = [piece for piece in pieces if piece is not None]
        if len(known) < len(pieces):
            return None
        shared = self.shared_type(known, "IN")
        if shared is None:
            return None
        made = self.apply(node, operators.IN_LIST, [self.convert(piece, shared) for piece in known], BOOLEAN)
        return self.negated(node, made, node.negated)

    def like(self, node: n.Like) -> Piece:
        pieces = [self.piece(part) for part in (node.operand, node.pattern, node.escape) if part is not None]
        known = [piece for piece in pieces if piece is not None]
        if len(known) < len(pieces):
            return None
        for piece in known:
            if piece.type.kind not in ("text", "null"):
                message = f"LIKE compares text, but {self.shown(piece)} is {_a(piece.type)}."
                self.wrong("wrong-type", message, piece, *self.cast_hint(piece, "text"))
                return None
        escape = known[2] if len(known) > 2 else None
        if isinstance(escape, c.Constant) and (escape.value is None or len(escape.value) != 1):
            self.wrong("bad-escape", "ESCAPE takes one character.", escape)
            return None
        pattern = known[1]
        if (
            isinstance(pattern, c.Constant)
            and pattern.value is not None
            and (escape is None or isinstance(escape, c.Constant))
        ):
            try:
                operators.like_expression(pattern.value, escape.value if escape is not None else None)
            except Unfit as unfit:
                self.wrong("bad-pattern", f"{str(unfit).capitalize()}.", pattern)
                return None
        made = self.apply(node, operators.LIKE, [self.convert(piece, TEXT) for piece in known], BOOLEAN)
        return self.negated(node, made, node.negated)

    def shared_type(self, pieces: Sequence[c.Checked], of: str) -> Type | None:
        """What all pieces widen to; points at the first that does not fit."""
        shared = common([piece.type for piece in pieces])
        if shared is not None:
            return TEXT if shared == NULL else shared
        before: list[Type] = []
        for piece in pieces:
            if common([*before, piece.type]) is None:
                wanted = common(before) or TEXT
                message = f"All values of {of} need one type; {self.shown(piece)} is {_a(piece.type)}, those before are {wanted.kind}."
                self.wrong("wrong-type", message, piece, *self.cast_hint(piece, wanted.kind))
                return None
            before.append(piece.type)
        return None

    # -- choices ---------------------------------------------------------------------------------------------

    def case(self, node: n.Case) -> Piece:
        conditions = [self.branch_condition(node, branch) for branch in node.branches]
        values = [self.piece(branch.value) for branch in node.branches]
        last: Piece = c.Constant(node.end, node.end, NULL, Grain.CONSTANT, None)
        if node.otherwise is not None:
            last = self.piece(node.otherwise)
        known = [value for value in values if value is not None]
        held = [condition for condition in conditions if condition is not None]
        if last is None or len(known) < len(values) or len(held) < len(conditions):
            return None
        shared = self.shared_type([*known, last], "a CASE")
        grain = self.grain_of(node, [*held, *known, last])
        if shared is None or grain is None:
            return None
        branches = [
            c.Branch(branch.start, branch.end, shared, grain, condition, self.convert(value, shared))
            for branch, condition, value in zip(node.branches, held, known, strict=True)
        ]
        made = c.Choose(node.start, node.end, shared, grain, tuple(branches), self.convert(last, shared))
        return self.folded_choice(made)

    def folded_choice(self, made: c.Choose) -> c.Checked:
        """A choice among constants by constants is itself a constant."""
        if made.grain != Grain.CONSTANT:
            return made
        chosen = next(
            (
                branch.value
                for branch in made.branches
                if isinstance(branch.condition, c.Constant) and branch.condition.value is True
            ),
            made.otherwise,
        )
        parts = [piece for branch in made.branches for piece in (branch.condition, branch.value)]
        if all(isinstance(piece, c.Constant) for piece in (*parts, made.otherwise)) and isinstance(chosen, c.Constant):
            return c.Constant(made.start, made.end, made.type, Grain.CONSTANT, chosen.value)
        return made

    def branch_condition(self, node: n.Case, branch: n.When) -> Piece:
        if node.operand is not None:
            return self.step(
                n.Binary(branch.start, branch.condition.end, "=", node.operand, branch.condition, branch.start),
                self.piece(node.operand),
            )
        word = "WHEN" if self.text[node.start : node.start + 4].upper() == "CASE" else "IF"
        return self.condition(self.piece(branch.condition), word)

    # -- casts and functions -----------------------------------------------------------------------------------

    def cast(self, node: n.Cast) -> Piece:
        operand = self.piece(node.operand)
        target = self.cast_target(node)
        if operand is None or target is None:
            return None
        function = casts.cast(operand.type, target.type)
        if function is None:
            message = f"{_a(operand.type).capitalize()} cannot become {_a(target.type)}."
            self.wrong("no-cast", message, node)
            return None
        dated = "date" in (operand.type.kind, target.type.kind) or "timestamp" in (operand.type.kind, target.type.kind)
        if target.template and not (dated and "text" in (operand.type.kind, target.type.kind)):
            self.wrong("stray-template", "FORMAT is for casts between text and dates.", node.template or node)
            return None
        return self.apply(node, function, [operand], target.type, extra=target)

    def cast_target(self, node: n.Cast) -> casts.CastTo | None:
        kind = CAST_NAMES[node.target]
        at = n.Wrong(node.target_start, node.target_end)
        precision, scale = MAX_DIGITS, 0
        if kind == "decimal":
            if not 1 <= len(node.parameters) <= 2:
                self.wrong("bad-type", "A decimal says its digits and decimals: DECIMAL(12,2).", at)
                return None
            precision, scale = node.parameters[0], (*node.parameters, 0)[1]
            if not (1 <= precision <= MAX_DIGITS and 0 <= scale <= precision):
                self.wrong("bad-type", f"A decimal has 1 to {MAX_DIGITS} digits, and no more decimals than digits.", at)
                return None
        elif node.parameters:
            self.wrong("bad-type", f"{node.target} takes no numbers.", at)
            return None
        written = str(node.template.value) if node.template else ""
        if written:
            try:
                template(written)
            except BadTemplate as error:
                self.wrong("bad-template", str(error), node.template or node)
                return None
        return casts.CastTo(Type(kind, scale), precision, written)

    def call(self, node: n.Call) -> Piece:
        entry = LIBRARY.entries.get(_ALIASES.get(node.name, node.name))
        pieces = [self.piece(arg) for arg in node.args]
        where = self.piece(node.where) if node.where is not None else None
        at_name = n.Wrong(node.start, node.name_end)
        if entry is None:
            close = nearest_hint(node.name, LIBRARY.entries, str)
            names = nearest(node.name, LIBRARY.entries)
            fixed = self.edited(node.start, node.name_end, names[0]) if names else None
            self.wrong("unknown-function", f"There is no function {node.name}.", at_name, close, fixed)
            return None
        if bool(node.within) != entry.ordered:
            wanted = "needs WITHIN GROUP (ORDER BY …)" if entry.ordered else "takes no WITHIN GROUP"
            self.wrong(
                "within-group", f"{entry.name} {wanted}.", at_name, f"It is written {' or '.join(entry.written)}."
            )
            return None
        known = [piece for piece in pieces if piece is not None]
        if len(known) < len(pieces) or (node.where is not None and where is None):
            return None
        if node.over is not None:
            return self.window_call(node, entry, known, where, node.over)
        if entry.window:
            self.wrong("over-missing", f"{entry.name} needs a window: OVER (ORDER BY …).", at_name)
            return None
        if not entry.aggregate:
            if node.distinct or node.star or node.where is not None:
                message = f"{entry.name} takes neither DISTINCT, * nor FILTER; those are for aggregates."
                self.wrong("not-aggregate", message, at_name)
                return None
            return self.function_call(node, entry, known)
        return self.aggregate_call(node, entry, known, where)

    def arguments(
        self, node: n.Call, entry: Function, args: Sequence[c.Checked]
    ) -> tuple[list[c.Checked], Type] | None:
        """The arguments as the function takes them, and the type of its result."""
        fitting = [one for one in entry.signatures if one.fits_count(len(args))]
        usage = " or ".join(entry.written)
        if not fitting:
            message = f"{entry.name} cannot take {len(args)} argument{'s' * (len(args) != 1)}."
            self.wrong("argument-count", message, node, f"It is written {usage}.")
            return None
        chosen = next((one for one in fitting if all(_takes(one, i, arg.type) for i, arg in enumerate(args))), None)
        if chosen is None:
            self.wrong_argument(entry, fitting[0], args)
            return None
        for index in entry.constant_args:
            if index < len(args) and not isinstance(args[index], c.Constant):
                message = f"{entry.name} needs a fixed {chosen.parameter(index).name} here, not one that varies."
                self.wrong("constant-wanted", message, args[index])
                return None
        return self.converted(entry, chosen, args)

    def converted(
        self, entry: Function, chosen: Signature, args: Sequence[c.Checked]
    ) -> tuple[list[c.Checked], Type] | None:
        shared: Type | None = None
        if chosen.result == "common":
            shared = self.shared_type(args, entry.name)
            if shared is None:
                return None
        made = []
        for index, arg in enumerate(args):
            kinds = chosen.parameter(index).kinds
            if shared is not None:
                made.append(self.convert(arg, shared))
            elif arg.type.kind not in kinds or arg.type == NULL:
                made.append(self.convert(arg, _widened(arg.type, kinds)))
            else:
                made.append(arg)
        types = [arg.type for arg in made]
        if entry.result is not None:
            return made, entry.result(types, _constants(made))
        if chosen.result == "same":
            return made, types[0]
        return made, shared or Type(chosen.result)  # type: ignore[arg-type]

    def wrong_argument(self, entry: Function, chosen: Signature, args: Sequence[c.Checked]) -> None:
        for index, arg in enumerate(args):
            if not _takes(chosen, index, arg.type):
                parameter = chosen.parameter(index)
                wanted = parameter.kind_text.replace("|", " or ")
                kind = _widened(arg.type, parameter.kinds).kind
                message = f"{entry.name} takes {wanted} for {parameter.name}, but {self.shown(arg)} is {_a(arg.type)}."
                self.wrong("wrong-type", message, arg, *self.cast_hint(arg, kind))
                return

    def function_call(self, node: n.Call, entry: Function, args: list[c.Checked]) -> Piece:
        found = self.arguments(node, entry, args)
        if found is None:
            return None
        made, result = found
        if entry.constant_args:
            try:  # a fixed argument of no use is told before any data: run over one row of nulls
                _run(entry, made, result, None, 1, _forget)
            except Unfit as unfit:
                self.wrong("bad-argument", f"{str(unfit).capitalize()}.", made[min(entry.constant_args)])
                return None
        return self.apply(node, entry, made, result)

    def aggregate_call(self, node: n.Call, entry: Function, args: list[c.Checked], where: Piece) -> Piece:
        if node.star and entry.name != "COUNT":
            self.wrong("argument-count", f"Only COUNT takes *; {entry.name} needs a value.", node)
            return None
        made: list[c.Checked] = []
        result = INTEGER
        if not node.star:
            found = self.arguments(node, entry, args)
            if found is None:
                return None
            made, result = found
        if where is not None:
            where = self.condition(where, "FILTER")
            if where is None:
                return None
        inner = [*made, *([where] if where is not None else [])]
        grouped = next((piece for piece in inner if piece.grain == Grain.GROUP), None)
        if grouped is not None:
            message = f"{self.shown(grouped)} is one value per group already; {entry.name} needs a value per row."
            self.wrong("aggregate-nested", message, grouped, "Aggregate the row value it is made of.")
            return None
        order = self.order_keys(node.within)
        if order is None:
            return None
        if entry.ordered and entry.name.startswith("PERCENTILE"):
            result = NUMBER if entry.name == "PERCENTILE_CONT" else order[0].key.type
            if not self.percentile_fits(node, entry, made, order):
                return None
        return c.Aggregate(node.start, node.end, result, Grain.GROUP, entry, tuple(made), node.distinct, where, order)

    def percentile_fits(
        self, node: n.Call, entry: Function, args: Sequence[c.Checked], order: Sequence[c.OrderKey]
    ) -> bool:
        """A share from 0 to 1 that is fixed, and one key that can be ordered so."""
        share = args[0]
        if not isinstance(share, c.Constant) or share.value is None or not 0 <= share.value <= 1:
            self.wrong("bad-argument", f"{entry.name} takes a fixed share from 0 to 1.", share)
            return False
        if len(order) != 1 or (entry.name == "PERCENTILE_CONT" and not order[0].key.type.numeric):
            self.wrong("wrong-type", f"{entry.name} orders by one number.", node.within[0] if node.within else node)
            return False
        return True

    def order_keys(self, keys: Sequence[n.SortKey]) -> tuple[c.OrderKey, ...] | None:
        """The keys of an order; nulls come last going up and first going down, unless said otherwise."""
        made: list[c.OrderKey] = []
        for key in keys:
            piece = self.piece(key.key)
            if piece is None:
                return None
            nulls_first = key.descending if key.nulls_first is None else key.nulls_first
            made.append(c.OrderKey(key.start, key.end, piece.type, piece.grain, piece, key.descending, nulls_first))
        return tuple(made)

    def window_call(self, node: n.Call, entry: Function, args: list[c.Checked], where: Piece, over: n.Over) -> Piece:
        at_name = n.Wrong(node.start, node.name_end)
        if not (entry.window or entry.aggregate) or entry.ordered or entry.name == "MEDIAN" or node.distinct:
            what = "DISTINCT" if node.distinct else entry.name
            self.wrong("not-window", f"{what} cannot stand before OVER.", at_name)
            return None
        partition = [self.piece(part) for part in over.partition]
        order = self.order_keys(over.order)
        found = None if node.star else self.arguments(node, entry, args)
        held = None if where is None else self.condition(where, "FILTER")
        if order is None or (found is None and not node.star) or (where is not None and held is None):
            return None
        if not order and entry.name in ("LAG", "LEAD", "ROW_NUMBER", "RANK"):
            hint = f"Write {entry.name}(…) OVER (ORDER BY …)."
            self.wrong("order-missing", f"{entry.name} needs an order: which row comes before which?", at_name, hint)
            return None
        first = found[0][0] if found is not None and found[0] else None
        if entry.name == "NTILE" and isinstance(first, c.Constant) and first.value is not None and first.value < 1:
            self.wrong("bad-argument", "Fewer than one part.", first)
            return None
        parts = [part for part in partition if part is not None]
        if len(parts) < len(partition):
            return None
        made, result = ([], INTEGER) if found is None else found
        if entry.name in ("LAG", "LEAD") and len(made) == 3:
            shared = self.shared_type([made[0], made[2]], entry.name)
            if shared is None:
                return None
            made, result = [self.convert(made[0], shared), made[1], self.convert(made[2], shared)], shared
        try:
            frame = None if over.frame is None else frame_spec(over.frame, order)
        except BadFrame as bad:
            self.wrong("bad-frame", str(bad), bad.at)
            return None
        keys = [*parts, *(key.key for key in order)]
        inner = [*made, *([held] if held is not None else []), *keys]
        grain = Grain.GROUP if any(piece.grain == Grain.GROUP for piece in inner) else Grain.ROW
        if grain == Grain.GROUP:
            plain = [
                piece
                for piece in inner
                if not (piece.grain == Grain.ROW and isinstance(piece, c.FieldRef) and piece in keys)
            ]
            if self.grain_of(node, plain) is None:
                return None
        return c.Window(
            node.start, node.end, result, grain, entry, tuple(made), held, tuple(parts), order, frame or None
        )

    # -- making pieces -----------------------------------------------------------------------------------------

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
            value = _run(made.function, made.args, made.type, made.extra, 1, record)
        except Unfit as unfit:
            faults.append(str(unfit))
        if faults:
            self.wrong("constant-fault", f"{self.shown(made)} cannot be computed: {faults[0]}.", made)
            return None
        return c.Constant(made.start, made.end, made.type, Grain.CONSTANT, value[0].as_py())


def _run(function: Function, args: Sequence[c.Checked], result: Type, extra: Any, length: int, record: Recorder) -> Any:
    """Run a function over `length` rows of constants (others are null)."""
    types = [arg.type for arg in args]
    run = Run(length, types, result, _constants(args), record, extra)
    values = [pa.repeat(scalar(arg.value if isinstance(arg, c.Constant) else None, arg.type), length) for arg in args]
    return function.run(run, *values)


def _forget(what: str, mask: Mask) -> None:
    """Over no rows nothing can be recorded."""


def _constants(args: Sequence[c.Checked]) -> list[Any]:
    return [arg.value if isinstance(arg, c.Constant) else MISSING for arg in args]


def _is_number(text: str | None) -> bool:
    try:
        float(text or "")
    except ValueError:
        return False
    return True


def _a(kind: Type) -> str:
    """A type in a sentence."""
    if kind == NULL:
        return "null"
    return {"integer": "an integer", "text": "text"}.get(kind.kind, f"a {kind.kind}")


def _takes(chosen: Signature, index: int, kind: Type) -> bool:
    kinds = chosen.parameter(index).kinds
    return kind == NULL or kind.kind in kinds or _widens(kind, kinds)


def _widens(kind: Type, kinds: frozenset[str]) -> bool:
    order = ("integer", "decimal", "number")
    if kind.kind in order:
        return any(wider in kinds for wider in order[order.index(kind.kind) :])
    return kind.kind == "date" and "timestamp" in kinds


def _widened(kind: Type, kinds: frozenset[str]) -> Type:
    """The type among `kinds` to convert to."""
    for name in ("integer", "decimal", "number", "text", "boolean", "date", "timestamp"):
        if name in kinds and (
            name != "integer" or kind.kind == "null" or kind.kind not in NUMERIC or kind.kind == "integer"
        ):
            return Type(name)
    return TEXT


# Other spellings of one function.
_ALIASES = {"CEIL": "CEILING", "LENGTH": "CHAR_LENGTH", "CHARACTER_LENGTH": "CHAR_LENGTH"}
_METHODS: dict[type[n.Node], Callable[[Any, Any], Piece]] = {
    n.Literal: _Checker.literal,
    n.Name: _Checker.name,
    n.Parens: _Checker.parens,
    n.Interval: _Checker.interval,
    n.Unary: _Checker.unary,
    n.Binary: _Checker.binary,
    n.Is: _Checker.is_test,
    n.Between: _Checker.between,
    n.In: _Checker.in_list,
    n.Like: _Checker.like,
    n.Case: _Checker.case,
    n.Cast: _Checker.cast,
    n.Call: _Checker.call,
}
