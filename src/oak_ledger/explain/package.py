"""A Data Package descriptor: an open standard's description of a file of rows, for programs that know neither us nor the file."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import re
from collections.abc import Collection, Sequence
from pathlib import Path
from typing import Any

from oak_ledger.files import write_text
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.source.export import WriteResult
from oak_ledger.source.source import Source
from oak_ledger.source.whole import unfiltered

NAME = "datapackage.json"
_TYPES = {
    "text": "string", "integer": "integer", "decimal": "number", "number": "number", "boolean": "boolean", "date": "date", "timestamp": "datetime",
}  # fmt: skip
_MEDIA = {
    ".csv": "text/csv", ".parquet": "application/vnd.apache.parquet", ".arrow": "application/vnd.apache.arrow.file", ".feather": "application/vnd.apache.arrow.file",
    ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}  # fmt: skip


def describe(source: Source, written: WriteResult, fields: Sequence[str]) -> Path:
    """Write the descriptor of a file beside it, whole or not at all. `fields` are the columns of the file."""
    path, about = written.path, source.about
    ending = path.suffix.casefold()
    resource: dict[str, Any] = {
        "name": _name(path.stem), "path": path.name, "format": ending.lstrip("."), "mediatype": _MEDIA[ending],
        "bytes": path.stat().st_size, "hash": f"sha256:{_digest(path)}", "schema": _schema(source, fields, _with_empty_texts(source, fields) if ending == ".csv" else ()),
    }  # fmt: skip
    if ending == ".csv":
        resource |= {
            "encoding": "utf-8",
            "dialect": {"delimiter": ",", "quoteChar": '"', "doubleQuote": True, "header": True},
        }
    said: dict[str, Any] = {
        "name": _name(about.name),
        "title": about.name,
        "created": dt.datetime.now(dt.UTC).isoformat(timespec="seconds").replace("+00:00", "Z"),
    }
    if about.description:
        said["description"] = about.description
    if source.published is not None:
        said["version"] = str(source.published.number)
        said["description"] = " ".join(filter(None, (about.description, f"Of {source.published}.")))
    if about.owner:
        said["contributors"] = [{"title": about.owner}]
    if written.faults:
        resource["notComputed"] = [fault.sentence() for fault in written.faults]
    target = path.with_name(NAME)
    write_text(target, json.dumps({**said, "resources": [resource]}, indent=2, ensure_ascii=False) + "\n")
    return target


def _with_empty_texts(source: Source, fields: Sequence[str]) -> set[str]:
    """The columns in which a text may be empty, which is not the same as no value: nothing in them is read as null."""
    texts = [name for name in fields if (state := source.compiled.states.get(name.casefold())) is not None and state.type is not None and state.type.kind == "text"]  # fmt: skip
    counts = [(name, f"COUNT(*) FILTER (WHERE {quote_identifier(name)} = '')") for name in texts]
    found = unfiltered(source).tally(show=counts).to_dicts()[0] if texts else {}
    return {name for name in texts if found[name]}


def _schema(source: Source, fields: Sequence[str], empty: Collection[str]) -> dict[str, Any]:
    made = []
    for name in fields:
        state = source.compiled.states.get(name.casefold())
        kind = state.type.kind if state is not None and state.type is not None else "text"
        entry: dict[str, Any] = {"name": name, "type": _TYPES.get(kind, "string")}
        if kind == "timestamp":
            entry["format"] = "any"
        description = getattr(state.spec, "description", "") if state is not None else ""
        entry |= {"missingValues": []} if name in empty else {}
        made.append(entry | ({"description": description} if description else {}))
    key = [own for own in source.about.key or () if own in fields]
    whole = bool(key) and len(key) == len(source.about.key or ())
    return {"fields": made, "missingValues": [""]} | ({"primaryKey": key} if whole else {})


def _name(text: str) -> str:
    """A name as the standard wants it: small letters, digits, and . _ - between."""
    return re.sub(r"[^a-z0-9._-]+", "-", text.casefold()).strip("-") or "rows"


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
