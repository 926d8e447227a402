"""One figure of a panel: what it asks, the values of its group from texts, and why it is not what it was."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from oak_ledger.errors import OakError
from oak_ledger.explain.row_changes import RowChanges, row_changes
from oak_ledger.explain.why import Why, why
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.report.report import Report
from oak_ledger.report.report_changes import Recoded, report_as_it_was
from oak_ledger.source import Source
from oak_ledger.source.questions import Shown
from oak_ledger.types import Grain


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


@dataclass(frozen=True, slots=True)
class FigureSince:
    """A figure now and in an earlier state (None where its group was not there), and the rows behind it that differ."""

    before: Why | None
    now: Why
    rows: RowChanges


def figure_since(
    report: Report, panel: PanelSpec, before: Source, now: Source, texts: Sequence[str] = (), measure: str | None = None,
    renamed: Mapping[str, str] | None = None, recoded: Recoded | None = None,
) -> FigureSince:  # fmt: skip
    """Why a figure is not what it was: the rows of its group that came, went, or have other values in the fields that it needs.

    Rows are told by the source's key, else by a field that is different in every row, else they are compared whole. `renamed` lists
    fields that have other names in `before` (new name: old name), `recoded` values that do. Raises OakError where the figure cannot be asked now.
    """
    back = {new.casefold(): old for new, old in (renamed or {}).items()}
    earlier = report_as_it_was(report, renamed or {}, recoded or {})
    at = report.panels.index(panel)
    whole, _ = report.over(now)
    found = _why(report, panel, whole, texts, measure)
    old, _ = earlier.over(before)
    was: Why | None
    try:
        then = {name.casefold(): values for name, values in (recoded or {}).items()}
        spec = panel.by[: len(texts)]
        own = [then.get(str(one).casefold(), {}).get(text, text) for one, text in zip(spec, texts, strict=False)]
        was = _why(earlier, earlier.panels[at], old, own, back.get((measure or "").casefold(), measure))
    except OakError as error:
        if error.code != "no-group":
            raise
        was = None
    fields = [
        name
        for name in found.fields
        if now.compiled.states.get(name.casefold()) and whole.state(name).grain == Grain.ROW
    ]
    key = [*now.about.key] or _unique(now, before, back)
    names = list(dict.fromkeys([*key, *fields]))
    names = [name for name in names if not _then(before, back, name).broken]
    sides = [
        old.rows([(one, quote_identifier(_then(before, back, one).name)) for one in names], where=[*was.conditions]).table if was else None,
        whole.rows([(one, quote_identifier(one)) for one in names], where=[*found.conditions]).table,
    ]  # fmt: skip
    after = sides[1]
    earlier_rows = sides[0] if sides[0] is not None else after.slice(0, 0)
    return FigureSince(was, found, row_changes(earlier_rows, after, key))


def _why(report: Report, panel: PanelSpec, source: Source, texts: Sequence[str], measure: str | None) -> Why:
    asked = figure_of(report, panel, source, measure)
    return why(source, asked.measure, asked.by if texts else (), group_values(source, asked, texts), where=asked.where)


def _then(before: Source, back: Mapping[str, str], name: str) -> ResolvedName:
    """A field in the earlier state; raises OakError where it was not there."""
    return before.state(back.get(name.casefold(), name))


def _unique(now: Source, before: Source, back: Mapping[str, str]) -> list[str]:
    """A field that is different in every row of both states; none where there is no such field."""
    there = {one.name.casefold() for one in before.fields if not one.broken}
    names = [
        one.name
        for one in now.shown_fields
        if one.type is not None
        and one.type.kind in ("text", "integer")
        and bool(getattr(one.spec, "column", ""))
        and back.get(one.name.casefold(), one.name).casefold() in there
    ]
    for at, source in enumerate((now, before)):
        if names:
            own = [name if at == 0 else back.get(name.casefold(), name) for name in names]
            shown = [(f"{number}", f"COUNT(DISTINCT {quote_identifier(name)})") for number, name in enumerate(own)]
            counts = source.tally(show=[*shown, ("rows", "COUNT(*)")]).to_dicts()[0]
            names = [name for number, name in enumerate(names) if counts[f"{number}"] == counts["rows"]]
    return names[:1]
