"""`oak mend`, `oak upgrade`: commands that rewrite a definition and its reports together."""

from __future__ import annotations

from contextlib import suppress

import click

from oak_ledger.cli.app import open_working, pairs, reports_of, reports_option
from oak_ledger.errors import OakError


@click.command("mend")
@click.argument("source")
@click.argument("repairs", nargs=-1, metavar="[OLD=NEW]...")
@click.option(
    "--values", default=None, metavar="FIELD", help="OLD and NEW are values of this field that became others."
)
@click.option("--path", default=None, metavar="FILE|PATTERN", help="Where the files of the origin are now.")
@click.option("--sheet", default=None, help="What the sheet of the origin is called now.")
@click.option("--rename", multiple=True, metavar="FIELD=NAME", help="Give a field a new name as well, everywhere.")
@click.option("--dry-run", is_flag=True, help="Show each line before and after, and write nothing.")
@reports_option
def mend_command(
    source: str,
    repairs: tuple[str, ...],
    values: str | None,
    path: str | None,
    sheet: str | None,
    rename: tuple[str, ...],
    dry_run: bool,
    reports: str | None,
) -> int:
    """Replace OLD by NEW in every reference, in the definition and in the reports. Either all files are written or none.

    OLD is a column that is gone, or a name that is not a field any more; NEW is what it is now. Columns that changed places are
    named both ways: A=B B=A. With --values, values became others: filters, CASE branches, recode lists and colours follow.
    """
    from oak_ledger import broken_names, plan_mend
    from oak_ledger.cli.output_edits import apply, documents
    from oak_ledger.present.terminal import LEAF, RUST, Text, console, plural

    opened = open_working(source)
    others = documents(reports_of(opened, reports))
    given = pairs(repairs, "a repair")
    origin = {key: value for key, value in {"path": path, "sheet": sheet}.items() if value is not None}
    if not given and not origin:
        raise click.UsageError("Say what is to be repaired: OLD=NEW, --path or --sheet.")
    recoded = {values: given} if values is not None else {}
    columns = {} if values is not None else given
    planned = plan_mend(opened, columns, others, names=pairs(rename, "a renaming"), values=recoded, origin=origin)
    broken = 0
    with suppress(OakError):  # an origin that cannot be read breaks everything, and the mend may be what helps
        broken = sum(state.broken for state in opened.compiled.states.values())
    left = broken_names(planned.source)
    still = sum(state.broken for state in planned.source.compiled.states.values())
    apply(planned, dry_run=dry_run, facts={"mended": broken - still, "still_broken": [one.name for one in left]})
    out = console()
    verb = "would work" if dry_run else "works" if broken - still == 1 else "work"
    if broken > still:
        out.print(Text.assemble((plural(broken - still, "broken field"), LEAF), f" {verb} again"))
    for one in left:
        out.print(Text.assemble((f"{one.name} is still broken: ", RUST), one.finding.message))
    return 0


@click.command("upgrade")
@click.argument("source")
@click.option("--dry-run", is_flag=True, help="Show each line before and after, and write nothing.")
@reports_option
def upgrade_command(source: str, dry_run: bool, reports: str | None) -> None:
    """Rewrite SOURCE and its reports with today's keys, where an earlier version of this program wrote others.

    Files with the old keys go on working; oak check names them.
    """
    from oak_ledger.cli.output_edits import apply, documents
    from oak_ledger.reference import plan_upgrade

    opened = open_working(source)
    apply(plan_upgrade(opened, documents(reports_of(opened, reports))), dry_run=dry_run)
