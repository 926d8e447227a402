"""Who is at work in a catalogue, and what they may do there; everything that is done is written into the audit log."""

from __future__ import annotations

import getpass
import hashlib
import json
import os
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any
from weakref import WeakKeyDictionary

import sqlalchemy as sa

from oak_ledger.catalogue.rules import ANY, EVERYONE, RIGHTS, WRITES, in_words, permitted
from oak_ledger.catalogue.storage import Storage, now
from oak_ledger.catalogue.tables import AREA, AUDIT, GRANT, MEMBER, SOURCE, TOKEN, VIEWER
from oak_ledger.errors import OakError

IN_WORDS = {"audit": "read the audit log of", "checkout": "check out", "grant": "give rights in"}


def whoami() -> str:
    """Who is working: the name one is logged in by."""
    return getpass.getuser()


def secret_digest(secret: str) -> str:
    """What a catalogue keeps of a token."""
    return hashlib.sha256(secret.encode()).hexdigest()


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody at work; by a token (its number and name) only in some areas (`*` for all) and with some rights."""

    name: str
    areas: tuple[str, ...] = (ANY,)
    rights: tuple[str, ...] = tuple(RIGHTS)
    token: tuple[int, str] | None = None

    def __str__(self) -> str:
        return self.name if self.token is None else f"{self.name}, by the token {self.token[1]}"

    def within(self, area: str) -> bool:
        """Whether an area is one that a token may be used in."""
        return ANY in self.areas or area in self.areas


@dataclass(frozen=True, slots=True)
class KnownRights:
    """The rights of a person by area, and the versions that they are named to see."""

    rights: Mapping[str, set[str]]
    viewed: set[int]


class NotAllowed(OakError):
    """Something is not allowed to who asks for it."""


class Access:
    """A catalogue as one person sees it."""

    def __init__(self, storage: Storage, person: Person) -> None:
        self.storage, self.person = storage, person
        self._known: WeakKeyDictionary[sa.Connection, KnownRights] = WeakKeyDictionary()

    @staticmethod
    def by_token(storage: Storage, secret: str) -> Access:
        """The access that a token gives. Raises OakError for one that is not known, has ended, or was revoked."""
        with storage.read() as connection:
            rows = storage.rows(connection, sa.select(TOKEN).where(TOKEN.c.secret == secret_digest(secret)))
        if not rows or rows[0]["revoked_at"] or rows[0]["ends_at"] < now():
            raise OakError("no-token", "The token is not valid: it is not known, has ended, or was revoked.", hint="oak catalogue tokens make makes another.")  # fmt: skip
        (row,) = rows
        return Access(
            storage,
            Person(
                row["person"],
                tuple(json.loads(row["areas"])),
                tuple(json.loads(row["rights"])),
                (row["id"], row["name"]),
            ),
        )

    # -- rights ------------------------------------------------------------------------------------------

    def known(self, connection: sa.Connection) -> KnownRights:
        """What a transaction needs to know of this person, read once in it."""
        found = self._known.get(connection)
        if found is None:
            groups = self.storage.rows(connection, sa.select(MEMBER).where(MEMBER.c.person == self.person.name))
            names = {self.person.name, f"@{EVERYONE}", *(f"@{row['group_name']}" for row in groups)}
            grants = self.storage.rows(connection, sa.select(GRANT).where(GRANT.c.who.in_(names)))
            viewed = self.storage.rows(connection, sa.select(VIEWER).where(VIEWER.c.who.in_(names)))
            rights: dict[str, set[str]] = {}
            for row in grants:
                rights.setdefault(row["area"], set()).add(row["allowed"])
            found = self._known[connection] = KnownRights(rights, {row["version_id"] for row in viewed})
        return found

    def forget(self, connection: sa.Connection) -> None:
        """Rights were given or taken in this transaction."""
        self._known.pop(connection, None)

    def rights(self, connection: sa.Connection, area: str) -> set[str]:
        """The rights that this person has in an area (its key)."""
        if not self.person.within(area):
            return set()
        known = self.known(connection).rights
        return (known.get(area, set()) | known.get(ANY, set())) & {*self.person.rights}

    def conditions(self, connection: sa.Connection, area: str, version: Mapping[str, Any] | None = None) -> set[str]:
        """What holds for this person in an area, and towards one of its versions."""
        found = self.rights(connection, area)
        if version is not None and self.person.within(area):
            if version["made_by"] == self.person.name:
                found = found | {"maker"}
            if version["id"] in self.known(connection).viewed:
                found = found | {"named"}
        return found

    def require(self, action: str, to: str, conditions: set[str], what: str) -> None:
        """Raise NotAllowed where an action is not allowed; the error says what it would take."""
        if action in WRITES and "edit" not in self.person.rights:
            hint = "A token changes something only with the right to edit: oak catalogue tokens make --right edit."
            raise NotAllowed("not-allowed", f"{self.person} may not {IN_WORDS.get(action, action)} {what}.", hint=hint)
        if not permitted(action, to, conditions):
            needed = in_words(action, to)
            hint = f"It takes {needed}; oak catalogue rights list says who can give it." if needed else "Nobody can."
            raise NotAllowed(
                "not-allowed", f"{self.person.name} may not {IN_WORDS.get(action, action)} {what}.", hint=hint
            )

    def require_in(self, connection: sa.Connection, action: str, area: str, what: str) -> None:
        """Raise NotAllowed where an action is not allowed in an area."""
        self.require(action, "area", self.rights(connection, area), what)

    # -- areas -------------------------------------------------------------------------------------------

    def area(self, connection: sa.Connection, name: str) -> dict[str, Any]:
        """An area by its name. One in which a person has no right does not exist for them."""
        rows = self.storage.rows(connection, sa.select(AREA).where(AREA.c.key == name.casefold()))
        if not rows or not self.rights(connection, rows[0]["key"]):
            seen = [row["name"] for row in self.areas(connection)]
            there = f"You have rights in {', '.join(seen)}." if seen else "You have no rights in this catalogue."
            raise OakError("unknown-area", f"The catalogue has no area {name!r} for {self.person.name}.", hint=there)
        return rows[0]

    def areas(self, connection: sa.Connection) -> list[dict[str, Any]]:
        """The areas in which this person has a right."""
        return [row for row in self.storage.rows(connection, sa.select(AREA).order_by(AREA.c.key)) if self.rights(connection, row["key"])]  # fmt: skip

    def sources(self, connection: sa.Connection, key: str = "") -> list[dict[str, Any]]:
        """All sources (or those of a key) with the key and name of their areas; who may see which is not asked here."""
        areas = {row["id"]: row for row in self.storage.rows(connection, sa.select(AREA))}
        query = sa.select(SOURCE).order_by(SOURCE.c.key)
        rows = self.storage.rows(connection, query.where(SOURCE.c.key == key) if key else query)
        return [
            {**row, "area": areas[row["area_id"]]["key"], "area_name": areas[row["area_id"]]["name"]} for row in rows
        ]

    # -- what is done ------------------------------------------------------------------------------------

    @contextmanager
    def doing(self, what: str) -> Iterator[Doing]:
        """A transaction that writes, with its entry of the audit log; nothing is written of one that fails."""
        with self.storage.write() as connection:
            doing = Doing(connection, what)
            yield doing
            head = self._note(connection, what, doing.area, doing.subject, doing.detail)
        self.storage.remember(head)

    def _note(self, connection: sa.Connection, what: str, area: str, subject: str, detail: str) -> str:
        """An entry of the audit log, chained to the one before; its digest."""
        values = {
            "at": self.storage.moment(connection),
            "who": str(self.person),
            "what": what,
            "area": area,
            "subject": subject,
            "detail": detail,
            "state": self.storage.state(connection),
        }
        chain = chained(self.storage.setting(connection, "head"), values)
        self.storage.insert(connection, AUDIT, {**values, "chain": chain})
        self.storage.put(connection, "head", chain)
        return chain


@dataclass(slots=True)
class Doing:
    """What is being done: in which area, to what, and more in words."""

    connection: sa.Connection
    what: str
    area: str = ""
    subject: str = ""
    detail: str = ""

    def said(self, area: str, subject: str, detail: str = "") -> None:
        """Say what is done."""
        self.area, self.subject, self.detail = area, subject, detail


def chained(before: str, values: Mapping[str, str]) -> str:
    """The digest of an entry of the audit log and, through the digest before, of all earlier ones."""
    said = [before, *(values[name] for name in ("at", "who", "what", "area", "subject", "detail", "state"))]
    return hashlib.sha256(json.dumps(said, ensure_ascii=False).encode()).hexdigest()


def current_token() -> str:
    """The token of the environment (OAK_TOKEN); empty without one."""
    return os.environ.get("OAK_TOKEN", "")
