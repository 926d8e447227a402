"""`oak export view`."""

from __future__ import annotations

import click

from oak_ledger.cli.shared.app import catalogue_option, draft_option, json_option, open_catalogue, print_json, which
from oak_ledger.cli.shared.progress import progress_of


@click.command("view")
@click.argument("name")
@click.option("--url", required=True, metavar="ADDRESS", help="The PostgreSQL database, without a password.")
@click.option(
    "--password-from", default="", metavar="VARIABLE", help="The environment variable that holds its password."
)
@click.option("--schema", default="", help="The schema to make it in  [default: the first of the search path]")
@click.option("--name", "called", default="", metavar="VIEW", help="What it is called  [default: the source's name]")
@click.option("--as-table", "table", is_flag=True, help="Make a table of the rows, instead of a view over the origin.")
@click.option("--dry-run", is_flag=True, help="Show the statements, and run none.")
@catalogue_option
@draft_option
@json_option("CreatedView")
def view_command(
    name: str,
    url: str,
    password_from: str,
    schema: str,
    called: str,
    table: bool,
    dry_run: bool,
    catalogue: str,
    draft: bool,
    as_json: bool,
) -> None:
    """Make the released version of the published source NAME readable for any SQL client: a view, or with --as-table a table of its rows.

    All is done in one transaction; a view or table of that name is replaced. Hidden fields are left out. Descriptions become comments.
    """
    from oak_ledger.places.view import make, table_of, view_of
    from oak_ledger.present.terminal import QUIET, Text, console, plural, say

    place = open_catalogue(catalogue)
    with progress_of("writing"):
        published = place.source(name, drafts=draft)
        about, target = which(published), called or published.name
        if table:
            view = table_of(published, about, schema, target)
        else:
            view = view_of(place.origin_of(name, drafts=draft), about, schema, target)
        rows = 0 if dry_run else make(view, url, published if table else None, password_from)
    if as_json:
        left_out = [{"name": field, "value": why} for field, why in view.left_out]
        print_json(
            {
                "view": view.name,
                "statements": [*view.statements],
                "rows": rows,
                "left_out": left_out,
                "written": not dry_run,
            }
        )
        return
    if dry_run:
        for statement in view.statements:
            click.echo(f"{statement};")
    else:
        what = f"table {view.name} with {plural(rows, 'row')}" if table else f"view {view.name}"
        say(f"made: {what}, of {about}")
    for field, why in view.left_out:
        console().print(Text(f"left out: {field}, since {why}", style=QUIET))
