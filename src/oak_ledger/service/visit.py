"""One request: who asks, what they see of the catalogue, and what the answer says of itself."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from base64 import b64decode
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import Request, Response, Security
from fastapi.responses import HTMLResponse
from fastapi.security import HTTPBasic, HTTPBearer

from oak_ledger.catalogue import Catalogue, Version
from oak_ledger.errors import OakError
from oak_ledger.service.kept import Kept
from oak_ledger.service.limits import Limits, Slots
from oak_ledger.source import Source
from oak_ledger.version import __version__

ALONE = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; form-action 'none'; frame-ancestors 'none'; base-uri 'none'"


BEARER = HTTPBearer(auto_error=False, description="The token.")
BASIC = HTTPBasic(auto_error=False, description="Any name, with the token as the password.")


@dataclass(frozen=True, slots=True)
class State:
    """What is asked: a version, its rows (opened when they are needed), and what else tells one answer from another."""

    version: Version
    source: Callable[[], Source]
    more: tuple[str, ...] = ()
    dated: bool = False


class Visit:
    """One request: the catalogue as its token may see it, and what it may take."""

    def __init__(
        self,
        request: Request,
        _bearer: Annotated[Any, Security(BEARER)] = None,
        _basic: Annotated[Any, Security(BASIC)] = None,
    ) -> None:  # the description names both
        token = _token(request)
        if not token:
            raise OakError("no-token", "A token is needed.", hint="oak catalogue tokens make makes one.")
        state = request.app.state
        self.request = request
        self.limits: Limits = state.limits
        self.slots: Slots = state.slots
        self.readings: set[tuple[str, str, int]] = state.readings
        self.opened: Kept[Source] = state.sources
        self.pages: Kept[str] = state.pages
        self.catalogue = Catalogue.open(state.folder, token=token)
        request.state.person = self.catalogue.person
        self.token = hashlib.sha256(token.encode()).hexdigest()

    @property
    def prefix(self) -> str:
        """What comes before all addresses, behind a proxy."""
        return str(self.request.scope.get("root_path", ""))

    @property
    def path(self) -> str:
        """The address as the asker has it, behind a proxy too."""
        path = self.request.scope["path"]
        return str(path if path.startswith(self.prefix) else self.prefix + path)

    def version(self, name: str, area: str, number: int | None, *, draft: bool) -> Version:
        """A version that one may see."""
        return self.catalogue.version(f"{area}/{name}" if area else name, number, drafts=draft)

    def source(self, version: Version) -> Source:
        """A version, ready for questions."""
        self._note(version)
        address = f"{version.area}/{version.source}"
        return self.opened.get(self._made_of(version), lambda: self.catalogue.source(address, version.number))

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

    def _note(self, version: Version) -> None:
        """Keep who has read what, once in a process."""
        address = f"{version.area}/{version.source}"
        reading = (self.catalogue.person, address, version.number)
        if version.stage == "released" and reading not in self.readings:
            self.readings.add(reading)
            with suppress(OakError):
                self.catalogue.reports.looked(address, self.catalogue.person)

    def page(self, state: State, headers: Mapping[str, str], make: Callable[[Source], str]) -> Response:
        """A page made of a version, or the same as it was made before."""
        self._note(state.version)
        key = (*self._made_of(state.version), headers["etag"])
        return html_answer(self.pages.get(key, lambda: make(state.source())), dict(headers))

    def _made_of(self, version: Version) -> tuple[Any, ...]:
        """All that a version as one sees it is made of."""
        return (version.area, version.source, version.number, version.stage, version.replaced_by, version.data, version.definition, self.catalogue.reads_only(version))  # fmt: skip

    def headers(self, version: Version, *more: str) -> dict[str, str]:
        """The headers that say which answer this is: a version does not change, nor does what is asked of it. Raises Unchanged where the asker has it."""
        url = self.request.url
        said = [
            __version__,
            version.area,
            version.source,
            version.number,
            version.stage,
            version.data,
            version.definition,
            version.replaced_by,
            [(one.by, one.at, one.note) for one in version.signatures],
            url.path,
            url.query,
            "gzip" in self.request.headers.get("accept-encoding", ""),
            *more,
        ]
        tag = f'"{hashlib.sha256(json.dumps(said).encode()).hexdigest()[:32]}"'
        headers = {"etag": tag, "cache-control": "private, no-cache", "vary": "authorization, accept-encoding"}
        if tag in {one.strip().removeprefix("W/") for one in self.request.headers.get("if-none-match", "").split(",")}:
            raise Unchanged(headers)
        return headers


class Unchanged(Exception):
    """The asker has this answer already."""

    def __init__(self, headers: dict[str, str]) -> None:
        super().__init__()
        self.headers = headers


def _written(at: dt.date) -> str:
    """A day or a moment as the catalogue reads it: moments in UTC."""
    if isinstance(at, dt.datetime) and at.tzinfo is not None:
        at = at.astimezone(dt.UTC).replace(tzinfo=None)
    return at.isoformat()


def _token(request: Request) -> str:
    kind, _, given = request.headers.get("authorization", "").partition(" ")
    if kind.casefold() == "bearer":
        return given.strip()
    if kind.casefold() == "basic":
        try:
            return b64decode(given, validate=True).decode().partition(":")[2]
        except ValueError:
            return ""
    return ""


def html_answer(text: str, headers: dict[str, str]) -> Response:
    """A page, which a browser keeps from loading or sending anything elsewhere."""
    return HTMLResponse(
        text,
        headers={
            **headers,
            "content-security-policy": ALONE,
            "x-content-type-options": "nosniff",
            "referrer-policy": "no-referrer",
        },
    )
