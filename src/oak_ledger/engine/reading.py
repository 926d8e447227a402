"""Going through the rows once: slices read, filtered and worked on by several threads, with results and faults in the rows' order."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Generic, Protocol, TypeVar

import numpy as np
import pyarrow as pa

from oak_ledger.engine.account import Account, timed
from oak_ledger.engine.as_they_come import Coming
from oak_ledger.engine.evaluate import Evaluator, Expression, Once, columns_read, needed
from oak_ledger.engine.faults import Faults, Rows
from oak_ledger.engine.fused import Program, programs
from oak_ledger.engine.pool import ordered
from oak_ledger.engine.pushdown import Demand, Rest, comes_in_parts, demands, tells, unmet
from oak_ledger.engine.shared import shared_pieces
from oak_ledger.engine.tuning import Tuning, tuning
from oak_ledger.formula import checked as c
from oak_ledger.formula.types import Grain, Type
from oak_ledger.formula.values import array_of, arrow_type, mask_of
from oak_ledger.loops.places import holding

Made = TypeVar("Made")
Stretch = Callable[[], Iterator[pa.RecordBatch]]
"""Some of the rows, one after the other, read when they are asked for, by whichever thread asks."""
SMALL = 8  # a batch is small that has at most one of so many parts of a slice's rows
MOSTLY = 0.5  # where a filter lets more rows through, the others are computed as well and left out at the end


class Feed(Protocol):
    """Where rows come from. It may also have `stretches`: the same rows in parts that several threads can read (see also `pushdown.Told`)."""

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows in order, with at least these columns, in batches of any size."""


def stretches_of(feed: Feed, columns: Sequence[str]) -> Iterator[Stretch]:
    """The rows of a feed as stretches; those of a feed that has none are read here, one batch each."""
    own = getattr(feed, "stretches", None)
    if own is not None:
        yield from own(columns)
        return
    for batch in feed.batches(columns):
        yield partial(iter, (batch,))


@dataclass(slots=True)
class Slice(Generic[Made]):
    """What came of some rows: the result, where in their stretch they begin, how many were read and used, what faulted."""

    made: Made | None
    begin: int
    read: int
    used: int
    faults: Faults
    few: Evaluator | None = None
    """Rows that are so few that they are computed together with those of the next slices."""


@dataclass(frozen=True, slots=True)
class _Plan:
    """What is computed of each slice, and in which order."""

    columns: Sequence[str]
    first: Sequence[str]
    """Those that filters need; the others can wait until it is known which rows these let through."""
    last: Sequence[str]
    """Those that are needed then."""
    must: Sequence[Demand]
    """What rows must meet, where a file may tell that they do not."""
    early: Sequence[str]
    """Fields for the source's own filters; `before` for all, and `after` for what is wanted."""
    before: Sequence[str]
    after: Sequence[str]
    released: Mapping[str, Sequence[str]]
    shared: Mapping[c.Checked, int]
    fused: Mapping[c.Checked, Program]


@dataclass(slots=True)
class Pass:
    """One going through the rows for some formulas."""

    fields: Mapping[str, Expression]
    always: Sequence[Expression]
    """The source's own filters: windows see only the rows that these let through."""
    where: Sequence[Expression]
    wanted: Sequence[Expression]
    windows: Mapping[c.Window, Any] = field(default_factory=dict)
    coming: Coming | None = None
    """Computes the windows as rows come."""
    before: Mapping[c.Before, Any] = field(default_factory=dict)
    bases: Sequence[int] | None = None
    """Where each stretch begins, known from an earlier going through; windows need it."""
    spare: bool = False
    """Rows that a filter rejects may be computed and left out at the end: the work looks at `Evaluator.alive`."""
    most: int | None = None
    """So many rows are enough: no more are computed (in turn only), and what goes wrong in others is not told."""
    account: Account | None = None
    doing: tuple[str, str] = ("rows", "")
    """What the work is called on the account."""
    tuning: Tuning = field(default_factory=tuning)
    once: dict[c.Apply, Once] = field(default_factory=dict)
    constants: dict[c.Constant, Any] = field(default_factory=dict)
    read: int = 0
    used: int = 0
    begins: list[int] = field(default_factory=list)
    numbers: Any = None
    """The numbers of rows from 0, as many as a slice may have."""

    def run(
        self, feed: Feed, work: Callable[[Evaluator], Made], faults: Faults, *, in_turn: bool = False
    ) -> Iterator[Made]:
        """The result of `work` for each slice, in order. `in_turn`: nothing is done before it is asked for.

        Raises OutOfTurn where windows are computed as rows come, and these do not come in order.
        """
        plan = self._planned()
        self.numbers = np.arange(self.tuning.rows)
        self.numbers.flags.writeable = False

        def whole(numbered: tuple[int, Stretch]) -> list[Slice[Made]]:
            try:
                return list(self._slices(plan, work, *numbered))
            except BaseException:
                if self.coming is not None:
                    self.coming.end()
                raise

        self.read = self.used = 0
        stretches = enumerate(stretches_of(feed, plan.columns))
        done: Iterator[Iterable[Slice[Made]]] = (self._slices(plan, work, *one) for one in stretches)
        if not in_turn:
            done = ordered(whole, stretches, self.tuning.threads)
        waiting: list[tuple[Evaluator, int]] = []
        for stretch in done:
            base = self.read
            self.begins.append(base)
            for found in stretch:
                faults.absorb(found.faults, base)
                self.read += found.read
                self.used += found.used
                if found.few is not None and found.used:
                    waiting.append((found.few, base))
                if found.made is not None or sum(one.length for one, _ in waiting) > self.tuning.rows // SMALL:
                    yield from self._together(plan, work, waiting, faults)
                    waiting = []
                if found.made is not None:
                    yield found.made
        yield from self._together(plan, work, waiting, faults)

    def _together(
        self, plan: _Plan, work: Callable[[Evaluator], Made], some: Sequence[tuple[Evaluator, int]], faults: Faults
    ) -> Iterator[Made]:
        """The result of `work` for the few rows of several slices, each with where its stretch begins."""
        if some:
            begin = some[0][1]
            evaluator = Evaluator.together([(one, base - begin) for one, base in some])
            yield self._computed(plan, work, evaluator, evaluator.length)
            faults.absorb(evaluator.faults, begin)

    def _computed(self, plan: _Plan, work: Callable[[Evaluator], Made], evaluator: Evaluator, used: int) -> Made:
        evaluator.fused = plan.fused
        evaluator.prepare(plan.after, plan.released)
        with timed(self.account, *self.doing, rows=used):
            return work(evaluator)

    def _can_wait(self, plan: _Plan, evaluator: Evaluator, read: int) -> bool:
        """Whether the rows that filters let through are few, and what is known of them but columns can be computed again: it faults nothing."""
        if (
            evaluator.length > read // SMALL
            or not self.spare
            or evaluator.alive is not None
            or self.windows
            or self.coming
        ):
            return False
        again = {*plan.before} & {*plan.after}
        return not evaluator.common and not any(c.can_fault(self.fields[name].checked) for name in again)

    def _planned(self) -> _Plan:
        """What is computed of each slice."""
        filters = [*self.always, *self.where]
        asked, trees = [one.checked for one in filters], [one.checked for one in self.wanted]
        known = self.windows if self.coming is None else self.coming.places
        early, before = (needed(self.fields, some, known) for some in (asked[: len(self.always)], asked))
        after = [name for name in needed(self.fields, trees, known) if self.fields[name].checked.grain != Grain.GROUP]
        shared = shared_pieces([*filters, *self.wanted, *(self.fields[name] for name in {*before, *after})])
        fused = programs(
            self.fields, [name for name in after if name not in {*before}], self.wanted, shared, self.tuning.steps
        )
        through = {name for one in fused.values() for name in one.through}
        return _Plan(
            columns_read(self.fields, [*asked, *trees], self.windows),
            columns_read(self.fields, asked, self.windows),
            columns_read(self.fields, trees, self.windows),
            demands(self.fields, self.always if self.coming else filters),  # windows see what `where` leaves out
            early,
            before,
            [name for name in after if name not in through],
            _released(self.fields, after, trees),
            shared,
            fused,
        )

    def _slices(
        self, plan: _Plan, work: Callable[[Evaluator], Made], number: int, stretch: Stretch
    ) -> Iterator[Slice[Made]]:
        """The slices of a stretch, one after the other; each counts its rows from the stretch's first."""
        missed = unmet(plan.must, stretch)
        if missed is not None and tells(stretch):
            if self.account is not None:
                note = "what the file says of its parts lets these out"
                self.account.add("not read", missed.text, rows=stretch.rows, note=note)
            if self.coming is not None:
                self.coming.go_on(number, [])
            yield Slice(None, 0, stretch.rows, 0, Faults())
            return
        for found, evaluator in self._opened(plan, number, stretch):
            if self.most is not None and evaluator.length > self.most - self.used:
                evaluator = evaluator.only(np.arange(self.most - self.used))
            found.used = evaluator.length if evaluator.alive is None else int(np.count_nonzero(evaluator.alive))
            if self._can_wait(plan, evaluator, found.read):
                found.few = evaluator
            else:
                found.made = self._computed(plan, work, evaluator, found.used)
            yield found

    def _opened(self, plan: _Plan, number: int, stretch: Stretch) -> Iterator[tuple[Slice[Any], Evaluator]]:
        """The batches of a stretch, filtered, with their windows where these are computed as rows come."""
        base = self.bases[number] if self.bases is not None else 0
        begin = 0
        waiting = []
        for batch, rest in self._read(plan, stretch):
            found: Slice[Any] = Slice(None, begin, batch.num_rows, 0, Faults())
            evaluator = self._evaluator(batch, found, base, plan.shared)
            begin += batch.num_rows
            if self.coming is None:
                filters = [*self.always, *self.where]
                evaluator, rows = self._let_through(evaluator, filters, plan.before, plan.last, spare=self.spare)
                if rest is not None:
                    evaluator.columns = {**evaluator.columns, **self._rest(rest, rows)}
                yield found, evaluator
                continue
            evaluator, _ = self._let_through(evaluator, self.always, plan.early, None, spare=False)
            waiting.append((found, self.coming.prepared(evaluator)))
        if self.coming is not None:
            self.coming.go_on(number, [one for _, one in waiting])
        for found, one in waiting:
            yield found, self._let_through(one.evaluator, self.where, plan.before, plan.last, spare=self.spare)[0]

    def _read(self, plan: _Plan, stretch: Stretch) -> Iterator[tuple[pa.RecordBatch, Rest | None]]:
        """The batches of a stretch, on the account as reading; those of columns that filters need come with what reads the others."""
        batches: Iterator[tuple[pa.RecordBatch, Rest | None]]
        apart = plan.first and len(plan.first) < len(plan.columns) and self.coming is None
        if apart and comes_in_parts(stretch):
            batches = stretch.parts(plan.first, self.tuning.rows)
        else:
            batches = ((batch, None) for batch in _sliced(stretch(), self.tuning.rows))
        while True:
            begin = time.perf_counter()
            found = next(batches, None)
            if found is None:
                return
            self._note_read(found[0], begin)
            yield found

    def _rest(self, rest: Rest, rows: Rows | None) -> Mapping[str, Any]:
        """The columns that could wait, of the rows that count."""
        begin = time.perf_counter()
        batch = rest() if rows is None else rest(rows)
        self._note_read(batch, begin)
        return dict(zip(batch.schema.names, batch.columns, strict=True))

    def _note_read(self, batch: pa.RecordBatch, begin: float) -> None:
        if self.account is not None:
            names = ", ".join(batch.schema.names[:8]) + (" …" if batch.num_columns > 8 else "")
            seconds = time.perf_counter() - begin
            coded = [
                name
                for name, column in zip(batch.schema.names, batch.columns, strict=True)
                if pa.types.is_dictionary(column.type)
            ]
            note = f"as codes: {', '.join(coded[:4])}" if coded else ""
            self.account.add("read", names, rows=batch.num_rows, size=batch.nbytes, seconds=seconds, note=note)

    def _evaluator(self, batch: Any, found: Slice[Any], base: int, shared: Mapping[c.Checked, int]) -> Evaluator:
        """The evaluator of one batch."""
        columns = {name: batch.column(at) for at, name in enumerate(batch.schema.names)}
        rows = self.numbers[: batch.num_rows] + found.begin if found.begin else self.numbers[: batch.num_rows]
        return Evaluator(
            self.fields, columns, rows, found.faults, windows=self.windows, before=self.before, base=base, tuning=self.tuning, shared=shared, once=self.once, constants=self.constants, account=self.account
        )  # fmt: skip

    def _let_through(
        self,
        evaluator: Evaluator,
        filters: Sequence[Expression],
        before: Sequence[str],
        last: Sequence[str] | None,
        *,
        spare: bool,
    ) -> tuple[Evaluator, Rows | None]:
        """The evaluator over the rows that filters let through, and their numbers where it is not over all.

        `before` are the fields that all filters need, `last` the columns that are needed afterwards, where that is not all.
        """
        if not filters:
            return evaluator, None
        evaluator.prepare(before)
        keep: Any = None
        for one in filters:
            with timed(self.account, "filter", one.text):
                holds = evaluator.compute(one)
                if keep is not None or not pa.types.is_boolean(holds.type):
                    holds = array_of(mask_of(holds) if keep is None else mask_of(holds) & mask_of(keep))
                keep = holds
            if self.account is not None:
                self.account.add("filter", one.text, rows=keep.true_count)
        kept = keep.true_count
        if kept == evaluator.length:
            return evaluator, None
        if spare and kept >= MOSTLY * evaluator.length:
            evaluator.alive = mask_of(keep)
            return evaluator, None
        rows = holding(keep)
        if rows is None:
            rows = np.flatnonzero(mask_of(keep))
        if last is not None:
            evaluator.columns = {name: column for name, column in evaluator.columns.items() if name in last}
        return evaluator.only(rows), rows


def _released(
    fields: Mapping[str, Expression], order: Sequence[str], trees: Sequence[c.Checked]
) -> dict[str, list[str]]:
    """The fields whose values are needed no more once a field is computed: their memory is free for the next."""
    kept = {name for tree in trees for name in c.fields_used(tree)}
    last = {used: name for name in order for used in c.fields_used(fields[name].checked)}
    made: dict[str, list[str]] = {}
    for used, name in last.items():
        if used not in kept:
            made.setdefault(name, []).append(used)
    return made


def _sliced(batches: Iterator[pa.RecordBatch], rows: int) -> Iterator[pa.RecordBatch]:
    """Batches of at most so many rows; small ones are put together, since much is done once a batch."""
    waiting: list[pa.RecordBatch] = []
    count = 0
    for batch in batches:
        small = batch.num_rows <= rows // SMALL and not any(pa.types.is_dictionary(one.type) for one in batch.schema)
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


def listed(pieces: Sequence[Expression]) -> str:
    """Formulas in a line."""
    texts = dict.fromkeys(one.text[one.checked.start : one.checked.end] or one.name for one in pieces)
    return ", ".join([*texts][:6]) + (" …" if len(texts) > 6 else "")


def joined(parts: Sequence[Any], kind: Any) -> Any:
    """Arrays one after the other, of a type of the language or of Arrow."""
    if len(parts) == 1 and isinstance(parts[0], pa.Array):
        return parts[0]
    return pa.chunked_array(parts, arrow_type(kind) if isinstance(kind, Type) else kind).combine_chunks()
