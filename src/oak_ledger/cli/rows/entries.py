"""`oak constant`, `oak filter`, `oak rule`, `oak field key`: what a definition keeps beside its fields."""

from __future__ import annotations

import datetime as dt
from contextlib import suppress
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import Verbs, json_option, open_working, print_json
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.source import Source


@click.group("constant", cls=Verbs)
def constant_command() -> None:
    """List, set and remove the constants of a source: named values that formulas use."""


@click.group("filter", cls=Verbs)
def filter_command() -> None:
    """List, add and remove the named filters of a source."""


@click.group("rule", cls=Verbs)
def rule_command() -> None:
    """List, add and remove the rules that every row of a source must meet."""


def _written(before: Source, after: Source) -> None:
    from oak_ledger.cli.shared.output_edits import write_edit

    write_edit(before, after)


def _listed(source: str, table: str, columns: dict[str, str], as_json: bool) -> None:
    """The entries of a kind, one a line."""
    from oak_ledger.present.terminal import console, grid

    entries = [dict(block.values) for block in open_working(source).document.all(table)]
    if as_json:
        print_json({f"{table}s": entries})
        return
    if not entries:
        console().print(f"no {table}s; oak {table} --help shows how one is added")
        return
    shown = grid(*columns.values())
    for entry in entries:
        shown.add_row(*(_text(entry.get(key)) for key in columns))
    console().print(shown)


def _text(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{one} from {day}" for day, one in value.items())
    return "" if value is None else "yes" if value is True else str(value)


def _value(text: str) -> Any:
    """A constant's value as it is written: a whole number, a decimal, a date, true or false, else a text."""
    if text.lower() in ("true", "false"):
        return text.lower() == "true"
    with suppress(ValueError):
        return int(text)
    with suppress(InvalidOperation):
        return float(Decimal(text))
    with suppress(ValueError):
        return dt.date.fromisoformat(text)
    return text


@constant_command.command("list")
@click.argument("source")
@json_option("Constants")
def constant_list(source: str, as_json: bool) -> None:
    """List the constants."""
    _listed(
        source,
        "constant",
        {"name": "constant", "value": "value", "values": "values", "by": "by", "description": "description"},
        as_json,
    )


@constant_command.command("set")
@click.argument("source")
@click.argument("name")
@click.argument("value")
@click.option(
    "--from", "start", default=None, metavar="DATE", help="The date from which the value holds; earlier values stay."
)
@click.option(
    "--date-field", default=None, metavar="FIELD", help="The date field that decides, for values that hold from a date."
)
@click.option("--description", default=None, help="What it is, and who says so.")
def constant_set(
    source: str, name: str, value: str, start: str | None, date_field: str | None, description: str | None
) -> None:
    """Set a constant, or its value from a date on."""
    before = open_working(source)
    keys: dict[str, Any] = {"description": description} if description is not None else {}
    if start is None:
        keys |= {"value": _value(value), "values": None, "by": None}
    else:
        block = before.entry("constant", name)
        there = dict(block.values) if block is not None else {}
        values = {**there.get("values", {}), start: _value(value)}
        keys |= {"value": None, "values": dict(sorted(values.items())), "by": date_field or there.get("by")}
    _written(before, before.with_entry("constant", name, **keys))


@filter_command.command("list")
@click.argument("source")
@json_option("Filters")
def filter_list(source: str, as_json: bool) -> None:
    """List the filters."""
    _listed(
        source,
        "filter",
        {"name": "filter", "where": "condition", "always": "always", "description": "description"},
        as_json,
    )


@filter_command.command("add")
@click.argument("source")
@click.argument("name")
@click.argument("condition")
@click.option("--always", is_flag=True, help="Apply it to every question about the source.")
@click.option("--description", default=None, help="What it is for.")
@click.option("--replace", is_flag=True, help="Replace a filter of that name.")
def filter_add(source: str, name: str, condition: str, always: bool, description: str | None, replace: bool) -> None:
    """Add a named condition that queries and reports can use."""
    before = _free(source, "filter", name, replace)
    _written(before, before.with_entry("filter", name, where=condition, always=always or None, description=description))


@rule_command.command("list")
@click.argument("source")
@json_option("Rules")
def rule_list(source: str, as_json: bool) -> None:
    """List the rules."""
    _listed(source, "rule", {"name": "rule", "holds": "condition", "description": "description"}, as_json)


@rule_command.command("add")
@click.argument("source")
@click.argument("name")
@click.argument("condition")
@click.option("--description", default=None, help="Why it must hold.")
@click.option("--replace", is_flag=True, help="Replace a rule of that name.")
def rule_add(source: str, name: str, condition: str, description: str | None, replace: bool) -> None:
    """Add a condition that every row must meet; oak check reports the rows that do not."""
    before = _free(source, "rule", name, replace)
    _written(before, before.with_entry("rule", name, holds=condition, description=description))


def _free(source: str, table: str, name: str, replace: bool) -> Source:
    """The source, if the name is free or is to be replaced."""
    opened = open_working(source)
    if opened.entry(table, name) is not None and not replace:
        raise OakError("name-taken", f"There is a {table} {name!r} already.", hint="Use --replace to change it.")
    return opened


def _dropping(group: click.Group, table: str) -> None:
    @group.command("drop", help=f"Remove {table}s; refused while a formula needs one.")
    @click.argument("source")
    @click.argument("names", nargs=-1, required=True, metavar="NAME...")
    def drop(source: str, names: tuple[str, ...]) -> None:
        before = after = open_working(source)
        for name in names:
            after = after.without_entry(table, name)
        _written(before, after)


for _group, _table in ((constant_command, "constant"), (filter_command, "filter"), (rule_command, "rule")):
    _dropping(_group, _table)
