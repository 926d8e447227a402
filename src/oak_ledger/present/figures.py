"""Figures by Matplotlib: bars of one panel, and a whole report on one sheet."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from typing import TYPE_CHECKING, Any

from oak_ledger.report import PanelView, ReportView
from oak_ledger.source.formats import show

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, QUIET, RULE = "#26302a", "#6d7770", "#d5dad3"
RUST = "#b5562b"
BARS = ("#4b7f3c", "#a9744f", "#7d8f4e", "#5a6f73", "#b89a3e")
ROWS_DRAWN = 18
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


def draw_bars(axes: Axes, panel: PanelView) -> None:
    """Horizontal bars, one group a line, one bar a measure; each says its figure."""
    answer = panel.answer
    if answer is None:
        return
    rows = answer.to_dicts()[:ROWS_DRAWN][::-1]
    key, *measures = answer.names
    names = ["null" if row[key] is None else show(row[key], answer.formats.get(key, "")) for row in rows]
    height = 0.78 / len(measures)
    for at, measure in enumerate(measures):
        values = [float(row[measure] or 0) for row in rows]
        places = [line + (len(measures) / 2 - at - 0.5) * height for line in range(len(rows))]
        colours = [panel.spec.colours.get(str(row[key]), BARS[at % len(BARS)]) for row in rows]
        bars = axes.barh(places, values, height=height * 0.92, color=colours, label=measure)
        labels = [
            "null" if row[measure] is None else label(row[measure], answer.formats.get(measure, "")) for row in rows
        ]
        axes.bar_label(bars, labels, padding=4, fontsize=8, color=QUIET)
    axes.set_yticks(range(len(rows)), names)
    axes.margins(x=0.16)
    axes.spines[["top", "right", "bottom"]].set_visible(False)
    axes.tick_params(length=0)
    axes.set_xticks([])
    if len(measures) > 1:
        axes.legend(loc="lower right", frameon=False, fontsize=8)
    else:
        axes.set_xlabel(measures[0], loc="left", color=QUIET)
    cut = len(answer.to_dicts()) - len(rows)
    if cut:
        axes.text(0, -0.12, f"… and {cut} more", transform=axes.transAxes, color=QUIET, fontsize=8)


def label(value: Any, format_text: str) -> str:
    """A figure beside a bar: in its format, else short."""
    if format_text:
        return show(value, format_text)
    return show(value, "0,000" if abs(float(value)) >= 1000 else "0.00" if not isinstance(value, int) else "0")


def bars_png(panel: PanelView) -> bytes:
    """One bar panel as a PNG."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    lines = min(ROWS_DRAWN, panel.answer.table.num_rows if panel.answer else 1)
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(5.8, 0.8 + 0.34 * max(lines, 2)), layout="constrained")
        draw_bars(figure.add_subplot(), panel)
        return _png(figure, 144)


def _png(figure: Figure, dpi: int) -> bytes:
    buffer = BytesIO()
    figure.savefig(buffer, format="png", dpi=dpi, metadata={"Software": None})
    return buffer.getvalue()


def report_png(view: ReportView) -> bytes:
    """A whole report on one sheet, 1280 pixels wide: key figures, then the other panels two in a row."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    with mpl.rc_context(STYLE):
        figures = [panel for panel in view.panels if panel.spec.kind == "figure"]
        others = [panel for panel in view.panels if panel.spec.kind != "figure"]
        pairs = [others[at : at + 2] for at in range(0, len(others), 2)]
        heights = [0.95, *([1.05] if figures else []), *(max(_height(panel) for panel in pair) for pair in pairs)]
        figure = Figure(figsize=(12.8, max(4.0, sum(heights) + 0.4)))
        top = 1.0
        total = sum(heights) + 0.4
        for at, height in enumerate(heights):
            low = top - height / total
            box = (low, top)
            if at == 0:
                _heading(figure, view, box)
            elif at == 1 and figures:
                _key_figures(figure, figures, box)
            else:
                _pair(figure, pairs[at - 1 - bool(figures)], box)
            top = low
        return _png(figure, 100)


def _height(panel: PanelView) -> float:
    if panel.answer is None:
        return 1.6
    rows = min(ROWS_DRAWN, int(panel.answer.table.num_rows)) + (panel.answer.totals is not None)
    return 1.05 + rows * (0.3 if panel.spec.kind == "bars" else 0.24)


def _heading(figure: Figure, view: ReportView, box: tuple[float, float]) -> None:
    low, high = box
    size = high - low
    figure.text(0.03, high - size * 0.38, view.name, fontsize=17, fontweight="bold", va="center")
    under = " · ".join(
        part
        for part in (view.text, f"{view.source}, {view.version}", f"built by {view.owner}" if view.owner else "")
        if part
    )
    figure.text(0.03, high - size * 0.78, under, fontsize=9, color=QUIET, va="center")


def _key_figures(figure: Figure, panels: Sequence[PanelView], box: tuple[float, float]) -> None:
    low, high = box
    width = 0.94 / max(len(panels), 3)
    for at, panel in enumerate(panels):
        left = 0.03 + at * width
        value = figure_text(panel)
        colour = RUST if panel.answer is None else INK
        figure.text(left, high - (high - low) * 0.25, panel.title, fontsize=9, color=QUIET, va="center")
        figure.text(
            left, high - (high - low) * 0.62, value, fontsize=20 if panel.answer else 11, color=colour, va="center"
        )


def figure_text(panel: PanelView) -> str:
    """The value of a key figure as text, or the word `broken`."""
    if panel.answer is None:
        return "broken"
    value = panel.answer.to_dicts()[0][panel.answer.names[0]] if panel.answer.table.num_rows else None
    return "null" if value is None else label(value, panel.answer.formats.get(panel.answer.names[0], ""))


def _pair(figure: Figure, panels: Sequence[PanelView], box: tuple[float, float]) -> None:
    low, high = box
    size = high - low
    inches = size * figure.get_figheight()
    wide = len(panels) == 1
    for at, panel in enumerate(panels):
        left, width = (0.03 + at * 0.49, 0.94 if wide else 0.45)
        figure.text(left, high - 0.18 / inches * size, panel.title, fontsize=11, fontweight="bold", va="center")
        bottom = low + 0.35 / inches * size
        height = size - 0.8 / inches * size
        if panel.answer is None:
            _broken(figure, panel, left, high - 0.5 / inches * size)
        elif panel.spec.kind == "bars":
            longest = max((len(str(row[panel.answer.names[0]])) for row in panel.answer.to_dicts()), default=4)
            inset = min(0.16, 0.006 * longest + 0.012)
            draw_bars(figure.add_axes((left + inset, bottom, width - inset, height)), panel)
        else:
            _table(figure.add_axes((left, bottom, width, height)), panel)


def _broken(figure: Figure, panel: PanelView, left: float, top: float) -> None:
    from textwrap import fill

    said = "\n".join(fill(f"broken: {found.message}", 70) for found in panel.findings[:2])
    figure.text(left, top, said, fontsize=9, color=RUST, va="top")


def _table(axes: Axes, panel: PanelView) -> None:
    answer = panel.answer
    axes.axis("off")
    if answer is None:
        return
    shown = answer.shown()[:ROWS_DRAWN]
    lines = [
        answer.names,
        *shown,
        *(
            [["all" if not cell and at == 0 else cell for at, cell in enumerate(answer.totals_shown())]]
            if answer.totals
            else []
        ),
    ]
    count = len(lines)
    kinds = [isinstance(value, str) or value is None for value in (answer.to_dicts() or [{}])[0].values()] or [True]
    widths = [max(len(str(line[at])) for line in lines) + 2 for at in range(len(answer.names))]
    edges = [sum(widths[:at]) / sum(widths) for at in range(len(widths) + 1)]
    limit = max(8, int(70 / max(len(widths), 1)))
    for row, line in enumerate(lines):
        y = 1 - (row + 0.5) / count
        bold = row == 0 or (answer.totals is not None and row == count - 1)
        for at, cell in enumerate(line):
            left = kinds[at] if at < len(kinds) else True
            x = edges[at] if left else edges[at + 1] - 0.01
            text = cell if len(cell) <= max(limit, 24) else cell[: max(limit, 24) - 1] + "…"
            axes.text(
                x,
                y,
                text or ("null" if row else ""),
                fontsize=8.5,
                ha="left" if left else "right",
                va="center",
                fontweight="bold" if bold else "normal",
                color=INK if cell else QUIET,
            )
        if row == 0 or (answer.totals is not None and row == count - 2):
            axes.plot((0, 1), (1 - (row + 1) / count,) * 2, color=RULE, linewidth=0.8, clip_on=False)
    axes.set_xlim(0, 1)
    axes.set_ylim(0, 1)
