"""Nothing that takes a query changes a database: it is refused before it is sent, or runs where nothing can be written; sessions do not depend on the role."""

from __future__ import annotations

import datetime as dt
import sqlite3
import unittest
from collections.abc import Callable, Iterator
from typing import Any

import psycopg
import sqlalchemy as sa

import oak_ledger as oak
from tests import server
from tests.support import FolderCase

# What tries to change something, and how it is met: refused before it is sent, or by the database itself.
HOSTILE = (
    "drop table stock", "delete from stock", "update stock set a = 0 returning a", "insert into stock values (9, 'x') returning a", "select * from stock; drop table stock",
    "select 1 as a) as o; drop table stock; --", "select 1 as a) as o, (select 2 as b", "create table other (a integer)", "alter table stock rename to other", "vacuum", "begin; drop table stock; commit",
    "select a from stock where b = ';' ; drop table stock", "/* select */ drop table stock", "-- select 1\ndrop table stock", "select a from stock /* ; */; delete from stock",
)  # fmt: skip
HOSTILE_THERE = {
    "postgresql": ("with gone as (delete from stock returning a) select a from gone", "select nextval('numbers') as a", "copy stock to program 'touch x'", "do $$ begin delete from stock; end $$", "set default_transaction_read_only = off; drop table stock",
                   "select set_config('default_transaction_read_only', 'off', false) as a, lo_create(4711) as b", "select $$;$$ as a; drop table stock", "select E'\\';' as a, 'x; drop table stock; --' as b) as c; drop table stock; --'"),
    "sqlite": ("attach database 'other.db' as other", "pragma user_version = 7", "pragma writable_schema = on", "with t as (select 1 as a) delete from stock", "replace into stock values (1, 'z')", "explain delete from stock"),
}  # fmt: skip
FINE = (
    ("select a, b from stock -- all of it", 6), ("select a, b from stock order by a limit 3;", 3), ("with t as (select a from stock where b <> ';') select a from t", 6), ("select ')' as p, '(' as q, a from stock", 6),
    ("select a as \"odd ; ) name\" from stock /* ; ) */", 6), ("values (1, 'x'), (2, 'y')", 2), ("select a % 2 as odd, b from stock where b like '%'", 6),
)  # fmt: skip
ROLE = (
    "set datestyle = 'German, DMY'",
    "set intervalstyle = 'sql_standard'",
    "set extra_float_digits = -15",
    "set timezone = 'Asia/Tokyo'",
    "set statement_timeout = '5s'",
    "set default_transaction_read_only = off",
)


def uses(source: oak.Source) -> Iterator[tuple[str, Callable[[], Any]]]:
    """Everything that sends a source's query."""
    yield "rows", lambda: source.rows(limit=2)
    yield "tally", lambda: source.tally(show=["COUNT(*)"])
    yield "tally here", lambda: source.computed("here").tally(show=["COUNT(*)"])
    yield "check", source.check
    yield "profile", lambda: oak.profile(source)
    yield "write", lambda: source.write("out.csv")
    yield "fields", lambda: list(source.fields)


class OnlyRead(FolderCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.uri = server.start(cls, "queries that try to write to PostgreSQL")

    def setUp(self) -> None:
        super().setUp()
        rows = [(at, f"x{at % 3}") for at in range(6)]
        with sqlite3.connect("yard.db") as there:
            there.execute("create table stock (a integer, b text)")
            there.executemany("insert into stock values (?, ?)", rows)
        there.close()
        server.execute(self.uri, ["drop table if exists stock", "drop sequence if exists numbers", "create table stock (a bigint, b text)", "create sequence numbers"])  # fmt: skip
        with psycopg.connect(self.uri) as connection, connection.cursor() as cursor:
            cursor.executemany("insert into stock values (%s, %s)", rows)
        self.urls = {
            "sqlite": "sqlite:///yard.db",
            "postgresql": sa.make_url(self.uri).render_as_string(hide_password=False),
        }

    def state(self) -> list[Any]:
        """All that could have been changed."""
        with sqlite3.connect("yard.db") as there:
            found: list[Any] = [there.execute(text).fetchall() for text in ("select * from stock", "select sql from sqlite_master", "pragma user_version")]  # fmt: skip
        there.close()
        with psycopg.connect(self.uri) as connection:
            found += [connection.execute(text).fetchall() for text in ("select * from stock order by a", "select last_value, is_called from numbers", "select relname from pg_class where relkind in ('r', 'S') and relnamespace = 'public'::regnamespace order by 1", "select count(*) from pg_largeobject_metadata")]  # type: ignore[arg-type]  # fmt: skip
        return [
            *found,
            sorted(path.name for path in self.folder.iterdir() if path.suffix != ".toml" and path.name != "out.csv"),
        ]

    def test_nothing_is_changed(self) -> None:
        before = self.state()
        for backend, url in self.urls.items():
            for query in (*HOSTILE, *HOSTILE_THERE[backend]):
                with self.subTest(query, backend=backend):
                    with self.assertRaises(oak.OakError) as raised:
                        oak.intake(url=url, query=query, name="Stock", definition="s.oak.toml")
                    self.assertIn(raised.exception.code, ("not-a-select", "database", "column-twice"))
                    written = f'[source]\nname = "Stock"\n\n[origin]\nkind = "database"\nurl = "{url}"\nquery = {oak_text(query)}\n\n[[field]]\nname = "A"\ncolumn = "a"\n'
                    source = oak.open_source(self.write("s.oak.toml", written))
                    for _, call in uses(source):
                        try:
                            call()
                        except oak.OakError as error:
                            self.assertTrue(error.message)
                    self.assertEqual(self.state(), before)
                    (self.folder / "s.oak.toml").unlink()

    def test_queries_that_select_are_sent_as_they_are(self) -> None:
        for backend, url in self.urls.items():
            for query, rows in FINE:
                with self.subTest(query, backend=backend):
                    source = oak.intake(url=url, query=query, name="Stock", definition="s.oak.toml").source
                    for place in ("here", "origin"):
                        self.assertEqual(source.computed(place).tally(show=["COUNT(*)"]).value(), rows)
                    self.assertEqual(source.rows().table.num_rows, rows)
        limited = "select a from stock order by b limit 2"
        with sqlite3.connect("yard.db") as there:
            wanted = sum(one for (one,) in there.execute(limited))
        there.close()
        source = oak.intake(url=self.urls["sqlite"], query=limited, name="Stock", definition="l.oak.toml").source
        self.assertEqual(source.computed("origin").tally(show=[("x", "SUM(A)")]).value(), wanted)

    def test_a_session_does_not_depend_on_the_role(self) -> None:
        server.execute(self.uri, ["drop table if exists moments", "drop role if exists odd", "create role odd login superuser", *(f"alter role odd {one}" for one in ROLE), "create table moments (id bigint, f float8, w timestamptz, t timestamp, y date, i interval, d date)", "insert into moments values (1, 0.1::float8 + 0.2, '2026-03-01 12:00+00', '2026-03-01 01:02:03.5', '2026-02-03', '1 day 02:03:04', '2026-12-31')"])  # fmt: skip
        url = sa.make_url(self.uri).set(username="odd").render_as_string(hide_password=False)
        answers = []
        for one in (self.urls["postgresql"], url):
            source = oak.intake(url=one, table="moments", name="M", definition=f"m{len(answers)}.oak.toml").source
            rows = source.rows().to_dicts()
            there = source.computed("origin").tally(["D"], [("f", "MAX(F)"), ("w", "MAX(W)"), ("m", "MAX(CAST(Y AS TEXT FORMAT 'DD.MM.YYYY'))"), ("y", "MAX(CAST(Y AS TEXT))")])  # fmt: skip
            answers.append((rows, there.to_dicts()))
        self.assertEqual(answers[0], answers[1])
        rows, there = answers[1]
        self.assertEqual(
            (rows[0]["F"], rows[0]["W"], rows[0]["Y"]), (0.1 + 0.2, dt.datetime(2026, 3, 1, 12), dt.date(2026, 2, 3))
        )
        self.assertEqual((there[0]["m"], there[0]["y"], there[0]["f"]), ("03.02.2026", "2026-02-03", 0.1 + 0.2))

    def test_the_command(self) -> None:
        said = self.oak("intake", "yard.db", "--query", "drop table stock", code=3)
        self.assertIn("not-a-select", said)


def oak_text(text: str) -> str:
    """A text as TOML."""
    import json

    return json.dumps(text)


if __name__ == "__main__":
    unittest.main()
