"""`oak mend`."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from oak_ledger.cli.shared.app import (
    catalogue_option,
    confirmed,
    open_working,
    pairs,
    reports_of,
    reports_option,
    yes_option,
)
from oak_ledger.errors import Finding, OakError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from oak_ledger.definition.document import Document
    from oak_ledger.reference import Mend
    from oak_ledger.reference.guided import Decision


@click.command("mend")
@click.argument("source")
@click.argument("repairs", nargs=-1, metavar="[OLD=NEW]...")
@click.option(
    "--values", default=None, metavar="FIELD", help="OLD and NEW are values of this field that became others."
)
@click.option("--path", default=None, metavar="FILE|PATTERN", help="Where the files of the origin are now.")
@click.option("--sheet", default=None, help="What the sheet of the origin is called now.")
@click.option("--url", default=None, help="Where the database of the origin is now.")
@click.option("--table", default=None, help="What the table of the origin is called now.")
@click.option("--part", "parts", multiple=True, metavar="NAME=FILE", help="Where the file of a part of a join is now.")
@click.option(
    "--gone",
    multiple=True,
    metavar="FIELD",
    help="Nobody delivers this field any more: drop it, and what needs or shows it.",
)
@click.option(
    "--hide", multiple=True, metavar="FIELD", help="Hide a field that is not delivered, and the fields that need it."
)
@click.option("--rename", multiple=True, metavar="FIELD=NAME", help="Give a field a new name as well, everywhere.")
@click.option("--sure", is_flag=True, help="Take the repairs that values prove, and leave the rest.")
@click.option("--again", is_flag=True, help="On a terminal: ask again what was left for later.")
@click.option("--plan", default=None, metavar="FILE", help="Take the repairs of a plan, which --json has made.")
@yes_option
@click.option("--dry-run", is_flag=True, help="Show each line before and after, and write nothing.")
@reports_option
@catalogue_option
def mend_command(
    source: str,
    repairs: tuple[str, ...],
    values: str | None,
    path: str | None,
    sheet: str | None,
    url: str | None,
    table: str | None,
    parts: tuple[str, ...],
    gone: tuple[str, ...],
    hide: tuple[str, ...],
    rename: tuple[str, ...],
    sure: bool,
    again: bool,
    plan: str | None,
    yes: bool,
    dry_run: bool,
    reports: str | None,
    catalogue: str,
) -> int:
    """Replace OLD by NEW in every reference, in the definition and in the reports. Either all files are written or none.

    SOURCE alone shows what is wrong since the released version, one thing after the other, and on a terminal asks what to do about each;
    with --json it prints the plan of what values prove.

    Reports of the catalogue follow when the source is released; where you may not edit one, the change waits for its owner then.

    OLD is a column that is gone, or a name that is not a field any more; NEW is what it is now. Columns that changed places are
    named both ways: A=B B=A. With --values, values became others: filters, CASE branches, recode lists and colours follow.
    """
    from oak_ledger import broken_names, plan_mend
    from oak_ledger.cli.publishing.guided import decided
    from oak_ledger.cli.shared.following import followed
    from oak_ledger.cli.shared.output_edits import apply, documents, tell_edits
    from oak_ledger.present.look import LOOK
    from oak_ledger.present.terminal import LEAF, RUST, Text, console, findings_list, plural
    from oak_ledger.reference.guided import Repairs, read_plan

    opened = open_working(source)
    unread: list[Finding] = []
    files = reports_of(opened, reports, None, unread)
    shared = followed(opened, files, catalogue)
    others = [*documents(files), *shared.documents]
    given = pairs(repairs, "a repair")
    origin = {
        key: value
        for key, value in {"path": path, "sheet": sheet, "url": url, "table": table}.items()
        if value is not None
    }
    part_paths = pairs(parts, "a part")
    repairs_of = Repairs({} if values is not None else given, {values: given} if values is not None else {}, gone=gone, hidden=hide, origin=origin, parts=part_paths)  # fmt: skip
    left_open: list[Decision] = []
    asked = False
    if plan is not None:
        repairs_of = read_plan(Path(plan))
    elif not repairs_of:
        repairs_of, left_open, go_on, asked, decisions = decided(opened, files, catalogue, sure=sure, again=again)
        if not go_on:
            if LOOK.as_json:
                tell_edits((), written=False, facts={"plan": repairs_of.as_json(), "left": [decision.wrong for decision in left_open], "decisions": [decision.as_json() for decision in decisions]})  # fmt: skip
            return 1 if left_open or repairs_of else 0
    planned = plan_mend(opened, repairs_of.columns, others, names=pairs(rename, "a renaming"), **repairs_of.keys())  # fmt: skip
    broken = 0
    with suppress(OakError):  # an origin that cannot be read breaks everything, and the mend may be what helps
        broken = sum(state.broken for state in opened.compiled.states.values())
    lost = [
        *planned.losses,
        *(finding for report in files if repairs_of.gone for finding in report.lost(opened, planned.source)),
    ]
    if asked:
        _figures(planned, others, catalogue)
    if lost or unread:
        console(to_errors=True).print(findings_list([*unread, *lost]))
    if lost:
        confirmed("Write it all the same?", yes=yes or dry_run)
    elif asked and not (yes or dry_run):
        click.confirm("Write it?", default=True, abort=True, err=True)
    left = broken_names(planned.source)
    still = sum(state.broken for state in planned.source.compiled.states.values())
    planned, theirs = shared.apart(planned)
    apply(
        planned,
        dry_run=dry_run,
        facts={
            "mended": broken - still,
            "still_broken": [broken.name for broken in left],
            "losses": [loss.as_json() for loss in planned.losses],
        },
    )
    out = console()
    for decision in left_open:
        out.print(Text.assemble(("left: ", RUST), decision.wrong))
    verb = "would work" if dry_run else "works" if broken - still == 1 else "work"
    if broken > still:
        out.print(Text.assemble((plural(broken - still, "broken field"), LEAF), f" {verb} again"))
    for one in left:
        out.print(Text.assemble((f"{one.name} is still broken: ", RUST), one.finding.message))
    shared.leave(theirs, dry_run=dry_run)
    return 1 if left_open else 0


def _figures(planned: Mend, others: Sequence[tuple[Path, Document]], catalogue: str) -> None:
    """Show which figures of reports would differ from those of the released version."""
    from oak_ledger import Catalogue
    from oak_ledger.cli.shared.app import has_catalogue, open_catalogue
    from oak_ledger.cli.shared.comparing import compared, show_compared
    from oak_ledger.cli.shared.progress import progress_of
    from oak_ledger.definition.document import parse_document
    from oak_ledger.report import Report
    from oak_ledger.report.definition import REPORT

    source = planned.source
    place = open_catalogue(catalogue) if has_catalogue(catalogue) else None
    if place is None or place.released(source.name) is None:
        return
    after = {edit.path: edit.after for edit in planned.edits}
    reports = [
        Report(parse_document(after.get(path, document.text), REPORT, path.name), path) for path, document in others
    ]
    with progress_of("comparing reports"):
        prints = Catalogue.prepare(source, broken=True).fingerprints
        found = compared(place, place.address(source.name), source, prints, reports)
    show_compared(found, len(reports))
