"""The process that listens: connections that send nothing whole are closed, more than there is room for are refused, and whoever waits learns that it stops."""

from __future__ import annotations

import asyncio
import resource
import socket
from collections.abc import Callable
from typing import Any

import uvicorn
from uvicorn.protocols.http.h11_impl import H11Protocol

from oak_ledger.service.edge import Application

HALF_SENT = 10.0  # seconds for a request to arrive
STOPPING = 10  # seconds for what is being answered, once it has to stop
KEPT_FILES = 128  # descriptors that are not for connections


class Timely(H11Protocol):
    """A connection on which a request has to arrive whole within some seconds."""

    waiting: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        """It begins to wait at once."""
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        """It waits no longer once a request is there."""
        super().data_received(data)
        if self.cycle is not None and not self.cycle.response_complete:
            self._stop_waiting()
        else:
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        """Nothing to wait for."""
        self._stop_waiting()
        super().connection_lost(exc)

    def _wait(self) -> None:
        if self.waiting is None:
            self.waiting = self.loop.call_later(HALF_SENT, self.transport.close)

    def _stop_waiting(self) -> None:
        if self.waiting is not None:
            self.waiting.cancel()
            self.waiting = None


def connections() -> int:
    """How many connections there may be at a time: for each a descriptor, of all that the system gives."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft < hard:
        soft = min(hard, 65_536)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    return max(soft - KEPT_FILES, 16)


class Server(uvicorn.Server):
    """What answers; `stopping` is called as soon as the process is to stop."""

    stopping: Callable[[], None] | None = None

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        """Finish what is being answered."""
        if self.stopping is not None:
            await asyncio.to_thread(self.stopping)
        await super().shutdown(sockets)


def server(app: Application, certificate: str = "", key: str = "") -> Server:
    """What answers; it ends once its `should_exit` is set."""
    config = uvicorn.Config(
        app, http=Timely, log_level="critical", access_log=False, server_header=False, timeout_graceful_shutdown=STOPPING, limit_concurrency=connections(),
        ssl_certfile=certificate or None, ssl_keyfile=key or None,
    )  # fmt: skip
    return Server(config)


def serve(app: Application, listening: socket.socket, certificate: str = "", key: str = "", *, stopping: Callable[[], None] | None = None) -> None:  # fmt: skip
    """Answer until the process stops, encrypted where there is a certificate."""
    made = server(app, certificate, key)
    made.stopping = stopping
    made.run(sockets=[listening])
