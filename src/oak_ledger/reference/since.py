"""What is to be said of a source beside its released version: what its columns may be now, and how its rows differ. Check and publish say the same."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from oak_ledger.definition.document import Document
from oak_ledger.errors import Finding
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
                f"The column {candidate.gone!r} holds something else now; {candidate.sentence()}.",
                source.document.place("field", candidate.field),
                f"oak mend {source.as_argument} {candidate.repair()}",
                "warning",
            )
            for candidate in self.moved
        ]
        return (*moved, *self.written_otherwise(source), *self.findings)

    def written_otherwise(self, source: Source) -> Iterator[Finding]:
        """The fields whose column is written otherwise, as findings."""
        for candidate in self.reread:
            yield Finding(
                "drift-reading",
                f"{candidate.field} is written otherwise now; read with {candidate.keys()}, {candidate.why}.",
                source.document.place("field", candidate.field),
                f"oak mend {source.as_argument}{' --sure' if candidate.sure else ''}",
                "warning",
            )


def since_version(
    source: Source, before: Source, number: int, fingerprints: Mapping[str, Fingerprint], documents: Sequence[Document]
) -> Since:
    """A source beside its version `number`, which is `before` with its fingerprints; `documents` are reports that may use its values."""
    offered = candidates(source, before)
    first = [listed[0] for listed in offered.values() if listed]
    moved = [
        *(candidate.field for candidate in first if candidate.moved),
        *(candidate.takes for candidate in first if candidate.takes),
        *(candidate.field for candidate in first if candidate.reread),
    ]
    arrived = {
        name: fingerprint.arrived_null
        for name, fingerprint in fingerprints.items()
        if fingerprint.arrived_null is not None
    }
    findings = drift(source, before, f"version {number}", documents, skip=moved, arrived=arrived)
    return Since(offered, tuple(findings))
