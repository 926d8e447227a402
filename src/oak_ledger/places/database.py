"""A question asked where the rows are: in the PostgreSQL database that is the origin of a source."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import sqlalchemy as sa
from sqlglot import exp

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine import Query
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.query import Result
from oak_ledger.errors import UnusableInput
from oak_ledger.origin.database import DatabaseReader
from oak_ledger.places.statement import Statement, parsed, statement
from oak_ledger.places.translate import NotSaid, sql_type

if TYPE_CHECKING:
    from oak_ledger.source.source import Source

SECONDS = 600  # that a statement may take


_AS_THEY_ARE = frozenset({16, 20, 21, 23, 25, 1043, 1082, 1114})  # boolean, whole numbers, texts, dates and timestamps
_REAL, _DOUBLE, _NUMERIC, _WITH_ZONE = 700, 701, 1700, 1184
Columns = Callable[[str], exp.Expression]
"""A column of the origin as it is read here."""


def columns_of(source: Source) -> Columns:
    """How the columns of a source are said, so that they have the values that reading them here gives: no NaN and no infinity, times in
    universal time. Raises NotSaid for a column of a type whose texts are another matter."""
    reader = source.opened
    codes = reader.codes if isinstance(reader, DatabaseReader) and reader.columns() else {}

    def column(name: str) -> exp.Expression:
        made: exp.Expression = exp.column(exp.to_identifier(name, quoted=True))
        code = codes.get(name)
        if code is None or code in _AS_THEY_ARE:
            return made
        if code == _WITH_ZONE:
            return exp.AtTimeZone(this=made, zone=exp.Literal.string("UTC"))
        if code == _REAL:  # as it reads
            made = exp.cast(exp.cast(made, "TEXT"), "DOUBLE PRECISION")
        if code in (_REAL, _DOUBLE, _NUMERIC):
            kind = reader.columns()[name]
            finite = exp.EQ(this=exp.Sub(this=made.copy(), expression=made.copy()), expression=exp.Literal.number(0))
            return exp.cast(exp.Case().when(finite, made), sql_type(kind))
        raise NotSaid(f"The column {name}", "its type is read as a text in another way")

    return column


def relation(source: Source) -> exp.Expression:
    """What a source reads in its database; of one that is elsewhere, a table of its name."""
    spec = source.origin
    if spec.kind != "database" or source.published is not None:
        return exp.Table(this=exp.to_identifier(source.name, quoted=True))
    if spec.query:
        return parsed(spec.query)
    schema, _, name = spec.table.rpartition(".")
    table = exp.to_identifier(name, quoted=True)
    return exp.Table(this=table, db=exp.to_identifier(schema, quoted=True) if schema else None)


def written(source: Source, query: Query, *, guarded: bool = False, dialect: str = "postgresql") -> Statement:
    """The statement of a question. Raises NotSaid where it cannot be said in the same meaning."""
    return statement(
        replace(query, totals=False), relation(source), columns_of(source), guarded=guarded, dialect=dialect
    )


def asked(source: Source, query: Query) -> Result:
    """A grouped question answered in the database. Raises NotSaid where it cannot be said, or where a value is a fault, which is
    reported with its row only here; UnusableInput where the database cannot be reached."""
    reader = source.opened
    if not isinstance(reader, DatabaseReader) or not source.origin.url.startswith("postgresql"):
        raise NotSaid("This source", "its rows are not in a PostgreSQL database")
    if not query.grouped:
        raise NotSaid("A list of rows", "a table has no order of its own")
    reader.columns()
    first = written(source, query)
    all_rows = statement(
        replace(query, by=(), where=(), show=(), sort=(), limit=None, totals=False),
        relation(source),
        columns_of(source),
    )
    total = (
        statement(replace(query, by=(), sort=(), limit=None, totals=False), relation(source), columns_of(source))
        if query.totals
        else None
    )
    with reader.engine.connect() as connection:
        try:
            connection.exec_driver_sql("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
            connection.exec_driver_sql(f"SET LOCAL statement_timeout = '{SECONDS}s'")
            rows = connection.exec_driver_sql(first.text()).fetchall()
            totals = connection.exec_driver_sql(total.text()).fetchall() if total is not None else []
            read = connection.exec_driver_sql(all_rows.text()).scalar() if query.where else None
        except sa.exc.DataError as error:
            raise NotSaid("A value", f"the database stops at it ({str(error.orig).strip().splitlines()[0]})") from None
        except sa.exc.SQLAlchemyError as error:
            said = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
            raise UnusableInput(
                "database", f"The database cannot answer: {said}.", hint="Ask it here: --place here."
            ) from None
    columns = [*query.by, *query.show]
    used = sum(row[len(columns)] for row in rows[:1]) if rows else 0
    groups = rows[0][len(columns) + 1] if rows and query.by else len(rows)
    return Result(_table(columns, rows), _table(columns[len(query.by) :], totals, query.by) if query.totals else None, Faults(), int(read if read is not None else used), int(used), int(groups))  # fmt: skip


def _table(columns: Any, rows: Any, keys: Any = ()) -> pa.Table:
    """Rows of the database as a table with the types of the question; `keys` are columns of nulls before them."""
    arrays = [pa.nulls(len(rows), arrow_type(one.checked.type)) for one in keys]
    arrays += [
        pa.array([_value(row[at], one.checked.type.kind) for row in rows], arrow_type(one.checked.type))
        for at, one in enumerate(columns)
    ]
    return pa.table(arrays, names=[one.name for one in (*keys, *columns)])


def _value(value: Any, kind: str) -> Any:
    return float(value) if kind == "number" and value is not None else value
