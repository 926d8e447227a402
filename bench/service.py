"""What an answer of the service costs beside a bare application that reads the same Parquet file with Arrow: `python -m bench.service`.

Both are called in this process, without a network; the answers are compared first. CPU time, the least of some tries.
"""

from __future__ import annotations

import asyncio
import json
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from fastapi import FastAPI, Response

import oak_ledger as oak
from oak_ledger.service.app import application
from oak_ledger.service.asking import Shared
from oak_ledger.service.limits import Limits

ROWS, TRIES = 1_000_000, 15
TALLY = ("/sources/Loads/tally", "by=Mill&show=Volume&sort=Mill")


def asked(app: Any, path: str, query: str, token: str) -> bytes:
    """The content of an answer of an ASGI application."""
    found: list[bytes] = []

    async def receive() -> dict[str, Any]:
        return {"type": "http.request", "body": b"", "more_body": False}

    async def send(message: dict[str, Any]) -> None:
        found.append(message.get("body", b""))
        if message.get("status", 200) != 200:
            sys.exit(f"{path}: {message}")

    scope = {"type": "http", "asgi": {"version": "3.0"}, "http_version": "1.1", "method": "GET", "scheme": "http", "path": path, "raw_path": path.encode(), "query_string": query.encode(), "root_path": "", "headers": [(b"authorization", f"Bearer {token}".encode())], "client": ("127.0.0.1", 1), "server": ("127.0.0.1", 80), "state": {}}  # fmt: skip
    asyncio.run(app(scope, receive, send))
    return b"".join(found)


def cost(ask: Callable[[], bytes]) -> float:
    """Milliseconds of CPU, the least of some tries, the first left aside."""
    ask()
    spent = []
    for _ in range(TRIES):
        begin = time.process_time()
        ask()
        spent.append(time.process_time() - begin)
    return 1000 * min(spent)


def bare(file: Path) -> FastAPI:
    """An application that answers the one tally."""
    app = FastAPI()

    @app.get(TALLY[0])
    def tally() -> Response:
        groups = pq.read_table(file, columns=["Mill", "Volume"]).group_by("Mill").aggregate([("Volume", "sum")]).sort_by("Mill")  # fmt: skip
        rows = [{"Mill": row["Mill"], "Volume": row["Volume_sum"]} for row in groups.to_pylist()]
        return Response(json.dumps({"rows": rows}), media_type="application/json")

    return app


def main() -> None:
    """Compare, time, print."""
    rng = np.random.default_rng(1)
    table = pa.table({"Mill": pa.array([f"mill {one}" for one in rng.integers(0, 40, ROWS)]), "Volume": rng.integers(1, 60, ROWS)} | {f"Field {at}": rng.normal(size=ROWS).round(2) for at in range(58)})  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        place = oak.Catalogue.open(folder, create=True)
        place.publish(oak.Source.from_table(table, name="Loads"))
        place.release("Loads")
        token = place.people.make_token("bench", rights=["read"])
        ours, other = application(Shared(folder, Limits())), bare(next(Path(folder).rglob("*.parquet")))
        answers = [json.loads(asked(app, *TALLY, token))["rows"] for app in (ours, other)]
        if answers[0] != answers[1]:
            sys.exit(f"they differ: {answers[0][:2]}, {answers[1][:2]}")
        with_us, without = (cost(lambda app=app: asked(app, *TALLY, token)) for app in (ours, other))  # type: ignore[misc]
        begin = time.process_time()
        asked(ours, "/dictionary/Loads", "", token)
        first = 1000 * (time.process_time() - begin)
        page = cost(lambda: asked(ours, "/dictionary/Loads", "", token))
        print(
            f"tally of {ROWS:,} rows: {with_us:.1f} ms, bare application {without:.1f} ms, {with_us / without:.2f} times"
        )
        print(f"dictionary page of 60 fields: {first:,.0f} ms when it is made, {page:.1f} ms then")


if __name__ == "__main__":
    main()
