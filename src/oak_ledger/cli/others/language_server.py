"""`oak language-server`."""

from __future__ import annotations

import click

from oak_ledger.errors import UnusableInput


@click.command("language-server")
def language_server_command() -> None:
    """Help an editor with definitions and reports: the editor starts this and asks by the Language Server Protocol, over standard input and output.

    docs/editors.md has the settings of some editors. It needs pip install 'oak-ledger[editor]'.
    """
    try:
        from oak_ledger.editor.server import made
    except ImportError:
        hint = "pip install 'oak-ledger[editor]'"
        raise UnusableInput("no-editor", "What help in editors needs is not installed.", hint=hint) from None
    made().start_io()
