"""Draw the rooms of the house and who imports whom, from the imports themselves: `python tools/rooms.py` writes docs/rooms.svg."""

from __future__ import annotations

import ast
import tomllib
from pathlib import Path
from xml.sax.saxutils import escape

ROOT = Path(__file__).parent.parent
HOUSE = ROOT / "src" / "oak_ledger"
DRAWING = ROOT / "docs" / "rooms.svg"
LEFT, WIDTH, HEIGHT, GAP = 20, 760, 40, 12
ARCS = 190  # room for arcs on the right


def rooms() -> list[str]:
    """The rooms, the highest first, as the contract of imports has them."""
    contracts = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["tool"]["importlinter"]["contracts"]
    layers = next(one["layers"] for one in contracts if one["id"] == "folders")
    return [one.removeprefix("oak_ledger.") for one in layers]


def sentence(room: str) -> str:
    """What a room says of itself: the first sentence of its docstring."""
    path = HOUSE / room / "__init__.py"
    text = ast.get_docstring(ast.parse((path if path.is_file() else HOUSE / f"{room}.py").read_text("utf-8"))) or ""
    return " ".join(text.split("\n\n")[0].split()).split(". ")[0].rstrip(".").replace("`", "")


def imports() -> dict[str, set[str]]:
    """For each room, the rooms that it imports."""
    known = {*rooms()}
    found: dict[str, set[str]] = {room: set() for room in known}
    for path in HOUSE.rglob("*.py"):
        room = path.relative_to(HOUSE).parts[0].removesuffix(".py")
        if room not in known:
            continue
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            names = [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            names += [one.name for one in node.names] if isinstance(node, ast.Import) else []
            for name in names:
                parts = name.split(".")
                if parts[0] == "oak_ledger" and len(parts) > 1 and parts[1] in known - {room}:
                    found[room].add(parts[1])
    return found


def direct(found: dict[str, set[str]]) -> dict[str, set[str]]:
    """The imports that do not follow from others: what a room reaches through another one is not drawn."""

    def reached(room: str) -> set[str]:
        below = found[room]
        return below | {one for other in below for one in reached(other)}

    return {
        room: {one for one in below if not any(one in reached(other) for other in below - {one})}
        for room, below in found.items()
    }


def drawing() -> str:
    """The rooms as a picture: a floor each, arcs from each room to those that it imports."""
    order = rooms()
    top = {room: 20 + at * (HEIGHT + GAP) for at, room in enumerate(order)}
    lines = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{LEFT + WIDTH + ARCS}" height="{20 + len(order) * (HEIGHT + GAP)}" font-family="sans-serif">',
        '<rect width="100%" height="100%" fill="#fbfaf7"/>',
    ]
    found = direct(imports())
    for room, below in ((room, found[room]) for room in order):
        for other in sorted(below, key=order.index):
            start, end = top[room] + HEIGHT / 2 + 6, top[other] + HEIGHT / 2 - 6
            far = LEFT + WIDTH + min(24 + 0.28 * (end - start), ARCS - 8)
            lines.append(f'<path d="M {LEFT + WIDTH} {start} C {far} {start}, {far} {end}, {LEFT + WIDTH} {end}" fill="none" stroke="#8a6d3b" stroke-width="1.2" marker-end="url(#tip)"/>')  # fmt: skip
    lines.insert(1, '<defs><marker id="tip" markerWidth="7" markerHeight="7" refX="6" refY="3" orient="auto"><path d="M0,0 L6,3 L0,6 Z" fill="#8a6d3b"/></marker></defs>')  # fmt: skip
    for room in order:
        y, said = top[room], escape(sentence(room))
        said = said if len(said) <= 96 else said[:95].rsplit(" ", 1)[0] + " …"
        lines += [
            f'<rect x="{LEFT}" y="{y}" width="{WIDTH}" height="{HEIGHT}" rx="4" fill="#ffffff" stroke="#c9bfa8"/>',
            f'<text x="{LEFT + 12}" y="{y + 25}" font-size="15" font-weight="bold" fill="#2f2a1f">{room}</text>',
            f'<text x="{LEFT + 110}" y="{y + 25}" font-size="12" fill="#4a4436">{said}</text>',
        ]
    return "\n".join([*lines, "</svg>", ""])


if __name__ == "__main__":
    DRAWING.write_text(drawing(), "utf-8")
    print(f"{DRAWING.name}: {len(rooms())} rooms, {sum(map(len, direct(imports()).values()))} arcs")
