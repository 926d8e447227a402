"""What a client asks of the catalogue: `pg_catalog` and `information_schema` with the sources that a person may see, asked by a general engine in memory."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from threading import Event, Thread
from typing import Any

import duckdb
import pyarrow as pa
from sqlglot import exp
from sqlglot.dialects.postgres import Postgres
from sqlglot.errors import SqlglotError

from oak_ledger.engine.deadline import Deadline
from oak_ledger.errors import OakError
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.insight.additivity import how_it_totals
from oak_ledger.service.sql.language import Node, parsed, refused, title_of, too_much, with_parameters
from oak_ledger.service.sql.values import column_of
from oak_ledger.source import Source
from oak_ledger.types import TEXT, Grain, Type

SYSTEM, INFORMATION = "pg_catalog", "information_schema"
DATABASE = "oak"
_SCHEMAS: Mapping[str, str] = {SYSTEM: "pg", INFORMATION: "info"}
LOOKS = 0.05  # seconds between two looks at the clock
ASK = "information_schema.tables and information_schema.columns have what there is."
_FIRST_OID = 16_384  # of what is not the system's own
_CHANGES = (exp.Insert, exp.Update, exp.Delete, exp.Merge, exp.Create, exp.Drop, exp.Command, exp.Into)
_LISTS = (exp.Unnest, exp.Explode, exp.GenerateSeries)
_OTHER_NAMES: Mapping[str, str] = {"json_build_object": "json_object", "jsonb_build_object": "json_object"}
_NAMES_OF: Mapping[str, str] = {"REGCLASS": "names_of_classes", "REGTYPE": "names_of_types"}
_INFORMATION_TYPES: Mapping[str, str] = {
    "text": "text", "integer": "bigint", "number": "double precision", "decimal": "numeric", "boolean": "boolean", "date": "date", "timestamp": "timestamp without time zone",
}  # fmt: skip
REPORTED: Mapping[str, str] = {
    "server_version": "15.0", "server_encoding": "UTF8", "client_encoding": "UTF8", "DateStyle": "ISO, MDY", "IntervalStyle": "postgres", "TimeZone": "UTC",
    "integer_datetimes": "on", "standard_conforming_strings": "on", "is_superuser": "off", "default_transaction_read_only": "on", "in_hot_standby": "off",
}  # fmt: skip
"""The settings that are sent when a connection begins."""
_SETTINGS: Mapping[str, str] = {name.casefold(): value for name, value in REPORTED.items()} | {
    "server_version_num": "150000", "transaction_isolation": "repeatable read", "transaction_read_only": "on", "max_identifier_length": "63", "extra_float_digits": "1",
    "bytea_output": "hex", "lc_collate": "C", "lc_ctype": "C", "statement_timeout": "0", "application_name": "", "max_index_keys": "32",
}  # fmt: skip


def is_of_system(tree: Node) -> bool:
    """Whether a statement asks the catalogue, or nothing at all. Raises OakError where it asks a source along with it."""
    if not isinstance(tree, exp.Query) or tree.find(*_CHANGES) is not None:
        raise refused("A statement that does more than ask", "There is SELECT.")
    named = {node.alias.casefold() for node in tree.find_all(exp.CTE)}
    tables = [node for node in tree.find_all(exp.Table) if isinstance(node.this, exp.Identifier) and (node.db or node.name.casefold() not in named)]  # fmt: skip
    own = [_schema(table) != "" for table in tables]
    if any(own) and not all(own):
        raise refused("A statement that reads a source along with the catalogue")
    return all(own)


def _schema(table: exp.Table) -> str:
    """The schema of the system that a table is in; empty for a source."""
    if table.db.casefold() in _SCHEMAS:
        return _SCHEMAS[table.db.casefold()]
    return "pg" if not table.db and table.name.casefold().startswith("pg_") else ""


class Catalog:
    """The catalogue as one person sees it: sources with the schema that each is in."""

    def __init__(self, person: str, sources: Sequence[tuple[str, Source]]) -> None:
        self.person = person
        self.areas = [*dict.fromkeys(area for area, _ in sources)] or ["public"]
        self.engine = duckdb.connect(":memory:", config={"threads": 1, "memory_limit": "256MB", "enable_external_access": "false", "autoinstall_known_extensions": "false", "autoload_known_extensions": "false"})  # fmt: skip
        self.engine.execute(_script())
        for name, table in _contents(person, sources).items():
            self.engine.register("filled", table)
            self.engine.execute(f"INSERT INTO {name} BY NAME SELECT * FROM filled")
            self.engine.unregister("filled")
        self.engine.execute("SET lock_configuration = true")

    def ask(self, text: str, values: Mapping[int, tuple[Any, Type | None]], until: Deadline, most: int) -> pa.Table:
        """The answer to a statement, of at most so many rows. Raises OakError for one that is not understood, and when its time is over."""
        tree = parsed(text, Postgres)
        if isinstance(tree, exp.Select):
            tree.set("expressions", [_named(expression) for expression in tree.expressions])
        tree = with_parameters(tree, values)
        try:
            with self.engine.cursor() as own, _interrupted(own, until):
                found = _plain(own.sql(self._written(tree)).limit(most + 1).to_arrow_table())
        except duckdb.InterruptException:
            raise until.error() or refused("This") from None
        except (duckdb.Error, SqlglotError, pa.ArrowException, RecursionError) as error:
            what = str(error).partition("\n")[0]
            raise OakError("not-in-sql", f"The catalogue does not answer this: {what}") from None
        if found.num_rows > most:
            raise too_much(most)
        return found

    def _written(self, tree: Node) -> str:
        """A statement as the engine reads it."""
        named = {node.alias.casefold() for node in tree.find_all(exp.CTE)}
        for node in reversed([*tree.walk(bfs=False)]):  # the innermost first
            expression = self._said(node, named)
            if expression is not node:
                tree = expression if node is tree else tree
                node.replace(expression)
        return tree.sql(dialect="duckdb", comments=False)

    def _said(self, node: Node, named: set[str]) -> Node:
        """A piece of a statement as the engine says it."""
        if isinstance(node, exp.Table):
            return _table(node, named)
        if isinstance(node, exp.Column) and node.db:
            node.set("db", None)
        if isinstance(node, exp.Dot) and isinstance(node.expression, exp.Func):  # a function with its schema
            called: Node = node.expression
            return called
        if isinstance(node, exp.Collate):
            inner: Node = node.this
            return inner
        if isinstance(node, exp.Operator):
            return _operator(node)
        if isinstance(node, exp.Cast):
            return _cast(node)
        if isinstance(node, (exp.EQ, exp.NEQ)) and isinstance(node.this, exp.Column) and isinstance(node.expression, exp.Literal) and node.this.name.startswith("typ") and node.expression.name == "0" and node.this.name.endswith(("receive", "send", "input", "output")):  # fmt: skip
            node.set("expression", exp.Literal.string("-"))
        session: dict[type[Node], str] = {exp.CurrentUser: self.person, exp.SessionUser: self.person, exp.CurrentSchema: self.areas[0], exp.CurrentCatalog: DATABASE}  # fmt: skip
        if type(node) in session:
            return exp.Literal.string(session[type(node)])
        if isinstance(node, exp.Func) and node.sql_name() == "CURRENT_DATABASE":
            return exp.Literal.string(DATABASE)
        if isinstance(node, exp.Anonymous):
            return self._function(node)
        return node

    def _function(self, node: exp.Anonymous) -> Node:
        name = node.name.casefold()
        if name in ("current_database", "current_catalog"):
            return exp.Literal.string(DATABASE)
        if name == "current_schemas":
            return exp.Array(expressions=[*map(exp.Literal.string, self.areas)])
        if name in _OTHER_NAMES:
            return exp.Anonymous(this=_OTHER_NAMES[name], expressions=node.expressions)
        if name not in _macros() and name != "generate_subscripts":
            raise refused(f"The function {node.name}", ASK)
        return node


def _named(node: Node) -> Node:
    plain = isinstance(node, (exp.Alias, exp.Column, exp.Star, exp.Aliases))
    return node if plain else exp.alias_(node, title_of(node), quoted=True)


def _table(node: exp.Table, named: set[str]) -> Node:
    if not isinstance(node.this, exp.Identifier):
        if isinstance(node.this, _LISTS) or _called(node.this) == "generate_subscripts":
            node.set("db", None)
            return node
        raise refused(f"The function {_called(node.this)}", ASK)
    if not node.db and node.name.casefold() in named:
        return node
    schema = _schema(node)
    node.set("this", exp.to_identifier(node.name.casefold()))
    node.set("catalog", None)
    if schema and not node.alias:
        node.set("alias", exp.TableAlias(this=exp.to_identifier(node.name.casefold())))
    node.set("db", exp.to_identifier(schema or "pg"))
    return node


def _called(node: Node) -> str:
    return (node.name if isinstance(node, exp.Anonymous) else node.key).casefold()


def _operator(node: exp.Operator) -> Node:
    """An operator with its schema, such as OPERATOR(pg_catalog.~)."""
    sign = str(node.args["operator"]).rpartition(".")[2]
    kinds: Mapping[str, type[Node]] = {"~": exp.RegexpLike, "=": exp.EQ, "~~": exp.Like}
    if sign == "!~":
        return exp.Not(this=exp.RegexpLike(this=node.this, expression=node.expression))
    if sign not in kinds:
        raise refused(f"The operator {sign}")
    return kinds[sign](this=node.this, expression=node.expression)


def _cast(node: exp.Cast) -> Node:
    """A cast to a type that the engine does not have: names are texts, and what has a number is its number."""
    name = node.to.sql(dialect="postgres").upper().rpartition(".")[2].strip('"')
    given = node.this.name if isinstance(node.this, exp.Literal) and node.this.is_string else ""
    if name == "REGPROC":
        return exp.Literal.string(given.rpartition(".")[2]) if given else node.this
    if name in _NAMES_OF:
        if given and not given.isdigit():
            return exp.Anonymous(this=f"to_{name.casefold()}", expressions=[node.this])
        if not given:
            of_number = exp.EQ(this=exp.column("its_number"), expression=node.this)
            return exp.select("its_name").from_(exp.table_(_NAMES_OF[name], db="pg")).where(of_number).subquery()
    if name in ("OID", *_NAMES_OF):
        return exp.Cast(this=node.this, to=exp.DataType.build("BIGINT"))
    if name in ("NAME", "CHAR", "CSTRING", "PG_NODE_TREE", "REGNAMESPACE", "REGROLE", "XID"):
        return exp.Cast(this=node.this, to=exp.DataType.build("VARCHAR"))
    if node.to.this == exp.DataType.Type.USERDEFINED:
        return exp.Cast(this=node.this, to=exp.DataType.build(name, dialect="postgres"))
    return node


@cache
def _macros() -> frozenset[str]:
    return frozenset(re.findall(r"CREATE MACRO (\w+)\(", _script()))


@contextmanager
def _interrupted(engine: duckdb.DuckDBPyConnection, until: Deadline) -> Iterator[None]:
    """Interrupt the engine when the time of a question is over, or when it is cancelled."""
    done = Event()

    def watch() -> None:
        while not done.wait(LOOKS):
            if until.error() is not None:
                engine.interrupt()

    watching = Thread(target=watch, daemon=True)
    watching.start()
    try:
        yield
    finally:
        done.set()
        watching.join()


def _plain(table: pa.Table) -> pa.Table:
    """A table with types that can be sent."""
    made = []
    for column in table.columns:
        kind = column.type
        plain = pa.types.is_integer(kind) or pa.types.is_boolean(kind) or pa.types.is_floating(kind) or pa.types.is_list(kind)  # fmt: skip
        made.append(column if plain else column.cast(pa.string()))
    return pa.table(made, names=table.column_names)


@cache
def _script() -> str:
    return Path(__file__).with_name("system.sql").read_text("utf-8")


def _contents(person: str, sources: Sequence[tuple[str, Source]]) -> dict[str, pa.Table]:
    """The rows of the catalogue's tables that say what there is."""
    areas = [*dict.fromkeys(area for area, _ in sources)]
    spaces = {area: 2_200 + at for at, area in enumerate(areas)} | {SYSTEM: 11, INFORMATION: 13_000}
    rows: dict[str, list[dict[str, Any]]] = {
        "pg.pg_namespace": [{"oid": number, "nspname": name, "nspowner": 10} for name, number in spaces.items()],
        "info.schemata": [{"catalog_name": DATABASE, "schema_name": name, "schema_owner": "oak"} for name in spaces],
        "pg.pg_database": [{"oid": 1, "datname": DATABASE, "datdba": 10, "encoding": 6, "datistemplate": False, "datallowconn": True, "datcollate": "C", "datctype": "C", "datlocprovider": "c"}],
        "pg.pg_roles": [{"oid": 10, "rolname": person, "rolsuper": False, "rolinherit": True, "rolcanlogin": True, "rolcreaterole": False, "rolcreatedb": False, "rolreplication": False, "rolbypassrls": False, "rolconnlimit": -1}],
        "pg.pg_settings": [{"name": name, "setting": value, "category": "", "context": "internal", "vartype": "string", "source": "default"} for name, value in {**_SETTINGS, "search_path": ", ".join(map(quote_identifier, areas))}.items()],
    }  # fmt: skip
    for at, (area, source) in enumerate(sources):
        _describe(rows, area, spaces[area], _FIRST_OID + at, source)
    return {name: pa.Table.from_pylist(found) for name, found in rows.items() if found}


def _describe(rows: dict[str, list[dict[str, Any]]], area: str, space: int, oid: int, source: Source) -> None:
    fields = [field for field in source.fields if not field.hidden and not field.broken and field.type is not None]
    whole = {"table_catalog": DATABASE, "table_schema": area, "table_name": source.name}

    def add(table: str, **row: Any) -> None:
        rows.setdefault(table, []).append(row)

    add("pg.pg_class", oid=oid, relname=source.name, relnamespace=space, reltype=0, reloftype=0, relowner=10, relam=0, reltablespace=0, relpages=0, reltuples=-1.0, relhasindex=False, relisshared=False, relpersistence="p", relkind="v", relnatts=len(fields), relchecks=0, relhasrules=False, relhastriggers=False, relhassubclass=False, relrowsecurity=False, relforcerowsecurity=False, relispopulated=True, relreplident="n", relispartition=False, reltoastrelid=0)  # fmt: skip
    add("info.tables", **whole, table_type="VIEW", is_insertable_into="NO", is_typed="NO")
    add("info.views", **whole, check_option="NONE", is_updatable="NO", is_insertable_into="NO")
    add("pg.pg_views", schemaname=area, viewname=source.name, viewowner="oak", definition="")
    if source.about.description:
        add("pg.pg_description", objoid=oid, classoid=1259, objsubid=0, description=source.about.description)
    for number, state in enumerate(fields, 1):
        kind = state.type or TEXT
        column = column_of(state.name, kind)
        add("pg.pg_attribute", attrelid=oid, attname=state.name, atttypid=column.type, attlen=column.size, attnum=number, attndims=0, atttypmod=column.modifier, attbyval=column.size > 0, attstorage="p", attnotnull=False, atthasdef=False, atthasmissing=False, attidentity="", attgenerated="", attisdropped=False, attislocal=True, attinhcount=0, attcollation=0)  # fmt: skip
        numeric = (38, kind.scale) if kind.kind == "decimal" else (64, 0) if kind.kind == "integer" else (53, None) if kind.kind == "number" else (None, None)  # fmt: skip
        add("info.columns", **whole, column_name=state.name, ordinal_position=number, is_nullable="YES", data_type=_INFORMATION_TYPES.get(kind.kind, "text"), numeric_precision=numeric[0], numeric_scale=numeric[1], numeric_precision_radix=10 if kind.kind == "decimal" else 2 if kind.numeric else None, datetime_precision=6 if kind.kind == "timestamp" else None, udt_catalog=DATABASE, udt_schema=SYSTEM, udt_name=_udt(column.type), is_updatable="NO", is_identity="NO", is_generated="NEVER", dtd_identifier=str(number))  # fmt: skip
        said = getattr(state.spec, "description", "")
        per = f"A measure: one value per group, {how_it_totals(source, state)}." if state.grain == Grain.GROUP else ""  # fmt: skip
        if said or per:
            add("pg.pg_description", objoid=oid, classoid=1259, objsubid=number, description=" ".join(filter(None, (said, per))))  # fmt: skip


def _udt(number: int) -> str:
    return {25: "text", 20: "int8", 701: "float8", 1700: "numeric", 16: "bool", 1082: "date", 1114: "timestamp"}[number]
