"""The clock that formulas read: one moment for all of them, which may be given."""

from __future__ import annotations

import datetime as dt
import os

from oak_ledger.errors import OakError

CLOCKS = frozenset({"CURRENT_DATE", "CURRENT_TIMESTAMP"})


def clock() -> dt.datetime:
    """The run's clock: the variable OAK_CLOCK where it is set (such as 2026-03-01T07:30), else the time."""
    given = os.environ.get("OAK_CLOCK")
    if not given:
        return dt.datetime.now()
    try:
        return dt.datetime.fromisoformat(given)
    except ValueError:
        raise OakError(
            "bad-clock", f"OAK_CLOCK holds {given!r}, which is not a time.", hint="Write 2026-03-01T07:30."
        ) from None
