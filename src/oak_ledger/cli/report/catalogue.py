"""`oak report publish`, `oak report shared`, `oak report waiting`, `oak report accept`: reports in the catalogue."""

from __future__ import annotations

import difflib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.report.fields import report_command
from oak_ledger.cli.shared.app import catalogue_option, confirmed, json_option, open_catalogue, print_json, yes_option
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.catalogue import Registered


def _as_json(registered: Registered) -> dict[str, Any]:
    kept = ("area", "owner", "source", "number", "at", "by", "note", "waiting")
    return {"report": registered.name, **{name: getattr(registered, name) for name in kept}}


@report_command.command("publish")
@click.argument("report")
@click.option("--area", default="", help="Where a new report goes  [default: the area of its source]")
@click.option("--note", default="", help="What is new in it.")
@click.option(
    "--replace", is_flag=True, help="Also where the report of that name reads another source, or is somebody else's."
)
@catalogue_option
@json_option("SharedReport")
def publish_report_command(report: str, area: str, note: str, replace: bool, catalogue: str, as_json: bool) -> None:
    """Put the file REPORT into the catalogue, or a new state of it; you own it."""
    from oak_ledger import open_report
    from oak_ledger.present.terminal import say

    done = open_catalogue(catalogue).reports.publish(open_report(report), area=area, note=note, replace=replace)
    if as_json:
        print_json(_as_json(done))
    say(f"published: report {done.name}, state {done.number}, in {done.area}; it reads {done.source}")


@report_command.command("shared")
@click.option("--of", "source", default="", metavar="SOURCE", help="Those that read this source.")
@catalogue_option
@json_option("SharedReports")
def shared_command(source: str, catalogue: str, as_json: bool) -> None:
    """List the reports of the catalogue that you may see."""
    from oak_ledger.present.terminal import console, grid

    place = open_catalogue(catalogue)
    registereds = place.reports.all(source)
    if as_json:
        print_json({"reports": [_as_json(registered) for registered in registereds]})
        return
    table = grid("report", "source", "owner", "area", "state", "changed", "waiting", right=(4,))
    for registered in registereds:
        table.add_row(
            registered.name,
            registered.source,
            registered.owner,
            registered.area,
            str(registered.number),
            f"{registered.at[:16]} by {registered.by}",
            f"{registered.waiting} change" if registered.waiting else "",
        )
    console().print(table if registereds else "no reports that you may see; oak report publish puts one there")


@report_command.command("fetch")
@click.argument("name")
@click.option("--to", default=None, metavar="FILE", help="The file to write  [default: NAME.report.toml]")
@catalogue_option
@json_option("FetchedReport")
def fetch_command(name: str, to: str | None, catalogue: str, as_json: bool) -> None:
    """Write the report NAME of the catalogue to a file, to be changed and published again."""
    from oak_ledger.files import write_text
    from oak_ledger.present.terminal import say

    registered = open_catalogue(catalogue).reports.get(name)
    path = Path(to or f"{'_'.join(registered.name.casefold().split())}.report.toml")
    if path.exists():
        raise OakError(
            "file-exists", f"{path} already exists and was not changed.", hint="Choose another file with --to."
        )
    write_text(path, registered.report.document.text)
    if as_json:
        print_json({"file": str(path), "state": registered.number})
    say(f"written: {path}, state {registered.number}")


@report_command.command("propose")
@click.argument("report")
@click.option("--note", default="", help="Why.")
@catalogue_option
@json_option("Written")
def propose_command(report: str, note: str, catalogue: str, as_json: bool) -> None:
    """Leave the file REPORT for the owner of the report of that name to accept."""
    from oak_ledger import open_report
    from oak_ledger.present.terminal import say

    opened = open_report(report)
    open_catalogue(catalogue).reports.propose(opened.about.name, opened.document.text, note=note)
    if as_json:
        print_json({"what": "propose", "on": opened.about.name})
    say(f"the change waits for the owner of {opened.about.name}")


@report_command.command("waiting")
@click.argument("name")
@catalogue_option
@json_option("WaitingChanges")
def waiting_command(name: str, catalogue: str, as_json: bool) -> None:
    """Show the change that waits for the owner of the report NAME, line by line."""
    from oak_ledger.present.terminal import LEAF, RUST, Text, console

    reports = open_catalogue(catalogue).reports.waiting(name)
    if as_json:
        print_json(
            {
                "waiting": [
                    {
                        "change": report.number,
                        "report": report.report,
                        "by": report.by,
                        "at": report.at,
                        "note": report.note,
                        "before": report.before,
                        "after": report.after,
                    }
                    for report in reports
                ]
            }
        )
        return
    out = console()
    for report in reports:
        out.print(
            f"{report.report}, change {report.number}: {report.note or 'a change'}, left by {report.by}, {report.at}"
        )
        for line in list(difflib.unified_diff(report.before.splitlines(), report.after.splitlines(), lineterm="", n=0))[
            2:
        ]:
            if line[:1] in "+-":
                out.print(Text(f"  {line[0]} {line[1:]}", style=LEAF if line[0] == "+" else RUST))
    if not reports:
        out.print(f"nothing waits for {name}")
    else:
        out.print(f"to take it over: oak report accept {name!r} --change {reports[-1].number}")


@report_command.command("accept")
@click.argument("name")
@click.option(
    "--change",
    "number",
    type=int,
    default=None,
    metavar="NUMBER",
    help="Which, as oak report waiting shows it  [default: the only one]",
)
@catalogue_option
@yes_option
@json_option("SharedReport")
def accept_command(name: str, number: int | None, catalogue: str, yes: bool, as_json: bool) -> None:
    """Take over the change that waits for the report NAME of the catalogue."""
    from oak_ledger.present.terminal import say

    reports = open_catalogue(catalogue).reports
    waiting = reports.waiting(name)
    if number is None and len(waiting) == 1:
        number = waiting[0].number  # exactly the one that is asked about
    confirmed(f"The report {name} will change.", yes=yes)
    done = reports.accept(name, number)
    if as_json:
        print_json(_as_json(done))
    say(f"accepted: report {done.name} is at state {done.number}")


report_command.commands = {
    name: report_command.commands[name]
    for name in (
        "list",
        "new",
        "render",
        "check",
        "publish",
        "shared",
        "fetch",
        "propose",
        "waiting",
        "accept",
        "add",
        "drop",
        "locals",
        "lift",
        "retarget",
    )
}
__all__ = ["report_command"]
