"""The kinds of panels. Each medium draws what they show."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from oak_ledger.definition.formats import Format, show
from oak_ledger.errors import Finding
from oak_ledger.report.charts import Bars, Lines
from oak_ledger.report.content import Computed, FigureContent, TextContent, even_format, value_text
from oak_ledger.report.panel_kind import PanelKind, Question
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.report.tables import Table
from oak_ledger.report.top import filtered_by
from oak_ledger.source.questions import PlannedTally, Shown
from oak_ledger.source.source import Source


class KeyFigure(PanelKind):
    """One number."""

    word = "figure"
    about = "one number, large; with its change since the baseline, or against another formula (shares in points)"
    keys = frozenset({"show", "where", "change", "against"})
    example = """\
[[panel]]
kind = "figure"
title = "Margin rate"
show = ["Margin rate"]
change = true
"""

    def problem(self, spec: PanelSpec) -> str:
        """Why a figure cannot be; empty where it can."""
        if spec.change and spec.against:
            return "has both change (since the baseline) and against; choose one"
        return "" if len(spec.show) == 1 else "is one figure: name one thing in show"

    def planned(self, spec: PanelSpec, source: Source, question: Question) -> PlannedTally | None:
        """The figure with what it is compared with."""
        planned = source.planned_tally(**question)
        if spec.against:
            source.planned_tally(**{**question, "show": [(_AGAINST, spec.against)]})
        return planned

    def compute(self, spec: PanelSpec, source: Source, question: Question) -> Computed:
        """The figure and its change."""
        against = compared_with(spec, source, question)
        findings: tuple[Finding, ...] = ()
        if spec.change and source.compiled.baseline is None:
            message = "There is no earlier state to compare with, so no change is shown."
            findings = (Finding("no-baseline", message, hint="Name one: baseline under [report], or --baseline.", severity="warning"),)  # fmt: skip
        shown: list[Shown] = [*question["show"], *([(_AGAINST, against)] if against else [])]
        answer = source.tally(**{**question, "show": shown})
        values = [*answer.to_dicts()[0].values()] if answer.table.num_rows else [None, None]
        format_text = even_format(answer, answer.names[0])
        change = _change(values[0], values[1], format_text) if against else ""
        notes = filtered_by(question["where"])
        return Computed(FigureContent(value_text(values[0], format_text), change, notes), answer, (*answer.findings, *findings))  # fmt: skip


_AGAINST = "compared with"


def compared_with(spec: PanelSpec, source: Source, question: Question) -> str:
    """The formula that a figure is compared with; empty without one, or without the earlier state that it needs."""
    if spec.change and source.compiled.baseline is not None:
        return f"BEFORE({source.planned_tally(**question).query.show[0].text})"
    return spec.against


def _change(value: Any, before: Any, format_text: str) -> str:
    """How a figure differs from an earlier one, in words: a share in points, another number in percent."""
    if value is None or before is None or isinstance(value, (str, bool)):
        return f"was {value_text(before, format_text)}"
    was, difference = show(before, format_text), float(value) - float(before)
    if difference == 0:
        return f"no change, was {was}"
    sign = "+" if difference > 0 else "−"
    if "%" in format_text:
        decimals = max(Format.read(format_text).decimals, 1)
        said = f"{sign}{abs(difference) * 100:.{decimals}f} points"
    elif not before:
        said = f"{sign}{show(abs(difference), format_text)}"
    else:
        said = f"{sign}{abs(difference / float(before)):.1%}"
    return f"{said}, was {was}"


class Text(PanelKind):
    """Words."""

    word = "text"
    about = "paragraphs of text, with live names of fields"
    keys = frozenset({"text"})
    example = '''\
[[panel]]
kind = "text"
title = "How to read this"
text = """{Margin} is what is left after haulage, loading and permits.

Returned loads are in."""
'''

    def problem(self, spec: PanelSpec) -> str:
        """Why a text cannot be; empty where it can."""
        return "" if spec.text.strip() else "has no text"

    def question(self, spec: PanelSpec, question: Question) -> Question | None:
        """A text asks nothing."""
        return None

    def compute(self, spec: PanelSpec, source: Source, question: Question) -> Computed:
        """The paragraphs, names filled in later."""
        return Computed(TextContent(tuple(" ".join(one.split()) for one in spec.text.split("\n\n") if one.strip())))


KINDS: Mapping[str, PanelKind] = {kind.word: kind for kind in (Table(), Bars(), Lines(), KeyFigure(), Text())}
