"""What a `[[panel]]` of a report may say; what of it a kind of panel takes is the kind's own matter."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from oak_ledger.definition.model import refers


class _Entry(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class NamedFormula(_Entry):
    """A formula with a name, as an item of `by` or `show`."""

    name: str = Field(min_length=1)
    formula: str = Field(min_length=1)


class PanelSpec(_Entry):
    """A `[[panel]]`: one table, chart, key figure or text. Which keys it takes depends on its kind."""

    kind: str = Field(description="what it is: see kinds")
    title: str = refers("text", "the panel's title; {Field} is a live reference", ...)
    text: str = refers("text", "what a text says; an empty line begins a paragraph, {Field} is a live reference")
    by: tuple[str | NamedFormula, ...] = refers("shown", "the fields or formulas to group by", ())
    show: tuple[str | NamedFormula, ...] = refers("shown", "the measures: fields or formulas", ())
    where: str | tuple[str, ...] = refers("shown", "a condition on rows, the name of a filter, or a list of them", ())
    sort: tuple[str, ...] = refers("sort", "what to sort by; - before a name for downwards", ())
    limit: int | None = Field(None, description="how many groups at most (lines: how many lines)", ge=1)
    rest: bool = Field(False, description="true: all groups beyond the limit as one more")
    totals: bool = Field(False, description="true: a row of computed totals")
    subtotals: bool = Field(False, description="true: a computed row for each group of the first fields of by")
    stacked: bool = Field(False, description="true: measures or values on one bar, not beside each other")
    fill: Literal["", "null", "zero"] = Field(
        "", description="null or zero: also dates without rows between the first and the last, with sums of that"
    )
    change: bool = Field(False, description="true: the change since the baseline")
    against: str = refers("formula", "a formula that the figure is compared with")
    order: tuple[str, ...] = Field(
        (), description="values in the order in which they are drawn; others come after them"
    )
    colours: dict[str, str] = Field(default_factory=dict, description="colours of values, such as { Oak = '#4a7c3a' }")
