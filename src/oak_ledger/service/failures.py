"""Why there is no answer, in one form: a problem document (RFC 9457) with our code, a hint, and in a formula where."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from http import HTTPStatus
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse
from starlette.exceptions import HTTPException

from oak_ledger.errors import FormulaError, OakError, UnusableInput
from oak_ledger.present.page import notice_html
from oak_ledger.service.models import Failure

PROBLEM = "application/problem+json"
BROWSERS = 'Basic realm="Oak Ledger", charset="UTF-8"'
SAID: Mapping[int, str] = {
    400: "The question is wrong: a name, a formula, a filter.",
    401: "There is no token, or it is not valid.",
    404: "There is nothing of that name that you may see.",
    409: "Two parameters say different things.",
    413: "The answer would be too large; ask for a page of it.",
    422: "A parameter is not known, or not what it should be.",
    429: "Too many questions of this token are being answered.",
    500: "The service cannot read what it should.",
    503: "The service is busy, or the question took too long.",
}
FAILURES: dict[int | str, dict[str, Any]] = {
    status: {"description": said, "content": {PROBLEM: {"schema": {"$ref": "#/components/schemas/Failure"}}}}
    for status, said in SAID.items()
}
_NOT_THERE = ("unknown-source", "unknown-version", "not-released", "not-allowed", "unknown-report", "several-sources")
_STATUS = {
    "no-token": 401,
    "too-many": 429,
    "too-busy": 503,
    "too-slow": 503,
    "too-much": 413,
    "wrong-parameter": 422,
    "day-and-version": 409,
} | dict.fromkeys(_NOT_THERE, 404)


def wrong_parameter(name: str, why: str) -> OakError:
    """A parameter that is not known, or has no sense."""
    return OakError("wrong-parameter", f"{name}: {why}.", hint="/openapi.json describes the parameters.")


def known_parameters(request: Request) -> None:
    """Refuse a parameter that the address does not have: what it was to do would be left undone in silence."""
    known = {query_param.alias for query_param in request.scope["route"].dependant.query_params}
    for name in request.query_params:
        if name not in known:
            raise wrong_parameter(
                name, f"there is no such parameter here; there is {', '.join(sorted(known)) or 'none'}"
            )


def failure(
    status: int,
    code: str,
    message: str,
    hint: str = "",
    findings: Sequence[Mapping[str, Any]] = (),
    headers: Mapping[str, str] | None = None,
) -> Response:
    """A problem document."""
    said = Failure(
        title=HTTPStatus(status).phrase, status=status, detail=message, code=code, hint=hint, findings=[dict(finding) for finding in findings]
    )  # fmt: skip
    more = {"www-authenticate": BROWSERS} if status == 401 else {"retry-after": "1"} if status in (429, 503) else {}
    return JSONResponse(said.model_dump(), status, {**more, **(headers or {})}, media_type=PROBLEM)


def _for_whoever_asks(request: Request, response: Response) -> Response:
    """A failure as a page, where a browser asks for one."""
    if "text/html" not in request.headers.get("accept", ""):
        return response
    said = json.loads(bytes(response.body))
    home = f"{request.scope.get('root_path', '')}/"
    text = notice_html(said["title"], f"{said['detail']} {said['hint']}".strip(), home)
    kept = {name: text for name, text in response.headers.items() if name in ("www-authenticate", "retry-after")}
    return HTMLResponse(text, response.status_code, kept)


def _wrong(_request: Request, error: OakError) -> Response:
    first = error.findings[0]
    status = _STATUS.get(first.code, 500 if isinstance(error, UnusableInput) else 400)
    if status == 404:  # the names of what is there are not for everybody
        return failure(404, "not-there", "There is nothing of that name that you may see.")
    if status == 500:  # neither are paths
        return failure(500, "not-readable", "The service cannot read what this is computed from.", "Tell who keeps the service: oak catalogue verify says what is damaged.")  # fmt: skip
    findings = [finding.as_json() for finding in error.findings] if isinstance(error, FormulaError) else []
    return failure(status, first.code, first.message, first.hint, findings)


def _unfit(_request: Request, error: RequestValidationError) -> Response:
    one = error.errors()[0]
    return failure(422, "wrong-parameter", f"{'.'.join(map(str, one['loc'][1:]))}: {one['msg']}.")


def _other(_request: Request, error: HTTPException) -> Response:
    code = "not-there" if error.status_code == 404 else "wrong-request"
    return failure(error.status_code, code, f"{error.detail}.", headers=error.headers)


def _fault(_request: Request, _error: Exception) -> Response:
    return failure(500, "fault", "This is a fault of the service, not of the question.", "Its log says more.")


def _too_large(_request: Request, _error: MemoryError) -> Response:
    return failure(413, "too-much", "The question takes more memory than there is for it.", "Ask for less: a filter, fewer groups.")  # fmt: skip


def add_handlers(app: FastAPI) -> None:
    """Let every failure have that form."""
    for kind, handler in (
        (OakError, _wrong), (RequestValidationError, _unfit), (HTTPException, _other), (MemoryError, _too_large), (Exception, _fault),
    ):  # fmt: skip
        app.add_exception_handler(
            kind, lambda request, error, own=handler: _for_whoever_asks(request, own(request, error))
        )
