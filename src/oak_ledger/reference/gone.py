"""What goes, or is hidden, with fields that nobody delivers any more: in a definition what is made of them, in a report what shows them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from oak_ledger.definition.document import Block, Document
from oak_ledger.definition.references import listed, names_in
from oak_ledger.reference.trace import Uses
from oak_ledger.source.source import Source


def without_fields(source: Source, gone: Sequence[str]) -> Source:
    """The source without some fields and all that needs them."""
    uses, leaving = Uses(source), dict.fromkeys(("field", source.state(name).name) for name in gone)
    for name in gone:
        for entry in uses.of(name):
            if entry.kind in ("field", "formula", "filter", "rule"):
                leaving["field" if entry.kind == "formula" else entry.kind, entry.name] = None
    document = source.document.without([source.block(name, kind) for kind, name in leaving])
    fields = {name for kind, name in leaving if kind == "field"}
    key = [name for name in source.about.key if name not in fields]
    if len(key) < len(source.about.key):
        document = document.replaced(document.all("source")[0], {"key": key})
    return source.changed(document)


def with_hidden(source: Source, names: Sequence[str]) -> Source:
    """The source with some fields hidden, and all fields that need them: they stay as they are, for when the columns come back."""
    uses = Uses(source)
    hidden = dict.fromkeys(source.state(name).name for name in names)
    for name in names:
        hidden |= dict.fromkeys(entry.name for entry in uses.of(name) if entry.kind in ("field", "formula"))
    for name in hidden:
        source = source.with_changed(name, hidden=True)
    return source


def without_names(report: Document, names: Collection[str]) -> Document:
    """A report without what needs names that are gone: local fields, filters, measures; and panels that are grouped or filtered by them or have nothing left to show.

    A report of which no panel would be left stays as it is.
    """
    gone, leaving, waiting = (
        {name.casefold() for name in names},
        list[Block](),
        [*report.all("field"), *report.all("filter")],
    )
    while blocks := [block for block in waiting if _needs(block, gone, ("formula", "include", "exclude"))]:
        gone |= {str(block.values["name"]).casefold() for block in blocks}
        leaving += blocks
        waiting = [block for block in waiting if block not in blocks]
    panels = report.all("panel")
    changed: list[tuple[Block, dict[str, Any]]] = []
    for panel in panels:
        items = [*panel.values.get("show", ())]
        kept = [item for item in items if not _names("shown", [item]) & gone]
        if _needs(panel, gone, ("by", "where")) or (items and not kept):
            leaving.append(panel)
            continue
        dropped = gone | {_label(item).casefold() for item in items if item not in kept}
        order = [*panel.values.get("sort", ())]
        left = [one for one in order if not _names("sort", [one]) & dropped]
        new: dict[str, Any] = {"show": kept} if len(kept) < len(items) else {}
        new |= {"sort": left or None} if len(left) < len(order) else {}
        new |= {"against": None} if _needs(panel, gone, ("against",)) else {}
        changed += [(panel, new)] if new else []
    if not any(panel not in leaving for panel in panels):
        return report
    for panel, new in changed:
        report = report.replaced(panel, new)
    return report.without(leaving)


def _needs(block: Block, gone: Collection[str], keys: Sequence[str]) -> bool:
    kinds = {"formula": "formula", "against": "formula"}
    return any(_names(kinds.get(key, "shown"), block.values[key]) & {*gone} for key in keys if block.values.get(key))


def _names(kind: str, value: Any) -> set[str]:
    return {name.casefold() for name, *_ in names_in(kind, value if kind == "formula" else listed(value))}


def _label(item: Any) -> str:
    return str(item["name"]) if isinstance(item, dict) else str(item)
