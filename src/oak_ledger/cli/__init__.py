"""The command line: each command parses, calls one library function, presents what came back, and sets the exit code.

0 fine · 1 findings · 2 wrong call · 3 input unusable. Heavy packages are imported inside commands, so that help is quick.
"""

from __future__ import annotations

import io
import os
import shlex
import sys
from collections.abc import Sequence

import click

from oak_ledger.cli import lean
from oak_ledger.cli.app import app, tell_json
from oak_ledger.errors import OakError
from oak_ledger.present.look import LOOK


def run(arguments: Sequence[str]) -> int:
    """Run one command and give its exit code; errors are told on standard error, never as a traceback."""
    LOOK.reset()
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper) and (stream.encoding or "").lower().replace("-", "") != "utf8":
            stream.reconfigure(errors="replace")  # a terminal that has not all characters shows others instead
    try:
        code = app.main(list(arguments), prog_name="oak", standalone_mode=False, obj=shlex.join(arguments))
    except click.ClickException as error:
        error.show()
        return 2
    except (click.Abort, KeyboardInterrupt):
        click.echo("stopped", err=True)
        return 130
    except OakError as error:
        if "--json" in arguments:
            tell_json({"errors": [one.as_json() for one in error.findings]})
            return error.exit_code
        from oak_ledger.present.terminal import console, findings_list

        console(to_errors=True).print(findings_list(error.findings))
        return error.exit_code
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    return code if isinstance(code, int) else 0


def main() -> None:
    """The `oak` command."""
    lean.WANTED = True
    lean.hurry()
    sys.exit(run(sys.argv[1:]))
