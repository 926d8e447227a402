"""Tables in pictures: no number is ever cut. A table that is too wide for its place goes on in a block below, with its first columns again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from textwrap import wrap

from oak_ledger.present.area import INK, LETTER, MOST, QUIET, Area, cut
from oak_ledger.report import PanelView
from oak_ledger.report.content import Line, TableContent

ROW, HEADER_LINE = 0.24, 0.17
DIGIT, GAP = 0.0765, 0.18  # of a digit at size 8.5, and between columns, in inches
LEAST_TEXT, MOST_TEXT = 0.9, 2.4  # of a column of texts
TEXTS_SHARE = 0.5  # of the width, for all columns of texts together
BETWEEN = 0.16  # blocks


@dataclass(frozen=True, slots=True)
class _Block:
    """Columns that stand beside each other, with their widths, and the lines of their names."""

    columns: tuple[int, ...]
    widths: tuple[float, ...]
    names: tuple[list[str], ...]

    @property
    def header(self) -> float:
        return HEADER_LINE * max(map(len, self.names)) + 0.07


def lines_of(content: TableContent) -> list[Line]:
    """The lines that a picture has room for; the rest and the totals always."""
    last = [line for line in content.lines if line.role in ("rest", "total")]
    return [*[line for line in content.lines if line.role not in ("rest", "total")][: MOST - len(last)], *last]


def table_width(content: TableContent) -> float:
    """How wide a table would like to be, in inches."""
    return sum(_wanted(content))


def table_height(_panel: PanelView, content: TableContent, width: float) -> float:
    """How high a table of such a width is."""
    rows = ROW * len(lines_of(content))
    blocks = _blocks(content, width)
    return sum(block.header + rows for block in blocks) + BETWEEN * (len(blocks) - 1) + 0.1


def draw_table(area: Area, _panel: PanelView, content: TableContent) -> None:
    """The names, and a line for each group; totals are bold."""
    lines, down = lines_of(content), 0.0
    for block in _blocks(content, area.width):
        edges = [sum(block.widths[:at]) for at in range(len(block.widths) + 1)]
        right = [content.numeric[at] for at in block.columns]
        for at, names in enumerate(block.names):
            x = edges[at + 1] - GAP / 2 if right[at] else edges[at]
            for number, name in enumerate(names):
                below = block.header - 0.07 - HEADER_LINE * (len(names) - number - 0.5)
                area.text(x, down + below, name, fontsize=8.5, ha="right" if right[at] else "left", fontweight="bold")
        down += block.header
        area.rule(down, edges[-1])
        for line in lines:
            if line.role == "total":
                area.rule(down, edges[-1])
            bold = line.role in ("subtotal", "total")
            for at, column in enumerate(block.columns):
                text = line.cells[column]
                quiet = text == "null" or line.role == "rest"
                x = edges[at + 1] - GAP / 2 if right[at] else edges[at]
                shown = text if right[at] else cut(text, max(int((block.widths[at] - GAP / 2) / LETTER), 3))
                area.text(x, down + 0.5 * ROW, shown, fontsize=8.5, ha="right" if right[at] else "left", fontweight="bold" if bold else "normal", color=QUIET if quiet else INK)  # fmt: skip
            down += ROW
        down += BETWEEN


def _wanted(content: TableContent, most: float = MOST_TEXT) -> list[float]:
    """How wide each column would like to be; one of texts at `most`."""
    lines = lines_of(content)
    found = []
    for at, name in enumerate(content.names):
        longest = max((len(line.cells[at]) for line in lines), default=1)
        if content.numeric[at]:
            word = max(map(len, name.split()), default=1)
            found.append(max(longest * DIGIT * 1.06, min(word, 14) * LETTER) + GAP)  # totals are bold, and wider
        else:
            found.append(min(max(longest, min(len(name), 16)) * LETTER + GAP, most))
    return found


def _blocks(content: TableContent, width: float) -> list[_Block]:
    wanted = _wanted(content)
    texts = [at for at, numeric in enumerate(content.numeric) if not numeric]
    numbers = [at for at, numeric in enumerate(content.numeric) if numeric]
    least = min(sum(wanted[at] for at in texts), max(TEXTS_SHARE * width, LEAST_TEXT * len(texts)))
    groups: list[list[int]] = [[]]
    for at in numbers:
        if groups[-1] and least + sum(wanted[one] for one in [*groups[-1], at]) > width:
            groups.append([])
        groups[-1].append(at)
    return [_block(content, sorted([*texts, *group]), wanted, width) for group in groups]


def _block(content: TableContent, columns: Sequence[int], wanted: Sequence[float], width: float) -> _Block:
    numbers = sum(wanted[at] for at in columns if content.numeric[at])
    whole = _wanted(content, width)  # texts take the room that is left
    texts = sum(whole[at] for at in columns if not content.numeric[at])
    share = min((width - numbers) / texts, 1.0) if texts else 1.0
    widths = tuple(wanted[at] if content.numeric[at] else whole[at] * max(share, 0.2) for at in columns)
    names = tuple(
        [cut(line, max(int((own - GAP / 2) / LETTER), 3)) for line in wrap(content.names[at], max(int((own - GAP / 2) / (LETTER * 1.08)), 3))][:3] or [""]
        for at, own in zip(columns, widths, strict=True)
    )  # fmt: skip
    return _Block(tuple(columns), widths, names)
