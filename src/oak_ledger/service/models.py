"""What the service says in JSON, as its published description has it."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field


class Failure(BaseModel):
    """Why there is no answer, as a problem document: the status and its name, a sentence (`detail`); beside these a code, what to do, and in a formula where."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    code: str
    hint: str = ""
    findings: list[dict[str, Any]] = []


class Health(BaseModel):
    """Whether the service is up (or only reads: nothing can be written on its disk), and how many rows an answer has at most."""

    status: str
    version: str
    rows: int


class SourceLine(BaseModel):
    """A source that you may see."""

    name: str
    area: str
    version: int
    stage: str
    rows: int
    description: str
    owner: str


class FieldLine(BaseModel):
    """A field: its type, whether it has one value per row or per group, how it totals, what it means, how it is shown."""

    name: str
    type: str
    per: str = Field(description="row or group")
    totals: str = Field(description="how its values come to a total, in words")
    description: str
    format: str
    formula: str


class SourceSaid(SourceLine):
    """A source with its fields."""

    fields: list[FieldLine]


class AnswerSaid(BaseModel):
    """Rows as objects by column; `more` says whether there are further ones (the Link header has their address)."""

    source: str
    version: str
    columns: list[dict[str, str]] = Field(description="name and type of each column, in order")
    rows: list[dict[str, Any]] = Field(description="whole numbers beyond 2^53 are texts, so that no reader rounds them")
    totals: dict[str, Any] | None = None
    faults: list[dict[str, Any]] = Field(description="values that could not be computed")
    findings: list[dict[str, Any]] = Field(description="what else to know, such as a total that misleads")
    rows_read: int
    rows_used: int
    groups: int | None = Field(None, description="how many groups there are before any limit")
    more: bool = False


class ReportLine(BaseModel):
    """A report in the catalogue."""

    name: str
    source: str
    owner: str
