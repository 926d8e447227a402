"""`oak field key`, `reformat`, `graft`: what concerns the fields of a source together; with them `oak field` is whole."""

from __future__ import annotations

import click

from oak_ledger.cli.field import renaming as field_rename
from oak_ledger.cli.field.shaping import field_command
from oak_ledger.cli.shared.app import open_working, pairs


@field_command.command("key")
@click.argument("source")
@click.argument("fields", nargs=-1, metavar="[FIELD]...")
@click.option("--none", "clear", is_flag=True, help="Remove the key.")
def key_command(source: str, fields: tuple[str, ...], clear: bool) -> None:
    """Show the fields that identify a row of SOURCE, or set them."""
    from oak_ledger.cli.shared.output_edits import tell_edits, write_edit
    from oak_ledger.present.terminal import say

    before = open_working(source)
    if not fields and not clear:
        tell_edits((), written=False, facts={"key": before.about.key})
        say(", ".join(before.about.key) or "no key; set one: oak field key SOURCE FIELD...")
        return
    after = before.with_key([] if clear else fields)
    write_edit(before, after, facts={"key": after.about.key})


@field_command.command("reformat")
@click.argument("source")
@click.argument("names", nargs=-1, metavar="[FIELD]...")
@click.option("--dry-run", is_flag=True, help="Show what would change and write nothing.")
def reformat_command(source: str, names: tuple[str, ...], dry_run: bool) -> None:
    """Reformat the formulas of SOURCE, or of some fields (layout only)."""
    from oak_ledger.cli.shared.output_edits import write_edit

    before = open_working(source)
    write_edit(before, before.with_formatted_formulas(list(names) or None), dry_run=dry_run)


@field_command.command("graft")
@click.argument("source")
@click.argument("target")
@click.argument("names", nargs=-1, required=True, metavar="FIELD...")
@click.option(
    "--map",
    "mapping",
    multiple=True,
    metavar="OLD=NEW",
    help="What a name of SOURCE is called in TARGET; may be repeated.",
)
@click.option("--rename", multiple=True, metavar="FIELD=NAME", help="Carry FIELD over under another name.")
def graft_command(
    source: str, target: str, names: tuple[str, ...], mapping: tuple[str, ...], rename: tuple[str, ...]
) -> int:
    """Carry calculated fields of SOURCE into TARGET, a similar source, with the fields, constants and filters that they need.

    Fields whose names differ are mapped with --map; for others a field with like values is proposed. What is not mapped arrives broken.
    Fields of one name are compared by their values.
    """
    from oak_ledger.cli.shared.output_edits import apply
    from oak_ledger.present.terminal import LEAF, RUST, Text, console
    from oak_ledger.reference.graft import plan_graft, suggestions

    origin, there = open_working(source), open_working(target)
    graft = plan_graft(origin, names, there, pairs(mapping, "a mapping"), pairs(rename, "a renaming"))
    facts = {
        "added": graft.added,
        "same": graft.same,
        "unmapped": graft.unmapped,
        "conflicts": [
            {"name": conflict.name, "there": conflict.there, "here": conflict.here} for conflict in graft.conflicts
        ],
        "doubts": dict(graft.doubts),
    }
    apply(graft.mend, dry_run=False, facts=facts)
    out = console()
    if graft.same:
        out.print(f"there already, with the same meaning: {', '.join(graft.same)}")
    for conflict in graft.conflicts:
        out.print(
            Text.assemble((f"{conflict.name} means something else in {there.name}, and was not carried over", RUST))
        )
        out.print(Text(f"  in {origin.name}: {conflict.there}\n  in {there.name}: {conflict.here}"))
        out.print(f"  to carry it over under another name: --rename '{conflict.name}=…'")
    for name, why in graft.doubts.items():
        out.print(Text.assemble((f"{name} may not be the same: ", RUST), why))
    offered = suggestions(origin, graft.unmapped, there)
    for name in graft.unmapped:
        out.print(Text.assemble((f"{there.name} has no field {name!r}", RUST), "; what needs it is broken"))
        if name in offered:
            out.print(Text.assemble(("  it may be ", LEAF), f"{offered[name]}: --map '{name}={offered[name]}'"))
    return 1 if graft.conflicts or graft.unmapped or graft.doubts else 0


field_command.commands = {
    name: field_command.commands[name] for name in (*field_rename.ORDER, "key", "reformat", "graft")
}
__all__ = ["field_command"]
