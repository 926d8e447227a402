"""What is to be said of a source beside its released version: what its columns may be now, and how its rows differ. Check and publish say the same."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from oak_ledger.definition.document import Document
from oak_ledger.errors import Finding, Place
from oak_ledger.insight.fingerprint import Fingerprint
from oak_ledger.reference.candidates import Candidate, candidates
from oak_ledger.reference.drift import drift
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Since:
    """Columns that fields may use instead of their own, best first, and findings about values and rows."""

    offered: Mapping[str, Sequence[Candidate]]
    findings: tuple[Finding, ...]

    @property
    def moved(self) -> list[Candidate]:
        """The fields whose column is there and holds something else."""
        return [listed[0] for listed in self.offered.values() if listed and listed[0].moved]

    @property
    def reread(self) -> list[Candidate]:
        """The fields whose column is written otherwise."""
        return [listed[0] for listed in self.offered.values() if listed and listed[0].reread]

    def told(self, source: Source) -> tuple[Finding, ...]:
        """All of it as findings."""
        moved = [
            Finding(
                "drift-column",
                f"The column {one.gone!r} holds something else now; {one.sentence()}.",
                Place(f"{source.document.where}, field {one.field!r}"),
                f"oak mend {source.as_argument} {one.repair()}",
                "warning",
            )
            for one in self.moved
        ]
        return (*moved, *self.written_otherwise(source), *self.findings)

    def written_otherwise(self, source: Source) -> Iterator[Finding]:
        """The fields whose column is written otherwise, as findings."""
        for one in self.reread:
            yield Finding(
                "drift-reading",
                f"{one.field} is written otherwise now; read with {one.keys()}, {one.why}.",
                Place(f"{source.document.where}, field {one.field!r}"),
                f"oak mend {source.as_argument}{' --sure' if one.sure else ''}",
                "warning",
            )


def since_version(
    source: Source, before: Source, number: int, fingerprints: Mapping[str, Fingerprint], documents: Sequence[Document]
) -> Since:
    """A source beside its version `number`, which is `before` with its fingerprints; `documents` are reports that may use its values."""
    offered = candidates(source, before)
    first = [listed[0] for listed in offered.values() if listed]
    moved = [
        *(one.field for one in first if one.moved),
        *(one.takes for one in first if one.takes),
        *(one.field for one in first if one.reread),
    ]
    arrived = {name: one.arrived_null for name, one in fingerprints.items() if one.arrived_null is not None}
    found = drift(source, before, f"version {number}", documents, skip=moved, arrived=arrived)
    return Since(offered, tuple(found))
