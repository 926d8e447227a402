"""`oak release`, `oak sign`, `oak retire`, `oak withdraw`, `oak share`: the stages of a published version."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from oak_ledger.cli.app import catalogue_option, confirmed, json_option, open_catalogue, print_json, yes_option

if TYPE_CHECKING:
    from oak_ledger.catalogue import Version


def _done(version: Version | None, said: str, *, as_json: bool, written: bool = True) -> None:
    from oak_ledger.present.terminal import say

    if as_json:
        print_json({"version": None if version is None else version.as_json(), "written": written})
    say(said)


@click.command("release")
@click.argument("name")
@click.argument("number", type=int, required=False, metavar="[VERSION]")
@click.option("--note", default="", help="What you vouch for.")
@click.option(
    "--overrule", default="", metavar="REASON", help="Release although errors stand; the reason stays visible."
)
@catalogue_option
@yes_option
@click.option("--dry-run", is_flag=True, help="Show what would be released and change nothing.")
@json_option("Release")
def release_command(
    name: str, number: int | None, note: str, overrule: str, catalogue: str, yes: bool, dry_run: bool, as_json: bool
) -> int:
    """Make a version of the published source NAME the one that all reports read, and vouch for it; the newest without VERSION.

    The version released before is retired and can be released again.
    """
    place = open_catalogue(catalogue)
    chosen = place.version(name, number, drafts=number is None)
    if dry_run:
        said = f"dry run: version {chosen.number} of {chosen.source} would be released; nothing was changed"
        _done(chosen, said, as_json=as_json, written=False)
        return 0
    confirmed(f"All reports of {chosen.source} will read version {chosen.number}.", yes=yes)
    version = place.release(name, number, note=note, overrule=overrule)
    said = f"released: version {version.number} of {version.source}, signed by {version.signed_by}; {version.checks_passed} checks passed"
    warned = ", ".join(f"{code} {count}" for code, count in version.findings.items() if code != "errors")
    said += f"; {warned}" if warned else ""
    said += f"; errors overruled: {version.overruled}" if version.overruled else ""
    _done(version, f"{said}; reports use it when they are next rendered", as_json=as_json)
    return 0


@click.command("sign")
@click.argument("name")
@click.argument("number", type=int, required=False, metavar="[VERSION]")
@click.option("--note", default="", help="What you vouch for.")
@catalogue_option
@json_option("Release")
def sign_command(name: str, number: int | None, note: str, catalogue: str, as_json: bool) -> None:
    """Vouch for a version of the published source NAME, beside those who do so already; the newest without VERSION."""
    version = open_catalogue(catalogue).sign(name, number, note=note)
    _done(version, f"version {version.number} of {version.source} is signed by {version.signed_by}", as_json=as_json)


@click.command("retire")
@click.argument("name")
@click.option("--replaced-by", default="", metavar="SOURCE", help="What readers use instead; they are told.")
@click.option(
    "--views",
    default="",
    metavar="ADDRESS",
    help="A PostgreSQL database: what oak create-view made of it there is marked as retired.",
)
@click.option("--drop-views", is_flag=True, help="Drop it there, instead of marking it.")
@click.option(
    "--password-from", default="", metavar="VARIABLE", help="The environment variable with that database's password."
)
@catalogue_option
@yes_option
@json_option("Release")
def retire_command(
    name: str,
    replaced_by: str,
    views: str,
    drop_views: bool,
    password_from: str,
    catalogue: str,
    yes: bool,
    as_json: bool,
) -> None:
    """Take the released version of the published source NAME away from its readers."""
    from oak_ledger.present.terminal import say

    if drop_views and not views:
        raise click.UsageError("--drop-views needs --views ADDRESS, the database that they are in.")
    confirmed(f"Reports of {name} will have nothing to read.", yes=yes)
    version = open_catalogue(catalogue).retire(name, replaced_by=replaced_by)
    instead = f"; readers are told to use {replaced_by}" if replaced_by else ""
    _done(version, f"retired: version {version.number} of {version.source}{instead}", as_json=as_json)
    if views:
        from oak_ledger.places.view import retire

        found = retire(version.source, views, drop=drop_views, replaced_by=replaced_by, password_from=password_from)
        done = "dropped" if drop_views else "marked as retired"
        say(f"{done}: {', '.join(found)}" if found else "no view of it is there")


@click.command("withdraw")
@click.argument("name")
@click.argument("number", type=int, metavar="VERSION")
@catalogue_option
@yes_option
@json_option("Release")
def withdraw_command(name: str, number: int, catalogue: str, yes: bool, as_json: bool) -> None:
    """Take back a draft that you made. Nobody sees it any more."""
    confirmed(f"Version {number} of {name} will be gone.", yes=yes)
    open_catalogue(catalogue).withdraw(name, number)
    _done(None, f"withdrawn: version {number} of {name}", as_json=as_json)


@click.command("share")
@click.argument("name")
@click.argument("people", nargs=-1, required=True)
@click.option("--version", "number", type=int, default=None, help="Which draft  [default: the newest]")
@catalogue_option
@json_option("Release")
def share_command(name: str, people: tuple[str, ...], number: int | None, catalogue: str, as_json: bool) -> None:
    """Let PEOPLE (or @GROUP) see a draft that you made of the source NAME."""
    version = open_catalogue(catalogue).name_viewers(name, people, number)
    _done(
        version,
        f"version {version.number} of {version.source} is seen by you, {', '.join(version.viewers)}",
        as_json=as_json,
    )
