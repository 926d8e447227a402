"""What the definition says of an origin: where rows come from and how they are read."""

from __future__ import annotations

import re
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

OriginKind = Literal["file", "files", "sheet", "parquet", "arrow", "json lines", "database", "join", "memory"]
Header = Literal["first", "none"] | int
_PASSWORD = re.compile(r"://[^/@:]*:[^@/]+@")


class ReadingSpec(BaseModel):
    """How rows are read from one place; what intake decided is here, so that reading decides nothing again."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: OriginKind = Field(
        description="file or files (delimited text), sheet, parquet, arrow, json lines, database, join, memory"
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
    sheet: str = Field("", description="the sheet of a workbook")
    url: str = Field(
        "", description="a database, such as sqlite:///yard.db or postgresql://user@host/name; no password"
    )
    password_from: str = Field("", description="the environment variable that holds the password")
    table: str = Field("", description="the table of a database")
    query: str = Field("", description="a query of a database, instead of a table")

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
    on: tuple[str, ...] = Field((), description="the columns by which it is joined; not for the first part")
    how: Literal["inner", "left", "full"] = Field("left", description="which rows stay: inner, left or full")
