"""A figure taken apart: its formula with the value of each part, the filters with the rows that each removed, nulls, constants, the rows behind it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from oak_ledger.definition.model import ConstantSpec, FieldSpec, FilterSpec
from oak_ledger.definition.references import joined_by_and
from oak_ledger.engine import Expression, Fault
from oak_ledger.errors import OakError
from oak_ledger.explain.windows import Compared, over_groups, over_rows, windows_of
from oak_ledger.formula import Grain, nodes, parse
from oak_ledger.formula import checked as c
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.source.answer import Answer
from oak_ledger.source.questions import Shown, is_value
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a formula as it is written, and its value."""

    text: str
    value: Any


@dataclass(frozen=True, slots=True)
class Step:
    """A formula with its parts and its value; `name` is the field's, or the measure's."""

    name: str
    formula: str
    parts: tuple[Part, ...]
    value: Any
    format: str = ""


@dataclass(frozen=True, slots=True)
class FilterStep:
    """A condition, and how many rows were left before and after it."""

    text: str
    before: int
    after: int


@dataclass(frozen=True, slots=True)
class Why:
    """A figure and everything that it comes from; `steps` begin with the figure itself, `nulls` has (field, rows), `constants` (name, value)."""

    measure: str
    group: Mapping[str, Any]
    value: Any
    format: str
    steps: tuple[Step, ...]
    filters: tuple[FilterStep, ...]
    rows: int
    nulls: tuple[tuple[str, int], ...]
    constants: tuple[tuple[str, str], ...]
    fields: tuple[str, ...]
    faults: tuple[Fault, ...]
    conditions: tuple[str, ...]
    compared: tuple[Compared, ...] = ()


def why(
    source: Source,
    measure: Shown,
    by: Sequence[Shown] = (),
    group: Sequence[Any] = (),
    *,
    where: str | Sequence[str] | None = None,
) -> Why:
    """Take a figure of a tally apart: that of `measure` in the group with these values of `by` (of all rows without `by`).

    Raises OakError where the tally cannot be asked, or has no such group.
    """
    if len(by) != len(group):
        raise OakError(
            "no-group",
            f"{len(by)} values say which group, not {len(group)}.",
            hint="Give a value for each field of by.",
        )
    planned = source.planned_tally(by, [measure], where=where)
    if planned.query.having:
        raise OakError(
            "group-condition",
            "A figure under a condition on groups is not taken apart.",
            hint="Ask without that condition; its group is the same.",
        )
    asker = source
    source = replace(source, reader=False)  # the question is allowed; its parts may need hidden fields
    shown = planned.query.show[0]
    own = source.compiled.states.get(shown.name.casefold()) if not isinstance(measure, tuple) else None
    steps: list[Step] = []
    answer = _step(
        source,
        Expression(shown.name, _formula(shown, own), _tree(shown, own)),
        by,
        group,
        where,
        steps,
        planned.formats,
    )
    asked = [where] if isinstance(where, str) else where or ()
    whole = asked if asker.reader else conditions_of(source, where)  # what a filter is made of may be hidden
    conditions = [*whole, *(is_value(item, value) for item, value in zip(by, group, strict=True))]
    used = _fields(source, shown.checked)
    rows = [name for name in used if source.state(name).grain == Grain.ROW]
    filters, left = _filters(source, conditions)
    figure = Why(
        shown.name,
        dict(zip([_label(item) for item in by], group, strict=True)),
        steps[0].value,
        planned.formats.get(shown.name, ""),
        tuple(steps),
        tuple(filters),
        left,
        tuple(_nulls(source, rows, conditions)),
        tuple(_constants(source, used)),
        tuple(used),
        tuple({(fault.what, fault.rows): replace(fault, field=shown.name) for fault in answer.faults}.values()),
        tuple(conditions),
        tuple(
            _compared(source, _tree(shown, own), _formula(shown, own), used, by, group, where, conditions, shown.name)
        ),
    )
    return _as_seen(figure, asker) if asker.reader else figure


def _as_seen(figure: Why, asker: Source) -> Why:
    """What a reader sees of it: no value, name or formula of a field that is hidden."""
    hidden = {name for name, state in asker.compiled.states.items() if state.hidden}

    def seen(text: str) -> bool:
        return not any(
            node.name.casefold() in hidden for node in nodes.walk(parse(text).tree) if isinstance(node, nodes.Name)
        )

    steps = tuple(
        replace(
            step,
            formula=step.formula if seen(step.formula) else "",
            parts=tuple(part for part in step.parts if seen(part.text)),
        )
        for step in figure.steps
        if step.name.casefold() not in hidden
    )
    return replace(
        figure,
        steps=steps,
        nulls=tuple(null for null in figure.nulls if null[0].casefold() not in hidden),
        constants=tuple(constant for constant in figure.constants if constant[0].casefold() not in hidden),
        compared=tuple(
            compared.without(hidden)
            for compared in figure.compared
            if seen(compared.text) and compared.name.casefold() not in hidden
        ),
        fields=tuple(field for field in figure.fields if field.casefold() not in hidden),
        faults=tuple(replace(fault, samples=tuple((row, {}) for row, _ in fault.samples)) for fault in figure.faults),
    )


def rows_behind(source: Source, figure: Why, limit: int | None = None) -> Answer:
    """The rows that a figure is made of, with the fields that it needs."""
    return source.rows(fields_behind(source, figure), where=[*figure.conditions], limit=limit)


def fields_behind(source: Source, figure: Why) -> list[str] | None:
    """The fields of rows that a figure needs, as formulas; without hidden ones for who only reads. None where it needs no field."""
    states = [source.state(name) for name in figure.fields]
    shown = [state.name for state in states if state.grain == Grain.ROW and not (source.reader and state.hidden)]
    return [quote_identifier(name) for name in shown] or None


def _label(item: Shown) -> str:
    return item[0] if isinstance(item, tuple) else item


def _formula(shown: Expression, own: Any) -> str:
    """The formula behind a measure: that of a field per group, else the one that was asked."""
    spec = own.spec if own is not None else None
    return spec.formula if isinstance(spec, FieldSpec) and spec.calculated and own.grain == Grain.GROUP else shown.text


def _tree(shown: Expression, own: Any) -> c.TypedNode:
    grouped = own is not None and own.expression is not None and own.grain == Grain.GROUP
    return own.expression.checked if grouped else shown.checked


def _step(
    source: Source,
    asked: Expression,
    by: Sequence[Shown],
    group: Sequence[Any],
    where: str | Sequence[str] | None,
    steps: list[Step],
    formats: Mapping[str, str],
) -> Answer:
    """Add a formula with its parts; a part that is a field per group is taken apart after it."""
    pieces = list(dict.fromkeys(_pieces(asked.checked)))
    texts = list(dict.fromkeys(asked.text[piece.start : piece.end] for piece in pieces))
    names = [f"part {at}" for at in range(len(texts))]
    answer = source.tally(by, [("the figure", asked.text), *zip(names, texts, strict=True)], where=where)
    row = next((row for row in answer.to_dicts() if [*row.values()][: len(by)] == list(group)), None)
    if row is None:
        shown = ", ".join(f"{_label(item)} = {value}" for item, value in zip(by, group, strict=True))
        raise OakError(
            "no-group", f"There is no group with {shown}.", hint="oak tally, or the panel itself, lists the groups."
        )
    parts = [Part(" ".join(text.split()), row[name]) for name, text in zip(names, texts, strict=True)]
    whole = [part for part in parts if part.text != " ".join(asked.text.split())]
    steps.append(
        Step(asked.name, " ".join(asked.text.split()), tuple(whole), row["the figure"], formats.get(asked.name, ""))
    )
    for piece in pieces:
        state = source.compiled.states.get(piece.name.casefold()) if isinstance(piece, c.FieldRef) else None
        if state is None or state.expression is None or not isinstance(state.spec, FieldSpec):
            continue
        if all(step.name != state.name for step in steps):
            inner = Expression(state.name, state.spec.formula, state.expression.checked)
            _step(source, inner, by, group, where, steps, {state.name: state.format})
    return answer


def _pieces(node: c.TypedNode) -> Iterator[c.TypedNode]:
    """The parts of a formula per group that have a value of their own: aggregates, windows, fields per group."""
    if isinstance(node, (c.Aggregate, c.Window, c.Before)) or (
        isinstance(node, c.FieldRef) and node.grain == Grain.GROUP
    ):
        yield node
        return
    for child in c.children(node):
        yield from _pieces(child)


def _compared(
    source: Source,
    shown: c.TypedNode,
    text: str,
    used: Sequence[str],
    by: Sequence[Shown],
    group: Sequence[Any],
    where: str | Sequence[str] | None,
    conditions: Sequence[str],
    name: str,
) -> Iterator[Compared]:
    """What each window of a figure, and of the fields that it needs, is computed from."""
    states = [source.state(one) for one in used if one != name]
    trees = [(state.name, state.expression.checked, state.spec.formula) for state in states if state.expression is not None and isinstance(state.spec, FieldSpec) and state.spec.calculated]  # fmt: skip
    for owner, tree, written in ((name, shown, text), *trees):
        compareds = [
            over_groups(source, owner, node, written, by, group, where) for node in windows_of(tree, Grain.GROUP)
        ]
        compareds += [over_rows(source, owner, node, written, conditions) for node in windows_of(tree, Grain.ROW)]
        yield from (compared for compared in compareds if compared is not None)


def conditions_of(source: Source, where: str | Sequence[str] | None) -> Iterator[str]:
    """The conditions of a filter, one by one where they are joined by AND."""
    for text in [where] if isinstance(where, str) else where or ():
        tree = parse(text).tree
        state = source.compiled.states.get(tree.name.casefold()) if isinstance(tree, nodes.Name) else None
        if state is not None and isinstance(state.spec, FilterSpec):
            text = state.spec.where
        yield from joined_by_and(text)


def _filters(source: Source, conditions: Sequence[str]) -> tuple[list[FilterStep], int]:
    """How many rows each condition leaves, those of the source first."""
    first = source.tally(show=["COUNT(*)"])
    left = int(first.value() or 0)
    steps = []
    if first.rows_read != left:
        names = [model.name for model in source.document.models("filter", FilterSpec) if model.always]
        steps.append(FilterStep(", ".join(names) or "the source's filters", first.rows_read, left))
    for at, text in enumerate(conditions):
        after = int(source.tally(show=["COUNT(*)"], where=[*conditions[: at + 1]]).value() or 0)
        steps.append(FilterStep(text, left, after))
        left = after
    return steps, left


def _fields(source: Source, tree: c.TypedNode) -> list[str]:
    """Every name that a figure needs, directly or through others, nearest first."""
    found: dict[str, None] = {}
    waiting = c.fields_used(tree)
    while waiting:
        name = waiting.pop(0)
        state = source.compiled.states.get(name.casefold())
        if state is not None and state.name not in found:
            found[state.name] = None
            waiting += state.uses
    return list(found)


def _nulls(source: Source, names: Sequence[str], conditions: Sequence[str]) -> Iterator[tuple[str, int]]:
    """The fields that are null in rows behind the figure, with how many."""
    if not names:
        return
    shown = [
        (f"nulls {at}", f"COUNT(*) FILTER (WHERE {quote_identifier(name)} IS NULL)") for at, name in enumerate(names)
    ]
    counts = source.tally(show=shown, where=[*conditions] or None).to_dicts()[0]
    yield from ((name, counts[key]) for name, (key, _) in zip(names, shown, strict=True) if counts[key])


def _constants(source: Source, names: Sequence[str]) -> Iterator[tuple[str, str]]:
    for name in names:
        spec = source.state(name).spec
        if isinstance(spec, ConstantSpec):
            dated = ", ".join(f"{value} from {date}" for date, value in sorted(spec.values.items()))
            yield name, str(spec.value) if spec.value is not None else dated
