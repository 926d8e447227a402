"""Statements of PostgreSQL's clients: the same answers as a PostgreSQL server gives, the same meaning as everywhere here, and nothing that one may not see."""

from __future__ import annotations

import datetime as dt
import io
import json
import os
import random
import socket
import ssl
import struct
import subprocess
import threading
import time
import unittest
from decimal import Decimal
from typing import Any
from unittest import mock
from urllib.request import urlopen

import psycopg
import pyarrow as pa
import sqlalchemy as sa
from hypothesis import given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.catalogue.rules import RIGHTS
from oak_ledger.engine import deadline
from oak_ledger.service.limits import Limits
from oak_ledger.service.sql import listening, messages, values
from oak_ledger.service.sql.listening import SqlPort
from tests import server, service, statements
from tests.support import FolderCase, loads, seed_of_the_code
from tests.test_language import VALUES
from tests.test_rights import WithPeople

DRAWN = int(os.environ.get("OAK_STATEMENTS", "60"))


def connected(port: SqlPort, token: str, **more: Any) -> psycopg.Connection[Any]:
    return psycopg.connect(host="127.0.0.1", port=port.number, user="anybody", password=token, dbname="oak", autocommit=True, **more)  # fmt: skip


def plain(value: Any) -> Any:
    """A value, numbers of all types as one; two servers add floats in another order."""
    if isinstance(value, bool) or not isinstance(value, (int, float, Decimal)):
        return value
    return float(f"{float(value):.9g}")


def fields(answer: psycopg.Cursor[Any]) -> list[str]:
    return [one.name for one in answer.description or ()]


class WithSource(FolderCase):
    """A source `events` in a catalogue, and a client that asks it."""

    def setUp(self) -> None:
        super().setUp()
        self.table = statements.rows(random.Random(seed_of_the_code()), 150)
        self.boss = oak.Catalogue.open("catalogue", create=True, person="boss")
        self.publish(oak.Source.from_table(self.table, name="events"))
        self.token = self.boss.people.make_token("t", rights=["read"])
        self.port = service.statements(self, Limits())
        self.ours = connected(self.port, self.token)
        self.addCleanup(self.ours.close)

    def publish(self, source: oak.Source) -> None:
        self.boss.publish(source)
        self.boss.release(source.name)


class AgainstAServer(WithSource):
    def setUp(self) -> None:
        super().setUp()
        uri = server.start(type(self), "that statements mean here what they mean there")
        self.real = psycopg.connect(uri, autocommit=True)
        self.addCleanup(self.real.close)
        typed = ", ".join(
            f"{name} {kind}" + (' COLLATE "C"' if kind == "text" else "") for name, kind in statements.COLUMNS.items()
        )
        self.real.execute(f"CREATE SCHEMA general; SET search_path TO general; CREATE TABLE events ({typed})")  # type: ignore[arg-type]
        with self.real.cursor() as cursor, cursor.copy("COPY events FROM STDIN") as copied:
            for row in self.table.to_pylist():
                copied.write_row(tuple(row.values()))

    def compared(self, text: str, *, ordered: bool, given: tuple[Any, ...] | None = None) -> None:
        with self.subTest(text=text, given=given):
            wanted = self.real.execute(text, given)  # type: ignore[arg-type]
            rows = [tuple(map(plain, row)) for row in wanted.fetchall()]
            for binary in (False, True):
                got = self.ours.execute(text, given, binary=binary)  # type: ignore[arg-type]
                own = [tuple(map(plain, row)) for row in got.fetchall()]
                self.assertEqual(fields(got), fields(wanted))
                self.assertEqual(*((rows, own) if ordered else (sorted(rows, key=repr), sorted(own, key=repr))))

    def test_drawn_statements_have_the_same_answers(self) -> None:
        chance = random.Random(seed_of_the_code())
        for _ in range(DRAWN):
            self.compared(statements.statement(chance)[0], ordered=False)

    def test_what_is_ordered_comes_in_the_same_order(self) -> None:
        chance = random.Random(seed_of_the_code() + 1)
        for _ in range(DRAWN // 2):
            text, ordered = statements.statement(chance)
            if ordered:
                self.compared(text, ordered=True)

    def test_texts_of_values_are_the_same(self) -> None:
        numbers = pa.table({"at": [*range(9)], "x": [1.0, 0.0, 1e15, 123456789012345.0, 1e-5, 0.0001, 2.5, 1e300, 1 / 3], "w": [dt.datetime(1, 1, 1), dt.datetime(9999, 12, 31, 23, 59, 59, 999_999)] * 4 + [None]})  # fmt: skip
        self.publish(oak.Source.from_table(numbers, name="odd"))
        self.real.execute("CREATE TABLE odd (at bigint, x double precision, w timestamp)")
        with self.real.cursor() as cursor:
            cursor.executemany("INSERT INTO odd VALUES (%s, %s, %s)", [tuple(one.values()) for one in numbers.to_pylist()])  # fmt: skip
        for text in ("SELECT * FROM events ORDER BY at", "SELECT * FROM odd ORDER BY at"):
            said = []
            for client in (self.real, self.ours):
                result = client.execute(text).pgresult  # type: ignore[arg-type]
                assert result is not None
                said.append([[result.get_value(row, column) for column in range(result.nfields)] for row in range(result.ntuples)])  # fmt: skip
            self.assertEqual(*said)

    def test_parameters_are_read_as_there(self) -> None:
        cases: list[tuple[str, tuple[Any, ...]]] = [
            ("select at from events where i = %s", (3,)),
            ("select at from events where i = %s", ("3",)),
            ("select at from events where d > %s and d < %s", (Decimal("1.25"), 7)),
            ("select at from events where f >= %s", (2.0,)),
            ("select at from events where f >= %s", (Decimal(2),)),
            ("select at from events where k = %s or k is null", ("it's",)),
            ("select at from events where k = %s", (None,)),
            ("select at from events where b = %s", (True,)),
            ("select at from events where y between %s and %s", (dt.date(2026, 1, 5), "2026-02-20")),
            ("select at from events where w < %s", (dt.datetime(2026, 3, 2, 10, 30, 0, 250),)),
            ("select at from events where k = any(%s)", (["oak", "", 'a"b\\', "x,y"],)),
            ("select at from events where k = any(%s)", ([],)),
            ("select at from events where k = any(%s)", (["oak", None, "NULL"],)),
            ("select at from events where k = any('{\"oak\", ash}')", ()),
            ("select at from events where i = any(%s)", ([1, 2],)),
            ("select at from events where i in (%s, %s)", (1, 2)),
            ("select at from events order by at limit %s offset %s", (4, 2)),
            ("select k, sum(d) filter (where i > %s) from events group by k", (1,)),
            ("select coalesce(k, %s), count(*) from events group by 1", ("none",)),
        ]
        for text, given_values in cases:
            self.compared(text, ordered=False, given=given_values)


class Meaning(WithSource):
    def test_every_formula_has_the_value_that_it_has_here(self) -> None:
        self.publish(source := oak.Source.from_table(pa.table({"one": [1]}), name="single"))
        left_out = (
            "AS NUMBER",
            "AS DATE FORMAT",
            "AS TIMESTAMP FORMAT",
        )  # types and templates that statements do not have
        tried = 0
        for text, _ in VALUES:
            if not any(one in text for one in left_out):
                with self.subTest(text):
                    own = source.rows([("x", text)]).table.column(0)[0].as_py()
                    got = self.ours.execute(f"SELECT {text} AS x FROM single").fetchall()  # type: ignore[arg-type]
                    self.assertEqual((type(got[0][0]), got), (type(own), [(own,)]))
                    tried += 1
        self.assertGreater(tried, 150)

    def test_measures_stand_where_there_are_groups(self) -> None:
        self.publish(loads().with_field("Share", 'SUM("Volume") / SUM(SUM("Volume")) OVER ()').with_field("Net", '"Volume" - "Cost"').with_field("Mean", 'AVG("Net")'))  # fmt: skip
        local = oak.Catalogue.open("catalogue", person="boss").source("loads")
        for by in ([], ["Mill"], ["Mill", "Sent"]):
            wanted = local.tally(by, ["Mean", "Share"]).to_arrow().to_pylist()
            keys = ", ".join(f'"{one}"' for one in by)
            text = f'SELECT {keys}{", " if by else ""}"Mean", share FROM loads{" GROUP BY " if by else ""}{keys}'
            got = self.ours.execute(text).fetchall()  # type: ignore[arg-type]
            self.assertCountEqual(got, [tuple(one.values()) for one in wanted])
        with self.assertRaises(psycopg.errors.GroupingError) as caught:
            self.ours.execute('SELECT "Mill", "Mean" FROM loads')
        self.assertEqual(caught.exception.diag.message_primary, 'Mill has a value per row, and the statement has groups, as "Mean" makes them.')  # fmt: skip
        self.assertIn('GROUP BY "Mill"', caught.exception.diag.message_hint or "")

    def test_faults_and_findings_come_along(self) -> None:
        said: list[tuple[str, str]] = []
        self.ours.add_notice_handler(lambda one: said.append((one.sqlstate or "", one.message_primary or "")))
        self.assertEqual(self.ours.execute("SELECT i / (i - i) FROM events WHERE i = 3 LIMIT 1").fetchall(), [(None,)])
        self.assertEqual([one[0] for one in said], ["22000"])
        self.assertIn("division by zero, in 1 row", said[0][1])

    def test_what_is_not_answered_is_refused_with_its_reason(self) -> None:
        cases = {
            "42601": ["select from where", "select 'a", "select (((1 from events"],
            "0A000": ["select * from events e join events f on true", "with a as (select 1) select * from events", "select at from events union select at from events", "select (select 1) from events",
                      "select at from events for update", "select at from events group by rollup(at)", "select distinct on (k) k from events", "select k, at from events order by k nulls first",
                      "select at, row_number() over (order by at) from events where i > 2", "select k, row_number() over () from events group by k", "select * from events, pg_class", "fetch 3 from c",
                      "declare c cursor for select 1", "explain select 1", "select at from events tablesample system (10)", "select * from other.elsewhere.events", "copy events from stdin", "copy (select at from events) to stdout",
                      "with x as (delete from pg_class returning *) select * from x", "select 1 into pg_new", "select read_text('/etc/passwd')", "select getenv('HOME')", "select * from read_csv('/etc/passwd')", "select * from duckdb_settings()", "select pg_sleep(10)", "select * from (select at from events) e where at > 3",
                      "select count(*), k from events group by k limit all of"],
            "25006": ["insert into events values (1)", "update events set i = 1", "delete from events", "create table x (a int)", "drop table events", "truncate events", "grant select on events to x", "do $$ begin end $$"],
            "42P01": ["select * from nothing", "select * from other.events", 'select * from "events, version 9"'],
            "42703": ["select nope from events", "select count(*) from events where nope = 1", "select max(nope) from events"],
            "42883": ["select nope(i) from events"],
            "42803": ["select k, i from events group by k", "select k, count(*) from events", "select sum(sum(i)) from events", "select at from events where count(*) > 3"],
            "42804": ["select i + k from events", "select at from events where i", "select upper(i) from events"],
            "42P10": ["select i from events order by 2", "select i from events group by 3"],
            "22023": ["select at from events where i = $1"],
        }  # fmt: skip
        for state, texts in cases.items():
            for text in texts:
                with self.subTest(text=text), self.assertRaises(psycopg.Error) as caught:
                    self.ours.execute(text)  # type: ignore[arg-type]
                if caught.exception.sqlstate != state and not (
                    state == "0A000" and caught.exception.sqlstate == "42601"
                ):
                    self.fail(f"{text}: {caught.exception.sqlstate} {caught.exception}")
        self.assertEqual(self.ours.execute("select count(*) from events").fetchall(), [(150,)])


class Clients(WithSource):
    def test_what_there_is_is_reflected(self) -> None:
        self.publish(loads().with_field("Mean", 'AVG("Volume")', description="The mean"))
        engine = sa.create_engine("postgresql+psycopg://", creator=lambda: connected(self.port, self.token))
        self.addCleanup(engine.dispose)
        about = sa.inspect(engine)
        self.assertEqual(sorted(about.get_view_names()), ["Loads", "events"])
        self.assertEqual(about.get_table_names(), [])
        self.assertIn("general", about.get_schema_names())
        kinds = {one["name"]: str(one["type"]) for one in about.get_columns("events", schema="general")}
        self.assertEqual(kinds, {"at": "BIGINT", "i": "BIGINT", "d": "NUMERIC(38, 2)", "f": "DOUBLE PRECISION", "b": "BOOLEAN", "t": "TEXT", "k": "TEXT", "y": "DATE", "w": "TIMESTAMP"})  # fmt: skip
        self.assertEqual(about.get_pk_constraint("Loads")["constrained_columns"], [])
        self.assertEqual((about.get_indexes("Loads"), about.get_foreign_keys("Loads")), ([], []))
        comment = {one["name"]: one["comment"] for one in about.get_columns("Loads")}["Mean"]
        self.assertEqual(
            comment, "The mean A measure: one value per group, computed again for each group and each total."
        )
        table = sa.Table("Loads", sa.MetaData(), autoload_with=engine)
        asked = sa.select(table.c.Mill, sa.func.sum(table.c.Volume).label("v")).where(table.c.Code.in_(["007", "oak"])).group_by(table.c.Mill)  # fmt: skip
        with engine.connect() as connection:
            got = dict(connection.execute(asked).all())  # type: ignore[arg-type]
        own = loads().tally(["Mill"], ["Volume"], where="Code IN ('007', 'oak')").to_arrow()
        self.assertEqual(got, dict(zip(*(one.to_pylist() for one in own.columns), strict=True)))

    def test_standard_views_say_what_there_is(self) -> None:
        asked = self.ours.execute("SELECT table_schema, table_name, table_type FROM information_schema.tables")
        self.assertEqual(asked.fetchall(), [("general", "events", "VIEW")])
        asked = self.ours.execute("SELECT column_name, data_type, numeric_scale FROM information_schema.columns WHERE table_name = %s ORDER BY ordinal_position LIMIT 3", ("events",))  # fmt: skip
        self.assertEqual(asked.fetchall(), [("at", "bigint", 0), ("i", "bigint", 0), ("d", "numeric", 2)])
        one = self.ours.execute("SELECT current_database(), current_schema(), current_user, version()").fetchone()
        self.assertEqual(one[:3] if one else None, ("oak", "general", "boss"))

    def test_settings_and_transactions_are_acknowledged(self) -> None:
        for text in ("SET client_encoding TO 'UTF8'", "SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY", "BEGIN READ ONLY", "COMMIT", "START TRANSACTION", "SAVEPOINT a", "ROLLBACK TO a", "ROLLBACK", "DISCARD ALL", "RESET ALL"):  # fmt: skip
            self.ours.execute(text)  # type: ignore[arg-type]
        self.assertEqual(self.ours.execute("SHOW standard_conforming_strings").fetchall(), [("on",)])
        self.assertEqual(self.ours.execute("SHOW transaction isolation level").fetchall(), [("repeatable read",)])
        self.ours.execute("BEGIN")
        for state in ("42703", "25P02"):
            with self.assertRaises(psycopg.Error) as caught:
                self.ours.execute("SELECT nope FROM events" if state == "42703" else "SELECT 1")
            self.assertEqual(caught.exception.sqlstate, state)
        self.assertEqual(self.ours.info.transaction_status, psycopg.pq.TransactionStatus.INERROR)
        self.ours.execute("ROLLBACK")
        self.assertEqual(self.ours.execute("SELECT 1; SELECT 2").fetchall(), [(1,)])

    def test_prepared_again_and_page_by_page(self) -> None:
        for at in range(4):
            self.assertEqual(self.ours.execute("SELECT at FROM events WHERE at = %s", (at,), prepare=True).fetchall(), [(at,)])  # fmt: skip
        client = self.raw()
        client.send(b"P", b"s\0SELECT at FROM events ORDER BY at\0\0\0")
        client.send(b"B", b"p\0s\0\0\0\0\0\0\0")
        letters = []
        for _ in range(3):
            client.send(b"E", b"p\0" + struct.pack("!i", 60))
        client.send(b"S", b"")
        while (said := client.read())[0] != b"Z":
            letters.append(said[0])
        self.assertEqual((letters.count(b"D"), letters.count(b"s"), letters[-1]), (150, 2, b"C"))

    def test_a_prepared_statement_ends_with_what_it_was_prepared_for(self) -> None:
        client = self.raw()
        client.send(b"P", b"s\0SELECT i FROM events LIMIT 1\0\0\0")
        client.send(b"S", b"")
        while client.read()[0] != b"Z":
            pass
        changed = oak.Source.from_table(self.table.set_column(1, "i", self.table.column("i").cast(pa.float64())), name="events")  # fmt: skip
        self.boss.publish(changed, base=1)
        self.boss.release("events")
        client.send(b"B", b"\0s\0\0\0\0\0\0\0")
        client.send(b"E", b"\0\0\0\0\0")
        client.send(b"S", b"")
        said = b"".join(iter(lambda: client.read()[1], b"I"))
        self.assertIn(b"has changed since the statement was prepared", said)

    def test_rows_are_copied_in_binary(self) -> None:
        with self.ours.cursor() as cursor, cursor.copy("COPY (SELECT at, d, t, w FROM events ORDER BY at) TO STDOUT (FORMAT BINARY)") as copied:  # fmt: skip
            copied.set_types(["int8", "numeric", "text", "timestamp"])
            got = [tuple(row) for row in copied.rows()]
        self.assertEqual(got, [(one["at"], one["d"], one["t"], one["w"]) for one in self.table.to_pylist()])

    def raw(self) -> Raw:
        client = Raw(self.port.number)
        self.addCleanup(client.sock.close)
        client.begin(self.token)
        return client

    def test_bytes_that_are_no_protocol_end_one_connection_alone(self) -> None:
        chance = random.Random(seed_of_the_code())
        for _ in range(60):
            client = self.raw() if chance.random() < 0.7 else Raw(self.port.number)
            with client.sock:
                letter = bytes([chance.choice(b"QPBDECSHXFdfp\x00\xff")])
                body = bytes(chance.randrange(256) for _ in range(chance.randrange(40)))
                size = chance.choice([len(body) + 4, 0, -1, 3, 2**31 - 1, len(body) + 1])
                client.sock.sendall(letter + struct.pack("!i", size) + body)
                client.sock.shutdown(socket.SHUT_WR)
                while client.sock.recv(65536):
                    pass
        self.assertEqual(self.ours.execute("SELECT count(*) FROM events").fetchall(), [(150,)])

    def test_statements_that_nest_deeply_do_no_harm(self) -> None:
        for text in ("SELECT " + "(" * 2000 + "1" + ")" * 2000 + " FROM events", "SELECT " + "NOT " * 4000 + "TRUE FROM events", "SELECT 1" + " + 1" * 4000 + " FROM events"):  # fmt: skip
            try:
                self.ours.execute(text)  # type: ignore[arg-type]
            except psycopg.Error as error:
                self.assertIn(error.sqlstate, ("42601", "54001"))
        self.assertEqual(self.ours.execute("SELECT 1").fetchall(), [(1,)])


class Raw:
    """A client that says what it likes."""

    def __init__(self, port: int) -> None:
        self.sock = socket.create_connection(("127.0.0.1", port), timeout=60)

    def begin(self, token: str) -> list[bytes]:
        start = struct.pack("!i", 3 << 16) + b"user\0x\0\0"
        self.sock.sendall(struct.pack("!i", len(start) + 4) + start)
        self.read()
        self.send(b"p", token.encode() + b"\0")
        bodies = []
        while (said := self.read())[0] not in (b"Z", b"E"):
            bodies.append(said[0] + said[1])
        return [*bodies, said[0] + said[1]]

    def send(self, letter: bytes, body: bytes) -> None:
        self.sock.sendall(letter + struct.pack("!i", len(body) + 4) + body)

    def read(self) -> tuple[bytes, bytes]:
        head = self._exactly(5)
        return head[:1], self._exactly(struct.unpack("!i", head[1:])[0] - 4)

    def _exactly(self, count: int) -> bytes:
        found = b""
        while len(found) < count:
            more = self.sock.recv(count - len(found))
            if not more:
                raise EOFError
            found += more
        return found


class Limited(WithSource):
    def test_too_many_rows_are_refused_and_pages_answered(self) -> None:
        few = connected(service.statements(self, Limits(rows=50)), self.token)
        self.addCleanup(few.close)
        for text, state in (("SELECT at FROM events", "54000"), ("SELECT at FROM events LIMIT 51", "54000"), ("SELECT at, count(*) FROM events GROUP BY 1", "54000")):  # fmt: skip
            with self.assertRaises(psycopg.Error) as caught:
                few.execute(text)  # type: ignore[arg-type]
            self.assertEqual(caught.exception.sqlstate, state)
        pages = [one[0] for at in (0, 50, 100) for one in few.execute("SELECT at FROM events ORDER BY at LIMIT 50 OFFSET %s", (at,))]  # fmt: skip
        self.assertEqual(pages, [*range(150)])

    def test_a_question_ends_in_time_and_when_it_is_cancelled(self) -> None:
        entered = threading.Event()
        checked = deadline.in_time

        def slowly() -> None:
            entered.set()
            time.sleep(0.05)
            checked()

        def until_it_ends() -> None:
            for _ in range(4000):
                slowly()

        with mock.patch("oak_ledger.engine.scan.in_time", until_it_ends):
            hurried = connected(service.statements(self, Limits(seconds=0.3)), self.token)
            self.addCleanup(hurried.close)
            with self.assertRaises(psycopg.errors.QueryCanceled) as caught:
                hurried.execute("SELECT count(*), sum(i) FROM events")
            self.assertIn("took longer than 0.3 s", str(caught.exception))
            entered.clear()
            failures: list[psycopg.Error] = []

            def ask() -> None:
                try:
                    self.ours.execute("SELECT sum(i) FROM events")
                except psycopg.Error as error:
                    failures.append(error)

            asking = threading.Thread(target=ask)
            asking.start()
            entered.wait(60)
            self.ours.cancel_safe()
            asking.join(60)
        self.assertEqual([(one.sqlstate, str(one)) for one in failures], [("57014", "The question was cancelled.")])
        self.assertEqual(self.ours.execute("SELECT 1").fetchall(), [(1,)])

    def test_nobody_cancels_what_is_not_theirs(self) -> None:
        session = next(iter(self.port.sessions.values()))
        session.deadline = deadline.Deadline()
        with socket.create_connection(("127.0.0.1", self.port.number), timeout=30) as other:
            other.sendall(struct.pack("!iiii", 16, 80877102, session.number, session.key ^ 1))
            self.assertEqual(other.recv(1), b"")
        self.assertFalse(session.deadline.cancelled)

    def test_too_many_connections_are_refused(self) -> None:
        other = self.boss.people.make_token("other", rights=["read"])
        with mock.patch.object(listening, "CONNECTIONS", 3):
            with self.assertRaises(psycopg.OperationalError) as caught:
                connected(self.port, self.token)
            self.assertIn("This token has too many connections", str(caught.exception))
            with connected(self.port, other):
                third = connected(self.port, self.boss.people.make_token("third", rights=["read"]))
                with self.assertRaises(psycopg.OperationalError) as caught:
                    connected(self.port, other)
                self.assertIn("There are 3 connections", str(caught.exception))
                third.close()

    def test_what_is_asked_of_the_catalogue_ends_too(self) -> None:
        long = "SELECT count(*) FROM generate_series(1, 10000000) a, generate_series(1, 10000000) b WHERE a.a + b.b = 3"
        hurried = connected(service.statements(self, Limits(seconds=0.5, rows=1000)), self.token)
        self.addCleanup(hurried.close)
        for text, state in ((long, "57014"), ("SELECT * FROM generate_series(1, 5000)", "54000"), ("SELECT '" + "x" * 200_000 + "'", "54000")):  # fmt: skip
            with self.assertRaises(psycopg.Error) as caught:
                hurried.execute(text)  # type: ignore[arg-type]
            self.assertEqual(caught.exception.sqlstate, state)
        self.assertEqual(hurried.execute("SELECT 1").fetchall(), [(1,)])

    def test_who_says_nothing_whole_is_not_waited_for(self) -> None:
        with mock.patch.object(messages, "SECONDS_TO_BEGIN", 0.3):
            for said in (b"", b"\0\0", struct.pack("!ii", 8, 80877103), struct.pack("!ii", 30, 3 << 16) + b"user"):
                with socket.create_connection(("127.0.0.1", self.port.number), timeout=60) as client:
                    client.sendall(said)
                    while client.recv(100):
                        pass
        self.assertEqual(self.ours.execute("SELECT 1").fetchall(), [(1,)])

    def test_who_is_connected_learns_that_the_service_stops(self) -> None:
        client = Raw(self.port.number)
        with client.sock:
            client.begin(self.token)
            self.port.stop()
            letter, body = client.read()
            self.assertEqual((letter, b"C57P01" in body), (b"E", True))
        with self.assertRaises(OSError):
            socket.create_connection(("127.0.0.1", self.port.number), timeout=5)


class Seen(WithPeople):
    def setUp(self) -> None:
        super().setUp()
        place = self.place("maker")
        place.publish(self.source)
        place.release("Loads")
        self.boss.people.grant("reader", ["read"], "general")
        self.reading = self.place("reader").people.make_token("t", rights=["read"])
        self.said = io.StringIO()
        self.port = service.statements(self, Limits(), log=self.said)

    def client(self, token: str) -> psycopg.Connection[Any]:
        made = connected(self.port, token)
        self.addCleanup(made.close)
        return made

    def test_a_token_that_is_not_valid_is_refused(self) -> None:
        for token in ("nonsense", " ", "é", self.reading[:-1]):
            with self.assertRaises(psycopg.OperationalError) as caught:
                self.client(token)
            self.assertIn("this one is not valid", str(caught.exception))

    def test_hidden_fields_do_not_exist(self) -> None:
        reader = self.client(self.reading)
        names = [one[0] for one in reader.execute("SELECT column_name FROM information_schema.columns")]
        self.assertEqual(
            (names, "Secret" in names), ([*fields(reader.execute('SELECT * FROM "Loads"')), "Double"], False)
        )
        for text in ('SELECT "Secret" FROM "Loads"', 'SELECT SUM("Secret") FROM "Loads"', 'SELECT COUNT(*) FROM "Loads" WHERE "Secret" > 1', 'SELECT COUNT(*) FROM "Loads" GROUP BY "Secret"', 'SELECT "Id" FROM "Loads" ORDER BY "Secret"'):  # fmt: skip
            with self.assertRaises(psycopg.Error) as caught:
                reader.execute(text)  # type: ignore[arg-type]
            self.assertEqual(caught.exception.sqlstate, "42703", text)
        self.assertEqual(len(reader.execute('SELECT "Double" FROM "Loads"').fetchall()), 1)

    def test_rights_that_are_taken_act_at_once(self) -> None:
        reader = self.client(self.reading)
        self.assertEqual(len(reader.execute('SELECT "Id" FROM "Loads" LIMIT 1').fetchall()), 1)
        self.boss.people.revoke("reader", ["read"], "general")
        with self.assertRaises(psycopg.errors.UndefinedTable) as caught:
            reader.execute('SELECT "Id" FROM "Loads"')
        self.assertNotIn("Loads", str(caught.exception).replace('"Loads"', ""))
        self.assertEqual(reader.execute("SELECT * FROM information_schema.tables").fetchall(), [])

    def test_a_version_is_asked_by_its_number_where_one_may(self) -> None:
        self.place("maker").publish(self.source.with_field("Later", "1"))  # a draft
        reader, maker = self.client(self.reading), self.client(self.token("maker"))
        self.assertNotIn("Later", fields(maker.execute('SELECT * FROM "Loads"')))
        self.assertIn("Later", fields(maker.execute('SELECT * FROM "Loads, version 2"')))
        text = 'SELECT COUNT(*) FROM "Loads, version {}"'
        for client, number, works in ((reader, 1, True), (reader, 2, False), (maker, 2, True)):
            with self.subTest(number=number, works=works):
                if works:
                    self.assertEqual(len(client.execute(text.format(number)).fetchall()), 1)  # type: ignore[arg-type]
                else:
                    with self.assertRaises(psycopg.errors.UndefinedTable):
                        client.execute(text.format(number))  # type: ignore[arg-type]

    def test_of_two_sources_of_one_name_the_area_says_which(self) -> None:
        self.boss.people.add_area("south")
        self.boss.people.grant("maker", [*RIGHTS], "south")
        self.boss.people.grant("reader", ["read"], "south")
        other = self.place("maker")
        other.publish(self.source.with_field("South", "1"), area="south")
        other.release("south/Loads")
        reader = self.client(self.place("reader").people.make_token("both", rights=["read"]))
        self.assertNotIn("South", fields(reader.execute('SELECT * FROM general."Loads"')))
        self.assertIn("South", fields(reader.execute('SELECT * FROM oak.south."Loads"')))
        with self.assertRaises(psycopg.Error) as caught:
            reader.execute('SELECT * FROM "Loads"')
        self.assertEqual(caught.exception.sqlstate, "42P09")
        with self.assertRaises(psycopg.Error):
            self.client(self.reading).execute("SELECT nothing_else")

    def test_each_statement_is_in_the_log_and_no_token(self) -> None:
        reader = self.client(self.reading)
        reader.execute('SELECT COUNT(*) FROM "Loads"')
        with self.assertRaises(psycopg.Error):
            reader.execute('SELECT nope FROM "Loads"')
        lines = [json.loads(line) for line in self.said.getvalue().splitlines()]
        self.assertEqual([(one["who"], one["state"], one["rows"]) for one in lines], [("reader", "00000", 1), ("reader", "42703", 0)])  # fmt: skip
        self.assertNotIn(self.reading, self.said.getvalue())


class Encrypted(WithSource):
    def certificate(self) -> tuple[str, str]:
        subprocess.run(["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out", "cert.pem", "-days", "2", "-subj", "/CN=localhost"], check=True, capture_output=True)  # fmt: skip
        return "cert.pem", "key.pem"

    def test_a_connection_is_encrypted_where_it_is_wanted(self) -> None:
        tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        tls.load_cert_chain(*self.certificate())
        port = service.statements(self, Limits(), tls)
        with connected(port, self.token, sslmode="require") as client:
            self.assertEqual(client.execute("SELECT COUNT(*) FROM events").fetchall(), [(150,)])
            self.assertTrue(client.pgconn.ssl_in_use)
        with self.assertRaises(psycopg.OperationalError):
            connected(self.port, self.token, sslmode="require")

    def test_a_service_with_a_certificate_encrypts_both(self) -> None:
        cert, key = self.certificate()
        running = service.start(self, "--sql", "0", "--certificate", cert, "--key", key)
        trusting = ssl.create_default_context(cafile=cert)
        trusting.check_hostname = False
        with urlopen(running.url + "/health", context=trusting, timeout=60) as reply:  # noqa: S310  it is our own
            self.assertEqual(json.loads(reply.read())["status"], "up")
        with psycopg.connect(host="127.0.0.1", port=running.sql, user="x", password=self.token, dbname="oak", sslmode="require", autocommit=True) as client:  # fmt: skip
            self.assertEqual(client.execute("SELECT COUNT(*) FROM events").fetchall(), [(150,)])
            running.process.terminate()
            with self.assertRaises(psycopg.Error) as caught:
                for _ in range(600):
                    client.execute("SELECT 1")
                    time.sleep(0.1)
        self.assertIn("The service stops.", str(caught.exception))

    def test_tokens_are_not_taken_in_the_open(self) -> None:
        with mock.patch("ipaddress.IPv4Address.is_loopback", new=False):
            client = Raw(self.port.number)
            with client.sock:
                start = struct.pack("!i", 3 << 16) + b"user\0x\0\0"
                client.sock.sendall(struct.pack("!i", len(start) + 4) + start)
                letter, body = client.read()
        self.assertEqual((letter, b"C28000" in body), (b"E", True))
        said = self.oak("serve", "--host", "0.0.0.0", "--port", "0", "--sql", "0", code=3)  # noqa: S104
        self.assertIn("not-encrypted", said)
        for wrong in (("--certificate", "cert.pem"), ("--certificate", "no.pem", "--key", "no.pem")):
            self.assertIn("wrong-certificate", self.oak("serve", "--port", "0", *wrong, code=3))


class Binary(unittest.TestCase):
    @settings(max_examples=300)
    @given(st.decimals(allow_nan=False, allow_infinity=False, places=6) | st.decimals(min_value=-10**30, max_value=10**30, places=2) | st.integers(-(10**38), 10**38).map(Decimal))  # fmt: skip
    def test_a_decimal_is_what_it_was(self, value: Decimal) -> None:
        packed = values.rows_of(pa.table({"d": pa.array([value], pa.decimal256(76, max(0, -int(value.as_tuple().exponent))))}), [1])[0][0]  # fmt: skip
        assert packed is not None
        self.assertEqual(values.parameter(packed, 1700, 1)[0], value)
        self.assertEqual(psycopg.adapters.get_loader(1700, psycopg.pq.Format.BINARY)(1700).load(packed), value)  # type: ignore[misc]
