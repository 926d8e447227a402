"""One figure of a panel: what it asks, the values of its group from texts, and why it is not what it was."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from oak_ledger.errors import OakError
from oak_ledger.explain.row_changes import RowChanges, row_changes
from oak_ledger.explain.why import Why, why
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.report.content import even_format
from oak_ledger.report.kinds import KINDS, compared_with
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.report.report import Report
from oak_ledger.report.report_changes import Recoded, report_as_it_was
from oak_ledger.report.top import compares_groups, label, rest_key
from oak_ledger.source import Source
from oak_ledger.source.answer import Answer
from oak_ledger.source.questions import Shown
from oak_ledger.types import Grain


@dataclass(frozen=True, slots=True)
class Figure:
    """The measure, the fields and the values that say which group, the condition on rows, how the panel shows it; `against` is the formula that it is compared with."""

    measure: Shown
    by: tuple[Shown, ...]
    values: tuple[Any, ...]
    where: Sequence[str] | None
    format: str
    against: str = ""


def figure_of(
    report: Report, panel: PanelSpec, source: Source, texts: Sequence[str] = (), measure: str | None = None
) -> Figure:
    """A figure of a panel: of a measure by its name, or of the first; of the group that `texts` name as it is shown, with fewer of them a
    subtotal, "the other 12" for what is beyond the limit. Raises OakError for what the panel does not show."""
    asked = report.question(panel, source)
    names = [item if isinstance(item, str) else item[0] for item in asked["show"]]
    wanted = [at for at, name in enumerate(names) if measure is None or name.casefold() == measure.casefold()]
    if not names:
        raise OakError("no-figure", f"The panel {panel.title!r} is a text; it has no figure.")
    if not wanted:
        raise OakError("unknown-field", f"The panel does not show {measure!r}.", hint=f"It shows {', '.join(names)}.")
    shown, where = asked["show"][wanted[0]], asked["where"]
    by = tuple(asked["by"])
    labels = [label(item) for item in by]
    if len(texts) > len(by):
        message = f"The panel groups by {', '.join(labels) or 'nothing'}; {len(texts)} values were given."
        raise OakError("no-group", message, hint="Give one value for each; fewer for a subtotal.")
    whole = source.tally(by, [shown], where=where)
    format_text = even_format(whole, whole.names[len(by)])
    against = compared_with(panel, source, asked)
    rest = _rest_figure(panel, source, asked, shown, texts)
    group, values = rest or (by[: len(texts)], _values(source, by, shown, where, texts, whole))
    return Figure(shown, group, values, where, format_text, against)


def _rest_figure(
    panel: PanelSpec, source: Source, asked: Mapping[str, Any], shown: Shown, texts: Sequence[str]
) -> tuple[tuple[Shown, ...], tuple[Any, ...]] | None:
    """What groups the rows beyond the limit, where one of the texts names them; other texts are of the keys that are not limited."""
    top = KINDS[panel.kind].top(panel, source, asked) if panel.rest and texts else None
    at = [text.casefold() for text in texts].index(top.rest_label) if top and top.rest_label in map(str.casefold, texts) else -1  # fmt: skip
    if top is None or at < 0:
        return None
    if compares_groups(source, source.planned_tally(asked["by"], [shown], where=asked["where"]).query.show[0]):
        message = f"{label(shown)} compares groups with each other; it has no value for {top.rest_label}."
        raise OakError("no-group", message)
    others = [text for place, text in enumerate(texts) if place != at]
    by = (rest_key(top.condition()), *[item for item in asked["by"] if item not in top.keys][: len(others)])
    return by, _values(source, by, shown, asked["where"], ["true", *others])


def _values(
    source: Source, by: Sequence[Shown], shown: Shown, where: Any, texts: Sequence[str], whole: Answer | None = None
) -> tuple[Any, ...]:
    """The values of a group, as the answer has them, from what somebody wrote: a value as it is shown, or `null`."""
    if not texts:
        return ()
    answer = whole if whole is not None and len(texts) == len(by) else source.tally(by[: len(texts)], ["COUNT(*)"], where=where)  # fmt: skip
    lines = answer.shown()
    for row, shown_texts in zip(answer.to_dicts(), lines, strict=True):
        values = [*row.values()][: len(texts)]
        if all(
            text.casefold() in _names(value, other)
            for text, value, other in zip(texts, values, shown_texts, strict=False)
        ):
            return tuple(values)
    some = sorted({row[0] for row in lines})[:6]
    raise OakError("no-group", f"The panel has no group {', '.join(texts)}.", hint=f"Groups are {', '.join(some)}, …")


def _names(value: Any, shown: str) -> set[str]:
    own = {"null"} if value is None else {str(value).casefold(), shown.casefold()}
    return own | {f"all {one}" for one in own}  # as a subtotal is called


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

    Rows are matched by the source's key, else by a field that is different in every row, else they are compared whole. `renamed` lists
    fields that have other names in `before` (new name: old name), `recoded` values that do. Raises OakError where the figure cannot be asked now.
    """
    back = {new.casefold(): old for new, old in (renamed or {}).items()}
    earlier = report_as_it_was(report, renamed or {}, recoded or {})
    at = report.panels.index(panel)
    whole, _ = report.over(now)
    figure = _why(report, panel, whole, texts, measure)
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
        for name in figure.fields
        if now.compiled.states.get(name.casefold()) and whole.state(name).grain == Grain.ROW
    ]
    key = [*now.about.key] or _unique(now, before, back)
    names = list(dict.fromkeys([*key, *fields]))
    names = [name for name in names if not _then(before, back, name).broken]
    sides = [
        old.rows([(name, quote_identifier(_then(before, back, name).name)) for name in names], where=[*was.conditions]).table if was else None,
        whole.rows([(name, quote_identifier(name)) for name in names], where=[*figure.conditions]).table,
    ]  # fmt: skip
    after = sides[1]
    earlier_rows = sides[0] if sides[0] is not None else after.slice(0, 0)
    return FigureSince(was, figure, row_changes(earlier_rows, after, key))


def _why(report: Report, panel: PanelSpec, source: Source, texts: Sequence[str], measure: str | None) -> Why:
    return taken_apart(source, figure_of(report, panel, source, texts, measure))


def taken_apart(source: Source, figure: Figure) -> Why:
    """A figure of a panel with all that it comes from, rounded as the panel shows it."""
    found = why(source, figure.measure, figure.by, figure.values, where=figure.where)
    first, *rest = found.steps
    return replace(found, format=figure.format, steps=(replace(first, format=figure.format), *rest))


def _then(before: Source, back: Mapping[str, str], name: str) -> ResolvedName:
    """A field in the earlier state; raises OakError where it was not there."""
    return before.state(back.get(name.casefold(), name))


def _unique(now: Source, before: Source, back: Mapping[str, str]) -> list[str]:
    """A field that is different in every row of both states; none where there is no such field."""
    there = {field.name.casefold() for field in before.fields if not field.broken}
    names = [
        shown_field.name
        for shown_field in now.shown_fields
        if shown_field.type is not None
        and shown_field.type.kind in ("text", "integer")
        and bool(getattr(shown_field.spec, "column", ""))
        and back.get(shown_field.name.casefold(), shown_field.name).casefold() in there
    ]
    for at, source in enumerate((now, before)):
        if names:
            own = [name if at == 0 else back.get(name.casefold(), name) for name in names]
            shown = [(f"{number}", f"COUNT(DISTINCT {quote_identifier(name)})") for number, name in enumerate(own)]
            counts = source.tally(show=[*shown, ("rows", "COUNT(*)")]).to_dicts()[0]
            names = [name for number, name in enumerate(names) if counts[f"{number}"] == counts["rows"]]
    return names[:1]
