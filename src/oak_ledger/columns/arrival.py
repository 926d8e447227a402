"""What is reported about how rows were read: files of another shape, rows that were left out, columns that nobody uses."""

from __future__ import annotations

import shlex
from collections.abc import Hashable, Iterator, Sequence
from pathlib import Path
from typing import TypeVar

from oak_ledger.errors import Finding, Place
from oak_ledger.origin import FilesReader, OriginReader
from oak_ledger.origin.inputs import SourceReader
from oak_ledger.origin.join import JoinReader
from oak_ledger.origin.memory import RenamedReader
from oak_ledger.origin.reader import TypedReader
from oak_ledger.origin.several import SeveralReader
from oak_ledger.origin.steps import PreparedReader
from oak_ledger.origin.workbook import SheetReader


def shape_findings(feed: OriginReader, source: str = "SOURCE") -> list[Finding]:
    """Columns that are not read, and files of another shape than the first, each with its difference; what steps did to the rows. `source` is what a command calls it."""
    findings = []
    if isinstance(feed, PreparedReader):
        findings = [
            Finding(
                "rows-prepared",
                effect.sentence(),
                Place(name=f"step {effect.number}"),
                severity="note",
                numbers={"before": effect.before, "after": effect.after},
            )
            for effect in feed.told()
        ]
        feed = feed.under
    for name, why in refused_columns(feed).items():
        hint = "Write it another way where the file is made, if it is needed."
        findings.append(
            Finding("column-not-read", f"The column {name} {why}; it is not read.", Place(name=name), hint, "warning")
        )
    shapes = feed.shapes() if isinstance(feed, (FilesReader, SeveralReader)) else ()
    differing = []
    for path, missing, more in shapes:
        said = [f"no column {', '.join(missing)}"] if missing else []
        said += [f"the extra column {', '.join(more)}"] if more else []
        pair = (
            f"{missing[0]}={more[0]}" if len(missing) == len(more) == 1 else "NAME=THEIRS" if missing and more else ""
        )
        differing.append((path, (" and ".join(said), pair)))
    for paths, (what, pair) in _grouped(differing):
        hint = (
            f"If it is one column with two names, both are read: oak mend {source} {shlex.quote(pair)}." if pair else ""
        )
        message = f"{_files(paths)} {'has' if len(paths) == 1 else 'have'} {what}; missing columns are null in {'its' if len(paths) == 1 else 'their'} rows."
        findings.append(
            Finding("file-differs", message, Place(paths[0].name), hint, "warning", numbers={"files": len(paths)})
        )
    ends = [
        (reader.path, f"{reader.footer or 'no'} lines at the end that are not rows, instead of {reader.spec.footer}")
        for reader in [feed, *(feed.readers if isinstance(feed, SeveralReader) else ())]
        if isinstance(reader, SheetReader) and reader.columns() and reader.footer != reader.spec.footer
    ]
    return [*findings, *_otherwise(ends), *(_file_findings(feed) if isinstance(feed, FilesReader) else ())]


Said = TypeVar("Said", bound=Hashable)


def _grouped(said: Sequence[tuple[Path, Said]]) -> Iterator[tuple[list[Path], Said]]:
    """Files of which the same is said, together."""
    for what in dict.fromkeys(what for _, what in said):
        yield [path for path, own in said if own == what], what


def _files(paths: Sequence[Path]) -> str:
    """Files by name, many by their count with the first and the last."""
    if len(paths) < 4:
        return " and ".join(path.name for path in paths)
    return f"{len(paths):,} files ({paths[0].name} to {paths[-1].name})"


def _otherwise(said: Sequence[tuple[Path, str]]) -> list[Finding]:
    """Files that differ from what the definition says of reading; each is read as found."""
    findings = []
    for paths, what in _grouped(said):
        one = len(paths) == 1
        message = f"{_files(paths)} {'differs' if one else 'differ'} from the definition, and {'is' if one else 'are'} read as found: {what}."
        findings.append(
            Finding("file-otherwise", message, Place(paths[0].name), severity="note", numbers={"files": len(paths)})
        )
    return findings


def _file_findings(feed: FilesReader) -> list[Finding]:
    """Files that differ from the definition, that are there twice, and that lie beside and are not read."""
    findings = _otherwise([*feed.otherwise_written()])
    if feed.spec.kind != "files":
        return findings
    for path, other in feed.twice():
        message = f"{path.name} holds the same as {other.name}: its rows count twice."
        findings.append(Finding("file-twice", message, Place(path.name), "Take one of them away.", "warning"))
    for path in feed.beside():
        message = f"{path.name} lies beside the files that are read, is newer and has their columns, but {feed.spec.path} does not name it."
        hint = "Rename the file, or change path under [origin]."
        findings.append(Finding("file-not-read", message, Place(path.name), hint, "warning"))
    return findings


def refused_columns(feed: OriginReader) -> dict[str, str]:
    """The columns of an origin that are not read, and why."""
    return {name: why for reader in _typed(feed) for name, why in reader.refused_columns().items()}


def _typed(feed: OriginReader) -> list[TypedReader]:
    return [reader for reader in _readers(feed) if isinstance(reader, TypedReader)]


def _readers(feed: OriginReader) -> list[OriginReader]:
    """The readers that an origin is made of."""
    feed = feed.under if isinstance(feed, PreparedReader) else feed
    if isinstance(feed, JoinReader):
        return [reader for _, part in feed.parts for reader in _readers(part)]
    readers = feed.readers if isinstance(feed, SeveralReader) else [feed]
    return [reader.reader if isinstance(reader, RenamedReader) else reader for reader in readers]


def dropped_findings(feed: OriginReader) -> list[Finding]:
    """What was dropped or mended in the last reading: nothing vanishes silently."""
    findings = [finding for reader in _readers(feed) if isinstance(reader, SourceReader) for finding in reader.findings]
    for kept, did in ((False, "left out"), (True, "kept although malformed")):
        rows = [row for row in feed.bad_rows if row.kept == kept]
        if rows:
            first = rows[0]
            message = f"{len(rows):,} row{'s were' if len(rows) > 1 else ' was'} {did}, first {first.file} line {first.line}: {first.why}."
            numbers = {"rows": len(rows)}
            code = "rows-mended" if kept else "rows-dropped"
            findings.append(Finding(code, message, Place(first.file), severity="warning", numbers=numbers))
    for name, garbled in ((name, at) for reader in _typed(feed) for name, at in sorted(reader.garbled.items())):
        message = f"{name}: {len(garbled):,} text{'s are' if len(garbled) > 1 else ' is'} not UTF-8, first in row {min(garbled):,}; read as null."
        findings.append(
            Finding(
                "text-garbled",
                message,
                Place(name=name),
                "Write the file again as UTF-8.",
                "warning",
                numbers={"rows": len(garbled)},
            )
        )
    for name in sorted({name for reader in _typed(feed) for name in reader.cut}):
        message = f"Times in {name} are finer than a microsecond; what is finer was cut off."
        findings.append(Finding("times-cut", message, Place(name=name), severity="note"))
    return findings
