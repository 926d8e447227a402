"""What the definition says of an origin: where rows come from and how they are read."""

from __future__ import annotations

import datetime as dt
import re
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

OriginKind = Literal["file", "files", "sheet", "parquet", "arrow", "json lines", "database", "source", "join", "memory"]
Header = Literal["first", "none"] | int
_PASSWORD = re.compile(r"://[^/@:]*:[^@/]+@")


class ReadingSpec(BaseModel):
    """How rows are read from one place; what intake decided is here, so that reading decides nothing again."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: OriginKind = Field(
        description="file or files (delimited text), sheet, parquet, arrow, json lines, database, source, join, memory"
    )
    path: str = Field("", description="relative to the definition; with * for many files")
    name_parts: str = Field("", description="pattern of the file name; {Year} becomes the column Year")
    separator: str = Field(",", description="what separates values", min_length=1, max_length=4)
    quote: str = Field('"', description="what encloses a value that holds a separator; empty: nothing", max_length=1)
    escape: str = Field(
        "", description="what comes before a quote that is part of a value, such as a backslash", max_length=1
    )
    spaces: bool = Field(False, description="whether spaces after a separator are left out of the value")
    encoding: str = Field("utf-8", description="how characters are stored")
    header: Header = Field("first", description="where the column names are: first, none, or the number of the line")
    header_lines: int = Field(1, description="how many lines hold the names; the last of them is header", ge=1, le=3)
    names: tuple[str, ...] = Field((), description="the column names, where the file has none")
    comment: str = Field("", description="how a line begins that is not a row", max_length=3)
    footer: int = Field(0, description="how many lines at the end are not rows", ge=0)
    bad_rows: Literal["stop", "drop", "keep"] = Field("stop", description="what to do with rows that cannot be read")
    renamed: dict[str, str] = Field(
        default_factory=dict, description="columns that arrive under other names: { arriving = 'name' }"
    )
    earlier: dict[str, dt.date] = Field(
        default_factory=dict,
        description="paths, sheets or tables that it was read from, and until when: { 'Loads' = 2026-12-01 }",
    )
    sheet: str = Field("", description="the sheet of a workbook")
    url: str = Field(
        "", description="a database, such as sqlite:///yard.db or postgresql://user@host/name; no password"
    )
    password_from: str = Field("", description="the environment variable that holds the password")
    table: str = Field("", description="the table of a database")
    query: str = Field("", description="a query of a database, instead of a table")
    published: str = Field("", description="a source of the catalogue in the folder path, AREA/NAME or NAME")
    version: int = Field(0, description="which version of it; 0: the one that is released", ge=0)

    @field_validator("url")
    @classmethod
    def _no_password(cls, url: str) -> str:
        if _PASSWORD.search(url):
            raise ValueError("a password must not be in a definition; name a variable in password_from instead")
        return url

    @field_validator("header")
    @classmethod
    def _line(cls, header: Header) -> Header:
        if isinstance(header, int) and header < 1:
            raise ValueError("the header's line is counted from 1")
        return header


class OriginSpec(ReadingSpec):
    """The `[origin]` part of a definition."""


class PartSpec(ReadingSpec):
    """A `[[part]]` of a join: an origin of its own, joined to those before it by keys."""

    name: str = Field(
        description="what the part is called; it comes before column names that occur twice", min_length=1
    )
    on: tuple[str, ...] = Field(
        (), description="the columns by which it is joined, OTHER=OWN where they have two names; not for the first part"
    )
    match: str = Field(
        "", description="a formula over VALUE: what of a key counts when rows are matched, on both sides"
    )
    how: Literal["inner", "left", "full"] = Field("left", description="which rows stay: inner, left or full")
    day: str = Field(
        "", description="a formula over the columns before: the day for which this part's row must be valid"
    )
    valid_from: str = Field("", description="a formula over its own columns: the day from which a row is valid")
    valid_until: str = Field(
        "", description="the last day on which it is, null for no end; without it, until the next row of its key begins"
    )
    totals: dict[str, str] = Field(
        default_factory=dict,
        description="aggregates over its rows with the same key, which are its columns: { Loads = 'COUNT(*)' }",
    )

    @model_validator(mode="after")
    def _matching(self) -> PartSpec:
        if bool(self.day) != bool(self.valid_from) or (self.valid_until and not self.day):
            raise ValueError("rows valid for a day need both day and valid_from")
        if self.day and self.totals:
            raise ValueError("a part with totals has one row a key: day does not go with it")
        return self

    def key_pairs(self) -> list[tuple[str, str]]:
        """The names of each key: before this part, and in it."""
        return [(left, right or left) for left, _, right in (one.partition("=") for one in self.on)]


StepKind = Literal[
    "columns into rows",
    "rows into columns",
    "list into rows",
    "split",
    "put together",
    "fill down",
    "distinct",
    "leave out",
]
_NEEDED: dict[str, tuple[str, ...]] = {
    "columns into rows": ("columns", "name", "value"), "rows into columns": ("name", "value", "into"), "list into rows": ("columns",), "split": ("columns", "into"),
    "put together": ("columns", "into"), "fill down": ("columns",), "distinct": (), "leave out": ("where",),
}  # fmt: skip
"""The keys that each kind of step needs; and those that it may have besides."""
_ALLOWED: dict[str, tuple[str, ...]] = {
    "columns into rows": ("nulls",), "rows into columns": (), "list into rows": ("into", "name", "nulls"), "split": ("by", "pattern"), "put together": ("by",),
    "fill down": ("within",), "distinct": ("within", "order"), "leave out": (),
}  # fmt: skip


class StepSpec(BaseModel):
    """A `[[step]]`: how incoming rows are prepared, before fields are made of their columns; one after the other."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: StepKind = Field(description=", ".join(_NEEDED))
    columns: tuple[str, ...] = Field((), description="which columns it is about; * and ? mean any characters")
    name: str = Field("", description="the column that holds the names of columns, or the number of a list's element")
    value: str = Field("", description="the column that holds their values")
    into: tuple[str, ...] = Field(
        (), description="the new columns, in order; of a list of objects, the members that are taken"
    )
    by: str = Field("", description="what separates the parts")
    pattern: str = Field("", description="a regular expression; each of its groups is one part")
    within: tuple[str, ...] = Field((), description="the key: values are filled down, or rows compared, within it")
    order: str = Field(
        "", description="the column by which the first row of a key is the one that stays; - before it for the last"
    )
    where: str = Field("", description="a condition on the columns as they arrive; rows that meet it are left out")
    nulls: bool = Field(True, description="false: no row for a column without a value, or an empty list")

    @model_validator(mode="after")
    def _shape(self) -> StepSpec:
        needed, allowed = _NEEDED[self.kind], (*_NEEDED[self.kind], *_ALLOWED[self.kind], "kind")
        given = {name for name, info in type(self).model_fields.items() if getattr(self, name) != info.default}
        missing = next((one for one in needed if one not in given), None)
        if missing:
            raise ValueError(f"a step {self.kind!r} needs {missing}")
        stray = next((one for one in sorted(given) if one not in allowed), None)
        if stray:
            raise ValueError(f"a step {self.kind!r} has no {stray}")
        if self.kind == "split" and bool(self.by) == bool(self.pattern):
            raise ValueError("a step 'split' needs either by or pattern")
        if self.kind == "put together" and len(self.into) != 1:
            raise ValueError("a step 'put together' makes one column: into has one name")
        try:
            groups = re.compile(self.pattern).groups
        except re.error as error:
            raise ValueError(f"the pattern {self.pattern!r} cannot be used: {error}") from None
        if self.pattern and groups != len(self.into):
            raise ValueError(f"the pattern has {groups} groups, and into has {len(self.into)} names")
        return self
