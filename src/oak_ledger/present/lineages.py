"""A picture of a field's lineage: columns at the left, the field in the middle, panels at the right."""

from __future__ import annotations

import io
from pathlib import Path

from oak_ledger.errors import OakError
from oak_ledger.files import write_atomically
from oak_ledger.present.figures import RUST
from oak_ledger.reference import Lineage, Piece

LEAF, QUIET = "#4a7c3a", "#6d7770"
LINE, COLUMN = 0.3, 2.9  # inches of a line of text, and of a column of them
BEHIND = {"facecolor": "white", "edgecolor": "none", "pad": 1.0}  # so that no line runs through a name
CUT = 34  # characters of a name


def _layers(pairs: tuple[tuple[Piece, Piece], ...], top: Piece, step: int) -> dict[Piece, int]:
    """How far each piece is from the field, by the longest way; -1, -2, … to what it is made of, 1, 2, … to what is made of it."""
    found = {top: 0}
    for _ in range(len(pairs) + 1):
        before = dict(found)
        for needed, by in pairs:
            near, far = (by, needed) if step < 0 else (needed, by)
            if near in found:
                away = found[near] + step
                found[far] = away if far not in found else (min if step < 0 else max)(found[far], away)
        if found == before:
            break
    return found


def save_lineage(lineage: Lineage, path: str | Path) -> Path:
    """Write the picture (.png), whole or not at all."""
    target = Path(path)
    if target.suffix.lower() != ".png":
        raise OakError("unknown-ending", f"A trace cannot be written as {path}.", hint="Name a file ending in .png.")
    picture = lineage_png(lineage)
    write_atomically(target, lambda temporary: temporary.write_bytes(picture))
    return target


def lineage_png(lineage: Lineage) -> bytes:
    """The picture."""
    from matplotlib.figure import Figure

    layers = _layers(lineage.needs, lineage.piece, -1) | {
        one: layer for one, layer in _layers(lineage.users, lineage.piece, 1).items() if one != lineage.piece
    }
    columns = sorted({*layers.values()})
    places: dict[Piece, tuple[float, float]] = {}
    longest = max(list(layers.values()).count(layer) for layer in columns)
    for at, layer in enumerate(columns):
        own = [one for one in layers if layers[one] == layer]
        if at:  # near what they are linked to
            own.sort(key=lambda one: _middle(one, lineage, places))
        gap = longest / len(own)
        places |= {one: (at * COLUMN + 0.1, (number + 0.5) * gap * LINE) for number, one in enumerate(own)}
    width, height = len(columns) * COLUMN + 0.4, max(longest, 4) * LINE + 0.9
    figure = Figure(figsize=(width, height), dpi=110)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, width)
    axes.set_ylim(height, 0)
    axes.axis("off")
    axes.text(
        0.1,
        0.3,
        f"{lineage.piece.name}: what it is made of, and what is made of it",
        fontsize=12,
        weight="bold",
        va="center",
    )
    for needed, by in (*lineage.needs, *lineage.users):
        (x, y), (to_x, to_y) = places[needed], places[by]
        start = x + min(len(_label(needed)), CUT) * 0.072 + 0.08
        axes.plot([start, to_x - 0.06], [y + 0.6, to_y + 0.6], color="#c9d2cb", linewidth=0.8, zorder=1)
    colours = {"formula": LEAF, "local field": LEAF, "column": QUIET, "panel": RUST, "text": RUST}
    for one, (x, y) in places.items():
        weight = "bold" if one == lineage.piece else "normal"
        axes.text(
            x,
            y + 0.6,
            _label(one),
            fontsize=8.5,
            color=colours.get(one.kind, "black"),
            va="center",
            weight=weight,
            bbox=BEHIND,
            zorder=2,
        )
    buffer = io.BytesIO()
    figure.savefig(buffer, format="png", facecolor="white")
    return buffer.getvalue()


def _label(piece: Piece) -> str:
    name = piece.name if piece.kind in ("field", "formula", "constant", "filter") else f"{piece.kind} {piece.name}"
    return name if len(name) <= CUT else name[: CUT - 1] + "…"


def _middle(piece: Piece, lineage: Lineage, places: dict[Piece, tuple[float, float]]) -> float:
    near = [
        places[one][1]
        for pair in (*lineage.needs, *lineage.users)
        if piece in pair
        for one in pair
        if one != piece and one in places
    ]
    return sum(near) / len(near) if near else 0.0
