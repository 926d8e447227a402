"""A repair in one sitting: what is wrong since the released version, worst first, and for each what may be done about it, with the evidence."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import Finding, OakError, UnusableInput
from oak_ledger.files import write_text
from oak_ledger.reference.candidates import Candidate
from oak_ledger.reference.causes import Cause
from oak_ledger.reference.elsewhere import Elsewhere
from oak_ledger.reference.since import Since
from oak_ledger.reference.units import wide_enough
from oak_ledger.source.source import Source

EXAMPLES = 3  # rows of values shown with a candidate


@dataclass(frozen=True, slots=True)
class Repairs:
    """What a mend takes: columns and names (old: new), values by field (old: new), cleans and types by field, keys of a field by which it is read, fields that are gone or
    hidden, keys of the origin and paths of its parts."""

    columns: Mapping[str, str] = field(default_factory=dict)
    values: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    cleans: Mapping[str, str] = field(default_factory=dict)
    types: Mapping[str, str] = field(default_factory=dict)
    reading: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    gone: tuple[str, ...] = ()
    origin: Mapping[str, str] = field(default_factory=dict)
    parts: Mapping[str, str] = field(default_factory=dict)
    hidden: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return any(
            (
                self.columns,
                self.values,
                self.cleans,
                self.types,
                self.reading,
                self.gone,
                self.origin,
                self.parts,
                self.hidden,
            )
        )

    def keys(self) -> dict[str, Any]:
        """Them as arguments of `plan_mend`, but for the columns."""
        return {"values": self.values, "cleans": self.cleans, "types": self.types, "reading": self.reading, "gone": self.gone, "hidden": self.hidden, "origin": self.origin, "parts": self.parts}  # fmt: skip

    def as_json(self) -> dict[str, Any]:
        """Plain values, as a plan is kept."""
        return {"columns": dict(self.columns), "values": {name: dict(one) for name, one in self.values.items()}, "cleans": dict(self.cleans), "types": dict(self.types), "reading": {name: dict(one) for name, one in self.reading.items()}, "gone": [*self.gone], "hidden": [*self.hidden], "origin": dict(self.origin), "parts": dict(self.parts)}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Choice:
    """One thing that may be done: in words, why, and whether values prove it; with some values before and now."""

    what: str
    why: str
    repairs: Repairs
    sure: bool
    examples: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Decision:
    """What is wrong, what is broken by it, and what may be done, the likeliest first; without choices it is left as it is. `gone` is the
    column that is missing, in whose place another may be named."""

    wrong: str
    broken: tuple[str, ...]
    choices: tuple[Choice, ...]
    gone: str = ""

    @property
    def evidence(self) -> str:
        """A digest of what is wrong and of all that is offered: the same question has the same."""
        said = [self.wrong, *(f"{choice.what} {choice.why}" for choice in self.choices)]
        return hashlib.sha256("\n".join(said).encode()).hexdigest()[:24]

    def other(self, column: str) -> Choice:
        """To read what is missing from a column that somebody named."""
        return Choice(f"read it from {column}", "as you say", Repairs(columns={self.gone: column}), False)

    def as_json(self) -> dict[str, Any]:
        """Plain values: what is wrong, what is broken by it, and the choices with values before and now."""
        choices = [{"what": choice.what, "why": choice.why, "sure": choice.sure, "examples": [{"before": old, "now": new} for old, new in choice.examples]} for choice in self.choices]  # fmt: skip
        return {"wrong": self.wrong, "broken": [*self.broken], "choices": choices}

    @property
    def sure(self) -> Choice | None:
        """The first choice, where values prove it."""
        return self.choices[0] if self.choices and self.choices[0].sure else None


def decisions_of_columns(source: Source, since: Since, causes: Sequence[Cause]) -> list[Decision]:
    """What is broken, that which breaks most at the top, but for what is hidden; and columns that hold something else now."""
    hidden = {
        (kind, state.name) for state in source.compiled.states.values() if state.hidden for kind in ("field", "formula")
    }
    open_ones = [cause for cause in causes if not {(entry.kind, entry.name) for entry in cause.entries} <= hidden]
    decisions = [_of_cause(open_one) for open_one in sorted(open_ones, key=lambda cause: -len(cause.entries))]
    for candidate in since.moved:
        choice = Choice(f"read {candidate.field} from {candidate.column}", candidate.why, Repairs(columns={candidate.gone: candidate.column}), candidate.sure, candidate.examples)  # fmt: skip
        decisions.append(
            Decision(f"the column {candidate.gone!r} holds something else now", (candidate.field,), (choice,))
        )
    for candidate in since.reread:
        choice = Choice(
            f"read it with {candidate.keys()}",
            candidate.why,
            _read_so(candidate, {}),
            candidate.sure,
            candidate.examples,
        )
        decisions.append(Decision(f"{candidate.field} is written otherwise now", (candidate.field,), (choice,)))
    return decisions


def _read_so(candidate: Candidate, columns: Mapping[str, str], gone: tuple[str, ...] = ()) -> Repairs:
    return Repairs(
        columns=columns, gone=gone, reading={candidate.field: candidate.reading} if candidate.reading else {}
    )


def decision_of_origin(error: OakError, places: Sequence[Elsewhere]) -> Decision:
    """Rows that cannot be read where they were, and where they may be."""
    choices = tuple(Choice(f"read {place.part or 'it'} from {place.now}" if place.what != "key" else f"join by {place.now}", place.why, _of_place(place), place.sure) for place in places)  # fmt: skip
    return Decision(error.message.removesuffix("."), ("everything",), choices)


def _of_place(use: Elsewhere) -> Repairs:
    if use.what == "key":
        return Repairs(columns={use.gone: use.now})
    return Repairs(parts={use.part: use.now}) if use.part else Repairs(origin={use.what: use.now})


def decisions_of_values(source: Source, since: Since, recoded: Mapping[str, Mapping[str, str]]) -> list[Decision]:
    """Values and units that changed, of a source whose columns are repaired: rows can be matched then.

    `recoded` has values by field, now: before, as matched rows show them.
    """
    decisions = []
    for name, pairs in recoded.items():
        old = {before: now for now, before in pairs.items()}
        listed = ", ".join(f"{before} → {now}" for before, now in list(old.items())[:EXAMPLES])
        more = f" and {len(old) - EXAMPLES} more" if len(old) > EXAMPLES else ""
        choice = Choice(
            f"use the new values: {listed}{more}", "as matched rows show", Repairs(values={name: old}), True
        )
        decisions.append(Decision(f"values of {name} have other names now", (), (choice,)))
    for finding in since.findings:
        name = _field_of(source, finding)
        if finding.severity != "note" and not (finding.code == "drift-values" and name in recoded):
            decisions.append(_of_finding(source, finding, name))
    return decisions


def _of_cause(cause: Cause) -> Decision:
    gone = cause.missing
    choices = [_of_candidate(candidate) for candidate in cause.candidates]
    if gone:
        name, *others = [entry for entry in cause.entries if entry.kind in ("field", "formula", "filter", "rule")]
        fields = [other for other in others if other.kind in ("field", "formula")]
        dropped, hidden = (", and ".join(filter(None, (name.title, ", ".join(entry.title for entry in some)))) for some in (others, fields))  # fmt: skip
        why = f"{'none of it is' if others else 'it is not'} delivered any more"
        shown = f"and what shows {'them' if others else 'it'} in reports"
        choices.append(Choice(f"drop {dropped}, {shown}", why, Repairs(gone=(name.name,)), False))
        stays = "they stay as they are, should they come back" if fields else "it stays as it is, should it come back"
        choices.append(Choice(f"hide {hidden}", stays, Repairs(hidden=(name.name,)), False))
    return Decision(cause.what, tuple(entry.title for entry in cause.entries), tuple(choices), gone)


def _of_candidate(candidate: Candidate) -> Choice:
    """To use the name that a field has now; or to read a field from another column; where that is of a field that is gone itself, this is dropped, and nothing is sure."""
    dropped = f", and drop {candidate.takes}, of which there is nothing any more" if candidate.takes else ""
    repairs = _read_so(candidate, {candidate.gone: candidate.column}, (candidate.takes,) if candidate.takes else ())
    read = f" with {candidate.keys()}" if candidate.reading else ""
    what = (
        f"read it from {candidate.column}"
        if candidate.field != candidate.gone or candidate.values is not None
        else f"use {candidate.column}"
    )
    return Choice(
        f"{what}{read}{dropped}", candidate.why, repairs, candidate.sure and not candidate.takes, candidate.examples
    )


def _field_of(source: Source, finding: Finding) -> str:
    return next(
        (state.name for state in source.fields if finding.place.kind == "field" and finding.place.name == state.name),
        "",
    )


def _of_finding(source: Source, finding: Finding, name: str) -> Decision:
    """A change of values; where its factor is known and the field has no clean yet, that is offered, but never sure: figures may have changed."""
    if finding.code == "unit-back":
        choice = Choice("remove the clean", "matched rows have the values of before with it removed", Repairs(cleans={name: ""}), True)  # fmt: skip
        return Decision(finding.message, (), (choice,))
    spec = source.state(name).spec if name else None
    offered = finding.fixed if isinstance(spec, FieldSpec) and not spec.clean else None
    decimals = finding.numbers.get("decimals")
    types = {name: wide_enough(int(decimals))} if decimals else {}
    repairs = Repairs(cleans={name: offered or ""}, types=types)
    what = f"clean it: {offered}" + (f", and keep more decimals: {types[name]}" if types else "")
    choices = (Choice(what, "in nearly all matched rows", repairs, False),) if offered else ()
    return Decision(finding.message, (), choices)


def together(chosen: Iterable[Choice]) -> Repairs:
    """All that was chosen."""
    columns: dict[str, str] = {}
    values: dict[str, Mapping[str, str]] = {}
    cleans: dict[str, str] = {}
    types: dict[str, str] = {}
    reading: dict[str, Mapping[str, Any]] = {}
    gone: dict[str, None] = {}
    hidden: dict[str, None] = {}
    origin: dict[str, str] = {}
    parts: dict[str, str] = {}
    for choice in chosen:
        types |= choice.repairs.types
        reading |= choice.repairs.reading
        origin |= choice.repairs.origin
        parts |= choice.repairs.parts
        gone |= dict.fromkeys(choice.repairs.gone)
        hidden |= dict.fromkeys(choice.repairs.hidden)
        columns |= choice.repairs.columns
        values |= choice.repairs.values
        cleans |= choice.repairs.cleans
    return Repairs(columns, values, cleans, types, reading, tuple(gone), origin, parts, tuple(hidden))


def put_off(definition: Path) -> set[str]:
    """The questions that were answered `later`, by their evidence."""
    with suppress(OSError, ValueError, TypeError):
        return {str(load) for load in json.loads(_later(definition).read_text("utf-8"))}
    return set()


def keep_put_off(definition: Path, decisions: Iterable[Decision]) -> None:
    """Remember which questions were answered `later`, so that they are not asked again."""
    kept = sorted({decision.evidence for decision in decisions})
    if kept or _later(definition).exists():
        write_text(_later(definition), json.dumps(kept, indent=1) + "\n")


def _later(definition: Path) -> Path:
    return definition.parent / f".{definition.name}.later"


def read_plan(path: Path) -> Repairs:
    """Repairs as they were kept in a file. Raises UnusableInput for what is none."""
    try:
        kept = json.loads(path.read_text("utf-8"))
        plan = kept.get("facts", kept).get("plan", kept)
        named = {key: plan.get(key, {}) for key in ("columns", "cleans", "types", "origin", "parts")}
        values, reading = plan.get("values", {}), plan.get("reading", {})
        gone, hidden = plan.get("gone", []), plan.get("hidden", [])
        pairs = [pair for value in (*named.values(), *values.values()) for pair in value.items()]
        texts = [
            *pairs,
            *((one, one) for one in [*gone, *hidden, *reading, *(key for one in reading.values() for key in one)]),
        ]
        wrong = "" if all(isinstance(one, str) for pair in texts for one in pair) else "names and values are texts"
    except (OSError, ValueError, AttributeError, TypeError) as error:
        wrong = str(error)
    if wrong:
        raise UnusableInput(
            "bad-plan", f"{path} is not the plan of a mend: {wrong}.", hint="oak mend SOURCE --json makes one."
        )
    return Repairs(values=values, reading=reading, gone=tuple(gone), hidden=tuple(hidden), **named)
