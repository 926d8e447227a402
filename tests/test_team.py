"""A team at work in one catalogue: tokens, four eyes, backups, old rows, what is moved, removed and handed over; and what it notices when rows go missing."""

from __future__ import annotations

import os
import shutil
import sqlite3
import stat
from pathlib import Path
from unittest import mock

import sqlalchemy as sa

import oak_ledger as oak
from oak_ledger.catalogue import storage as storage_module
from oak_ledger.catalogue.upkeep import restore
from oak_ledger.errors import OakError
from tests import server
from tests.test_catalogue import CSV, REPORT, WithCatalogue


class Team(WithCatalogue):
    def setUp(self) -> None:
        super().setUp()
        self.place.people.add_area("north")
        self.place.people.grant("ben", ["read", "edit", "release"], "north")

    def by(self, person: str) -> oak.Catalogue:
        return oak.Catalogue.open("catalogue", person=person)

    def by_token(self, person: str, areas: list[str], rights: list[str]) -> oak.Catalogue:
        return oak.Catalogue.open("catalogue", token=self.by(person).people.make_token("nightly", areas, rights))

    def test_a_token_holds_for_makers_and_owners_too(self) -> None:
        """Sharing, withdrawing, tokens and reports of other areas: within the token's areas and rights, whoever made them."""
        self.place.publish(self.source)
        self.place.release("Loads")
        ben = self.by("ben")
        ben.publish(self.source, base=1)
        ben.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        tries = (
            ("name", lambda place: place.name_viewers("Loads", ["eve"], 2)),
            ("withdraw", lambda place: place.withdraw("Loads", 2)),
            ("change", lambda place: place.reports.publish(oak.open_report("r.report.toml"))),
            ("propose", lambda place: place.reports.propose("R", REPORT)),
            ("remove", lambda place: place.upkeep.remove_report("R")),
            ("token", lambda place: place.people.make_token("more", ["general"], ["read"])),
        )
        reading, elsewhere = (
            self.by_token("ben", ["general"], ["read"]),
            self.by_token("ben", ["north"], ["read", "edit"]),
        )
        for action, work in tries:
            for place, where in ((reading, "general"), (elsewhere, "north")):
                with self.subTest(action=action, where=where):
                    with self.assertRaises(OakError) as caught:
                        work(place)
                    self.assertIn(
                        caught.exception.code,
                        ("not-allowed", "unknown-source", "unknown-version", "unknown-report", "not-released"),
                    )
        self.assertEqual(elsewhere.reports.all(), [])
        self.assertEqual(ben.version("Loads", 2).viewers, ())
        numbers = [one.number for one in ben.people.tokens()]
        self.assertEqual([one.number for one in reading.people.tokens()], numbers[:1])  # a token sees itself
        self.raises("no-token", reading.people.revoke_token, numbers[1])
        reading.people.revoke_token(numbers[0])
        writing = self.by_token("ben", ["general"], ["read", "edit"])
        for action, work in (tries[0], tries[3], tries[2], tries[1]):
            with self.subTest(action, allowed=True):
                work(writing)
        self.assertIn("ben, by the token nightly", {one.who for one in self.place.people.log()})

    def test_running_watches_uses_up_what_turned(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.watches.add("Loads", oak.Watch("little", "SUM(Volume) < 1000"))
        self.place.people.grant("eve", ["read"], "general")
        self.raises("not-allowed", self.by("eve").watches.run, "Loads")
        self.assertEqual(self.by("eve").watches.history("Loads", "little"), [])
        self.raises("watch-command", lambda: self.place.watches.run("Loads", call=["false"]))
        self.assertEqual(
            [one.turned for one in self.place.watches.run("Loads", call=["true"])], [True]
        )  # it turns again
        self.assertEqual([one.turned for one in self.place.watches.run("Loads", call=["true"])], [False])

    def test_readers_see_no_watch_over_what_is_hidden(self) -> None:
        source = self.source.with_changed("Volume", hidden=True)
        self.place.publish(source)
        self.place.release("Loads")
        self.place.watches.add("Loads", oak.Watch("secret volume", "SUM(Volume) < 10"))
        self.place.watches.add("Loads", oak.Watch("rows", "COUNT(*) < 10"))
        self.place.people.grant("eve", ["read"], "general")
        self.assertEqual([one.name for one in self.by("eve").watches.all("Loads")], ["rows"])
        self.assertNotIn("secret", str(self.raises("unknown-watch", self.by("eve").watches.history, "Loads", "x")))
        self.raises("unknown-watch", self.by("eve").watches.history, "Loads", "secret volume")
        self.assertEqual(len(self.by("ben").watches.all("Loads")), 2)

    def test_groups_are_told_to_members(self) -> None:
        self.place.people.join("mill", ["ben"])
        self.place.people.join("office", ["cleo"])
        self.assertEqual({*self.place.people.groups()}, {"mill", "office"})
        self.assertEqual(self.by("ben").people.groups(), {"mill": ["ben"]})
        self.assertEqual(self.by("eve").people.groups(), {})

    def test_rights_twice_are_no_damage(self) -> None:
        for _ in range(2):
            self.place.people.grant("eve", ["read", "read"], "general")
        self.assertEqual(self.place.verify(), [])

    def test_names_in_two_areas(self) -> None:
        """A report reads the source of its area's name wherever it is filed; a report of that name elsewhere is not touched."""
        self.place.publish(self.source)
        self.place.release("Loads")
        other = self.source.with_changed("Volume", clean="VALUE * 100")
        self.by("ben").publish(other, area="north")
        self.by("ben").release("north/Loads")
        text = REPORT.replace('source = "Loads"', 'source = "north/Loads"')
        self.raises("several-sources", self.place.reports.publish, oak.open_report(self.write("r.report.toml", REPORT)))
        filed = self.place.reports.publish(oak.open_report(self.write("r.report.toml", text)), area="general")
        self.assertEqual((filed.area, filed.source), ("general", "north/Loads"))
        value = filed.report.view(self.place.source(filed.source)).panels[0]
        self.assertIn("2,200", repr(value))
        own = REPORT.replace('source = "Loads"', 'source = "general/Loads"')
        self.raises("report-taken", self.place.reports.publish, oak.open_report(self.write("o.report.toml", own)))
        made = self.place.reports.publish(oak.open_report("o.report.toml"), area="north")
        self.assertEqual((made.area, made.source, made.number), ("north", "general/Loads", 1))
        self.assertEqual(self.place.reports.get("general/R").number, 1)
        self.assertEqual([one.area for one in self.place.reports.all("north/Loads")], ["general"])
        with mock.patch("getpass.getuser", return_value="anna"):
            self.assertIn("2,200", self.oak("report", "render", "general/R"))
            self.assertIn("22", self.oak("report", "render", "north/R"))

    def test_reports_of_others_are_not_replaced_unasked(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        report = oak.open_report("r.report.toml")
        self.raises("report-taken", self.by("ben").reports.publish, report)
        self.assertEqual(self.by("ben").reports.publish(report, replace=True).number, 2)

    def test_a_change_is_accepted_as_it_was_looked_at(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        self.by("ben").reports.propose("R", REPORT.replace('"V"', '"looked at"'))
        looked = self.place.reports.waiting("R")[0].number
        self.by("ben").reports.propose("R", REPORT.replace('"V"', '"slipped in"'))
        self.raises("nothing-waits", self.place.reports.accept, "R", looked)
        self.place.people.grant("eve", ["read"], "general")
        self.by("eve").reports.propose("R", REPORT.replace('"V"', '"of eve"'))
        self.raises("several-changes", self.place.reports.accept, "R")
        last = self.place.reports.waiting("R")[-1].number
        self.assertIn("of eve", self.place.reports.accept("R", last).report.document.text)
        self.by("eve").reports.propose("R", REPORT.replace('"V"', '"left before"'))
        own = REPORT.replace('"V"', '"changed meanwhile"')
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", own)), replace=True)
        waiting = self.place.reports.waiting("R")[-1].number
        self.raises("base-moved", self.place.reports.accept, "R", waiting)
        self.assertIn("changed meanwhile", self.place.reports.get("R").report.document.text)

    def test_two_curators_of_one_new_name(self) -> None:
        self.place.publish(self.source)
        self.assertIn("somebody else has a draft", self.by("ben").publish(self.source).told.casefold())
        self.place.release("Loads", 1)
        self.place.people.grant("cleo", ["read", "edit"], "general")
        self.raises("source-taken", self.by("cleo").publish, self.source)
        self.assertEqual(self.by("cleo").publish(self.source, base=1).number, 3)

    def test_four_eyes(self) -> None:
        self.place.upkeep.ask_for_four_eyes(on=True)
        self.raises("not-allowed", self.by("ben").upkeep.ask_for_four_eyes, on=False)
        self.place.publish(self.source, viewers=["ben"])
        self.assertIn("four eyes", str(self.raises("not-allowed", self.place.release, "Loads").findings[0].hint))
        self.assertEqual(self.by("ben").release("Loads").signed_by, "ben")
        with mock.patch("getpass.getuser", return_value="anna"):
            self.assertIn("somebody else", self.oak("catalogue", "four-eyes"))
            self.oak("catalogue", "four-eyes", "off")
        self.place.publish(self.source)
        self.place.release("Loads")

    def test_a_backup_and_what_comes_of_it(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.snapshots.take(self.source)
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        self.raises("not-allowed", self.by("ben").upkeep.backup, "ben")
        with mock.patch("getpass.getuser", return_value="anna"):
            self.oak("catalogue", "backup", "kept")
            self.assertIn("not-empty", self.oak("catalogue", "backup", "kept", code=3))
        for path in Path("kept").rglob("*"):
            path.chmod(stat.S_IREAD | (stat.S_IEXEC if path.is_dir() else 0))
        self.place.publish(self.source)
        for folder in ("kept", str(restore("kept", "again"))):
            place = oak.Catalogue.open(folder, person="anna")
            self.assertEqual((place.verify(), [one.number for one in place.versions("Loads")]), ([], [1]))
            self.assertEqual(place.source("Loads").tally(show=["Volume"]).value(), 22)
            self.assertEqual(place.reports.get("R").number, 1)
        self.assertEqual(place.publish(self.source).number, 2)
        self.assertEqual((place.verify(), len(place.snapshots.all("Loads"))), ([], 1))

    def test_old_rows(self) -> None:
        for _ in range(4):
            self.place.publish(self.source)
            self.place.release("Loads")
        self.raises("not-allowed", self.by("ben").upkeep.remove_old_rows, keep=1)
        self.assertEqual(self.place.upkeep.remove_old_rows(keep=1), ["Loads, version 1", "Loads, version 2"])
        self.raises("rows-removed", self.place.source, "Loads", 1)
        self.assertEqual(self.place.version("Loads", 1).rows, 3)
        self.assertEqual(self.place.source("Loads", 3).tally().value(), 3)
        self.assertEqual(self.place.verify(), [])

    def test_a_leaver(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        ben = self.by("ben")
        ben.publish(self.source, base=1)
        ben.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        secret = ben.people.make_token("nightly")
        self.raises("not-allowed", ben.upkeep.hand_over, "anna", "ben")
        with mock.patch("getpass.getuser", return_value="anna"):
            said = self.oak("catalogue", "hand-over", "ben", "anna", "--yes")
        self.assertIn("1 draft, 1 report; ended: 1 token", said)
        self.raises("no-token", oak.Catalogue.open, "catalogue", token=secret)
        self.assertEqual(self.place.version("Loads", 2).made_by, "anna")
        self.assertEqual(self.place.reports.get("R").owner, "anna")
        self.assertEqual(self.place.verify(), [])

    def test_moving_and_removing(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.watches.add("Loads", oak.Watch("little", "SUM(Volume) < 20"))
        self.place.watches.run("Loads")
        self.place.snapshots.take(self.source)
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        for work in (
            lambda: self.by("ben").upkeep.move_source("Loads", "north"),
            lambda: self.by("ben").upkeep.remove_source("Loads"),
            lambda: self.by("ben").upkeep.remove_report("R"),
            lambda: self.by("ben").upkeep.remove_area("north"),
        ):
            self.raises("not-allowed", work)
        with mock.patch("getpass.getuser", return_value="anna"):
            self.oak("catalogue", "move", "source", "Loads", "north")
            self.assertIn("22", self.oak("report", "render", "R"))  # it reads it where it is now
            self.oak("catalogue", "move", "report", "R", "north")
            self.assertEqual(self.place.reports.get("R").area, "north")
            self.assertIn("still-used", self.oak("catalogue", "remove", "area", "north", "--yes", code=2))
            self.oak("tally", "north/Loads")
            self.assertIn("anna", self.oak("catalogue", "readers"))
            self.oak("catalogue", "remove", "source", "north/Loads", "--yes")
            self.assertIn("unknown-source", self.oak("report", "render", "R", code=2))
            self.oak("catalogue", "remove", "report", "R", "--yes")
            self.oak("catalogue", "remove", "area", "north", "--yes")
        self.assertEqual((self.place.people.areas(), self.place.sources(), self.place.verify()), (["general"], [], []))

    def test_rows_that_go_missing_are_noticed(self) -> None:
        self.place.publish(self.source, viewers=["ben"])
        self.place.release("Loads")
        self.place.snapshots.take(self.source)
        self.place.watches.add("Loads", oak.Watch("little", "SUM(Volume) < 20"))
        self.place.watches.run("Loads")
        self.place.reports.publish(oak.open_report(self.write("r.report.toml", REPORT)))
        self.place.reports.propose("R", REPORT)
        self.place.people.join("mill", ["ben"])
        self.place.people.make_token("nightly")
        self.place.reports.looked("Loads", "anna")
        self.assertEqual(self.place.verify(), [])
        engine = self.place._storage.engine
        for table in storage_module.COUNTED:
            with engine.connect() as connection:
                gone = connection.execute(sa.select(table).order_by(table.c.id.desc()).limit(1)).mappings().one()
                if not any(one.column.table is table for other in storage_module.COUNTED for one in other.foreign_keys):
                    connection.execute(sa.delete(table).where(table.c.id == gone["id"]))
                    connection.commit()
                    with self.subTest(table.name):
                        self.assertIn(f"the entries of {table.name} are not those", " ".join(self.place.verify()))
                    connection.execute(sa.insert(table).values(**gone))
                    connection.commit()
        self.assertEqual(self.place.verify(), [])
        # a right that is given by hand, with its own digest and sums written anew: the log speaks of other entries
        head = self.place.people.log()[-1].chain
        storage = self.place._storage
        with storage.write() as connection:
            storage.insert(
                connection, storage_module.META.tables["grants"], {"area": "*", "who": "eve", "allowed": "administer"}
            )
        self.assertIn("the last entry of the audit log", " ".join(self.place.verify()))
        with self.place._access.doing("nothing"):  # and even a log that goes on from there
            pass
        self.assertEqual(self.place.verify(head), [])  # it is an entry of the log like any other, by whom the log says


class OnAServer(Team):
    """The same on PostgreSQL."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.uri = server.start(cls, "a team")

    def setUp(self) -> None:
        engine = sa.create_engine(
            self.uri.replace("postgresql://", "postgresql+psycopg://"), isolation_level="AUTOCOMMIT"
        )
        with engine.connect() as connection:
            connection.exec_driver_sql("DROP SCHEMA public CASCADE; CREATE SCHEMA public")
        engine.dispose()
        type(self).url = self.uri
        super().setUp()

    def test_one_database_for_one_catalogue(self) -> None:
        self.raises("database-taken", oak.Catalogue.open, "second", create=True, url=self.uri)
        self.raises("database-taken", restore, "catalogue", "third", self.uri)
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.upkeep.backup("kept")
        self.assertTrue(Path("kept/catalogue.db").exists())
        self.assertEqual(oak.Catalogue.open("kept", person="anna").source("Loads").tally().value(), 3)
        engine = sa.create_engine(self.uri.replace("postgresql://", "postgresql+psycopg://"))
        with engine.begin() as connection:
            storage_module.META.drop_all(connection)
        engine.dispose()
        shutil.rmtree("catalogue")
        restore("kept", "catalogue", self.uri)
        place = oak.Catalogue.open("catalogue", person="anna")
        self.assertEqual((place.verify(), place.publish(self.source).number), ([], 2))


class InAFolder(WithCatalogue):
    """What only a catalogue in a folder has: a journal, a folder of files, no right to write."""

    def by(self, person: str) -> oak.Catalogue:
        return oak.Catalogue.open("catalogue", person=person)

    def test_a_damaged_journal(self) -> None:
        keep = sqlite3.connect("catalogue/catalogue.db")  # the journal stays as long as somebody is there
        keep.execute("select * from about").fetchall()
        self.place.publish(self.source)
        journal = Path("catalogue/catalogue.db-wal")
        self.assertGreater(journal.stat().st_size, 0)
        shutil.copytree("catalogue", "copy")
        data = bytearray(Path("copy/catalogue.db-wal").read_bytes())
        data[40:] = bytes(len(data) - 40)
        Path("copy/catalogue.db-wal").write_bytes(data)
        for shared in Path("copy").glob("*-shm"):
            shared.unlink()
        said = " ".join(oak.Catalogue.open("copy", person="anna").verify())
        self.assertIn("entries at the end are lost", said)
        keep.close()

    def test_the_files_of_another_catalogue(self) -> None:
        self.place.publish(self.source)
        oak.Catalogue.open("second", create=True, person="anna")
        shutil.rmtree("second/data")
        Path("second/data").symlink_to(Path("catalogue/data").absolute())
        second = oak.Catalogue.open("second", person="anna")
        self.raises("data-shared", second.publish, self.source)
        for path in Path("catalogue/data").glob("*.parquet"):
            os.utime(path, (0, 0))
        self.assertEqual(second.clear(), [])
        self.assertEqual(self.place.verify(), [])

    def test_a_folder_that_is_only_read(self) -> None:
        self.place.publish(self.source)
        self.place.release("Loads")
        self.place.people.grant("@everyone", ["read"], "general")
        shutil.copytree("catalogue", "still")
        before = {path: path.read_bytes() for path in Path("still").rglob("*") if path.is_file()}
        for path in [*Path("still").rglob("*"), Path("still")]:
            path.chmod(0o555 if path.is_dir() else 0o444)
        with mock.patch.object(storage_module.os, "access", return_value=False):  # root may write all the same
            place = oak.Catalogue.open("still", person="x")
            self.assertEqual((place.source("Loads").tally().value(), place.verify()), (3, []))
            with mock.patch("getpass.getuser", return_value="x"):
                self.assertIn("3", self.oak("tally", "Loads", "--catalogue", "still"))
            self.raises("catalogue-unusable", oak.Catalogue.open("still", person="anna").publish, self.source)
        for path in [*Path("still").rglob("*"), Path("still")]:
            path.chmod(0o755)
        self.assertEqual({path: path.read_bytes() for path in Path("still").rglob("*") if path.is_file()}, before)

    def test_what_is_said_of_one_by_command(self) -> None:
        self.assertIn("no-catalogue", self.oak("catalogue", "restore", "nowhere", "--catalogue", "x", code=3))
        with self.assertRaises(OakError):
            restore("nowhere", "x")
        self.write("loads.csv", CSV)
