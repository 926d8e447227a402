"""Write docs/functions.md from the function library, and docs/codes.md from the codes: `python tools/reference.py`. A test says when one is stale."""

from __future__ import annotations

from pathlib import Path

from oak_ledger import find_functions
from oak_ledger.codes import CODES
from oak_ledger.codes import TOPICS as CODE_TOPICS

PAGE = Path(__file__).parent.parent / "docs" / "functions.md"
CODES_PAGE = PAGE.with_name("codes.md")
TOPICS = {
    "text": "Text",
    "pattern": "Text by patterns",
    "number": "Numbers",
    "date": "Dates",
    "condition": "Choosing among values",
    "aggregate": "Aggregates: one value from the rows of a group",
    "window": "Windows: a value from the rows around a row",
    "type": "From one type to another",
    "earlier state": "Now against before",
}
OPENING = """\
# The formula language, function by function

This page is made from the function library; `oak functions WORD` searches the same entries. The language is the value
expressions of standard SQL: one expression a formula.

- Names of fields are bare (`Volume`) or in double quotes (`"Haulage cost"`); text is in single quotes (`'oak'`). Letter case does not count in names.
- `12` is an integer, `12.50` an exact decimal, `1.2e3` a number; `DATE '2026-03-01'`, `TIMESTAMP '2026-03-01 07:30:00'`, `INTERVAL '3' DAY`.
- From loosest to tightest: `OR` · `AND` · `NOT` · `IS NULL`, `IS DISTINCT FROM` · `= <> < <= > >=` · `BETWEEN`, `IN`, `LIKE` · `||` · `+ -` · `* / %` · signs.
- In a signature, `[x]` may be left out and `…` repeats; `numeric` is integer, decimal or number, `temporal` a date or a timestamp; `same` is the type of the
  first argument, `common` the one that all widen to.
- The examples of aggregates and windows are over six rows of `Mill`, `Volume`, `Cost` and `Day`; the earlier state has the first four of them.
"""


def page() -> str:
    """The whole page."""
    lines = [OPENING]
    entries = find_functions()
    for topic, title in TOPICS.items():
        lines.append(f"\n## {title}\n")
        for entry in (one for one in entries if one.topic == topic):
            lines.append(f"### {entry.name}\n")
            lines += [f"`{written}`  " for written in entry.written]
            lines.append(f"\n{entry.sentence} {entry.nulls}\n")
            lines.append("| formula | gives |\n|---|---|")
            lines += [f"| `{cell(formula)}` | `{cell(result) or ' '}` |" for formula, result in entry.examples]
            lines.append("")
    return "\n".join(lines)


def codes_page() -> str:
    """The page of codes."""
    lines = [
        "# Findings and errors, by code",
        "",
        "This page is generated; `oak check --codes` lists the same. A message names the code, the place and the fix.",
        "",
    ]
    for topic, codes in CODE_TOPICS.items():
        lines += [f"## {topic}", "", "| code | severity | meaning | how to mend it |", "|---|---|---|---|"]
        lines += [
            f"| `{code}` | {one.severity} | {cell(one.meaning)} | {cell(one.mend)} |" for code, one in codes.items()
        ]
        lines.append("")
    return "\n".join(lines)


def cell(text: str) -> str:
    """A text in a cell of a table."""
    return text.replace("|", "\\|")


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
    CODES_PAGE.write_text(codes_page(), encoding="utf-8")
    print(f"{CODES_PAGE.name}: {len(CODES)} codes")
    print(f"{PAGE.name}: {len(find_functions())} functions")
