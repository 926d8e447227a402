"""How things look in a notebook: what draws them knows more than this room, and is handed in."""

from __future__ import annotations

from oak_ledger.handed import HANDED


class InNotebook:
    """Something that a notebook shows as a piece of a page."""

    __slots__ = ()

    def _repr_html_(self) -> str:
        return str(HANDED.drawn(self))
