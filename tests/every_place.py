"""What every place must show: the rows of the language's tables, and random formulas, give there what they give here."""

from __future__ import annotations

import datetime as dt
import os
import random
import sys
import unittest
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import pyarrow as pa
from sqlglot import exp

import oak_ledger as oak
from oak_ledger.engine import Query
from oak_ledger.formula.lexer import tokenize
from oak_ledger.places import NotSaid, statement
from oak_ledger.places.dialects import DIALECTS
from tests.test_database import ARROW, COLUMNS, GROUPED, OVER_GROUPS, ROWS, WINDOWS, grown
from tests.test_language import VALUES

FORMULAS = int(os.environ.get("OAK_FORMULAS", "550"))
SEED = int(os.environ.get("OAK_SEED", "20261128"))
R = pa.table(
    {"at": [*range(1, len(ROWS) + 1)]}
    | {name: pa.array([row[at] for row in ROWS], ARROW[kind]) for at, (name, kind) in enumerate(COLUMNS.items())}
)


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

    @classmethod
    def setUpClass(cls) -> None:
        cls.source = oak.Source.from_table(R, name="R")
        cls.constants = oak.Source.from_table(table_of_literals(), name="V")

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
        said = 0
        for by, formula in asked:
            with self.subTest(formula, by=by):
                query = self.source.planned_tally(by, [("x", formula)]).query
                outcome = self.outcome(query, formula, lambda by=by, one=formula: self.source.tally(by, [("x", one)]))
                said += outcome == "said"
        self.assertGreater(said, self.least * len(asked))

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
            self.assertTrue(answer.faults, f"{formula}: {error}\n{text}")
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


def alike(one: Any, other: Any) -> bool:
    """Whether two values are the same, numbers but for their last digits."""
    if isinstance(one, float) and isinstance(other, (int, float, Decimal)):
        return abs(one - float(other)) <= 1e-9 * max(abs(one), 1)
    if isinstance(other, dt.datetime) and isinstance(one, dt.date) and not isinstance(one, dt.datetime):
        return False
    return bool(one == other)
