"""What a new state of a source does to the figures of reports: each panel's measures before and after."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from oak_ledger.definition.references import (
    bare_name,
    is_name,
    listed,
    plain_title,
    references,
    renamed_references,
    with_replaced_values,
)
from oak_ledger.errors import OakError
from oak_ledger.formula import nodes, parse
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.report.report import Report, causes_of, filled
from oak_ledger.source import Answer, Source


@dataclass(frozen=True, slots=True)
class GroupChange:
    """A figure of one group before and after; None where the group was not there, or is not there any more."""

    group: tuple[Any, ...]
    before: Any
    after: Any

    @property
    def size(self) -> float:
        """By how much it changed."""
        return abs(_number(self.after) - _number(self.before))


@dataclass(frozen=True, slots=True)
class Change:
    """One measure of one panel, before and after, over all its rows and by group (`groups`, the largest change first).

    `after` is None and `broken` says why where it no longer works. `because` has the fields that it needs and that have changed.
    """

    report: str
    panel: str
    measure: str
    before: Any
    after: Any
    format: str = ""
    broken: str = ""
    after_works: bool = True
    groups: tuple[GroupChange, ...] = ()
    because: tuple[str, ...] = ()
    renamed: tuple[tuple[tuple[Any, ...], tuple[Any, ...]], ...] = ()
    """Groups that have another name now and the same figures: (before, after)."""


def _number(value: Any) -> float:
    return float(value) if hasattr(value, "__float__") else 0.0


def report_changes(
    reports: Iterable[Report],
    before: Source,
    after: Source,
    renamed: Mapping[str, str] | None = None,
    changed: Collection[str] = (),
    recoded: Recoded | None = None,
) -> list[Change]:
    """The measures whose figure differs between two states of a source, in all or in any group, and those that broke or work again.

    The reports are written for `after`; `renamed` lists fields that have other names in `before` (new name: old name), `changed` those
    whose formula or values are known to differ, so that each change can say what it comes from. `recoded` has values that have other
    names in `before`.
    """
    changes: list[Change] = []
    shared: tuple[_Answers, _Answers] = ({}, {})
    for report in reports:
        earlier = report_as_it_was(report, renamed or {}, recoded or {})
        old, new = (list(_answers(*each)) for each in ((earlier, before, shared[0]), (report, after, shared[1])))
        for panel, (_, left, was_broken), (name, right, broken) in zip(report.panels, old, new, strict=True):
            if right is None or left is None:
                if broken or was_broken:
                    works = right is not None
                    if works != (left is not None):
                        changes.append(Change(report.about.name, name, "(whole panel)", None, None, "", broken or was_broken, works))  # fmt: skip
                continue
            for difference in _differences(report.about.name, name, left, right, len(panel.by)):
                needed = _needed(report, panel, difference.measure, after) if changed else set()
                because = tuple(field for field in changed if field.casefold() in needed)
                changes.append(replace(difference, because=because))
    return changes


Recoded = Mapping[str, Mapping[str, str]]
"""By field the values that have other names in an earlier state (now: then)."""


def report_as_it_was(report: Report, renamed: Mapping[str, str], recoded: Recoded) -> Report:
    """A report as it asks an earlier state, where fields (new name: old name) and values had other names."""
    document = report.document
    for field, values in recoded.items():
        document = with_replaced_values(document, field, values)
    return replace(report, document=renamed_references(document, {new.casefold(): old for new, old in renamed.items()}))


_Answers = dict[str, tuple[Answer | None, str]]
"""Answers by what was asked, for panels that use shared names only."""


def _answers(report: Report, source: Source, known: _Answers) -> Iterator[tuple[str, Answer | None, str]]:
    """Each panel's title, all its groups, and why there are none; a question that several panels ask is computed once."""
    whole, findings = report.over(source)
    local = report.broken_locals(findings)
    used: dict[str, set[str]] = {}
    for reference in references(report.document):
        used.setdefault(reference.entry, set()).add(reference.name.casefold())
    for panel in report.panels:
        own = (
            {*local} & used.get(f"panel {plain_title(panel.title)!r}", set())
            or report.baseline
            or any(filter_.always for filter_ in report.filters)
        )
        store = {} if own else known
        asked = repr((panel.kind == "text", report.question(panel, whole)))
        if asked not in store:
            try:
                store[asked] = report.answer(panel, whole), ""
            except OakError as error:
                store[asked] = None, causes_of(error, whole, local)[0].message
        yield (filled(panel.title, whole), *store[asked])


def _needed(report: Report, panel: PanelSpec, measure: str, source: Source) -> set[str]:
    """The fields that a measure of a panel needs, directly or through others, with those that the panel groups and filters by."""
    whole, _ = report.over(source)
    texts = [item if isinstance(item, str) else item.formula for item in (*panel.by, *panel.show)]
    own = [
        item
        for item in panel.show
        if (item if isinstance(item, str) else item.name).casefold() == measure.partition(", ")[0].casefold()
    ]
    if own:
        texts = [item if isinstance(item, str) else item.formula for item in (*panel.by, *own)]
    waiting = [name.casefold() for text in (*texts, *listed(panel.where)) if text for name in _names(text)]
    seen: set[str] = set()
    while waiting:
        name = waiting.pop()
        state = whole.compiled.states.get(name)
        if name not in seen and state is not None:
            seen.add(name)
            waiting += [use.casefold() for use in state.uses]
    return seen


def _names(text: str) -> list[str]:
    return [bare_name(text)] if is_name(text) else [name.name for name in nodes.names(parse(text).tree)]


def _differences(report: str, panel: str, old: Answer, new: Answer, keys: int) -> list[Change]:
    changes = []
    left = (old.totals or old.table).to_pylist()[:1]
    right = (new.totals or new.table).to_pylist()[:1]
    if not left or not right:
        return []
    was, now = (
        {tuple(row.values())[:keys]: tuple(row.values())[keys:] for row in answer.to_dicts()} if keys else {}
        for answer in (old, new)
    )
    renamed = _renamed_groups(was, now)
    for before, after in renamed:
        del was[before], now[after]
    for at, (name, before, value) in enumerate(zip(right[0], left[0].values(), right[0].values(), strict=True)):
        if at < keys:
            continue
        groups = []
        for key in dict.fromkeys([*was, *now]):
            sides = [side[key][at - keys] if key in side else None for side in (was, now)]
            if not _same(*sides) or (key in was) != (key in now):
                groups.append(GroupChange(key, *sides))
        if groups or not _same(before, value) or renamed:
            ordered = tuple(sorted(groups, key=lambda change: -change.size))
            form = new.formats.get(name, "")
            changes.append(Change(report, panel, name, before, value, form, groups=ordered, renamed=renamed))
    return changes


_Groups = dict[tuple[Any, ...], tuple[Any, ...]]


def _renamed_groups(was: _Groups, now: _Groups) -> tuple[tuple[tuple[Any, ...], tuple[Any, ...]], ...]:
    """The groups that went, each with the one that came and has the same figures; only where there is one of each."""
    gone: dict[tuple[Any, ...], list[tuple[Any, ...]]] = {}
    came: dict[tuple[Any, ...], list[tuple[Any, ...]]] = {}
    for side, other, found in ((was, now, gone), (now, was, came)):
        for key, values in side.items():
            if key not in other:
                found.setdefault(values, []).append(key)
    return tuple((keys[0], came[one][0]) for one, keys in gone.items() if len(keys) == 1 == len(came.get(one, ())))


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, float) and isinstance(other, float):
        return abs(one - other) <= 1e-9 * max(abs(one), abs(other))
    return bool(one == other)
