"""A real PostgreSQL server for a class of tests: the one that a package brings, or one found on the PATH."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
import unittest
import warnings
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

URI_OF_PATH = "postgresql://postgres@/postgres?host={folder}"


def start(case: type[unittest.TestCase], proves: str, *, locale: str = "") -> str:
    """Start a server that ends with the tests of a class, and give its URI; with none to be had, the run says what it did not prove.

    One with a `locale` sorts texts by it, and is one of the PATH.
    """
    holder = tempfile.TemporaryDirectory(prefix="oak", ignore_cleanup_errors=True)
    case.addClassCleanup(holder.cleanup)
    if os.environ.get("OAK_SERVER") != "path" and not locale:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of the package that brings the server
            try:
                import pgserver
            except ImportError:
                pass
            else:
                server = pgserver.get_server(holder.name)
                case.addClassCleanup(server.cleanup)
                return str(server.get_uri())
    if shutil.which("initdb") and shutil.which("pg_ctl"):
        return _from_path(case, Path(holder.name), locale)
    raise unittest.SkipTest(f"NOT PROVEN: {proves}, since no server can be had here")


def _from_path(case: type[unittest.TestCase], folder: Path, locale: str) -> str:
    """A server of the programs on the PATH, which listens in its folder only. It refuses to run as root, so root lends it a user."""
    user = None
    if os.getuid() == 0:
        names = {one.pw_name for one in pwd.getpwall()}
        user = "postgres" if "postgres" in names else "nobody"
        shutil.chown(folder, user)
    folder.chmod(0o700 if user is None else 0o755)
    data = folder / "data"

    def run(*command: str | Path, check: bool = True) -> None:
        subprocess.run(command, user=user, cwd=folder, check=check, stdout=subprocess.DEVNULL, stderr=subprocess.STDOUT)

    sorted_by = ["--locale-provider=icu", f"--icu-locale={locale}"] if locale else []
    made = run if not locale else _skipping(run, locale)
    made("initdb", "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "-N", *sorted_by)
    case.addClassCleanup(run, "pg_ctl", "-D", data, "-m", "immediate", "-w", "stop", check=False)
    options = f"-c listen_addresses='' -c unix_socket_directories='{folder}' -c fsync=off"
    run("pg_ctl", "-D", data, "-w", "-l", folder / "log", "-o", options, "start")
    return URI_OF_PATH.format(folder=folder)


def _skipping(run: Callable[..., None], locale: str) -> Callable[..., None]:
    """Where the server there is cannot sort by a locale, that is not proven, and said."""

    def tried(*command: Any) -> None:
        try:
            run(*command)
        except subprocess.CalledProcessError:
            raise unittest.SkipTest(f"NOT PROVEN: the server on the PATH cannot sort by {locale}") from None

    return tried


def execute(uri: str, statements: Sequence[str]) -> None:
    """Run statements on the server."""
    import psycopg

    with psycopg.connect(uri, autocommit=True) as connection:
        for statement in statements:
            connection.execute(statement)
