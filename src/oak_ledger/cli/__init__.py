"""The command line: each command parses, calls one library function, presents what came back, and sets the exit code.

0 done · 1 findings that need attention · 2 usage · 3 unusable input · 70 our own failure · 130 interrupted. Heavy packages are imported inside commands, so that help is quick.
"""

from __future__ import annotations

import codecs
import io
import os
import shlex
import sys
from collections.abc import Sequence

import click

from oak_ledger.cli.shared import startup
from oak_ledger.cli.shared.app import app, print_json
from oak_ledger.cli.shared.pager import paged
from oak_ledger.errors import Finding, OakError
from oak_ledger.present.look import LOOK, Look

# What a terminal shows that has not all characters.
PLAIN = {"→": "->", "…": "...", "·": "-", "×": "x", "⏎": " ", "—": "-", "█": "#", **dict.fromkeys("▁▂▃", "."), **dict.fromkeys("▄▅▆▇", "=")}  # fmt: skip


def _plainly(error: UnicodeError) -> tuple[str, int]:
    """Other characters for those that an encoding lacks."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(PLAIN.get(one, "?") for one in error.object[error.start : error.end]), error.end


codecs.register_error("oak-plain", _plainly)


def run(arguments: Sequence[str]) -> int:
    """Run one command and give its exit code; errors are printed on standard error, never as a traceback."""
    LOOK.become(Look())
    as_json = "--json" in arguments
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper) and (stream.encoding or "").lower().replace("-", "") != "utf8":
            stream.reconfigure(errors="oak-plain")
    try:
        code = app.main(list(arguments), prog_name="oak", standalone_mode=False, obj=shlex.join(arguments))
    except click.ClickException as error:
        if as_json:
            return _tell_errors(
                [Finding("usage", error.format_message(), hint="--help lists arguments and options.")], 2
            )
        error.show()
        return 2
    except (click.Abort, KeyboardInterrupt):
        click.echo("stopped", err=True)
        return 130
    except OakError as error:
        if as_json:
            return _tell_errors(error.findings, error.exit_code)
        from oak_ledger.present.terminal import console, findings_list

        console(to_errors=True).print(findings_list(error.findings))
        return error.exit_code
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as error:
        if os.environ.get("OAK_TRACEBACK"):
            raise
        message = f"This is a failure of oak itself, not of what you did: {type(error).__name__}: {error}"
        hint = "Set OAK_TRACEBACK=1 and repeat the command to see where it happened."
        if as_json:
            return _tell_errors([Finding("own-failure", message, hint=hint)], 70)
        click.echo(f"{message}\n{hint}", err=True)
        return 70
    return code if isinstance(code, int) else 0


def _tell_errors(findings: Sequence[Finding], code: int) -> int:
    print_json({"errors": [finding.as_json() for finding in findings]})
    return code


def main() -> None:
    """The `oak` command."""
    startup.ENABLED = True
    startup.tune_process()
    with paged(sys.argv[1:]):
        code = run(sys.argv[1:])
    sys.exit(code)
