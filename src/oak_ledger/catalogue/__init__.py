"""Where sources are published: versions and stages, who may do what, dated states, watches, reports; and how all that is kept (`storage`)."""

from __future__ import annotations

from oak_ledger.catalogue.catalogue import Catalogue
from oak_ledger.catalogue.registered import Registered
from oak_ledger.catalogue.snapshots import Snapshot
from oak_ledger.catalogue.versions import Signature, Version
from oak_ledger.catalogue.watches import Watch, WatchResult

__all__ = ["Catalogue", "Registered", "Signature", "Snapshot", "Version", "Watch", "WatchResult"]
