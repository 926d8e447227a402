"""The port at which clients of PostgreSQL are answered: a thread for each connection."""

from __future__ import annotations

import json
import socket
import ssl
import threading
from contextlib import suppress
from itertools import count
from typing import TextIO

from oak_ledger.service.asking import Shared
from oak_ledger.service.kept import Kept
from oak_ledger.service.sql import messages as m
from oak_ledger.service.sql.catalog import Catalog
from oak_ledger.service.sql.session import Session

CONNECTIONS = 100  # at a time; as many more are refused with a message
KEPT_CATALOGS = 16
STOPPING = 5.0  # seconds for what is being answered, once the port is to stop


class Log:
    """A line in JSON for each statement that was answered, in the log of the requests; tokens are in none."""

    def __init__(self, to: TextIO | None) -> None:
        self.to, self.lock = to, threading.Lock()

    def __call__(self, said: dict[str, object]) -> None:
        """Write a line."""
        if self.to is not None:
            with self.lock:
                self.to.write(json.dumps(said, ensure_ascii=False) + "\n")
                self.to.flush()


class SqlPort:
    """A port that listens in a thread of its own, until it is stopped."""

    def __init__(self, shared: Shared, listening: socket.socket, *, tls: ssl.SSLContext | None = None, log: TextIO | None = None) -> None:  # fmt: skip
        self.shared, self.listening, self.tls, self.log = shared, listening, tls, Log(log)
        self.number = listening.getsockname()[1]
        self.catalogs = Kept[Catalog](KEPT_CATALOGS)
        self.sessions: dict[int, Session] = {}
        self.threads: dict[int, threading.Thread] = {}
        self.lock = threading.Lock()
        self.numbers = count(1)
        self.accepting = threading.Thread(target=self._accept, daemon=True)
        self.accepting.start()

    def stop(self) -> None:
        """End every connection: questions that are being answered are cancelled."""
        with suppress(OSError):
            self.listening.shutdown(socket.SHUT_RDWR)
        self.listening.close()
        with self.lock:
            there, threads = [*self.sessions.values()], [*self.threads.values()]
        for session in there:
            session.cancel()
            session.connection.ended = True
        for thread in threads:
            thread.join(STOPPING)

    def _accept(self) -> None:
        while True:
            try:
                sock, address = self.listening.accept()
            except OSError:
                return
            number = next(self.numbers)
            session = Session(
                self.shared, m.Connection(sock), address[0], self.log, self.catalogs, self._is_crowded, self.tls, number
            )
            with self.lock:
                if len(self.sessions) >= 2 * CONNECTIONS:
                    session.connection.close()
                    continue
                if len(self.sessions) >= CONNECTIONS:
                    session.refused = f"There are {CONNECTIONS} connections."
                self.sessions[number] = session
                self.threads[number] = threading.Thread(target=self._serve, args=(session,), daemon=True)
                self.threads[number].start()

    def _serve(self, session: Session) -> None:
        try:
            session.connection.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            session.connection.sock.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
            session.run(self._cancel)
        finally:
            with self.lock:
                self.sessions.pop(session.number, None)
                self.threads.pop(session.number, None)
            session.connection.close()

    def _is_crowded(self, token: str) -> bool:
        """Whether one token has more than half of the room."""
        with self.lock:
            return sum(session.token == token for session in self.sessions.values()) > CONNECTIONS // 2

    def _cancel(self, number: int, key: int) -> None:
        with self.lock:
            session = self.sessions.get(number)
        if session is not None and session.key == key:
            session.cancel()
