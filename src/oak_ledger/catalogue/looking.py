"""What one sees of a catalogue: sources, versions, and their rows."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access
from oak_ledger.catalogue.rules import permitted
from oak_ledger.catalogue.tables import SIGNATURE, VERSION, VIEWER
from oak_ledger.catalogue.versions import Version, version_of
from oak_ledger.definition.document import parse_document
from oak_ledger.definition.model import DEFINITION
from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.origin import ParquetReader
from oak_ledger.source import Published, Source

WITHDRAWN = "withdrawn"


class Listed(NamedTuple):
    """A version in short: what a list or a link says of it."""

    area: str
    source: str
    number: int
    stage: str
    replaced_by: str


class PublishedSources:
    """The sources of a catalogue as one person sees them: what they may not see does not exist."""

    def __init__(self, access: Access) -> None:
        self._access, self._storage = access, access.storage

    @property
    def folder(self) -> Path:
        """Where the catalogue is."""
        return self._storage.folder

    # -- looking -----------------------------------------------------------------------------------------

    def sources(self) -> list[str]:
        """The names of the sources of which one may see a version."""
        with self._storage.read() as connection:
            return list(dict.fromkeys(row["name"] for row in self.seen_sources(connection)))

    def addresses(self) -> list[str]:
        """The same with their areas, as AREA/NAME."""
        with self._storage.read() as connection:
            return [f"{row['area_name']}/{row['name']}" for row in self.seen_sources(connection)]

    def listed(self) -> list[Listed]:
        """Of each source that one may see, the released version, or the newest of those that one may see."""
        made = []
        with self._storage.read() as connection:
            for row in self._access.sources(connection):
                seen = self._seen(connection, row)
                if seen:
                    one = next((own for own in seen if own["stage"] == "released"), seen[-1])
                    made.append(Listed(row["area_name"], row["name"], one["number"], one["stage"], one["replaced_by"]))
        return made

    def seen_sources(self, connection: sa.Connection) -> list[dict[str, Any]]:
        """The rows of the sources of which one may see a version."""
        return [row for row in self._access.sources(connection) if self._seen(connection, row)]

    def find(self, connection: sa.Connection, name: str) -> dict[str, Any]:
        """A source by its name, or AREA/NAME. Raises OakError where one sees none of that name, or several."""
        area, _, key = name.casefold().rpartition("/")
        rows = [row for row in self._access.sources(connection, key) if area in ("", row["area"])]
        found = [row for row in rows if self._seen(connection, row)]
        if len(found) > 1:
            areas = ", ".join(row["area_name"] for row in found)
            raise OakError("several-sources", f"There is a source {name!r} in {areas}.", hint=f"Say which: {found[0]['area_name']}/{name}.")  # fmt: skip
        if not found:
            names = [row["name"] for row in self.seen_sources(connection)]
            hint = nearest_hint(name, names, str) or (
                f"It has {', '.join(names)}."
                if names
                else "It has none that you may see; oak catalogue rights list says who gives rights."
            )
            raise OakError("unknown-source", f"The catalogue in {self.folder} has no source {name!r}.", hint=hint)
        return found[0]

    def _seen(self, connection: sa.Connection, source: Mapping[str, Any], action: str = "see") -> list[dict[str, Any]]:
        """The number, stage, maker and replacement of the versions of a source with which one may do something, oldest first."""
        narrow = sa.select(*(VERSION.c[name] for name in ("id", "number", "stage", "made_by", "replaced_by")))
        query = narrow.where(VERSION.c.source_id == source["id"], VERSION.c.stage != WITHDRAWN).order_by(
            VERSION.c.number
        )
        rows = self._storage.rows(connection, query)
        area = source["area"]
        return [row for row in rows if permitted(action, row["stage"], self._access.conditions(connection, area, row))]

    def _whole(self, connection: sa.Connection, number: int) -> dict[str, Any]:
        """The whole row of a version, by its id."""
        (row,) = self._storage.rows(connection, sa.select(VERSION).where(VERSION.c.id == number))
        return row

    def _version(self, connection: sa.Connection, source: Mapping[str, Any], row: Mapping[str, Any]) -> Version:
        signatures = self._storage.rows(
            connection, sa.select(SIGNATURE).where(SIGNATURE.c.version_id == row["id"]).order_by(SIGNATURE.c.id)
        )
        viewers = self._storage.rows(connection, sa.select(VIEWER).where(VIEWER.c.version_id == row["id"]))
        return version_of(row, source["name"], source["area_name"], signatures, viewers)

    def versions(self, name: str) -> list[Version]:
        """The versions of a source that one may see, oldest first. Raises OakError for a name that is not there."""
        with self._storage.read() as connection:
            source = self.find(connection, name)
            return [
                self._version(connection, source, self._whole(connection, row["id"]))
                for row in self._seen(connection, source)
            ]

    def version(self, name: str, number: int | None = None, *, drafts: bool = False) -> Version:
        """A version by number; without one the released version, or with `drafts` the newest of all that one may see."""
        with self._storage.read() as connection:
            source = self.find(connection, name)
            return self._version(connection, source, self.row(connection, source, number, drafts=drafts))

    def row(
        self, connection: sa.Connection, source: Mapping[str, Any], number: int | None = None, *, drafts: bool = False
    ) -> dict[str, Any]:
        """The row of a version; what `version` finds."""
        rows = self._seen(connection, source)
        if number is not None:
            found = next((row for row in rows if row["number"] == number), None)
            if found is None:
                there = ", ".join(str(row["number"]) for row in rows)
                raise OakError("unknown-version", f"{source['name']} has no version {number}.", hint=f"It has {there}.")
            return self._whole(connection, found["id"])
        if drafts:
            return self._whole(connection, rows[-1]["id"])
        released = next((row for row in rows if row["stage"] == "released"), None)
        if released is None:
            raise OakError(
                "not-released",
                f"No version of {source['name']} is released.",
                hint="Release one (oak release), or ask for the draft: --draft.",
            )
        return self._whole(connection, released["id"])

    def source(self, name: str, number: int | None = None, *, drafts: bool = False) -> Source:
        """A published source, ready for questions; what `version` finds. It cannot be changed, only read."""
        with self._storage.read() as connection:
            row = self.find(connection, name)
            version = self.row(connection, row, number, drafts=drafts)
            reader = self.is_reader(connection, row["area"], version)
        return self.opened(row["name"], version, version["data"], version["made_at"], reader=reader)

    def reads_only(self, version: Version) -> bool:
        """Whether one only reads a version, as `is_reader` says."""
        with self._storage.read() as connection:
            return self.is_reader(connection, version.area.casefold(), {"made_by": version.made_by, "id": None})

    def origin_of(self, name: str, number: int | None = None, *, drafts: bool = False) -> Source:
        """The definition of a version over its origin as it is now, not over its published rows."""
        with self._storage.read() as connection:
            row = self.find(connection, name)
            version = self.row(connection, row, number, drafts=drafts)
        document = parse_document(version["definition"], DEFINITION, f"{row['name']}, version {version['number']}")
        return Source(document, Path())

    def is_reader(self, connection: sa.Connection, area: str, version: Mapping[str, Any]) -> bool:
        """Whether one only reads a version: hidden fields are for its maker, and for who may edit in its area."""
        return not self._access.conditions(connection, area, version) & {"edit", "maker"}

    def opened(self, name: str, version: Mapping[str, Any], data: str, at: str, *, reader: bool) -> Source:
        """A version over rows of it: its own, or those of a snapshot."""
        what = f"{name}, version {version['number']}"
        if not data:
            raise UnusableInput("rows-removed", f"The rows of {what} were removed, as old ones are here.", hint=f"oak versions {name!r} shows the others.")  # fmt: skip
        document = parse_document(version["definition"], DEFINITION, what)
        published = Published(version["number"], version["stage"], version["made_by"], at[:19], version["replaced_by"])
        earlier = version["before"]
        baseline = ParquetReader(self._storage.verified(earlier, f"the baseline of {what}")) if earlier else None
        return Source(
            document,
            self.folder,
            feed=ParquetReader(self._storage.verified(data, what)),
            published=published,
            baseline=baseline,
            reader=reader,
        )

    def released(self, name: str) -> Version | None:
        """The released version of a source, or None where one sees none."""
        try:
            return self.version(name)
        except OakError as error:
            if error.code in ("unknown-source", "not-released"):
                return None
            raise
