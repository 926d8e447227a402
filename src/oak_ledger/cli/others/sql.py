"""`oak export sql`."""

from __future__ import annotations

import click

from oak_ledger.cli.shared.app import catalogue_option, draft_option, json_option, open_any, print_json, where_option


@click.command("sql")
@click.argument("source")
@click.option("--by", multiple=True, metavar="FIELD", help="Group by a field or a formula; may be repeated.")
@click.option(
    "--show",
    multiple=True,
    metavar="MEASURE",
    help="A field or a formula for each group, or NAME = FORMULA; may be repeated.",
)
@where_option
@click.option("--sort", multiple=True, metavar="NAME", help="Sort by a column; -NAME for descending.")
@click.option("--limit", "-n", type=click.IntRange(1), default=None, help="How many groups at most.")
@click.option(
    "--dialect",
    "dialect",
    type=click.Choice(["postgresql", "sqlite", "duckdb", "spark"]),
    default="postgresql",
    show_default=True,
    help="The database that is to read it.",
)
@catalogue_option
@draft_option
@json_option("Sql")
def sql_command(
    source: str, by: tuple[str, ...], show: tuple[str, ...], where: str | None, sort: tuple[str, ...], limit: int | None,
    dialect: str, catalogue: str, draft: bool, as_json: bool,
) -> None:  # fmt: skip
    """Print a tally of SOURCE as a statement for a database, with the names of fields kept.

    It reads the table or query of the definition; of a source that is not in a database, a table of the source's name. It means what oak
    computes: a division by zero is null. At a number that is too large for its type the database stops.
    """
    from oak_ledger.places.database import written
    from oak_ledger.places.dialects import DIALECTS

    opened = open_any(source, catalogue, draft=draft)
    items = [opened.measure(item) for item in show]
    planned = opened.planned_tally([opened.measure(item) for item in by], items, where=where, sort=sort, limit=limit)
    text = written(opened, planned.query, guarded=True, dialect=DIALECTS[dialect]).text(pretty=True)
    if as_json:
        print_json({"statement": text})
        return
    click.echo(text)
