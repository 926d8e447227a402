"""The service as its users meet it: a real process, real requests, the rights of tokens, and its own description."""

from __future__ import annotations

import contextlib
import html
import io
import json
import re
import signal
import socket
import time
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from threading import Thread
from typing import Any
from unittest import mock
from urllib.error import HTTPError
from urllib.parse import quote, urlencode
from urllib.request import Request, urlopen

import pyarrow as pa
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq
import schemathesis
from hypothesis import HealthCheck, given, settings

import oak_ledger as oak
from oak_ledger.catalogue.rules import RIGHTS, STAGES, permitted
from oak_ledger.engine.deadline import within
from oak_ledger.service import server
from oak_ledger.service.limits import Limits, Slots
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
        running = service.here(self, Limits())
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


class WithService(test_rights.WithPeople):
    def setUp(self) -> None:
        super().setUp()
        place = self.place("maker")
        place.publish(self.source)
        place.release("Loads")
        self.write("r.report.toml", REPORT)
        place.reports.publish(oak.open_report("r.report.toml"))
        self.boss.people.grant("reader", ["read"], "general")
        self.reading = self.place("reader").people.make_token("t", rights=["read"])
        self.running = service.here(self, Limits(rows=50))
        self.local = self.place("reader").source("Loads")


class Asked(WithService):
    def test_every_format_has_the_same_answer(self) -> None:
        own = self.local.tally(["Mill"], ["Volume"], totals=True)
        path = "/sources/Loads/tally?by=Mill&show=Volume&format="
        said = self.running.get(path + "json&totals=true", self.reading).json
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
        for area in ("general", "north"):
            self.boss.people.grant("eve", ["read"], area)
        self.assertEqual(self.running.get("/reports/N", self.token("eve")).status, 200)  # a page that was made before
        self.assertIn(("north/Loads", "eve", 1), [one[:3] for one in self.boss.upkeep.readings()])
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
        many = f"/sources/{quote('Many öäü & Co', safe='')}"
        for what, size in (("rows?format=csv", 130), ("rows?format=csv&where=n > 100", 30), ("rows?format=csv&show=n&show=x = n * 2", 130), ("rows?format=csv&limit=7", 7), ("tally?by=t&show=COUNT(*)&format=csv", 7), ("rows?format=csv&sort=n", None), ("rows?format=arrow", None), ("rows?format=parquet", None), ("tally?by=n&format=csv", None)):  # fmt: skip
            reply = self.running.get(f"{many}/{what.replace(' ', '%20')}", self.reading)
            self.assertEqual(reply.status, 413 if size is None else 200, (what, reply.content[:200]))
            if size is not None:
                table = pa_csv.read_csv(io.BytesIO(reply.content))
                self.assertEqual(table.num_rows, size, what)
                self.assertIn("version", reply.headers["oak-version"])
        whole = pa_csv.read_csv(io.BytesIO(self.running.get(f"{many}/rows?format=csv", self.reading).content))
        self.assertEqual(whole.to_pylist(), place.source("Many öäü & Co").rows().to_dicts())

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

    def test_what_is_kept_is_for_who_may_see_it(self) -> None:
        """A page is made once; who may not see what is on it gets another, and who has lost the right nothing, at once."""
        paths = ("/dictionary/Loads", "/reports/R", "/sources/Loads/rows")
        for editing in (self.token("maker"), self.token("maker")):
            for path in paths:
                reader, maker = (self.running.get(path, one) for one in (self.reading, editing))
                self.assertEqual((reader.status, maker.status), (200, 200), path)
                again = self.running.get(path, self.reading)
                self.assertEqual((reader.content, reader.headers["etag"]), (again.content, again.headers["etag"]))
                self.assertNotIn(b"made of Secret", reader.content.replace(b"SUM(Secret)", b""))
        draft = self.place("maker")
        shown = self.running.get("/dictionary/Loads", self.token("maker"))
        draft.publish(self.source)
        self.assertNotEqual(self.running.get("/dictionary/Loads", self.token("maker")).content, shown.content)
        self.boss.people.revoke("reader", ["read"], "general")
        for path in paths:
            self.assertEqual(self.running.get(path, self.reading).status, 404)

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
        running = service.start(self)
        self.assertEqual(running.get("/health").json["status"], "up")
        running.process.send_signal(signal.SIGTERM)
        said, errors = running.process.communicate(timeout=15)
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
                case.call_and_validate(headers=headers)

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


class Manners(WithService):
    """Whole or refused: parameters, headers, addresses, faults."""

    def ask(self, method: str, path: str, **headers: str) -> Any:
        given = {
            "authorization": f"Bearer {self.reading}",
            **{name.replace("_", "-"): one for name, one in headers.items()},
        }
        try:
            with urlopen(Request(self.running.url + path, method=method, headers=given), timeout=60) as reply:  # noqa: S310
                return service.Reply(reply.status, reply.headers, reply.read())
        except HTTPError as error:
            with error:
                return service.Reply(error.code, error.headers, error.read())

    def test_what_is_not_known_or_has_no_place_is_refused_by_its_name(self) -> None:
        for path, status, words in (
            ("/sources/Loads/tally?show=Volume&wehre=Volume > 5", 422, "wehre"), ("/sources/Loads/tally?show=Volume&where=", 422, "where"),
            ("/sources/Loads/tally?show=Volume&limit=none", 422, "limit"), ("/sources/Loads/rows?totals=true", 422, "totals"),
            ("/sources/Loads/tally?show=Volume&totals=true&format=csv", 422, "totals"), ("/sources/Loads/tally?show=SUM(", 400, ""), ("/health?x=1", 422, "x"),
            ("/sources/Nothing", 404, "that you may see"), ("/nowhere", 404, ""), ("/reports?area=general", 422, "area"),
        ):  # fmt: skip
            with self.subTest(path):
                reply = self.running.get(path.replace(" ", "%20"), self.reading)
                self.assertEqual((reply.status, reply.headers["content-type"]), (status, "application/problem+json"))
                said = reply.json
                self.assertEqual((said["status"], said["type"], bool(said["title"])), (status, "about:blank", True))
                self.assertIn(words, said["detail"])

    def test_days_baselines_and_reports_are_what_they_are_here(self) -> None:
        """Rows of a day, the change since a version, and the figures of a report: the same by the client as in the library, faults and findings too."""
        place = self.place("maker")
        first = str(place.version("Loads", 1).made_at)
        time.sleep(1.1)  # a moment is said in seconds
        more = test_rights.CSV + "9,High Ford,40,3\n"
        self.write("loads.csv", more)
        place.publish(oak.open_source("loads.oak.toml"))
        place.release("Loads")
        there, here = oak.connect(self.running.url, self.reading), self.place("reader")
        asked: list[tuple[Any, Any]] = [
            (there.source("Loads", at=first), here.snapshots.source_at("Loads", first)),
            (there.source("Loads", baseline=1), here.source("Loads").with_baseline(here.source("Loads", 1))),
        ]
        for at, (remote, local) in enumerate(asked):
            for show in (
                "SUM(Volume)",
                "1 / (SUM(Volume) - 7)",
                *(["SUM(Volume) - BEFORE(SUM(Volume))"] if at else []),
            ):
                with self.subTest(at=at, show=show):
                    found, own = (one.tally(["Mill"], [("x", show)], totals=True) for one in (remote, local))
                    self.assertEqual(found.to_dicts(), own.to_dicts())
                    self.assertEqual(found.totals.to_pylist(), own.totals.to_pylist())  # type: ignore[union-attr]
                    self.assertEqual(found.faults, own.faults)
        self.assertNotEqual(
            asked[0][0].tally(["Mill"], ["COUNT(*)"]).to_dicts(),
            there.source("Loads").tally(["Mill"], ["COUNT(*)"]).to_dicts(),
        )
        rows = there.source("Loads", at=first).rows()
        self.assertEqual(rows.to_dicts(), here.snapshots.source_at("Loads", first).rows().to_dicts())
        self.assertEqual(there.reports(), ["R"])
        local_view = here.reports.get("R").report.view(here.source("Loads"))
        self.assertEqual(there.report("general/R"), json.loads(json.dumps(local_view.as_json(), default=str)))
        large = REPORT.replace('"R"', '"Large"').replace('["Volume"]', '[{ name = "n", formula = "COUNT(*) + 9007199254740992" }]')  # fmt: skip
        place.reports.publish(oak.open_report(self.write("large.report.toml", large)))
        self.assertEqual(there.report("Large")["panels"][0]["rows"], [{"n": "9007199254740995"}])  # as in every JSON
        for words, ask in (
            (
                "The day (at) says which version it is",
                lambda: there.source("Loads", 1, at=first).catalogue.fetched(
                    "/sources/Loads/tally", {"version": 1, "at": first}
                ),
            ),
            ("has no state of 1999-01-01", lambda: there.source("Loads", at="1999-01-01").tally(show=["COUNT(*)"])),
            ("There is nothing of that name", lambda: there.source("Loads", baseline=99).tally(show=["COUNT(*)"])),
        ):
            with self.subTest(words), self.assertRaises(oak.OakError) as caught:
                ask()
            self.assertIn(words, str(caught.exception))

    def test_what_is_retired_leads_to_what_replaces_it_and_back(self) -> None:
        place = self.place("maker")
        for name in ("Newer", "Last"):
            document = self.source.document
            place.publish(self.source.changed(document.replaced(document.all("source")[0], {"name": name})))
            place.release(name)
        place.retire("Loads", replaced_by="general/newer")

        def page(path: str) -> str:
            return re.sub(r"\s+", " ", html.unescape(self.running.get(path, self.reading).content.decode()))

        home = page("/")
        self.assertIn(
            f'New: <a href="/dictionary/Last?area=general">Last</a>, version 1, {str(place.version("Last").made_at)[:10]}; ',
            home,
        )
        retired = home.partition("<h2>Retired</h2>")[2]
        self.assertIn('use <a href="/dictionary/Newer?area=general">Newer</a>', retired)
        self.assertEqual(home.count('href="/dictionary/Loads?area=general&version=1"'), 1)
        self.assertIn(
            'Use instead: <a href="/dictionary/Newer?area=general">', page("/dictionary/Loads?area=general&version=1")
        )
        self.assertIn(
            'Replaces: <a href="/dictionary/Loads?area=general&version=1">Loads</a>', page("/dictionary/Newer")
        )
        self.assertNotIn("Replaces", page("/dictionary/Last"))

    def test_pages_lead_to_each_other_and_a_browser_gets_a_page_for_a_failure(self) -> None:
        """From the first page to a report and a source, and from each to the others: every link is there."""
        home = self.running.get("/", self.reading).content.decode()
        seen, waiting = {"/"}, [html.unescape(one) for one in re.findall(r'href="(/[^"#]*)', home)]
        self.assertTrue(any(one.startswith("/reports/R?") for one in waiting), waiting)
        while waiting:
            path = waiting.pop()
            if path not in seen:
                seen.add(path)
                reply = self.running.get(path, self.reading)
                self.assertEqual(reply.status, 200, path)
                found = [html.unescape(one) for one in re.findall(r'href="(/[^"#]*)', reply.content.decode())]
                self.assertIn("/", found, path)
                waiting += found
        self.assertEqual({one.split("/")[1] for one in seen}, {"", "reports", "dictionary"})
        for path, status, words in (("/dictionary/Zebra", 404, "There is nothing of that name"), ("/reports/Zebra", 404, "Not Found"), ("/zebra", 404, "All sources and reports")):  # fmt: skip
            reply = self.running.get(path, self.reading, accept="text/html,*/*")
            self.assertEqual((reply.status, reply.headers["content-type"].partition(";")[0]), (status, "text/html"))
            self.assertIn(words, reply.content.decode())
            self.assertEqual(self.running.get(path, self.reading).headers["content-type"], "application/problem+json")
        asked = self.running.get("/", accept="text/html")
        self.assertEqual((asked.status, asked.headers["www-authenticate"][:5]), (401, "Basic"))

    def test_headers(self) -> None:
        whole, head = self.ask("GET", TALLY), self.ask("HEAD", TALLY)
        self.assertEqual(
            (head.status, head.content, head.headers["content-length"]), (200, b"", str(len(whole.content)))
        )
        self.assertEqual((self.ask("POST", TALLY).status, self.ask("POST", TALLY).headers["allow"]), (405, "GET"))
        self.assertIn(
            "attachment; filename*=UTF-8''Loads.csv",
            self.ask("GET", "/sources/Loads/rows?format=csv").headers["content-disposition"],
        )
        tags = {
            self.ask("GET", "/dictionary/Loads", accept_encoding=one).headers["etag"] for one in ("identity", "gzip")
        }
        self.assertEqual(len(tags), 2)

    def test_the_next_page_is_of_the_same_version(self) -> None:
        first = self.ask("GET", "/sources/Loads/rows?sort=Id&limit=1")
        place = self.place("maker")
        place.publish(self.source.with_changed("Volume", clean="VALUE * 2"))
        place.release("Loads")
        following = first.headers["link"].partition("<")[2].partition(">")[0]
        self.assertIn("area=general&version=1&", following)
        self.assertEqual(
            self.ask("GET", following).json["rows"], place.source("Loads", 1).rows(sort=["Id"], limit=2).to_dicts()[1:]
        )
        self.assertNotEqual(self.ask("GET", "/sources/Loads/rows?sort=Id&limit=1").json["rows"], first.json["rows"])

    def test_numbers_that_json_would_round_are_texts(self) -> None:
        place = self.place("maker")
        place.publish(Source.from_table(pa.table({"n": [2**53 - 1, 2**53 + 1, -(2**60)]}), name="Big"))
        place.release("Big")
        self.assertEqual(
            [one["n"] for one in self.ask("GET", "/sources/Big/rows").json["rows"]],
            [2**53 - 1, str(2**53 + 1), str(-(2**60))],
        )
        there = oak.connect(self.running.url, self.reading).source("Big")
        self.assertEqual(there.rows().table.to_pylist(), [{"n": 2**53 - 1}, {"n": 2**53 + 1}, {"n": -(2**60)}])
        empty, own = there.rows([]), place.source("Big").rows([])
        self.assertEqual((empty.table.num_columns, empty.table.num_rows), (0, own.table.num_rows))

    def test_text_for_spreadsheets_runs_nothing(self) -> None:
        """Values and names, over HTTP as in files; and the headers say the version and how many values could not be computed."""
        place = self.place("maker")
        table = pa.table({"t": ["=1+1", "-2\n+cmd(1)", "\n@x", "-5", "plain"], "n": [0, 1, 2, 3, 4]})
        place.publish(Source.from_table(table, name="Notes"))
        place.release("Notes")
        path = "/sources/Notes/rows?" + urlencode([("show", "t"), ("show", "x = 1 / n"), ("format", "csv")])
        reply = self.ask("GET", path)
        self.assertEqual((reply.headers["oak-faults"], "Notes" in reply.headers["oak-version"]), ("1", True))
        self.assertEqual(
            pa_csv.read_csv(io.BytesIO(reply.content), parse_options=pa_csv.ParseOptions(newlines_in_values=True))
            .column("t")
            .to_pylist(),
            ["'=1+1", "'-2\n+cmd(1)", "'\n@x", "-5", "plain"],
        )

    def test_a_damaged_source_leaves_the_others_readable(self) -> None:
        place = self.place("maker")
        place.publish(Source.from_table(pa.table({"n": [1]}), name="Other"))
        place.release("Other")
        folder = self.folder / "catalogue" / "data"
        kept = self.place("maker").source("Other").opened
        for path in folder.iterdir():
            if path.stem in str(kept):
                path.write_bytes(b"damaged")
        for path in ("/", "/sources"):
            reply = self.ask("GET", path)
            self.assertEqual(reply.status, 200, path)
            self.assertIn(b"Loads", reply.content)
        reply = self.ask("GET", "/sources/Other/rows")
        self.assertEqual((reply.status, reply.json["code"]), (500, "not-readable"))
        self.assertNotIn(str(self.folder).encode(), reply.content)
        self.assertEqual(self.ask("GET", TALLY).status, 200)
        with self.assertRaises(oak.UnusableInput):
            oak.connect(self.running.url, self.reading).source("Other").rows()

    def test_health_tells_the_truth(self) -> None:
        self.assertEqual(self.ask("GET", "/health").json["status"], "up")
        (self.folder / "catalogue" / "catalogue.db").rename(self.folder / "away.db")
        reply = self.ask("GET", "/health")
        self.assertEqual((reply.status, reply.headers["retry-after"]), (503, "1"))

    def test_behind_a_proxy_with_other_origins_and_a_log(self) -> None:
        running = service.start(
            self,
            "--rows",
            "50",
            "--prefix",
            "/ledger",
            "--allow-origin",
            "https://desk.example",
            "--log",
            "requests.log",
        )
        page = running.get("/", self.reading).content.decode()
        self.assertIn('href="/ledger/dictionary/Loads', page)
        reply = running.get("/sources/Loads/rows?sort=Id&limit=1", self.reading, origin="https://desk.example")
        self.assertEqual(reply.headers["access-control-allow-origin"], "https://desk.example")
        self.assertIn("</ledger/sources/Loads/rows?", reply.headers["link"])
        self.assertIsNone(running.get("/health", origin="https://other.example").headers["access-control-allow-origin"])
        for _ in range(200):  # a line is written when its answer has gone
            if Path("requests.log").read_text().count("\n") == 3:
                break
            time.sleep(0.05)
        lines = [json.loads(line) for line in Path("requests.log").read_text().splitlines()]
        self.assertEqual(
            [(one["path"].removeprefix("/ledger"), one["status"], one["who"]) for one in lines],
            [("/", 200, "reader"), ("/sources/Loads/rows", 200, "reader"), ("/health", 200, "")],
        )
        self.assertTrue(all(0 < one["milliseconds"] < 60_000 for one in lines))
        self.assertNotIn(self.reading, Path("requests.log").read_text())

    def test_a_client_gives_its_token_to_no_other_host(self) -> None:
        """A redirect elsewhere, an answer that is none, and a service that is busy at first."""
        seen: list[str | None] = []
        busy = [True]

        class Strange(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                seen.append(self.headers.get("authorization"))
                if self.path.startswith("/away"):
                    self.send_response(302)
                    self.send_header("location", f"http://localhost:{self.server.server_port}/sources")  # type: ignore[attr-defined]
                    self.end_headers()
                    return
                if busy and self.path.startswith("/busy"):
                    busy.clear()
                    self.send_response(503)
                    self.send_header("retry-after", "0")
                    self.end_headers()
                    return
                self.send_response(200)
                self.end_headers()
                self.wfile.write(b"[]" if "busy" in self.path else b"<html>")

            def log_message(self, *_: Any) -> None:
                pass

        server = HTTPServer(("127.0.0.1", 0), Strange)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        Thread(target=server.serve_forever, daemon=True).start()
        url = f"http://127.0.0.1:{server.server_port}"
        for path, words in (("/away", "which is not given the token"), ("/page", "not an Oak Ledger service")):
            with self.assertRaises(oak.UnusableInput) as caught:
                oak.connect(url + path, "oak.secret")
            self.assertIn(words, str(caught.exception))
        self.assertEqual(seen.count("Bearer oak.secret"), 2)
        self.assertEqual(oak.connect(f"{url}/busy", "oak.secret").sources(), [])


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

    def test_what_comes_after_reading_ends_in_time_too(self) -> None:
        with within(0.2), self.assertRaises(oak.OakError) as caught:
            while True:
                Source.from_table(pa.table({"n": [1.5]}), name="S").tally(show=["SQRT(SUM(n))"])
        self.assertEqual(caught.exception.code, "too-slow")

    def test_one_token_leaves_room_for_another(self) -> None:
        slots = Slots(Limits(running=3, waiting=5, each=8, seconds=0.3))
        with slots.taken("a"), slots.taken("a"):
            with self.assertRaises(oak.OakError) as caught, slots.taken("a"):
                pass
            self.assertEqual(caught.exception.code, "too-busy")
            with slots.taken("b"):
                pass
        slots = Slots(Limits(running=4, each=2))
        with slots.taken("a"), slots.taken("a"):
            with self.assertRaises(oak.OakError) as caught, slots.taken("a"):
                pass
            self.assertEqual(caught.exception.code, "too-many")
            with slots.taken("b"):
                pass
        with slots.taken("a"):
            pass
        slots = Slots(Limits(running=2, waiting=0))
        with slots.taken("a"), slots.taken("b"):
            waited = mock.patch("threading.Condition.wait_for", side_effect=AssertionError("it waits"))
            with waited, self.assertRaises(oak.OakError) as caught, slots.taken("c"):
                pass
            self.assertEqual(caught.exception.code, "too-busy")

    @mock.patch.object(server, "HALF_SENT", 1.0)
    def test_requests_that_are_sent_by_half_end(self) -> None:
        running = service.here(self, Limits())
        address = ("127.0.0.1", int(running.url.rpartition(":")[2]))
        with socket.create_connection(address) as nothing, socket.create_connection(address) as half:
            half.sendall(b"GET /health HTTP/1.1\r\nHost: x\r\n")
            for one in (nothing, half):
                one.settimeout(60)
                self.assertEqual(one.recv(100), b"")
        self.assertEqual(running.get("/health").status, 200)

    def test_more_connections_than_there_is_room_for(self) -> None:
        running = service.start(self, files=160)
        address = ("127.0.0.1", int(running.url.rpartition(":")[2]))
        with contextlib.ExitStack() as stack:
            for _ in range(100):
                stack.enter_context(socket.create_connection(address))
            self.assertEqual(running.get("/health").status, 503)
        self.assertEqual(self.until(lambda: running.get("/health").status == 200), True)

    def until(self, holds: Callable[[], bool]) -> bool:
        return any(holds() or time.sleep(0.2) for _ in range(200))

    @mock.patch.object(server, "STOPPING", 1)
    def test_a_stop_is_told_to_who_waits(self) -> None:
        running = service.here(self, Limits(seconds=60))
        slow = "/sources/Large/tally?" + urlencode(
            [("show", f"SUM(CHAR_LENGTH(REPEAT(t, {at + 300})))") for at in range(40)]
        )
        with ThreadPoolExecutor(1) as pool:
            asked = pool.submit(running.get, slow, self.token("maker"))
            time.sleep(1)
            running.stop()
            reply = asked.result(timeout=60)
        self.assertIn(reply.status, (200, 503))
        if reply.status == 503:
            self.assertEqual(reply.json["detail"], "The service stops.")

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
