"""`oak why`."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.app import catalogue_option, draft_option, json_option, print_json, with_own_baseline
from oak_ledger.cli.progress import progress_of
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.report import Report
    from oak_ledger.report.definition import PanelSpec
    from oak_ledger.source import Source
    from oak_ledger.source.why import Why


@click.command("why")
@click.argument("report")
@click.argument("panel")
@click.argument("group", nargs=-1)
@click.option("--measure", default=None, metavar="NAME", help="Which figure of the panel  [default: the first]")
@click.option(
    "--limit",
    "-n",
    type=click.IntRange(0),
    default=5,
    show_default=True,
    help="How many of the rows behind it to show.",
)
@click.option("--to", default=None, metavar="FILE", help="Write all rows behind it: .csv, .parquet or .arrow.")
@click.option("--version", "number", type=int, default=None, help="Read this version of the source.")
@click.option("--source", "working", default=None, metavar="FILE", help="Read a working definition instead.")
@catalogue_option
@draft_option
@json_option("Why")
def why_command(
    report: str, panel: str, group: tuple[str, ...], measure: str | None, limit: int, to: str | None, number: int | None, working: str | None,
    catalogue: str, draft: bool, as_json: bool,
) -> None:  # fmt: skip
    """Take a figure of REPORT apart: its formula with the value of each part, filters, nulls, constants, the rows behind it.

    PANEL is a panel's title or its number. GROUP has a value for each field that the panel groups by; without it the figure of all rows.
    """
    from oak_ledger import open_report
    from oak_ledger.cli.reports import source_of
    from oak_ledger.formula.lexer import quote_identifier
    from oak_ledger.present.terminal import say
    from oak_ledger.report.figure import figure_of, group_values
    from oak_ledger.source.why import rows_behind, why

    with progress_of("computing"):
        opened = with_own_baseline(open_report(report), catalogue)
        source = source_of(opened, catalogue, draft, number, working)
        whole, _ = opened.over(source)
        spec = _panel(opened, whole, panel)
        asked = figure_of(opened, spec, whole, measure)
        found = why(
            whole, asked.measure, asked.by if group else (), group_values(whole, asked, group), where=asked.where
        )
        rows = rows_behind(whole, found, limit)
        if to is not None:
            written = whole.write(to, [quote_identifier(name) for name in rows.names], where=[*found.conditions])
    if as_json:
        print_json({**_as_json(found, source), "sample": rows.to_dicts(), "written": [to] if to else []})
        return
    _show(found, whole, rows, opened.about.name)
    if to is not None:
        say(f"written: {to}, {written.rows:,} rows")


def _panel(report: Report, source: Source, text: str) -> PanelSpec:
    """The panel of a title or a number."""
    from oak_ledger.formula.builder import nearest_hint
    from oak_ledger.report.report import filled

    if text.isdigit() and 1 <= int(text) <= len(report.panels):
        return report.panels[int(text) - 1]
    titles = [filled(one.title, source) for one in report.panels]
    found = [
        one
        for one, title in zip(report.panels, titles, strict=True)
        if text.casefold() in (title.casefold(), one.title.casefold())
    ]
    if not found:
        hint = (
            nearest_hint(text, titles, str)
            or f"Panels are {', '.join(f'{at} {title}' for at, title in enumerate(titles, 1))}."
        )
        raise OakError("unknown-panel", f"The report has no panel {text!r}.", hint=hint)
    return found[0]


def _version(source: Source) -> str:
    made = source.published
    return f"version {made.number} ({made.stage})" if made is not None else "working copy"


def _as_json(found: Why, source: Source) -> dict[str, Any]:
    return {
        "source": source.name,
        "version": _version(source),
        "measure": found.measure,
        "group": {name: None if value is None else str(value) for name, value in found.group.items()},
        "value": found.value,
        "steps": [{key: value for key, value in asdict(one).items() if key != "format"} for one in found.steps],
        "filters": [asdict(one) for one in found.filters],
        "rows": found.rows,
        "nulls": [{"column": name, "rows": rows} for name, rows in found.nulls],
        "constants": [{"name": name, "value": value} for name, value in found.constants],
        "fields": found.fields,
        "faults": [one.as_json() for one in found.faults],
    }


def _show(found: Why, source: Source, rows: Any, report: str) -> None:
    from oak_ledger.present.terminal import LEAF, QUIET, RUST, Text, console, faults_lines, grid, plural, rows_table
    from oak_ledger.source.formats import plain

    out = console()
    group = ", ".join(f"{name} {'null' if value is None else plain(value)}" for name, value in found.group.items())
    out.print(
        Text.assemble(
            (found.measure, "bold"), f"  {group or 'all rows'}  ", (_number(found.value, found.format), f"bold {LEAF}")
        )
    )
    out.print(Text(f"{report}, {source.name}, {_version(source)}", style=QUIET))
    for step in found.steps:
        values = step.formula
        for part in sorted(step.parts, key=lambda one: -len(one.text)):
            values = values.replace(part.text, _number(part.value, ""))
        out.print()
        out.print(Text.assemble((step.name, "bold"), f" = {step.formula}"))
        if step.parts:
            out.print(Text(f"  = {values}"))
        out.print(Text(f"  = {_number(step.value, step.format)}", style=LEAF))
    made = [name for name in found.fields if getattr(source.state(name).spec, "formula", "")]
    steps = {step.name for step in found.steps if step.formula != f"SUM({step.name})"}
    for name in made:
        if name not in steps:
            spec: Any = source.state(name).spec
            out.print(Text(f"  {name} = {' '.join(spec.formula.split())}", style=QUIET))
    if found.filters:
        out.print()
        table = grid("condition", "rows before", "removed", "left", right=(1, 2, 3))
        for one in found.filters:
            table.add_row(one.text, f"{one.before:,}", f"{one.before - one.after:,}", f"{one.after:,}")
        out.print(table)
    for name, count in found.nulls:
        out.print(Text.assemble((f"{name} is null", RUST), f" in {count:,} of {plural(found.rows, 'row')}"))
    for name, value in found.constants:
        out.print(Text(f"{name} is {value}"))
    for line in faults_lines(found.faults):
        out.print(line)
    specs: list[Any] = [source.state(name).spec for name in found.fields]
    columns = [f"{spec.name}: {spec.column}" for spec in specs if getattr(spec, "column", "")]
    if columns:
        out.print(Text(f"columns: {', '.join(columns)}", style=QUIET))
    if rows.table.num_rows:
        out.print()
        out.print(f"the first of {plural(found.rows, 'row')} behind it:")
        out.print(rows_table(rows, out.width))


def _number(value: Any, format_text: str) -> str:
    from oak_ledger.source.formats import show

    if value is None:
        return "null"
    given = (
        format_text or ("0,000.00" if not isinstance(value, int) else "0,000")
        if not isinstance(value, (str, bool))
        else ""
    )
    return show(value, given)
