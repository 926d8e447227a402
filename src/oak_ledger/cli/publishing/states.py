"""`oak snapshot`, `oak watch`: dated states of rows, what came and went, and conditions that warn."""

from __future__ import annotations

import json
import shlex
import tomllib
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import (
    Verbs,
    catalogue_option,
    json_option,
    open_any,
    open_catalogue,
    open_working,
    print_json,
    where_option,
)
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.errors import OakError, UnusableInput

if TYPE_CHECKING:
    from oak_ledger.catalogue import Catalogue, Watch, WatchResult
    from oak_ledger.source import Source


@click.group("snapshot", cls=Verbs)
def snapshot_command() -> None:
    """Keep dated states of a source's rows, by hand or by a schedule."""


@snapshot_command.command("take")
@click.argument("source")
@click.option("--keep", type=click.IntRange(1), default=None, help="How many of the newest stay  [default: all]")
@click.option("--note", default="", help="What is special about it.")
@catalogue_option
@json_option("Snapshots")
def take_command(source: str, keep: int | None, note: str, catalogue: str, as_json: bool) -> None:
    """Keep the rows that the working copy SOURCE has now, with today's date."""
    from oak_ledger.present.terminal import say

    place = open_catalogue(catalogue)
    with progress_of("reading") as progress:
        taken = place.snapshots.take(open_working(source, progress), note=note, keep=keep)
    if as_json:
        print_json({"snapshots": [asdict(taken)]})
    say(f"kept: {taken.rows:,} rows of {taken.source}, {taken.at}")


@snapshot_command.command("list")
@click.argument("name")
@catalogue_option
@json_option("Snapshots")
def list_snapshots_command(name: str, catalogue: str, as_json: bool) -> None:
    """List the dated states of the published source NAME; its versions are states, too."""
    from oak_ledger.present.terminal import console, grid

    snapshots = open_catalogue(catalogue).snapshots.all(name)
    if as_json:
        print_json({"snapshots": [asdict(snapshot) for snapshot in snapshots]})
        return
    table = grid("at", "rows", "version", "by", "note", right=(1, 2))
    for snapshot in snapshots:
        table.add_row(snapshot.at, f"{snapshot.rows:,}", str(snapshot.version), snapshot.by, snapshot.note)
    console().print(table if snapshots else f"no snapshots of {name}; oak snapshot take keeps one")


@snapshot_command.command("run")
@click.argument("schedule")
@catalogue_option
@json_option("Scheduled")
def run_schedule_command(schedule: str, catalogue: str, as_json: bool) -> int:
    """Take the snapshots that the file SCHEDULE lists, and run the watches of their sources; for cron.

    Each [[snapshot]] of the file has source (a definition's path) and may have keep and watch = true. One that fails does not stop the
    others; it exits with 1 where one failed, or a watch is true.
    """
    from oak_ledger.present.terminal import say

    place, taken, results, failed = open_catalogue(catalogue), [], [], []
    for entry in _schedule(Path(schedule)):
        try:
            source = open_working(str(Path(schedule).parent / entry["source"]))
            snapshot = place.snapshots.take(source, keep=entry.get("keep"))
            taken.append(snapshot)
            say(f"kept: {snapshot.rows:,} rows of {snapshot.source}, {snapshot.at}")
            found = place.watches.run(snapshot.source, over=_now(place, source)) if entry.get("watch") else []
            results += found
            failed += [
                f"{entry['source']}: the watch {result.watch}: {result.said}"
                for result in found
                if result.state == "broken"
            ]
        except OakError as error:
            failed.append(f"{entry['source']}: {error.findings[0].message}")
            say(failed[-1], to_errors=True)
    for result in results:
        say(json.dumps(result.as_json(), ensure_ascii=False))
    if as_json:
        print_json(
            {
                "snapshots": [asdict(snapshot) for snapshot in taken],
                "results": [result.as_json() for result in results],
                "failed": failed,
            }
        )
    return 1 if failed or any(result.state == "true" for result in results) else 0


def _schedule(path: Path) -> list[dict[str, Any]]:
    try:
        entries = tomllib.loads(path.read_text("utf-8"))["snapshot"]
    except FileNotFoundError:
        raise UnusableInput("no-file", f"There is no file {path}.") from None
    except (tomllib.TOMLDecodeError, KeyError, UnicodeDecodeError):
        raise UnusableInput(
            "not-a-schedule", f"{path} is not a schedule.", hint='It has [[snapshot]] with source = "loads.oak.toml".'
        ) from None
    if not isinstance(entries, list):
        raise UnusableInput("not-a-schedule", f"{path}: each snapshot is a [[snapshot]], with two brackets.")
    for entry in entries:
        known = {"source": str, "keep": int, "watch": bool}
        wrong = next((key for key, value in entry.items() if not isinstance(value, known.get(key, ()))), None)
        if wrong is not None or "source" not in entry:
            raise UnusableInput(
                "not-a-schedule",
                f"{path}: a [[snapshot]] has source, keep and watch; {wrong or 'source'} is wrong or missing.",
            )
    return list(entries)


def _now(place: Catalogue, source: Source) -> Source:
    """A working copy compared with the released version."""
    return source if source.baseline_feed is not None else source.with_baseline(place.source(source.name))


@snapshot_command.command("changes")
@click.argument("source")
@click.option("--since", required=True, metavar="DATE|VERSION", help="The state to compare with.")
@where_option
@click.option("--limit", "-n", type=click.IntRange(0), default=5, show_default=True, help="How many rows of each kind.")
@catalogue_option
@json_option("RowChanges")
def changes_command(source: str, since: str, where: str | None, limit: int, catalogue: str, as_json: bool) -> None:
    """Show the rows of SOURCE that came, went or have other values since a date or a version.

    SOURCE is a working copy or a published source. Rows are matched by its key (oak field key); without one they are compared whole.
    """
    from oak_ledger.present.reasons import row_sections
    from oak_ledger.present.sections import show_sections
    from oak_ledger.present.terminal import console

    with progress_of("comparing"):
        place, now = open_catalogue(catalogue), open_any(source, catalogue)
        then = _then(place, now.name, since)
        changes = place.snapshots.changes(now, then, where=where)
    if as_json:
        counts = {
            "changed": changes.changed_after.num_rows,
            "came": changes.came.num_rows,
            "went": changes.went.num_rows,
        }
        parts = (changes.side_by_side(), changes.came, changes.went)
        samples = dict(
            zip(
                ("changed_rows", "came_rows", "went_rows"),
                (part.slice(0, limit).to_pylist() for part in parts),
                strict=True,
            )
        )
        print_json(
            {
                "source": now.name,
                "since": str(then.published),
                "key": [*changes.key],
                "columns": [*changes.columns],
                **counts,
                **samples,
            }
        )
        return
    console().print(f"{now.name}, since {then.published}")
    show_sections(console(), row_sections(changes, limit))


def _then(place: Catalogue, name: str, since: str) -> Source:
    return place.source(name, int(since)) if since.isdigit() else place.snapshots.source_at(name, since)


@click.group("watch", cls=Verbs)
def watch_command() -> None:
    """Keep conditions on figures that warn when they turn true."""


@watch_command.command("add")
@click.argument("source")
@click.argument("name")
@click.argument("condition")
@click.option("--by", multiple=True, metavar="FIELD", help="For each group of it; may be repeated.")
@where_option
@click.option("--replace", is_flag=True, help="Replace the watch of that name.")
@catalogue_option
@json_option("Written")
def add_watch_command(
    source: str,
    name: str,
    condition: str,
    by: tuple[str, ...],
    where: str | None,
    replace: bool,
    catalogue: str,
    as_json: bool,
) -> None:
    """Keep a watch with the published source SOURCE: CONDITION is a formula over totals, such as 'SUM(Volume) < 1000'.

    BEFORE in it takes values from the version released before.
    """
    from oak_ledger import Watch
    from oak_ledger.present.terminal import say

    open_catalogue(catalogue).watches.add(source, Watch(name, condition, by, where or ""), replace=replace)
    if as_json:
        print_json({"what": "watch", "on": name})
    say(f"watched: {name}: {condition}; to run it: oak watch run {shlex.quote(source)}")


@watch_command.command("drop")
@click.argument("source")
@click.argument("name")
@catalogue_option
@json_option("Written")
def drop_watch_command(source: str, name: str, catalogue: str, as_json: bool) -> None:
    """Remove a watch, with its history."""
    from oak_ledger.present.terminal import say

    open_catalogue(catalogue).watches.drop(source, name)
    if as_json:
        print_json({"what": "drop watch", "on": name})
    say(f"removed: {name}")


@watch_command.command("list")
@click.argument("source")
@catalogue_option
@json_option("Watches")
def list_watches_command(source: str, catalogue: str, as_json: bool) -> None:
    """List the watches of SOURCE."""
    from oak_ledger.present.terminal import console, grid

    watches: list[Watch] = open_catalogue(catalogue).watches.all(source)
    if as_json:
        print_json({"watches": [asdict(watch) for watch in watches]})
        return
    table = grid("watch", "condition", "by", "where")
    for watch in watches:
        table.add_row(watch.name, watch.condition, ", ".join(watch.by), watch.where)
    console().print(table if watches else f"no watches of {source}; oak watch add keeps one")


@watch_command.command("run")
@click.argument("source")
@click.option(
    "--working",
    is_flag=True,
    help="Over the rows that the working copy SOURCE has now, compared with the released version.",
)
@click.option(
    "--call",
    "command",
    default="",
    metavar="COMMAND",
    help="Run this for each watch that turned true; it gets a line of JSON on its input.",
)
@catalogue_option
@json_option("WatchResults")
def run_watches_command(source: str, working: bool, command: str, catalogue: str, as_json: bool) -> int:
    """Evaluate the watches of SOURCE over its released version, and keep what they find. Exits with 1 where one is true."""
    place = open_catalogue(catalogue)
    with progress_of("watching"):
        over = _now(place, open_working(source)) if working else None
        results = place.watches.run(over.name if over else source, over=over, call=shlex.split(command))
    if as_json:
        print_json({"results": [result.as_json() for result in results]})
    else:
        _show_results(results, source)
    return 1 if any(result.state in ("true", "broken") for result in results) else 0


@watch_command.command("history")
@click.argument("source")
@click.argument("name")
@catalogue_option
@json_option("WatchResults")
def history_command(source: str, name: str, catalogue: str, as_json: bool) -> None:
    """Show what the watch NAME of SOURCE found, the newest last."""
    results = open_catalogue(catalogue).watches.history(source, name)
    if as_json:
        print_json({"results": [result.as_json() for result in results]})
        return
    _show_results(results, source)


def _show_results(results: list[WatchResult], source: str) -> None:
    from oak_ledger.present.terminal import LEAF, RUST, Text, console, grid

    if not results:
        console().print(f"nothing to show of {source}")
        return
    table = grid("watch", "at", "version", "state", "groups", "more", right=(2,))
    for result in results:
        style = {"true": f"bold {RUST}", "broken": RUST, "false": LEAF}.get(result.state, "")
        more = "turned true" if result.turned else result.said
        table.add_row(
            result.watch,
            result.at,
            str(result.version),
            Text(result.state, style=style),
            ", ".join(result.groups),
            more,
        )
    console().print(table)
