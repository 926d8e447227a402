"""What a notebook shows of sources, answers, trials, profiles and reports: a piece of a page that brings its own look and runs nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from oak_ledger.definition.formats import show
from oak_ledger.explain.trial import Trial
from oak_ledger.insight.profile import FieldProfile
from oak_ledger.present.page import rendered, report_piece, table_html
from oak_ledger.report import ReportView
from oak_ledger.report.content import Line, TableContent
from oak_ledger.source import Answer, Source

if TYPE_CHECKING:
    from markupsafe import Markup

ROWS = 20  # of an answer
STYLE = """.oak { font: 14px/1.5 "DejaVu Sans", Verdana, sans-serif; max-width: 1000px; } .oak table { border-collapse: collapse; } .oak .wide { overflow-x: auto; }
.oak caption, .oak h2 { text-align: left; font-weight: bold; font-size: 1em; margin: .8em 0 .2em; } .oak h1 { font-size: 1.2em; margin: 0; } .oak p { margin: .2em 0; }
.oak td, .oak th { padding: .1em 1em .1em 0; text-align: left; vertical-align: top; background: none; } .oak thead th { border-bottom: 1px solid #b9c0b8; }
.oak tbody th { font-weight: normal; } .oak td.number, .oak th.number { text-align: right; white-space: nowrap; font-variant-numeric: tabular-nums; }
.oak tfoot tr.total > * { border-top: 1px solid #b9c0b8; font-weight: bold; } .oak .note, .oak .null, .oak .under { opacity: .7; } .oak .warning, .oak .broken { color: #a34a22; }
.oak img { max-width: 100%; }"""
_WHOLE = """<div class="oak"><style>{{ style | safe }}</style>
{% for piece in pieces %}{{ piece }}
{% endfor %}</div>"""


def html(shown: Any) -> str:
    """A piece of a page for what a notebook shows."""
    draw = next(own for kind, own in DRAWN.items() if isinstance(shown, kind))
    return str(rendered(_WHOLE, style=STYLE, pieces=list(draw(shown))))


def _said(text: str, kind: str = "note") -> Markup:
    return rendered('<p class="{{ kind }}">{{ text }}</p>', kind=kind, text=text)


def _head(text: str) -> Markup:
    return rendered("<h1>{{ text }}</h1>", text=text)


def _warnings(faults: Iterable[Any], findings: Iterable[Any]) -> Iterable[Markup]:
    for fault in faults:
        yield _said(f"Not computed: {fault.sentence()}", "warning")
    for finding in findings:
        yield _said(
            f"{finding.severity.capitalize()}: {finding.message}", "note" if finding.severity == "note" else "warning"
        )


def answer_table(answer: Answer, title: str = "", most: int = ROWS) -> Markup:
    """The first rows of an answer in their formats, and its totals."""
    lines = [
        Line(
            "row",
            tuple(
                "null" if value is None else show(value, answer.formats.get(name, "")) for name, value in row.items()
            ),
        )
        for row in answer.table.slice(0, most).to_pylist()
    ]
    if answer.totals is not None:
        cells = answer.totals_shown()
        lines.append(Line("total", ("all", *cells[1:]) if answer.totals.column(0).null_count else tuple(cells)))
    numeric = tuple(not _texts(one.type) for one in answer.table.schema)
    return table_html(title, TableContent(tuple(answer.names), numeric, tuple(lines)))


def _texts(kind: pa.DataType) -> bool:
    return not (pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def _answer(answer: Answer) -> Iterable[Markup]:
    yield answer_table(answer)
    rows = answer.table.num_rows
    if rows > ROWS:
        yield _said(f"the first {ROWS} of {rows:,}")
    if answer.rows_used != answer.rows_read:
        yield _said(f"{answer.rows_used:,} of {answer.rows_read:,} rows")
    yield from _warnings(answer.faults, answer.findings)


def _source(source: Source) -> Iterable[Markup]:
    yield _head(source.name)
    about = source.about
    parts = (about.description, str(source.published or ""), f"owner: {about.owner}" if about.owner else "")
    yield _said(" · ".join(part for part in parts if part) or "not published", "under")
    lines = []
    for state in source.fields:
        if state.hidden and source.reader:
            continue
        more = (
            "; ".join(finding.message for finding in state.findings)
            if state.broken
            else getattr(state.spec, "description", "")
        )
        kind = (
            "broken"
            if state.broken
            else "for formulas only"
            if state.hidden
            else "per group"
            if str(state.grain) == "group"
            else "per row"
        )
        formula = getattr(state.spec, "formula", "")
        lines.append(Line("row", (state.name, state.type_name, kind, formula, more)))
    names = ("field", "type", "kind", "formula", "meaning, or what is wrong")
    yield table_html("", TableContent(names, (False,) * len(names), tuple(lines)))
    if not source.reader:
        yield from _warnings((), source.check())


def _trial(trial: Trial) -> Iterable[Markup]:
    yield _head(trial.formula)
    per = "group" if trial.grain == "group" else "row"
    yield _said(f"{trial.type} per {per}; {trial.nulls:,} null of {trial.rows:,} {per}s", "under")
    yield answer_table(trial.sample)
    yield from _warnings(trial.faults, trial.findings)


def _profile(profile: FieldProfile) -> Iterable[Markup]:
    yield _head(profile.field)
    yield _said(
        f"{profile.type}; {profile.rows:,} rows, {profile.nulls:,} null, {profile.distinct:,} distinct", "under"
    )
    facts = [
        ("from", profile.minimum),
        ("to", profile.maximum),
        ("average", profile.average),
        ("median", profile.median),
    ]
    facts += [("shortest", profile.shortest), ("longest", profile.longest)]
    lines = [Line("row", (name, show(value, ""))) for name, value in facts if value not in (None, "")]
    yield table_html("", TableContent(("what", "value"), (False, False), tuple(lines)))
    common = tuple(Line("row", (show(value, ""), f"{rows:,}")) for value, rows in profile.common)
    if common:
        yield table_html("commonest", TableContent(("value", "rows"), (False, True), common))
    for suspicion in profile.suspicions:
        mend = f"; {suspicion.clean} would change {suspicion.changes:,} values" if suspicion.clean else ""
        yield _said(
            f"Warning: {suspicion.what} in {suspicion.rows:,} rows, such as {', '.join(map(repr, suspicion.samples[:3]))}{mend}",
            "warning",
        )


def _report(view: ReportView) -> Iterable[Markup]:
    yield report_piece(view)


DRAWN: Mapping[type, Callable[[Any], Iterable[Markup]]] = {
    Answer: _answer,
    Source: _source,
    Trial: _trial,
    FieldProfile: _profile,
    ReportView: _report,
}
