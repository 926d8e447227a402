"""The upkeep of a catalogue: backups, old rows, two people to a release, and what is moved, removed or handed over."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access
from oak_ledger.catalogue.looking import PublishedSources
from oak_ledger.catalogue.people import checked_name
from oak_ledger.catalogue.registered import RegisteredReports
from oak_ledger.catalogue.rules import ANY
from oak_ledger.catalogue.storage import DATABASE, SETTINGS, Storage, now
from oak_ledger.catalogue.tables import (
    AREA,
    GRANT,
    PROPOSAL,
    READING,
    REPORT,
    REPORT_STATE,
    SIGNATURE,
    SNAPSHOT,
    SOURCE,
    TOKEN,
    VERSION,
    VIEWER,
    WATCH,
    WATCH_RESULT,
)
from oak_ledger.errors import OakError, UnusableInput

FOUR_EYES = "four eyes"


@dataclass(frozen=True, slots=True)
class HandedOver:
    """What somebody had and another one has now: drafts (as SOURCE, version N), reports, and how many tokens were ended."""

    drafts: tuple[str, ...]
    reports: tuple[str, ...]
    tokens: int


class Upkeep:
    """What keeps a catalogue in order. Takes the right to administer: of the whole catalogue, or of the area that it is about."""

    def __init__(self, access: Access, catalogue: PublishedSources, reports: RegisteredReports) -> None:
        self._access, self._storage, self._catalogue, self._reports = access, access.storage, catalogue, reports

    # -- backups -------------------------------------------------------------------------------------------

    def backup(self, folder: str | Path) -> Path:
        """Copy all of it into an empty folder, as it is at one moment, tables of a server too: a catalogue of its own, which opens as any."""
        with self._storage.read() as connection:
            self._access.require_in(connection, "look after", ANY, "the whole catalogue")
        _copy(self._storage, Path(folder), "")
        return Path(folder)

    # -- settings ------------------------------------------------------------------------------------------

    def four_eyes(self) -> bool:
        """Whether a version is released only by somebody else than its maker."""
        with self._storage.read() as connection:
            return bool(self._storage.setting(connection, FOUR_EYES))

    def ask_for_four_eyes(self, *, on: bool) -> None:
        """Have a version released only by somebody else than its maker, or by anybody who may release."""
        with self._access.doing("four eyes") as doing:
            self._access.require_in(doing.connection, "look after", ANY, "the whole catalogue")
            self._storage.put(doing.connection, FOUR_EYES, "yes" if on else "")
            doing.said("", "four eyes", "on" if on else "off")

    # -- old rows ------------------------------------------------------------------------------------------

    def remove_old_rows(self, *, keep: int, name: str = "") -> list[str]:
        """Remove the rows of retired versions but the newest `keep` of each source; which, as SOURCE, version N. What they say stays."""
        removed: list[str] = []
        with self._access.doing("remove old rows") as doing:
            connection = doing.connection
            for source in (
                [self._catalogue.find(connection, name)] if name else self._catalogue.seen_sources(connection)
            ):
                self._access.require_in(connection, "look after", source["area"], f"old rows of {source['name']}")
                query = sa.select(VERSION).where(VERSION.c.source_id == source["id"], VERSION.c.stage == "retired")
                rows = [row for row in self._storage.rows(connection, query.order_by(VERSION.c.number)) if row["data"]]
                for row in rows[: max(len(rows) - keep, 0)]:
                    self._storage.update(connection, VERSION, row, data="", before="")
                    removed.append(f"{source['name']}, version {row['number']}")
            doing.said("", name or "all sources", f"{len(removed)} versions")
        return removed

    # -- people --------------------------------------------------------------------------------------------

    def hand_over(self, leaver: str, person: str) -> HandedOver:
        """Give somebody's drafts and reports to another one, and end the tokens of who leaves; rights stay until they are revoked."""
        person = checked_name(person, "a person")
        with self._access.doing("hand over") as doing:
            connection = doing.connection
            self._access.require_in(connection, "look after", ANY, "the whole catalogue")
            names = {row["id"]: row["name"] for row in self._storage.rows(connection, sa.select(SOURCE))}
            query = sa.select(VERSION).where(VERSION.c.made_by == leaver, VERSION.c.stage == "draft")
            drafts = self._storage.rows(connection, query)
            for row in drafts:
                self._storage.update(connection, VERSION, row, made_by=person)
            reports = self._storage.rows(connection, sa.select(REPORT).where(REPORT.c.owner == leaver))
            for row in reports:
                self._storage.update(connection, REPORT, row, owner=person)
            tokens = self._storage.rows(connection, sa.select(TOKEN).where(TOKEN.c.person == leaver, TOKEN.c.revoked_at == ""))  # fmt: skip
            for row in tokens:
                self._storage.update(connection, TOKEN, row, revoked_at=now())
            said = tuple(f"{names[row['source_id']]}, version {row['number']}" for row in drafts)
            over = HandedOver(said, tuple(row["name"] for row in reports), len(tokens))
            doing.said(
                "", leaver, f"to {person}: {len(drafts)} drafts, {len(reports)} reports, {len(tokens)} tokens ended"
            )
        return over

    def readings(self) -> list[tuple[str, str, int, str]]:
        """Who read which source: the source as AREA/NAME, the reader, the version seen last, and when; of the sources that one may see."""
        return [
            (address, *reader) for address in self._catalogue.addresses() for reader in self._reports.readers(address)
        ]

    # -- moving and removing -------------------------------------------------------------------------------

    def move_source(self, name: str, area: str) -> None:
        """Move a source with all its versions to another area; reports that read it follow."""
        with self._access.doing("move source") as doing:
            connection = doing.connection
            row = self._catalogue.find(connection, name)
            place = self._target(connection, row, area, SOURCE)
            before, after = f"{row['area_name']}/{row['name']}", f"{place['name']}/{row['name']}"
            self._moved(connection, SOURCE, row, place)
            for state in self._storage.rows(connection, sa.select(REPORT_STATE).where(REPORT_STATE.c.source == before)):
                self._storage.update(connection, REPORT_STATE, state, source=after)
            doing.said(place["key"], row["name"], f"from {row['area_name']}")

    def move_report(self, name: str, area: str) -> None:
        """Move a report with all its states to another area."""
        with self._access.doing("move report") as doing:
            row = self._reports.row(doing.connection, name)
            place = self._target(doing.connection, row, area, REPORT)
            self._moved(doing.connection, REPORT, row, place)
            doing.said(place["key"], row["name"], f"from {row['area_name']}")

    def _moved(
        self, connection: sa.Connection, table: sa.Table, row: Mapping[str, Any], place: Mapping[str, Any]
    ) -> None:
        plain = {column.name: row[column.name] for column in table.columns}
        self._storage.update(connection, table, plain, area_id=place["id"])

    def _target(self, connection: sa.Connection, row: Mapping[str, Any], area: str, table: sa.Table) -> dict[str, Any]:
        """The area that something moves to. Raises OakError where one may not, or the name is taken there."""
        place = self._access.area(connection, area)
        for key, what in ((row["area"], row["area_name"]), (place["key"], place["name"])):
            self._access.require_in(connection, "look after", key, what)
        query = sa.select(table).where(table.c.area_id == place["id"], table.c.key == row["key"])
        if self._storage.rows(connection, query):
            raise OakError("name-taken", f"There is one of the name {row['name']!r} in {place['name']} already.")
        return place

    def remove_source(self, name: str) -> None:
        """Remove a source with all its versions, snapshots and watches. Reports that read it stay, and say that it is gone."""
        with self._access.doing("remove source") as doing:
            connection = doing.connection
            row = self._catalogue.find(connection, name)
            self._access.require_in(connection, "look after", row["area"], row["name"])
            versions = sa.select(VERSION.c.id).where(VERSION.c.source_id == row["id"])
            watches = sa.select(WATCH.c.id).where(WATCH.c.source_id == row["id"])
            self._storage.delete(connection, WATCH_RESULT, WATCH_RESULT.c.watch_id.in_(watches))
            for table in (SIGNATURE, VIEWER):
                self._storage.delete(connection, table, table.c.version_id.in_(versions))
            for table in (WATCH, READING, SNAPSHOT, VERSION):
                self._storage.delete(connection, table, table.c.source_id == row["id"])
            self._storage.delete(connection, SOURCE, SOURCE.c.id == row["id"])
            doing.said(row["area"], row["name"])

    def remove_report(self, name: str) -> None:
        """Remove a report with all its states: by its owner, or by who administers its area."""
        with self._access.doing("remove report") as doing:
            connection = doing.connection
            row = self._reports.row(connection, name)
            if row["owner"] != self._access.person.name or "edit" not in self._access.person.rights:
                self._access.require_in(connection, "look after", row["area"], f"the report {row['name']}")
            for table in (PROPOSAL, REPORT_STATE):
                self._storage.delete(connection, table, table.c.report_id == row["id"])
            self._storage.delete(connection, REPORT, REPORT.c.id == row["id"])
            doing.said(row["area"], row["name"])

    def remove_area(self, name: str) -> None:
        """Remove an area that has neither sources nor reports, with the rights in it."""
        with self._access.doing("remove area") as doing:
            connection = doing.connection
            self._access.require_in(connection, "look after", ANY, "the whole catalogue")
            row = self._access.area(connection, name)
            held = sum(
                len(self._storage.rows(connection, sa.select(table).where(table.c.area_id == row["id"])))
                for table in (SOURCE, REPORT)
            )
            if held:
                raise OakError("still-used", f"The area {row['name']} has sources or reports: {held}.", hint="Move or remove them first.")  # fmt: skip
            self._storage.delete(connection, GRANT, GRANT.c.area == row["key"])
            self._storage.delete(connection, AREA, AREA.c.id == row["id"])
            doing.said("", row["name"])


def restore(backup: str | Path, folder: str | Path, url: str = "") -> Path:
    """Make a catalogue from a backup, in an empty folder; with `url` its tables go into that PostgreSQL database, which must have none."""
    _copy(Storage.open(Path(backup)), Path(folder), url)
    return Path(folder)


def _copy(storage: Storage, folder: Path, url: str) -> None:
    if any((folder / one).exists() for one in (SETTINGS, DATABASE)):
        raise UnusableInput("not-empty", f"There is a catalogue in {folder} already.", hint="Name another folder.")
    storage.refuse_other_layout()
    storage.copy_to(Storage.create(folder, url))
