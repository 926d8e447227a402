"""Tables and queries of databases, by SQLAlchemy URLs; types and nulls carried exactly, rows read in batches."""

from __future__ import annotations

import datetime as dt
import math
import re
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from decimal import Decimal
from itertools import accumulate
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pyarrow as pa
import sqlalchemy as sa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.columnar.texts import value_text
from oak_ledger.errors import UnusableInput
from oak_ledger.origin.passwords import password_of
from oak_ledger.origin.reader import BadRow, row_count_batch
from oak_ledger.origin.spec import ReadingSpec
from oak_ledger.types import BOOLEAN, DATE, INTEGER, MAX_DIGITS, NUMBER, TEXT, TIMESTAMP, Type, decimal

BATCH_ROWS = 50_000
# What a session of a server is set to, whatever the role has: values then are written and compared in one way, and nothing is changed.
_SETTINGS = {
    "default_transaction_read_only": "on", "DateStyle": "ISO,YMD", "IntervalStyle": "postgres", "extra_float_digits": "1", "TimeZone": "UTC",
    "standard_conforming_strings": "on", "synchronize_seqscans": "off", "bytea_output": "hex",
}  # fmt: skip


_KNOWN = (
    "Those that can be read: sqlite:///file.db, postgresql://user@host/name, mysql://user@host/name (also for MariaDB)."
)


def backend_of(address: str) -> str:
    """What speaks at a database's address: sqlite, postgresql, mysql."""
    name = sa.make_url(address).get_backend_name()
    return {"postgres": "postgresql", "mariadb": "mysql"}.get(name, name)


def engine_of(spec: ReadingSpec, folder: Path, *, writing: bool = False) -> sa.Engine:
    """The engine for a URL, which only reads unless it is for `writing`; the password comes from the environment or a prompt, never from a file."""
    try:
        url = sa.make_url(spec.url)
        if url.drivername == "postgres":  # as some services write it
            url = url.set(drivername="postgresql")
    except sa.exc.ArgumentError:
        hint = "It is written sqlite:///file.db or postgresql://user@host/name."
        raise UnusableInput("bad-url", f"{spec.url!r} is not a database URL.", hint=hint) from None
    if url.get_backend_name() == "sqlite":
        path = folder / (url.database or "")
        if not path.is_file():
            raise UnusableInput("no-file", f"There is no database file {path}.")
        if not writing:
            return sa.create_engine("sqlite://", creator=lambda: _read_only(path), poolclass=sa.NullPool)
        url = url.set(database=str(path))
    elif spec.password_from:
        url = url.set(password=password_of(spec.password_from, url))
    if url.drivername == "postgresql":
        url = url.set(drivername="postgresql+psycopg")
        given = url.query.get("options", "")
        settings = {} if writing else _SETTINGS
        pinned = " ".join([str(given), *(f"-c {name}={value}" for name, value in settings.items())]).strip()
        url = url.update_query_dict({"options": pinned}) if pinned else url
    if url.drivername in ("mysql", "mariadb"):
        url = url.set(drivername="mysql+pymysql").update_query_dict({"charset": "utf8mb4"})
    try:
        engine = sa.create_engine(url, poolclass=sa.NullPool)
        session = {"postgresql": _loaded_as_text_where_it_must, "mysql": _read_only_session}.get(engine.dialect.name)
        if session is None:
            raise UnusableInput("bad-url", f"{url.get_backend_name()} cannot be read.", hint=_KNOWN)
        if not writing:
            sa.event.listen(engine, "connect", session)
        return engine
    except ImportError as error:
        extra = "mysql" if url.get_backend_name() == "mysql" else "postgresql"
        hint = (
            f"Install it: pip install 'oak-ledger[{extra}]'."
            if url.get_backend_name() in ("mysql", "postgresql")
            else _KNOWN
        )
        raise UnusableInput(
            "no-driver", f"The driver for {url.get_backend_name()} is not installed: {error}.", hint=hint
        ) from None
    except sa.exc.NoSuchModuleError:
        raise UnusableInput("bad-url", f"No database is called {url.drivername!r}.", hint=_KNOWN) from None


def _read_only(path: Path) -> sqlite3.Connection:
    """A SQLite database that nothing can be written to."""
    connection = sqlite3.connect(f"file:{quote(str(path.resolve()))}?mode=ro", uri=True, check_same_thread=False)
    connection.execute("PRAGMA query_only = on")
    return connection


def schema_and_name(table: str) -> tuple[str, str]:
    """A table's schema, which may be empty, and its name; one with a dot in it is in double quotes."""
    parts = re.fullmatch(r'(?:("[^"]+"|[^"]+)\.)?("[^"]+"|[^".]+)', table)
    schema, name = (parts[1] or "", parts[2]) if parts else ("", table)
    return schema.strip('"'), name.strip('"')


def one_select(query: str, backend: str) -> str:
    """A query that can be put in parentheses: one statement that only selects. Raises UnusableInput for anything else, before it is sent."""
    from sqlglot import TokenError, TokenType, tokenize

    try:
        tokens = tokenize(query, read={"postgresql": "postgres"}.get(backend, backend))
    except TokenError:
        tokens = []
    kinds = [token.token_type for token in tokens]
    while kinds and kinds[-1] == TokenType.SEMICOLON:
        kinds.pop()
    depth = [*accumulate((kind == TokenType.L_PAREN) - (kind == TokenType.R_PAREN) for kind in kinds)]
    begins = next((kind for kind in kinds if kind != TokenType.L_PAREN), None) in (
        TokenType.SELECT,
        TokenType.WITH,
        TokenType.VALUES,
    )
    if not begins or TokenType.SEMICOLON in kinds or min(depth) < 0 or depth[-1]:
        message = "A query is one statement that selects rows; this is something else, and was not sent."
        raise UnusableInput("not-a-select", message, hint="Write one SELECT, without a semicolon in it.")
    end = max(token.end for token, _ in zip(tokens, kinds, strict=False)) + 1
    return query[:end]


def tables(spec: ReadingSpec, folder: Path) -> list[str]:
    """The tables and views of a database."""
    engine = engine_of(spec, folder)
    with _guarded(spec):
        inspector = sa.inspect(engine)
        return sorted([*inspector.get_table_names(), *inspector.get_view_names()])


class _guarded:  # noqa: N801 - a context manager that reads like a word
    """Database errors in the writer's words."""

    def __init__(self, spec: ReadingSpec) -> None:
        self.spec = spec

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, sa.exc.SQLAlchemyError):
            said = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
            what = "query" if self.spec.query else f"table {self.spec.table!r}" if self.spec.table else "database"
            raise UnusableInput(
                "database", f"The {what} cannot be read: {said}.", hint="Nothing was changed; oak only reads."
            ) from None


@dataclass(slots=True)
class DatabaseReader:
    """A table or a query."""

    spec: ReadingSpec
    folder: Path
    bad_rows: list[BadRow] = field(default_factory=list)
    kinds: dict[str, Type] = field(default_factory=dict)
    codes: dict[str, int | str] = field(default_factory=dict)
    """What the database calls the type of each column: its number in PostgreSQL's protocol, in SQLite the types of its values."""
    engine: Any = None
    condition: tuple[str, dict[str, str]] | None = None
    """What the rows that are read must meet, in the words of the database, and the texts that fill its holes."""
    left_out: int = 0
    """How many rows do not meet it."""
    allowed: tuple[str, ...] = ()
    """The columns of a table that may be read, where not all may."""

    def columns(self) -> dict[str, Type]:
        """The columns, with their types as the database has them (in SQLite: as its values have them)."""
        if not self.kinds:
            self._check_names()
            with self._guarded(), self._connected() as connection:
                if self.spec.query:
                    self._once(connection)
                self.allowed = self._allowed(connection)
                kinds_of = {"sqlite": _sqlite_kinds, "postgresql": _kinds}.get(self.engine.dialect.name, _mysql_kinds)
                self.kinds, self.codes = kinds_of(connection, self._select())
        return self.kinds

    def _allowed(self, connection: sa.Connection) -> tuple[str, ...]:
        """The columns of a table of PostgreSQL that the role may read, where it may not read all; nothing where it may."""
        if self.engine.dialect.name != "postgresql" or not self.spec.table:
            return ()
        whole = self._select().partition(" from ")[2]
        asked = sa.text(
            "select attname, has_column_privilege(attrelid, attnum, 'select') from pg_attribute "
            "where attrelid = to_regclass(:name) and attnum > 0 and not attisdropped order by attnum"
        )
        found = connection.execute(asked, {"name": whole}).all()
        return () if all(may for _, may in found) else tuple(name for name, may in found if may)

    def _once(self, connection: sa.Connection) -> None:
        """Raise UnusableInput where a query gives two columns of one name."""
        renames = (
            self.engine.dialect.name == "sqlite"
        )  # it calls the second of two columns otherwise in a query around it
        result = connection.exec_driver_sql(self._select() if renames else self._no_rows())
        names = list(result.keys())
        result.close()
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            hint = "Name one of them differently in the query: … AS other_name."
            raise UnusableInput("column-twice", f"The query gives the column {twice!r} twice.", hint=hint)

    def _check_names(self) -> None:
        self.engine = self.engine or engine_of(self.spec, self.folder)
        if bool(self.spec.table) == bool(self.spec.query):
            hint = 'Write table = "…" or query = "…" under [origin].'
            raise UnusableInput("table-or-query", "A database needs either a table or a query.", hint=hint)

    @contextmanager
    def _guarded(self) -> Iterator[None]:
        """Errors in the writer's words; of a table that is not there, with those that are."""
        try:
            with _guarded(self.spec):
                yield
        except UnusableInput:
            there = tables(self.spec, self.folder) if self.spec.table and "." not in self.spec.table else []
            if not self.spec.table or "." in self.spec.table or self.spec.table in there:
                raise
            message = f"The database has no table {self.spec.table!r}."
            raise UnusableInput("unknown-table", message, hint=f"It has {', '.join(there) or 'none'}.") from None

    def _connected(self) -> Any:
        self.engine = self.engine or engine_of(self.spec, self.folder)
        return self.engine.connect()

    def _select(self, columns: Sequence[str] = ()) -> str:
        """The table or the query as a statement for the driver, with some of its columns, or all."""
        prepared = self.engine.dialect.identifier_preparer
        some = ", ".join(map(prepared.quote_identifier, columns or self.allowed)) or "*"
        if self.spec.query:
            query = f"{one_select(self.spec.query, self.engine.dialect.name)}\n"
            if "format" in self.engine.dialect.paramstyle:  # a lone % would begin a parameter
                query = query.replace("%", "%%")
            return f"select {some} from ({query}) as origin" if columns else query
        whole = ".".join(prepared.quote_identifier(part) for part in schema_and_name(self.spec.table) if part)
        return f"select {some} from {whole}"

    def _no_rows(self) -> str:
        """The same without a row: what its columns are is asked, and nothing computed."""
        return f"select * from ({self._select()}) as origin limit 0"

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, in batches as they arrive."""
        kinds = self.columns()
        self.bad_rows.clear()
        listed = ", ".join(map(self._as_read, columns)) or "1"
        statement, given = f"select {listed} from ({self._select()}) as origin", dict[str, str]()
        if self.condition:
            statement, given = f"{statement} where {self.condition[0]}", self.condition[1]
        begin = 0
        with (
            _guarded(self.spec),
            self._connected() as connection,
            connection.execution_options(stream_results=True).exec_driver_sql(statement, given) as result,
        ):
            while rows := result.fetchmany(BATCH_ROWS):
                if not columns:
                    yield row_count_batch(len(rows))
                    continue
                arrays = [
                    self._array(name, kinds[name], [row[at] for row in rows], begin) for at, name in enumerate(columns)
                ]
                yield pa.RecordBatch.from_arrays(arrays, names=list(columns))
                begin += len(rows)

    def _as_read(self, name: str) -> str:
        """A column as it is asked for: what PostgreSQL has of other types comes in its own writing."""
        quoted = str(self.engine.dialect.identifier_preparer.quote_identifier(name))
        code = self.codes.get(name)
        other = self.engine.dialect.name == "postgresql" and self.kinds[name] == TEXT and code not in _POSTGRESQL_TEXTS
        return f"{quoted}::text as {quoted}" if other else quoted

    def _array(self, name: str, kind: Type, values: list[Any], begin: int) -> pa.Array:
        """Values as a column; one that the type does not have counts as null, and is noted with its row. NaN and infinity are no value anywhere."""
        made = [_value(value, kind) for value in values]
        for at, value in enumerate(made):
            if value is None and values[at] is not None and not _is_no_number(values[at]):
                why = f"{name} holds {values[at]}, which is no {kind.kind}; it counts as null"
                self.bad_rows.append(
                    BadRow(self.spec.table or "the query", begin + at + 1, why, str(values[at]), kept=True)
                )
        return pa.array(made, arrow_type(kind))

    def locate(self, row: int) -> str:
        """Nothing better than the number, counted among the rows that are read."""
        return "of those that the database gave" if self.condition else ""


# The type numbers of PostgreSQL's wire protocol.
_POSTGRESQL: dict[int, Type] = {
    16: BOOLEAN, 20: INTEGER, 21: INTEGER, 23: INTEGER, 26: INTEGER, 700: NUMBER, 701: NUMBER, 1082: DATE, 1114: TIMESTAMP, 1184: TIMESTAMP,
}  # fmt: skip
_POSTGRESQL_TEXTS = frozenset({18, 19, 25, 1042, 1043})
_NUMERIC = 1700
MOST_DECIMALS = 9  # of a numeric without a scale that is read as a decimal; of more, its writing is judged


def _kinds(connection: sa.Connection, statement: str) -> tuple[dict[str, Type], dict[str, int | str]]:
    """The types of PostgreSQL's columns. A numeric without a scale has the one that its values need."""
    result = connection.exec_driver_sql(f"select * from ({statement}) as origin limit 0")
    cursor: Any = result.cursor
    codes: dict[str, int | str] = {column.name: column.type_code for column in cursor.description}
    scales = {column.name: column.scale if column.precision is not None else None for column in cursor.description}
    result.close()
    free = [name for name, code in codes.items() if code == _NUMERIC and scales[name] is None]
    if free:
        quoted = ['"' + name.replace('"', '""').replace("%", "%%") + '"' for name in free]
        parts = [
            f"max(scale({one})), max(length(trunc(abs({one}))::text)) filter (where {one}::text !~ 'N|I')"
            for one in quoted
        ]
        row = connection.exec_driver_sql(f"select {', '.join(parts)} from ({statement}) as origin").one()
        for at, name in enumerate(free):
            scale, whole = row[2 * at] or 0, row[2 * at + 1] or 0
            scales[name] = scale if scale <= MOST_DECIMALS and whole + scale <= MAX_DIGITS else None
    kinds = {}
    for name, code in codes.items():
        scale = scales[name]
        kinds[name] = _POSTGRESQL.get(int(code), TEXT) if code != _NUMERIC or scale is None else decimal(scale)
    return kinds, codes


def _sqlite_kinds(connection: sa.Connection, inner: str) -> tuple[dict[str, Type], dict[str, int | str]]:
    """SQLite types values and not columns: a column has the type that all its values share."""
    names = list(connection.exec_driver_sql(f"select * from ({inner}) as origin limit 0").keys())
    quoted = ['"' + name.replace('"', '""') + '"' for name in names]
    parts = [f"group_concat(distinct typeof({name}))" for name in quoted]
    row = connection.exec_driver_sql(f"select {', '.join(parts)} from ({inner})").one()
    known = {frozenset({"integer"}): INTEGER, frozenset({"real"}): NUMBER, frozenset({"integer", "real"}): NUMBER}
    codes: dict[str, int | str] = {
        name: ",".join(sorted({*str(kinds or "text").split(",")} - {"null"}))
        for name, kinds in zip(names, row, strict=True)
    }
    return {name: known.get(frozenset(str(kinds).split(",")), TEXT) for name, kinds in codes.items()}, codes


# Those of MySQL's and MariaDB's.
_MYSQL: dict[int, Type] = {
    1: INTEGER, 2: INTEGER, 3: INTEGER, 8: INTEGER, 9: INTEGER, 13: INTEGER, 4: NUMBER, 5: NUMBER, 10: DATE, 7: TIMESTAMP, 12: TIMESTAMP,
}  # fmt: skip
_MYSQL_DECIMALS = (0, 246)


def _mysql_kinds(connection: sa.Connection, statement: str) -> tuple[dict[str, Type], dict[str, int | str]]:
    """The types of MySQL's columns."""
    result = connection.exec_driver_sql(f"select * from ({statement}) as origin limit 0")
    cursor: Any = result.cursor
    found = {
        column[0]: decimal(column[5]) if column[1] in _MYSQL_DECIMALS else _MYSQL.get(column[1], TEXT)
        for column in cursor.description
    }
    codes: dict[str, int | str] = {column[0]: column[1] for column in cursor.description}
    result.close()
    return found, codes


def _loaded_as_text_where_it_must(connection: Any, _record: Any) -> None:
    """Dates that Python has not (infinite ones, years before 1 and after 9999) come as their texts, so that one does not stop all others."""
    import psycopg
    from psycopg.types.datetime import DateLoader, TimestampLoader, TimestamptzLoader

    for name, base in (("date", DateLoader), ("timestamp", TimestampLoader), ("timestamptz", TimestamptzLoader)):

        def load(self: Any, data: Any, base: Any = base) -> Any:
            try:
                return base.load(self, data)
            except psycopg.DataError:
                return bytes(data).decode()

        connection.adapters.register_loader(name, type(base.__name__, (base,), {"load": load}))


def _read_only_session(connection: Any, _record: Any) -> None:
    """A session of MySQL in which nothing can be written, in universal time."""
    with connection.cursor() as cursor:
        cursor.execute("set session transaction read only")
        cursor.execute("set session time_zone = '+00:00'")


_RANGE = range(-(2**63), 2**63)
_PYTHON: dict[str, Any] = {"date": dt.date, "timestamp": dt.datetime, "boolean": bool}


def _value(value: Any, kind: Type) -> Any:
    """A value of the driver's as one of a type; None where it is none of it."""
    if value is None:
        return None
    if kind == TEXT:
        return value if isinstance(value, str) else _other_text(value)
    if kind == NUMBER:
        number = float(value)
        return number if number - number == 0 else None
    if kind == TIMESTAMP and isinstance(value, dt.datetime) and value.tzinfo is not None:
        return value.astimezone(dt.UTC).replace(tzinfo=None)
    if kind.kind == "decimal":
        fits = isinstance(value, Decimal) and value.is_finite() and -value.as_tuple().exponent <= kind.scale  # type: ignore[operator]
        return value if fits else None
    if kind == INTEGER:
        return value if isinstance(value, int) and value in _RANGE else None
    return value if isinstance(value, _PYTHON[kind.kind]) else None


def _is_no_number(value: Any) -> bool:
    """Whether it is NaN or infinite."""
    return isinstance(value, (float, Decimal)) and not math.isfinite(value)


def _other_text(value: Any) -> str:
    """A value that is not text, as text; bytes that are not UTF-8 by their digits."""
    if isinstance(value, bytes):
        try:
            return value.decode()
        except UnicodeDecodeError:
            return f"\\x{value.hex()}"
    return (value_text(value) if isinstance(value, (bool, int, float, Decimal, dt.date)) else None) or str(value)
