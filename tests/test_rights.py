"""Who may do what: the table itself, and every role × action × stage through the library and the command line."""

from __future__ import annotations

import inspect
import os
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from itertools import combinations
from pathlib import Path
from unittest import mock

import oak_ledger as oak
from oak_ledger.catalogue.rules import ACTIONS, COLUMNS, RIGHTS, STAGES, in_words, permitted
from oak_ledger.definition.model import FieldSpec
from tests.support import FolderCase

EVERYTHING = (*RIGHTS, "maker", "named", "owner")
CSV = "Id,Mill,Volume,Secret\n1,Low Weir,10,7\n2,High Ford,5,8\n"
REPORT = '[report]\nname = "R"\nsource = "Loads"\n\n[[panel]]\nkind = "figure"\ntitle = "V"\nshow = ["Volume"]\n'


class Table(unittest.TestCase):
    def test_nobody_may_do_anything_without_a_condition(self) -> None:
        for action in ACTIONS:
            for to in COLUMNS:
                self.assertFalse(permitted(action, to, ()))

    def test_more_conditions_never_allow_less(self) -> None:
        held = [set(one) for size in range(4) for one in combinations(EVERYTHING, size)]
        for action in ACTIONS:
            for to in COLUMNS:
                for one in held:
                    if permitted(action, to, one):
                        self.assertTrue(all(permitted(action, to, one | {more}) for more in EVERYTHING))

    def test_what_is_read_can_be_seen(self) -> None:
        """Whoever may do anything to a version may also see it, or is told nothing of it."""
        for action in ACTIONS.values():
            for to in ("draft", "released", "retired", "report"):
                for needed in action.allowed[to]:
                    self.assertTrue(permitted("see", to, needed), (action.name, to))

    def test_a_draft_is_closed_to_all_but_its_maker_and_whom_they_name(self) -> None:
        for action in ACTIONS.values():
            for needed in action.allowed["draft"]:
                self.assertTrue(needed & {"maker", "named"}, action.name)

    def test_in_words(self) -> None:
        self.assertEqual(in_words("release", "retired"), "the right to read and the right to release")
        self.assertEqual(in_words("see", "draft"), "being its maker or being named by its maker")


class WithPeople(FolderCase):
    """A catalogue with a source in every stage, made by `maker`; people are known by the rights that they have."""

    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", CSV)
        source = oak.intake("loads.csv", name="Loads", definition="loads.oak.toml").source
        source = source.with_field("Double", "SUM(Secret) * 2")
        source.changed(source.document.replaced(source.block("Secret"), {"hidden": True})).save("loads.oak.toml")
        self.source = oak.open_source("loads.oak.toml")
        self.tokens: dict[str, str] = {}
        self.boss = oak.Catalogue.open("catalogue", create=True, person="boss")
        self.boss.people.grant("maker", [*RIGHTS], "general")

    def place(self, person: str) -> oak.Catalogue:
        return oak.Catalogue.open("catalogue", person=person)

    def token(self, person: str) -> str:
        return self.place(person).people.make_token("t", rights=[*RIGHTS])

    @contextmanager
    def as_person(self, person: str) -> Iterator[None]:
        """Commands run as somebody, by a token of theirs."""
        if person not in self.tokens:
            self.tokens[person] = self.token(person)
        with mock.patch.dict(os.environ, {"OAK_TOKEN": self.tokens[person]}):
            yield

    def people(self) -> Iterator[tuple[str, set[str]]]:
        """Everybody: each set of rights, as somebody who is named and somebody who is not; and the maker with no rights."""
        for size in range(len(RIGHTS) + 1):
            for held in combinations(RIGHTS, size):
                yield "-".join([*held, "x"]), {*held}
                yield "-".join([*held, "named"]), {*held, "named"}
        yield "maker", {"maker"}


class Roles(WithPeople):
    def setUp(self) -> None:
        super().setUp()
        everybody = dict(self.people())
        for person, held in everybody.items():
            rights = [one for one in RIGHTS if one in held]
            if rights:
                self.boss.people.grant(person, rights, "general")
        self.everybody = everybody
        self.prepared = oak.Catalogue.prepare(self.source)
        self.named = [person for person, held in everybody.items() if "named" in held]

    def versions(self, name: str) -> dict[str, int]:
        """A source with a version in each stage, made by `maker`; their numbers."""
        place, document = self.place("maker"), self.source.document
        named = self.source.changed(document.replaced(document.all("source")[0], {"name": name}))
        prepared = replace(self.prepared, source=named)
        for _ in range(2):
            place.publish(prepared)
            place.release(name)
        place.publish(prepared, viewers=self.named)
        return {"retired": 1, "released": 2, "draft": 3}

    def test_every_role_action_and_stage_in_the_library(self) -> None:
        """What is allowed works; what is not says so, or that there is nothing of that name."""
        numbers = self.versions("Loads")
        self.boss.people.revoke("maker", [*RIGHTS], "general")
        actions: dict[str, Callable[[oak.Catalogue, int], object]] = {
            "see": lambda place, number: place.version("Loads", number),
            "read": lambda place, number: place.source("Loads", number).tally(),
            "checkout": lambda place, number: place.checkout("Loads", number),
            "sign": lambda place, number: place.sign("Loads", number),
            "name": lambda place, number: place.name_viewers("Loads", ["maker"], number),
        }
        tried = 0
        for stage in STAGES:
            for action, work in actions.items():
                for person, held in self.everybody.items():
                    with self.subTest(person=person, action=action, stage=stage):
                        tried += 1
                        self.expect(
                            permitted(action, stage, held),
                            permitted("see", stage, held),
                            lambda work=work, person=person, stage=stage: work(self.place(person), numbers[stage]),
                        )  # type: ignore[misc]
        self.assertEqual(tried, 3 * 5 * 33)

    def expect(self, allowed: bool, seen: bool, work: Callable[[], object]) -> None:
        """Something works exactly where it is allowed; of what one may not see there is no word."""
        try:
            work()
        except oak.OakError as error:
            self.assertFalse(allowed, str(error))
            self.assertIn(
                error.code, ("not-allowed",) if seen else ("unknown-source", "unknown-version", "not-released")
            )
            return
        self.assertTrue(allowed)

    def test_every_role_that_changes_a_stage(self) -> None:
        """Actions that change something, each allowed one on versions of its own; by the library, and by a command as that person."""
        commands = {
            "release": "release {name} {number} --yes", "withdraw": "versions withdraw {name} {number} --yes", "retire": "versions retire {name} --yes",
        }  # fmt: skip
        fresh: dict[str, tuple[str, dict[str, int]]] = {}  # of what was refused, all stages are there as they were
        for at, (person, held) in enumerate(self.everybody.items()):
            mine = {*held} if person != "maker" else {"maker", *RIGHTS}
            for action, command in commands.items():
                name, numbers = fresh.pop(action, None) or (f"S{at}{action}", self.versions(f"S{at}{action}"))
                changed = False
                for stage in (
                    ("retired", "draft")
                    if action == "release"
                    else ("draft",)
                    if action == "withdraw"
                    else ("released",)
                ):
                    with self.subTest(person=person, action=action, stage=stage), self.as_person(person):
                        allowed = permitted(action, stage, mine)
                        call = command.format(name=name, number=numbers[stage]).split()
                        said = self.oak(*call, code=0 if allowed else 2)
                        changed = changed or allowed
                        if not allowed:
                            seen = permitted("see", stage, mine)
                            self.assertTrue(
                                ("not-allowed" in said) if seen else ("unknown-" in said or "not-released" in said),
                                said,
                            )
                            self.assertEqual({one.stage for one in self.place("maker").versions(name)}, {*STAGES})
                if not changed:
                    fresh[action] = name, numbers

    def test_what_is_done_to_an_area(self) -> None:
        """Publishing, granting, the audit log, snapshots and watches: by rights in the area alone."""
        self.versions("Loads")
        self.write("r.report.toml", REPORT)
        calls = {
            "publish": (
                "publish loads.oak.toml --base 3",
                "snapshot take loads.oak.toml",
                "watch add Loads w{n} 'SUM(Volume)>1'",
            ),
            "grant": ("catalogue rights grant somebody read",),
            "audit": ("catalogue log",),
        }
        for at, (person, held) in enumerate(self.everybody.items()):
            if person == "maker" or "named" in held:
                continue
            for action, commands in calls.items():
                for command in commands:
                    with self.subTest(person=person, command=command), self.as_person(person):
                        needs_reading = "snapshot" in command or "watch" in command
                        allowed = permitted(action, "area", held) and (not needs_reading or "read" in held)
                        said = self.oak(*command.replace("'", "").format(n=at).split(), code=None)
                        refused = any(
                            word in said for word in ("not-allowed", "unknown-source", "unknown-area", "not-released")
                        )
                        self.assertEqual(not refused, allowed, said)
                        self.assertNotIn("Traceback", said)

    def test_reports(self) -> None:
        """A report is seen by its owner and by readers of its area, changed by its owner and by editors."""
        self.versions("Loads")
        self.write("r.report.toml", REPORT)
        self.place("read-edit-x").reports.publish(oak.open_report("r.report.toml"))
        for person, held in self.everybody.items():
            if person == "maker":
                continue
            mine = {*held, *(["owner"] if person == "read-edit-x" else [])}
            place = self.place(person)
            with self.subTest(person=person):
                self.assertEqual(
                    [one.name for one in place.reports.all()], ["R"] if permitted("see", "report", mine) else []
                )
                for action, work in (
                    (
                        "change",
                        lambda place=place: place.reports.publish(oak.open_report("r.report.toml"), replace=True),
                    ),
                    ("propose", lambda place=place: place.reports.propose("R", REPORT)),
                ):  # type: ignore[misc]
                    may_read = "read" in held or "named" in held  # its source
                    allowed = permitted(action, "report", mine) and (action == "propose" or may_read)
                    try:
                        work()
                    except oak.OakError as error:
                        self.assertFalse(allowed, str(error))
                        self.assertIn(
                            error.code,
                            ("not-allowed", "unknown-report", "unknown-source", "unknown-area", "name-taken"),
                        )
                    else:
                        self.assertTrue(allowed)


class LookedAfter(WithPeople):
    """What takes administering: of the whole catalogue, or of the area that it is about; what takes editing there. Who has every other right, or every right elsewhere, may not."""

    def test_each_takes_administering(self) -> None:
        self.boss.people.add_area("trial")
        self.boss.people.add_area("empty")
        self.place("maker").publish(self.source)
        self.place("maker").release("Loads")
        self.write("r.report.toml", REPORT)
        self.boss.people.grant("author", ["read", "edit"], "general")
        self.place("author").reports.publish(oak.open_report("r.report.toml"))
        self.write("new.report.toml", REPORT.replace('"R"', '"New"'))
        self.boss.people.join("crew", ["old"])
        self.boss.watches.add("Loads", oak.Watch("low", "SUM(Volume) < 1"))
        others = [right for right in RIGHTS if right != "administer"]
        for area, rights in (("general", [*RIGHTS]), ("trial", [*RIGHTS])):
            self.boss.people.grant(f"of {area}", rights, area)
            self.boss.people.grant(f"of {area}", ["read"], "general")
        self.boss.people.grant("all but", others, "general")
        self.boss.people.grant("all but", others, "trial")
        in_general: set[str] = {"all but", "of trial"}
        nowhere = {*in_general, "of general"}
        table: tuple[tuple[set[str], Callable[[oak.Catalogue], object]], ...] = (
            (nowhere, lambda one: one.clear()),
            (nowhere, lambda one: one.upkeep.backup(self.folder / "copy")),
            (nowhere, lambda one: one.upkeep.ask_for_four_eyes(on=True)),
            (nowhere, lambda one: one.upkeep.hand_over("maker", "somebody")),
            (nowhere, lambda one: one.upkeep.remove_area("empty")),
            (nowhere, lambda one: one.people.add_area("more")),
            (nowhere, lambda one: one.people.join("crew", ["somebody"])),
            (nowhere, lambda one: one.people.leave("crew", ["old"])),
            (nowhere, lambda one: one.people.grant("somebody", ["read"], "*")),
            (in_general, lambda one: one.people.grant("somebody", ["read"], "general")),
            (in_general, lambda one: one.people.revoke("maker", ["read"], "general")),
            (in_general, lambda one: one.upkeep.remove_old_rows(keep=0, name="Loads")),
            (nowhere, lambda one: one.upkeep.move_source("Loads", "trial")),
            (nowhere, lambda one: one.upkeep.move_report("R", "trial")),
            ({"all but"}, lambda one: one.people.log()),
            ({"of trial"}, lambda one: one.reports.publish(oak.open_report("new.report.toml"))),
            ({"of trial"}, lambda one: one.watches.run("Loads")),
            ({"of trial"}, lambda one: one.watches.drop("Loads", "low")),
            (in_general, lambda one: one.upkeep.remove_report("R")),
            (in_general, lambda one: one.upkeep.remove_source("Loads")),
        )
        for refused, work in table:
            for person in refused:
                with self.subTest(inspect.getsource(work).strip(), person=person):
                    before = self.boss.people.log()[-1].chain
                    with self.assertRaises(oak.OakError) as caught:
                        work(self.place(person))
                    self.assertIn(caught.exception.code, ("not-allowed", "unknown-area"))
                    self.assertEqual(self.boss.people.log()[-1].chain, before)  # nothing was done
        for _, work in table:  # and the one who administers all may each, so that nothing else was in the way
            work(self.boss)


class Closed(WithPeople):
    """What must not leak, and what must not be reached by another way."""

    def test_hidden_fields_never_leave(self) -> None:
        self.place("maker").publish(self.source)
        self.place("maker").release("Loads")
        self.boss.people.grant("reader", ["read"], "general")
        source = self.place("reader").source("Loads")
        self.assertNotIn("Secret", source.rows().names)
        self.assertEqual(source.tally(show=["Double"]).value(), 30)  # the source's own formula uses it
        for work in (
            lambda: source.rows(["Secret"]),
            lambda: source.rows(["Volume"], where="Secret > 7"),
            lambda: source.rows([("x", "Secret + 0")]),
            lambda: source.tally(by=["Secret"]),
            lambda: source.tally(show=["SUM(Secret)"]),
            lambda: source.row_fields(hidden=True),
            lambda: source.with_local_fields([FieldSpec(name="L", formula="Secret * 2")])[0].tally(show=["L"]),
        ):  # fmt: skip
            with self.subTest(source=inspect.getsource(work)), self.assertRaises(oak.OakError):
                work()
        with self.as_person("reader"):
            for call in (
                "peek Loads Secret",
                "export Loads --to x.csv --hidden",
                "tally Loads --show SUM(Secret)",
                "profile Loads Secret",
            ):
                self.oak(*call.split(), code=2)
            self.oak("export", "Loads", "--to", "x.csv")
            self.assertNotIn("Secret", Path("x.csv").read_text())
            self.write("r.report.toml", REPORT.replace('["Volume"]', '["Double"]'))
            shown = self.oak("why", "r.report.toml", "V", "--to", "rows.csv")
            self.assertIn("30", shown)
            self.assertFalse(Path("rows.csv").exists() and "Secret" in Path("rows.csv").read_text())
            self.assertNotIn("Secret", self.oak("snapshot", "changes", "Loads", "--since", "1"))

    def test_what_went_into_a_fault_stays_hidden(self) -> None:
        """A field that a reader sees is made of one that they do not: where it faults, no value of that is said, and none to who may release but not edit."""
        self.place("maker").publish(self.source.with_field("Risk", "SUM(Volume / (Secret - 7))"))
        self.place("maker").release("Loads")
        self.boss.people.grant("reader", ["read", "release"], "general")
        (fault,) = self.place("maker").source("Loads").tally(["Mill"], ["Risk"]).faults
        self.assertIn("Secret", str(fault.samples))
        (fault,) = self.place("reader").source("Loads").tally(["Mill"], ["Risk"]).faults
        self.assertEqual(fault.rows, 1)
        self.assertNotIn("Secret", str(fault.samples))
        source = self.place("reader").source("Loads")
        self.assertTrue(source.reader)
        self.raises("unknown-field", source.rows, ["Secret"])
        with self.as_person("reader"):
            for call in (
                "peek Loads",
                "peek Loads --json",
                "check Loads",
                "tally Loads --show Risk",
                "tally Loads --show Risk --json",
            ):
                self.assertNotRegex(self.oak(*call.split(), code=None), r"Secret['\"]?[:=] ?7")

    def test_names_of_what_one_may_not_see_are_never_said(self) -> None:
        self.boss.people.add_area("trial")
        self.boss.people.grant("maker", ["edit"], "trial")
        self.place("maker").publish(self.source, area="trial")
        self.boss.people.grant("reader", ["read", "edit"], "general")
        for call in (
            "versions",
            "versions Loads",
            "peek Loads --draft",
            "catalogue areas",
            "catalogue rights list",
            "publish loads.oak.toml --area trial",
            "versions checkout Loads",
            "report shared --of Loads",
        ):
            with self.subTest(call), self.as_person("reader"):
                said = self.oak(*call.split(), code=None)
                self.assertNotIn("Double", said)
                self.assertNotRegex(said, r"\btrial\b(?!' for reader)")
        self.boss.people.grant("maker", ["read", "release"], "trial")
        maker, reader = self.place("maker"), self.place("reader")
        maker.release("trial/Loads")
        self.write("doubtful.report.toml", REPORT.replace('"R"', '"Doubtful"'))
        maker.reports.publish(oak.open_report("doubtful.report.toml"), area="trial")
        maker.watches.add("trial/Loads", oak.Watch("Dearth", "SUM(Volume) < 1"))
        self.boss.people.join("insiders", ["maker"])
        for ask in (
            lambda one: one.reports.get("Doubtfull"),
            lambda one: one.reports.get("trial/Doubtful"),
            lambda one: one.reports.all(),
            lambda one: one.source("Load"),
            lambda one: one.source("trial/Loads"),
            lambda one: one.versions("Loads"),
            lambda one: one.watches.all("Loads"),
            lambda one: one.watches.history("trial/Loads", "Dearth"),
            lambda one: one.watches.run("trial/Loads"),
            lambda one: one.people.groups(),
            lambda one: one.people.areas(),
        ):
            with self.subTest(source=inspect.getsource(ask)):
                try:
                    said = str(ask(reader))
                except oak.OakError as error:
                    said = " ".join(f"{one.message} {one.hint}" for one in error.findings)
                for word in ("Doubtful", "Dearth", "insiders", "Loads", "trial"):
                    if word not in inspect.getsource(ask):
                        self.assertNotIn(word, said)
        self.place("reader").publish(self.source)  # the same name, elsewhere
        self.assertEqual([one.area for one in self.place("reader").versions("Loads")], ["general"])

    def test_tokens(self) -> None:
        self.place("maker").publish(self.source)
        self.place("maker").release("Loads")
        people = self.place("maker").people
        secret = people.make_token("nightly", ["general"], ["read"], 5)
        program = oak.Catalogue.open("catalogue", token=secret)
        self.assertEqual(program.source("Loads").tally().value(), 2)
        self.raises("not-allowed", program.publish, self.source)
        self.assertNotIn(secret.encode(), Path("catalogue/catalogue.db").read_bytes())
        self.boss.people.add_area("trial")
        other = people.make_token("elsewhere", ["general"], ["read"])
        self.assertEqual(oak.Catalogue.open("catalogue", token=other).people.areas(), ["general"])
        people.revoke_token(1)
        self.raises("no-token", oak.Catalogue.open, "catalogue", token=secret)
        self.raises("no-token", oak.Catalogue.open, "catalogue", token="oak.guess")
        late = people.make_token("late", days=-1)
        self.raises("no-token", oak.Catalogue.open, "catalogue", token=late)
        self.boss.people.revoke("maker", ["read", "edit"], "general")
        self.assertEqual(oak.Catalogue.open("catalogue", token=other).sources(), [])  # never more than its maker has

    def test_names_that_cannot_be(self) -> None:
        before = sorted(path for path in Path().rglob("*") if path.suffix != ".db-wal")
        for name in ("../x", "a/b", "..", "x" * 200, ".hidden", "-rf"):
            with self.subTest(name):
                self.raises("bad-name", self.boss.people.add_area, name)
                document = self.source.document
                named = self.source.changed(document.replaced(document.all("source")[0], {"name": name}))
                self.raises("bad-name", self.boss.publish, named)
        there = sorted(path for path in Path().rglob("*") if path.suffix != ".db-wal")
        self.assertEqual([path for path in there if path.parent.name != "data"], before)

    def test_the_last_administrator_stays(self) -> None:
        self.raises("last-administrator", self.boss.people.revoke, "boss", ["administer"], "*")
        self.boss.people.grant("maker", ["administer"], "*")
        self.boss.people.revoke("boss", ["administer"], "*")
        self.raises("not-allowed", self.boss.people.add_area, "more")

    def test_groups(self) -> None:
        self.boss.people.join("mill", ["eve"])
        self.boss.people.grant("@mill", ["read"], "general")
        self.place("maker").publish(self.source)
        self.place("maker").release("Loads")
        self.assertEqual(self.place("eve").sources(), ["Loads"])
        self.boss.people.leave("mill", ["eve"])
        self.assertEqual(self.place("eve").sources(), [])
        self.boss.people.grant("@everyone", ["read"], "general")
        self.assertEqual(self.place("eve").sources(), ["Loads"])
