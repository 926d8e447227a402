"""`oak why`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import catalogue_option, draft_option, json_option, open_catalogue, print_json
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.explain.why import Why
    from oak_ledger.present.sections import Section
    from oak_ledger.report import Report
    from oak_ledger.report.figure import FigureSince
    from oak_ledger.report.panel_spec import PanelSpec
    from oak_ledger.source import Source


@click.command("why")
@click.argument("report")
@click.argument("panel")
@click.argument("group", nargs=-1)
@click.option("--measure", default=None, metavar="NAME", help="Which figure of the panel  [default: the first]")
@click.option(
    "--since", type=int, default=None, metavar="VERSION", help="Show what it was then, and the rows that differ."
)
@click.option(
    "--limit",
    "-n",
    type=click.IntRange(0),
    default=5,
    show_default=True,
    help="How many of the rows behind it to show.",
)
@click.option(
    "--to",
    multiple=True,
    metavar="FILE",
    help="Write a page (.html), or all rows behind it (.csv, .parquet, .arrow); may be repeated.",
)
@click.option("--version", "number", type=int, default=None, help="Read this version of the source.")
@click.option("--source", "working", default=None, metavar="FILE", help="Read a working definition instead.")
@catalogue_option
@draft_option
@json_option("Why")
def why_command(
    report: str, panel: str, group: tuple[str, ...], measure: str | None, since: int | None, limit: int, to: tuple[str, ...], number: int | None, working: str | None,
    catalogue: str, draft: bool, as_json: bool,
) -> None:  # fmt: skip
    """Take a figure of REPORT apart: its formula with the value of each part, filters, nulls, constants, the rows behind it.

    PANEL is a panel's title or its number. GROUP has a value for each field that the panel groups by: fewer of them are a subtotal, none all
    rows, and 'the other 12' is what stands beyond a limit.
    """
    from oak_ledger.cli.report.rendering import a_report, source_of
    from oak_ledger.explain.why import rows_behind, why
    from oak_ledger.insight.fingerprint import names_before
    from oak_ledger.insight.hazards import left_out_findings
    from oak_ledger.present.reasons import changes_since, headline, reasons, version_text
    from oak_ledger.present.sections import show_sections
    from oak_ledger.present.terminal import LEAF, QUIET, Text, console, say
    from oak_ledger.reference import recoded
    from oak_ledger.report.figure import figure_of, figure_since, taken_apart

    with progress_of("computing"):
        opened = a_report(report, catalogue)
        source = source_of(opened, catalogue, draft, number, working)
        whole, _ = opened.over(source)
        spec = _panel(opened, whole, panel)
        asked = figure_of(opened, spec, whole, group, measure)
        figure = taken_apart(whole, asked)
        other = why(whole, ("compared with", asked.against), where=asked.where) if asked.against else None
        rows = rows_behind(whole, figure, limit)
        changed = None
        if since is not None:
            before = open_catalogue(catalogue).source(source.name, since)
            renamed = names_before(source, before.opened, before.document)
            changed = figure_since(opened, spec, before, source, group, measure, renamed, recoded(source, before))
    sections = reasons(figure, whole, rows, other, left_out_findings(whole, asked.where or ()))
    if changed is not None:
        sections = [*changes_since(changed, f"version {since}", limit or 5), *sections]
    under = f"{opened.about.name}, {source.name}, {version_text(source)}"
    written = [_write(name, whole, figure, sections, under) for name in to]
    if as_json:
        since_json = None if changed is None else _since_as_json(changed, limit)
        steps = {"steps": _steps(figure), "against": _steps(other) if other is not None else []}
        print_json(
            {**_as_json(figure, source), **steps, "since": since_json, "sample": rows.to_dicts(), "written": [*to]}
        )
        return
    out = console()
    out.print(Text(headline(figure), style=f"bold {LEAF}"))
    out.print(Text(under, style=QUIET))
    out.print()
    show_sections(out, sections)
    for text in written:
        say(text)


def _write(name: str, source: Source, figure: Why, sections: Sequence[Section], under: str) -> str:
    """Write the page, or the rows behind the figure; what was written, in words."""
    from oak_ledger.explain.why import fields_behind
    from oak_ledger.files import write_text
    from oak_ledger.present.reasons import headline
    from oak_ledger.present.sections import sections_page

    if name.lower().endswith(".html"):
        write_text(Path(name), sections_page(headline(figure), under, sections))
        return f"written: {name}"
    result = source.write(name, fields_behind(source, figure), where=[*figure.conditions])
    return f"written: {name}, {result.rows:,} rows"


def _since_as_json(changed: FigureSince, limit: int) -> dict[str, Any]:
    rows = changed.rows
    return {
        "before": None if changed.before is None else changed.before.value,
        "key": [*rows.key],
        "changed": rows.changed_after.num_rows,
        "came": rows.came.num_rows,
        "went": rows.went.num_rows,
        "sample": rows.side_by_side().slice(0, limit).to_pylist(),
    }


def _panel(report: Report, source: Source, text: str) -> PanelSpec:
    """The panel of a title or a number."""
    from oak_ledger.formula.builder import nearest_hint
    from oak_ledger.report.report import filled

    if text.isdigit() and 1 <= int(text) <= len(report.panels):
        return report.panels[int(text) - 1]
    titles = [filled(panel.title, source) for panel in report.panels]
    specs = [
        spec
        for spec, title in zip(report.panels, titles, strict=True)
        if text.casefold() in (title.casefold(), spec.title.casefold())
    ]
    if not specs:
        hint = (
            nearest_hint(text, titles, str)
            or f"Panels are {', '.join(f'{at} {title}' for at, title in enumerate(titles, 1))}."
        )
        raise OakError("unknown-panel", f"The report has no panel {text!r}.", hint=hint)
    return specs[0]


def _steps(figure: Why) -> list[dict[str, Any]]:
    return [{key: value for key, value in asdict(step).items() if key != "format"} for step in figure.steps]


def _as_json(figure: Why, source: Source) -> dict[str, Any]:
    from oak_ledger.definition.formats import plain
    from oak_ledger.present.reasons import version_text

    return {
        "source": source.name,
        "version": version_text(source),
        "measure": figure.measure,
        "group": {name: None if value is None else str(value) for name, value in figure.group.items()},
        "value": figure.value,
        "compared": [
            {
                "name": compared.name,
                "text": compared.text,
                "of": compared.of,
                "partition": [
                    {"name": name, "value": "null" if value is None else plain(value)}
                    for name, value in compared.partition
                ],
                "count": compared.count,
                "frame": [*compared.frame],
                "first": compared.begins,
                "own": compared.own,
                "rows": [dict(zip(compared.columns, row, strict=True)) for row in compared.rows],
            }
            for compared in figure.compared
        ],
        "filters": [asdict(filter_) for filter_ in figure.filters],
        "rows": figure.rows,
        "nulls": [{"column": name, "rows": rows} for name, rows in figure.nulls],
        "constants": [{"name": name, "value": value} for name, value in figure.constants],
        "fields": figure.fields,
        "faults": [fault.as_json() for fault in figure.faults],
    }
