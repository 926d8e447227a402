"""What comes back from a question: the rows, their totals, and everything one should know about them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from oak_ledger.definition.formats import show
from oak_ledger.engine import Fault, OperatorStats
from oak_ledger.errors import Finding
from oak_ledger.source.notebook import InNotebook

if TYPE_CHECKING:
    import pandas as pd


SHOWN_COLUMNS = 6  # columns in the short form of an answer


@dataclass(frozen=True, slots=True)
class Answer(InNotebook):
    """The answer to a question.

    `table` has the rows; `totals` one row of computed totals, where asked for. `faults` are values that could not be
    computed, `findings` what else to know (a total that misleads, a filter that matches nothing). `rows_read` and
    `rows_used` count the source's rows before and after filters; `groups` counts groups before any limit.
    """

    table: pa.Table
    totals: pa.Table | None = None
    faults: tuple[Fault, ...] = ()
    findings: tuple[Finding, ...] = ()
    formats: Mapping[str, str] = field(default_factory=dict)
    rows_read: int = 0
    rows_used: int = 0
    groups: int | None = None
    steps: tuple[OperatorStats, ...] = ()
    """How it was answered, where that was asked for (`explain`)."""
    place: str = "here"
    """Where it was computed: here, or in the origin's database."""

    def __repr__(self) -> str:
        columns = [f"{one.name} {one.type}" for one in self.table.schema]
        more = f" and {len(columns) - SHOWN_COLUMNS} more" if len(columns) > SHOWN_COLUMNS else ""
        said = f"used {self.rows_used:,} of {self.rows_read:,} rows; faults: {len(self.faults)}, findings: {len(self.findings)}"
        return f"Answer; rows: {self.table.num_rows:,}; columns: {', '.join(columns[:SHOWN_COLUMNS])}{more}\n  {said}"

    @property
    def names(self) -> list[str]:
        """The names of the columns."""
        return list(self.table.schema.names)

    def to_arrow(self) -> pa.Table:
        """The rows as an Arrow table."""
        return self.table

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """The rows for any library that takes Arrow streams (the Arrow PyCapsule protocol)."""
        return self.table.__arrow_c_stream__(requested_schema)

    def to_pandas(self, *, decimals: bool = False) -> pd.DataFrame:
        """The rows as a pandas frame: whole numbers, conditions and texts in types that know missing values, dates and timestamps as times.

        A decimal becomes a number, or with `decimals` stays exact, as an object of Python's.
        """
        import pandas as pd

        table = self.table
        exact = [one.name for one in table.schema if pa.types.is_decimal(one.type)]
        for name in () if decimals else exact:
            table = table.set_column(table.schema.get_field_index(name), name, table.column(name).cast(pa.float64()))
        kinds = {pa.int64(): pd.Int64Dtype(), pa.bool_(): pd.BooleanDtype(), pa.string(): pd.StringDtype()}
        return table.to_pandas(types_mapper=kinds.get, date_as_object=False)  # type: ignore[no-any-return]

    def without_column(self, at: int) -> Answer:
        """The answer without one of its columns, by its place."""
        name = self.table.schema.names[at]
        return replace(
            self,
            table=self.table.drop_columns([name]),
            totals=None if self.totals is None else self.totals.drop_columns([name]),
        )

    def to_dicts(self) -> list[dict[str, Any]]:
        """The rows as dictionaries of Python values."""
        return self.table.to_pylist()  # type: ignore[no-any-return]

    def as_json(self) -> dict[str, Any]:
        """Plain values for a script: rows, totals (None where there are none), faults, findings."""
        return {
            "rows": self.to_dicts(),
            "totals": None if self.totals is None else self.totals.to_pylist()[0],
            "faults": [fault.as_json() for fault in self.faults],
            "findings": [finding.as_json() for finding in self.findings],
        }

    def value(self) -> Any:
        """The single value of an answer of one row and one column; raises ValueError otherwise."""
        if self.table.num_rows != 1 or self.table.num_columns != 1:
            raise ValueError(f"the answer has {self.table.num_rows} rows and {self.table.num_columns} columns")
        return self.table.column(0)[0].as_py()

    def shown(self) -> list[list[str]]:
        """The rows as texts in their display formats."""
        return [[show(value, self.formats.get(name, "")) for name, value in row.items()] for row in self.to_dicts()]

    def totals_shown(self) -> list[str]:
        """The totals as texts in their display formats; empty without totals."""
        if self.totals is None:
            return []
        return [show(value, self.formats.get(name, "")) for name, value in self.totals.to_pylist()[0].items()]
