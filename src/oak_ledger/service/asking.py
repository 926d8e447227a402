"""Who asks, over whichever protocol: what they see of the catalogue, what they may take, and what is kept between questions."""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from oak_ledger.catalogue import Catalogue, Version
from oak_ledger.errors import OakError
from oak_ledger.service.kept import Kept
from oak_ledger.service.limits import Limits, Slots
from oak_ledger.source import Source

KEPT_SOURCES, KEPT_PAGES = 64, 64 * 2**20  # versions that are open, characters of pages


@dataclass
class Shared:
    """What all questions have in common: the catalogue's folder, the room for questions, and what was made of versions."""

    folder: str | Path
    limits: Limits
    readings: set[tuple[str, str, int]] = field(default_factory=set)
    sources: Kept[Source] = field(default_factory=lambda: Kept(KEPT_SOURCES))
    pages: Kept[str] = field(default_factory=lambda: Kept(KEPT_PAGES, len))

    def __post_init__(self) -> None:
        self.slots = Slots(self.limits)


@dataclass(frozen=True, slots=True)
class State:
    """What is asked: a version, its rows (opened when they are needed), and what else tells one answer from another."""

    version: Version
    source: Callable[[], Source]
    more: tuple[str, ...] = ()
    dated: bool = False


class Asker:
    """Whoever has a token: the catalogue as it may be seen with it. Raises OakError for a token that is not valid."""

    def __init__(self, shared: Shared, token: str) -> None:
        self.shared, self.limits, self.slots = shared, shared.limits, shared.slots
        self.catalogue = Catalogue.open(shared.folder, token=token)
        self.token = hashlib.sha256(token.encode()).hexdigest()

    def seen(self) -> list[Version]:
        """Of each source that one may see, the released version, or the newest of all that one may see."""
        there = self.catalogue
        return [there.released(name) or there.version(name, drafts=True) for name in there.addresses()]

    def version(self, name: str, area: str, number: int | None, *, draft: bool) -> Version:
        """A version that one may see."""
        return self.catalogue.version(f"{area}/{name}" if area else name, number, drafts=draft)

    def source(self, version: Version) -> Source:
        """A version, ready for questions."""
        self.note(version)
        address = f"{version.area}/{version.source}"
        return self.shared.sources.get(self.made_of(version), lambda: self.catalogue.source(address, version.number))

    def state(
        self,
        name: str,
        area: str,
        number: int | None,
        *,
        draft: bool,
        at: dt.date | None = None,
        baseline: int | None = None,
    ) -> State:
        """A version, or with `at` the rows of a day, and the version that it is compared with."""
        if at and (number is not None or draft):
            raise OakError(
                "day-and-version", "The day (at) says which version it is.", hint="Leave out version and draft."
            )
        address = f"{area}/{name}" if area else name
        found = None if at else self.catalogue.version(address, number, drafts=draft)
        dated = self.catalogue.snapshots.source_at(address, _written(at)) if at else None
        if found is None or dated is not None:
            found = self.catalogue.version(address, dated.published.number if dated and dated.published else None)
        before = None if baseline is None else self.catalogue.version(address, baseline)

        def source() -> Source:
            own = self.source(found) if dated is None else dated
            return own if before is None else own.with_baseline(self.source(before))

        more = [*([str(dated.published)] if dated is not None else []), *([before.data] if before is not None else [])]
        return State(found, source, tuple(more), dated=dated is not None)

    def note(self, version: Version) -> None:
        """Keep who has read what, once in a process."""
        address = f"{version.area}/{version.source}"
        reading = (self.catalogue.person, address, version.number)
        if version.stage == "released" and reading not in self.shared.readings:
            self.shared.readings.add(reading)
            with suppress(OakError):
                self.catalogue.reports.looked(address, self.catalogue.person)

    def made_of(self, version: Version) -> tuple[Any, ...]:
        """All that a version as one sees it is made of."""
        return (version.area, version.source, version.number, version.stage, version.replaced_by, version.data, version.definition, self.catalogue.reads_only(version))  # fmt: skip


def _written(at: dt.date) -> str:
    """A day or a moment as the catalogue reads it: moments in UTC."""
    if isinstance(at, dt.datetime) and at.tzinfo is not None:
        at = at.astimezone(dt.UTC).replace(tzinfo=None)
    return at.isoformat()
