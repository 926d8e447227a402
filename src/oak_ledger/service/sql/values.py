"""Values on the wire: the types of PostgreSQL that ours are, and each value as text or in binary."""

from __future__ import annotations

import datetime as dt
import re
import struct
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa

from oak_ledger.columnar.texts import value_text
from oak_ledger.errors import OakError
from oak_ledger.service.sql.messages import Column
from oak_ledger.types import BOOLEAN, DATE, INTEGER, MAX_DIGITS, NUMBER, TEXT, TIMESTAMP, Type, decimal

_BOOL, _INT8, _INT2, _INT4, _TEXT, _OID, _FLOAT4, _FLOAT8, _CHAR, _VARCHAR, _DATE, _TIMESTAMP, _NUMERIC = 16, 20, 21, 23, 25, 26, 700, 701, 1042, 1043, 1082, 1114, 1700  # fmt: skip
_NAME, _UNKNOWN, _TEXTS, _INT8S = 19, 705, 1009, 1016
_ZONE = re.compile(r"\s?([+-]\d\d(:?\d\d)?|Z)$")
_LISTS = (_TEXTS, _INT8S, 1005, 1007, 1015, 1021, 1022, 1115, 1182, 1231)  # of which each item is written as text
Parameter = tuple[Any, Type | None]
"""The value of a parameter, and its type where that is known."""

_EPOCH, _MIDNIGHT = dt.date(2000, 1, 1), dt.datetime(2000, 1, 1)
_OF_KIND: Mapping[str, tuple[int, int]] = {
    "text": (_TEXT, -1), "null": (_TEXT, -1), "integer": (_INT8, 8), "number": (_FLOAT8, 8), "decimal": (_NUMERIC, -1),
    "boolean": (_BOOL, 1), "date": (_DATE, 4), "timestamp": (_TIMESTAMP, 8),
}  # fmt: skip
_PARAMETERS: Mapping[int, tuple[Type, str]] = {
    _BOOL: (BOOLEAN, "?"), _INT2: (INTEGER, "h"), _INT4: (INTEGER, "i"), _INT8: (INTEGER, "q"), _OID: (INTEGER, "I"), _FLOAT4: (NUMBER, "f"), _FLOAT8: (NUMBER, "d"),
    _TEXT: (TEXT, ""), _VARCHAR: (TEXT, ""), _CHAR: (TEXT, ""), _NAME: (TEXT, ""), _DATE: (DATE, ""), _TIMESTAMP: (TIMESTAMP, ""), _NUMERIC: (decimal(12), ""),
}  # fmt: skip


def oid_of(kind: Type | None) -> int:
    """The number of a type; text where it has none."""
    return _OF_KIND[kind.kind if kind else "text"][0]


def column_of(name: str, kind: Type) -> Column:
    """A column with values of a type of ours."""
    number, size = _OF_KIND[kind.kind]
    return Column(name, number, size, (MAX_DIGITS << 16 | kind.scale) + 4 if kind.kind == "decimal" else -1)


def type_of(kind: pa.DataType) -> Type:
    """The type of ours that a column of an answer has."""
    if pa.types.is_decimal(kind):
        return decimal(kind.scale)
    if pa.types.is_integer(kind):
        return INTEGER
    return {pa.float64(): NUMBER, pa.float32(): NUMBER, pa.bool_(): BOOLEAN, pa.date32(): DATE}.get(
        kind, TIMESTAMP if pa.types.is_timestamp(kind) else TEXT
    )


def column_in(field: pa.Field) -> Column:
    """A column as Arrow has it, lists too."""
    if pa.types.is_list(field.type):
        return Column(field.name, _INT8S if pa.types.is_integer(field.type.value_type) else _TEXTS)
    return column_of(field.name, type_of(field.type))


def rows_of(table: pa.Table, formats: Sequence[int]) -> list[tuple[bytes | None, ...]]:
    """All rows of a table, each value as text (0) or in binary (1)."""
    made = [_written(table.column(at), how) for at, how in enumerate(formats)]
    return list(zip(*made, strict=True)) if made else [()] * table.num_rows


def _written(column: pa.ChunkedArray, how: int) -> list[bytes | None]:
    if pa.types.is_list(column.type):
        return [None if one is None else _list(one).encode() for one in column.to_pylist()]
    kind = type_of(column.type).kind
    write = _BINARY[kind] if how else _truth if kind == "boolean" else _plain
    return [None if one is None else write(one) for one in column.to_pylist()]


def _list(values: Sequence[Any]) -> str:
    said = [
        "NULL" if value is None else '"' + str(value).replace("\\", "\\\\").replace('"', '\\"') + '"'
        for value in values
    ]
    return "{" + ",".join(said) + "}"


def _plain(value: Any) -> bytes:
    return (value_text(value) or "").encode("utf-8", "replace")


def _truth(value: bool) -> bytes:
    return b"t" if value else b"f"


def _days(value: dt.date) -> bytes:
    return struct.pack("!i", (value - _EPOCH).days)


def _microseconds(value: dt.datetime) -> bytes:
    return struct.pack("!q", (value.replace(tzinfo=None) - _MIDNIGHT) // dt.timedelta(microseconds=1))


def _numeric(value: Decimal) -> bytes:
    """Digits to the base of 10,000: how many, the weight of the first, the sign, the decimals that are shown."""
    sign, digits, exponent = value.as_tuple()
    scale = max(-int(exponent), 0)
    whole = "".join(map(str, digits)).zfill(scale + 1)
    before, after = whole[: len(whole) - scale], whole[len(whole) - scale :]
    before = before.zfill(-(-len(before) // 4) * 4)
    after = after.ljust(-(-len(after) // 4) * 4, "0")
    text = before + after
    groups = [int(text[at : at + 4]) for at in range(0, len(text), 4)]
    weight = len(before) // 4 - 1
    while groups and groups[0] == 0:
        groups, weight = groups[1:], weight - 1
    while groups and groups[-1] == 0:
        groups.pop()
    head = struct.pack("!hhHh", len(groups), weight if groups else 0, 0x4000 if sign and groups else 0, scale)
    return head + struct.pack(f"!{len(groups)}h", *groups)


def _numeric_read(content: bytes) -> Decimal:
    count, weight, sign, scale = struct.unpack_from("!hhHh", content)
    if sign not in (0, 0x4000):
        raise ValueError
    groups = struct.unpack_from(f"!{count}h", content, 8)
    whole = sum(one * 10_000 ** (count - 1 - at) for at, one in enumerate(groups))
    shift = 4 * (weight - count + 1) + scale  # digits beyond the decimals that are shown are none
    digits = whole * 10**shift if shift >= 0 else whole // 10**-shift
    return Decimal((1 if sign else 0, tuple(map(int, str(digits))), -scale))


_BINARY: Mapping[str, Callable[[Any], bytes]] = {
    "text": _plain,
    "integer": lambda one: struct.pack("!q", one),
    "number": lambda one: struct.pack("!d", one),
    "decimal": _numeric,
    "boolean": lambda one: b"\1" if one else b"\0",
    "date": _days,
    "timestamp": _microseconds,
}


def parameter(content: bytes | None, number: int, how: int) -> Parameter:
    """The value of a parameter as Python has it, and its type; a text whose type is not said has none. Raises OakError for what cannot be read."""
    kind, letter = _PARAMETERS.get(number, (None, ""))
    if content is None:
        return None, kind
    if kind is None and (number not in (0, _UNKNOWN) and (how or number not in _LISTS)):
        raise OakError("wrong-value", f"Parameters of the type with the number {number} are not read.", hint="Give it as text.")  # fmt: skip
    try:
        if not how or kind is None or kind == TEXT:
            text = content.decode()
            return (_read(text, kind) if kind else text), kind
        if letter:
            return struct.unpack(f"!{letter}", content)[0], kind
        if kind == DATE:
            return _EPOCH + dt.timedelta(days=struct.unpack("!i", content)[0]), kind
        if kind == TIMESTAMP:
            return _MIDNIGHT + dt.timedelta(microseconds=struct.unpack("!q", content)[0]), kind
        return _numeric_read(content), kind
    except (LookupError, ValueError, OverflowError, ArithmeticError, struct.error):
        raise OakError("wrong-value", f"A parameter is no {kind}.") from None


def _read(text: str, kind: Type) -> Any:
    if kind == BOOLEAN:
        return {"t": True, "true": True, "1": True, "on": True, "f": False, "false": False, "0": False, "off": False}[text.casefold()]  # fmt: skip
    if kind in (DATE, TIMESTAMP):  # a zone says nothing of a value that has none: PostgreSQL leaves it out, too
        text = text.strip()
        text = text[:10] + _ZONE.sub("", text[10:])
    reads: Mapping[str, Callable[[str], Any]] = {
        "integer": int, "number": float, "decimal": Decimal, "date": dt.date.fromisoformat, "timestamp": dt.datetime.fromisoformat,
    }  # fmt: skip
    return reads.get(kind.kind, str)(text)
