"""An origin that changed under a definition: the column is there, but it is not what it was when last published."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from oak_ledger.errors import Finding, Place
from oak_ledger.formula import Grain
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.insight.fingerprint import Fingerprint, fingerprint, shared
from oak_ledger.insight.probes import format_number
from oak_ledger.source.definition import FieldSpec
from oak_ledger.source.source import Source

MIN_NULL_SHARE = 0.05
MIN_UNIT_FACTOR = 5.0
MAX_CATEGORIES = 200
MIN_KNOWN_SHARE = 0.5


def drift(source: Source, before: Mapping[str, Fingerprint], since: str) -> Iterator[Finding]:
    """How the plain fields differ from their fingerprints; `since` says in words when those were taken."""
    plain = [
        state.name
        for state in source.fields
        if isinstance(state.spec, FieldSpec)
        and not state.spec.calculated
        and not state.broken
        and state.grain == Grain.ROW
    ]
    known = [name for name in plain if name in before]
    if not known:
        return
    table = source.rows([quote_identifier(name) for name in known]).table
    for name in known:
        yield from _changes(source, name, before[name], fingerprint(table.column(name)), since)


def _changes(source: Source, name: str, old: Fingerprint, new: Fingerprint, since: str) -> Iterator[Finding]:
    place = Place(f"{source.document.where}, field {name!r}")

    def warn(code: str, message: str, hint: str, **numbers: float | str | None) -> Finding:
        return Finding(code, message, place, hint, "warning", None, dict(numbers))

    if old.type.partition("(")[0] != new.type.partition("(")[0]:
        yield warn("drift-type", f"{name} was {old.type} in {since} and is {new.type} now.", "Retype or clean it.")
        return
    if old.median and new.median and not 1 / MIN_UNIT_FACTOR < new.median / old.median < MIN_UNIT_FACTOR:
        ratio = new.median / old.median
        times = f"{ratio:.3g} times" if ratio >= 1 else f"about 1/{1 / ratio:.3g}"
        message = f"{name}: the median went from {format_number(old.median)} ({since}) to {format_number(new.median)}, {times}. Its unit may have changed."
        power = round(1 / ratio) if ratio < 1 else 0
        hint = (
            f"If so, clean it: VALUE * {power}"
            if power in (10, 100, 1000)
            else "Ask what the figures are in now, and clean it."
        )
        yield warn("drift-unit", message, hint, before=old.median, now=new.median)
    if abs(new.null_share - old.null_share) > MIN_NULL_SHARE:
        message = f"{name}: {new.null_share:.1%} of the rows have no value; in {since} it was {old.null_share:.1%}."
        yield warn(
            "drift-nulls",
            message,
            "Ask whether the values are missing or no longer delivered.",
            before=old.null_share,
            now=new.null_share,
        )
    if (
        0 < old.distinct <= MAX_CATEGORIES
        and new.distinct
        and new.type == "text"
        and shared(new, old) < MIN_KNOWN_SHARE
    ):
        message = f"{name}: only {shared(new, old):.0%} of its distinct values were there in {since}."
        yield warn("drift-values", message, "Look at the values: peek at the field.", shared=shared(new, old))
