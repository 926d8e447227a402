"""`oak publish`, `oak versions`, `oak checkout`."""

from __future__ import annotations

from contextlib import suppress
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
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from oak_ledger.catalogue import Catalogue, Version
    from oak_ledger.insight import Fingerprint
    from oak_ledger.reference.differences import Difference
    from oak_ledger.report import Change, Report
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
@click.option("--overrule", is_flag=True, help="Publish although there are errors; a release then asks for a reason.")
@click.option("--dry-run", is_flag=True, help="Show what would change in reports, and publish nothing.")
@click.option("--to", default=None, metavar="FILE", help="Write what changes as a page (.html), whole.")
@yes_option
@json_option("Publication")
def publish_command(
    source: str, catalogue: str, reports: str | None, note: str, area: str, viewers: tuple[str, ...], base: int | None, onto: bool, overrule: bool,
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
        known = reports_of(opened, reports, catalogue)
        found = _Compared([], [], None)
        address = opened.name if place is None else place.address(opened.name, area)
        if place is not None and place.released(address) is not None:
            known = [*known, *_registered(place, address, known)]
            found = _compared(place, address, opened, prepared.fingerprints, known)
        progress.next()
        if not as_json:
            _show(found, len(known), dry_run)
        broken = sum(bool(one.broken) and not one.after_works for one in found.changes)
        if broken and not dry_run:
            confirmed(f"{broken} panel{'s' * (broken > 1)} will stop working.", yes=yes)
        version = None
        if place is not None and not dry_run:
            version = place.publish(prepared, note=note, area=area, base=base, viewers=viewers)
            _keep_base(opened, version.number)
    if to is not None:
        _write_page(to, opened.name, found, len(known))
    if as_json:
        findings = [one.as_json() for one in prepared.findings]
        published = None if version is None else version.as_json()
        differences = [one.as_json() for one in found.differences]
        print_json(
            {
                "version": published,
                "findings": findings,
                "differences": differences,
                "changes": [_as_json(one) for one in found.changes],
            }
        )
        return 0
    _said(version, prepared.rows.num_rows, prepared.findings, opened, catalogue)
    hiding = [one for report in known for one in report.hiding(opened)]
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


class _Compared:
    """A working copy against the released version: how definitions differ, which figures change."""

    def __init__(
        self, differences: list[Difference], changes: list[Change], before: Version | None,
        readers: Sequence[tuple[str, int, str]] = (),
    ) -> None:  # fmt: skip
        self.differences, self.changes, self.before, self.readers = differences, changes, before, readers


def _compared(
    place: Catalogue, address: str, opened: Source, prints: Mapping[str, Fingerprint], known: Sequence[Report]
) -> _Compared:
    from oak_ledger import renamed_between, report_changes
    from oak_ledger.reference import recoded
    from oak_ledger.reference.differences import differences

    before = place.version(address)
    old = place.source(address, before.number)
    renamed = renamed_between(before.fingerprints, prints)
    changed = _changed_fields(old, opened, before.fingerprints, prints, renamed)
    changes = report_changes(known, old, opened, renamed, changed, recoded(opened, old))
    return _Compared(differences(old, opened, renamed), changes, before, place.reports.readers(address))


def _registered(place: Catalogue, name: str, known: Sequence[Report]) -> list[Report]:
    """The reports of the catalogue that one may see, but for those that lie here as files."""
    here = {one.about.name.casefold() for one in known}
    return [one.report for one in place.reports.all(name) if one.name.casefold() not in here]


def _onto(place: Catalogue, opened: Source) -> Source:
    """The working copy with its changes put onto the newest version, and written so."""
    from oak_ledger.cli.output_edits import write_edit

    if not opened.about.base:
        raise OakError(
            "base-unknown",
            "The definition does not say which version it was made from.",
            hint="Name it: base under [source].",
        )
    made = place.onto(opened)
    write_edit(opened, made)
    return made


def _keep_base(opened: Source, number: int) -> None:
    """Have the working copy say which version it is the base of now."""
    from oak_ledger.files import write_text

    if opened.path is not None and opened.about.base != number:
        write_text(opened.path, opened.document.replaced(opened.document.all("source")[0], {"base": number}).text)


def _show(found: _Compared, reports: int, dry_run: bool) -> None:
    from oak_ledger.present.consequences import consequences, difference_section
    from oak_ledger.present.sections import show_sections
    from oak_ledger.present.terminal import LEAF, QUIET, Text, console, plural

    if found.before is None:
        return
    out = console()
    was = f"version {found.before.number}"
    if found.differences:
        show_sections(out, [difference_section(found.differences, was)])
    out.print(Text(f"used by {plural(reports, 'report')}", style=QUIET))
    for reader, number, at in found.readers:
        out.print(Text(f"  {reader}, which saw version {number} on {at[:10]}", style=QUIET))
    if not found.changes:
        out.print(Text("no figure changes", style=LEAF))
        return
    out.print(Text("what changes in them:"))
    show_sections(out, consequences(found.changes, was, "working copy"))


def _said(version: Version | None, rows: int, findings: Sequence[Any], opened: Source, catalogue: str) -> None:
    from oak_ledger.present.terminal import QUIET, RUST, Text, console, counted, plural

    out, found_text = console(), counted(findings)
    if version is None:
        out.print(
            f"dry run: {opened.name} with {plural(rows, 'row')} would be published in {catalogue}; the check found {found_text}"
        )
        return
    seen = f"; seen by you{''.join(f', {one}' for one in version.viewers)}"
    out.print(Text.assemble(("draft", "bold"), f": version {version.number} of {version.source} in {version.area}, {plural(rows, 'row')}; the check found {found_text}{seen}"))  # fmt: skip
    if version.told:
        out.print(Text(version.told, style=RUST))
    out.print(Text(f"to make it the version that reports read: oak release '{version.source}'", style=QUIET))


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
        # a formula that is as it was only passes on what changed
        if was is None or rewritten or (values and not formulas[-1]):
            found.append(state.name)
    return found


def _as_json(one: Change) -> dict[str, Any]:
    kept = ("report", "panel", "measure", "before", "after", "broken", "because")
    return {
        **{name: getattr(one, name) for name in kept},
        "groups": [
            {"group": _key_texts(other.group), "before": other.before, "after": other.after} for other in one.groups
        ],
        "renamed": [{"before": _key_texts(before), "after": _key_texts(after)} for before, after in one.renamed],
    }


def _key_texts(group: Sequence[Any]) -> list[str | None]:
    return [None if key is None else str(key) for key in group]


def _write_page(to: str, name: str, found: _Compared, reports: int) -> None:
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


@click.command("versions")
@click.argument("name", required=False)
@click.option(
    "--compare",
    "compared",
    nargs=2,
    type=int,
    default=None,
    metavar="A B",
    help="Show how version B differs from version A: definition and numbers.",
)
@catalogue_option
@reports_option
@json_option("Versions")
def versions_command(
    name: str | None, compared: tuple[int, int] | None, catalogue: str, reports: str | None, as_json: bool
) -> int:
    """List the versions of the published source NAME that you may see, or --compare two of them; all sources without it."""
    from oak_ledger.present.terminal import LEAF, RUST, Text, console, grid, plural

    place = open_catalogue(catalogue)
    if compared is not None:
        if name is None:
            raise click.UsageError("Name the source whose versions are to be compared.")
        return _compare(place, name, compared, reports, as_json)
    names = [name] if name else place.sources()
    versions = [version for one in names for version in place.versions(one)]
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


def _compare(place: Catalogue, name: str, numbers: tuple[int, int], reports: str | None, as_json: bool) -> int:
    from oak_ledger import find_reports, renamed_between, report_changes
    from oak_ledger.present.consequences import consequences, difference_section
    from oak_ledger.present.sections import show_sections
    from oak_ledger.present.terminal import console
    from oak_ledger.reference import recoded
    from oak_ledger.reference.differences import differences

    with progress_of("comparing"):
        versions = [place.version(name, number) for number in numbers]
        before, after = (place.source(name, number) for number in numbers)
        renamed = renamed_between(versions[0].fingerprints, versions[1].fingerprints)
        files = find_reports(reports or ".", before.name)
        known = [*files, *_registered(place, name, files)]
        changed = _changed_fields(before, after, versions[0].fingerprints, versions[1].fingerprints, renamed)
        changes = report_changes(known, before, after, renamed, changed, recoded(after, before))
        found = differences(before, after, renamed)
    if as_json:
        print_json(
            {
                "versions": [one.as_json() for one in versions],
                "differences": [one.as_json() for one in found],
                "changes": [_as_json(one) for one in changes],
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


@click.command("checkout")
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
