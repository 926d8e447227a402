"""The commands, those of the first hour on top, each with its module and a line that says what it does; and what moved, to where."""

from __future__ import annotations

SECTIONS: dict[str, dict[str, tuple[str, str]]] = {
    "In the first hour": {
        "demo": ("demo", "Make demo data and walk through a working day."),
        "intake": ("rows.intake", "Read new files for the first time and propose a definition."),
        "field": ("field.whole", "Add, rename, retype, clean, describe, hide and remove fields."),
        "tally": ("figures.ask", "Group and aggregate, with correct totals."),
        "check": ("figures.check", "Check a source and its reports: errors, and totals that mislead."),
    },
    "Rows and fields": {
        "join": ("rows.intake", "Combine several origins by shared keys, and show the effects."),
        "step": ("rows.steps", "Prepare incoming rows: columns into rows, split, …"),
        "peek": ("figures.ask", "Show the first rows of a source or of a file."),
        "profile": ("rows.profile", "Show the values of fields, and what looks wrong."),
        "constant": ("rows.entries", "List, set and remove constants."),
        "filter": ("rows.entries", "List, add and remove named filters."),
        "rule": ("rows.entries", "List, add and remove rules that rows must meet."),
        "undo": ("rows.history", "Take back the last edit; list, repeat and compare edits."),
    },
    "Figures": {
        "try": ("figures.ask", "Evaluate a formula without saving it."),
        "trace": ("figures.trace", "Show what a field is made of, and what is made of it."),
        "report": ("report.catalogue", "List, write, render and check reports; share them in the catalogue."),
        "why": ("figures.why", "Take a figure of a report apart, down to its rows."),
    },
    "Publish and repair": {
        "publish": ("publishing.publish", "Publish a source to a catalogue as a draft."),
        "release": ("publishing.versions", "Make a published version the one that all reports read."),
        "versions": ("publishing.versions", "List and compare versions; share, sign, retire or check one out."),
        "mend": ("publishing.mend", "Repair broken references by naming the replacement once."),
        "snapshot": ("publishing.states", "Keep dated states of rows, and show what came, went or changed."),
        "watch": ("publishing.states", "Keep conditions on figures that warn when they turn true."),
        "catalogue": ("publishing.catalogue", "Make a catalogue; its areas, rights, groups, tokens, log, backups."),
    },
    "For others": {
        "export": ("others.export", "Write rows to a file; a view, a statement, a dictionary."),
        "serve": ("others.serve", "Answer questions over HTTP, with tokens."),
        "language-server": ("others.language_server", "Help editors with definitions and reports."),
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
    "field hide": "field set --hidden", "field show": "field set --shown", "field describe": "field set --description",
    "field format": "field set --format", "field role": "field set --role", "field total": "field set --total",
}  # fmt: skip
"""What was a command or a verb of its own, and where it is now; each answers so for one release."""
