"""`oak catalogue` and its rights, groups and tokens: who may do what, and the audit log."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from typing import TYPE_CHECKING

import click

from oak_ledger.cli.shared.app import Verbs, catalogue_option, json_option, open_catalogue, print_json, yes_option

if TYPE_CHECKING:
    from oak_ledger.catalogue import Catalogue

HOLDS = "In a folder that all can reach, rights prevent mistakes; only a server in between enforces them."


@click.group("catalogue", cls=Verbs)
def catalogue_command() -> None:
    """Make a catalogue; its areas, rights, groups and tokens; verify it, read its audit log, keep it in order."""


@catalogue_command.command("create")
@click.option(
    "--url",
    default="",
    metavar="ADDRESS",
    help="A PostgreSQL database for the tables, without a password  [default: a file]",
)
@catalogue_option
@json_option("Written")
def create_command(url: str, catalogue: str, as_json: bool) -> None:
    """Make a catalogue. You get every right in it, and nobody else any."""
    from oak_ledger import Catalogue
    from oak_ledger.present.terminal import say

    made = Catalogue.open(catalogue, create=True, url=url)
    if as_json:
        print_json({"what": "create", "on": str(made.folder)})
    say(f"{made.folder} is a catalogue; its areas: {', '.join(made.people.areas())}")


@catalogue_command.command("areas")
@catalogue_option
@json_option("Areas")
def areas_command(catalogue: str, as_json: bool) -> None:
    """List the areas in which you have a right."""
    from oak_ledger.present.terminal import console, grid

    people = open_catalogue(catalogue).people
    found = [(area, people.my_rights(area)) for area in people.areas()]
    if as_json:
        print_json({"areas": [{"area": area, "rights": rights} for area, rights in found]})
        return
    table = grid("area", "your rights")
    for area, rights in found:
        table.add_row(area, ", ".join(rights))
    console().print(table)


@catalogue_command.command("add-area")
@click.argument("name")
@catalogue_option
@json_option("Written")
def add_area_command(name: str, catalogue: str, as_json: bool) -> None:
    """Add an area; nobody has a right in it but who has rights everywhere."""
    _did(lambda place: place.people.add_area(name), catalogue, "add area", name, as_json)


@catalogue_command.command("verify")
@click.option("--head", default="", metavar="DIGEST", help="A digest of the audit log that was kept elsewhere.")
@catalogue_option
@json_option("Damage")
def verify_command(head: str, catalogue: str, as_json: bool) -> int:
    """Check every entry, every file, and the chain of the audit log; name what is damaged."""
    from oak_ledger.cli.shared.progress import progress_of
    from oak_ledger.present.terminal import LEAF, RUST, Text, console

    with progress_of("verifying"):
        found = open_catalogue(catalogue).verify(head)
    if as_json:
        print_json({"damage": found})
    out = console()
    for one in found:
        out.print(Text.assemble(("damaged  ", RUST), one))
    if not found:
        out.print(Text("nothing is damaged", style=LEAF))
    return 1 if found else 0


@catalogue_command.command("clear")
@catalogue_option
@yes_option
@json_option("Damage")
def clear_command(catalogue: str, yes: bool, as_json: bool) -> None:
    """Remove files of rows that nothing refers to any more."""
    from oak_ledger.cli.shared.app import confirmed
    from oak_ledger.present.terminal import plural, say

    confirmed("Files that nothing refers to will be removed.", yes=yes)
    gone = [path.name for path in open_catalogue(catalogue).clear()]
    if as_json:
        print_json({"damage": gone})
    say(f"removed: {plural(len(gone), 'file')}")


@catalogue_command.command("log")
@click.argument("words", nargs=-1)
@click.option("--area", default="", help="Of this area only.")
@click.option("--limit", "-n", type=click.IntRange(1), default=30, show_default=True, help="How many of the newest.")
@catalogue_option
@json_option("AuditLog")
def log_command(words: tuple[str, ...], area: str, limit: int, catalogue: str, as_json: bool) -> None:
    """Show who did what, when, the newest last; with WORDS only entries that say them all."""
    from oak_ledger.present.terminal import QUIET, Text, console, grid

    entries = open_catalogue(catalogue).people.log(area=area, words=" ".join(words))
    head = entries[-1].chain if entries else ""
    if as_json:
        print_json({"entries": [asdict(entry) for entry in entries[-limit:]], "head": head})
        return
    table = grid("at", "who", "what", "area", "on", "more")
    for entry in entries[-limit:]:
        table.add_row(entry.at, entry.who, entry.what, entry.area, entry.subject, entry.detail)
    out = console()
    out.print(table)
    if len(entries) > limit:
        out.print(Text(f"the newest {limit} of {len(entries):,} (-n shows more)", style=QUIET))
    out.print(Text(f"digest of the last entry, to be kept elsewhere: {head}", style=QUIET), soft_wrap=True)


@catalogue_command.group("rights", cls=Verbs)
def rights_command() -> None:
    """List, give and take rights in the areas of a catalogue."""


@rights_command.command("list")
@catalogue_option
@json_option("Rights")
def list_rights_command(catalogue: str, as_json: bool) -> None:
    """List who has which rights, in the areas where you have one."""
    from oak_ledger.present.terminal import QUIET, Text, console, grid

    place = open_catalogue(catalogue)
    found: dict[tuple[str, str], list[str]] = {}
    for grant in place.people.grants():
        found.setdefault((grant.area, grant.who), []).append(grant.right)
    if as_json:
        print_json(
            {
                "rights": [{"area": area, "who": who, "rights": rights} for (area, who), rights in found.items()],
                "enforced": False,
            }
        )
        return
    table = grid("area", "who", "rights")
    for (area, who), rights in found.items():
        table.add_row("(all)" if area == "*" else area, who, ", ".join(rights))
    out = console()
    out.print(table)
    out.print(Text(HOLDS, style=QUIET))


@rights_command.command("table")
@json_option("RightsTable")
def table_command(as_json: bool) -> None:
    """Show what each right allows, by what it is done to."""
    from oak_ledger.catalogue.rules import ACTIONS, COLUMNS, RIGHTS
    from oak_ledger.present.terminal import console, grid

    rows = [
        (
            name,
            *(", ".join("+".join(sorted(one)) for one in action.allowed[column]) or "-" for column in COLUMNS),
            action.about,
        )
        for name, action in ACTIONS.items()
    ]
    if as_json:
        print_json(
            {
                "rights": [{"name": name, "value": about} for name, about in RIGHTS.items()],
                "actions": [dict(zip(("action", *COLUMNS, "about"), row, strict=True)) for row in rows],
            }
        )
        return
    out = console()
    table = grid("right", "allows to")
    for name, about in RIGHTS.items():
        table.add_row(name, about)
    out.print(table)
    out.print()
    table = grid("action", *COLUMNS, "about")
    for row in rows:
        table.add_row(*row)
    out.print(table)


def _did(work: Callable[[Catalogue], None], catalogue: str, what: str, on: str, as_json: bool) -> None:
    from oak_ledger.present.terminal import say

    work(open_catalogue(catalogue))
    if as_json:
        print_json({"what": what, "on": on})
    say(f"{what}: {on}")


@rights_command.command("grant")
@click.argument("who")
@click.argument("rights", nargs=-1, required=True)
@click.option("--area", default="general", show_default=True, help="In which area; * is all of them.")
@catalogue_option
@json_option("Written")
def grant_command(who: str, rights: tuple[str, ...], area: str, catalogue: str, as_json: bool) -> None:
    """Give WHO (a person, @GROUP or @everyone) RIGHTS: read, edit, release, administer."""
    _did(
        lambda place: place.people.grant(who, rights, area),
        catalogue,
        "given",
        f"{who}: {', '.join(rights)} in {area}",
        as_json,
    )


@rights_command.command("revoke")
@click.argument("who")
@click.argument("rights", nargs=-1, required=True)
@click.option("--area", default="general", show_default=True, help="In which area; * is all of them.")
@catalogue_option
@json_option("Written")
def revoke_command(who: str, rights: tuple[str, ...], area: str, catalogue: str, as_json: bool) -> None:
    """Take RIGHTS from WHO."""
    _did(
        lambda place: place.people.revoke(who, rights, area),
        catalogue,
        "taken",
        f"{who}: {', '.join(rights)} in {area}",
        as_json,
    )


@catalogue_command.group("groups", cls=Verbs)
def group_command() -> None:
    """List groups of people, and put people into them."""


@group_command.command("list")
@catalogue_option
@json_option("Groups")
def list_groups_command(catalogue: str, as_json: bool) -> None:
    """List the groups with their members."""
    from oak_ledger.present.terminal import console, grid

    found = open_catalogue(catalogue).people.groups()
    if as_json:
        print_json({"groups": [{"group": name, "people": people} for name, people in found.items()]})
        return
    table = grid("group", "people")
    for name, people in found.items():
        table.add_row(f"@{name}", ", ".join(people))
    console().print(table if found else "no groups; oak catalogue groups join makes one")


@group_command.command("join")
@click.argument("group")
@click.argument("people", nargs=-1, required=True)
@catalogue_option
@json_option("Written")
def join_group_command(group: str, people: tuple[str, ...], catalogue: str, as_json: bool) -> None:
    """Put PEOPLE into GROUP, which is made if it is new."""
    _did(lambda place: place.people.join(group, people), catalogue, "joined", f"{group}: {', '.join(people)}", as_json)


@group_command.command("leave")
@click.argument("group")
@click.argument("people", nargs=-1, required=True)
@catalogue_option
@json_option("Written")
def leave_group_command(group: str, people: tuple[str, ...], catalogue: str, as_json: bool) -> None:
    """Take PEOPLE out of GROUP."""
    _did(lambda place: place.people.leave(group, people), catalogue, "left", f"{group}: {', '.join(people)}", as_json)


@catalogue_command.group("tokens", cls=Verbs)
def token_command() -> None:
    """Make, list and revoke tokens: what a program shows instead of a name (in the variable OAK_TOKEN)."""


@token_command.command("make")
@click.argument("name")
@click.option(
    "--area", "areas", multiple=True, default=("*",), show_default=True, help="Where it may be used; may be repeated."
)
@click.option(
    "--right",
    "rights",
    multiple=True,
    default=("read",),
    show_default=True,
    help="What it may be used for; may be repeated.",
)
@click.option("--days", type=click.IntRange(1, 3660), default=90, show_default=True, help="For how long.")
@catalogue_option
@json_option("NewToken")
def make_token_command(
    name: str, areas: tuple[str, ...], rights: tuple[str, ...], days: int, catalogue: str, as_json: bool
) -> None:
    """Make a token. It may do what you may, in these areas and with these rights at most. It is shown only now."""
    from oak_ledger.present.terminal import say

    secret = open_catalogue(catalogue).people.make_token(name, areas, rights, days)
    if as_json:
        print_json({"token": secret, "name": name})
    say(secret)


@token_command.command("list")
@catalogue_option
@json_option("Tokens")
def list_tokens_command(catalogue: str, as_json: bool) -> None:
    """List tokens: yours, or all for who administers the catalogue; never their secrets."""
    from oak_ledger.present.terminal import console, grid

    tokens = open_catalogue(catalogue).people.tokens()
    if as_json:
        print_json({"tokens": [asdict(token) for token in tokens]})
        return
    table = grid("number", "name", "of", "areas", "rights", "ends", "state", right=(0,))
    for token in tokens:
        table.add_row(
            str(token.number),
            token.name,
            token.person,
            ", ".join(token.areas),
            ", ".join(token.rights),
            token.ends_at,
            f"revoked {token.revoked_at}" if token.revoked_at else "",
        )
    console().print(table if tokens else "no tokens")


@token_command.command("revoke")
@click.argument("number", type=int)
@catalogue_option
@json_option("Written")
def revoke_token_command(number: int, catalogue: str, as_json: bool) -> None:
    """End the token of this number now."""
    _did(lambda place: place.people.revoke_token(number), catalogue, "revoked", f"token {number}", as_json)
