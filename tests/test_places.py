"""Questions computed where the rows are: our own SQL against what is computed here, over a real PostgreSQL."""

from __future__ import annotations

import random
import re
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
from typing import Any

import psycopg
import sqlalchemy as sa

import oak_ledger as oak
from oak_ledger.functions.registry import LIBRARY
from oak_ledger.places.dialects import BUILT, DIALECTS
from oak_ledger.places.translate import sql_type
from tests import every_place, server
from tests.every_place import FORMULAS, R, table_of_literals
from tests.support import FolderCase


class InPostgresql(every_place.EveryPlace):
    """Random formulas said by us and computed by the server."""

    def at_value(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.DataError)

    dialect, stops = "postgresql", psycopg.Error

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        connection = psycopg.connect(server.start(cls, "our own SQL in PostgreSQL"), autocommit=True)
        cls.addClassCleanup(connection.close)
        for name, source in (("r", cls.source), ("v", cls.constants), ("e", cls.edges)):
            table = source.rows().table
            columns = ", ".join(
                f'"{one.name}" {sql_type(one.type).sql("postgres")}' for one in source.fields if one.type is not None
            )
            connection.execute(f"create table {name} ({columns})".encode())
            holes = ", ".join(["%s"] * table.num_columns)
            for row in zip(*(one.to_pylist() for one in table.columns), strict=True):
                connection.execute(f"insert into {name} values ({holes})".encode(), row)
        cls.ask = lambda _, text: connection.execute(text).fetchall()  # type: ignore[assignment,misc]


class InDuckdb(every_place.EveryPlace):
    """The same statements as duckdb reads them."""

    def at_value(self, error: Exception) -> bool:
        import duckdb

        return isinstance(error, (duckdb.ConversionException, duckdb.OutOfRangeException, duckdb.InvalidInputException))

    dialect, calendar = "duckdb", False

    @classmethod
    def setUpClass(cls) -> None:
        import duckdb

        super().setUpClass()
        connection = duckdb.connect()
        cls.addClassCleanup(connection.close)
        for name, table in (("r", R), ("v", table_of_literals()), ("e", cls.table)):
            connection.register(f"{name} here", table)
            connection.execute(f'create table {name} as select * from "{name} here"')
        cls.stops, cls.ask = duckdb.Error, lambda _, text: connection.execute(text).fetchall()  # type: ignore[assignment,misc]


class InSqlite(every_place.EveryPlace):
    """Whole numbers and texts, as SQLite reads the statements."""

    def at_value(self, error: Exception) -> bool:
        return str(error) == "integer overflow"

    dialect, stops, least, formulas = "sqlite", sqlite3.Error, 0.15, 3 * FORMULAS

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        connection = sqlite3.connect(":memory:")
        cls.addClassCleanup(connection.close)
        kinds = {"integer": "integer", "text": "text", "boolean": "integer"}
        for name, source in (("r", cls.source), ("v", cls.constants), ("e", cls.edges)):
            columns = {one.name: kinds[one.type.kind] for one in source.fields if one.type and one.type.kind in kinds}
            connection.execute(f"create table {name} ({', '.join(' '.join(one) for one in columns.items())})")
            rows = zip(*(one.to_pylist() for one in source.rows([*columns]).table.columns), strict=True)
            connection.executemany(f"insert into {name} values ({', '.join('?' * len(columns))})", rows)
        cls.ask = lambda _, text: connection.execute(text).fetchall()  # type: ignore[assignment,misc]


class Library(unittest.TestCase):
    def test_every_function_is_said_or_refused_with_a_reason(self) -> None:
        for dialect in DIALECTS.values():
            known = {re.split("[:, ]", name)[0] for name in (*dialect.said, *dialect.refused, *BUILT)}
            wanted = {name for name in LIBRARY.entries if name.partition("_")[0] not in known}
            if dialect.name != "sqlite":
                self.assertEqual(
                    wanted - known - ({"PLAIN_NUMBER"} if dialect.reads_texts else set()), set(), dialect.name
                )


class InTheDatabase(FolderCase):
    """A source whose rows are in a database is asked there, and gives what it gives here."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.uri = server.start(cls, "questions asked in PostgreSQL")

    def setUp(self) -> None:
        super().setUp()
        server.execute(
            self.uri,
            [
                "drop schema if exists yard cascade",
                "create schema yard",
                'create table yard."Load tickets" (id bigint, mill text, volume numeric(9,2), cost float8, day date)',
            ],
        )
        chance = random.Random(5)
        rows = [
            (at, chance.choice(["Low Weir", "high ford", "Ember Quay", None, ""]), chance.choice([None, round(chance.uniform(0, 40), 2)]), chance.choice([None, round(chance.uniform(1, 90), 3)]), f"2026-0{chance.randrange(1, 7)}-1{chance.randrange(10)}")
            for at in range(1, 3001)
        ]  # fmt: skip
        with psycopg.connect(self.uri) as connection, connection.cursor() as cursor:
            cursor.executemany('insert into yard."Load tickets" values (%s, %s, %s, %s, %s)', rows)
        url = sa.make_url(self.uri)
        source = oak.intake(
            url=url.render_as_string(hide_password=False),
            table="yard.Load tickets",
            name="Tickets",
            definition="t.oak.toml",
        ).source
        source = source.with_field("Rate", "SUM(Cost) / SUM(Volume)", format="0.00")
        source = source.with_field(
            "Size", "CASE WHEN Volume < 10 THEN 'small' WHEN Volume < 30 THEN 'middle' ELSE 'large' END"
        )
        source = source.with_field("Net", "Cost - COALESCE(Volume, 0)").with_field("Month", "EXTRACT(MONTH FROM Day)")
        self.source = source.with_entry("filter", "Real", where="Volume > 0", always=True)
        self.source.save("t.oak.toml")

    QUESTIONS: tuple[dict[str, Any], ...] = (
        {"show": ["COUNT(*)"]},
        {"by": ["Mill"], "show": ["Volume", "Rate", "Net"]},
        {"by": ["Mill", "Size"], "show": ["Volume", ("Loads", "COUNT(*)")], "sort": ["-Volume"], "limit": 4},
        {
            "by": ["Month"],
            "show": ["Net", ("Share", "SUM(Volume) / SUM(SUM(Volume)) OVER ()")],
            "where": "Cost > 20 AND Mill IS NOT NULL",
        },
        {
            "by": [("First", "LEFT(Mill, 1)")],
            "show": [("Mills", "COUNT(DISTINCT Mill)"), ("Middle", "MEDIAN(Cost)")],
            "totals": True,
        },
        {"by": ["Mill"], "show": ["Volume"], "where": "Volume > 1000"},
        {"show": ["Volume"], "where": "Volume > 1000", "totals": True},
        {
            "by": ["Size"],
            "show": [("Last", "MAX(Day)"), ("Rank", "RANK() OVER (ORDER BY SUM(Volume) DESC)")],
            "sort": ["Rank"],
        },
        {
            "by": ["Mill"],
            "show": [
                ("Typical", "MEDIAN(SUM(Volume) PER (Month))"),
                ("Of", "COUNT(*) FILTER (WHERE COUNT(*) PER (Month) > 90)"),
                "Volume",
            ],
            "where": ["Cost > 20", "MAX(SUM(Volume) PER (Month)) > 300"],
            "totals": False,
        },
        {
            "by": ["Size", "Month"],
            "show": [("Deep", "MAX(AVG(SUM(Volume) PER (Mill, Day)) PER (Mill))")],
            "totals": True,
            "sort": ["-Deep"],
            "limit": 3,
        },
        {
            "show": [("Days", "COUNT(SUM(Volume) PER (Day))"), ("Share", "MAX(SUM(Volume) PER (Mill)) / SUM(Volume)")],
            "where": "Mill = 'none'",
        },
    )

    def test_the_same_answers_as_here(self) -> None:
        for question in self.QUESTIONS:
            with self.subTest(question):
                there, here = (self.source.computed(place).tally(**question) for place in ("origin", "here"))
                self.assertEqual((there.place, here.place), ("origin", "here"))
                self.assertEqual(there.table.schema, here.table.schema)
                self.same(there.to_dicts(), here.to_dicts())
                if question.get("totals"):
                    self.same(there.totals.to_pylist(), here.totals.to_pylist())  # type: ignore[union-attr]
                self.assertEqual(
                    (there.rows_read, there.rows_used, there.groups), (here.rows_read, here.rows_used, here.groups)
                )
                self.assertEqual([one.code for one in there.findings], [one.code for one in here.findings])

    def same(self, left: list[dict[str, Any]], right: list[dict[str, Any]]) -> None:
        self.assertEqual(len(left), len(right))
        for one, other in zip(left, right, strict=True):
            self.assertEqual([*one], [*other])
            for got, wanted in zip(one.values(), other.values(), strict=True):
                if isinstance(wanted, float):
                    self.assertAlmostEqual(got, wanted, delta=1e-9 * max(1.0, abs(wanted)))
                else:
                    self.assertEqual(got, wanted)

    def test_what_cannot_be_said_is_computed_here_and_explained(self) -> None:
        asked: dict[str, Any] = {"by": [("Mill", "UPPER(Mill)")], "show": ["Volume"]}
        answer = self.source.tally(**asked, explain=True)
        self.assertEqual(answer.place, "here")
        self.assertIn("letter case follows other rules", " ".join(one.note for one in answer.steps))
        self.raises("not-in-database", self.source.computed("origin").tally, **asked)
        self.raises("unknown-place", self.source.computed, "moon")

    def test_columns_of_every_type_have_the_values_that_they_have_here(self) -> None:
        server.execute(self.uri, [
            "create table yard.odd (g int, r real, f float8, n numeric, m numeric(9,2), z timestamptz, w timestamp, s varchar(9), c char(5), j json, u uuid, small smallint)",
            "insert into yard.odd values (1, 0.1, 'NaN', 'NaN', 1.5, '2026-01-01 00:30+02', '2026-01-01', 'a', 'b', '{\"k\": 1}', gen_random_uuid(), 3)",
            "insert into yard.odd values (1, 2.7, 'Infinity', 1.25, 'NaN', '2026-07-01 12:00-05', null, null, 'b', null, null, null), (2, null, 4, 2, 3, null, '2026-02-02', 'x', null, '[]', null, 7)",
        ])  # fmt: skip
        source = oak.intake(
            url=self.uri, table="yard.odd", name="Odd", definition="odd.oak.toml", keep_names=True
        ).source
        names = [state.name for state in source.fields if state.type is not None]
        said = set()
        for name in names:
            measures = [("x", f"COUNT({name})"), ("low", f"MIN({name})"), ("high", f"MAX({name})")]
            if source.state(name).type.numeric:  # type: ignore[union-attr]
                measures.append(("sum", f"SUM({name})"))
            with self.subTest(name):
                there, here = (source.computed(place).tally(["g"], measures) for place in ("", "here"))
                self.same(there.to_dicts(), here.to_dicts())
                said |= {name} if there.place == "origin" else set()
        self.assertEqual(set(names) - said, {"c", "j", "u"})

    def test_only_the_columns_that_are_needed_are_read(self) -> None:
        """Here too, of a table and of a query, whatever its columns are called; a colon in a query is a colon."""
        server.execute(
            self.uri,
            [
                'create view yard.strict as select id, mill, 1 / (id - id) as trap, \'a:b\' as ":c d" from yard."Load tickets"'
            ],
        )
        for place in ({"table": "yard.strict"}, {"query": "select *, '12:30'::text as at from yard.strict"}):
            with self.subTest(place):
                text = '[source]\nname = "S"\n\n[origin]\nkind = "database"\nurl = "{}"\n{} = "{}"\n'.format(
                    self.uri, *next(iter(place.items()))
                )
                for column in ("id", "mill", ":c d", "trap"):
                    text += f'\n[[field]]\nname = "{column.strip(":")}"\ncolumn = "{column}"\n'
                source = oak.open_source(self.write("strict.oak.toml", text)).computed("here")
                self.assertEqual(source.rows(["c d"], limit=1).to_dicts(), [{"c d": "a:b"}])
                self.assertEqual(source.tally(show=["COUNT(*)"]).value(), 3000)
                with self.assertRaises(oak.OakError):
                    source.rows(["trap"])
        database = sqlite3.connect("x.db")
        database.executescript("create table t (a integer, b text); insert into t values (1, 'x:y'), (2, 'z');")
        database.close()
        source = oak.intake(
            url="sqlite:///x.db", query="select a, b, 'q:r' as c from t", name="Q", definition="q.oak.toml"
        ).source
        self.assertEqual(source.rows(["C", "A"], limit=1).to_dicts(), [{"C": "q:r", "A": 1}])

    def test_a_value_that_is_a_fault_is_reported_with_its_row(self) -> None:
        source = self.source.with_field("Odd", "100 / (Id - 7)")
        answer = source.tally(show=[("x", "MAX(Odd)")])
        self.assertEqual(answer.place, "here")
        self.assertEqual([one.rows for one in answer.faults], [1])
        self.raises("not-in-database", source.computed("origin").tally, show=[("x", "MAX(Odd)")])
        for formula in (
            "MAX(CAST(Id AS DECIMAL(5,2)))",
            "SUM(CAST(Volume AS DECIMAL(3,2)))",
            "MAX(Id * 9000000000000000)",
        ):
            answer, here = (self.source.computed(place).tally(show=[("x", formula)]) for place in ("", "here"))
            self.assertEqual((answer.place, answer.to_dicts(), answer.faults), ("here", here.to_dicts(), here.faults))
            self.assertTrue(answer.faults, formula)

    def test_commands(self) -> None:
        said = self.oak("tally", "t", "--by", "Mill", "--show", "Volume")
        self.assertIn("computed in the database", said)
        self.assertEqual(self.oak_json("tally", "t", "--show", "Volume", "--place", "here")["place"], "here")
        text = self.oak("export", "sql", "t", "--by", "Mill", "--show", "Rate", "--sort", "Mill")
        self.assertIn('"yard"."Load tickets"', text)
        with psycopg.connect(self.uri) as connection:
            rows = connection.execute(text.encode()).fetchall()
        own = self.source.tally(["Mill"], ["Rate"], sort=["Mill"]).to_dicts()
        self.assertEqual([row[0] for row in rows], [row["Mill"] for row in own])

    def test_a_view_and_a_table_for_any_client(self) -> None:
        source = self.source.changed(self.source.document.replaced(self.source.block("Cost"), {"hidden": True}))
        source = source.with_changed("Volume", description="In m³, measured at the mill's 'gate'").with_field(
            "Per id", "Volume / (Id - 7)"
        )
        source.save("t.oak.toml")
        self.oak("publish", "t")
        self.oak("release", "Tickets", "--yes")
        url = ("--url", sa.make_url(self.uri).render_as_string(hide_password=False), "--schema", "yard")
        shown = self.oak("export", "view", "Tickets", *url, "--dry-run")
        self.assertIn("CREATE VIEW", shown)
        with psycopg.connect(self.uri, autocommit=True) as client:
            self.assertIsNone(client.execute("select to_regclass('yard.\"Tickets\"')").fetchone()[0])  # type: ignore[index]
            for more, kind in (((), "view"), (("--as-table", "--name", "Tickets table"), "table")):
                name = "Tickets table" if kind == "table" else "Tickets"
                for again in range(2):
                    said = self.oak("export", "view", "Tickets", *url, *more)
                    if not again:
                        client.execute(
                            f'drop role if exists reader; create role reader; grant select on yard."{name}" to reader, public'
                        )
                may = client.execute(f"select has_table_privilege('reader', 'yard.\"{name}\"', 'select')").fetchone()
                self.assertEqual(may, (True,))
                client.execute(f'revoke all on yard."{name}" from reader; drop role reader')
                self.assertIn(f"made: {kind}", said)
                self.assertIn("left out: Rate", said)
                cursor = client.execute(f'select * from yard."{name}" order by "Id"')
                names = [one.name for one in cursor.description or ()]
                self.assertNotIn("Cost", names)
                here = (
                    oak.Catalogue.open("catalogue")
                    .source("Tickets")
                    .rows([f'"{one}"' for one in names], sort=["Id"])
                    .table
                )
                rows = cursor.fetchall()
                self.assertEqual(len(rows), here.num_rows)
                for at, own in enumerate(here.columns):
                    for got, wanted in zip((row[at] for row in rows), own.to_pylist(), strict=True):
                        self.assertTrue(got == wanted or abs(float(got) - wanted) < 1e-9, (names[at], got, wanted))
                comment = client.execute(
                    f"select obj_description('yard.\"{name}\"'::regclass), col_description('yard.\"{name}\"'::regclass, 3)"
                ).fetchone()
                assert comment is not None
                self.assertIn("version 1 (released)", comment[0])
                self.assertIn("rows as they are now" if kind == "view" else "rows of that version", comment[0])
                self.assertEqual(comment[1], "In m³, measured at the mill's 'gate'")
        self.assertIn(
            "view-taken", self.oak("export", "view", "Tickets", *url, "--name", "Load tickets", "--as-table", code=2)
        )
        self.assertIn("The database refuses", self.oak("export", "view", "Tickets", *url[:3], "nowhere", code=3))
        elsewhere = ("--url", url[1].replace("/postgres", "/template1"), "--schema", "public")
        self.assertIn("another database", self.oak("export", "view", "Tickets", *elsewhere, code=2))
        self.assertIn("--views", self.oak("versions", "retire", "Tickets", "--drop-views", "--yes", code=2))
        for more, said, left in (((), "marked as retired: yard.", 2), (("--drop-views",), "dropped: yard.", 0)):
            done = self.oak("versions", "retire", "Tickets", "--yes", "--views", url[1], "--replaced-by", "Yard", *more)
            self.assertIn(said, done)
            with psycopg.connect(self.uri, autocommit=True) as client:
                found = client.execute(
                    "select obj_description(oid) from pg_class where relname in ('Tickets', 'Tickets table') and relnamespace = 'yard'::regnamespace"
                ).fetchall()
            self.assertEqual(len(found), left)
            self.assertTrue(all(one.endswith("Retired, replaced by Yard.") for (one,) in found), found)
            self.oak("release", "Tickets", "1", "--yes")

    def test_a_list_of_rows_in_a_settled_order(self) -> None:
        """By the source's key it is computed there; else here, from the rows that the filter lets through."""
        keyed = self.source.with_key(["Id"])
        asked: dict[str, Any] = {
            "show": ["Id", "Mill", "Net", ("Before", "LAG(Id) OVER (ORDER BY Id)")],
            "sort": ["-Id"],
            "limit": 7,
        }
        there, here = keyed.rows(**asked), keyed.computed("here").rows(**asked)
        self.assertEqual((there.place, here.place), ("origin", "here"))
        self.same(there.to_dicts(), here.to_dicts())
        self.assertEqual((there.rows_read, there.rows_used), (here.rows_read, here.rows_used))
        asked = {"show": ["Id", "Mill", "Cost"], "where": "Mill LIKE '%o%' AND Cost / 2 > 10", "sort": ["Cost"]}
        there, here = keyed.rows(**asked, explain=True), keyed.computed("here").rows(**asked)
        self.assertEqual((there.place, there.to_dicts()), ("here", here.to_dicts()))
        self.assertEqual((there.rows_read, there.rows_used), (here.rows_read, here.rows_used))
        self.assertIn("its order is not settled", " ".join(one.note for one in there.steps))

    def test_the_filter_is_left_to_the_database_where_the_rest_is_computed_here(self) -> None:
        for where, left_out in (
            ("Mill = 'Low Weir'", True), ("Mill LIKE '%er%' OR Size IS NULL", True), ("Volume > 10 AND Day >= DATE '2026-03-01'", True),
            ("POSITION('W' IN Mill) > 1 OR CONTAINS(Mill, 'er')", True), ("100 / Id > 1", False), ("UPPER(Mill) = 'LOW WEIR'", False),
        ):  # fmt: skip
            with self.subTest(where):
                source = self.source.without_entry("filter", "Real")
                asked: dict[str, Any] = {
                    "by": [("Mill", "INITCAP(Mill)")],
                    "show": ["Volume", "COUNT(*)"],
                    "where": where,
                }
                there, here = source.tally(**asked, explain=True), source.computed("here").tally(**asked)
                self.same(there.to_dicts(), here.to_dicts())
                self.assertEqual(
                    (there.rows_read, there.rows_used, there.findings), (here.rows_read, here.rows_used, here.findings)
                )
                self.assertEqual(any("left out there" in one.note for one in there.steps), left_out)
        windowed = self.source.rows(["Id", ("Row", "ROW_NUMBER() OVER (ORDER BY Id)")], where="Mill = 'Low Weir'")
        here = self.source.computed("here").rows(
            ["Id", ("Row", "ROW_NUMBER() OVER (ORDER BY Id)")], where="Mill = 'Low Weir'"
        )
        self.assertEqual(windowed.to_dicts(), here.to_dicts())
        kept: dict[str, Any] = {"by": ["Mill"], "show": [("Middle", "MODE(Size)")], "where": ["Id > 3", "MIN(LAG(Id) OVER (ORDER BY Id)) < 4"]}  # fmt: skip
        self.assertEqual(self.source.tally(**kept).to_dicts(), self.source.computed("here").tally(**kept).to_dicts())
        self.assertEqual(len(self.source.tally(**kept).to_dicts()), 1)

    def test_texts_are_parameters_and_a_percent_sign_is_one(self) -> None:
        text = self.source.document.text.replace(
            'table = "yard.Load tickets"',
            "query = \"select *, '%' || mill as share, id % 3 as third from yard.\\\"Load tickets\\\" where mill like '%e%'\"",
        )
        self.write("q.oak.toml", text + '\n[[field]]\nname = "Share"\ncolumn = "share"\n')
        source = oak.open_source("q.oak.toml")
        for hostile in (
            '\'; drop table yard."Load tickets"; --',
            "100%",
            "%(p0)s",
            "back\\slash",
            "\u201cquoted\u201d",
            ":p0",
            "$1",
        ):
            asked: dict[str, Any] = {
                "by": ["Share"],
                "show": [("Text", "MAX(Mill || {0})"), ("Alike", "COUNT(*) FILTER (WHERE Mill <> {0})")],
            }
            quoted = "'" + hostile.replace("'", "''") + "'"
            asked["show"] = [(name, one.replace("{0}", quoted)) for name, one in asked["show"]]
            with self.subTest(hostile):
                there, here = source.computed("origin").tally(**asked), source.computed("here").tally(**asked)
                self.same(there.to_dicts(), here.to_dicts())
        self.assertEqual(
            source.computed("here").tally(show=["COUNT(*)"]).value(), source.tally(show=["COUNT(*)"]).value()
        )

    def test_an_interrupt_ends_the_statement_in_the_database(self) -> None:
        text = self.source.document.text.replace(
            'table = "yard.Load tickets"',
            'query = "select * from yard.\\"Load tickets\\" where pg_sleep(0.02) is not null"',
        )
        self.write("slow.oak.toml", text)
        running = "select count(*) from pg_stat_activity where query ilike '%pg_sleep%' and state = 'active' and pid <> pg_backend_pid()"
        with psycopg.connect(self.uri, autocommit=True) as watcher:
            words = ["tally", "slow", "--show", "COUNT(*)", "--where", "Id > 0"]
            code = (  # who started the tests may have had interrupts ignored
                "import signal, sys; signal.signal(signal.SIGINT, signal.default_int_handler)\n"
                f"from oak_ledger.cli import main; sys.argv[1:] = {words!r}; main()"
            )
            process = subprocess.Popen([sys.executable, "-c", code], stderr=subprocess.PIPE, text=True)
            self.addCleanup(process.kill)
            for _ in range(600):
                if process.poll() is not None or watcher.execute(running).fetchone() != (0,):
                    break
                time.sleep(0.1)
            self.assertIsNone(process.poll(), "the statement was never seen")
            process.send_signal(signal.SIGINT)
            _, said = process.communicate(timeout=10)
            self.assertNotIn("Traceback", said)
            self.assertEqual(process.returncode, 130)
            self.assertEqual(watcher.execute(running).fetchone(), (0,))

    def test_the_database_is_only_read(self) -> None:
        server.execute(
            self.uri,
            [
                "create function yard.spoil() returns bigint language sql as $$ insert into yard.\"Load tickets\" values (0, 'x', 1, 1, '2026-01-01'); select 1::bigint $$"
            ],
        )
        text = self.source.document.text.replace(
            'table = "yard.Load tickets"', 'query = "select *, yard.spoil() as s from yard.\\"Load tickets\\""'
        )
        self.write("q.oak.toml", text)
        source = oak.open_source("q.oak.toml")
        with self.assertRaises(oak.OakError):
            source.with_field("S", "1").tally(show=["COUNT(*)"], where="Id > 0")
        with psycopg.connect(self.uri) as connection:
            self.assertEqual(
                connection.execute('select count(*) from yard."Load tickets" where id = 0').fetchone(), (0,)
            )


class InASqliteFile(FolderCase):
    """A source over a SQLite file is asked there about whole numbers and texts."""

    def setUp(self) -> None:
        super().setUp()
        database = sqlite3.connect("yard.db")
        database.executescript(
            "create table stock (id integer, yard text collate nocase, grade text, pieces integer, share real, mixed, big integer);"
        )
        chance = random.Random(4)
        database.executemany(
            "insert into stock values (?, ?, ?, ?, ?, ?, ?)",
            [
                (at, chance.choice(["North", "north", "Süd", "", None]), chance.choice(["a", "b"]), chance.choice([None, at % 7]), at / 3, chance.choice([1, "x"]), 2**62)
                for at in range(1, 401)
            ],
        )  # fmt: skip
        database.commit()
        database.close()
        self.source = oak.intake(
            url="sqlite:///yard.db", table="stock", name="Stock", definition="s.oak.toml", keep_names=True
        ).source.with_key(["id"])

    def test_the_same_answers_as_here(self) -> None:
        for place, asked in (
            ("origin", {"by": ["yard"], "show": ["pieces", "COUNT(*)"]}),
            ("origin", {"by": ["yard", "grade"], "show": [("n", "COUNT(DISTINCT pieces)")], "where": "yard = 'north' OR pieces > 3", "totals": True}),
            ("origin", {"by": [("odd", "id % 2 = 1")], "show": [("most", "MAX(yard)")], "sort": ["-most"], "limit": 1}),
            ("origin", {"by": ["yard"], "show": [("most", "MAX(SUM(pieces) PER (grade, id % 5))"), ("n", "SUM(COUNT(DISTINCT id) PER (grade))")], "where": "pieces > 1", "totals": True}),
            ("here", {"by": ["yard"], "show": [("all", "BOOL_AND((SUM(pieces) > 3) PER (grade))")]}),
            ("here", {"by": ["yard"], "show": [("share", "AVG(pieces)")], "where": "yard = 'north'"}),
            ("here", {"by": ["yard"], "show": ["share"]}),
            ("here", {"by": ["mixed"], "show": ["COUNT(*)"]}),
            ("here", {"by": [("up", "UPPER(yard)")], "show": ["COUNT(*)"], "where": "yard <> 'North' AND pieces IN (1, 2)"}),
            ("here", {"show": ["big"]}),
            ("here", {"show": [("x", "SUM(10 / (id - 7))")]}),
            ("here", {"show": [("x", "MAX(big + big)")]}),
        ):  # fmt: skip
            with self.subTest(asked):
                there, here = self.source.tally(**asked), self.source.computed("here").tally(**asked)  # type: ignore[arg-type]
                self.assertEqual((there.place, there.to_dicts()), (place, here.to_dicts()))
                self.assertEqual(
                    (there.rows_read, there.rows_used, there.groups, there.faults),
                    (here.rows_read, here.rows_used, here.groups, here.faults),
                )
        there, here = (
            one.rows(["id", "yard"], sort=["yard", "id"], limit=9, where="pieces = 3")
            for one in (self.source, self.source.computed("here"))
        )
        self.assertEqual((there.place, there.to_dicts(), there.rows_used), ("origin", here.to_dicts(), here.rows_used))

    def test_refusals_name_the_reason(self) -> None:
        for formula, why in (("SUM(share)", "in SQLite, decimals, numbers and dates"), ("COUNT(DISTINCT mixed)", "integer and text"), ("COUNT(*) FILTER (WHERE yard LIKE 'n%')", "letter case"),
                             ("MEDIAN(pieces)", "no percentiles"), ("MAX(CAST(yard AS INTEGER))", "number of any text")):  # fmt: skip
            with self.subTest(formula):
                error = self.raises("not-in-database", self.source.computed("origin").tally, show=[("x", formula)])
                self.assertIn(why, str(error))


if __name__ == "__main__":
    unittest.main()
