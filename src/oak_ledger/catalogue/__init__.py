"""Where sources are published: versions and stages, who may do what, dated states, watches, reports; and how all that is kept (`storage`).

- Versions do not change. Rows are files named by the digest of their bytes, checked when they are opened; every row
  of the database carries a digest of what it says; the audit log is a chain. One writer at a time (SQLite's own lock,
  or an advisory lock of PostgreSQL), readers see one state. A file is on the disk before anything refers to it, and
  goes when nothing does.

- Commands that a watch calls are not kept in the catalogue, but given by who runs the watches: nobody runs what
  somebody else wrote.

- Publishing stores values. A version holds its rows with every row value computed, exactly typed, and a fingerprint
  of each field: a sketch of its values, by which a renamed column is recognised.
"""

from __future__ import annotations

from oak_ledger.catalogue.catalogue import Catalogue
from oak_ledger.catalogue.looking import Listed
from oak_ledger.catalogue.registered import Registered
from oak_ledger.catalogue.snapshots import Snapshot
from oak_ledger.catalogue.versions import Signature, Version
from oak_ledger.catalogue.watches import Watch, WatchResult

__all__ = ["Catalogue", "Listed", "Registered", "Signature", "Snapshot", "Version", "Watch", "WatchResult"]
