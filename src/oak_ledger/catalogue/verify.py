"""Everything that is damaged in a catalogue, in words."""

from __future__ import annotations

import sqlalchemy as sa

from oak_ledger.catalogue.people import People
from oak_ledger.catalogue.storage import Storage, refuse_damaged
from oak_ledger.catalogue.tables import AUDIT, COUNTED, META, SNAPSHOT, SOURCE, VERSION, weight_of
from oak_ledger.errors import OakError


def verify(storage: Storage, people: People, head: str = "") -> list[str]:
    """Check every row, every file and the audit log; empty where all is sound. Raises UnusableInput where the database cannot be read."""
    wrong: list[str] = []
    with storage.read() as connection:
        if not storage.server:
            wrong += [str(one) for (one,) in connection.exec_driver_sql("PRAGMA integrity_check") if one != "ok"]
            wrong += [
                f"an entry of {row[0]} refers to one of {row[2]} that is not there"
                for row in connection.exec_driver_sql("PRAGMA foreign_key_check")
            ]
        for table in COUNTED:
            rows = connection.execute(sa.select(table.c.id, table.c.digest)).all()
            found = sum(weight_of(table, row.id, row.digest) for row in rows) % (1 << 256)
            if found != storage.sums(connection).get(table.name, 0):
                wrong.append(
                    f"the entries of {table.name} are not those that were written: some are missing, more or exchanged"
                )
        last = connection.execute(sa.select(AUDIT.c.state).order_by(AUDIT.c.id.desc()).limit(1)).scalar()
        if last is not None and last != storage.state(connection):
            wrong.append("the entries are not those of which the last entry of the audit log speaks")
        for table in META.sorted_tables:
            for row in connection.execute(sa.select(table)).mappings():
                try:
                    refuse_damaged(table, dict(row), storage.folder)
                except OakError as error:
                    wrong.append(error.findings[0].message)
        names = {row.id: row.name for row in connection.execute(sa.select(SOURCE))}
        files = [
            (row.data, f"{names.get(row.source_id, '?')}, version {row.number}")
            for row in connection.execute(sa.select(VERSION))
        ]
        files += [
            (row.before, f"the baseline of {names.get(row.source_id, '?')}, version {row.number}")
            for row in connection.execute(sa.select(VERSION))
        ]
        files += [
            (row.data, f"the snapshot of {names.get(row.source_id, '?')} of {row.at}")
            for row in connection.execute(sa.select(SNAPSHOT))
        ]
    for digest, what in files:
        if digest:
            try:
                storage.verified(digest, what, again=True)
            except OakError as error:
                wrong.append(error.findings[0].message)
    return wrong + people.broken_chain(head)
