"""Servers that are not as one would like them: another locale, a role with settings of its own; MariaDB as an origin."""

from __future__ import annotations

import datetime as dt
import os
import subprocess
import tempfile
import time
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

import oak_ledger as oak
from tests import server, test_questions
from tests.support import FolderCase

# What a role may have set for itself; each would change values or their order if it were left to it.
HOSTILE = (
    "create role hostile login", "create schema plain", "grant usage on schema plain to hostile", "alter role hostile set search_path = plain",
    "alter role hostile set datestyle = 'SQL, DMY'", "alter role hostile set extra_float_digits = -15", "alter role hostile set timezone = 'Pacific/Chatham'",
    "alter role hostile set intervalstyle = 'sql_standard'", "alter role hostile set bytea_output = 'escape'", "alter role hostile set statement_timeout = '10s'",
    "create collation careless (provider = icu, locale = 'und-u-ks-level1', deterministic = false)",
)  # fmt: skip


class InAnotherLocale(test_questions.DrawnQuestions):
    """Whole questions of a server that sorts by the rules of a language and takes some texts for equal, asked by a role with settings of its own."""

    @classmethod
    def started(cls) -> str:
        return server.start(cls, "whole questions against a server of another locale", locale="en-US")

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        for statement in HOSTILE:
            cls.connection.execute(statement)
        cls.uri = cls.uri.replace("postgres@", "hostile@")

    def load(self, name: str, rows: pa.Table, _collated: Any = None) -> None:
        super().load(name, rows)
        columns = ", ".join(
            f"{one} {kind}{' collate careless' if one in 'kt' else ''}"
            for one, kind in test_questions.questions.KINDS.items()
        )
        self.connection.execute(
            f"drop table if exists plain.{name}; create table plain.{name} ({columns}); insert into plain.{name} select * from {name}; grant select on plain.{name} to hostile"
        )


del test_questions.DrawnQuestions  # it runs where it stands


class InMariadb(FolderCase):
    """A table and a query of MariaDB, with the types that people have; nothing can be written."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        holder = tempfile.TemporaryDirectory(prefix="oak", ignore_cleanup_errors=True)
        cls.addClassCleanup(holder.cleanup)
        folder, user = Path(holder.name), ["--user=mysql"] if os.getuid() == 0 else []
        if user:
            subprocess.run(["chown", "mysql", folder], check=True)
        data, socket = folder / "data", folder / "socket"
        subprocess.run(
            [
                "mariadb-install-db",
                *user,
                f"--datadir={data}",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
            ],
            check=True,
            capture_output=True,
        )
        process = subprocess.Popen(
            [
                "mariadbd",
                *user,
                f"--datadir={data}",
                f"--socket={socket}",
                "--skip-networking",
                "--default-time-zone=+05:00",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        cls.addClassCleanup(process.wait)
        cls.addClassCleanup(process.terminate)
        cls.url = f"mysql://root@localhost/?unix_socket={socket}"
        engine = sa.create_engine(cls.url.replace("mysql:", "mysql+pymysql:"), poolclass=sa.NullPool)
        for _ in range(600):
            try:
                engine.connect().close()
                break
            except sa.exc.OperationalError:
                time.sleep(0.1)
        with engine.begin() as connection:
            for statement in (
                "create database shop character set utf8mb4",
                "create table shop.orders (id int primary key, `net value` decimal(12,2), big bigint unsigned, day date, at timestamp null, t time, ok tinyint(1), name varchar(40), j json, rate double, raw varbinary(8))",
                "set sql_mode = ''",
                "set time_zone = '+05:00'",
                "insert into shop.orders values (1, 12.50, 5, '2026-02-28', '2026-03-01 05:00:00', '10:20:30', 1, '50%% Ünï', '{\"a\": 1}', 0.1, x'00ff'), (2, null, 18446744073709551615, '0000-00-00', null, '-01:00:00', 0, '', null, 1e300, null)",
            ):
                connection.exec_driver_sql(statement)
        cls.url = cls.url.replace("localhost/", "localhost/shop")
        cls.engine = engine

    def test_values_of_each_type(self) -> None:
        source = (
            oak.intake(self.url, definition="orders.oak.toml", name="Orders", table="orders").source
            if False
            else self.taken('table = "orders"')
        )
        rows = source.rows().to_dicts()
        self.assertEqual(rows[0]["net value"], Decimal("12.50"))
        self.assertEqual(
            [rows[0][name] for name in ("big", "day", "at", "ok", "name", "rate")],
            [5, dt.date(2026, 2, 28), dt.datetime(2026, 3, 1), 1, "50% Ünï", 0.1],
        )
        self.assertEqual([rows[1][name] for name in ("net value", "big", "day", "name")], [None, None, None, ""])
        self.assertEqual({one.text for one in source.opened.bad_rows}, {"18446744073709551615", "0000-00-00"})
        self.assertEqual(
            source.tally(["ok"], ['SUM("net value")'], where="name LIKE '50%'").to_dicts(),
            [{"ok": 1, 'SUM("net value")': Decimal("12.50")}],
        )

    def test_a_query_and_nothing_written(self) -> None:
        source = self.taken("query = \"select id, name from orders where name like '50%'  # one\"")
        self.assertEqual(source.rows().to_dicts(), [{"id": 1, "name": "50% Ünï"}])
        for query in ("drop table orders", "select 1; drop table orders", "delete from orders"):
            with self.assertRaises(oak.OakError):
                self.taken(f'query = "{query}"').rows()
        with self.assertRaises(oak.OakError):
            self.taken("query = \"select * from orders into outfile '/tmp/x'\"").rows()
        with self.engine.connect() as connection:
            self.assertEqual(connection.exec_driver_sql("select count(*) from shop.orders").scalar(), 2)

    def taken(self, origin: str) -> oak.Source:
        self.oak(
            "intake",
            "--url",
            self.url,
            *(
                ("--table", "orders")
                if origin.startswith("table")
                else ("--query", origin.partition('"')[2].rpartition('"')[0])
            ),
            "--to",
            "o.oak.toml",
            "--keep-names",
            code=None,
        )
        source = oak.open_source("o.oak.toml")
        (self.folder / "o.oak.toml").unlink()
        return source


if __name__ == "__main__":
    unittest.main()
