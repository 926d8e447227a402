"""A source: a definition, the rows it yields, and the questions that are asked of it.

- What is slow to read is read once (`source/cache.py`). Of text, JSON lines, workbooks, SQLite and joins of them a
  typed copy is kept in the user's cache folder: the values of each field as they are read from its column, or the
  column itself where some cannot be read. Its name is a digest of how the definition says to read, so editing a
  formula never makes it stale; its stamps are the files' sizes, times, numbers and digests of their ends, and of all
  of a file that was changed within two seconds, which its time could not tell. Pages carry checksums, and the footer
  a digest; a damaged copy is dropped, and said. Files that change while they are read leave no copy.

- Now against before. The values that `BEFORE` takes are asked of the baseline as a question of its own, and found by
  key or by group.

- An edit checks again only what depends on it. Names that say the same, and whose needs were taken over, are taken
  over.
"""

from __future__ import annotations

from oak_ledger.source.answer import Answer
from oak_ledger.source.editable import Published
from oak_ledger.source.source import Source, open_source

__all__ = ["Answer", "Published", "Source", "open_source"]
