"""A source: its definition file (`document`, `definition`), its names made ready (`compiled`), its questions and edits (`source`)."""

from __future__ import annotations

from oak_ledger.source.answer import Answer
from oak_ledger.source.editable import Published
from oak_ledger.source.source import Source, open_source

__all__ = ["Answer", "Published", "Source", "open_source"]
