"""What the definition says of an origin: where rows come from and how they are read."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

OriginKind = Literal["file", "files", "parquet", "memory"]


class OriginSpec(BaseModel):
    """The `[origin]` part of a definition. What intake decided stands here, so that reading decides nothing anew."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: OriginKind = Field(description="file: one delimited text file; files: many of one shape; parquet; memory")
    path: str = Field("", description="relative to the definition; with * for many files")
    name_parts: str = Field("", description="pattern of the file name; {Year} becomes the column Year")
    separator: str = Field(",", description="what stands between values", min_length=1, max_length=1)
    quote: str = Field('"', description="what stands around a value that holds a separator", max_length=1)
    encoding: str = Field("utf-8", description="how characters are stored")
    header: Literal["first", "none"] = Field("first", description="whether the first row holds the column names")
