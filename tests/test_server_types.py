"""What a server's types become: exact, in the server's own writing, or single values that are unreadable; never a whole column lost."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

import psycopg

import oak_ledger as oak
from tests import server
from tests.support import FolderCase

D = Decimal
# A type, values as literals of SQL, what is read of them, the field's type after intake, and the texts of which the first is reported as unreadable.
TYPES: tuple[tuple[str, tuple[str, ...], list[Any], str, set[str]], ...] = (
    ("numeric", ("1.10", "2.345", "null"), [D("1.100"), D("2.345"), None], "decimal(38,3)", set()),
    ("numeric", ("12345678901234567890.5", "'NaN'", "0"), [D("12345678901234567890.5"), None, D("0.0")], "decimal(38,1)", set()),
    ("numeric", ("0.1234567890123", "1", "2"), [0.1234567890123, 1.0, 2.0], "number", set()),
    ("numeric(8,2)", ("1.5", "'NaN'", "null"), [D("1.50"), None, None], "decimal(38,2)", set()),
    ("double precision", ("0.1", "'Infinity'", "'NaN'"), [0.1, None, None], "number", set()),
    ("date", ("'2026-02-28'", "'infinity'", "'0044-03-15 BC'"), [dt.date(2026, 2, 28), None, None], "date", {"infinity", "0044-03-15 BC"}),
    ("timestamp", ("'2026-02-28 10:00'", "'-infinity'", "'10000-01-01'"), [dt.datetime(2026, 2, 28, 10), None, None], "timestamp", {"-infinity", "10000-01-01 00:00:00"}),
    ("timestamptz", ("'2026-02-28 10:00+02'", "null", "'infinity'"), [dt.datetime(2026, 2, 28, 8), None, None], "timestamp", {"infinity"}),
    ("bytea", ("'\\x00ff'", "''", "null"), ["\\x00ff", "\\x", None], "text", set()),
    ("jsonb", ("'{\"a\": [1, 2]}'", "'null'", "null"), ['{"a": [1, 2]}', "null", None], "text", set()),
    ("text[]", ("array['a', 'b c']", "'{}'", "null"), ['{a,"b c"}', "{}", None], "text", set()),
    ("uuid", ("'0e37df36-f698-11e6-8dd4-cb9ced3df976'", "null", "null"), ["0e37df36-f698-11e6-8dd4-cb9ced3df976", None, None], "text", set()),
    ("interval", ("'1 day 2 hours'", "'-3 months'", "null"), ["1 day 02:00:00", "-3 mons", None], "text", set()),
    ("time", ("'10:20'", "null", "'23:59:59.5'"), ["10:20:00", None, "23:59:59.5"], "text", set()),
    ("char(4)", ("'ab'", "'abcd'", "null"), ["ab  ", "abcd", None], "text", set()),
    ("money", ("12.5", "null", "0"), [D("12.50"), None, D("0.00")], "decimal", set()),
)  # fmt: skip


class Types(FolderCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.uri = server.start(cls, "types of a server")
        cls.connection = psycopg.connect(cls.uri, autocommit=True)
        cls.addClassCleanup(cls.connection.close)

    def test_each_type(self) -> None:
        for at, (kind, values, wanted, field, unreadable) in enumerate(TYPES):
            with self.subTest(kind, values=values):
                rows = ", ".join(f"({number}, {one}::{kind})" for number, one in enumerate(values, 1))
                self.connection.execute(f'create table t{at} (n int, "x" {kind}); insert into t{at} values {rows}')
                for origin in (["--table", f"t{at}"], ["--query", f"select * from t{at} -- all"]):
                    (self.folder / "t.oak.toml").unlink(missing_ok=True)
                    self.oak("intake", "--url", self.uri, *origin, "--to", "t.oak.toml", "--keep-names", code=None)
                    source = oak.open_source("t.oak.toml")
                    self.assertEqual(source.state("x").type_name.split("(")[0], field.split("(")[0])
                    here = source.computed("here").rows(sort=["n"])
                    self.assertEqual([row["x"] for row in here.to_dicts()], wanted)
                    said = next((one for one in here.findings if one.code == "rows-mended"), None)
                    self.assertEqual(said.numbers["rows"] if said else 0, len(unreadable), said)
                    self.assertTrue(not unreadable or any(one in said.message for one in unreadable), said)
                    there = source.tally(["x"], ["COUNT(*)"], sort=["x"])
                    self.assertEqual(
                        there.to_dicts(),
                        source.computed("here").tally(["x"], ["COUNT(*)"], sort=["x"]).to_dicts(),
                        there.place,
                    )
                    told = [one.numbers["rows"] for one in there.findings if one.code == "rows-mended"]
                    self.assertEqual(told, [len(unreadable)] if unreadable else [], there.place)


class Places(FolderCase):
    """Where a table is, and what of it may be read."""

    def test_names_schemas_and_columns(self) -> None:
        uri = server.start(type(self), "names and grants of a server")
        with psycopg.connect(uri, autocommit=True) as connection:
            connection.execute(
                'create schema "in.side"; create table "in.side"."my.table" (a int, "50%" int, secret int); insert into "in.side"."my.table" values (1, 2, 3)'
            )
            connection.execute(
                'create table "dotted.name" (a int); insert into "dotted.name" values (7); create role limited login; grant usage on schema "in.side" to limited; grant select (a, "50%") on "in.side"."my.table" to limited'
            )
        cases = (
            (uri, '"dotted.name"', [{"a": 7}]),
            (uri, '"in.side"."my.table"', [{"a": 1, "50%": 2, "secret": 3}]),
            (uri.replace("postgres:@", "limited@", 1), '"in.side"."my.table"', [{"a": 1, "50%": 2}]),
            (uri.replace("postgresql:", "postgres:", 1), '"dotted.name"', [{"a": 7}]),
        )
        for at, (url, table, wanted) in enumerate(cases):
            with self.subTest(url=url, table=table):
                self.oak("intake", "--url", url, "--table", table, "--to", f"{at}.oak.toml", "--keep-names")
                source = oak.open_source(f"{at}.oak.toml")
                self.assertEqual(source.rows().to_dicts(), wanted)
                answer = source.tally(show=["SUM(a)"])
                self.assertEqual((answer.value(), answer.place), (wanted[0]["a"], "origin"))


# Fields over a column of texts: the keys of the field, texts that it reads, and one that it does not.
TEXTS: tuple[tuple[str, tuple[str, ...], str], ...] = (
    ('type = "integer"', ("1", " -20 ", "+3", "", "9223372036854775807"), "1.5"),
    ('type = "integer"\nnull_words = ["n/a"]', ("1", "n/a", "3"), "007"),
    ('type = "decimal(12,2)"', ("1.5", "-.25", "12.5000", "  7"), "1.125"),
    ('type = "decimal(12,2)"\nthousands_mark = "."\ndecimal_mark = ","', ("1.234,50", "-3", "12.345.678", "0,1"), "1,2,3"),
    ('type = "number"', ("1e3", ".5", "-2.25", "1E-2"), "abc"),
    ('type = "boolean"', ("yes", "No", " TRUE ", "0"), "maybe"),
    ('type = "date"\ntemplate = "DD.MM.YYYY"', ("28.02.2026", "1.3.2026", "31.12.1999"), "30.02.2026"),
    ('type = "date"\ntemplate = "MM/DD/YYYY"', ("02/28/2026", "3/1/2026"), "13/01/2026"),
    ('type = "date"', ("2026-02-28", "2026-02-28 10:20:30"), "28.02.2026"),
    ('type = "timestamp"', ("2026-02-28T10:20", "2026-02-28", "2026-02-28 10:20:30.25"), "yesterday"),
    ('type = "timestamp"\ntemplate = "DD.MM.YYYY HH24:MI"', ("28.02.2026 07:05", "1.3.2026 23:59"), "28.02.2026 25:00"),
    ("type = \"text\"\nclean = \"CAST(PLAIN_NUMBER(VALUE, '.', ',', 'EUR') AS DECIMAL(18,2))\"", ("EUR 1,250.50", "(3.10)", "7 EUR"), "USD 1"),
    ('type = "text"\nvalues = {a = "Alpha", b = "Beta"}', ("a", "b", "c"), ""),
)  # fmt: skip


# Texts that a server's own functions make something of, and others that they do not take: there or here, the answer is one.
ODD: tuple[tuple[str, tuple[str, ...]], ...] = (
    ('type = "date"\ntemplate = "DD.MM.YYYY"', ("00.02.2026", "01.00.2026", "01.01.0000", "1.1.0001", "31.12.9999", "29.02.2025", "1.2.26", "01.02.2026 ")),
    ('type = "date"\ntemplate = "DDMMYYYY"', ("01022026", "1112026", "00022026", "1022026")),
    ('type = "date"\ntemplate = "YYYYMM"', ("202602", "20262", "202600", "000001")),
    ('type = "timestamp"\ntemplate = "DD.MM.YYYY HH24:MI:SS"', ("28.02.2026 24:00:00", "28.02.2026 23:59:60", "28.02.2026 7:05:09", "28.02.2026 07:5:09")),
    ('type = "timestamp"', ("2026-02-28 24:00", "2026-02-28 23:59:60", "2026-02-28T23:59:59.999999", "0000-01-01", "2026-2-28", "infinity", "now")),
    ('type = "date"', ("2026-02-28 24:00", "epoch", "today", "2026-02-30", "0001-01-01")),
    ('type = "integer"', ("9223372036854775808", "1_000", "0x1F", "١٢", "1e3", "-0", "+7")),
    ('type = "decimal(6,2)"', ("9999.99", "10000", "NaN", "Infinity", "1e2", "1e-2", "-0.00", ".5", "5.", "0.125")),
    ('type = "number"', ("NaN", "inf", "1e400", "1e-400", "1e308", "0x10", "1_0", "-0")),
    ('type = "boolean"', ("YES", "oN", "tru", "1", "01", "İ")),
)  # fmt: skip


class FieldsOverTexts(Types):
    """The ordinary field of a real source is typed from text: it is computed in the database where every value can be read, else here, with the row."""

    def test_each_type(self) -> None:
        for at, (keys, texts, bad) in enumerate(TEXTS):
            with self.subTest(keys):
                self.connection.execute(f"create table x{at} (n int, x text)")
                for values in (texts, (bad,)):
                    with self.connection.cursor() as cursor:
                        cursor.executemany(
                            f"insert into x{at} values (%s, %s)",
                            [(n, one) for n, one in enumerate((*values, None) * 3)],
                        )
                    origin = f'kind = "database"\nurl = "{self.uri}"\ntable = "x{at}"'
                    fields = f'[[field]]\nname = "n"\ncolumn = "n"\ntype = "integer"\n\n[[field]]\nname = "x"\ncolumn = "x"\n{keys}\n'
                    self.write("x.oak.toml", f'[source]\nname = "X"\nkey = ["n"]\n\n[origin]\n{origin}\n\n{fields}')
                    source = oak.open_source("x.oak.toml")
                    there, here = (
                        one.tally(["x"], ["COUNT(*)", "SUM(n)"], sort=["x"])
                        for one in (source, source.computed("here"))
                    )
                    self.assertEqual(there.place, "origin" if values is texts or not bad else "here")
                    self.assertEqual(there.to_dicts(), here.to_dicts())
                    self.assertEqual(there.faults, here.faults)
                    self.assertEqual(bool(here.faults), values is not texts and bool(bad))

    def test_odd_texts_are_alike_there_and_here(self) -> None:
        self.connection.execute("create table odd (n int, x text)")
        for keys, texts in ODD:
            for text in texts:
                with self.subTest(keys, text=text):
                    self.connection.execute("truncate odd")
                    self.connection.execute("insert into odd values (1, %s), (2, null)", [text])
                    origin = f'kind = "database"\nurl = "{self.uri}"\ntable = "odd"'
                    self.write(
                        "x.oak.toml",
                        f'[source]\nname = "X"\n\n[origin]\n{origin}\n\n[[field]]\nname = "x"\ncolumn = "x"\n{keys}\n',
                    )
                    source = oak.open_source("x.oak.toml")
                    there, here = (one.tally(["x"], ["COUNT(*)"]) for one in (source, source.computed("here")))
                    self.assertEqual(there.to_dicts(), here.to_dicts(), there.place)
                    self.assertEqual(there.faults, here.faults)
