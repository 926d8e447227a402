"""The language server: what the other modules say, in the messages of the protocol, over standard input and output."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, Protocol

from lsprotocol import types as lsp
from pygls import uris
from pygls.lsp.server import LanguageServer
from pygls.workspace import PositionCodec

from oak_ledger.definition.edits import FileEdit
from oak_ledger.editor import changes as doing
from oak_ledger.editor import findings, meanings, names
from oak_ledger.editor.files import Desk, OpenFile, Span
from oak_ledger.editor.offers import offers
from oak_ledger.engine.deadline import Deadline, until
from oak_ledger.errors import Finding, OakError
from oak_ledger.version import __version__

SEVERITIES = {
    "error": lsp.DiagnosticSeverity.Error,
    "warning": lsp.DiagnosticSeverity.Warning,
    "note": lsp.DiagnosticSeverity.Information,
}
KINDS = {
    "field": lsp.CompletionItemKind.Field,
    "function": lsp.CompletionItemKind.Function,
    "keyword": lsp.CompletionItemKind.Keyword,
    "key": lsp.CompletionItemKind.Property,
    "table": lsp.CompletionItemKind.Module,
    "value": lsp.CompletionItemKind.Value,
}


NOTHING = meanings.Figures({}, {}, {})


class _AtPlace(Protocol):
    """What asks about a place of a document."""

    text_document: Any
    position: lsp.Position


class Editing(LanguageServer):
    """The server with what is open in it."""

    def __init__(self) -> None:
        super().__init__("oak-ledger", __version__)
        self.desk = Desk()
        self.figures: dict[Path, meanings.Figures] = {}  # by definition, as they were at the last save
        self.shown: dict[Path, list[Finding]] = {}
        self.running: dict[Path, tuple[Deadline, Deadline]] = {}  # what reads rows: for what is shown, and for findings

    # -- places ------------------------------------------------------------------------------------------------

    def file(self, uri: str) -> OpenFile | None:
        """The file of a document; None where it is none of ours."""
        return self.desk.file(path_of(uri))

    def offset(self, file: OpenFile, position: lsp.Position) -> int:
        """The offset in the text of a position of the protocol."""
        lines = file.text.split("\n")
        own = self.workspace.position_codec.position_from_client_units(lines, position)
        line = min(own.line, len(lines) - 1)
        return sum(len(one) + 1 for one in lines[:line]) + min(own.character, len(lines[line]))

    def range(self, text: str, span: Span) -> lsp.Range:
        """A span of a text as the protocol has it."""
        return lsp.Range(*(self._position(text, at) for at in span))

    def _position(self, text: str, offset: int) -> lsp.Position:
        line = text.count("\n", 0, offset)
        start = text.rfind("\n", 0, offset) + 1
        codec: PositionCodec = self.workspace.position_codec
        return lsp.Position(line, codec.client_num_units(text[start:offset]))

    def edit(self, files: Iterable[FileEdit]) -> lsp.WorkspaceEdit:
        """Changes of files as the protocol has them, over what is open."""
        changed = {uris.from_fs_path(str(one.path)) or "": self.edits(one.path, one.before, one.after) for one in files}
        return lsp.WorkspaceEdit(changes=changed)

    def edits(self, path: Path, before: str, after: str) -> list[lsp.TextEdit]:
        """The changes of one file, with the ends of lines that it has."""
        file = self.desk.file(path)
        newline = file.newline if file is not None else "\n"
        steps = doing.text_edits(before, after)
        return [lsp.TextEdit(self.range(before, span), text.replace("\n", newline)) for span, text in steps]

    # -- findings ----------------------------------------------------------------------------------------------

    def say(self, file: OpenFile, found: Sequence[Finding]) -> None:
        """Show the findings of a file."""
        self.shown[file.path] = list(found)
        diagnostics = [
            lsp.Diagnostic(
                self.range(file.text, file.span(finding.place)),
                f"{finding.message}{' ' if finding.hint else ''}{finding.hint}",
                SEVERITIES[finding.severity],
                finding.code,
                source="oak",
            )
            for finding in found
        ]
        uri = uris.from_fs_path(str(file.path)) or ""
        self.text_document_publish_diagnostics(lsp.PublishDiagnosticsParams(uri, diagnostics))

    def look(self, file: OpenFile) -> None:
        """Show what a file shows by itself."""
        try:
            found = findings.at_once(self.desk, file)
        except OakError as error:
            found = list(error.findings)
        self.say(file, found)

    def read_rows(self, file: OpenFile) -> None:
        """Read what an editor shows of rows, and check a source and its reports with them, beside what else is asked."""
        source = self.desk.source(file)
        if source is None or source.path is None or file.findings:
            return
        path, reports = source.path, self.desk.reports(source)
        self.stop(path)
        looking, checking = self.running[path] = Deadline(), Deadline()

        def work() -> None:
            with suppress(OakError):  # what cannot be read is among the findings at once
                with until(looking):
                    self.figures[path] = meanings.figures_of(source)
                with until(checking):
                    found = list(findings.with_rows(source, reports))
                for own, said in found if not checking.cancelled else ():
                    shown = self.desk.file(own)
                    if shown is not None:
                        self.say(shown, said)

        threading.Thread(target=work, daemon=True).start()

    def stop(self, path: Path, *, typed: bool = False) -> None:
        """End the check of a source that reads rows, if one does; while one types, what is shown of rows is read on."""
        for at, running in enumerate(self.running.get(path, ())):
            running.cancelled = running.cancelled or not (typed and at == 0)

    def known(self, file: OpenFile) -> meanings.Figures:
        """What is known by now from the rows of a file's source."""
        source = self.desk.source(file)
        path = source.path if source is not None else None
        return self.figures.get(path, NOTHING) if path is not None else NOTHING


def path_of(uri: str) -> Path:
    """The path of a document."""
    return Path(uris.to_fs_path(uri) or "")


def made() -> Editing:
    """A server that answers; `start_io()` begins."""
    server = Editing()
    for method, answer in ANSWERS.items():
        server.feature(method, OPTIONS.get(method))(answer)
    return server


def _changed(server: Editing, params: Any) -> None:
    path = path_of(params.text_document.uri)
    file = server.desk.put(path, server.workspace.get_text_document(params.text_document.uri).source)
    source = server.desk.source(file) if not file.findings else None
    if source is not None and source.path is not None:
        server.stop(source.path, typed=True)
    server.look(file)


def _opened(server: Editing, params: lsp.DidOpenTextDocumentParams) -> None:
    _changed(server, params)
    _saved(server, params)


def _saved(server: Editing, params: Any) -> None:
    file = server.file(params.text_document.uri)
    if file is not None:
        server.read_rows(file)


def _closed(server: Editing, params: lsp.DidCloseTextDocumentParams) -> None:
    server.desk.close(path_of(params.text_document.uri))


def _complete(server: Editing, params: lsp.CompletionParams) -> lsp.CompletionList | None:
    file = server.file(params.text_document.uri)
    if file is None:
        return None
    found = offers(server.desk, file, server.offset(file, params.position), server.known(file).values)
    items = [
        lsp.CompletionItem(
            one.label,
            kind=KINDS[one.kind],
            detail=one.detail,
            sort_text=f"{at:05}",
            filter_text=one.text,
            text_edit=lsp.TextEdit(server.range(file.text, (one.start, one.end)), one.text),
        )
        for at, one in enumerate(found)
    ]
    return lsp.CompletionList(is_incomplete=False, items=items)


def _hover(server: Editing, params: _AtPlace) -> lsp.Hover | None:
    file = server.file(params.text_document.uri)
    if file is None:
        return None
    note = meanings.meaning(server.desk, file, server.offset(file, params.position), server.known(file).profiles)
    if note is None:
        return None
    content = lsp.MarkupContent(lsp.MarkupKind.PlainText, "\n".join(note.lines))
    return lsp.Hover(content, server.range(file.text, note.span))


def _signature(server: Editing, params: _AtPlace) -> lsp.SignatureHelp | None:
    file = server.file(params.text_document.uri)
    help_here = meanings.signature(file, server.offset(file, params.position)) if file is not None else None
    if help_here is None:
        return None
    signatures = help_here.function.signatures[0].parameters
    own = [lsp.ParameterInformation(parameter.name) for parameter in signatures]
    written = lsp.SignatureInformation(help_here.written, help_here.function.sentence, own, help_here.argument)
    return lsp.SignatureHelp([written], 0, help_here.argument)


def _definition(server: Editing, params: _AtPlace) -> lsp.Location | None:
    file = server.file(params.text_document.uri)
    found = names.name_at(file, server.offset(file, params.position)) if file is not None else None
    said = names.declared(server.desk, file, found.name) if file is not None and found is not None else None
    if said is None:
        return None
    return lsp.Location(uris.from_fs_path(str(said[0].path)) or "", server.range(said[0].text, said[1].header))


def _references(server: Editing, params: lsp.ReferenceParams) -> list[lsp.Location]:
    file = server.file(params.text_document.uri)
    found = names.name_at(file, server.offset(file, params.position)) if file is not None else None
    if file is None or found is None:
        return []
    places = list(names.used(server.desk, file, found.name))
    said = names.declared(server.desk, file, found.name)
    if params.context.include_declaration and said is not None:
        places.insert(0, (said[0], said[1].header))
    return [lsp.Location(uris.from_fs_path(str(one.path)) or "", server.range(one.text, span)) for one, span in places]


def _rename_begins(server: Editing, params: _AtPlace) -> lsp.PrepareRenamePlaceholder | None:
    file = server.file(params.text_document.uri)
    found = names.name_at(file, server.offset(file, params.position)) if file is not None else None
    if file is None or found is None or names.declared(server.desk, file, found.name) is None:
        return None
    return lsp.PrepareRenamePlaceholder(server.range(file.text, found.span), found.name)


def _rename(server: Editing, params: lsp.RenameParams) -> lsp.WorkspaceEdit | None:
    file = server.file(params.text_document.uri)
    if file is None:
        return None
    try:
        return server.edit(doing.renamed(server.desk, file, server.offset(file, params.position), params.new_name))
    except OakError as error:
        said = f"{error.message} {error.hint}".strip()
        server.window_show_message(lsp.ShowMessageParams(lsp.MessageType.Error, said))
        return None


def _actions(server: Editing, params: lsp.CodeActionParams) -> list[lsp.CodeAction]:
    file = server.file(params.text_document.uri)
    if file is None:
        return []
    start, end = (server.offset(file, at) for at in (params.range.start, params.range.end))
    near = [one for one in server.shown.get(file.path, []) if _meet(file.span(one.place), (start, end))]
    return [
        lsp.CodeAction(
            change.title,
            lsp.CodeActionKind.QuickFix if change.finding is not None else lsp.CodeActionKind.Refactor,
            edit=server.edit(change.files),
        )
        for change in doing.changes(server.desk, file, start, end, near, server.known(file).offered)
    ]


def _meet(one: Span, other: Span) -> bool:
    return one[0] <= other[1] and other[0] <= one[1]


def _symbols(server: Editing, params: lsp.DocumentSymbolParams) -> list[lsp.DocumentSymbol]:
    file = server.file(params.text_document.uri)
    return [
        lsp.DocumentSymbol(
            piece.name or piece.table,
            lsp.SymbolKind.Field if piece.table == "field" else lsp.SymbolKind.Object,
            server.range(file.text, (piece.start, piece.start + len(piece.text.rstrip()))),
            server.range(file.text, piece.header),
            piece.table,
        )
        for piece in (file.pieces if file is not None else ())
        if piece.table and file is not None
    ]


def _folding(server: Editing, params: lsp.FoldingRangeParams) -> list[lsp.FoldingRange]:
    file = server.file(params.text_document.uri)
    ranges = (
        [(file.text.count("\n", 0, piece.start), piece.text.rstrip().count("\n")) for piece in file.pieces]
        if file
        else []
    )
    return [lsp.FoldingRange(line, line + lines) for line, lines in ranges if lines]


def _format(server: Editing, params: lsp.DocumentFormattingParams) -> list[lsp.TextEdit]:
    file = server.file(params.text_document.uri)
    return server.edits(file.path, file.text, doing.formatted(file)) if file is not None else []


def _lenses(server: Editing, params: lsp.CodeLensParams) -> list[lsp.CodeLens]:
    file = server.file(params.text_document.uri)
    if file is None:
        return []
    figures = server.known(file).lines
    shown = list(meanings.users(server.desk, file))
    shown += [
        (piece.header, figures[piece.name.casefold()]) for piece in file.pieces if piece.name.casefold() in figures
    ]
    return [lsp.CodeLens(server.range(file.text, span), lsp.Command(text, "")) for span, text in shown]


def _hints(server: Editing, params: lsp.InlayHintParams) -> list[lsp.InlayHint]:
    file = server.file(params.text_document.uri)
    if file is None:
        return []
    found = [(server.range(file.text, (at, at)).start, text) for at, text in meanings.types(server.desk, file)]
    inside = [(at, text) for at, text in found if params.range.start.line <= at.line <= params.range.end.line]
    return [lsp.InlayHint(at, text, lsp.InlayHintKind.Type, padding_left=True) for at, text in inside]


ANSWERS: dict[str, Any] = {
    lsp.TEXT_DOCUMENT_DID_OPEN: _opened,
    lsp.TEXT_DOCUMENT_DID_CHANGE: _changed,
    lsp.TEXT_DOCUMENT_DID_SAVE: _saved,
    lsp.TEXT_DOCUMENT_DID_CLOSE: _closed,
    lsp.TEXT_DOCUMENT_COMPLETION: _complete,
    lsp.TEXT_DOCUMENT_HOVER: _hover,
    lsp.TEXT_DOCUMENT_SIGNATURE_HELP: _signature,
    lsp.TEXT_DOCUMENT_DEFINITION: _definition,
    lsp.TEXT_DOCUMENT_REFERENCES: _references,
    lsp.TEXT_DOCUMENT_PREPARE_RENAME: _rename_begins,
    lsp.TEXT_DOCUMENT_RENAME: _rename,
    lsp.TEXT_DOCUMENT_CODE_ACTION: _actions,
    lsp.TEXT_DOCUMENT_DOCUMENT_SYMBOL: _symbols,
    lsp.TEXT_DOCUMENT_FOLDING_RANGE: _folding,
    lsp.TEXT_DOCUMENT_FORMATTING: _format,
    lsp.TEXT_DOCUMENT_CODE_LENS: _lenses,
    lsp.TEXT_DOCUMENT_INLAY_HINT: _hints,
}
OPTIONS: dict[str, Any] = {
    lsp.TEXT_DOCUMENT_COMPLETION: lsp.CompletionOptions(trigger_characters=['"', "'", "(", "[", "{", "="]),
    lsp.TEXT_DOCUMENT_SIGNATURE_HELP: lsp.SignatureHelpOptions(trigger_characters=["(", ","]),
    lsp.TEXT_DOCUMENT_CODE_ACTION: lsp.CodeActionOptions([lsp.CodeActionKind.QuickFix, lsp.CodeActionKind.Refactor]),
}
