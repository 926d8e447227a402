"""What stands between the network and the answers: HEAD, the end of the service, and a log of requests."""

from __future__ import annotations

import asyncio
import datetime as dt
import json
import time
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any, TextIO

from oak_ledger.service.failures import failure

Message = MutableMapping[str, Any]
Send = Callable[[Message], Awaitable[None]]
Receive = Callable[[], Awaitable[Message]]
Application = Callable[[Message, Receive, Send], Awaitable[None]]


class WithHead:
    """HEAD is answered as GET is, without the content."""

    def __init__(self, app: Application) -> None:
        self.app = app

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """One request."""
        if scope["type"] != "http" or scope["method"] != "HEAD":
            await self.app(scope, receive, send)
            return

        async def without(message: Message) -> None:
            if message["type"] == "http.response.body":
                message = {**message, "body": b""}
            await send(message)

        await self.app({**scope, "method": "GET"}, receive, without)


class WithStop:
    """What cannot be finished when the service stops gets an answer that says so."""

    def __init__(self, app: Application) -> None:
        self.app = app

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """One request."""
        begun = False

        async def noted(message: Message) -> None:
            nonlocal begun
            begun = begun or message["type"] == "http.response.start"
            await send(message)

        try:
            await self.app(scope, receive, noted)
        except asyncio.CancelledError:
            if scope["type"] != "http" or begun:
                raise
            await failure(503, "too-busy", "The service stops.", "Ask again in a moment.")(scope, receive, send)


class WithLog:
    """A line in JSON for each request: when, who, what, the status, milliseconds, bytes. Tokens are in none."""

    def __init__(self, app: Application, to: TextIO) -> None:
        self.app, self.to = app, to

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """One request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        scope.setdefault("state", {})
        begun, said = time.perf_counter(), {"status": 500, "bytes": 0}

        async def noted(message: Message) -> None:
            if message["type"] == "http.response.start":
                said["status"] = message["status"]
            elif message["type"] == "http.response.body":
                said["bytes"] += len(message.get("body", b""))
            await send(message)

        try:
            await self.app(scope, receive, noted)
        finally:
            line = {
                "at": dt.datetime.now(dt.UTC).isoformat(timespec="milliseconds"),
                "who": scope["state"].get("person", ""),
                "method": scope["method"],
                "path": scope["path"],
                "query": scope.get("query_string", b"").decode("latin-1"),
                **said,
                "milliseconds": round((time.perf_counter() - begun) * 1000, 1),
            }
            self.to.write(json.dumps(line) + "\n")
            self.to.flush()
