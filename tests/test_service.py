"""The service as its users meet it: a real process, real requests, the rights of tokens, and its own description."""

from __future__ import annotations

import io
import signal
import unittest
from concurrent.futures import ThreadPoolExecutor
from urllib.parse import quote, urlencode

import pyarrow as pa
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq
import schemathesis
from hypothesis import HealthCheck, given, settings

import oak_ledger as oak
from oak_ledger.catalogue.rules import RIGHTS, STAGES, permitted
from oak_ledger.source import Source
from tests import service, test_rights
from tests.test_rights import REPORT

TALLY = "/sources/Loads/tally?" + urlencode([("by", "Mill"), ("show", "Volume"), ("show", "Share = SUM(Volume) / SUM(SUM(Volume)) OVER ()"), ("totals", "true")])  # fmt: skip


# that a request without a token gets nothing has a test of its own
WITHOUT = schemathesis.Config.from_dict({"checks": {"ignored_auth": {"enabled": False}}})


class ByRights(test_rights.Roles):
    """The rights table, row by row, over HTTP. What is tried in the library and by commands is not tried again."""

    test_every_role_action_and_stage_in_the_library = test_every_role_that_changes_a_stage = (
        test_what_is_done_to_an_area
    ) = None  # type: ignore[assignment]

    def test_every_role_and_stage(self) -> None:
        numbers = self.versions("Loads")
        self.boss.people.revoke("maker", [*RIGHTS], "general")
        running = service.start(self)
        asked = {"see": "/sources/Loads?version={}", "read": TALLY + "&version={}"}
        for person, held in self.everybody.items():
            token = self.token(person)
            for stage in STAGES:
                for action, path in asked.items():
                    with self.subTest(person=person, action=action, stage=stage):
                        reply = running.get(path.format(numbers[stage]), token)
                        self.assertEqual(reply.status, 200 if permitted(action, stage, held) else 404)
                        if reply.status == 404:
                            self.assertNotIn(b"Loads", reply.content)
            names = [one["name"] for one in running.get("/sources", token).json]
            self.assertEqual(names, ["Loads"] if any(permitted("see", stage, held) for stage in STAGES) else [])


class Asked(test_rights.WithPeople):
    def setUp(self) -> None:
        super().setUp()
        place = self.place("maker")
        place.publish(self.source)
        place.release("Loads")
        self.write("r.report.toml", REPORT)
        place.reports.publish(oak.open_report("r.report.toml"))
        self.boss.people.grant("reader", ["read"], "general")
        self.reading = self.place("reader").people.make_token("t", rights=["read"])
        self.running = service.start(self, "--rows", "50")
        self.local = self.place("reader").source("Loads")

    def test_every_format_has_the_same_answer(self) -> None:
        own = self.local.tally(["Mill"], ["Volume"], totals=True)
        path = "/sources/Loads/tally?by=Mill&show=Volume&totals=true&format="
        said = self.running.get(path + "json", self.reading).json
        self.assertEqual(
            (said["rows"], said["totals"], said["more"]), (own.to_dicts(), own.totals.to_pylist()[0], False)
        )  # type: ignore[union-attr]
        self.assertEqual(said["version"], str(self.local.published))
        arrow = pa.ipc.open_stream(self.running.get(path + "arrow", self.reading).content).read_all()
        parquet = pq.read_table(io.BytesIO(self.running.get(path + "parquet", self.reading).content))
        csv = pa_csv.read_csv(io.BytesIO(self.running.get(path + "csv", self.reading).content))
        for table in (arrow, parquet, csv):
            self.assertEqual(table.to_pylist(), own.to_dicts())
        self.assertEqual(arrow.schema.types, own.table.schema.types)

    def test_a_connected_source_is_asked_as_a_local_one(self) -> None:
        there = oak.connect(self.running.url, self.reading).source("Loads")
        self.assertEqual(there.fields, [one.name for one in self.local.fields if not one.hidden])
        for ask in (
            lambda one: one.tally(
                ["Mill"], ["Volume", ("Share", "SUM(Volume) / SUM(SUM(Volume)) OVER ()")], totals=True
            ),
            lambda one: one.tally(show=["Double", ("n", "COUNT(*)")], where="Volume > 5"),
            lambda one: one.rows(sort=["-Id"], limit=1),
            lambda one: one.rows(["Mill", ("x", "1 / (Volume - 5)")]),
            lambda one: one.rows(where=["Volume > 100", "Mill IS NOT NULL"]),
        ):
            got, own = ask(there), ask(self.local)
            self.assertTrue(got.table.equals(own.table), (got.to_dicts(), own.to_dicts()))
            self.assertEqual(got.table.schema, own.table.schema)
            self.assertEqual(
                (got.totals, got.faults, got.findings, got.formats), (own.totals, own.faults, own.findings, own.formats)
            )
            self.assertEqual((got.rows_read, got.rows_used, got.groups), (own.rows_read, own.rows_used, own.groups))
        for formula in ("SUM(Nothing)", "SUM(Secret)", "SUM(", "Volume + 'x'"):
            with self.subTest(formula):
                errors = []
                for one in (there, self.local):
                    with self.assertRaises(oak.OakError) as caught:
                        one.tally(show=[("x", formula)])
                    errors.append(str(caught.exception))
                self.assertEqual(*errors)
        self.raises("no-service", oak.connect, "http://127.0.0.1:9", self.reading)
        self.raises("no-token", oak.connect, self.running.url, "oak.nothing")

    def test_names_in_two_areas_and_who_read_what(self) -> None:
        """A report filed in one area reads the source of the area that it names; a token elsewhere sees neither; readings are kept."""
        self.boss.people.add_area("north")
        self.boss.people.grant("maker", ["read", "edit", "release"], "north")
        self.boss.people.grant("reader", ["read"], "north")
        maker = self.place("maker")
        maker.publish(self.source.with_changed("Volume", clean="VALUE * 100"), area="north")
        maker.release("north/Loads")
        text = REPORT.replace('name = "R"', 'name = "N"').replace('source = "Loads"', 'source = "north/Loads"')
        maker.reports.publish(oak.open_report(self.write("n.report.toml", text)), area="general")
        self.assertIn(b"1,500", self.running.get("/reports/N", self.reading).content)
        self.assertNotIn(b"1,500", self.running.get("/reports/R", self.reading).content)
        self.assertIn(("north/Loads", "reader", 1), [one[:3] for one in self.boss.upkeep.readings()])
        only = self.place("reader").people.make_token("north only", ["north"], ["read"])
        self.assertEqual(self.running.get("/reports/N", only).status, 404)
        self.assertEqual([one["area"] for one in self.running.get("/sources", only).json], ["north"])
        before = self.running.get("/sources/Loads/tally?area=north&show=Volume", self.reading).headers["etag"]
        maker.sign("north/Loads", note="twice")
        self.assertNotEqual(
            self.running.get("/sources/Loads/tally?area=north&show=Volume", self.reading).headers["etag"], before
        )

    def test_pages_of_rows_are_all_the_rows(self) -> None:
        self.write("many.csv", "n,t\n" + "".join(f"{at},text {at % 7}\n" for at in range(1, 131)))
        place = self.place("maker")
        place.publish(oak.intake("many.csv", name="Many öäü & Co", definition="many.oak.toml", keep_names=True).source)
        place.release("Many öäü & Co")
        path, rows = f"/sources/{quote('Many öäü & Co', safe='')}/rows?sort=n&limit=50", []
        while path:
            reply = self.running.get(path, self.reading)
            self.assertEqual(reply.status, 200, reply.content)
            rows += reply.json["rows"]
            path = reply.headers.get("link", "").partition("<")[2].partition(">")[0]
        self.assertEqual([one["n"] for one in rows], list(range(1, 131)))
        there = oak.connect(self.running.url, self.reading).source("Many öäü & Co")
        self.assertTrue(there.rows().table.equals(place.source("Many öäü & Co").rows().table))
        self.assertEqual(self.running.get("/sources/Loads/rows?limit=51", self.reading).status, 413)

    def test_a_token_that_is_not_valid_gets_nothing(self) -> None:
        self.boss.people.add_area("other")
        self.boss.people.grant("stranger", ["read"], "other")
        self.boss.people.grant("reader", ["read"], "other")
        mine = self.place("reader").people
        revoked = mine.make_token("revoked", rights=["read"])
        mine.revoke_token(next(one.number for one in mine.tokens() if one.name == "revoked"))
        ended = mine.make_token("ended", rights=["read"], days=-1)
        other = self.place("stranger").people.make_token("t", rights=["read"])
        elsewhere = mine.make_token("elsewhere", areas=["other"], rights=["read"])
        paths = (
            "/sources",
            "/sources/Loads",
            TALLY,
            "/sources/Loads/rows",
            "/dictionary/Loads",
            "/reports",
            "/reports/R",
            "/",
        )
        for path in paths:
            for token in ("", "oak.wrong", revoked, ended):
                reply = self.running.get(path, token)
                self.assertEqual((reply.status, reply.json["code"]), (401, "no-token"), (path, token))
            for token in (other, elsewhere):
                reply = self.running.get(path, token)
                self.assertIn(reply.status, (200, 404))
                for name in (b"Loads", b"Volume", b"Mill"):
                    self.assertNotIn(name, reply.content)
            self.assertEqual(self.running.get(path, self.reading).status, 200, path)
        # the password of a browser is a token as well
        basic = "Basic " + __import__("base64").b64encode(f"anyone:{self.reading}".encode()).decode()
        self.assertEqual(self.running.get("/reports/R", authorization=basic).status, 200)
        self.assertIn("Basic", self.running.get("/").headers["www-authenticate"])

    def test_hidden_fields_and_what_they_hold_are_nowhere(self) -> None:
        asked = [
            "/sources/Loads",
            "/dictionary/Loads",
            "/",
            "/sources/Loads/rows",
            "/sources/Loads/tally?show=Secret",
            "/sources/Loads/rows?show=Secret",
            "/sources/Loads/tally?show=Double",
        ]
        for path in asked:
            reply = self.running.get(path, self.reading)
            said = (
                reply.content.replace(b"SUM(Secret) * 2", b"")
                .replace(b'"Secret"', b"")
                .replace(b"'Secret'", b"")
                .replace(b"&#39;Secret&#39;", b"")
            )
            self.assertNotIn(b"made of Secret", said)
            self.assertEqual(reply.status, 400 if "show=Secret" in path else 200, path)

    def test_an_answer_that_has_not_changed_is_not_sent_again(self) -> None:
        first = self.running.get(TALLY, self.reading)
        again = self.running.get(TALLY, self.reading, if_none_match=first.headers["etag"])
        self.assertEqual((again.status, again.content), (304, b""))
        self.assertEqual(
            self.running.get(TALLY + "&limit=1", self.reading, if_none_match=first.headers["etag"]).status, 200
        )
        place = self.place("maker")
        place.publish(self.source)
        place.release("Loads")
        self.assertEqual(self.running.get(TALLY, self.reading, if_none_match=first.headers["etag"]).status, 200)

    def test_long_answers_are_compressed(self) -> None:
        reply = self.running.get("/dictionary/Loads", self.reading, accept_encoding="gzip")
        self.assertEqual(reply.headers["content-encoding"], "gzip")
        self.assertIn("default-src 'none'", reply.headers["content-security-policy"])

    def test_many_at_once_get_what_one_gets(self) -> None:
        wanted = self.running.get(TALLY, self.reading).content
        with ThreadPoolExecutor(6) as pool:
            replies = [*pool.map(lambda _: self.running.get(TALLY, self.reading), range(60))]
        self.assertEqual({(one.status, one.content) for one in replies}, {(200, wanted)})

    def test_it_stops_when_it_is_told_to(self) -> None:
        self.assertEqual(self.running.get("/health").json["status"], "up")
        self.running.process.send_signal(signal.SIGTERM)
        said, errors = self.running.process.communicate(timeout=15)
        self.assertNotIn("Traceback", said + errors)

    def test_its_description_is_true(self) -> None:
        """Requests made from the description alone, right and wrong ones; every answer must be as described."""
        schema = schemathesis.openapi.from_url(f"{self.running.url}/openapi.json", config=WITHOUT)
        headers, tried = {"authorization": f"Bearer {self.reading}"}, 0
        for operation in (one.ok() for one in schema.get_all_operations()):

            @settings(
                max_examples=8, deadline=None, database=None, derandomize=True, suppress_health_check=[*HealthCheck]
            )
            @given(case=operation.as_strategy())
            def conforms(case: schemathesis.Case) -> None:
                nonlocal tried
                tried += 1
                case.call_and_validate(
                    headers=headers,
                    excluded_checks=[schemathesis.checks.CHECKS.get_one("unsupported_method")] if False else [],
                )

            with self.subTest(operation.label):
                conforms()
        self.assertGreater(tried, 45)

    def test_a_stranger_gets_a_tally_from_the_description_alone(self) -> None:
        description = self.running.get("/openapi.json").json
        path = next(one for one, operations in description["paths"].items() if "Groups" in operations["get"]["summary"])
        known = {one["name"]: one for one in description["paths"][path]["get"]["parameters"]}
        self.assertEqual(known["name"]["in"], "path")
        reply = self.running.get(path.replace("{name}", "Loads") + "?by=Mill&show=Volume", self.reading)
        self.assertEqual([[*row.values()] for row in reply.json["rows"]], [["High Ford", 5], ["Low Weir", 10]])
        self.assertIn("bearer", str(description["components"]["securitySchemes"]).lower())


class Limited(test_rights.WithPeople):
    """Questions beyond the limits are refused at once, and the others are answered."""

    def setUp(self) -> None:
        super().setUp()
        rows = 250_000
        table = pa.table({"n": range(rows), "t": [f"text {at % 60_001}" for at in range(rows)]})
        self.place("maker").publish(Source.from_table(table, name="Large"))
        self.place("maker").release("Large")
        self.heavy = "/sources/Large/tally?" + urlencode(
            [("by", "UPPER(t)"), ("show", "COUNT(DISTINCT n)"), ("show", "MEDIAN(n)"), ("limit", 1)]
        )

    def test_one_token_and_all_together(self) -> None:
        running = service.start(self, "--running", "1", "--waiting", "3", "--each", "2")
        tokens = [self.token("maker") for _ in range(4)]
        with ThreadPoolExecutor(16) as pool:
            replies = [*pool.map(lambda at: running.get(f"{self.heavy}&offset={at}", tokens[at % 4]), range(16))]
            one_token = [*pool.map(lambda at: running.get(f"{self.heavy}&offset={100 + at}", tokens[0]), range(8))]
        statuses = [one.status for one in replies]
        self.assertEqual({*statuses} - {200, 429, 503}, set())
        self.assertIn(503, statuses)
        self.assertGreaterEqual(statuses.count(200), 4)
        self.assertIn(429, [one.status for one in one_token])
        refused = next(one for one in (*replies, *one_token) if one.status in (429, 503))
        self.assertEqual(refused.headers["retry-after"], "1")
        self.assertEqual(running.get("/health").status, 200)
        self.assertEqual(running.get(self.heavy, tokens[0]).status, 200)  # there is room again

    def test_a_question_that_takes_too_long_ends(self) -> None:
        running = service.start(self, "--seconds", "0.01")
        reply = running.get(self.heavy, self.token("maker"))
        self.assertEqual((reply.status, reply.json["code"]), (503, "too-slow"))

    def test_a_question_that_takes_too_much_memory_is_refused_and_the_service_goes_on(self) -> None:
        running = service.start(self, "--memory", "700M")
        token = self.token("maker")
        greedy = "/sources/Large/tally?" + urlencode([("show", "COUNT(DISTINCT REPEAT(t || CAST(n AS TEXT), 400000))")])
        for _ in range(2):
            reply = running.get(greedy, token)
            self.assertEqual((reply.status, reply.json["code"]), (413, "too-much"))
        self.assertEqual(running.get("/sources/Large/tally?show=COUNT(*)", token).json["rows"][0]["COUNT(*)"], 250_000)
        self.assertIn("bad-setting", self.oak("serve", "--memory", "much", code=2))


if __name__ == "__main__":
    unittest.main()
