"""What a new state of a source does to reports, as sections: by cause, the largest change first."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from oak_ledger.definition.formats import plain, show
from oak_ledger.present.sections import Section, table_of
from oak_ledger.reference.differences import Difference
from oak_ledger.report import Change

GROUPS = 8  # of a cause, in a terminal


def consequences(changes: Sequence[Change], old: str, new: str) -> list[Section]:
    """The changes by their causes; `old` and `new` name the two states."""
    causes: dict[tuple[str, ...], list[Change]] = {}
    for change in changes:
        if not change.broken:
            causes.setdefault(change.because, []).append(change)
    sections: list[Section] = []
    for because, own in sorted(causes.items(), key=lambda item: -max(_relative(change) for change in item[1])):
        sections += _of_cause(because, own, old, new)
    broken = tuple(_broken(change) for change in changes if change.broken)
    if broken:
        sections.append(Section("Panels that stop or start working", broken))
    return sections


def difference_section(differences: Sequence[Difference], old: str) -> Section:
    """How a definition differs."""
    rows = [(one.entry, one.what, one.before, one.after) for one in differences]
    return Section(
        f"How the definition differs from {old}",
        (),
        table_of(("entry", "what", "before", "now"), rows),
        20,
        "difference",
    )


def _of_cause(because: tuple[str, ...], changes: list[Change], old: str, new: str) -> Iterator[Section]:
    title = f"Because of {', '.join(because)}" if because else "Other changes"
    rows = [
        (
            change.report,
            change.panel,
            change.measure,
            _text(change.before, change.format),
            _text(change.after, change.format),
            _in_words(change),
        )
        for change in sorted(changes, key=_relative, reverse=True)
    ]
    yield Section(
        title, tuple(_renamed(changes)), table_of(("report", "panel", "measure", old, new, "change"), rows, (3, 4, 5))
    )
    every = {(change.measure, group.group, str(group.before), str(group.after)): (change, group) for change in reversed(changes) for group in change.groups if group.group}  # fmt: skip
    pairs = sorted(every.values(), key=lambda pair: -pair[1].size / (abs(_number(pair[0].before)) or 1.0))
    lines = [
        (
            ", ".join("null" if value is None else plain(value) for value in group.group), change.panel, change.measure,
            _text(group.before, change.format, "none"), _text(group.after, change.format, "none"),
            difference(replace(change, before=group.before, after=group.after)),
        )
        for change, group in pairs
    ]  # fmt: skip
    if lines:
        yield Section("  by group, the largest first", (), table_of(("group", "panel", "measure", old, new, "change"), lines, (3, 4, 5)), GROUPS, "group")  # fmt: skip


def _renamed(changes: Sequence[Change]) -> Iterator[tuple[str, str]]:
    """The values that groups had and have, where the figures are the same."""
    pairs: dict[tuple[str, str], None] = {}
    for change in changes:
        for before, after in change.renamed:
            pairs |= {
                (_name(left), _name(right)): None for left, right in zip(before, after, strict=True) if left != right
            }
    if pairs:
        shown = ", ".join(f"{left} → {right}" for left, right in [*pairs][:12])
        more = f" and {len(pairs) - 12} more" if len(pairs) > 12 else ""
        yield f"groups with other names and the same figures: {shown}{more}", ""


def _name(value: Any) -> str:
    return "null" if value is None else plain(value)


def _text(value: Any, format_text: str, missing: str = "null") -> str:
    return missing if value is None else show(value, format_text or "0,000.00")


def _in_words(change: Change) -> str:
    same = (
        difference(change) in ("", "+0.0%", "-0.0%", "+0.00 points", "-0.00 points") and change.before == change.after
    )
    if not same:
        return difference(change)
    return "groups only" if change.groups else "names only" if change.renamed else ""


def difference(change: Change) -> str:
    """By how much a figure changed: a share in points, another number in percent of what it was."""
    before, after = change.before, change.after
    if before is None or after is None or not hasattr(before, "__float__"):
        return ""
    more = float(after) - float(before)
    if "%" in change.format:
        return f"{100 * more:+.2f} points"
    return f"{more / abs(float(before)):+.1%}" if before else ""


def _number(value: Any) -> float:
    return float(value) if hasattr(value, "__float__") else 0.0


def _relative(change: Change) -> float:
    """How large a change is beside the figure itself."""
    return abs(_number(change.after) - _number(change.before)) / (abs(_number(change.before)) or 1.0)


def _broken(change: Change) -> tuple[str, str]:
    said = "works again" if change.after_works else "broken"
    return f"{said}  {change.report}, {change.panel}: {change.broken}", "good" if change.after_works else "bad"
