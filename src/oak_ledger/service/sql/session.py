"""One connection: who it is, what it has prepared, and an answer to each message."""

from __future__ import annotations

import datetime as dt
import ipaddress
import re
import secrets
import ssl
import struct
import time
import traceback
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from typing import TypeVar

import pyarrow as pa
from sqlglot import exp

from oak_ledger.engine.deadline import Deadline
from oak_ledger.errors import OakError
from oak_ledger.service.asking import Asker, Shared
from oak_ledger.service.kept import Kept
from oak_ledger.service.sql import messages as m
from oak_ledger.service.sql.catalog import REPORTED, Catalog, is_of_system
from oak_ledger.service.sql.failures import FAULT, READ_ONLY, Failed, failed
from oak_ledger.service.sql.language import Node, parsed, statements
from oak_ledger.service.sql.statement import Question, Table, parameter_types, question_of, table_of
from oak_ledger.service.sql.values import Parameter, column_in, column_of, oid_of, parameter, rows_of
from oak_ledger.source import Answer, Source

Kind = TypeVar("Kind")
MOST = 500  # statements that are prepared, and bound, at a time
_COPY = re.compile(r"(?is)copy\s*\((.*)\)\s*to\s+stdout\s*(?:with\s*)?(.*)")
_WORD = re.compile(r"\s*(?:--[^\n]*\n\s*|/\*.*?\*/\s*)*([A-Za-z]+)", re.DOTALL)
_CHANGES = frozenset(["INSERT", "UPDATE", "DELETE", "MERGE", "CREATE", "ALTER", "DROP", "TRUNCATE", "GRANT", "REVOKE", "REFRESH", "VACUUM", "ANALYZE", "COMMENT", "CALL", "DO", "REINDEX", "CLUSTER", "LOCK"])  # fmt: skip
_ACKNOWLEDGED = frozenset(["SET", "RESET", "DISCARD", "DEALLOCATE", "SAVEPOINT", "RELEASE", "UNLISTEN", "CLOSE"])
_BEGINS, _ENDS = ("BEGIN", "START"), ("COMMIT", "END", "ROLLBACK", "ABORT")


@dataclass(frozen=True, slots=True)
class Prepared:
    """A statement that was read: its first word, its tree where it asks something, the types of its parameters, and the columns that it will have."""

    text: str
    word: str = ""
    tree: Node | None = None
    table: Table | None = None
    parameters: tuple[int, ...] = ()
    columns: tuple[m.Column, ...] = ()


@dataclass
class Portal:
    """A statement with values, and how far its rows were sent."""

    prepared: Prepared
    values: dict[int, Parameter]
    formats: tuple[int, ...]
    rows: Sequence[tuple[bytes | None, ...]] | None = None
    at: int = 0


@dataclass
class Session:
    """One connection to a client; `cancel` may be called by another one."""

    shared: Shared
    connection: m.Connection
    peer: str
    log: Callable[[dict[str, object]], None]
    catalogs: Kept[Catalog]
    crowded: Callable[[str], bool]
    tls: ssl.SSLContext | None = None
    number: int = 0
    key: int = field(default_factory=lambda: secrets.randbits(31))
    token: str = ""
    person: str = ""
    state: str = "I"
    refused: str = ""
    deadline: Deadline | None = None
    prepared: dict[str, Prepared] = field(default_factory=dict)
    portals: dict[str, Portal] = field(default_factory=dict)

    def run(self, cancelled: Callable[[int, int], None]) -> None:
        """Serve it until it ends; a wish to cancel another one is passed on."""
        try:
            if not self._begin(cancelled):
                return
            self._ready()
            skipping = False
            while True:
                letter, body = self.connection.read()
                if letter == b"X":
                    return
                if letter == b"S":
                    skipping = False
                    self._ready()
                elif not skipping:
                    skipping = not self._answered(letter, body)
        except m.Ended:
            if self.connection.ended:
                self._say_goodbye()

    def cancel(self) -> None:
        """End the question that is being answered, if there is one."""
        until = self.deadline
        if until is not None:
            until.cancelled = True

    # -- beginning -------------------------------------------------------------------------------------------

    def _begin(self, cancelled: Callable[[int, int], None]) -> bool:
        """Who it is, as they say it; False where there is nothing more to do."""
        code, rest = self.connection.first()
        for _ in range(2):
            if code not in (m.WANTS_TLS, m.WANTS_GSS):
                break
            encrypted = code == m.WANTS_TLS and self.tls is not None
            self.connection.answer(b"S" if encrypted else b"N")
            if encrypted and self.tls is not None:
                self.connection = self.connection.encrypted(self.tls)
            code, rest = self.connection.first()
        if code == m.CANCEL:
            cancelled(*struct.unpack_from("!ii", rest.ljust(8, b"\0")))
            return False
        if self.refused:
            self._fatal("53300", self.refused)
            return False
        if code >> 16 != 3:
            self._fatal("08P01", "This is version 3 of the protocol.")
            return False
        if code != m.VERSION:
            self.connection.write(b"v", struct.pack("!ii", m.VERSION, 0))
        if not isinstance(self.connection.sock, ssl.SSLSocket) and not ipaddress.ip_address(self.peer).is_loopback:
            self._fatal("28000", "A token is taken only where the connection is encrypted.", "Connect with TLS (sslmode=require).")  # fmt: skip
            return False
        self.connection.write(b"R", struct.pack("!i", 3))
        self.connection.flush()
        letter, body = self.connection.read(m.FIRST_LONGEST)
        if letter != b"p":
            raise m.Ended
        self.token = body.text()
        try:
            self.person = Asker(self.shared, self.token).catalogue.person if self.token else ""
        except OakError:
            self.person = ""
        if not self.person:
            self._fatal("28P01", "The password is a token, and this one is not valid.", "oak catalogue tokens make makes one.")  # fmt: skip
            return False
        if self.crowded(self.token):
            self._fatal("53300", "This token has too many connections.")
            return False
        self.connection.has_begun()
        self.connection.write(b"R", struct.pack("!i", 0))
        for name, value in {**REPORTED, "session_authorization": self.person}.items():
            self.connection.write(b"S", m.text(name) + m.text(value))
        self.connection.write(b"K", struct.pack("!ii", self.number, self.key))
        return True

    def _fatal(self, state: str, message: str, hint: str = "") -> None:
        self.connection.write(b"E", m.fields({"S": "FATAL", "V": "FATAL", "C": state, "M": message, "H": hint}))
        self.connection.flush()

    def _say_goodbye(self) -> None:
        with suppress(m.Ended):
            self._fatal("57P01", "The service stops.")

    def _ready(self) -> None:
        if self.state == "I":  # what was bound ends with its transaction
            self.portals.clear()
        self.connection.write(b"Z", self.state.encode())
        self.connection.flush()

    # -- messages --------------------------------------------------------------------------------------------

    def _answered(self, letter: bytes, body: m.Body) -> bool:
        """Answer a message; False where it failed, and the rest up to the next sync is left out."""
        handlers = {b"Q": self._simple, b"P": self._parse, b"B": self._bind, b"D": self._describe, b"E": self._execute, b"C": self._close}  # fmt: skip
        simple = letter == b"Q"
        try:
            if letter == b"H":
                self.connection.flush()
            elif letter in handlers:
                handlers[letter](body)
            elif letter not in (b"d", b"c", b"f"):
                self._fail(Failed("08P01", f"The message {letter!r} is not known."))
        except m.Ended:
            raise
        except Exception as error:
            if failed(error).state == FAULT:
                traceback.print_exc()
            self._fail(failed(error))
            if simple:
                self._ready()
            return simple
        if simple:
            self._ready()
        return True

    def _fail(self, error: Failed) -> None:
        self.state = "E" if self.state != "I" else "I"
        self.connection.write(b"E", m.fields({"S": "ERROR", "V": "ERROR", "C": error.state, "M": error.message, "D": error.detail, "H": error.hint}))  # fmt: skip

    def _simple(self, body: m.Body) -> None:
        texts = statements(body.text())
        if not texts:
            self.connection.write(b"I")
        for text in texts:
            prepared = self._prepare(text, ())
            portal = Portal(prepared, {}, (0,) * len(prepared.columns))
            if prepared.columns and prepared.word != "COPY":
                self.connection.write(b"T", m.columns(prepared.columns, portal.formats))
            self._run(portal, 0)

    def _parse(self, body: m.Body) -> None:
        name, text = body.text(), body.text()
        texts = statements(text)
        if len(texts) > 1:
            raise Failed("42601", "A prepared statement is one statement.")
        self.prepared[name] = self._prepare(texts[0] if texts else "", body.counted("i"))
        self.connection.write(b"1")

    def _bind(self, body: m.Body) -> None:
        name, of = body.text(), body.text()
        prepared = self._found(self.prepared, of, "prepared statement", "26000")
        how = body.counted("h")
        (count,) = body.numbers("h", 1)
        if count != len(prepared.parameters):
            raise Failed("08P01", f"The statement has {len(prepared.parameters)} parameters, and {count} are given.")
        values = {}
        for at, number in enumerate(prepared.parameters):
            values[at + 1] = parameter(body.value(), number, _nth(how, at))
        wanted = body.counted("h")
        if len(self.portals) >= MOST or len(self.prepared) > MOST:
            raise Failed("53400", f"A connection has at most {MOST} statements and portals.", hint="Close some.")
        self.portals[name] = Portal(prepared, values, tuple(_nth(wanted, at) for at in range(len(prepared.columns))))
        self.connection.write(b"2")

    def _describe(self, body: m.Body) -> None:
        kind, name = body.taken(1), body.text()
        if kind == b"S":
            prepared = self._found(self.prepared, name, "prepared statement", "26000")
            self.connection.write(b"t", struct.pack(f"!h{len(prepared.parameters)}i", len(prepared.parameters), *prepared.parameters))  # fmt: skip
            formats: tuple[int, ...] = (0,) * len(prepared.columns)
        else:
            portal = self._found(self.portals, name, "portal", "34000")
            prepared, formats = portal.prepared, portal.formats
        described = bool(prepared.columns) and prepared.word != "COPY"
        self.connection.write(*((b"T", m.columns(prepared.columns, formats)) if described else (b"n",)))

    def _execute(self, body: m.Body) -> None:
        portal = self._found(self.portals, body.text(), "portal", "34000")
        (most,) = body.numbers("i", 1)
        if not portal.prepared.text:
            self.connection.write(b"I")
        else:
            self._run(portal, most)

    def _close(self, body: m.Body) -> None:
        kind, name = body.taken(1), body.text()
        (self.prepared if kind == b"S" else self.portals).pop(name, None)
        self.connection.write(b"3")

    @staticmethod
    def _found(of: dict[str, Kind], name: str, what: str, state: str) -> Kind:
        if name not in of:
            raise Failed(state, f"There is no {what} {name!r}.")
        return of[name]

    # -- statements ------------------------------------------------------------------------------------------

    def _prepare(self, text: str, declared: Sequence[int]) -> Prepared:
        """A statement, read and checked; what cannot be answered is written to the log, too."""
        try:
            return self._read(text, declared)
        except Exception as error:
            self._logged(text, failed(error).state, 0, 0.0)
            raise

    def _logged(self, text: str, state: str, rows: int, milliseconds: float) -> None:
        self.log({"at": dt.datetime.now(dt.UTC).isoformat(timespec="milliseconds"), "who": self.person, "statement": text, "state": state, "rows": rows, "milliseconds": milliseconds})  # fmt: skip

    def _read(self, text: str, declared: Sequence[int]) -> Prepared:
        """Raises OakError or Failed for what is not answered."""
        if not text:
            return Prepared("")
        match = _WORD.match(text)
        word = match[1].upper() if match else ""
        if self.state == "E" and word not in _ENDS:
            raise Failed("25P02", "The transaction has failed: nothing is answered until it ends.", hint="ROLLBACK")
        if word in _CHANGES:
            raise Failed(READ_ONLY, f"{word} is not done here: sources are only read.", hint="Sources change when a new version of them is published.")  # fmt: skip
        if word == "SHOW":
            name = text.split(None, 1)[1].strip().strip('"').casefold() if len(text.split()) > 1 else ""
            name = {"transaction isolation level": "transaction_isolation", "time zone": "timezone"}.get(name, name)
            return self._asking(f"SELECT setting AS \"{name}\" FROM pg_settings WHERE name = '{name.replace(chr(39), '')}'", text, word, ())  # fmt: skip
        if word in (*_BEGINS, *_ENDS, *_ACKNOWLEDGED):
            return Prepared(text, word)
        copied = _COPY.fullmatch(text)
        if copied:
            if "binary" not in copied[2].casefold():
                raise Failed("0A000", "COPY is answered in the binary format.", hint="(FORMAT binary)")
            return self._asking(copied[1], text, "COPY", declared)
        if word not in ("SELECT", "TABLE", "VALUES", "WITH"):
            raise Failed("0A000", f"{word or 'This'} is not answered here.", hint="There is SELECT.")
        return self._asking(text, text, word, declared)

    def _asking(self, sql: str, text: str, word: str, declared: Sequence[int]) -> Prepared:
        tree = parsed(sql)
        count = max((int(node.name) for node in tree.find_all(exp.Parameter) if node.name.isdigit()), default=0)
        if is_of_system(tree):
            numbers = tuple(_nth(declared, at) or oid_of(None) for at in range(max(count, len(declared))))
            known: dict[int, Parameter] = {at + 1: (None, None) for at in range(len(numbers))}
            prepared = Prepared(sql, word, tree, None, numbers)
            columns = tuple(map(column_in, self._of_system(prepared, known).schema))
            return Prepared(sql, word, tree, None, numbers, columns)
        table = table_of(tree)
        source = self._source(Asker(self.shared, self.token), table)
        inferred = parameter_types(tree, source, table)
        numbers = tuple(_nth(declared, at) or oid_of(inferred.get(at + 1)) for at in range(max(count, len(declared))))
        values = {at + 1: parameter(None, number, 0) for at, number in enumerate(numbers)}
        question = question_of(tree, source, table, values)
        columns = tuple(column_of(name, kind) for name, kind in question.types(source))
        return Prepared(text, word, tree, table, numbers, columns)

    def _source(self, asker: Asker, table: Table) -> Source:
        return asker.source(asker.version(table.name, table.area, table.number, draft=False))

    def _of_system(self, prepared: Prepared, values: dict[int, Parameter]) -> pa.Table:
        asker = Asker(self.shared, self.token)
        seen = asker.seen()
        key = (self.person, *(asker.made_of(version) for version in seen))
        with self._computing(asker) as until:
            there = self.catalogs.get(
                key, lambda: Catalog(self.person, [(version.area, asker.source(version)) for version in seen])
            )
            return there.ask(prepared.text, values, until, asker.limits.rows)

    @contextmanager
    def _computing(self, asker: Asker) -> Iterator[Deadline]:
        """Room for a question, which can be cancelled."""
        with asker.slots.taken(asker.token) as until:
            self.deadline = until
            try:
                yield until
            finally:
                self.deadline = None

    def _run(self, portal: Portal, most: int) -> None:
        """Answer a statement, up to so many rows (0: all)."""
        prepared = portal.prepared
        if prepared.tree is None:
            self._acknowledge(prepared)
            return
        if portal.rows is None:
            begun, state = time.perf_counter(), "00000"
            try:
                portal.rows = self._rows(portal)
            except Exception as error:
                state = failed(error).state
                raise
            finally:
                milliseconds = round((time.perf_counter() - begun) * 1000, 1)
                self._logged(prepared.text, state, len(portal.rows or ()), milliseconds)
        if prepared.word == "COPY":
            self._copy(portal.rows, len(prepared.columns))
            return
        end = len(portal.rows) if most <= 0 else min(portal.at + most, len(portal.rows))
        for values in portal.rows[portal.at : end]:
            self.connection.write(b"D", m.row(values))
        sent, portal.at = end - portal.at, end
        if end < len(portal.rows) or (most > 0 and sent == most):
            self.connection.write(b"s")
        else:
            self.connection.write(b"C", m.text(f"{'SHOW' if prepared.word == 'SHOW' else f'SELECT {sent}'}"))

    def _rows(self, portal: Portal) -> Sequence[tuple[bytes | None, ...]]:
        prepared = portal.prepared
        formats = (1,) * len(prepared.columns) if prepared.word == "COPY" else portal.formats
        if prepared.table is None or prepared.tree is None:
            return rows_of(self._of_system(prepared, portal.values), formats)
        asker = Asker(self.shared, self.token)
        with self._computing(asker):
            source = self._source(asker, prepared.table)
            question = question_of(prepared.tree, source, prepared.table, portal.values)
            answer = question.ask(source, asker.limits.rows)
            table = _shown(answer, question)
            if tuple(map(column_in, table.schema)) != prepared.columns:
                raise Failed("0A000", "The source has changed since the statement was prepared.", hint="Prepare it again.")  # fmt: skip
            rows = rows_of(table, formats)
        self._note(answer)
        return rows

    def _note(self, answer: Answer) -> None:
        """What is to be known of an answer beside its rows."""
        said = [(f"{fault.field}: {fault.what}, in {fault.rows:,} {'row' if fault.rows == 1 else 'rows'}: null there.", "22000", "") for fault in answer.faults]  # fmt: skip
        said += [(finding.message, "01000", finding.hint) for finding in answer.findings]
        for message, state, hint in said:
            self.connection.write(b"N", m.fields({"S": "WARNING", "V": "WARNING", "C": state, "M": message, "H": hint}))  # fmt: skip

    def _copy(self, rows: Sequence[tuple[bytes | None, ...]], width: int) -> None:
        self.connection.write(b"H", struct.pack(f"!bh{width}h", 1, width, *(1,) * width))
        head = b"PGCOPY\n\xff\r\n\0" + bytes(8)  # it comes with the first row
        for said in (*map(m.row, rows), b"\xff\xff"):
            self.connection.write(b"d", head + said)
            head = b""
        self.connection.write(b"c")
        self.connection.write(b"C", m.text(f"COPY {len(rows)}"))

    def _acknowledge(self, prepared: Prepared) -> None:
        """What sets something or opens a transaction: nothing is changed by it, for nothing can be."""
        word, tag = prepared.word, prepared.word
        if word in _BEGINS:
            self.state, tag = "T", "BEGIN"
        elif word in _ENDS and not re.match(r"(?is)rollback\s+to\b", prepared.text):
            tag = "ROLLBACK" if self.state == "E" or word in ("ROLLBACK", "ABORT") else "COMMIT"
            self.state = "I"
        elif word in ("DISCARD", "DEALLOCATE") and prepared.text.casefold().endswith("all"):
            self.prepared.clear()
            tag = f"{word} ALL"
        elif word in _ENDS:
            self.state = "T"
        self.connection.write(b"C", m.text(tag))


def _shown(answer: Answer, question: Question) -> pa.Table:
    """The rows that a statement shows, its columns in order; two may have one name."""
    rows = answer.table.slice(question.offset)
    columns = [rows.column(column) for _, column in question.columns]
    return pa.Table.from_arrays(columns, schema=pa.schema([pa.field(title, one.type) for (title, _), one in zip(question.columns, columns, strict=True)]))  # fmt: skip


def _nth(given: Sequence[int], at: int) -> int:
    """The format or type of a column or parameter: none for all, one for all, or one each."""
    return given[at] if at < len(given) else given[0] if len(given) == 1 else 0
