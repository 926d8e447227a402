"""The commands, those of the first hour on top, each with its module and a line that says what it does; and what moved, to where."""

from __future__ import annotations

SECTIONS: dict[str, dict[str, tuple[str, str]]] = {
    "In the first hour": {
        "demo": ("demo", "Make demo data and walk through a working day."),
        "intake": ("intake", "Read new files for the first time and propose a definition."),
        "field": ("field_more", "Add, rename, retype, clean, describe, hide and remove fields."),
        "tally": ("ask", "Group and aggregate, with correct totals."),
        "check": ("check", "Check a source and its reports: errors, and totals that mislead."),
    },
    "Rows and fields": {
        "join": ("intake", "Combine several origins by shared keys, and show the effects."),
        "step": ("steps", "Prepare rows as they come in: columns into rows, split, …"),
        "peek": ("ask", "Show the first rows of a source or of a file."),
        "profile": ("profile", "Show the values of fields, and what looks wrong."),
        "constant": ("entries", "List, set and remove constants."),
        "filter": ("entries", "List, add and remove named filters."),
        "rule": ("entries", "List, add and remove rules that rows must meet."),
        "undo": ("history", "Take back the last edit; list, repeat and compare edits."),
    },
    "Figures": {
        "try": ("ask", "Evaluate a formula without saving it."),
        "trace": ("trace", "Show what a field is made of, and what is made of it."),
        "report": ("report_catalogue", "List, write, render and check reports; share them in the catalogue."),
        "why": ("why", "Take a figure of a report apart, down to its rows."),
    },
    "Publish and repair": {
        "publish": ("publish", "Publish a source to a catalogue as a draft."),
        "release": ("versions", "Make a published version the one that all reports read."),
        "versions": ("versions", "List and compare versions; share, sign, retire or check one out."),
        "mend": ("mend", "Repair broken references by naming the replacement once."),
        "snapshot": ("states", "Keep dated states of rows, and show what came, went or changed."),
        "watch": ("states", "Keep conditions on figures that warn when they turn true."),
        "catalogue": ("catalogue", "Make a catalogue; its areas, rights, groups, tokens, log, backups."),
    },
    "For others": {
        "export": ("export", "Write rows to a file; a view, a statement, a dictionary."),
        "serve": ("serve", "Answer questions over HTTP, with tokens."),
        "cache": ("cache", "List or remove the typed copies of files that are slow to read."),
        "help": ("reference", "List functions, keys of files, and codes of findings."),
    },
}
COMMANDS = {name: entry for section in SECTIONS.values() for name, entry in section.items()}
MOVED = {
    "share": "versions share", "sign": "versions sign", "retire": "versions retire", "withdraw": "versions withdraw",
    "checkout": "versions checkout", "rights": "catalogue rights", "group": "catalogue groups", "token": "catalogue tokens",
    "create-view": "export view", "dictionary": "export dictionary", "sql": "export sql", "graft": "field graft", "key": "field key",
    "reformat": "field reformat", "edits": "undo list", "redo": "undo redo", "compare": "undo compare", "changes": "snapshot changes",
    "functions": "help functions", "keys": "help keys",
}  # fmt: skip
"""What was a command of its own, and where it is now; each answers so for one release."""
