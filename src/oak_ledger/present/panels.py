"""A report in a terminal: each kind of panel as text."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from rich.console import Console
from rich.text import Text

from oak_ledger.present.terminal import GAP, LEAF, QUIET, RUST, faults_lines, finding_block, grid
from oak_ledger.report import PanelView, ReportView
from oak_ledger.report.content import ChartContent, FigureContent, TableContent, TextContent

NAME = 30  # characters of a group's name
BAR = 40  # characters of the longest bar
LEVELS = "▁▂▃▄▅▆▇█"


def show_report(view: ReportView, out: Console) -> None:
    """Print a report, panel by panel."""
    out.print(Text(view.name, style="bold"))
    out.print(Text(view.under(), style=RUST if view.is_draft else QUIET))
    for panel in view.panels:
        out.print()
        if panel.content is None:
            out.print(Text.assemble((panel.title, "bold"), "  ", ("broken", RUST)))
        else:
            PANELS[panel.spec.kind](panel, panel.content, out)
            for note in panel.content.notes:
                out.print(Text(note, style=QUIET))
        for finding in panel.findings:
            out.print(finding_block(finding))
        for line in faults_lines(panel.answer.faults if panel.answer else ()):
            out.print(line)


def _table(panel: PanelView, content: TableContent, out: Console) -> None:
    out.print(Text(panel.title, style="bold"))
    out.print(lines_table(content))


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 1]}…"


def lines_table(content: TableContent) -> Any:
    """A table with its subtotals, rest and totals."""
    table = grid(*content.names, right=[at for at, number in enumerate(content.numeric) if number])
    looks = {"row": "", "subtotal": "bold", "rest": QUIET, "total": "bold"}
    for at, line in enumerate(content.lines):
        if line.role == "total" or (line.role == "rest" and content.lines[at - 1].role != "rest"):
            table.add_section()
        cells = [Text(_cut(cell, NAME), style=QUIET if cell == "null" else "") for cell in line.cells]
        table.add_row(*cells, style=looks[line.role])
    return table


def _bars(panel: PanelView, content: ChartContent, out: Console) -> None:
    """A bar for each group and series; parts of a stacked one under each other, since a terminal has no colours that all can see."""
    out.print(Text(panel.title, style="bold"))
    if not content.groups:
        out.print(Text("no groups", style=QUIET))
        return
    peak = (
        max((abs(number) for series in content.series for number in series.numbers if number is not None), default=0)
        or 1
    )
    below = any(
        (number or 0) < 0 for series in content.series for number in series.numbers
    )  # such bars go to the other side
    several = len(content.series) > 1
    measure = content.measure if not several or len(panel.spec.by) > 1 else ""
    names = (
        min(max(map(len, (content.key, *content.groups))), NAME)
        + (min(max(len(series.name) for series in content.series), NAME) + GAP) * several
    )
    texts = (
        max(len(text) for series in content.series for text in (*series.texts, content.measure))
        if content.series
        else 0
    )
    room = max(min(BAR, out.width - names - texts - 2 * GAP), 8)
    table = grid(content.key, *(["series" if not measure else panel_key(panel)] if several else []), measure, "", right=(1 + several,))  # fmt: skip
    for at, group in enumerate(content.groups):
        name = _cut(group, NAME)
        for series in content.series:
            if not series.texts[at]:
                continue
            number = series.numbers[at] or 0.0
            length = round((room // 2 if below else room) * number / peak)
            bar = Text(" " * (room // 2 + min(length, 0)) if below else "", style="").append(
                "█" * abs(length), style=RUST if number < 0 else LEAF
            )
            table.add_row(name, *([_cut(series.name, NAME)] if several else []), series.texts[at], bar)
            name = ""
    out.print(table)


def panel_key(panel: PanelView) -> str:
    """What the second field is called that a panel is grouped by."""
    item = panel.spec.by[1]
    return item if isinstance(item, str) else item.name


def _lines(panel: PanelView, content: ChartContent, out: Console) -> None:
    """A row for each line: its first and last figure, and its course in small steps."""
    out.print(Text(panel.title, style="bold"))
    if not content.groups:
        out.print(Text("no dates", style=QUIET))
        return
    first, last = content.groups[0], content.groups[-1]
    header = "line" if len(content.series) > 1 else ""
    table = grid(header, first, "course", last, "minimum", "maximum", right=(1, 3, 4, 5))
    for series in content.series:
        known = [
            (number, text) for number, text in zip(series.numbers, series.texts, strict=True) if number is not None
        ]
        low, high = (min(known), max(known)) if known else ((0.0, ""), (0.0, ""))
        table.add_row(
            _cut(series.name, NAME),
            series.texts[0],
            Text(course(series.numbers), style=LEAF),
            series.texts[-1],
            low[1],
            high[1],
        )
    out.print(table)
    if len(content.groups) > BAR:
        out.print(Text(f"the course is of the last {BAR} of {len(content.groups):,} dates", style=QUIET))


def course(numbers: tuple[float | None, ...]) -> str:
    """The last numbers as steps between the lowest and the highest; a space where there is none."""
    shown = numbers[-BAR:]
    known = [one for one in shown if one is not None]
    low, high = min(known, default=0.0), max(known, default=0.0)
    size = (high - low) or 1.0
    return "".join(
        " " if one is None else LEVELS[min(int((one - low) / size * len(LEVELS)), len(LEVELS) - 1)] for one in shown
    )


def _figure(panel: PanelView, content: FigureContent, out: Console) -> None:
    change = f"  {content.change}" if content.change else ""
    out.print(Text.assemble(panel.title, "  ", (content.value, f"bold {LEAF}"), (change, QUIET)))


def _text(panel: PanelView, content: TextContent, out: Console) -> None:
    out.print(Text(panel.title, style="bold"))
    for at, one in enumerate(content.paragraphs):
        if at:
            out.print()
        out.print(Text(one))


PANELS: Mapping[str, Callable[[PanelView, Any, Console], None]] = {
    "table": _table,
    "bars": _bars,
    "lines": _lines,
    "figure": _figure,
    "text": _text,
}
