"""`oak keys`."""

from __future__ import annotations

import click

from oak_ledger.cli.app import json_option, print_json
from oak_ledger.errors import OakError


@click.command("keys")
@click.argument("table", default="")
@json_option("Keys")
def keys_command(table: str, as_json: bool) -> None:
    """List the keys of definitions and reports, or those of one TABLE (field, panel, …) with an example."""
    from oak_ledger.present.terminal import QUIET, Text, console, grid
    from oak_ledger.report.keys import table_keys

    found = [one for one in table_keys() if not table or one.header.strip("[]") == table.strip("[]").casefold()]
    if not found:
        names = ", ".join(dict.fromkeys(one.header.strip("[]") for one in table_keys()))
        raise OakError("unknown-table", f"No file has a table {table!r}.", hint=f"Tables are {names}.")
    if as_json:
        entries = [
            {
                "file": one.file,
                "table": one.header,
                "about": one.about,
                "keys": [{"name": key, "value": says} for key, says in one.keys],
                "example": one.example,
            }
            for one in found
        ]
        print_json({"tables": entries})
        return
    out = console()
    for at, one in enumerate(found):
        if at:
            out.print()
        out.print(Text.assemble((one.header, "bold"), f"  {one.file}"))
        shown = grid("key", "what it says")
        for key, says in one.keys:
            shown.add_row(key, says)
        out.print(shown)
        if table:
            out.print()
            out.print(Text(one.example, style=QUIET))
    if not table:
        out.print(Text("\nwith an example: oak keys TABLE", style=QUIET))
