"""A working copy beside the version that reports read: how the definitions differ, who uses it, which figures change."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from oak_ledger.errors import Finding

if TYPE_CHECKING:
    from oak_ledger.catalogue import Catalogue, Version
    from oak_ledger.insight import Fingerprint
    from oak_ledger.reference.differences import Difference
    from oak_ledger.report import Change, Report
    from oak_ledger.source import Source


class Compared(NamedTuple):
    """A working copy against the released version: how definitions differ, which figures change, who has read it (reader, version, when)."""

    differences: Sequence[Difference] = ()
    changes: Sequence[Change] = ()
    before: Version | None = None
    readers: Sequence[tuple[str, int, str]] = ()
    findings: Sequence[Finding] = ()


def compared(
    place: Catalogue, address: str, opened: Source, prints: Mapping[str, Fingerprint], known: Sequence[Report]
) -> Compared:
    """A source, with its fingerprints, beside the released version at this address; the reports are written for it."""
    from oak_ledger import renamed_between, report_changes
    from oak_ledger.reference import recoded
    from oak_ledger.reference.differences import changed_fields, differences
    from oak_ledger.reference.since import since_version

    before = place.version(address)
    old = place.source(address, before.number)
    renamed = renamed_between(before.fingerprints, prints)
    changed = changed_fields(old, opened, before.fingerprints, prints, renamed)
    changes = report_changes(known, old, opened, renamed, changed, recoded(opened, old))
    since = since_version(opened, old, before.number, before.fingerprints, [report.document for report in known])
    return Compared(
        differences(old, opened, renamed), changes, before, place.reports.readers(address), since.told(opened)
    )


def registered(place: Catalogue, name: str, known: Sequence[Report]) -> list[Report]:
    """The reports of the catalogue that one may see, as they will be at the release, but for those that lie here as files."""
    here = {report.about.name.casefold() for report in known}
    return [one.report for one in place.reports.followed(name) if one.name.casefold() not in here]


def show_compared(found: Compared, reports: int) -> None:
    """Print it; nothing where nothing is released."""
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
