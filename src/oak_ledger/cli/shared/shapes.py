"""What each command prints with `--json`: one shape each, from which the documented JSON Schemas are made.

A command names its shape where it gets the option: `json_option("Answer")`. Every object is closed: a key that is not listed here is a
mistake, and a test says so. Exact decimals, dates and times are text.
"""

from __future__ import annotations

from typing import Any

# A line per object: its name | its keys, each with a type | what it is. A type is one of PLAIN or the name of another object; `?` says
# that it may be null, `*` that it is a list. Every key is always there, except those with a + before them.
_SHAPES = """
Failure | errors Finding* | what any command prints instead when it cannot do its work
Finding | code text, severity text, message text, hint text, where text, file text?, kind text?, name text?, file_line integer?, text text?, line integer?, column integer?, length integer?, fixed text?, sure flag, numbers object | a finding or an error: `file`, `kind`, `name` and `file_line` say in which entry, `where` says it in words; `text`, `line`, `column` and `length` say where in a formula, `fixed` is the repaired formula, `sure` says whether it means what was written
Sample | row integer, inputs row | a row whose value could not be computed, with what went into it
Fault | field text, what text, rows integer, of text, samples Sample* | values that could not be computed: of which field, why, in how many of what: rows or groups
Step | kind text, what text, rows integer, bytes integer, seconds number, note text | a step of a computation
Answer | rows row*, totals row?, faults Fault*, findings Finding*, steps Step*, version text, place text | rows as objects by field name; `totals` and `steps` where they were asked for; `version` says which published version it is (empty for a working copy), `place` where it was computed: here, origin (its database) or spark (a cluster)
Proposal | field text, column text, type text, role text?, role_why text, why text, rows integer, nulls integer, distinct integer?, misfits integer, samples text* | a field as intake proposes it, with the evidence
NewNulls | column text, rows integer | nulls that a join brings into a column
Total | column text, before number, after number | a total that a join changes
Join | part text, on text*, how text, left_rows integer, right_rows integer, rows integer, left_alone integer, right_alone integer, left_samples text*, right_samples text*, left_repeats integer, right_repeats integer, nulls NewNulls*, measures Total*, would_meet Match*, overlapping integer | what joining one part does; `would_meet` has ways to match keys by which more rows find a partner
Match | match text, rows integer | a formula over VALUE, and how many rows more find a partner by it
Intake | definition text, files text*, rows integer, fields Proposal*, joins Join*, findings Finding* | a definition that was written
Count | value value, rows integer | a value, or a pattern of text, and in how many rows it is
Bin | start value, end value, rows integer | a part of a distribution: from `start` up to but without `end`
Suspicion | what text, rows integer, samples text*, clean text, changes integer, recode Meant* | what looks wrong, and the clean that would mend it, with how many values it changes; `recode` has values that are likely meant to be others
Meant | found text, meant text | a value, and what it likely is
FieldProfile | field text, type text, rows integer, nulls integer, distinct integer, minimum value, maximum value, average number?, median number?, common Count*, shortest text, longest text, bins Bin*, patterns Count*, suspicions Suspicion* | the profile of one field
Profile | fields FieldProfile*, written text* | profiles by field, and the pictures that were written
Prepared | number integer, kind text, rows_before integer, rows_after integer, notes object, keys object | a step of an origin, and what it did to the rows
Field | field text, kind text, type text?, grain text, broken flag, hidden flag, column text, formula text, clean text, description text | a field of a definition
Fields | fields Field* | the fields of a source
Line | line integer, before text, after text | a line of a file; an empty text is a line that is not there
File | file text, lines Line* | the lines of one file that change
Edit | files File*, written flag, facts object | what an edit changes, and what the command found out; `written` is false in a dry run and where nothing changes
Constant | +name text, +value value, +by text, +values row, +description text | a constant as the definition has it
Constants | constants Constant* | the constants of a source
Filter | +name text, +where text, +always flag, +description text | a filter as the definition has it
Steps | steps Prepared* | the steps of an origin
Filters | filters Filter* | the filters of a source
Rule | +name text, +holds text, +description text | a rule as the definition has it
Rules | rules Rule* | the rules of a source
LoggedEdit | at text, by text, what text, undone flag, files text* | an edit of the log
Edits | edits LoggedEdit* | the log of edits, the newest first
FieldChange | before text?, after text?, type_before text, type_after text, changes text*, lost integer, sample text | a field before and after an edit; null where it was not there
Comparison | fields FieldChange*, before row*, after row* | two states of a source: fields side by side, and the first rows of both
CreatedView | view text, statements text*, rows integer, left_out Named*, written flag | what was made in a database, or, in a dry run, would be
Sql | statement text | a statement for a database
Branch | branch text, rows integer, nulls integer | a branch of a CASE with the rows that it takes
OutlineLine | depth integer, text text | a line of what a formula gives, what it needs, and where it is null
Trial | formula text, type text, grain text, rows integer, nulls integer, branches Branch*, sample row*, faults Fault*, findings Finding*, outline OutlineLine* | a formula, evaluated; `outline` with --explain
Example | formula text, result text | a formula and its result
Function | name text, topic text, written text*, sentence text, nulls text, examples Example* | a function of the formula language
Functions | functions Function* | functions that were found
Code | code text, severity text, meaning text, mend text | a code that findings and errors have
Piece | kind text, name text, file text, text text | a column, a field, a formula, a panel … in a trace, and what it says
Link | needed Piece, by Piece | what is needed, and what needs it
Trace | piece Piece, made_of Link*, used_by Link*, files text*, written text* | what a field is made of, down to columns and files, and what is made of it
Candidate | field text, gone text, column text, score number, sure flag, evidence text | a column that may have taken the place of the one that a field used
Entry | file text, kind text, name text | an entry of a definition or a report
Cause | what text, finding Finding, entries Entry*, candidates Candidate* | a root cause, all that is broken by it, and what may have taken the place of a missing column
Codes | codes Code* | the codes of all findings and errors
Check | findings Finding*, causes Cause*, moved Candidate*, working object | what a check found: root causes of errors in the source and its reports, columns that hold something else now, other findings, how much works
Group | group value*, before value, after value | a figure of one group before and after; null where the group was or is not there
RenamedGroup | before value*, after value* | a group that has another name now and the same figures
Change | report text, panel text, measure text, before value, after value, broken text, because text*, groups Group*, renamed RenamedGroup* | a figure of a report before and after, in all and by group; `broken` says why there is none, `because` which fields it comes from
Signature | by text, at text, note text | who vouches for a version
Version | source text, version integer, area text, stage text, rows integer, warnings integer, note text, base integer, made_by text, made_at text, overruled text, replaced_by text, signatures Signature*, viewers text*, checks_passed integer, findings object | a published version; its stage is draft, released or retired; `findings` counts what the check said by code, `base` is the version that it was made from
Difference | entry text, what text, before text, after text | how an entry of a definition differs: added, removed, renamed, or which key
Publication | version Version?, findings Finding*, differences Difference*, changes Change* | the version that was published (null in a dry run), what the check found, which figures of reports change
Release | version Version?, written flag | the version as it is now, or, in a dry run, would be; null where it is gone
Versions | versions Version*, differences Difference*, changes Change* | published versions by source, oldest first; with --compare two of them, and how they differ
Checkout | file text, version Version | the working copy that was written, and the version that it was made from
SnapshotEntry | source text, number integer, version integer, rows integer, at text, by text, note text | a dated state of rows
Snapshots | snapshots SnapshotEntry* | dated states of a source's rows
RowChanges | source text, since text, key text*, columns text*, changed integer, came integer, went integer, changed_rows row*, came_rows row*, went_rows row* | rows that differ from an earlier state: how many of each kind, and the first of them
WatchEntry | name text, condition text, by text*, where text | a condition on figures
Watches | watches WatchEntry* | the watches of a source
WatchFound | watch text, source text, version integer, at text, state text, groups text*, turned flag, said text | what a watch found: true, false, undecided or broken
WatchResults | results WatchFound* | what watches found
Scheduled | snapshots SnapshotEntry*, results WatchFound*, failed text* | what a schedule did
MergedFile | file text, findings Finding* | two people's changes put together, and what both changed in different ways
Written | what text, on text | what was done, and to what
Area | area text, rights text* | an area with the rights that one has there
Areas | areas Area* | the areas in which one has a right
Damage | damage text* | what is damaged, or was removed
LogEntry | at text, who text, what text, area text, subject text, detail text, chain text | an entry of the audit log; `chain` is the digest of it and all before it
AuditLog | entries LogEntry*, head text | entries of the audit log, oldest first, and the digest of the last
Holder | area text, who text, rights text* | who has which rights in an area
Rights | rights Holder*, enforced flag | rights, and whether a server enforces them
RightsTable | rights Named*, actions row* | what each right allows
GroupEntry | group text, people text* | a group
Groups | groups GroupEntry* | groups with their members
NewToken | token text, name text | a token, shown only once
TokenEntry | number integer, name text, person text, areas text*, rights text*, made_at text, ends_at text, revoked_at text | a token, without its secret
Tokens | tokens TokenEntry* | tokens
SharedReport | report text, area text, owner text, source text, number integer, at text, by text, note text, waiting integer | a report of the catalogue; `waiting` counts changes that wait for its owner
SharedReports | reports SharedReport* | the reports of the catalogue that one may see
FetchedReport | file text, state integer | the file that was written
WaitingChange | change integer, report text, by text, at text, note text, before text, after text | a change that waits for a report's owner
FourEyes | on flag | whether somebody else than its maker releases a version
Removed | removed text* | what was removed
HandedOver | drafts text*, reports text*, tokens integer | what somebody had and another one has now
Reading | source text, reader text, version integer, at text | who read a source, and which version last
Readings | readings Reading* | who read what
WaitingChanges | waiting WaitingChange* | changes that wait
Dictionary | written text*, sources text*, fields integer | the files of a dictionary that were written
Export | file text, version text, rows integer, faults Fault*, findings Finding* | a file of rows that was written
ReportEntry | report text, source text, owner text, panels integer, file text | a report file
Reports | reports ReportEntry* | the reports in a folder
NewReport | file text, panels integer, written flag | a report that was written
Place | file text, field text | a report, and what a field is called in it
Repeated | formula text, places Place* | a formula that several reports have
Locals | formulas Repeated* | formulas that several reports repeat
PanelLine | role text, cells text* | a line as it is shown; its role is row, subtotal, rest or total
Panel | kind text, title text, broken flag, rows row*?, totals row?, lines PanelLine*, change text, text text*, notes text*, faults Fault*, findings Finding* | a panel, computed: the answer behind it (null for a text, and where it is broken: `findings` say why), and what it shows
Report | report text, source text, version text, panels Panel*, written text* | a report, computed over one version of its source, and the files that were written
FigurePart | text text, value value | a part of a formula, and its value
FigureStep | name text, formula text, parts FigurePart*, value value | a formula with its parts and its value
FilterStep | text text, before integer, after integer | a condition, and how many rows there are before and after it
Named | name text, value text | a constant with its value, or a key with what it says
Since | before value, key text*, changed integer, came integer, went integer, sample row* | what a figure was, and how many rows behind it differ
Compared | name text, text text, of text, partition Named*, count integer, frame integer*, first integer, own integer, rows row* | what a window of the field `name` is computed from, of groups or of rows: how many its partition has, the places of the first and last in its frame (empty where it holds none), and some of them: `first` is the place of the first of these, `own` which of these is the own one, from 0
Why | source text, version text, measure text, group row, value value, steps FigureStep*, against FigureStep*, compared Compared*, filters FilterStep*, rows integer, nulls NewNulls*, constants Named*, fields text*, faults Fault*, since Since?, sample row*, written text* | a figure taken apart; `steps` begin with the figure itself, `against` is what it is compared with
TableKeys | file text, table text, about text, keys Named*, example text | a table of a file: its keys with what each says, and an example
Keys | tables TableKeys* | the tables of definitions and reports
CheckedReport | report text, file text, findings Finding* | what was found in one report
ReportChecks | reports CheckedReport* | what was found, by report
Copy | source text, origin text*, rows integer, bytes integer, used number | a typed copy that is kept; `used` is in seconds since 1970
Copies | copies Copy* | typed copies; with --clear, those that were removed
DemoCommand | command text, code integer, expected integer | a command of the demo: its exit code, and the one that it should have
Demo | folder text, loads integer, commands DemoCommand* | what the demo made and ran
"""

VALUE = {"type": ["string", "integer", "number", "boolean", "null"]}
PLAIN: dict[str, dict[str, Any]] = {
    "text": {"type": "string"},
    "integer": {"type": "integer"},
    "number": {"type": "number"},
    "flag": {"type": "boolean"},
    "value": VALUE,
    "row": {"type": "object", "additionalProperties": VALUE},
    "object": {"type": "object"},
}


def _read() -> dict[str, tuple[list[tuple[str, str]], str]]:
    rows = (line.split(" | ") for line in _SHAPES.strip().splitlines())
    return {
        name: ([(key, kind) for key, kind in (one.split() for one in keys.split(", "))], about)
        for name, keys, about in rows
    }


SHAPES = _read()


def _typed(kind: str) -> dict[str, Any]:
    if kind.endswith("?"):
        return {"anyOf": [_typed(kind[:-1]), {"type": "null"}]}
    if kind.endswith("*"):
        return {"type": "array", "items": _typed(kind[:-1])}
    return PLAIN.get(kind) or {"$ref": f"#/$defs/{kind}"}


def _object(name: str) -> dict[str, Any]:
    keys, about = SHAPES[name]
    return {
        "type": "object",
        "description": about,
        "properties": {key.removeprefix("+"): _typed(kind) for key, kind in keys},
        "required": [key for key, _ in keys if not key.startswith("+")],
        "additionalProperties": False,
    }


def parts(name: str) -> list[str]:
    """The objects that a shape is made of: itself, and those that its keys name, each once."""
    found = [name]
    for one in found:
        kinds = [kind.rstrip("?*") for _, kind in SHAPES[one][0]]
        found += [kind for kind in dict.fromkeys(kinds) if kind in SHAPES and kind not in found]
    return found


def schema(name: str) -> dict[str, Any]:
    """The JSON Schema of what a command prints that has this shape: the object, or a failure."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "anyOf": [{"$ref": f"#/$defs/{one}"} for one in (name, "Failure")],
        "$defs": {one: _object(one) for one in SHAPES if one in {*parts(name), *parts("Failure")}},
    }
