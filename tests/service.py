"""A service, in a thread or as a process of its own, for tests; and requests to it by the standard library."""

from __future__ import annotations

import io
import json
import socket
import ssl
import subprocess
import sys
import threading
import unittest
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.error import HTTPError
from urllib.request import Request, urlopen

from oak_ledger.service.app import application
from oak_ledger.service.asking import Shared
from oak_ledger.service.limits import Limits
from oak_ledger.service.server import server
from oak_ledger.service.sql.listening import SqlPort

OAK = str(Path(sys.executable).parent / "oak")


@dataclass(frozen=True)
class Reply:
    """What came back."""

    status: int
    headers: Any
    content: bytes

    @property
    def json(self) -> Any:
        return json.loads(self.content)


@dataclass(frozen=True)
class Service:
    """A running service; its process where it has one of its own."""

    url: str
    own_process: subprocess.Popen[str] | None = None
    stop: Callable[[], None] = lambda: None
    sql: int = 0
    """The port for statements, where there is one."""

    @property
    def process(self) -> subprocess.Popen[str]:
        assert self.own_process is not None
        return self.own_process

    def get(self, path: str, token: str = "", **headers: str) -> Reply:
        given = {"authorization": f"Bearer {token}"} if token else {}
        request = Request(  # noqa: S310  it is our own
            self.url + path, headers={**given, **{name.replace("_", "-"): text for name, text in headers.items()}}
        )
        try:
            with urlopen(request, timeout=60) as reply:  # noqa: S310
                return Reply(reply.status, reply.headers, reply.read())
        except HTTPError as error:
            with error:
                return Reply(error.code, error.headers, error.read())


def here(case: unittest.TestCase, limits: Limits) -> Service:
    """The service over the catalogue in the folder in a thread of this process, until the test ends."""
    listening = socket.create_server(("127.0.0.1", 0))
    running = server(application(Shared(Path("catalogue").absolute(), limits)))
    thread = threading.Thread(target=running.run, kwargs={"sockets": [listening]})
    thread.start()

    def stop() -> None:
        running.should_exit = True
        thread.join()

    case.addCleanup(stop)
    return Service(f"http://127.0.0.1:{listening.getsockname()[1]}", stop=stop)


def statements(
    case: unittest.TestCase, limits: Limits, tls: ssl.SSLContext | None = None, log: io.StringIO | None = None
) -> SqlPort:
    """The port for PostgreSQL's clients over the catalogue in the folder, until the test ends."""
    port = SqlPort(
        Shared(Path("catalogue").absolute(), limits), socket.create_server(("127.0.0.1", 0)), tls=tls, log=log
    )
    case.addCleanup(port.stop)
    return port


def start(case: unittest.TestCase, *options: str, files: int = 0) -> Service:
    """The service over the catalogue in the folder, until the test ends; with so many `files` that it may open."""
    command = [OAK, "serve", "--port", "0", *options]
    limited = ["sh", "-c", f'ulimit -n {files} && exec "$@"', "sh", *command] if files else command
    process = subprocess.Popen(limited, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stderr is not None

    def stop() -> None:
        process.terminate()
        process.communicate(timeout=15)

    case.addCleanup(stop)
    line, sql = process.stdout.readline(), 0
    if "statements at " in line:
        sql = int(line.partition("/oak")[0].rpartition(":")[2])
        line = process.stdout.readline()
    if "listening at " not in line:
        raise AssertionError(process.stderr.read())
    return Service(line.strip().rpartition(" ")[2], process, sql=sql)
