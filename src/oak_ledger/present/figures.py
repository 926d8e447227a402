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
from oak_ledger.report import PanelView, ReportView
from oak_ledger.report.content import ChartContent, FigureContent, TableContent, TextContent

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, QUIET, RULE = "#26302a", "#6d7770", "#d5dad3"
RUST = "#b5562b"
SERIES = ("#4b7f3c", "#a9744f", "#5a6f73", "#b89a3e", "#7b5a86", "#7d8f4e", "#2f6b75", "#9a4d4d")
REST = "#b9bfb8"
MOST = 30  # groups or lines in a picture; the page has them all
LETTER = 0.075  # the width of a letter at size 9, in inches
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


def _colour(panel: PanelView, content: ChartContent, at: int, group: str = "") -> str:
    """The colour of a series, or of a group where there is one series: that of its value, else the next one that no value has."""
    name, given = content.series[at].name, panel.spec.colours
    if content.rest and (name == content.rest or (group == content.rest and len(panel.spec.by) == 1)):
        return REST
    free = [one for one in SERIES if one not in given.values()] or [*SERIES]
    return given.get(name) or given.get(group) or free[at % len(free)]


# -- charts -------------------------------------------------------------------------------------------------


def _bars_height(panel: PanelView, content: ChartContent) -> float:
    bars = 1 if panel.spec.stacked else len(content.series)
    groups = min(len(content.groups), MOST)
    return max(groups * max(0.3, 0.17 * bars + 0.1), 0.6) + 0.15 + _legend_height(content)


def _legend_height(content: ChartContent) -> float:
    return 0.0 if len(content.series) == 1 else 0.28 * (1 + (len(content.series) - 1) // 4)


def _draw_bars(area: Area, panel: PanelView, content: ChartContent) -> None:
    """Horizontal bars, one group a line; each says its figure."""
    if not content.groups:
        area.text(0, 0.2, "no groups", color=QUIET)
        return
    groups = content.groups[:MOST]
    names = [_cut(one, 28) for one in groups]
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
        places = [line + (at + 0.5 - len(content.series) / 2) * height for line in range(len(groups))]
        bars = axes.barh(places, numbers, height=height * 0.92, color=colours)
        axes.bar_label(bars, [*series.texts[: len(groups)]], padding=4, fontsize=8, color=QUIET)
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
    _legend(axes, panel, content)


def _room_for_labels(
    axes: Axes, content: ChartContent, ups: Sequence[float], downs: Sequence[float], width: float
) -> None:
    """Limits that leave room for the figures beside the longest bars; `width` is that of the axes in inches."""
    known = [number for one in content.series for number in one.numbers if number is not None]
    low, high = min([0.0, *known, *downs]), max([0.0, *known, *ups])
    texts = [text for one in content.series for text in one.texts] + [
        show(one, content.format) for one in (*ups, *downs)
    ]
    share = min((max(map(len, texts), default=1) * 0.07 + 0.12) / width, 0.45)
    room = ((high - low) or 1.0) * share / (1 - share * ((low < 0) + (high > 0)) or 0.1)
    axes.set_xlim(low - room * (low < 0), high + room * (high > 0 or low == 0))


def _legend(axes: Axes, panel: PanelView, content: ChartContent) -> None:
    from matplotlib.patches import Patch

    if len(content.series) > 1:
        patches = [Patch(color=_colour(panel, content, at), label=_cut(one.name, 24)) for at, one in enumerate(content.series)]  # fmt: skip
        axes.legend(
            handles=patches, loc="lower left", bbox_to_anchor=(0, 1), ncols=4, frameon=False, fontsize=8,
            borderaxespad=0.2, handlelength=1, handleheight=0.9, columnspacing=1.4,
        )  # fmt: skip


def _lines_height(_panel: PanelView, content: ChartContent) -> float:
    return 2.6 + _legend_height(content)


def _draw_lines(area: Area, panel: PanelView, content: ChartContent) -> None:
    """Lines over dates, a point for each figure that there is."""
    if not content.groups:
        area.text(0, 0.2, "no dates", color=QUIET)
        return
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    known = [number for one in content.series for number in one.numbers if number is not None]
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
    _legend(axes, panel, content)


def chart_png(panel: PanelView, content: ChartContent) -> bytes:
    """One chart alone as a PNG."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    picture = PICTURES[panel.spec.kind]
    with mpl.rc_context(STYLE):
        height = picture.height(panel, content) + 0.1
        figure = Figure(figsize=(5.8, height))
        picture.draw(Area(figure, 0.05, 0.05, 5.65, height - 0.1 - _legend_height(content)), panel, content)
        return _png(figure, 144)


def _png(figure: Figure, dpi: int) -> bytes:
    buffer = BytesIO()
    with warnings.catch_warnings():  # a letter that the font lacks is drawn as a box
        warnings.simplefilter("ignore", UserWarning)
        figure.savefig(buffer, format="png", dpi=dpi, metadata={"Software": None})
    return buffer.getvalue()


# -- tables, figures, texts ---------------------------------------------------------------------------------

ROW = 0.24


def _table_height(_panel: PanelView, content: TableContent) -> float:
    return ROW * (min(len(content.lines), MOST) + 1) + 0.1


def _draw_table(area: Area, _panel: PanelView, content: TableContent) -> None:
    last = [line for line in content.lines if line.role in ("rest", "total")]
    first = [line for line in content.lines if line.role not in ("rest", "total")][: MOST - len(last)]
    lines = [*first, *last]
    cells = [list(content.names), *([*line.cells] for line in lines)]
    widths = [max(len(row[at]) for row in cells) + 2 for at in range(len(content.names))]
    unit = min(LETTER, area.width / sum(widths))
    most = [max(int(width * area.width / sum(widths) / LETTER), 4) for width in widths]
    edges = [sum(widths[:at]) * unit for at in range(len(widths) + 1)]
    for row, texts in enumerate(cells):
        line = lines[row - 1] if row else None
        bold = line is None or line.role in ("subtotal", "total")
        for at, text in enumerate(texts):
            right = content.numeric[at]
            x = edges[at + 1] - 2 * unit if right else edges[at]
            shown = _cut(text, max(most[at], 24 if not right else 12))
            quiet = text == "null" or (line is not None and line.role == "rest")
            area.text(x, (row + 0.5) * ROW, shown, fontsize=8.5, ha="right" if right else "left", fontweight="bold" if bold else "normal", color=QUIET if quiet else INK)  # fmt: skip
        if row == 0 or (line is not None and line.role == "total"):
            _rule(area, (row + (row == 0)) * ROW, edges[-1])


def _rule(area: Area, down: float, width: float) -> None:
    from matplotlib.lines import Line2D

    wide, high = area.figure.get_size_inches()
    y = (area.bottom + area.height - down) / high
    area.figure.add_artist(Line2D((area.left / wide, (area.left + width) / wide), (y, y), color=RULE, linewidth=0.8))


def _figure_height(_panel: PanelView, content: FigureContent) -> float:
    return 0.75


def _draw_figure(area: Area, _panel: PanelView, content: FigureContent) -> None:
    area.text(0, 0.22, content.value, fontsize=20)
    if content.change:
        area.text(0, 0.55, content.change, fontsize=9, color=QUIET)


def _wrapped(content: TextContent, width: float) -> list[str]:
    return "\n\n".join("\n".join(wrap(one, int(width / LETTER))) for one in content.paragraphs).split("\n")


def _text_height(_panel: PanelView, content: TextContent) -> float:
    return 0.19 * len(_wrapped(content, HALF)) + 0.1


def _draw_text(area: Area, _panel: PanelView, content: TextContent) -> None:
    for at, line in enumerate(_wrapped(content, area.width)):
        area.text(0, 0.19 * (at + 0.5), line)


@dataclass(frozen=True, slots=True)
class Picture:
    """How a kind of panel is drawn: how high it is in inches, and its drawing in an area."""

    height: Callable[[PanelView, Any], float]
    draw: Callable[[Area, PanelView, Any], None]


PICTURES: Mapping[str, Picture] = {
    "table": Picture(_table_height, _draw_table),
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
    rows = [figures[at : at + 4] for at in range(0, len(figures), 4)] + [others[at : at + 2] for at in range(0, len(others), 2)]  # fmt: skip
    with mpl.rc_context(STYLE):
        heights = [max(_whole_height(panel) for panel in row) for row in rows]
        total = 0.95 + sum(heights) + 0.35 * len(rows)
        figure = Figure(figsize=(WIDE, max(total, 4.0)))
        top = max(total, 4.0)
        _heading(Area(figure, EDGE, top - 0.95, WIDE - 2 * EDGE, 0.95), view)
        top -= 0.95
        for row, height in zip(rows, heights, strict=True):
            room = WIDE - 2 * EDGE
            step = room / 4 if row[0].spec.kind == "figure" else HALF + BETWEEN
            for at, panel in enumerate(row):
                width = step - BETWEEN if len(row) > 1 or panel.spec.kind == "figure" else room
                _draw_whole(Area(figure, EDGE + at * step, top - height, width, height), panel)
            top -= height + 0.35
        return _png(figure, 100)


def _heading(area: Area, view: ReportView) -> None:
    area.text(0, 0.38, view.name, fontsize=17, fontweight="bold")
    area.text(0, 0.76, view.under(), fontsize=9, color=RUST if view.is_draft else QUIET)


def _notes(panel: PanelView) -> list[tuple[str, str]]:
    """What is said under a panel, with its colour."""
    content = panel.content
    said = [(f"Warning: {one.message}", RUST) for one in panel.findings] if content is not None else []
    said += [(f"not computed: {one.sentence()}", RUST) for one in (panel.answer.faults if panel.answer else ())]
    notes = content.notes if content is not None else ()
    cut = 0
    if isinstance(content, ChartContent) and panel.spec.kind == "bars":
        cut = len(content.groups) - MOST
    elif isinstance(content, TableContent):
        cut = len(content.lines) - MOST
    if cut > 0:
        notes = (*notes, f"… and {cut:,} more lines, which this picture has no room for")
    return [(line, colour) for text, colour in [*((one, QUIET) for one in notes), *said] for line in wrap(text, int(HALF / LETTER))]  # fmt: skip


def _broken(panel: PanelView) -> list[str]:
    return [line for one in panel.findings[:2] for line in wrap(f"broken: {one.message}", 70)]


def _whole_height(panel: PanelView) -> float:
    if panel.content is None:
        return 0.35 + 0.2 * len(_broken(panel)) + 0.1
    return 0.35 + PICTURES[panel.spec.kind].height(panel, panel.content) + 0.18 * len(_notes(panel))


def _draw_whole(area: Area, panel: PanelView) -> None:
    """A panel with its title and what is said under it."""
    figure = panel.spec.kind == "figure"
    look: dict[str, Any] = {"fontsize": 9, "color": QUIET} if figure else {"fontsize": 11, "fontweight": "bold"}
    area.text(0, 0.14, _cut(panel.title, int(area.width / LETTER)), **look)
    if panel.content is None:
        for at, line in enumerate(_broken(panel)):
            area.text(0, 0.42 + 0.2 * at, line, color=RUST)
        return
    notes = _notes(panel)
    picture = PICTURES[panel.spec.kind]
    height = picture.height(panel, panel.content)
    legend = _legend_height(panel.content) if isinstance(panel.content, ChartContent) else 0.0
    below = area.bottom + area.height - 0.35 - height
    picture.draw(Area(area.figure, area.left, below, area.width, height - legend), panel, panel.content)
    for at, (line, colour) in enumerate(notes):
        area.text(0, 0.35 + height + 0.18 * (at + 0.5), line, fontsize=8, color=colour)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 1]}…"
