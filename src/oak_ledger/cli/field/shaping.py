"""`oak field …`: shaping and cleaning."""

from __future__ import annotations

import re
from collections.abc import Callable
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING, Any, TypeVar

import click

from oak_ledger.cli.shared.app import (
    Verbs,
    confirmed,
    json_option,
    open_working,
    pairs,
    print_json,
    reports_of,
    reports_option,
    yes_option,
)
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.source import Source


@click.group("field", cls=Verbs)
def field_command() -> None:
    """Shape and clean the fields of a source. Every edit keeps the comments and the order of the definition.

    SOURCE is a definition file; its ending may be left out. Names may hold * and ? where several fields are meant.
    """


Command = TypeVar("Command", bound=Callable[..., Any])
NAMES = "[FIELD]..."


def choosing(command: Command) -> Command:
    """Fields by name and wildcard, and also by pattern and by type."""
    command = click.option("--type", "kind", default=None, help="Fields of this type as well.")(command)
    command = click.option("--pattern", default=None, metavar="REGEX", help="Fields whose names match as well.")(
        command
    )
    return click.argument("names", nargs=-1, metavar=NAMES)(command)


def chosen(source: Source, names: tuple[str, ...], pattern: str | None, kind: str | None) -> list[str]:
    """The fields that are meant; at least one."""
    made: dict[str, None] = {}
    for name in names:
        if "*" in name or "?" in name:
            found = [field.name for field in source.fields if fnmatchcase(field.name.casefold(), name.casefold())]
            if not found:
                raise OakError("unknown-field", f"No field of {source.name} is like {name!r}.")
            made |= dict.fromkeys(found)
        else:
            made[source.state(name).name] = None
    if pattern is not None:
        try:
            wanted = re.compile(pattern)
        except re.error as error:
            raise OakError("bad-pattern", f"The pattern {pattern!r} cannot be used: {error}.") from None
        made |= dict.fromkeys(field.name for field in source.fields if wanted.search(field.name))
    if kind is not None:
        made |= dict.fromkeys(
            field.name for field in source.fields if field.type is not None and field.type.kind == kind
        )
    if not made:
        raise OakError("no-field", "No field given.", hint="Name some, or choose by --pattern or --type.")
    return list(made)


def change_each(source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, **keys: Any) -> None:
    """Change some keys of each of several fields."""
    from oak_ledger.cli.shared.output_edits import write_edit

    before = after = open_working(source)
    for name in chosen(before, names, pattern, kind):
        after = after.with_changed(name, **keys)
    write_edit(before, after)


@field_command.command("list")
@click.argument("source")
@choosing
@json_option("Fields")
def list_command(source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, as_json: bool) -> int:
    """List the fields with type, grain, and what they are made of; all of them, or those chosen."""
    from oak_ledger.present.terminal import LEAF, QUIET, RUST, Text, console, grid, plural, shortened

    opened = open_working(source)
    states = opened.fields
    if names or pattern or kind:
        wanted = set(chosen(opened, names, pattern, kind))
        states = [state for state in states if state.name in wanted]
    if as_json:
        print_json({"fields": [_as_json(state) for state in states]})
        return 0
    table = grid("field", "kind", "type", "per", "made of", "description")
    listed, more = shortened(states, "field")
    for state in listed:
        spec: Any = state.spec
        shown = Text("calculated", style=LEAF) if spec.calculated else Text("plain")
        if state.broken:
            shown = Text("broken", style=RUST)
        if spec.hidden:
            shown.append(", hidden", style=QUIET)
        made = (
            " ".join(spec.formula.split())
            if spec.calculated
            else spec.column + (f"  clean {spec.clean}" if spec.clean else "")
        )
        table.add_row(state.name, shown, state.type_name, str(state.grain), made, spec.description)
    out = console()
    out.print(table, *more)
    broken = sum(state.broken for state in states)
    out.print(
        Text(
            f"{plural(len(states), 'field')}, {broken} broken" if broken else plural(len(states), "field"), style=QUIET
        )
    )
    return 1 if broken else 0


def _as_json(state: Any) -> dict[str, Any]:
    spec = state.spec
    return {
        "field": state.name,
        "kind": "calculated" if spec.calculated else "plain",
        "type": state.type_name or None,
        "grain": str(state.grain),
        "broken": state.broken,
        "hidden": spec.hidden,
        "column": spec.column,
        "formula": spec.formula,
        "clean": spec.clean,
        "description": spec.description,
    }


@field_command.command("add")
@click.argument("source")
@click.argument("name")
@click.argument("formula")
@click.option("--format", "format_text", default=None, help="How values are shown, such as 0,000.00.")
@click.option("--description", default=None, help="What it means, for report builders.")
@click.option("--hidden", is_flag=True, help="Only for other formulas, not for report builders.")
@click.option("--replace", is_flag=True, help="Replace the formula of a field of that name.")
def add_command(
    source: str, name: str, formula: str, format_text: str | None, description: str | None, hidden: bool, replace: bool
) -> None:
    """Add a calculated field."""
    from oak_ledger.cli.shared.output_edits import write_edit
    from oak_ledger.insight.additivity import how_it_totals
    from oak_ledger.present.terminal import say

    before = open_working(source)
    if name.casefold() in before.compiled.states and not replace:
        raise OakError("name-taken", f"There is a field {name!r} already.", hint="Use --replace to change its formula.")
    keys = {"format": format_text, "description": description, "hidden": hidden or None}
    after = before.with_field(name, formula, **{key: value for key, value in keys.items() if value is not None})
    state = after.state(name)
    totals = how_it_totals(after, state)
    facts = {"field": state.name, "type": str(state.type), "grain": str(state.grain), "totals": totals}
    write_edit(before, after, facts=facts)
    say(f"{state.name}: {state.type} per {state.grain}" + (f"; {totals}" if totals else ""))


@field_command.command("retype")
@click.argument("source")
@click.argument("name")
@click.argument("type_name", metavar="TYPE")
@click.option("--template", default=None, help="How dates are written, such as DD.MM.YYYY.")
@click.option("--thousands-mark", default=None, help="The thousands mark in the column.")
@click.option("--decimal-mark", type=click.Choice([".", ","]), default=None, help="The decimal mark in the column.")
@click.option(
    "--null-word", "null_words", multiple=True, help="A word in the column that means no value; may be repeated."
)
@click.option("--dry-run", is_flag=True, help="Show what would happen and write nothing.")
def retype_command(
    source: str,
    name: str,
    type_name: str,
    template: str | None,
    decimal_mark: str | None,
    thousands_mark: str | None,
    null_words: tuple[str, ...],
    dry_run: bool,
) -> int:
    """Read a plain field as another type, and show what cannot be converted.

    TYPE is text, integer, decimal(12,2), number, boolean, date or timestamp.
    """
    from oak_ledger import retype
    from oak_ledger.cli.shared.output_edits import write_edit
    from oak_ledger.present.terminal import RUST, Text, console, grid, plural

    before = open_working(source)
    keys = {
        "template": template,
        "decimal_mark": decimal_mark,
        "thousands_mark": thousands_mark,
        "null_words": [*null_words] or None,
    }
    retyped = retype(before, name, type_name, **{key: value for key, value in keys.items() if value is not None})
    out = console()
    out.print(
        f"{retyped.field}: {retyped.type_before} → {retyped.type_after}; {retyped.values_before:,} values before, {retyped.values_after:,} after, of {plural(retyped.rows, 'row')}"
    )
    table = grid("before", "after")
    for old, new in retyped.samples:
        table.add_row(_quoted(old), _quoted(new))
    out.print(table)
    for fault in retyped.lost:
        out.print(Text.assemble(("could not be converted: ", RUST), fault.sentence()))
    facts = {
        "field": retyped.field,
        "type_before": str(retyped.type_before),
        "type_after": str(retyped.type_after),
        "values_before": retyped.values_before,
        "values_after": retyped.values_after,
        "lost": [fault.as_json() for fault in retyped.lost],
    }
    write_edit(before, retyped.source, dry_run=dry_run, facts=facts)
    return 1 if retyped.lost else 0


@field_command.command("clean")
@click.argument("source")
@click.argument("name")
@click.argument("formula")
@click.option("--dry-run", is_flag=True, help="Show what would happen and write nothing.")
def clean_command(source: str, name: str, formula: str, dry_run: bool) -> None:
    """Clean a plain field by a formula over VALUE, and show how many values change.

    An empty formula removes the cleaning formula.
    """
    from oak_ledger import Source
    from oak_ledger.cli.shared.output_edits import write_edit
    from oak_ledger.present.terminal import console, faults_lines, plural

    before = open_working(source)
    after = before.with_changed(name, clean=formula or None)
    field = after.state(name).name
    out = console()
    shown = '"' + field.replace('"', '""') + '"'
    facts: dict[str, Any] = {"field": field}
    if not before.state(field).broken:
        old, new = before.rows([shown]), after.rows([shown])
        both = Source.from_table(_side_by_side(old, new), name="before and after")
        if old.table.schema.types == new.table.schema.types:
            changed = both.tally(show=[("n", "COUNT(*) FILTER (WHERE before IS DISTINCT FROM after)")]).value()
            facts |= {"values": new.table.num_rows, "changed": changed}
            out.print(f"{field}: {changed:,} of {plural(new.table.num_rows, 'value')} changed")
            for row in both.rows(where="before IS DISTINCT FROM after", limit=3).to_dicts():
                out.print(f"  {_quoted(row['before'])} → {_quoted(row['after'])}")
        else:
            out.print(f"{field}: {before.state(field).type_name} → {after.state(field).type_name}")
        faults = [fault for fault in new.faults if fault.field == field]
        facts["faults"] = [fault.as_json() for fault in faults]
        for line in faults_lines(faults):
            out.print(line)
    write_edit(before, after, dry_run=dry_run, facts=facts)


def _quoted(value: Any) -> str:
    """A value in a sentence: text in quotes, so that its spaces are seen."""
    from oak_ledger.definition.formats import plain

    return repr(value) if isinstance(value, str) else "null" if value is None else plain(value)


def _side_by_side(old: Any, new: Any) -> Any:
    import pyarrow as pa

    return pa.table({"before": old.table.column(0), "after": new.table.column(0)})


@field_command.command("keep")
@click.argument("source")
@choosing
def keep_command(source: str, names: tuple[str, ...], pattern: str | None, kind: str | None) -> None:
    """Keep these fields and remove the others (their columns stay in the origin)."""
    from oak_ledger.cli.shared.output_edits import write_edit

    before = open_working(source)
    write_edit(before, before.with_kept(chosen(before, names, pattern, kind)))


@field_command.command("drop")
@click.argument("source")
@choosing
@reports_option
@yes_option
def drop_command(
    source: str, names: tuple[str, ...], pattern: str | None, kind: str | None, reports: str | None, yes: bool
) -> None:
    """Remove fields (their columns stay in the origin); refused while another field needs them, asked where reports use them."""
    from oak_ledger.cli.shared.output_edits import write_edit
    from oak_ledger.present.terminal import console, findings_list

    before = open_working(source)
    after = before.without(chosen(before, names, pattern, kind))
    lost = [finding for report in reports_of(before, reports) for finding in report.lost(before, after)]
    if lost:
        console(to_errors=True).print(findings_list(lost))
        confirmed(f"{len(lost)} place{'s' * (len(lost) != 1)} in reports would break.", yes=yes)
    write_edit(before, after)


@field_command.command("restore")
@click.argument("source")
@click.argument("columns", nargs=-1, metavar="[COLUMN]...")
@click.option("--new", "all_new", is_flag=True, help="All unused columns.")
def restore_command(source: str, columns: tuple[str, ...], all_new: bool) -> None:
    """Add fields for unused columns, dropped or new; types are judged, saved naming rules apply."""
    from oak_ledger import restore_columns
    from oak_ledger.cli.shared.output_edits import write_edit

    before = open_working(source)
    wanted = before.new_columns() if all_new else list(columns)
    if not wanted:
        there = ", ".join(before.new_columns()) or "none"
        raise OakError("no-column", "No column given.", hint=f"Unused columns: {there}.")
    write_edit(before, restore_columns(before, wanted))


@field_command.command("move")
@click.argument("source")
@choosing
@click.option("--before", default=None, metavar="FIELD", help="Before this field.")
@click.option("--after", default=None, metavar="FIELD", help="After this field.")
@click.option("--first", is_flag=True, help="To the beginning.")
def move_command(
    source: str,
    names: tuple[str, ...],
    pattern: str | None,
    kind: str | None,
    before: str | None,
    after: str | None,
    first: bool,
) -> None:
    """Move fields before or after another one, or to the beginning; else to the end."""
    from oak_ledger.cli.shared.output_edits import write_edit

    if (before is not None) + (after is not None) + first > 1:
        raise click.UsageError("Say one of --before, --after and --first.")
    opened = open_working(source)
    moved = chosen(opened, names, pattern, kind)
    rest = [state.name for state in opened.fields if state.name not in moved]
    if first and rest:
        before = rest[0]
    write_edit(opened, opened.with_moved(moved, before=before, after=after))


@field_command.command("sort")
@click.argument("source")
@click.option("--by", type=click.Choice(["name", "type"]), default="name", show_default=True)
@click.option("--descending", is_flag=True, help="From last to first.")
def sort_command(source: str, by: str, descending: bool) -> None:
    """Sort the fields by name or by type."""
    from oak_ledger.cli.shared.output_edits import write_edit

    before = open_working(source)
    write_edit(before, before.with_sorted(by=by, descending=descending))


SHOWN_ENTRIES = 20  # of a recode list


@field_command.command("recode")
@click.argument("source")
@click.argument("name")
@click.argument("values", nargs=-1, metavar="FOUND=MEANT...")
@click.option(
    "--from",
    "file",
    default=None,
    metavar="FILE",
    help="A file of two columns, found and meant; kept beside the definition.",
)
def recode_command(source: str, name: str, values: tuple[str, ...], file: str | None) -> None:
    """Replace values of a text field by a list; other values stay. Says how many rows each entry takes."""
    from oak_ledger.cli.shared.output_edits import write_edit
    from oak_ledger.definition.lists import two_columns
    from oak_ledger.present.terminal import RUST, Text, console, plural

    before = open_working(source)
    spec: Any = before.state(name).spec
    listed = {**spec.values, **(pairs(values, "a recoding") if values else {})}
    after = before.with_changed(name, values=listed or None, values_from=file)
    entries = {**(two_columns(before.folder / file) if file else {}), **listed}
    shown = '"' + after.state(name).name.replace('"', '""') + '"'
    arriving = before.with_changed(name, values=None, values_from=None, clean=None).tally(
        [shown], [("rows", "COUNT(*)")]
    )
    rows = dict(zip(*(arriving.table.column(at).to_pylist() for at in (0, 1)), strict=True))
    taken = {entry: rows.get(entry, 0) for entry in entries}
    out = console()
    for found, count in [*taken.items()][:SHOWN_ENTRIES]:
        out.print(Text.assemble((f"{found!r} is in {plural(count, 'row')}", "" if count else RUST)))
    others = [*taken.values()][SHOWN_ENTRIES:]
    if others:
        out.print(f"… and {len(others):,} more, of which {others.count(0):,} are in no row")
    write_edit(before, after, facts={"rows_by_value": taken})
