"""Panels that are charts: bars of groups, and lines over dates."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from oak_ledger.definition.formats import show
from oak_ledger.errors import Finding, OakError
from oak_ledger.formula import checked as c
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.report.content import ChartContent, Computed, Series, even_format, value_text
from oak_ledger.report.panel_kind import PanelKind, Question
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.report.top import Top
from oak_ledger.source.answer import Answer
from oak_ledger.source.questions import PlannedTally
from oak_ledger.source.source import Source
from oak_ledger.types import Grain


class Bars(PanelKind):
    """Bars of groups."""

    word = "bars"
    about = (
        "a bar for each group and measure, or for each value of a second field; beside each other, or stacked where parts"
        " add up to a whole"
    )
    keys = frozenset({"fill", "by", "show", "where", "sort", "limit", "rest", "stacked", "order", "colours"})
    example = """\
[[panel]]
kind = "bars"
title = "{Volume} by mill and species"
by = ["Mill", "Species"]
show = ["Volume"]
sort = ["-Volume"]
limit = 8
rest = true
stacked = true
order = ["OAK", "ASH"]
colours = { OAK = "#6b4f2a", ASH = "#b89a3e" }
"""

    def problem(self, spec: PanelSpec) -> str:
        """Why bars cannot be; empty where they can."""
        return _chart_problem(spec, "bars") or super().problem(spec)

    def planned(self, spec: PanelSpec, source: Source, question: Question) -> PlannedTally | None:
        """Bars show numbers."""
        return _of_numbers(source.planned_tally(**{**question, "sort": spec.sort}))

    def top(self, spec: PanelSpec, source: Source, question: Question) -> Top:
        """The first values of the first field."""
        return Top.of(source, {**question, "sort": spec.sort}, slice(0, 1), spec, split=True)

    def compute(self, spec: PanelSpec, source: Source, question: Question) -> Computed:
        """A group for each value of the first field."""
        top = self.top(spec, source, question)
        content = _chart(spec, top, [row[0] for row in _rows(top.heads)], 0)
        return Computed(content, top.answer, (*top.answer.findings, *self.doubts(spec, source, question)))

    def doubts(self, spec: PanelSpec, source: Source, question: Question) -> tuple[Finding, ...]:
        """Parts on one bar add up to the whole, or mislead."""
        planned = self.planned(spec, source, question) if spec.stacked else None
        odd = next((expression.name for expression in planned.query.show if not _adds_up(expression.checked, source)), None) if planned else None  # fmt: skip
        if odd is None:
            return ()
        message = f"{odd} is not a sum: its parts on one bar do not add up to the figure of the whole."
        hint = "Take stacked out, so that bars are beside each other."
        return (Finding("stacked-no-sum", message, hint=hint, severity="warning"),)


class Lines(PanelKind):
    """Lines over dates."""

    word = "lines"
    about = "a line over dates for each measure, or for each value of a second field"
    keys = frozenset({"fill", "by", "show", "where", "limit", "rest", "order", "colours"})
    example = """\
[[panel]]
kind = "lines"
title = "{Volume} by month"
by = [{ name = "Month of delivery", formula = "DATE_TRUNC('month', Delivered)" }, "Species"]
show = ["Volume"]
limit = 4
rest = true
fill = "zero"
"""

    def problem(self, spec: PanelSpec) -> str:
        """Why lines cannot be; empty where they can."""
        if spec.limit is not None and len(spec.by) < 2:
            return "has a limit; that is how many lines there are at most, one for each value of a second field in by"
        return _chart_problem(spec, "lines") or super().problem(spec)

    def question(self, spec: PanelSpec, question: Question) -> Question | None:
        """All groups, by date."""
        return {**question, "sort": ()}

    def planned(self, spec: PanelSpec, source: Source, question: Question) -> PlannedTally | None:
        """Lines run over dates."""
        planned = _of_numbers(source.planned_tally(**question))
        first = planned.query.by[0]
        if first.checked.type.kind not in ("date", "timestamp"):
            message = f"Lines run over dates, and {first.name} is {first.checked.type}."
            raise OakError("dates-wanted", message, hint="Group by a date, such as DATE_TRUNC('month', Delivered).")
        return planned

    def top(self, spec: PanelSpec, source: Source, question: Question) -> Top:
        """The values of the second field that have most."""
        measure = source.planned_tally(**question).query.show[0].name
        return Top.of(source, {**question, "sort": [f"-{quote_identifier(measure)}"]}, slice(1, 2), spec, split=True)

    def compute(self, spec: PanelSpec, source: Source, question: Question) -> Computed:
        """A point for each date."""
        top = self.top(spec, source, question)
        dates = sorted(
            {row[0] for row in (*_rows(top.answer), *((key, *_) for key, _ in top.rest)) if row[0] is not None}
        )
        content = _chart(spec, top, dates, 1)
        undated = sum(row[0] is None for row in _rows(top.answer))
        notes = (*content.notes, *(["rows without a date are not in the lines"] if undated else []))
        return Computed(replace(content, at=tuple(dates), notes=notes), top.answer, top.answer.findings)


def _rows(answer: Answer) -> list[tuple[Any, ...]]:
    return [tuple(row.values()) for row in answer.to_dicts()]


def _chart_problem(spec: PanelSpec, word: str) -> str:
    if len(spec.by) not in (1, 2):
        return f"has {word}: group it by one field, or by two"
    if len(spec.by) == 2 and len(spec.show) > 1:
        return f"has {word} by two fields; show one measure"
    return ""


def _of_numbers(planned: PlannedTally) -> PlannedTally:
    for expression in planned.query.show:
        if not expression.checked.type.numeric:
            raise OakError("numbers-wanted", f"A chart shows numbers, and {expression.name} is {expression.checked.type}.", hint="Show it in a table.")  # fmt: skip
    return planned


def _chart(spec: PanelSpec, top: Top, heads: Sequence[Any], limited: int) -> ChartContent:
    """Groups (values of the first key) and series (measures, or values of the second key); the rest is one more of what is limited."""
    answer, names = top.answer, top.answer.names
    formats = {name: even_format(answer, name) for name in names[len(spec.by) :]}
    key_format = answer.formats.get(names[0], "")
    cells: dict[tuple[Any, Any], tuple[Any, str]] = {}
    groups: list[Any] = [*heads]
    series: list[Any] = [*names[1:]]
    if len(spec.by) == 1:
        for row in _rows(answer):
            cells |= {(row[0], name): (value, name) for name, value in zip(series, row[1:], strict=True)}
        for _, values in top.rest:
            cells |= {(_REST, name): (value, name) for name, value in zip(series, values, strict=True)}
    else:
        for row in _rows(answer):
            cells[row[0], row[1]] = (row[2], names[2])
        for key, values in top.rest:
            cells[(key, _REST) if limited else (_REST, key)] = (values[0], names[2])
        ordered = [row[0] for row in _rows(top.heads)] if limited else [row[1] for row in _rows(answer)] + ([key for key, _ in top.rest])  # fmt: skip
        series = [*dict.fromkeys(ordered)]
        if not limited:
            series.sort(key=lambda one: (one is None, str(one)))
    if len(spec.by) == 2:
        series = _in_order(spec.order, series, answer.formats.get(names[1], ""))
    groups = groups if limited else _in_order(spec.order, groups, key_format)
    if top.rest:
        (series if limited else groups).append(_REST)

    def text(value: Any, format_text: str) -> str:
        return top.rest_label if value is _REST else value_text(value, format_text)

    made = []
    for one in series:
        found = [cells.get((group, one)) for group in groups]
        numbers = tuple(None if cell is None or cell[0] is None else float(cell[0]) for cell in found)
        texts = tuple("" if cell is None else value_text(cell[0], formats[cell[1]]) for cell in found)
        name = str(one) if len(spec.by) == 1 else text(one, answer.formats.get(names[1], ""))
        made.append(Series(name, numbers, texts))
    shown = tuple(text(group, key_format) for group in groups)
    if not key_format and all(isinstance(head, dt.date) for head in heads):
        months = all(head.day == 1 for head in heads)
        shown = tuple(
            _date_text(group, months) if isinstance(group, dt.date) else one
            for group, one in zip(groups, shown, strict=True)
        )
    shown_first = names[len(spec.by)]
    return ChartContent(
        names[0],
        shown_first,
        shown,
        tuple(made),
        formats[shown_first],
        (),
        top.rest_label if top.rest else "",
        top.notes(),
    )


_REST = object()


def _in_order(order: Sequence[str], values: Sequence[Any], format_text: str) -> list[Any]:
    """Values in a given order, by what they are called; those that it does not name come after them."""
    places = {text: at for at, text in enumerate(order)}
    return sorted(values, key=lambda one: places.get(value_text(one, format_text), len(places)))


def _date_text(value: dt.date, months: bool) -> str:
    """A date as charts name it: the month alone where all dates begin one."""
    timed = isinstance(value, dt.datetime) and value.time() != dt.time()
    return show(value, "") if timed else value.strftime("%Y-%m" if months else "%Y-%m-%d")


def _adds_up(node: c.TypedNode, source: Source) -> bool:
    """Whether a measure is a sum or a count, or a sum of such: parts of it make up the whole."""
    if isinstance(node, c.FieldRef) and node.grain == Grain.GROUP:
        state = source.state(node.name)
        return state.expression is not None and _adds_up(state.expression.checked, source)
    if isinstance(node, c.Aggregate):
        return node.function.name in ("SUM", "COUNT") and not node.distinct
    if isinstance(node, c.Call) and node.function.name in ("+", "-", "COALESCE", "ROUND"):
        return all(isinstance(arg, c.Constant) or _adds_up(arg, source) for arg in node.args)
    return False
