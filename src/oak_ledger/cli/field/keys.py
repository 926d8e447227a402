"""`oak field set`, and a verb for each thing that it sets: role, total, format, description, hidden."""

from __future__ import annotations

from typing import Any

import click

from oak_ledger.cli.field.shaping import change_each, choosing, field_command

TOTALS = ("sum", "average", "median", "minimum", "maximum", "count", "distinct", "last", "first", "none")


@field_command.command("hide")
@click.argument("source")
@choosing
def hide_command(source: str, names: tuple[str, ...], pattern: str | None, kind: str | None) -> None:
    """Hide fields from report builders; formulas still use them."""
    change_each(source, names, pattern, kind, hidden=True)


@field_command.command("show")
@click.argument("source")
@choosing
def show_command(source: str, names: tuple[str, ...], pattern: str | None, kind: str | None) -> None:
    """Show hidden fields to report builders again."""
    change_each(source, names, pattern, kind, hidden=None)


@field_command.command("describe")
@click.argument("source")
@click.argument("name")
@click.argument("text")
def describe_command(source: str, name: str, text: str) -> None:
    """Describe a field for report builders."""
    change_each(source, (name,), None, None, description=text or None)


@field_command.command("format")
@click.argument("source")
@choosing
@click.option(
    "--as", "format_text", required=True, metavar="FORMAT", help="A sample of the look: 0,000.00 or 0.0% or DD.MM.YYYY."
)
def format_command(
    source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, format_text: str
) -> None:
    """Set how values are shown; the values do not change."""
    change_each(source, names, pattern, kind, format=format_text or None)


@field_command.command("set")
@click.argument("source")
@choosing
@click.option("--role", type=click.Choice(["dimension", "measure"]), default=None, help="To group by, or to aggregate.")
@click.option(
    "--total", type=click.Choice(TOTALS), default=None, help="How it is totalled where a report names only the field."
)
@click.option(
    "--format",
    "format_text",
    default=None,
    metavar="FORMAT",
    help="A sample of the look: 0,000.00 or 0.0% or DD.MM.YYYY.",
)
@click.option("--description", default=None, metavar="TEXT", help="What it means, for report builders.")
@click.option("--hidden/--shown", "hidden", default=None, help="Whether report builders see it.")
def set_command(
    source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, role: str | None, total: str | None,
    format_text: str | None, description: str | None, hidden: bool | None,
) -> None:  # fmt: skip
    """Set role, total, format, description or hidden, of one field or of several."""
    keys = {"role": role, "total": total, "format": format_text, "description": description}
    given: dict[str, Any] = {key: value or None for key, value in keys.items() if value is not None}
    if hidden is not None:
        given["hidden"] = hidden or None
    if not given:
        raise click.UsageError("Say what to set: --role, --total, --format, --description, --hidden or --shown.")
    change_each(source, names, pattern, kind, **given)


@field_command.command("role")
@click.argument("source")
@choosing
@click.option("--as", "role", required=True, type=click.Choice(["dimension", "measure"]))
def role_command(source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, role: str) -> None:
    """Set the role of fields: dimension (to group by) or measure (to aggregate)."""
    change_each(source, names, pattern, kind, role=role)


@field_command.command("total")
@click.argument("source")
@choosing
@click.option("--as", "how", required=True, type=click.Choice(TOTALS))
@click.option(
    "--over", default=None, metavar="FIELD", help="For last and first: the field that decides, such as a day."
)
def total_command(
    source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, how: str, over: str | None
) -> None:
    """Set how fields are totalled where a report names only the field.

    A level, such as a stock or a headcount, is added up over everything but days: --as last --over Day.
    """
    change_each(source, names, pattern, kind, total=how, total_by=over)
