"""`oak trace`."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING

import click

from oak_ledger.cli.shared.app import json_option, open_working, print_json, reports_of, reports_option

if TYPE_CHECKING:
    from rich.tree import Tree

    from oak_ledger.reference import Piece


@click.command("trace")
@click.argument("source")
@click.argument("name", metavar="FIELD")
@click.option("--to", default=None, metavar="FILE", help="Write a picture (.png) instead.")
@reports_option
@json_option("Trace")
def trace_command(source: str, name: str, to: str | None, reports: str | None, as_json: bool) -> None:
    """Show what FIELD of SOURCE is made of, down to columns and files, and what is made of it, up to panels of reports."""
    from rich.tree import Tree

    from oak_ledger.present.terminal import QUIET, Text, console, plural, say
    from oak_ledger.reference import lineage

    opened = open_working(source)
    found = lineage(opened, name, [report.document for report in reports_of(opened, reports)])
    written = []
    if to is not None:
        from oak_ledger.present.lineages import save_lineage

        written.append(str(save_lineage(found, to)))
    if as_json:
        links = [
            [{"needed": asdict(piece), "by": asdict(other)} for piece, other in pairs]
            for pairs in (found.needs, found.users)
        ]
        print_json(
            {
                "piece": asdict(found.piece),
                "made_of": links[0],
                "used_by": links[1],
                "files": found.files,
                "written": written,
            }
        )
        return
    if written:
        say(f"written: {written[0]}")
        return
    out = console()
    top = Tree(_line(found.piece))
    down = top.add(Text("made of", style=QUIET))
    _branches(down, found.piece, dict.fromkeys((by, needed) for needed, by in found.needs), set())
    if found.files:
        more = f" and {len(found.files) - 2} more" if len(found.files) > 2 else ""
        down.add(Text(f"from {', '.join(found.files[:2])}{more}", style=QUIET))
    users = len({user for _, user in found.users})
    up = top.add(
        Text(
            f"used by {plural(users, 'entry').replace('entrys', 'entries')}" if users else "used by nothing",
            style=QUIET,
        )
    )
    _branches(up, found.piece, dict.fromkeys(found.users), set())
    out.print(top)


def _branches(tree: Tree, piece: Piece, pairs: dict[tuple[Piece, Piece], None], seen: set[Piece]) -> None:
    """What follows a piece, each branch shown once whole."""
    for first, second in pairs:
        if first == piece:
            line = _line(second)
            if second in seen and any(one == second for one, _ in pairs):
                line.append(" (see above)")
                tree.add(line)
                continue
            seen.add(second)
            _branches(tree.add(line), second, pairs, seen)


def _line(piece: Piece):  # type: ignore[no-untyped-def]
    from oak_ledger.present.terminal import LEAF, QUIET, Text

    if piece.kind in ("field", "formula", "constant", "filter"):
        said = (
            f" = {piece.text}"
            if piece.kind != "field" and piece.text
            else f" cleaned by {piece.text}"
            if piece.text
            else ""
        )
        return Text.assemble((piece.name, "bold"), (said, LEAF if piece.kind == "formula" else QUIET))
    where = "".join(f", {one}" for one in (piece.file, piece.text if piece.kind == "column" else "") if one)
    return Text.assemble((f"{piece.kind} ", QUIET), piece.name, (where, QUIET))
