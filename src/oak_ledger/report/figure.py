"""One figure of a panel: what it asks, and the values of its group from texts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from oak_ledger.errors import OakError
from oak_ledger.report.definition import PanelSpec
from oak_ledger.report.report import Report
from oak_ledger.source import Source
from oak_ledger.source.questions import Shown


@dataclass(frozen=True, slots=True)
class Figure:
    """The measure, what it is grouped by, and the condition on rows."""

    measure: Shown
    by: tuple[Shown, ...]
    where: Sequence[str] | None


def figure_of(report: Report, panel: PanelSpec, source: Source, measure: str | None = None) -> Figure:
    """A figure of a panel: of a measure by its name, or of the first. Raises OakError for a name that the panel does not show."""
    asked = report.question(panel, source)
    names = [item if isinstance(item, str) else item[0] for item in asked["show"]]
    wanted = [at for at, name in enumerate(names) if measure is None or name.casefold() == measure.casefold()]
    if not names:
        raise OakError("no-figure", f"The panel {panel.title!r} is a text; it has no figure.")
    if not wanted:
        raise OakError("unknown-field", f"The panel does not show {measure!r}.", hint=f"It shows {', '.join(names)}.")
    return Figure(asked["show"][wanted[0]], tuple(asked["by"]), asked["where"])


def group_values(source: Source, figure: Figure, texts: Sequence[str]) -> list[Any]:
    """The values of a group, as the answer has them, from what somebody wrote: a value as it is shown, or `null`."""
    if not texts:
        return []
    if len(texts) != len(figure.by):
        names = ", ".join(item if isinstance(item, str) else item[0] for item in figure.by) or "nothing"
        raise OakError(
            "no-group", f"The panel groups by {names}; {len(texts)} values were given.", hint="Give one value for each."
        )
    rows = source.tally(figure.by, [figure.measure], where=figure.where)
    shown = rows.shown()
    for row, texts_shown in zip(rows.to_dicts(), shown, strict=True):
        values = [*row.values()][: len(figure.by)]
        if all(
            text.casefold() in _names(value, other)
            for text, value, other in zip(texts, values, texts_shown, strict=False)
        ):
            return values
    some = sorted({row[0] for row in shown})[:6]
    raise OakError("no-group", f"The panel has no group {', '.join(texts)}.", hint=f"Groups are {', '.join(some)}, …")


def _names(value: Any, shown: str) -> set[str]:
    return {"null"} if value is None else {str(value).casefold(), shown.casefold()}
