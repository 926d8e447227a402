"""The shared place that sources are published to: drafts, releases, and what reports read."""

from __future__ import annotations

import dataclasses
import getpass
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.catalogue.storage import Storage, baseline_path, now
from oak_ledger.errors import Finding, OakError
from oak_ledger.formula import Grain
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.insight.fingerprint import Fingerprint, arrived_null, fingerprint
from oak_ledger.origin import OriginReader, ParquetReader
from oak_ledger.source import Published, Source
from oak_ledger.source.definition import DEFINITION
from oak_ledger.source.document import parse_document


def whoami() -> str:
    """Who is working: the environment's OAK_USER, else the name one is logged in by."""
    return os.environ.get("OAK_USER") or getpass.getuser()


@dataclass(frozen=True, slots=True)
class Version:
    """One published version of a source. `stage` is draft, released or retired; times are text, to the second."""

    source: str
    number: int
    stage: str
    rows: int
    warnings: int
    note: str
    made_by: str
    made_at: str
    signed_by: str
    signed_at: str
    definition: str
    data: str
    fingerprints: Mapping[str, Fingerprint]

    def as_json(self) -> dict[str, Any]:
        """Plain values, without the definition and the fingerprints."""
        kept = ("stage", "rows", "warnings", "note", "made_by", "made_at", "signed_by", "signed_at")
        return {"source": self.source, "version": self.number, **{name: getattr(self, name) for name in kept}}


@dataclass(frozen=True, slots=True)
class Prepared:
    """A source ready to be published: its rows, a fingerprint per field, and what its check found."""

    source: Source
    rows: pa.Table
    fingerprints: Mapping[str, Fingerprint]
    findings: tuple[Finding, ...]


def _all_rows(feed: OriginReader) -> pa.Table:
    return pa.Table.from_batches(feed.batches(list(feed.columns())))


class Catalogue:
    """A catalogue in a folder: `catalogue.db` and the published rows under `data/`."""

    def __init__(self, storage: Storage) -> None:
        self._storage = storage

    def __repr__(self) -> str:
        return f"Catalogue of {', '.join(self.sources()) or 'nothing yet'}\n  {self.folder}"

    @staticmethod
    def open(folder: str | Path, *, create: bool = False) -> Catalogue:
        """Open the catalogue in a folder; with `create`, make it where there is none. Raises UnusableInput."""
        path = Path(folder)
        return Catalogue(Storage.create(path) if create else Storage.open(path))

    @property
    def folder(self) -> Path:
        """Where it is."""
        return self._storage.folder

    def sources(self) -> list[str]:
        """The names of its sources."""
        return self._storage.source_names()

    def versions(self, name: str) -> list[Version]:
        """All versions of a source, oldest first. Raises OakError for a name that is not there."""
        rows = self._storage.versions(name)
        if not rows:
            names = self.sources()
            hint = nearest_hint(name, names, str) or (
                f"It has {', '.join(names)}." if names else "Nothing is published yet."
            )
            raise OakError("unknown-source", f"The catalogue in {self.folder} has no source {name!r}.", hint=hint)
        return [self._version(name, row) for row in rows]

    @staticmethod
    def _version(name: str, row: Mapping[str, Any]) -> Version:
        prints = {field: Fingerprint.from_json(values) for field, values in row["fingerprints"].items()}
        kept = {key: row[key] for key in Version.__slots__ if key in row and key != "fingerprints"}
        return Version(source=name, fingerprints=prints, **kept)

    def version(self, name: str, number: int | None = None, *, drafts: bool = False) -> Version:
        """A version by number; without one the released version, or with `drafts` the newest of all."""
        versions = self.versions(name)
        if number is not None:
            found = next((one for one in versions if one.number == number), None)
            if found is None:
                raise OakError(
                    "unknown-version", f"{name} has no version {number}.", hint=f"It has 1 to {versions[-1].number}."
                )
            return found
        if drafts:
            return versions[-1]
        released = next((one for one in versions if one.stage == "released"), None)
        if released is None:
            raise OakError(
                "not-released",
                f"No version of {name} is released yet.",
                hint="Release one (oak release), or ask for the draft: --draft.",
            )
        return released

    def source(self, name: str, number: int | None = None, *, drafts: bool = False) -> Source:
        """A published source, ready for questions; what `version` finds. It cannot be changed, only read."""
        version = self.version(name, number, drafts=drafts)
        document = parse_document(version.definition, DEFINITION, f"{name}, version {version.number}")
        published = Published(version.number, version.stage, version.made_by, version.made_at)
        data = self.folder / version.data
        earlier = baseline_path(data)
        baseline = ParquetReader(earlier) if earlier.exists() else None
        return Source(document, self.folder, feed=ParquetReader(data), published=published, baseline=baseline)

    def released(self, name: str) -> Version | None:
        """The released version of a source, or None where there is none."""
        if not self._storage.versions(name):
            return None
        return next((one for one in self.versions(name) if one.stage == "released"), None)

    @staticmethod
    def prepare(source: Source, findings: list[Finding] | None = None) -> Prepared:
        """What `publish` would store of a source: its rows with every row value computed, and their fingerprints.

        `findings` are those of `source.check()` where they are known already. Raises OakError where a field is broken.
        """
        found = source.check() if findings is None else findings
        errors = [one for one in found if one.severity == "error"]
        if errors:
            raise OakError.of(
                [
                    Finding(
                        "not-publishable",
                        f"{source.name} has {len(errors)} error{'s' * (len(errors) > 1)}; nothing was published.",
                        hint="Mend them first: oak check says what and where.",
                    ),
                    *errors,
                ]
            )
        names = [state.name for state in source.fields if state.grain == Grain.ROW and not state.broken]
        names += [state.name for state in source.fields if state.grain == Grain.CONSTANT and not state.broken]
        table = source.rows([quote_identifier(name) for name in names]).table
        prints = {name: fingerprint(table.column(name)) for name in names}
        for name, share in arrived_null(source).items():
            prints[name] = dataclasses.replace(prints[name], arrived_null=share)
        return Prepared(source, table, prints, tuple(found))

    def publish(self, source: Source | Prepared, *, note: str = "") -> Version:
        """Publish a source, or what was prepared of one, as a draft. Raises OakError where a field is broken."""
        prepared = source if isinstance(source, Prepared) else self.prepare(source)
        source = prepared.source
        number = self._storage.add(
            source.name,
            source.about.owner,
            prepared.rows,
            {
                "stage": "draft",
                "definition": source.document.text,
                "fingerprints": {name: one.as_json() for name, one in prepared.fingerprints.items()},
                "note": note,
                "made_by": whoami(),
                "warnings": sum(one.severity == "warning" for one in prepared.findings),
                "made_at": now(),
                "signed_by": "",
                "signed_at": "",
            },
            None if source.baseline_feed is None else _all_rows(source.baseline_feed),
        )
        return self.version(source.name, number)

    def release(self, name: str, number: int | None = None, *, signed_by: str = "") -> Version:
        """Release a version (the newest without a number): it is what all reports get. The one before is retired."""
        version = self.version(name, number, drafts=True)
        if version.stage == "released":
            raise OakError("released-already", f"Version {version.number} of {name} is released already.")
        self._storage.release(name, version.number, signed_by or whoami())
        return self.version(name, version.number)
