"""Showing and writing edits: the lines before and after, in every file that an edit touches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pathlib import Path

    from oak_ledger.definition.document import Document
    from oak_ledger.definition.edits import FileEdit, LoggedFile
    from oak_ledger.reference import Mend
    from oak_ledger.report import Report
    from oak_ledger.source import Source


def documents(reports: Sequence[Report]) -> list[tuple[Path, Document]]:
    """The files of reports."""
    return [(report.path, report.document) for report in reports if report.path is not None]


def show_edits(edits: Sequence[FileEdit | LoggedFile]) -> None:
    """Each line that changes, before and after, by file."""
    from oak_ledger.present.terminal import LEAF, QUIET, RUST, Text, console, shortened

    out = console()
    for edit in edits:
        out.print(Text(edit.path.name, style="bold"))
        lines, more = shortened(edit.lines(), "changed line")
        for number, before, after in lines:
            if before:
                out.print(Text.assemble((f"{number:>5}  ", QUIET), ("- ", RUST), before), soft_wrap=True)
            if after:
                out.print(
                    Text.assemble((f"{number if not before else '':>5}  ", QUIET), ("+ ", LEAF), after), soft_wrap=True
                )
        for line in more:
            out.print(line)


def write_edit(before: Source, after: Source, *, dry_run: bool = False, facts: Mapping[str, Any] | None = None) -> None:
    """Write one definition and show what changed in it; with `--json` also `facts`, which the command found out."""
    from oak_ledger.definition.edits import FileEdit
    from oak_ledger.reference import Mend

    if before.path is None:
        return
    edit = FileEdit(before.path, before.document.text, after.document.text)
    apply(Mend(after, (edit,) if edit.before != edit.after else ()), dry_run=dry_run, facts=facts)


def what_is_run() -> str:
    """The command that is being run, as it goes into the log of edits."""
    import click

    context = click.get_current_context(silent=True)
    return "oak " + str(context.find_root().obj)[:200] if context is not None else "edit"


def tell_edits(
    edits: Sequence[FileEdit | LoggedFile], *, written: bool, facts: Mapping[str, Any] | None = None
) -> None:
    """With `--json`, print the lines that change."""
    from oak_ledger.cli.shared.app import print_json
    from oak_ledger.present.look import LOOK

    if LOOK.as_json:
        files = [
            {
                "file": edit.path.name,
                "lines": [dict(zip(("line", "before", "after"), line, strict=True)) for line in edit.lines()],
            }
            for edit in edits
        ]
        print_json({"files": files, "written": written, "facts": dict(facts or {})})


def apply(mend: Mend, *, dry_run: bool, facts: Mapping[str, Any] | None = None) -> None:
    """Show the edits and, unless it is a dry run, write all of them or none."""
    if mend.source.path is not None:
        apply_files(mend.source.path, mend.edits, dry_run=dry_run, facts=facts)


def apply_files(
    owner: Path, edits: Sequence[FileEdit], *, dry_run: bool = False, facts: Mapping[str, Any] | None = None
) -> None:
    """The same for edits that go into the log of a file."""
    from oak_ledger.cli.shared.app import is_dry_run
    from oak_ledger.definition.edits import write_edits
    from oak_ledger.present.terminal import Text, console, plural

    dry_run = dry_run or is_dry_run()
    show_edits(edits)
    if edits and not dry_run:
        write_edits(owner, edits, what_is_run())
    tell_edits(edits, written=bool(edits) and not dry_run, facts=facts)
    if not edits:
        console().print("nothing to change")
        return
    lines = sum(len(edit.lines()) for edit in edits)
    said = f"{plural(lines, 'line')} in {plural(len(edits), 'file')}"
    if dry_run:
        console().print(Text(f"dry run: {said} would change; nothing was written"))
        return
    console().print(Text(f"{said} changed"))
