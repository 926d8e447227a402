"""`oak peek`, `oak try`, `oak tally`, `oak help functions`: looking without changing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import (
    at_option,
    attention,
    baseline_option,
    catalogue_option,
    draft_option,
    json_option,
    open_any,
    open_working,
    place_option,
    print_json,
    where_option,
    which,
)
from oak_ledger.cli.shared.paths import definition_path
from oak_ledger.cli.shared.progress import progress_of

if TYPE_CHECKING:
    from oak_ledger.source import Answer, Source


def explain_option(command: Any) -> Any:
    """`--explain`."""
    return click.option(
        "--explain", is_flag=True, help="Also show the steps that were taken, with rows, bytes and time."
    )(command)


def _print_answer(
    answer: Answer, *, as_json: bool, notes: list[str] | None = None, count: str = "", version: str = ""
) -> int:
    """Show an answer and everything to know about it."""
    from oak_ledger.present.terminal import (
        QUIET,
        RUST,
        Text,
        console,
        faults_lines,
        findings_list,
        rows_table,
        steps_table,
    )

    if as_json:
        print_json(
            {
                **answer.as_json(),
                "steps": [step.as_json() for step in answer.steps],
                "version": version,
                "place": answer.place,
            }
        )
    else:
        out = console()
        if version:
            out.print(Text(version, style=RUST if "(draft" in version else QUIET))
        out.print(rows_table(answer, out.width, notes or []))
        if count:
            out.print(Text(count, style=QUIET))
        if answer.place != "here":
            where = "in the database" if answer.place == "origin" else "on the cluster"
            out.print(Text(f"computed {where}", style=QUIET))
        for line in faults_lines(answer.faults):
            out.print(line)
        if answer.findings:
            out.print(findings_list(answer.findings))
        if answer.steps:
            out.print()
            out.print(steps_table(answer.steps))
    return attention(answer.findings)


@click.command("peek")
@click.argument("source")
@click.argument("fields", nargs=-1)
@click.option("--limit", "-n", "limit", type=click.IntRange(1), default=10, show_default=True, help="How many rows.")
@where_option
@click.option("--sort", multiple=True, metavar="NAME", help="Sort by a field; -NAME for descending.")
@explain_option
@baseline_option
@catalogue_option
@draft_option
@at_option
@json_option("Answer")
def peek_command(
    source: str,
    fields: tuple[str, ...],
    limit: int,
    where: str | None,
    sort: tuple[str, ...],
    explain: bool,
    baseline: str | None,
    catalogue: str,
    draft: bool,
    at: str | None,
    as_json: bool,
) -> int:
    """Show the first rows of SOURCE: a definition, a published source, or any file that intake reads.

    FIELDS are names or formulas; all visible fields without any. A delimited file is shown as text, unless fields, a condition or an order are
    asked for.
    """
    path = definition_path(source)
    if path.is_file() and path.suffix != ".toml":
        return _peek_file(path, fields, limit, where, sort, as_json)
    with progress_of("reading") as progress:
        opened = open_any(source, catalogue, draft=draft, baseline=baseline, at=at, progress=progress)
        answer = opened.rows(list(fields) or None, where=where, sort=sort, limit=limit, explain=explain)
    return _print_answer(answer, as_json=as_json, notes=_notes(opened, answer), version=which(opened))


def _notes(source: Source, answer: Answer) -> list[str]:
    """Under each name: its type, and whether it is calculated."""
    from oak_ledger.columnar.arrays import from_arrow_type

    notes = []
    for name in answer.names:
        state: Any = source.compiled.states.get(name.casefold())
        kind = str(from_arrow_type(answer.table.schema.field(name).type))
        kind = state.type_name if state is not None and str(state.type) == kind else kind
        calculated = state is None or getattr(state.spec, "calculated", False)
        notes.append(f"{kind}, calculated" if calculated else kind)
    return notes


def _peek_file(
    path: Path, fields: Sequence[str], limit: int, where: str | None, sort: Sequence[str], as_json: bool
) -> int:
    """A file that is not a source yet: its first rows as text, or as intake would read them."""
    from oak_ledger.columns.origins import is_delimited
    from oak_ledger.origin import OriginSpec
    from oak_ledger.origin.csv.dialect import detect, first_rows
    from oak_ledger.present.terminal import QUIET, Text, console, rows_table

    if fields or where or sort or not is_delimited(path):
        from oak_ledger.first_look.intake import intake

        with progress_of("reading") as progress:
            opened = intake([path], keep_names=True, progress=progress).source
        answer = opened.rows(list(fields) or None, where=where, sort=sort, limit=limit)
        return _print_answer(answer, as_json=as_json, notes=_notes(opened, answer))
    dialect = detect(path)
    spec = OriginSpec(kind="file", path=path.name).model_copy(update=dialect.keys())
    names, rows = first_rows(path, spec, limit)
    if as_json:
        padded = [row + [""] * (len(names) - len(row)) for row in rows]
        written = [{name: cell or None for name, cell in zip(names, row, strict=False)} for row in padded]
        print_json(
            {"rows": written, "totals": None, "faults": [], "findings": [], "steps": [], "version": "", "place": "here"}
        )
        return 0
    import pyarrow as pa

    from oak_ledger.source import Answer

    out = console()
    columns = zip(*(row + [""] * (len(names) - len(row)) for row in rows), strict=False)
    table = pa.table({name: [cell or None for cell in column] for name, column in zip(names, columns, strict=False)})
    out.print(rows_table(Answer(table), out.width))
    out.print(Text(f"as written in {path.name}; to make a source of it: oak intake {path}", style=QUIET))
    return 0


@click.command("try")
@click.argument("source")
@click.argument("formula", required=False)
@click.option("--by", "-b", multiple=True, metavar="FIELD", help="For a formula of groups: group by this.")
@where_option
@click.option(
    "--limit", "-n", "limit", type=click.IntRange(1), default=8, show_default=True, help="How many values to show."
)
@baseline_option
@catalogue_option
@draft_option
@at_option
@json_option("Trial")
@click.option(
    "--fix", is_flag=True, help="Apply the repairs that keep the meaning; others are shown with what they would give."
)
@click.option(
    "--explain", "outlined", is_flag=True, help="Tell what it gives, what it needs, and where its nulls come from."
)
def try_command(
    source: str,
    formula: str | None,
    by: tuple[str, ...],
    fix: bool,
    outlined: bool,
    where: str | None,
    limit: int,
    baseline: str | None,
    catalogue: str,
    draft: bool,
    at: str | None,
    as_json: bool,
) -> int:
    """Try FORMULA without saving it: its type and grain, how many values are null, a sample beside its inputs.

    Without FORMULA a prompt opens: with completion, with validity, type and grain while typing, and with `save as NAME`.
    """
    if formula is None:
        return _prompt(source)
    from dataclasses import asdict

    from oak_ledger import branch_rows, outline, try_formula
    from oak_ledger.explain.trial import questionable
    from oak_ledger.present.terminal import Text, branches_table, console, plural, say

    with progress_of("reading") as progress:
        opened = open_any(source, catalogue, draft=draft, baseline=baseline, at=at, progress=progress)
        repaired = opened.repaired(formula) if fix else formula
        if repaired != formula:
            say(f"repaired: {repaired}", to_errors=as_json)
        for trial in questionable(opened, repaired) if fix else ():
            wrong = "; ".join(fault.said() for fault in trial.faults)
            say(
                f"not applied, it may mean something else: {trial.formula}  ({trial.type} per {trial.grain}, {trial.nulls:,} null of {trial.rows:,}{'; ' + wrong if wrong else ''})",
                to_errors=as_json,
            )
        lines = outline(opened, repaired) if outlined else []
        if outlined and not as_json:
            for line in lines:
                say("  " * line.depth + line.text)
            return 0
        found = try_formula(opened, repaired, by=by, where=where, limit=limit)
        taken = [] if by else branch_rows(opened, repaired, where=where)
    if as_json:
        print_json(
            {
                "formula": found.formula,
                "type": found.type,
                "grain": found.grain,
                "rows": found.rows,
                "nulls": found.nulls,
                "branches": [asdict(rows) for rows in taken],
                "faults": [fault.as_json() for fault in found.faults],
                "findings": [finding.as_json() for finding in found.findings],
                "sample": found.sample.to_dicts(),
                "outline": [{"depth": line.depth, "text": line.text} for line in lines],
            }
        )
        return 0
    unit = "row" if found.grain == "row" and not by else "group"
    nulls = "no nulls" if not found.nulls else f"{plural(found.nulls, 'null')}"
    out = console()
    out.print(Text.assemble((found.type, "bold"), f" per {found.grain}; {plural(found.rows, unit)}, {nulls}"))
    if taken:
        out.print(branches_table(taken, found.rows))
        out.print()
    from dataclasses import replace

    return _print_answer(replace(found.sample, faults=found.faults, findings=found.findings), as_json=False)


def _prompt(source: str) -> int:
    """Formulas one after the other; what was saved is written at the end, as one edit."""
    from oak_ledger.cli.figures.prompt import run_prompt
    from oak_ledger.cli.shared.output_edits import write_edit

    before = open_working(source)
    after, saved = run_prompt(before)
    if saved:
        write_edit(before, after)
    return 0


@click.command("tally")
@click.argument("source")
@click.option("--by", "-b", multiple=True, metavar="FIELD", help="Group by a field or a formula; may be repeated.")
@click.option(
    "--show", "-s", multiple=True, metavar="MEASURE", help="A field or a formula, or 'Name = formula'; may be repeated."
)
@where_option
@click.option("--sort", multiple=True, metavar="NAME", help="Sort by a column; -NAME for downwards.")
@click.option("--limit", "-n", type=click.IntRange(1), default=None, help="Only the first N groups.")
@click.option(
    "--totals", "-t", is_flag=True, help="Add a totals row, computed from the rows rather than by adding groups."
)
@click.option(
    "--fill",
    type=click.Choice(["null", "zero"]),
    default=None,
    help="Also dates without rows, between the first and the last.",
)
@explain_option
@baseline_option
@catalogue_option
@draft_option
@at_option
@place_option
@json_option("Answer")
def tally_command(
    source: str,
    by: tuple[str, ...],
    show: tuple[str, ...],
    where: str | None,
    sort: tuple[str, ...],
    limit: int | None,
    totals: bool,
    fill: str | None,
    explain: bool,
    baseline: str | None,
    catalogue: str,
    draft: bool,
    at: str | None,
    place: str,
    as_json: bool,
) -> int:
    """Group and aggregate: --by which fields, --show which measures. Without --by, one figure."""
    from oak_ledger.insight.hazards import left_out_findings

    with progress_of("reading") as progress:
        opened = open_any(source, catalogue, draft=draft, baseline=baseline, at=at, progress=progress).computed(place)
        items = [opened.measure(item) for item in show]
        answer = opened.tally(
            [opened.measure(item) for item in by],
            items,
            where=where,
            sort=sort,
            limit=limit,
            totals=totals,
            fill=fill or "",
            explain=explain,
        )
    count = (
        f"{answer.table.num_rows:,} of {answer.groups:,} groups"
        if answer.groups and answer.groups > answer.table.num_rows
        else ""
    )
    if where is not None:
        count = "; ".join(filter(None, [count, f"{answer.rows_used:,} of {answer.rows_read:,} rows"]))
        answer = replace(answer, findings=(*answer.findings, *left_out_findings(opened, [where])))
    return _print_answer(answer, as_json=as_json, count=count, version=which(opened))
