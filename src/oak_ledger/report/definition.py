"""What a report file may say: the report, its local fields, its filters, its panels."""

from __future__ import annotations

import re

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from oak_ledger.definition.document import FileSchema
from oak_ledger.definition.model import checked_format, refers
from oak_ledger.report.kinds import KINDS
from oak_ledger.report.panel_spec import PanelSpec


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class ReportSpec(_Table):
    """The `[report]` table."""

    name: str = Field(description="the report's name", min_length=1)
    source: str = Field(description="the name of the source it reads", min_length=1)
    owner: str = Field("", description="who built it")
    text: str = refers("text", "a line under the title; {Field} is a live reference to a field")
    baseline: str = Field(
        "", description="the earlier state to compare with: a version of the source, or a file of oak export"
    )


class LocalFieldSpec(_Table):
    """A `[[field]]` of a report: a calculated field that lives in it."""

    name: str = Field(description="the field's name in this report", min_length=1)
    formula: str = refers("formula", "its formula", ...)
    format: str = Field("", description="how values are shown")
    description: str = Field("", description="what it means")

    @field_validator("formula")
    @classmethod
    def _says_something(cls, text: str) -> str:
        if not text.strip():
            raise ValueError("the formula is empty; a field of a report has one")
        return text

    @field_validator("format")
    @classmethod
    def _known_format(cls, text: str) -> str:
        return checked_format(text)


class GroupedFilterSpec(_Table):
    """A `[[filter]]` of a report: conditions under one name. A row must meet one of `include`, and none of `exclude`."""

    name: str = Field(description="the filter's name, which panels use in where, and readers see", min_length=1)
    include: tuple[str, ...] = refers("shown", "conditions, or names of filters: rows that meet any of them stay", ())
    exclude: tuple[str, ...] = refers("shown", "conditions, or names of filters: rows that meet any of them go", ())
    always: bool = Field(False, description="true: for every panel of the report")

    @model_validator(mode="after")
    def _says_something(self) -> GroupedFilterSpec:
        if not self.include and not self.exclude:
            raise ValueError(f"the filter {self.name!r} has neither include nor exclude")
        return self


class CheckedPanelSpec(PanelSpec):
    """A `[[panel]]`: one table, chart, key figure or text. Which keys it takes depends on its kind."""

    kind: str = Field(description=f"{', '.join([*KINDS][:-1])} or {[*KINDS][-1]}")

    @model_validator(mode="after")
    def _shape(self) -> CheckedPanelSpec:
        kind = KINDS.get(self.kind)
        if kind is None:
            raise ValueError(f"the panel {self.title!r} has the kind {self.kind!r}; kinds are {', '.join(KINDS)}")
        given = [name for name, info in type(self).model_fields.items() if getattr(self, name) != info.get_default(call_default_factory=True)]  # fmt: skip
        stray = next((name for name in given if name not in kind.keys | {"kind", "title"}), None)
        if stray is not None:
            others = ", ".join(word for word, one in KINDS.items() if stray in one.keys)
            raise ValueError(
                f"the panel {self.title!r} is of the kind {kind.word}, which has no {stray}; that is for {others}"
            )
        if self.rest and self.limit is None:
            raise ValueError(f"the panel {self.title!r} has rest and no limit: nothing is left over")
        problem = kind.problem(self)
        if problem:
            raise ValueError(f"the panel {self.title!r} {problem}")
        bad = next((colour for colour in self.colours.values() if not re.fullmatch(r"#[0-9a-fA-F]{6}", colour)), None)
        if bad is not None:
            raise ValueError(f"the panel {self.title!r} has the colour {bad!r}; colours are written #4a7c3a")
        return self


REPORT = FileSchema(
    {"report": ReportSpec, "field": LocalFieldSpec, "filter": GroupedFilterSpec, "panel": CheckedPanelSpec},
    frozenset({"field", "filter", "panel"}),
    ("report",),
)
