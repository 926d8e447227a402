"""Every place of a file that names a field, as one kind of thing, found from what the models say of their keys."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Any

from oak_ledger.definition.document import Block, Document
from oak_ledger.formula import nodes
from oak_ledger.formula.builder import is_near
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.formula.parser import parse

PLACEHOLDER = re.compile(r"\{([^{}]+)\}")
VALUE = "value"  # in casefold: what a clean and a rule call the value of their own field
Renames = Mapping[str, str]
"""New names by the old ones in casefold."""


@dataclass(frozen=True, slots=True)
class Reference:
    """One place that names a field: the file, the entry and the key in it, the text there, and the name with its span in that text."""

    file: str
    entry: str
    key: str
    name: str
    text: str
    start: int
    end: int


def entry_name(block: Block) -> str:
    """What an entry is called in messages."""
    title = block.values.get("name") or block.values.get("title")
    return f"{block.name} {plain_title(str(title))!r}" if title else f"[{block.name}]"


def plain_title(title: str) -> str:
    """A title as it reads: names of fields without their braces."""
    return PLACEHOLDER.sub(lambda match: match[1], title)


def _keys(block: Block) -> Iterator[tuple[str, str, Any]]:
    if block.spec is None:
        return
    for key, info in type(block.spec).model_fields.items():
        extra = info.json_schema_extra
        if isinstance(extra, dict) and "refers" in extra and block.values.get(key):
            yield key, str(extra["refers"]), block.values[key]


def references(document: Document) -> list[Reference]:
    """All places of a file that name fields, in the order of the file."""
    found: list[Reference] = []
    for block in document.blocks:
        for key, kind, value in _keys(block):
            for name, text, start, end in names_in(kind, value):
                found.append(Reference(document.where, entry_name(block), key, name, text, start, end))
    return found


Named = tuple[str, str, int, int]


def names_in(kind: str, value: Any) -> Iterator[Named]:
    """The names in a key's value: each with the text that it is in, and its span."""
    if kind == "formula":
        yield from ((name.name, value, name.start, name.end) for name in nodes.names(parse(value).tree))
    elif kind == "over value":
        yield from (name for name in names_in("formula", value) if name[0].casefold() != VALUE)
    elif kind == "name":
        yield value, value, 0, len(value)
    elif kind == "text":
        yield from ((match[1], value, match.start(1), match.end(1)) for match in PLACEHOLDER.finditer(value))
    else:
        for item in listed(value):
            yield from _item_names(kind, item)


def _item_names(kind: str, item: Any) -> Iterator[Named]:
    if isinstance(item, Mapping):
        yield from names_in("formula", item.get("formula", ""))
    elif kind == "sort":
        yield item.removeprefix("-"), item, len(item) - len(item.removeprefix("-")), len(item)
    elif kind == "shown" and not is_name(item):
        yield from names_in("formula", item)
    else:
        yield bare_name(item), item, 0, len(item)


def is_name(item: str) -> bool:
    """Whether an entry of `by` or `show` is a field's name and not a formula."""
    parsed = parse(item)
    return bool(parsed.findings) or isinstance(parsed.tree, nodes.Name)


_OF_FORMULAS = re.compile(r"[-+*/%<>=(),|'\"]|\b(?:AND|OR|NOT|IS|LIKE|IN|BETWEEN|CASE|WHEN|THEN)\b", re.IGNORECASE)


def names_a_field(text: str, known: Iterable[str]) -> bool:
    """Whether a text is a field's name: one that is known or nearly so, or anything but a formula that does not parse."""
    if not is_name(text):
        return False
    signs = {*_OF_FORMULAS.findall(text.casefold())}
    if not signs or not parse(text).findings:
        return True
    return any(signs <= {*_OF_FORMULAS.findall(name)} and is_near(text, name) for name in known)


def listed(items: Any) -> list[Any]:
    """A list of names or formulas; one text alone is a list of one."""
    return [items] if isinstance(items, str) else list(items)


def bare_name(item: str) -> str:
    """The field that such an entry names: its text, without the double quotes that it may have."""
    parsed = parse(item)
    return parsed.tree.name if isinstance(parsed.tree, nodes.Name) and not parsed.findings else item


def renamed_in_formula(text: str, renames: Renames) -> str:
    """A formula with names replaced by span; every other character stays."""
    for name in reversed(nodes.names(parse(text).tree)):
        new = renames.get(name.name.casefold())
        if new is not None:
            text = text[: name.start] + quote_identifier(new) + text[name.end :]
    return text


def _repointed_item(kind: str, item: Any, renames: Renames) -> Any:
    if isinstance(item, Mapping):
        return {**item, "formula": renamed_in_formula(item.get("formula", ""), renames)}
    if kind == "sort":
        sign = "-" if item.startswith("-") else ""
        return sign + renames.get(item.removeprefix("-").casefold(), item.removeprefix("-"))
    if kind == "shown" and not is_name(item):
        return renamed_in_formula(item, renames)
    return renames.get(bare_name(item).casefold(), item)


def _repointed(kind: str, value: Any, renames: Renames) -> Any:
    if kind == "formula":
        return renamed_in_formula(value, renames)
    if kind == "over value":
        return renamed_in_formula(value, {old: new for old, new in renames.items() if old != VALUE})
    if kind == "name":
        return renames.get(value.casefold(), value)
    if kind == "text":
        return PLACEHOLDER.sub(lambda match: "{" + renames.get(match[1].casefold(), match[1]) + "}", value)
    if isinstance(value, str):  # one condition, not in a list
        return _repointed_item(kind, value, renames)
    return [_repointed_item(kind, item, renames) for item in value]


def renamed_references(
    document: Document, renames: Renames, *, only: Callable[[Block], bool] = lambda _block: True
) -> Document:
    """The file with every place that names an old name naming the new one instead."""
    for block in document.blocks:
        if not only(block):
            continue
        changes = {}
        for key, kind, value in _keys(block):
            new = _repointed(kind, value, renames)
            if new != value and new != listed(value):
                changes[key] = new
        if changes:
            document = document.replaced(block, changes)
    return document


def _with_values(text: str, operand: str, values: Mapping[str, str]) -> str:
    """A formula with other values where a name is compared with some."""
    found: list[tuple[nodes.Literal | nodes.Unary, str]] = []
    for _, compared, written in nodes.compared_values(parse(text).tree):
        while isinstance(compared, nodes.Parens):
            compared = compared.inner
        if isinstance(compared, nodes.Name) and compared.name.casefold() == operand:
            other = _other_value(written, text[written.start : written.end], values)
            found += [(written, other)] if other is not None else []
    for place, new in sorted(found, key=lambda one: -one[0].start):
        text = text[: place.start] + new + text[place.end :]
    return text


def _other_value(written: nodes.Literal | nodes.Unary, text: str, values: Mapping[str, str]) -> str | None:
    """The new value for one that is written in a formula, as the language writes it; None where it stays."""
    literal = written if isinstance(written, nodes.Literal) else written.operand
    kind = literal.kind if isinstance(literal, nodes.Literal) else ""
    if kind in ("integer", "decimal", "number"):
        here = _number(text.replace(" ", ""))
        new = next((new for old, new in values.items() if here is not None and _number(old) == here), None)
        return new if new is None or _number(new) is not None else quote_literal(new)
    if kind == "boolean":
        new = next((new for old, new in values.items() if old.casefold() == text.casefold()), None)
        return new if new is None else new.upper() if new.casefold() in ("true", "false") else quote_literal(new)
    if kind in ("date", "timestamp") and isinstance(literal, nodes.Literal):
        new = values.get(str(literal.value))
        return new if new is None else f"{kind.upper()} {quote_literal(new)}"
    new = values.get(literal.value) if isinstance(literal, nodes.Literal) and kind == "text" else None
    return new if new is None else quote_literal(new)


def _number(text: str) -> Decimal | None:
    """The number that a text is."""
    try:
        return Decimal(text)
    except InvalidOperation:
        return None


def _item_with_values(item: Any, operand: str, values: Mapping[str, str]) -> Any:
    if isinstance(item, Mapping):
        return {**item, "formula": _with_values(item.get("formula", ""), operand, values)}
    return item if is_name(item) else _with_values(item, operand, values)


def with_replaced_values(document: Document, field: str, values: Mapping[str, str]) -> Document:
    """The file with other values (now by before, as texts) wherever a field is compared with them: formulas, recode lists, colours and order of panels grouped by it."""
    name = field.casefold()
    local = {str(block.values["name"]).casefold() for block in document.all("field") if "column" not in block.values}
    if name in local:  # a field of that name that is not the one that is meant
        return document
    for block in document.blocks:
        own = block.name == "field" and str(block.values.get("name", "")).casefold() == name
        changes: dict[str, Any] = {}
        for key, kind, value in _keys(block):
            new = value
            if kind == "formula":
                new = _with_values(value, name, values)
            elif kind == "over value":  # there VALUE is the field's own value, whatever fields are called
                new = value if name == VALUE else _with_values(value, name, values)
                new = _with_values(new, VALUE, values) if own else new
            elif kind == "shown":
                one = isinstance(value, str)
                new = _item_with_values(value, name, values) if one else [_item_with_values(item, name, values) for item in value]  # fmt: skip
            if new != value and new != list(value):
                changes[key] = new
        grouped = (
            [bare_name(item).casefold() for item in block.values.get("by", ()) if isinstance(item, str)]
            if block.name == "panel"
            else []
        )
        for key in ("values",) if own else ("colours",) if name in grouped else ():
            listed = block.values.get(key) or {}
            new = {values.get(text, text): meant for text, meant in listed.items()}
            if new != listed:
                changes[key] = new
        order = [*block.values.get("order", ())] if name in grouped else []
        if order != (named := [*dict.fromkeys(values.get(text, text) for text in order)]):
            changes["order"] = named
        if changes:
            document = document.replaced(block, changes)
    return document


def joined_by_and(text: str) -> Iterator[str]:
    """The conditions of a formula, one by one where they are joined by AND."""
    waiting = [parse(text).tree]
    while waiting:
        node = waiting.pop(0)
        while isinstance(node, nodes.Parens):
            node = node.inner
        if isinstance(node, nodes.Binary) and node.op == "AND":
            waiting = [node.left, node.right, *waiting]
        else:
            yield " ".join(text[node.start : node.end].split())
