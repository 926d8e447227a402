"""The commands in the order of the work, each with its module and a line that says what it does."""

from __future__ import annotations

SECTIONS: dict[str, dict[str, tuple[str, str]]] = {
    "Start": {"demo": ("demo", "Make demo data and walk through a working day.")},
    "Bring in": {
        "intake": ("intake", "Read new files for the first time and propose a definition."),
        "join": ("intake", "Combine several origins by shared keys, and show the effects."),
        "step": ("steps", "Prepare rows as they come in: columns into rows, split, fill down, …"),
    },
    "Look": {
        "peek": ("ask", "Show the first rows of a source or of a file."),
        "profile": ("profile", "Show the values of fields, and what looks wrong."),
    },
    "Shape": {
        "field": ("field_rename", "Add, rename, retype, clean, describe, hide and remove fields."),
        "constant": ("entries", "List, set and remove constants."),
        "filter": ("entries", "List, add and remove named filters."),
        "rule": ("entries", "List, add and remove rules that rows must meet."),
        "key": ("entries", "Show or set the fields that identify a row."),
        "undo": ("history", "Take back the last edit."),
        "redo": ("history", "Repeat the edit that was taken back."),
        "edits": ("history", "List the edits of a source."),
        "compare": ("history", "Show a source before and after its last edit."),
    },
    "Calculate": {
        "try": ("ask", "Evaluate a formula without saving it."),
        "tally": ("ask", "Group and aggregate, with correct totals."),
        "sql": ("sql", "Print a tally as a statement for a database."),
        "functions": ("ask", "Search the functions of the formula language."),
        "reformat": ("ask", "Reformat formulas (layout only)."),
    },
    "Prove": {
        "trace": ("trace", "Show what a field is made of, and what is made of it."),
        "check": ("check", "Check a source and its reports: errors, and totals that mislead."),
    },
    "Publish": {
        "publish": ("publish", "Publish a source to a catalogue as a draft."),
        "share": ("stages", "Let others see a draft."),
        "sign": ("stages", "Vouch for a version."),
        "release": ("stages", "Make a published version the one that all reports read."),
        "retire": ("stages", "Take the released version away, and say what replaces it."),
        "withdraw": ("stages", "Take back a draft."),
        "versions": ("publish", "List the published versions of a source, or compare two."),
        "checkout": ("publish", "Fetch a published definition as a working copy."),
        "snapshot": ("states", "Keep dated states of a source's rows."),
        "changes": ("states", "Show rows that came, went or changed since a date or a version."),
        "watch": ("states", "Keep conditions on figures that warn when they turn true."),
        "create-view": ("view", "Make a released version readable for any SQL client."),
        "dictionary": ("dictionary", "Write what sources and fields mean, as pages and as text."),
        "serve": ("serve", "Answer questions over HTTP, with tokens."),
        "export": ("export", "Write the rows of a source to a file or to standard output."),
    },
    "Share": {
        "catalogue": ("upkeep", "Make and verify a catalogue, its areas, its audit log."),
        "rights": ("rights", "List, give and take rights in areas."),
        "group": ("rights", "List groups, and put people into them."),
        "token": ("rights", "Make, list and revoke tokens for programs."),
    },
    "Report": {
        "report": ("report_catalogue", "List, write, render and check reports; share them in the catalogue."),
        "why": ("why", "Take a figure of a report apart, down to its rows."),
    },
    "Repair": {
        "mend": ("mend", "Repair broken references by naming the replacement once."),
        "graft": ("graft", "Carry calculated fields into a similar source, with what they need."),
    },
    "Upkeep": {
        "keys": ("keys", "List the keys of definition and report files, with examples."),
        "upgrade": ("mend", "Rewrite a definition and its reports with today's keys."),
        "cache": ("cache", "List or remove the typed copies of files that are slow to read."),
    },
}
COMMANDS = {name: entry for section in SECTIONS.values() for name, entry in section.items()}
