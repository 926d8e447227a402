"""Areas, groups, rights, tokens, and the audit log."""

from __future__ import annotations

import datetime as dt
import json
import re
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access, NotAllowed, Person, chained, secret_digest
from oak_ledger.catalogue.rules import ANY, EVERYONE, RIGHTS
from oak_ledger.catalogue.storage import now
from oak_ledger.catalogue.tables import AREA, AUDIT, GRANT, MEMBER, TOKEN
from oak_ledger.errors import OakError

_NAME = re.compile(r"[\w][\w .&'+-]{0,79}")
TOKEN_DAYS = 90


@dataclass(frozen=True, slots=True)
class Grant:
    """A right that a person or a group (with @) has in an area; `*` is the whole catalogue."""

    area: str
    who: str
    right: str


@dataclass(frozen=True, slots=True)
class AccessToken:
    """A token as it is listed: never its secret."""

    number: int
    name: str
    person: str
    areas: tuple[str, ...]
    rights: tuple[str, ...]
    made_at: str
    ends_at: str
    revoked_at: str


@dataclass(frozen=True, slots=True)
class LogEntry:
    """Who did what, when, to what; `chain` is the digest of this entry and all before it."""

    at: str
    who: str
    what: str
    area: str
    subject: str
    detail: str
    chain: str


def checked_name(name: str, what: str) -> str:
    """A name that can be one in a catalogue; raises OakError for one that cannot."""
    text = " ".join(name.split())
    plain = (
        text.replace("@", "", 1) if what == "a person" and not text.startswith("@") else text
    )  # logins are addresses in places
    if not _NAME.fullmatch(plain) or ".." in text:
        raise OakError("bad-name", f"{name!r} cannot be the name of {what}.", hint="Letters, digits, spaces and . & ' + - _; at most 80 characters.")  # fmt: skip
    return text


MOST = {"note": 2_000, "definition": 5_000_000, "report": 1_000_000}


def checked_text(text: str, what: str) -> str:
    """A text that goes into a catalogue; raises OakError for one that is too long to be meant."""
    if len(text) > MOST[what]:
        raise OakError(
            "too-long", f"The {what} has {len(text):,} characters; {MOST[what]:,} is the most that a catalogue takes."
        )
    return text


class People:
    """Who may do what in a catalogue."""

    def __init__(self, access: Access) -> None:
        self._access, self._storage = access, access.storage

    # -- areas and rights --------------------------------------------------------------------------------

    def areas(self) -> list[str]:
        """The areas in which one has a right."""
        with self._storage.read() as connection:
            return [row["name"] for row in self._access.areas(connection)]

    def my_rights(self, area: str) -> list[str]:
        """The rights that one has in an area; none in one that is not there."""
        with self._storage.read() as connection:
            held = self._access.rights(connection, area.casefold())
        return [right for right in RIGHTS if right in held]

    def add_area(self, name: str) -> None:
        """A new area, in which nobody has a right but through the whole catalogue. Takes administering the catalogue."""
        name = checked_name(name, "an area")
        with self._access.doing("add area") as doing:
            self._access.require_in(doing.connection, "grant", ANY, "the whole catalogue")
            if self._storage.rows(doing.connection, sa.select(AREA).where(AREA.c.key == name.casefold())):
                raise OakError("name-taken", f"There is an area {name!r} already.")
            self._storage.insert(doing.connection, AREA, {"name": name, "key": name.casefold()})
            doing.said(name.casefold(), name)

    def grant(self, who: str, rights: Sequence[str], area: str) -> None:
        """Give rights in an area (`*`: everywhere) to a person or a group (`@group`, `@everyone`)."""
        with self._access.doing("grant") as doing:
            key = self._administered(doing.connection, area)
            given = {row.right for row in self._grants(doing.connection) if (row.area, row.who) == (key, _who(who))}
            for right in dict.fromkeys(map(_right, rights)):
                if right not in given:
                    self._access.forget(doing.connection)
                    self._storage.insert(doing.connection, GRANT, {"area": key, "who": _who(who), "allowed": right})
            doing.said(key, _who(who), ", ".join(rights))

    def revoke(self, who: str, rights: Sequence[str], area: str) -> None:
        """Take rights away again. The last one who may give rights in the whole catalogue keeps that right."""
        with self._access.doing("revoke") as doing:
            key = self._administered(doing.connection, area)
            asked = {(key, _who(who), _right(right)) for right in rights}
            there = {(grant.area, grant.who, grant.right) for grant in self._grants(doing.connection)}
            if not asked <= there:
                raise OakError(
                    "no-right", f"{who} has no such right in {area}.", hint="oak catalogue rights list shows all."
                )
            left = there - asked
            if not any(one == ANY and right == "administer" for one, _, right in left):
                raise OakError("last-administrator", "Nobody would be left who may give rights in this catalogue.", hint="Give somebody else that right first.")  # fmt: skip
            for area_key, name, right in asked:
                self._storage.delete(
                    doing.connection, GRANT, GRANT.c.area == area_key, GRANT.c.who == name, GRANT.c.allowed == right
                )
            doing.said(key, _who(who), ", ".join(rights))

    def grants(self) -> list[Grant]:
        """All rights in the areas in which one has a right."""
        with self._storage.read() as connection:
            seen = {row["key"] for row in self._access.areas(connection)} | {ANY}
            return [grant for grant in self._grants(connection) if grant.area in seen]

    def _grants(self, connection: sa.Connection) -> list[Grant]:
        rows = self._storage.rows(connection, sa.select(GRANT))
        order = {right: at for at, right in enumerate(RIGHTS)}
        grants = [Grant(row["area"], row["who"], row["allowed"]) for row in rows]
        return sorted(grants, key=lambda grant: (grant.area, grant.who, order[grant.right]))

    def _administered(self, connection: sa.Connection, area: str) -> str:
        """The key of an area in which one may give rights."""
        key = area if area == ANY else str(self._access.area(connection, area)["key"])
        self._access.require_in(connection, "grant", key, "the whole catalogue" if key == ANY else area)
        return key

    # -- groups ------------------------------------------------------------------------------------------

    def groups(self) -> dict[str, list[str]]:
        """The members of each group that one is in; of all groups for who gives rights somewhere."""
        with self._storage.read() as connection:
            rows = self._storage.rows(connection, sa.select(MEMBER).order_by(MEMBER.c.group_name, MEMBER.c.person))
            every = any(
                "administer" in self._access.rights(connection, area)
                for area in (ANY, *(row["key"] for row in self._access.areas(connection)))
            )
        found: dict[str, list[str]] = {}
        for row in rows:
            found.setdefault(row["group_name"], []).append(row["person"])
        return {name: people for name, people in found.items() if every or self._access.person.name in people}

    def join(self, group: str, people: Sequence[str]) -> None:
        """Put people into a group. Takes administering the catalogue."""
        name = checked_name(group.removeprefix("@"), "a group")
        if name == EVERYONE:
            raise OakError("bad-name", "All people are in everyone already.")
        with self._access.doing("join group") as doing:
            self._access.require_in(doing.connection, "grant", ANY, "the whole catalogue")
            there = self._storage.rows(doing.connection, sa.select(MEMBER).where(MEMBER.c.group_name == name))
            for person in dict.fromkeys(people):
                if person not in {row["person"] for row in there}:
                    self._storage.insert(
                        doing.connection, MEMBER, {"group_name": name, "person": checked_name(person, "a person")}
                    )
            doing.said("", f"@{name}", ", ".join(people))

    def leave(self, group: str, people: Sequence[str]) -> None:
        """Take people out of a group. Takes administering the catalogue."""
        name = group.removeprefix("@")
        with self._access.doing("leave group") as doing:
            self._access.require_in(doing.connection, "grant", ANY, "the whole catalogue")
            for person in people:
                gone = self._storage.delete(
                    doing.connection, MEMBER, MEMBER.c.group_name == name, MEMBER.c.person == person
                )
                if not gone:
                    raise OakError(
                        "no-member",
                        f"{person} is not in the group {name}.",
                        hint="oak catalogue groups list shows all.",
                    )
            doing.said("", f"@{name}", ", ".join(people))

    # -- tokens ------------------------------------------------------------------------------------------

    def make_token(
        self, name: str, areas: Sequence[str] = (ANY,), rights: Sequence[str] = ("read",), days: int = TOKEN_DAYS
    ) -> str:
        """A token for a program, which may do what its maker may, in these areas and with these rights at most; shown only now."""
        secret = f"oak.{secrets.token_urlsafe(32)}"
        ends = (dt.datetime.now(dt.UTC).replace(tzinfo=None) + dt.timedelta(days=days)).isoformat(" ", "seconds")
        with self._access.doing("make token") as doing:
            if self._access.person.token is not None:
                raise NotAllowed("not-allowed", "A token makes no tokens: one that was stolen would live on in them.", hint="Make it as the person who you are.")  # fmt: skip
            keys = [area if area == ANY else self._access.area(doing.connection, area)["key"] for area in areas]
            values = {
                "secret": secret_digest(secret), "person": self._access.person.name, "name": checked_name(name, "a token"),
                "areas": json.dumps(keys), "rights": json.dumps([*dict.fromkeys(map(_right, rights))]),
                "made_at": now(), "ends_at": ends, "revoked_at": "",
            }  # fmt: skip
            self._storage.insert(doing.connection, TOKEN, values)
            doing.said("", name, f"{', '.join(rights)} in {', '.join(keys)}, until {ends}")
        return secret

    def tokens(self) -> list[AccessToken]:
        """One's own tokens; all of them for who administers the catalogue. A token sees itself."""
        with self._storage.read() as connection:
            rows = self._storage.rows(connection, sa.select(TOKEN).order_by(TOKEN.c.id))
            return [_token(row) for row in rows if self._holds(connection, row)]

    def _holds(self, connection: sa.Connection, row: Mapping[str, Any]) -> bool:
        """Whether a token is one's own to see and to end."""
        person = self._access.person
        if "administer" in self._access.rights(connection, ANY):
            return True
        return bool(row["id"] == person.token[0] if person.token is not None else row["person"] == person.name)

    def revoke_token(self, number: int) -> None:
        """End a token now: one's own, or any for who administers the catalogue."""
        with self._access.doing("revoke token") as doing:
            rows = self._storage.rows(doing.connection, sa.select(TOKEN).where(TOKEN.c.id == number))
            if not rows or not self._holds(doing.connection, rows[0]):
                raise OakError(
                    "no-token", f"There is no token {number}.", hint="oak catalogue tokens list shows yours."
                )
            self._storage.update(doing.connection, TOKEN, rows[0], revoked_at=now())
            doing.said("", rows[0]["name"])

    # -- the audit log -----------------------------------------------------------------------------------

    def log(self, *, area: str = "", words: str = "") -> list[LogEntry]:
        """Entries of the audit log, oldest first, of the areas that one administers; `words` are looked for in all they say."""
        with self._storage.read() as connection:
            every = "administer" in self._access.rights(connection, ANY)
            keys = {
                row["key"]
                for row in self._access.areas(connection)
                if "administer" in self._access.rights(connection, row["key"])
            }
            if not every and not keys:
                self._access.require_in(connection, "audit", ANY, "the catalogue")
            rows = self._storage.rows(connection, sa.select(AUDIT).order_by(AUDIT.c.id))
        entries = [_entry(row) for row in rows if every or row["area"] in keys]
        wanted = [one for one in words.casefold().split() if one]
        return [
            entry
            for entry in entries
            if (not area or entry.area == area.casefold())
            and all(
                word in f"{entry.at} {entry.who} {entry.what} {entry.area} {entry.subject} {entry.detail}".casefold()
                for word in wanted
            )
        ]

    def broken_chain(self, head: str = "") -> list[str]:
        """What is wrong with the audit log, in words: entries that do not follow from those before, or a head that is not in it."""
        with self._storage.read() as connection:
            rows = [dict(row) for row in connection.execute(sa.select(AUDIT).order_by(AUDIT.c.id)).mappings()]
            last = connection.execute(sa.text("SELECT value FROM about WHERE name = 'head'")).scalar() or ""
        wrong, before = [], ""
        for row in rows:
            if chained(before, row) != row["chain"]:
                wrong.append(
                    f"entry of {row['at']} by {row['who']} ({row['what']} {row['subject']}) does not follow from the entries before it"
                )
            before = row["chain"]
        if before != last:
            wrong.append("the last entry is not the one that was written last: entries are missing at the end")
        kept = self._storage.remembered
        if kept and kept not in {row["chain"] for row in rows}:
            wrong.append("entries at the end are lost: the digest beside the database is of a later one")
        if head and head not in {row["chain"] for row in rows}:
            wrong.append(f"the digest {head[:12]}… that was kept is not in the log: it was written again")
        return wrong


def _who(name: str) -> str:
    return "@" + checked_name(name[1:], "a group") if name.startswith("@") else checked_name(name, "a person")


def _right(name: str) -> str:
    if name not in RIGHTS:
        raise OakError("unknown-right", f"There is no right {name!r}.", hint=f"Rights are {', '.join(RIGHTS)}.")
    return name


def _token(row: dict[str, Any]) -> AccessToken:
    return AccessToken(row["id"], row["name"], row["person"], tuple(json.loads(row["areas"])), tuple(json.loads(row["rights"])), row["made_at"], row["ends_at"], row["revoked_at"])  # fmt: skip


def _entry(row: dict[str, Any]) -> LogEntry:
    return LogEntry(row["at"][:19], *(row[name] for name in LogEntry.__slots__[1:]))


__all__ = ["AccessToken", "Grant", "LogEntry", "People", "Person", "checked_name"]
