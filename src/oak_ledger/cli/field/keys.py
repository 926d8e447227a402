"""`oak field set`: role, total, format, description and whether fields are hidden."""

from __future__ import annotations

from typing import Any

import click

from oak_ledger.cli.field.shaping import change_each, choosing, field_command

TOTALS = ("sum", "average", "median", "minimum", "maximum", "count", "distinct", "last", "first", "none")
FORMAT = "A sample of the look: 0,000.00 or 0.0% or DD.MM.YYYY; values stay."
OVER = "For a total of last and first: the field that decides, such as a day."


@field_command.command("set")
@click.argument("source")
@choosing
@click.option("--role", type=click.Choice(["dimension", "measure"]), default=None, help="To group by, or to aggregate.")
@click.option(
    "--total", type=click.Choice(TOTALS), default=None, help="How it is totalled where a report names only the field."
)
@click.option("--over", "total_by", default=None, metavar="FIELD", help=OVER)
@click.option("--format", default=None, metavar="FORMAT", help=FORMAT)
@click.option("--description", default=None, metavar="TEXT", help="What it means, for report builders.")
@click.option(
    "--hidden/--shown", default=None, help="Whether report builders see it; formulas use hidden fields all the same."
)
def set_command(
    source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, hidden: bool | None, **keys: str | None
) -> None:
    """Set role, total, format, description or hidden, of one field or of several.

    An empty text takes a key out. A level, such as a stock or a headcount, is added up over everything but days: --total last --over Day.
    """
    given: dict[str, Any] = {key: value or None for key, value in keys.items() if value is not None}
    if hidden is not None:
        given["hidden"] = hidden or None
    if not given:
        raise click.UsageError("Say what to set: --role, --total, --format, --description, --hidden or --shown.")
    if "total" in given:
        given.setdefault("total_by", None)
    change_each(source, names, pattern, kind, **given)
