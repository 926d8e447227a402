"""`oak help`: the functions of formulas, the keys of files, the codes of findings."""

from __future__ import annotations

import click

from oak_ledger.cli.shared.app import Verbs, json_option, print_json
from oak_ledger.errors import OakError

MOST_FOUND = 8  # functions that are shown for a word


@click.group("help", cls=Verbs)
def help_command() -> None:
    """List what there is to be written and what may be said: functions, keys, codes."""


@help_command.command("keys")
@click.argument("table", default="")
@json_option("Keys")
def keys_command(table: str, as_json: bool) -> None:
    """List the keys of definitions and reports, or those of one TABLE (field, panel, …) with an example."""
    from oak_ledger.present.terminal import QUIET, Text, console, grid
    from oak_ledger.report.keys import table_keys

    found = [
        table_key
        for table_key in table_keys()
        if not table or table_key.header.strip("[]") == table.strip("[]").casefold()
    ]
    if not found:
        names = ", ".join(dict.fromkeys(table_key.header.strip("[]") for table_key in table_keys()))
        raise OakError("unknown-table", f"No file has a table {table!r}.", hint=f"Tables are {names}.")
    if as_json:
        entries = [
            {
                "file": keys.file,
                "table": keys.header,
                "about": keys.about,
                "keys": [{"name": key, "value": says} for key, says in keys.keys],
                "example": keys.example,
            }
            for keys in found
        ]
        print_json({"tables": entries})
        return
    out = console()
    for at, keys in enumerate(found):
        if at:
            out.print()
        out.print(Text.assemble((keys.header, "bold"), f"  {keys.file}"))
        shown = grid("key", "what it says")
        for key, says in keys.keys:
            shown.add_row(key, says)
        out.print(shown)
        if table:
            out.print()
            out.print(Text(keys.example, style=QUIET))
    if not table:
        out.print(Text("\nwith an example: oak help keys TABLE", style=QUIET))


@help_command.command("functions")
@click.argument("words", nargs=-1, metavar="[WORD]...")
@json_option("Functions")
def functions_command(words: tuple[str, ...], as_json: bool) -> int:
    """Search the functions of the formula language by WORD, or by several; all of them without one.

    A word is a name, here or in other notations, or what it does: today, running total, without spaces.
    """
    from oak_ledger import find_functions
    from oak_ledger.formula.search import is_named
    from oak_ledger.formula.spellings import written_here
    from oak_ledger.present.terminal import LEAF, QUIET, Text, console, shortened

    asked = " ".join(words)
    functions, elsewhere = find_functions(asked), written_here(asked.replace(" ", "_"))
    if as_json:
        print_json(
            {
                "functions": [
                    {
                        "name": function.name,
                        "topic": function.topic,
                        "written": function.written,
                        "sentence": function.sentence,
                        "nulls": function.nulls,
                        "examples": [{"formula": formula, "result": result} for formula, result in function.examples],
                    }
                    for function in functions
                ]
            }
        )
        return 0
    if not functions and not elsewhere:
        raise OakError(
            "unknown-function",
            f"No function has {asked!r} in its name or description.",
            hint="oak help functions lists all of them.",
        )
    out = console()
    for way in elsewhere:
        out.print(Text.assemble(f"{asked.upper()}: ", (way, "bold")))
    named = [function for function in functions if is_named(function, asked)]
    if named or len(functions) <= 3:
        for function in named or functions:
            out.print(Text.assemble((" or ".join(function.written), "bold"), f"  ({function.topic})"))
            out.print(Text(f"  {function.sentence} {function.nulls}"))
            for formula, result in function.examples:
                out.print(Text.assemble("    ", formula, ("  →  ", LEAF), result))
        others = [function.name for function in functions if named and function not in named]
        if others:
            out.print(Text(f"see also {', '.join(others[:8])}", style=QUIET))
        return 0
    if asked:
        best, more = shortened(functions, "function", MOST_FOUND)
        for function in best:
            out.print(Text.assemble((function.written[0], "bold"), (f"  ({function.topic})", QUIET)))
            out.print(Text(f"  {function.sentence}"))
        for line in (*more, Text("oak help functions NAME shows one with examples", style=QUIET)):
            out.print(line)
        return 0
    for topic in dict.fromkeys(function.topic for function in functions):
        out.print(Text(topic, style="bold"))
        for function in (function for function in functions if function.topic == topic):
            out.print(Text.assemble("  ", (" or ".join(function.written), LEAF)))
            out.print(Text(f"      {function.sentence}"))
    out.print(Text("oak help functions NAME shows one with examples", style=QUIET))
    return 0


@help_command.command("codes")
@json_option("Codes")
def codes_command(as_json: bool) -> None:
    """List the codes of all findings and errors, with how each is mended."""
    _list_codes(as_json)


def _list_codes(as_json: bool) -> None:
    """List every code of a finding, with what it means and how to mend it."""
    from dataclasses import asdict

    from oak_ledger.codes import CODES, TOPICS
    from oak_ledger.present.terminal import LEAF, QUIET, Text, console

    if as_json:
        listed = [{"code": code, **asdict(entry)} for code, entry in CODES.items()]
        print_json({"codes": listed})
        return
    out = console()
    for topic, codes in TOPICS.items():
        out.print(Text(topic, style="bold"))
        for code, entry in codes.items():
            out.print(Text.assemble("  ", (code, LEAF), (f"  {entry.severity}", QUIET)))
            out.print(Text(f"      {entry.meaning} → {entry.mend}"))
        out.print()
