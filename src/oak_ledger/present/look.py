"""How the output of one command looks, as its options say."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True)
class Look:
    """The width in columns, when to use colour, and what is left out."""

    width: int | None = None
    color: str = "auto"
    quiet: bool = False
    no_progress: bool = False

    def reset(self) -> None:
        """Begin with the defaults."""
        self.width, self.color, self.quiet, self.no_progress = None, "auto", False, False


LOOK = Look()
