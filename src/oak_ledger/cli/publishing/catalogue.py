"""`oak catalogue backup` and the other verbs of its upkeep: old rows, four eyes, and what is moved, removed or handed over."""

from __future__ import annotations

from dataclasses import asdict

import click

from oak_ledger.cli.publishing.rights import catalogue_command
from oak_ledger.cli.shared.app import catalogue_option, confirmed, json_option, open_catalogue, print_json, yes_option

KINDS = ("source", "report", "area")


@catalogue_command.command("backup")
@click.argument("folder")
@catalogue_option
@json_option("Written")
def backup_command(folder: str, catalogue: str, as_json: bool) -> None:
    """Copy the catalogue into the empty FOLDER, as it is at one moment. The copy opens as any catalogue does."""
    from oak_ledger.cli.shared.progress import progress_of
    from oak_ledger.present.terminal import say

    with progress_of("copying"):
        path = open_catalogue(catalogue).upkeep.backup(folder)
    if as_json:
        print_json({"what": "backup", "on": str(path)})
    say(f"copied: {path} is a catalogue of its own; to use it elsewhere: oak catalogue restore {path}")


@catalogue_command.command("restore")
@click.argument("backup")
@click.option(
    "--url", default="", metavar="ADDRESS", help="An empty PostgreSQL database for the tables, without a password."
)
@catalogue_option
@json_option("Written")
def restore_command(backup: str, url: str, catalogue: str, as_json: bool) -> None:
    """Make the catalogue from the folder BACKUP, where there is none yet."""
    from oak_ledger.catalogue.upkeep import restore
    from oak_ledger.present.terminal import say

    path = restore(backup, catalogue, url)
    if as_json:
        print_json({"what": "restore", "on": str(path)})
    say(f"{path} is a catalogue again; oak catalogue verify looks at all of it")


@catalogue_command.command("four-eyes")
@click.argument("setting", type=click.Choice(["on", "off"]), required=False)
@catalogue_option
@json_option("FourEyes")
def four_eyes_command(setting: str | None, catalogue: str, as_json: bool) -> None:
    """Say whether somebody else than its maker must release a version; without SETTING, show it."""
    from oak_ledger.present.terminal import say

    upkeep = open_catalogue(catalogue).upkeep
    if setting is not None:
        upkeep.ask_for_four_eyes(on=setting == "on")
    on = upkeep.four_eyes()
    if as_json:
        print_json({"on": on})
    say("a version is released by somebody else than its maker" if on else "a version is released by anybody who may")


@catalogue_command.command("remove-old-rows")
@click.argument("name", required=False, default="")
@click.option(
    "--keep", type=click.IntRange(0), required=True, help="Of how many retired versions of a source the rows stay."
)
@catalogue_option
@yes_option
@json_option("Removed")
def remove_old_rows_command(name: str, keep: int, catalogue: str, yes: bool, as_json: bool) -> None:
    """Remove the rows of retired versions, of the source NAME or of all; their definitions and what was found stay."""
    from oak_ledger.present.terminal import plural, say

    confirmed("Rows of retired versions will be removed; they cannot be read any more.", yes=yes)
    place = open_catalogue(catalogue)
    gone = place.upkeep.remove_old_rows(keep=keep, name=name)
    files = place.clear() if not name else []
    if as_json:
        print_json({"removed": gone})
    say(f"removed: rows of {plural(len(gone), 'version')}, {plural(len(files), 'file')}")


@catalogue_command.command("hand-over")
@click.argument("leaver")
@click.argument("person")
@catalogue_option
@yes_option
@json_option("HandedOver")
def hand_over_command(leaver: str, person: str, catalogue: str, yes: bool, as_json: bool) -> None:
    """Give the drafts and reports of LEAVER to PERSON, and end LEAVER's tokens. Rights are taken with oak catalogue rights revoke."""
    from oak_ledger.present.terminal import plural, say

    confirmed(f"Drafts and reports of {leaver} will be {person}'s, and tokens of {leaver} end.", yes=yes)
    done = open_catalogue(catalogue).upkeep.hand_over(leaver, person)
    if as_json:
        print_json(asdict(done))
    say(
        f"handed over to {person}: {plural(len(done.drafts), 'draft')}, {plural(len(done.reports), 'report')}; ended: {plural(done.tokens, 'token')}"
    )


@catalogue_command.command("move")
@click.argument("kind", type=click.Choice(KINDS[:2]))
@click.argument("name")
@click.argument("area")
@catalogue_option
@json_option("Written")
def move_command(kind: str, name: str, area: str, catalogue: str, as_json: bool) -> None:
    """Move a source or a report to another AREA, with all its versions or states."""
    from oak_ledger.present.terminal import say

    upkeep = open_catalogue(catalogue).upkeep
    (upkeep.move_source if kind == "source" else upkeep.move_report)(name, area)
    if as_json:
        print_json({"what": f"move {kind}", "on": name})
    say(f"moved: {kind} {name} to {area}")


@catalogue_command.command("remove")
@click.argument("kind", type=click.Choice(KINDS))
@click.argument("name")
@catalogue_option
@yes_option
@json_option("Written")
def remove_command(kind: str, name: str, catalogue: str, yes: bool, as_json: bool) -> None:
    """Remove a source or a report with all its versions or states, or an area that is empty."""
    from oak_ledger.present.terminal import say

    confirmed(f"The {kind} {name} will be removed from the catalogue; it cannot be taken back.", yes=yes)
    upkeep = open_catalogue(catalogue).upkeep
    {"source": upkeep.remove_source, "report": upkeep.remove_report, "area": upkeep.remove_area}[kind](name)
    if as_json:
        print_json({"what": f"remove {kind}", "on": name})
    say(f"removed: {kind} {name}")


@catalogue_command.command("readers")
@catalogue_option
@json_option("Readings")
def readers_command(catalogue: str, as_json: bool) -> None:
    """Show who read which source, the version that they saw last, and when."""
    from oak_ledger.present.terminal import console, grid

    found = open_catalogue(catalogue).upkeep.readings()
    if as_json:
        print_json({"readings": [dict(zip(("source", "reader", "version", "at"), one, strict=True)) for one in found]})
        return
    table = grid("source", "read by", "version", "at", right=(2,))
    for source, reader, number, at in found:
        table.add_row(source, reader, str(number), at)
    console().print(table if found else "nobody has read anything yet")


__all__ = ["catalogue_command"]
