"""The tables of a catalogue. Every row carries a digest of what it says, so that a damaged one is noticed."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

LAYOUT = 4
META = sa.MetaData()


def _table(name: str, *columns: sa.Column[Any] | sa.Constraint) -> sa.Table:
    return sa.Table(name, META, sa.Column("id", sa.Integer, primary_key=True), *columns, _text("digest"))


def _text(name: str, *, empty: bool = False) -> sa.Column[Any]:
    return sa.Column(name, sa.Text, nullable=empty)


def _number(name: str) -> sa.Column[Any]:
    return sa.Column(name, sa.Integer, nullable=False)


def _of(table: str) -> sa.Column[Any]:
    return sa.Column(f"{table}_id", sa.ForeignKey(f"{table}.id"), nullable=False)


# What the catalogue says of itself: its layout, its settings, the digest of the audit log's last entry, and what the rows of each table sum up to.
ABOUT = _table("about", _text("name"), _text("value"), sa.UniqueConstraint("name"))
AREA = _table("area", _text("name"), _text("key"), sa.UniqueConstraint("key"))
MEMBER = _table("member", _text("group_name"), _text("person"), sa.UniqueConstraint("group_name", "person"))
GRANT = _table(
    "grants", _text("area"), _text("who"), _text("allowed"), sa.UniqueConstraint("area", "who", "allowed")
)  # `area` is a key or *, `who` a person or @group
TOKEN = _table(
    "token", _text("secret"), _text("person"), _text("name"), _text("areas"), _text("rights"),
    _text("made_at"), _text("ends_at"), _text("revoked_at"), sa.UniqueConstraint("secret"),
)  # fmt: skip
SOURCE = _table(
    "source", _of("area"), _text("name"), _text("key"), _text("owner"), sa.UniqueConstraint("area_id", "key")
)
VERSION = _table(
    "version", _of("source"), _number("number"), _text("stage"), _text("definition"), _text("data"), _text("before"),
    _number("rows"), _text("fingerprints"), _text("findings"), _number("warnings"), _text("note"), _number("base"),
    _text("origin"), _text("made_by"), _text("made_at"), _text("replaced_by"), _text("overruled"),
    sa.UniqueConstraint("source_id", "number"),
)  # fmt: skip
SIGNATURE = _table("signature", _of("version"), _text("by"), _text("at"), _text("note"))
VIEWER = _table("viewer", _of("version"), _text("who"), sa.UniqueConstraint("version_id", "who"))
SNAPSHOT = _table(
    "snapshot",
    _of("source"),
    _number("version"),
    _text("data"),
    _number("rows"),
    _text("at"),
    _text("by"),
    _text("note"),
)
REPORT = _table(
    "report", _of("area"), _text("name"), _text("key"), _text("owner"), sa.UniqueConstraint("area_id", "key")
)
REPORT_STATE = _table(
    "report_state", _of("report"), _number("number"), _text("text"), _text("source"), _text("by"), _text("at"), _text("note"),
    sa.UniqueConstraint("report_id", "number"),
)  # fmt: skip
PROPOSAL = _table(
    "proposal",
    _of("report"),
    _number("base"),
    _text("text"),
    _text("by"),
    _text("at"),
    _text("note"),
    _text("state"),
    _text("follows"),
)  # `follows` is the source whose release it waits for, or empty
READING = _table(
    "reading",
    _of("source"),
    _text("reader"),
    _number("version"),
    _text("at"),
    sa.UniqueConstraint("source_id", "reader"),
)
WATCH = _table(
    "watch", _of("source"), _text("name"), _text("key"), _text("definition"), _text("by"), _text("at"),
    sa.UniqueConstraint("source_id", "key"),
)  # fmt: skip
WATCH_RESULT = _table("watch_result", _of("watch"), _number("version"), _text("at"), _text("state"), _text("figures"))
AUDIT = _table(
    "audit",
    _text("at"),
    _text("who"),
    _text("what"),
    _text("area"),
    _text("subject"),
    _text("detail"),
    _text("state"),
    _text("chain"),
)  # `state` is a digest of all rows of the other tables, as they were when it was written


COUNTED = tuple(table for table in META.sorted_tables if table not in (ABOUT, AUDIT))
"""The tables whose rows are summed up, so that one that is missing, or more, is noticed."""


def weight_of(table: sa.Table, number: int, digest: str) -> int:
    """What a row adds to the sum of its table."""
    return int.from_bytes(hashlib.sha256(f"{table.name} {number} {digest}".encode()).digest())


def digest_of(table: sa.Table, values: Mapping[str, Any]) -> str:
    """The digest of a row: of its table's name and all that it says."""
    said = {name: values[name] for name in sorted(table.c.keys()) if name not in ("id", "digest")}
    return hashlib.sha256(json.dumps([table.name, said], ensure_ascii=False).encode()).hexdigest()
