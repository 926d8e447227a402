"""Two people's changes of one definition or report put together, entry by entry: what only one of them changed is taken as it is written there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from oak_ledger.definition.document import Block, Document
from oak_ledger.definition.references import entry_name, renamed_references
from oak_ledger.errors import Finding, Place


@dataclass(frozen=True, slots=True)
class Disagreement:
    """What two changed in different ways: the entry, the key (empty for the entry as a whole), and what it is in either; None where it was taken out."""

    entry: str
    key: str
    kept: Any
    other: Any

    def finding(self, where: str) -> Finding:
        """It in words."""
        said = ["taken out" if one is None else repr(one) for one in (self.kept, self.other)]
        what = f"{self.key} is {said[0]} in the one, which was kept, and {said[1]} in the other"
        message = f"{self.entry}: {what if self.key else 'it was taken out by one and changed by the other'}."
        return Finding("merge-differs", message, Place(where), "Decide, and write it by hand where it is to be otherwise.")  # fmt: skip


def merged(base: Document, onto: Document, changed: Document) -> tuple[Document, list[Disagreement]]:
    """What was changed in `changed` since `base`, put onto `onto`, which was made from `base` as well. A field that one of them has renamed is
    renamed in the other. Where both changed a key, it stays as in `onto`, and is named; the order of entries is that of `onto`."""
    ours, theirs = _renamed_since(base, changed), _renamed_since(base, onto)
    onto, changed, base = _called(onto, ours), _called(changed, theirs), _called(_called(base, ours), theirs)
    disagreements: list[Disagreement] = []
    before, own, document = _entries(base), _entries(changed), onto
    for name, block in own.items():
        was, there = before.get(name), _entries(document).get(name)
        if was is not None and block.text.strip() == was.text.strip():
            continue
        if there is None and was is None:
            document = _added(document, own, block, name)
        elif there is not None and was is not None and there.text.strip() == was.text.strip():
            space = there.text[len(there.text.rstrip("\n")) :]  # the entry as it is written there, with its comments
            whole = replace(block, text=block.text.rstrip("\n") + space)
            document = replace(document, blocks=tuple(whole if block is there else block for block in document.blocks))
        elif there is None:
            disagreements.append(Disagreement(name, "", None, dict(block.values)))
        else:
            changes = _changes(name, was.values if was is not None else {}, block.values, there.values, disagreements)
            document = document.replaced(there, changes) if changes else document
    for name, was in before.items():
        there = _entries(document).get(name)
        if name not in own and there is not None:
            if dict(there.values) == dict(was.values):
                document = document.without([there])
            else:
                disagreements.append(Disagreement(name, "", dict(there.values), None))
    return document, disagreements


def _renamed_since(base: Document, changed: Document) -> dict[str, str]:
    """The fields of columns that have another name than before (old: new)."""
    sides = [{str(block.values["column"]): str(block.values["name"]) for block in document.all("field") if block.values.get("column")} for document in (base, changed)]  # fmt: skip
    return {old: sides[1][column] for column, old in sides[0].items() if sides[1].get(column, old) != old}


def _called(document: Document, names: Mapping[str, str]) -> Document:
    """A document with other names for fields, wherever they stand."""
    if not names:
        return document
    document = renamed_references(document, {old.casefold(): new for old, new in names.items()})
    for block in document.all("field"):
        new = names.get(str(block.values.get("name", "")))
        document = document.replaced(block, {"name": new}) if new is not None else document
    return document


def _entries(document: Document) -> dict[str, Block]:
    """The entries by their names; those that have none by where they are among their like."""
    found: dict[str, Block] = {}
    for block in document.blocks:
        if block.name:
            name = entry_name(block)
            at = sum(one.partition(" #")[0] == name for one in found)
            found[f"{name} #{at + 1}" if at else name] = block
    return found


def _changes(
    name: str,
    was: Mapping[str, Any],
    own: Mapping[str, Any],
    there: Mapping[str, Any],
    disagreements: list[Disagreement],
) -> dict[str, Any]:
    """The keys that were changed, with what they say now; where the other changed one as well, it is noted instead."""
    changes: dict[str, Any] = {}
    for key in dict.fromkeys([*was, *own]):
        before, new, other = (one.get(key) for one in (was, own, there))
        if new in (before, other):
            continue
        if other == before:
            changes[key] = new
        else:
            disagreements.append(Disagreement(name, key, other, new))
    return changes


def _added(document: Document, own: Mapping[str, Block], block: Block, name: str) -> Document:
    """An entry with its comments, after the one that it stands behind, where that is there."""
    before = [one for one, other in own.items() if other.name == block.name]
    there = _entries(document)
    after = next((there[one] for one in before[: before.index(name)][::-1] if one in there), None)
    blocks = list(document.blocks)
    at = next((at for at, one in enumerate(blocks) if one is after), len(blocks) - 1) + 1
    theirs = {id(one) for other, one in there.items() if other not in own}  # what was added there comes first
    while at < len(blocks) and blocks[at].name == block.name and id(blocks[at]) in theirs:
        at += 1
    text = block.text.strip("\n") + ("\n\n" if at < len(blocks) else "\n")
    if at and not blocks[at - 1].text.endswith("\n\n"):
        blocks[at - 1] = replace(blocks[at - 1], text=blocks[at - 1].text.rstrip("\n") + "\n\n")
    blocks.insert(at, replace(block, text=text))
    return replace(document, blocks=tuple(blocks))
