"""A released version in a database, for any client that speaks SQL: as a view over the origin, or as a table of its rows."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa
from sqlglot import exp

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.formula import Grain
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.origin.database import backend_of, engine_of
from oak_ledger.origin.passwords import agree
from oak_ledger.origin.spec import OriginSpec
from oak_ledger.places.database import columns_of, relation
from oak_ledger.places.statement import statement
from oak_ledger.places.translate import DIALECT, sql_type
from oak_ledger.source.source import Source

COPIED_ROWS = 20_000  # of a table that are sent at a time


@dataclass(frozen=True, slots=True)
class View:
    """What is made in a database: the statements, in order, and the fields that are left out, with why. `about` says of which source and
    version; `origin` is the database that it must be made in, empty where that is open."""

    name: str
    statements: tuple[str, ...]
    left_out: tuple[tuple[str, str], ...]
    about: str
    origin: str = ""


def view_of(source: Source, about: str, schema: str, name: str) -> View:
    """The statements that make a view over the origin of a source; `about` is what its comment says of version and stage.

    Raises NotSaid where a field cannot be said in the same meaning, OakError where the rows are not in a PostgreSQL database.
    """
    if source.origin.kind != "database" or backend_of(source.origin.url) != "postgresql":
        raise OakError(
            "not-in-database",
            f"The rows of {source.name} are not in a PostgreSQL database.",
            hint="Make a table of them: --as-table.",
        )
    fields, left_out = _fields(source)
    question = source.planned_rows([quote_identifier(field.name) for field in fields]).query
    select = statement(question, relation(source), columns_of(source), guarded=True).text(pretty=True)
    target = _name(schema, name)
    made = (
        f"DROP VIEW IF EXISTS {target}",
        f"CREATE VIEW {target} AS\n{select}",
        *_comments("VIEW", target, source, fields, f"{about}, over the rows as they are now"),
    )
    return View(target, made, left_out, about, source.origin.url)


def table_of(source: Source, about: str, schema: str, name: str) -> View:
    """The statements that make a table for the rows of a source, empty; `fill` puts them in."""
    fields, left_out = _fields(source)
    target = _name(schema, name)
    columns = ", ".join(
        f"{_quoted(field.name)} {sql_type(field.expression.checked.type).sql(dialect=DIALECT)}"
        for field in fields
        if field.expression is not None
    )
    made = (
        f"DROP TABLE IF EXISTS {target}",
        f"CREATE TABLE {target} ({columns})",
        *_comments("TABLE", target, source, fields, f"{about}, with the rows of that version"),
    )
    return View(target, made, left_out, about)


def _fields(source: Source) -> tuple[list[ResolvedName], tuple[tuple[str, str], ...]]:
    """The fields that a client gets, and those that it does not, with why; hidden ones are not even named."""
    shown = [field for field in source.fields if not field.hidden]
    good = [state for state in shown if not state.broken and state.grain != Grain.GROUP]
    out = [
        (state.name, "it is broken" if state.broken else "it has one value for each group")
        for state in shown
        if state not in good
    ]
    return good, tuple(out)


def _quoted(name: str) -> str:
    return exp.to_identifier(name, quoted=True).sql(dialect=DIALECT)


def _name(schema: str, name: str) -> str:
    return f"{_quoted(schema)}.{_quoted(name)}" if schema else _quoted(name)


def _comments(kind: str, target: str, source: Source, fields: Sequence[ResolvedName], about: str) -> Iterator[str]:
    said = f"{about}. {source.about.description}".rstrip(". ") + "."
    yield f"COMMENT ON {kind} {target} IS {exp.Literal.string(said).sql(dialect=DIALECT)}"
    for field in fields:
        description = getattr(field.spec, "description", "")
        if description:
            yield f"COMMENT ON COLUMN {target}.{_quoted(field.name)} IS {exp.Literal.string(description).sql(dialect=DIALECT)}"


def make(view: View, url: str, source: Source | None = None, password_from: str = "") -> int:
    """Run the statements in one transaction, and with a source put its rows in; how many. Clients see what was there before or all of it;
    who was allowed to read what is replaced, is again.

    Raises UnusableInput where the database refuses, OakError where it is another one than the rows come from.
    """
    if view.origin and _where(view.origin) != _where(url):
        message = f"The rows of {view.about} come from another database; a view there would show other rows."
        raise OakError("not-in-database", message, hint="Make a table of them: --as-table.")

    with _writing(url, password_from) as connection:
        _refuse_taken(connection, view)
        for one in [*view.statements, *_grants(connection, view)]:
            connection.exec_driver_sql(one.replace("%", "%%"))
        return _fill(connection, view, source) if source is not None else 0


def retire(name: str, url: str, *, drop: bool, replaced_by: str = "", password_from: str = "") -> list[str]:
    """Drop the views and tables that were made of a source in a database, or mark them in their comments; which they were.

    Raises UnusableInput where the database refuses: then none is changed.
    """
    of_source = """
        SELECT quote_ident(nspname) || '.' || quote_ident(relname), relkind = 'v', obj_description(pg_class.oid, 'pg_class')
        FROM pg_class JOIN pg_namespace ON pg_namespace.oid = relnamespace WHERE relkind IN ('v', 'r')"""
    with _writing(url, password_from) as connection:
        made = [
            (target, "VIEW" if view else "TABLE", str(said))
            for target, view, said in connection.execute(sa.text(of_source))
            if (own := _made_of(said)) is not None and own.casefold() == name.casefold()
        ]
        mark = " Retired" + (f", replaced by {replaced_by}" if replaced_by else "") + "."
        for target, kind, said in made:
            text = exp.Literal.string(said if mark in said else said + mark).sql(dialect=DIALECT)
            one = f"DROP {kind} {target}" if drop else f"COMMENT ON {kind} {target} IS {text}"
            connection.exec_driver_sql(one.replace("%", "%%"))
    return [target for target, _, _ in made]


@contextmanager
def _writing(url: str, password_from: str) -> Iterator[sa.Connection]:
    """A connection that may write, in one transaction. Raises UnusableInput where the database refuses."""
    if password_from:
        agree(password_from, url)
    spec = OriginSpec(kind="database", url=url, password_from=password_from, table="x")
    engine = engine_of(spec, Path(), writing=True)
    try:
        with engine.begin() as connection:
            yield connection
    except sa.exc.SQLAlchemyError as error:
        said = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
        raise UnusableInput("database", f"The database refuses: {said}.", hint="Nothing was changed.") from None


def _made_of(comment: str | None) -> str | None:
    """The source that a view or table was made of, from its comment; None where it was not made so."""
    own = re.match(r"(.+), version \d+ \(", comment or "")
    return None if own is None else own[1]


def _refuse_taken(connection: sa.Connection, view: View) -> None:
    """Raise OakError where something of that name is there which was not made so: it is not replaced."""
    row = connection.execute(
        sa.text("SELECT to_regclass(:name) IS NOT NULL, obj_description(to_regclass(:name))"), {"name": view.name}
    ).one()
    own = _made_of(row[1])
    name = view.about.rpartition(", version ")[0]
    if row[0] and own != name:
        whose = "was not made by oak export view" if own is None else f"is of {own}, another source"
        raise OakError("view-taken", f"The database has {view.name} already, and it {whose}.", hint="Choose another name: --name.")  # fmt: skip


def _grants(connection: sa.Connection, view: View) -> list[str]:
    """What gives the rights on a view or table again that is there now, and will be replaced."""
    rights = """
        SELECT privilege_type, CASE grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(grantee)) END, is_grantable
        FROM pg_class, aclexplode(relacl) WHERE pg_class.oid = to_regclass(:name) AND grantee <> relowner"""
    result = connection.execute(sa.text(rights), {"name": view.name})
    return [f"GRANT {right} ON {view.name} TO {to}{' WITH GRANT OPTION' if more else ''}" for right, to, more in result]


def _where(address: str) -> tuple[object, ...]:
    """Which database an address is of, whoever asks."""
    url = sa.make_url(address)
    query = {name: value for name, value in url.query.items() if name == "host"}
    return (backend_of(address), url.host, url.port or 5432, url.database, *query.items())


def _fill(connection: sa.Connection, view: View, source: Source) -> int:
    fields, _ = _fields(source)
    table = source.rows([quote_identifier(field.name) for field in fields]).table
    cursor = connection.connection.cursor()
    columns = ", ".join(_quoted(field.name) for field in fields)
    with cursor.copy(f"COPY {view.name} ({columns}) FROM STDIN") as copy:
        for batch in table.to_batches(max_chunksize=COPIED_ROWS):
            for row in zip(*(column.to_pylist() for column in batch.columns), strict=True):
                copy.write_row(row)
    return int(table.num_rows)
