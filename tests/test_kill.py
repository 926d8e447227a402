"""Kills at any moment of a mend, a rename and an undo: nothing is half, nothing is lost, and undo still works."""

from __future__ import annotations

import json
import os
import random
import signal
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import oak_ledger as oak
from oak_ledger import files
from oak_ledger.definition.document import Document, read_document
from oak_ledger.definition.edits import log_path
from oak_ledger.definition.model import DEFINITION
from oak_ledger.reference.mend import renaming
from oak_ledger.report.definition import REPORT as REPORT_SHAPE
from tests.support import FolderCase

RANDOM_KILLS = int(os.environ.get("OAK_KILLS", "30"))
REPORT = """\
[report]
name = "{name}"
source = "Loads"

[[panel]]
kind = "bars"
title = "By {{Stand}}"
by = ["Stand"]
show = ["Volume"]
"""


def others() -> list[tuple[Path, Document]]:
    """The reports."""
    return [(one.path, one.document) for one in oak.find_reports(".") if one.path is not None]


def mend() -> None:
    """Repair what is broken."""
    source = oak.open_source("loads.oak.toml")
    oak.plan_mend(source, {"STAND": "PLOT"}, others(), names={"Stand": "Plot"}).apply("mend")


def rename() -> None:
    """Rename a field, in the reports as well."""
    source = oak.open_source("loads.oak.toml")
    renaming(source, source.with_renamed({"Stand": "Place"}), others()).apply("rename")


def undo() -> None:
    """Take back the last edit."""
    oak.undo(Path("loads.oak.toml"))


class Kills(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", "PLOT,Volume\na,1\nb,2\n")
        oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").save()
        path = Path("loads.oak.toml")
        path.write_text(path.read_text().replace('column = "PLOT"', 'column = "STAND"').replace('"Plot"', '"Stand"'))
        for name in ("one", "two"):
            self.write(f"reports/{name}.report.toml", REPORT.format(name=name))
        self.paths = [path, *sorted(Path("reports").glob("*.toml"))]
        source = oak.open_source(path)
        source.with_changed("Volume", description="In tonnes").save()
        self.start = self.texts()

    def texts(self) -> dict[str, str]:
        """Every file that counts, with the log."""
        found = {str(one): one.read_text() for one in self.paths}
        log = log_path(self.paths[0])
        return found | {"log": log.read_text() if log.exists() else ""}

    def restore(self, texts: dict[str, str]) -> None:
        for left in self.folder.rglob(".*"):
            left.unlink()
        for one in self.paths:
            one.write_text(texts[str(one)])
        if texts["log"]:
            log_path(self.paths[0]).write_text(texts["log"])

    def outcome(self, work: Callable[[], None]) -> dict[str, str]:
        """What a piece of work makes where nothing happens to it."""
        work()
        return self.texts()

    def survived(self, before: dict[str, str], after: dict[str, str], opened: Path) -> bool:
        """Whether the work was done, once somebody has opened one of the files; it must be done whole or not at all."""
        for one in (opened, *self.paths):
            shape = DEFINITION if one == self.paths[0] else REPORT_SHAPE
            read_document(one, shape)
        now = self.texts()
        same = {key: now[key] == after[key] for key in after if key != "log"}
        done = all(same.values())
        if not done:
            self.assertEqual({key: now[key] for key in same}, {key: before[key] for key in same})
        self.assertEqual(now["log"].count("\n"), (after if done else before)["log"].count("\n"))
        self.assertEqual([*self.folder.rglob(".*.intent")], [])
        return done

    def killed(self, work: Callable[[], None], stop: Callable[[int], None]) -> None:
        """Do a piece of work in a process of its own, and stop that."""
        pid = os.fork()
        if pid == 0:
            try:
                work()
            finally:
                os._exit(0)
        stop(pid)
        os.waitpid(pid, 0)

    def states(self) -> list[tuple[Callable[[], None], dict[str, str], dict[str, str]]]:
        """Each piece of work, with what it finds and what it makes."""
        found = []
        mended = self.outcome(mend)
        found.append((mend, self.start, mended))
        found.append((undo, mended, self.outcome(undo)))
        self.restore(self.start)
        found.append((rename, self.start, self.outcome(rename)))
        return found

    def test_at_every_step_of_writing(self) -> None:
        """The process ends right before its n-th change of the disk, for every n."""
        for work, before, after in self.states():
            outcomes = []
            for step in range(1, 60):
                self.restore(before)

                def dying(work: Callable[[], None] = work, step: int = step) -> None:
                    left = [step]

                    def counted(real: Callable[..., object]) -> Callable[..., object]:
                        def call(*args: object, **keys: object) -> object:
                            left[0] -= 1
                            if not left[0]:
                                os._exit(9)
                            return real(*args, **keys)

                        return call

                    names = ("replace", "unlink", "write_bytes")
                    patches = [mock.patch.object(Path, name, counted(getattr(Path, name))) for name in names]
                    for one in patches:
                        one.start()
                    work()

                self.killed(dying, lambda _pid: None)
                outcomes.append(self.survived(before, after, self.paths[step % 3]))
                if outcomes[-1] and step > 20:
                    break
            self.assertIn(False, outcomes)
            self.assertIn(True, outcomes)
            self.assertEqual(outcomes, sorted(outcomes), work.__name__)  # from some step on it is done

    def test_at_random_moments(self) -> None:
        chance = random.Random(20261128)
        states = self.states()
        begin = time.perf_counter()
        mend_time = 0.0
        self.restore(self.start)
        mend()
        mend_time = time.perf_counter() - begin
        done = 0
        for number in range(RANDOM_KILLS):
            work, before, after = states[number % 3]
            self.restore(before)
            moment = chance.uniform(0, 1.5 * mend_time)

            def stop(pid: int, moment: float = moment) -> None:
                time.sleep(moment)
                os.kill(pid, signal.SIGKILL)

            self.killed(work, stop)
            if self.survived(before, after, chance.choice(self.paths)):
                done += 1
                if work is not undo:
                    oak.undo(self.paths[0])
                    now = self.texts()
                    self.assertEqual(
                        {one: now[str(one)] for one in self.paths}, {one: before[str(one)] for one in self.paths}
                    )
        self.assertLess(done, RANDOM_KILLS)

    def test_a_file_that_somebody_changed_meanwhile_is_kept(self) -> None:
        """Killed half way, and a file edited by hand before anybody opened it: the rest is taken back."""
        (mending, before, _), *_ = self.states()
        self.restore(before)

        def dying() -> None:
            real, left = files.write_text, [4]  # the intent, two that name it, one file

            def counted(path: Path, text: str) -> None:
                left[0] -= 1
                if left[0] < 0:
                    os._exit(9)
                real(path, text)

            with mock.patch.object(files, "write_text", counted):
                mending()

        self.killed(dying, lambda _pid: None)
        changed = self.paths[2].read_text() + "# by hand\n"
        self.paths[2].write_text(changed)
        oak.open_report(self.paths[1])
        now = self.texts()
        self.assertEqual(now, {**before, str(self.paths[2]): changed})
        self.assertEqual([*self.folder.rglob(".*.intent")], [])

    def test_what_names_an_intent_that_is_gone_is_removed(self) -> None:
        """Killed while the last traces of an edit were removed."""
        stale = self.paths[1].with_name(f".{self.paths[1].name}.intent")
        stale.write_text('{"intent": "../.loads.oak.toml.intent"}')
        before = self.texts()
        self.assertEqual(oak.open_report(self.paths[1]).about.name, "one")
        self.assertFalse(stale.exists())
        self.assertEqual(self.texts(), before)

    def test_another_edit_finishes_what_was_begun(self) -> None:
        """An intent that nobody has looked at is finished by the next edit, under its lock."""
        (_, before, after), *_ = self.states()
        self.restore(before)
        names = {path: key for key in before if key != "log" for path in (Path(key),)}
        changes = [files.FileChange(path, before[key], after[key]) for path, key in names.items()]
        entries = [{"path": os.path.relpath(one.path), "before": one.before, "after": one.after} for one in changes]
        Path(".loads.oak.toml.intent").write_text(json.dumps(entries))
        self.oak("field", "set", "loads", "Volume", "--description", "In m³")
        now = self.texts()
        self.assertEqual(
            {key: now[key] for key in before if "report" in key}, {key: after[key] for key in before if "report" in key}
        )
        self.assertIn("In m³", now["loads.oak.toml"])
        self.assertEqual([*self.folder.rglob(".*.intent")], [])


if __name__ == "__main__":
    unittest.main()
