"""`oak check`."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import (
    attention,
    catalogue_option,
    has_catalogue,
    json_option,
    open_working,
    print_json,
    reports_of,
    reports_option,
)
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.cli.shared.since import looked_at, released
from oak_ledger.errors import Finding, OakError

if TYPE_CHECKING:
    from oak_ledger.reference import Candidate, Cause, Entry
    from oak_ledger.reference.elsewhere import Elsewhere
    from oak_ledger.reference.since import Since
    from oak_ledger.source import Source


STEPS = ("checking fields and totals", "comparing with the released version", "checking reports")


@click.command("check")
@click.argument("source")
@catalogue_option
@reports_option
@json_option("Check")
def check_command(source: str, catalogue: str, reports: str | None, as_json: bool) -> int:
    """Prove SOURCE: what is broken and through what, which totals mislead, what changed since it was last published.

    Every warning has its numbers: what the wrong total says and what the right one says, how many rows are lost. With errors, the
    reports that would break are named panel by panel.
    """
    from oak_ledger.reference.elsewhere import elsewhere, unreadable

    with progress_of(*STEPS) as progress:
        opened = open_working(source, progress)
        error = unreadable(opened)
        if error is not None:
            return _unreadable(opened, error, elsewhere(opened, released(opened, catalogue)[1]), source, as_json)
        findings = opened.check()
        progress.next()
        known = reports_of(opened, reports, catalogue, findings)
        last, _, since, causes = looked_at(opened, known, catalogue)
        if last is None:
            findings.append(_not_compared(opened, catalogue))
        findings += [*since.written_otherwise(opened), *since.findings]
        progress.next()
        findings += [finding for report in known for finding in report.hiding(opened)]
    broken = {cause.finding.code for cause in causes}
    findings = [
        finding for finding in findings if finding.severity != "error" or finding.code not in broken | {"broken-field"}
    ]
    panels = sum(len(report.panels) for report in known), sum(len(report.local_fields) for report in known)
    whole = _Whole(opened, causes, since, panels)
    if as_json:
        print_json(
            {
                "findings": [finding.as_json() for finding in findings],
                "causes": [_cause_as_json(cause) for cause in causes],
                "moved": [_candidate_as_json(candidate) for candidate in whole.moved],
                "working": whole.working,
            }
        )
    else:
        _show(whole, findings, source)
    return 1 if causes or whole.moved else attention(findings)


def _unreadable(source: Source, error: OakError, places: Sequence[Elsewhere], name: str, as_json: bool) -> int:
    """Rows that cannot be read where they were: one cause of everything, and where they may be now."""
    from oak_ledger.present.terminal import LEAF, RUST, Text, console, plural
    from oak_ledger.reference import Cause

    cause = Cause(error.message.removesuffix("."), error.findings[0], ())
    if as_json:
        offered = [{"field": "", "gone": place.gone, "column": place.now, "score": 1.0 if place.sure else 0.5, "sure": place.sure, "evidence": place.sentence()} for place in places]  # fmt: skip
        shown = {**_cause_as_json(cause), "candidates": offered}
        fields = len(source.document.all("field"))
        working = {"fields": fields, "working_fields": 0, "panels": 0, "working_panels": 0}
        print_json({"findings": [], "causes": [shown], "moved": [], "working": working})
        return 1
    out = console()
    said = plural(len(source.document.all("field")), "field")
    out.print(Text.assemble(("error ", f"bold {RUST}"), (cause.what, "bold"), f": none of {said} can be read"))
    for at, use in enumerate(places):
        likely = ("is now " if use.sure else "may be ", LEAF if use.sure else "")
        out.print(Text.assemble("  ", likely if at == 0 else ("or ", ""), use.sentence()))
    if not places:
        out.print(Text("  nothing beside it has its columns" + (f"\n  → {error.findings[0].hint}" if error.findings[0].hint else "")))  # fmt: skip
    for use in places[:1]:
        out.print(Text(f"\nto repair: oak mend {name} {use.repair()} --dry-run"), soft_wrap=True)
    return 1


@dataclass(frozen=True, slots=True)
class _Whole:
    """What a check found out about references: causes, columns that changed places, and how much works."""

    source: Source
    causes: list[Cause]
    since: Since
    reports: tuple[int, int]

    @property
    def moved(self) -> list[Candidate]:
        """The fields whose column holds something else now."""
        return self.since.moved

    @property
    def working(self) -> dict[str, int]:
        """How many fields and panels there are, and how many of them work."""
        panels = {(entry.file, entry.name) for cause in self.causes for entry in cause.entries if entry.kind == "panel"}
        fields = self.source.fields
        return {
            "fields": len(fields),
            "working_fields": sum(not state.broken for state in fields),
            "panels": self.reports[0],
            "working_panels": self.reports[0] - len(panels),
        }


def _not_compared(source: Source, catalogue: str) -> Finding:
    there = has_catalogue(catalogue)
    why = f"no version of it is released in {catalogue}" if there else f"there is no catalogue in {catalogue!r}"
    hint = "Name the catalogue with --catalogue; a first version has nothing to be compared with."
    return Finding(
        "not-compared", f"Nothing was compared with a published version: {why}.", source.document.place(), hint, "note"
    )


def _cause_as_json(cause: Cause) -> dict[str, Any]:
    return {
        "what": cause.what,
        "finding": cause.finding.as_json(),
        "entries": [{"file": entry.file, "kind": entry.kind, "name": entry.name} for entry in cause.entries],
        "candidates": [_candidate_as_json(candidate) for candidate in cause.candidates],
    }


def _candidate_as_json(candidate: Candidate) -> dict[str, Any]:
    return {
        "field": candidate.field,
        "gone": candidate.gone,
        "column": candidate.column,
        "score": round(candidate.score, 3),
        "sure": candidate.sure,
        "evidence": candidate.sentence(),
    }


def _show(whole: _Whole, findings: list[Finding], name: str) -> None:
    from oak_ledger.present.terminal import LEAF, QUIET, RUST, Text, console, counted, findings_list, plural
    from oak_ledger.reference import counted_entries

    out, source = console(), whole.source
    for cause in whole.causes:
        out.print(
            Text.assemble(("error ", f"bold {RUST}"), (cause.what, "bold"), f": {counted_entries(cause.entries)}")
        )
        if cause.finding.code != "missing-column" and cause.finding.message.rstrip(".") != cause.what:
            out.print(Text(f"  {cause.finding.message}"))
        if cause.finding.code != "missing-column" and cause.finding.hint:
            out.print(Text(f"  → {cause.finding.hint}"))
        for file, entries in _by_file(cause.entries):
            out.print(Text(f"  {file}: {', '.join(entries)}", style=QUIET))
        _show_candidates(cause.candidates, missing=cause.finding.code == "missing-column")
        out.print()
    for candidate in whole.moved:
        out.print(
            Text.assemble(("error ", f"bold {RUST}"), (f"column {candidate.gone!r} holds something else now", "bold"))
        )
        _show_candidates([candidate], missing=False)
        out.print()
    repairs = [listed[0] for listed in whole.since.offered.values() if listed and (listed[0].sure or listed[0].moved)]
    repairs += [
        candidate
        for cause in whole.causes
        for candidate in cause.candidates[:1]
        if candidate.values is None and candidate.sure
    ]
    if repairs:
        said = (
            "--sure" if any(repair.reading for repair in repairs) else " ".join(repair.repair() for repair in repairs)
        )
        out.print(Text(f"to repair: oak mend {name} {said} --dry-run"), soft_wrap=True)
        out.print()
    if findings:
        out.print(findings_list(findings))
        out.print()
    if whole.causes or whole.moved:
        counts = whole.working
        still = f"{counts['working_fields']:,} of {plural(counts['fields'], 'field')}"
        still += f" and {counts['working_panels']:,} of {plural(counts['panels'], 'panel')}" if counts["panels"] else ""
        new = [column for column in source.new_columns() if source.compiled.origin_schema]
        out.print(Text.assemble((still, LEAF), f" still work; new columns: {', '.join(new) or 'none'}"))
    attention_needed = [finding for finding in findings if finding.severity != "note"]
    if not whole.causes and not whole.moved and not attention_needed:
        out.print(
            Text.assemble(("no problems", LEAF), f" in the {plural(len(source.fields), 'field')} of {source.name}")
        )
        return
    rest = [finding for finding in findings if finding.severity != "error"]
    errors = len(whole.causes) + len(whole.moved) + len(findings) - len(rest)
    said = ", ".join(one for one in (plural(errors, "error") if errors else "", counted(rest) if rest else "") if one)
    out.print(Text(f"found: {said}", style="bold"))


def _show_candidates(offered: Sequence[Candidate], *, missing: bool) -> None:
    from oak_ledger.present.terminal import LEAF, Text, console

    for at, candidate in enumerate(offered[:2]):
        said = "  is now " if candidate.sure and not at else "  may be " if not at else "  or "
        console().print(Text.assemble((said, LEAF), candidate.sentence()))
    if missing and not offered:
        console().print(Text("  no column of the origin looks like it"))


def _by_file(entries: Iterable[Entry]) -> Iterator[tuple[str, list[str]]]:
    """Entries by file, in their order; of many the first."""
    files: dict[str, list[str]] = {}
    for entry in entries:
        files.setdefault(entry.file, []).append(entry.title)
    for file, titles in files.items():
        yield file, [*titles[:8], *([f"{len(titles) - 8} more"] if len(titles) > 8 else [])]
