"""Intake: reading an origin for the first time, and writing down what was found as a definition."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import Any

from oak_ledger.columns.arrival import dropped_findings, shape_findings
from oak_ledger.columns.judging import judged, nice_name, proposals_of, propose, verdict_of
from oak_ledger.columns.origins import files_of, first_spec, made_of, slug, stem_of, with_part
from oak_ledger.columns.proposal import Proposal
from oak_ledger.definition.document import new_block, parse_document
from oak_ledger.definition.model import DEFINITION
from oak_ledger.definition.naming import named
from oak_ledger.errors import Finding, OakError, UnusableInput
from oak_ledger.files import write_atomically
from oak_ledger.first_look.undecided import open_findings
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.origin import OriginSpec, open_origin
from oak_ledger.origin.files import FILE_COLUMN
from oak_ledger.origin.inputs import open_input
from oak_ledger.origin.join import JoinReader, JoinStep
from oak_ledger.origin.reader import BadRow, Progress
from oak_ledger.origin.several import SeveralReader
from oak_ledger.origin.spec import PartSpec, ReadingSpec
from oak_ledger.origin.workbook import SheetReader
from oak_ledger.source.cache import typed_copy
from oak_ledger.source.source import Source, open_source


@dataclass(frozen=True, slots=True)
class Intake:
    """What intake found: the source it proposes (not saved yet), each column with its evidence, how the files are written."""

    source: Source
    proposals: tuple[Proposal, ...]
    decisions: tuple[tuple[str, str], ...]
    files: tuple[Path, ...]
    findings: tuple[Finding, ...]
    rows: int
    bad_rows: tuple[BadRow, ...] = ()
    joins: tuple[JoinStep, ...] = ()

    def save(self, *, replace: bool = False) -> Path:
        """Write the definition; refuses to overwrite one unless asked to."""
        target = self.source.path
        if target is None:
            raise OakError("no-path", "This intake has no file to be written to.")
        if replace or not target.exists():
            if replace:
                self.source.save(target)
            else:
                _write_new(target, self.source.document.text)
            typed_copy(self.source)  # the first question finds it
            return target
        raise _taken(target)

    def save_bad_rows(self) -> Path | None:
        """Write what was dropped or mended to a file beside the definition (file, line, why, what it says); None if nothing was."""
        target = self.source.path
        if target is None or not self.bad_rows:
            return None
        path = target.with_name(target.name.removesuffix(".oak.toml") + ".bad_rows.csv")
        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\n")
        writer.writerow(["file", "line", "kept", "why", "text"])
        writer.writerows([row.file, row.line, "yes" if row.kept else "no", row.why, row.text] for row in self.bad_rows)
        write_atomically(path, lambda temporary: temporary.write_bytes(text.getvalue().encode("utf-8")))
        return path


def _taken(target: Path) -> OakError:
    return OakError(
        "file-exists",
        f"{target} already exists and was not changed.",
        hint="Choose another name with --to, or delete the old definition first.",
    )


def _write_new(target: Path, text: str) -> None:
    """Write a file that must not be there yet, even if another process makes it meanwhile."""

    def write(temporary: Path) -> None:
        temporary.write_bytes(text.encode())
        try:
            os.link(temporary, target)  # fails where the target is there
        except FileExistsError:
            raise _taken(target) from None

    write_atomically(target, write)


def intake(
    paths: str | Path | Sequence[str | Path] = (),
    *,
    name: str = "",
    definition: str | Path | None = None,
    name_parts: str = "",
    sample: int | None = None,
    keep_names: bool = False,
    progress: Progress | None = None,
    **reading: Any,
) -> Intake:
    """Look at an origin for the first time and propose a definition; `save` writes it, to `definition`.

    `paths` is a file, several, or a pattern with `*`: delimited text, a workbook (`sheet=` says which sheet), Parquet, Arrow, JSON
    lines, or a SQLite database; any other database is named by `url`, with `table` or `query`. Types are judged from every row, or from
    the first `sample` rows. `name_parts` is a pattern of the files' names, such as ``loads_{Year}-{Month}.csv``.

    Other keys of an origin (separator, quote, encoding, header, comment, footer, names, bad_rows, renamed, password_from) are
    taken as given; of a text file, those that are not given are found out. Raises UnusableInput for what cannot be read.
    """
    paths = [paths] if isinstance(paths, (str, Path)) else paths
    given = {key: value for key, value in reading.items() if value is not None}
    if len(paths) == 1:
        file, part = with_part(paths[0])
        paths, given = [file], {**part, **given}
    if given.get("url") and given.get("password_from"):
        from oak_ledger.origin.passwords import agree

        agree(str(given["password_from"]), str(given["url"]))
    files = files_of(paths) if not given.get("url") else []
    target = Path(definition) if definition else Path(f"{slug(name or stem_of(files, given))}.oak.toml")
    spec, decisions = first_spec(paths, files, name_parts, given, target)
    title = name or nice_name(stem_of(files, given))
    return _taken_in(title, spec, (), target, sample, files, decisions, keep_names=keep_names, progress=progress)


def intake_join(
    paths: Sequence[str | Path],
    *,
    on: Sequence[str],
    how: str = "left",
    match: str = "",
    day: str = "",
    valid_from: str = "",
    valid_until: str = "",
    totals: Mapping[str, str] | None = None,
    samples: int = 3,
    name: str = "",
    definition: str | Path | None = None,
    keep_names: bool = False,
    progress: Progress | None = None,
) -> Intake:
    """Combine several origins by shared keys and propose a definition; what the joins do is in `Intake.joins`.

    The first path is the one that the others are joined to, one after the other, `how` being inner, left or full. Each may be
    of any kind that `intake` reads, a sheet (`book.xlsx#Prices`), a table (`yard.db#stock`), a definition or a source of a catalogue
    (`catalogue#North/Loads`). A key that has two names is written `other=own`; `match` is a formula over VALUE that says what of
    a key counts. With `day`, `valid_from` and perhaps `valid_until`, formulas over columns, the row that is valid on that day is joined;
    with `totals`, aggregates over the rows of a key, by their names. `samples` keys without a partner are named. Raises UnusableInput
    where a key is missing or has another type on one side, and where a value that decides cannot be read.
    """
    named = [with_part(path) for path in paths]
    title = name or nice_name(stem_of([Path(named[0][0])], named[0][1]).removesuffix(".oak"))
    target = Path(definition) if definition else Path(f"{slug(title)}.oak.toml")
    said = {"how": how, "match": match, "day": day, "valid_from": valid_from, "valid_until": valid_until}
    parts = []
    for at, (path, part) in enumerate(named):
        spec, _ = first_spec([path], files_of([path]), "", dict(part), target)
        keys: dict[str, Any] = {"on": tuple(on), **said, "totals": dict(totals or {})} if at else {}
        title_of = part.get("published") or stem_of([Path(path)], part).removesuffix(".oak")
        parts.append(made_of(PartSpec, {**spec.model_dump(exclude_defaults=True), "name": nice_name(title_of), **keys}))
    files = [Path(path) for path in paths]
    return _taken_in(
        title,
        OriginSpec(kind="join"),
        parts,
        target,
        None,
        files,
        (),
        keep_names=keep_names,
        progress=progress,
        samples=samples,
    )


def _taken_in(
    title: str,
    spec: OriginSpec,
    parts: Sequence[PartSpec],
    target: Path,
    sample: int | None,
    files: Sequence[Path],
    decisions: Sequence[tuple[str, str]],
    *,
    keep_names: bool,
    progress: Progress | None,
    samples: int = 3,
) -> Intake:
    feed = open_origin(spec, target.parent, progress, parts, sources=open_input(open_source))
    if isinstance(feed, JoinReader):
        feed.samples = samples
    judges, rows, unreadable = judged(feed, sample)
    if not judges and not unreadable and not spec.query:
        where = files[0].name if files else spec.table or title
        message = f"{where}{f', sheet {spec.sheet}' if spec.sheet else ''} has no columns and no rows."
        raise UnusableInput("empty-file", message, hint="Check whether it is the right one; nothing was read.")
    separator = spec.separator if spec.kind in ("file", "files") else ""
    sheets = [
        reader
        for reader in (feed.readers if isinstance(feed, SeveralReader) else [feed])
        if isinstance(reader, SheetReader)
    ]
    text_cells = set.intersection(*(sheet.text_cells() for sheet in sheets)) if sheets else set[str]()
    proposals = proposals_of(judges, separator, text_cells, nice=not keep_names)
    document = parse_document(_definition(title, spec, parts, proposals), DEFINITION, target.name)
    if FILE_COLUMN in feed.columns() and "*" in spec.path:  # each row knows its file; report builders need not
        keys = {"name": FILE_COLUMN, "column": FILE_COLUMN, "type": "text", "role": "dimension", "hidden": True}
        document = document.added("field", keys)
    source = Source(document, target.parent, target, progress=progress)
    findings = [*shape_findings(feed), *unreadable, *dropped_findings(feed), *open_findings(source, proposals)]
    joins = tuple(feed.steps) if isinstance(feed, JoinReader) else ()
    return Intake(
        source, tuple(proposals), tuple(decisions), tuple(files), tuple(findings), rows, tuple(feed.bad_rows), joins
    )


def restore_columns(source: Source, columns: Sequence[str]) -> Source:
    """The source with fields more for columns that no field uses, types judged, named by the standing rules."""
    there = {name.casefold(): name for name in source.compiled.origin_schema}
    for column in columns:
        name = there.get(column.casefold())
        if name is None:
            hint = (
                nearest_hint(column, source.compiled.origin_schema, str)
                or f"Columns are {', '.join(source.compiled.origin_schema)}."
            )
            raise OakError("unknown-column", f"There is no column {column!r} in the origin.", hint=hint)
        if name not in source.new_columns():
            raise OakError("column-taken", f"A field takes the column {name!r} over already.")
        kind = source.compiled.origin_schema[name]
        rules = source.naming()
        taken = {state.casefold() for state in source.compiled.states}
        wanted = named(name, rules) if rules else nice_name(name)
        free = next(one for at in count(1) if (one := wanted if at == 1 else f"{wanted} {at}").casefold() not in taken)
        proposal = propose(name, free, verdict_of(source.opened, name, kind))
        source = source.changed(source.document.added("field", proposal.keys))
    return source


def _definition(name: str, spec: OriginSpec, parts: Sequence[PartSpec], proposals: Sequence[Proposal]) -> str:
    """A definition as text."""
    text = new_block("source", {"name": name, "owner": "", "description": ""}, listed=False).text + "\n"
    text += new_block("origin", _said(spec), listed=False).text
    for part in parts:
        text += "\n" + new_block("part", {"name": part.name, **_said(part)}).text
    for proposal in proposals:
        text += "\n" + new_block("field", proposal.keys).text
    return text


def _said(spec: ReadingSpec) -> dict[str, Any]:
    """The keys of an origin that are not as they are by default."""
    kept = {key: value for key, value in spec.model_dump(exclude_defaults=True).items() if key != "name"}
    return {
        key: list(value) if isinstance(value, tuple) else value for key, value in {"kind": spec.kind, **kept}.items()
    }
