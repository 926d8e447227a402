"""Questions of a source made ready: names bound, types and grains checked, measures totalled each in its own way. Nothing is computed here."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from oak_ledger.definition.model import FieldSpec, FilterSpec
from oak_ledger.definition.references import bare_name, is_name, joined_by_and, listed, names_a_field
from oak_ledger.engine import ExecutionStats, Expression, Query, SortBy
from oak_ledger.engine.fill import step_of
from oak_ledger.errors import FormulaError, OakError, Place
from oak_ledger.formula import Formula, Grain, Known, check, parse
from oak_ledger.formula import checked as c
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.names.compiled import ResolvedName, literal_text
from oak_ledger.source.editable import EditableDefinition

Shown = str | tuple[str, str]
"""A field's name, a formula, or a name with a formula."""

REPAIRS = 8  # at most so many, one after the other
# How a measure is totalled unless set otherwise: the formula around the field, and the word for it.
_TOTALS: dict[str, tuple[str, str]] = {
    "sum": ("SUM({})", "sum"),
    "average": ("AVG({})", "average"),
    "median": ("MEDIAN({})", "median"),
    "minimum": ("MIN({})", "minimum"),
    "maximum": ("MAX({})", "maximum"),
    "count": ("COUNT({})", "count"),
    "distinct": ("COUNT(DISTINCT {})", "distinct"),
    "last": ("SUM_AT_LAST({}, {by})", "last"),
    "first": ("SUM_AT_FIRST({}, {by})", "first"),
}


@dataclass(frozen=True, slots=True)
class PlannedTally:
    """A question made ready: the query, the display formats by column, and the fields that are totalled by default."""

    query: Query
    formats: Mapping[str, str]
    summed: tuple[ResolvedName, ...]


_FORMULA, _FILTER = Place("the formula"), Place("the filter")


@dataclass(frozen=True, repr=False)
class Questions(EditableDefinition):
    """What a source can be asked (see `Source`)."""

    def check_formula(
        self, formula: str, *, place: Place = _FORMULA, names: Mapping[str, Known] | None = None
    ) -> Formula:
        """Check a formula against this source's names, and maybe more `names` (in casefold), without computing it; never raises."""
        return check(formula, self.compiled.scope(names, reader=self.reader), place=place)

    def repaired(self, formula: str) -> str:
        """The formula with the repairs that mean what was written, one after the other; as it is where there is none.

        Others are in the findings of `check_formula`, as questions.
        """
        for _ in range(REPAIRS):
            findings = self.check_formula(formula).findings
            fixed = next((finding.fixed for finding in findings if finding.fixed is not None and finding.sure), None)
            if fixed is None or fixed == formula:
                break
            formula = fixed
        return formula

    def _expression(
        self, item: Shown, *, place: Place, names: Mapping[str, Known] | None = None
    ) -> tuple[Expression, ResolvedName | None]:
        """What an item of `by` or `show` asks for, and the field that it names, if it does."""
        name, text = item if isinstance(item, tuple) else (None, item)
        state = None
        if name is None and names_a_field(text, self.compiled.states) and not (self.reader and self.state(text).hidden):
            state = self.state(text)
            if state.expression is None:
                raise FormulaError.of(state.findings)
            kind, grain = state.expression.checked.type, state.grain
            tree: c.TypedNode = c.FieldRef(0, len(text), kind, grain, state.name)
            return Expression(state.spec.name, quote_identifier(state.spec.name), tree), state
        formula = self.check_formula(text, place=place, names=names)
        return Expression(name or " ".join(text.split()), text, formula.require()), state

    def measure(self, item: str) -> Shown:
        """What is asked for, from one text: `Name = formula` is a formula with a name; a comparison of something that has a value stays a formula."""
        name, sign, formula = item.partition("=")
        bare = name.strip().strip('"')
        free = bare.casefold() not in self.compiled.states and all(mark not in bare for mark in "()<>'+*/|\"")
        return (bare, formula.strip()) if sign and bare and free else item

    def conditions(self, where: str | Sequence[str] | None) -> tuple[list[str], list[str]]:
        """Conditions on rows and conditions on groups, apart, also where AND joins them. Raises OakError for one that is wrong."""
        rows: list[str] = []
        groups: list[str] = []
        for text in [where] if isinstance(where, str) else list(where or ()):
            whole = self.check_formula(text)
            pieces = [text]
            if any(finding.code == "grain-mixed" for finding in whole.findings) or _of_groups(whole.checked):
                pieces = [*joined_by_and(text)]
            apart = [(piece, _of_groups(self._expression(piece, place=_FILTER)[0].checked)) for piece in pieces]
            if all(of_groups for _, of_groups in apart):  # nothing to be asked of rows in it
                apart = [(text, True)]
            rows += [piece for piece, of_groups in apart if not of_groups]
            groups += [piece for piece, of_groups in apart if of_groups]
        return rows, groups

    def _having(self, conditions: Sequence[str], names: Mapping[str, Known]) -> list[Expression]:
        """Conditions on groups, each with a value per group that is true or false."""
        expressions = [self._expression(text, place=_FILTER, names=names)[0] for text in conditions]
        for expression in expressions:
            nodes = [*c.walk(expression.checked)]
            if expression.checked.type.kind != "boolean" or any(
                isinstance(node, (c.Window, c.Before)) and node.grain == Grain.GROUP for node in nodes
            ):
                what = (
                    expression.checked.type
                    if expression.checked.type.kind != "boolean"
                    else "one that compares groups with others"
                )
                message = f"A filter on groups is a condition on aggregates; {expression.text} is {what}."
                raise FormulaError(
                    "condition-wanted", message, place=_FILTER.in_text(expression.text, 0, len(expression.text))
                )
        return expressions

    def _filters(self, where: str | Sequence[str] | None) -> list[Expression]:
        asked = [where] if isinstance(where, str) else list(where or ())
        expressions = [self._expression(text, place=_FILTER)[0] for text in asked]
        for expression in expressions:
            if expression.checked.type.kind != "boolean" or expression.checked.grain == Grain.GROUP:
                message = f"A filter is a condition on a row; {expression.text} is {expression.checked.type} per {expression.checked.grain}."
                raise FormulaError(
                    "condition-wanted", message, place=_FILTER.in_text(expression.text, 0, len(expression.text))
                )
        return expressions

    @cached_property
    def _always(self) -> tuple[Expression, ...]:
        """The source's own filters; of a published source they were applied when its rows were published."""
        if self.published is not None:
            return ()
        names = [model.name for model in self.document.models("filter", FilterSpec) if model.always]
        return tuple(self._expression(quote_identifier(name), place=_FILTER)[0] for name in names)

    def planned_rows(
        self,
        show: Sequence[Shown],
        *,
        where: str | Sequence[str] | None = None,
        sort: Sequence[str] = (),
        limit: int | None = None,
        explain: bool = False,
    ) -> PlannedTally:
        """A question for rows with everything checked and nothing computed. Raises OakError for a name or a formula that is wrong."""
        made = [self._expression(item, place=Place("show")) for item in show]
        grouped = next((expression for expression, _ in made if expression.checked.grain == Grain.GROUP), None)
        if grouped is not None:
            raise OakError(
                "grain-mixed",
                f"{grouped.name} has one value per group, not one per row.",
                hint="Ask for it in a tally: oak tally, or source.tally(...).",
            )
        shown = tuple(one for one, _ in made)
        question = Query(
            self.compiled.expressions,
            shown,
            (),
            tuple(self._filters(where)),
            self._always,
            sort=self._sort(sort, shown),
            limit=limit,
            stats=ExecutionStats() if explain else None,
        )
        return PlannedTally(question, {one.name: state.format for one, state in made if state and state.format}, ())

    def planned_tally(
        self,
        by: Sequence[Shown] = (),
        show: Sequence[Shown] = (),
        *,
        where: str | Sequence[str] | None = None,
        sort: Sequence[str] = (),
        limit: int | None = None,
        totals: bool = False,
        fill: str = "",
        explain: bool = False,
    ) -> PlannedTally:
        """A tally with everything checked and nothing computed. Raises OakError for a name or a formula that is wrong."""
        keys = [self._expression(item, place=Place("by")) for item in listed(by)]
        for one, _ in keys:
            if one.checked.grain == Grain.GROUP:
                raise OakError(
                    "grain-mixed", f"{one.name} has one value per group; group by something that each row has."
                )
        named = {
            one.name: one
            for one, state in keys
            if state is None and one.name.casefold() not in self.compiled.states and is_name(quote_identifier(one.name))
        }
        names = {name.casefold(): Known(name, one.checked.type, Grain.ROW) for name, one in named.items()}
        shown, summed = [], []
        for item in listed(show) or ["COUNT(*)"]:
            expression, state = self._expression(item, place=Place("show"), names=names)
            if expression.checked.grain == Grain.ROW:
                expression, state = self._default_aggregate(expression, state, names)
                summed += [state] if state is not None else []
            shown.append((expression, state))
        columns = (*(one for one, _ in keys), *(one for one, _ in shown))
        of_rows, of_groups = self.conditions(where)
        question = Query(
            {**self.compiled.expressions, **named},
            tuple(one for one, _ in shown),
            tuple(one for one, _ in keys),
            tuple(self._filters(of_rows)),
            self._always,
            having=tuple(self._having(of_groups, names)),
            grouped=True,
            sort=self._sort(sort, columns),
            limit=limit,
            totals=totals,
            fill=fill,
            stats=ExecutionStats() if explain else None,
        )
        self._check_windows(question)
        _check_fill(question)
        formats = {one.name: state.format for one, state in (*keys, *shown) if state and state.format}
        return PlannedTally(question, formats, tuple(summed))

    def _check_windows(self, question: Query) -> None:
        """A window over groups partitions and orders by what the answer is grouped by."""
        names = {expression.name for expression in question.by}
        for expression in question.show:
            for node in c.walk(expression.checked):
                if isinstance(node, c.Window) and node.grain == Grain.GROUP:
                    keys = [*node.partition, *(key.key for key in node.order)]
                    used = [piece for key in keys if key.grain == Grain.ROW for piece in c.walk(key)]
                    stray = next(
                        (node.name for node in used if isinstance(node, c.FieldRef) and node.name not in names), None
                    )
                    if stray is not None:
                        message = f"{expression.name} partitions or orders groups by {stray}, which the answer is not grouped by."
                        raise OakError(
                            "window-key", message, hint=f"Group by {stray} as well, or leave it out of the window."
                        )

    def _default_aggregate(
        self, expression: Expression, state: ResolvedName | None, names: Mapping[str, Known]
    ) -> tuple[Expression, ResolvedName | None]:
        """A value per row as a value per group, by the field's own way of being totalled."""
        asked = state.spec.total if state is not None and isinstance(state.spec, FieldSpec) else None
        kind = expression.checked.type
        if asked == "none" or (asked is None and not kind.numeric):
            raise OakError(
                "not-totalled",
                f"{expression.name} is {kind} and cannot be totalled.",
                hint=f"Group by it, or say how: COUNT(DISTINCT {expression.text}), MIN({expression.text}), …",
            )
        pattern, word = _TOTALS[asked or "sum"]
        by = state.spec.total_by if state is not None and isinstance(state.spec, FieldSpec) else ""
        text = pattern.format(expression.text, by=quote_identifier(by) if by else "")
        node = self.check_formula(text, place=Place(name=expression.name), names=names).require()
        name = expression.name if word == "sum" else f"{expression.name}, {word}"
        return Expression(name, text, node), state

    def _sort(self, sort: Sequence[str], columns: Sequence[Expression]) -> tuple[SortBy, ...]:
        bies = []
        for key in listed(sort):
            name = key.removeprefix("-")
            wanted = {name.casefold(), bare_name(name).casefold()}
            found = next((column.name for column in columns if column.name.casefold() in wanted), None)
            found = found or next(
                (column.name for column in columns if column.name.casefold().partition(", ")[0] in wanted), None
            )
            if found is None:
                names = [column.name for column in columns]
                raise OakError(
                    "unknown-sort",
                    f"The answer has no column {name!r} to sort by.",
                    hint=nearest_hint(name, names, str) or f"It has {', '.join(names)}.",
                    place=Place(text=name, start=0, end=len(name)),
                )
            bies.append(SortBy(found, key.startswith("-")))
        return tuple(bies)


FILLS = ("null", "zero")


def _check_fill(question: Query) -> None:
    """Dates without rows are put in where one of the keys is a date, whose step is known."""
    if not question.fill:
        return
    if question.fill not in FILLS:
        raise OakError("wrong-value", f"Dates without rows have {' or '.join(FILLS)}, not {question.fill!r}.")
    steps = [step_of(expression, question.fields) for expression in question.by]
    if sum(map(bool, steps)) != 1:
        what = "none of the keys is a date" if not any(steps) else "more than one of the keys is a date"
        hint = "Group by a date, or by one that is cut off: DATE_TRUNC('month', Day)."
        raise OakError("fill-date", f"Dates without rows can be put in for one date, and {what}.", hint=hint)


def _of_groups(tree: c.TypedNode | None) -> bool:
    return tree is not None and tree.grain == Grain.GROUP


def is_value(item: Shown, value: Any) -> str:
    """That a field or a formula has a value."""
    text = f"({item[1]})" if isinstance(item, tuple) else item
    text = text if isinstance(item, tuple) or not parse(text).findings else quote_identifier(text)
    return f"{text} IS NULL" if value is None else f"{text} = {literal_text(value)}"
