"""How a catalogue is kept: tables in a database, rows in Parquet files beside it. The only module that knows either."""

from __future__ import annotations

import datetime as dt
import json
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa
import sqlalchemy as sa

from oak_ledger.errors import UnusableInput
from oak_ledger.files import write_atomically

DATABASE = "catalogue.db"
DATA = "data"
LOCK_SECONDS = 5.0

_meta = sa.MetaData()
_sources = sa.Table(
    "source",
    _meta,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("name", sa.Text, nullable=False),
    sa.Column("key", sa.Text, nullable=False, unique=True),
    sa.Column("owner", sa.Text, nullable=False),
)
_versions = sa.Table(
    "version",
    _meta,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("source_id", sa.ForeignKey("source.id"), nullable=False),
    sa.Column("number", sa.Integer, nullable=False),
    sa.Column("stage", sa.Text, nullable=False),
    sa.Column("definition", sa.Text, nullable=False),
    sa.Column("data", sa.Text, nullable=False),
    sa.Column("rows", sa.Integer, nullable=False),
    sa.Column("fingerprints", sa.Text, nullable=False),
    sa.Column("warnings", sa.Integer, nullable=False),
    sa.Column("note", sa.Text, nullable=False),
    sa.Column("made_by", sa.Text, nullable=False),
    sa.Column("made_at", sa.Text, nullable=False),
    sa.Column("signed_by", sa.Text, nullable=False),
    sa.Column("signed_at", sa.Text, nullable=False),
    sa.UniqueConstraint("source_id", "number"),
)


class Storage:
    """One catalogue folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        url = f"sqlite:///{folder / DATABASE}"
        self.engine = sa.create_engine(url, poolclass=sa.NullPool, connect_args={"timeout": LOCK_SECONDS})

    @staticmethod
    def create(folder: Path) -> Storage:
        """A catalogue folder with empty tables; one that is there already is left as it is."""
        try:
            (folder / DATA).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise UnusableInput("not-written", f"No catalogue can be made in {folder}: {error.strerror}.") from error
        made = Storage(folder)
        with made.transaction() as connection:
            _meta.create_all(connection)
        return made

    @staticmethod
    def open(folder: Path) -> Storage:
        """A catalogue that is there; raises UnusableInput where it is not."""
        if not (folder / DATABASE).is_file():
            raise UnusableInput(
                "no-catalogue",
                f"There is no catalogue in the folder {str(folder)!r}.",
                hint="Name it with --catalogue; the first publish makes one.",
            )
        return Storage(folder)

    @contextmanager
    def transaction(self) -> Iterator[sa.Connection]:
        """A transaction; a locked or damaged database gives a clear error, and nothing is half-written."""
        try:
            with self.engine.connect() as connection:
                connection.exec_driver_sql("BEGIN IMMEDIATE")
                yield connection
                connection.commit()
        except sa.exc.OperationalError as error:
            if "locked" in str(error.orig):
                raise UnusableInput(
                    "locked",
                    f"The catalogue in {self.folder} is in use by somebody else.",
                    hint=f"Waited {LOCK_SECONDS:g} seconds without success; try again. Nothing was changed.",
                ) from None
            raise UnusableInput(
                "catalogue-unusable", f"The catalogue in {self.folder} cannot be used: {error.orig}."
            ) from None
        except sa.exc.DatabaseError as error:
            raise UnusableInput(
                "catalogue-unusable", f"{self.folder / DATABASE} is not a catalogue: {error.orig}."
            ) from None

    # -- reading -----------------------------------------------------------------------------------------

    def source_names(self) -> list[str]:
        """The names of all sources."""
        with self.transaction() as connection:
            return list(connection.scalars(sa.select(_sources.c.name).order_by(_sources.c.key)))

    def versions(self, name: str) -> list[dict[str, Any]]:
        """All versions of a source as dictionaries, oldest first; empty where the source is not known."""
        join = sa.select(_versions).join(_sources).where(_sources.c.key == name.casefold()).order_by(_versions.c.number)
        with self.transaction() as connection:
            rows = [dict(row) for row in connection.execute(join).mappings()]
        for row in rows:
            row["fingerprints"] = json.loads(row["fingerprints"])
        return rows

    # -- writing -----------------------------------------------------------------------------------------

    def add(
        self, name: str, owner: str, table: pa.Table, values: dict[str, Any], before: pa.Table | None = None
    ) -> int:
        """A new version with its rows (and those of its baseline); its number. The rows are on the disk before the version is known."""
        slug = re.sub(r"\W+", "_", name.casefold()).strip("_") or "source"
        staged = self.folder / DATA / f"{slug}.{os.getpid()}.new.parquet"
        _write_parquet(staged, table)
        earlier = baseline_path(staged)
        if before is not None:
            _write_parquet(earlier, before)
        final: Path | None = None
        try:
            with self.transaction() as connection:
                source = self._source(connection, name, owner)
                last = connection.scalar(
                    sa.select(sa.func.max(_versions.c.number)).where(_versions.c.source_id == source)
                )
                number = (last or 0) + 1
                final = self.folder / DATA / f"{slug}_{number:04d}.parquet"
                row = {
                    **values,
                    "fingerprints": json.dumps(values["fingerprints"]),
                    "source_id": source,
                    "number": number,
                    "data": f"{DATA}/{final.name}",
                    "rows": table.num_rows,
                }
                connection.execute(sa.insert(_versions).values(**row))
                if before is not None:
                    earlier.replace(baseline_path(final))
                staged.replace(final)
        except BaseException:
            staged.unlink(missing_ok=True)
            earlier.unlink(missing_ok=True)
            raise
        return number

    def _source(self, connection: sa.Connection, name: str, owner: str) -> int:
        found = connection.scalar(sa.select(_sources.c.id).where(_sources.c.key == name.casefold()))
        if found is None:
            made = connection.execute(sa.insert(_sources).values(name=name, key=name.casefold(), owner=owner))
            return int((made.inserted_primary_key or (0,))[0])
        connection.execute(sa.update(_sources).where(_sources.c.id == found).values(owner=owner))
        return int(found)

    def release(self, name: str, number: int, signed_by: str) -> None:
        """Make a version the released one; the one that was is retired."""
        with self.transaction() as connection:
            source = sa.select(_sources.c.id).where(_sources.c.key == name.casefold()).scalar_subquery()
            mine = _versions.c.source_id == source
            connection.execute(
                sa.update(_versions).where(mine, _versions.c.stage == "released").values(stage="retired")
            )
            signed = {"stage": "released", "signed_by": signed_by, "signed_at": now()}
            connection.execute(sa.update(_versions).where(mine, _versions.c.number == number).values(**signed))


def baseline_path(data: Path) -> Path:
    """Where the rows of a version's baseline lie: beside its own."""
    return data.with_suffix(".before.parquet")


def now() -> str:
    """The time, to the second, as text."""
    return dt.datetime.now().isoformat(" ", "seconds")


def _write_parquet(path: Path, table: pa.Table) -> None:
    import pyarrow.parquet as pq

    write_atomically(
        path, lambda temporary: pq.write_table(table, temporary, compression="zstd", row_group_size=1 << 17)
    )
