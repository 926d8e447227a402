"""What may be typed at a place of a file: tables, keys, values of keys, names, functions, values of a column."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, get_args

from oak_ledger.definition.formats import Format
from oak_ledger.editor.files import Desk, OpenFile, text_at
from oak_ledger.editor.names import FORMULAS, refers, scope_at
from oak_ledger.editor.texts import Piece, WrittenText
from oak_ledger.formula.assist import compared_with, complete
from oak_ledger.formula.lexer import quote_literal
from oak_ledger.report.kinds import KINDS

TYPE_NAMES = ("text", "integer", "decimal(12,2)", "number", "boolean", "date", "timestamp")
FORMATS = ("0", "0,000", "0.00", "0,000.00", "0%", "0.0%", "DD.MM.YYYY", "YYYY-MM-DD")
SAMPLE, SAMPLE_DAY = 12_345.678, "2026-12-31"
_WORD = re.compile(r"[\w-]*$")


@dataclass(frozen=True, slots=True)
class Offer:
    """One proposal: what it is (`field`, `function`, `keyword`, `key`, `table`, `value`), its name, a detail, and the text that comes in place of that
    from `start` to `end`, which are offsets in the file."""

    kind: str
    label: str
    detail: str
    text: str
    start: int
    end: int


def offers(desk: Desk, file: OpenFile, offset: int, values: Mapping[str, Sequence[Any]]) -> list[Offer]:
    """What may be typed at a place. `values` has those of columns that are known by now, by the field's name in casefold."""
    at = text_at(file, offset)
    if at is not None:
        return list(_in_text(desk, file, *at, offset, values))
    line = file.text[file.text.rfind("\n", 0, offset) + 1 : offset]
    start = offset - len(_WORD.search(line)[0])  # type: ignore[index]
    if "=" in line:
        piece, key = file.piece_at(offset), line.partition("=")[0].strip()
        said = _said_of(desk, file, piece, key) if piece is not None else ()
        return [Offer("value", text, detail, _in_quotes(text), start, offset) for text, detail in said]
    if "[" in line:
        return [
            Offer("table", name, " ".join((model.__doc__ or "").split()), name, start, offset)
            for name, model in file.shape.models.items()
        ]
    return list(_keys(file, file.piece_at(offset), start, offset))


def _keys(file: OpenFile, piece: Piece | None, start: int, end: int) -> Iterator[Offer]:
    """The keys that a table may have and has not."""
    if piece is None or piece.table not in file.shape.models:
        return
    for key, info in file.shape.models[piece.table].model_fields.items():
        if not re.search(rf"^[ \t]*{re.escape(key)}[ \t]*=", piece.text, re.MULTILINE):
            yield Offer("key", key, info.description or "", f"{key} = ", start, end)


def _in_quotes(text: str) -> str:
    return text if text in ("true", "false") else f'"{text}"' if '"' not in text else f"'{text}'"


def _said_of(desk: Desk, file: OpenFile, piece: Piece, key: str) -> list[tuple[str, str]]:
    """What the value of a key may be, where that can be listed, each with what it means."""
    model = file.shape.models.get(piece.table)
    info = model.model_fields.get(key) if model is not None else None
    if info is None:
        return []
    if key == "kind" and piece.table == "panel":
        return [(kind.word, kind.about) for kind in KINDS.values()]
    if key == "type":
        return [(kind, "") for kind in TYPE_NAMES]
    if key == "format":
        return [(text, _sample(text)) for text in FORMATS]
    source = desk.source(file)
    if key == "column" and source is not None:
        taken = {str(block.values.get("column")) for block in source.document.all("field")}
        columns = source.compiled.origin_schema.items()
        return [(name, str(kind)) for name, kind in sorted(columns, key=lambda column: column[0] in taken)]
    if key == "source" and file.is_report:
        return [(one.name, one.document.where) for one in desk.definitions(file.path)]
    words = [word for part in (info.annotation, *get_args(info.annotation)) for word in get_args(part)]
    if info.annotation is bool:
        words = ["true", "false"]
    return [(word, "") for word in words if isinstance(word, str) and word]


def _sample(text: str) -> str:
    shape = Format.read(text)
    return shape.show(dt.date.fromisoformat(SAMPLE_DAY) if "Y" in text else 0.456 if "%" in text else SAMPLE)


def _in_text(
    desk: Desk, file: OpenFile, piece: Piece, text: WrittenText, offset: int, values: Mapping[str, Sequence[Any]]
) -> Iterator[Offer]:
    """Proposals between the quotes of a text."""
    position, kind = text.in_value(offset), refers(file, piece, text)
    if not kind:
        for said, detail in _said_of(desk, file, piece, text.key):
            yield Offer("value", said, detail, _escaped(file, text, said), text.edges[0], text.edges[-1])
        return
    found = scope_at(desk, file, piece, text)
    if found is None:
        return
    source, scope = found
    if kind == "text":
        opened = text.value.rfind("{", 0, position)
        if opened < 0 or "}" in text.value[opened:position]:
            return
        for state in source.fields:
            yield Offer("field", state.name, state.type_name, _escaped(file, text, f"{state.name}}}"), text.in_file(opened + 1), offset)  # fmt: skip
        return
    if kind in FORMULAS or (kind == "shown" and text.value[:position].strip()):
        compared = compared_with(text.value, position)
        if compared is not None:
            for value in values.get(compared.name.casefold(), ()):
                written = quote_literal(str(value))
                yield Offer("value", str(value), compared.name, _escaped(file, text, written), text.in_file(compared.start), text.in_file(compared.end))  # fmt: skip
            return
        for one in complete(text.value, position, scope):
            yield Offer(one.kind, one.text, one.detail, _escaped(file, text, one.text), text.in_file(one.start), offset)
    if kind not in FORMULAS:
        sign = 1 if kind == "sort" and text.value.startswith("-") else 0
        names = [state.name for state in source.fields]
        for name in names if position <= len(text.value) else ():
            if name.casefold().startswith(text.value[sign:position].casefold()):
                state = source.compiled.states[name.casefold()]
                yield Offer("field", name, state.type_name, _escaped(file, text, name), text.in_file(sign), text.edges[-1])  # fmt: skip


def _escaped(file: OpenFile, text: WrittenText, said: str) -> str:
    """What is typed between the quotes of a text to mean something."""
    if file.text[text.start] != '"':
        return said
    said = said.replace("\\", "\\\\")
    return (
        said
        if file.text[text.start : text.start + 3] == '"""' and text.end - text.start >= 6
        else said.replace('"', '\\"')
    )
