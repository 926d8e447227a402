"""Tokens to a tree, by precedence climbing; it notes what is wrong and goes on, so that all errors are found.

The grammar is one table of infix operators (`INFIX`), a method per construct, and a table of the functions
that have a syntax of their own (`SPECIAL`).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

from oak_ledger.errors import Finding
from oak_ledger.formula import nodes, special, windows
from oak_ledger.formula.cursor import COMPARE, INFIX, IS, MAX_DEPTH, NOT, RANGE, SIGN, STOPS, Cursor
from oak_ledger.formula.lexer import Token, quote_identifier, tokenize
from oak_ledger.formula.special import SPECIAL

_CONSTANTS: dict[str, tuple[str, Any]] = {
    "TRUE": ("boolean", True),
    "FALSE": ("boolean", False),
    "NULL": ("null", None),
}
KEPT = 20_000  # formulas that were read and need not be read again


class _TooDeep(Exception):
    """Nesting beyond what is read."""


@dataclass(frozen=True)
class Parsed:
    """What came of a text: the tree (`Wrong` nodes where it could not be read) and what was found wrong."""

    text: str
    tree: nodes.Node
    findings: tuple[Finding, ...]

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The names in it, in casefold, each once."""
        return tuple(dict.fromkeys(name.name.casefold() for name in nodes.names(self.tree)))


@lru_cache(maxsize=KEPT)
def parse(text: str) -> Parsed:
    """Read a formula. Never raises: what is wrong is among the findings, and the tree is always there."""
    tokens, findings = tokenize(text)
    parser = _Parser(text, tokens, findings)
    try:
        tree = parser.whole()
    except _TooDeep:
        tree = nodes.ErrorNode(0, len(text))
    return Parsed(text, tree, tuple(sorted(findings, key=lambda finding: finding.place.start)))


class _Parser(Cursor):
    # -- expressions -------------------------------------------------------------------------------------

    def whole(self) -> nodes.Node:
        if self.token.kind == "end":
            self.problem("empty", "The formula is empty.")
            return nodes.ErrorNode(0, len(self.text))
        tree = self.expression()
        while not self.done:
            if self.is_symbol(")"):
                self.problem("stray-parenthesis", "This parenthesis closes nothing.", "Take it out.")
            else:
                self.unexpected("an operator or the end of the formula")
                self.at = len(self.tokens) - 1
                break
            self.take()
            if self.operator() is not None:
                tree = self.climb(tree, 0)
        return tree

    def operator(self) -> str | None:
        """The infix operator that is here, if there is one; `NOT IN` counts as `IN`."""
        token = self.token
        found = token.value if token.kind == "symbol" else token.word
        if found == "NOT" and self.peek().word in ("IN", "LIKE", "BETWEEN"):
            return self.peek().word
        return found if found in INFIX else None

    def expression(self, floor: int = 0) -> nodes.Node:
        self.depth += 1
        if self.depth > MAX_DEPTH:
            self.problem(
                "too-deep",
                f"This is nested more than {MAX_DEPTH} levels deep.",
                "Give an inner part a name of its own, as a calculated field.",
            )
            raise _TooDeep
        left = self.climb(self.operand(), floor)
        self.depth -= 1
        return left

    def climb(self, left: nodes.Node, floor: int) -> nodes.Node:
        while (op := self.operator()) is not None and INFIX[op] >= floor:
            power = INFIX[op]
            at = self.token
            if power == IS:
                left = self.is_test(left)
            elif power == RANGE:
                left = self.range_test(left, op)
            else:
                self.take()
                right = self.expression(power + 1)
                left = nodes.Binary(left.start, right.end, op, left, right, at.start)
            if power == COMPARE and (chained := self.operator()) and INFIX[chained] == COMPARE:
                message = "Comparisons do not chain."
                self.problem("chained", message, "Put one of them in parentheses, or join two with AND.")
        return left

    def operand(self) -> nodes.Node:
        node = self.plain_operand()
        while self.is_word("PER") and self.peek().value == "(":
            self.take()
            opened = self.take()
            keys = self.listed()
            node = nodes.Per(node.start, self.close(opened), node, tuple(keys))
        return node

    def plain_operand(self) -> nodes.Node:
        token = self.token
        if token.kind == "symbol":
            return self.symbol_operand(token)
        if token.kind == "quoted":
            self.take()
            if self.is_symbol("("):
                message = "A function's name is written without quotes."
                self.problem("quoted-function", message, f"Write {token.value}(…).", at=token)
                return self.call(token)
            return nodes.Name(token.start, token.end, token.value)
        if token.kind == "name":
            return self.word_operand(token)
        if token.kind == "end":
            self.missing_operand("the formula ends")
            return nodes.ErrorNode(token.start, token.end)
        self.take()
        return nodes.Literal(token.start, token.end, token.kind, special.literal(token))

    def symbol_operand(self, token: Token) -> nodes.Node:
        if token.value == "(":
            self.take()
            inner = self.expression()
            if self.is_symbol(","):
                self.problem("stray-comma", "A list may only follow IN, or be an argument of a function.")
                self.skip_to_close()
            return nodes.Parens(token.start, self.close(token), inner)
        if token.value in "+-":
            self.take()
            operand = self.expression(SIGN)
            return nodes.Unary(token.start, operand.end, token.value, operand)
        self.missing_operand(f"{token.value!r} comes")
        if token.value not in ("),"):
            self.take()  # an operator without its left side: go on behind it
            return self.expression(SIGN)
        return nodes.ErrorNode(token.start, token.start)

    def missing_operand(self, instead: str) -> None:
        """Point at the operator whose operand is missing, or at the place itself."""
        previous = self.tokens[self.at - 1] if self.at else None
        if previous and (previous.kind == "symbol" or previous.reserved):
            message = f"{previous.value.upper()} needs a value after it, but {instead}."
            self.problem("value-missing", message, at=previous)
        else:
            self.problem("value-missing", f"A value is missing here: {instead}.")

    def word_operand(self, token: Token) -> nodes.Node:
        word = token.word
        if word in _CONSTANTS:
            self.take()
            kind, value = _CONSTANTS[word]
            return nodes.Literal(token.start, token.end, kind, value)
        if word == "NOT":
            self.take()
            operand = self.expression(NOT + 1 if not self.is_word("NOT") else NOT)
            return nodes.Unary(token.start, operand.end, "NOT", operand)
        if word == "CASE":
            return self.case()
        if token.reserved:
            return self.reserved_word(token)
        if self.peek().kind == "text" and word in ("DATE", "TIMESTAMP", "INTERVAL"):
            return special.typed_literal(self, word)
        self.take()
        if self.is_symbol("("):
            return SPECIAL[word](self, token) if word in SPECIAL else self.call(token)
        return nodes.Name(token.start, token.end, token.value)

    def reserved_word(self, token: Token) -> nodes.Node:
        if token.word in STOPS or token.word in ("IN", "LIKE", "BETWEEN", "IS"):
            self.missing_operand(f"{token.word} comes")
            if token.word in INFIX and token.word not in STOPS:
                self.take()
                return self.operand() if not self.is_symbol("(") else self.symbol_operand(self.token)
            return nodes.ErrorNode(token.start, token.start)
        self.take()
        message = f"{token.value} is a word of the language; as a name it needs double quotes."
        fixed = self.text[: token.start] + quote_identifier(token.value) + self.text[token.end :]
        self.note("reserved-word", message, token.start, token.end, f"Write {quote_identifier(token.value)}.", fixed)
        return nodes.Name(token.start, token.end, token.value)

    # -- tests -------------------------------------------------------------------------------------------

    def is_test(self, left: nodes.Node) -> nodes.Node:
        at = self.take()
        negated = self.accept_word("NOT")
        if self.is_word("DISTINCT"):
            self.take()
            self.expect_word("FROM", after="IS DISTINCT")
            right = self.expression(RANGE)
            op = "IS NOT DISTINCT FROM" if negated else "IS DISTINCT FROM"
            return nodes.Binary(left.start, right.end, op, left, right, at.start)
        if self.is_word("NULL", "TRUE", "FALSE", "UNKNOWN"):
            test = self.take()
            return nodes.Is(left.start, test.end, left, test.word, negated)
        self.problem("word-missing", "IS is followed by NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM.", at=at)
        if self.token.kind not in ("end", "symbol"):
            self.take()
        return nodes.Is(left.start, self.last_end, left, "NULL", negated)

    def range_test(self, left: nodes.Node, op: str) -> nodes.Node:
        negated = self.accept_word("NOT")
        at = self.take()
        if op == "BETWEEN":
            low = self.expression(RANGE + 1)
            if not self.expect_word("AND", after="BETWEEN"):
                return nodes.Between(left.start, low.end, left, low, nodes.ErrorNode(low.end, low.end), negated)
            high = self.expression(RANGE + 1)
            return nodes.Between(left.start, high.end, left, low, high, negated)
        if op == "LIKE":
            pattern = self.expression(RANGE + 1)
            escape = self.expression(RANGE + 1) if self.accept_word("ESCAPE") else None
            return nodes.Like(left.start, self.last_end, left, pattern, escape, negated)
        opened = self.token
        if not self.accept("("):
            self.problem("list-missing", "IN needs a list in parentheses: IN ('a', 'b').", at=at)
            item = self.expression(RANGE + 1)
            return nodes.In(left.start, item.end, left, (item,), negated)
        items = self.listed()
        return nodes.In(left.start, self.close(opened), left, tuple(items), negated)

    # -- constructs --------------------------------------------------------------------------------------

    def case(self) -> nodes.Node:
        opened = self.take()
        operand = None if self.is_word("WHEN") or self.token.kind == "end" else self.expression()
        branches: list[nodes.When] = []
        otherwise: nodes.Node | None = None
        while self.is_word("WHEN"):
            start = self.take().start
            condition = self.expression()
            self.expect_word("THEN", after="WHEN")
            value = self.expression()
            branches.append(nodes.When(start, value.end, condition, value))
        if not branches:
            self.problem("branch-missing", "CASE needs at least one WHEN … THEN ….", at=opened)
        if self.accept_word("ELSE"):
            otherwise = self.expression()
        if not self.accept_word("END"):
            fixed = self.text[: self.last_end] + " END" + self.text[self.last_end :]
            message = "This CASE has no END."
            self.note("open-case", message, opened.start, opened.end, "Write END after its last branch.", fixed)
        return nodes.Case(opened.start, self.last_end, operand, tuple(branches), otherwise)

    def call(self, name: Token) -> nodes.Node:
        opened = self.take()
        star = distinct = False
        args: list[nodes.Node] = []
        if self.is_symbol("*") and self.peek().value == ")":
            self.take()
            star = True
        elif not self.is_symbol(")"):
            distinct = self.accept_word("DISTINCT")
            args = self.listed()
        end = self.close(opened)
        return self.after_call(nodes.Call(name.start, end, name.value.upper(), tuple(args), name.end, star, distinct))

    def after_call(self, call: nodes.Call) -> nodes.Call:
        """What may follow an aggregate: `WITHIN GROUP`, `FILTER`, `OVER`."""
        within: tuple[nodes.SortKey, ...] = ()
        where: nodes.Node | None = None
        over: nodes.Over | None = None
        if self.is_word("WITHIN") and self.peek().word == "GROUP":
            self.take(), self.take()
            if opened := windows.opening(self, "WITHIN GROUP"):
                within = windows.order_by(self, "WITHIN GROUP")
                self.close(opened)
        if self.is_word("FILTER") and self.peek().value == "(":
            self.take()
            if opened := windows.opening(self, "FILTER"):
                self.expect_word("WHERE", after="FILTER (")
                where = self.expression()
                self.close(opened)
        ignoring = self.is_word("IGNORE") and self.peek().word == "NULLS"
        if ignoring or (self.is_word("RESPECT") and self.peek().word == "NULLS"):
            self.take(), self.take()
        if self.is_word("OVER"):
            self.take()
            over = windows.window(self)
        if self.last_end == call.end:
            return call
        return nodes.Call(
            call.start,
            self.last_end,
            call.name,
            call.args,
            call.name_end,
            call.star,
            call.distinct,
            within,
            where,
            over,
            ignoring,
        )
