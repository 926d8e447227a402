"""Passwords of servers: from the environment or a prompt, never from a file, and sent only where somebody agreed to that."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import platformdirs
import sqlalchemy as sa

from oak_ledger.errors import UnusableInput

# How a password is asked for where the environment has none; the command line puts a prompt here.
ASK: list[Callable[[str], str]] = []
_ANSWERED: dict[str, str] = {}


def password_of(variable: str, url: sa.URL) -> str:
    """The password that a definition asks for. A variable is sent only to a server for which somebody here has agreed to that."""
    found = os.environ.get(variable) or _ANSWERED.get(variable)
    if found and not _agreed(variable, url):
        message = f"The definition asks for the variable {variable} to be sent to {_host(url)}, which nobody here has agreed to."
        hint = f"If it is that server's password: export OAK_PASSWORDS='{variable}@{_host(url)}' (others after commas)."
        raise UnusableInput("password-not-agreed", message, hint=hint)
    if not found and ASK:
        found = _ANSWERED[variable] = ASK[0](f"Password of {url.username} at {_host(url)}")
        agree(variable, str(url))
    if not found:
        raise UnusableInput(
            "no-password", f"The variable {variable} holds no password.", hint=f"Set {variable} before you start oak."
        )
    return found


_AGREED: set[str] = set()


def agree(variable: str, address: str) -> None:
    """Let a variable be sent to the server of an address from now on: a person has named both. It is kept for this user."""
    said = f"{variable}@{_host(sa.make_url(address))}"
    if said in _AGREED or _agreed(variable, sa.make_url(address)):
        return
    _AGREED.add(said)
    kept = _kept()
    with suppress(OSError):  # then it holds for this run
        kept.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        with kept.open("a", encoding="utf-8") as file:
            file.write(f"{said}\n")


def _agreed(variable: str, url: sa.URL) -> bool:
    """Whether a variable may be sent to a server: agreed to now or earlier, or by OAK_PASSWORDS; to this machine always, but for oak's own."""
    host = _host(url)
    if (host in ("localhost", "127.0.0.1", "::1") or host.startswith("/")) and not variable.upper().startswith("OAK_"):
        return True
    said = {*_AGREED, *(one.strip() for one in os.environ.get("OAK_PASSWORDS", "").split(","))}
    with suppress(OSError, UnicodeDecodeError):
        said.update(_kept().read_text("utf-8").split())
    return f"{variable}@{host}" in said


def _host(url: sa.URL) -> str:
    """Where an address leads; of several hosts all of them."""
    given = url.query.get("host") or url.query.get("unix_socket") or url.host or "localhost"
    return (given if isinstance(given, str) else ",".join(given)).casefold()


def _kept() -> Path:
    return platformdirs.user_config_path("oak-ledger") / "passwords"
