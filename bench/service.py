"""A small tally over HTTP, asked by 1, 4 and 16 clients at once: `python -m bench.service [SECONDS]`. The service is a process of its own on this machine."""

from __future__ import annotations

import os
import sys
import tempfile
import threading
import time
import unittest
from collections import Counter
from pathlib import Path
from urllib.parse import quote

import numpy as np
import psutil
from tests import service

import oak_ledger as oak

PATH = f"/sources/{quote('Timber loads')}/tally?by=Mill&show=Volume"


class Running(unittest.TestCase):
    """Whose service it is."""


def main() -> None:
    """Make the demo's source, ask, and print the figures."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 8
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        data = Path(folder)
        oak.make_demo_data(data, 60_000)
        found = oak.intake([data / "intake" / "loads_*.csv"], name="Timber loads", definition=data / "loads.oak.toml")
        place = oak.Catalogue.open("catalogue", create=True)
        place.publish(found.source)
        place.release("Timber loads")
        case = Running()
        running = service.start(case)
        process = psutil.Process(running.process.pid)
        tokens = [place.people.make_token(f"client {at}", rights=["read"]) for at in range(16)]
        for clients in (1, 4, 16):
            times: list[float] = []
            statuses: Counter[int] = Counter()
            end = time.monotonic() + seconds

            def ask(token: str) -> None:
                while time.monotonic() < end:  # noqa: B023
                    begin = time.perf_counter()
                    statuses[running.get(PATH, token).status] += 1  # noqa: B023
                    times.append(time.perf_counter() - begin)  # noqa: B023

            threads = [threading.Thread(target=ask, args=(token,)) for token in tokens[:clients]]
            for one in threads:
                one.start()
            for one in threads:
                one.join()
            p50, p99 = np.percentile(times, [50, 99]) * 1000
            memory = process.memory_info().rss / 2**20
            print(
                f"{clients} clients: {len(times) / seconds:.0f} a second, p50 {p50:.0f} ms, p99 {p99:.0f} ms, {memory:.0f} MB, answers {dict(statuses)}"
            )
        case.doCleanups()


if __name__ == "__main__":
    main()
