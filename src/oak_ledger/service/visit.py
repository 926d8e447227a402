"""One request: who asks, what they see of the catalogue, and what the answer says of itself."""

from __future__ import annotations

import hashlib
import json
from base64 import b64decode
from collections.abc import Callable, Mapping
from typing import Annotated, Any

from fastapi import Request, Response, Security
from fastapi.responses import HTMLResponse
from fastapi.security import HTTPBasic, HTTPBearer

from oak_ledger.catalogue import Version
from oak_ledger.errors import OakError
from oak_ledger.service.asking import Asker, State
from oak_ledger.source import Source
from oak_ledger.version import __version__

ALONE = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; form-action 'none'; frame-ancestors 'none'; base-uri 'none'"


BEARER = HTTPBearer(auto_error=False, description="The token.")
BASIC = HTTPBasic(auto_error=False, description="Any name, with the token as the password.")


class Visit(Asker):
    """One request."""

    def __init__(
        self,
        request: Request,
        _bearer: Annotated[Any, Security(BEARER)] = None,
        _basic: Annotated[Any, Security(BASIC)] = None,
    ) -> None:  # the description names both
        token = _token(request)
        if not token:
            raise OakError("no-token", "A token is needed.", hint="oak catalogue tokens make makes one.")
        super().__init__(request.app.state.shared, token)
        self.request = request
        request.state.person = self.catalogue.person

    @property
    def prefix(self) -> str:
        """What comes before all addresses, behind a proxy."""
        return str(self.request.scope.get("root_path", ""))

    @property
    def path(self) -> str:
        """The address as the asker has it, behind a proxy too."""
        path = self.request.scope["path"]
        return str(path if path.startswith(self.prefix) else self.prefix + path)

    def page(self, state: State, headers: Mapping[str, str], make: Callable[[Source], str]) -> Response:
        """A page made of a version, or the same as it was made before."""
        self.note(state.version)
        key = (*self.made_of(state.version), headers["etag"])
        return html_answer(self.shared.pages.get(key, lambda: make(state.source())), dict(headers))

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
            [(signature.by, signature.at, signature.note) for signature in version.signatures],
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
