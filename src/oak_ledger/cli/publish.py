"""`oak publish`, `oak release`, `oak versions`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.app import (
    catalogue_option,
    confirmed,
    has_catalogue,
    json_option,
    open_catalogue,
    open_working,
    print_json,
    reports_of,
    reports_option,
    yes_option,
)
from oak_ledger.cli.progress import progress_of

if TYPE_CHECKING:
    from collections.abc import Mapping

    from oak_ledger.insight import Fingerprint
    from oak_ledger.report import Change
    from oak_ledger.source import Source


@click.command("publish")
@click.argument("source")
@catalogue_option
@reports_option
@click.option("--note", default="", help="What is new in this version.")
@click.option("--dry-run", is_flag=True, help="Show what would change in reports, and publish nothing.")
@click.option("--to", default=None, metavar="FILE", help="Write what changes as a page (.html), whole.")
@json_option("Publication")
def publish_command(
    source: str, catalogue: str, reports: str | None, note: str, dry_run: bool, to: str | None, as_json: bool
) -> int:
    """Publish SOURCE as a draft, and say which figures of which reports it changes.

    Reports go on reading the released version until the draft is released. A source with errors is refused.
    """
    from oak_ledger import Catalogue, renamed_between, report_changes
    from oak_ledger.present.terminal import QUIET, Text, console, counted, findings_list, plural
    from oak_ledger.reference import recoded

    with progress_of("checking", "comparing reports", "publishing") as progress:
        opened = open_working(source, progress)
        prepared = Catalogue.prepare(opened)
        progress.next()
        there = has_catalogue(catalogue)
        place = open_catalogue(catalogue, create=True) if there or not dry_run else None
        before = None if place is None else place.released(opened.name)
        changes: list[Change] = []
        known = reports_of(opened, reports, catalogue)
        if place is not None and before is not None:
            old = place.source(opened.name, before.number)
            renamed = renamed_between(before.fingerprints, prepared.fingerprints)
            changed = _changed_fields(old, opened, before.fingerprints, prepared.fingerprints, renamed)
            changes = report_changes(known, old, opened, renamed, changed, recoded(opened, old))
        progress.next()
        version = None if dry_run or place is None else place.publish(prepared, note=note)
    now = "working copy" if version is None else f"version {version.number}"
    was = "nothing" if before is None else f"version {before.number}"
    if to is not None:
        _write_page(to, opened.name, changes, was, now, len(known))
    if as_json:
        found = [one.as_json() for one in prepared.findings]
        published = None if version is None else version.as_json()
        print_json({"version": published, "findings": found, "changes": [_as_json(one) for one in changes]})
        return 0
    out = console()
    rows, found_text = plural(prepared.rows.num_rows, "row"), counted(prepared.findings)
    if version is None:
        out.print(f"dry run: {opened.name} with {rows} would be published in {catalogue}; the check found {found_text}")
    else:
        said = f": version {version.number} of {version.source}, {rows}, in {catalogue}; the check found {found_text}"
        out.print(Text.assemble(("draft", "bold"), said))
    if before is not None:
        _show_changes(changes, was, now, len(known))
    if to is not None:
        out.print(f"written: {to}")
    hiding = [one for report in known for one in report.hiding(opened)]
    if hiding:
        out.print(findings_list(hiding))
    if version is not None:
        out.print(Text(f"to make it the version that reports read: oak release '{version.source}'", style=QUIET))
    return 0


def _changed_fields(
    old: Source,
    new: Source,
    before: Mapping[str, Fingerprint],
    after: Mapping[str, Fingerprint],
    renamed: Mapping[str, str],
) -> list[str]:
    """The fields whose formula, or whose values, are not those of the released version."""
    found = []
    for state in new.fields:
        name = renamed.get(state.name, state.name)
        was = old.compiled.states.get(name.casefold())
        formulas = [str(getattr(one.spec, "formula", "")) for one in (was, state) if one is not None]
        rewritten = len(set(formulas)) > 1 and not renamed
        values = state.name in after and before.get(name) != after.get(state.name)
        if (
            was is None or rewritten or (values and not formulas[-1])
        ):  # a formula that is as it was only passes on what changed
            found.append(state.name)
    return found


def _as_json(one: Change) -> dict[str, Any]:
    return {
        "report": one.report,
        "panel": one.panel,
        "measure": one.measure,
        "before": one.before,
        "after": one.after,
        "broken": one.broken,
        "because": one.because,
        "groups": [
            {"group": [_key_text(key) for key in other.group], "before": other.before, "after": other.after}
            for other in one.groups
        ],
        "renamed": [
            {"before": [_key_text(key) for key in before], "after": [_key_text(key) for key in after]}
            for before, after in one.renamed
        ],
    }


def _key_text(key: Any) -> str | None:
    return None if key is None else str(key)


def _write_page(to: str, name: str, changes: list[Change], old: str, new: str, reports: int) -> None:
    from oak_ledger.files import write_text
    from oak_ledger.present.consequences import consequences
    from oak_ledger.present.sections import Section, sections_page

    sections = consequences(changes, old, new) or [Section("", (("No figure changes.", "good"),))]
    under = f"{old} against {new}, {reports} reports"
    write_text(Path(to), sections_page(f"What changes in reports of {name}", under, sections))


def _show_changes(changes: list[Change], old: str, new: str, reports: int) -> None:
    from oak_ledger.present.consequences import consequences
    from oak_ledger.present.sections import show_sections
    from oak_ledger.present.terminal import LEAF, Text, console, plural

    out = console()
    if not changes:
        out.print(Text.assemble(("no figure changes", LEAF), f" in {plural(reports, 'report')}"))
        return
    out.print(Text(f"what changes in {plural(reports, 'report')}:"))
    show_sections(out, consequences(changes, old, new))


@click.command("release")
@click.argument("name")
@click.argument("number", type=int, required=False, metavar="[VERSION]")
@click.option("--signed-by", default="", help="Who vouches for it  [default: you]")
@catalogue_option
@yes_option
@click.option("--dry-run", is_flag=True, help="Show what would be released and change nothing.")
@json_option("Release")
def release_command(
    name: str, number: int | None, signed_by: str, catalogue: str, yes: bool, dry_run: bool, as_json: bool
) -> int:
    """Make a version of the published source NAME the one that all reports read; the newest without VERSION.

    The version released before is retired and can be released again.
    """
    from oak_ledger.present.terminal import say

    opened = open_catalogue(catalogue)
    there = opened.versions(name)
    chosen = next((one for one in reversed(there) if number in (None, one.number)), None)
    if chosen is not None and dry_run:
        if as_json:
            print_json({"version": chosen.as_json(), "written": False})
        say(f"dry run: version {chosen.number} of {chosen.source} would be released; nothing was changed")
        return 0
    if chosen is not None:
        confirmed(f"All reports of {chosen.source} will read version {chosen.number}.", yes=yes)
    version = opened.release(name, number, signed_by=signed_by)
    if as_json:
        print_json({"version": version.as_json(), "written": True})
    say(
        f"released: version {version.number} of {version.source}, signed by {version.signed_by}; reports use it when they are next rendered"
    )
    return 0


@click.command("versions")
@click.argument("name", required=False)
@catalogue_option
@json_option("Versions")
def versions_command(name: str | None, catalogue: str, as_json: bool) -> int:
    """List the versions of the published source NAME; all sources without it."""
    from oak_ledger.present.terminal import LEAF, RUST, Text, console, grid

    place = open_catalogue(catalogue)
    names = [name] if name else place.sources()
    versions = [version for one in names for version in place.versions(one)]
    if as_json:
        print_json({"versions": [version.as_json() for version in versions]})
        return 0
    table = grid("source", "version", "stage", "rows", "warnings", "made", "by", "signed by", "note", right=(1, 3, 4))
    for one in versions:
        stage = Text(one.stage, style={"released": LEAF, "draft": RUST}.get(one.stage, ""))
        table.add_row(
            one.source,
            str(one.number),
            stage,
            f"{one.rows:,}",
            str(one.warnings),
            one.made_at,
            one.made_by,
            one.signed_by,
            one.note,
        )
    console().print(table)
    return 0
