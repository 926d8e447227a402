"""Where rows come from: every format has a reader (`formats`), what text holds is judged (`infer`), and states of files are distinguished (`stamps`).

- Text is parsed by Arrow's reader, and what that takes too kindly is refused (`origin/csv/reader.py`). A file is cut
  into ranges of whole lines, at line ends that are not in quotes. Where a quote stands anywhere but around a whole
  value, where one is never closed, and where a byte is zero, rows are read one by one, and the wrong one is named
  with its line; so is one that Arrow's reader does not take.

- How a file is written is judged by what is consistent in it. Each way of writing (separator, quote, escape) is tried
  on the first rows; the one in which rows have one width is believed (`origin/csv/dialect.py`). Names are judged by
  their difference from what stands below (`origin/header.py`), encodings by the letters of languages
  (`origin/csv/encoding.py`). Where nothing decides, the answer is text and a question, never a guess without a word
  (`first_look/undecided.py`).

- Types are judged from every row (`origin/infer.py` sees, `origin/verdict.py` judges): by the distinct values where
  they repeat, each looked at once in the whole file; by arithmetic on their bytes where they are plain numbers
  (`origin/number_shapes.py`); by patterns otherwise. Judging takes one thread, while others read.
"""

from __future__ import annotations

from oak_ledger.origin.files import FilesReader
from oak_ledger.origin.formats import open_origin
from oak_ledger.origin.memory import TableReader
from oak_ledger.origin.parquet import ParquetReader
from oak_ledger.origin.reader import OriginReader
from oak_ledger.origin.spec import OriginSpec

__all__ = ["FilesReader", "OriginReader", "OriginSpec", "ParquetReader", "TableReader", "open_origin"]
