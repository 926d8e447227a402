"""A part of a sheet that is drawn on, and the looks that all pictures share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, QUIET, RULE = "#26302a", "#6d7770", "#d5dad3"
MOST = 30  # groups or lines in a picture; the page has them all
LETTER = 0.075  # the width of a letter at size 9, in inches


@dataclass(frozen=True, slots=True)
class Area:
    """A part of a sheet, in inches from its lower left corner."""

    figure: Figure
    left: float
    bottom: float
    width: float
    height: float

    def axes(self, left: float = 0.0, bottom: float = 0.0) -> Axes:
        """Axes in it, with room at the left and below."""
        wide, high = self.figure.get_size_inches()
        return self.figure.add_axes(
            (
                (self.left + left) / wide,
                (self.bottom + bottom) / high,
                (self.width - left) / wide,
                (self.height - bottom) / high,
            )
        )

    def text(self, x: float, down: float, text: str, **look: Any) -> None:
        """A text: inches from the left, and from the top downwards."""
        wide, high = self.figure.get_size_inches()
        self.figure.text(
            (self.left + x) / wide, (self.bottom + self.height - down) / high, text, **{"va": "center", **look}
        )

    def rule(self, down: float, width: float) -> None:
        """A line across, so many inches from the top and so long."""
        from matplotlib.lines import Line2D

        wide, high = self.figure.get_size_inches()
        y = (self.bottom + self.height - down) / high
        self.figure.add_artist(
            Line2D((self.left / wide, (self.left + width) / wide), (y, y), color=RULE, linewidth=0.8)
        )


def cut(text: str, most: int) -> str:
    """A text of at most so many letters."""
    return text if len(text) <= most else f"{text[: most - 1]}…"
