"""The tree to a checked tree: names bound, types and grain known, constant parts computed, before any data.

Nothing raises: every error of a formula is collected, and a piece that is wrong silences the pieces above it.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass, replace
from decimal import Decimal
from functools import cached_property
from typing import Any

from oak_ledger.columnar.arrays import INTEGER_MAX, INTEGER_MIN, type_of_value
from oak_ledger.errors import NOWHERE, Finding, FormulaError, Place
from oak_ledger.formula import checked as c
from oak_ledger.formula import nodes as n
from oak_ledger.formula.builder import Piece, Scope, a_type
from oak_ledger.formula.calls import CallChecker
from oak_ledger.formula.clock import CLOCKS, clock
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.formula.mending import mended
from oak_ledger.formula.parser import Parsed, parse
from oak_ledger.functions import casts, dates, operators
from oak_ledger.functions.registry import ComputeError
from oak_ledger.functions.templates import BadTemplate, template
from oak_ledger.types import (
    BOOLEAN,
    CAST_NAMES,
    DATE,
    MAX_DIGITS,
    NULL,
    TEMPORAL,
    TEXT,
    TIMESTAMP,
    Grain,
    Type,
    decimal,
)


@dataclass(frozen=True, slots=True)
class Formula:
    """A formula with all that is known of it before data: its tree, its checked tree if it has no error."""

    text: str
    tree: n.Node
    checked: c.TypedNode | None
    findings: tuple[Finding, ...]

    def require(self) -> c.TypedNode:
        """The checked tree; raises FormulaError with every error where there is none."""
        if self.checked is None:
            raise FormulaError.of(self.findings)
        return self.checked


def check(formula: str | Parsed, scope: Scope, *, place: Place = NOWHERE) -> Formula:
    """Check a formula against the names it may use. `place` is where it is."""
    parsed = parse(formula) if isinstance(formula, str) else formula
    checker = _Checker(parsed.text, scope)
    tree = checker.piece(parsed.tree)
    findings = [*parsed.findings, *(finding for finding in checker.findings if not _part_of_words(finding, parsed))]
    if tree is not None and tree.type == NULL:
        tree = checker.convert(tree, TEXT)
    alone = next((node for node in c.walk(tree) if isinstance(node, c.LevelValue)), None) if tree is not None else None
    if alone is not None:
        text, keys = (
            parsed.text[alone.start : alone.end],
            ", ".join(parsed.text[key.start : key.end] for key in alone.keys),
        )
        message = f"{text} is one value for each {keys}; another aggregate says what comes of them."
        findings.append(
            Finding(
                "level-alone",
                message,
                Place(text=parsed.text, start=alone.start, end=alone.end),
                f"Such as AVG({text}).",
            )
        )
    findings.sort(key=lambda finding: finding.place.start)
    if findings:
        findings = mended(parsed.text, findings, checker.repairs, scope, lambda text: _errors(text, scope))
    placed = tuple(finding.at(place) for finding in findings)
    return Formula(parsed.text, parsed.tree, None if findings else tree, placed)


def _errors(text: str, scope: Scope) -> tuple[int, int]:
    """How many errors a formula has: all, and those of its form."""
    parsed = parse(text)
    checker = _Checker(text, scope)
    checker.piece(parsed.tree)
    return len(parsed.findings) + len(checker.findings), len(parsed.findings)


def _part_of_words(finding: Finding, parsed: Parsed) -> bool:
    """Whether an unknown name is the first word of several that were meant as one name: that is said there already."""
    after = {
        len(parsed.text[: finding.place.start].rstrip()) for finding in parsed.findings if finding.code == "unexpected"
    }
    return finding.code == "unknown-field" and finding.place.end in after


class _Checker(CallChecker):
    """Names, operators, constructs."""

    @cached_property
    def moment(self) -> dt.datetime:
        """The moment of the run, the same wherever a formula asks for it."""
        return clock()

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
            self.report("too-large", f"{self.shown(node)} has more digits than a number can hold.", node)
            return None
        return c.Constant(node.start, node.end, kind, Grain.CONSTANT, value)

    def name(self, node: n.Name) -> Piece:
        known = self.scope.find(node.name)
        if known is None and self.text[node.start] != '"' and node.name.upper() in CLOCKS:
            moment = self.moment
            day = node.name.upper() == "CURRENT_DATE"
            kind, value = (DATE, moment.date()) if day else (TIMESTAMP, moment)
            return c.Constant(node.start, node.end, kind, Grain.CONSTANT, value)
        if known is None:
            self.unknown_name(node)
            return None
        if known.type is None:
            self.report(
                "broken-field", f"{quote_identifier(known.name)} is broken itself.", node, "Mend that field first."
            )
            return None
        return c.FieldRef(node.start, node.end, known.type, known.grain, known.name)

    def parens(self, node: n.Parens) -> Piece:
        inner = self.piece(node.inner)
        return None if inner is None else replace(inner, start=node.start, end=node.end)

    def per(self, node: n.Per) -> Piece:
        """An aggregate for each combination of some keys, which another aggregate takes."""
        inner, keys = self.piece(node.inner), [self.piece(key) for key in node.keys]
        if inner is None or any(key is None for key in keys):
            return None
        if inner.grain != Grain.GROUP:
            self.report("level-of-row", f"{self.shown(inner)} is a value of each row; PER takes an aggregate.", inner, "Such as SUM(x) PER (Customer).")  # fmt: skip
            return None
        nodes = tuple(key for key in keys if key is not None)
        grouped = next((node for node in nodes if node.grain != Grain.ROW), None)
        if grouped is not None:
            self.report("level-key", f"{self.shown(grouped)} does not have a value in each row, so a level cannot be made of it.", grouped)  # fmt: skip
            return None
        return c.LevelValue(node.start, node.end, inner.type, Grain.ROW, inner, nodes)

    def interval(self, node: n.Interval) -> Piece:
        self.report("stray-interval", "An interval is only added to a date or taken from one.", node)
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
            self.report(
                "wrong-type",
                f"{node.op} goes before a number, but {self.shown(operand)} is {a_type(operand.type)}.",
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
            self.findings = [finding for finding in self.findings if finding.code != "stray-interval"]
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
            message = f"An interval is added to a date, but {self.shown(moment)} is {a_type(moment.type)}."
            self.report("wrong-type", message, moment, *self.cast_hint(moment, "date"))
            return None
        result, function = found
        if moment.type == NULL:
            moment = self.convert(moment, TIMESTAMP)
        return self.apply(node, function, [moment], result, extra=(sign * interval.amount, interval.unit))

    def wrong_operands(self, node: n.Binary, left: c.TypedNode, right: c.TypedNode) -> None:
        op, kinds = node.op, (left.type.kind, right.type.kind)
        at_op = self.edited(node.at, node.at + len(op), "||")
        if op == "+" and kinds == ("text", "text"):
            self.report(
                "text-added",
                "+ adds numbers; text is joined with ||.",
                node,
                "Write || instead of +.",
                at_op,
                sure=True,
            )
            return
        if op in ("AND", "OR"):
            odd = left if left.type.kind not in ("boolean", "null") else right
            self.condition(odd, op)
            return
        wanted, odd = self.odd_operand(op, left, right)
        first, second = self.shown(left), self.shown(right)
        message = (
            f"{op} cannot take {first}, which is {a_type(left.type)}, and {second}, which is {a_type(right.type)}."
        )
        if op == "||":
            message = f"|| joins text, but {self.shown(odd)} is {a_type(odd.type)}."
        self.report("wrong-type", message, odd, *self.cast_hint(odd, wanted, right if odd is left else left))

    def odd_operand(self, op: str, left: c.TypedNode, right: c.TypedNode) -> tuple[str, c.TypedNode]:
        """The type that would do and the operand that does not have it."""
        if op == "||":
            return "text", left if left.type.kind != "text" else right
        for node, other in ((left, right), (right, left)):
            if node.type.kind == "text" and op in operators.COMPARISON and isinstance(other, c.Constant):
                return "text", other
            if node.type.kind == "text":
                return (
                    "number" if op in operators.ARITHMETIC and other.type.kind not in TEMPORAL else other.type.kind
                ), node
        if op in operators.ARITHMETIC:
            return "number", left if not left.type.numeric else right
        return left.type.kind, right

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
                step = n.Binary(node.start, node.end, "BETWEEN", node.operand, node, bound.start)
                self.wrong_operands(step, x, bound)
                self.dated_bounds(x, low, high)
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
                message = f"LIKE compares text, but {self.shown(piece)} is {a_type(piece.type)}."
                self.report("wrong-type", message, piece, *self.cast_hint(piece, "text"))
                return None
        escape = known[2] if len(known) > 2 else None
        if isinstance(escape, c.Constant) and (escape.value is None or len(escape.value) != 1):
            self.report("bad-escape", "ESCAPE takes one character.", escape)
            return None
        pattern, like = known[1], operators.LIKE
        if isinstance(pattern, c.Constant) and (escape is None or isinstance(escape, c.Constant)):
            like = operators.LIKE_CHECKED
            try:
                operators.like_expression(pattern.value or "", escape.value if escape is not None else None)
            except ComputeError as unfit:
                self.report("bad-pattern", f"{str(unfit).capitalize()}.", pattern)
                return None
        made = self.apply(node, like, [self.convert(piece, TEXT) for piece in known], BOOLEAN)
        return self.negated(node, made, node.negated)

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
        made = c.Case(node.start, node.end, shared, grain, tuple(branches), self.convert(last, shared))
        return self.folded_choice(made)

    def folded_choice(self, case: c.Case) -> c.TypedNode:
        """A choice among constants by constants is itself a constant."""
        if case.grain != Grain.CONSTANT:
            return case
        chosen = next(
            (
                branch.value
                for branch in case.branches
                if isinstance(branch.condition, c.Constant) and branch.condition.value is True
            ),
            case.otherwise,
        )
        parts = [piece for branch in case.branches for piece in (branch.condition, branch.value)]
        if all(isinstance(piece, c.Constant) for piece in (*parts, case.otherwise)) and isinstance(chosen, c.Constant):
            return c.Constant(case.start, case.end, case.type, Grain.CONSTANT, chosen.value)
        return case

    def branch_condition(self, node: n.Case, branch: n.When) -> Piece:
        if node.operand is not None:
            return self.step(
                n.Binary(branch.start, branch.condition.end, "=", node.operand, branch.condition, branch.start),
                self.piece(node.operand),
            )
        word = "WHEN" if self.text[node.start : node.start + 4].upper() == "CASE" else "IF"
        return self.condition(self.piece(branch.condition), word)

    def cast(self, node: n.Cast) -> Piece:
        operand = self.piece(node.operand)
        target = self.cast_target(node)
        if operand is None or target is None:
            return None
        function = casts.cast(operand.type, target.type)
        if function is None:
            message = f"{a_type(operand.type).capitalize()} cannot become {a_type(target.type)}."
            self.report("no-cast", message, node)
            return None
        dated = "date" in (operand.type.kind, target.type.kind) or "timestamp" in (operand.type.kind, target.type.kind)
        if target.template and operand.type == TEXT and not {*template(target.template).names} & {"YYYY", "YY"}:
            message = f"A date has a year, and '{target.template}' has none."
            self.report(
                "bad-template",
                message,
                node.template or node,
                "Put the year before it: CAST('2026-' || x AS DATE FORMAT 'YYYY-MM-DD').",
            )
            return None
        if target.template and not (dated and "text" in (operand.type.kind, target.type.kind)):
            self.report("stray-template", "FORMAT is for casts between text and dates.", node.template or node)
            return None
        return self.apply(node, function, [operand], target.type, extra=target)

    def cast_target(self, node: n.Cast) -> casts.CastTo | None:
        kind = CAST_NAMES[node.target]
        at = n.ErrorNode(node.target_start, node.target_end)
        precision, scale = MAX_DIGITS, 0
        if kind == "decimal":
            if not 1 <= len(node.parameters) <= 2:
                self.report("bad-type", "A decimal says its digits and decimals: DECIMAL(12,2).", at)
                return None
            precision, scale = node.parameters[0], (*node.parameters, 0)[1]
            if not (1 <= precision <= MAX_DIGITS and 0 <= scale <= precision):
                self.report(
                    "bad-type", f"A decimal has 1 to {MAX_DIGITS} digits, and no more decimals than digits.", at
                )
                return None
        elif node.parameters:
            self.report("bad-type", f"{node.target} takes no numbers.", at)
            return None
        written = str(node.template.value) if node.template else ""
        if written:
            try:
                template(written)
            except BadTemplate as error:
                self.report("bad-template", str(error), node.template or node)
                return None
        return casts.CastTo(Type(kind, scale), precision, written)


_METHODS: dict[type[n.Node], Callable[[Any, Any], Piece]] = {
    n.Literal: _Checker.literal,
    n.Name: _Checker.name,
    n.Parens: _Checker.parens,
    n.Per: _Checker.per,
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
