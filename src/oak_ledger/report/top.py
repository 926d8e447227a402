"""The first groups of a question, and all others together as one more."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from oak_ledger.definition.references import bare_name
from oak_ledger.engine import Expression
from oak_ledger.errors import OakError
from oak_ledger.formula import checked as c
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.source.answer import Answer
from oak_ledger.source.questions import Shown, is_value
from oak_ledger.source.source import Source
from oak_ledger.types import Grain

REST = "beyond the limit"


def label(item: Shown) -> str:
    """What a column of an answer is called."""
    return item[0] if isinstance(item, tuple) else bare_name(item)


def sort_within(source: Source, sort: Sequence[str], question: Mapping[str, Any], head: slice) -> list[str]:
    """The sort keys that an answer has which is grouped by some of the keys only."""
    others = {label(item).casefold() for item in question["by"]} - {label(item).casefold() for item in question["by"][head]}  # fmt: skip
    return [key for key in sort if bare_name(key.removeprefix("-")).casefold() not in others]


def filtered_by(conditions: Sequence[str] | None) -> tuple[str, ...]:
    """A line that names the filters in force; none without any."""
    said = ", ".join(bare_name(condition) for condition in conditions or ())
    return (f"filtered by {said}",) if said else ()


@dataclass(frozen=True, slots=True)
class Top:
    """`answer` has the groups whose head keys are among the first; `heads` those alone, in order; `rest` the others as one: (value of the key that is not limited, measures).

    `left` counts the heads beyond the limit.
    """

    answer: Answer
    heads: Answer
    rest: tuple[tuple[Any, tuple[Any, ...]], ...]
    left: int
    limit: int | None
    keys: tuple[Shown, ...]
    filters: tuple[str, ...]

    @staticmethod
    def of(source: Source, question: Mapping[str, Any], head: slice, spec: PanelSpec, *, split: bool = False) -> Top:
        """Ask a question, limited to the first groups by the keys in `head`; the rest is split by the other keys, or one alone.

        Raises OakError where it cannot be asked."""
        by, shown, where = question["by"], question["show"], question["where"]
        if source.conditions(where)[1] and (spec.limit is not None or spec.subtotals):
            message = "A condition on groups goes with neither limit nor subtotals: of which groups would it be?"
            raise OakError("group-condition", message, hint="Leave one of them out.")
        keys = tuple(by[head])
        whole = len(keys) == len(by)
        if not keys:  # lines without a second field: nothing to limit
            answer = source.tally(by, shown, where=where, fill=question.get("fill", ""))
            return Top(answer, answer, (), 0, None, (), tuple(where or ()))
        fill = question.get("fill", "") if whole else ""
        heads = source.tally(keys, shown, where=where, sort=sort_within(source, question["sort"], question, head), limit=spec.limit, fill=fill)  # fmt: skip
        left = max((heads.groups or 0) - heads.table.num_rows, 0)
        top = Top(heads, heads, (), left, spec.limit, keys, tuple(where or ()))
        if whole:
            answer = heads
        else:
            sort = question["sort"] if head.start == 0 else ()
            answer = top.only_first(source.tally(by, shown, where=where, sort=sort, fill=question.get("fill", "")))
        rest: tuple[tuple[Any, tuple[Any, ...]], ...] = ()
        if spec.rest and left:
            other = [item for item in by if item not in keys] if split else []
            rest = _rest(source, question, other, top.condition())
        return Top(answer, heads, rest, left, spec.limit, keys, tuple(where or ()))

    def condition(self) -> str:
        """That a row belongs to the first groups."""
        parts = [" AND ".join(is_value(item, value) for item, value in zip(self.keys, group, strict=True)) for group in self._groups()]  # fmt: skip
        return " OR ".join(f"({part})" for part in parts)

    def only_first(self, answer: Answer) -> Answer:
        """The groups of an answer whose head keys are among the first. All were asked for, since a window over the groups is over all of them."""
        if not self.left:
            return answer
        first = {_comparable(group) for group in self._groups()}
        keys = [answer.table.column(label(item)).to_pylist() for item in self.keys]
        kept = [at for at, one in enumerate(zip(*keys, strict=True)) if _comparable(one) in first]
        return replace(answer, table=answer.table.take(kept))

    def _groups(self) -> list[list[Any]]:
        """The first groups by the head keys."""
        return [[*row.values()][: len(self.keys)] for row in self.heads.to_dicts()]

    @property
    def rest_label(self) -> str:
        """What the rest is called."""
        return "the other one" if self.left == 1 else f"the other {self.left:,}"

    def notes(self) -> tuple[str, ...]:
        """What is left out, and which filters are in force."""
        said = [*filtered_by(self.filters)]
        if self.left and not self.rest:
            said.append(f"the first {self.heads.table.num_rows:,} of {self.heads.table.num_rows + self.left:,}")
        return tuple(said)


def _comparable(values: Sequence[Any]) -> tuple[Any, ...]:
    """The keys of a group; not a number is equal to itself."""
    return tuple("NaN" if value != value else value for value in values)


def rest_key(condition: str) -> tuple[str, str]:
    """What the rest is grouped by: whether a row is in none of the first groups."""
    return REST, f"({condition}) IS NOT TRUE"


def _rest(source: Source, question: Mapping[str, Any], other: Sequence[Shown], condition: str) -> tuple[tuple[Any, tuple[Any, ...]], ...]:  # fmt: skip
    """The groups beyond the limit as one. A measure that compares groups with each other has no value for it."""
    where = question["where"]
    planned = source.planned_tally(question["by"], question["show"], where=where)
    kept = [at for at, expression in enumerate(planned.query.show) if not compares_groups(source, expression)]
    answer = source.tally([rest_key(condition), *other], [question["show"][at] for at in kept] or ["COUNT(*)"], where=where, fill=question.get("fill", "") if other else "")  # fmt: skip
    found = []
    for row in answer.to_dicts():
        values = [*row.values()]
        if values[0]:
            own = dict(zip(kept, values[1 + len(other) :], strict=False))
            found.append((values[1] if other else None, tuple(own.get(at) for at in range(len(planned.query.show)))))
    return tuple(found)


def compares_groups(source: Source, expression: Expression) -> bool:
    """Whether a measure is a window over groups other than the sum of all: its value depends on how many groups there are, or on their order."""
    waiting: list[c.TypedNode] = [expression.checked]
    while waiting:
        for node in c.walk(waiting.pop()):
            if isinstance(node, c.Window) and node.grain == Grain.GROUP and not _sum_of_all(node):
                return True
            if isinstance(node, c.FieldRef) and node.grain == Grain.GROUP:
                own = source.state(node.name).expression
                waiting += [own.checked] if own is not None else []
    return False


def _sum_of_all(window: c.Window) -> bool:
    """Whether a window adds up a sum or a count over all groups, however the rows are grouped."""
    inner = window.args[0] if window.args else None
    plain = isinstance(inner, c.Aggregate) and inner.function.name in ("SUM", "COUNT") and not inner.distinct
    return window.function.name == "SUM" and plain and not (window.partition or window.order or window.where)
