"""`oak serve`."""

from __future__ import annotations

import ipaddress
import socket
import ssl
import sys
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

import click

from oak_ledger.cli.shared.app import catalogue_option, open_catalogue
from oak_ledger.errors import UnusableInput

if TYPE_CHECKING:
    from oak_ledger.service.asking import Shared
    from oak_ledger.service.sql.listening import SqlPort

BACKLOG = 2_048  # connections that wait to be accepted


@click.command("serve")
@click.option(
    "--host",
    default="127.0.0.1",
    show_default=True,
    help="The address to listen at; others than this machine's own are open to the network.",
)
@click.option(
    "--port", type=click.IntRange(0, 65535), default=8321, show_default=True, help="The port; 0 takes a free one."
)
@click.option("--rows", type=click.IntRange(1), default=100_000, show_default=True, help="Rows of one answer at most.")
@click.option(
    "--seconds",
    type=click.FloatRange(0.01),
    default=30.0,
    show_default=True,
    help="Seconds that one question may be computed.",
)
@click.option(
    "--running", type=click.IntRange(1), default=4, show_default=True, help="Questions that are computed at a time."
)
@click.option(
    "--waiting",
    type=click.IntRange(0),
    default=16,
    show_default=True,
    help="Questions that wait for that; more are refused.",
)
@click.option("--each", type=click.IntRange(1), default=8, show_default=True, help="Questions of one token at a time.")
@click.option(
    "--memory",
    metavar="SIZE",
    default="",
    help="What it may take, such as 4G; a question beyond that is refused  [default: half of the machine's]",
)
@click.option("--prefix", default="", metavar="PATH", help="The path under which a proxy has it, such as /ledger.")
@click.option(
    "--allow-origin",
    "origins",
    multiple=True,
    metavar="ORIGIN",
    help="Let pages of this origin ask it; may be repeated.",
)
@click.option(
    "--sql",
    "sql_port",
    type=click.IntRange(0, 65535),
    default=None,
    metavar="PORT",
    help="Answer statements of PostgreSQL's clients at this port, too; 0 takes a free one.",
)
@click.option(
    "--certificate",
    default="",
    metavar="FILE",
    help="A certificate (PEM), so that connections are encrypted; with --key.",
)
@click.option("--key", default="", metavar="FILE", help="The certificate's private key.")
@click.option("--log", default=None, metavar="FILE", help="Write a line for each request; - is standard error.")
@catalogue_option
def serve_command(
    host: str, port: int, rows: int, seconds: float, running: int, waiting: int, each: int, memory: str, prefix: str, origins: tuple[str, ...],
    sql_port: int | None, certificate: str, key: str, log: str | None, catalogue: str,
) -> None:  # fmt: skip
    """Answer questions from the catalogue, over HTTP and by statements: sources, their dictionary, tallies, rows, reports. Stop it with Ctrl-C.

    Whoever asks needs a token (oak catalogue tokens make) and sees what its maker may see. In a browser any name will do, with the token as the password.
    The description for programs is at /openapi.json. With --sql, clients of PostgreSQL ask sources and measures, with any user and the token as the password.

    Where it is open to a network, encrypt connections: --certificate and --key, or for HTTP a server in front of it.
    """
    open_catalogue(catalogue)
    try:
        from oak_ledger.service.app import application
        from oak_ledger.service.asking import Shared
        from oak_ledger.service.server import serve
    except ImportError:
        raise UnusableInput("no-service", "What the service needs is not installed.", hint="pip install 'oak-ledger[service]'") from None  # fmt: skip
    from oak_ledger.present.terminal import say
    from oak_ledger.service.limits import Limits, bound_memory

    bound_memory(memory)
    lines = None if log is None else sys.stderr if log == "-" else Path(log).open("a", encoding="utf-8")  # noqa: SIM115  as long as it serves
    shared = Shared(catalogue, Limits(rows, seconds, running, waiting, each))
    app = application(shared, prefix=prefix, origins=origins, log=lines)
    tls = _encryption(certificate, key)
    with ExitStack() as opened:
        listening = opened.enter_context(_listening(host, port))
        at_sql = None
        if sql_port is not None:
            statements = opened.enter_context(_listening(host, sql_port))
            at_sql = _sql_port(shared, statements, tls, lines)
            say(f"statements at postgresql://{host}:{at_sql.number}/oak")
        say(f"listening at http{'s' if tls else ''}://{host}:{listening.getsockname()[1]}")
        serve(app, listening, certificate, key, stopping=at_sql.stop if at_sql is not None else None)


def _listening(host: str, port: int) -> socket.socket:
    """A socket that listens. Raises UnusableInput where nothing can."""
    listening = socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, port))
    except OSError:
        raise UnusableInput("port-taken", f"Nothing can listen at {host}, port {port}.", hint="Choose another: --port.") from None  # fmt: skip
    listening.listen(BACKLOG)
    return listening


def _encryption(certificate: str, key: str) -> ssl.SSLContext | None:
    """What connections are encrypted with. Raises UnusableInput for files that are not a certificate and its key."""
    if not certificate and not key:
        return None
    tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    try:
        tls.load_cert_chain(certificate, key)
    except (OSError, ValueError):
        raise UnusableInput("wrong-certificate", f"{certificate or '(none)'} and {key or '(none)'} are not a certificate and its key.", hint="Both are files in the PEM format: --certificate FILE --key FILE.") from None  # fmt: skip
    return tls


def _sql_port(shared: Shared, listening: socket.socket, tls: ssl.SSLContext | None, log: TextIO | None) -> SqlPort:
    """Where statements are answered. Raises UnusableInput where that needs what is not there."""
    try:
        from oak_ledger.service.sql.listening import SqlPort
    except ImportError:
        raise UnusableInput("no-service", "What --sql needs is not installed.", hint="pip install 'oak-ledger[sql]'") from None  # fmt: skip
    host = listening.getsockname()[0]
    if tls is None and not ipaddress.ip_address(host).is_loopback:
        raise UnusableInput("not-encrypted", f"At {host} others could read the tokens on their way: --sql takes them only where connections are encrypted.", hint="Add --certificate and --key, or listen at 127.0.0.1.")  # fmt: skip
    return SqlPort(shared, listening, tls=tls, log=log)
