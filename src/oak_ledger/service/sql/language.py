"""SQL as it is read and written here: what a client sends is parsed, and its expressions are written as formulas of the language."""

from __future__ import annotations

import datetime as dt
import logging
import re
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any, ClassVar

import sqlglot
from sqlglot import exp
from sqlglot.dialects.postgres import Postgres
from sqlglot.errors import SqlglotError
from sqlglot.generator import Generator as Plain

from oak_ledger.errors import OakError, Place
from oak_ledger.types import NUMBER, Type, cast_name

logging.getLogger("sqlglot").setLevel(logging.ERROR)  # what it does not read is said by us
Node = exp.Expr
"""A piece of a statement."""

LONGEST = 100_000  # characters of a statement
_ITEM = re.compile(r'"((?:[^"\\]|\\.)*)"|([^,"\s][^,"]*)')
_OWN_SYNTAX = ("CAST", "EXTRACT", "POSITION", "SUBSTRING", "TRIM")
_WORDS_AROUND = {"LEADING": "LEADING ", "TRAILING": "TRAILING ", "BOTH": "BOTH "}


def _refused_template(_writer: Plain, _node: Node) -> str:
    raise refused("CAST with FORMAT into a date")


def _trimmed(writer: Plain, node: Node) -> str:
    what, where = writer.sql(node, "expression"), str(node.args.get("position") or "").upper()
    inside = f"{_WORDS_AROUND.get(where, '')}{what}{' ' if what else ''}"
    return f"TRIM({inside}{'FROM ' if inside else ''}{writer.sql(node, 'this')})"


class Sql(Postgres):
    """Statements as PostgreSQL has them, in which functions keep the names that they are given; written, they are formulas."""

    class Parser(Postgres.Parser):  # type: ignore[misc, valid-type]
        """No function is taken for another one."""

        FUNCTIONS: ClassVar[dict[str, Any]] = {}
        FUNCTION_PARSERS: ClassVar[Any] = {
            name: read for name, read in Postgres.Parser.FUNCTION_PARSERS.items() if name in _OWN_SYNTAX
        }
        NO_PAREN_FUNCTION_PARSERS: ClassVar[Any] = {name: read for name, read in Postgres.Parser.NO_PAREN_FUNCTION_PARSERS.items() if name in ("CASE", "ANY")}  # fmt: skip

    class Generator(Plain):
        """What the language says in other words than the standard's library of dialects."""

        INTERVAL_ALLOWS_PLURAL_FORM = False
        TYPE_MAPPING: ClassVar[Any] = {
            **Plain.TYPE_MAPPING,
            **dict.fromkeys((exp.DataType.Type.INT, exp.DataType.Type.SMALLINT, exp.DataType.Type.TINYINT), "BIGINT"),
            **dict.fromkeys((exp.DataType.Type.FLOAT, exp.DataType.Type.DOUBLE), "DOUBLE PRECISION"),
        }
        TRANSFORMS: ClassVar[Any] = {
            **Plain.TRANSFORMS,
            exp.StrPosition: lambda self, one: f"POSITION({self.sql(one, 'substr')} IN {self.sql(one, 'this')})",
            exp.CurrentTimestamp: lambda _self, _one: "CURRENT_TIMESTAMP",
            exp.Trim: _trimmed,
            exp.StrToTime: _refused_template,
            exp.StrToDate: _refused_template,
        }


def refused(what: str, hint: str = "") -> OakError:
    """A statement has something that is not answered here."""
    return OakError("not-in-sql", f"{what} is not answered here.", hint=hint or "There is SELECT … FROM one source, with WHERE, GROUP BY, HAVING, ORDER BY, LIMIT.")  # fmt: skip


def too_much(most: int) -> OakError:
    """An answer has more rows than one may have."""
    return OakError("too-much", f"An answer has at most {most:,} rows.", hint="Ask for less: WHERE, GROUP BY, or pages by LIMIT and OFFSET.")  # fmt: skip


def parsed(text: str, dialect: type[Postgres] = Sql) -> Node:
    """One statement. Raises OakError where it cannot be read."""
    if len(text) > LONGEST:
        raise OakError("too-much", f"A statement has at most {LONGEST:,} characters.", hint="Give values as parameters.")  # fmt: skip
    try:
        expression = sqlglot.parse_one(text, dialect=dialect)
    except (SqlglotError, ValueError) as error:
        said = getattr(error, "errors", None) or [{}]
        line, column = said[0].get("line"), said[0].get("col")
        where = f" in line {line}, column {column}" if line else ""
        what = said[0].get("description") or "this is not a statement"
        raise OakError("sql-syntax", f"The statement cannot be read{where}: {what.rstrip('.')}.", place=Place("the statement")) from None  # fmt: skip
    except RecursionError:
        raise OakError("sql-syntax", "The statement is nested too deeply.") from None
    return expression


def statements(text: str) -> list[str]:
    """The statements of a text, without what separates them."""
    try:
        tokens = sqlglot.tokenize(text, dialect=Sql)
    except (SqlglotError, ValueError):
        raise OakError("sql-syntax", "The statement cannot be read: a quote or a comment has no end.") from None
    made, begin, last = [], -1, -1
    for token in tokens:
        if token.token_type == sqlglot.TokenType.SEMICOLON:
            made += [text[begin : last + 1]] if begin >= 0 else []
            begin = -1
        else:
            begin, last = (token.start if begin < 0 else begin), token.end
    return made + ([text[begin : last + 1]] if begin >= 0 else [])


def formula(node: Node) -> str:
    """An expression as a formula."""
    try:
        return node.sql(dialect=Sql, comments=False)
    except RecursionError:
        raise OakError("sql-syntax", "The statement is nested too deeply.") from None


def literal(value: Any, kind: Type | None) -> Node:
    """A value in an expression; a null of a type where that is known."""
    if value is None:
        return exp.Null() if kind is None or kind.kind in ("null", "text") else cast(exp.Null(), kind)
    writes: Mapping[type, Callable[[Any], Node]] = {
        bool: lambda one: exp.Boolean(this=one),
        int: exp.Literal.number,
        float: lambda one: exp.Literal.number(text if "e" in (text := repr(one)) else f"{text}e0"),
        Decimal: lambda one: exp.Literal.number(format(one, "f")),
        dt.date: lambda one: _typed("DATE", one.isoformat()),
        dt.datetime: lambda one: _typed("TIMESTAMP", one.isoformat(" ")),
    }
    if isinstance(value, float) and value - value != 0:
        raise OakError("wrong-value", f"A parameter is {value}, and cannot be used as a value.")
    written = writes.get(type(value), exp.Literal.string)(value)
    return exp.Paren(this=written) if written.sql().startswith("-") else written


def cast(node: Node, kind: Type) -> Node:
    """A cast to a type of the language."""
    return exp.Cast(
        this=node, to=exp.DataType.build("DOUBLE PRECISION" if kind == NUMBER else cast_name(kind), dialect=Sql)
    )


def _typed(name: str, text: str) -> Node:
    return exp.Cast(this=exp.Literal.string(text), to=exp.DataType.build(name, dialect=Sql))


def with_parameters(tree: Node, values: Mapping[int, tuple[Any, Type | None]]) -> Node:
    """A copy of a statement with values for its parameters. Raises OakError for one that has none."""
    tree = tree.copy()
    for node in [*tree.find_all(exp.Parameter)]:
        number = parameter_number(node)
        if number not in values:
            raise OakError("wrong-value", f"The parameter ${number} has no value.")
        node.replace(literal(*values[number]))
    for equal in [*tree.find_all(exp.EQ)]:
        if isinstance(equal.expression, exp.Any):
            items = _items(equal.expression.this.unnest())
            if items is not None:  # nothing equals one of none
                equal.replace(exp.In(this=equal.this, expressions=items) if items else exp.false())
    return tree


def _items(node: Node) -> list[Node] | None:
    """The items of a list, also of one that is written as text: {a,b}."""
    node = node.this.unnest() if isinstance(node, exp.Cast) else node
    if isinstance(node, exp.Array):
        return list(node.expressions)
    if isinstance(node, exp.Null):
        return []
    if not isinstance(node, exp.Literal) or not (node.name.startswith("{") and node.name.endswith("}")):
        return None
    expressions: list[Node] = []
    for quoted, bare in _ITEM.findall(node.name[1:-1]):
        null = bare.casefold().strip() == "null"
        expressions.append(exp.Null() if null else exp.Literal.string(bare.strip() or re.sub(r"\\(.)", r"\1", quoted)))
    return expressions


def parameter_number(node: exp.Parameter) -> int:
    """The number of a parameter, counted from 1."""
    try:
        return int(node.name)
    except ValueError:
        raise refused(f"The parameter ${node.name}", "Parameters are $1, $2, …") from None


_TYPES: Mapping[str, str] = {"BIGINT": "int8", "INT": "int4", "SMALLINT": "int2", "DOUBLE PRECISION": "float8", "REAL": "float4", "DECIMAL": "numeric", "BOOLEAN": "bool"}  # fmt: skip


def title_of(node: Node) -> str:
    """What PostgreSQL calls a column that is given no name: after its field or its function, else its type, or not at all."""
    return _figured(node)[0] or "?column?"


def _figured(node: Node) -> tuple[str, bool]:
    """A name for an expression, and whether it is more than that of a type."""
    inside = node.unnest()
    if isinstance(inside, (exp.Window, exp.Filter, exp.WithinGroup)):
        return _figured(inside.this)
    if isinstance(inside, exp.Dot):
        return _figured(inside.expression)
    if isinstance(inside, exp.Cast):
        name, strong = _figured(inside.this)
        written = inside.to.sql(dialect="postgres").partition("(")[0].rpartition(".")[2]
        return (name, True) if strong else (_TYPES.get(written, written.strip('"').casefold()), False)
    if isinstance(inside, exp.Case):
        default = inside.args.get("default")
        found = _figured(default) if default is not None else ("", False)
        return found if found[1] else ("case", False)
    if isinstance(inside, exp.Column):
        return inside.name, True
    if isinstance(inside, exp.Anonymous):
        return inside.name.casefold(), True
    if isinstance(inside, exp.Trim):
        return {"LEADING": "ltrim", "TRAILING": "rtrim"}.get(str(inside.args.get("position")).upper(), "btrim"), True
    if isinstance(inside, exp.CurrentVersion):
        return "version", True
    if isinstance(inside, exp.Func) and not isinstance(inside, exp.Connector):
        return inside.sql_name().casefold(), True
    return "", False
