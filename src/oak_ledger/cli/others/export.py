"""`oak export`: rows to a file, and what else is made for others: a view, a statement, a dictionary."""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

import click

from oak_ledger.cli.others.dictionary import dictionary_command
from oak_ledger.cli.others.sql import sql_command
from oak_ledger.cli.others.view import view_command
from oak_ledger.cli.shared.app import (
    at_option,
    baseline_option,
    catalogue_option,
    draft_option,
    json_option,
    open_any,
    print_json,
    where_option,
    which,
    with_default,
)
from oak_ledger.cli.shared.progress import progress_of


@click.group("export", cls=with_default("rows"))
def export_command() -> None:
    """Write what others use: oak export SOURCE --to FILE is oak export rows SOURCE --to FILE."""


@export_command.command("rows")
@click.argument("source")
@click.option(
    "--to",
    "target",
    required=True,
    metavar="FILE",
    help="A file ending in .parquet, .arrow, .csv or .xlsx; - writes CSV to standard output.",
)
@click.option(
    "--describe",
    is_flag=True,
    help="Write datapackage.json beside it: the fields, their types and meanings, as a Data Package.",
)
@click.option("--exact", is_flag=True, help="In CSV, leave texts as they are that a spreadsheet would run.")
@click.option(
    "--byte-order-mark", "marked", is_flag=True, help="Begin CSV with the mark by which spreadsheets know UTF-8."
)
@click.option("--show", "-s", multiple=True, metavar="FIELD", help="Only these fields or formulas; may be repeated.")
@click.option("--hidden", is_flag=True, help="Include hidden fields (for a baseline).")
@where_option
@baseline_option
@catalogue_option
@draft_option
@at_option
@json_option("Export")
def export_rows_command(
    source: str,
    target: str,
    show: tuple[str, ...],
    hidden: bool,
    where: str | None,
    baseline: str | None,
    catalogue: str,
    draft: bool,
    at: str | None,
    describe: bool,
    exact: bool,
    marked: bool,
    as_json: bool,
) -> int:
    """Write the rows of SOURCE, with every row value computed, to a file or to standard output: whole or not at all.

    Values in Parquet and Arrow files keep their types; in CSV text is in quotes, and null is empty. Texts that a spreadsheet would run as a formula are
    made harmless in CSV, and are texts in a workbook.
    """
    from oak_ledger.present.terminal import console, faults_lines, findings_list, plural
    from oak_ledger.source.whole import left_out

    with progress_of("writing") as progress:
        opened = open_any(source, catalogue, draft=draft, baseline=baseline, at=at, progress=progress)
        fields = [opened.measure(item) for item in show] or opened.row_fields(hidden=hidden)
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "rows.csv" if target == "-" else Path(target)
            result = opened.write(file, fields, where=where, exact=exact, marked=marked)
            if target == "-":
                with file.open(encoding="utf-8", newline="") as rows:
                    shutil.copyfileobj(rows, sys.stdout)
    missing = [*result.findings, *([] if show else left_out(opened))]
    attend = 1 if any(finding.severity != "note" for finding in missing) else 0
    if describe and target != "-":
        from oak_ledger.explain.package import describe as describe_file

        described = describe_file(
            opened, result, [expression.name for expression in opened.planned_rows(fields).query.show]
        )
    if target == "-":
        notes = console(to_errors=True)
        for line in faults_lines(result.faults):
            notes.print(line)
        if missing:
            notes.print(findings_list(missing))
        return attend
    if as_json:
        findings = {"findings": [finding.as_json() for finding in missing]}
        print_json(
            {
                "file": target,
                "version": which(opened),
                "rows": result.rows,
                "faults": [fault.as_json() for fault in result.faults],
                **findings,
            }
        )
        return attend
    out = console()
    of = f" of {which(opened)}" if which(opened) else ""
    out.print(f"{target}: {plural(result.rows, 'row')}, {plural(len(fields), 'field')}{of}")
    if describe:
        out.print(f"described in {described}")
    for line in faults_lines(result.faults):
        out.print(line)
    if missing:
        out.print(findings_list(missing))
    return attend


export_command.add_command(sql_command)
export_command.add_command(view_command)
export_command.add_command(dictionary_command)
