"""What depends on what: from a column or a name to every entry of the definition and of reports that needs it, directly or through others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from oak_ledger.definition.document import Document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.definition.references import entry_name, plain_title, references
from oak_ledger.errors import Finding
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Broken:
    """A field (constant, filter) that is broken by itself, why, and what is broken through it, nearest first."""

    name: str
    finding: Finding
    through: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Entry:
    """An entry of a definition or a report: the file, its kind (field, formula, filter, constant, rule, key, local field, panel, text), its name."""

    file: str
    kind: str
    name: str

    @property
    def title(self) -> str:
        """What it is called."""
        return self.name if self.kind in ("field", "formula", "constant", "filter") else f"{self.kind} {self.name!r}"


Node = tuple[str, str]
"""A name in casefold, with the file of the report that it is local to; of the source where that is empty."""


class Uses:
    """Everything that a source and its reports use, for any number of questions."""

    def __init__(self, source: Source, reports: Sequence[Document] = ()) -> None:
        self._users: dict[Node, list[tuple[Entry, Node | None]]] = {}
        self.file = source.document.where
        kinds = {name: _kind(state) for name, state in source.compiled.states.items()}
        self._add(source.document, kinds, {})
        for document in reports:
            own = (*document.all("field"), *document.all("filter"))
            local = {str(block.values["name"]).casefold() for block in own}
            self._add(document, {}, dict.fromkeys(local, document.where))

    def _add(self, document: Document, kinds: dict[str, str], local: dict[str, str]) -> None:
        report = "" if document.where == self.file else document.where
        by_entry: dict[str, tuple[Entry, Node | None]] = {}
        for block in document.blocks:
            if not block.name or block.spec is None:
                continue
            name = str(block.values.get("name") or block.values.get("title") or "")
            node = (name.casefold(), report) if block.name in ("field", "constant", "filter") else None
            kind = {"source": "key", "report": "text"}.get(block.name, block.name)
            if block.name == "field":
                kind = "local field" if report else kinds.get(name.casefold(), "field")
            by_entry[entry_name(block)] = (Entry(document.where, kind, plain_title(name) or report), node)
        for reference in references(document):
            target = reference.name.casefold()
            entry = by_entry[reference.entry]
            users = self._users.setdefault((target, local.get(target, "")), [])
            if entry not in users and entry[1] != (target, local.get(target, "")):
                users.append(entry)

    def direct(self, name: str, report: str = "") -> list[tuple[Entry, Node | None]]:
        """The entries that name a name, and the name that each defines, if it defines one."""
        return self._users.get((name.casefold(), report), [])

    def of(self, name: str, report: str = "") -> list[Entry]:
        """Every entry that needs a name, directly or through others, nearest first; each once."""
        found: dict[Entry, None] = {}
        seen: set[Node] = set()
        waiting: list[Node] = [(name.casefold(), report)]
        while waiting:
            following: list[Node] = []
            for node in waiting:
                if node in seen:
                    continue
                seen.add(node)
                for entry, own in self._users.get(node, ()):
                    found[entry] = None
                    if own is not None:
                        following.append(own)
            waiting = following
        return list(found)


def _kind(state: ResolvedName) -> str:
    if isinstance(state.spec, FieldSpec):
        return "formula" if state.spec.calculated else "field"
    return "constant" if type(state.spec).__name__.startswith("Constant") else "filter"


def counted_entries(entries: Iterable[Entry]) -> str:
    """Entries in words: 1 field, 4 formulas, 2 filters, 11 panels in 5 reports."""
    some = list(entries)
    counts = Counter(entry.kind for entry in some)
    order = ("field", "formula", "constant", "filter", "rule", "key", "local field", "panel", "text")
    said = [f"{counts[kind]:,} {kind}{'s' * (counts[kind] != 1)}" for kind in order if counts[kind]]
    reports = {entry.file for entry in some if entry.kind in ("local field", "panel", "text")}
    where = f" in {len(reports):,} report{'s' * (len(reports) != 1)}" if reports else ""
    return (", ".join(said) or "nothing") + where


def dependents(source: Source, name: str) -> list[str]:
    """Every field, constant and filter that needs a field, directly or through others, nearest first."""
    return [
        entry.name
        for entry in Uses(source).of(name)
        if entry.name.casefold() in source.compiled.states and entry.kind != "rule"
    ]


def broken_names(source: Source) -> list[Broken]:
    """Everything that is broken by itself, in the order of the definition."""
    uses = Uses(source)
    return [
        Broken(
            state.name,
            next(finding for finding in state.findings if finding.severity == "error"),
            tuple(entry.name for entry in uses.of(state.name) if entry.kind not in ("rule", "key")),
        )
        for state in broken_states(source)
    ]


def broken_states(source: Source) -> Iterator[ResolvedName]:
    """The names that are broken by themselves."""
    return (state for state in source.compiled.states.values() if state.broken and state.own_fault)
