"""The service for some minutes, with publishing beside: `python -m tests.longer.serving [SECONDS]`.

Every value of a version is its number. So whatever comes back, pages and files and statements too, is of one version or it shows; refusals (429, 503)
are counted, and anything else that is no answer fails the run. Memory and open files are said at the end.
"""

from __future__ import annotations

import io
import json
import os
import sys
import tempfile
import threading
import time
import unittest
from collections import Counter
from collections.abc import Callable
from itertools import count
from pathlib import Path

import psutil
import psycopg
import pyarrow as pa
import pyarrow.csv as pa_csv

import oak_ledger as oak
from tests import service

ROWS = 20_000


def source(number: int) -> oak.Source:
    return oak.Source.from_table(pa.table({"at": range(ROWS), "k": ["a", "b"] * (ROWS // 2), "v": [number] * ROWS}), name="numbers")  # fmt: skip


class Run:
    def __init__(self, seconds: float, running: service.Service, port: int, token: str) -> None:
        self.seconds, self.running, self.port, self.token = seconds, running, port, token
        self.end = time.monotonic() + seconds
        self.counts: Counter[str] = Counter()
        self.wrong: list[str] = []
        self.times: dict[str, list[float]] = {}

    def expect(self, what: str, holds: bool, said: object) -> None:
        if not holds:
            self.wrong.append(f"{what}: {str(said)[:300]}")

    def get(self, path: str) -> service.Reply | None:
        reply = self.running.get(path, self.token)
        if reply.status in (429, 503):
            self.counts[f"refused {reply.status}"] += 1
            return None
        self.expect(path, reply.status == 200, (reply.status, reply.content))
        return reply if reply.status == 200 else None

    def tally(self) -> None:
        if reply := self.get(
            "/sources/numbers/tally?by=k&show=Low%20%3D%20MIN(v)&show=High%20%3D%20MAX(v)&show=COUNT(*)"
        ):
            said = reply.json
            values = {(row["Low"], row["High"]) for row in said["rows"]}
            number = int(said["version"].split()[1])
            self.expect("tally", values == {(number, number)}, said)

    def pages(self) -> None:
        path, seen = "/sources/numbers/rows?show=v&limit=700&where=at%20%3C%203000", []
        while reply := self.get(path):
            seen += [row["v"] for row in reply.json["rows"]]
            link = reply.headers.get("link", "")
            if not link:
                self.expect("pages", len(seen) == 3000 and len({*seen}) == 1, (len(seen), {*seen}))
                return
            path = link[1 : link.index(">")]

    def file(self) -> None:
        if reply := self.get("/sources/numbers/rows?format=csv"):
            table = pa_csv.read_csv(io.BytesIO(reply.content))
            self.expect("file", table.num_rows == ROWS and len(table.column("v").unique()) == 1, table.num_rows)

    def page(self) -> None:
        self.get("/dictionary/numbers")
        self.get("/")

    def statement(self) -> None:
        try:
            with psycopg.connect(
                host="127.0.0.1", port=self.port, user="x", password=self.token, autocommit=True
            ) as own:
                for _ in range(20):
                    row = own.execute("SELECT MIN(v), MAX(v), COUNT(*) FROM numbers").fetchone()
                    self.expect("statement", row is not None and row[0] == row[1] and row[2] == ROWS, row)
                own.execute("SELECT table_name FROM information_schema.tables")
        except psycopg.Error as error:
            self.expect("statement", error.sqlstate == "53300", error)
            self.counts["refused 53300"] += 1

    def again(self, what: str, ask: Callable[[], None]) -> None:
        times = self.times.setdefault(what, [])
        while time.monotonic() < self.end:
            begin = time.perf_counter()
            ask()
            times.append(time.perf_counter() - begin)

    def publish(self) -> None:
        place = oak.Catalogue.open("catalogue")
        for number in count(2):
            if time.monotonic() > self.end:
                return
            version = place.publish(source(number))
            self.expect("publish", version.number == number, version.number)
            place.release("numbers")
            self.counts["published"] += 1
            time.sleep(2)


def main() -> int:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 600.0
    os.chdir(tempfile.mkdtemp(prefix="oak-serving-"))
    place = oak.Catalogue.open("catalogue", create=True)
    place.publish(source(1))
    place.release("numbers")
    token = place.people.make_token("t", rights=["read"])
    case = unittest.TestCase()
    log = Path("log")
    running = service.start(case, "--sql", "0", "--log", str(log))
    run = Run(seconds, running, running.sql, token)
    process = psutil.Process(running.process.pid)
    asks = {"tally": run.tally, "pages": run.pages, "file": run.file, "page": run.page, "statement": run.statement}
    threads = [threading.Thread(target=run.again, args=item) for item in asks.items() for _ in range(2)]
    threads.append(threading.Thread(target=run.publish))
    for one in threads:
        one.start()
    taken = []
    while time.monotonic() < run.end:
        time.sleep(min(30.0, max(run.end - time.monotonic(), 0.1)))
        taken.append((process.memory_info().rss >> 20, process.num_fds()))
        print(f"{seconds - run.end + time.monotonic():.0f} s: {taken[-1][0]} MiB, {taken[-1][1]} files, {dict(run.counts)}", flush=True)  # fmt: skip
    for one in threads:
        one.join()
    for what, times in run.times.items():
        ordered = sorted(times)
        print(f"{what}: {len(ordered)} times, median {ordered[len(ordered) // 2] * 1000:.0f} ms, 95 % {ordered[len(ordered) * 95 // 100] * 1000:.0f} ms, longest {ordered[-1] * 1000:.0f} ms")  # fmt: skip
    faults = [line for line in log.read_text("utf-8").splitlines() if json.loads(line).get("status") == 500]
    print(f"{dict(run.counts)}; faults of the service in its log: {len(faults)}")
    for one in run.wrong[:20]:
        print(one)
    case.doCleanups()
    return 1 if run.wrong or faults else 0


if __name__ == "__main__":
    sys.exit(main())
