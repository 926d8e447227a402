"""A TOML file as a row of blocks, so that an edit touches one block and every other character stays as it was.

A block is a table header with what is under it and the comment lines right above it. Blocks are values:
an edit gives a new block, and a document with it.
"""

from __future__ import annotations

import difflib
import itertools
import re
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from oak_ledger.errors import Finding, OakError, Place, UnusableInput
from oak_ledger.files import finish

_HEADER = re.compile(r"^[ \t]*(\[\[?)[ \t]*([A-Za-z_][\w-]*)[ \t]*\]\]?[ \t]*(?:#.*)?$")
_LISTED = re.compile(r"^[ \t]*\[\[", re.MULTILINE)
_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f]")
# What quotes mean outside of a long text; and how one ends, of either kind.
_QUOTED = re.compile(r"""#.*|'''|\"\"\"|'[^'\n]*'|"(?:\\.|[^"\\\n])*\"""")
_END = {
    "'''": re.compile(r"(?:[^']|'{1,2}(?!'))*'''+"),
    '"""': re.compile(r'(?:\\.|[^"\\]|"{1,2}(?!"))*"""+', re.DOTALL),
}
Spec = TypeVar("Spec", bound=BaseModel)


@dataclass(frozen=True, slots=True)
class Block:
    """One table of the file: its name, its text with the comments above it, its values, and its first line."""

    name: str
    text: str
    values: Mapping[str, Any]
    spec: BaseModel | None = None
    line: int = 0


@dataclass(frozen=True, slots=True)
class FileSchema:
    """What tables a kind of file may hold: the model of each, and which of them are lists."""

    models: Mapping[str, type[BaseModel]]
    lists: frozenset[str]
    required: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Document:
    """A file of blocks, checked against its shape; `where` is the name that messages use."""

    blocks: tuple[Block, ...]
    shape: FileSchema
    where: str

    @property
    def text(self) -> str:
        """The whole file."""
        return "".join(block.text for block in self.blocks)

    def place(self, kind: str = "", name: str = "") -> Place:
        """Where an entry of it is, or the whole."""
        return Place(self.where, kind, name)

    def all(self, name: str) -> list[Block]:
        """The blocks of a name, in order."""
        return [block for block in self.blocks if block.name == name]

    def models(self, name: str, model: type[Spec]) -> list[Spec]:
        """The models of the blocks of a name, in order."""
        return [block.spec for block in self.blocks if block.name == name and isinstance(block.spec, model)]

    def replaced(self, old: Block, changes: Mapping[str, Any]) -> Document:
        """The document with some keys of one block changed; a value of None takes the key out."""
        new = _validated(edited(old, changes), self.shape, self.where)
        return replace(self, blocks=tuple(new if block is old else block for block in self.blocks))

    def added(self, name: str, values: Mapping[str, Any], after: Block | None = None) -> Document:
        """The document with a new block after a given one, else after the last of its name, else at the end."""
        made = _validated(new_block(name, values), self.shape, self.where)
        if after is None:
            after = next((block for block in reversed(self.blocks) if block.name == name), None)
        blocks = list(self.blocks)
        at = len(blocks) if after is None else next(at for at, one in enumerate(blocks) if one is after) + 1
        if at and blocks[at - 1].text and not blocks[at - 1].text.endswith("\n\n"):
            end = "\n" if blocks[at - 1].text.endswith("\n") else "\n\n"
            blocks[at - 1] = replace(blocks[at - 1], text=blocks[at - 1].text + end)
        if at < len(blocks):
            made = replace(made, text=made.text + "\n")
        blocks.insert(at, made)
        return replace(self, blocks=tuple(blocks))

    def reordered(self, name: str, order: Sequence[Block]) -> Document:
        """The document with the blocks of a name in another order, in the places that they take up now."""
        waiting = iter(order)
        blocks = [next(waiting) if block.name == name else block for block in self.blocks]
        spaced = [
            replace(block, text=block.text.rstrip("\n") + "\n\n")
            if at + 1 < len(blocks) and block.name == name
            else block
            for at, block in enumerate(blocks)
        ]
        return replace(self, blocks=tuple(spaced))

    def without(self, old: Sequence[Block]) -> Document:
        """The document without some blocks."""
        return replace(self, blocks=tuple(block for block in self.blocks if all(block is not one for one in old)))


def read_document(path: Path, shape: FileSchema) -> Document:
    """Read and check a file; raises UnusableInput saying what is wrong, where, and how to mend it."""
    finish(path)
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except FileNotFoundError:
        near = [one.name for one in path.parent.glob("*.toml")] if path.parent.is_dir() else []
        close = difflib.get_close_matches(path.name, near, 1)
        hint = (
            f"Did you mean {close[0]}?"
            if close
            else f"In that folder there is {', '.join(sorted(near)[:5])}."
            if near
            else ""
        )
        raise UnusableInput("no-file", f"There is no file {path}.", hint=hint) from None
    except UnicodeDecodeError as error:
        raise UnusableInput("not-text", f"{path} is not a text file in UTF-8: byte {error.start + 1}.") from None
    except OSError as error:
        raise UnusableInput("unreadable", f"{path} cannot be read: {error.strerror}.") from error
    return parse_document(text, shape, path.name)


def parse_document(text: str, shape: FileSchema, where: str, earlier: Document | None = None) -> Document:
    """Check a text and cut it into blocks; those that an earlier state has letter for letter are kept."""
    text = text.replace("\r\n", "\n")
    blocks = list(_blocks(text, where, {block.text: block for block in earlier.blocks} if earlier else {}))
    findings: list[Finding] = []
    checked: list[Block] = []
    for block in blocks:
        try:
            checked.append(block if block.spec is not None else _validated(block, shape, where))
        except OakError as error:
            findings += error.findings
    for name in shape.required:
        if not any(block.name == name for block in blocks):
            findings.append(
                Finding("table-missing", f"{where} has no [{name}].", Place(where), f"Add a [{name}] table.")
            )
    for name in sorted({block.name for block in blocks} - shape.lists - {""}):
        if name in shape.models and sum(block.name == name for block in blocks) > 1:
            findings.append(Finding("table-twice", f"{where} has [{name}] twice.", Place(where)))
    if findings:
        raise UnusableInput.of(findings)
    return Document(tuple(checked), shape, where)


def _well_written(text: str, where: str) -> None:
    """Raise if a text is not TOML: for what its blocks, one by one, do not show."""
    try:
        tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise _not_toml(text, where, str(error)) from None


def _not_toml(text: str, where: str, said: str) -> OakError:
    match = re.search(r"\(at line (\d+), column (\d+)\)", said)
    what = said[: match.start()].strip() if match else said
    place = Place(where)
    if match:
        lines = text.split("\n")
        start = sum(len(line) + 1 for line in lines[: int(match[1]) - 1]) + int(match[2]) - 1
        place = place.in_text(text, start, start + 1)
    elif "end of document" in said:
        place = place.in_text(text, max(0, len(text.rstrip()) - 1), len(text.rstrip()))
    error = UnusableInput("not-toml", f"{where} is not well written: {what}.", place=place)
    hint = "Put text values in quotes, and a formula that has quotes in it in '''…'''."
    error.findings = (replace(error.findings[0], hint=hint),)
    return error


def block_offsets(text: str) -> list[int]:
    """Where blocks start: at headers outside long texts, with the comments right above them."""
    starts: list[int] = []
    comment: int | None = None
    quote: str | None = None
    position, long = 0, any(mark in text for mark in _END)
    for line in text.splitlines(keepends=True):
        if quote is None and _HEADER.match(line.rstrip("\n")):
            starts.append(position if comment is None else comment)
        stripped = line.strip()
        if quote is None and stripped.startswith("#"):
            comment = position if comment is None else comment
        else:
            comment = None
            quote = _open_string(line, quote) if long else None
        position += len(line)
    return starts


def _open_string(line: str, quote: str | None) -> str | None:
    """The quotes of the long text that goes on after a line, from those of the one that goes on before it."""
    at = 0
    while quote or any(mark in line[at:] for mark in _END):
        match = _END[quote].match(line, at) if quote else _QUOTED.search(line, at)
        if match is None or match.group().startswith("#"):
            return quote
        at, quote = match.end(), match.group() if not quote and match.group() in _END else None
    return None


def _blocks(text: str, where: str, known: Mapping[str, Block]) -> Iterable[Block]:
    edges = [0, *block_offsets(text), len(text)]
    line, waiting, checked = 1, "", False
    listed: dict[str, bool] = {}
    for start, end in itertools.pairwise(edges):
        waiting += text[start:end]
        if not waiting:
            continue
        kept = known.get(waiting)
        if kept is not None and kept.spec is not None and _LISTED.search(waiting):
            listed.setdefault(kept.name, True)
            if listed[kept.name]:
                yield replace(kept, line=line)
                line += waiting.count("\n")
                waiting = ""
                continue
        try:
            values = tomllib.loads(waiting, parse_float=Decimal)
        except tomllib.TOMLDecodeError:
            if not checked:
                _well_written(text, where)
            checked = True
            continue  # a line that only looked like a header: it belongs to what follows
        name = next(iter(values), "")
        inner = values.get(name)
        many = isinstance(inner, list)
        if not (many and listed.get(name, True)) and name in listed:  # a table twice
            _well_written(text, where)
        listed[name] = many
        inner = inner[0] if isinstance(inner, list) and len(inner) == 1 and isinstance(inner[0], dict) else inner
        if len(values) > 1 or (name and not isinstance(inner, dict)):
            raise UnusableInput(
                "stray-key", f"{where} has the key {name!r} outside any table.", hint="Put it under a [table]."
            )
        yield Block(name, waiting, inner or {}, None, line)
        line += waiting.count("\n")
        waiting = ""


def _validated(block: Block, shape: FileSchema, where: str) -> Block:
    if not block.name:
        return block
    model = shape.models.get(block.name)
    place = Place(where, block.name, str(block.values.get("name", "")))
    if model is None:
        close = difflib.get_close_matches(block.name, shape.models, 1)
        hint = f"Did you mean [{close[0]}]?" if close else f"Tables are {', '.join(shape.models)}."
        raise OakError(
            "unknown-table",
            f"There is no table [{block.name}] in such a file.",
            hint=hint,
            place=Place(where, file_line=block.line),
        )
    try:
        return replace(block, spec=model.model_validate(block.values))
    except ValidationError as error:
        problems = sorted(error.errors(), key=lambda problem: problem["type"] != "extra_forbidden")
        raise OakError.of([_finding(block, model, problem, place) for problem in problems]) from None


def _finding(block: Block, model: type[BaseModel], problem: Any, place: Place) -> Finding:
    path = [str(part) for part in problem["loc"]]
    key = path[0] if path else ""
    if block.line:
        place = Place(place.file, file_line=_line_of(block, key))
    if problem["type"] == "extra_forbidden":
        known = [name for name in model.model_fields if not name.startswith("_")]
        close = difflib.get_close_matches(key, known, 1)
        hint = f"Did you mean {close[0]}?" if close else f"Keys are {', '.join(known)}."
        return Finding("unknown-key", f"There is no key {key!r} here.", place, hint)
    if problem["type"] == "missing":
        return Finding("key-missing", f"The key {key!r} is missing.", place, _says(model, key))
    if problem["type"] == "value_error":
        return Finding("wrong-value", str(problem["ctx"]["error"]), place, _says(model, key))
    wanted = problem["msg"].removeprefix("Input should be ").replace("a valid ", "a ")
    return Finding(
        "wrong-value", f"{'.'.join(path)} should be {wanted}, but is {problem['input']!r}.", place, _says(model, key)
    )


def _says(model: type[BaseModel], key: str) -> str:
    info = model.model_fields.get(key)
    return f"{key}: {info.description}." if info and info.description else ""


def _line_of(block: Block, key: str) -> int:
    match = re.search(rf"^[ \t]*\"?{re.escape(key)}\"?[ \t]*=", block.text, re.MULTILINE) if key else None
    return block.line + (block.text.count("\n", 0, match.start()) if match else 0)


# -- writing ---------------------------------------------------------------------------------------------


def edited(block: Block, changes: Mapping[str, Any]) -> Block:
    """The block with some keys changed, added or (None) removed; comments and order stay."""
    import tomlkit

    document = tomlkit.parse(block.text)
    table: Any = document[block.name]
    table = table[0] if isinstance(table, list) else table
    for key, value in changes.items():
        if value is None:
            if key in table:
                del table[key]
        else:
            _put(table, key, value)
    text = tomlkit.dumps(document)
    values = {key: value for key, value in {**block.values, **changes}.items() if value is not None}
    return replace(block, text=text, values=values)


def _put(holder: Any, key: Any, value: Any) -> None:
    """Set a value in a table or a list, so that what stays the same keeps the form that it is written in."""
    there = holder[key] if isinstance(key, int) or key in holder else None
    if there is not None and _plain(there) == value:
        return
    if isinstance(there, list) and isinstance(value, list) and len(there) == len(value):
        for at, one in enumerate(value):
            _put(there, at, one)
    elif isinstance(there, dict) and isinstance(value, dict) and [*there] == [*value]:
        for name, one in value.items():
            _put(there, name, one)
    elif isinstance(there, str) and isinstance(value, str):
        holder[key] = _written_like(there, value)
    else:
        holder[key] = item_of(value)


def _written_like(there: Any, value: str) -> Any:
    """A text in the quotes of another, if it can be."""
    import tomlkit

    quotes = there.as_string()[:1] if hasattr(there, "as_string") else '"'
    if quotes == "'" and "'" not in value and "\n" not in value and not there.as_string().startswith("'''"):
        return tomlkit.string(value, literal=True)
    return item_of(value)


def _plain(value: Any) -> Any:
    return value.unwrap() if hasattr(value, "unwrap") else value


def new_block(name: str, values: Mapping[str, Any], *, listed: bool = True) -> Block:
    """A block written again."""
    import tomlkit

    given = {key: value for key, value in values.items() if value is not None}
    table = tomlkit.table()
    for key, value in given.items():
        table.add(key, item_of(value))
    document = tomlkit.document()
    if listed:
        several = tomlkit.aot()
        several.append(table)
        document.add(name, several)
    else:
        document.add(name, table)
    return Block(name, tomlkit.dumps(document), given)


def item_of(value: Any) -> Any:
    """A value as TOML writes it: formulas with quotes in the kind of text that needs no escapes."""
    import tomlkit

    if isinstance(value, str):
        needs_escapes = "\n" in value or '"' in value or "\\" in value
        fits = "'''" not in value and not value.endswith("'") and not _CONTROL.search(value) and value[:1] != "\n"
        if needs_escapes and fits:
            return tomlkit.string(value, literal=True, multiline=True)
        return tomlkit.string(value)
    if isinstance(value, (list, tuple)):
        array = tomlkit.array()
        for item in value:
            array.append(item_of(item))
        if len(value) > 1 and sum(len(str(item)) for item in value) > 90:
            array.multiline(True)
        return array
    if isinstance(value, Mapping):
        inline = tomlkit.inline_table()
        for key, inner in value.items():
            inline.append(str(key), item_of(inner))
        return tomlkit.value(f"{{ {inline.as_string()[1:-1]} }}") if value else inline
    if isinstance(value, Decimal):
        return tomlkit.float_(float(value)) if value != value.to_integral_value() else tomlkit.float_(str(value))
    return tomlkit.item(value)


def no_name_twice(document: Document) -> Document:
    """The definition. Raises UnusableInput where two entries of it have one name."""
    seen: dict[str, Block] = {}
    for block in document.blocks:
        if block.name not in ("field", "constant", "filter"):
            continue
        name = str(block.values["name"])
        other = seen.setdefault(name.casefold(), block)
        if other is not block:
            message = f"Two entries of {document.where} are called {name!r}: {other.name} in line {other.line}, {block.name} in line {block.line}."
            raise UnusableInput(
                "name-twice",
                message,
                hint="Rename one of them; names that differ only in letter case count as the same.",
            )
    return document
