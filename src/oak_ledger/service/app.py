"""The service: what it answers at which address."""

from __future__ import annotations

import datetime as dt
import json
import os
import shutil
import tempfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal, TextIO
from urllib.parse import quote, urlencode

from fastapi import APIRouter, Depends, FastAPI, Query, Request, Response
from fastapi.responses import FileResponse, HTMLResponse
from pydantic import StringConstraints
from starlette.background import BackgroundTask
from starlette.middleware.cors import CORSMiddleware
from starlette.middleware.gzip import GZipMiddleware

from oak_ledger.catalogue import Catalogue, Listed, Registered, Version
from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.insight.additivity import how_it_totals
from oak_ledger.present.dictionary import entry_of, index_html, names_source, source_html
from oak_ledger.present.page import report_html
from oak_ledger.service.asking import Shared, State
from oak_ledger.service.edge import WithHead, WithLog, WithStop
from oak_ledger.service.failures import FAILURES, add_handlers, known_parameters, wrong_parameter
from oak_ledger.service.formats import ENDINGS, MEDIA, as_bytes
from oak_ledger.service.models import AnswerSaid, Failure, FieldLine, Health, ReportLine, SourceLine, SourceSaid
from oak_ledger.service.visit import Unchanged, Visit, html_answer
from oak_ledger.source import Answer, Source
from oak_ledger.types import Grain
from oak_ledger.version import __version__

ABOUT = "Curated sources: what they have, what it means, and questions asked of them. A token is given as a bearer token, or as the password of basic authentication."
LEAST_ROOM = 16 * 2**20  # bytes on the disk
EXACT = 2**53  # up to it every reader of JSON keeps whole numbers

Here = Annotated[Visit, Depends(Visit)]
Said = Annotated[str, StringConstraints(pattern=r"\S")]
Texts = Annotated[list[Said], Query(max_length=50)]
Limit = Annotated[
    int | None, Query(ge=1, description="rows of this page; a thousand of JSON; a file is whole without it, or refused")
]
Day = dt.date | dt.datetime | None
Offset = Annotated[int, Query(ge=0)]
Format = Literal["json", "csv", "arrow", "parquet"]
PAGE: dict[str, Any] = {"responses": FAILURES, "response_class": HTMLResponse}
ANSWER: dict[str, Any] = {
    "responses": {
        200: {"model": AnswerSaid, "content": {one.partition(";")[0]: {} for one in MEDIA.values()}},
        **FAILURES,
    }
}
routes = APIRouter(dependencies=[Depends(known_parameters)])


@routes.get("/health", responses={422: FAILURES[422], 503: FAILURES[503]}, summary="Whether the service is up")
def health(request: Request) -> Health:
    """It needs no token. The catalogue is opened for it; where nothing can be written, that is said."""
    folder = Path(request.app.state.shared.folder)
    try:
        Catalogue.open(folder, person="nobody").addresses()
    except (OakError, OSError):
        raise OakError("too-busy", "The catalogue cannot be read.") from None
    writable = os.access(folder, os.W_OK) and shutil.disk_usage(folder).free > LEAST_ROOM
    return Health(
        status="up" if writable else "read only", version=__version__, rows=request.app.state.shared.limits.rows
    )


@routes.get("/sources", responses=FAILURES, summary="The sources that you may see")
def sources(here: Here) -> list[SourceLine]:
    """Each with its released version, or the newest of those that you may see."""
    lines = []
    for version in here.seen():
        with suppress(UnusableInput):  # a damaged source leaves the others readable
            lines.append(_line(here, version))
    return lines


@routes.get("/sources/{name}", responses=FAILURES, summary="A source and its fields")
def source(here: Here, name: str, area: str = "", version: int | None = None, draft: bool = False) -> SourceSaid:
    """`area` where sources of one name are in several; `version` another than the released one, `draft` the newest."""
    found = here.version(name, area, version, draft=draft)
    return SourceSaid(**_line(here, found).model_dump(), fields=_fields(here.source(found)))


@routes.get("/sources/{name}/tally", **ANSWER, summary="Groups, and what is computed for each")
def tally(
    here: Here, name: str, by: Texts = [], show: Texts = [], where: Texts = [], sort: Texts = [], totals: bool = False,  # noqa: B006  never changed
    limit: Limit = None, offset: Offset = 0, format: Format = "json", area: str = "", version: int | None = None, draft: bool = False,  # noqa: A002
    at: Day = None, baseline: int | None = None,
) -> Response:  # fmt: skip
    """`by` and `show` have fields or formulas, also as `Name = formula`; `where` conditions that must all hold; `sort` names, with - before one for downwards.
    `at` is a date, for the rows as they were on that day; `baseline` the version that BEFORE takes values from."""
    state = here.state(name, area, version, draft=draft, at=at, baseline=baseline)
    if totals and format in ("csv", "parquet"):
        raise wrong_parameter("totals", f"an answer in {format} has no place for totals; json and arrow have")

    def ask(own: Source, most: int) -> Answer:
        groups, shown = ([own.measure(item) for item in items] for items in (by, show))
        return own.tally(groups, shown, where=where or None, sort=sort, totals=totals, limit=most)

    return _answered(here, state, format, offset, limit, ask)


@routes.get("/sources/{name}/rows", **ANSWER, summary="Rows, page by page")
def rows(
    here: Here, name: str, show: Texts = [], where: Texts = [], sort: Texts = [], limit: Limit = None, offset: Offset = 0,  # noqa: B006
    format: Format = "json", area: str = "", version: int | None = None, draft: bool = False, at: Day = None, baseline: int | None = None,  # noqa: A002
) -> Response:  # fmt: skip
    """All fields with a value per row, or those in `show`; a page begins at `offset` and has `limit` rows. CSV without these has all rows, in the source's order.
    `at` is a date, for the rows as they were on that day; `baseline` the version that BEFORE takes values from."""
    state = here.state(name, area, version, draft=draft, at=at, baseline=baseline)
    if format == "csv" and limit is None and not offset and not sort:
        return _all_rows(here, state, show, where)

    def ask(own: Source, most: int) -> Answer:
        return own.rows([own.measure(one) for one in show] or None, where=where or None, sort=sort, limit=most)

    return _answered(here, state, format, offset, limit, ask)


def _all_rows(here: Visit, state: State, show: Sequence[str], where: Sequence[str]) -> Response:
    """All rows of a source as CSV: written to a file first, so that what could not be computed is known before the first of them is sent."""
    headers = here.headers(state.version, *state.more)
    folder = tempfile.mkdtemp(prefix="oak-")
    file = Path(folder) / "rows.csv"
    try:
        with here.slots.taken(here.token):
            own = state.source()
            written = own.write(file, [own.measure(one) for one in show] or None, where=[*where] or None)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    headers |= _of_file(own, "csv", sum(fault.rows for fault in written.faults))
    return FileResponse(file, headers=headers, media_type=MEDIA["csv"], background=BackgroundTask(shutil.rmtree, folder, ignore_errors=True))  # fmt: skip


def _of_file(source: Source, kind: str, faults: int) -> dict[str, str]:
    """What a file of an answer says of itself in headers."""
    return {
        "oak-version": quote(f"{source.name}, {source.published}"),
        "oak-faults": str(faults),
        "content-disposition": f"attachment; filename*=UTF-8''{quote(source.name, safe='')}.{ENDINGS[kind]}",
    }


def _answered(
    here: Visit, state: State, kind: str, offset: int, wanted: int | None, ask: Callable[[Source, int], Answer]
) -> Response:
    """A page of an answer; one row more is asked for, to know whether there is another page. A file, which cannot say that there is more, is whole where no page is asked for."""
    most = here.limits.rows
    whole = kind != "json" and wanted is None
    limit = most if whole else min(1_000, most) if wanted is None else wanted
    if limit > most or offset > 100 * most:
        raise _too_much(most)
    headers = here.headers(state.version, *state.more)
    with here.slots.taken(here.token):
        own = state.source()
        found = ask(own, offset + limit + 1)
        answer = replace(found, table=found.table.slice(offset, limit))
        more = found.table.num_rows > offset + limit
        if more and whole:
            raise _too_much(most)
        if more:
            asked = [
                multi_item
                for multi_item in here.request.query_params.multi_items()
                if multi_item[0] not in ("offset", "limit", "area", "version", "draft")
            ]
            pinned: list[tuple[str, Any]] = [
                ("area", state.version.area)
            ]  # the next page is of the same version, whatever is released meanwhile
            pinned += [] if state.dated else [("version", state.version.number)]
            following = urlencode([*asked, *pinned, ("offset", offset + limit), ("limit", limit)])
            headers["link"] = f'<{quote(here.path)}?{following}>; rel="next"'
        content = (
            _json(own, answer, more=more) if kind == "json" else as_bytes(answer, kind, f"{own.name}, {own.published}")
        )
    if kind != "json":
        headers |= _of_file(own, kind, sum(fault.rows for fault in answer.faults))
    return Response(content, media_type=MEDIA[kind], headers=headers)


def _too_much(most: int) -> OakError:
    message = f"An answer has at most {most:,} rows, and pages begin before row {100 * most:,}."
    return OakError("too-much", message, hint="Ask for pages: limit and offset.")


@routes.get("/reports", responses=FAILURES, summary="The reports that you may see")
def reports(here: Here) -> list[ReportLine]:
    """Those that are in the catalogue."""
    return [
        ReportLine(name=registered.name, source=registered.source, owner=registered.owner)
        for registered in here.catalogue.reports.all()
    ]


@routes.get("/reports/{name}", **PAGE, summary="A report as a page, or its figures")
def report(here: Here, name: str, area: str = "", at: Day = None, baseline: int | None = None, format: Literal["html", "json"] = "html") -> Response:  # noqa: A002  # fmt: skip
    """Computed over the released version of its source; `area` where reports of one name are in several. `at` and `baseline` as for a tally."""
    registered = here.catalogue.reports.get(f"{area}/{name}" if area else name)
    state = here.state(registered.source, "", None, draft=False, at=at, baseline=baseline)
    headers = here.headers(state.version, registered.report.document.text, here.prefix, *state.more)
    about = here.prefix + _page(state.version)
    with here.slots.taken(here.token):
        if format == "json":
            said = registered.report.view(state.source()).as_json()
            said["panels"] = [one | _exact(one) for one in said["panels"]]
            return Response(
                json.dumps(said, default=str, ensure_ascii=False), media_type=MEDIA["json"], headers=headers
            )
        return here.page(state, headers, lambda own: report_html(registered.report.view(own), f"{here.prefix}/", about))


@routes.get("/", **PAGE, summary="All sources and reports, as a page")
def index(here: Here) -> Response:
    """The first page: reports, and the dictionary."""
    with here.slots.taken(here.token):
        entries = []
        for version in here.seen():
            with suppress(UnusableInput):
                entries.append(entry_of(here.source(version), [version], profiled=False))
    found = [(registered.name, here.prefix + _report(registered), f"{registered.source}{f', built by {registered.owner}' if registered.owner else ''}") for registered in here.catalogue.reports.all()]  # fmt: skip
    return html_answer(index_html(entries, lambda entry: here.prefix + _page(entry.history[0]), found), {})


@routes.get("/dictionary/{name}", **PAGE, summary="What a source and its fields mean, as a page")
def dictionary(here: Here, name: str, area: str = "", version: int | None = None, draft: bool = False) -> Response:
    """Its fields with their values, and its versions."""
    address = f"{area}/{name}" if area else name
    history = sorted(here.catalogue.versions(address), key=lambda one: -one.number)
    asked = (one for one in history if draft or one.stage == "released" or version is not None)
    found = next((one for one in asked if version in (None, one.number)), None) or here.version(name, area, version, draft=draft)  # fmt: skip
    reports = [(registered.name, here.prefix + _report(registered)) for registered in here.catalogue.reports.all(f"{found.area}/{found.source}")]  # fmt: skip
    said = [
        (
            version.number,
            version.stage,
            version.made_at,
            version.made_by,
            version.rows,
            version.note,
            version.signatures,
        )
        for version in history
    ]
    links = [(one, (one.source, here.prefix + _page(one))) for one in here.catalogue.listed()]
    others = [
        ("Use instead", [link for one, link in links if names_source(found.replaced_by, one.source, one.area)]),
        ("Replaces", [link for one, link in links if names_source(one.replaced_by, found.source, found.area)]),
    ]
    headers = here.headers(found, here.prefix, repr(reports), repr(said), repr(others))
    with here.slots.taken(here.token):
        return here.page(
            State(found, lambda: here.source(found)),
            headers,
            lambda own: source_html(entry_of(own, history), f"{here.prefix}/", reports, others),
        )


def application(shared: Shared, *, prefix: str = "", origins: Sequence[str] = (), log: TextIO | None = None) -> FastAPI:
    """The service over a catalogue; under a path prefix where a proxy has one; pages of some other origins may ask it; requests are
    written to a log."""
    app = FastAPI(title="Oak Ledger", version=__version__, description=ABOUT, docs_url=None, redoc_url=None, root_path=prefix)  # fmt: skip
    app.state.shared = shared
    app.include_router(routes)
    add_handlers(app)
    app.add_exception_handler(Unchanged, lambda _, same: Response(status_code=304, headers=same.headers))
    app.add_middleware(GZipMiddleware, minimum_size=2_000)
    app.add_middleware(WithHead)
    app.add_middleware(WithStop)
    if origins:
        app.add_middleware(CORSMiddleware, allow_origins=[*origins], allow_methods=["GET", "HEAD"], allow_headers=["authorization"], expose_headers=["etag", "link"])  # fmt: skip
    if log is not None:
        app.add_middleware(WithLog, to=log)
    described = app.openapi

    def openapi() -> dict[str, Any]:
        made = described()
        made["components"].setdefault("schemas", {})["Failure"] = Failure.model_json_schema()
        return made

    app.openapi = openapi  # type: ignore[method-assign]
    return app


def _page(version: Version | Listed) -> str:
    """Where the page of a version is; that of the released one without its number, so that it leads to the next one, too."""
    asked = {"area": version.area} | ({"version": str(version.number)} if version.stage != "released" else {})
    return f"/dictionary/{quote(version.source, safe='')}?{urlencode(asked)}"


def _report(registered: Registered) -> str:
    return f"/reports/{quote(registered.name, safe='')}?{urlencode({'area': registered.area})}"


def _line(here: Visit, version: Version) -> SourceLine:
    about = here.source(version).about
    return SourceLine(
        name=version.source, area=version.area, version=version.number, stage=version.stage, rows=version.rows,
        description=about.description, owner=about.owner,
    )  # fmt: skip


def _fields(source: Source) -> list[FieldLine]:
    return [
        FieldLine(
            name=field.name, type=field.type_name, per="group" if field.grain == Grain.GROUP else "row", totals=how_it_totals(source, field), description=getattr(field.spec, "description", ""),
            format=field.format, formula=getattr(field.spec, "formula", ""),
        )
        for field in source.fields
        if not field.hidden and not field.broken
    ]  # fmt: skip


def _json(source: Source, answer: Answer, *, more: bool) -> bytes:
    said = {
        "source": source.name, "version": str(source.published), "columns": [{"name": one.name, "type": str(one.type)} for one in answer.table.schema],
        **(whole := answer.as_json()), **_exact(whole), "rows_read": answer.rows_read, "rows_used": answer.rows_used, "groups": answer.groups, "more": more,
    }  # fmt: skip
    return json.dumps(said, default=str, ensure_ascii=False).encode()


def _exact(said: Mapping[str, Any]) -> dict[str, Any]:
    """The rows and totals of what is said, whole numbers exact."""
    rows, totals = said["rows"], said["totals"]
    return {
        "rows": None if rows is None else [_whole(row) for row in rows],
        "totals": None if totals is None else _whole(totals),
    }


def _whole(row: Mapping[str, Any]) -> dict[str, Any]:
    """A row in which whole numbers that a reader of JSON may round are texts."""
    return {name: str(one) if type(one) is int and abs(one) > EXACT else one for name, one in row.items()}
