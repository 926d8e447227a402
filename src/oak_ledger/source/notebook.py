"""How things look in a notebook: what draws them knows more than this room, so it is named here and loaded when it is asked for."""

from __future__ import annotations

from pkgutil import resolve_name

DRAWN = "oak_ledger.present.notebook:html"


class InNotebook:
    """Something that a notebook shows as a piece of a page."""

    __slots__ = ()

    def _repr_html_(self) -> str:
        return str(resolve_name(DRAWN)(self))
