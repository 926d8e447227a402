"""Several origins combined by shared keys, and what that does: rows on one side only, keys that multiply, new nulls."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import arrow_type, to_mask
from oak_ledger.columnar.texts import value_text
from oak_ledger.engine import Query, execute
from oak_ledger.errors import Place, UnusableInput
from oak_ledger.origin.formulas import columns_as_fields, expression, totalled
from oak_ledger.origin.memory import TableReader
from oak_ledger.origin.number_shapes import Mark, plain_numbers
from oak_ledger.origin.reader import BadRow
from oak_ledger.origin.spec import PartSpec
from oak_ledger.origin.valid import valid_rows
from oak_ledger.types import TEXT, Type, common

Rows = npt.NDArray[np.int64]
MIN_ALONE = 5  # rows without a partner for which a way to match them is looked for
PROPOSED = ("BTRIM(VALUE)", "UPPER(BTRIM(VALUE))", "LTRIM(BTRIM(VALUE), '0')", "LTRIM(UPPER(BTRIM(VALUE)), '0')", "REPLACE(REPLACE(UPPER(BTRIM(VALUE)), ' ', ''), '-', '')")  # fmt: skip
"""Ways to match keys that differ in how they are written, the simplest first."""


@dataclass(frozen=True, slots=True)
class Measure:
    """What a join does to a numeric column: its total before, and after."""

    column: str
    before: float
    after: float


@dataclass(frozen=True, slots=True)
class JoinStep:
    """What came of joining one part.

    `left_rows` and `right_rows` are the rows before, `rows` those after. `left_alone` and `right_alone` are rows without a partner, with
    samples of their keys. `left_repeats` and `right_repeats` count keys that occur in more than one row. `nulls` are new nulls by
    column, `measures` the totals that changed because rows were multiplied. `would_meet` has formulas over VALUE by which more rows before
    it would find a partner, with how many. `overlapping` counts keys of which more than one row is valid on some day.
    """

    part: str
    on: tuple[str, ...]
    how: str
    left_rows: int
    right_rows: int
    rows: int
    left_alone: int
    right_alone: int
    left_samples: tuple[str, ...]
    right_samples: tuple[str, ...]
    left_repeats: int
    right_repeats: int
    nulls: tuple[tuple[str, int], ...]
    measures: tuple[Measure, ...]
    would_meet: tuple[tuple[str, int], ...] = ()
    overlapping: int = 0


@dataclass(slots=True)
class JoinReader:
    """Parts joined one after the other, in memory."""

    parts: Sequence[tuple[PartSpec, Any]]
    bad_rows: list[BadRow] = field(default_factory=list)
    steps: list[JoinStep] = field(default_factory=list)
    joined: pa.Table | None = None
    samples: int = 3
    """How many keys without a partner are named of each side."""

    def columns(self) -> dict[str, Type]:
        """The columns of all parts; a name that occurs twice has its part's name before it."""
        return TableReader(self.table()).columns()

    def batches(self, columns: Sequence[str]) -> Iterator[pa.RecordBatch]:
        """The joined rows."""
        yield from TableReader(self.table()).batches(columns)

    def locate(self, row: int) -> str:
        """Nothing better than the number."""
        return ""

    def table(self) -> pa.Table:
        """The join, made once."""
        if self.joined is None:
            made: pa.Table | None = None
            for spec, feed in self.parts:
                names = list(feed.columns())
                schema = pa.schema([(name, arrow_type(kind)) for name, kind in feed.columns().items()])
                batches = [pa.Table.from_batches([batch]).cast(schema) for batch in feed.batches(names)]
                table = pa.concat_tables([schema.empty_table(), *batches])
                self.bad_rows += feed.bad_rows
                made = table if made is None else self._join(made, table, spec)
            if made is None:
                raise UnusableInput("no-parts", "A join has no [[part]].", hint="Add a [[part]] for each origin.")
            self.joined = made
        return self.joined

    def _join(self, left: pa.Table, right: pa.Table, spec: PartSpec) -> pa.Table:
        pairs = spec.key_pairs()
        _there(left, right, spec)
        if spec.totals:
            for own in {own for _, own in pairs} if spec.match else ():
                at = right.schema.get_field_index(own)
                right = right.set_column(at, own, counting(right.column(own).combine_chunks(), spec.match))
            right = totalled(right, [own for _, own in pairs], spec.totals, place=Place(name=f"part {spec.name}"))
        keys = _paired_keys(left, right, spec)
        overlapping = 0
        if spec.day:
            valid = valid_rows(left, right, keys, spec)
            left_at, right_at = _with_valid(valid.at, right.num_rows, how=spec.how)
            overlapping = valid.overlapping
        else:
            left_at, right_at = _pairs(*keys, how=spec.how)
        columns: dict[str, Any] = {}
        for name in left.schema.names:
            values = _taken(left.column(name), left_at)
            other = dict(pairs).get(name)
            if other is not None and spec.how == "full":
                values = pc.coalesce(values, _taken(right.column(other), right_at).cast(values.type))
            columns[name] = values
        for name in right.schema.names:
            if name not in {own for _, own in pairs}:
                columns[told_apart(spec.name, name) if name in columns else name] = _taken(right.column(name), right_at)
        joined = pa.table(columns)
        self.steps.append(_step(spec, left, right, joined, keys, (left_at, right_at), self.samples, overlapping))
        return joined


def _there(left: pa.Table, right: pa.Table, spec: PartSpec) -> None:
    """Raise UnusableInput where a column of a key is not there."""
    pairs = spec.key_pairs()
    for side, table, own in (
        ("those before it", left, [one for one, _ in pairs]),
        (spec.name, right, [one for _, one in pairs]),
    ):
        missing = [name for name in own if name not in table.schema.names]
        if missing or not spec.on:
            there = ", ".join(table.schema.names)
            what = f"has no column {missing[0]!r}" if missing else "is joined on nothing"
            hint = f"Columns are {there}.{' oak check says which of them it may be now.' if missing else ''}"
            raise UnusableInput("join-key", f"The part {spec.name}: {side} {what}.", hint=hint)


def told_apart(part: str, column: str) -> str:
    """The name of a column that another part has as well."""
    return part if column.casefold() in part.casefold().split() else f"{part} {column}"


def _paired_keys(left: pa.Table, right: pa.Table, spec: PartSpec) -> tuple[Rows, Rows]:
    """A number for each row's key, the same for equal keys on both sides; -1 where a part of the key is null or blank."""
    codes = np.zeros(left.num_rows + right.num_rows, np.int64)
    null = np.zeros(len(codes), np.bool_)
    for name, other in spec.key_pairs():
        sides = [left.column(name).combine_chunks(), right.column(other).combine_chunks()]
        if spec.match:
            sides = [counting(side, spec.match) for side in sides]
        kinds = [TableReader(pa.table({name: side})).columns()[name] for side in sides]
        shared = common(kinds)
        if shared is None:
            message = f"The part {spec.name}: {name} is {kinds[0]} on one side and {kinds[1]} on the other."
            raise UnusableInput(
                "join-key",
                message,
                hint="Say what of them counts, which makes texts of both: match = \"LTRIM(VALUE, '0')\", --match for the command.",
            )
        values = pa.chunked_array([side.cast(arrow_type(shared), safe=False) for side in sides]).combine_chunks()
        encoded = values.dictionary_encode()
        null |= to_mask(pc.is_null(encoded.indices))
        if pa.types.is_string(values.type):  # a blank key is none
            null |= to_mask(pc.fill_null(pc.equal(pc.utf8_trim_whitespace(values), ""), False))
        more = pc.fill_null(encoded.indices, 0).to_numpy(zero_copy_only=False).astype(np.int64)
        _, codes = np.unique(codes * (len(encoded.dictionary) + 1) + more, return_inverse=True)
    codes = np.where(null, -1, codes).astype(np.int64)
    return codes[: left.num_rows], codes[left.num_rows :]


def counting(values: Any, formula: str) -> Any:
    """What of the values of a key counts: each different one through a formula over VALUE, which sees it as a text. Raises FormulaError."""
    encoded = values.dictionary_encode()
    texts = pa.array([value_text(one) for one in encoded.dictionary.to_pylist()], pa.string())
    one = expression(formula, {"VALUE": TEXT}, "match", place=Place(name="match"))
    query = Query(columns_as_fields({"VALUE": TEXT}), (one,))
    made = execute(query, TableReader(pa.table({"VALUE": texts}))).table.column(0).combine_chunks()
    return made.take(encoded.indices)


def _would_meet(left: pa.Table, right: pa.Table, spec: PartSpec, alone: int) -> tuple[tuple[str, int], ...]:
    """Formulas by which clearly more rows find a partner, the simplest first; of keys that are texts."""
    if spec.match or alone < max(MIN_ALONE, left.num_rows // 50) or not left.num_rows:
        return ()
    found: list[tuple[str, int]] = []
    for formula in PROPOSED:
        keys = _paired_keys(left, right, spec.model_copy(update={"match": formula}))
        meets = alone - int((~np.isin(keys[0], keys[1]) | (keys[0] < 0)).sum())
        if meets * 2 > alone and meets > 1.02 * max((count for _, count in found), default=0):
            found.append((formula, meets))
    return tuple(found)


def _pairs(left: Rows, right: Rows, *, how: str) -> tuple[Rows, Rows]:
    """The rows of both sides that belong together, in the order of the left; -1 where a side has none."""
    order = np.argsort(right, kind="stable")
    sorted_right = right[order]
    start = np.searchsorted(sorted_right, left, "left")
    count = np.where(left < 0, 0, np.searchsorted(sorted_right, left, "right") - start)
    kept = count if how == "inner" else np.maximum(count, 1)
    left_at = np.repeat(np.arange(len(left)), kept)
    offset = np.arange(len(left_at)) - np.repeat(np.cumsum(kept) - kept, kept)
    alone = np.repeat(count == 0, kept)
    position = np.repeat(start, kept) + offset
    right_at = np.where(alone, -1, order[np.minimum(position, max(len(order) - 1, 0))] if len(order) else -1)
    if how == "full":
        rest = np.flatnonzero(~np.isin(right, left) | (right < 0))
        left_at, right_at = np.concatenate([left_at, np.full(len(rest), -1)]), np.concatenate([right_at, rest])
    return left_at.astype(np.int64), right_at.astype(np.int64)


def _with_valid(valid: Rows, right_rows: int, *, how: str) -> tuple[Rows, Rows]:
    """The rows of both sides, each row before with the one that is valid then."""
    left_at, right_at = np.arange(len(valid)), valid
    if how == "inner":
        left_at, right_at = left_at[valid >= 0], valid[valid >= 0]
    if how == "full":
        rest = np.setdiff1d(np.arange(right_rows), valid)
        left_at, right_at = np.concatenate([left_at, np.full(len(rest), -1)]), np.concatenate([right_at, rest])
    return left_at.astype(np.int64), right_at.astype(np.int64)


def _taken(values: Any, at: Rows) -> Any:
    return values.combine_chunks().take(pa.array(at, mask=at < 0))


def _step(
    spec: PartSpec,
    left: pa.Table,
    right: pa.Table,
    joined: pa.Table,
    keys: tuple[Rows, Rows],
    at: tuple[Rows, Rows],
    samples: int,
    overlapping: int,
) -> JoinStep:
    names = [[pair[side] for pair in spec.key_pairs()] for side in (0, 1)]
    met = (at[0] >= 0) & (at[1] >= 0)
    alone = [~np.isin(np.arange(one.num_rows), rows[met]) for one, rows in ((left, at[0]), (right, at[1]))]
    repeats = [0, 0] if spec.day else [_repeats(side) for side in keys]
    nulls, measures = [], []
    for table, rows in ((left, at[0]), (right, at[1])):
        for name in table.schema.names:
            shown = told_apart(spec.name, name) if table is right and name in left.schema.names else name
            if name in names[table is right] or shown not in joined.schema.names:
                continue
            before, after = table.column(name), joined.column(shown)
            new = int((rows < 0).sum())
            if new:
                nulls.append((shown, new))
            numbers = _as_numbers(before), _as_numbers(after)
            if numbers[0] is not None and numbers[1] is not None:
                totals = [float(pc.sum(side).as_py() or 0) for side in numbers]
                if abs(totals[0] - totals[1]) > 1e-9 * max(abs(totals[0]), 1):
                    measures.append(Measure(shown, *totals))
    return JoinStep(
        spec.name, spec.on, spec.how, left.num_rows, right.num_rows, joined.num_rows, int(alone[0].sum()), int(alone[1].sum()),
        _samples(left, names[0], alone[0], samples), _samples(right, names[1], alone[1], samples), repeats[0], repeats[1], tuple(nulls), tuple(measures),
        _would_meet(left, right, spec, int(alone[0].sum())), overlapping,
    )  # fmt: skip


def _as_numbers(values: Any) -> Any | None:
    """A column as numbers where it holds any: of its own type, or text that is plain numbers throughout."""
    if pa.types.is_string(values.type):
        chunks = values.chunks if isinstance(values, pa.ChunkedArray) else [values]
        found = [plain_numbers(chunk) for chunk in chunks if chunk.null_count < len(chunk)]
        plain = all(numbers is not None and not numbers.count(numbers.mark == Mark.COMMA) for numbers in found)
        return values.cast(pa.float64()) if plain else None
    return (
        values
        if pa.types.is_floating(values.type) or pa.types.is_integer(values.type) or pa.types.is_decimal(values.type)
        else None
    )


def _repeats(keys: Rows) -> int:
    _, counts = np.unique(keys[keys >= 0], return_counts=True)
    return int((counts > 1).sum())


def _samples(table: pa.Table, on: Sequence[str], mask: npt.NDArray[np.bool_], count: int) -> tuple[str, ...]:
    """Different keys of some rows, the first ones."""
    keys = zip(*(table.column(name).take(pa.array(np.flatnonzero(mask))).to_pylist() for name in on), strict=True)
    return tuple(", ".join(map(str, one)) for one in islice(dict.fromkeys(keys), count))
