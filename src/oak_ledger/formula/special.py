"""Functions with a syntax of their own, and literals with a word before them: `CAST(x AS …)`, `EXTRACT(… FROM …)`, `DATE '…'`."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from oak_ledger.formula import nodes
from oak_ledger.formula.cursor import JOIN, Cursor
from oak_ledger.formula.lexer import Token
from oak_ledger.types import CAST_NAMES

UNITS = ("SECOND", "MINUTE", "HOUR", "DAY", "WEEK", "MONTH", "QUARTER", "YEAR")
PARTS = (*UNITS, "DOW", "ISODOW", "DOY", "ISOYEAR")
_SIDES = {"LEADING": "LTRIM", "TRAILING": "RTRIM", "BOTH": "BTRIM"}


def literal(token: Token) -> Any:
    """The value of a literal as it is written."""
    if token.kind == "integer":
        return int(token.value) if len(token.value) < 4000 else Decimal(token.value)
    if token.kind == "decimal":
        return Decimal(token.value)
    if token.kind == "number":
        return float(token.value)
    return token.value


def typed_literal(cursor: Cursor, word: str) -> nodes.Node:
    """A date, a moment or an interval."""
    start = cursor.take().start
    token = cursor.take()
    if word == "INTERVAL":
        unit = cursor.token
        if not re.fullmatch(r"\s*[+-]?\d{1,9}\s*", token.value):
            cursor.problem("bad-literal", "An interval is a whole number in quotes: INTERVAL '3' DAY.", at=token)
        elif cursor.is_word(*UNITS):
            cursor.take()
            return nodes.Interval(start, unit.end, int(token.value), unit.word)
        else:
            cursor.problem("bad-literal", f"An interval needs a unit: {', '.join(UNITS)}.", at=unit)
        cursor.accept_word(*UNITS)
        return nodes.ErrorNode(start, cursor.last_end)
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
        cursor.problem("bad-literal", message, f"It is written {shape}.", at=token)
        return nodes.ErrorNode(start, token.end)
    return nodes.Literal(start, token.end, kind, value)


def cast(cursor: Cursor, name: Token) -> nodes.Node:
    """`CAST(value AS TYPE FORMAT '…')`."""
    opened = cursor.take()
    operand = cursor.expression()
    if not cursor.expect_word("AS", after="CAST"):
        cursor.skip_to_close()
        return nodes.ErrorNode(name.start, cursor.close(opened))
    target = cursor.token
    word = target.word
    parameters: list[int] = []
    if target.kind == "name":
        cursor.take()
        if word == "DOUBLE" and cursor.accept_word("PRECISION"):
            word = "DOUBLE PRECISION"
    if word not in CAST_NAMES:
        known = "TEXT, INTEGER, DECIMAL(p,s), NUMBER, BOOLEAN, DATE, TIMESTAMP"
        cursor.problem("unknown-type", f"There is no type {target.value!r}.", f"Types are {known}.", at=target)
        word = ""
    if cursor.is_symbol("("):
        inner = cursor.take()
        while cursor.token.kind == "integer" and len(cursor.token.value) < 10:
            parameters.append(int(cursor.take().value))
            if not cursor.accept(","):
                break
        cursor.close(inner)
    target_end = cursor.last_end
    template: nodes.Literal | None = None
    if cursor.accept_word("FORMAT"):
        if cursor.token.kind == "text":
            token = cursor.take()
            template = nodes.Literal(token.start, token.end, "text", token.value)
        else:
            cursor.problem("word-missing", "FORMAT needs a template in quotes, such as 'DD.MM.YYYY'.")
            cursor.skip_to_close()
    end = cursor.close(opened)
    if not word:
        return nodes.ErrorNode(name.start, end)
    return nodes.Cast(name.start, end, operand, word, tuple(parameters), template, target.start, target_end)


def extract(cursor: Cursor, name: Token) -> nodes.Node:
    """`EXTRACT(part FROM value)`."""
    opened = cursor.take()
    part = cursor.take()
    if part.value.upper() not in PARTS:
        cursor.problem(
            "unknown-part", f"{part.value!r} is not a part of a date.", f"Parts are {', '.join(PARTS)}.", at=part
        )
    cursor.expect_word("FROM", after="EXTRACT")
    operand = cursor.expression()
    end = cursor.close(opened)
    if part.value.upper() not in PARTS:
        return nodes.ErrorNode(name.start, end)
    unit = nodes.Literal(part.start, part.end, "text", part.value.upper())
    return nodes.Call(name.start, end, "EXTRACT", (unit, operand), name.end)


def trim(cursor: Cursor, name: Token) -> nodes.Node:
    """`TRIM(LEADING '0' FROM text)`, and with a comma."""
    opened = cursor.take()
    side = "BTRIM"
    if cursor.is_word(*_SIDES) and cursor.peek().value not in (")", ","):
        side = _SIDES[cursor.take().word]
    chars: nodes.Node | None = None
    if cursor.accept_word("FROM"):
        operand = cursor.expression()
    else:
        operand = cursor.expression()
        if cursor.accept_word("FROM"):
            chars, operand = operand, cursor.expression()
    args = (operand,) if chars is None else (operand, chars)
    return nodes.Call(name.start, cursor.close(opened), side, args, name.end)


def substring(cursor: Cursor, name: Token) -> nodes.Node:
    """`SUBSTRING(text FROM start FOR length)`, and with commas."""
    opened = cursor.take()
    args = [cursor.expression()]
    if cursor.accept_word("FROM"):
        args.append(cursor.expression())
        if cursor.accept_word("FOR"):
            args.append(cursor.expression())
    while cursor.accept(","):
        args.append(cursor.expression())
    return nodes.Call(name.start, cursor.close(opened), "SUBSTRING", tuple(args), name.end)


def position(cursor: Cursor, name: Token) -> nodes.Node:
    """`POSITION(part IN text)`."""
    opened = cursor.take()
    args = [cursor.expression(JOIN)]
    if cursor.accept_word("IN"):
        args.append(cursor.expression())
    else:
        cursor.problem("word-missing", "POSITION is written POSITION(part IN text).", at=name)
        cursor.skip_to_close()
    return nodes.Call(name.start, cursor.close(opened), "POSITION", tuple(args), name.end)


def conditional(cursor: Cursor, name: Token) -> nodes.Node:
    """`IF(condition, then, else)`: a CASE with one branch."""
    opened = cursor.take()
    args = [] if cursor.is_symbol(")") else cursor.listed()
    end = cursor.close(opened)
    if len(args) != 3:
        message = "IF takes a condition, a value and a value for the rest."
        fixed = f"{cursor.text[: args[1].end]}, NULL{cursor.text[args[1].end :]}" if len(args) == 2 else None
        cursor.note(
            "argument-count", message, name.start, name.end, "Write IF(condition, value, NULL)." if fixed else "", fixed
        )
        return nodes.ErrorNode(name.start, end)
    branch = nodes.When(args[0].start, args[1].end, args[0], args[1])
    return nodes.Case(name.start, end, None, (branch,), args[2])


SPECIAL: dict[str, Callable[[Cursor, Token], nodes.Node]] = {
    "CAST": cast,
    "EXTRACT": extract,
    "TRIM": trim,
    "SUBSTRING": substring,
    "POSITION": position,
    "IF": conditional,
}
