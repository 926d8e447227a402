"""The types a value can have, and the grain it belongs to."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from typing import Literal, get_args

Kind = Literal["text", "integer", "decimal", "number", "boolean", "date", "timestamp", "null"]
KINDS: tuple[Kind, ...] = get_args(Kind)
NUMERIC: frozenset[str] = frozenset({"integer", "decimal", "number"})
TEMPORAL: frozenset[str] = frozenset({"date", "timestamp"})
MAX_DIGITS = 38
MAX_PRODUCT_SCALE = 12


@dataclass(frozen=True, slots=True)
class Type:
    """A type of the language; `scale` is the number of decimals of a `decimal` and 0 otherwise.

    `null` is the type of a bare `NULL` before its place has given it one.
    """

    kind: Kind
    scale: int = 0

    def __str__(self) -> str:
        return f"decimal({MAX_DIGITS},{self.scale})" if self.kind == "decimal" else self.kind

    @property
    def numeric(self) -> bool:
        """Whether values can be reckoned with."""
        return self.kind in NUMERIC


TEXT, INTEGER, NUMBER, BOOLEAN = Type("text"), Type("integer"), Type("number"), Type("boolean")
DATE, TIMESTAMP, NULL = Type("date"), Type("timestamp"), Type("null")


def decimal(scale: int) -> Type:
    """An exact decimal of 38 digits with so many decimals."""
    return Type("decimal", scale)


class Grain(IntEnum):
    """What one value belongs to: the whole source, a row, or a group of rows."""

    CONSTANT = 0
    ROW = 1
    GROUP = 2

    def __str__(self) -> str:
        return self.name.lower()


# Names of types in a cast, as the standard has them, with the parameters that each takes.
CAST_NAMES: dict[str, Kind] = {
    "TEXT": "text",
    "VARCHAR": "text",
    "INTEGER": "integer",
    "BIGINT": "integer",
    "DECIMAL": "decimal",
    "NUMERIC": "decimal",
    "NUMBER": "number",
    "DOUBLE PRECISION": "number",
    "BOOLEAN": "boolean",
    "DATE": "date",
    "TIMESTAMP": "timestamp",
}


def cast_name(kind: Type, precision: int = MAX_DIGITS) -> str:
    """How a cast to this type is written."""
    if kind.kind == "decimal":
        return f"DECIMAL({precision},{kind.scale})"
    return kind.kind.upper()


def common(types: list[Type]) -> Type | None:
    """The narrowest type that all of them widen to, or None where there is none.

    Numbers widen integer, decimal, number; a date meets a timestamp as midnight.
    """
    known = [kind for kind in types if kind.kind != "null"]
    if not known:
        return NULL
    kinds = {kind.kind for kind in known}
    if kinds <= NUMERIC:
        if "number" in kinds:
            return NUMBER
        return decimal(max(kind.scale for kind in known)) if "decimal" in kinds else INTEGER
    if len(kinds) == 1:
        return known[0]
    return TIMESTAMP if kinds <= TEMPORAL else None
