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

    found = [one for one in table_keys() if not table or one.header.strip("[]") == table.strip("[]").casefold()]
    if not found:
        names = ", ".join(dict.fromkeys(one.header.strip("[]") for one in table_keys()))
        raise OakError("unknown-table", f"No file has a table {table!r}.", hint=f"Tables are {names}.")
    if as_json:
        entries = [
            {
                "file": one.file,
                "table": one.header,
                "about": one.about,
                "keys": [{"name": key, "value": says} for key, says in one.keys],
                "example": one.example,
            }
            for one in found
        ]
        print_json({"tables": entries})
        return
    out = console()
    for at, one in enumerate(found):
        if at:
            out.print()
        out.print(Text.assemble((one.header, "bold"), f"  {one.file}"))
        shown = grid("key", "what it says")
        for key, says in one.keys:
            shown.add_row(key, says)
        out.print(shown)
        if table:
            out.print()
            out.print(Text(one.example, style=QUIET))
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
    found, elsewhere = find_functions(asked), written_here(asked.replace(" ", "_"))
    if as_json:
        print_json(
            {
                "functions": [
                    {
                        "name": one.name,
                        "topic": one.topic,
                        "written": one.written,
                        "sentence": one.sentence,
                        "nulls": one.nulls,
                        "examples": [{"formula": formula, "result": result} for formula, result in one.examples],
                    }
                    for one in found
                ]
            }
        )
        return 0
    if not found and not elsewhere:
        raise OakError(
            "unknown-function",
            f"No function has {asked!r} in its name or description.",
            hint="oak help functions lists all of them.",
        )
    out = console()
    for way in elsewhere:
        out.print(Text.assemble(f"{asked.upper()}: ", (way, "bold")))
    named = [one for one in found if is_named(one, asked)]
    if named or len(found) <= 3:
        for one in named or found:
            out.print(Text.assemble((" or ".join(one.written), "bold"), f"  ({one.topic})"))
            out.print(Text(f"  {one.sentence} {one.nulls}"))
            for formula, result in one.examples:
                out.print(Text.assemble("    ", formula, ("  →  ", LEAF), result))
        others = [one.name for one in found if named and one not in named]
        if others:
            out.print(Text(f"see also {', '.join(others[:8])}", style=QUIET))
        return 0
    if asked:
        best, more = shortened(found, "function", MOST_FOUND)
        for one in best:
            out.print(Text.assemble((one.written[0], "bold"), (f"  ({one.topic})", QUIET)))
            out.print(Text(f"  {one.sentence}"))
        for line in (*more, Text("oak help functions NAME shows one with examples", style=QUIET)):
            out.print(line)
        return 0
    for topic in dict.fromkeys(one.topic for one in found):
        out.print(Text(topic, style="bold"))
        for one in (one for one in found if one.topic == topic):
            out.print(Text.assemble("  ", (" or ".join(one.written), LEAF)))
            out.print(Text(f"      {one.sentence}"))
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
