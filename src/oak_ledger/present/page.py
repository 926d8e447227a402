"""A report as one HTML page that needs nothing beside it: pictures lie within, and no script runs."""

from __future__ import annotations

from base64 import b64encode
from typing import Any

from oak_ledger.present.figures import bars_png, figure_text
from oak_ledger.report import PanelView, ReportView

_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ view.name }}</title>
<style>
body { font: 15px/1.5 "DejaVu Sans", Verdana, sans-serif; color: #26302a; margin: 2rem auto; max-width: 1160px; padding: 0 1.5rem; }
h1 { font-size: 1.7rem; margin: 0; } h2 { font-size: 1.05rem; margin: 0 0 .6rem; }
.under { color: #6d7770; margin: .3rem 0 1.6rem; }
.draft { color: #b5562b; font-weight: bold; }
.panels { display: grid; grid-template-columns: repeat(auto-fit, minmax(460px, 1fr)); gap: 2rem 2.5rem; align-items: start; }
.figures { display: flex; flex-wrap: wrap; gap: 1rem 3rem; margin-bottom: 2rem; }
.figures p { margin: 0; color: #6d7770; } .figures strong { font-size: 1.8rem; font-weight: normal; color: #26302a; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
th { text-align: left; border-bottom: 1px solid #d5dad3; } td:first-child, th:first-child { white-space: nowrap; } td, th { padding: .2rem .8rem .2rem 0; }
.number { text-align: right; } tr.all td { border-top: 1px solid #d5dad3; font-weight: bold; }
.null { color: #6d7770; } .broken, .warning { color: #b5562b; } img { width: 100%; height: auto; }
</style>
</head>
<body>
<h1>{{ view.name }}</h1>
<p class="under">{% if view.text %}{{ view.text }} · {% endif %}{{ view.source }},
<span{% if "released" not in view.version %} class="draft"{% endif %}>{{ view.version }}</span>{% if view.owner %} · built by {{ view.owner }}{% endif %}</p>
{% if figures %}<div class="figures">{% for panel, value in figures %}
<div><p>{{ panel.title }}</p><strong{% if not panel.answer %} class="broken"{% endif %}>{{ value }}</strong>{{ notes(panel) }}</div>{% endfor %}
</div>{% endif %}
<div class="panels">{% for panel, picture, rows, totals in others %}
<section>
<h2>{{ panel.title }}</h2>
{% if not panel.answer %}<p class="broken">broken: {{ panel.findings[0].message }}</p>
{% elif picture %}<img alt="{{ panel.title }}" src="data:image/png;base64,{{ picture }}">
{% else %}<table>
<tr>{% for name in panel.answer.names %}<th{% if numeric(panel, loop.index0) %} class="number"{% endif %}>{{ name }}</th>{% endfor %}</tr>
{% for row in rows %}<tr>{% for cell in row %}<td{% if numeric(panel, loop.index0) %} class="number"{% endif %}>{{ cell }}{% if cell == "" %}<span class="null">null</span>{% endif %}</td>{% endfor %}</tr>
{% endfor %}{% if totals %}<tr class="all">{% for cell in totals %}<td{% if numeric(panel, loop.index0) %} class="number"{% endif %}>{{ cell or ("all" if loop.first else "") }}</td>{% endfor %}</tr>{% endif %}
</table>{% endif %}
{{ notes(panel) }}
</section>{% endfor %}
</div>
</body>
</html>
"""


def report_html(view: ReportView) -> str:
    """A report as a page. Values are escaped; the page loads nothing from anywhere."""
    from jinja2 import Environment
    from markupsafe import Markup, escape

    def notes(panel: PanelView) -> Markup:
        if panel.answer is None:
            return Markup("")
        lines = [found.message for found in panel.findings] + [fault.sentence() for fault in panel.answer.faults]
        return Markup("").join(Markup('<p class="warning">{}</p>').format(escape(line)) for line in lines)

    def numeric(panel: PanelView, at: int) -> bool:
        import pyarrow.types as kinds

        if panel.answer is None:
            return False
        kind = panel.answer.table.schema.field(at).type
        return bool(kinds.is_integer(kind) or kinds.is_floating(kind) or kinds.is_decimal(kind))

    template = Environment(autoescape=True).from_string(_PAGE)
    figures = [(panel, figure_text(panel)) for panel in view.panels if panel.spec.kind == "figure"]
    others: list[tuple[PanelView, Any, Any, Any]] = []
    for panel in view.panels:
        if panel.spec.kind == "figure":
            continue
        answer = panel.answer
        picture = (
            b64encode(bars_png(panel)).decode()
            if panel.spec.kind == "bars" and answer and answer.table.num_rows
            else ""
        )
        others.append((panel, picture, answer.shown() if answer else [], answer.totals_shown() if answer else []))
    return template.render(view=view, figures=figures, others=others, notes=notes, numeric=numeric)
