"""Which published version a source is."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Published:
    """Which published version a source is: its number, stage, maker and time as text, and what replaces one that is retired."""

    number: int
    stage: str
    made_by: str
    made_at: str
    replaced_by: str = ""

    def __str__(self) -> str:
        what = f", replaced by {self.replaced_by}" if self.replaced_by else ""
        return f"version {self.number} ({self.stage}{what}), {self.made_at} by {self.made_by}"
