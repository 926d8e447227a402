"""`oak publish`."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import (
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
from oak_ledger.cli.shared.comparing import Compared, compared, registered, show_compared
from oak_ledger.cli.shared.following import tell_followed
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.errors import Finding, OakError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from oak_ledger.catalogue import Catalogue, Version
    from oak_ledger.report import Change
    from oak_ledger.source import Source


@click.command("publish")
@click.argument("source")
@catalogue_option
@reports_option
@click.option("--note", default="", help="What is new in this version.")
@click.option("--area", default="", help="Where a new source goes  [default: general]")
@click.option(
    "--for", "viewers", multiple=True, metavar="PERSON", help="Who else may see the draft; @GROUP for a group."
)
@click.option(
    "--base",
    type=int,
    default=None,
    metavar="VERSION",
    help="The version it was made from  [default: as the definition says]",
)
@click.option(
    "--onto", is_flag=True, help="Put the changes onto the newest version, where somebody has published since."
)
@click.option(
    "--with-errors",
    "overrule",
    is_flag=True,
    help="Publish although there are errors; a release then asks for a reason.",
)
@click.option("--release", "release_now", is_flag=True, help="Release it as well, so that all reports read it.")
@click.option("--dry-run", is_flag=True, help="Show what would change in reports, and publish nothing.")
@click.option("--to", default=None, metavar="FILE", help="Write what changes as a page (.html), whole.")
@yes_option
@json_option("Publication")
def publish_command(
    source: str, catalogue: str, reports: str | None, note: str, area: str, viewers: tuple[str, ...], base: int | None, onto: bool, overrule: bool, release_now: bool,
    dry_run: bool, to: str | None, yes: bool, as_json: bool,
) -> int:  # fmt: skip
    """Publish SOURCE as a draft. First it shows how it differs from the released version, who uses it, and which figures change.

    Reports go on reading the released version until the draft is released. Where a panel would stop working, it asks.
    """
    from oak_ledger import Catalogue

    with progress_of("checking", "comparing reports", "publishing") as progress:
        opened = open_working(source, progress)
        there = has_catalogue(catalogue)
        place = open_catalogue(catalogue, create=True) if there or not dry_run else None
        if onto and place is not None:
            opened = _onto(place, opened)
        if place is not None:
            _require(place, opened, area, base, as_json)
        prepared = Catalogue.prepare(opened, broken=overrule)
        progress.next()
        unread: list[Finding] = []
        known = reports_of(opened, reports, catalogue, unread)
        found = Compared()
        address = opened.name if place is None else place.address(opened.name, area)
        if place is not None and place.released(address) is not None:
            known = [*known, *registered(place, address, known)]
            found = compared(place, address, opened, prepared.fingerprints, known)
            prepared = replace(prepared, findings=(*prepared.findings, *found.findings))
        progress.next()
        if not as_json:
            show_compared(found, len(known))
        broken = sum(bool(change.broken) and not change.after_works for change in found.changes)
        if broken and not dry_run:
            confirmed(f"{broken} panel{'s' * (broken > 1)} will stop working.", yes=yes)
        if release_now:
            confirmed(f"All reports of {opened.name} will read what is published.", yes=yes or dry_run)
        version, readers = None, []
        if place is not None and not dry_run:
            version = place.publish(prepared, note=note, area=area, base=base, viewers=viewers)
            _keep_base(opened, version.number)
            if release_now:
                readers = place.reports.all(address)
                version = place.release(f"{version.area}/{version.source}", version.number, note=note)
    if to is not None:
        _write_page(to, opened.name, found, len(known))
    if as_json:
        findings = [finding.as_json() for finding in prepared.findings]
        published = None if version is None else version.as_json()
        differences = [difference.as_json() for difference in found.differences]
        print_json(
            {
                "version": published,
                "findings": findings,
                "differences": differences,
                "changes": [change_as_json(change) for change in found.changes],
            }
        )
        return 0
    _said(version, prepared.rows.num_rows, prepared.findings, opened, catalogue)
    if version is not None and release_now:
        tell_followed(readers, version, catalogue)
    hiding = [*unread, *found.findings, *(finding for report in known for finding in report.hiding(opened))]
    if hiding:
        from oak_ledger.present.terminal import console, findings_list

        console().print(findings_list(hiding))
    return 0


def _require(place: Catalogue, opened: Source, area: str, base: int | None, as_json: bool) -> None:
    """Raise where it could not be published; where somebody has published since, what they changed is shown first."""
    from oak_ledger.present.consequences import difference_section
    from oak_ledger.present.sections import show_sections
    from oak_ledger.present.terminal import console
    from oak_ledger.reference.differences import differences

    try:
        place.require_publish(opened, area, base)
    except OakError as error:
        known = opened.about.base if base is None else base
        if error.code == "base-moved" and not as_json:
            with suppress(OakError):  # where one may not see the newer version, there is nothing to show
                address = place.address(opened.name, area)
                found = differences(place.source(address, known), place.source(address, drafts=True))
                show_sections(
                    console(), [difference_section(found, f"version {known} in the newest version")] if found else []
                )
        raise


def _onto(place: Catalogue, opened: Source) -> Source:
    """The working copy with its changes put onto the newest version, and written so."""
    from oak_ledger.cli.shared.output_edits import write_edit

    if not opened.about.base:
        raise OakError(
            "base-unknown",
            "The definition does not say which version it was made from.",
            hint="Name it: base under [source].",
        )
    source = place.onto(opened)
    write_edit(opened, source)
    return source


def _keep_base(opened: Source, number: int) -> None:
    """Have the working copy say which version it is the base of now."""
    from oak_ledger.files import write_text

    if opened.path is not None and opened.about.base != number:
        write_text(opened.path, opened.document.replaced(opened.document.all("source")[0], {"base": number}).text)


def _said(version: Version | None, rows: int, findings: Sequence[Any], opened: Source, catalogue: str) -> None:
    from oak_ledger.present.terminal import QUIET, RUST, Text, console, counted, plural

    out, found_text = console(), counted(findings)
    if version is None:
        out.print(
            f"dry run: {opened.name} with {plural(rows, 'row')} would be published in {catalogue}; the check found {found_text}"
        )
        return
    seen = f"; seen by you{''.join(f', {viewer}' for viewer in version.viewers)}"
    out.print(Text.assemble(("draft" if version.stage == "draft" else "published", "bold"), f": version {version.number} of {version.source} in {version.area}, {plural(rows, 'row')}; the check found {found_text}{seen}"))  # fmt: skip
    if version.told:
        out.print(Text(version.told, style=RUST))
    if version.stage == "released":
        out.print(Text.assemble(("released", "bold"), f", signed by {version.signed_by}; reports use it when they are next rendered"))  # fmt: skip
        return
    out.print(Text(f"to make it the version that reports read: oak release '{version.source}'", style=QUIET))


def change_as_json(change: Change) -> dict[str, Any]:
    """A change of a report's figure, as plain values."""
    kept = ("report", "panel", "measure", "before", "after", "broken", "because")
    return {
        **{name: getattr(change, name) for name in kept},
        "groups": [
            {"group": _key_texts(other.group), "before": other.before, "after": other.after} for other in change.groups
        ],
        "renamed": [{"before": _key_texts(before), "after": _key_texts(after)} for before, after in change.renamed],
    }


def _key_texts(group: Sequence[Any]) -> list[str | None]:
    return [None if key is None else str(key) for key in group]


def _write_page(to: str, name: str, found: Compared, reports: int) -> None:
    from oak_ledger.files import write_text
    from oak_ledger.present.consequences import consequences, difference_section
    from oak_ledger.present.sections import Section, sections_page
    from oak_ledger.present.terminal import say

    was = "nothing" if found.before is None else f"version {found.before.number}"
    sections = consequences(found.changes, was, "working copy") or [Section("", (("No figure changes.", "good"),))]
    if found.differences:
        sections = [difference_section(found.differences, was), *sections]
    write_text(
        Path(to),
        sections_page(f"What changes in {name}", f"{was} against the working copy, {reports} reports", sections),
    )
    say(f"written: {to}")
