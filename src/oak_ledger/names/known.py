"""What rooms below a source need of it: a definition that is read, and one that is asked."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, Protocol

from oak_ledger.definition.document import Document
from oak_ledger.definition.model import SourceSpec
from oak_ledger.names.compiled import Compiled, ResolvedName
from oak_ledger.names.published import Published
from oak_ledger.origin import OriginReader, OriginSpec

Shown = str | tuple[str, str]
Where = str | Sequence[str] | None


class Read(Protocol):
    """A definition with its origin."""

    @property
    def name(self) -> str:
        """What report builders call it."""

    @property
    def document(self) -> Document:
        """What it says."""

    @property
    def folder(self) -> Path:
        """What its paths are relative to."""

    @property
    def origin(self) -> OriginSpec:
        """Where its rows come from."""

    @property
    def opened(self) -> OriginReader:
        """The origin, opened."""

    @property
    def feed(self) -> OriginReader | None:
        """What is read instead of the origin."""

    @property
    def published(self) -> Published | None:
        """Which published version it is."""

    @property
    def compiled(self) -> Compiled:
        """Every name, bound and typed."""


class Asked(Read, Protocol):
    """A source that answers."""

    @property
    def about(self) -> SourceSpec:
        """The `[source]` table."""

    def state(self, name: str) -> ResolvedName:
        """A name, made ready."""

    def at_baseline(self) -> Asked:
        """The same source over the rows of its baseline."""

    def rows(self, show: Sequence[Shown] | None = None, *, where: Where = None) -> Any:
        """Rows of it."""

    def tally(self, by: Sequence[Shown] = (), show: Sequence[Shown] = (), *, where: Where = None) -> Any:
        """A grouped answer."""
