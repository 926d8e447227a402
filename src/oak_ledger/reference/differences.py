"""How one definition differs from another, entry by entry."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass
from typing import Any

from oak_ledger.definition.model import ConstantSpec, FieldSpec, FilterSpec, RuleSpec
from oak_ledger.definition.references import renamed_in_formula
from oak_ledger.source.source import Source

_KEYS = ("type", "format", "clean", "values", "renamed_values", "hidden", "total", "role", "description", "column")


@dataclass(frozen=True, slots=True)
class Difference:
    """One difference: `what` is added, removed, renamed, or the key that differs; `before` and `after` as texts."""

    entry: str
    what: str
    before: str
    after: str

    def sentence(self) -> str:
        """The difference in words, for those who read the source; empty for what does not concern them."""
        kind, _, name = self.entry.partition(" ")
        said = {
            "added": f"{name} is new",
            "removed": f"{name} is gone",
            "renamed": f"{self.before} is called {self.after} now",
            "formula": f"{name} is computed as {self.after}",
            "where": f"the filter {name} is {self.after}",
            "value": f"{name} is {self.after}",
            "clean": f"{name} is cleaned by {self.after}" if self.after else f"{name} is not cleaned any more",
            "type": f"{name} is {self.after}, and was {self.before}",
            "description": f"{name} is described as: {self.after}",
            "hidden": f"{name} is {'hidden' if self.after == 'True' else 'shown'} now",
        }
        return said.get(self.what, "") if kind != "rule" else ""

    def as_json(self) -> dict[str, str]:
        """Plain values."""
        return asdict(self)


def differences(before: Source, after: Source, renamed: Mapping[str, str] | None = None) -> list[Difference]:
    """The differences between two states of a source; `renamed` lists fields that have another name now (new name: old name)."""
    found: list[Difference] = []
    names = dict(renamed or {})
    kinds: tuple[tuple[str, type[Any], str], ...] = (
        ("field", FieldSpec, "formula"), ("constant", ConstantSpec, "value"), ("filter", FilterSpec, "where"), ("rule", RuleSpec, "holds"),
    )  # fmt: skip
    for kind, model, formula in kinds:
        old = {one.name: one for one in before.document.models(kind, model)}
        new = {one.name: one for one in after.document.models(kind, model)}
        taken = set()
        for name, spec in new.items():
            was = names.get(name, name) if kind == "field" else name
            if was not in old:
                found.append(Difference(f"{kind} {name}", "added", "", _text(getattr(spec, formula, "")) or _text(getattr(spec, "column", ""))))  # fmt: skip
                continue
            taken.add(was)
            if was != name:
                found.append(Difference(f"{kind} {name}", "renamed", was, name))
            found += _of(f"{kind} {name}", old[was], spec, formula, {one.casefold(): new for new, one in names.items()})
        found += [Difference(f"{kind} {name}", "removed", _text(getattr(spec, formula, "")) or _text(getattr(spec, "column", "")), "") for name, spec in old.items() if name not in taken]  # fmt: skip
    found += _types(before, after, names)
    order = {difference.entry: at for at, difference in reversed([*enumerate(found)])}
    return sorted(found, key=lambda one: order[one.entry])


def changed_fields(
    old: Source, new: Source, before: Mapping[str, Any], after: Mapping[str, Any], renamed: Mapping[str, str]
) -> list[str]:
    """The fields that are new, whose formula is another one, or whose values are: `before` and `after` have what they were recognised by.

    A formula that says the same under new names only passes on what changed.
    """
    found = []
    renames = {was.casefold(): name for name, was in renamed.items()}
    for state in new.fields:
        name = renamed.get(state.name, state.name)
        was = old.compiled.states.get(name.casefold())
        formula = str(getattr(state.spec, "formula", ""))
        earlier = renamed_in_formula(str(getattr(was.spec, "formula", "")), renames) if was is not None else ""
        values = state.name in after and before.get(name) != after.get(state.name)
        if was is None or formula != earlier or (values and not formula):
            found.append(state.name)
    return found


def _of(entry: str, old: Any, new: Any, formula: str, renames: Mapping[str, str]) -> Iterator[Difference]:
    left, right = (_text(getattr(one, formula, "")) for one in (old, new))
    if (renamed_in_formula(left, renames) if isinstance(getattr(old, formula, None), str) else left) != right:
        yield Difference(entry, formula, left, right)
    for key in (*_KEYS, "always", "values") if formula == "where" else _KEYS:
        was, now = getattr(old, key, None), getattr(new, key, None)
        if was != now and key != "type":
            yield Difference(entry, key, _text(was), _text(now))


def _types(before: Source, after: Source, names: Mapping[str, str]) -> Iterator[Difference]:
    """Fields whose values are of another type."""
    for state in after.fields:
        was = before.compiled.states.get(names.get(state.name, state.name).casefold())
        if was is not None and was.type is not None and state.type is not None and was.type != state.type:
            yield Difference(f"field {state.name}", "type", str(was.type), str(state.type))


def _text(value: Any) -> str:
    if value is None or value == "" or value == {}:
        return ""
    if isinstance(value, Mapping):
        return ", ".join(f"{key} = {one}" for key, one in value.items())
    return " ".join(str(value).split())
