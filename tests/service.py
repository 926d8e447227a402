"""A service as a process of its own, for tests; and requests to it by the standard library."""

from __future__ import annotations

import json
import subprocess
import sys
import unittest
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.error import HTTPError
from urllib.request import Request, urlopen

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
    """A running service."""

    url: str
    process: subprocess.Popen[str]

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
    line = process.stdout.readline()
    if "listening at " not in line:
        raise AssertionError(process.stderr.read())
    return Service(line.strip().rpartition(" ")[2], process)
