"""The service under load: sixteen clients at once get right answers, memory stays, and beyond the limits it refuses and goes on."""

from __future__ import annotations

import sys
import threading
import time
import unittest
from collections import Counter
from pathlib import Path
from urllib.parse import quote

import psutil

import oak_ledger as oak
from tests import service
from tests.support import FolderCase

SECONDS = 8.0
PATH = f"/sources/{quote('Timber loads')}/tally?by=Mill&show=Volume"


class UnderLoad(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        oak.make_demo_data(Path("data"), 20_000)
        found = oak.intake([Path("data/intake/loads_*.csv")], name="Timber loads", definition="loads.oak.toml")
        place = oak.Catalogue.open("catalogue", create=True)
        place.publish(found.source)
        place.release("Timber loads")
        self.tokens = [place.people.make_token(f"client {at}", rights=["read"]) for at in range(16)]

    def load(self, running: service.Service, tokens: list[str]) -> tuple[Counter[int], set[bytes], list[float]]:
        statuses: Counter[int] = Counter()
        contents: set[bytes] = set()
        times: list[float] = []
        end = time.monotonic() + SECONDS

        def ask(token: str) -> None:
            while time.monotonic() < end:
                begin = time.perf_counter()
                reply = running.get(PATH, token)
                statuses[reply.status] += 1
                contents.update([reply.content] if reply.status == 200 else [])
                times.append(time.perf_counter() - begin)

        threads = [threading.Thread(target=ask, args=(token,)) for token in tokens]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        return statuses, contents, sorted(times)

    def test_sixteen_clients(self) -> None:
        running = service.start(self)
        wanted = running.get(PATH, self.tokens[0]).content
        process = psutil.Process(running.process.pid)
        self.load(running, self.tokens[:4])
        before = process.memory_info().rss
        statuses, contents, times = self.load(running, self.tokens)
        grown = (process.memory_info().rss - before) / 2**20
        self.assertEqual((set(statuses), contents), ({200}, {wanted}))
        self.assertLess(grown, 150)
        p50, p99 = (times[int(len(times) * share)] * 1000 for share in (0.5, 0.99))
        sys.stderr.write(
            f"[16 clients: {len(times) / SECONDS:.0f} answers a second, p50 {p50:.0f} ms, p99 {p99:.0f} ms, {grown:+.0f} MB] "
        )

    def test_beyond_the_limits_it_refuses_and_goes_on(self) -> None:
        running = service.start(self, "--running", "1", "--waiting", "2", "--each", "2")
        statuses, contents, _ = self.load(running, self.tokens[:5] * 3)
        self.assertEqual(set(statuses) - {200, 429, 503}, set())
        self.assertEqual(len(contents), 1)
        self.assertGreater(statuses[200], 0)
        self.assertGreater(statuses[503] + statuses[429], 0)
        self.assertEqual(running.get(PATH, self.tokens[0]).status, 200)
        sys.stderr.write(f"[beyond the limits: {dict(statuses)}] ")


if __name__ == "__main__":
    unittest.main()
