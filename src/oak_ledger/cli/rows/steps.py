"""`oak step`: how incoming rows are prepared."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import Verbs, json_option, open_working, print_json

if TYPE_CHECKING:
    from oak_ledger.source import Source


@click.group("step", cls=Verbs)
def step_command() -> None:
    """List, add and remove the steps of an origin: how rows are prepared before fields are made of their columns."""


def _effects(source: Source) -> list[dict[str, Any]]:
    from oak_ledger.first_look.steps import effects_of, steps_of

    keys = [step.model_dump(exclude_defaults=True, exclude={"kind"}, mode="json") for step in steps_of(source)]
    return [
        {
            "number": effect.number,
            "kind": effect.kind,
            "rows_before": effect.before,
            "rows_after": effect.after,
            "notes": effect.notes,
            "keys": own,
        }
        for effect, own in zip(effects_of(source), keys, strict=True)
    ]


@step_command.command("list")
@click.argument("source")
@json_option("Steps")
def step_list(source: str, as_json: bool) -> None:
    """List the steps, each with what it does to the rows."""
    from oak_ledger.present.terminal import console, grid

    effects = _effects(open_working(source))
    if as_json:
        print_json({"steps": effects})
        return
    if not effects:
        console().print("no steps; oak step add --help shows how one is added")
        return
    table = grid("", "step", "what", "rows before", "after", "besides", right=(0, 3, 4))
    for effect in effects:
        keys = "; ".join(f"{key} {_said(value)}" for key, value in effect["keys"].items())
        notes = "; ".join(f"{count:,} {what}" for what, count in effect["notes"].items())
        table.add_row(
            str(effect["number"]),
            effect["kind"],
            keys,
            f"{effect['rows_before']:,}",
            f"{effect['rows_after']:,}",
            notes,
        )
    console().print(table)


def _said(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else "no" if value is False else str(value)


@step_command.command("add")
@click.argument("source")
@click.argument("kind")
@click.option(
    "--column",
    "columns",
    multiple=True,
    help="A column that the step is about; * and ? mean any characters; may be repeated.",
)
@click.option(
    "--name", default="", help="The column that holds the names of columns, or the number of a list's element."
)
@click.option("--value", default="", help="The column that holds their values.")
@click.option(
    "--into",
    multiple=True,
    help="A new column; of a list of objects, a member that is taken  [default: all]; may be repeated.",
)
@click.option("--by", default="", help="What separates the parts.")
@click.option("--pattern", default="", help="A regular expression; each of its groups is one part.")
@click.option(
    "--within",
    multiple=True,
    help="A column of the key within which values are filled down, or rows compared; may be repeated.",
)
@click.option("--order", default="", help="The column by which the first row of a key stays; - before it for the last.")
@click.option("--where", default="", help="A condition on the columns as they arrive; rows that meet it are left out.")
@click.option("--no-nulls", is_flag=True, help="No row for a column without a value, or for an empty list.")
def step_add(source: str, kind: str, no_nulls: bool, **keys: Any) -> None:
    """Add a step after the others. Fields follow: new columns get one, those of columns that are gone go.

    KIND is columns-into-rows, rows-into-columns, list-into-rows, split, put-together, fill-down, distinct or leave-out.
    """
    from oak_ledger.cli.shared.output_edits import write_edit
    from oak_ledger.first_look.steps import effects_of, with_step
    from oak_ledger.present.terminal import console

    before = open_working(source)
    given = {key: [*value] if isinstance(value, tuple) else value for key, value in keys.items() if value}
    after = with_step(before, kind.replace("-", " "), **given, **({"nulls": False} if no_nulls else {}))
    console().print(effects_of(after)[-1].sentence())
    names = [[field.name for field in source.fields] for source in (before, after)]
    for what, one, other in (("new", names[1], names[0]), ("gone", names[0], names[1])):
        some = [name for name in one if name not in other]
        if some:
            console().print(f"{what}: {', '.join(some)}")
    write_edit(before, after)


@step_command.command("drop")
@click.argument("source")
@click.argument("number", type=int)
def step_drop(source: str, number: int) -> None:
    """Remove a step by its number; fields follow."""
    from oak_ledger.cli.shared.output_edits import write_edit
    from oak_ledger.first_look.steps import without_step

    before = open_working(source)
    write_edit(before, without_step(before, number))
