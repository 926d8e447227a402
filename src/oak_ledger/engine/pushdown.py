"""What of the input a filter makes it needless to read: parts that it lets nothing through from, known from what the input says of its columns.

The plain meaning is reading everything and filtering rows out.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, TypeGuard

import pyarrow as pa

from oak_ledger.columnar.arrays import from_numpy
from oak_ledger.engine.evaluate import Expression, Fields, needed
from oak_ledger.formula import checked as c
from oak_ledger.formula.ranges import IntervalSet, predicate_ranges, strip_widening


class HasStatistics(Protocol):
    """Rows that can say something of themselves before they are read."""

    rows: int

    def values_of(self, column: str) -> IntervalSet | None:
        """Among which values all of a column's lie; None where nothing is known."""


def has_statistics(part: Any) -> TypeGuard[HasStatistics]:
    """Whether rows are such."""
    return hasattr(part, "values_of")


class ReadsSome(Protocol):
    """Rows of which some columns can be read without the others."""

    def __call__(self) -> Iterator[pa.RecordBatch]:
        """The rows."""

    def some(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows, with these columns only."""


def can_read_some(rows: Any) -> TypeGuard[ReadsSome]:
    """Whether rows are such."""
    return hasattr(rows, "some")


@dataclass(slots=True)
class LateColumns:
    """Columns that no filter needs: read, for a whole fragment, when the first of its rows gets through."""

    fragment: ReadsSome
    names: Sequence[str]
    table: pa.Table | None = None

    def rows(self, rows: Any) -> dict[str, Any]:
        """The columns of some rows, by their numbers in the fragment, rising."""
        if self.table is None:
            self.table = pa.Table.from_batches([*self.fragment.some(self.names)])
        first, count = int(rows[0]), len(rows)
        part = self.table.slice(first, int(rows[-1]) + 1 - first).combine_chunks()
        whole = part.num_rows == count
        columns = [column.chunk(0) for column in part.columns]
        index = None if whole else from_numpy(rows - first)
        return {
            name: column if index is None else column.take(index)
            for name, column in zip(self.names, columns, strict=True)
        }


@dataclass(frozen=True, slots=True)
class PushedPredicate:
    """What a filter asks of one column: rows with any other value do not get through."""

    text: str
    column: str
    holds: IntervalSet

    def rules_out(self, part: HasStatistics) -> bool:
        """Whether no row of a part meets it."""
        there = part.values_of(self.column)
        if there is None:
            return False
        try:
            return self.holds.intersection(there).empty
        except TypeError:  # values that do not compare say nothing
            return False


def pushed_predicates(fields: Fields, filters: Sequence[Expression]) -> list[PushedPredicate]:
    """What filters ask of columns as they are read; nothing where a filter could fault, since faults are reported for every row."""
    trees = [filter_.checked for filter_ in filters]
    every = [*trees, *(fields[name].checked for name in needed(fields, trees))]
    if any(_can_fault(tree) for tree in every):
        return []
    predicates = []
    for filter_ in filters:
        for condition in _conjuncts(filter_.checked, fields):
            about = predicate_ranges(condition)
            if about is not None:
                operand = _as_read(about.operand, fields)
                if isinstance(operand, c.ColumnRef):
                    predicates.append(PushedPredicate(" ".join(filter_.text.split()), operand.column, about.holds))
    return predicates


def _can_fault(tree: c.TypedNode) -> bool:
    """Whether computing a tree may record a fault; widening a number for an operator does not."""
    return any(
        isinstance(piece, c.Call) and piece.function.can_fault and strip_widening(piece) is piece
        for piece in c.walk(tree)
    )


def _conjuncts(condition: c.TypedNode, fields: Fields) -> Iterator[c.TypedNode]:
    """The conditions that all must hold."""
    condition = _as_read(condition, fields)
    if isinstance(condition, c.Call) and condition.function.name == "AND":
        for part in condition.args:
            yield from _conjuncts(part, fields)
    else:
        yield condition


def _as_read(piece: c.TypedNode, fields: Fields) -> c.TypedNode:
    """What a field means."""
    while isinstance(piece, c.FieldRef):
        piece = fields[piece.name].checked
    return piece


def pruning_predicate(asked: Sequence[PushedPredicate], part: Any) -> PushedPredicate | None:
    """A demand that no row of a part meets; None where there is none, or the part says nothing of itself."""
    return (
        next((predicate for predicate in asked if predicate.rules_out(part)), None)
        if asked and has_statistics(part)
        else None
    )
