"""What every place must show: the rows of the language's tables, and random formulas, give there what they give here."""

from __future__ import annotations

import contextlib
import datetime as dt
import os
import random
import re
import sys
import unittest
from collections.abc import Callable
from decimal import Decimal
from typing import Any
from unittest import mock

import pyarrow as pa
from sqlglot import exp

import oak_ledger as oak
from oak_ledger.engine import Expression, Query, SortBy
from oak_ledger.formula.lexer import tokenize
from oak_ledger.places import NotSaid, Translator, statement
from oak_ledger.places.dialects import DIALECTS
from tests import edge_values
from tests.test_database import ARROW, COLUMNS, GROUPED, OVER_GROUPS, ROWS, WINDOWS, grown
from tests.test_language import VALUES

FORMULAS = int(os.environ.get("OAK_FORMULAS", "200"))
SEED = int(os.environ.get("OAK_SEED", "20261128"))
R = pa.table(
    {"at": [*range(1, len(ROWS) + 1)]}
    | {name: pa.array([row[at] for row in ROWS], ARROW[kind]) for at, (name, kind) in enumerate(COLUMNS.items())}
)

# Aggregates of values at their own level.
LEVELS = (
    "MAX(SUM(j) PER (c))", "SUM(COUNT(*) PER (b, c))", "COUNT(*) FILTER (WHERE SUM(j) PER (i) > 2)", "SUM(SUM(j) PER (j % 3)) FILTER (WHERE COUNT(t) PER (j % 3) > 1)",
    "MAX(MAX(t) PER (c))", "MIN(MAX(y) PER (b))", "SUM(j) - SUM(MAX(j) PER (t))", "MAX(SUM(SUM(j) PER (b, c)) PER (b))", "COUNT(DISTINCT SUM(j) PER (t))",
    "SUM(SUM(d) PER (c))", "MEDIAN(AVG(j) PER (i))", "SUM(MAX(j) PER (b)) / SUM(SUM(MAX(j) PER (b))) OVER ()",
)  # fmt: skip


def literals() -> dict[str, Any]:
    """Each number and text of the tables of values, by the name of a column that has it."""
    texts = dict.fromkeys(
        formula[token.start : token.end]
        for formula, _ in VALUES
        for token in tokenize(formula)[0]
        if token.kind in ("number", "text")
    )
    return {f"v{at}": text for at, text in enumerate(texts)}


def table_of_literals() -> pa.Table:
    """One row with each of them."""
    source = oak.Source.from_table(pa.table({"x": [1]}), name="X")
    names = literals()
    return source.rows([(name, text) for name, text in names.items()]).table


def with_columns(formula: str, source: oak.Source, names: dict[str, str]) -> str:
    """A formula with its literals as columns, but for those that must be constants."""
    for token in reversed(tokenize(formula)[0]):
        text = formula[token.start : token.end]
        if token.kind in ("number", "text"):
            tried = f"{formula[: token.start]} {names[text]} {formula[token.end :]}"
            if not source.check_formula(tried).findings:
                formula = tried
    return formula


class EveryPlace(unittest.TestCase):
    """A database that has the tables r (values of every type, nulls and extremes) and v (a column for each literal)."""

    dialect: str
    stops: Any
    """What it raises at a value that it cannot compute."""
    least = 0.9
    """How much of the random formulas is said there, at least."""
    source: oak.Source
    constants: oak.Source
    ask: Callable[[str], list[tuple[Any, ...]]]
    formulas = FORMULAS
    every = int(os.environ.get("OAK_EVERY", "4"))
    """Of the calls with edge values only one of so many are asked."""
    calendar = True
    """Whether the place stops at dates beyond the calendar's years."""
    table = edge_values.table(SEED)
    edges = oak.Source.from_table(table, name="E")
    used: set[str]
    """The templates of the place that something here has been written with."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.source = oak.Source.from_table(R, name="R")
        cls.constants = oak.Source.from_table(table_of_literals(), name="V")
        cls.used = set()
        template = Translator._template

        def noted(self: Translator, *given: Any) -> str:
            cls.used.add(found := template(self, *given))
            return found

        cls.enterClassContext(mock.patch.object(Translator, "_template", noted))

    def test_every_row_of_the_tables_of_values(self) -> None:
        names = {text: name for name, text in literals().items()}
        outcomes: dict[str, int] = {}
        for formula, wanted in VALUES:
            text = with_columns(formula, self.constants, names)
            with self.subTest(formula):
                shown = self.constants._expression(("x", text), place="show")[0]
                query = Query(self.constants.compiled.expressions, (shown,))
                outcome = self.outcome(query, text, lambda text=text: self.constants.rows([("x", text)]), "v", wanted)
                outcomes[outcome] = outcomes.get(outcome, 0) + 1
        sys.stderr.write(f"[tables of values for {self.dialect}: {outcomes}] ")
        self.assertGreater(outcomes["said"], len(VALUES) / 3)

    def test_random_formulas_over_rows(self) -> None:
        rng, outcomes = random.Random(SEED), {"said": 0, "refused": 0, "faulted": 0}
        formulas = [grown(rng, rng.choice("iidfbbbtttyw"), rng.choice((1, 2, 2, 3))) for _ in range(self.formulas)]
        for formula in [*formulas, *(one.replace("{at}", "at") for one in WINDOWS)]:
            shown = [("at", "at"), ("x", formula)]
            try:
                made = [self.source._expression(one, place="show")[0] for one in shown]
            except oak.OakError:
                continue  # a constant part is a fault
            query = Query(self.source.compiled.expressions, tuple(made), sort=self.source._sort(["at"], made))
            outcome = self.outcome(query, formula, lambda shown=shown: self.source.rows(shown, sort=["at"]))
            outcomes[outcome] += 1
        sys.stderr.write(f"[random formulas for {self.dialect}: {outcomes}, seed {SEED}] ")
        self.assertGreater(outcomes["said"], self.least * self.formulas)

    def test_groups(self) -> None:
        asked: list[tuple[tuple[str, ...], str]] = [((), one) for one in GROUPED]
        asked += [(("b",), one) for one, _ in OVER_GROUPS] + [(("t", "c"), one) for one in GROUPED]
        asked += [(by, one) for by in ((), ("b",), ("t", "c")) for one in LEVELS]
        said = 0
        for by, formula in asked:
            with self.subTest(formula, by=by):
                query = self.source.planned_tally(by, [("x", formula)]).query
                outcome = self.outcome(query, formula, lambda by=by, one=formula: self.source.tally(by, [("x", one)]))
                said += outcome == "said"
        self.assertGreater(said, self.least * len(asked))

    def test_every_function_with_edge_values(self) -> None:
        """All calls that are said: rows without faults are equal, and where there is a fault here, nothing is said there as if it were sound."""
        rng = random.Random(SEED)
        compared = 0
        for what, forms in edge_values.row_calls(rng):
            some = [one for number, one in enumerate(forms) if number % self.every == 0 or self.is_new(one)]
            for at in range(0, len(some), 40):
                compared += self.compared(what, some[at : at + 40])
        forms = [*edge_values.window_calls()]
        compared += sum(self.compared("windows", forms[at : at + 20]) for at in range(0, len(forms), 20))
        for by in ((), ("text_few",)):
            forms = [
                one
                for one in edge_values.group_calls()
                if self.is_said(self.edges.planned_tally(by, [("x", one)]).query)
            ]
            for at in range(0, len(forms), 20):
                compared += self.groups_compared(by, forms[at : at + 20])
        unproven = sorted(
            name
            for name, text in DIALECTS[self.dialect].said.items()
            if text not in self.used
            and name not in DIALECTS[self.dialect].refused
            and name != "PERCENTILE"  # written for PERCENTILE_CONT and MEDIAN, not by the template
        )
        sys.stderr.write(f"[{compared:,} calls with edge values in {self.dialect}] ")
        self.assertEqual(unproven, [], "entries of the table of this place that nothing here proves")

    def is_new(self, formula: str) -> bool:
        """Whether a call that would be left out is written with a template that nothing used before; only looked at where few are asked."""
        known = len(self.used)
        made = self.edges.check_formula(formula) if self.every > 4 else None
        if made is not None and made.checked is not None:
            with contextlib.suppress(NotSaid):
                self.said(self.of_rows([Expression("x", formula, made.checked)]))
        return len(self.used) > known

    def is_said(self, query: Query) -> bool:
        """Whether a question is said there."""
        try:
            return bool(self.said(query))
        except NotSaid as error:
            self.assertTrue(error.why)
            return False

    def groups_compared(self, by: tuple[str, ...], forms: list[str]) -> int:
        """How many group formulas are compared: together, or one after the other where the place stops at a value."""
        shown = [(f"x{at}", one) for at, one in enumerate(forms)]
        with self.subTest(forms if len(forms) == 1 else "groups", by=by):
            query = self.edges.planned_tally(by, shown).query
            outcome = self.outcome(query, ", ".join(forms), lambda: self.edges.tally(by, shown), "e")
            if outcome == "faulted" and len(forms) > 1:
                return sum(self.groups_compared(by, [one]) for one in forms)
        return len(forms)

    def compared(self, what: str, forms: list[str]) -> int:
        """How many of some calls are said there, after comparing them."""
        said: list[tuple[str, Expression]] = []
        for formula in forms:
            made = self.edges.check_formula(formula)
            if made.checked is None:  # a constant part is a fault, or the form is of no use
                self.assertLessEqual({one.code for one in made.findings}, {"constant-fault", "wrong-type", "bad-template", "bad-argument"}, formula)  # fmt: skip
                continue
            one = Expression(f"x{len(said)}", formula, made.checked)
            try:
                statement(self.of_rows([one]), exp.to_table("e"), dialect=DIALECTS[self.dialect]).text()
            except NotSaid as error:
                self.assertTrue(error.why)
                continue
            said.append((formula, one))
        if not said:
            return 0
        with mock.patch("oak_ledger.engine.faults.SAMPLES", edge_values.ROWS):
            answer = self.edges.rows([("at", "at"), *((one.name, formula) for formula, one in said)])
        here = answer.to_dicts()
        wrong = {one.name: {row - 1 for fault in answer.faults if fault.field == one.name for row, _ in fault.samples} for _, one in said}  # fmt: skip
        sound = [one for _, one in said if not wrong[one.name]]
        with self.subTest(what, calls=[formula for formula, one in said if one in sound][:3]):
            self.rows_alike(sound, here, set())
        for formula, one in said:
            if wrong[one.name]:
                with self.subTest(formula):
                    self.rows_alike([one], here, wrong[one.name])
        return len(said)

    @staticmethod
    def of_rows(shown: list[Expression]) -> Query:
        """A question for rows in their order."""
        source = EveryPlace.edges
        at = source._expression(("at", "at"), place="show")[0]
        return Query(source.compiled.expressions, (at, *shown), sort=(SortBy("at"),))

    def rows_alike(self, shown: list[Expression], here: list[dict[str, Any]], wrong: set[int]) -> None:
        """The same values in the rows without a fault; in the others the place stops, or gives null."""
        if not shown:
            return
        good = {row["at"] for row in here} - wrong
        text = self.said(self.of_rows(shown))
        rows = self.answered(text, good if wrong else None)
        if rows is None and len(shown) > 1:
            for one in shown:
                self.rows_alike([one], here, wrong)
            return
        if rows is None:  # the place stops at a value that it cannot compute, and is then not used
            rows = [row for at in sorted(good) for row in self.answered(text, {at}) or ()]
        for row in rows:
            for got, one in zip(row[1:], shown, strict=True):
                own = here[row[0]][one.name]
                self.assertTrue(alike(own, got), f"{one.text}: {own} here, {got} there, of {inputs(self.table, row[0], one.text)}\n{text}")  # fmt: skip
        for at in sorted(wrong)[:3]:
            for row in self.answered(text, {at}) or ():
                if self.calendar or not isinstance(row[1], (dt.date, str)):
                    self.assertIsNone(
                        row[1], f"{shown[0].text}: a fault here, of {inputs(self.table, at, shown[0].text)}"
                    )

    def answered(self, text: str, only: set[int] | None) -> list[tuple[Any, ...]] | None:
        """What the place answers for some of the rows; None where it stops at a value, as it may. Other errors are ours."""
        if only is not None and not only:
            return []
        try:
            at = exp.to_identifier("at", quoted=True).sql(dialect=DIALECTS[self.dialect].writes)
            some = f"(select * from e where {at} in ({', '.join(map(str, sorted(only or ())))})) as e"
            return self.ask(text if only is None else re.sub(r"(?<= FROM )e\b", some, text))
        except self.stops as error:
            if not self.at_value(error):
                raise
            return None

    def at_value(self, error: Exception) -> bool:
        """Whether a place stopped at a value: then the question is answered here."""
        return True

    def said(self, query: Query) -> str:
        return statement(query, exp.to_table("e"), dialect=DIALECTS[self.dialect]).text()

    def outcome(
        self, query: Query, formula: str, here: Callable[[], oak.Answer], table: str = "r", *wanted: Any
    ) -> str:
        """Whether it was said, refused or a fault, after comparing."""
        try:
            text = statement(query, exp.to_table(table), dialect=DIALECTS[self.dialect]).text()
        except NotSaid as error:
            self.assertTrue(error.why)
            return "refused"
        answer = here()
        try:
            rows = self.ask(text)
        except self.stops as error:
            self.assertTrue(answer.faults or self.at_value(error), f"{formula}: {error}\n{text}")
            return "faulted"
        if answer.faults:
            return "faulted"
        own = [tuple(row.values()) for row in answer.to_dicts()]
        self.assertEqual(len(rows), len(own), formula)
        for got, row in zip(rows, own, strict=True):
            for one, other in zip(row, got, strict=False):
                self.assertTrue(alike(one, other), f"{formula}: {row} here, {got} there\n{text}")
        if wanted:
            self.assertTrue(
                alike(wanted[0], rows[0][0]), f"{formula}: {wanted[0]} is right, {rows[0][0]} there\n{text}"
            )
        return "said"


def inputs(table: pa.Table, row: int, formula: str) -> dict[str, Any]:
    """What goes into a formula in a row."""
    return {name: table.column(name)[row].as_py() for name in table.schema.names if name in formula}


def alike(one: Any, other: Any) -> bool:
    """Whether two values are the same, numbers but for their last digits."""
    if isinstance(one, float) and isinstance(other, (int, float, Decimal)):
        return abs(one - float(other)) <= 1e-9 * max(abs(one), 1)
    if isinstance(other, dt.datetime) and isinstance(one, dt.date) and not isinstance(one, dt.datetime):
        return False
    return bool(one == other)
