"""The shared place that sources are published to: drafts, releases, and what reports read. Every call asks what its caller may do."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cache, cached_property
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access, NotAllowed, Person, current_token, whoami
from oak_ledger.catalogue.looking import WITHDRAWN, PublishedSources
from oak_ledger.catalogue.people import People, checked_name, checked_text
from oak_ledger.catalogue.registered import RegisteredReports
from oak_ledger.catalogue.rules import ANY, RIGHTS
from oak_ledger.catalogue.snapshots import Snapshots
from oak_ledger.catalogue.storage import Storage, now
from oak_ledger.catalogue.tables import AREA, GRANT, SIGNATURE, SOURCE, VERSION, VIEWER
from oak_ledger.catalogue.upkeep import FOUR_EYES, Upkeep
from oak_ledger.catalogue.verify import verify
from oak_ledger.catalogue.versions import (
    Prepared,
    Version,
    all_rows,
    base_moved,
    not_made_from,
    origin_identity,
    prepare,
    public_definition,
)
from oak_ledger.catalogue.watches import Watches
from oak_ledger.definition.document import Document, parse_document
from oak_ledger.definition.merging import merged
from oak_ledger.definition.model import DEFINITION
from oak_ledger.errors import Finding, OakError
from oak_ledger.source import Source

GENERAL = "general"


class Catalogue(PublishedSources):
    """A catalogue in a folder, as one person sees it. In a plain folder rights prevent mistakes; only a server in between enforces them."""

    def __repr__(self) -> str:
        return f"Catalogue of {', '.join(self.sources()) or 'nothing yet'}\n  {self.folder}"

    @staticmethod
    def open(
        folder: str | Path, *, create: bool = False, person: str = "", token: str = "", url: str = ""
    ) -> Catalogue:
        """Open the catalogue in a folder; with `create`, make it where there is none (its tables in the PostgreSQL database that `url` names).

        One works as `person` (the one who is logged in, unless set otherwise), or as a token allows (also the variable OAK_TOKEN).
        Raises UnusableInput for what is not a catalogue, OakError for a token that is not valid.
        """
        path = Path(folder)
        storage = Storage.create(path, url) if create else Storage.open(path)
        storage.refuse_other_layout()
        secret = token or ("" if person else current_token())
        access = Access.by_token(storage, secret) if secret else Access(storage, Person(person or whoami()))
        if create:
            _first_rights(access)
        return Catalogue(access)

    @property
    def person(self) -> str:
        """Who is at work."""
        return self._access.person.name

    @cached_property
    def people(self) -> People:
        """Areas, groups, rights, tokens, and the audit log."""
        return People(self._access)

    @cached_property
    def snapshots(self) -> Snapshots:
        """Dated states of the rows of sources."""
        return Snapshots(self._access, self)

    @cached_property
    def reports(self) -> RegisteredReports:
        """Reports that are in the catalogue."""
        return RegisteredReports(self._access, self)

    @cached_property
    def watches(self) -> Watches:
        """Conditions on figures that warn when they turn true."""
        return Watches(self._access, self)

    @cached_property
    def upkeep(self) -> Upkeep:
        """Backups, old rows, four eyes, and what is moved, removed or handed over."""
        return Upkeep(self._access, self, self.reports)

    def verify(self, head: str = "") -> list[str]:
        """Everything that is damaged, in words; `head` is a digest of the audit log that was kept elsewhere."""
        return verify(self._storage, self.people, head)

    def clear(self) -> list[Path]:
        """Remove files that nothing refers to; which they were."""
        with self._access.doing("clear") as doing:
            self._access.require_in(doing.connection, "grant", ANY, "the whole catalogue")
            gone = self._storage.clear(doing.connection)
            doing.said("", "files", f"{len(gone)}")
        return gone

    # -- publishing --------------------------------------------------------------------------------------

    @staticmethod
    def prepare(source: Source, findings: list[Finding] | None = None, *, broken: bool = False) -> Prepared:
        """What `publish` would store of a source. Raises OakError where a field is broken, unless it may be."""
        return prepare(source, findings, broken=broken)

    def publish(
        self,
        source: Source | Prepared,
        *,
        note: str = "",
        area: str = "",
        base: int | None = None,
        viewers: Sequence[str] = (),
    ) -> Version:
        """Publish a source, or what was prepared of one, as a draft that its maker and `viewers` see.

        A source that is new in the catalogue goes to `area` (general, unless set otherwise). `base` is the version that the working copy
        was made from (what the definition says, unless given; 0 for none). `told` of the version says where somebody else has made a source
        of that name. Raises OakError where a field is broken, where it is not allowed, where somebody has published since the base, or
        where a source of that name is there that this working copy was not made from.
        """
        prepared = source if isinstance(source, Prepared) else prepare(source)
        source = prepared.source
        checked_text(note, "note")
        checked_text(source.document.text, "definition")
        data = self._storage.keep(prepared.rows)
        before = "" if source.baseline_feed is None else self._storage.keep(all_rows(source.baseline_feed))
        with self._access.doing("publish") as doing:
            row = self._own_source(doing.connection, source.name, source.about.owner, area)
            self._access.require_in(doing.connection, "publish", row["area"], f"{source.name} in {row['area_name']}")
            number, told = self._next_number(doing.connection, row, source, base)
            values = {
                "source_id": row["id"], "number": number, "stage": "draft", "definition": public_definition(source.document).text, "data": data,
                "before": before, "rows": prepared.rows.num_rows, "fingerprints": json.dumps({name: fingerprint.as_json() for name, fingerprint in prepared.fingerprints.items()}),
                "findings": json.dumps({**prepared.counts, **({"errors": prepared.errors} if prepared.errors else {})}),
                "warnings": sum(finding.severity == "warning" for finding in prepared.findings), "note": note, "base": source.about.base if base is None else base,
                "origin": json.dumps(origin_identity(source)), "made_by": self.person, "made_at": self._storage.moment(doing.connection), "replaced_by": "", "overruled": "",
            }  # fmt: skip
            made = self._storage.insert(doing.connection, VERSION, values)
            self._name(doing.connection, made, viewers)
            self._storage.clear(doing.connection)
            doing.said(row["area"], source.name, f"version {number}, {prepared.rows.num_rows:,} rows")
        return replace(self.version(f"{row['area']}/{row['key']}", number), told=told)

    def address(self, name: str, area: str = "") -> str:
        """The source that something of a name would be published to, as AREA/NAME; the name alone where there is none yet."""
        with self._storage.read() as connection:
            found, _ = self._place(connection, name, area)
        return f"{found['area_name']}/{found['name']}" if found is not None else name

    def require_publish(self, source: Source, area: str = "", base: int | None = None) -> None:
        """Raise OakError where a source could not be published, before work is done for it: NotAllowed, or that its base has moved."""
        with self._storage.read() as connection:
            found, place = self._place(connection, source.name, area)
            row = found or {"area": place["key"], "area_name": place["name"]}
            self._access.require_in(connection, "publish", row["area"], f"{source.name} in {row['area_name']}")
            if found is not None:
                self._next_number(connection, found, source, base)

    def _next_number(
        self, connection: sa.Connection, source: Mapping[str, Any], copy: Source, base: int | None
    ) -> tuple[int, str]:
        """The number of a new version, and what is to be told. Raises OakError where there are newer ones than its base, or where it has
        none and others have made the source; drafts that one may not see stop nobody."""
        query = sa.select(VERSION.c.id, VERSION.c.number, VERSION.c.stage, VERSION.c.made_by)
        rows = self._storage.rows(
            connection, query.where(VERSION.c.source_id == source["id"]).order_by(VERSION.c.number)
        )
        number = max((row["number"] for row in rows), default=0) + 1
        there = [row for row in rows if row["stage"] != WITHDRAWN]
        numbers = {row["number"] for row in self._seen(connection, source)}
        seen = [row for row in there if row["number"] in numbers]
        from_version = copy.about.base if base is None else base
        newer = [row for row in seen if row["number"] > from_version]
        if from_version and newer:
            raise base_moved(source["name"], from_version, newer)
        mine = any(row["made_by"] == self.person for row in there)
        if base is None and not from_version and seen and not mine:
            raise not_made_from(source["name"], seen[-1])
        unseen = any(row["number"] > from_version and row["number"] not in numbers for row in there)
        told = (
            f"Somebody else has a draft of {source['name']} in {source['area_name']}, which you may not see."
            if unseen
            else ""
        )
        return number, told

    def _place(self, connection: sa.Connection, name: str, area: str) -> tuple[dict[str, Any] | None, dict[str, Any]]:
        """The row of the source to publish to, if there is one (in the area if it is named), and the area of a new one."""
        wanted = self._access.area(connection, area)["key"] if area else ""
        there = [row for row in self._access.sources(connection, name.casefold()) if wanted in ("", row["area"])]
        if not wanted:
            editable = [row for row in there if "edit" in self._access.rights(connection, row["area"])]
            there = [row for row in there if self._seen(connection, row)] or editable
        if len(there) > 1:
            places = ", ".join(row["area_name"] for row in there)
            raise OakError("several-sources", f"There is a source {name!r} in {places}.", hint="Say which: --area.")
        return (there[0], {}) if there else (None, self._access.area(connection, area or GENERAL))

    def _own_source(self, connection: sa.Connection, name: str, owner: str, area: str) -> dict[str, Any]:
        """The row of the source to publish to: the one there is, else a new one."""
        name = checked_name(name, "a source")
        found, place = self._place(connection, name, area)
        if found is not None:
            self._storage.update(connection, SOURCE, _columns(SOURCE, found), owner=owner)
            return found
        values = {"area_id": place["id"], "name": name, "key": name.casefold(), "owner": owner}
        return {
            **values,
            "id": self._storage.insert(connection, SOURCE, values),
            "area": place["key"],
            "area_name": place["name"],
        }

    def checkout(self, name: str, number: int | None = None) -> tuple[Document, Version]:
        """The definition of a version as a working copy that knows its base, and the version; the newest without a number."""
        with self._storage.read() as connection:
            source = self.find(connection, name)
            row = self.row(connection, source, number, drafts=number is None)
            self._access.require(
                "checkout", row["stage"], self._access.conditions(connection, source["area"], row), source["name"]
            )
            version = self._version(connection, source, row)
        document = parse_document(version.definition, DEFINITION, f"{source['name']}, version {version.number}")
        return document.replaced(document.all("source")[0], {"base": version.number}), version

    def onto(self, source: Source, number: int | None = None) -> Source:
        """A working copy with its changes put onto a newer version (the newest one sees). Raises OakError where both changed the same key of an entry."""
        name = source.name
        newest = self.version(name, number, drafts=True)
        base, onto = (parse_document(version.definition, DEFINITION, source.document.where) for version in (self.version(name, source.about.base), newest))  # fmt: skip
        mine = public_definition(source.document)
        document, disagreements = merged(base, onto, mine)
        if disagreements:
            raise OakError.of([disagreement.finding(source.document.where) for disagreement in disagreements])
        return source.changed(document.replaced(document.all("source")[0], {"base": newest.number}))

    # -- stages ------------------------------------------------------------------------------------------

    def _changed(self, name: str, number: int | None, action: str, work: Any) -> Version:
        """Do something with a version, if it is allowed; `number` None is the newest with which it is."""
        with self._access.doing(action) as doing:
            source = self.find(doing.connection, name)
            row = self.row(doing.connection, source, number, drafts=number is None)
            self._access.require(action, row["stage"], self._access.conditions(doing.connection, source["area"], row), f"version {row['number']} of {source['name']} ({row['stage']})")  # fmt: skip
            detail = work(doing.connection, source, row)
            doing.said(source["area"], source["name"], f"version {row['number']}{': ' + detail if detail else ''}")
        with self._storage.read() as connection:
            (after,) = self._storage.rows(connection, sa.select(VERSION).where(VERSION.c.id == row["id"]))
            return self._version(connection, source, after)

    def name_viewers(self, name: str, people: Sequence[str], number: int | None = None) -> Version:
        """Let people and groups (@group) see a draft."""

        def work(connection: sa.Connection, _source: Any, row: Mapping[str, Any]) -> str:
            self._name(connection, row["id"], people)
            return ", ".join(people)

        return self._changed(name, number, "name", work)

    def _name(self, connection: sa.Connection, version: int, people: Sequence[str]) -> None:
        there = {
            row["who"]
            for row in self._storage.rows(connection, sa.select(VIEWER).where(VIEWER.c.version_id == version))
        }
        for who in dict.fromkeys(people):
            if who not in there:
                self._storage.insert(connection, VIEWER, {"version_id": version, "who": who})

    def sign(self, name: str, number: int | None = None, *, note: str = "") -> Version:
        """Vouch for a version, beside those who do so already."""

        def work(connection: sa.Connection, _source: Any, row: Mapping[str, Any]) -> str:
            self._sign(connection, row, note)
            return note

        return self._changed(name, number, "sign", work)

    def _sign(self, connection: sa.Connection, row: Mapping[str, Any], note: str) -> None:
        checked_text(note, "note")
        self._storage.insert(
            connection, SIGNATURE, {"version_id": row["id"], "by": self.person, "at": now(), "note": note}
        )

    def release(self, name: str, number: int | None = None, *, note: str = "", overrule: str = "") -> Version:
        """Release a version (the newest without a number) and vouch for it: it is what all reports get. The one before is retired, and the
        changes of reports that waited for it are made.

        Raises OakError where errors stand, unless they are overruled with a reason, which stays visible.
        """

        def work(connection: sa.Connection, source: Mapping[str, Any], row: Mapping[str, Any]) -> str:
            errors = json.loads(row["findings"]).get("errors", 0)
            if errors and not overrule:
                raise OakError("errors-stand", f"Version {row['number']} of {source['name']} has {errors} error{'s' * (errors > 1)}; it was not released.", hint="Mend them and publish again; or overrule them with a reason that stays visible: --overrule REASON.")  # fmt: skip
            if self._storage.setting(connection, FOUR_EYES) and row["made_by"] == self.person:
                raise NotAllowed("not-allowed", f"Version {row['number']} of {source['name']} was made by {self.person}, and somebody else must release it.", hint="This catalogue asks for four eyes: oak catalogue four-eyes.")  # fmt: skip
            released = self._storage.rows(
                connection, sa.select(VERSION).where(VERSION.c.source_id == source["id"], VERSION.c.stage == "released")
            )
            if row["stage"] == "draft" and row["base"] and any(one["number"] > row["base"] for one in released):
                raise base_moved(source["name"], row["base"], released)
            for other in released:
                self._storage.update(
                    connection, VERSION, other, stage="retired", replaced_by=f"version {row['number']}"
                )
            self._storage.update(
                connection, VERSION, row, stage="released", replaced_by="", overruled=overrule if errors else ""
            )
            self._sign(connection, row, note)
            self.reports.follow(connection, address, lambda report: report.working(made()))
            return note

        with self._storage.read() as connection:
            source = self.find(connection, name)
            row = self.row(connection, source, number, drafts=number is None)
            if row["stage"] == "released":
                raise OakError("released-already", f"Version {row['number']} of {source['name']} is released already.")
        address = f"{source['area_name']}/{source['name']}"
        made = cache(lambda: self.source(address, row["number"]))
        return self._changed(name, number, "release", work)

    def retire(self, name: str, *, replaced_by: str = "") -> Version:
        """Take the released version away from readers; they learn what replaces it."""

        def work(connection: sa.Connection, _source: Any, row: Mapping[str, Any]) -> str:
            self._storage.update(connection, VERSION, row, stage="retired", replaced_by=replaced_by)
            return replaced_by

        return self._changed(name, self.version(name).number, "retire", work)

    def withdraw(self, name: str, number: int) -> None:
        """Take a draft back: nobody sees it any more, and its number is not used again."""

        def work(connection: sa.Connection, _source: Any, row: Mapping[str, Any]) -> str:
            self._storage.update(connection, VERSION, row, stage=WITHDRAWN, data="", before="")
            return ""

        self._changed(name, number, "withdraw", work)


def open_published(folder: Path, name: str, number: int | None) -> Source:
    """A source of the catalogue in a folder, for one who is its reader there."""
    return Catalogue.open(folder).source(name, number)


def _columns(table: sa.Table, row: Mapping[str, Any]) -> dict[str, Any]:
    return {column.name: row[column.name] for column in table.columns}


def _first_rights(access: Access) -> None:
    """Who makes a catalogue has every right in it, and an area to begin with."""
    with access.storage.read() as connection:
        if access.storage.rows(connection, sa.select(GRANT)):
            return
    with access.doing("create") as doing:
        if access.storage.rows(doing.connection, sa.select(GRANT)):
            return  # somebody else was quicker
        access.storage.insert(doing.connection, AREA, {"name": GENERAL, "key": GENERAL})
        for right in RIGHTS:
            access.storage.insert(doing.connection, GRANT, {"area": ANY, "who": access.person.name, "allowed": right})
        doing.said("", "catalogue")
