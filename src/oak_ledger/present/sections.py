"""What is read from top to bottom: titles with lines and a table under each, in a terminal or on a page."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from rich.console import Console
from rich.text import Text

from oak_ledger.present.page import page, rendered, table_html
from oak_ledger.present.panels import lines_table
from oak_ledger.present.terminal import LEAF, QUIET, RUST, shortened
from oak_ledger.report.content import Line, TableContent

LOOKS = {"good": LEAF, "bad": RUST, "quiet": QUIET, "": ""}


@dataclass(frozen=True, slots=True)
class Section:
    """A title, lines (each with its look: good, bad, quiet or none), and a table of which a terminal shows `most` lines."""

    title: str
    lines: tuple[tuple[str, str], ...] = ()
    table: TableContent | None = None
    most: int = 40
    word: str = "line"


def table_of(names: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = ()) -> TableContent:
    """A table of texts; the columns in `right` are numbers."""
    numeric = tuple(at in right for at in range(len(names)))
    return TableContent(tuple(names), numeric, tuple(Line("row", tuple(row)) for row in rows))


def show_sections(out: Console, sections: Sequence[Section]) -> None:
    """Print sections, with an empty line between."""
    for at, section in enumerate(sections):
        if at:
            out.print()
        if section.title:
            out.print(Text(section.title, style="bold"))
        for text, look in section.lines:
            out.print(Text(text, style=LOOKS[look]))
        if section.table is not None and section.table.lines:
            lines, more = shortened(section.table.lines, section.word, section.most)
            out.print(lines_table(replace(section.table, lines=tuple(lines))), *more)


_SECTIONS = """<h1>{{ title }}</h1>
<p class="under">{{ under }}</p>
{% for one, table in sections %}<section class="part">
{% if one.title %}<h2>{{ one.title }}</h2>{% endif %}
{% for text, look in one.lines %}<p class="{{ 'warning' if look == 'bad' else 'note' if look == 'quiet' else 'line' }}">{{ text }}</p>
{% endfor %}{{ table }}
</section>
{% endfor %}"""


def sections_page(title: str, under: str, sections: Sequence[Section]) -> str:
    """A page of sections, every table whole."""
    tables = [
        "" if section.table is None or not section.table.lines else table_html("", section.table)
        for section in sections
    ]
    return page(title, rendered(_SECTIONS, title=title, under=under, sections=list(zip(sections, tables, strict=True))))
