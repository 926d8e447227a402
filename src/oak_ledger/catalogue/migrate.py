"""A catalogue of an earlier layout as one of today: in one transaction, so that a kill leaves one or the other."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from oak_ledger.catalogue.access import Access, Person
from oak_ledger.catalogue.rules import ANY, EVERYONE
from oak_ledger.catalogue.storage import DATA, Storage
from oak_ledger.catalogue.tables import ABOUT, AREA, GRANT, LAYOUT, META, SIGNATURE, SOURCE, VERSION
from oak_ledger.errors import UnusableInput

GENERAL = "general"


def migrated(storage: Storage, person: str) -> Storage:
    """A storage of today's layout. Raises UnusableInput for a catalogue of a later one."""
    layout = _layout(storage)
    if layout > LAYOUT:
        raise UnusableInput("catalogue-later", f"The catalogue in {storage.folder} was written by a later version of this program.", hint="Use that one.")  # fmt: skip
    if layout == 1:
        _from_first(storage, person)
    return storage


def _layout(storage: Storage) -> int:
    with storage.read() as connection:
        tables = {*sa.inspect(connection).get_table_names()}
        if "about" in tables:
            found = storage.setting(connection, "layout")
            if not found.isdigit():
                raise UnusableInput(
                    "catalogue-damaged", f"The catalogue in {storage.folder} does not say which layout it has."
                )
            return int(found)
        if {"source", "version"} <= tables:
            return 1
    raise UnusableInput("catalogue-unusable", f"{storage.folder} is not a sound catalogue: it has no tables of one.")


def _from_first(storage: Storage, person: str) -> None:
    """The first layout had sources and versions only, and no rights: whoever could reach it could do everything, and still may."""
    old_files: list[Path] = []
    access = Access(storage, Person(person))
    with storage.write() as connection:
        tables = {*sa.inspect(connection).get_table_names()}
        if "about" in tables:
            return  # somebody else was quicker
        sources = [dict(row) for row in connection.exec_driver_sql("SELECT * FROM source").mappings()]
        versions = [dict(row) for row in connection.exec_driver_sql("SELECT * FROM version ORDER BY id").mappings()]
        for name in ("version", "source"):
            connection.exec_driver_sql(f"DROP TABLE {name}")
        META.create_all(connection)
        storage.insert(connection, ABOUT, {"name": "layout", "value": str(LAYOUT)})
        storage.insert(connection, ABOUT, {"name": "head", "value": ""})
        area = storage.insert(connection, AREA, {"name": GENERAL, "key": GENERAL})
        for right in ("read", "edit", "release"):
            storage.insert(connection, GRANT, {"area": GENERAL, "who": f"@{EVERYONE}", "allowed": right})
        storage.insert(connection, GRANT, {"area": ANY, "who": person, "allowed": "administer"})
        numbers = {}
        for row in sources:
            values = {"area_id": area, "name": row["name"], "key": row["key"], "owner": row["owner"]}
            numbers[row["id"]] = storage.insert(connection, SOURCE, values)
        for row in versions:
            old = storage.folder / row["data"]
            before = old.with_suffix(".before.parquet")
            old_files += [old, before]
            version = storage.insert(
                connection, VERSION, _version(storage, row, numbers[row["source_id"]], old, before)
            )
            if row["signed_by"]:
                signed = {"version_id": version, "by": row["signed_by"], "at": row["signed_at"], "note": ""}
                storage.insert(connection, SIGNATURE, signed)
        access.note(connection, "migrate", "", "catalogue", f"{len(versions)} versions of the first layout")
    for path in old_files:
        path.unlink(missing_ok=True)


def _version(storage: Storage, row: dict[str, Any], source: int, data: Path, before: Path) -> dict[str, Any]:
    kept = ("number", "stage", "definition", "rows", "warnings", "note", "made_by", "made_at")
    return {
        **{name: row[name] for name in kept}, "source_id": source, "data": _file(storage, data),
        "before": _file(storage, before) if before.exists() else "", "fingerprints": row["fingerprints"],
        "findings": json.dumps({"warnings": row["warnings"]} if row["warnings"] else {}), "base": 0, "origin": "{}",
        "replaced_by": "", "overruled": "",
    }  # fmt: skip


def _file(storage: Storage, path: Path) -> str:
    """A file's rows under their digest, beside the old one, which goes only when all is written."""
    if not path.is_file():
        raise UnusableInput("rows-missing", f"The catalogue cannot be brought to today's layout: {path} is not there.", hint="Restore it from a backup; nothing was changed.")  # fmt: skip
    staged = storage.folder / DATA / f"{os.getpid()}.{path.name}.new.parquet"
    shutil.copy2(path, staged)
    return storage.keep_file(staged)
