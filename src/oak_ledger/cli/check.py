"""`oak check`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from oak_ledger.cli.app import (
    attention,
    catalogue_option,
    json_option,
    open_catalogue,
    open_working,
    print_json,
    reports_of,
    reports_option,
)
from oak_ledger.cli.progress import progress_of

if TYPE_CHECKING:
    from oak_ledger.catalogue import Version
    from oak_ledger.source import Source


STEPS = ("checking fields and totals", "comparing with the released version", "checking reports")


def _list_codes(as_json: bool) -> None:
    """List every code of a finding, with what it means and how to mend it."""
    from dataclasses import asdict

    from oak_ledger.codes import CODES, TOPICS
    from oak_ledger.present.terminal import Text, console, grid

    if as_json:
        listed = [{"code": code, **asdict(entry)} for code, entry in CODES.items()]
        print_json({"findings": [], "broken": [], "reports": [], "codes": listed})
    out = console()
    for topic, codes in TOPICS.items():
        out.print(Text(topic, style="bold"))
        table = grid("code", "severity", "meaning", "how to mend it")
        for code, entry in codes.items():
            table.add_row(code, entry.severity, entry.meaning, entry.mend)
        out.print(table)
        out.print()


@click.command("check")
@click.argument("source", required=False)
@click.option("--codes", is_flag=True, help="List the codes of all findings and errors.")
@catalogue_option
@reports_option
@json_option("Check")
def check_command(source: str | None, codes: bool, catalogue: str, reports: str | None, as_json: bool) -> int:
    """Prove SOURCE: what is broken and through what, which totals mislead, what changed since it was last published.

    Every warning has its numbers: what the wrong total says and what the right one says, how many rows are lost. With errors, the
    reports that would break are named panel by panel.
    """
    if codes:
        _list_codes(as_json)
        return 0
    if source is None:
        raise click.UsageError("Missing argument 'SOURCE'.")
    from oak_ledger import broken_names, candidates, drift
    from oak_ledger.present.terminal import LEAF, QUIET, RUST, Text, console, counted, findings_list, plural

    with progress_of(*STEPS) as progress:
        opened = open_working(source, progress)
        findings = opened.check()
        progress.next()
        last = _last(opened, catalogue)
        if last is not None:
            findings += drift(opened, last.fingerprints, f"version {last.number}")
        progress.next()
        broken = broken_names(opened)
        offered = candidates(opened, last.fingerprints if last else {}) if broken else {}
        panels = [found for report in reports_of(opened, reports) for found in report.check(opened)] if broken else []
    if as_json:
        print_json(
            {
                "findings": [one.as_json() for one in findings],
                "broken": [
                    {
                        "name": one.name,
                        "why": one.finding.message,
                        "through": one.through,
                        "candidates": [
                            {"column": other.column, "score": round(other.score, 3), "evidence": other.sentence()}
                            for other in offered.get(one.name, [])
                        ],
                    }
                    for one in broken
                ],
                "reports": [one.as_json() for one in panels],
                "codes": [],
            }
        )
        return attention(findings)
    out = console()
    if not findings:
        out.print(
            Text.assemble(("no problems", LEAF), f" in the {plural(len(opened.fields), 'field')} of {opened.name}")
        )
        return 0
    out.print(findings_list(findings))
    for one in broken:
        out.print()
        out.print(
            Text.assemble(
                (one.name, "bold"),
                (" is broken", RUST),
                f"; {', '.join(one.through) or 'no other field'} depend{'' if len(one.through) > 1 else 's'} on it",
            )
        )
        for candidate in offered.get(one.name, [])[:2]:
            out.print(Text.assemble(("  probably renamed to ", LEAF), candidate.sentence()))
        best = next(iter(offered.get(one.name, [])), None)
        if best is not None and best.score > 0.5:
            out.print(Text(f"  to repair it: oak mend {source} '{best.gone}={best.column}' --dry-run"))
    if broken:
        out.print()
        names = sorted({found.place.where for found in panels if found.severity == "error"})
        out.print(Text.assemble((plural(len(names), "place"), RUST if names else LEAF), " in reports would break"))
        for name in names:
            cause = next(found.message for found in panels if found.place.where == name and found.severity == "error")
            out.print(Text.assemble(f"  {name}  ", (cause, QUIET)))
        whole = len(opened.fields)
        hurt = sum(state.broken for state in opened.fields)
        out.print(Text(f"{whole - hurt} of {whole} fields still work", style=QUIET))
    out.print()
    out.print(Text(f"found: {counted(findings)}", style="bold"))
    return attention(findings)


def _last(source: Source, catalogue: str) -> Version | None:
    """The released version that the source is compared with, if there is one."""
    if not (Path(catalogue) / "catalogue.db").is_file():
        return None
    return open_catalogue(catalogue).released(source.name)
