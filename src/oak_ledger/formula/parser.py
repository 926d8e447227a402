"""Tokens to a tree, by precedence climbing; it notes what is wrong and goes on, so that all errors are found.

The grammar is one table of infix operators (`INFIX`), a method per construct, and a table of the functions
that have a syntax of their own (`SPECIAL`).
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache
from typing import Any

from oak_ledger.errors import Finding, Place
from oak_ledger.formula import nodes
from oak_ledger.formula.lexer import Token, quote_identifier, tokenize
from oak_ledger.types import CAST_NAMES

# Loosest first. NOT comes between AND and IS; the signs bind tightest.
OR, AND, NOT, IS, COMPARE, RANGE, JOIN, ADD, MULTIPLY, SIGN = range(1, 11)
INFIX: dict[str, int] = {
    "OR": OR,
    "AND": AND,
    "IS": IS,
    "=": COMPARE,
    "<>": COMPARE,
    "<": COMPARE,
    "<=": COMPARE,
    ">": COMPARE,
    ">=": COMPARE,
    "BETWEEN": RANGE,
    "IN": RANGE,
    "LIKE": RANGE,
    "||": JOIN,
    "+": ADD,
    "-": ADD,
    "*": MULTIPLY,
    "/": MULTIPLY,
    "%": MULTIPLY,
}
MAX_DEPTH = 64
KEPT = 20_000  # formulas that were read and need not be read again
UNITS = ("SECOND", "MINUTE", "HOUR", "DAY", "WEEK", "MONTH", "QUARTER", "YEAR")
PARTS = (*UNITS, "DOW", "ISODOW", "DOY", "ISOYEAR")
# Words that end an operand without being part of it; used to go on after an error.
_STOPS = frozenset({"WHEN", "THEN", "ELSE", "END", "AND", "OR"})


class _TooDeep(Exception):
    """Nesting beyond what is read."""


@dataclass(frozen=True, slots=True)
class Parsed:
    """What came of a text: the tree (`Wrong` nodes where it could not be read) and what was found wrong."""

    text: str
    tree: nodes.Node
    findings: tuple[Finding, ...]


@lru_cache(maxsize=KEPT)
def parse(text: str) -> Parsed:
    """Read a formula. Never raises: what is wrong is among the findings, and the tree is always there."""
    tokens, findings = tokenize(text)
    parser = _Parser(text, tokens, findings)
    try:
        tree = parser.whole()
    except _TooDeep:
        tree = nodes.ErrorNode(0, len(text))
    return Parsed(text, tree, tuple(sorted(findings, key=lambda found: found.place.start)))


class _Parser:
    def __init__(self, text: str, tokens: list[Token], findings: list[Finding]) -> None:
        self.text, self.tokens, self.findings = text, tokens, findings
        self.at = 0
        self.depth = 0
        self.open: list[Token] = []  # what is open: CASE and parentheses, outermost first

    # -- tokens ------------------------------------------------------------------------------------------

    @property
    def token(self) -> Token:
        return self.tokens[self.at]

    @property
    def done(self) -> bool:
        return self.tokens[self.at].kind == "end"

    @property
    def last_end(self) -> int:
        return self.tokens[self.at - 1].end if self.at else 0

    def take(self) -> Token:
        token = self.tokens[self.at]
        if token.kind != "end":
            self.at += 1
        return token

    def peek(self, ahead: int = 1) -> Token:
        return self.tokens[min(self.at + ahead, len(self.tokens) - 1)]

    def is_symbol(self, symbol: str) -> bool:
        return self.token.kind == "symbol" and self.token.value == symbol

    def is_word(self, *words: str) -> bool:
        return self.token.word in words and self.token.kind == "name"

    def accept(self, symbol: str) -> bool:
        if self.is_symbol(symbol):
            self.take()
            return True
        return False

    def accept_word(self, *words: str) -> bool:
        if self.is_word(*words):
            self.take()
            return True
        return False

    def problem(self, code: str, message: str, hint: str = "", *, at: Token | None = None) -> None:
        token = at or self.token
        self.note(code, message, token.start, token.end, hint)

    def note(self, code: str, message: str, start: int, end: int, hint: str = "", fixed: str | None = None) -> None:
        if any(found.place.start == start for found in self.findings):
            return  # one error a place: the first is the cause
        if self.token.kind == "end" and any(found.code == "open-quote" for found in self.findings):
            return  # the quote took the rest
        place = Place("", self.text, start, end)
        self.findings.append(Finding(code, message, place, hint, fixed=fixed, sure=fixed is not None))

    def expect_word(self, *words: str, after: str) -> bool:
        if self.accept_word(*words):
            return True
        code = "from-missing" if words == ("FROM",) else "word-missing"
        self.problem(code, f"{after} needs {' or '.join(words)} here.")
        return False

    def close(self, opened: Token) -> int:
        """The closing parenthesis of `opened`; says where it opened when it is missing."""
        if self.is_symbol(")"):
            return self.take().end
        if self.token.kind == "end" or self.token.word in _STOPS or self.is_symbol(","):
            message = "This parenthesis is never closed."
            fixed = self.text[: self.last_end] + ")" + self.text[self.last_end :]
            self.note("open-parenthesis", message, opened.start, opened.end, "Add a ).", fixed)
            return self.last_end
        self.unexpected("an operator, a comma or a closing parenthesis")
        self.skip_to_close()
        if self.is_symbol(")"):
            return self.take().end
        return self.last_end

    def skip_to_close(self) -> None:
        """Go on to the parenthesis that closes the present level, or to the end."""
        level = 0
        while not self.done:
            if self.is_symbol("("):
                level += 1
            elif self.is_symbol(")"):
                if level == 0:
                    return
                level -= 1
            self.take()

    def unexpected(self, wanted: str) -> None:
        token = self.token
        if token.kind == "end":
            self.note("unfinished", f"The formula ends where {wanted} should come.", token.start, token.end)
            return
        hint = ""
        previous = self.tokens[self.at - 1] if self.at else None
        beside = previous is not None and self.text[previous.end : token.start].isspace()
        if token.kind == "name" and previous and beside and previous.kind == "name" and not token.reserved:
            both = f"{previous.value} {token.value}"
            hint = f"A name of several words goes in double quotes: {quote_identifier(both)}."
        elif token.kind == "quoted" and previous and previous.kind in ("quoted", "name"):
            hint = "Text is joined with ||."
        self.note(
            "unexpected", f"{token.value!r} is unexpected; {wanted} should come here.", token.start, token.end, hint
        )

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
        made = self.plain_operand()
        while self.is_word("PER") and self.peek().value == "(":
            self.take()
            opened = self.take()
            keys = self.listed()
            made = nodes.Per(made.start, self.close(opened), made, tuple(keys))
        return made

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
        return nodes.Literal(token.start, token.end, token.kind, _literal(token))

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
            return self.typed_literal(word)
        self.take()
        if self.is_symbol("("):
            return SPECIAL.get(word, _Parser.call)(self, token)
        return nodes.Name(token.start, token.end, token.value)

    def reserved_word(self, token: Token) -> nodes.Node:
        if token.word in _STOPS or token.word in ("IN", "LIKE", "BETWEEN", "IS"):
            self.missing_operand(f"{token.word} comes")
            if token.word in INFIX and token.word not in _STOPS:
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

    def listed(self) -> list[nodes.Node]:
        items = [self.expression()]
        while self.accept(","):
            items.append(self.expression())
        return items

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

    def typed_literal(self, word: str) -> nodes.Node:
        start = self.take().start
        token = self.take()
        if word == "INTERVAL":
            unit = self.token
            if not re.fullmatch(r"\s*[+-]?\d{1,9}\s*", token.value):
                self.problem("bad-literal", "An interval is a whole number in quotes: INTERVAL '3' DAY.", at=token)
            elif self.is_word(*UNITS):
                self.take()
                return nodes.Interval(start, unit.end, int(token.value), unit.word)
            else:
                self.problem("bad-literal", f"An interval needs a unit: {', '.join(UNITS)}.", at=unit)
            self.accept_word(*UNITS)
            return nodes.ErrorNode(start, self.last_end)
        kind = word.lower()
        try:
            value: Any = (dt.date if word == "DATE" else dt.datetime).fromisoformat(token.value.strip())
            odd_shape = word == "DATE" and not re.fullmatch(r"\s*\d{4}-\d\d-\d\d\s*", token.value)
            if odd_shape or (isinstance(value, dt.datetime) and value.tzinfo is not None):
                value = None
        except ValueError:
            value = None
        if value is None:
            shape = "DATE '2026-03-31'" if word == "DATE" else "TIMESTAMP '2026-03-31 07:30:00'"
            message = f"'{token.value}' is not a valid {kind}."
            self.problem("bad-literal", message, f"It is written {shape}.", at=token)
            return nodes.ErrorNode(start, token.end)
        return nodes.Literal(start, token.end, kind, value)

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
            if opened := self.opening("WITHIN GROUP"):
                within = self.order_by("WITHIN GROUP")
                self.close(opened)
        if self.is_word("FILTER") and self.peek().value == "(":
            self.take()
            if opened := self.opening("FILTER"):
                self.expect_word("WHERE", after="FILTER (")
                where = self.expression()
                self.close(opened)
        ignoring = self.is_word("IGNORE") and self.peek().word == "NULLS"
        if ignoring or (self.is_word("RESPECT") and self.peek().word == "NULLS"):
            self.take(), self.take()
        if self.is_word("OVER"):
            self.take()
            over = self.window()
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

    def opening(self, after: str) -> Token | None:
        token = self.token
        if self.accept("("):
            return token
        self.problem("word-missing", f"{after} needs a parenthesis here.")
        return None

    def order_by(self, after: str) -> tuple[nodes.SortKey, ...]:
        if not self.expect_word("ORDER", after=after):
            return ()
        self.expect_word("BY", after="ORDER")
        keys = [self.sort_key()]
        while self.accept(","):
            keys.append(self.sort_key())
        return tuple(keys)

    def sort_key(self) -> nodes.SortKey:
        key = self.expression()
        descending = self.is_word("DESC")
        self.accept_word("ASC", "DESC")
        nulls_first: bool | None = None
        if self.accept_word("NULLS"):
            nulls_first = self.is_word("FIRST")
            self.expect_word("FIRST", "LAST", after="NULLS")
        return nodes.SortKey(key.start, self.last_end, key, descending, nulls_first)

    def window(self) -> nodes.Over:
        start = self.token.start
        opened = self.opening("OVER")
        if opened is None:
            return nodes.Over(start, start, (), (), None)
        partition: list[nodes.Node] = []
        order: tuple[nodes.SortKey, ...] = ()
        frame: nodes.Frame | None = None
        if self.is_word("PARTITION") and self.peek().word == "BY":
            self.take(), self.take()
            partition = self.listed()
        elif not self.is_symbol(")") and not (self.is_word("ORDER", "ROWS", "RANGE") and self.peek().kind != "symbol"):
            self.window_part("PARTITION BY")
        if self.is_word("ORDER"):
            if self.peek().word == "BY":
                order = self.order_by("OVER (")
            else:
                self.window_part("ORDER BY")
        if self.is_word("ROWS", "RANGE") and self.peek().word in ("BETWEEN", "UNBOUNDED", "CURRENT"):
            frame = self.frame()
        return nodes.Over(start, self.close(opened), tuple(partition), order, frame)

    def window_part(self, words: str) -> None:
        """Note that a window names something without the words that say what for, and go on behind it."""
        token = self.token
        first = words.partition(" ")[0]
        given = token.end if token.word == first else token.start
        fixed = f"{self.text[: token.start]}{words} {self.text[given:].lstrip()}"
        self.note("word-missing", f"OVER needs {words} here.", token.start, token.end, f"Write {words}.", fixed)
        self.take()
        if token.word == first and not self.is_symbol(")"):
            self.listed()

    def frame(self) -> nodes.Frame:
        unit = self.take()
        if self.accept_word("BETWEEN"):
            low = self.bound()
            self.expect_word("AND", after="BETWEEN")
            high = self.bound()
        else:
            low = self.bound()
            high = nodes.Bound(low.end, low.end, "current", False, None)
        return nodes.Frame(unit.start, self.last_end, unit.word, low, high)

    def bound(self) -> nodes.Bound:
        start = self.token.start
        if self.is_word("CURRENT") and self.peek().word == "ROW":
            self.take(), self.take()
            return nodes.Bound(start, self.last_end, "current", False, None)
        offset = None if self.accept_word("UNBOUNDED") else self.expression(ADD)
        after = self.is_word("FOLLOWING")
        self.expect_word("PRECEDING", "FOLLOWING", after="A frame's end")
        return nodes.Bound(start, self.last_end, "offset" if offset else "unbounded", after, offset)

    # -- functions with a syntax of their own --------------------------------------------------------------

    def cast(self, name: Token) -> nodes.Node:
        opened = self.take()
        operand = self.expression()
        if not self.expect_word("AS", after="CAST"):
            self.skip_to_close()
            return nodes.ErrorNode(name.start, self.close(opened))
        target = self.token
        word = target.word
        parameters: list[int] = []
        if target.kind == "name":
            self.take()
            if word == "DOUBLE" and self.accept_word("PRECISION"):
                word = "DOUBLE PRECISION"
        if word not in CAST_NAMES:
            known = "TEXT, INTEGER, DECIMAL(p,s), NUMBER, BOOLEAN, DATE, TIMESTAMP"
            self.problem("unknown-type", f"There is no type {target.value!r}.", f"Types are {known}.", at=target)
            word = ""
        if self.is_symbol("("):
            inner = self.take()
            while self.token.kind == "integer" and len(self.token.value) < 10:
                parameters.append(int(self.take().value))
                if not self.accept(","):
                    break
            self.close(inner)
        target_end = self.last_end
        template: nodes.Literal | None = None
        if self.accept_word("FORMAT"):
            if self.token.kind == "text":
                token = self.take()
                template = nodes.Literal(token.start, token.end, "text", token.value)
            else:
                self.problem("word-missing", "FORMAT needs a template in quotes, such as 'DD.MM.YYYY'.")
                self.skip_to_close()
        end = self.close(opened)
        if not word:
            return nodes.ErrorNode(name.start, end)
        return nodes.Cast(name.start, end, operand, word, tuple(parameters), template, target.start, target_end)

    def extract(self, name: Token) -> nodes.Node:
        opened = self.take()
        part = self.take()
        if part.value.upper() not in PARTS:
            self.problem(
                "unknown-part", f"{part.value!r} is not a part of a date.", f"Parts are {', '.join(PARTS)}.", at=part
            )
        self.expect_word("FROM", after="EXTRACT")
        operand = self.expression()
        end = self.close(opened)
        if part.value.upper() not in PARTS:
            return nodes.ErrorNode(name.start, end)
        unit = nodes.Literal(part.start, part.end, "text", part.value.upper())
        return nodes.Call(name.start, end, "EXTRACT", (unit, operand), name.end)

    def trim(self, name: Token) -> nodes.Node:
        opened = self.take()
        side = "BTRIM"
        if self.is_word(*_SIDES) and self.peek().value not in (")", ","):
            side = _SIDES[self.take().word]
        chars: nodes.Node | None = None
        if self.accept_word("FROM"):
            operand = self.expression()
        else:
            operand = self.expression()
            if self.accept_word("FROM"):
                chars, operand = operand, self.expression()
        args = (operand,) if chars is None else (operand, chars)
        return nodes.Call(name.start, self.close(opened), side, args, name.end)

    def substring(self, name: Token) -> nodes.Node:
        opened = self.take()
        args = [self.expression()]
        if self.accept_word("FROM"):
            args.append(self.expression())
            if self.accept_word("FOR"):
                args.append(self.expression())
        while self.accept(","):
            args.append(self.expression())
        return nodes.Call(name.start, self.close(opened), "SUBSTRING", tuple(args), name.end)

    def position(self, name: Token) -> nodes.Node:
        opened = self.take()
        args = [self.expression(JOIN)]
        if self.accept_word("IN"):
            args.append(self.expression())
        else:
            self.problem("word-missing", "POSITION is written POSITION(part IN text).", at=name)
            self.skip_to_close()
        return nodes.Call(name.start, self.close(opened), "POSITION", tuple(args), name.end)

    def conditional(self, name: Token) -> nodes.Node:
        """`IF(condition, then, else)`: a CASE with one branch."""
        opened = self.take()
        args = [] if self.is_symbol(")") else self.listed()
        end = self.close(opened)
        if len(args) != 3:
            message = "IF takes a condition, a value and a value for the rest."
            fixed = f"{self.text[: args[1].end]}, NULL{self.text[args[1].end :]}" if len(args) == 2 else None
            self.note(
                "argument-count",
                message,
                name.start,
                name.end,
                "Write IF(condition, value, NULL)." if fixed else "",
                fixed,
            )
            return nodes.ErrorNode(name.start, end)
        branch = nodes.When(args[0].start, args[1].end, args[0], args[1])
        return nodes.Case(name.start, end, None, (branch,), args[2])


_CONSTANTS: dict[str, tuple[str, Any]] = {
    "TRUE": ("boolean", True),
    "FALSE": ("boolean", False),
    "NULL": ("null", None),
}
_SIDES = {"LEADING": "LTRIM", "TRAILING": "RTRIM", "BOTH": "BTRIM"}
SPECIAL: dict[str, Callable[[_Parser, Token], nodes.Node]] = {
    "CAST": _Parser.cast,
    "EXTRACT": _Parser.extract,
    "TRIM": _Parser.trim,
    "SUBSTRING": _Parser.substring,
    "POSITION": _Parser.position,
    "IF": _Parser.conditional,
}


def _literal(token: Token) -> Any:
    if token.kind == "integer":
        return int(token.value) if len(token.value) < 4000 else Decimal(token.value)
    if token.kind == "decimal":
        return Decimal(token.value)
    if token.kind == "number":
        return float(token.value)
    return token.value
