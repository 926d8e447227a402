"""`oak field rename`: one name, many by rule, from the first row, from a list."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.field import keys as field_keys
from oak_ledger.cli.field.shaping import chosen, field_command
from oak_ledger.cli.shared.app import catalogue_option, open_working, pairs, reports_of, reports_option

if TYPE_CHECKING:
    from oak_ledger.source import Source


@field_command.command("rename")
@click.argument("source")
@click.argument("names", nargs=-1, metavar="[OLD=NEW | FIELD]...")
@click.option("--pattern", default=None, metavar="REGEX", help="In each name, replace what matches …")
@click.option("--by", default=None, metavar="TEXT", help="… by this; \\1 is the first group.")
@click.option("--add-prefix", default="", help="Put this at the beginning.")
@click.option("--remove-prefix", default="", help="Take this off at the beginning.")
@click.option("--add-suffix", default="", help="Put this at the end.")
@click.option("--remove-suffix", default="", help="Take this off at the end.")
@click.option("--case", type=click.Choice(["upper", "lower", "title", "sentence"]), default=None, help="Letter case.")
@click.option("--underscores", is_flag=True, help="Make underscores spaces.")
@click.option("--spaces", default=None, metavar="TEXT", help="Make spaces this, such as _.")
@click.option("--from-first-row", is_flag=True, help="The names are in the first data row.")
@click.option(
    "--from-file", default=None, metavar="FILE", help="The names come from a list, in the order of the columns."
)
@click.option("--standing", is_flag=True, help="Keep the rule for columns yet to come.")
@click.option("--dry-run", is_flag=True, help="Show what would change and write nothing.")
@reports_option
@catalogue_option
def rename_command(
    source: str,
    names: tuple[str, ...],
    from_first_row: bool,
    from_file: str | None,
    standing: bool,
    dry_run: bool,
    reports: str | None,
    catalogue: str,
    **rule: Any,
) -> None:
    """Rename fields; every formula, filter, rule and report that uses them follows; reports of the catalogue when the source is released.

    OLD=NEW renames one. A rule (--add-prefix, --case, --pattern with --by, …) renames the fields named, or all of them.
    """
    from oak_ledger.cli.shared.following import followed
    from oak_ledger.cli.shared.output_edits import apply, documents
    from oak_ledger.present.terminal import console
    from oak_ledger.reference.mend import renaming

    opened = open_working(source)
    given = {key: value for key, value in rule.items() if value}
    named = pairs([name for name in names if "=" in name], "a renaming")
    fields = tuple(name for name in names if "=" not in name)
    if sum((bool(given), bool(named), from_first_row, from_file is not None)) != 1 or (fields and not given):
        raise click.UsageError("Say what to rename: OLD=NEW, or a rule, or --from-first-row, or --from-file FILE.")
    made = _renamed(opened, named, fields, given, from_first_row, from_file, standing)
    if standing and [field.name for field in made.fields] == [field.name for field in opened.fields]:
        console().print("the rule changes no name now; it is kept for columns yet to come")
    files = reports_of(opened, reports)
    shared = followed(opened, files, catalogue)
    planned, theirs = shared.apart(renaming(opened, made, [*documents(files), *shared.documents]))
    apply(planned, dry_run=dry_run)
    shared.leave(theirs, dry_run=dry_run)


def _renamed(
    source: Source,
    named: dict[str, str],
    fields: tuple[str, ...],
    rule: dict[str, Any],
    first_row: bool,
    file: str | None,
    standing: bool,
) -> Source:
    from oak_ledger.definition.lists import listed_names
    from oak_ledger.definition.naming import NameRule

    if named:
        return source.with_renamed(named)
    if first_row:
        return source.with_first_row_names()
    if file is not None:
        return source.with_listed_names(listed_names(Path(file)))
    made = NameRule.of(**{**rule, "by": rule.get("by") or ""})
    return source.with_rule_names(made, chosen(source, fields, None, None) if fields else None, standing=standing)


ORDER = ("list", "add", "clean", "recode", "retype", "rename", "restore", "drop", "keep", "move", "sort", "set")
__all__ = ["ORDER", "field_command", "field_keys"]
