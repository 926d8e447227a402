"""What a definition may say: the models of its tables, each key with its meaning."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from oak_ledger.definition.document import FileSchema
from oak_ledger.definition.formats import BadFormat, Format
from oak_ledger.definition.naming import NameRule
from oak_ledger.origin.spec import OriginSpec, PartSpec, StepSpec
from oak_ledger.types import CAST_NAMES, MAX_DIGITS, Type

Role = Literal["dimension", "measure"]
TOTALS = ("sum", "average", "median", "minimum", "maximum", "count", "distinct", "last", "first", "none")
Total = Literal["sum", "average", "median", "minimum", "maximum", "count", "distinct", "last", "first", "none"]
_TYPE = re.compile(r"\s*([A-Za-z]+(?: +[A-Za-z]+)?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*")


def read_type(text: str) -> tuple[Type, int]:
    """A type as a definition writes it, with the digits of a decimal: ``text``, ``decimal(12,2)``, …; raises ValueError."""
    match = _TYPE.fullmatch(text)
    kind = CAST_NAMES.get(" ".join(match[1].upper().split())) if match else None
    if match is None or kind is None or (match[2] and kind != "decimal"):
        raise ValueError(
            f"there is no type {text!r}; types are text, integer, decimal(12,2), number, boolean, date, timestamp"
        )
    precision, scale = int(match[2] or MAX_DIGITS), int(match[3] or 0)
    if not (1 <= precision <= MAX_DIGITS and scale <= precision):
        raise ValueError(f"a decimal has 1 to {MAX_DIGITS} digits, and no more decimals than digits")
    return Type(kind, scale if kind == "decimal" else 0), precision


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


def refers(kind: str, description: str, default: Any = "") -> Any:
    """A key that names fields: a `formula`, a `name`, `names`, `shown` (names or formulas), `sort` keys, or a `text` with {names}."""
    return Field(default, description=description, json_schema_extra={"refers": kind})


def checked_format(text: str) -> str:
    """A display format as a key has it; raises ValueError where it is none."""
    if text:
        try:
            Format.read(text)
        except BadFormat as error:
            raise ValueError(str(error)) from None
    return text


class SourceSpec(_Table):
    """The `[source]` table."""

    name: str = Field(description="what report builders call the source", min_length=1)
    owner: str = Field("", description="who to ask")
    description: str = Field("", description="what a row is, in a sentence")
    key: tuple[str, ...] = refers("names", "the fields that together are different in every row", ())
    baseline: str = Field("", description="a file with an earlier state of the rows, which BEFORE takes values from")
    base: int = Field(0, description="the published version that this working copy was made from", ge=0)


class FieldSpec(_Table):
    """A `[[field]]`: a column, or a formula."""

    name: str = Field(description="what report builders see", min_length=1)
    column: str = Field("", description="the column that a plain field shows")
    formula: str = refers("formula", "the formula of a calculated field")
    type: str = Field(
        "",
        description="what the column's values are read as: text, integer, decimal(12,2), number, boolean, date, timestamp",
    )
    template: str = Field("", description="how dates are written in the column, such as DD.MM.YYYY")
    decimal_mark: Literal[".", ","] = Field(".", description="the decimal mark in the column: . or ,")
    thousands_mark: Literal["", ",", ".", " ", "'"] = Field("", description="the thousands mark in the column")
    null_words: tuple[str, ...] = Field((), description="texts in the column that mean that there is no value")
    values: dict[str, str] = Field(
        default_factory=dict, description="a recode list: { found = 'meant' }, applied to text"
    )
    renamed_values: dict[str, str] = Field(
        default_factory=dict, description="values that arrive under names that they had: { arriving = 'name' }"
    )
    earlier: dict[str, dt.date] = Field(
        default_factory=dict, description="names that the column had, and until when: { 'VOL' = 2026-12-01 }"
    )
    earlier_values: dict[str, dt.date] = Field(
        default_factory=dict, description="names that values had, and until when: { 'QUERCUS' = 2026-12-01 }"
    )
    earlier_clean: dict[str, dt.date] = Field(
        default_factory=dict, description="cleans that it had, and until when: { 'VALUE * 0.01' = 2026-12-01 }"
    )
    values_from: str = Field("", description="a file of two columns, found and meant, used like values")
    clean: str = refers("over value", "a formula over VALUE, applied in place")
    rule: str = refers("over value", "a condition over VALUE, or over the row, that must hold")
    format: str = Field("", description="how values are shown, such as 0.00, 0,000, 0.0% or DD.MM.YYYY")
    description: str = Field("", description="what the field means, for report builders")
    hidden: bool = Field(False, description="true: not shown to report builders, still there for formulas")
    role: Role | None = Field(None, description="dimension (to group by) or measure (to aggregate)")
    total: Total | None = Field(None, description=f"how it is totalled when nothing else is asked: {', '.join(TOTALS)}")

    total_by: str = refers(
        "name", "for last and first: the field whose greatest or least value in a group decides, such as a day"
    )

    @field_validator("type")
    @classmethod
    def _known_type(cls, text: str) -> str:
        if text:
            read_type(text)
        return text

    @field_validator("format")
    @classmethod
    def _known_format(cls, text: str) -> str:
        return checked_format(text)

    @model_validator(mode="after")
    def _one_kind(self) -> FieldSpec:
        if bool(self.column) == bool(self.formula):
            both = "both a column and a formula" if self.column else "neither a column nor a formula"
            raise ValueError(f"the field {self.name!r} has {both}; a field has one of them")
        if (self.total in ("last", "first")) != bool(self.total_by):
            raise ValueError(
                f"the field {self.name!r} needs both total = 'last' or 'first', and total_by, the field that decides"
            )
        reading = (
            self.type,
            self.clean,
            self.template,
            self.null_words,
            self.values,
            self.renamed_values,
            self.values_from,
        )
        if self.formula and any(reading):
            raise ValueError(
                f"the field {self.name!r} is calculated: type, template, null_words, values and clean belong to plain fields"
            )
        return self

    @property
    def calculated(self) -> bool:
        """Whether it is a formula and not a column."""
        return bool(self.formula)


class RuleSpec(_Table):
    """A `[[rule]]` of the source: a condition that every row must meet."""

    name: str = Field(description="what the rule says, in words", min_length=1)
    holds: str = refers("formula", "the condition on a row", ...)
    description: str = Field("", description="why it must hold")


ConstantValue = bool | int | Decimal | str | dt.date


class ConstantSpec(_Table):
    """A `[[constant]]`: a value, or values valid from a date."""

    name: str = Field(description="the constant's name in formulas", min_length=1)
    value: ConstantValue | None = Field(None, description="the value")
    by: str = refers("name", "for values valid from a date: the date field that decides")
    values: dict[str, ConstantValue] = Field(
        default_factory=dict, description="values by the date from which each holds"
    )
    description: str = Field("", description="what it is, and who says so")

    @model_validator(mode="after")
    def _one_kind(self) -> ConstantSpec:
        if (self.value is None) == (not self.values):
            raise ValueError(f"the constant {self.name!r} needs either value or values")
        if bool(self.values) != bool(self.by):
            raise ValueError(f"the constant {self.name!r} needs both by and values, or only value")
        for date in self.values:
            try:
                dt.date.fromisoformat(date)
            except ValueError:
                raise ValueError(
                    f"the constant {self.name!r} has {date!r} where a date such as 2026-01-01 is due"
                ) from None
        return self


class FilterSpec(_Table):
    """A `[[filter]]`: a named condition."""

    name: str = Field(description="the filter's name", min_length=1)
    where: str = refers("formula", "the condition that rows must meet", ...)
    always: bool = Field(False, description="true: applied to every question asked of the source")
    description: str = Field("", description="what it is for")


DEFINITION = FileSchema(
    {
        "source": SourceSpec,
        "origin": OriginSpec,
        "part": PartSpec,
        "step": StepSpec,
        "naming": NameRule,
        "field": FieldSpec,
        "constant": ConstantSpec,
        "filter": FilterSpec,
        "rule": RuleSpec,
    },
    frozenset({"part", "step", "naming", "field", "constant", "filter", "rule"}),
    ("source", "origin"),
)
