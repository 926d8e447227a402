"""Checked trees over one batch of rows (or one table of groups) to arrays."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from types import MappingProxyType
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import (
    Mask,
    arrow_type,
    dictionary_decode,
    from_numpy,
    from_values,
    numpy_view,
    scalar,
    to_mask,
)
from oak_ledger.engine.deadline import in_time
from oak_ledger.engine.dictionary import DictionaryProduct, days_in_codes, is_dictionary
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.lookup import KeyLookup
from oak_ledger.engine.stats import ExecutionStats
from oak_ledger.formula import checked as c
from oak_ledger.functions.registry import MISSING, CallContext
from oak_ledger.types import Grain


@dataclass(frozen=True, slots=True, eq=False)
class Expression:
    """A named formula ready to be computed: a field of the source, or one that a question brings."""

    name: str
    text: str
    checked: c.TypedNode


Fields = Mapping[str, Expression]


def needed(
    fields: Fields,
    wanted: Sequence[c.TypedNode],
    known: Container[c.TypedNode] = (),
    in_branches: Container[str] | None = None,
) -> list[str]:
    """Every field that the formulas need, directly or through others, each after those that it needs itself.

    Those are left out that only pieces need whose values are `known`, and those among `in_branches` that only branches of a choice need.
    """

    def used(tree: c.TypedNode) -> list[str]:
        if in_branches is None:
            return c.fields_used(tree, known)
        always = dict.fromkeys(piece.name for piece in c.walk(tree, known, branches=False) if isinstance(piece, c.FieldRef))  # fmt: skip
        return [name for name in c.fields_used(tree, known) if name in always or name not in in_branches]

    order: dict[str, None] = {}
    for tree in wanted:
        waiting = [(name, False) for name in used(tree)]
        while waiting:
            name, done = waiting.pop()
            if name in order:
                continue
            if done:
                order[name] = None
                continue
            waiting.append((name, True))
            inner = used(fields[name].checked)
            waiting.extend((one, False) for one in inner if one not in order)
    return list(order)


def may_fault(fields: Fields, names: Sequence[str]) -> set[str]:
    """Those of some fields, each after those that it needs, whose values may fault, by themselves or through others."""
    found: set[str] = set()
    for name in names:
        tree = fields[name].checked
        if c.can_fault(tree) or any(used in found for used in c.fields_used(tree)):
            found.add(name)
    return found


def columns_read(fields: Fields, wanted: Sequence[c.TypedNode], known: Container[c.TypedNode] = ()) -> list[str]:
    """The columns that the formulas read, each once, beside what is `known`."""
    trees = [*wanted, *(fields[name].checked for name in needed(fields, wanted, known))]
    rng = (piece.column for tree in trees for piece in c.walk(tree, known) if isinstance(piece, c.ColumnRef))
    return list(dict.fromkeys(rng))


@dataclass(frozen=True, slots=True)
class Once:
    """A function over the combinations of its arguments' values: the results, and what went wrong where."""

    dictionaries: Sequence[Any]
    made: Any
    wrong: Sequence[tuple[str, Mask]]


@dataclass(slots=True)
class Evaluator:
    """Computes formulas over one batch; what a field gave is kept, so that it is computed once.

    `rows` are the batch's row numbers in the whole input, from 0. `known` holds what is given: the values of fields
    (in a table of groups: the keys); `aggregates` those of aggregates; `windows` those of windows, over the whole input.
    """

    fields: Fields
    columns: Mapping[str, Any]
    rows: Rows
    faults: Faults
    known: dict[str, Any] = field(default_factory=dict)
    aggregates: Mapping[c.Aggregate, Any] = field(default_factory=dict)
    windows: Mapping[c.Window, Any] = field(default_factory=dict)
    before: Mapping[c.TypedNode, KeyLookup] = field(default_factory=dict)
    group_keys: Sequence[Any] = ()
    """In a table of groups: what it is grouped by."""
    base: int = 0
    """The number of the first row in the whole input, where windows need it; `rows` count from here."""

    shared: Mapping[c.TypedNode, int] = field(default_factory=dict)
    """Pieces that occur more than once, by the number that equal ones share; `common` keeps their values."""
    common: dict[int, Any] = field(default_factory=dict)
    once: dict[c.Call, Once] = field(default_factory=dict)
    """What functions gave that were computed once per distinct value; slices whose values are the same take it from here."""
    constants: dict[c.Constant, Any] = field(default_factory=dict)
    """Constants as Arrow's scalars, made once for all slices."""
    stats: ExecutionStats | None = None
    faulting: Container[str] = ()
    """Fields that may fault: what only a branch of a choice needs of them is computed for the branch's rows."""

    @property
    def length(self) -> int:
        """How many rows there are."""
        return len(self.rows)

    def array(self, value: Any) -> Any:
        """The value with one item a row; it may still be coded."""
        return pa.repeat(value, self.length) if isinstance(value, pa.Scalar) else value

    def plain(self, value: Any) -> Any:
        """The values themselves, one a row."""
        return dictionary_decode(self.array(value))

    def prepare(self, names: Sequence[str], released: Mapping[str, Sequence[str]] = MappingProxyType({})) -> None:
        """Compute fields in the order given (see `needed`), so that no chain of them is followed by recursion.

        `released` says which values are needed no more once a field is computed.
        """
        for name in names:
            if self.stats is not None and name not in self.known:
                rows = 0 if "\0" in name else self.length  # the inner steps of reading a field are part of it
                with self.stats.timed("field", self.fields[name].name, rows=rows):
                    self.field_value(name)
            self.field_value(name)
            for one in released.get(name, ()):
                self.known.pop(one, None)

    def field_value(self, name: str) -> Any:
        """The values of a field."""
        if name not in self.known:
            expression = self.fields[name]
            self.known[name] = self.value(expression.checked, expression)
        return self.known[name]

    def compute(self, expression: Expression) -> Any:
        """The values of a formula, one a row."""
        return self.plain(self.value(expression.checked, expression))

    def coded(self, expression: Expression) -> Any:
        """The values of a formula, one a row; codes and a dictionary where they are held so."""
        return self.array(self.value(expression.checked, expression))

    def value(self, node: c.TypedNode, owner: Expression) -> Any:
        """The values of a piece: an array, maybe coded, or a scalar for a constant. Left-leaning chains are not recursed into."""
        in_time()
        spine: list[c.Call] = []
        made: Any = None
        while isinstance(node, c.Call) and node.args:
            made = self.common.get(self.shared[node]) if node in self.shared else None
            if made is not None:
                break
            spine.append(node)
            node = node.args[0]
        value = self.leaf(node, owner) if made is None else made
        for step in reversed(spine):
            value = self.apply(step, self.arguments(step, value, owner), owner)
            if step in self.shared:
                self.common[self.shared[step]] = value
        return value

    def arguments(self, node: c.Call, first: Any, owner: Expression) -> list[Any]:
        """The values of a function's arguments; one that can fault is computed only for the rows that those before it leave open."""
        values, settled = [first], node.function.settled
        for arg in node.args[1:]:
            if settled is None or not self.counts_rows(arg):
                values.append(self.value(arg, owner))
                continue
            open_rows = ~np.any([to_mask(settled(self.plain(value))) for value in values], axis=0)
            values.append(self.branch_value(arg, open_rows, owner))
        return values

    def leaf(self, node: c.TypedNode, owner: Expression) -> Any:
        """The values of a piece that is not a function."""
        if isinstance(node, c.Constant):
            if node not in self.constants:
                self.constants[node] = scalar(node.value, node.type)
            return self.constants[node]
        if isinstance(node, c.FieldRef):
            return self.field_value(node.name)
        if isinstance(node, c.ColumnRef):
            return self.columns[node.column]
        if isinstance(node, c.Case):
            return self.choose(node, owner)
        if isinstance(node, c.Aggregate):
            return self.aggregates[node]
        if isinstance(node, c.Window):
            return self._of_window(self.windows[node])
        if isinstance(node, c.Before):
            keys = [self.plain(self.value(key, owner)) for key in node.keys] or self.group_keys
            return self.before[node].find(keys, self.length)
        if isinstance(node, c.Level):
            return self.before[node].find(self.group_keys, self.length)
        raise TypeError(type(node))

    def _of_window(self, values: Any) -> Any:
        """A window's values for these rows of the whole input."""
        if self.length and self.rows[-1] - self.rows[0] == self.length - 1:
            return values.slice(self.base + int(self.rows[0]), self.length)
        return values.take(from_numpy(self.rows + self.base))

    def apply(self, node: c.Call, values: list[Any], owner: Expression) -> Any:
        """One function over the values of its arguments."""
        varying = [index for index, value in enumerate(values) if not isinstance(value, pa.Scalar)]
        if not varying:
            values[0] = self.array(values[0])
        else:
            if len(varying) == 1 and node.function.costly:
                values[varying[0]] = days_in_codes(values[varying[0]])
            coded = [values[index] for index in varying if is_dictionary(values[index])]
            if len(coded) == len(varying) and DictionaryProduct.pays(coded, self.length):
                return self.apply_once(node, values, varying, owner)
        values = [value if isinstance(value, pa.Scalar) else dictionary_decode(value) for value in values]

        def record(what: str, mask: Mask) -> None:
            at = np.flatnonzero(mask)
            self.faults.record(owner.name, what, self.rows[at], partial(_inputs_at, node, values, owner, at))

        return node.function.run(self.run_of(node, self.length, record), *values)

    def apply_once(self, node: c.Call, values: list[Any], varying: Sequence[int], owner: Expression) -> Any:
        """One function once per combination of its arguments' distinct values; the results are gathered."""
        crossed = DictionaryProduct([values[index] for index in varying])
        if self.stats is not None:
            self.stats.add("field", owner.name, note="once per distinct value")
        last = self.once.get(node)
        if last is None or not crossed.same(last.dictionaries):
            last = self.once[node] = self.each_once(node, values, varying, crossed)
        for what, mask in last.wrong:
            at = np.flatnonzero(mask[crossed.codes])
            inputs = partial(_inputs_at, node, values, owner, at)
            self.faults.record(owner.name, what, self.rows[at], inputs)
        return crossed.gathered(last.made, keep=pa.types.is_string(last.made.type))

    def each_once(self, node: c.Call, values: list[Any], varying: Sequence[int], crossed: DictionaryProduct) -> Once:
        """One function over combinations of values."""
        once = list(values)
        for index, argument in zip(varying, crossed.arguments(), strict=True):
            once[index] = argument
        wrong: list[tuple[str, Mask]] = []
        length = len(once[varying[0]])
        made = node.function.run(self.run_of(node, length, lambda what, mask: wrong.append((what, mask))), *once)
        return Once(crossed.dictionaries, pa.repeat(made, length) if isinstance(made, pa.Scalar) else made, wrong)

    def run_of(self, node: c.Call, length: int, record: Any) -> CallContext:
        """What the implementation knows."""
        constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
        return CallContext(length, [arg.type for arg in node.args], node.type, constants, record, node.extra)

    def choose(self, node: c.Case, owner: Expression) -> Any:
        """Branches in order; a branch that can fault is computed only for the rows that take it."""
        open_rows = np.ones(self.length, np.bool_)
        taken: list[tuple[Mask, c.TypedNode]] = []
        for branch in node.branches:
            if isinstance(branch.condition, c.Constant):
                holds = open_rows.copy() if branch.condition.value is True else np.zeros(self.length, np.bool_)
            else:
                holds = self.holding(branch.condition, owner, open_rows)
            taken.append((holds, branch.value))
            open_rows &= ~holds
        taken.append((open_rows, node.otherwise))
        if all(isinstance(value, c.Constant) for _, value in taken):
            return self.chosen_constants(node, taken)
        made: Any = None
        for mask, value in reversed([one for one in taken if one[0].any()]):
            if isinstance(value, c.Constant):
                branch = pa.scalar(value.value, arrow_type(node.type))
            else:
                branch = dictionary_decode(self.branch_value(value, mask, owner))
            made = self.array(branch) if made is None else pc.if_else(from_numpy(mask), branch, made)
        return pa.nulls(self.length, arrow_type(node.type)) if made is None else made

    def chosen_constants(self, node: c.Case, taken: Sequence[tuple[Mask, c.TypedNode]]) -> Any:
        """A choice among constants: the number of the branch is a code."""
        values = from_values([one.value for _, one in taken if isinstance(one, c.Constant)], node.type)
        if len(taken) == 2:
            codes: Any = taken[1][0].view(np.int8)
        else:
            small = np.int8 if len(taken) < 128 else np.int32
            codes = np.zeros(self.length, small)
            for at, (mask, _) in enumerate(taken[1:], 1):
                codes += mask * small(at)  # the masks do not overlap
        if node.type.kind in ("number", "integer") and not values.null_count:
            return from_numpy(np.take(numpy_view(values), codes))
        if node.type.kind == "text" and not values.null_count:
            return pa.DictionaryArray.from_arrays(from_numpy(codes), values, safe=False)
        return values.take(from_numpy(codes))

    def holding(self, node: c.TypedNode, owner: Expression, open_rows: Mask) -> Mask:
        """Where a condition holds among some of the rows; one that can fault is computed only for them."""
        if open_rows.all() or not self.counts_rows(node):
            return to_mask(self.plain(self.value(node, owner))) & open_rows
        holds = np.zeros(self.length, np.bool_)
        at = np.flatnonzero(open_rows)
        holds[at] = to_mask(self.only(at).compute_branch(node, owner))
        return holds

    def branch_value(self, node: c.TypedNode, mask: Mask, owner: Expression) -> Any:
        """The values of a branch; rows outside the mask hold anything."""
        if mask.all() or not self.counts_rows(node):
            return self.value(node, owner)
        if not mask.any():
            return pa.scalar(None, arrow_type(node.type))
        at = np.flatnonzero(mask)
        part = self.only(at).compute_branch(node, owner)
        back = np.zeros(self.length, np.int64)
        back[at] = np.arange(len(at))
        return part.take(from_numpy(back))

    def counts_rows(self, node: c.TypedNode) -> bool:
        """Whether it matters for which rows a branch is computed: it may fault, or needs a field that does and is not computed yet."""
        return c.can_fault(node) or any(
            name in self.faulting and name not in self.known for name in c.fields_used(node)
        )

    def compute_branch(self, node: c.TypedNode, owner: Expression) -> Any:
        """The values of a branch, with the fields that nothing but branches need."""
        given = ChainMap[Any, Any](self.windows, self.aggregates, self.before)  # type: ignore[arg-type]
        self.prepare([name for name in needed(self.fields, [node], given) if name not in self.known])
        return self.compute(Expression(owner.name, owner.text, node))

    def only(self, at: Rows) -> Evaluator:
        """The same over some of the rows."""
        index = from_numpy(at)

        def some(values: Mapping[Any, Any]) -> dict[Any, Any]:
            return {one: value if isinstance(value, pa.Scalar) else value.take(index) for one, value in values.items()}

        return replace(
            self,
            columns=some(self.columns),
            rows=self.rows[at],
            known=some(self.known),
            aggregates=some(self.aggregates),
            group_keys=[key.take(index) for key in self.group_keys],
            common=some(self.common),
        )


def _inputs_at(node: c.Call, values: Sequence[Any], owner: Expression, rows: Rows, index: int) -> dict[str, Any]:
    """What went into one of some rows of a function, by its text in the formula."""
    row = int(rows[index])
    found: dict[str, Any] = {}
    for arg, value in zip(node.args, values, strict=True):
        if not isinstance(arg, c.Constant):
            text = owner.text[arg.start : arg.end] or owner.name
            found[text] = value.as_py() if isinstance(value, pa.Scalar) else value[row].as_py()
    return found


def is_grouped(node: c.TypedNode) -> bool:
    """Whether a formula has a value per group."""
    return node.grain == Grain.GROUP
