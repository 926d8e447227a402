"""Whole questions, drawn: the same answer and the same faults from memory, files, typed copies and a database, as an independent server gives."""

from __future__ import annotations

import math
import os
import random
import sys
import unittest
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any
from unittest import mock

import psycopg
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.definition.model import FieldSpec
from oak_ledger.engine.options import overridden
from oak_ledger.source import cache
from tests import questions, server
from tests.support import FolderCase, seed_of_the_code

QUESTIONS = int(os.environ.get("OAK_QUESTIONS", "100"))
SEED = int(os.environ.get("OAK_SEED", "20261201"))
FRESH = int(os.environ.get("OAK_FRESH_SEED", str(seed_of_the_code())))
ALL_FORMS = bool(os.environ.get("OAK_ALL_FORMS"))
ALWAYS = ("memory", "origin")  # forms in which each question is asked, with one of the others
TABLES = 12  # drawn ones, over which the questions are spread
_TYPES = {"bigint": "integer", "numeric(12,2)": "decimal(12,2)", "double precision": "number"}
COLLATED = {"text": 'text collate "C"'}


def definition(origin: str) -> str:
    """A definition that takes every column over with its own type."""
    fields = "".join(f'[[field]]\nname = "{name}"\ncolumn = "{name}"\ntype = "{_TYPES.get(kind, kind)}"\n\n' for name, kind in questions.KINDS.items())  # fmt: skip
    return f'[source]\nname = "Q"\nkey = ["at"]\n\n[origin]\n{origin}\n\n{fields}'


class DrawnQuestions(FolderCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.uri = cls.started()
        cls.connection = psycopg.connect(cls.uri, autocommit=True)
        cls.addClassCleanup(cls.connection.close)

    @classmethod
    def started(cls) -> str:
        return server.start(cls, "whole questions against PostgreSQL")

    def load(self, name: str, rows: pa.Table, collated: Mapping[str, str] = COLLATED) -> None:
        columns = ", ".join(f"{one} {collated.get(kind, kind)}" for one, kind in questions.KINDS.items())
        self.connection.execute(f"drop table if exists {name} cascade; create table {name} ({columns})")
        with self.connection.cursor() as cursor:
            cursor.executemany(f"insert into {name} values ({', '.join(['%s'] * rows.num_columns)})", [*questions.insertions(rows)])  # fmt: skip

    def forms(self, rows: pa.Table, *, plain: bool, rng: random.Random) -> dict[str, oak.Source]:
        """The rows in every form that they come in."""
        texts = {name for name, kind in questions.KINDS.items() if kind == "text"}
        coded = pa.table({name: rows.column(name).dictionary_encode() if name in texts else rows.column(name) for name in rows.schema.names})  # fmt: skip
        pq.write_table(rows, "q.parquet", row_group_size=rng.choice((1, 3, 1000)))
        made = {
            "memory": oak.Source.from_table(rows, name="Q"),
            "coded": oak.Source.from_table(coded, name="Q"),
            "parquet": self.defined("parquet", 'kind = "parquet"\npath = "q.parquet"'),
            "database": self.defined("database", f'kind = "database"\nurl = "{self.uri}"\ntable = "q"').computed(
                "here"
            ),
            "origin": self.defined("database", f'kind = "database"\nurl = "{self.uri}"\ntable = "q"'),
        }
        if plain:
            pa.csv.write_csv(rows, "q.csv")
            made["text"] = made["typed copy"] = self.defined("text", 'kind = "file"\npath = "q.csv"')
        made["memory"] = made["memory"].changed(made["memory"].document.replaced(made["memory"].document.blocks[0], {"key": ["at"]}))  # fmt: skip
        return made

    def defined(self, name: str, origin: str) -> oak.Source:
        self.write(f"{name}.oak.toml", definition(origin))
        return oak.open_source(f"{name}.oak.toml")

    def test_drawn_questions(self) -> None:
        """Some with a seed that stays, some with that of the code."""
        counted = {"here": 0, "there": 0, "not computed": 0, "refused": 0}
        for seed in (SEED, FRESH):
            rng = random.Random(seed)
            for at in range(TABLES):
                plain = at % 3 == 0
                rows = questions.table(rng, rng.choice((0, 1, 7, 40, 200)), plain=plain)
                earlier = questions.table(rng, rng.choice((1, 40)), plain=plain)
                self.load("q", rows)
                self.load("q_before", earlier)
                forms = self.forms(rows, plain=plain, rng=rng)
                share = QUESTIONS if seed == SEED else QUESTIONS // 10
                for number in range(at, share, TABLES):
                    self.one_question(seed * 1000 + number, forms, earlier, counted)
        sys.stderr.write(
            f"[{QUESTIONS + QUESTIONS // 10} questions in their forms: {counted}, seeds {SEED} and {FRESH}] "
        )
        self.assertGreater(counted["here"], QUESTIONS)
        self.assertGreater(counted["there"], QUESTIONS / 10)

    def test_whatever_is_asked_there_is_an_answer_or_a_reason(self) -> None:
        """Careless questions never end in a failure of our own, of rows or of groups, here or in the database."""
        rng = random.Random(SEED)
        rows = questions.table(rng, 20)
        self.load("q", rows)
        forms = self.forms(rows, plain=False, rng=rng)
        answered = refused = 0
        for number in range(2 * QUESTIONS):
            question = questions.careless(rng)
            source = forms[rng.choice(("memory", "parquet", "origin"))].with_baseline(rows)
            try:
                if number % 3:
                    source.tally(**question)
                else:
                    source.rows(question["show"], where=question["where"], limit=question["limit"])
                answered += 1
            except oak.OakError as error:
                refused += 1
                self.assertTrue(all(one.message for one in error.findings))
            except Exception as error:
                raise AssertionError(f"{question}") from error
        sys.stderr.write(f"[careless questions: {answered} answered, {refused} refused, seed {SEED}] ")
        self.assertGreater(answered, QUESTIONS / 4)

    def test_drawn_tables(self) -> None:
        """Tables of reports, line by line: groups, limit, the rest, subtotals, the total."""
        said = dict.fromkeys(("row", "subtotal", "rest", "total"), 0)
        for seed in (SEED, FRESH):
            rng = random.Random(seed)
            for at in range(TABLES // 2):
                rows = questions.table(rng, rng.choice((0, 7, 40, 200)))
                self.load("q", rows)
                forms = self.forms(rows, plain=False, rng=rng)
                for number in range(at, QUESTIONS // 2 if seed == SEED else QUESTIONS // 10, TABLES // 2):
                    question = questions.drawn_panel(seed * 1000 + number)
                    form = rng.choice(("memory", "coded", "parquet", "origin"))
                    with self.subTest(seed=seed * 1000 + number):
                        for role, *_ in self.one_table(question, forms[form]):
                            said[role] += 1
        self.assertGreater(min(said.values()), QUESTIONS // 15, said)

    def one_table(self, question: questions.PanelQuestion, source: oak.Source) -> list[tuple[str, tuple[Any, ...]]]:
        try:
            for name, formula in question.saved:
                source = source.with_field(name, formula)
        except oak.OakError as error:
            self.assertEqual({one.code for one in error.findings}, {"constant-fault"}, f"{question.saved}\n{error}")
            return []
        if question.always is not None:
            source = source.with_entry("filter", "Always", where=question.always, always=True)
        text = f'[report]\nname = "R"\nsource = "Q"\n\n[[panel]]\nkind = "table"\ntitle = "P"\n{question.panel}\n'
        panel = oak.open_report(self.write("r.report.toml", text)).view(source).panels[0]
        if panel.content is None:
            self.assertEqual(
                {one.code for one in panel.findings}, {"constant-fault"}, f"{question.panel}\n{panel.findings}"
            )
            return []
        lines = [*self.wanted_lines(question)]
        note = f"{question.panel}\n{question.saved}\nsaid: {panel.content.lines}\nwanted: {lines}"
        self.assertEqual([one.role for one in panel.content.lines], [role for role, _ in lines], note)
        for line, (role, values) in zip(panel.content.lines, lines, strict=True):
            for cell, value in zip(line.cells[-len(values) :], values, strict=True):
                self.assertTrue(shown_as(cell, value), f"{role}: {cell} here, {value} there\n{note}")
        return lines

    def wanted_lines(self, question: questions.PanelQuestion) -> Iterator[tuple[str, tuple[Any, ...]]]:
        """The lines of a table as the server computes them: role and measures."""
        levels = [self.connection.execute(one).fetchall() for one in question.levels]

        def under(prefix: tuple[Any, ...]) -> Iterator[tuple[str, tuple[Any, ...]]]:
            depth = len(prefix) + 1
            for row in levels[depth - 1]:
                if row[: depth - 1] == prefix:
                    yield from under(row[:depth]) if depth < question.keys else ()
                    yield ("row" if depth == question.keys else "subtotal"), row[depth:]

        if question.subtotals:
            yield from under(())
        else:
            yield from (("row", row[question.keys :]) for row in levels[-1])
        if question.rest:
            yield from (("rest", row) for row in self.connection.execute(question.the_rest).fetchall())
        if question.totals:
            yield from (("total", row) for row in self.connection.execute(question.overall).fetchall())

    def one_question(self, seed: int, forms: dict[str, oak.Source], earlier: pa.Table, counted: dict[str, int]) -> None:
        question = questions.drawn(seed, earlier=True)
        with self.subTest(seed=seed):
            wanted = [*self.connection.execute(question.answer).fetchall()]
            faults = self.faults(question)
            overall = [*self.connection.execute(question.overall).fetchall()] if question.totals else None
            rng = random.Random(seed)
            others = [one for one in forms if one not in ALWAYS]
            for form in [*ALWAYS, *rng.sample(others, len(others) if ALL_FORMS else 1)]:
                source, least = forms[form], 0 if form == "typed copy" else 1 << 30
                with overridden(rows=rng.choice((7, 50, 1 << 17)), threads=1 + seed % 2), mock.patch.dict(cache.MIN_BYTES, {"file": least}):  # fmt: skip
                    answer = self.asked(question, source.with_baseline(earlier), there=form == "origin")
                if answer is None:
                    counted["refused"] += 1
                    return
                note = f"{form}, computed {answer.place}: {question}\n{question.answer}"
                counted["there" if answer.place == "origin" else "here"] += 1
                self.same(answer.table, wanted, note)
                if overall is not None and answer.totals is not None:
                    self.same(answer.totals, overall, f"totals, {note}", skip=len(question.by))
                if answer.place != "origin":
                    found = {(one.field, one.what, one.of_groups): one.rows for one in answer.faults}
                    self.assertEqual(found, faults, note)
                    counted["not computed"] += bool(faults)

    def asked(self, question: questions.Question, source: oak.Source, *, there: bool) -> oak.Answer | None:
        try:
            for name, formula in question.saved:
                source = source.with_field(name, formula)
            if question.always is not None:
                source = source.with_entry("filter", "Always", where=question.always, always=True)
            source, wrong = source.with_local_fields([FieldSpec(name=name, formula=formula) for name, formula in question.local])  # fmt: skip
            if wrong:
                self.assertEqual({one.code for found in wrong.values() for one in found}, {"constant-fault"}, wrong)
                return None
            asked = {"by": list(question.by), "show": list(question.show), "where": question.where, "sort": list(question.sort), "limit": question.limit, "totals": question.totals}  # fmt: skip
            if there:
                try:
                    return source.computed("origin").tally(**asked)
                except oak.OakError as error:
                    if error.code == "not-in-database":  # it can be said, or only a value stops it
                        self.assertNotIn("does not take", error.message, str(question))
            return source.tally(**asked)
        except oak.OakError as error:
            codes = {one.code for one in error.findings}
            self.assertLessEqual(codes, {"constant-fault"}, f"{question}\n{error}")
            return None

    def faults(self, question: questions.Question) -> dict[tuple[str, str, bool], int]:
        found: dict[tuple[str, str, bool], int] = {}
        for owner, what, of_groups, statement in question.faults:
            count = self.connection.execute(statement).fetchall()[0][0]
            if count:
                found[owner, what, of_groups] = count
        if question.totals:
            for owner, what, statement in question.overall_faults:
                if (owner, what, True) not in found and self.connection.execute(statement).fetchall()[0][0]:
                    found[owner, what, True] = 1
        return found

    def same(self, table: pa.Table, wanted: list[tuple[Any, ...]], note: str, skip: int = 0) -> None:
        got = [*zip(*(column.to_pylist() for column in table.columns[skip:]), strict=True)]
        self.assertEqual(len(got), len(wanted), note)
        for row, other in zip(got, wanted, strict=True):
            self.assertTrue(all(map(alike, row, other)), f"{row} here, {other} there\n{note}")


def shown_as(cell: str, value: Any) -> bool:
    """Whether a cell of a table shows a number, to the digits that it has."""
    if value is None or cell == "null":
        return value is None and cell == "null"
    decimals = len(cell.partition(".")[2].partition("e")[0])
    return math.isclose(float(cell.replace(",", "")), float(value), rel_tol=1e-6, abs_tol=0.51 * 10.0**-decimals)


def alike(one: Any, other: Any) -> bool:
    """Whether two values are the same, numbers but for their last digits."""
    if isinstance(one, bool) or isinstance(other, bool) or one is None or other is None:
        return one is other
    if isinstance(one, (int, float, Decimal)) and isinstance(other, (int, float, Decimal)):
        return math.isclose(float(one), float(other), rel_tol=1e-9, abs_tol=1e-9)
    return type(one) is type(other) and bool(one == other)


if __name__ == "__main__":
    unittest.main()
