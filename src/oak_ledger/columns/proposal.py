"""A column that intake looked at, and the field that it is proposed as."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from oak_ledger.origin.evidence import Evidence


@dataclass(frozen=True, slots=True)
class Proposal:
    """One column: the field it is proposed as, and why."""

    column: str
    name: str
    type: str
    role: str
    evidence: Evidence
    keys: dict[str, Any]
    role_why: str = ""
