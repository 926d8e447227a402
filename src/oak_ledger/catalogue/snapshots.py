"""Dated states of a source's rows, taken when it is published, by command, or by a schedule."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access
from oak_ledger.catalogue.looking import PublishedSources
from oak_ledger.catalogue.tables import SNAPSHOT, VERSION
from oak_ledger.errors import OakError
from oak_ledger.explain.row_changes import RowChanges, row_changes
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.source import Source


@dataclass(frozen=True, slots=True)
class Snapshot:
    """A dated state of rows, under the definition of a version."""

    source: str
    number: int
    version: int
    rows: int
    at: str
    by: str
    note: str


class Snapshots:
    """The dated states of a catalogue's sources. A published version is one, too: its rows are those of its day."""

    def __init__(self, access: Access, catalogue: PublishedSources) -> None:
        self._access, self._storage, self._catalogue = access, access.storage, catalogue

    def take(self, source: Source, *, note: str = "", keep: int | None = None) -> Snapshot:
        """Keep the rows that a working copy has now, under its released version's definition; with `keep`, only so many newest remain.

        Raises OakError where the source is not released, or its fields are no longer those of the released version.
        """
        version = self._catalogue.version(source.name)
        published = self._catalogue.source(source.name, version.number)
        names = published.opened.columns()
        missing = [name for name in names if name.casefold() not in source.compiled.states or source.state(name).broken]
        if missing:
            raise OakError("snapshot-differs", f"The working copy of {source.name} has no {', '.join(missing[:3])}, which version {version.number} has.", hint="Publish and release it first; then its rows can be kept by date.")  # fmt: skip
        table = source.rows([(name, quote_identifier(name)) for name in names]).table
        data = self._storage.keep(table)
        with self._access.doing("snapshot") as doing:
            row = self._catalogue.find(doing.connection, source.name)
            self._access.require_in(doing.connection, "publish", row["area"], f"a snapshot of {source.name}")
            values = {"source_id": row["id"], "version": version.number, "data": data, "rows": table.num_rows, "at": self._storage.moment(doing.connection), "by": self._access.person.name, "note": note}  # fmt: skip
            made = self._storage.insert(doing.connection, SNAPSHOT, values)
            gone = self._thin(doing.connection, row["id"], keep)
            doing.said(
                row["area"], row["name"], f"{table.num_rows:,} rows{f', {gone} older ones removed' if gone else ''}"
            )
        return Snapshot(row["name"], made, version.number, table.num_rows, values["at"][:19], values["by"], note)

    def _thin(self, connection: sa.Connection, source: int, keep: int | None) -> int:
        rows = self._storage.rows(
            connection, sa.select(SNAPSHOT).where(SNAPSHOT.c.source_id == source).order_by(SNAPSHOT.c.id)
        )
        gone = rows[: max(len(rows) - keep, 0)] if keep is not None else []
        for row in gone:
            self._storage.delete(connection, SNAPSHOT, SNAPSHOT.c.id == row["id"])
        return len(gone)

    def all(self, name: str) -> Sequence[Snapshot]:
        """The snapshots of a source that one may read, oldest first."""
        with self._storage.read() as connection:
            source = self._catalogue.find(connection, name)
            self._catalogue.row(connection, source)  # only who may read the released version sees its states
            rows = self._storage.rows(
                connection, sa.select(SNAPSHOT).where(SNAPSHOT.c.source_id == source["id"]).order_by(SNAPSHOT.c.id)
            )
        return [
            Snapshot(source["name"], row["id"], row["version"], row["rows"], row["at"][:19], row["by"], row["note"])
            for row in rows
        ]

    def source_at(self, name: str, day: str) -> Source:
        """The source as it was at the end of a day (or at a moment): the newest snapshot or released version until then.

        Raises OakError for what is not a date, and where there is no state of that day or before.
        """
        until = _until(day)
        with self._storage.read() as connection:
            source = self._catalogue.find(connection, name)
            numbers = {version.number for version in self._catalogue.versions(name)}
            versions = [
                row
                for row in self._storage.rows(connection, sa.select(VERSION).where(VERSION.c.source_id == source["id"]))
                if row["number"] in numbers
            ]
            by_number = {row["number"]: row for row in versions}
            states = [(row["made_at"], row["data"], row) for row in versions if row["stage"] != "draft" and row["data"]]
            taken = self._storage.rows(
                connection, sa.select(SNAPSHOT).where(SNAPSHOT.c.source_id == source["id"]).order_by(SNAPSHOT.c.id)
            )
            states += [
                (row["at"], row["data"], by_number[row["version"]]) for row in taken if row["version"] in by_number
            ]
            readers = {row["number"]: self._catalogue.is_reader(connection, source["area"], row) for row in versions}
        before = [state for state in states if state[0] <= until]
        if not before:
            first = min((state[0] for state in states), default="")
            hint = f"The first state is of {first[:19]}." if first else "There is no state yet: oak snapshot."
            raise OakError("no-state", f"{source['name']} has no state of {day} or before.", hint=hint)
        at, data, version = max(before, key=lambda one: one[0])
        return self._catalogue.opened(source["name"], version, data, at, reader=readers[version["number"]])

    def changes(self, now_source: Source, then: Source, *, where: str | None = None) -> RowChanges:
        """The rows that came, went and changed between two states, in the visible fields that both have; matched by the key, if there is
        one. `where` limits the rows of both."""
        names = [name for name in now_source.opened.columns() if name in then.opened.columns()] if now_source.published else [
            state.name for state in now_source.shown_fields if state.name in then.opened.columns()
        ]  # fmt: skip
        hidden = {state.name for state in now_source.fields if getattr(state.spec, "hidden", False)}
        names = [name for name in names if name not in hidden]
        sides = [
            source.rows([quote_identifier(name) for name in names], where=where).table for source in (then, now_source)
        ]
        key = [name for name in now_source.about.key if name in names]
        return row_changes(sides[0], sides[1], key if len(key) == len(now_source.about.key) else ())


def _until(day: str) -> str:
    """The last moment that a date or a time says, as catalogue times are written."""
    try:
        if len(day) == 10:
            return f"{dt.date.fromisoformat(day).isoformat()} 23:59:59.999999"
        return dt.datetime.fromisoformat(day).isoformat(" ", "seconds") + ".999999"
    except ValueError:
        raise OakError(
            "bad-date", f"{day!r} is not a date.", hint="Write it as 2026-05-31, or 2026-05-31 17:00:00."
        ) from None
