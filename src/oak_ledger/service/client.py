"""A service as seen from a program elsewhere: its sources are asked as local ones are. Nothing is needed but the standard library."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any
from urllib.error import HTTPError, URLError
from urllib.parse import quote, urlencode, urlsplit
from urllib.request import HTTPRedirectHandler, Request, build_opener

from oak_ledger.errors import FormulaError, OakError, UnusableInput
from oak_ledger.service.formats import finding_from, from_stream
from oak_ledger.source import Answer
from oak_ledger.source.questions import Shown

SECONDS = 120.0  # that an answer may take to come
TRIES, LONGEST_WAIT = 3, 10.0  # how often a busy service is asked again, and the seconds between at most


def connect(url: str, token: str) -> RemoteCatalogue:
    """The catalogue that a service at an address has, as the token may see it. Raises OakError for a token that is not valid, UnusableInput where
    no service answers."""
    catalogue = RemoteCatalogue(url.rstrip("/"), token)
    catalogue.sources()
    return catalogue


@dataclass(frozen=True)
class RemoteCatalogue:
    """A catalogue behind a service."""

    url: str
    token: str

    def __repr__(self) -> str:
        return f"Catalogue at {self.url}"

    @cached_property
    def page(self) -> int:
        """How many rows are fetched at a time."""
        return int(_read(self.fetched("/health"))["rows"])

    def sources(self) -> list[str]:
        """The names of the sources that one may see."""
        return [one["name"] for one in _read(self.fetched("/sources"))]

    def reports(self) -> list[str]:
        """The names of the reports that one may see."""
        return [one["name"] for one in _read(self.fetched("/reports"))]

    def report(self, name: str, *, at: str = "", baseline: int | None = None) -> dict[str, Any]:
        """What a report (by its name, or AREA/NAME) shows, as `ReportView.as_json` gives it; `at` and `baseline` as for a source."""
        area, _, own = name.rpartition("/")
        asked = {"area": area, "format": "json", **_state(at, baseline)}
        return dict(_read(self.fetched(f"/reports/{quote(own, safe='')}", asked)))

    def source(
        self, name: str, number: int | None = None, *, drafts: bool = False, at: str = "", baseline: int | None = None
    ) -> RemoteSource:
        """A source by its name, or AREA/NAME: its released version, that with a number, or with `drafts` the newest. `at` is a date, for the rows as they
        were on that day; `baseline` the version that BEFORE takes values from."""
        area, _, own = name.rpartition("/")
        chosen: dict[str, Any] = {"area": area, "draft": str(drafts).lower()}
        if number is not None:
            chosen["version"] = number
        said = _read(self.fetched(f"/sources/{quote(own, safe='')}", chosen))
        return RemoteSource(
            self, said["name"], said["area"], said["version"], said["stage"], tuple(said["fields"]), at, baseline
        )

    def fetched(self, path: str, query: dict[str, Any] | None = None) -> bytes:
        """What is at an address of the service. Raises OakError with what it says against it."""
        address = f"{self.url}{path}" + (f"?{urlencode(query, doseq=True)}" if query else "")
        request = Request(address, headers={"authorization": f"Bearer {self.token}"})  # noqa: S310  the address is the user's own
        for left in range(TRIES, -1, -1):
            try:
                with _OPENER.open(request, timeout=SECONDS) as answer:
                    return bytes(answer.read())
            except HTTPError as error:
                if error.code != 503 or not left:
                    raise _said(error.read()) from None
                time.sleep(min(_seconds(error.headers.get("retry-after")), LONGEST_WAIT))
            except (URLError, TimeoutError, ConnectionError) as error:
                said = getattr(error, "reason", None) or error
                raise UnusableInput("no-service", f"No service answers at {self.url}: {said}.", hint="Is it running (oak serve)?") from None  # fmt: skip
        raise AssertionError("the last try returns or raises")


class _SameHost(HTTPRedirectHandler):
    """A redirect to another host is not followed: the token is for this one."""

    def redirect_request(self, req: Request, fp: Any, code: int, msg: str, headers: Any, newurl: str) -> Request | None:
        """The request that follows, or none."""
        if urlsplit(newurl)[:2] != urlsplit(req.full_url)[:2]:
            raise URLError(f"it sends to {urlsplit(newurl).netloc}, which is not given the token")
        return super().redirect_request(req, fp, code, msg, headers, newurl)


_OPENER = build_opener(_SameHost)


def _seconds(text: str | None) -> float:
    """How long to wait, as a header says it in seconds."""
    return float(text) if text and text.isdigit() else 1.0


def _read(content: bytes) -> Any:
    """What a service says in JSON. Raises UnusableInput for an answer that is none of it."""
    try:
        return json.loads(content)
    except ValueError:
        raise UnusableInput("no-service", "What answers there is not an Oak Ledger service.") from None


def _said(content: bytes) -> OakError:
    """The error that a failure says."""
    try:
        said = json.loads(content)
        if said["findings"]:
            return FormulaError.of([finding_from(one) for one in said["findings"]])
        kind = UnusableInput if said["status"] >= 500 else OakError
        return kind(said["code"], said["detail"], hint=said["hint"])
    except (ValueError, KeyError, TypeError):
        return UnusableInput("no-service", "What answers there is not an Oak Ledger service.")


@dataclass(frozen=True)
class RemoteSource:
    """A published source behind a service: asked as a `Source` is. It cannot be changed."""

    catalogue: RemoteCatalogue
    name: str
    area: str
    number: int
    stage: str
    described: tuple[dict[str, str], ...]
    at: str = ""
    baseline: int | None = None

    def __repr__(self) -> str:
        return f"Source {self.name!r} at {self.catalogue.url}; fields: {len(self.described)}\n  version {self.number}, {self.stage}"

    @cached_property
    def fields(self) -> list[str]:
        """The names of its fields."""
        return [one["name"] for one in self.described]

    def rows(
        self, show: Sequence[Shown] | None = None, *, where: str | Sequence[str] | None = None, sort: Sequence[str] = (), limit: int | None = None
    ) -> Answer:  # fmt: skip
        """Rows of the source, as `Source.rows` gives them."""
        if show is not None and not show:  # no column, and so no row
            whole = self._pages("rows", {"show": ["TRUE"], "where": _list(where), "sort": []}, 1)
            return replace(whole, table=whole.table.select([]).slice(0, 0))
        return self._pages("rows", {"show": _items(show or ()), "where": _list(where), "sort": [*sort]}, limit)

    def tally(
        self, by: Sequence[Shown] = (), show: Sequence[Shown] = (), *, where: str | Sequence[str] | None = None, sort: Sequence[str] = (),
        limit: int | None = None, totals: bool = False,
    ) -> Answer:  # fmt: skip
        """A grouped answer, as `Source.tally` gives it."""
        asked = {
            "by": _items(by),
            "show": _items(show),
            "where": _list(where),
            "sort": [*sort],
            "totals": str(totals).lower(),
        }
        return self._pages("tally", asked, limit)

    def _pages(self, what: str, asked: dict[str, Any], limit: int | None) -> Answer:
        """All pages of an answer as one."""
        import pyarrow as pa

        path = f"/sources/{quote(self.name, safe='')}/{what}"
        which = {} if self.at else {"version": self.number}
        chosen = {**asked, "area": self.area, **which, **_state(self.at, self.baseline), "format": "arrow"}
        answers: list[Answer] = []
        got = 0
        while True:
            page = self.catalogue.page
            wanted = page if limit is None else min(page, limit - got)
            content = self.catalogue.fetched(path, {**chosen, "limit": wanted, "offset": got})
            try:
                answers.append(from_stream(content))
            except (pa.ArrowInvalid, KeyError, TypeError, ValueError):
                raise UnusableInput("no-service", "What answers there is not an Oak Ledger service.") from None
            rows = answers[-1].table.num_rows
            got += rows
            if rows < wanted or got == limit:
                break
        first = answers[0]
        table = first.table if len(answers) == 1 else pa.concat_tables([answer.table for answer in answers])
        return Answer(table, first.totals, first.faults, first.findings, first.formats, first.rows_read, first.rows_used, first.groups, place="service")  # fmt: skip


def _state(at: str, baseline: int | None) -> dict[str, Any]:
    """The parameters of a day and of a baseline, those that are given."""
    return {key: value for key, value in (("at", at or None), ("baseline", baseline)) if value is not None}


def _list(where: str | Sequence[str] | None) -> list[str]:
    return [where] if isinstance(where, str) else list(where or ())


def _items(shown: Sequence[Shown]) -> list[str]:
    """What is asked for as texts: a formula with a name as `Name = formula`."""
    return [one if isinstance(one, str) else f"{one[0]} = {one[1]}" for one in shown]
