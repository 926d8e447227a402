"""`oak report list`, `oak report render`, `oak report check`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from oak_ledger.cli.shared.app import (
    Verbs,
    at_option,
    attention,
    baseline_option,
    catalogue_option,
    compared_with,
    draft_option,
    has_catalogue,
    json_option,
    open_catalogue,
    open_working,
    print_json,
    with_own_baseline,
)
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.errors import Finding
    from oak_ledger.report import Report
    from oak_ledger.source import Source


@click.group("report", cls=Verbs)
def report_command() -> None:
    """Render and check reports. A report reads the released version of its source unless set otherwise."""


@report_command.command("list")
@click.argument("folder", default=".")
@json_option("Reports")
def list_command(folder: str, as_json: bool) -> None:
    """List the reports in FOLDER and below."""
    from oak_ledger import find_reports
    from oak_ledger.present.terminal import console, grid

    reports = find_reports(folder)
    if as_json:
        entries = [
            {
                "report": report.about.name,
                "source": report.about.source,
                "owner": report.about.owner,
                "panels": len(report.panels),
                "file": str(report.path),
            }
            for report in reports
        ]
        print_json({"reports": entries})
        return
    if not reports:
        console().print(f"no reports in {folder}")
        return
    table = grid("report", "source", "panels", "owner", "file", right=(2,))
    for report in reports:
        table.add_row(
            report.about.name, report.about.source, str(len(report.panels)), report.about.owner, str(report.path)
        )
    console().print(table)


def source_of(report: Report, catalogue: str, draft: bool, number: int | None, working: str | None) -> Source:
    """The source that a report is computed over, as the options say."""
    if working is not None:
        return open_working(working)
    return open_catalogue(catalogue).source(report.about.source, number, drafts=draft)


def a_report(name: str, catalogue: str) -> Report:
    """A report by its file, or by its name in the catalogue."""
    from oak_ledger import open_report

    if Path(name).exists() or name.endswith(".toml") or not has_catalogue(catalogue):
        return with_own_baseline(open_report(name), catalogue)
    return with_own_baseline(open_catalogue(catalogue).reports.get(name).report, catalogue)


def news(report: Report, source: Source, catalogue: str) -> str:
    """What changed in a report's source since it was last looked at, in words; empty where nothing did."""
    from oak_ledger import renamed_between
    from oak_ledger.reference.differences import differences

    place = open_catalogue(catalogue)
    address = report.about.source
    last = place.reports.looked(address, f"report {report.about.name}")
    if source.published is None or last in (0, source.published.number):
        return ""
    before = place.source(address, last)
    prints = (place.version(address, number).fingerprints for number in (last, source.published.number))
    found = differences(before, source, renamed_between(*prints))
    said = [sentence for difference in found if (sentence := difference.sentence())]
    more = f" and {len(said) - 5} more" if len(said) > 5 else ""
    shown = "; ".join(said[:5]) + more if said else "other rows, the same fields"
    return f"since you last looked: version {source.published.number} instead of {last}; {shown}"


@report_command.command("render")
@click.argument("report")
@click.option("--to", multiple=True, metavar="FILE", help="Write a page (.html) or a picture (.png); may be repeated.")
@click.option("--version", "number", type=int, default=None, help="Read this version of the source.")
@click.option(
    "--source", "working", default=None, metavar="FILE", help="Read a working definition instead of a published source."
)
@baseline_option
@catalogue_option
@draft_option
@at_option
@json_option("Report")
def render_command(
    report: str,
    to: tuple[str, ...],
    number: int | None,
    working: str | None,
    baseline: str | None,
    catalogue: str,
    draft: bool,
    at: str | None,
    as_json: bool,
) -> int:
    """Compute REPORT (a file, or a report of the catalogue) afresh and show it in the terminal, or write it --to a file.

    A report of the catalogue also says what changed in its source since it was last looked at.
    """
    from oak_ledger import save_report
    from oak_ledger.present.panels import show_report
    from oak_ledger.present.terminal import console, say

    opened, seen = a_report(report, catalogue), ""
    with progress_of("computing panels"):
        if at is not None:
            source = open_catalogue(catalogue).snapshots.source_at(opened.about.source, at)
        else:
            source = source_of(opened, catalogue, draft, number, working)
        if opened.path is None and at is None and working is None:
            seen = news(opened, source, catalogue)
        view = opened.view(compared_with(source, baseline, catalogue))
        written = [save_report(view, name) for name in to]
    for path in written:
        say(f"written: {path} ({view.source}, {view.version})")
    if as_json:
        print_json({**view.as_json(), "written": [str(path) for path in written]})
    elif not written:
        if seen:
            say(seen)
        show_report(view, console())
    return 1 if any(finding.severity == "error" for finding in view.findings) else 0


@report_command.command("check")
@click.argument("reports", nargs=-1, required=True)
@click.option(
    "--source",
    "working",
    default=None,
    metavar="FILE",
    help="Check against a working definition instead of a published source.",
)
@catalogue_option
@draft_option
@json_option("ReportChecks")
def check_command(reports: tuple[str, ...], working: str | None, catalogue: str, draft: bool, as_json: bool) -> int:
    """Check REPORTS (files, or folders of them): what is broken or misleads, panel by panel."""
    from oak_ledger import check_reports, find_reports, open_report
    from oak_ledger.present.terminal import LEAF, Text, console, counted, findings_list, plural

    opened = [
        find_report
        for name in reports
        for find_report in (find_reports(name) if Path(name).is_dir() else [open_report(name)])
    ]
    opened = [with_own_baseline(report, catalogue) for report in opened]
    if not opened:
        raise OakError(
            "no-reports",
            f"There is no report in {', '.join(reports)}.",
            hint="Reports are files named NAME.report.toml.",
        )
    results: dict[int, list[Finding]] = {}
    by_source: dict[str, list[int]] = {}
    for at, report in enumerate(opened):
        by_source.setdefault(report.about.source.casefold(), []).append(at)
    with progress_of("checking reports"):
        for places in by_source.values():
            try:
                source = source_of(opened[places[0]], catalogue, draft, None, working)
                results |= dict(zip(places, check_reports([opened[at] for at in places], source), strict=True))
            except OakError as error:  # the source; reports of other sources are checked all the same
                if len(by_source) == 1:
                    raise
                results |= {at: list(error.findings) for at in places}
    checked = [(report, results[at]) for at, report in enumerate(opened)]
    if as_json:
        print_json(
            {
                "reports": [
                    {
                        "report": report.about.name,
                        "file": str(report.path),
                        "findings": [finding.as_json() for finding in findings],
                    }
                    for report, findings in checked
                ]
            }
        )
        return attention(finding for _, found in checked for finding in found)
    out = console()
    for report, found in checked:
        sound = Text.assemble(("sound", LEAF), f", {plural(len(report.panels), 'panel')}")
        out.print(Text.assemble((report.about.name, "bold"), "  ", sound if not found else Text(counted(found))))
        if found:
            out.print(findings_list(found))
    return attention(finding for _, found in checked for finding in found)
