"""Write the pages under docs/ that are made from the program (functions, codes, keys, rights, JSON): `python tools/reference.py`. A test says when one is stale."""

from __future__ import annotations

import json
from itertools import groupby
from pathlib import Path

from oak_ledger import find_functions
from oak_ledger.catalogue.rules import ACTIONS, COLUMNS, RIGHTS
from oak_ledger.cli.shared.app import every_command, json_shape
from oak_ledger.cli.shared.shapes import SHAPES, schema
from oak_ledger.codes import TOPICS as CODE_TOPICS
from oak_ledger.functions.registry import LIBRARY
from oak_ledger.places.dialects import BUILT, DIALECTS, POSTGRESQL, SqlDialect
from oak_ledger.report.keys import table_keys
from oak_ledger.types import KINDS

DOCS = Path(__file__).parent.parent / "docs"
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

This page is made from the function library; `oak help functions WORD` searches the same entries. The language is the value
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
        "This page is generated; `oak help codes` lists the same. A message names the code, the place and the fix.",
        "",
    ]
    for topic, codes in CODE_TOPICS.items():
        lines += [f"## {topic}", "", "| code | severity | meaning | how to mend it |", "|---|---|---|---|"]
        lines += [
            f"| `{code}` | {one.severity} | {cell(one.meaning)} | {cell(one.mend)} |" for code, one in codes.items()
        ]
        lines.append("")
    return "\n".join(lines)


def json_page() -> str:
    """The page of what commands print with --json."""
    lines = [
        "# What commands print with `--json`",
        "",
        "This page is generated. Every command prints one object and nothing else on standard output. Every key is always there, except",
        "those marked `+`. `?` may be null, `*` is a list, `row` is an object of values by field name, a `value` is text, a number, true, false",
        "or null. Exact decimals are text, dates and times are text as in ISO 8601. Where a command cannot do its work, it prints a `Failure`.",
        "[schemas.json](schemas.json) has a JSON Schema for each command, under `properties`.",
        "",
        "| command | prints |",
        "|---|---|",
        *(
            f"| `oak {name}` | [{json_shape(one)}](#{json_shape(one).lower()}) |"
            for name, one in every_command().items()
        ),
        "",
    ]
    for name, (keys, about) in SHAPES.items():
        lines += [f"## {name}", "", f"{about[0].upper()}{about[1:]}.", "", "| key | type |", "|---|---|"]
        lines += [f"| `{key}` | {_linked(kind)} |" for key, kind in keys]
        lines.append("")
    return "\n".join(lines)


def _linked(kind: str) -> str:
    name = kind.rstrip("?*")
    return f"[{name}](#{name.lower()}){kind.removeprefix(name)}" if name in SHAPES else kind


def schemas() -> str:
    """A JSON Schema whose properties are the outputs of the commands, by the command's words."""
    found = {name: schema(json_shape(one)) for name, one in every_command().items()}
    shared = {part: one for made in found.values() for part, one in made["$defs"].items()}
    outputs = {name: {"anyOf": made["anyOf"]} for name, made in found.items()}
    head = {"$schema": schema("Failure")["$schema"], "type": "object"}
    return json.dumps({**head, "properties": outputs, "$defs": shared}, indent=1) + "\n"


def keys_page() -> str:
    """The page of keys."""
    lines = [
        "# Keys of definitions and reports",
        "",
        "This page is generated; `oak help keys TABLE` shows the same. `[table]` is there once, `[[table]]` any number of times.",
        "",
    ]
    for file, tables in groupby(table_keys(), lambda one: one.file):
        lines += [f"## `{file}`", ""]
        for one in tables:
            lines += [f"### `{one.header}`", "", one.about, "", "| key | what it says |", "|---|---|"]
            lines += [f"| `{key}` | {cell(says)} |" for key, says in one.keys]
            lines += ["", "```toml", one.example.rstrip(), "```", ""]
    return "\n".join(lines)


def rights_page() -> str:
    """The page of rights."""
    lines = [
        "# Who may do what in a catalogue",
        "",
        "This page is generated; `oak catalogue rights table` shows the same.",
        "",
        "| right | allows to |",
        "|---|---|",
    ]
    lines += [f"| {name} | {about} |" for name, about in RIGHTS.items()]
    lines += [
        "",
        "What is done, and what it takes: a right in the area, or being the maker of the version, somebody whom the maker named, or the owner of the report.",
        "`+` means that both must hold, a comma that one is enough, `-` that it cannot be.",
        "",
        f"| action | {' | '.join(COLUMNS)} | |",
        "|---" * (len(COLUMNS) + 2) + "|",
    ]
    for name, action in ACTIONS.items():
        cells = [", ".join("+".join(sorted(one)) for one in action.allowed[column]) or "-" for column in COLUMNS]
        lines.append(f"| {name} | {' | '.join(cells)} | {action.about} |")
    return "\n".join([*lines, ""])


def places_page() -> str:
    """The page of what is computed where."""
    lines = [
        "# What is computed where",
        "",
        "This page is generated. A question asked of a source whose rows are in PostgreSQL or SQLite is computed there in one statement, where all of it can be said in",
        "the same meaning. Else the database gives the columns that are needed, of the rows that its filters let through as far as they can be said there, and the rest is",
        "computed here. `--explain` names what could not be said and why, `--place here|origin` decides, `oak export sql --dialect DATABASE` prints the statement. `--place spark`",
        "asks a cluster. A list of rows is computed in a database only in a settled order: sorted by the fields of the source's key.",
        "",
        "- Where a database stops at a value that cannot be computed (a division by zero, a number too large), the question is answered here, where the value is reported with its row.",
        "- AND, OR and COALESCE need their later parts only in the rows that the earlier ones leave open. A database may look at them in another order: it may then stop, or not meet a value that an answer computed here reports.",
        "- Where the order of a window leaves ties, which row comes first is the place's own choice: give an order that settles it.",
        "- In an export with a filter, the row of a fault is counted among those that the database gave.",
        "- SQLite ends a text at the character 0. duckdb goes on with dates beyond the years 1 to 9999.",
        "- `X:kind` is X with a first argument of that kind, `X,2` X with two arguments.",
        "",
        "Each `yes` is proven by the tests (`tests/every_place.py`): every function and operator with every kind of argument, as columns of edge values, constants, nulls and columns without a value,",
        "in every place that claims it, against what is computed here; an entry that no call reaches is a failing test. A usual run asks 2,285 such calls of PostgreSQL, 641 of SQLite and 2,247 of duckdb",
        "(`OAK_EVERY=1` asks all, 5,600 of PostgreSQL). Besides, 165 whole questions are drawn (`tests/questions.py`; 15 of them by a seed that changes; `python -m tests.longer.questions N` draws any number): groups, totals, windows, filters on rows and on groups, sorting,",
        "saved and local fields, the state before. Each is asked of memory, files, typed copies and PostgreSQL, and an independent statement on the server says the answer, and which faults are reported in how many rows. So are 90 tables of reports, line by line, with limit, rest, subtotals and totals. On a cluster 1,764 calls with edge values agree (`OAK_EDGES=1`); a server sorted by a language's rules, asked by a role with settings of its own, gives the same answers (`make test-outside`).",
        "",
        f"| function or operator | {' | '.join(DIALECTS)} |",
        f"|---|{'---|' * len(DIALECTS)}",
    ]
    names = {*BUILT, *POSTGRESQL.said, *POSTGRESQL.refused}
    for name in sorted(names):
        row = [place_cell(name, one) for one in DIALECTS.values()]
        lines.append(f"| `{cell(name)}` | {' | '.join(row)} |")
    return "\n".join([*lines, ""])


def place_cell(name: str, dialect: SqlDialect) -> str:
    """Whether a function is said to a database, or why it is not."""
    general, _, kinds = name.partition(":")
    words = [*kinds.partition(",")[0].split(), *(general.split()[1:] if general.startswith("CAST") else [])]
    if any(one in KINDS and one not in dialect.kinds for one in words):
        return dialect.wrong_kind
    wider = (
        name,
        general.partition(",")[0],
        " ".join(general.split()[:2]),
        general.split()[0],
        general.partition("_")[0],
    )
    why = next((dialect.refused[one] for one in wider if one in dialect.refused), None)
    if why is not None and name not in dialect.said:
        return why
    said = (
        name in BUILT
        or any(one in dialect.said for one in wider[:2])
        or (dialect.reads_texts and name in ("CAST text", "PLAIN_NUMBER"))
    )
    if said:
        return "yes"
    entry = LIBRARY.entries.get(general.partition(",")[0])
    number = general == "/" or (entry is not None and any(one.result == "number" for one in entry.signatures))
    return dialect.wrong_kind if number and dialect.wrong_kind else "nothing there means the same"


def cell(text: str) -> str:
    """A text in a cell of a table."""
    return text.replace("|", "\\|")


PAGES = {
    "functions.md": page,
    "codes.md": codes_page,
    "keys.md": keys_page,
    "rights.md": rights_page,
    "places.md": places_page,
    "json.md": json_page,
    "schemas.json": schemas,
}

if __name__ == "__main__":
    for name, write in PAGES.items():
        (DOCS / name).write_text(write(), encoding="utf-8")
        print(f"{name}: {(DOCS / name).stat().st_size:,} bytes")
