"""A small summary of a field's values, kept with each published version: to recognise a column, and to notice drift."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_arrow_type
from oak_ledger.columnar.texts import value_text
from oak_ledger.definition.document import Document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.functions.accumulators import as_floats
from oak_ledger.origin.reader import OriginReader
from oak_ledger.types import Grain

if TYPE_CHECKING:
    from oak_ledger.source.source import Source

SKETCH = 512
SAME = 0.9
MIN_TELLING = 20  # distinct values from which equal ones say that two fields are the same
EARLIER_NAMES = {"least": "minimum", "most": "maximum", "middle": "median", "mean": "average"}


@dataclass(frozen=True, slots=True)
class Fingerprint:
    """Of one field: its type, how many rows and nulls, how many distinct values, median and average of numbers, minimum and maximum as text.

    `sketch` holds the smallest hashes of its distinct values; two sketches show how far two sets of values are the same.
    """

    type: str
    rows: int
    nulls: int
    distinct: int
    minimum: str | None
    maximum: str | None
    median: float | None
    average: float | None
    sketch: tuple[int, ...]
    arrived_null: float | None = None
    """The share of rows without a value as it arrives, before a clean fills some in; None where nothing is cleaned, or not known."""

    def as_json(self) -> dict[str, Any]:
        """Plain values."""
        return asdict(self)

    @staticmethod
    def from_json(values: Mapping[str, Any]) -> Fingerprint:
        """From plain values, also those of earlier versions."""
        named = {EARLIER_NAMES.get(name, name): value for name, value in values.items()}
        return Fingerprint(**{**named, "sketch": tuple(values["sketch"])})


def fingerprint(values: Any) -> Fingerprint:
    """The fingerprint of an array."""
    import pandas as pd

    array = values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values
    if pa.types.is_dictionary(array.type):
        array = array.cast(array.type.value_type)
    kind = from_arrow_type(array.type)
    present = array.drop_null()
    different = present.unique()
    ends = pc.min_max(present).as_py() if len(present) else {"min": None, "max": None}
    median = average = None
    if kind is not None and kind.numeric and len(present):
        numbers = as_floats(present)
        median, average = float(np.median(numbers)), float(np.mean(numbers))
    texts = np.array([value_text(value) for value in different.to_pylist()], dtype=object)
    hashes = np.sort(pd.util.hash_array(texts)) if len(texts) else np.array([], np.uint64)
    sketch = tuple(int(hash_) for hash_ in hashes[:SKETCH])
    return Fingerprint(
        str(kind),
        len(array),
        array.null_count,
        len(different),
        value_text(ends["min"]),
        value_text(ends["max"]),
        median,
        average,
        sketch,
    )


def arrived_null(source: Source) -> dict[str, float]:
    """For each field with a clean, the share of rows that have no value before it is cleaned."""
    cleaned = [block for block in source.document.all("field") if block.values.get("clean")]
    document = source.document
    for block in cleaned:
        document = document.replaced(block, {"clean": None})
    raw = source.changed(document)
    names = [str(block.values["name"]) for block in cleaned]
    names = [name for name in names if not raw.state(name).broken]
    if not names:
        return {}
    shown = [(f"{at}", f"COUNT({quote_identifier(name)})") for at, name in enumerate(names)]
    counts = raw.tally(show=[*shown, ("rows", "COUNT(*)")]).to_dicts()[0]
    return {name: 1 - counts[f"{at}"] / counts["rows"] for at, name in enumerate(names) if counts["rows"]}


def same_field(one: Fingerprint, other: Fingerprint) -> bool:
    """Whether two fingerprints are so much alike that they are of one field under two names."""
    kinds = one.type.partition("(")[0] == other.type.partition("(")[0]
    return kinds and one.distinct > 1 and min(shared(one, other), shared(other, one)) >= SAME


def renamed_between(before: Mapping[str, Fingerprint], after: Mapping[str, Fingerprint]) -> dict[str, str]:
    """Fields that have another name in `after` than in `before`, recognised by their values (new name: old name)."""
    gone = [name for name in before if name not in after]
    found: dict[str, str] = {}
    for new in (name for name in after if name not in before):
        old = next((name for name in gone if name not in found.values() and same_field(before[name], after[new])), None)
        if old is not None:
            found[new] = old
    return found


def names_before(source: Source, baseline: OriginReader, definition: Document | None) -> dict[str, str]:
    """The names that fields of a source have in an earlier state of it, where they differ (new name: old name).

    A field is recognised by its column, where the earlier state has a definition, else by its values.
    """
    fields = {state.name: state for state in source.shared.states.values() if isinstance(state.spec, FieldSpec)}
    there = baseline.columns()
    gone = [name for name in there if name not in fields]
    new = [
        name for name, state in fields.items() if name not in there and state.grain == Grain.ROW and not state.broken
    ]
    if not gone or not new:
        return {}
    specs = [] if definition is None else definition.models("field", FieldSpec)
    columns = {spec.column: spec.name for spec in specs if spec.column and spec.name in gone}
    found: dict[str, str] = {}
    for name in new:
        column = getattr(fields[name].spec, "column", "")
        if column in columns:
            found[name] = columns[column]
    rest, left = [name for name in gone if name not in found.values()], [name for name in new if name not in found]
    if rest and left:
        then = pa.Table.from_batches(baseline.batches(rest))
        now = source.rows([quote_identifier(name) for name in left]).table
        old = {name: one for name in rest if (one := fingerprint(then.column(name))).distinct >= MIN_TELLING}
        found |= renamed_between(old, {name: fingerprint(now.column(name)) for name in left})
    return found


def shared(one: Fingerprint, other: Fingerprint) -> float:
    """About which share of the distinct values of `one` is among those of `other`, from 0 to 1."""
    if not one.sketch or not other.sketch:
        return 0.0
    # both sketches are complete up to the smaller of their largest hashes, unless they hold everything
    limits = [print_.sketch[-1] for print_ in (one, other) if len(print_.sketch) >= SKETCH]
    edge = min(limits, default=2**64)
    own = {value for value in one.sketch if value <= edge}
    return len(own & set(other.sketch)) / len(own) if own else 0.0
