"""`oak intake`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from oak_ledger.cli.app import json_option, progress_of, tell_json

if TYPE_CHECKING:
    from oak_ledger.source.intake import Intake


@click.command("intake")
@click.argument("files", nargs=-1, required=True)
@click.option("--name", default="", help="What report builders will call the source.")
@click.option("--to", default=None, metavar="FILE", help="The definition to write  [default: NAME.oak.toml]")
@click.option(
    "--name-parts",
    default="",
    metavar="PATTERN",
    help="Fields from the file's name: 'loads_{Year}-{Month}.csv'.",
)
@click.option(
    "--sample",
    type=click.IntRange(1),
    default=None,
    metavar="N",
    help="Judge types from the first N rows, not from all.",
)
@click.option("--separator", default=None, help="What stands between values  [default: found out]")
@click.option("--encoding", default=None, help="How characters are stored  [default: found out]")
@click.option(
    "--header",
    type=click.Choice(["first", "none"]),
    default=None,
    help="Whether the first row has the names  [default: found out]",
)
@click.option("--keep-names", is_flag=True, help="Call fields exactly as their columns.")
@json_option
def intake_command(
    files: tuple[str, ...],
    name: str,
    to: str | None,
    name_parts: str,
    sample: int | None,
    separator: str | None,
    encoding: str | None,
    header: str | None,
    keep_names: bool,
    as_json: bool,
) -> int:
    """Read FILES for the first time and write a definition that can be corrected.

    FILES are delimited text files of one shape, or a pattern in quotes: 'intake/loads_*.csv'. Types are judged from
    every row, and the evidence is shown. A definition that is there already is never overwritten.
    """
    from oak_ledger.source.intake import take_in

    with progress_of("reading") as progress:
        found = take_in(
            files,
            name=name,
            to=to,
            name_parts=name_parts,
            sample=sample,
            separator=None if separator is None else separator.replace("\\t", "\t"),
            encoding=encoding,
            header=header,
            keep_names=keep_names,
            progress=progress,
        )
    path = found.save()
    if as_json:
        fields = [
            {
                "field": one.name,
                "column": one.column,
                "type": one.type,
                "role": one.role,
                "why": one.evidence.why,
                "rows": one.evidence.rows,
                "nulls": one.evidence.nulls,
                "distinct": one.evidence.distinct,
                "misfits": one.evidence.misfits,
                "samples": one.evidence.samples,
            }
            for one in found.proposals
        ]
        tell_json(
            {
                "definition": str(path),
                "files": [str(file) for file in found.files],
                "rows": found.rows,
                "fields": fields,
                "findings": [one.as_json() for one in found.findings],
            }
        )
    else:
        _show(found, sample)
    return 1 if found.findings else 0


def _show(found: Intake, sample: int | None) -> None:
    from oak_ledger.present.terminal import QUIET, RUST, Text, console, findings_list, grid, plural

    out = console()
    files = (
        found.files[0].name
        if len(found.files) == 1
        else f"{len(found.files)} files, {found.files[0].name} to {found.files[-1].name}"
    )
    judged = "all of them judged" if sample is None else f"types judged from the first {sample:,}"
    out.print(Text.assemble((found.source.name, "bold"), f"  {files}; {plural(found.rows, 'row')}, {judged}"))
    for what, why in found.decisions:
        out.print(Text(f"  {what}: {why}", style=QUIET))
    table = grid("field", "type", "role", "null", "do not fit", "evidence", right=(3, 4))
    for one in found.proposals:
        seen = one.evidence
        misfits = Text(f"{seen.misfits:,}", style=RUST) if seen.misfits else Text("")
        why = seen.why
        if seen.samples:
            why += "; " + ", ".join(f"{value!r} in row {row:,}" for row, value in seen.samples[:2])
        if seen.null_words:
            why += f"; {', '.join(map(repr, seen.null_words))} means no value"
        if one.type == "text" and why.startswith("no other"):
            why = (
                f"text, {plural(seen.distinct, 'different value')}"
                if seen.distinct is not None
                else "text, many different values"
            )
        table.add_row(one.name, one.type, one.role, f"{seen.nulls:,}" if seen.nulls else "", misfits, why)
    out.print(table)
    if found.findings:
        out.print(findings_list(found.findings))
    out.print(Text.assemble("written to ", (str(found.source.path), "bold"), "; correct it there, or with oak field"))
