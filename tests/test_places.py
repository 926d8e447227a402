"""Questions computed where the rows are: our own SQL against what is computed here, over a real PostgreSQL."""

from __future__ import annotations

import os
import random
import sqlite3
import sys
import unittest
from typing import Any

import psycopg
import pyarrow as pa
import sqlalchemy as sa
from sqlglot import exp

import oak_ledger as oak
from oak_ledger.engine import Query
from oak_ledger.functions.registry import LIBRARY
from oak_ledger.places import NotSaid, statement
from oak_ledger.places.templates import NOT_POSTGRESQL, POSTGRESQL
from tests import server, test_database
from tests.support import FolderCase
from tests.test_database import GROUPED, OVER_GROUPS, WINDOWS, grown

FORMULAS = int(os.environ.get("OAK_FORMULAS", "800"))
SEED = int(os.environ.get("OAK_SEED", "20261128"))


class OwnSql(test_database.Against):
    """Random formulas said by us and computed by the server."""

    dialect = "postgresql"
    stops: Any = psycopg.Error

    test_the_tables_of_values = None  # type: ignore[assignment]  # constants are computed before anything is said

    def test_random_formulas_over_rows(self) -> None:
        rng, said, refused = random.Random(SEED), 0, 0
        formulas = [grown(rng, rng.choice("iidfbbbtttyw"), rng.choice((1, 2, 2, 3))) for _ in range(FORMULAS)]
        for formula in [*formulas, *(one.replace("{at}", "at") for one in WINDOWS)]:
            shown = [("at", "at"), ("x", formula)]
            try:
                made = [self.source._expression(one, place="show")[0] for one in shown]
            except oak.OakError:
                continue  # a constant part is a fault
            query = Query(self.source.compiled.expressions, tuple(made), sort=self.source._sort(["at"], made))
            outcome = self.outcome(query, formula, lambda shown=shown: self.source.rows(shown, sort=["at"]))  # type: ignore[misc]
            said, refused = said + (outcome == "said"), refused + (outcome == "refused")
        sys.stderr.write(f"[our own SQL for {self.dialect}: {said:,} said, {refused:,} refused, seed {SEED}] ")
        self.assertGreater(said, 0.9 * FORMULAS)

    def test_groups(self) -> None:
        for by, formula in [
            *(((), one) for one in GROUPED),
            *((("b",), one) for one, _ in OVER_GROUPS),
            *((("t", "c"), one) for one in GROUPED),
        ]:
            query = self.source.planned_tally(by, [("x", formula)]).query
            outcome = self.outcome(
                query, formula, lambda by=by, formula=formula: self.source.tally(by, [("x", formula)])
            )  # type: ignore[misc]
            self.assertEqual(outcome, "said", formula)

    # the comparisons of the language itself are made in their own module
    test_windows_over_rows = test_windows_over_groups_and_ordered_aggregates = test_the_departures_are_as_listed = None  # type: ignore[assignment]

    def outcome(self, query: Query, formula: str, here: Any) -> str:
        try:
            text = statement(query, exp.to_table("r"), dialect=self.dialect).text()
        except NotSaid as error:
            self.assertTrue(error.why)
            return "refused"
        answer = here()
        try:
            rows = self.ask(text)
        except self.stops as error:
            self.assertTrue(answer.faults, f"{formula}: {error}\n{text}")
            return "faulted"
        if answer.faults:
            return "faulted"
        wanted = [tuple(row.values()) for row in answer.to_dicts()]
        self.assertEqual(len(rows), len(wanted), formula)
        for got, own in zip(rows, wanted, strict=True):
            for one, other in zip(own, got, strict=False):
                alike = (
                    abs(one - float(other)) <= 1e-9 * max(abs(one), 1)
                    if isinstance(one, float) and other is not None
                    else one == other
                )
                self.assertTrue(alike, f"{formula}: {own} here, {got} there\n{text}")
        return "said"


class InDuckdb(OwnSql):
    """The same statements as duckdb reads them."""

    dialect = "duckdb"

    @classmethod
    def setUpClass(cls) -> None:
        import duckdb

        columns = {
            name: pa.array([row[at] for row in test_database.ROWS], test_database.ARROW[kind])
            for at, (name, kind) in enumerate(test_database.COLUMNS.items())
        }
        r = pa.table({"at": [*range(1, len(test_database.ROWS) + 1)], **columns})
        cls.source, cls.connection = oak.Source.from_table(r, name="R"), duckdb.connect()
        cls.connection.execute("create table r as select * from r")
        cls.addClassCleanup(cls.connection.close)
        cls.stops = duckdb.Error


class Library(unittest.TestCase):
    def test_every_function_is_said_or_refused_with_a_reason(self) -> None:
        built = {"EXTRACT", "DATE_TRUNC", "MEDIAN", "PERCENTILE_CONT", "PERCENTILE_DISC", "LISTAGG"}
        known = {name.partition(":")[0].partition(",")[0] for name in (*POSTGRESQL, *NOT_POSTGRESQL)} | built
        self.assertEqual({*LIBRARY.entries} - known, set())


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
                self.assertEqual((there.rows_used, there.groups), (here.rows_used, here.groups))
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
        self.assertIn("letter case depends on the locale", " ".join(one.note for one in answer.steps))
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

    def test_commands(self) -> None:
        said = self.oak("tally", "t", "--by", "Mill", "--show", "Volume")
        self.assertIn("computed in the database", said)
        self.assertEqual(self.oak_json("tally", "t", "--show", "Volume", "--place", "here")["place"], "here")
        text = self.oak("sql", "t", "--by", "Mill", "--show", "Rate", "--sort", "Mill")
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
        shown = self.oak("create-view", "Tickets", *url, "--dry-run")
        self.assertIn("CREATE VIEW", shown)
        with psycopg.connect(self.uri, autocommit=True) as client:
            self.assertIsNone(client.execute("select to_regclass('yard.\"Tickets\"')").fetchone()[0])  # type: ignore[index]
            for more, kind in (((), "view"), (("--table", "--as", "Tickets table"), "table")):
                name = "Tickets table" if kind == "table" else "Tickets"
                for _ in range(2):  # made, and made again
                    said = self.oak("create-view", "Tickets", *url, *more)
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
                self.assertEqual(comment[1], "In m³, measured at the mill's 'gate'")
        self.assertIn("view-taken", self.oak("create-view", "Tickets", *url, "--as", "Load tickets", "--table", code=2))
        self.assertIn("The database refuses", self.oak("create-view", "Tickets", *url[:3], "nowhere", code=3))

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


if __name__ == "__main__":
    unittest.main()
