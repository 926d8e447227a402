"""`oak intake`."""

from __future__ import annotations

import sys
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared import startup
from oak_ledger.cli.shared.app import attention, json_option, print_json
from oak_ledger.cli.shared.progress import progress_of

if TYPE_CHECKING:
    from oak_ledger.first_look.intake import Intake
    from oak_ledger.origin.join import JoinStep


@click.command("intake")
@click.argument("files", nargs=-1)
@click.option("--name", default="", help="What report builders will call the source.")
@click.option("--to", default=None, metavar="FILE", help="The definition to write  [default: NAME.oak.toml]")
@click.option(
    "--name-parts", default="", metavar="PATTERN", help="Fields from the file's name: 'loads_{Year}-{Month}.csv'."
)
@click.option(
    "--sample",
    type=click.IntRange(1),
    default=None,
    metavar="N",
    help="Judge types from the first N rows, not from all.",
)
@click.option(
    "--separator", default=None, help="Column separator, or its name: tab, semicolon, comma, bar  [default: detected]"
)
@click.option("--quote", default=None, help="Quote character, or none  [default: detected]")
@click.option("--encoding", default=None, help="Character encoding  [default: detected]")
@click.option(
    "--header",
    default=None,
    metavar="LINE",
    help="Line of the column names: first, none, or its number  [default: detected]",
)
@click.option(
    "--header-lines",
    type=click.IntRange(1, 3),
    default=None,
    help="How many lines hold the names; the last is that of --header.",
)
@click.option("--names", default=None, metavar="FILE", help="A list of the columns' names, where the file has none.")
@click.option("--comment", default=None, help="Prefix of comment lines  [default: detected]")
@click.option("--footer", type=click.IntRange(0), default=None, help="Footer lines to skip  [default: detected]")
@click.option(
    "--bad-rows",
    type=click.Choice(["stop", "drop", "keep"]),
    default=None,
    help="What to do with rows that cannot be read  [default: stop]",
)
@click.option("--sheet", default=None, help="The sheet of a workbook.")
@click.option("--url", default=None, help="A database: postgresql://user@host/name. No password in it.")
@click.option(
    "--password-from",
    default=None,
    metavar="VARIABLE",
    help="The environment variable with the password; else it is asked for.",
)
@click.option("--table", default=None, help="The table of a database.")
@click.option("--query", default=None, help="A query of a database, instead of a table.")
@click.option("--keep-names", is_flag=True, help="Call fields exactly as their columns.")
@json_option("Intake")
def intake_command(
    files: tuple[str, ...],
    name: str,
    to: str | None,
    name_parts: str,
    sample: int | None,
    keep_names: bool,
    as_json: bool,
    header: str | None,
    names: str | None,
    separator: str | None,
    **reading: Any,
) -> int:
    """Read FILES for the first time and write a definition that can be corrected.

    FILES are delimited text files of one shape or a pattern in quotes ('intake/loads_*.csv'), a workbook (.xlsx, .ods), Parquet,
    Arrow, JSON lines, or a SQLite database; other databases are named by --url. Types are judged from every row, and the evidence
    is shown. A definition that is there already is never overwritten.
    """
    from oak_ledger.definition.lists import listed_names

    startup.start()
    from oak_ledger.first_look.intake import intake

    if not files and not reading["url"]:
        raise click.UsageError("Name the files, or a database by --url.")
    reading["separator"] = separator
    reading["quote"] = "" if reading.get("quote") == "none" else reading.get("quote")
    reading["header"] = int(header) if header and header.isdigit() else header
    if reading.get("header_lines") and not header:
        reading["header"] = reading["header_lines"]
    reading["names"] = listed_names(Path(names)) if names else None
    ask_for_passwords()
    with progress_of("reading") as progress:
        found = intake(
            files,
            name=name,
            definition=to,
            name_parts=name_parts,
            sample=sample,
            keep_names=keep_names,
            progress=progress,
            **reading,
        )
    return _written(found, sample, as_json)


@click.command("join")
@click.argument("files", nargs=-1, required=True)
@click.option(
    "--on",
    multiple=True,
    required=True,
    metavar="COLUMN",
    help="A column that both sides have, OTHER=OWN where it has two names; may be repeated.",
)
@click.option("--match", default="", metavar="FORMULA", help="What of a key counts, over VALUE: \"LTRIM(VALUE, '0')\".")
@click.option("--day", default="", metavar="FORMULA", help="The day for which the other's row must be valid.")
@click.option(
    "--valid-from",
    default="",
    metavar="FORMULA",
    help="The day from which a row of the other is valid; the one valid on the day is joined.",
)
@click.option(
    "--valid-until", default="", metavar="FORMULA", help="The last day on which it is  [default: until the next begins]"
)
@click.option(
    "--total",
    "totals",
    multiple=True,
    metavar="'NAME = FORMULA'",
    help="An aggregate over the other's rows of a key, joined in place of them; may be repeated.",
)
@click.option(
    "--unmatched", is_flag=True, help="List the keys without a partner, up to a thousand of each side, not only three."
)
@click.option(
    "--how", type=click.Choice(["inner", "left", "full"]), default="left", show_default=True, help="Which rows stay."
)
@click.option("--name", default="", help="What report builders will call the source.")
@click.option("--to", default=None, metavar="FILE", help="The definition to write  [default: NAME.oak.toml]")
@click.option("--keep-names", is_flag=True, help="Call fields exactly as their columns.")
@json_option("Intake")
def join_command(
    files: tuple[str, ...],
    on: tuple[str, ...],
    match: str,
    day: str,
    valid_from: str,
    valid_until: str,
    totals: tuple[str, ...],
    unmatched: bool,
    how: str,
    name: str,
    to: str | None,
    keep_names: bool,
    as_json: bool,
) -> int:
    """Combine FILES by shared keys into one source, and see what that does.

    The first file is the one that the others are joined to: rows with no partner, keys that repeat and multiply rows and totals,
    and new nulls are reported for each. A file may be a sheet (book.xlsx#Prices), a table (yard.db#stock), a definition, or a source
    of a catalogue (catalogue#North/Loads).
    """
    from oak_ledger.first_look.intake import intake_join

    if len(files) < 2:
        raise click.UsageError("A join needs at least two files.")
    with progress_of("joining") as progress:
        intake = intake_join(
            files,
            on=on,
            how=how,
            match=match,
            day=day,
            valid_from=valid_from,
            valid_until=valid_until,
            totals=dict(_named_total(total) for total in totals),
            samples=1_000 if unmatched else 3,
            name=name,
            definition=to,
            keep_names=keep_names,
            progress=progress,
        )
    return _written(intake, None, as_json)


def _named_total(said: str) -> tuple[str, str]:
    name, mark, formula = said.partition("=")
    if not mark or not name.strip() or not formula.strip():
        raise click.UsageError(f"--total {said!r}: say NAME = FORMULA, such as 'Loads = COUNT(*)'.")
    return name.strip(), formula.strip()


def _written(intake: Intake, sample: int | None, as_json: bool) -> int:
    """Write the definition, and what was dropped beside it; report all of it."""
    path = intake.save()
    dropped = intake.save_bad_rows()
    if as_json:
        fields = [
            {"field": proposal.name, "column": proposal.column, "type": proposal.type, "role": proposal.role, "role_why": proposal.role_why, "why": proposal.evidence.why, "rows": proposal.evidence.rows,
             "nulls": proposal.evidence.nulls, "distinct": proposal.evidence.distinct, "misfits": proposal.evidence.misfits, "samples": proposal.evidence.samples}
            for proposal in intake.proposals
        ]  # fmt: skip
        print_json({"definition": str(path), "files": [str(file) for file in intake.files], "rows": intake.rows, "fields": fields,
                   "joins": [_join_as_json(step) for step in intake.joins], "findings": [finding.as_json() for finding in intake.findings]})  # fmt: skip
    else:
        _show(intake, sample)
        if dropped is not None:
            click.echo(f"these rows are listed in {dropped}")
    return attention(intake.findings)


def _join_as_json(step: JoinStep) -> dict[str, Any]:
    return {**asdict(step), "nulls": [{"column": column, "rows": rows} for column, rows in step.nulls],
            "would_meet": [{"match": formula, "rows": rows} for formula, rows in step.would_meet]}  # fmt: skip


def ask_for_passwords() -> None:
    """Where the environment has no password, ask for it; it is never written anywhere."""
    from oak_ledger.origin.passwords import ASK

    if sys.stdin is not None and sys.stdin.isatty() and not ASK:
        ASK.append(lambda said: str(click.prompt(said, hide_input=True, err=True)))


def _show_joins(intake: Intake) -> None:
    from oak_ledger.definition.formats import show
    from oak_ledger.present.terminal import RUST, Text, console, grid, plural

    out = console()
    for step in intake.joins:
        out.print(
            Text.assemble(
                (f"{step.part}", "bold"),
                f"  joined on {', '.join(step.on)} ({step.how}): {step.left_rows:,} and {step.right_rows:,} rows make {plural(step.rows, 'row')}",
            )
        )
        for count, samples, where in (
            (step.left_alone, step.left_samples, "before it"),
            (step.right_alone, step.right_samples, f"of {step.part}"),
        ):
            if count:
                out.print(Text(f"  {plural(count, 'row')} {where} without a partner, such as {'; '.join(samples)}"))
        for formula, rows in step.would_meet:
            out.print(Text(f'  {rows:,} of {step.left_alone:,} find one by: --match "{formula}"'))
        for repeats, where in ((step.left_repeats, "before it"), (step.right_repeats, f"of {step.part}")):
            if repeats:
                out.print(Text(f"  {plural(repeats, 'key')} {where} in more than one row", style=RUST))
        if step.overlapping:
            said = f"  {plural(step.overlapping, 'key')} of {step.part} with rows valid on the same day; the one that began last is taken"
            out.print(Text(said, style=RUST))
        if step.nulls:
            out.print(Text("  new nulls: " + ", ".join(f"{name} {count:,}" for name, count in step.nulls)))
        if step.measures:
            table = grid("  total of", "before", "after", "", right=(1, 2, 3))
            for measure in step.measures:
                share = f"{measure.after / measure.before - 1:+.1%}" if measure.before else ""
                table.add_row(
                    f"  {measure.column}",
                    show(measure.before, "0,000.00"),
                    show(measure.after, "0,000.00"),
                    Text(share, style=RUST),
                )
            out.print(table)


def _show(intake: Intake, sample: int | None) -> None:
    from oak_ledger.present.terminal import QUIET, RUST, Text, console, findings_list, grid, plural, shortened
    from oak_ledger.types import NUMERIC

    out = console()
    files = (
        ""
        if not intake.files
        else (
            intake.files[0].name
            if len(intake.files) == 1
            else f"{len(intake.files)} files, {intake.files[0].name} to {intake.files[-1].name}"
        )
    )
    judged = (
        "all of them judged" if sample is None else f"types judged from the first {sample:,} rows, others not looked at"
    )
    out.print(Text.assemble((intake.source.name, "bold"), f"  {files}; {plural(intake.rows, 'row')}, {judged}"))
    for what, why in intake.decisions:
        out.print(Text(f"  {what}: {why}", style=QUIET))
    table = grid("field", "type", "role", "null", "do not fit", "evidence", right=(3, 4))
    proposals, more = shortened(intake.proposals, "field")
    for proposal in proposals:
        seen = proposal.evidence
        misfits = Text(f"{seen.misfits:,}", style=RUST) if seen.misfits else Text("")
        why = seen.why
        if seen.samples:
            why += "; " + ", ".join(f"{value!r} in row {row:,}" for row, value in seen.samples[:2])
        if seen.null_words:
            why += f"; {', '.join(map(repr, seen.null_words))} means no value"
        if proposal.role_why and (
            proposal.keys.get("total") or (proposal.role == "dimension" and seen.kind in NUMERIC)
        ):
            why += f"; {proposal.keys.get('total') or proposal.role}: {proposal.role_why}"
        table.add_row(
            proposal.name, proposal.type, proposal.role, f"{seen.nulls:,}" if seen.nulls else "", misfits, why
        )
    out.print(table, *more)
    _show_joins(intake)
    if intake.findings:
        out.print(findings_list(intake.findings))
    out.print(Text.assemble("written to ", (str(intake.source.path), "bold"), "; correct it there, or with oak field"))
