"""Panels that are tables."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from oak_ledger.errors import OakError
from oak_ledger.report.content import Computed, Line, TableContent, even_format, is_number, value_text
from oak_ledger.report.panel_kind import PanelKind, Question
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.report.top import Top, sort_within
from oak_ledger.source.questions import PlannedTally
from oak_ledger.source.source import Source


class Table(PanelKind):
    """Rows of groups and measures."""

    word = "table"
    about = "groups and measures in rows, with computed totals and subtotals"
    keys = frozenset({"fill", "by", "show", "where", "sort", "limit", "rest", "totals", "subtotals"})
    example = """\
[[panel]]
kind = "table"
title = "Mills and species"
by = ["Mill", "Species"]
show = ["Volume", { name = "Loads", formula = "COUNT(*)" }]
sort = ["-Volume"]
limit = 5
rest = true
subtotals = true
totals = true
"""

    def problem(self, spec: PanelSpec) -> str:
        """Why a table cannot be; empty where it can."""
        if spec.subtotals and len(spec.by) < 2:
            return "has subtotals; group it by two fields or more"
        return super().problem(spec)

    def planned(self, spec: PanelSpec, source: Source, question: Question) -> PlannedTally | None:
        """The groups, and those of the subtotals, which have fewer keys."""
        for depth in range(1, len(spec.by)) if spec.subtotals else ():
            try:
                source.planned_tally(question["by"][:depth], question["show"], where=question["where"])
            except OakError as error:
                if error.code != "window-key":
                    raise
                message = "A measure compares groups by a key that subtotals do not have."
                raise OakError(
                    "window-key", message, hint="Take subtotals out, or let the window be over the first key."
                ) from error
        return super().planned(spec, source, question)

    def top(self, spec: PanelSpec, source: Source, question: Question) -> Top:
        """The first groups; with subtotals, the first values of the first field."""
        head = slice(0, 1 if spec.subtotals else len(spec.by))
        return Top.of(source, {**question, "sort": spec.sort}, head, spec)

    def compute(self, spec: PanelSpec, source: Source, question: Question) -> Computed:
        """The lines, in order."""
        count = len(spec.by)
        top = self.top(spec, source, question)
        answer = top.answer if not spec.totals else replace(top.answer, totals=_totals(source, question, count))
        names = answer.names
        formats = {name: even_format(answer, name) if at >= count else answer.formats.get(name, "") for at, name in enumerate(names)}  # fmt: skip
        numeric = tuple(is_number(one.type) and at >= count for at, one in enumerate(answer.table.schema))

        def cells(values: Sequence[Any], keys: Sequence[str] | None = None) -> tuple[str, ...]:
            own = keys if keys is not None else [value_text(one, formats[name]) for one, name in zip(values, names[:count], strict=False)]  # fmt: skip
            return (*own, *(value_text(one, formats[name]) for one, name in zip(values[count:], names[count:], strict=True)))  # fmt: skip

        def labelled(text: str, at: int = 0) -> list[str]:
            return ["" if one != at else text for one in range(count)]

        lines = [*_arranged(spec, source, question, top, cells)]
        if top.rest:
            lines.append(Line("rest", cells([*[None] * count, *top.rest[0][1]], labelled(top.rest_label))))
        if answer.totals is not None:
            total = [*answer.totals.to_pylist()[0].values()]
            lines.append(Line("total", cells(total, labelled("all"))))
        return Computed(TableContent(tuple(names), numeric, tuple(lines), top.notes()), answer, answer.findings)


def _totals(source: Source, question: Question, keys: int) -> Any:
    """One row over all groups together."""
    answer = source.tally(question["by"], question["show"], where=question["where"], totals=True)
    return answer.totals if keys else None


def _arranged(spec: PanelSpec, source: Source, question: Question, top: Top, cells: Any) -> Iterator[Line]:
    """The rows of a table; with subtotals, those of a group together and its own line after them."""
    rows = [[*row.values()] for row in top.answer.to_dicts()]
    count = len(spec.by)
    if not spec.subtotals:
        yield from (Line("row", cells(row)) for row in rows)
        return
    levels: list[dict[tuple[Any, ...], list[list[Any]]]] = []
    for depth in range(1, count + 1):
        if depth == count:
            own = rows
        elif depth == 1:
            own = [[*row.values()] for row in top.heads.to_dicts()]
        else:
            by = question["by"][:depth]
            answer = source.tally(by, question["show"], where=question["where"], sort=sort_within(source, spec.sort, question, slice(0, depth)))  # fmt: skip
            own = [[*row.values()] for row in top.only_first(answer).to_dicts()]
        found: dict[tuple[Any, ...], list[list[Any]]] = {}
        for row in own:
            found.setdefault(tuple(row[: depth - 1]), []).append(row)
        levels.append(found)

    def emit(prefix: tuple[Any, ...], depth: int) -> Iterator[Line]:
        for at, row in enumerate(levels[depth].get(prefix, [])):
            if depth == count - 1:
                texts = cells(row)
                yield Line("row", texts if at == 0 else ("",) * len(prefix) + texts[len(prefix) :])
                continue
            key = tuple(row[: depth + 1])
            yield from emit(key, depth + 1)
            padded = [*key, *[None] * (count - depth - 1), *row[depth + 1 :]]
            name = value_text(key[-1], top.answer.formats.get(top.answer.names[depth], ""))
            yield Line("subtotal", cells(padded, ["" if one != depth else f"all {name}" for one in range(count)]), depth + 1)  # fmt: skip

    yield from emit((), 0)
