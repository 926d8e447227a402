"""Where rows come from: how a file is written (`delimited`), what types it holds (`judge`), reading it (`feeds`)."""

from __future__ import annotations

from oak_ledger.origin.feeds import FilesFeed, OpenOrigin, open_origin
from oak_ledger.origin.parquet import ParquetFeed
from oak_ledger.origin.spec import OriginSpec
from oak_ledger.origin.tables import TableFeed

__all__ = ["FilesFeed", "OpenOrigin", "OriginSpec", "ParquetFeed", "TableFeed", "open_origin"]
