"""A formula in two fields, or two fields in one: a piece becomes a field of its own, a field goes into what uses it; values stay what they are."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from oak_ledger.definition.document import Document
from oak_ledger.definition.references import entry_name, references
from oak_ledger.errors import OakError
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.formula.parser import parse
from oak_ledger.reference.mend import Mend, edits_between
from oak_ledger.source.source import Source


def with_extracted(source: Source, field: str, start: int, end: int, name: str) -> Source:
    """The source with the piece of a field's formula between two offsets as a field of its own, above it.

    Raises OakError where that is not a whole piece with a value of its own, or where the formula would mean something else.
    """
    state = source.state(field)
    text = str(source.block(field).values.get("formula", ""))
    start, end = max(0, start), min(end, len(text))
    while start < end and text[start].isspace():
        start += 1
    while start < end and text[end - 1].isspace():
        end -= 1
    pieces = [node for node in n.walk(parse(text).tree) if (node.start, node.end) == (start, end)]
    if not pieces or isinstance(pieces[0], (n.Name, n.Literal)) or (start, end) == (0, len(text)):
        message = f"{text[start:end]!r} is not a piece of {state.name} with a value of its own."
        raise OakError("not-a-piece", message, hint="Choose a whole call, condition or operation.")
    block = source.block(field)
    changed = source.document.replaced(block, {"formula": text[:start] + quote_identifier(name) + text[end:]})
    fields = changed.all("field")
    at = [one is block for one in source.document.all("field")].index(True)
    made = source.changed(
        changed.added("field", {"name": name, "formula": text[start:end]}, fields[at - 1] if at else None)
    )
    return _as_before(source, made, [field])


def plan_inlined(source: Source, name: str, others: Sequence[tuple[Path, Document]] = ()) -> Mend:
    """What must change so that a calculated field goes, and every formula that uses it says what it said.

    Raises OakError where it is used otherwise than in a formula (shown, grouped by, a key), and where a formula would mean something else.
    """
    state = source.state(name)
    formula = str(source.block(name).values.get("formula", ""))
    if not formula:
        raise OakError("not-calculated", f"{state.name} is a column and no formula.")
    documents = [(source.path, source.document), *others]
    if not any(
        one.name.casefold() == state.name.casefold() for _, document in documents for one in references(document)
    ):
        raise OakError("not-named", f"Nothing uses {state.name}.", hint="oak field drop takes it away.")
    changed = [(path, document, _inlined(document, state.name, formula)) for path, document in documents]
    made = source.changed(changed[0][2].without([block for block in changed[0][2].all("field") if block.values["name"] == state.name]))  # fmt: skip
    users = [one.name for one in source.fields if state.name in one.uses]
    made = _as_before(source, made, users)
    return Mend(made, edits_between([(source.path, source.document, made.document), *changed[1:]]))


def _inlined(document: Document, name: str, formula: str) -> Document:
    """A file whose formulas say what a field says in place of its name. Raises OakError where the name is not in a formula."""
    said = f"({formula}\n)" if "--" in formula else f"({formula})"  # a comment would go on to the end of the line
    own = {(one.entry, one.key): one for one in references(document) if one.name.casefold() == name.casefold()}
    for one in own.values():
        block = next(block for block in document.blocks if block.name and entry_name(block) == one.entry)
        if block.values.get(one.key) != one.text or one.key not in ("formula", "where", "holds", "against"):
            message = (
                f"{name} is named in {document.where}, {one.entry}, {one.key}: only formulas can say what it says."
            )
            raise OakError("still-named", message)
        text = str(block.values[one.key])
        for node in sorted(n.names(parse(text).tree), key=lambda node: -node.start):
            if node.name.casefold() == name.casefold():
                text = text[: node.start] + said + text[node.end :]
        document = document.replaced(block, {one.key: text})
    return document


def _as_before(before: Source, after: Source, fields: Sequence[str]) -> Source:
    """The source after an edit. Raises OakError where one of its fields has another type or grain than before, or is broken by it."""
    for name in fields:
        old, new = before.state(name), after.state(name)
        if new.broken and not old.broken:
            raise OakError.of(new.findings)
        if (old.type, old.grain) != (new.type, new.grain):
            raise OakError("other-meaning", f"{old.name} would be {new.type_name} per {new.grain}; it is {old.type_name} per {old.grain}.")  # fmt: skip
    return after
