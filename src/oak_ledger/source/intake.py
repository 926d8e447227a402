"""Intake: reading an origin for the first time, and writing down what was found as a definition."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa

from oak_ledger.errors import Finding, OakError, Place, UnusableInput
from oak_ledger.origin import OriginSpec
from oak_ledger.origin.delimited import detect
from oak_ledger.origin.feeds import FILE_COLUMN, FilesFeed, Progress
from oak_ledger.origin.judge import Evidence, Judge
from oak_ledger.source.definition import DEFINITION
from oak_ledger.source.document import new_block, parse_document, write_bytes
from oak_ledger.source.source import Source

_IDENTIFIER = re.compile(
    r"(?i)(^|[ _-])(id|no|nr|number|code|key|ticket|zip|postcode|phone|account|year|month|week|day)$"
)


@dataclass(frozen=True, slots=True)
class Proposal:
    """One column: the field it is proposed as, and why."""

    column: str
    name: str
    type: str
    role: str
    evidence: Evidence
    keys: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Intake:
    """What intake found: the source it proposes (not saved yet), each column with its evidence, how the files are written."""

    source: Source
    proposals: tuple[Proposal, ...]
    decisions: tuple[tuple[str, str], ...]
    files: tuple[Path, ...]
    findings: tuple[Finding, ...]
    rows: int

    def save(self, *, replace: bool = False) -> Path:
        """Write the definition; refuses to overwrite one unless told to."""
        target = self.source.path
        if target is None:
            raise OakError("no-path", "This intake has no file to be written to.")
        if replace or not target.exists():
            if replace:
                self.source.save(target)
            else:
                _write_new(target, self.source.document.text)
            return target
        raise _taken(target)


def _taken(target: Path) -> OakError:
    return OakError(
        "file-exists",
        f"{target} is there already; it was left alone.",
        hint="Give another name with --to, or take the old definition away first.",
    )


def _write_new(target: Path, text: str) -> None:
    """Write a file that must not be there yet, even if another process makes it meanwhile."""

    def write(temporary: Path) -> None:
        temporary.write_bytes(text.encode())
        try:
            os.link(temporary, target)  # fails where the target is there
        except FileExistsError:
            raise _taken(target) from None

    write_bytes(target, write)


def nice_name(column: str) -> str:
    """A column's name as people would write it: LOAD_ID is Load id, grossValue is Gross value."""
    words = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", column).replace("_", " ").split()
    shown = [
        word.lower()
        if word.isupper() or (at and word.istitle() and column.find("_") < 0 and column.find(" ") < 0)
        else word
        for at, word in enumerate(words)
    ]
    text = " ".join(shown)
    return text[:1].upper() + text[1:]


def take_in(
    paths: Sequence[str | Path],
    *,
    name: str = "",
    to: str | Path | None = None,
    name_parts: str = "",
    sample: int | None = None,
    separator: str | None = None,
    encoding: str | None = None,
    header: str | None = None,
    keep_names: bool = False,
    progress: Progress | None = None,
) -> Intake:
    """Look at one delimited file, or at many of one shape, and propose a definition; nothing is written yet.

    `paths` are files, or one pattern with `*`. Types are judged from every row, or from the first `sample` rows. `name_parts` is a
    pattern of the files' names, such as ``loads_{Year}-{Month}.csv``. `separator`, `encoding` and `header` (`first` or `none`)
    are found out where they are not given. Raises UnusableInput for files that cannot be used.
    """
    files = _files(paths)
    dialect = detect(files[0], separator=separator, encoding=encoding, header=header)
    several = len(files) > 1 or "*" in str(paths[0]) or bool(name_parts)
    target = Path(to) if to else Path(f"{_slug(name or _stem(files))}.oak.toml")
    path: str = os.path.relpath(_common(paths, files) if several else str(files[0]), str(target.parent))
    spec = OriginSpec(
        kind="files" if several else "file",
        path=path.replace(os.sep, "/"),
        name_parts=name_parts,
        separator=dialect.separator,
        encoding=dialect.encoding,
        header="first" if dialect.header == "first" else "none",
    )
    feed = FilesFeed(files, spec, progress=progress)
    findings = _shape_findings(feed)
    judges = _judged(feed, sample)
    proposals = _proposals(judges, nice=not keep_names)
    title = name or nice_name(_stem(files))
    text = _definition(title, spec, proposals)
    document = parse_document(text, DEFINITION, target.name)
    source = Source(document, target.parent, target, progress=progress)
    rows = max((one.evidence.rows for one in proposals), default=0)
    return Intake(source, tuple(proposals), dialect.evidence, tuple(files), tuple(findings), rows)


def _files(paths: Sequence[str | Path]) -> list[Path]:
    found: list[Path] = []
    for one in paths:
        path = Path(one)
        if "*" in str(one):
            found += sorted(
                Path(path.anchor).glob(str(path.relative_to(path.anchor)))
                if path.is_absolute()
                else Path().glob(str(path))
            )
        else:
            found.append(path)
    if not found:
        raise UnusableInput(
            "no-file",
            f"No file matches {', '.join(map(str, paths))}.",
            hint="Check the pattern; put it in quotes.",
        )
    return found


def _common(paths: Sequence[str | Path], files: Sequence[Path]) -> str:
    """A pattern that names the files: the one given, or one made from what their names share."""
    if len(paths) == 1:
        return str(paths[0])
    folder = files[0].parent
    names = [file.name for file in files]
    start = os.path.commonprefix(names)
    end = os.path.commonprefix([name[::-1] for name in names])[::-1]
    return str(folder / f"{start}*{end}")


def _stem(files: Sequence[Path]) -> str:
    shared = os.path.commonprefix([file.stem for file in files])
    return re.sub(r"[^A-Za-z]+$", "", shared) or files[0].stem


def _slug(text: str) -> str:
    return re.sub(r"\W+", "_", text.strip().lower()).strip("_") or "source"


def _shape_findings(feed: FilesFeed) -> list[Finding]:
    found = []
    for path, missing, more in feed.shapes():
        said = [f"has no column {', '.join(missing)}"] if missing else []
        said += [f"has the column {', '.join(more)} besides"] if more else []
        message = f"{path.name} {' and '.join(said)}."
        found.append(Finding("file-differs", message, Place(path.name), "Ask for the file again, or read it apart."))
    return found


def _judged(feed: FilesFeed, sample: int | None) -> dict[str, Judge]:
    names = list(feed.columns())
    judges = {name: Judge() for name in names if name != FILE_COLUMN}
    left = sample
    for batch in feed.batches(list(judges)):
        part: pa.RecordBatch = batch if left is None else batch.slice(0, left)
        for name, judge in judges.items():
            judge.see(part.column(name))
        if left is not None:
            left -= part.num_rows
            if left <= 0:
                break
    return judges


def _proposals(judges: dict[str, Judge], *, nice: bool) -> list[Proposal]:
    made: list[Proposal] = []
    taken: set[str] = set()
    for column, judge in judges.items():
        name = nice_name(column) if nice else column
        if name.casefold() in taken:
            name = column
        taken.add(name.casefold())
        made.append(propose(column, name, judge.verdict()))
    return made


def propose(column: str, name: str, evidence: Evidence) -> Proposal:
    """The field that a column is proposed as."""
    keys: dict[str, Any] = {"name": name, "column": column, "type": evidence.kind}
    shown = evidence.kind
    if evidence.kind == "decimal":
        shown = keys["type"] = f"decimal({evidence.precision},{evidence.scale})" if evidence.scale <= 9 else "number"
    if evidence.template:
        keys["template"] = evidence.template
    if evidence.marks == ",":
        keys["decimal_mark"] = ","
    if "thousands" in evidence.why:
        keys["thousands_mark"] = "." if evidence.marks == "," else ","
    if evidence.null_words:
        keys["null_words"] = list(evidence.null_words)
    if evidence.marks == ".,":
        # both marks occur: read as text and cleaned, so that either is understood
        keys["clean"] = f"CAST(REPLACE(BTRIM(VALUE), ',', '.') AS {keys['type'].upper()})"
        keys["type"] = "text"
    numeric = evidence.kind in ("integer", "decimal", "number")
    every = evidence.distinct == evidence.rows - evidence.nulls and evidence.rows > 1 and evidence.kind == "integer"
    role = "measure" if numeric and not _IDENTIFIER.search(name) and not every else "dimension"
    keys["role"] = role
    return Proposal(column, name, shown, role, evidence, keys)


def _definition(name: str, spec: OriginSpec, proposals: Sequence[Proposal]) -> str:
    """A definition as text."""
    given = {
        key: value
        for key, value in spec.model_dump().items()
        if value != "" and value != OriginSpec.model_fields[key].default
    }
    text = new_block("source", {"name": name, "owner": "", "description": ""}, listed=False).text + "\n"
    text += new_block("origin", {"kind": spec.kind, **given}, listed=False).text
    for proposal in proposals:
        text += "\n" + new_block("field", proposal.keys).text
    return text
