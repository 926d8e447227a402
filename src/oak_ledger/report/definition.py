"""What a report file may say: the report, its local fields, its panels."""

from __future__ import annotations

import re
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from oak_ledger.source.definition import refers
from oak_ledger.source.document import FileSchema
from oak_ledger.source.formats import BadFormat, Format

PanelKind = Literal["table", "bars", "figure"]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class ReportSpec(_Table):
    """The `[report]` table."""

    name: str = Field(description="the report's name", min_length=1)
    source: str = Field(description="the name of the source it reads", min_length=1)
    owner: str = Field("", description="who built it")
    text: str = refers("text", "a line under the title; {Field} is a live reference to a field")


class LocalFieldSpec(_Table):
    """A `[[field]]` of a report: a calculated field that lives in it."""

    name: str = Field(description="the field's name in this report", min_length=1)
    formula: str = refers("formula", "its formula", ...)
    format: str = Field("", description="how values are shown")
    description: str = Field("", description="what it means")

    @field_validator("format")
    @classmethod
    def _known_format(cls, text: str) -> str:
        if text:
            try:
                Format.read(text)
            except BadFormat as error:
                raise ValueError(str(error)) from None
        return text


class NamedFormula(_Table):
    """A formula with a name, as an item of `by` or `show`."""

    name: str = Field(min_length=1)
    formula: str = Field(min_length=1)


class PanelSpec(_Table):
    """A `[[panel]]`: a table, bars, or one key figure."""

    kind: PanelKind = Field(description="table, bars or figure")
    title: str = refers("text", "the panel's title; {Field} is a live reference", ...)
    by: tuple[str | NamedFormula, ...] = refers("shown", "the fields or formulas to group by", ())
    show: tuple[str | NamedFormula, ...] = refers("shown", "the measures: fields or formulas", ...)
    where: str = refers("formula", "a condition on rows, or the name of a filter")
    sort: tuple[str, ...] = refers("sort", "what to sort by; - before a name for downwards", ())
    limit: int | None = Field(None, description="how many groups at most", ge=1)
    totals: bool = Field(False, description="true: a row of computed totals")
    colours: dict[str, str] = Field(default_factory=dict, description="colours of values, such as { Oak = '#4a7c3a' }")

    @model_validator(mode="after")
    def _shape(self) -> PanelSpec:
        if not self.show:
            raise ValueError(f"the panel {self.title!r} shows nothing; name a measure in show")
        if self.kind == "figure" and (self.by or len(self.show) != 1):
            raise ValueError(f"the panel {self.title!r} is one figure: no by, and one thing in show")
        if self.kind == "bars" and len(self.by) != 1:
            raise ValueError(f"the panel {self.title!r} has bars: group it by one field")
        bad = next((colour for colour in self.colours.values() if not re.fullmatch(r"#[0-9a-fA-F]{6}", colour)), None)
        if bad is not None:
            raise ValueError(f"the panel {self.title!r} has the colour {bad!r}; colours are written #4a7c3a")
        return self


REPORT = FileSchema(
    {"report": ReportSpec, "field": LocalFieldSpec, "panel": PanelSpec}, frozenset({"field", "panel"}), ("report",)
)
