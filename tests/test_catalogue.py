"""The catalogue: two curators, stages, dated states, watches, the audit log, damage, kills, other layouts, and a server."""

from __future__ import annotations

import datetime as dt
import json
import os
import random
import signal
import sqlite3
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import pyarrow.parquet as pq
import sqlalchemy as sa
from pyarrow import ipc

import oak_ledger as oak
from oak_ledger.catalogue import storage as storage_module
from tests import server
from tests.support import FolderCase

RANDOM_KILLS = int(os.environ.get("OAK_KILLS", "24"))
FLIPPED_BITS = int(os.environ.get("OAK_FLIPS", "60"))
CSV = "Id,Mill,Volume\n1,Low Weir,10\n2,High Ford,5\n3,Low Weir,7\n"
REPORT = '[report]\nname = "R"\nsource = "Loads"\n\n[[panel]]\nkind = "figure"\ntitle = "V"\nshow = ["Volume"]\n'


class WithCatalogue(FolderCase):
    url = ""

    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", CSV)
        source = oak.intake("loads.csv", name="Loads", definition="loads.oak.toml").source
        source.changed(source.document.replaced(source.document.blocks[0], {"key": ["Id"]})).save("loads.oak.toml")
        self.place = oak.Catalogue.open("catalogue", create=True, person="anna", url=self.url)
        self.place.people.grant("ben", ["read", "edit", "release"], "general")

    @property
    def source(self) -> oak.Source:
        return oak.open_source("loads.oak.toml")

    def by(self, person: str) -> oak.Catalogue:
        return oak.Catalogue.open("catalogue", person=person)

    def copy(self, name: str, **keys: str) -> oak.Source:
        """A working copy fetched from the catalogue, with a described field each."""
        document, _ = self.place.checkout("Loads")
        self.write(name, document.text)
        source = oak.open_source(name)
        for field, description in keys.items():
            source = source.with_changed(field, description=description)
        source.save()
        return source


class Versions(WithCatalogue):
    def test_two_curators_from_one_base(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        first, second = self.copy("a.oak.toml", Volume="measured"), self.copy("b.oak.toml", Mill="where")
        self.place.publish(first)
        unseen = self.by("ben").publish(second)  # a draft that he does not see stops him not, and he is told
        self.assertIn("which you may not see", unseen.told)
        self.place.release("Loads")
        self.assertIn(
            "Version 2 by anna", str(self.raises("base-moved", self.by("ben").release, "Loads", unseen.number))
        )
        self.by("ben").withdraw("Loads", unseen.number)
        error = self.raises("base-moved", self.by("ben").publish, second)
        self.assertIn("Version 2 by anna was published since version 1", str(error))
        merged = self.by("ben").onto(second)
        self.assertEqual(merged.about.base, 2)
        self.assertEqual([one.spec.description for one in merged.fields], ["", "where", "measured"])
        self.assertEqual(self.by("ben").publish(merged).base, 2)
        self.by("ben").release("Loads")
        third = self.copy("c.oak.toml", Volume="otherwise")
        fourth = self.copy("d.oak.toml", Volume="in its own way")
        self.place.publish(third)
        self.place.release("Loads")
        self.assertIn("in its own way", str(self.raises("merge-differs", self.place.onto, fourth)))

    def test_commands_keep_the_base(self) -> None:
        with mock.patch("getpass.getuser", return_value="anna"):
            self.oak("publish", "loads")
            self.oak("release", "Loads", "--yes")
            self.oak("versions", "checkout", "Loads", "--to", "mine.oak.toml")
            self.oak("field", "set", "loads", "Volume", "--description", "measured")
            self.oak("publish", "loads")
            self.oak("field", "set", "mine.oak.toml", "Mill", "--description", "where")
            said = self.oak("publish", "mine.oak.toml", code=2)
            self.assertIn("base-moved", said)
            self.oak("publish", "mine.oak.toml", "--onto")
            shown = self.oak("versions", "compare", "Loads", "1", "3")
            self.assertIn("description", shown)
            self.assertIn("measured", shown)
            self.assertIn("where", shown)

    def test_signatures_are_added_and_errors_overruled_with_a_reason(self) -> None:
        self.place.publish(self.source, viewers=["ben"])
        self.by("ben").sign("Loads", note="counted")
        self.place.release("Loads", note="proven")
        version = self.by("ben").sign("Loads", note="again")
        self.assertEqual(
            [(one.by, one.note) for one in version.signatures],
            [("ben", "counted"), ("anna", "proven"), ("ben", "again")],
        )
        self.assertGreater(version.checks_passed, 20)
        broken = self.source.changed(self.source.document.added("field", {"name": "Odd", "formula": "Nowhere + 1"}))
        self.raises("not-publishable", self.place.publish, broken)
        self.place.publish(oak.Catalogue.prepare(broken, broken=True))
        self.raises("errors-stand", self.place.release, "Loads")
        self.assertEqual(self.place.release("Loads", overrule="the mill knows").overruled, "the mill knows")
        with mock.patch("getpass.getuser", return_value="anna"):
            self.assertIn(
                "overruled: the mill knows", " ".join(self.oak("versions", "Loads", "--width", "200").split())
            )

    def test_readers_of_a_retired_version_are_told_what_replaces_it(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.retire("Loads", replaced_by="Deliveries")
        self.raises("not-released", self.place.source, "Loads")
        view = oak.open_report(self.write("r.report.toml", REPORT)).view(self.place.source("Loads", 1))
        self.assertIn("retired, replaced by Deliveries", view.version)
        for name in ("x.parquet", "x.arrow"):
            self.place.source("Loads", 1).write(name)
            schema = pq.read_schema(name) if name == "x.parquet" else ipc.open_file(name).schema
            self.assertIn(b"version 1 (retired", schema.metadata[b"source"])

    def test_nothing_of_the_machine_is_published(self) -> None:
        path = self.write("secret/place/loads.csv", CSV)
        source = oak.intake(str(path), name="Loads", definition="far.oak.toml").source
        document = source.document.replaced(source.document.all("origin")[0], {"path": str(path)})
        version = self.place.publish(source.changed(document))
        self.assertNotIn("secret", version.definition + json.dumps(version.origin))
        self.assertEqual([one["name"] for one in version.origin["files"]], ["loads.csv"])

    def test_texts_that_are_too_long(self) -> None:
        self.raises("too-long", self.place.publish, self.source, note="x" * 2_001)
        long = self.source.with_changed("Volume", description="x" * 5_000_001)
        self.raises("too-long", self.place.publish, long)
        self.place.publish(self.source)
        self.place.release("Loads")
        self.raises(
            "too-long",
            self.place.reports.publish,
            oak.open_report(self.write("r.report.toml", REPORT + "#" * 1_000_001)),
        )
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        with self.assertRaises(oak.OakError):
            self.by("anna").reports.propose("R", "[report")  # no report at all
        self.raises("wrong-value", self.place.reports.propose, "R", REPORT.replace("figure", "cake"))

    def test_a_withdrawn_draft(self) -> None:
        self.place.publish(self.source)
        self.place.publish(self.source)
        self.place.withdraw("Loads", 2)
        self.assertEqual([one.number for one in self.place.versions("Loads")], [1])
        self.assertEqual(self.place.publish(self.source).number, 3)
        self.assertEqual(self.place.verify(), [])


class States(WithCatalogue):
    def test_dated_states(self) -> None:
        with mock.patch.object(storage_module, "utc") as clock:  # a clock that stands still, and goes back
            clock.return_value = dt.datetime(2027, 1, 10, 12)
            self.place.publish(self.source)
            self.place.release("Loads")
            for volume, day in (
                (11, dt.datetime(2027, 1, 9)),
                (12, dt.datetime(2027, 2, 10, 12)),
                (13, dt.datetime(2027, 2, 10, 12)),
            ):
                clock.return_value = day
                self.write("loads.csv", CSV.replace("1,Low Weir,10", f"1,Low Weir,{volume}"))
                self.place.snapshots.take(self.source, keep=2)
        self.assertEqual([one.rows for one in self.place.snapshots.all("Loads")], [3, 3])
        self.assertEqual(self.place.snapshots.source_at("Loads", "2027-01-31").tally(show=["Volume"]).value(), 22)
        self.assertEqual(self.place.snapshots.source_at("Loads", "2027-02-28").tally(show=["Volume"]).value(), 25)
        self.raises("no-state", self.place.snapshots.source_at, "Loads", "2026-01-31")
        self.raises("bad-date", self.place.snapshots.source_at, "Loads", "31.12.2026")
        with mock.patch("getpass.getuser", return_value="anna"):
            asked = ("tally", "Loads", "--show", "N = SUM(Volume) - BEFORE(SUM(Volume))", "--at", "2027-02-28")
            self.assertEqual(self.oak_json(*asked, "--baseline", "2027-01-31")["rows"], [{"N": 3}])
            self.write("loads.csv", "Id,Mill,Volume\n1,Low Weir,10\n2,High Ford,6\n4,Stonebeck,1\n")
            found = self.oak_json("snapshot", "changes", "loads", "--since", "2027-01-31")
            self.assertEqual((found["changed"], found["came"], found["went"], found["columns"]), (1, 1, 1, ["Volume"]))
            found = self.oak_json("snapshot", "changes", "loads", "--since", "1", "--where", "Mill = 'High Ford'")
            self.assertEqual((found["changed"], found["came"], found["went"]), (1, 0, 0))

    def test_watches(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        watches = self.place.watches
        watches.add("Loads", oak.Watch("little", "SUM(Volume) < 20"))
        watches.add("Loads", oak.Watch("falls", "SUM(Volume) < BEFORE(SUM(Volume))", ("Mill",)))
        self.raises("condition-wanted", watches.add, "Loads", oak.Watch("x", "SUM(Volume)"))
        self.raises("unknown-field", watches.add, "Loads", oak.Watch("x", "SUM(Volum) > 1"))
        states = {one.watch: one.state for one in watches.run("Loads")}
        self.assertEqual(states, {"little": "false", "falls": "undecided"})
        self.write("loads.csv", CSV.replace("1,Low Weir,10", "1,Low Weir,4"))
        self.place.publish(self.source)
        self.place.release("Loads")
        teller = self.write("tell.sh", "#!/bin/sh\ncat >> told.jsonl\n")
        teller.chmod(0o755)
        found = {one.watch: one for one in watches.run("Loads", call=[str(teller)])}
        self.assertEqual((found["little"].state, found["little"].turned), ("true", True))
        self.assertEqual(found["falls"].groups, ("Low Weir",))
        self.assertEqual(
            {json.loads(line)["watch"] for line in Path("told.jsonl").read_text().splitlines()}, {"little", "falls"}
        )
        self.assertFalse(any(one.turned for one in watches.run("Loads", call=[str(teller)])))
        self.assertEqual(len(Path("told.jsonl").read_text().splitlines()), 2)  # told once
        self.assertEqual([one.state for one in watches.history("Loads", "little")], ["false", "true", "true"])
        renamed = self.source.with_renamed({"Volume": "Cubic"})
        self.place.publish(renamed)
        self.place.release("Loads")
        self.assertEqual({one.state for one in watches.run("Loads")}, {"broken"})

    def test_reports_follow_a_mend_when_the_source_is_released(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.people.grant("cleo", ["read"], "general")
        self.place.people.add_area("desk")
        self.place.people.grant("cleo", ["read", "edit"], "desk")
        self.place.people.grant("ben", ["read"], "desk")
        self.by("ben").reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        self.by("cleo").reports.publish(
            oak.open_report(self.write("s.report.toml", REPORT.replace('"R"', '"S"'))), area="desk"
        )
        for path in ("r.report.toml", "s.report.toml"):
            Path(path).unlink()
        self.write("loads.csv", CSV.replace("Volume", "CUBIC"))
        with mock.patch("getpass.getuser", return_value="ben"):
            said = self.oak("mend", "loads", "Volume=CUBIC", "--rename", "Volume=Cubic")
            self.assertIn("report R of the catalogue: the change waits for the release of general/Loads\n", said)
            self.assertIn("report S of the catalogue: the change waits for the release of general/Loads, and then for its owner cleo", " ".join(said.split("\n")))  # fmt: skip
            self.assertIn('+ show = ["Cubic"]', said)
            self.oak("report", "accept", "S", "--yes", code=2)
            self.assertEqual(
                self.place.reports.get("R").number, 1
            )  # reports read the released version, which has the old name
            self.assertIn("report R of the catalogue: the change does not wait any more", self.oak("undo", "loads"))
            self.assertIn("report R of the catalogue: the change waits again", self.oak("undo", "redo", "loads"))
            self.oak("field", "rename", "loads", "Cubic=Size")
            self.assertEqual([one.report.document.text.count("Size") for one in self.by("ben").reports.followed("Loads")], [1, 1])  # fmt: skip
            self.oak("undo", "loads")
            self.assertEqual([one.report.document.text.count("Cubic") for one in self.by("ben").reports.followed("Loads")], [1, 1])  # fmt: skip
            self.assertNotIn("stop working", self.oak("publish", "loads", "--base", "1", "--yes"))
            said = self.oak("release", "Loads", "--yes")
        self.assertIn("report R follows: state 2", said)
        self.assertIn("report S: a change waits for cleo", said)
        self.assertIn('show = ["Cubic"]', self.place.reports.get("R").report.document.text)
        with mock.patch("getpass.getuser", return_value="ben"):
            self.assertIn("followed when the source was released, and stays", self.oak("undo", "loads"))
        with mock.patch("getpass.getuser", return_value="cleo"):
            self.assertIn("+ show", self.oak("report", "waiting", "S"))
            self.oak("report", "accept", "S", "--yes")
        self.assertIn('show = ["Cubic"]', self.by("cleo").reports.get("S").report.document.text)

    def test_a_change_that_would_break_a_report_does_not_follow(self) -> None:
        """The mend was of a working copy that was not published: what is released has the old names."""
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        text = self.place.reports.get("R").report.document.text.replace('"Volume"', '"Cubic"')
        self.place.reports.propose("R", text, note="a", with_source=True)
        self.place.publish(self.source)
        self.place.release("Loads")
        self.assertEqual((self.place.reports.get("R").number, self.place.reports.get("R").waiting), (1, 1))
        self.place.reports.set_aside("a")
        self.place.reports.propose(
            "R", REPORT.replace('"V"', '"W"'), note="b", with_source=True
        )  # which works as well as the other
        self.place.publish(self.source)
        self.place.release("Loads")
        self.assertEqual((self.place.reports.get("R").number, self.place.reports.get("R").waiting), (2, 0))


class Audit(WithCatalogue):
    def test_the_log_is_chained_and_searched(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        head = self.place.people.log()[-1].chain
        self.by("ben").publish(self.source, base=1)
        self.assertEqual([one.what for one in self.place.people.log(words="ben publish")], ["publish"])
        self.assertEqual(self.place.verify(head), [])
        self.assertIn("was kept", self.place.verify("0" * 64)[0])
        database = sqlite3.connect("catalogue/catalogue.db")
        cases = [
            ("UPDATE audit SET who = 'eve' WHERE what = 'release'", "release"),
            ("DELETE FROM audit WHERE what = 'release'", "does not follow"),
            ("DELETE FROM audit WHERE id = (SELECT MAX(id) FROM audit)", "missing at the end"),
        ]
        for statement, words in cases:
            with self.subTest(statement):
                database.execute("SAVEPOINT one")
                database.execute(statement)
                database.commit()
                self.assertIn(words, " ".join(self.place.verify()))
                self.setUp()
                self.place.publish(self.source)
                self.place.release("Loads")
                self.by("ben").publish(self.source, base=1)
                database = sqlite3.connect("catalogue/catalogue.db")
        database.close()


class Damage(WithCatalogue):
    def test_flipped_bits_are_noticed_and_named(self) -> None:
        """A bit anywhere in the store: what is read afterwards is right, or refused; `verify` names what matters."""
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.snapshots.take(self.source)
        database = sqlite3.connect("catalogue/catalogue.db")
        database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        database.close()
        right = self.figures()
        files = [path for path in Path("catalogue").rglob("*") if path.is_file() and path.stat().st_size]
        chance, silent = random.Random(4), 0
        for _ in range(FLIPPED_BITS):
            path = chance.choice(files)
            content = path.read_bytes()
            at, bit = chance.randrange(len(content)), chance.randrange(8)
            path.write_bytes(content[:at] + bytes([content[at] ^ 1 << bit]) + content[at + 1 :])
            storage_module._verified.clear()
            try:
                found = self.figures()
                self.assertEqual(found, right, f"byte {at} of {path}, bit {bit}")
                silent += 1
                if path.suffix == ".parquet":
                    self.assertTrue(self.place.verify(), f"byte {at} of {path}")
            except oak.OakError as error:
                self.assertTrue(error.findings[0].message)
            path.write_bytes(content)
        self.assertLess(silent, FLIPPED_BITS)
        storage_module._verified.clear()
        self.assertEqual(self.place.verify(), [])

    def figures(self) -> list[object]:
        """All that can be read."""
        place = self.by("anna")
        source = place.source("Loads")
        version = place.version("Loads")
        states = [(one.at, one.rows) for one in place.snapshots.all("Loads")]
        return [
            source.rows().to_dicts(),
            version.definition,
            version.stage,
            version.signed_by,
            place.people.grants(),
            [one.what for one in place.people.log()],
            states,
        ]

    def test_a_full_disk(self) -> None:
        self.place.publish(self.source)
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")):
            error = self.raises("not-written", self.place.publish, self.source)
        self.assertIn("No space left", str(error))
        self.assertEqual([one.number for one in self.place.versions("Loads")], [1])
        self.assertEqual(self.place.verify(), [])

    def test_files_that_nothing_refers_to(self) -> None:
        self.place.publish(self.source)
        self.place.withdraw("Loads", 1)
        stray = next(Path("catalogue/data").glob("*.parquet"))
        self.assertEqual(self.place.clear(), [])  # it may be of a publish that is under way
        os.utime(stray, (0, 0))
        self.assertEqual(self.place.clear(), [stray])


class Kills(WithCatalogue):
    def test_at_any_moment(self) -> None:
        """Publish, release, snapshot and a grant, killed at random: never half a version, always openable, and it goes on."""
        works: list[Callable[[], object]] = [
            lambda: self.by("anna").publish(self.source),
            lambda: self.by("anna").release("Loads"),
            lambda: self.by("anna").snapshots.take(self.source),
            lambda: self.by("anna").people.grant(f"p{chance.randrange(10**9)}", ["read"], "general"),
        ]
        chance = random.Random(8)
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.publish(self.source)
        begun = time.perf_counter()
        for work in works[::3]:
            work()
        longest = time.perf_counter() - begun
        for at in range(RANDOM_KILLS):
            self.kill(works[at % len(works)], chance.random() * longest)
            place = self.by("anna")
            versions = place.versions("Loads")
            self.assertEqual([one.number for one in versions], [*range(1, len(versions) + 1)])
            self.assertEqual(sum(one.stage == "released" for one in versions), 1)
            self.assertEqual(place.source("Loads").tally(show=["Volume"]).value(), 22)
            if versions[-1].stage == "released":
                place.publish(self.source)
        self.assertEqual(self.place.verify(), [])

    def kill(self, work: Callable[[], object], after: float) -> None:
        child = os.fork()
        if not child:  # nothing of this process is to be seen in it
            try:
                work()
            finally:
                os._exit(0)
        time.sleep(after)
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


class OtherLayouts(FolderCase):
    def test_they_are_refused(self) -> None:
        Path("old").mkdir()
        database = sqlite3.connect("old/catalogue.db")
        database.execute("CREATE TABLE source (id INTEGER PRIMARY KEY, name TEXT)")
        database.close()
        self.assertIn("an earlier version", str(self.raises("catalogue-layout", oak.Catalogue.open, "old")))
        oak.Catalogue.open("new", create=True, person="anna")
        place = storage_module.Storage(Path("new"))
        with place.write() as connection:
            place.put(connection, "layout", "99")
        self.assertIn("a later version", str(self.raises("catalogue-layout", oak.Catalogue.open, "new")))


class OnAServer(Versions, States):
    """The same on PostgreSQL."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.uri = server.start(cls, "a catalogue on PostgreSQL")
        cls.made = 0

    def setUp(self) -> None:
        type(self).made += 1
        name = f"oak{type(self).made}"
        server.execute(self.uri, [f"CREATE DATABASE {name}"])
        self.url = sa.make_url(self.uri).set(database=name).render_as_string(hide_password=False)
        super().setUp()

    def test_the_folder_names_the_server_and_no_password(self) -> None:
        self.assertIn("postgresql://", Path("catalogue/catalogue.toml").read_text())
        self.assertFalse(Path("catalogue/catalogue.db").exists())
        self.place.publish(self.source)
        self.place.release("Loads")
        with mock.patch("getpass.getuser", return_value="anna"):
            self.assertIn("released", self.oak("versions"))
            self.oak("catalogue", "verify")


if __name__ == "__main__":
    unittest.main()
