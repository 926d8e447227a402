"""`oak graft`."""

from __future__ import annotations

import click

from oak_ledger.cli.app import open_working, pairs


@click.command("graft")
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
def graft_command(source: str, target: str, names: tuple[str, ...], mapping: tuple[str, ...]) -> int:
    """Carry calculated fields of SOURCE into TARGET, a similar source, with the fields, constants and filters that they need.

    Fields whose names differ are mapped with --map; for others a field with like values is proposed. What is not mapped arrives broken.
    """
    from oak_ledger.cli.output_edits import apply
    from oak_ledger.present.terminal import LEAF, RUST, Text, console
    from oak_ledger.reference.graft import plan_graft, suggestions

    origin, there = open_working(source), open_working(target)
    found = plan_graft(origin, names, there, pairs(mapping, "a mapping"))
    facts = {
        "added": found.added,
        "same": found.same,
        "unmapped": found.unmapped,
        "conflicts": [{"name": one.name, "there": one.there, "here": one.here} for one in found.conflicts],
    }
    apply(found.mend, dry_run=False, facts=facts)
    out = console()
    if found.same:
        out.print(f"there already, with the same meaning: {', '.join(found.same)}")
    for one in found.conflicts:
        out.print(Text.assemble((f"{one.name} means something else in {there.name}, and was not carried over", RUST)))
        out.print(Text(f"  in {origin.name}: {one.there}\n  in {there.name}: {one.here}"))
    offered = suggestions(origin, found.unmapped, there)
    for name in found.unmapped:
        out.print(Text.assemble((f"{there.name} has no field {name!r}", RUST), "; what needs it is broken"))
        if name in offered:
            out.print(Text.assemble(("  it may be ", LEAF), f"{offered[name]}: --map '{name}={offered[name]}'"))
    return 1 if found.conflicts or found.unmapped else 0
