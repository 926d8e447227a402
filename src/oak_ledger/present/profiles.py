"""Pictures of profiles: one sheet for a source, one for a field; and a distribution in a few characters."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

from oak_ledger.definition.formats import plain
from oak_ledger.files import write_atomically
from oak_ledger.insight.profile import FieldProfile
from oak_ledger.present.area import INK, QUIET
from oak_ledger.present.figures import RUST, SERIES, STYLE

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

BLOCKS = " ▁▂▃▄▅▆▇█"
ACROSS = 4


def bar_text(profile: FieldProfile, width: int = 12) -> str:
    """The distribution of numbers and dates as a row of blocks; empty for other values."""
    rows = [one[2] for one in profile.bins]
    if len(rows) < 2:
        return ""
    step = max(1, -(-len(rows) // width))
    sums = [sum(rows[at : at + step]) for at in range(0, len(rows), step)]
    peak = max(sums) or 1
    return "".join(BLOCKS[-(-8 * sum_ // peak)] for sum_ in sums)


def save_profile(profiles: Sequence[FieldProfile], name: str, path: str | Path) -> Path:
    """Write the picture of one field or of all, as a PNG."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    target = Path(path)
    with mpl.rc_context(STYLE):
        if len(profiles) == 1:
            figure = Figure(figsize=(12.8, 7.2))
            _one(figure, profiles[0], name)
        else:
            lines = -(-len(profiles) // ACROSS)
            figure = Figure(figsize=(12.8, 1.0 + 1.75 * lines))
            _all(figure, profiles, name)
        buffer = BytesIO()
        figure.savefig(buffer, format="png", dpi=100)
    write_atomically(target, lambda temporary: temporary.write_bytes(buffer.getvalue()))
    return target


def distribution_png(profile: FieldProfile) -> bytes:
    """How numbers or dates are spread, as a small picture; nothing for other values."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    if not profile.bins:
        return b""
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(4.2, 1.3))
        _distribution(figure.add_axes((0.03, 0.2, 0.94, 0.75)), profile, small=False)
        buffer = BytesIO()
        figure.savefig(buffer, format="png", dpi=100)
    return buffer.getvalue()


def _all(figure: Figure, profiles: Sequence[FieldProfile], name: str) -> None:
    height = figure.get_figheight()
    figure.text(0.02, 1 - 0.35 / height, name, fontsize=16, fontweight="bold", va="center")
    rows = max((profile.rows for profile in profiles), default=0)
    said = f"{rows:,} rows, {len(profiles)} fields"
    figure.text(0.02, 1 - 0.68 / height, said, fontsize=9, color=QUIET, va="center")
    for at, profile in enumerate(profiles):
        left = 0.02 + (at % ACROSS) * 0.245
        top = 1 - (1.0 + 1.75 * (at // ACROSS)) / height
        _head(figure, profile, left, top, height)
        axes = figure.add_axes((left, top - 1.5 / height, 0.225, 0.85 / height))
        _distribution(axes, profile, small=True)


def _head(figure: Figure, profile: FieldProfile, left: float, top: float, height: float) -> None:
    figure.text(left, top - 0.12 / height, profile.field, fontsize=10, fontweight="bold", va="center")
    kind = profile.type
    share = 100 * profile.nulls / max(profile.rows, 1)
    nulls = f", nulls {share:.1f} %" if share >= 0.1 else f", {profile.nulls:,} nulls" if profile.nulls else ""
    said = f"{kind}, {profile.distinct:,} distinct{nulls}"
    figure.text(left, top - 0.31 / height, said, fontsize=7.5, color=QUIET, va="center")
    if profile.suspicions:
        odd = f"suspicious: {profile.suspicions[0].what}"
        figure.text(left, top - 0.47 / height, _cut(odd, 52), fontsize=7.5, color=RUST, va="center")


def _distribution(axes: Axes, profile: FieldProfile, *, small: bool) -> None:
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(length=0, labelsize=7 if small else 9)
    if profile.bins:
        _histogram(axes, profile.bins, 3 if small else 7, whole=profile.type == "integer")
        return
    common = profile.common[: 4 if small else 8][::-1]
    axes.spines["bottom"].set_visible(False)
    axes.set_xticks([])
    if profile.distinct == profile.rows - profile.nulls and profile.distinct > 1:
        axes.set_yticks([])
        axes.text(
            0,
            0.75,
            f"every value is distinct\n{_cut(plain(profile.minimum), 24)} … {_cut(plain(profile.maximum), 24)}",
            fontsize=8,
            color=QUIET,
            va="top",
            transform=axes.transAxes,
        )
        return
    bars = axes.barh(range(len(common)), [rows for _, rows in common], color=SERIES[0], height=0.7)
    axes.bar_label(
        bars,
        [f"{rows / max(profile.rows, 1):.1%}" for _, rows in common],
        padding=3,
        fontsize=7 if small else 9,
        color=QUIET,
    )
    axes.set_yticks(range(len(common)), [_cut(_visible(value), 12 if small else 30) for value, _ in common])
    axes.margins(x=0.25)
    if small:
        longest = max((len(_cut(_visible(value), 12)) for value, _ in common), default=1)
        box = axes.get_position()
        inset = min(0.004 * longest + 0.006, 0.09)
        axes.set_position((box.x0 + inset, box.y0, box.width - inset, box.height))


def _histogram(axes: Axes, bins: Sequence[tuple[Any, Any, int]], ticks: int, *, whole: bool) -> None:
    """Bars over a scale with a few round ticks; of dates, whose bins are named, over their names."""
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    rows = [part[2] for part in bins]
    axes.set_yticks([])
    if isinstance(bins[0][0], str):
        axes.bar(range(len(rows)), rows, width=0.92, color=SERIES[0])
        step = -(-len(rows) // ticks)
        at = range(0, len(rows), step)
        axes.set_xticks(at, [bins[one][0] for one in at])
        return
    starts, widths = [part[0] for part in bins], [part[1] - part[0] for part in bins]
    axes.bar(starts, rows, width=[0.92 * width for width in widths], align="edge", color=SERIES[0])
    axes.xaxis.set_major_locator(MaxNLocator(ticks, steps=[1, 2, 5, 10], integer=whole))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: _edge(value)))


def _visible(value: Any) -> str:
    text = plain(value)
    return repr(text) if isinstance(value, str) and text.strip() != text else text or "''"


def _cut(text: str, size: int) -> str:
    return text if len(text) <= size else text[: size - 1] + "…"


def _edge(value: Any) -> str:
    if isinstance(value, str):
        return value
    return f"{value:.4g}" if abs(value) < 1e4 else f"{value:,.0f}" if abs(value) < 1e12 else f"{value:.3g}"


def _one(figure: Figure, profile: FieldProfile, name: str) -> None:
    figure.text(0.04, 0.94, profile.field, fontsize=17, fontweight="bold", va="center")
    figure.text(0.04, 0.89, f"{name} · {profile.type}", fontsize=10, color=QUIET, va="center")
    facts = [
        ("rows", f"{profile.rows:,}"),
        ("null", f"{profile.nulls:,}"),
        ("distinct", f"{profile.distinct:,}"),
        ("minimum", plain(profile.minimum)),
        ("maximum", plain(profile.maximum)),
    ]
    if profile.average is not None:
        facts += [("average", f"{profile.average:,.4g}"), ("median", f"{profile.median:,.4g}")]
    if profile.longest:
        facts += [("shortest", _visible(profile.shortest)), ("longest", _visible(profile.longest))]
    for at, (label, value) in enumerate(facts):
        left = 0.04 + 0.92 / len(facts) * at
        figure.text(left, 0.82, label, fontsize=9, color=QUIET, va="center")
        figure.text(left, 0.775, _cut(value, 16), fontsize=12, va="center")
    lower = 0.12 + 0.06 * len(profile.suspicions[:3]) + (0.05 if profile.patterns else 0)
    inset = 0.16 if not profile.bins else 0.0
    _distribution(figure.add_axes((0.04 + inset, lower, 0.92 - inset, 0.7 - lower)), profile, small=False)
    y = lower - 0.1
    if profile.patterns:
        shapes = "shapes: " + ",  ".join(f"{shape!r} in {rows:,}" for shape, rows in profile.patterns)
        figure.text(0.04, y, _cut(shapes, 150), fontsize=9, color=QUIET, va="center")
        y -= 0.05
    for odd in profile.suspicions[:3]:
        samples = ", ".join(repr(text) for text in odd.samples[:3])
        figure.text(
            0.04,
            y,
            _cut(f"suspicious: {odd.what} in {odd.rows:,} rows, such as {samples}", 150),
            fontsize=9,
            color=RUST,
            va="center",
        )
        if odd.clean:
            figure.text(
                0.04,
                y - 0.025,
                _cut(f"clean: {odd.clean}   changes {odd.changes:,} values", 150),
                fontsize=9,
                color=INK,
                va="center",
                family="DejaVu Sans Mono",
            )
        y -= 0.06
