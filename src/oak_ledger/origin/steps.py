"""Incoming rows prepared, one step after the other: each says what it did to them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import arrow_type, numpy_view, to_mask
from oak_ledger.columnar.ordering import sort_numbers
from oak_ledger.columnar.texts import value_text
from oak_ledger.engine import Query, execute
from oak_ledger.engine.evaluate import Expression
from oak_ledger.errors import Place, UnusableInput
from oak_ledger.origin.formulas import columns_as_fields, expression
from oak_ledger.origin.jsonl import flat_texts, read_json, text_of
from oak_ledger.origin.memory import TableReader
from oak_ledger.origin.reader import BadRow, OriginReader, row_count_batch
from oak_ledger.origin.spec import StepSpec
from oak_ledger.types import INTEGER, TEXT, Type, common

SAMPLES = 3
Kinds = Mapping[str, Type]
Tables = Iterator[pa.Table]


@dataclass(slots=True)
class Effect:
    """What a step did in the last reading: rows before and after, and what else there is to say, with samples."""

    number: int
    kind: str
    before: int = 0
    after: int = 0
    notes: dict[str, int] = field(default_factory=dict)

    def note(self, what: str, count: int) -> None:
        """Count something that is worth a word."""
        if count:
            self.notes[what] = self.notes.get(what, 0) + count

    def sentence(self) -> str:
        """The effect in words."""
        said = "".join(f"; {count:,} {what}" for what, count in self.notes.items())
        return f"Step {self.number}, {self.kind}: {self.before:,} rows before, {self.after:,} after{said}."


@dataclass(slots=True)
class PreparedReader:
    """An origin whose rows go through steps."""

    under: OriginReader
    specs: Sequence[StepSpec]
    effects: list[Effect] = field(default_factory=list)
    bad_rows: list[BadRow] = field(init=False)

    def __post_init__(self) -> None:
        self.bad_rows = self.under.bad_rows

    def columns(self) -> dict[str, Type]:
        """The columns after the last step. Raises UnusableInput where a step does not fit the columns before it."""
        kinds: Kinds = self.under.columns()
        for number, spec in enumerate(self.specs, 1):
            kinds = _Step(spec, number, kinds, Effect(number, spec.kind)).after()
        return dict(kinds)

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The rows after the last step."""
        kinds: Kinds = self.under.columns()
        schema = pa.schema([(name, arrow_type(kind)) for name, kind in kinds.items()])
        tables: Tables = (pa.Table.from_batches([batch]).cast(schema) for batch in self.under.batches([*kinds]))
        self.effects = []
        for number, spec in enumerate(self.specs, 1):
            step = _Step(spec, number, kinds, Effect(number, spec.kind))
            self.effects.append(step.effect)
            tables, kinds = step.counted(tables), step.after()
        for table in tables:
            yield from table.select(columns).to_batches() if columns else [row_count_batch(table.num_rows)]

    def locate(self, row: int) -> str:
        """Nothing better than the number, counted after the steps."""
        return "after the steps"

    def told(self) -> list[Effect]:
        """What each step did, read now if it was not yet."""
        if not self.effects:
            for _ in self.batches([]):
                pass
        return self.effects


@dataclass(frozen=True, slots=True)
class _Step:
    """One step over columns of known types."""

    spec: StepSpec
    number: int
    kinds: Kinds
    effect: Effect

    def counted(self, tables: Tables) -> Tables:
        """The rows after the step, counted before and after."""

        def before() -> Tables:
            for table in tables:
                self.effect.before += table.num_rows
                yield table

        for table in _DONE[self.spec.kind](self, before()):
            self.effect.after += table.num_rows
            yield table

    def after(self) -> Kinds:
        """The columns after it."""
        spec = self.spec
        chosen = self.chosen() if spec.columns else []
        for one in (*spec.within, *([spec.order.removeprefix("-")] if spec.order else [])):
            self._there(one)
        if spec.kind == "leave out":
            self.condition()
        if spec.kind == "columns into rows":
            kept = {name: kind for name, kind in self.kinds.items() if name not in chosen}
            return self._with(kept, {spec.name: TEXT, spec.value: self.together(chosen)})
        if spec.kind == "rows into columns":
            self._there(spec.name)
            self._there(spec.value)
            kept = {name: kind for name, kind in self.kinds.items() if name not in (spec.name, spec.value)}
            return self._with(kept, dict.fromkeys(spec.into, self.kinds[spec.value]))
        if spec.kind == "list into rows":
            if len(chosen) != 1:
                message = f"Step {self.number}, {spec.kind}: one column holds the list, not {', '.join(chosen)}."
                raise UnusableInput("step-column", message)
            kept = {name: kind for name, kind in self.kinds.items() if name not in chosen}
            number = {spec.name: INTEGER} if spec.name else {}
            return self._with(kept, {**number, **dict.fromkeys(spec.into or chosen, TEXT)})
        if spec.kind in ("split", "put together"):
            kept = {name: kind for name, kind in self.kinds.items() if name not in chosen}
            return self._with(kept, dict.fromkeys(spec.into, TEXT))
        return self.kinds

    def chosen(self) -> list[str]:
        """The columns that it is about. Raises UnusableInput where there is none of a name or pattern."""
        found: dict[str, None] = {}
        for column in self.spec.columns:
            some = [name for name in self.kinds if fnmatchcase(name.casefold(), column.casefold())]
            if not some:
                self._there(column)
            found.update(dict.fromkeys(some))
        return [name for name in self.kinds if name in found]

    def together(self, names: Sequence[str]) -> Type:
        """The type that values of several columns share; text where there is none."""
        return common([self.kinds[name] for name in names]) or TEXT

    def condition(self) -> tuple[dict[str, Expression], Expression]:
        """The condition over the columns as they arrive. Raises FormulaError where it is none."""
        return columns_as_fields(self.kinds), expression(
            self.spec.where, self.kinds, "the condition", place=Place(name=f"step {self.number}")
        )

    def _there(self, name: str) -> None:
        if name not in self.kinds:
            message = f"Step {self.number}, {self.spec.kind}: there is no column {name!r} before it."
            hint = f"Columns are {', '.join(self.kinds)}. If it is one of them now: oak mend SOURCE {name}=NEW."
            raise UnusableInput("step-column", message, hint=hint)

    def _with(self, kept: Kinds, new: Kinds) -> Kinds:
        taken = next((name for name in new if name in kept), None)
        if taken is not None:
            message = f"Step {self.number}, {self.spec.kind}: there is a column {taken!r} already."
            raise UnusableInput("step-column", message, hint="Choose another name.")
        return {**kept, **new}


def _columns_into_rows(step: _Step, tables: Tables) -> Tables:
    spec, chosen = step.spec, step.chosen()
    kind = arrow_type(step.together(chosen))
    for table in tables:
        rows = np.repeat(np.arange(table.num_rows), len(chosen))
        kept = table.drop_columns(chosen).take(pa.array(rows))
        names = pa.array(chosen * table.num_rows, pa.string())
        columns = [_as(table.column(name), kind) for name in chosen]
        places = np.tile(np.arange(len(chosen)) * table.num_rows, table.num_rows) + rows
        values = pa.concat_arrays(columns).take(pa.array(places)) if table.num_rows else pa.array([], kind)
        made = kept.append_column(spec.name, names).append_column(spec.value, values)
        if not spec.nulls:
            full = to_mask(pc.invert(_missing(values)))
            step.effect.note("without a value left out", int((~full).sum()))
            made = made.filter(pa.array(full))
        yield made


def _rows_into_columns(step: _Step, tables: Tables) -> Tables:
    spec = step.spec
    table = _whole(tables, step.kinds)
    keys = [name for name in table.schema.names if name not in (spec.name, spec.value)]
    groups, first = _groups(table, keys)
    made = table.select(keys).take(pa.array(first))
    names = np.asarray(_as(table.column(spec.name), pa.string()).to_pylist(), object)
    step.effect.note(
        f"of other values of {spec.name} left out", int((~np.isin(names, np.array(spec.into, object))).sum())
    )
    values = table.column(spec.value).combine_chunks()
    for one in spec.into:
        rows = np.flatnonzero(names == one)
        own, at = np.unique(groups[rows], return_index=True)
        step.effect.note(f"more for {one!r} with the same key left out", len(rows) - len(own))
        places = np.full(len(first), -1)
        places[own] = rows[at]
        made = made.append_column(one, values.take(pa.array(places, mask=places < 0)))
    yield made


def _list_into_rows(step: _Step, tables: Tables) -> Tables:
    spec, (column,) = step.spec, step.chosen()
    members = {*spec.into}
    for table in tables:
        rows, numbers, elements = [], [], []
        for row, text in enumerate(table.column(column).to_pylist()):
            own = list_of(text)
            step.effect.note("× not JSON", own is None)
            step.effect.note("× an empty list, without a row" if not spec.nulls else "× an empty list", own == [])
            found = own or ([None] if spec.nulls or own is None else [])
            rows += [row] * len(found)
            numbers += [*range(1, len(found) + 1)] if own else [None] * len(found)
            elements += found
        made = table.drop_columns([column]).take(pa.array(rows, pa.int64()))
        if spec.name:
            made = made.append_column(spec.name, pa.array(numbers, pa.int64()))
        if not spec.into:
            yield made.append_column(column, pa.array(map(text_of, elements), pa.string()))
            continue
        objects = [flat_texts(element) if isinstance(element, dict) else {} for element in elements]
        step.effect.note(
            "× an element that is not an object", sum(not isinstance(element, dict | None) for element in elements)
        )
        for one in {name: None for own in objects for name in own if name not in members}:
            step.effect.note(f"with {one!r}, which is not taken", sum(one in own for own in objects))
        for name in spec.into:
            made = made.append_column(name, pa.array([own.get(name) for own in objects], pa.string()))
        yield made


def list_of(text: Any) -> list[Any] | None:
    """The elements of a list in JSON; a lone value is a list of one, no value an empty one; None for what is not JSON."""
    if text is None or not str(text).strip():
        return []
    try:
        found = read_json(str(text).encode())
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, list) else [] if found is None else [found]


def _split(step: _Step, tables: Tables) -> Tables:
    spec = step.spec
    for table in tables:
        for name in step.chosen():
            texts = _as(table.column(name), pa.string())
            if spec.pattern:
                named = _named_groups(spec.pattern)
                found = pc.extract_regex(texts, named)
                parts = [pc.struct_field(found, at) for at in range(len(spec.into))]
                wrong = pc.and_(pc.is_null(found), pc.invert(_missing(texts)))
                step.effect.note(f"of {name} do not fit the pattern", int(pc.sum(wrong).as_py() or 0))
            else:
                found = pc.split_pattern(texts, spec.by, max_splits=len(spec.into) - 1)
                sizes = pc.fill_null(pc.list_value_length(found), 0)
                parts = [_part(found, sizes, at) for at in range(len(spec.into))]
                step.effect.note(
                    f"of {name} have fewer parts",
                    int(((numpy_view(sizes) < len(spec.into)) & (numpy_view(sizes) > 0)).sum()),
                )
            table = table.drop_columns([name])
            for own, part in zip(spec.into, parts, strict=True):
                trimmed = pc.utf8_trim_whitespace(part)
                table = table.append_column(own, pc.if_else(pc.equal(trimmed, ""), None, trimmed))
        yield table


def _put_together(step: _Step, tables: Tables) -> Tables:
    spec, chosen = step.spec, step.chosen()
    for table in tables:
        texts = [_as(table.column(name), pa.string()) for name in chosen]
        made = pa.nulls(table.num_rows, pa.string())
        for text in texts:
            own = pc.if_else(_missing(text), None, text)
            both = pc.binary_join_element_wise(made, own, spec.by)  # null where either is
            made = pc.coalesce(both, made, own)
        yield table.drop_columns(chosen).append_column(spec.into[0], made)


def _fill_down(step: _Step, tables: Tables) -> Tables:
    spec = step.spec
    table = _whole(tables, step.kinds)
    groups = _groups(table, spec.within)[0] if spec.within else np.zeros(table.num_rows, np.int64)
    order = np.argsort(groups, kind="stable")
    begins = np.ones(len(order), np.bool_)
    begins[1:] = groups[order][1:] != groups[order][:-1]
    start = np.maximum.accumulate(np.where(begins, np.arange(len(order)), 0))
    for name in step.chosen():
        values = table.column(name).combine_chunks()
        missing = to_mask(_missing(values))[order]
        last = np.maximum.accumulate(np.where(missing, -1, np.arange(len(order)))) if len(order) else order
        array = last >= start
        places = np.full(len(order), -1)
        places[order] = np.where(array, order[np.maximum(last, 0)], -1) if len(order) else places
        step.effect.note(f"of {name} filled", int((missing & array).sum()))
        step.effect.note(f"of {name} with nothing above", int((missing & ~array).sum()))
        table = table.set_column(
            table.schema.get_field_index(name), name, values.take(pa.array(places, mask=places < 0))
        )
    yield table


def _distinct(step: _Step, tables: Tables) -> Tables:
    spec = step.spec
    table = _whole(tables, step.kinds)
    rows = np.arange(table.num_rows)
    if spec.order:
        values = table.column(spec.order.removeprefix("-")).combine_chunks()
        numbers, _ = sort_numbers(values, descending=spec.order.startswith("-"), nulls_first=False)
        rows = np.argsort(numbers, kind="stable")
    groups, _ = _groups(table, spec.within or table.schema.names)
    first = np.zeros(int(groups.max(initial=-1)) + 1, np.int64)
    first[groups[rows[::-1]]] = rows[::-1]
    kept = np.sort(first)
    gone = np.setdiff1d(np.arange(table.num_rows), kept)
    if spec.within and len(gone):
        some = table.select([*spec.within]).take(pa.array(gone[:SAMPLES])).to_pylist()
        step.effect.note(
            f"left out, such as {'; '.join(', '.join(str(value) for value in one.values()) for one in some)}", len(gone)
        )
    yield table.take(pa.array(kept))


def _leave_out(step: _Step, tables: Tables) -> Tables:
    columns, condition = step.condition()
    for table in tables:
        found = execute(Query(columns, (condition,)), TableReader(table)).table.column(0)
        step.effect.note("undecided, and kept", found.null_count)
        yield table.filter(pc.invert(pc.fill_null(found, False)))


_DONE: Mapping[str, Callable[[_Step, Tables], Tables]] = {
    "columns into rows": _columns_into_rows, "rows into columns": _rows_into_columns, "list into rows": _list_into_rows, "split": _split, "put together": _put_together,
    "fill down": _fill_down, "distinct": _distinct, "leave out": _leave_out,
}  # fmt: skip


def _as(values: Any, kind: Any) -> Any:
    """Values in another type; as text they are written as everywhere here."""
    values = values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values
    if values.type == kind:
        return values
    return (
        pa.array([value_text(value) for value in values.to_pylist()], kind)
        if kind == pa.string()
        else values.cast(kind)
    )


def _missing(values: Any) -> Any:
    """Where there is no value: null, or a blank text."""
    if not pa.types.is_string(values.type):
        return pc.is_null(values)
    return pc.fill_null(pc.equal(pc.utf8_trim_whitespace(values), ""), True)


def _whole(tables: Tables, kinds: Kinds) -> pa.Table:
    """All rows as one table."""
    schema = pa.schema([(name, arrow_type(kind)) for name, kind in kinds.items()])
    return pa.concat_tables(
        [schema.empty_table(), *(table.select(schema.names).cast(schema) for table in tables)]
    ).combine_chunks()


def _groups(table: pa.Table, names: Sequence[str]) -> tuple[Any, Any]:
    """A number for each row's key, in the order in which they come first, and the first row of each; nulls are equal."""
    codes = np.zeros(table.num_rows, np.int64)
    for name in names:
        encoded = table.column(name).combine_chunks().dictionary_encode(null_encoding="encode")
        _, codes = np.unique(codes * (len(encoded.dictionary) + 1) + numpy_view(encoded.indices), return_inverse=True)
    _, first, codes = np.unique(codes, return_index=True, return_inverse=True)
    rank = np.empty(len(first), np.int64)
    rank[np.argsort(first)] = np.arange(len(first))
    return rank[codes], np.sort(first)


def _part(found: Any, sizes: Any, at: int) -> Any:
    """The parts at a place; null where there are not so many."""
    flat, ends = pc.list_flatten(found), np.cumsum(numpy_view(sizes))
    there = numpy_view(sizes) > at
    return flat.take(pa.array(np.where(there, ends - numpy_view(sizes) + at, 0), mask=~there))


def _named_groups(pattern: str) -> str:
    """A pattern whose groups have names, as the reader of patterns wants them."""
    import re

    made, number = "", 0
    for piece in re.split(r"(\\.|\((?!\?)|\(\?P<[^>]*>)", pattern):
        number += piece.startswith("(")
        made += f"(?P<g{number}>" if piece.startswith("(") else piece
    return made
