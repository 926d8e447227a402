"""Pictures by Matplotlib: a chart alone, and a whole report on one sheet."""

from __future__ import annotations

import re
import warnings
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from io import BytesIO
from textwrap import wrap
from typing import TYPE_CHECKING, Any

from oak_ledger.definition.formats import show
from oak_ledger.present.area import INK, LETTER, MOST, QUIET, RULE, Area, cut
from oak_ledger.present.drawn_tables import draw_table, table_height, table_width
from oak_ledger.report import PanelView, ReportView
from oak_ledger.report.content import ChartContent, FigureContent, TableContent, TextContent

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

RUST = "#b5562b"
SERIES = ("#4b7f3c", "#a9744f", "#5a6f73", "#b89a3e", "#7b5a86", "#7d8f4e", "#2f6b75", "#9a4d4d")
REST = "#b9bfb8"
WIDE, NARROW = 5.8, 3.4  # inches of a chart alone, on a screen and on a telephone
ROOMY = 4.0  # inches from which there is room for long names, and for four of a legend in a line
LONGEST_REST = 1.3  # times the longest other bar
STYLE: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 9,
    "text.color": INK,
    "axes.labelcolor": INK,
    "xtick.color": QUIET,
    "ytick.color": INK,
    "axes.edgecolor": RULE,
    "figure.facecolor": "white",
}


def _colour(panel: PanelView, content: ChartContent, at: int, group: str = "") -> str:
    """The colour of a series, or of a group where there is one series: that of its value, else the next one that no value has."""
    name, given = content.series[at].name, panel.spec.colours
    if content.rest and (name == content.rest or (group == content.rest and len(panel.spec.by) == 1)):
        return REST
    free = [one for one in SERIES if one not in given.values()] or [*SERIES]
    return given.get(name) or given.get(group) or free[at % len(free)]


# -- charts -------------------------------------------------------------------------------------------------


def _bars_height(panel: PanelView, content: ChartContent, width: float) -> float:
    bars = 1 if panel.spec.stacked else len(content.series)
    groups = min(len(content.groups), MOST)
    return max(groups * max(0.3, 0.17 * bars + 0.1), 0.6) + 0.15 + _legend_height(content, width)


def _legend_columns(width: float) -> int:
    return 4 if width > ROOMY else 2


def _legend_height(content: ChartContent, width: float) -> float:
    return 0.0 if len(content.series) == 1 else 0.28 * (1 + (len(content.series) - 1) // _legend_columns(width))


def _draw_bars(area: Area, panel: PanelView, content: ChartContent) -> None:
    """Horizontal bars, one group a line; each says its figure."""
    if not content.groups:
        area.text(0, 0.2, "no groups", color=QUIET)
        return
    groups = content.groups[:MOST]
    names = [cut(group, 28 if area.width > ROOMY else 14) for group in groups]
    left = max(map(len, names), default=1) * LETTER + 0.1
    axes = area.axes(left, 0.05)
    height = 0.78 if panel.spec.stacked else 0.78 / len(content.series)
    ups, downs = [0.0] * len(groups), [0.0] * len(groups)
    for at, series in enumerate(content.series):
        numbers = [number or 0.0 for number in series.numbers[: len(groups)]]
        colours = [_colour(panel, content, at, group) for group in groups]
        if panel.spec.stacked:
            begins = [(ups if number >= 0 else downs)[line] for line, number in enumerate(numbers)]
            axes.barh(range(len(groups)), numbers, left=begins, height=height, color=colours, edgecolor="white", linewidth=0.6)  # fmt: skip
            for line, number in enumerate(numbers):
                (ups if number >= 0 else downs)[line] += number
            continue
        numbers, texts = rest_to_scale(content, groups, numbers, series.texts)
        places = [line + (at + 0.5 - len(content.series) / 2) * height for line in range(len(groups))]
        bars = axes.barh(places, numbers, height=height * 0.92, color=colours)
        axes.bar_label(bars, texts, padding=4, fontsize=8, color=QUIET)
    if panel.spec.stacked:
        for line in range(len(groups)):
            total = show(ups[line] + downs[line], content.format)
            axes.annotate(total, (ups[line], line), (4, 0), textcoords="offset points", fontsize=8, color=QUIET, va="center")  # fmt: skip
    axes.set_yticks(range(len(groups)), names)
    axes.set_ylim(len(groups) - 0.5, -0.5)
    _room_for_labels(axes, content, ups, downs, area.width - left)
    axes.axvline(0, color=RULE, linewidth=0.8)
    axes.spines[["top", "right", "bottom", "left"]].set_visible(False)
    axes.tick_params(length=0)
    axes.set_xticks([])
    _legend(axes, panel, content, area.width)


def rest_to_scale(
    content: ChartContent, groups: Sequence[str], numbers: Sequence[float], texts: Sequence[str]
) -> tuple[list[float], list[str]]:
    """The lengths of bars and what stands beside them; a rest that would make the others tiny is cut short, which is said."""
    lengths, said = [*numbers], [*texts[: len(groups)]]
    others = [abs(one) for one, group in zip(numbers, groups, strict=True) if group != content.rest]
    most = max(others, default=0.0) * LONGEST_REST
    for at, group in enumerate(groups):
        if content.rest and group == content.rest and most and abs(lengths[at]) > most:
            lengths[at] = most if lengths[at] > 0 else -most
            said[at] += "  (bar cut short)"
    return lengths, said


def _room_for_labels(
    axes: Axes, content: ChartContent, ups: Sequence[float], downs: Sequence[float], width: float
) -> None:
    """Limits that leave room for the figures beside the longest bars; `width` is that of the axes in inches."""
    bars = [rest_to_scale(content, content.groups[:MOST], [number or 0.0 for number in series.numbers[:MOST]], series.texts) for series in content.series]  # fmt: skip
    known = [number for lengths, _ in bars for number in lengths] if not any((*ups, *downs)) else []
    low, high = min([0.0, *known, *downs]), max([0.0, *known, *ups])
    texts = [text for _, said in bars for text in said] + [show(down, content.format) for down in (*ups, *downs)]
    share = min((max(map(len, texts), default=1) * 0.07 + 0.12) / width, 0.45)
    room = ((high - low) or 1.0) * share / (1 - share * ((low < 0) + (high > 0)) or 0.1)
    axes.set_xlim(low - room * (low < 0), high + room * (high > 0 or low == 0))


def _legend(axes: Axes, panel: PanelView, content: ChartContent, width: float) -> None:
    from matplotlib.patches import Patch

    if len(content.series) > 1:
        patches = [Patch(color=_colour(panel, content, at), label=cut(series.name, 24 if width > ROOMY else 14)) for at, series in enumerate(content.series)]  # fmt: skip
        axes.legend(
            handles=patches, loc="lower left", bbox_to_anchor=(0, 1), ncols=_legend_columns(width), frameon=False, fontsize=8,
            borderaxespad=0.2, handlelength=1, handleheight=0.9, columnspacing=1.4,
        )  # fmt: skip


def _lines_height(_panel: PanelView, content: ChartContent, width: float) -> float:
    return 2.6 + _legend_height(content, width)


def _draw_lines(area: Area, panel: PanelView, content: ChartContent) -> None:
    """Lines over dates, a point for each figure that there is."""
    if not content.groups:
        area.text(0, 0.2, "no dates", color=QUIET)
        return
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    known = [number for series in content.series for number in series.numbers if number is not None]
    widest = max((len(show(number, content.format)) for number in known), default=1)
    axes = area.axes(widest * LETTER + 0.1, 0.32)
    for at, series in enumerate(content.series):
        numbers = [float("nan") if number is None else number for number in series.numbers]
        axes.plot(
            [*content.at],
            numbers,
            color=_colour(panel, content, at),
            linewidth=1.6,
            marker="o" if len(content.at) <= 60 else "",
            markersize=2.6,
        )
    if known and min(known) >= 0:
        axes.set_ylim(0, (max(known) or 1.0) * 1.06)
    locator: Any = AutoDateLocator(minticks=3, maxticks=8)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    axes.yaxis.set_major_locator(MaxNLocator(5))
    whole = known and max(map(abs, known)) >= 20 and "%" not in content.format
    ticks = re.sub(r"\.0+(?=[^0]*$)", "", content.format) if whole else content.format
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: show(float(value), ticks) if ticks else f"{value:g}"))
    axes.grid(axis="y", color=RULE, linewidth=0.6)
    axes.set_axisbelow(True)
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(length=0, labelsize=8)
    _legend(axes, panel, content, area.width)


def chart_png(panel: PanelView, content: ChartContent, width: float = WIDE) -> bytes:
    """One chart alone as a PNG, so many inches wide."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    picture = PICTURES[panel.spec.kind]
    with mpl.rc_context(STYLE):
        inner = width - 0.15
        height = picture.height(panel, content, inner) + 0.1
        figure = Figure(figsize=(width, height))
        picture.draw(Area(figure, 0.05, 0.05, inner, height - 0.1 - _legend_height(content, inner)), panel, content)
        return _png(figure, 144)


def _png(figure: Figure, dpi: int) -> bytes:
    buffer = BytesIO()
    with warnings.catch_warnings():  # a letter that the font lacks is drawn as a box
        warnings.simplefilter("ignore", UserWarning)
        figure.savefig(buffer, format="png", dpi=dpi, metadata={"Software": None})
    return buffer.getvalue()


# -- figures, texts -----------------------------------------------------------------------------------------


def _figure_height(_panel: PanelView, content: FigureContent, _width: float) -> float:
    return 0.75


def _draw_figure(area: Area, _panel: PanelView, content: FigureContent) -> None:
    area.text(0, 0.22, content.value, fontsize=20)
    if content.change:
        area.text(0, 0.55, content.change, fontsize=9, color=QUIET)


def _wrapped(content: TextContent, width: float) -> list[str]:
    return "\n\n".join("\n".join(wrap(paragraph, int(width / LETTER))) for paragraph in content.paragraphs).split("\n")


def _text_height(_panel: PanelView, content: TextContent, width: float) -> float:
    return 0.19 * len(_wrapped(content, width)) + 0.1


def _draw_text(area: Area, _panel: PanelView, content: TextContent) -> None:
    for at, line in enumerate(_wrapped(content, area.width)):
        area.text(0, 0.19 * (at + 0.5), line)


@dataclass(frozen=True, slots=True)
class Picture:
    """How a kind of panel is drawn: how high it is at a width, in inches, and its drawing in an area."""

    height: Callable[[PanelView, Any, float], float]
    draw: Callable[[Area, PanelView, Any], None]


PICTURES: Mapping[str, Picture] = {
    "table": Picture(table_height, draw_table),
    "bars": Picture(_bars_height, _draw_bars),
    "lines": Picture(_lines_height, _draw_lines),
    "figure": Picture(_figure_height, _draw_figure),
    "text": Picture(_text_height, _draw_text),
}


# -- the sheet ----------------------------------------------------------------------------------------------

WIDE, EDGE, BETWEEN = 12.8, 0.4, 0.5
HALF = (WIDE - 2 * EDGE - BETWEEN) / 2


def report_png(view: ReportView) -> bytes:
    """A whole report on one sheet, 1280 pixels wide: key figures four in a row, the other panels two in a row."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    figures = [panel for panel in view.panels if panel.spec.kind == "figure"]
    others = [panel for panel in view.panels if panel.spec.kind != "figure"]
    rows = [figures[at : at + 4] for at in range(0, len(figures), 4)] + _in_rows(others)
    with mpl.rc_context(STYLE):
        heights = [max(_whole_height(panel, _width(row)) for panel in row) for row in rows]
        total = 0.95 + sum(heights) + 0.35 * len(rows)
        figure = Figure(figsize=(WIDE, max(total, 4.0)))
        top = max(total, 4.0)
        _heading(Area(figure, EDGE, top - 0.95, WIDE - 2 * EDGE, 0.95), view)
        top -= 0.95
        for row, height in zip(rows, heights, strict=True):
            width = _width(row)
            step = width + BETWEEN
            for at, panel in enumerate(row):
                _draw_whole(Area(figure, EDGE + at * step, top - height, width, height), panel)
            top -= height + 0.35
        return _png(figure, 100)


def _in_rows(panels: Sequence[PanelView]) -> list[list[PanelView]]:
    """Panels two in a row; a table that is wider than half of the sheet has a row of its own."""
    rows: list[list[PanelView]] = []
    for panel in panels:
        wide = isinstance(panel.content, TableContent) and table_width(panel.content) > HALF
        alone = bool(rows) and any(isinstance(view.content, TableContent) and table_width(view.content) > HALF for view in rows[-1])  # fmt: skip
        if wide or alone or not rows or len(rows[-1]) == 2:
            rows.append([])
        rows[-1].append(panel)
    return rows


def _width(row: Sequence[PanelView]) -> float:
    """How wide each panel of a row is."""
    room = WIDE - 2 * EDGE
    if row[0].spec.kind == "figure":
        return room / 4 - BETWEEN
    return room if len(row) == 1 else HALF


def _heading(area: Area, view: ReportView) -> None:
    area.text(0, 0.38, view.name, fontsize=17, fontweight="bold")
    area.text(0, 0.76, view.under(), fontsize=9, color=RUST if view.is_draft else QUIET)


def _notes(panel: PanelView) -> list[tuple[str, str]]:
    """What is said under a panel, with its colour."""
    content = panel.content
    said = [(f"Warning: {finding.message}", RUST) for finding in panel.findings] if content is not None else []
    said += [(f"not computed: {fault.sentence()}", RUST) for fault in (panel.answer.faults if panel.answer else ())]
    notes = content.notes if content is not None else ()
    cut = 0
    if isinstance(content, ChartContent) and panel.spec.kind == "bars":
        cut = len(content.groups) - MOST
    elif isinstance(content, TableContent):
        cut = len(content.lines) - MOST
    if cut > 0:
        notes = (*notes, f"… and {cut:,} more lines, which this picture has no room for")
    return [(line, colour) for text, colour in [*((note, QUIET) for note in notes), *said] for line in wrap(text, int(HALF / LETTER))]  # fmt: skip


def _broken(panel: PanelView) -> list[str]:
    return [line for finding in panel.findings[:2] for line in wrap(f"broken: {finding.message}", 70)]


def _whole_height(panel: PanelView, width: float) -> float:
    if panel.content is None:
        return 0.35 + 0.2 * len(_broken(panel)) + 0.1
    return 0.35 + PICTURES[panel.spec.kind].height(panel, panel.content, width) + 0.18 * len(_notes(panel))


def _draw_whole(area: Area, panel: PanelView) -> None:
    """A panel with its title and what is said under it."""
    figure = panel.spec.kind == "figure"
    look: dict[str, Any] = {"fontsize": 9, "color": QUIET} if figure else {"fontsize": 11, "fontweight": "bold"}
    area.text(0, 0.14, cut(panel.title, int(area.width / LETTER)), **look)
    if panel.content is None:
        for at, line in enumerate(_broken(panel)):
            area.text(0, 0.42 + 0.2 * at, line, color=RUST)
        return
    notes = _notes(panel)
    picture = PICTURES[panel.spec.kind]
    height = picture.height(panel, panel.content, area.width)
    legend = _legend_height(panel.content, area.width) if isinstance(panel.content, ChartContent) else 0.0
    below = area.bottom + area.height - 0.35 - height
    picture.draw(Area(area.figure, area.left, below, area.width, height - legend), panel, panel.content)
    for at, (line, colour) in enumerate(notes):
        area.text(0, 0.35 + height + 0.18 * (at + 0.5), line, fontsize=8, color=colour)
