"""Where sources are published: versions and stages (`catalogue`), and how they are kept (`storage`)."""

from __future__ import annotations

from oak_ledger.catalogue.catalogue import Catalogue, Version

__all__ = ["Catalogue", "Version"]
