"""Watches: boolean formulas over a tally that warn when they turn true."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access
from oak_ledger.catalogue.looking import PublishedSources
from oak_ledger.catalogue.people import checked_name
from oak_ledger.catalogue.storage import now
from oak_ledger.catalogue.tables import WATCH, WATCH_RESULT
from oak_ledger.columnar.texts import value_text
from oak_ledger.errors import FormulaError, OakError, Place
from oak_ledger.formula import Grain
from oak_ledger.source import Source

CONDITION = "the condition"
COMMAND_SECONDS = 60


@dataclass(frozen=True, slots=True)
class Watch:
    """A condition on figures of a source: for all rows, or for each group of `by`."""

    name: str
    condition: str
    by: tuple[str, ...] = ()
    where: str = ""


@dataclass(frozen=True, slots=True)
class WatchResult:
    """What a watch found: `state` is true, false, undecided or broken; `groups` are those for which it is true, `turned` whether it was not before."""

    watch: str
    source: str
    version: int
    at: str
    state: str
    groups: tuple[str, ...] = ()
    turned: bool = False
    said: str = ""

    def as_json(self) -> dict[str, Any]:
        """Plain values."""
        return asdict(self)


class Watches:
    """The watches of a catalogue's sources."""

    def __init__(self, access: Access, catalogue: PublishedSources) -> None:
        self._access, self._storage, self._catalogue = access, access.storage, catalogue

    def add(self, source: str, watch: Watch, *, replace: bool = False) -> None:
        """Keep a watch with a source. Raises OakError where its condition cannot be asked of the released version."""
        planned(self._catalogue.source(source), watch)
        name = checked_name(watch.name, "a watch")
        with self._access.doing("watch") as doing:
            row = self._catalogue.find(doing.connection, source)
            self._access.require_in(doing.connection, "publish", row["area"], f"a watch of {row['name']}")
            there = [one for one in self._rows(doing.connection, row["id"]) if one["key"] == name.casefold()]
            if there and not replace:
                raise OakError(
                    "name-taken", f"{row['name']} has a watch {name!r} already.", hint="Use --replace to change it."
                )
            values = {"source_id": row["id"], "name": name, "key": name.casefold(), "definition": json.dumps(asdict(watch)), "by": self._access.person.name, "at": now()}  # fmt: skip
            if there:
                self._storage.update(doing.connection, WATCH, there[0], **values)
            else:
                self._storage.insert(doing.connection, WATCH, values)
            doing.said(row["area"], row["name"], f"{name}: {watch.condition}")

    def drop(self, source: str, name: str) -> None:
        """Remove a watch, with its history."""
        with self._access.doing("drop watch") as doing:
            row = self._catalogue.find(doing.connection, source)
            self._access.require_in(doing.connection, "publish", row["area"], f"a watch of {row['name']}")
            (watch,) = [self._one(doing.connection, row, name)]
            self._storage.delete(doing.connection, WATCH_RESULT, WATCH_RESULT.c.watch_id == watch["id"])
            self._storage.delete(doing.connection, WATCH, WATCH.c.id == watch["id"])
            doing.said(row["area"], row["name"], watch["name"])

    def all(self, source: str) -> list[Watch]:
        """The watches of a source that one may see."""
        with self._storage.read() as connection:
            row = self._catalogue.find(connection, source)
            return [_watch(seen_row) for seen_row in self._seen_rows(connection, row)]

    def run(self, source: str, *, over: Source | None = None, call: Sequence[str] = ()) -> list[WatchResult]:
        """Evaluate the watches of a source over its released version (or what is given) and keep what they find.

        `call` is a command that gets what a watch found as a line of JSON on its standard input, for each watch that turned true. It is
        given by who runs the watches and never kept, so that nobody runs what somebody else wrote. Where it fails, the watch counts as
        not having turned, and turns again the next time. Takes the right to edit, since it uses up what turned."""
        version = self._catalogue.version(source)
        asked = over if over is not None else self._with_earlier(source, version.number)
        results = []
        with self._storage.read() as connection:
            row = self._catalogue.find(connection, source)
            self._access.require_in(connection, "publish", row["area"], f"the watches of {row['name']}")
            watches = [
                (one, _watch(one), self._last(connection, one["id"])) for one in self._rows(connection, row["id"])
            ]
        failed: list[OakError] = []
        for kept, watch, last in watches:
            result = evaluated(asked, watch, row["name"], version.number)
            turned = result.state == "true" and last != "true"
            result = WatchResult(
                result.watch, result.source, result.version, result.at, result.state, result.groups, turned, result.said
            )
            results.append(result)
            try:
                if turned and call:
                    _tell(call, result)
            except OakError as error:
                failed.append(error)
                continue
            with self._access.doing("run watch") as doing:
                values = {
                    "watch_id": kept["id"],
                    "version": version.number,
                    "at": result.at,
                    "state": result.state,
                    "figures": json.dumps([*result.groups]),
                }
                self._storage.insert(doing.connection, WATCH_RESULT, values)
                doing.said(row["area"], row["name"], f"{watch.name}: {result.state}")
        if failed:
            raise failed[0]
        return results

    def _with_earlier(self, source: str, number: int) -> Source:
        """The released version, compared with the one before it unless it has a baseline of its own."""
        now_source = self._catalogue.source(source, number)
        if now_source.baseline_feed is not None:
            return now_source
        earlier = [
            version
            for version in self._catalogue.versions(source)
            if version.number < number and version.stage == "retired"
        ]
        return now_source.with_baseline(self._catalogue.source(source, earlier[-1].number)) if earlier else now_source

    def history(self, source: str, name: str) -> list[WatchResult]:
        """What a watch found, oldest first."""
        with self._storage.read() as connection:
            row = self._catalogue.find(connection, source)
            watch = self._one(connection, row, name)
            rows = self._storage.rows(
                connection,
                sa.select(WATCH_RESULT).where(WATCH_RESULT.c.watch_id == watch["id"]).order_by(WATCH_RESULT.c.id),
            )
        return [
            WatchResult(
                watch["name"], row["name"], one["version"], one["at"], one["state"], tuple(json.loads(one["figures"]))
            )
            for one in rows
        ]

    def _rows(self, connection: sa.Connection, source: int) -> list[dict[str, Any]]:
        return self._storage.rows(connection, sa.select(WATCH).where(WATCH.c.source_id == source).order_by(WATCH.c.key))

    def _seen_rows(self, connection: sa.Connection, source: Mapping[str, Any]) -> list[dict[str, Any]]:
        """The watches that one may see: all for who may edit, else those whose figures one may ask for."""
        rows = self._rows(connection, source["id"])
        if not rows or "edit" in self._access.rights(connection, source["area"]):
            return rows
        opened = self._catalogue.source(f"{source['area']}/{source['key']}")
        return [row for row in rows if _can_be_asked(opened, _watch(row))]

    def _one(self, connection: sa.Connection, source: Any, name: str) -> dict[str, Any]:
        there = self._seen_rows(connection, source)
        rows = [row for row in there if row["key"] == name.casefold()]
        if not rows:
            names = ", ".join(row["name"] for row in there) or "none"
            raise OakError("unknown-watch", f"{source['name']} has no watch {name!r}.", hint=f"It has {names}.")
        return rows[0]

    def _last(self, connection: sa.Connection, watch: int) -> str:
        rows = self._storage.rows(
            connection,
            sa.select(WATCH_RESULT).where(WATCH_RESULT.c.watch_id == watch).order_by(WATCH_RESULT.c.id.desc()).limit(1),
        )
        return str(rows[0]["state"]) if rows else ""


def planned(source: Source, watch: Watch) -> None:
    """Check a watch's condition. Raises OakError where it cannot be asked, or is not a condition on figures."""
    if source.baseline_feed is None:
        source = source.with_baseline(source)  # there will be an earlier state; for the types any will do
    tally = source.planned_tally([*watch.by], [(CONDITION, watch.condition)], where=watch.where or None)
    checked = tally.query.show[0].checked
    if checked.type.kind != "boolean" or checked.grain == Grain.ROW:
        message = f"A watch is a condition on figures; {watch.condition} is {checked.type} per {checked.grain}."
        raise FormulaError(
            "condition-wanted",
            message,
            place=Place("the watch").in_text(watch.condition, 0, len(watch.condition)),
            hint="Compare a total with something: SUM(Volume) < 1000.",
        )


def _can_be_asked(source: Source, watch: Watch) -> bool:
    try:
        planned(source, watch)
    except OakError:
        return False
    return True


def evaluated(source: Source, watch: Watch, name: str, version: int) -> WatchResult:
    """What a watch's condition is now. One that cannot be asked any more is broken, and says why."""
    try:
        planned(source, watch)
        rows = source.tally([*watch.by], [(CONDITION, watch.condition)], where=watch.where or None).to_dicts()
    except OakError as error:
        if error.code == "no-baseline":
            return WatchResult(watch.name, name, version, now(), "undecided", said="there is no earlier version yet")
        return WatchResult(watch.name, name, version, now(), "broken", said=error.findings[0].message)
    states = [
        (", ".join("null" if one is None else str(value_text(one)) for one in [*row.values()][:-1]), row[CONDITION])
        for row in rows
    ]
    true = tuple(group for group, state in states if state)
    state = "true" if true else "undecided" if any(one is None for _, one in states) or not states else "false"
    return WatchResult(watch.name, name, version, now(), state, tuple(one for one in true if one))


def _tell(command: Sequence[str], result: WatchResult) -> None:
    """Run a command with what a watch found."""
    line = json.dumps(result.as_json(), ensure_ascii=False) + "\n"
    try:
        subprocess.run(  # noqa: S603  given by who runs the watches
            [*command], input=line, text=True, timeout=COMMAND_SECONDS, check=True, stdout=subprocess.DEVNULL
        )
    except (OSError, subprocess.SubprocessError) as error:
        raise OakError("watch-command", f"The command for the watch {result.watch!r} failed: {error}.") from None


def _watch(row: dict[str, Any]) -> Watch:
    said = json.loads(row["definition"])
    return Watch(said["name"], said["condition"], tuple(said["by"]), said["where"])
