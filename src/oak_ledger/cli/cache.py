"""`oak cache`: the typed copies of origins that are slow to read again."""

from __future__ import annotations

import click

from oak_ledger.cli.shared.app import json_option, print_json


@click.command("cache")
@click.option("--clear", is_flag=True, help="Remove all copies; they are made again when they are needed.")
@json_option("Copies")
def cache_command(clear: bool, as_json: bool) -> None:
    """List the typed copies that are kept of text files, workbooks and other origins that are slow to read again.

    A copy is made by the first question, and used as long as the files and the reading keys of the definition are the same.
    OAK_CACHE=off keeps none, OAK_CACHE_FOLDER says where, OAK_CACHE_LIMIT (such as 5G) how much all of them may take.
    """
    import datetime as dt
    from pathlib import Path

    from rich.text import Text

    from oak_ledger.present.terminal import console, grid
    from oak_ledger.source.cache import cache_entries, cache_folder, clear_cache, enabled

    entries = clear_cache() if clear else cache_entries()
    if as_json:
        print_json({"copies": [
            {"source": entry.source, "origin": list(entry.origin), "rows": entry.rows, "bytes": entry.size, "used": entry.used} for entry in entries
        ]})  # fmt: skip
        return
    out = console()
    total = f"{len(entries):,} typed cop{'y' if len(entries) == 1 else 'ies'}, {sum(entry.size for entry in entries) / 1e6:,.1f} MB"
    if clear:
        out.print(f"{total} removed")
        return
    if not enabled():
        out.print("none are kept: OAK_CACHE is off")
    table = grid("source", "rows", "size", "last used", "made from", right=(1, 2))
    for entry in entries:
        used = dt.datetime.fromtimestamp(entry.used).astimezone()
        more = f" and {len(entry.origin) - 1:,} more" if len(entry.origin) > 1 else ""
        size, name = f"{entry.size / 1e6:,.1f} MB", Path(entry.origin[0]).name + more
        table.add_row(Text(entry.source), f"{entry.rows:,}", size, f"{used:%Y-%m-%d %H:%M}", Text(name))
    if entries:
        out.print(table)
    out.print(f"{total}, in {cache_folder()}", soft_wrap=True)
