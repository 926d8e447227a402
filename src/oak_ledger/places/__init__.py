"""Questions computed where the rows are: the typed tree as the SQL of a database."""

from __future__ import annotations

from oak_ledger.places.statement import statement
from oak_ledger.places.translate import NotSaid, Translator

__all__ = ["NotSaid", "Translator", "statement"]
