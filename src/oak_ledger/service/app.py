"""The service: what it answers at which address."""

from __future__ import annotations

import hashlib
import json
from base64 import b64decode
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal
from urllib.parse import quote, urlencode

from fastapi import APIRouter, Depends, FastAPI, Query, Request, Response, Security
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse
from fastapi.security import HTTPBasic, HTTPBearer
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import GZipMiddleware

from oak_ledger.catalogue import Catalogue, Version
from oak_ledger.errors import FormulaError, OakError
from oak_ledger.insight.additivity import how_it_totals
from oak_ledger.present.dictionary import entry_of, index_html, source_html
from oak_ledger.present.page import report_html
from oak_ledger.service.formats import MEDIA, as_bytes
from oak_ledger.service.limits import Limits, Slots, timed
from oak_ledger.service.models import AnswerSaid, Failure, FieldLine, Health, ReportLine, SourceLine, SourceSaid
from oak_ledger.source import Answer, Source
from oak_ledger.types import Grain
from oak_ledger.version import __version__

ABOUT = "Curated sources: what they have, what it means, and questions asked of them. A token is given as a bearer token, or as the password of basic authentication."
FAILURES: dict[int | str, dict[str, Any]] = {
    status: {"model": Failure, "description": said}
    for status, said in {
        400: "The question is wrong: a name, a formula, a filter.",
        401: "There is no token, or it is not valid.",
        404: "There is nothing of that name that you may see.",
        413: "The answer would be too large; ask for a page of it.",
        422: "A parameter is not what it should be.",
        429: "Too many questions of this token are being answered.",
        503: "The service is busy, or the question took too long.",
    }.items()
}
_NOT_THERE = {"unknown-source", "unknown-version", "not-released", "not-allowed", "unknown-report", "several-sources"}
_STATUS = {"no-token": 401, "too-many": 429, "too-busy": 503, "too-slow": 503, "too-much": 413} | dict.fromkeys(
    _NOT_THERE, 404
)
ALONE = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; form-action 'none'; frame-ancestors 'none'; base-uri 'none'"
BROWSERS = 'Basic realm="Oak Ledger", charset="UTF-8"'


BEARER = HTTPBearer(auto_error=False, description="The token.")
BASIC = HTTPBasic(auto_error=False, description="Any name, with the token as the password.")


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
        self.catalogue = Catalogue.open(state.folder, token=token)
        self.token = hashlib.sha256(token.encode()).hexdigest()

    def version(self, name: str, area: str, number: int | None, *, draft: bool) -> Version:
        """A version that one may see."""
        return self.catalogue.version(f"{area}/{name}" if area else name, number, drafts=draft)

    def source(self, version: Version) -> Source:
        """A version, ready for questions that end in time."""
        address = f"{version.area}/{version.source}"
        reading = (self.catalogue.person, address, version.number)
        if version.stage == "released" and reading not in self.readings:  # who read what is kept once in a process
            self.readings.add(reading)
            with suppress(OakError):
                self.catalogue.reports.looked(address, self.catalogue.person)
        return timed(self.catalogue.source(address, version.number), self.limits.seconds)

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


Here = Annotated[Visit, Depends(Visit)]
Texts = Annotated[list[str], Query(max_length=50)]
Limit = Annotated[
    int | None, Query(ge=1, description="rows of this page; a thousand, or what the service gives at most")
]
Offset = Annotated[int, Query(ge=0)]
Format = Literal["json", "csv", "arrow", "parquet"]
_FAILURE = {"application/json": {"schema": {"$ref": "#/components/schemas/Failure"}}}
PAGE: dict[str, Any] = {
    "responses": {
        status: {"description": said["description"], "content": _FAILURE} for status, said in FAILURES.items()
    },
    "response_class": HTMLResponse,
}
ANSWER: dict[str, Any] = {
    "responses": {
        200: {"model": AnswerSaid, "content": {one.partition(";")[0]: {} for one in MEDIA.values()}},
        **FAILURES,
    }
}
routes = APIRouter()


@routes.get("/health", summary="Whether the service is up")
def health(request: Request) -> Health:
    """It needs no token."""
    return Health(status="up", version=__version__, rows=request.app.state.limits.rows)


@routes.get("/sources", responses=FAILURES, summary="The sources that you may see")
def sources(here: Here) -> list[SourceLine]:
    """Each with its released version, or the newest of those that you may see."""
    return [_line(here, one) for one in _seen(here.catalogue)]


@routes.get("/sources/{name}", responses=FAILURES, summary="A source and its fields")
def source(here: Here, name: str, area: str = "", version: int | None = None, draft: bool = False) -> SourceSaid:
    """`area` where sources of one name are in several; `version` another than the released one, `draft` the newest."""
    found = here.version(name, area, version, draft=draft)
    return SourceSaid(**_line(here, found).model_dump(), fields=_fields(here.source(found)))


@routes.get("/sources/{name}/tally", **ANSWER, summary="Groups, and what is computed for each")
def tally(
    here: Here, name: str, by: Texts = [], show: Texts = [], where: Texts = [], sort: Texts = [], totals: bool = False,  # noqa: B006  never changed
    limit: Limit = None, offset: Offset = 0, format: Format = "json", area: str = "", version: int | None = None, draft: bool = False,  # noqa: A002
) -> Response:  # fmt: skip
    """`by` and `show` have fields or formulas, also as `Name = formula`; `where` conditions that must all hold; `sort` names, with - before one for downwards."""

    def ask(own: Source, most: int) -> Answer:
        groups, shown = ([own.measure(one) for one in items] for items in (by, show))
        return own.tally(groups, shown, where=where or None, sort=sort, totals=totals, limit=most)

    return _answered(here, here.version(name, area, version, draft=draft), format, offset, limit, ask)


@routes.get("/sources/{name}/rows", **ANSWER, summary="Rows, page by page")
def rows(
    here: Here, name: str, show: Texts = [], where: Texts = [], sort: Texts = [], limit: Limit = None, offset: Offset = 0,  # noqa: B006
    format: Format = "json", area: str = "", version: int | None = None, draft: bool = False,  # noqa: A002
) -> Response:  # fmt: skip
    """All fields with a value per row, or those in `show`; a page begins at `offset` and has `limit` rows."""

    def ask(own: Source, most: int) -> Answer:
        return own.rows([own.measure(one) for one in show] or None, where=where or None, sort=sort, limit=most)

    return _answered(here, here.version(name, area, version, draft=draft), format, offset, limit, ask)


def _answered(
    here: Visit, version: Version, kind: str, offset: int, wanted: int | None, ask: Callable[[Source, int], Answer]
) -> Response:
    """A page of an answer; one row more is asked for, to know whether there is another page."""
    most = here.limits.rows
    limit = min(1_000, most) if wanted is None else wanted
    if limit > most or offset > 100 * most:
        raise OakError(
            "too-much",
            f"An answer has at most {most:,} rows, and pages begin before row {100 * most:,}.",
            hint="Ask for pages: limit and offset.",
        )
    headers = here.headers(version)
    with here.slots.taken(here.token):
        own = here.source(version)
        whole = ask(own, offset + limit + 1)
        answer = replace(whole, table=whole.table.slice(offset, limit))
        more = whole.table.num_rows > offset + limit
        if more:
            asked = [one for one in here.request.query_params.multi_items() if one[0] not in ("offset", "limit")]
            following = urlencode([*asked, ("offset", offset + limit), ("limit", limit)])
            headers["link"] = f'<{quote(here.request.url.path)}?{following}>; rel="next"'
        content = (
            _json(own, answer, more=more) if kind == "json" else as_bytes(answer, kind, f"{own.name}, {own.published}")
        )
    return Response(content, media_type=MEDIA[kind], headers=headers)


@routes.get("/reports", responses=FAILURES, summary="The reports that you may see")
def reports(here: Here) -> list[ReportLine]:
    """Those that are in the catalogue."""
    return [ReportLine(name=one.name, source=one.source, owner=one.owner) for one in here.catalogue.reports.all()]


@routes.get("/reports/{name}", **PAGE, summary="A report as a page")
def report(here: Here, name: str) -> Response:
    """Computed over the released version of its source."""
    found = here.catalogue.reports.get(name)
    version = here.catalogue.version(found.source)
    headers = here.headers(version, found.report.document.text)
    with here.slots.taken(here.token):
        return _html(report_html(found.report.view(here.source(version))), headers)


@routes.get("/", **PAGE, summary="All sources, as a page")
def index(here: Here) -> Response:
    """The first page of the dictionary."""
    with here.slots.taken(here.token):
        entries = [entry_of(here.source(one), [one], profiled=False) for one in _seen(here.catalogue)]
    return _html(index_html(entries, lambda one: _page(one.name, one.area)), {})


@routes.get("/dictionary/{name}", **PAGE, summary="What a source and its fields mean, as a page")
def dictionary(here: Here, name: str, area: str = "", version: int | None = None, draft: bool = False) -> Response:
    """Its fields with their values, and its versions."""
    found = here.version(name, area, version, draft=draft)
    headers = here.headers(found)
    with here.slots.taken(here.token):
        history = here.catalogue.versions(f"{found.area}/{found.source}")
        entry = entry_of(here.source(found), sorted(history, key=lambda one: -one.number))
        return _html(source_html(entry, "/"), headers)


def application(folder: str | Path, limits: Limits | None = None) -> FastAPI:
    """The service over the catalogue in a folder."""
    app = FastAPI(title="Oak Ledger", version=__version__, description=ABOUT, docs_url=None, redoc_url=None)
    app.state.folder, app.state.limits = folder, limits or Limits()
    app.state.slots, app.state.readings = Slots(app.state.limits), set()
    app.add_middleware(GZipMiddleware, minimum_size=2_000)
    app.include_router(routes)
    app.add_exception_handler(OakError, _wrong)  # type: ignore[arg-type]
    app.add_exception_handler(RequestValidationError, _unfit)  # type: ignore[arg-type]
    app.add_exception_handler(HTTPException, _other)  # type: ignore[arg-type]
    app.add_exception_handler(
        MemoryError,
        lambda _, __: _failure(
            413,
            "too-much",
            "The question takes more memory than there is for it.",
            "Ask for less: a filter, fewer groups.",
        ),
    )
    app.add_exception_handler(Unchanged, lambda _, same: Response(status_code=304, headers=same.headers))
    return app


def _html(text: str, headers: dict[str, str]) -> Response:
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


def _page(name: str, area: str) -> str:
    return f"/dictionary/{quote(name, safe='')}" + (f"?{urlencode({'area': area})}" if area else "")


def _seen(catalogue: Catalogue) -> list[Version]:
    """Of each source that one may see, the released version, or the newest of all that one may see."""
    return [catalogue.released(name) or catalogue.version(name, drafts=True) for name in catalogue.addresses()]


def _line(here: Visit, version: Version) -> SourceLine:
    about = here.source(version).about
    return SourceLine(
        name=version.source, area=version.area, version=version.number, stage=version.stage, rows=version.rows,
        description=about.description, owner=about.owner,
    )  # fmt: skip


def _fields(source: Source) -> list[FieldLine]:
    return [
        FieldLine(
            name=one.name, type=one.type_name, per="group" if one.grain == Grain.GROUP else "row", totals=how_it_totals(source, one), description=getattr(one.spec, "description", ""),
            format=one.format, formula=getattr(one.spec, "formula", ""),
        )
        for one in source.fields
        if not one.hidden and not one.broken
    ]  # fmt: skip


def _json(source: Source, answer: Answer, *, more: bool) -> bytes:
    said = {
        "source": source.name, "version": str(source.published), "columns": [{"name": one.name, "type": str(one.type)} for one in answer.table.schema],
        **answer.as_json(), "rows_read": answer.rows_read, "rows_used": answer.rows_used, "groups": answer.groups, "more": more,
    }  # fmt: skip
    return json.dumps(said, default=str, ensure_ascii=False).encode()


# -- failures, all in one form ------------------------------------------------------------------------------------


def _failure(
    status: int, code: str, message: str, hint: str = "", findings: Sequence[Mapping[str, Any]] = ()
) -> Response:
    headers = {"www-authenticate": BROWSERS} if status == 401 else {"retry-after": "1"} if status in (429, 503) else {}
    return JSONResponse({"code": code, "message": message, "hint": hint, "findings": list(findings)}, status, headers)


def _wrong(_request: Request, error: OakError) -> Response:
    first = error.findings[0]
    status = _STATUS.get(first.code, 400)
    if status == 404:  # the names of what is there are not for everybody
        return _failure(404, "not-there", "There is nothing of that name that you may see.")
    findings = [one.as_json() for one in error.findings] if isinstance(error, FormulaError) else []
    return _failure(status, first.code, first.message, first.hint, findings)


def _unfit(_request: Request, error: RequestValidationError) -> Response:
    one = error.errors()[0]
    return _failure(422, "wrong-parameter", f"{'.'.join(map(str, one['loc'][1:]))}: {one['msg']}.")


def _other(_request: Request, error: HTTPException) -> Response:
    return _failure(error.status_code, "not-there" if error.status_code == 404 else "wrong-request", f"{error.detail}.")
