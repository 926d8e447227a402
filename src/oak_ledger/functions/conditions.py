"""Functions that choose among values."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.functions.registry import CallContext, function


@function(
    "COALESCE(x any…) -> common",
    topic="condition",
    sentence="The first value that is not null.",
    nulls="Null when every argument is null.",
    settled=pc.is_valid,
    examples=[("COALESCE(NULL, 5)", "5"), ("COALESCE(NULL, NULL, 'unknown')", "unknown")],
)
def coalesce(run: CallContext, *values: Any) -> Any:
    """The first that is there."""
    return pc.coalesce(run.array(values[0]), *values[1:])


@function(
    "NULLIF(x any, y any) -> common",
    topic="condition",
    sentence="Null where the two are equal, else the first.",
    nulls="Null when the first is null.",
    examples=[("NULLIF('-', '-')", "null"), ("NULLIF(7, 0)", "7")],
)
def nullif(run: CallContext, x: Any, y: Any) -> Any:
    """Null where equal."""
    equal = pc.fill_null(pc.equal(run.array(x), y), False)
    return pc.if_else(equal, pa.scalar(None, x.type), x)


@function(
    "GREATEST(x any…) -> common",
    topic="condition",
    sentence="The largest of the values; nulls are left out.",
    nulls="Null only when every argument is null.",
    examples=[("GREATEST(3, NULL, 5)", "5"), ("GREATEST('ash', 'oak')", "oak")],
)
def greatest(run: CallContext, *values: Any) -> Any:
    """The largest."""
    return _extreme(run, pc.greater, values)


@function(
    "LEAST(x any…) -> common",
    topic="condition",
    sentence="The smallest of the values; nulls are left out.",
    nulls="Null only when every argument is null.",
    examples=[("LEAST(3, NULL, 5)", "3"), ("LEAST(2.5, 2)", "2.0")],
)
def least(run: CallContext, *values: Any) -> Any:
    """The smallest."""
    return _extreme(run, pc.less, values)


def _extreme(run: CallContext, better: Any, values: tuple[Any, ...]) -> Any:
    if not (pa.types.is_string(values[0].type) or pa.types.is_boolean(values[0].type)):
        kernel = pc.max_element_wise if better is pc.greater else pc.min_element_wise
        return kernel(run.array(values[0]), *values[1:], skip_nulls=True)
    best = run.array(values[0])
    for value in values[1:]:
        other = run.array(value)
        take = pc.or_kleene(pc.is_null(best), pc.fill_null(better(other, best), False))
        best = pc.if_else(take, other, best)
    return best
