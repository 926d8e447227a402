"""The messages of the PostgreSQL protocol, version 3.0 (its documentation, "Frontend/Backend Protocol"): read from a connection, and written to it.

| to the client | | from the client | |
|---|---|---|---|
| R | authentication | p | password |
| S, K | a setting, the key for cancelling | Q | a simple query |
| Z | ready, and whether in a transaction | P, B, D, E | parse, bind, describe, execute |
| 1, 2, 3 | parsed, bound, closed | C, H, S | close, flush, sync |
| t, T, n | parameters, columns, no columns | X | the end |
| D, C, I, s | a row, completed, nothing asked, more rows wait | | |
| H, d, c | rows of a copy | | |
| E, N | an error, a notice | | |
"""

from __future__ import annotations

import select
import socket
import ssl
import struct
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass

LONGEST = 2**22  # bytes of a message that is taken
FIRST_LONGEST = 10_000  # of the one that begins
VERSION, CANCEL, WANTS_TLS, WANTS_GSS = 3 << 16, 80877102, 80877103, 80877104
AT_ONCE = 2**16  # bytes that are read or written at a time
SECONDS_TO_BEGIN, LOOKS = 10.0, 0.25  # until somebody has said who they are; between two looks at whether it ends


class Ended(Exception):
    """The client is gone, or sends what cannot be a message."""


@dataclass(frozen=True, slots=True)
class Column:
    """A column of an answer: its name, and its type by number, bytes (-1: any), and modifier."""

    name: str
    type: int
    size: int = -1
    modifier: int = -1


class Connection:
    """A socket on which messages come and go; what is written waits until it is flushed."""

    def __init__(self, sock: socket.socket) -> None:
        self.sock = sock
        self.arrived, self.waiting = bytearray(), bytearray()
        self.ends = time.monotonic() + SECONDS_TO_BEGIN
        self.ended = False
        self.arriving = select.poll()
        self.arriving.register(sock, select.POLLIN)
        sock.settimeout(SECONDS_TO_BEGIN)

    def has_begun(self) -> None:
        """From here on it may be silent for as long as it likes."""
        self.ends = float("inf")
        self.sock.settimeout(None)

    def first(self) -> tuple[int, bytes]:
        """The code with which a connection begins, and what comes with it."""
        size, code = struct.unpack("!ii", self._exactly(8))
        if not 8 <= size <= FIRST_LONGEST:
            raise Ended
        return code, self._exactly(size - 8)

    def read(self, longest: int = LONGEST) -> tuple[bytes, Body]:
        """The next message: its letter and its body."""
        letter = self._exactly(1)
        (size,) = struct.unpack("!i", self._exactly(4))
        if not 4 <= size <= longest:
            raise Ended
        return letter, Body(self._exactly(size - 4))

    def _exactly(self, count: int) -> bytes:
        while len(self.arrived) < count:
            try:
                self._wait()
                more = self.sock.recv(AT_ONCE)
            except OSError:
                raise Ended from None
            if not more:
                raise Ended
            self.arrived += more
        found = bytes(self.arrived[:count])
        del self.arrived[:count]
        return found

    def _wait(self) -> None:
        """Wait until something has arrived. Raises Ended when it has been told to end, or has not begun in time."""
        pending = isinstance(self.sock, ssl.SSLSocket) and self.sock.pending()
        while not pending and not self.arriving.poll(LOOKS * 1000):
            if self.ended or time.monotonic() > self.ends:
                raise Ended
        if self.ended:
            raise Ended

    def write(self, letter: bytes, body: bytes = b"") -> None:
        """A message, kept until there are many or they are flushed."""
        self.waiting += letter + struct.pack("!i", len(body) + 4) + body
        if len(self.waiting) > AT_ONCE:
            self.flush()

    def flush(self) -> None:
        """Send what waits."""
        self.answer(self.waiting)
        self.waiting.clear()

    def answer(self, content: bytes | bytearray) -> None:
        """Send bytes as they are."""
        try:
            self.sock.sendall(content)
        except OSError:
            raise Ended from None

    def encrypted(self, tls: ssl.SSLContext) -> Connection:
        """The same connection, encrypted from here on; what was sent before that is left out."""
        try:
            return Connection(tls.wrap_socket(self.sock, server_side=True))
        except OSError:
            raise Ended from None

    def close(self) -> None:
        """No more of it."""
        with suppress(OSError):
            self.sock.shutdown(socket.SHUT_RDWR)
        self.sock.close()


class Body:
    """The body of a message, read piece by piece. Raises Ended where it is too short."""

    def __init__(self, content: bytes) -> None:
        self.content, self.at = content, 0

    def text(self) -> str:
        """A text that ends with a zero."""
        end = self.content.find(b"\0", self.at)
        if end < 0:
            raise Ended
        found = self.content[self.at : end]
        self.at = end + 1
        return found.decode("utf-8", "replace")

    def numbers(self, letter: str, count: int) -> tuple[int, ...]:
        """So many numbers of two (h) or four (i) bytes."""
        return struct.unpack(f"!{count}{letter}", self.taken(count * struct.calcsize(f"!{letter}")))

    def counted(self, letter: str) -> tuple[int, ...]:
        """Numbers after a number of two bytes that says how many they are."""
        (count,) = self.numbers("h", 1)
        return self.numbers(letter, max(count, 0))

    def taken(self, count: int) -> bytes:
        """So many bytes."""
        found = self.content[self.at : self.at + count]
        if len(found) < count:
            raise Ended
        self.at += count
        return found

    def value(self) -> bytes | None:
        """A value after its length, or a null."""
        (size,) = self.numbers("i", 1)
        return None if size < 0 else self.taken(size)


def text(value: str) -> bytes:
    """A text that ends with a zero; one inside of it is left out, since the protocol cannot say it."""
    return value.replace("\0", "").encode("utf-8", "replace") + b"\0"


def fields(said: Mapping[str, str]) -> bytes:
    """The parts of an error or a notice, each after its letter."""
    return b"".join(letter.encode() + text(value) for letter, value in said.items() if value) + b"\0"


def columns(described: Sequence[Column], formats: Sequence[int]) -> bytes:
    """What an answer has, and whether its values are texts (0) or binary (1)."""
    said = [struct.pack("!h", len(described))]
    for column, how in zip(described, formats, strict=True):
        said.append(text(column.name) + struct.pack("!ihihih", 0, 0, column.type, column.size, column.modifier, how))
    return b"".join(said)


def row(values: Sequence[bytes | None]) -> bytes:
    """A row: each value after its length, a null as the length -1."""
    said = [b"\xff\xff\xff\xff" if value is None else struct.pack("!i", len(value)) + value for value in values]
    return struct.pack("!h", len(values)) + b"".join(said)
