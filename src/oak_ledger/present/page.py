"""A report as one HTML page that needs nothing beside it: pictures lie within, and no script runs."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from oak_ledger.present.figures import NARROW, WIDE, chart_png
from oak_ledger.report import PanelView, ReportView
from oak_ledger.report.content import ChartContent, FigureContent, TableContent, TextContent

if TYPE_CHECKING:
    from markupsafe import Markup

STYLE = """
:root { color-scheme: light dark; --text: #26302a; --paper: #fff; --quiet: #5c665f; --line: #d5dad3; --wrong: #a34a22; --link: #2f5d26; }
@media (prefers-color-scheme: dark) { :root { --text: #e4e9e2; --paper: #171c19; --quiet: #a7b1aa; --line: #3d463f; --wrong: #f0a07a; --link: #a3d397; } img { background: #fff; border-radius: 4px; } }
body { font: 15px/1.5 "DejaVu Sans", Verdana, sans-serif; color: var(--text); background: var(--paper); margin: 0; }
main { margin: 2rem auto; max-width: 1220px; padding: 0 1.2rem; box-sizing: border-box; }
h1 { font-size: 1.7rem; line-height: 1.2; margin: 0; } h2 { font-size: 1.05rem; margin: 0 0 .5rem; }
.under { color: var(--quiet); margin: .3rem 0 1.6rem; } .draft { color: var(--wrong); font-weight: bold; }
.panels { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(26rem, 100%), 1fr)); gap: 2rem; align-items: start; }
.figures { display: flex; flex-wrap: wrap; gap: 1rem 3rem; margin-bottom: 2rem; }
.figures h2 { margin: 0; color: var(--quiet); font-size: 1rem; font-weight: normal; } .figures p { margin: 0; } .figures p:not(.warning, .broken) { color: var(--quiet); }
.figures strong { display: block; font-size: 1.8rem; font-weight: normal; color: var(--text); line-height: 1.3; }
.wide { overflow-x: auto; } table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
caption { text-align: left; font-weight: bold; font-size: 1.05rem; padding-bottom: .5rem; }
th { text-align: left; } thead th { border-bottom: 1px solid var(--line); } tbody th, tfoot th { white-space: nowrap; } tbody th { font-weight: normal; } td, th { padding: .2rem .7rem .2rem 0; vertical-align: top; }
td:last-child, th:last-child { padding-right: 0; } section.broad { grid-column: 1 / -1; }
.number { text-align: right; white-space: nowrap; } tr.subtotal th, tr.subtotal td, tfoot th, tfoot td { font-weight: bold; } tfoot tr.total > * { border-top: 1px solid var(--line); }
tfoot tr.rest > * { font-weight: normal; color: var(--quiet); }
.note, .null, summary { color: var(--quiet); } .note { margin: .4rem 0 0; font-size: .9rem; } .broken, .warning { color: var(--wrong); margin: .4rem 0 0; } img { width: 100%; height: auto; }
section.part { margin-bottom: 2rem; } .line { margin: .2rem 0; } details { margin-top: .5rem; } details caption { padding-top: .5rem; } summary { cursor: pointer; font-size: .9rem; }
a { color: var(--link); } h1, h2, h3, dd, p, caption { overflow-wrap: anywhere; }
@media print { :root { --text: #000; --paper: #fff; --quiet: #444; --line: #999; --wrong: #7a3010; --link: #000; } main { margin: 0; max-width: none; padding: 0; } .panels { display: block; } img { max-width: 17cm; }
  section { break-inside: avoid-page; margin-bottom: 1.5rem; } .wide { overflow: visible; } table { font-size: 9px; } td, th, .number, tbody th, tfoot th { white-space: normal; overflow-wrap: anywhere; padding-right: .35rem; }
  td.number, th.number { overflow-wrap: normal; } tfoot { display: table-row-group; } thead { display: table-header-group; } details::details-content { content-visibility: visible; display: block; } details > * { display: block; } summary { display: none; } }
@page { size: A4 landscape; margin: 12mm; }
"""
_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<link rel="icon" href="data:image/png;base64,">
<title>{{ title }}</title>
<style>{{ style | safe }}</style>
</head>
<body>
<main>
{{ content }}
</main>
</body>
</html>
"""
_REPORT = """{% if home %}<p><a href="{{ home }}">All sources and reports</a> · <a href="{{ about }}">what {{ view.source }} means</a></p>
{% endif %}<h1>{{ view.name }}</h1>
<p class="under">{% if view.text %}{{ view.text }} · {% endif %}{{ view.source }},
<span{% if "released" not in view.version %} class="draft"{% endif %}>{{ view.version }}</span>{% if view.owner %} · built by {{ view.owner }}{% endif %}</p>
{% for group, inside in (("figures", figures), ("panels", others)) %}{% if inside %}<div class="{{ group }}">{% for panel in inside %}
<section{% if panel.content and panel.spec.kind == "table" and panel.content.names | length > 5 %} class="broad"{% endif %}>{% if not panel.content or panel.spec.kind != "table" %}
<h2>{{ panel.title }}</h2>{% endif %}
{% if not panel.content %}<p class="broken">broken: {{ panel.findings[0].message }}</p>{% else %}{{ draw(panel) }}
{% for note in panel.content.notes %}<p class="note">{{ note }}</p>{% endfor %}
{% for found in panel.findings %}<p class="warning">Warning: {{ found.message }}</p>{% endfor %}
{% if panel.answer %}{% for fault in panel.answer.faults %}<p class="warning">Not computed: {{ fault.sentence() }}</p>{% endfor %}{% endif %}{% endif %}
</section>{% endfor %}
</div>
{% endif %}{% endfor %}"""
_TABLE = """{% macro value(cell) %}{% if cell == "null" %}<span class="null">null</span>{% else %}{{ cell }}{% endif %}{% endmacro %}<div class="wide" tabindex="0" role="region" aria-label="{{ title or 'table' }}"><table>
{% if title %}<caption>{{ title }}</caption>{% endif %}
<thead><tr>{% for name in table.names %}<th scope="col"{% if table.numeric[loop.index0] %} class="number"{% endif %}>{{ name }}</th>{% endfor %}</tr></thead>
{% for part, lines in parts %}{% if lines %}<{{ part }}>{% for line in lines %}
<tr{% if line.role != "row" %} class="{{ line.role }}"{% endif %}>{% for cell in line.cells %}{% if loop.first and not table.numeric[0] %}<th scope="row">{{ value(cell) }}</th>{% else %}<td{% if table.numeric[loop.index0] %} class="number"{% endif %}>{{ value(cell) }}</td>{% endif %}{% endfor %}</tr>{% endfor %}
</{{ part }}>{% endif %}
{% endfor %}</table></div>"""
_CHART = """<picture><source media="(max-width: 500px)" srcset="data:image/png;base64,{{ pictures[1] }}"><img alt="{{ about }}" src="data:image/png;base64,{{ pictures[0] }}"></picture>
<details><summary>The numbers</summary>
{{ table }}
</details>"""
_FIGURE = """<p><strong>{{ content.value }}</strong>{% if content.change %}{{ content.change }}{% endif %}</p>"""
_TEXT = """{% for one in content.paragraphs %}<p>{{ one }}</p>
{% endfor %}"""


def rendered(template: str, **values: Any) -> Markup:
    """A piece of a page; values are escaped, but for those that are pieces themselves."""
    from jinja2 import Environment
    from markupsafe import Markup

    return Markup(Environment(autoescape=True).from_string(template).render(**values))  # noqa: S704  all values are escaped


def page(title: str, content: Markup, style: str = "") -> str:
    """A whole page around its content, in the common look and what it has of its own. It loads nothing from anywhere."""
    return str(rendered(_PAGE, title=title, style=STYLE + style, content=content))


def table_html(title: str, table: TableContent) -> Markup:
    """A table with a caption; the rest and the totals at its foot."""
    foot = [line for line in table.lines if line.role in ("rest", "total")]
    body = [line for line in table.lines if line.role not in ("rest", "total")]
    return rendered(_TABLE, title=title, table=table, parts=[("tbody", body), ("tfoot", foot)])


def _table(panel: PanelView, content: TableContent) -> Markup:
    return table_html(panel.title, content)


def _chart(panel: PanelView, content: ChartContent) -> Markup:
    if not content.groups:
        return rendered('<p class="note">no groups</p>')
    about = f"{panel.title}: {len(content.groups):,} groups; the numbers are in the table below"
    pictures = [b64encode(chart_png(panel, content, width)).decode() for width in (WIDE, NARROW)]
    table = table_html(f"{panel.title}, the numbers", content.as_table())
    return rendered(_CHART, about=about, pictures=pictures, table=table)


def _figure(_panel: PanelView, content: FigureContent) -> Markup:
    return rendered(_FIGURE, content=content)


def _text(_panel: PanelView, content: TextContent) -> Markup:
    return rendered(_TEXT, content=content)


PIECES: Mapping[str, Callable[[PanelView, Any], Markup]] = {
    "table": _table,
    "bars": _chart,
    "lines": _chart,
    "figure": _figure,
    "text": _text,
}


def report_piece(view: ReportView, home: str = "", about: str = "") -> Markup:
    """A report as a piece of a page; with where all sources and reports are, and what its source means."""
    figures = [panel for panel in view.panels if panel.spec.kind == "figure"]
    others = [panel for panel in view.panels if panel.spec.kind != "figure"]

    def draw(panel: PanelView) -> Markup:
        return PIECES[panel.spec.kind](panel, panel.content)

    return rendered(_REPORT, view=view, figures=figures, others=others, draw=draw, home=home, about=about)


def report_html(view: ReportView, home: str = "", about: str = "") -> str:
    """A report as a page. Values are escaped; the page loads nothing from anywhere."""
    return page(view.name, report_piece(view, home, about))


def notice_html(title: str, text: str, home: str) -> str:
    """A page that says one thing, such as what went wrong."""
    return page(
        title,
        rendered(
            '<h1>{{ title }}</h1>\n<p>{{ text }}</p>\n<p><a href="{{ home }}">All sources and reports</a></p>',
            title=title,
            text=text,
            home=home,
        ),
    )
