"""A suspicion, and the formulas whose values over all rows confirm or clear it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from oak_ledger.definition.document import Document
from oak_ledger.definition.formats import show
from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import nodes as n
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.source.answer import Answer
from oak_ledger.source.source import Source

Values = Mapping[str, Any]
_MARK = "\N{WORD JOINER}"


@dataclass(frozen=True, slots=True)
class Probe:
    """Formulas to compute over all rows, and what their values say."""

    formulas: Mapping[str, str]
    judge: Callable[[Values], Finding | None]


def judged(source: Source, probes: Sequence[Probe], more: Mapping[str, str]) -> tuple[Answer, list[Finding]]:
    """What probes say, answered together with `more` in one reading of the rows."""
    shown: dict[str, str] = {}
    for at, probe in enumerate(probes):
        for key, formula in probe.formulas.items():
            if source.check_formula(formula).checked is not None:
                shown[f"{at} {key}"] = formula
    answer = source.tally(show=[*shown.items(), *more.items()])
    values = answer.to_dicts()[0]
    findings = [
        probe.judge({key: values.get(f"{at} {key}") for key in probe.formulas}) for at, probe in enumerate(probes)
    ]
    return answer, [finding for finding in findings if finding is not None]


@dataclass(slots=True)
class TemporaryFields:
    """Fields added to a source for the time of a check, so that what several probes need is computed once."""

    source: Source
    document: Document = field(init=False)
    names: dict[tuple[str, ...], str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.document = self.source.document

    def calculated(self, formula: str) -> str:
        """The name of a field with this formula."""
        return self._added(("formula", formula), {"formula": formula})

    def reread(self, state: ResolvedName, *without: str, **changes: Any) -> str:
        """The name of a copy of a plain field that leaves out some of its keys."""
        spec = state.spec
        keys = spec.model_dump(exclude_defaults=True) if isinstance(spec, FieldSpec) else {}
        kept = {
            key: list(value) if isinstance(value, tuple) else value
            for key, value in keys.items()
            if key not in (*without, "rule", "role", "total", "format", "description", "name")
        }
        return self._added((state.name, *without, str(changes)), {**kept, **changes})

    def _added(self, key: tuple[str, ...], keys: Mapping[str, Any]) -> str:
        if key not in self.names:
            self.names[key] = f"{_MARK}{len(self.names)}"
            self.document = self.document.added("field", {"name": self.names[key], **keys, "hidden": True})
        return self.names[key]

    def helped(self) -> Source:
        """The source with the fields."""
        return self.source.changed(self.document) if self.names else self.source


def is_helper(name: str) -> bool:
    """Whether a field is there for a check only."""
    return name.startswith(_MARK)


def format_number(value: Any) -> str:
    """A number in a sentence."""
    if value is None:
        return "null"
    size = abs(float(value))
    return show(value, "0,000" if size >= 10_000 or size == int(size) else "0,000.00" if size >= 10 else "0.0000")


def read_fields(source: Source) -> Iterator[tuple[ResolvedName, FieldSpec]]:
    """The fields that are read from a column and work; none of a published source, whose values were read before."""
    for state in source.fields if source.published is None else ():
        if isinstance(state.spec, FieldSpec) and state.spec.column and not state.broken:
            yield state, state.spec


def place_of(source: Source, state: ResolvedName, text: str = "", node: n.Node | None = None) -> Place:
    """Where a finding about a field is."""
    place = source.document.place("field", state.name)
    return place.in_text(text, node.start, node.end) if node is not None else place
