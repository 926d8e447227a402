"""Properties that hold for anything: tallies against plain Python, texts of any kind against the parser, edits by span."""

from __future__ import annotations

import tomllib
import unittest
from collections import defaultdict
from decimal import Decimal
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.definition.document import edited, parse_document
from oak_ledger.definition.model import DEFINITION
from oak_ledger.definition.references import renamed_in_formula
from oak_ledger.formula import parse
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.formula.nodes import names
from tests.support import loads

PIECES = [
    "Cost", "Volume", '"Mill"', "'x'", "1", "2.5", "(", ")", ",", "+", "-", "*", "/", "%", "||", "=", "<>", "AND", "OR", "NOT",
    "IS NULL", "CASE", "WHEN", "THEN", "ELSE", "END", "SUM(", "ROUND(", "CAST(", "AS TEXT)", "IN (", "LIKE", "BETWEEN", "--", "/*",
    "*/", "'", '"', "OVER (", "FILTER (WHERE", "DATE '2026-01-01'", "INTERVAL '1' DAY", "é", "\x00", "💧", "EXTRACT(YEAR FROM",
]  # fmt: skip
ROW = st.tuples(
    st.one_of(st.none(), st.sampled_from(["a", "b", "ü", ""])),
    st.one_of(st.none(), st.integers(-(10**9), 10**9)),
    st.one_of(st.none(), st.decimals(-1000, 1000, places=2)),
    st.one_of(st.none(), st.floats(-1e6, 1e6)),
)


class Tallies(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(ROW, max_size=40))
    def test_against_plain_python(self, rows: list[tuple[Any, ...]]) -> None:
        kinds = {"k": pa.string(), "i": pa.int64(), "d": pa.decimal128(10, 2), "f": pa.float64()}
        columns = list(zip(*rows, strict=True)) or [[], [], [], []]
        table = pa.table(
            {name: pa.array(list(column), kind) for (name, kind), column in zip(kinds.items(), columns, strict=True)}
        )
        source = oak.Source.from_table(table, name="T")
        answer = source.tally(
            ["k"],
            [
                ("n", "COUNT(*)"),
                ("s", "SUM(i)"),
                ("e", "SUM(d)"),
                ("c", "COUNT(DISTINCT d)"),
                ("m", "MIN(f)"),
                ("x", "MAX(i)"),
                ("g", "MEDIAN(i)"),
            ],
            totals=True,
        )
        groups: dict[Any, list[tuple[Any, ...]]] = defaultdict(list)
        for row in rows:
            groups[row[0]].append(row)
        self.assertEqual({row["k"] for row in answer.to_dicts()}, set(groups))
        assert answer.totals is not None
        for row in answer.to_dicts():
            self.compare(row, groups[row["k"]])
        self.compare(answer.totals.to_pylist()[0], rows)

    def compare(self, row: dict[str, Any], rows: list[tuple[Any, ...]]) -> None:
        whole = [one[1] for one in rows if one[1] is not None]
        exact = [one[2] for one in rows if one[2] is not None]
        floats = [one[3] for one in rows if one[3] is not None]
        self.assertEqual(row["n"], len(rows))
        self.assertEqual(row["s"], sum(whole) if whole else None)
        self.assertEqual(row["e"], sum(exact, Decimal(0)) if exact else None)
        self.assertEqual(row["c"], len(set(exact)))
        self.assertEqual(row["m"], min(floats, default=None))
        self.assertEqual(row["x"], max(whole, default=None))
        middle = sorted(whole)
        wanted = None if not middle else (middle[(len(middle) - 1) // 2] + middle[len(middle) // 2]) / 2
        self.assertEqual(row["g"], wanted)


class AnyText(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(st.lists(st.sampled_from(PIECES), max_size=14).map(" ".join))
    def test_any_mixture_gives_a_result_or_findings(self, text: str) -> None:
        self.answered(text)

    @settings(max_examples=200, deadline=None)
    @given(st.text(max_size=40))
    def test_any_text_at_all(self, text: str) -> None:
        self.answered(text)

    def answered(self, text: str) -> None:
        formula = loads().check_formula(text)
        self.assertEqual(formula.checked is None, bool(formula.findings))
        for found in formula.findings:
            self.assertTrue(0 <= found.place.start <= found.place.end <= len(text), found)
            found.lines()

    @given(st.text(min_size=1, max_size=12))
    def test_names_of_any_kind_can_be_written(self, name: str) -> None:
        tree = parse(quote_identifier(name))
        self.assertEqual([one.name for one in names(tree.tree)], [name])

    @settings(max_examples=200, deadline=None)
    @given(
        st.lists(
            st.sampled_from(["Cost", '"cost"', "Costs", "'Cost'", "-- Cost\n", "/* Cost */", "COST", "+", "(", ")"]),
            max_size=12,
        ).map(" ".join)
    )
    def test_a_rename_touches_names_only(self, text: str) -> None:
        made = renamed_in_formula(text, {"cost": "New name"})
        found = names(parse(text).tree)
        kept = [one for one in found if one.name.casefold() != "cost"]
        self.assertEqual(
            len([one for one in names(parse(made).tree) if one.name == "New name"]), len(found) - len(kept)
        )
        self.assertEqual(made.count("'Cost'"), text.count("'Cost'"))
        self.assertEqual(
            renamed_in_formula(made, {"new name": "Cost"}).replace('"cost"', "Cost").replace("COST", "Cost"),
            text.replace('"cost"', "Cost").replace("COST", "Cost"),
        )


class AnyEdit(unittest.TestCase):
    @settings(max_examples=80, deadline=None)
    @given(
        st.dictionaries(st.sampled_from(["description", "name", "format", "clean"]), st.text(max_size=30), max_size=3)
    )
    def test_values_of_any_text_survive_the_file(self, changes: dict[str, str]) -> None:
        text = '[source]\nname = "x"\n[origin]\nkind = "memory"\n\n# kept\n[[field]]\nname = "A" # here\ncolumn = "a"\n'
        document = parse_document(text, DEFINITION, "x")
        made = edited(document.all("field")[0], changes)
        values = tomllib.loads(made.text)["field"][0]
        self.assertEqual({key: values[key] for key in changes}, changes)
        self.assertIn("# kept", made.text)
        self.assertIn("# here", made.text)
