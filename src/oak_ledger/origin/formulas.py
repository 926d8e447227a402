"""Formulas over columns as they arrive."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import pyarrow as pa

from oak_ledger.engine import Query, execute
from oak_ledger.engine.evaluate import Expression
from oak_ledger.errors import Place, UnusableInput
from oak_ledger.formula import Grain, check
from oak_ledger.formula import checked as c
from oak_ledger.origin.memory import ColumnNames, TableReader
from oak_ledger.types import Type


def columns_as_fields(kinds: Mapping[str, Type]) -> dict[str, Expression]:
    """Each column as a field of a question."""
    return {name: Expression(name, name, c.ColumnRef(0, 0, kind, Grain.ROW, name)) for name, kind in kinds.items()}


def expression(formula: str, kinds: Mapping[str, Type], name: str, *, place: Place) -> Expression:
    """A formula over columns, checked. Raises FormulaError."""
    return Expression(name, formula, check(formula, ColumnNames(kinds), place=place).require())


def computed(table: pa.Table, formula: str, *, place: Place, hint: str = "") -> tuple[Any, Type]:
    """What a formula gives in each row, with its type. Raises FormulaError, and UnusableInput where a value cannot be computed."""
    kinds = TableReader(table).columns()
    one = expression(formula, kinds, formula, place=place)
    result = execute(Query(columns_as_fields(kinds), (one,)), TableReader(table))
    _whole(result.faults, place, hint)
    return result.table.column(0).combine_chunks(), one.checked.type


def totalled(table: pa.Table, keys: Sequence[str], totals: Mapping[str, str], *, place: Place) -> pa.Table:
    """One row for each key, with aggregates under their names. Raises FormulaError, and UnusableInput where a value cannot be computed."""
    kinds = TableReader(table).columns()
    fields = columns_as_fields(kinds)
    show = tuple(expression(formula, kinds, name, place=place) for name, formula in totals.items())
    row = next((one for one in show if one.checked.grain == Grain.ROW), None)
    if row is not None:
        message = f"{place.where}: {row.text} is a value of each row; a total is an aggregate, such as SUM or COUNT(*)."
        raise UnusableInput("join-totals", message)
    result = execute(Query(fields, show, tuple(fields[key] for key in keys), grouped=True), TableReader(table))
    _whole(result.faults, place, "Clean the values first: take the file in, and join its definition.")
    return result.table.rename_columns([*keys, *totals])


def _whole(faults: Any, place: Place, hint: str) -> None:
    """Raise UnusableInput where values could not be computed."""
    found = faults.found()
    if found:
        raise UnusableInput("join-value", f"{place.where}: {found[0].sentence()}", hint=hint)
