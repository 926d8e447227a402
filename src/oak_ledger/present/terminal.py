"""What is seen in a terminal: tables of rows, fields, findings, versions. Draws what the core returns; computes nothing."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterable, Sequence
from typing import IO, Any, TypeVar

from rich import control
from rich.box import SIMPLE_HEAD
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, Group, RenderResult
from rich.padding import Padding
from rich.table import Table
from rich.text import Text as Text

from oak_ledger.definition.formats import show
from oak_ledger.engine import Fault, OperatorStats
from oak_ledger.errors import Finding
from oak_ledger.insight.branches import BranchRows
from oak_ledger.present.look import LOOK
from oak_ledger.source.answer import Answer

# What a terminal would obey in the texts that people and files bring is left out, as rich does with a few of them.
control._CONTROL_STRIP_TRANSLATE.update(dict.fromkeys((*range(9), *range(14, 32), *range(0x7F, 0xA0))))  # noqa: SLF001

LEAF, RUST, QUIET = "#5f9e4a", "#c8692f", "bright_black"
SEVERITY = {"error": f"bold {RUST}", "warning": RUST, "note": QUIET}
WIDE = 120
MAX_LINES = 40  # fields or findings that are shown without --all


class _Trimmed:
    """A stream that is not a terminal, without the spaces that tables leave at the ends of lines."""

    def __init__(self, stream: IO[str]) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        """Write a text."""
        return self._stream.write(re.sub(r" +(?=\n)", "", text))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def console(*, to_errors: bool = False) -> Console:
    """A console on standard output (or error), as `LOOK` says."""
    stream: IO[str] = sys.stderr if to_errors else sys.stdout
    given = os.environ.get("COLUMNS", "")
    width = LOOK.width or (int(given) if given.isdigit() and int(given) > 0 else None)
    if width is None and not stream.isatty():
        width = WIDE
    target: Any = stream if stream.isatty() else _Trimmed(stream)
    return Console(
        file=target, highlight=False, soft_wrap=False, width=width, quiet=(LOOK.quiet or LOOK.as_json) and not to_errors,
        no_color=True if LOOK.color == "never" else None, force_terminal=True if LOOK.color == "always" else None,
    )  # fmt: skip


def say(text: str, *, to_errors: bool = False) -> None:
    """Print a line as it is, never folded."""
    console(to_errors=to_errors).print(Text(text), soft_wrap=True)


def plural(count: int, word: str) -> str:
    """A count with its word: 1 row, 2 rows."""
    return f"{count:,} {word}{'' if count == 1 else 's'}"


Item = TypeVar("Item")


def shortened(items: Sequence[Item], word: str, most: int = MAX_LINES) -> tuple[Sequence[Item], list[Text]]:
    """The first items of a long list, and a line that says how many more there are; all of them with `--all`."""
    if LOOK.everything or len(items) <= most:
        return items, []
    return items[:most], [Text(f"… and {plural(len(items) - most, f'more {word}')} (--all shows them)", style=QUIET)]


class Grid(Table):
    """A table that never breaks inside a word: where it is too wide, columns from the end are left out, and named below."""

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Draw the columns that fit."""
        least = [max(map(_longest_word, (column.header, *column.cells)), default=1) for column in self.columns]
        room, fit, used = options.max_width, 0, 0
        for size in least:
            used += size + (GAP if fit else 0)
            if used > room and fit:
                break
            fit += 1
        shown = self.columns[:fit]
        natural = [max(map(_longest_line, (column.header, *column.cells)), default=1) for column in shown]
        for column, width in zip(shown, _widths(least[:fit], natural, room - GAP * (fit - 1)), strict=True):
            column.width = width
        left_out = [str(column.header) for column in self.columns[fit:]]
        everything, self.columns = self.columns, shown
        yield from super().__rich_console__(console, options)
        self.columns = everything
        if left_out:
            yield Text(f"not shown, the output is too narrow: {', '.join(left_out)} (use --width)", style=QUIET)


GAP = 3  # characters between columns


def _widths(least: Sequence[int], natural: Sequence[int], room: int) -> list[int]:
    """A width for each column: the least that breaks no word, and more where there is room, first for those that lack little."""
    widths, left = [min(size, room) for size in least], room - sum(least)
    for at in sorted(range(len(widths)), key=lambda at: natural[at] - widths[at]):
        more = max(min(natural[at] - widths[at], left), 0)
        widths[at] += more
        left -= more
    return widths


def _longest_line(cell: Any) -> int:
    text = cell.plain if isinstance(cell, Text) else str(cell)
    return max((cell_len(line) for line in text.split("\n")), default=0)


def _longest_word(cell: Any) -> int:
    text = cell.plain if isinstance(cell, Text) else str(cell)
    return max((cell_len(word) for word in text.split()), default=0)


def grid(*headers: str, right: Iterable[int] = ()) -> Table:
    """A plain table: a line under the header, no frame; some columns aligned to the right."""
    table = Grid(box=SIMPLE_HEAD, header_style="bold", pad_edge=False, show_edge=False)
    numbers = set(right)
    for at, header in enumerate(headers):
        table.add_column(Text(header), justify="right" if at in numbers else "left", overflow="fold")
    return table


def _cell(value: Any, format_text: str) -> Text:
    if value is None:
        return Text("null", style=QUIET)
    text = show(value, format_text)
    if isinstance(value, str) and (text != text.strip() or not text):
        return Text(f"'{text}'")  # spaces at the ends, and empty text, are seen
    return Text(text.replace("\n", "⏎"))


def rows_table(answer: Answer, width: int, notes: Sequence[str] = ()) -> Group:
    """The rows of an answer; columns that do not fit in `width` are named below instead. `notes` are under the headers."""
    names = answer.names
    formats = {name: answer.formats.get(name, "") or _even_decimals(answer, name) for name in names}
    cells = [[_cell(value, formats[name]) for name, value in row.items()] for row in answer.to_dicts()]
    totals = (
        []
        if answer.totals is None
        else [_cell(value, formats[name]) for name, value in answer.totals.to_pylist()[0].items()]
    )
    if totals and answer.table.num_columns:
        totals = [
            Text("all", style="bold") if not cell.plain or (cell.plain == "null" and at == 0) else cell
            for at, cell in enumerate(totals)
        ]
        totals = [
            Text("") if cell.plain == "null" and names[at] in _keys(answer) else cell for at, cell in enumerate(totals)
        ]
    widths = [
        max([len(name), len(notes[at]) if notes else 0, *(cell.cell_len for cell in column)], default=1)
        for at, (name, column) in enumerate(
            zip(names, zip(*cells, strict=True) if cells else [[] for _ in names], strict=True)
        )
    ]
    fit, used = 0, 0
    for size in widths:
        used += min(size, 40) + (GAP if fit else 0)
        if used > width and fit:
            break
        fit += 1
    if fit < len(names) and LOOK.everything:
        return _blocks(names, notes, cells, totals)
    numeric = [_is_number(answer, name) for name in names]
    table = grid()
    for at, name in enumerate(names[:fit]):
        header = Text(name) if not notes else Text.assemble(name, "\n", (notes[at], QUIET))
        table.add_column(
            header, justify="right" if numeric[at] else "left", max_width=40, overflow="ellipsis", no_wrap=not notes
        )
    for row in cells:
        table.add_row(*row[:fit])
    if totals:
        table.add_section()
        table.add_row(*totals[:fit], style="bold")
    parts: list[Any] = [table]
    if fit < len(names):
        left_out = names[fit : fit + MAX_LINES // 2]
        more = "" if fit + len(left_out) == len(names) else ", …"
        count = plural(len(names) - fit, "more column")
        parts.append(Text(f"… and {count}: {', '.join(left_out)}{more} (--all shows them)", style=QUIET))
    return Group(*parts)


def _blocks(
    names: Sequence[str], notes: Sequence[str], rows: Sequence[Sequence[Text]], totals: Sequence[Text]
) -> Group:
    """Rows that are too wide for a table, one under the other, a value a line."""
    parts: list[Any] = []
    for number, row in enumerate([*rows, *([totals] if totals else [])], 1):
        table = grid("all" if number > len(rows) else f"row {number}", "value", *(["type"] if notes else []))
        for at, name in enumerate(names):
            table.add_row(name, row[at], *([notes[at]] if notes else []))
        parts += [table, Text("")]
    return Group(*parts[:-1])


def _even_decimals(answer: Answer, name: str) -> str:
    """A format for a column of 64-bit floats that has none, so that its decimals are aligned."""
    import pyarrow as pa
    import pyarrow.compute as pc

    values = answer.table.column(name)
    if not pa.types.is_floating(values.type):
        return ""
    largest = pc.max(pc.abs(values)).as_py() or 0.0
    smallest = pc.min(pc.abs(values.filter(pc.not_equal(values, 0.0)))).as_py() or 1.0
    if largest >= 1e12 or smallest < 1e-3:
        return ""
    return "0.00" if largest >= 1000 else "0.0000"


def _keys(answer: Answer) -> set[str]:
    """The columns that a totals row leaves open: those grouped by."""
    if answer.totals is None:
        return set()
    return {
        name
        for name in answer.names
        if answer.totals.column(name).null_count and answer.table.column(name).null_count < answer.table.num_rows
    }


def _is_number(answer: Answer, name: str) -> bool:
    import pyarrow as pa

    kind = answer.table.schema.field(name).type
    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def faults_lines(faults: Sequence[Fault]) -> list[Text]:
    """What could not be computed, a line each."""
    return [Text.assemble(("not computed: ", RUST), fault.sentence()) for fault in faults]


def finding_block(finding: Finding) -> Group:
    """A finding: what and where, the place in the formula, what to do."""
    place = finding.place
    spot = place.where
    if place.text and "\n" in place.text:
        spot += f", line {place.line}"
    head = Text.assemble(
        (f"{finding.severity} ", SEVERITY[finding.severity]), (finding.code, "bold"), f"  {spot}" if spot else ""
    )
    parts: list[Any] = [head, Padding(Text(finding.message), (0, 0, 0, 2), expand=False)]
    pointed = place.pointed()
    if pointed and place.end > place.start:
        line, carets = pointed
        parts.append(
            Padding(Text.assemble(line, "\n", (carets, SEVERITY[finding.severity])), (0, 0, 0, 4), expand=False)
        )
    if finding.hint:
        parts.append(Padding(Text.assemble(("→ ", LEAF), finding.hint), (0, 0, 0, 2), expand=False))
    return Group(*parts)


def findings_list(findings: Sequence[Finding]) -> Group:
    """Findings, one under the other, with an empty line between."""
    parts: list[Any] = []
    shown, more = shortened(findings, "finding")
    for finding in shown:
        parts += [finding_block(finding), Text("")]
    return Group(*(parts + more if more else parts[:-1]))


def counted(findings: Sequence[Finding]) -> str:
    """How many of which severity: 2 errors, 1 warning."""
    said = [
        plural(count, kind)
        for kind in ("error", "warning", "note")
        if (count := sum(finding.severity == kind for finding in findings))
    ]
    return ", ".join(said) or "nothing"


def branches_table(branches: Sequence[BranchRows], rows: int) -> Table:
    """How many rows each branch of a CASE takes, with their share, and how many of them because there is no value."""
    nulls = any(branch.nulls for branch in branches)
    table = grid("branch", "rows", "share", *(["because of a null"] if nulls else []))
    for column in table.columns[1:]:
        column.justify = "right"
    for branch in branches:
        share = f"{branch.rows / rows:.1%}" if rows else ""
        quiet = QUIET if not branch.rows else ""
        because = [f"{branch.nulls:,}" if branch.nulls else ""] if nulls else []
        table.add_row(Text(branch.branch, style=quiet), Text(f"{branch.rows:,}", style=quiet), share, *because)
    return table


def steps_table(steps: Sequence[OperatorStats]) -> Group:
    """How a question was answered: each step with its rows, bytes and time."""
    table = grid("step", "on", "rows", "bytes", "seconds", "note")
    for at in (2, 3, 4):
        table.columns[at].justify = "right"
    for step in steps:
        size = f"{step.bytes / 1e6:,.1f} MB" if step.bytes else ""
        rows = f"{step.rows:,}" if step.rows else ""
        table.add_row(step.kind, Text(step.what), rows, size, f"{step.seconds:.3f}", Text(step.note, style=QUIET))
    return Group(table, Text("seconds of all threads together", style=QUIET))
