"""Before and after an edit: what a retype does to the values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from oak_ledger.engine import Fault
from oak_ledger.formula.lexer import name_text
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class Retyped:
    """What came of a retype: the new source, the types, how many values there were and are, and those that were lost.

    `samples` has the first rows as (value before, value after).
    """

    source: Source
    field: str
    type_before: str
    type_after: str
    rows: int
    values_before: int
    values_after: int
    lost: tuple[Fault, ...]
    samples: tuple[tuple[Any, Any], ...]

    @property
    def lost_rows(self) -> int:
        """In how many rows a value could not be converted."""
        return sum(fault.rows for fault in self.lost)


def retyped(source: Source, name: str, kind: str, **keys: Any) -> Retyped:
    """Read a plain field's column as another type, and say what that does to every value.

    `kind` is a type as a definition writes it; `keys` are other keys of the field (template, decimal_mark, …). Raises
    OakError where the field is calculated, or where its clean does not fit the new type.
    """
    state = source.state(name)
    made = source.with_changed(state.name, type=kind, **keys)
    shown = name_text(state.name)
    before = None if state.broken else source.rows([shown])
    after = made.rows([shown])
    known = {(fault.what, fault.rows) for fault in before.faults} if before else set()
    lost = tuple(fault for fault in after.faults if fault.field == state.name and (fault.what, fault.rows) not in known)
    old = before.table.column(0) if before else None
    new = after.table.column(0)
    samples = tuple(zip(old[:5].to_pylist(), new[:5].to_pylist(), strict=True)) if old is not None else ()
    values_before = 0 if old is None else len(old) - old.null_count
    return Retyped(
        made,
        state.name,
        str(state.type or "broken"),
        str(made.state(state.name).type),
        len(new),
        values_before,
        len(new) - new.null_count,
        lost,
        samples,
    )
