"""`oak undo`: the log of edits, forth and back, and what an edit has changed."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from oak_ledger.cli.shared.app import (
    catalogue_option,
    has_catalogue,
    is_dry_run,
    json_option,
    open_catalogue,
    open_working,
    print_json,
    with_default,
)
from oak_ledger.cli.shared.paths import definition_path

if TYPE_CHECKING:
    from oak_ledger.definition.edits import Edit


@click.group("undo", cls=with_default("last"))
def undo_command() -> None:
    """Take back edits: oak undo SOURCE is oak undo last SOURCE."""


@undo_command.command("last")
@click.argument("source")
@catalogue_option
def undo_last_command(source: str, catalogue: str) -> int:
    """Take back the last edit of SOURCE, in all files that it changed. Repeat to go back further."""
    from oak_ledger import undo
    from oak_ledger.definition.edits import last_done

    path = definition_path(source)
    _turned("undone", last_done(path, undone=False) if is_dry_run() else undo(path), catalogue)
    return 0


@undo_command.command("redo")
@click.argument("source")
@catalogue_option
def redo_command(source: str, catalogue: str) -> int:
    """Repeat what was undone last."""
    from oak_ledger import redo
    from oak_ledger.definition.edits import last_done

    path = definition_path(source)
    _turned("done again", last_done(path, undone=True) if is_dry_run() else redo(path), catalogue)
    return 0


def _turned(said: str, edit: Edit, catalogue: str) -> None:
    from oak_ledger.cli.shared.output_edits import show_edits, tell_edits
    from oak_ledger.present.terminal import say

    tell_edits(edit.files, written=not is_dry_run(), facts={"what": edit.what})
    if is_dry_run():
        say(f"dry run: this would be {said}, and nothing was written: {edit.what}")
        return
    show_edits(edit.files)
    say(f"{said}: {edit.what}")
    if has_catalogue(catalogue):
        back = said != "undone"
        turned, stay = open_catalogue(catalogue).reports.set_aside(edit.what, back=back)
        for name in turned:
            say(f"report {name} of the catalogue: the change {'waits again' if back else 'does not wait any more'}")
        for name in stay:
            say(f"report {name} of the catalogue followed when the source was released, and stays as it is")


@undo_command.command("list")
@click.argument("source")
@json_option("Edits")
def edits_command(source: str, as_json: bool) -> int:
    """List the edits of SOURCE, the newest first."""
    from oak_ledger import edits_of
    from oak_ledger.present.terminal import QUIET, Text, console, grid

    edits = edits_of(definition_path(source))[::-1]
    if as_json:
        print_json(
            {
                "edits": [
                    {
                        "at": edit.at,
                        "by": edit.by,
                        "what": edit.what,
                        "undone": edit.undone,
                        "files": [file.path.name for file in edit.files],
                    }
                    for edit in edits
                ]
            }
        )
        return 0
    if not edits:
        console().print("no edit yet")
        return 0
    table = grid("when", "who", "what", "files")
    for edit in edits:
        style = QUIET if edit.undone else ""
        what = f"{edit.what} (undone)" if edit.undone else edit.what
        table.add_row(
            *(
                Text(text, style=style)
                for text in (edit.at, edit.by, what, ", ".join(file.path.name for file in edit.files))
            )
        )
    console().print(table)
    return 0


@undo_command.command("compare")
@click.argument("source")
@click.option(
    "--edits", "-e", "back", type=click.IntRange(1), default=1, show_default=True, help="Go back by so many edits."
)
@click.option(
    "--limit",
    "-n",
    "limit",
    type=click.IntRange(1),
    default=5,
    show_default=True,
    help="How many values that differ to show.",
)
@json_option("Comparison")
def compare_command(source: str, back: int, limit: int, as_json: bool) -> int:
    """Show SOURCE before and after its last edit: fields side by side with what changed marked, then the first rows."""
    from oak_ledger import compare, previous
    from oak_ledger.present.look import LOOK
    from oak_ledger.present.terminal import LEAF, QUIET, RUST, Text, console, grid, plural, shortened

    opened = open_working(source)
    comparison = compare(previous(opened, back), opened)
    if as_json:
        print_json(
            {
                "fields": [field.as_json() for field in comparison.fields],
                "before": comparison.before.to_dicts(),
                "after": comparison.after.to_dicts(),
            }
        )
        return 0
    out = console()
    table = grid("before", "type", "after", "type", "changed")
    changed = [field for field in comparison.fields if field.changes or None in (field.before, field.after)]
    fields, more = (comparison.fields, []) if LOOK.everything else shortened(changed, "changed field")
    if not LOOK.everything:
        same = len(comparison.fields) - len(changed)
        more += [
            Text(f"{plural(same, 'field')} did not change (--all shows {'it' if same == 1 else 'them'})", style=QUIET)
        ]
    for field in fields:
        style = RUST if field.after is None else LEAF if field.before is None else ""
        lost = f"; {plural(field.lost, 'value')} lost, such as {field.sample}" if field.lost else ""
        table.add_row(
            Text(field.before or "", style=style),
            Text(field.type_before, style=QUIET),
            Text(field.after or "", style=style),
            Text(field.type_after, style=QUIET),
            Text(", ".join(field.changes) + lost, style=RUST if field.lost else LEAF),
        )
    out.print(*([table] if fields else []), *more)
    rows = grid("row", "field", "before", "after", right=(0,))
    differ = list(comparison.cells())
    for number, name, old, new in differ[:limit]:
        rows.add_row(f"{number:,}", name, old, Text(new, style=LEAF))
    looked = plural(max(comparison.before.table.num_rows, comparison.after.table.num_rows), "row")
    if differ:
        out.print(Text(f"{plural(len(differ), 'value')} differ in the first {looked}, such as:"))
        out.print(rows)
    else:
        out.print(Text(f"no value differs in the first {looked}", style=QUIET))
    return 0
