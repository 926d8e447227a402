"""Names made ready: every field, constant and filter of a definition bound and typed, each after those that it needs.

- A report's own fields live beside the source (`names/local.py`): shared formulas are bound before, so a local name
  can hide a shared one only in its own report.
"""
