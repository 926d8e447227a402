"""What `BEFORE` needs for a question: the same formulas asked of the baseline, by the same keys or the same groups."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oak_ledger.engine import Expression, Query
from oak_ledger.engine.evaluate import needed
from oak_ledger.engine.lookup import KeyLookup
from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.formula import Grain
from oak_ledger.formula import checked as c
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.names.known import Asked
from oak_ledger.origin import ParquetReader
from oak_ledger.origin.arrow_ipc import ArrowReader
from oak_ledger.origin.reader import OriginReader

VALUE = "the value before"


@dataclass(frozen=True, slots=True)
class BaselineValues:
    """For each `BEFORE` of a question: its values by key or group, and over all rows together."""

    by_key: Mapping[c.TypedNode, KeyLookup]
    overall: Mapping[c.TypedNode, KeyLookup]


def snapshot(path: Path) -> OriginReader:
    """A dated state of a source's rows in a file, as `oak export` writes it. Raises UnusableInput where it is none."""
    if path.suffix not in (".parquet", ".arrow", ".feather"):
        hint = "oak export SOURCE --to snapshot.parquet makes one."
        raise UnusableInput("not-a-snapshot", f"{path} is not a Parquet or Arrow file.", hint=hint)
    feed: OriginReader = ParquetReader(path) if path.suffix == ".parquet" else ArrowReader(path)
    feed.columns()
    return feed


def baseline_values(source: Asked, question: Query, by: Sequence[Any], where: Any) -> BaselineValues:
    """What a question's `BEFORE`s find. Raises OakError where the baseline lacks what they need."""
    owners = [*question.asked, *question.always]
    names = needed(question.fields, [owner.checked for owner in owners])
    found: dict[c.Before, Expression] = {}
    for owner in (*owners, *(question.fields[name] for name in names)):
        found |= {piece: owner for piece in c.walk(owner.checked) if isinstance(piece, c.Before)}
    by_key: dict[c.TypedNode, KeyLookup] = {}
    overall: dict[c.TypedNode, KeyLookup] = {}
    if not found:
        return BaselineValues(by_key, overall)
    baseline = source.at_baseline()
    for node, owner in found.items():
        text = owner.text[node.value.start : node.value.end]
        _there(baseline, node)
        if node.grain == Grain.ROW:
            by_key[node] = _by_key(source, baseline, text)
        else:
            groups = baseline.tally(by, [(VALUE, text)], where=where).table
            by_key[node] = KeyLookup(groups.columns[:-1], groups.column(VALUE))
            if question.totals:
                overall[node] = KeyLookup([], baseline.tally(show=[(VALUE, text)], where=where).table.column(VALUE))
    return BaselineValues(by_key, overall)


def _by_key(source: Asked, baseline: Asked, text: str) -> KeyLookup:
    names = source.about.key
    rows = baseline.rows([*(quote_identifier(name) for name in names), (VALUE, text)]).table
    lookup = KeyLookup(rows.columns[:-1], rows.column(VALUE))
    if lookup.repeated is not None:
        shown = ", ".join(str(column[lookup.repeated].as_py()) for column in rows.columns[:-1])
        message = f"The key {', '.join(names)} is in more than one row of the baseline, such as {shown}: which one was before?"
        raise OakError(
            "baseline-key-repeats", message, hint="Name a key under [source] that is different in every row."
        )
    return lookup


def _there(baseline: Asked, node: c.Before) -> None:
    """All fields that are needed are in the baseline."""
    waiting = [*c.fields_used(node.value), *(key.name for key in node.keys if isinstance(key, c.FieldRef))]
    while waiting:
        state = baseline.state(waiting.pop())
        if state.broken:
            message = f"The baseline has no field {state.name}."
            raise OakError("not-in-baseline", message, hint="It was made before the field was there, or without it.")
        if state.expression is not None:
            waiting += [name for name in c.fields_used(state.expression.checked) if name in baseline.compiled.expressions and name.casefold() in baseline.compiled.states]  # fmt: skip
