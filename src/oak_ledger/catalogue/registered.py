"""Reports in the catalogue: who owns them, what they read, and changes that wait for their owners."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access
from oak_ledger.catalogue.looking import PublishedSources
from oak_ledger.catalogue.people import checked_name, checked_text
from oak_ledger.catalogue.rules import permitted
from oak_ledger.catalogue.storage import now
from oak_ledger.catalogue.tables import AREA, PROPOSAL, READING, REPORT, REPORT_STATE
from oak_ledger.definition.document import parse_document
from oak_ledger.errors import OakError
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.report import Report
from oak_ledger.report.definition import REPORT as REPORT_SHAPE


@dataclass(frozen=True, slots=True)
class Registered:
    """A report in the catalogue: its newest state, and whether a change waits for its owner. `source` is AREA/NAME; the report names it so."""

    name: str
    area: str
    owner: str
    source: str
    number: int
    at: str
    by: str
    note: str
    waiting: int
    may_change: bool
    report: Report


@dataclass(frozen=True, slots=True)
class ProposedReport:
    """A change that somebody left for the owner of a report, by its number; `follows` is the source with whose release it is made, or empty."""

    number: int
    report: str
    by: str
    at: str
    note: str
    before: str
    after: str
    follows: str = ""


class RegisteredReports:
    """The reports of a catalogue."""

    def __init__(self, access: Access, catalogue: PublishedSources) -> None:
        self._access, self._storage, self._catalogue = access, access.storage, catalogue

    def publish(self, report: Report, *, area: str = "", note: str = "", replace: bool = False) -> Registered:
        """Put a report into the catalogue, or a new state of it. Its source must be one that its owner may read.

        A new report goes to `area` (that of its source, unless set otherwise). Raises OakError where a report of that name is there that
        reads another source or belongs to somebody else, unless it is to be replaced.
        """
        name = checked_name(report.about.name, "a report")
        with self._access.doing("publish report") as doing:
            connection = doing.connection
            source = self._catalogue.find(connection, report.about.source)
            address = f"{source['area_name']}/{source['name']}"
            row = self._find(connection, f"{area}/{name}" if area else name)
            if row is None:
                place = self._access.area(connection, area or source["area"])
                self._access.require_in(connection, "change", place["key"], f"reports in {place['name']}")
                self._refuse_taken(connection, place, name)
                made = self._storage.insert(
                    connection,
                    REPORT,
                    {"area_id": place["id"], "name": name, "key": name.casefold(), "owner": self._access.person.name},
                )
                row, number = {"id": made, "area": place["key"]}, 1
            else:
                self._access.require("change", "report", self._conditions(connection, row), f"the report {name}")
                newest = self._newest(connection, row)
                if not replace and (row["owner"] != self._access.person.name or newest["source"] != address):
                    message = f"There is a report {name!r} in {row['area_name']}, of {row['owner']}, which reads {newest['source']}."
                    raise OakError("report-taken", message, hint="Give yours another name, or another --area; or replace it: --replace.")  # fmt: skip
                number = newest["number"] + 1
            self._add(connection, row["id"], number, report.document.text, address, note)
            doing.said(row["area"], name, f"state {number}")
        return self.get(f"{row['area']}/{name}")

    def _refuse_taken(self, connection: sa.Connection, place: Mapping[str, Any], name: str) -> None:
        """Raise OakError where an area has a report of that name."""
        query = sa.select(REPORT).where(REPORT.c.area_id == place["id"], REPORT.c.key == name.casefold())
        if self._storage.rows(connection, query):
            raise OakError("name-taken", f"There is a report {name!r} in {place['name']} already.")

    def _add(self, connection: sa.Connection, report: int, number: int, text: str, source: str, note: str) -> None:
        checked_text(note, "note")
        checked_text(text, "report")
        values = {
            "report_id": report,
            "number": number,
            "text": text,
            "source": source,
            "by": self._access.person.name,
            "at": now(),
            "note": note,
        }
        self._storage.insert(connection, REPORT_STATE, values)

    def all(self, source: str = "") -> list[Registered]:
        """The reports that one may see, of one source (NAME, or AREA/NAME) if it is named."""
        with self._storage.read() as connection:
            registereds = [
                self._registered(connection, row)
                for row in self._rows_all(connection)
                if permitted("see", "report", self._conditions(connection, row))
            ]
        wanted = source.casefold()
        return [
            registered
            for registered in registereds
            if wanted in ("", registered.source.casefold(), registered.source.rpartition("/")[2].casefold())
        ]

    def get(self, name: str) -> Registered:
        """A report by its name, or AREA/NAME. Raises OakError where one sees none of that name."""
        with self._storage.read() as connection:
            return self._registered(connection, self._one(connection, name))

    def row(self, connection: sa.Connection, name: str) -> dict[str, Any]:
        """The row of a report, by its name or AREA/NAME. Raises OakError where one sees none of that name."""
        return self._one(connection, name)

    def propose(self, name: str, after: str, *, note: str = "", with_source: bool = False) -> Registered:
        """Leave a change for the owner of a report: its whole text as it would be; or (`with_source`) one that is made when its source is
        released next, and until then may be taken back."""
        parse_document(checked_text(after, "report"), REPORT_SHAPE, name)
        checked_text(note, "note")
        with self._access.doing("propose") as doing:
            row = self._one(doing.connection, name)
            self._access.require(
                "propose", "report", self._conditions(doing.connection, row), f"the report {row['name']}"
            )
            newest = self._newest(doing.connection, row)
            for other in self._waiting(doing.connection, row):
                if other["by"] == self._access.person.name and not with_source and not other["follows"]:
                    self._storage.update(doing.connection, PROPOSAL, other, state="replaced")
            values = {
                "report_id": row["id"],
                "base": newest["number"],
                "text": after,
                "by": self._access.person.name,
                "at": now(),
                "note": note,
                "state": "waiting",
                "follows": newest["source"] if with_source else "",
            }
            self._storage.insert(doing.connection, PROPOSAL, values)
            doing.said(row["area"], row["name"], note)
        return self.get(f"{row['area']}/{row['name']}")

    def followed(self, source: str) -> list[Registered]:
        """The reports of a source as they will be when it is released: with the changes that wait for it."""
        with self._storage.read() as connection:
            return [self._with_text(registered, self._following(connection, self._one(connection, f"{registered.area}/{registered.name}"))) for registered in self.all(source)]  # fmt: skip

    @staticmethod
    def _with_text(registered: Registered, waiting: list[dict[str, Any]]) -> Registered:
        if not waiting:
            return registered
        document = parse_document(waiting[-1]["text"], REPORT_SHAPE, f"{registered.name} in the catalogue")
        return replace(registered, report=Report(document))

    def _following(self, connection: sa.Connection, row: Mapping[str, Any]) -> list[dict[str, Any]]:
        """The changes of a report that wait for a release and were made of its newest state."""
        newest = self._newest(connection, row)["number"]
        return [one for one in self._waiting(connection, row) if one["follows"] and one["base"] == newest]

    def set_aside(self, note: str, *, back: bool = False) -> tuple[list[str], list[str]]:
        """Take back the changes that one has left with this note and that wait for a release (`back`: leave them again): of which reports;
        and which reports have followed a release already, and stay."""
        state, other = ("undone", "waiting") if back else ("waiting", "undone")
        with self._access.doing("propose") as doing:
            mine = (PROPOSAL.c.by == self._access.person.name, PROPOSAL.c.note == note, PROPOSAL.c.follows != "")
            rows = self._storage.rows(doing.connection, sa.select(PROPOSAL).where(*mine))
            names = {row["id"]: row["name"] for row in self._rows_all(doing.connection)}
            turned = [row for row in rows if row["state"] == state]
            for one in turned:
                self._storage.update(doing.connection, PROPOSAL, one, state=other)
                doing.said("", names[one["report_id"]], f"{other}: {note}")
        stay = [row for row in rows if row["state"] == "accepted" and not back]
        return [names[row["report_id"]] for row in turned], [names[row["report_id"]] for row in stay]

    def follow(self, connection: sa.Connection, address: str, works: Callable[[Report], int]) -> None:
        """Make the changes that wait for the release of a source, in the reports that who releases may change; in others it waits for the
        owner. With a report that would work less well with it (`works` counts the panels that do) it goes on waiting."""
        for row in self._rows_all(connection):
            newest, waiting = self._newest(connection, row), self._following(connection, row)
            if not waiting or newest["source"] != address:
                continue
            sides = [Report(parse_document(text, REPORT_SHAPE, row["name"])) for text in (newest["text"], waiting[-1]["text"])]  # fmt: skip
            if works(sides[1]) < works(sides[0]):
                continue
            if not permitted("change", "report", self._conditions(connection, row)):
                for one in waiting:  # from now on it waits for its owner alone
                    self._storage.update(
                        connection, PROPOSAL, one, follows="", state="waiting" if one is waiting[-1] else "replaced"
                    )
                continue
            self._add(connection, row["id"], newest["number"] + 1, waiting[-1]["text"], address, waiting[-1]["note"])
            for one in waiting:
                self._storage.update(connection, PROPOSAL, one, state="accepted")

    def waiting(self, name: str) -> list[ProposedReport]:
        """The changes that wait for the owner of a report, oldest first."""
        with self._storage.read() as connection:
            row = self._one(connection, name)
            text = self._newest(connection, row)["text"]
            return [
                ProposedReport(
                    one["id"], row["name"], one["by"], one["at"], one["note"], text, one["text"], one["follows"]
                )
                for one in self._waiting(connection, row)
            ]

    def accept(self, name: str, number: int | None = None) -> Registered:
        """Take over a change that waits, by its number; without one the only one. Raises OakError where none waits, where several do, or
        where the report has changed since."""
        with self._access.doing("accept") as doing:
            connection = doing.connection
            row = self._one(connection, name)
            self._access.require(
                "accept", "report", self._conditions(connection, row), f"a change of the report {row['name']}"
            )
            waiting = self._waiting(connection, row)
            if not waiting:
                raise OakError("nothing-waits", f"No change waits for the report {row['name']}.")
            if number is None and len(waiting) > 1:
                numbers = ", ".join(f"{row['id']} by {row['by']}" for row in waiting)
                raise OakError("several-changes", f"{len(waiting)} changes wait for the report {row['name']}: {numbers}.", hint="Look at them with oak report waiting, and say which: --change NUMBER.")  # fmt: skip
            chosen = [row for row in waiting if number in (None, row["id"])]
            if not chosen:
                raise OakError("nothing-waits", f"No change {number} waits for the report {row['name']}: it was taken back, or another one was left since.")  # fmt: skip
            newest, proposal = self._newest(connection, row), chosen[0]
            if proposal["base"] != newest["number"]:
                raise OakError("base-moved", f"The report {row['name']} has changed since {proposal['by']} left the change.", hint="Ask for it again: oak mend leaves it again.")  # fmt: skip
            self._add(
                connection,
                row["id"],
                newest["number"] + 1,
                proposal["text"],
                newest["source"],
                f"{proposal['note']} (by {proposal['by']})",
            )
            for one in waiting:
                self._storage.update(connection, PROPOSAL, one, state="accepted" if one is proposal else "replaced")
            doing.said(row["area"], row["name"], f"state {newest['number'] + 1}, by {proposal['by']}")
        return self.get(name)

    # -- who reads ---------------------------------------------------------------------------------------

    def looked(self, source: str, reader: str) -> int:
        """Note that a reader (a report, or a person) has looked at the released version; the number of the version it saw last, or 0."""
        version = self._catalogue.version(source)
        with self._storage.write() as connection:
            row = self._catalogue.find(connection, source)
            rows = self._storage.rows(
                connection, sa.select(READING).where(READING.c.source_id == row["id"], READING.c.reader == reader)
            )
            values = {"source_id": row["id"], "reader": reader, "version": version.number, "at": now()}
            if rows:
                self._storage.update(connection, READING, rows[0], **values)
            else:
                self._storage.insert(connection, READING, values)
        return int(rows[0]["version"]) if rows else 0

    def readers(self, source: str) -> list[tuple[str, int, str]]:
        """Who has read a source: the reader, the version they saw last, and when; readers that one may not see are left out."""
        with self._storage.read() as connection:
            row = self._catalogue.find(connection, source)
            names = {f"report {registered.name}" for registered in self.all(f"{row['area_name']}/{row['name']}")}
            rows = self._storage.rows(
                connection, sa.select(READING).where(READING.c.source_id == row["id"]).order_by(READING.c.at)
            )
        return [
            (row["reader"], row["version"], row["at"])
            for row in rows
            if not row["reader"].startswith("report ") or row["reader"] in names
        ]

    # -- rows --------------------------------------------------------------------------------------------

    def _rows_all(self, connection: sa.Connection) -> list[dict[str, Any]]:
        areas = {row["id"]: row for row in self._storage.rows(connection, sa.select(AREA))}
        rows = self._storage.rows(connection, sa.select(REPORT).order_by(REPORT.c.key))
        return [
            {**row, "area": areas[row["area_id"]]["key"], "area_name": areas[row["area_id"]]["name"]} for row in rows
        ]

    def _conditions(self, connection: sa.Connection, row: Mapping[str, Any]) -> set[str]:
        found = self._access.conditions(connection, row["area"])
        person = self._access.person
        return found | {"owner"} if row["owner"] == person.name and person.within(row["area"]) else found

    def _find(self, connection: sa.Connection, name: str) -> dict[str, Any] | None:
        seen = [
            row for row in self._rows_all(connection) if permitted("see", "report", self._conditions(connection, row))
        ]
        rows = [row for row in seen if name.casefold() in (row["key"], f"{row['area']}/{row['key']}")]
        if len(rows) > 1:
            raise OakError("several-reports", f"There is a report {name!r} in {', '.join(row['area_name'] for row in rows)}.", hint="Say which: AREA/NAME.")  # fmt: skip
        return rows[0] if rows else None

    def _one(self, connection: sa.Connection, name: str) -> dict[str, Any]:
        found = self._find(connection, name)
        if found is None:
            seen = [
                row["name"]
                for row in self._rows_all(connection)
                if permitted("see", "report", self._conditions(connection, row))
            ]
            hint = nearest_hint(name, seen, str) or (
                f"It has {', '.join(seen)}." if seen else "oak report publish puts one there."
            )
            raise OakError("unknown-report", f"The catalogue has no report {name!r}.", hint=hint)
        return found

    def _newest(self, connection: sa.Connection, row: Mapping[str, Any]) -> dict[str, Any]:
        return self._storage.rows(
            connection,
            sa.select(REPORT_STATE).where(REPORT_STATE.c.report_id == row["id"]).order_by(REPORT_STATE.c.number),
        )[-1]

    def _waiting(self, connection: sa.Connection, row: Mapping[str, Any]) -> list[dict[str, Any]]:
        return self._storage.rows(
            connection,
            sa.select(PROPOSAL)
            .where(PROPOSAL.c.report_id == row["id"], PROPOSAL.c.state == "waiting")
            .order_by(PROPOSAL.c.id),
        )

    def _registered(self, connection: sa.Connection, row: Mapping[str, Any]) -> Registered:
        state = self._newest(connection, row)
        document = parse_document(state["text"], REPORT_SHAPE, f"{row['name']} in the catalogue")
        report = Report(document.replaced(document.all("report")[0], {"source": state["source"]}))
        may = permitted("change", "report", self._conditions(connection, row)) and "edit" in self._access.person.rights
        return Registered(row["name"], row["area_name"], row["owner"], state["source"], state["number"], state["at"], state["by"], state["note"], len(self._waiting(connection, row)), may, report)  # fmt: skip
