"""How a catalogue is kept: rows of tables in a database, and published rows in Parquet files named by their digest.

The only module that knows either. The database is SQLite in the catalogue's folder, or the server that `catalogue.toml` names there.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import os
import re
import secrets
import shutil
import time
import tomllib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from functools import lru_cache, partial
from pathlib import Path
from typing import Any
from urllib.parse import quote
from weakref import WeakKeyDictionary

import pyarrow as pa
import sqlalchemy as sa

from oak_ledger.catalogue.tables import (
    ABOUT,
    AUDIT,
    COUNTED,
    LAYOUT,
    META,
    READING,
    SNAPSHOT,
    VERSION,
    digest_of,
    weight_of,
)
from oak_ledger.errors import UnusableInput
from oak_ledger.files import write_atomically, write_text

DATABASE, SETTINGS, DATA, HEAD = "catalogue.db", "catalogue.toml", "data", "catalogue.head"
IDENTITY = "identity"
LOCK_SECONDS = 60.0
SPARED_SECONDS = 3600.0  # a file that nothing refers to may be of a publish that is under way
_verified: dict[tuple[str, int, int, int], str] = {}


class Storage:
    """One catalogue: its database, and the folder with its files."""

    def __init__(self, folder: Path, url: str = "") -> None:
        try:
            sa.make_url(url or "sqlite://")
        except sa.exc.ArgumentError:
            raise UnusableInput("catalogue-unusable", f"The catalogue in {folder} is kept at {url!r}, which is not the address of a database.", hint='It is written postgresql://user@host/name.') from None  # fmt: skip
        self.folder, self.url = folder, url
        self.server = bool(url)
        self._pending: WeakKeyDictionary[sa.Connection, dict[str, int]] = WeakKeyDictionary()
        address = url.replace("postgresql://", "postgresql+psycopg://", 1) or _file_address(folder / DATABASE)
        self.engine = _engine(address, None if self.server else LOCK_SECONDS)

    @staticmethod
    def create(folder: Path, url: str = "") -> Storage:
        """A catalogue with empty tables; one that is there already is left as it is. `url` names a server's database, without a password."""
        if "://" in url and sa.make_url(url).password:
            message = "The address of a catalogue's server is kept in a file, and must not have a password in it."
            raise UnusableInput("password-in-url", message, hint="Leave it out, and set OAK_CATALOGUE_PASSWORD.")
        if (folder / SETTINGS).is_file() or (folder / DATABASE).is_file():
            return Storage.open(folder)
        try:
            (folder / DATA).mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise UnusableInput("not-written", f"No catalogue can be made in {folder}: {error.strerror}.") from error
        if url:
            write_text(
                folder / SETTINGS, f'# Where the tables of this catalogue are; no password.\n[storage]\nurl = "{url}"\n'
            )
        storage = Storage(folder, _with_password(url))
        if url:
            with storage.read() as connection:
                if sa.inspect(connection).has_table(ABOUT.name):
                    (folder / SETTINGS).unlink()
                    raise UnusableInput("database-taken", f"That database has the tables of a catalogue already; nothing was made in {folder}.", hint="Name another database, or use the folder of that catalogue.")  # fmt: skip
        storage.make_tables()
        return storage

    def make_tables(self) -> None:
        """The tables, where they are not there yet."""
        if not self.server:
            with self._errors(), self.engine.connect() as connection:
                connection.exec_driver_sql("PRAGMA journal_mode=WAL")
        with self.write() as connection:
            META.create_all(connection)
            if not self.rows(connection, sa.select(ABOUT)):
                self.insert(connection, ABOUT, {"name": "layout", "value": str(LAYOUT)})
                self.insert(connection, ABOUT, {"name": "head", "value": ""})
                self.insert(connection, ABOUT, {"name": IDENTITY, "value": secrets.token_hex(16)})

    @staticmethod
    def open(folder: Path) -> Storage:
        """A catalogue that is there; raises UnusableInput where it is not."""
        if (folder / SETTINGS).is_file():
            try:
                url = str(tomllib.loads((folder / SETTINGS).read_text("utf-8"))["storage"]["url"])
            except (tomllib.TOMLDecodeError, KeyError, UnicodeDecodeError):
                raise UnusableInput("catalogue-unusable", f"{folder / SETTINGS} does not say where the catalogue is.", hint='It has [storage] with url = "postgresql://…".') from None  # fmt: skip
            return Storage(folder, _with_password(url))
        if not (folder / DATABASE).is_file():
            raise UnusableInput(
                "no-catalogue",
                f"There is no catalogue in the folder {str(folder)!r}.",
                hint="Name it with --catalogue; the first publish makes one.",
            )
        return Storage(folder)

    # -- transactions ------------------------------------------------------------------------------------

    @contextmanager
    def write(self) -> Iterator[sa.Connection]:
        """A transaction that alone writes: others wait. Nothing is half-written."""
        with self._errors(), self.engine.connect() as connection:
            if self.server:
                connection.exec_driver_sql(
                    "SELECT pg_advisory_xact_lock(7305771)"
                )  # one writer at a time, as in SQLite
            else:
                connection.exec_driver_sql("BEGIN IMMEDIATE")
            yield connection
            for name, sum_up in self._sums(connection).items():
                self.put(connection, f"rows of {name}", f"{sum_up:064x}")
            connection.commit()

    @contextmanager
    def read(self) -> Iterator[sa.Connection]:
        """A transaction that sees one state, whatever is written meanwhile."""
        with self._errors(), self.engine.connect() as connection:
            if self.server:
                connection.exec_driver_sql("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
            else:
                connection.exec_driver_sql("BEGIN")
            yield connection

    @contextmanager
    def _errors(self) -> Iterator[None]:
        """What a database says, as an error that a user understands."""
        try:
            yield
        except sa.exc.OperationalError as error:
            if "locked" in str(error.orig):
                raise UnusableInput(
                    "locked",
                    f"The catalogue in {self.folder} is in use by somebody else.",
                    hint=f"Waited {LOCK_SECONDS:g} seconds without success; try again. Nothing was changed.",
                ) from None
            raise UnusableInput("catalogue-unusable", f"The catalogue in {self.folder} cannot be used: {_first_line(error)}.") from None  # fmt: skip
        except sa.exc.DatabaseError as error:
            place = "its database" if self.server else str(self.folder / DATABASE)
            raise UnusableInput("catalogue-unusable", f"{place} is not a sound catalogue: {_first_line(error)}.") from None  # fmt: skip

    # -- rows of tables ----------------------------------------------------------------------------------

    def rows(self, connection: sa.Connection, query: sa.Select[Any]) -> list[dict[str, Any]]:
        """What a query of one table gives. A row that is not what was written is refused, with its name."""
        found = [dict(row) for row in connection.execute(query).mappings()]
        table = query.columns_clause_froms[0]
        whole = [column.name for column in table.columns if column.name != "id"]
        for row in found:
            if isinstance(table, sa.Table) and all(name in row for name in whole):
                refuse_damaged(table, row, self.folder)
        return found

    def insert(self, connection: sa.Connection, table: sa.Table, values: Mapping[str, Any]) -> int:
        """A new row; its number."""
        digest = digest_of(table, values)
        result = connection.execute(sa.insert(table).values(**values, digest=digest))
        number = int((result.inserted_primary_key or (0,))[0])
        self._count(connection, table, weight_of(table, number, digest))
        return number

    def update(self, connection: sa.Connection, table: sa.Table, row: Mapping[str, Any], **changes: Any) -> None:
        """A row with some other values."""
        values = {**row, **changes}
        values["digest"] = digest_of(table, values)
        before, after = (weight_of(table, row["id"], one["digest"]) for one in (row, values))
        self._count(connection, table, after - before)
        connection.execute(
            sa.update(table).where(table.c.id == row["id"]).values({**changes, "digest": values["digest"]})
        )

    def delete(self, connection: sa.Connection, table: sa.Table, *conditions: sa.ColumnElement[bool]) -> int:
        """Remove the rows that meet conditions; how many."""
        gone = connection.execute(sa.select(table.c.id, table.c.digest).where(*conditions)).all()
        self._count(connection, table, -sum(weight_of(table, row.id, row.digest) for row in gone))
        connection.execute(sa.delete(table).where(*conditions))
        return len(gone)

    def _count(self, connection: sa.Connection, table: sa.Table, weight: int) -> None:
        """Note what a change adds to the sum of a table's rows."""
        if table in COUNTED:
            pending = self._pending.setdefault(connection, {})
            pending[table.name] = pending.get(table.name, 0) + weight

    def _sums(self, connection: sa.Connection) -> dict[str, int]:
        """The sums of the tables that this transaction changes."""
        pending = self._pending.get(connection, {})
        written = self.sums(connection) if pending else {}
        return {name: (written.get(name, 0) + weight) % (1 << 256) for name, weight in pending.items()}

    def sums(self, connection: sa.Connection) -> dict[str, int]:
        """What the rows of each table sum up to, as it was written down."""
        rows = self.rows(connection, sa.select(ABOUT).where(ABOUT.c.name.startswith("rows of ")))
        return {row["name"].removeprefix("rows of "): int(row["value"], 16) for row in rows}

    def state(self, connection: sa.Connection) -> str:
        """A digest of all rows as they are in this transaction; who has read what is not part of it."""
        sums = self.sums(connection) | self._sums(connection)
        told = [(table.name, sums.get(table.name, 0)) for table in COUNTED if table is not READING]
        return hashlib.sha256(repr(told).encode()).hexdigest()

    def moment(self, connection: sa.Connection) -> str:
        """The time of what is written, to the microsecond: always after what was written before, whatever clocks say."""
        last = connection.execute(sa.select(AUDIT.c.at).order_by(AUDIT.c.id.desc()).limit(1)).scalar() or ""
        exact = utc().isoformat(" ", "microseconds")
        if exact > last:
            return exact
        return (dt.datetime.fromisoformat(last) + dt.timedelta(microseconds=1)).isoformat(" ", "microseconds")

    def setting(self, connection: sa.Connection, name: str) -> str:
        """What the catalogue says of itself under a name; empty where it says nothing."""
        rows = self.rows(connection, sa.select(ABOUT).where(ABOUT.c.name == name))
        return str(rows[0]["value"]) if rows else ""

    def put(self, connection: sa.Connection, name: str, value: str) -> None:
        """Have the catalogue say something under a name."""
        there = self.rows(connection, sa.select(ABOUT).where(ABOUT.c.name == name))
        if there:
            self.update(connection, ABOUT, there[0], value=value)
        else:
            self.insert(connection, ABOUT, {"name": name, "value": value})

    # -- beside the database -------------------------------------------------------------------------------

    def remember(self, head: str) -> None:
        """Keep the digest of the log's last entry beside the database, so that it is noticed where that has lost entries."""
        with suppress(UnusableInput):
            write_text(self.folder / HEAD, head + "\n")

    @property
    def remembered(self) -> str:
        """The digest that was kept last; empty where none was."""
        try:
            return (self.folder / HEAD).read_text("utf-8").strip()
        except (OSError, UnicodeDecodeError):
            return ""

    def refuse_other_layout(self) -> None:
        """Raise UnusableInput where the tables are not those of this program."""
        with self.read() as connection:
            found = self.setting(connection, "layout") if sa.inspect(connection).has_table("about") else "1"
        if found != str(LAYOUT):
            when = "a later" if found.isdigit() and int(found) > LAYOUT else "an earlier"
            raise UnusableInput("catalogue-layout", f"The catalogue in {self.folder} was made by {when} version of this program.", hint="Use that one, or publish into a new catalogue.")  # fmt: skip

    def copy_to(self, other: Storage) -> None:
        """All rows and files into an empty catalogue, as they are at one moment."""
        with self.read() as connection, other.write() as target:
            META.drop_all(target)
            META.create_all(target)
            for table in META.sorted_tables:
                rows = [dict(row) for row in connection.execute(sa.select(table).order_by(table.c.id)).mappings()]
                if rows:
                    target.execute(sa.insert(table), rows)
                if rows and other.server:
                    target.exec_driver_sql(f"SELECT setval(pg_get_serial_sequence('{table.name}', 'id'), {max(row['id'] for row in rows)})")  # fmt: skip
            for digest in self.used_files(connection) - {""}:
                path = self.verified(digest, "a backup", again=True)
                write_atomically(other.path_of(digest), partial(shutil.copyfile, path))
            identity = self.setting(connection, IDENTITY)
        write_text(other.folder / DATA / IDENTITY, identity + "\n")
        other.remember(self.remembered)

    # -- files -------------------------------------------------------------------------------------------

    def keep(self, table: pa.Table) -> str:
        """Write rows to a file named by its digest, before anything refers to it; the digest. A file that is there stays."""
        import pyarrow.parquet as pq

        self.own_data()
        staged = self.folder / DATA / f"{os.getpid()}.{secrets.token_hex(4)}.new.parquet"
        try:
            write_atomically(
                staged, lambda temporary: pq.write_table(table, temporary, compression="zstd", row_group_size=1 << 17)
            )
            return self.keep_file(staged)
        finally:
            with suppress(OSError):
                staged.unlink()

    def own_data(self) -> None:
        """Raise UnusableInput where the folder of files is another catalogue's; note in it whose it is."""
        with self.read() as connection:
            own = self.setting(connection, IDENTITY)
        note = self.folder / DATA / IDENTITY
        if not note.exists():
            write_text(note, own + "\n")
        elif note.read_text("utf-8").strip() != own:
            raise UnusableInput("data-shared", f"The files in {note.parent} are those of another catalogue.", hint="Each catalogue has a folder, and a database, of its own.")  # fmt: skip

    def keep_file(self, staged: Path) -> str:
        """Put a file in its place, which is named by its digest; the digest."""
        digest = _digest(staged)
        staged.replace(self.path_of(digest))
        return digest

    def path_of(self, digest: str) -> Path:
        """Where a file lies."""
        return self.folder / DATA / f"{digest}.parquet"

    def verified(self, digest: str, what: str, *, again: bool = False) -> Path:
        """A file whose bytes are what was written; looked at once in a process, unless `again`. Raises UnusableInput where they are not, and names what it is of."""
        path = self.path_of(digest)
        try:
            state = path.stat()
            stamp = (str(path), state.st_ino, state.st_size, state.st_mtime_ns)
            if again or _verified.get(stamp) != digest:
                if _digest(path) != digest:
                    raise UnusableInput("rows-damaged", f"The stored rows of {what} are damaged: {path} is not what was written.", hint="Restore the file from a backup, or publish again; oak catalogue verify lists all damage.")  # fmt: skip
                _verified[stamp] = digest
        except FileNotFoundError:
            raise UnusableInput("rows-missing", f"The stored rows of {what} are missing: {path} is not there.", hint="Restore the file from a backup, or publish again.") from None  # fmt: skip
        return path

    def used_files(self, connection: sa.Connection) -> set[str]:
        """The digests of all files that something refers to."""
        found = {one for row in connection.execute(sa.select(VERSION.c.data, VERSION.c.before)) for one in row}
        return found | {*connection.scalars(sa.select(SNAPSHOT.c.data))}

    def clear(self, connection: sa.Connection) -> list[Path]:
        """Remove files that nothing refers to; which they were."""
        note = self.folder / DATA / IDENTITY
        if not note.exists() or note.read_text("utf-8").strip() != self.setting(connection, IDENTITY):
            return []  # it is not known whose files they are
        gone = self.stray_files(self.used_files(connection))
        for path in gone:
            path.unlink(missing_ok=True)
        return gone

    def stray_files(self, used: set[str]) -> list[Path]:
        """Files of this catalogue's making that nothing refers to, and that no publish under way can be about to refer to."""
        edge = time.time() - SPARED_SECONDS
        data = self.folder / DATA
        there = [
            path
            for path in (data.iterdir() if data.is_dir() and not data.is_symlink() else ())
            if _OWN.fullmatch(path.name) and path.is_file() and not path.is_symlink() and path.stem not in used
        ]
        return [path for path in there if path.stat().st_mtime < edge]


@lru_cache(64)
def _engine(address: str, seconds: float | None) -> sa.Engine:
    """What makes connections to a database, without keeping any: it is kept for the statements that it has compiled."""
    connect = {} if seconds is None else {"timeout": seconds}
    return sa.create_engine(address, poolclass=sa.NullPool, connect_args=connect)


def _file_address(path: Path) -> str:
    """The address of a database in a file; of one that cannot be written, for reading only."""
    if not path.exists() or (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
        return f"sqlite:///{path.absolute()}"
    journal = path.with_name(path.name + "-wal")
    still = (
        "" if journal.exists() and journal.stat().st_size else "&immutable=1"
    )  # then nobody writes, and no lock is to be made
    return f"sqlite:///file:{quote(str(path.absolute()))}?mode=ro{still}&uri=true"


def refuse_damaged(table: sa.Table, row: Mapping[str, Any], folder: Path) -> None:
    """Raise UnusableInput where a row is not what was written."""
    if row["digest"] != digest_of(table, row):
        what = next((str(row[key]) for key in ("name", "number", "who", "at") if row.get(key)), str(row.get("id", "")))
        raise UnusableInput("catalogue-damaged", f"The catalogue in {folder} is damaged: entry {what!r} of {table.name} is not what was written.", hint="Restore it from a backup; oak catalogue verify lists all damage.")  # fmt: skip


_OWN = re.compile(r"[0-9a-f]{64}\.parquet|[0-9]+\.[0-9a-f]{8}\.new\.parquet")
"""How a catalogue names its files: by the digest of what is in them, or while they are written."""


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _with_password(url: str) -> str:
    """A server's address with the password of the variable OAK_CATALOGUE_PASSWORD, where there is one."""
    secret = os.environ.get("OAK_CATALOGUE_PASSWORD", "")
    if not secret or "://" not in url:
        return url
    made = sa.make_url(url)
    return made.set(password=secret).render_as_string(hide_password=False)


def _first_line(error: sa.exc.DBAPIError) -> str:
    return str(error.orig).strip().partition("\n")[0].rstrip(".")


def utc() -> dt.datetime:
    """The time now, in UTC."""
    return dt.datetime.now(dt.UTC).replace(tzinfo=None)


def now() -> str:
    """The time in UTC, to the second, as text: it is compared as such, wherever a catalogue is used from."""
    return utc().isoformat(" ", "seconds")
