"""A picture of a field's lineage: columns at the left, the field in the middle, panels at the right."""

from __future__ import annotations

import io
from itertools import chain
from pathlib import Path
from typing import NamedTuple

from oak_ledger.errors import OakError
from oak_ledger.files import write_atomically
from oak_ledger.present.figures import RUST
from oak_ledger.reference import Lineage, Piece

LEAF, QUIET = "#4a7c3a", "#6d7770"
LINE, LETTER, BETWEEN = 0.3, 0.074, 0.8  # inches of a line of text, of a letter, and between columns
CUT = 34  # characters of a name


class Passing(NamedTuple):
    """A row between the pieces of a column, kept free for a line on its way to a later one."""

    needed: Piece
    by: Piece
    layer: int


Stop = Piece | Passing


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
        piece: layer for piece, layer in _layers(lineage.users, lineage.piece, 1).items() if piece != lineage.piece
    }
    columns = sorted({*layers.values()})
    ways = [_way(pair, layers, columns) for pair in dict.fromkeys((*lineage.needs, *lineage.users))]
    stops: list[list[Stop]] = [[piece for piece in layers if layers[piece] == layer] for layer in columns]
    for one in chain.from_iterable(ways):
        if isinstance(one, Passing):
            stops[columns.index(one.layer)].append(one)
    longest = max(map(len, stops))
    lefts: list[float] = []
    rights: list[float] = []
    places: dict[Stop, tuple[int, float]] = {}
    for at, own in enumerate(stops):
        if at:  # near what they are linked to
            own.sort(key=lambda one: _middle(one, ways, places))
        lefts.append(rights[-1] + BETWEEN if at else 0.1)
        rights.append(lefts[-1] + max([len(_label(one)) for one in own if isinstance(one, Piece)], default=0) * LETTER + 0.1)  # fmt: skip
        places |= {one: (at, (number + 0.5) * longest / len(own) * LINE + 0.6) for number, one in enumerate(own)}
    width, height = rights[-1] + 0.3, max(longest, 4) * LINE + 0.9
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
    for way in ways:
        xs, ys = [], []
        for one in way:  # level beside the names of a column, across only between columns
            at, y = places[one]
            begins = lefts[at] + len(_label(one)) * LETTER + 0.08 if isinstance(one, Piece) else lefts[at]
            xs += [lefts[at] - 0.06] if one is way[-1] else [begins, rights[at]]
            ys += [y] if one is way[-1] else [y, y]
        axes.plot(xs, ys, color="#c9d2cb", linewidth=0.8, zorder=1)
    colours = {"formula": LEAF, "local field": LEAF, "column": QUIET, "panel": RUST, "text": RUST}
    for one, (at, y) in places.items():
        if isinstance(one, Piece):
            weight = "bold" if one == lineage.piece else "normal"
            axes.text(lefts[at], y, _label(one), fontsize=8.5, color=colours.get(one.kind, "black"), va="center", weight=weight, zorder=2)  # fmt: skip
    buffer = io.BytesIO()
    figure.savefig(buffer, format="png", facecolor="white")
    return buffer.getvalue()


def _label(piece: Piece) -> str:
    name = piece.name if piece.kind in ("field", "formula", "constant", "filter") else f"{piece.kind} {piece.name}"
    return name if len(name) <= CUT else name[: CUT - 1] + "…"


def _way(pair: tuple[Piece, Piece], layers: dict[Piece, int], columns: list[int]) -> list[Stop]:
    """Where the line of a pair stops, a column after the other."""
    needed, by = pair
    between = [layer for layer in columns if layers[needed] < layer < layers[by]]
    return [needed, *(Passing(needed, by, layer) for layer in between), by]


def _middle(stop: Stop, ways: list[list[Stop]], places: dict[Stop, tuple[int, float]]) -> float:
    before = [places[way[at - 1]][1] for way in ways for at, one in enumerate(way) if at and one == stop and way[at - 1] in places]  # fmt: skip
    return sum(before) / len(before) if before else 0.0
