"""What is open in an editor: files as they are typed, the source that each belongs to, and the reports that read it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path

from oak_ledger.definition.document import Document, FileSchema, no_name_twice, parse_document
from oak_ledger.definition.model import DEFINITION
from oak_ledger.definition.references import plain_title
from oak_ledger.editor.texts import Piece, WrittenText, pieces, pieces_of
from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.report.definition import REPORT
from oak_ledger.report.report import SUFFIX, Report
from oak_ledger.source.source import Source

SOURCE_SUFFIX = ".oak.toml"
Span = tuple[int, int]


@dataclass(slots=True)
class OpenFile:
    """A file as the editor has it: its text, what is wrong with its form, and the last state of it that could be read."""

    path: Path
    text: str = ""  # lines end with \n, whatever the file has
    newline: str = "\n"
    document: Document | None = None
    findings: tuple[Finding, ...] = ()
    pieces: list[Piece] = field(default_factory=list)

    @property
    def shape(self) -> FileSchema:
        """What tables it may hold."""
        return REPORT if self.is_report else DEFINITION

    @property
    def is_report(self) -> bool:
        """Whether it is a report and not a definition."""
        return self.path.name.endswith(SUFFIX)

    def place(self, kind: str = "", name: str = "") -> Place:
        """Where an entry of it is, or the whole."""
        return Place(self.path.name, kind, name)

    def put(self, text: str) -> None:
        """Take another text."""
        self.text, self.newline = text.replace("\r\n", "\n"), "\r\n" if "\r\n" in text else "\n"
        try:
            self.document = no_name_twice(parse_document(self.text, self.shape, self.path.name, self.document))
            self.findings, self.pieces = (), pieces(block.text for block in self.document.blocks)
        except OakError as error:
            self.findings, self.pieces = error.findings, pieces_of(self.text)

    def piece_at(self, offset: int) -> Piece | None:
        """The table that a place is in."""
        return next((one for one in reversed(self.pieces) if one.start <= offset), None)

    def entry(self, kind: str, name: str) -> Piece | None:
        """The table of an entry by its kind and its name, as places have them."""
        wanted = plain_title(name).casefold()
        return next(
            (one for one in self.pieces if one.table == kind and plain_title(one.name).casefold() == wanted), None
        )

    def span(self, place: Place) -> Span:
        """Where in the file a place is: the piece of the text that it names, else its entry, else its line, else the beginning."""
        if place.text == self.text:
            return place.start, place.end
        if place.file_line:
            return self._line(place.file_line)
        entry = self.entry(place.kind, place.name)
        if entry is None:
            return self._line(1)
        written = next((one for one in entry.texts if one.value == place.text), None) if place.text else None
        if written is None:
            return entry.header
        return written.in_file(min(place.start, len(written.value))), written.in_file(
            min(place.end, len(written.value))
        )

    def _line(self, number: int) -> Span:
        lines = self.text.split("\n")
        start = sum(len(one) + 1 for one in lines[: number - 1])
        return start, start + len(lines[number - 1]) if number <= len(lines) else start


class Desk:
    """Every file that is open or was asked for; what is not open is read from disk again when it changed there."""

    def __init__(self) -> None:
        self._open: dict[Path, OpenFile] = {}
        self._read: dict[Path, tuple[int, OpenFile]] = {}
        self._sources: dict[Path, Source] = {}

    def put(self, path: Path, text: str) -> OpenFile:
        """A file as it is typed."""
        file = self._open.setdefault(path, OpenFile(path))
        file.put(text)
        return file

    def close(self, path: Path) -> None:
        """From now on the file is what is on disk."""
        self._open.pop(path, None)

    def file(self, path: Path) -> OpenFile | None:
        """A file as it is typed, else as it is on disk; None where there is none that can be read."""
        if path in self._open:
            return self._open[path]
        try:
            written = path.stat().st_mtime_ns
            if path not in self._read or self._read[path][0] != written:
                file = OpenFile(path)
                file.put(path.read_bytes().decode("utf-8-sig"))
                self._read[path] = (written, file)
        except (OSError, UnicodeDecodeError):
            return None
        return self._read[path][1]

    def source(self, file: OpenFile) -> Source | None:
        """The source of a definition, or the one that a report reads, in the last state that could be read; None where there is none."""
        if file.is_report:
            report = self.report(file)
            named = report and next((one for one in self.definitions(file.path) if report.reads(one.name)), None)
            return named or None
        if file.document is None:
            return None
        known = self._sources.get(file.path)
        if known is None:
            known = Source(file.document, file.path.parent, file.path)
        elif known.document is not file.document:
            known = known.changed(file.document)
            if _origin(known.document) == _origin(self._sources[file.path].document):
                known = replace(known, feed=self._sources[file.path].__dict__.get("opened"))
        self._sources[file.path] = known
        return known

    def definitions(self, path: Path) -> Iterator[Source]:
        """The sources of the definitions in the folder of a file, and in those above it."""
        for folder in (path.parent, *path.parents[1:4]):
            for beside in sorted(
                {*folder.glob(f"*{SOURCE_SUFFIX}"), *(one for one in self._open if one.parent == folder)}
            ):
                file = self.file(beside) if beside.name.endswith(SOURCE_SUFFIX) else None
                source = self.source(file) if file is not None else None
                if source is not None:
                    yield source

    def report(self, file: OpenFile) -> Report | None:
        """A report in the last state that could be read."""
        return Report(file.document, file.path) if file.document is not None else None

    def reports(self, source: Source) -> list[Report]:
        """The reports of a source in its folder and below, as they are typed or on disk."""
        paths = {*source.folder.rglob(f"*{SUFFIX}"), *(one for one in self._open if one.name.endswith(SUFFIX))}
        files = [file for path in sorted(paths) if (file := self.file(path)) is not None]
        found = [report for file in files if (report := self.report(file)) is not None]
        return [report for report in found if report.reads(source.name)]


def _origin(document: Document) -> list[str]:
    """What is said of where rows come from, and which columns are asked for."""
    own = [block.text for block in document.blocks if block.name in ("origin", "part", "step")]
    return own + [str(block.values.get("column")) for block in document.all("field") if "column" in block.values]


def text_at(file: OpenFile, offset: int) -> tuple[Piece, WrittenText] | None:
    """The text between whose quotes a place is, and its table."""
    piece = file.piece_at(offset)
    text = piece.text_at(offset) if piece is not None else None
    return (piece, text) if piece is not None and text is not None else None
