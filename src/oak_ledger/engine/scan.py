"""One scan of the rows: batches read, filtered and worked on by several threads, with results and faults in the rows' order."""

from __future__ import annotations

import time
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Generic, Protocol, TypeVar

import numpy as np
import pyarrow as pa

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine.cse import common_subexpressions
from oak_ledger.engine.deadline import in_time
from oak_ledger.engine.evaluate import Evaluator, Expression, Once, columns_read, may_fault, needed
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.options import ExecutionOptions, options
from oak_ledger.engine.pool import ordered
from oak_ledger.engine.pushdown import (
    LateColumns,
    PushedPredicate,
    can_read_some,
    has_statistics,
    pruning_predicate,
    pushed_predicates,
)
from oak_ledger.engine.stats import ExecutionStats, timed
from oak_ledger.errors import UnusableInput
from oak_ledger.formula import checked as c
from oak_ledger.types import Grain, Type

Made = TypeVar("Made")
Fragment = Callable[[], Iterable[pa.RecordBatch]]
"""Some of the rows, one batch after the other, read when they are asked for, by whichever thread asks."""
SMALL_SHARE = 8  # a batch is small that has at most one of so many parts of a slice's rows


class Reader(Protocol):
    """Where rows come from. It may also have `fragments`: the same rows in parts that several threads can read (see also `pushdown.HasStatistics`)."""

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows in order, with at least these columns, in batches of any size."""


def fragments_of(reader: Reader, columns: Sequence[str]) -> Iterator[Fragment]:
    """The rows of a reader in fragments; those of a reader that has none are read here, one batch each."""
    own = getattr(reader, "fragments", None)
    if own is not None:
        yield from own(columns)
        return
    for batch in reader.batches(columns):
        yield partial(iter, (batch,))


@dataclass(slots=True)
class _Slice(Generic[Made]):
    """What came of some rows: the result, how many were read and used, what faulted (rows counted from the fragment's first)."""

    result: Made | None
    read: int
    used: int
    faults: Faults


@dataclass(frozen=True, slots=True)
class _Plan:
    """What is computed of each slice, and in which order."""

    columns: Sequence[str]
    filter_columns: Sequence[str]
    kept_columns: Sequence[str]
    """Those that are needed once rows are filtered."""
    predicates: Sequence[PushedPredicate]
    for_filters: Sequence[str]
    """Fields that filters need, and those that are needed for what is wanted."""
    for_results: Sequence[str]
    released: Mapping[str, Sequence[str]]
    """The fields whose values are needed no more, once a field is computed."""
    common: Mapping[c.TypedNode, int]
    faulting: Container[str]


@dataclass(slots=True)
class Scan:
    """One scan of the rows for some formulas."""

    fields: Mapping[str, Expression]
    filters: Sequence[Expression]
    wanted: Sequence[Expression]
    windows: Mapping[c.Window, Any] = field(default_factory=dict)
    """The values of row windows, over the whole input."""
    before: Mapping[c.TypedNode, Any] = field(default_factory=dict)
    starts: Sequence[int] | None = None
    """Where each fragment begins, known from an earlier scan; windows need it."""
    limit: int | None = None
    """So many rows are enough: no more are computed (without threads only), and what goes wrong in others is not reported."""
    stats: ExecutionStats | None = None
    operator: tuple[str, str] = ("rows", "")
    """What the work is called in the statistics."""
    options: ExecutionOptions = field(default_factory=options)
    once: dict[c.Call, Once] = field(default_factory=dict)
    constants: dict[c.Constant, Any] = field(default_factory=dict)
    rows_read: int = 0
    rows_used: int = 0
    found_starts: list[int] = field(default_factory=list)

    def run(
        self, reader: Reader, work: Callable[[Evaluator], Made], faults: Faults, *, lazily: bool = False
    ) -> Iterator[Made]:
        """The result of `work` for each slice, in order. `lazily`: nothing is done before it is asked for."""
        plan = self._plan()
        self.rows_read = self.rows_used = 0
        numbered = enumerate(fragments_of(reader, plan.columns))
        if lazily:
            done: Iterator[Iterable[_Slice[Made]]] = (self._slices(plan, work, *one) for one in numbered)
        else:
            done = ordered(lambda one: [*self._slices(plan, work, *one)], numbered, self.options.threads)
        for fragment in done:
            start = self.rows_read
            if self.starts is not None and start not in self.starts[len(self.found_starts) :][:1]:
                message = "The rows came in another way when they were read again; nothing of what was read is used."
                raise UnusableInput("file-changed", message, hint="Ask again once nothing is written there.")
            self.found_starts.append(start)
            for part in fragment:
                faults.absorb(part.faults, start)
                self.rows_read += part.read
                self.rows_used += part.used
                if part.result is not None:
                    yield part.result

    def _plan(self) -> _Plan:
        filters, trees = (
            [filter_.checked for filter_ in self.filters],
            [expression.checked for expression in self.wanted],
        )
        every = needed(self.fields, [*filters, *trees], self.windows)
        faulting = may_fault(self.fields, every)
        for_filters = needed(self.fields, filters[:1], self.windows, faulting)
        later = needed(
            self.fields, filters[1:], self.windows, faulting
        )  # a later filter is for rows that are still there
        for_filters += [name for name in later if name not in faulting and name not in for_filters]
        for_results = needed(self.fields, trees, self.windows, faulting)
        for_results = [name for name in for_results if self.fields[name].checked.grain != Grain.GROUP]
        in_branches = [name for name in every if name not in for_results and name not in for_filters]
        owners = [*self.filters, *self.wanted, *(self.fields[name] for name in {*for_filters, *for_results})]
        return _Plan(
            columns_read(self.fields, [*filters, *trees], self.windows),
            columns_read(self.fields, filters, self.windows),
            columns_read(self.fields, trees, self.windows),
            pushed_predicates(self.fields, self.filters),
            for_filters,
            for_results,
            _released(self.fields, for_results, [*trees, *(self.fields[name].checked for name in in_branches)]),
            common_subexpressions(owners),
            faulting,
        )

    def _slices(
        self, plan: _Plan, work: Callable[[Evaluator], Made], number: int, fragment: Fragment
    ) -> Iterator[_Slice[Made]]:
        """The slices of a fragment, one after the other."""
        pruned = pruning_predicate(plan.predicates, fragment)
        if pruned is not None and has_statistics(fragment):
            if self.stats is not None:
                note = "what the file says of its parts rules these out"
                self.stats.add("not read", pruned.text, rows=fragment.rows, note=note)
            yield _Slice(None, fragment.rows, 0, Faults())
            return
        base, begin = self.starts[number] if self.starts is not None and number < len(self.starts) else 0, 0
        later: LateColumns | None = None
        if 0 < len(plan.filter_columns) < len(plan.columns) and can_read_some(fragment):
            later = LateColumns(fragment, [name for name in plan.columns if name not in plan.filter_columns])
            fragment = partial(fragment.some, plan.filter_columns)
        for batch in self._read(fragment):
            evaluator = self._evaluator(plan, batch, begin, base)
            begin += batch.num_rows
            part: _Slice[Made] = _Slice(None, batch.num_rows, 0, evaluator.faults)
            evaluator = self._filtered(plan, evaluator)
            if not evaluator.length:
                yield part
                continue
            if later is not None:
                with timed(self.stats, "read", ", ".join(later.names[:8]), rows=evaluator.length):
                    evaluator.columns = {**evaluator.columns, **later.rows(evaluator.rows)}
            if self.limit is not None and evaluator.length > self.limit - self.rows_used:
                evaluator = evaluator.only(np.arange(self.limit - self.rows_used))
            part.used = evaluator.length
            evaluator.prepare(plan.for_results, plan.released)
            with timed(self.stats, *self.operator, rows=part.used):
                part.result = work(evaluator)
            yield part

    def _read(self, fragment: Fragment) -> Iterator[pa.RecordBatch]:
        """The batches of a fragment, noted as read."""
        batches = _sliced(iter(fragment()), self.options.rows)
        while True:
            in_time()
            begin = time.perf_counter()
            batch = next(batches, None)
            if batch is None:
                return
            if self.stats is not None:
                names = ", ".join(batch.schema.names[:8]) + (" …" if batch.num_columns > 8 else "")
                in_codes = [one.name for one in batch.schema if pa.types.is_dictionary(one.type)]
                note = f"as codes: {', '.join(in_codes[:4])}" if in_codes else ""
                seconds = time.perf_counter() - begin
                self.stats.add("read", names, rows=batch.num_rows, size=batch.nbytes, seconds=seconds, note=note)
            yield batch

    def _evaluator(self, plan: _Plan, batch: pa.RecordBatch, begin: int, base: int) -> Evaluator:
        """The evaluator of one batch, whose rows are counted from the fragment's first."""
        return Evaluator(
            self.fields,
            dict(zip(batch.schema.names, batch.columns, strict=True)),
            np.arange(begin, begin + batch.num_rows),
            Faults(),
            windows=self.windows,
            before=self.before,
            base=base,
            shared=plan.common,
            once=self.once,
            constants=self.constants,
            stats=self.stats,
            faulting=plan.faulting,
        )

    def _filtered(self, plan: _Plan, evaluator: Evaluator) -> Evaluator:
        """The evaluator over the rows that all filters let through."""
        if not self.filters:
            return evaluator
        evaluator.prepare(plan.for_filters)
        keep = np.ones(evaluator.length, np.bool_)
        for filter_ in self.filters:
            with timed(self.stats, "filter", filter_.text):
                keep = evaluator.holding(filter_.checked, filter_, keep)
            if self.stats is not None:
                self.stats.add("filter", filter_.text, rows=int(np.count_nonzero(keep)))
        if keep.all():
            return evaluator
        names = {*plan.kept_columns}
        evaluator.columns = {name: column for name, column in evaluator.columns.items() if name in names}
        kept_fields = {*plan.for_results}
        evaluator.known = {name: values for name, values in evaluator.known.items() if name in kept_fields}
        return evaluator.only(np.flatnonzero(keep))


def _released(
    fields: Mapping[str, Expression], order: Sequence[str], trees: Sequence[c.TypedNode]
) -> dict[str, list[str]]:
    """The fields whose values are needed no more once a field is computed: their memory is free for the next."""
    kept = {name for tree in trees for name in c.fields_used(tree)}
    last = {used: name for name in order for used in c.fields_used(fields[name].checked)}
    released: dict[str, list[str]] = {}
    for used, name in last.items():
        if used not in kept:
            released.setdefault(name, []).append(used)
    return released


def _sliced(batches: Iterator[pa.RecordBatch], rows: int) -> Iterator[pa.RecordBatch]:
    """Batches of at most so many rows; small ones are put together, since much is done once a batch."""
    waiting: list[pa.RecordBatch] = []
    count = 0
    for batch in batches:
        small = batch.num_rows <= rows // SMALL_SHARE and not any(
            pa.types.is_dictionary(one.type) for one in batch.schema
        )
        if waiting and (not small or count + batch.num_rows > rows or batch.schema != waiting[0].schema):
            yield pa.concat_batches(waiting)
            waiting, count = [], 0
        if small:
            waiting.append(batch)
            count += batch.num_rows
            continue
        for begin in range(0, batch.num_rows, rows):
            yield batch.slice(begin, rows)
    if waiting:
        yield pa.concat_batches(waiting)


def formulas_line(pieces: Sequence[Expression]) -> str:
    """Formulas in a line."""
    texts = dict.fromkeys(piece.text[piece.checked.start : piece.checked.end] or piece.name for piece in pieces)
    return ", ".join([*texts][:6]) + (" …" if len(texts) > 6 else "")


def concatenated(parts: Sequence[Any], kind: Any) -> Any:
    """Arrays one after the other, of a type of the language or of Arrow."""
    if len(parts) == 1 and isinstance(parts[0], pa.Array):
        return parts[0]
    return pa.chunked_array(parts, arrow_type(kind) if isinstance(kind, Type) else kind).combine_chunks()
