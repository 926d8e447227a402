"""Where rows come from: every format has a reader (`formats`), what text holds is judged (`infer`), and states of files are distinguished (`stamps`)."""

from __future__ import annotations

from oak_ledger.origin.files import FilesReader
from oak_ledger.origin.formats import open_origin
from oak_ledger.origin.memory import TableReader
from oak_ledger.origin.parquet import ParquetReader
from oak_ledger.origin.reader import OriginReader
from oak_ledger.origin.spec import OriginSpec

__all__ = ["FilesReader", "OriginReader", "OriginSpec", "ParquetReader", "TableReader", "open_origin"]
