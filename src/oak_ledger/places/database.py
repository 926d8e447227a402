"""A question asked where the rows are: in the database, PostgreSQL or SQLite, that is the origin of a source."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import sqlalchemy as sa
from sqlglot import exp

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine import Query
from oak_ledger.engine.evaluate import Expression
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.query import Result
from oak_ledger.errors import UnusableInput
from oak_ledger.formula import Grain
from oak_ledger.formula import checked as c
from oak_ledger.origin.database import DatabaseReader, backend_of, one_select, schema_and_name
from oak_ledger.places.dialects import DIALECTS, POSTGRESQL, SqlDialect
from oak_ledger.places.statement import Statement, as_written, in_settled_order, statement, trees_of
from oak_ledger.places.translate import NotSaid, Translator, as_it_reads, finite, in_calendar

if TYPE_CHECKING:
    from oak_ledger.source.source import Source

SECONDS = 600  # that a statement may take, where the role has no stricter limit
_TIME_LIMIT = f"SELECT set_config('statement_timeout', '{SECONDS}s', true) FROM pg_settings WHERE name = 'statement_timeout' AND setting::bigint NOT BETWEEN 1 AND {SECONDS * 1000}"
_HOLES = {"postgresql": "%({})s", "sqlite": ":{}"}
"""How a statement's parameters are written for the driver of each database."""


_AS_THEY_ARE = frozenset({16, 20, 21, 23})  # boolean and whole numbers
_TEXTS, _DATE, _MOMENT = (25, 1043), 1082, 1114
_REAL, _DOUBLE, _NUMERIC, _WITH_ZONE = 700, 701, 1700, 1184
Columns = Callable[[str], exp.Expression]
"""A column of the origin as it is read here."""


def columns_of(source: Source, *, stops: bool = False) -> Columns:
    """How the columns of a source are said, so that they have the values that reading them here gives: no NaN and no infinity, times in
    universal time, texts that are equal and sorted by their letters alone. With `stops` the database stops at a date that no calendar has, which only
    here is reported with its row. Raises NotSaid for a column of a type whose values are another matter."""
    reader = source.opened
    kinds = reader.columns() if isinstance(reader, DatabaseReader) else {}
    codes = reader.codes if isinstance(reader, DatabaseReader) else {}

    def column(name: str) -> exp.Expression:
        expression: exp.Expression = exp.column(exp.to_identifier(name, quoted=True))
        code = codes.get(name)
        if isinstance(code, str):  # SQLite's, where a column may compare texts in its own way
            if code not in ("", "text", "integer"):
                raise NotSaid(f"The column {name}", f"SQLite has values of the type {code.replace(',', ' and ')} in it")
            return exp.Collate(this=expression, expression=exp.var("BINARY")) if code != "integer" else expression
        if code is None or code in _AS_THEY_ARE:
            return expression
        if code in _TEXTS:
            return exp.Collate(this=expression, expression=exp.to_identifier("C", quoted=True))
        if code == _WITH_ZONE:
            expression = exp.AtTimeZone(this=expression, zone=exp.Literal.string("UTC"))
        if code in (_DATE, _MOMENT, _WITH_ZONE):
            return in_calendar(expression, kinds[name], stops=stops)
        if code == _REAL:
            expression = as_it_reads(expression)
        if code in (_REAL, _DOUBLE, _NUMERIC):
            return finite(expression, kinds[name])
        raise NotSaid(f"The column {name}", "its type is read as a text in another way")

    return column


def relation(source: Source) -> exp.Expression:
    """What a source reads in its database; of one that is elsewhere, a table of its name."""
    spec = source.origin
    if spec.kind != "database" or source.published is not None:
        return exp.Table(this=exp.to_identifier(source.name, quoted=True))
    if spec.query:
        return as_written(one_select(spec.query, backend_of(spec.url)))
    schema, name = schema_and_name(spec.table)
    table = exp.to_identifier(name, quoted=True)
    return exp.Table(this=table, db=exp.to_identifier(schema, quoted=True) if schema else None)


def written(source: Source, query: Query, *, guarded: bool = False, dialect: SqlDialect = POSTGRESQL) -> Statement:
    """The statement of a question. Raises NotSaid where it cannot be said in the same meaning."""
    return statement(
        replace(query, totals=False),
        relation(source),
        columns_of(source, stops=not guarded),
        guarded=guarded,
        dialect=dialect,
    )


def asked(source: Source, query: Query) -> Result:
    """A question answered in the database. Raises NotSaid where it cannot be said, or where a value is a fault, which is reported with its row
    only here; UnusableInput where the database cannot be reached."""
    reader, dialect = _reader(source)
    in_settled_order(query, source.about.key)
    first = written(source, query, dialect=dialect)
    plain = replace(query, sort=(), limit=None, totals=False)
    counted = {"by": (), "show": (), "having": (), "grouped": True}
    more = {
        "totals": replace(plain, by=()) if query.totals else None,
        "used": None if query.grouped and not query.having else replace(plain, **counted),  # type: ignore[arg-type]
        "read": replace(plain, where=(), always=(), **counted) if query.where or query.always else None,  # type: ignore[arg-type]
    }
    statements = {name: written(source, one, dialect=dialect) for name, one in more.items() if one is not None}
    with _reading(reader) as ask:
        rows = ask(first)
        others = {name: ask(one) for name, one in statements.items()}
    columns = [*query.by, *query.show]
    used = others["used"][0][0] if "used" in others else sum(row[len(columns)] for row in rows[:1])
    read = others["read"][0][0] if "read" in others else used
    groups = None if not query.grouped else rows[0][len(columns) + 1] if rows and query.by else len(rows)
    totals = _table(columns[len(query.by) :], others["totals"], query.by) if query.totals else None
    return Result(_table(columns, rows), totals, Faults(), int(read), int(used), groups)


def narrowed(source: Source, query: Query) -> DatabaseReader | None:
    """The reader of a source that is computed here, which leaves to the database what of the filters it can say; None where that is nothing.

    Only conditions in which nothing can be a fault: what is a fault is reported here, of whatever row.
    """
    try:
        reader, dialect = _reader(source)
        column = columns_of(source)
    except NotSaid:
        return None

    def any_window(of: Sequence[Expression]) -> bool:
        trees = trees_of(query, of)
        return any(isinstance(node, c.Window) and node.grain == Grain.ROW for tree in trees for node in c.walk(tree))

    if any_window(query.always):
        return None
    windows = any_window(query.asked)
    fields = {name: expression.checked for name, expression in query.fields.items()}
    translator = Translator({}, fields, column, dialect=dialect)
    expressions = [
        condition
        for alway in (*query.always, *(query.where if not windows else ()))
        if (condition := _condition(query, alway, translator)) is not None
    ]
    if not expressions:
        return None
    all_of_it = exp.and_(*expressions)
    hole = _HOLES[dialect.name]
    text, filled = Statement(exp.select("1").where(all_of_it), (), dialect).parameters(hole)
    reader = replace(reader, condition=(text.partition(" WHERE ")[2], filled))
    count = exp.select(exp.Count(this=exp.Star())).from_(relation(source)).where(exp.not_(exp.Is(this=exp.paren(all_of_it), expression=exp.true())))  # fmt: skip
    try:
        with _reading(reader) as ask:
            reader.left_out = ask(Statement(count, (), dialect))[0][0]
    except NotSaid:  # the database stops at a value: all rows come here
        return None
    return reader


def _condition(query: Query, expression: Expression, translator: Translator) -> exp.Expression | None:
    """A filter as the database says it, if it can, and nothing in it may be a fault."""
    for tree in trees_of(query, [expression]):
        if c.can_fault(tree) or any(isinstance(node, (c.Window, c.Before)) for node in c.walk(tree)):
            return None
    try:
        return exp.paren(translator.expression(expression.checked))
    except NotSaid:
        return None


def _reader(source: Source) -> tuple[DatabaseReader, SqlDialect]:
    """The reader of a source in a database, and what is spoken there. Raises NotSaid for another source."""
    reader = source.opened
    backend = backend_of(source.origin.url) if source.origin.kind == "database" else ""
    if not isinstance(reader, DatabaseReader) or backend not in _HOLES:
        raise NotSaid("This source", "its rows are not in a PostgreSQL or SQLite database")
    reader.columns()
    return reader, DIALECTS[backend]


@contextmanager
def _reading(reader: DatabaseReader) -> Iterator[Callable[[Statement], list[Any]]]:
    """To ask statements of one state of a database, which is only read; an interrupt ends the statement there."""
    with reader.engine.connect() as connection:
        backend = connection.dialect.name
        try:
            if backend == "postgresql":
                connection.exec_driver_sql("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
                connection.exec_driver_sql(_TIME_LIMIT)
            else:
                connection.exec_driver_sql("BEGIN")
                end = time.monotonic() + SECONDS
                connection.connection.driver_connection.set_progress_handler(lambda: time.monotonic() > end, 100_000)

            def ask(one: Statement) -> list[Any]:
                text, filled = one.parameters(_HOLES[backend])
                return list(connection.exec_driver_sql(text, filled).fetchall())

            yield ask
        except sa.exc.SQLAlchemyError as error:
            said = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
            if isinstance(error, sa.exc.DataError) or said == "integer overflow":
                raise NotSaid("A value", f"the database stops at it ({said})") from None
            if not _lost(error):
                raise NotSaid("This question", f"the database does not take it ({said})") from None
            raise UnusableInput("database", f"The database cannot be reached: {said}.") from None


def _lost(error: sa.exc.SQLAlchemyError) -> bool:
    """Whether it is the connection that failed, and not the statement: then reading the rows would fail as well."""
    original = getattr(error, "orig", None)
    state = getattr(original, "sqlstate", "" if isinstance(original, sqlite3.Error) else None)
    return bool(getattr(error, "connection_invalidated", False)) or state is None or state.startswith(("08", "57P"))


def _table(columns: Any, rows: Any, keys: Any = ()) -> pa.Table:
    """Rows of the database as a table with the types of the question; `keys` are columns of nulls before them."""
    arrays = [pa.nulls(len(rows), arrow_type(key.checked.type)) for key in keys]
    arrays += [
        pa.array([_value(row[at], one.checked.type.kind) for row in rows], arrow_type(one.checked.type))
        for at, one in enumerate(columns)
    ]
    return pa.table(arrays, names=[key.name for key in (*keys, *columns)])


def _value(value: Any, kind: str) -> Any:
    if kind == "boolean" and value is not None:
        return bool(value)
    return float(value) if kind == "number" and value is not None else value
