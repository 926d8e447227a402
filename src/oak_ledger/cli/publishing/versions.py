"""`oak versions` and `oak release`: published versions, their stages, and working copies of them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from oak_ledger.cli.publishing.publish import change_as_json
from oak_ledger.cli.shared.app import (
    catalogue_option,
    confirmed,
    json_option,
    open_catalogue,
    print_json,
    reports_option,
    with_default,
    yes_option,
)
from oak_ledger.cli.shared.comparing import registered
from oak_ledger.cli.shared.following import tell_followed
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.catalogue import Catalogue, Version


@click.group("versions", cls=with_default("list"))
def versions_command() -> None:
    """List published versions, and share, sign, retire or check out one: oak versions NAME is oak versions list NAME."""


@versions_command.command("list")
@click.argument("name", required=False)
@catalogue_option
@json_option("Versions")
def list_versions_command(name: str | None, catalogue: str, as_json: bool) -> int:
    """List the versions of the published source NAME that you may see; those of all sources without it."""
    from oak_ledger.present.terminal import LEAF, RUST, Text, console, grid, plural

    place = open_catalogue(catalogue)
    names = [name] if name else place.sources()
    versions = [version for name in names for version in place.versions(name)]
    if as_json:
        print_json({"versions": [version.as_json() for version in versions], "differences": [], "changes": []})
        return 0
    table = grid("source", "version", "stage", "rows", "made", "by", "signed by", "checks", "note", right=(1, 3))
    for one in versions:
        stage = Text(one.stage, style={"released": LEAF, "draft": RUST}.get(one.stage, ""))
        found = ", ".join(
            f"{code} {count}" for code, count in one.findings.items() if code not in ("errors", "warnings")
        )
        checks = f"{one.checks_passed} passed" + (f"; {found}" if found else "")
        note = "; ".join(part for part in (one.note, f"overruled: {one.overruled}" if one.overruled else "", f"use {one.replaced_by}" if one.replaced_by else "") if part)  # fmt: skip
        table.add_row(
            one.source,
            str(one.number),
            stage,
            f"{one.rows:,}",
            one.made_at[:16],
            one.made_by,
            one.signed_by,
            checks,
            note,
        )
    out = console()
    out.print(table)
    if name is not None:
        _show_readers(place, name)
    elif not versions:
        out.print(f"{plural(0, 'source')} that you may see")
    return 0


def _show_readers(place: Catalogue, name: str) -> None:
    from oak_ledger.present.terminal import console, grid

    readers = place.reports.readers(name)
    if readers:
        table = grid("read by", "version seen last", "at", right=(1,))
        for reader, number, at in readers:
            table.add_row(reader, str(number), at)
        console().print()
        console().print(table)


@versions_command.command("compare")
@click.argument("name")
@click.argument("numbers", nargs=2, type=int, metavar="A B")
@catalogue_option
@reports_option
@json_option("Versions")
def compare_versions_command(
    name: str, numbers: tuple[int, int], catalogue: str, reports: str | None, as_json: bool
) -> int:
    """Show how version B of the published source NAME differs from version A: the definition, and the figures of reports."""
    place = open_catalogue(catalogue)
    from oak_ledger import find_reports, renamed_between, report_changes
    from oak_ledger.present.consequences import consequences, difference_section
    from oak_ledger.present.sections import show_sections
    from oak_ledger.present.terminal import console
    from oak_ledger.reference import recoded
    from oak_ledger.reference.differences import changed_fields, differences

    with progress_of("comparing"):
        versions = [place.version(name, number) for number in numbers]
        before, after = (place.source(name, number) for number in numbers)
        renamed = renamed_between(versions[0].fingerprints, versions[1].fingerprints)
        files = find_reports(reports or ".", before.name)
        known = [*files, *registered(place, name, files)]
        changed = changed_fields(before, after, versions[0].fingerprints, versions[1].fingerprints, renamed)
        changes = report_changes(known, before, after, renamed, changed, recoded(after, before))
        found = differences(before, after, renamed)
    if as_json:
        print_json(
            {
                "versions": [version.as_json() for version in versions],
                "differences": [difference.as_json() for difference in found],
                "changes": [change_as_json(change) for change in changes],
            }
        )
        return 0
    out = console()
    was, now = (f"version {number}" for number in numbers)
    if found:
        show_sections(out, [difference_section(found, was)])
    else:
        out.print("the definitions are the same")
    out.print()
    out.print(f"rows: {versions[0].rows:,} → {versions[1].rows:,}")
    sections = consequences(changes, was, now)
    if sections:
        show_sections(out, sections)
    else:
        out.print(f"no figure of {len(known)} reports changes")
    return 0


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
    readers = place.reports.all(f"{chosen.area}/{chosen.source}")
    version = place.release(name, number, note=note, overrule=overrule)
    said = f"released: version {version.number} of {version.source}, signed by {version.signed_by}; {version.checks_passed} checks passed"
    warned = ", ".join(f"{code} {count}" for code, count in version.findings.items() if code != "errors")
    said += f"; {warned}" if warned else ""
    said += f"; errors overruled: {version.overruled}" if version.overruled else ""
    _done(version, f"{said}; reports use it when they are next rendered", as_json=as_json)
    tell_followed(readers, version, catalogue)
    return 0


@versions_command.command("sign")
@click.argument("name")
@click.argument("number", type=int, required=False, metavar="[VERSION]")
@click.option("--note", default="", help="What you vouch for.")
@catalogue_option
@json_option("Release")
def sign_command(name: str, number: int | None, note: str, catalogue: str, as_json: bool) -> None:
    """Vouch for a version of the published source NAME, beside those who do so already; the newest without VERSION."""
    version = open_catalogue(catalogue).sign(name, number, note=note)
    _done(version, f"version {version.number} of {version.source} is signed by {version.signed_by}", as_json=as_json)


@versions_command.command("retire")
@click.argument("name")
@click.option("--replaced-by", default="", metavar="SOURCE", help="What readers use instead; pages and answers say so.")
@click.option(
    "--views",
    default="",
    metavar="ADDRESS",
    help="A PostgreSQL database: what oak export view made of it there is marked as retired.",
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
    instead = f"; readers are asked to use {replaced_by}" if replaced_by else ""
    _done(version, f"retired: version {version.number} of {version.source}{instead}", as_json=as_json)
    if views:
        from oak_ledger.places.view import retire

        found = retire(version.source, views, drop=drop_views, replaced_by=replaced_by, password_from=password_from)
        done = "dropped" if drop_views else "marked as retired"
        say(f"{done}: {', '.join(found)}" if found else "no view of it is there")


@versions_command.command("withdraw")
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


@versions_command.command("merge")
@click.argument("base")
@click.argument("ours")
@click.argument("theirs")
@json_option("MergedFile")
def merge_command(base: str, ours: str, theirs: str, as_json: bool) -> int:
    """Put what THEIRS changed since BASE into OURS, entry by entry: definitions or reports. Where both changed one key, OURS stays, and the exit code is 1.

    For version control, in .gitattributes: *.oak.toml merge=oak, and once: git config merge.oak.driver 'oak versions merge %O %A %B'
    """
    from oak_ledger.definition.document import read_document
    from oak_ledger.definition.merging import merged
    from oak_ledger.definition.model import DEFINITION
    from oak_ledger.files import write_text
    from oak_ledger.present.terminal import console, findings_list, say
    from oak_ledger.report.definition import REPORT

    path = Path(ours)
    text = path.read_text("utf-8-sig") if path.is_file() else ""
    shape = REPORT if re.search(r"(?m)^\s*\[report\]", text) else DEFINITION
    document, disagreements = merged(*(read_document(Path(one), shape) for one in (base, ours, theirs)))
    write_text(path, document.text)
    findings = [disagreement.finding(path.name) for disagreement in disagreements]
    if as_json:
        print_json({"file": ours, "findings": [finding.as_json() for finding in findings]})
    if findings:
        console().print(findings_list(findings))
    say(f"merged: {ours}" + (f"; to be decided: {len(disagreements)}" if disagreements else ""))
    return 1 if disagreements else 0


@versions_command.command("share")
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


@versions_command.command("checkout")
@click.argument("name")
@click.option(
    "--version", "number", type=int, default=None, help="Which version  [default: the newest that you may see]"
)
@click.option("--to", default=None, metavar="FILE", help="The file to write  [default: NAME.oak.toml]")
@catalogue_option
@json_option("Checkout")
def checkout_command(name: str, number: int | None, to: str | None, catalogue: str, as_json: bool) -> None:
    """Fetch the definition of the published source NAME as a working copy, which knows the version that it was made from."""
    from oak_ledger.files import write_text
    from oak_ledger.present.terminal import say

    place = open_catalogue(catalogue)
    document, version = place.checkout(name, number)
    path = Path(to or f"{'_'.join(version.source.casefold().split())}.oak.toml")
    if path.exists():
        raise OakError(
            "file-exists", f"{path} already exists and was not changed.", hint="Choose another file with --to."
        )
    write_text(path, document.text)
    if as_json:
        print_json({"file": str(path), "version": version.as_json()})
    say(f"written: {path}, from version {version.number} ({version.stage}) of {version.source}")
