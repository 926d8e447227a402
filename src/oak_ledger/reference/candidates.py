"""What a missing column may be called now, and which columns changed places: by the values themselves before the names, several at once."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from dataclasses import field as made_by
from typing import Any

import numpy as np
import pyarrow as pa

from oak_ledger.columns.judging import propose, verdict_of
from oak_ledger.definition.document import item_of
from oak_ledger.definition.formats import plain
from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import OakError
from oak_ledger.formula import Grain
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.origin import TableReader
from oak_ledger.reference.evidence import (
    NOTHING,
    Likeness,
    Matching,
    Values,
    assignment,
    likeness,
    matching,
    matching_by_several,
    values_of,
)
from oak_ledger.reference.unread import type_of, unread, whole_with_unit, with_codes, with_null_words, without_unit
from oak_ledger.source.source import Source
from oak_ledger.source.whole import unfiltered

MAX_COMPARED_ROWS = 200_000
READING = ("type", "template", "decimal_mark", "thousands_mark", "null_words", "clean")  # how values are read
READING_LEAD = 0.3  # by how much better another reading must fit
LOOKED_AT = 1_000  # rows, for values to be shown
EXAMPLES = 3  # values before and now that are shown
MIN_SCORE = 0.45  # below it a column is not named at all
SURE_SCORE, SURE_LEAD = 0.6, 0.08
FITS = 0.95  # how well a reading fits where no other one is tried
MOVED_SCORE, MOVED_LEAD = 0.8, 0.2  # a field moved to a column that fits so well, and by so much better than its own
KEPT_SCORE = 0.4
SAME_SCORE = 0.55  # of a distribution, for a field to be one of those by which rows are matched
NAME_WEIGHT = 0.2
MAX_SHUFFLED = 60  # fields that are compared with every column where hardly any is what it was
MIN_AGREED_FIELDS = 0.3  # of the fields that are there, for a matching of rows to be believed


@dataclass(frozen=True, slots=True)
class Candidate:
    """A column that a field may use instead of the one that is gone, or that holds something else now.

    `values` says how far its values are those that the field had (None where none are known), `name` how alike the names are; both
    from 0 to 1. `score` ranks; `sure` says that the values prove it and no other column comes near. `replaced` has values that
    were recoded (before: now). `moved` is true where the field's own column is still there. `takes` is the field that reads the column and
    is itself not delivered any more. `examples` are some values before and now, of the same rows where rows can be matched.
    `reading` has the keys with which the values are those of before, where they are written otherwise now; the column may be the field's own.
    """

    field: str
    gone: str
    column: str
    values: float | None
    name: float
    score: float
    sure: bool
    why: str
    replaced: Mapping[str, str] | None = None
    moved: bool = False
    takes: str = ""
    examples: tuple[tuple[str, str], ...] = ()
    reading: Mapping[str, Any] = made_by(default_factory=dict)

    @property
    def reread(self) -> bool:
        """Whether it is the field's own column, written otherwise."""
        return self.gone == self.column

    def keys(self) -> str:
        """The keys of its reading, as a definition has them, without those that go."""
        return ", ".join(f"{key} = {item_of(value).as_string()}" for key, value in self.reading.items() if value is not None)  # fmt: skip

    def sentence(self) -> str:
        """The evidence in words."""
        taken = f"; the field {self.takes}, which reads that column, has nothing any more" if self.takes else ""
        if self.values is None and self.sure:  # a name, no column
            return f"{self.column}: {self.why}"
        read = f"; read with {self.keys()}" if self.reading else ""
        return f"{self.column}: {self.why}; the names are {self.name:.0%} similar{taken}{read}"

    def repair(self) -> str:
        """The arguments of a mend."""
        gone = f" --gone {shlex.quote(self.takes)}" if self.takes else ""
        return f"'{self.gone}={self.column}'{gone}"


def candidates(source: Source, before: Source | None, limit: int = 3) -> dict[str, list[Candidate]]:
    """For each field whose column is gone, or whose column holds another field's values, the columns it may be now, best first.

    `before` is the source as it was last published. Columns are assigned together: each is the first choice of one field at most.
    """
    plain = [state for state in source.fields if isinstance(state.spec, FieldSpec) and state.spec.column]
    missing = [state for state in plain if any(finding.code == "missing-column" for finding in state.findings)]
    taken = {state.spec.column for state in plain if isinstance(state.spec, FieldSpec)}
    free = [name for name in source.compiled.origin_schema if name not in taken]
    if before is None:
        return {state.name: _by_names(state, free)[:limit] for state in missing} if free else {}
    compared = _Compared(source, before, plain)
    moved = compared.moved(plain, missing)
    fields = [*missing, *moved]
    anew = {candidate.field: [candidate] for candidate in compared.written_otherwise(plain, [*missing, *moved])}
    anew |= {with_other_text.field: [with_other_text] for with_other_text in compared.with_other_texts(plain, [*missing, *moved, *(source.state(name) for name in anew)])}  # fmt: skip
    lost = {_column(state): state.name for state in compared.taken_over(plain, missing, moved)}
    columns = [*free, *(_column(state) for state in moved), *lost]
    if not fields or not columns:
        return {state.name: [] for state in missing} | anew
    likely = [[compared.likeness(state, column) for column in columns] for state in fields]
    names = [[_alike(state, column) for column in columns] for state in fields]
    scores = [[_score(likely[at][to], names[at][to]) for to in range(len(columns))] for at in range(len(fields))]
    chosen = assignment(scores)
    found: dict[str, list[Candidate]] = dict(anew)
    for at, state in enumerate(fields):
        order = sorted(range(len(columns)), key=lambda to, at=at: (to != chosen[at], -scores[at][to]))  # type: ignore[misc]
        listed = []
        for to in order:
            one, score = likely[at][to], scores[at][to]
            if score < MIN_SCORE:
                continue
            rivals = [likely[at][other].score for other in range(len(columns)) if other != to]
            rivals += [likely[other][to].score for other in range(len(fields)) if other != at]
            leads = one.score - max(rivals, default=0.0) >= SURE_LEAD
            sure = to == chosen[at] and one.proof and score >= SURE_SCORE and leads
            own = _column(state)
            listed.append(
                Candidate(
                    state.name,
                    own,
                    columns[to],
                    one.score,
                    names[at][to],
                    score,
                    sure,
                    one.why,
                    one.replaced,
                    state in moved,
                    lost.get(columns[to], ""),
                    compared.examples(state, columns[to]),
                    compared.reading(state, columns[to]),
                )
            )
        if state in missing or (listed and listed[0].column != listed[0].gone and listed[0].sure):
            found[state.name] = listed[:limit]
    return found


def _by_names(state: ResolvedName, columns: list[str]) -> list[Candidate]:
    """Where no values are known: names alone are weak evidence."""
    why = "no published values to compare"
    found = [
        Candidate(state.name, _column(state), column, None, alike, 0.5 * alike, sure=False, why=why)
        for column in columns
        if (alike := _alike(state, column)) >= 0.6
    ]
    return sorted(found, key=lambda candidate: -candidate.score)


def _shown(value: Any) -> str:
    return "null" if value is None else plain(value)


def _column(state: ResolvedName) -> str:
    return state.spec.column if isinstance(state.spec, FieldSpec) else ""


def _score(likely: Likeness, alike: float) -> float:
    return (1 - NAME_WEIGHT) * likely.score + NAME_WEIGHT * alike if likely.score > 0 else 0.3 * alike


def _alike(state: ResolvedName, column: str) -> float:
    """How alike a column's name is to the one that is gone, or to the field's."""
    from rapidfuzz import fuzz, utils

    names = {_column(state), state.name}
    return max(fuzz.ratio(name, column, processor=utils.default_process) for name in names) / 100


class _Compared:
    """The rows before and now, read once, and each pair compared once."""

    def __init__(self, source: Source, before: Source, plain: list[ResolvedName]) -> None:
        columns = list(source.compiled.origin_schema)
        rows, room = [], MAX_COMPARED_ROWS
        for batch in source.opened.batches(columns):
            rows.append(batch.slice(0, room))
            room -= rows[-1].num_rows
            if room <= 0:
                break
        table = pa.Table.from_batches(rows) if rows else pa.table({name: pa.array([], pa.string()) for name in columns})
        # (a field that is read as a column is must have all its rows, in their order)
        self.source = unfiltered(replace(source, feed=TableReader(table), progress=None))
        self.table, self.inferred = table, Source.from_table(table, name="now")
        self.found_keys: dict[str, dict[str, Any]] = {}
        self.now: dict[str, Values | None] = {}
        known = {
            field.name: field
            for field in before.fields
            if not field.broken and field.grain == Grain.ROW and not (before.reader and field.hidden)
        }
        self.earlier = known
        names = [state.name for state in plain if state.name in known]
        old = before.rows([quote_identifier(name) for name in names], limit=MAX_COMPARED_ROWS).table if names else None
        self.old = old
        self.before = {
            name: values for name in names if old is not None and (values := values_of(old.column(name))) is not None
        }
        self.known: dict[tuple[str, str], Likeness] = {}
        self.reads: dict[tuple[str, str], Values | None] = {}
        self.lead: dict[tuple[str, str], float] = {}  # of a column as it is found before the same as the field reads it
        self.plain = plain
        self.rows: Matching | None = self._matching(plain)
        there = [state for state in plain if not state.broken and state.name in self.before]
        if self.rows is None:
            self.rows, self.known = self._matching_by_several(there), {}
        if not self._believable(there):  # rows that agree in hardly any field are not the same rows
            self.rows, self.known = None, {}

    def _believable(self, there: list[ResolvedName]) -> bool:
        """Whether enough fields agree in the matched rows: with their own column, or, where columns changed places, with any."""
        wanted = MIN_AGREED_FIELDS * len(there)
        if sum(self.likeness(state, _column(state)).score >= KEPT_SCORE for state in there) >= wanted:
            return True
        known = [state for state in self.plain if state.name in self.before][:MAX_SHUFFLED]
        columns = [name for name in self.table.column_names if self.found(name) is not None][:MAX_SHUFFLED]
        found = sum(any(self.likeness(state, column).score >= MOVED_SCORE for column in columns) for state in known)
        return found >= wanted

    def found(self, column: str) -> Values | None:
        """A column as intake would read it, whatever the definition says; None where it has no value."""
        if column not in self.now:
            feed = self.inferred.opened
            keys: dict[str, Any] = propose(column, column, verdict_of(feed, column, feed.columns()[column])).keys
            keys |= whole_with_unit(self.table.column(column)) if keys.get("type", "text") == "text" else {}
            self.found_keys[column] = keys
            try:
                typed = self.inferred.changed(self.inferred.document.replaced(self.inferred.block(column), keys))
                values = values_of(typed.rows([quote_identifier(column)]).table.column(0))
            except OakError:
                values = values_of(self.table.column(column))
            self.now[column] = values
        return self.now[column]

    def _read_as(self, state: ResolvedName, column: str) -> Values | None:
        """A column as a field of the definition would read and clean it, read once; None where that does not work."""
        if (state.name, column) not in self.reads:
            values = self._read_with(state, {"column": column})
            self.reads[state.name, column] = None if values is None else values_of(values)
        return self.reads[state.name, column]

    def _matching(self, plain: list[ResolvedName]) -> Matching | None:
        """How rows are matched: by columns as they are found, else as their fields read them."""
        read = {
            _column(state): values
            for state in plain
            if not state.broken
            and state.name in self.before
            and (values := self._read_as(state, _column(state))) is not None
        }
        others = {name: self.found(name) for name in self.table.column_names if name not in read}
        now = {name: values for name, values in others.items() if values is not None}
        return matching(self.before, {**now, **read}, self.source.about.key)

    def _matching_by_several(self, there: list[ResolvedName]) -> Matching | None:
        """Rows matched by the fields whose values are spread as they were."""
        alike = [state for state in there if self.likeness(state, _column(state)).score >= SAME_SCORE]
        read = {state.name: values for state in alike if (values := self._read_as(state, _column(state))) is not None}
        return matching_by_several({name: self.before[name] for name in read}, read) if read else None

    def likeness(self, state: ResolvedName, column: str) -> Likeness:
        """How far a column is what a field was: as the field reads it, or as it is found, whichever fits better."""
        known = self.known.get((state.name, column))
        if known is None:
            before = self.before.get(state.name)
            known = NOTHING
            if before is not None:
                known = self._likeness(before, self._read_as(state, column))
                if known.score < FITS:
                    found = self._likeness(before, self.found(column))
                    self.lead[state.name, column] = found.score - known.score
                    known = max(known, found, key=lambda one: one.score)
            self.known[state.name, column] = known
        return known

    def _likeness(self, before: Values, values: Values | None) -> Likeness:
        return likeness(before, values, self.rows) if values is not None else NOTHING

    def reading(self, state: ResolvedName, column: str) -> dict[str, Any]:
        """The keys by which a column is read so that its values are those that the field had; none where the field reads them itself."""
        self.likeness(state, column)
        if self.lead.get((state.name, column), 0.0) < READING_LEAD or not isinstance(state.spec, FieldSpec):
            return {}
        keys = {key: value for key, value in self.found_keys[column].items() if key in READING}
        spec = state.spec.model_dump()
        wanted = {key: (None if keys.get(key) in (None, "", ()) else keys[key]) for key in READING if key != "clean" or keys.get(key)}  # fmt: skip
        wanted["type"] = keys.get("type", spec["type"])
        changes = {key: value for key, value in wanted.items() if (value or type(spec[key])()) != spec[key] and not (key == "decimal_mark" and value is None and spec[key] == ".")}  # fmt: skip
        if str(changes.get("type", "")).startswith("decimal") and str(spec["type"]).startswith("decimal"):
            changes.pop("type")
        return {} if "clean" in changes and spec["clean"] else changes

    def written_otherwise(self, plain: list[ResolvedName], others: list[ResolvedName]) -> Iterator[Candidate]:
        """Fields whose own column has the values that they had, once it is read in another way."""
        for state in plain:
            column = _column(state)
            if state in others or state.name not in self.before or column not in self.table.column_names:
                continue
            one = self.likeness(state, column)
            keys = self.reading(state, column) if one.proof and one.score >= MOVED_SCORE else {}
            if keys:
                yield Candidate(state.name, column, column, one.score, 1.0, one.score, True, one.why, examples=self.examples(state, column), reading=keys)  # fmt: skip

    def with_other_texts(self, plain: list[ResolvedName], others: list[ResolvedName]) -> Iterator[Candidate]:
        """Fields of numbers or dates whose own column has texts beside or in place of them."""
        for state in plain:
            spec, column = state.spec, _column(state)
            if state in others or not isinstance(spec, FieldSpec) or column not in self.table.schema.names:
                continue
            kind = type_of(state, self.earlier.get(state.name))
            if kind in ("", "text") or spec.clean or spec.values or spec.values_from:
                continue
            read = self._read_with(state, {"type": kind})
            lost = unread(self.table.column(column), read, spec) if read is not None else {}
            for keys, why, known in self._readings(state, spec, kind, lost) if lost else ():
                keys = {key: value for key, value in keys.items() if value != (getattr(spec, key) or None)}
                after, before = self._read_with(state, keys), self.before.get(state.name)
                values = values_of(after) if after is not None else None
                one = self._likeness(before, values) if before is not None else NOTHING
                if known is None and one.score < MOVED_SCORE:
                    continue
                sure = one.proof if known is None else known
                yield Candidate(state.name, column, column, one.score, 1.0, one.score, sure, why, examples=self.examples(state, column), reading=keys)  # fmt: skip
                break

    def _readings(
        self, state: ResolvedName, spec: FieldSpec, kind: str, lost: Mapping[str, int]
    ) -> Iterator[tuple[dict[str, Any], str, bool | None]]:
        """Keys by which texts may be read, why, and whether that is known to be right; None where the values have to show it."""
        rows = sum(lost.values())
        taken = without_unit(lost, kind)
        if taken is not None:
            yield taken[0], f"{taken[1]!r} stands beside each number", None
        if self.rows is not None and self.old is not None and state.name in self.old.column_names:
            sides = (
                (self.old.column(state.name), self.rows.before),
                (self.table.column(_column(state)), self.rows.now),
            )
            pairs = [*zip(*(one.take(pa.array(at)).to_pylist() for one, at in sides), strict=True)]
            for keys in with_codes(pairs, kind):
                yield keys, "labels stand where matched rows had these codes", None
        words = with_null_words(lost, spec)
        if words is not None:
            yield words[0], f"no number and no date, in {rows:,} row{'s' * (rows != 1)}", words[1]

    def _read_with(self, state: ResolvedName, keys: Mapping[str, Any]) -> Any:
        """The values of a field with other keys, as an Arrow column; None where that does not work."""
        try:
            tried = self.source.with_changed(state.name, **keys)
            return tried.rows([quote_identifier(state.name)]).table.column(0)
        except OakError:
            return None

    def examples(self, state: ResolvedName, column: str) -> tuple[tuple[str, str], ...]:
        """Some values of a field before, and of a column now: of the same rows where rows are matched."""
        if self.old is None or state.name not in self.before or column not in self.table.schema.names:
            return ()
        count = min(LOOKED_AT, self.old.num_rows, self.table.num_rows)
        at = (self.rows.before[:count], self.rows.now[:count]) if self.rows is not None else (np.arange(count), np.arange(count))  # fmt: skip
        columns = (self.old.column(state.name), self.table.column(column))
        pairs = zip(
            *(values.take(pa.array(own)).to_pylist() for values, own in zip(columns, at, strict=True)), strict=True
        )
        told = [(_shown(old), _shown(new)) for old, new in pairs if old is not None or new is not None]
        return tuple(told[:EXAMPLES])

    def taken_over(
        self, plain: list[ResolvedName], missing: list[ResolvedName], moved: list[ResolvedName]
    ) -> list[ResolvedName]:
        """Fields whose column holds what another field had whose own column is missing, so that theirs is what is gone."""
        there = [state for state in plain if state not in missing and state not in moved and state.name in self.before]
        return [state for state in there if any(self._fits_better(lost, _column(state), own=state) for lost in missing)]

    def _fits_better(self, state: ResolvedName, column: str, *, own: ResolvedName) -> bool:
        """Whether a column is what a field was, and more so than it is what the field was that reads it, or than the field's own column is."""
        wanted = max(MOVED_SCORE, self.likeness(own, _column(own)).score + MOVED_LEAD)
        if wanted > 1.0:
            return False
        one = self.likeness(state, column)
        return one.proof and one.score >= wanted

    def moved(self, plain: list[ResolvedName], missing: list[ResolvedName]) -> list[ResolvedName]:
        """Fields whose column is still there and holds what another field had."""
        there = [state for state in plain if state not in missing and state.name in self.before]
        suspects = [state for state in there if self.likeness(state, _column(state)).score < MOVED_SCORE]
        columns = [
            *(_column(state) for state in suspects),
            *(name for name in self.table.column_names if name not in {_column(state) for state in plain}),
        ]
        return [
            state
            for state in suspects
            if any(self._fits_better(state, column, own=state) for column in columns if column != _column(state))
        ]
