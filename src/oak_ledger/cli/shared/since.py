"""What check and mend look at first: a working copy beside its released version, and what is broken through what."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, NamedTuple

from oak_ledger.cli.shared.app import has_catalogue, open_catalogue
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.catalogue import Version
    from oak_ledger.reference import Cause
    from oak_ledger.reference.since import Since
    from oak_ledger.report import Report
    from oak_ledger.source import Source


class LookedAt(NamedTuple):
    """The released version, if there is one, and its rows; what differs since; the causes of what is broken."""

    last: Version | None
    before: Source | None
    since: Since
    causes: list[Cause]


def released(source: Source, catalogue: str) -> tuple[Version | None, Source | None]:
    """The released version of a source, and it opened; None where there is none."""
    place = open_catalogue(catalogue) if has_catalogue(catalogue) else None
    last = place.released(source.name) if place is not None else None
    return last, place.source(last.source, last.number) if place is not None and last is not None else None


def looked_at(source: Source, reports: Sequence[Report], catalogue: str) -> LookedAt:
    """Compare a source with its released version, and find the causes of what is broken in it and in its reports."""
    from oak_ledger import candidates
    from oak_ledger.reference import ReportErrors, causes
    from oak_ledger.reference.since import Since, since_version

    last, before = released(source, catalogue)
    if last is None or before is None:
        gone = any(finding.code == "missing-column" for state in source.fields for finding in state.findings)
        since = Since(candidates(source, None) if gone else {}, ())
    else:
        since = since_version(source, before, last.number, last.fingerprints, [report.document for report in reports])
    checked = [ReportErrors(report.path, report.document, tuple(report.errors(source))) for report in reports]
    return LookedAt(last, before, since, causes(source, checked, since.offered, _names(source, before)))


def _names(source: Source, before: Source | None) -> dict[str, str]:
    """The names that fields had, as the log of edits and the released version show."""
    from oak_ledger.definition.edits import names_in_log
    from oak_ledger.insight.fingerprint import names_before

    known: dict[str, str] = {}
    with suppress(OakError):  # a log that cannot be read is said where it is needed
        known = names_in_log(source.path) if source.path is not None else {}
        if before is not None:
            known |= {old: new for new, old in names_before(source, before.opened, before.document).items()}
    return known
