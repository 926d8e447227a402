"""`oak report new`, and the verbs for fields that live in a report: add, drop, locals, lift."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.report.rendering import report_command
from oak_ledger.cli.shared.app import (
    catalogue_option,
    draft_option,
    json_option,
    open_any,
    open_working,
    print_json,
    reports_of,
    reports_option,
)
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.report import Report
    from oak_ledger.source import Source


@report_command.command("new")
@click.argument("source")
@click.option("--name", default=None, help="The report's name  [default: the source's]")
@click.option("--to", default=None, metavar="FILE", help="The file to write  [default: NAME.report.toml]")
@catalogue_option
@draft_option
@json_option("NewReport")
def new_command(source: str, name: str | None, to: str | None, catalogue: str, draft: bool, as_json: bool) -> None:
    """Write a first report of SOURCE, to be changed by hand: totals, bars and a table."""
    from oak_ledger.cli.shared.app import is_dry_run
    from oak_ledger.files import write_text
    from oak_ledger.present.terminal import say
    from oak_ledger.report.local import first_report

    opened = open_any(source, catalogue, draft=draft)
    report = first_report(opened, name or opened.name, Path())
    path = Path(to) if to else report.path or Path("report.report.toml")
    if path.exists():
        raise OakError(
            "file-exists", f"{path} already exists and was not changed.", hint="Choose another file with --to."
        )
    if not is_dry_run():
        write_text(path, report.document.text)
    if as_json:
        print_json({"file": str(path), "panels": len(report.panels), "written": not is_dry_run()})
    said = "would be written" if is_dry_run() else "written"
    say(f"{said}: {path}, {len(report.panels)} panels; to see it: oak report render {path}")


def _write(before: Report, after: Report) -> None:
    """Write a report, and keep the edit in its own log."""
    from oak_ledger.cli.shared.output_edits import apply_files
    from oak_ledger.definition.edits import FileEdit

    if before.path is not None:
        apply_files(before.path, [FileEdit(before.path, before.document.text, after.document.text)])


@report_command.command("add")
@click.argument("report")
@click.argument("name")
@click.argument("formula")
@click.option("--format", "format_text", default="", help="How values are shown, such as 0,000.00.")
@click.option("--description", default="", help="What it means.")
@click.option("--replace", is_flag=True, help="Replace the formula of the report's field of that name.")
@click.option("--source", "working", default=None, metavar="FILE", help="Check it against a working definition.")
@catalogue_option
@draft_option
def add_command(
    report: str,
    name: str,
    formula: str,
    format_text: str,
    description: str,
    replace: bool,
    working: str | None,
    catalogue: str,
    draft: bool,
) -> None:
    """Add a calculated field that lives in REPORT only. It may use shared fields and others of the report."""
    from oak_ledger import open_report
    from oak_ledger.report.local import with_local_field

    before = open_report(report)
    source = open_working(working) if working else open_any(before.about.source, catalogue, draft=draft)
    keys: dict[str, Any] = {"format": format_text, "description": description}
    _write(before, with_local_field(before, source, name, formula, replace=replace, **keys))


@report_command.command("drop")
@click.argument("report")
@click.argument("name")
def drop_command(report: str, name: str) -> None:
    """Remove a field that lives in REPORT."""
    from oak_ledger import open_report
    from oak_ledger.report.local import without_local_field

    before = open_report(report)
    _write(before, without_local_field(before, name))


@report_command.command("locals")
@click.argument("folder", default=".")
@json_option("Locals")
def locals_command(folder: str, as_json: bool) -> None:
    """List formulas that several reports in FOLDER repeat, also where they are written differently."""
    from oak_ledger import find_reports
    from oak_ledger.present.terminal import console, grid
    from oak_ledger.report.local import repeated_formulas

    repeateds = repeated_formulas(find_reports(folder))
    if as_json:
        places = [[{"file": file, "field": name} for file, name in repeated.places] for repeated in repeateds]
        print_json(
            {
                "formulas": [
                    {"formula": repeated.formula, "places": at} for repeated, at in zip(repeateds, places, strict=True)
                ]
            }
        )
        return
    if not repeateds:
        console().print("no formula is in more than one report")
        return
    table = grid("formula", "report", "field")
    for one in repeateds:
        for at, (file, name) in enumerate(one.places):
            table.add_row(" ".join(one.formula.split()) if not at else "", file, name)
    console().print(table)
    console().print("to share one: oak report lift SOURCE FIELD")


@report_command.command("lift")
@click.argument("source")
@click.argument("name")
@click.option("--from", "owner", default=None, metavar="REPORT", help="The report whose field it is.")
@reports_option
def lift_command(source: str, name: str, owner: str | None, reports: str | None) -> None:
    """Move a field from reports into SOURCE; every report that repeats its formula uses the shared field instead."""
    from oak_ledger import open_report
    from oak_ledger.cli.shared.output_edits import apply
    from oak_ledger.report.local import plan_lift

    opened = open_working(source)
    apply(plan_lift(opened, reports_of(opened, reports), name, open_report(owner) if owner else None), dry_run=False)


@report_command.command("retarget")
@click.argument("report")
@click.argument("source")
@click.option(
    "--map",
    "mapping",
    multiple=True,
    metavar="OLD=NEW",
    help="What a field of the report is called in SOURCE; may be repeated.",
)
@click.option("--to", default=None, metavar="FILE", help="Write another report, and leave this one as it is.")
def retarget_command(report: str, source: str, mapping: tuple[str, ...], to: str | None) -> int:
    """Point REPORT at SOURCE, a similar source; every place that names a field follows the mapping."""
    from oak_ledger import open_report
    from oak_ledger.cli.shared.app import pairs
    from oak_ledger.cli.shared.output_edits import apply_files
    from oak_ledger.definition.edits import FileEdit
    from oak_ledger.present.terminal import console, findings_list
    from oak_ledger.report.local import retargeted

    before, target = open_report(report), open_working(source)
    after = retargeted(before, target, pairs(mapping, "a mapping"), f"{before.about.name}, {target.name}" if to else "")
    path = Path(to) if to else before.path
    if path is None:
        return 0
    if to and path.exists():
        raise OakError(
            "file-exists", f"{path} already exists and was not changed.", hint="Choose another file with --to."
        )
    broken = after.errors(target)
    facts = {"broken": [finding.as_json() for finding in broken]}
    apply_files(path, [FileEdit(path, "" if to else before.document.text, after.document.text)], facts=facts)
    if broken:
        console().print(findings_list(broken))
        _offer(before, after, target)
    return 1 if broken else 0


def _offer(before: Report, after: Report, target: Source) -> None:
    """Fields of the new source that may be what the report names, where its own source can be read."""
    from oak_ledger.definition.references import references
    from oak_ledger.present.terminal import LEAF, Text, console
    from oak_ledger.reference.graft import suggestions

    own = {local_field.name.casefold() for local_field in after.local_fields} | {*target.compiled.states}
    missing = dict.fromkeys(
        reference.name for reference in references(after.document) if reference.name.casefold() not in own
    )
    wanted = before.about.source.rpartition("/")[2].casefold()
    with suppress(OakError):
        origin = next((source for path in sorted(Path().glob("*.oak.toml")) if (source := open_working(str(path))).name.casefold() == wanted), None)  # fmt: skip
        if origin is None:
            return
        names = [name for name in missing if name.casefold() in origin.compiled.states]
        for name, other in suggestions(origin, names, target).items():
            console().print(Text.assemble((f"{name} may be ", LEAF), f"{other}: --map '{name}={other}'"))


report_command.commands = {
    name: report_command.commands[name]
    for name in ("list", "new", "render", "check", "add", "drop", "locals", "lift", "retarget")
}
__all__ = ["report_command"]
