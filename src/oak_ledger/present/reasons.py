"""A figure taken apart, as sections; and the rows by which it differs from an earlier one."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from oak_ledger.definition.formats import plain, show
from oak_ledger.errors import Finding
from oak_ledger.explain.row_changes import RowChanges
from oak_ledger.explain.why import Why
from oak_ledger.explain.windows import Compared
from oak_ledger.present.sections import Section, table_of
from oak_ledger.report.figure import FigureSince
from oak_ledger.report.top import REST
from oak_ledger.source import Answer, Source


def headline(figure: Why) -> str:
    """What figure it is, and its value."""
    group = ", ".join(
        name if name == REST else f"{name} {'null' if value is None else plain(value)}"
        for name, value in figure.group.items()
    )
    return f"{figure.measure}, {group or 'all rows'}: {_number(figure.value, figure.format)}"


def reasons(
    figure: Why, source: Source, sample: Answer, compared_with: Why | None = None, doubts: Sequence[Finding] = ()
) -> list[Section]:
    """The formula with the value of each part, what it is compared with, filters, nulls, constants, columns, and some of the rows."""
    sections = []
    for step in (*figure.steps, *(compared_with.steps if compared_with is not None else ())):
        values = step.formula
        for part in sorted(step.parts, key=lambda one: -len(one.text)):
            values = values.replace(part.text, _number(part.value, ""))
        lines = [(f"  = {values}", "")] if step.parts else []
        lines.append((f"  = {_number(step.value, step.format)}", "good"))
        sections.append(Section(f"{step.name} = {step.formula}", tuple(lines)))
    sections += [_window(compared) for compared in figure.compared]
    steps = {step.name for step in figure.steps if step.formula != f"SUM({step.name})"}
    specs: list[Any] = [source.state(name).spec for name in figure.fields]
    made = [(f"{spec.name} = {' '.join(spec.formula.split())}", "") for spec in specs if getattr(spec, "formula", "") and spec.name not in steps]  # fmt: skip
    if made:
        sections.append(Section("Fields that it needs", tuple(made)))
    if figure.filters:
        rows = [
            (filter_.text, f"{filter_.before:,}", f"{filter_.before - filter_.after:,}", f"{filter_.after:,}")
            for filter_ in figure.filters
        ]
        table = table_of(("condition", "rows before", "removed", "left"), rows, (1, 2, 3))
        sections.append(Section("Conditions", (), table))
    lines = [(f"{name} is null in {count:,} of {figure.rows:,} rows", "bad") for name, count in figure.nulls]
    lines += [(f"not computed: {fault.sentence()}", "bad") for fault in figure.faults]
    lines += [(doubt.message, "bad") for doubt in doubts]
    lines += [(f"{name} is {value}", "") for name, value in figure.constants]
    columns = [f"{spec.name}: {spec.column}" for spec in specs if getattr(spec, "column", "")]
    lines += [(f"columns: {', '.join(columns)}", "quiet")] if columns else []
    if lines:
        sections.append(Section("Nulls, constants, columns", tuple(lines)))
    if sample.table.num_rows:
        title = f"The first {sample.table.num_rows:,} of {figure.rows:,} rows behind it"
        sections.append(Section(title, (), _rows(sample.table, sample.formats)))
    return sections


def _window(compared: Compared) -> Section:
    """What a window compares: its partition, its frame, and rows around the own one, which has an arrow; those of the frame have a dot."""
    many = f"{compared.count:,} {compared.of}{'s' * (compared.count != 1)}"
    parts = ", ".join(f"{name} {'null' if value is None else plain(value)}" for name, value in compared.partition)
    words = f"its partition{f', {parts},' if parts else ''} has {many}"
    if compared.frame != (1, compared.count):
        low, high = compared.frame or (0, 0)
        held = f"{compared.of}s {low:,} to {high:,} of them" if low < high else f"{compared.of} {low:,} of them"
        words += f"; its frame is {held}" if compared.frame else f"; its frame holds no {compared.of}"
    if len(compared.rows) < compared.count:
        words += f"; {len(compared.rows):,} are shown"
    of_rows = "over all rows of the source, whatever a question filters; for the first row behind the figure, " if compared.of == "row" else ""  # fmt: skip
    words = of_rows + words
    first, last = compared.frame or (0, 0)
    cells = []
    for at, row in enumerate(compared.rows):
        mark = (
            "→ "
            if at == compared.own
            else "· "
            if first <= compared.begins + at <= last
            else "  "
            if compared.of == "row" or compared.frame
            else ""
        )
        cells.append(tuple((mark if not place else "") + _number(value, "") for place, value in enumerate(row)))
    right = [
        at
        for at, _ in enumerate(compared.columns)
        if any(isinstance(row[at], (int, float, Decimal)) for row in compared.rows)
    ]
    named = "" if compared.text.startswith(compared.name) else f"{compared.name}: "
    table = table_of(compared.columns, cells, right)
    return Section(f"{named}{compared.text}", ((f"{words[0].upper()}{words[1:]}.", "quiet"),), table)


def changes_since(found: FigureSince, since: str, limit: int) -> list[Section]:
    """What the figure was, and the rows that differ: so many of each kind."""
    was = "its group was not there" if found.before is None else _number(found.before.value, found.before.format)
    now = _number(found.now.value, found.now.format)
    first, *rest = row_sections(found.rows, limit)
    return [Section(f"Since {since}", ((f"{was} → {now}", ""), *first.lines)), *rest]


def row_sections(rows: RowChanges, limit: int) -> list[Section]:
    """How many rows differ, and some of each kind."""
    told = (
        f"rows matched by {', '.join(rows.key)}"
        if rows.key
        else "rows compared whole, since no field is different in every row"
    )
    counts = f"{rows.changed_after.num_rows:,} rows have other values, {rows.came.num_rows:,} came, {rows.went.num_rows:,} went"
    sections = [Section("", ((f"{counts}; {told}", "quiet"),))]
    for title, table in (
        ("Rows with other values", rows.side_by_side()),
        ("Rows that came", rows.came),
        ("Rows that went", rows.went),
    ):
        if table.num_rows:
            more = f", the first {limit:,} of {table.num_rows:,}" if table.num_rows > limit else ""
            sections.append(Section(f"{title}{more}", (), _rows(table.slice(0, limit), {})))
    return sections


def _rows(table: Any, formats: Any) -> Any:
    import pyarrow as pa

    number = [
        pa.types.is_integer(one) or pa.types.is_floating(one) or pa.types.is_decimal(one) for one in table.schema.types
    ]
    rows = [[_cell(value, formats.get(name, "")) for name, value in row.items()] for row in table.to_pylist()]
    return table_of(table.schema.names, rows, [at for at, one in enumerate(number) if one])


def _cell(value: Any, format_text: str) -> str:
    return "null" if value is None else show(value, format_text)


def _number(value: Any, format_text: str) -> str:
    if value is None:
        return "null"
    given = format_text or ("" if isinstance(value, (str, bool)) else "0,000" if isinstance(value, int) else "0,000.00")
    return show(value, given)


def version_text(source: Source) -> str:
    """Which version of a source it is."""
    published = source.published
    return f"version {published.number} ({published.stage})" if published is not None else "working copy"
