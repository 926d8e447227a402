"""Published versions: what one says of itself, and what is prepared of a source before it becomes one."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePath
from typing import Any

import pyarrow as pa

from oak_ledger.codes import TOPICS
from oak_ledger.definition.document import Document
from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula import Grain
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.insight.fingerprint import Fingerprint, arrived_null, fingerprint
from oak_ledger.origin import OriginReader
from oak_ledger.origin.spec import PartSpec
from oak_ledger.origin.stamps import origin_paths
from oak_ledger.source import Source

MAX_FILES_NAMED = 100


@dataclass(frozen=True, slots=True)
class Signature:
    """Somebody who vouches for a version."""

    by: str
    at: str
    note: str


@dataclass(frozen=True, slots=True)
class Version:
    """One published version of a source. `stage` is draft, released or retired; times are text, to the second.

    `base` is the version that it was made from (0: none), `origin` what its rows were read from, `findings` what the check said, by code;
    `overruled` is why it was released although errors stood, `replaced_by` what readers use instead of a retired one.
    """

    source: str
    area: str
    number: int
    stage: str
    rows: int
    warnings: int
    note: str
    base: int
    made_by: str
    made_at: str
    signatures: tuple[Signature, ...]
    viewers: tuple[str, ...]
    overruled: str
    replaced_by: str
    findings: Mapping[str, int]
    origin: Mapping[str, Any]
    definition: str
    data: str
    fingerprints: Mapping[str, Fingerprint]
    told: str = ""
    """What whoever has just published it should know."""

    @property
    def signed_by(self) -> str:
        """Everybody who vouches for it."""
        return ", ".join(dict.fromkeys(signature.by for signature in self.signatures))

    @property
    def checks_passed(self) -> int:
        """How many of the kinds of warnings and errors that a check may give were not found."""
        return sum(code not in self.findings for code in TOPICS["Warnings"])

    def as_json(self) -> dict[str, Any]:
        """Plain values, without the definition and the fingerprints."""
        kept = ("area", "stage", "rows", "warnings", "note", "base", "made_by", "made_at", "overruled", "replaced_by")
        return {
            "source": self.source,
            "version": self.number,
            **{name: getattr(self, name) for name in kept},
            "signatures": [dataclasses.asdict(signature) for signature in self.signatures],
            "viewers": [*self.viewers],
            "checks_passed": self.checks_passed,
            "findings": dict(self.findings),
        }


def version_of(row: Mapping[str, Any], source: str, area: str, signatures: Sequence[Mapping[str, Any]], viewers: Sequence[Mapping[str, Any]]) -> Version:  # fmt: skip
    """A version from its row and those that belong to it."""
    plain: dict[str, Any] = {name: row[name] for name in ("number", "stage", "rows", "warnings", "note", "base", "made_by", "made_at", "overruled", "replaced_by", "definition", "data")}  # fmt: skip
    plain["made_at"] = plain["made_at"][:19]
    prints = {field: Fingerprint.from_json(values) for field, values in json.loads(row["fingerprints"]).items()}
    signed = tuple(Signature(signature["by"], signature["at"], signature["note"]) for signature in signatures)
    return Version(
        source=source, area=area, signatures=signed, viewers=tuple(sorted(viewer["who"] for viewer in viewers)),
        findings=json.loads(row["findings"]), origin=json.loads(row["origin"]), fingerprints=prints, **plain,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Prepared:
    """A source ready to be published: its rows, a fingerprint per field, and what its check found."""

    source: Source
    rows: pa.Table
    fingerprints: Mapping[str, Fingerprint]
    findings: tuple[Finding, ...]

    @property
    def counts(self) -> dict[str, int]:
        """How often each code was found, notes left out."""
        found: dict[str, int] = {}
        for finding in self.findings:
            if finding.severity != "note":
                found[finding.code] = found.get(finding.code, 0) + 1
        return found

    @property
    def errors(self) -> int:
        """How many errors were found."""
        return sum(finding.severity == "error" for finding in self.findings)


def prepare(source: Source, findings: list[Finding] | None = None, *, broken: bool = False) -> Prepared:
    """What `publish` would store of a source: its rows with every row value computed, and their fingerprints.

    `findings` are those of `source.check()` where they are known already. Raises OakError where a field is broken, unless it may be.
    """
    found = source.check() if findings is None else findings
    errors = [finding for finding in found if finding.severity == "error"]
    if errors and not broken:
        message = f"{source.name} has {len(errors)} error{'s' * (len(errors) > 1)}; nothing was published."
        raise OakError.of(
            [Finding("not-publishable", message, hint="Mend them first: oak check says what and where."), *errors]
        )
    names = [state.name for state in source.fields if state.grain == Grain.ROW and not state.broken]
    names += [state.name for state in source.fields if state.grain == Grain.CONSTANT and not state.broken]
    table = source.rows([quote_identifier(name) for name in names]).table
    prints = {name: fingerprint(table.column(name)) for name in names}
    for name, share in arrived_null(source).items():
        if name in prints:
            prints[name] = dataclasses.replace(prints[name], arrived_null=share)
    return Prepared(source, table, prints, tuple(found))


def public_definition(document: Document) -> Document:
    """A definition as it is published: without paths of a machine, and without what only a working copy needs."""
    for block in (*document.all("origin"), *document.all("part")):
        path = str(block.values.get("path") or "")
        if path and (PurePath(path).is_absolute() or path[1:3] in (":\\", ":/") or path.startswith("~")):
            document = document.replaced(block, {"path": PurePath(path.replace("\\", "/")).name})
    for block in document.all("source"):
        if "base" in block.values:
            document = document.replaced(block, {"base": None})
    return document


def origin_identity(source: Source) -> dict[str, Any]:
    """What the rows were read from: kind, and the files by name with size and time; no folder."""
    found: dict[str, Any] = {"kind": source.origin.kind}
    if source.origin.table or source.origin.query:
        found["of"] = source.origin.table or "a query"
    paths = (
        origin_paths(source.origin, source.folder, source.document.models("part", PartSpec))
        if source.feed is None
        else None
    )
    states = [(path.name, path.stat()) for path in paths or () if path.is_file()]
    found["files"] = [
        {"name": name, "bytes": state.st_size, "changed": int(state.st_mtime)}
        for name, state in states[:MAX_FILES_NAMED]
    ]
    found["count"] = len(states)
    return found


def all_rows(feed: OriginReader) -> pa.Table:
    """Everything that a reader reads."""
    return pa.Table.from_batches(feed.batches(list(feed.columns())))


def base_moved(name: str, base: int, newer: Sequence[Mapping[str, Any]]) -> OakError:
    """The error of a publish or a release whose base is not the newest version any more."""
    last = newer[-1]
    message = f"Version {last['number']} by {last['made_by']} was published since version {base}, from which this one was made."
    hint = f"oak versions compare {name!r} {base} {last['number']} shows what it changed; oak publish --onto puts your changes onto it."
    return OakError("base-moved", message, place=Place(f"{name}, version {base}"), hint=hint)


def not_made_from(name: str, there: Mapping[str, Any]) -> OakError:
    """The error of a publish of a new source whose name another one has."""
    message = f"There is a source {name!r} already, version {there['number']} by {there['made_by']}, and this working copy was not made from it."
    hint = f"Give yours another name; or if it is meant to follow that one: oak publish --base {there['number']}."
    return OakError("source-taken", message, place=Place(name), hint=hint)
