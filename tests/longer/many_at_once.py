"""Many processes at once on one catalogue: `python -m tests.longer.many_at_once [SECONDS]`, on SQLite and on PostgreSQL.

Writers publish, release and take back; readers open the released version and check that its rows are those of one version. At the end
no update may be lost: every number that a writer was given is there once.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import sys
import tempfile
import time
import unittest
from pathlib import Path

import pyarrow as pa
import sqlalchemy as sa

import oak_ledger as oak
from tests import server

WRITERS, READERS = 8, 16


def write(folder: str, number: int, until: float, told: str) -> None:
    """Publish a table of one value over and over; every other one is released."""
    place = oak.Catalogue.open(folder, person="anna")
    made, errors = [], []
    at = 0
    while time.time() < until:
        at += 1
        value = number * 1_000_000 + at
        source = oak.Source.from_table(pa.table({"Value": [value] * 50}), name="Loads")
        try:
            version = place.publish(oak.Catalogue.prepare(source, []))
            made.append(version.number)
            if at % 2:
                place.release("Loads", version.number)
        except oak.OakError as error:
            errors.append(str(error))
    Path(told, f"w{number}.json").write_text(json.dumps({"made": made, "errors": errors}))


def read(folder: str, number: int, until: float, told: str) -> None:
    """Open the released version over and over: all its rows have one value."""
    place = oak.Catalogue.open(folder, person="anna")
    looked, wrong, errors = 0, [], []
    while time.time() < until:
        try:
            row = (
                place.source("Loads")
                .tally(show=[("low", "MIN(Value)"), ("high", "MAX(Value)"), ("rows", "COUNT(*)")])
                .to_dicts()[0]
            )
            looked += 1
            if row["low"] != row["high"] or row["rows"] != 50:
                wrong.append(row)
        except oak.OakError as error:
            errors.append(str(error))
    Path(told, f"r{number}.json").write_text(json.dumps({"looked": looked, "wrong": wrong, "errors": errors}))


def run(case: unittest.TestCase, folder: Path, seconds: float, what: str) -> None:
    """All of them at once; what they found is checked, and printed."""
    place = oak.Catalogue.open(folder, person="anna")
    first = oak.Source.from_table(pa.table({"Value": [0] * 50}), name="Loads")
    place.publish(oak.Catalogue.prepare(first, []))
    place.release("Loads")
    until = time.time() + seconds
    context = multiprocessing.get_context("fork")
    with tempfile.TemporaryDirectory() as told:
        jobs = [context.Process(target=write, args=(str(folder), at, until, told)) for at in range(WRITERS)]
        jobs += [context.Process(target=read, args=(str(folder), at, until, told)) for at in range(READERS)]
        for job in jobs:
            job.start()
        for job in jobs:
            job.join()
        said = {path.stem: json.loads(path.read_text()) for path in sorted(Path(told).glob("*.json"))}
    made = [number for name, one in said.items() if name[0] == "w" for number in one["made"]]
    looked = sum(one["looked"] for name, one in said.items() if name[0] == "r")
    case.assertEqual(len(said), WRITERS + READERS)
    case.assertEqual([error for one in said.values() for error in one["errors"]], [])
    case.assertEqual([row for one in said.values() for row in one.get("wrong", ())], [])
    versions = place.versions("Loads")
    case.assertEqual(sorted(made), [one.number for one in versions][1:])
    case.assertEqual(sum(one.stage == "released" for one in versions), 1)
    case.assertEqual(place.verify(), [])
    print(
        f"{what}: {WRITERS} writers made {len(made):,} versions, {READERS} readers looked {looked:,} times in {seconds:g} s; none wrong, none lost"
    )


class ManyAtOnce(unittest.TestCase):
    seconds = float(os.environ.get("OAK_SECONDS", "120"))

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name) / "catalogue"

    def test_on_sqlite(self) -> None:
        oak.Catalogue.open(self.folder, create=True, person="anna")
        run(self, self.folder, self.seconds, "SQLite")

    def test_on_postgresql(self) -> None:
        uri = server.start(type(self), "many at once on PostgreSQL")
        server.execute(uri, ["CREATE DATABASE oak"])
        url = sa.make_url(uri).set(database="oak").render_as_string(hide_password=False)
        oak.Catalogue.open(self.folder, create=True, person="anna", url=url)
        run(self, self.folder, self.seconds, "PostgreSQL")


if __name__ == "__main__":
    if len(sys.argv) > 1:
        ManyAtOnce.seconds = float(sys.argv.pop())
    unittest.main()
