"""Functions on numbers."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import ROUND_DOWN, ROUND_HALF_UP, Decimal, localcontext
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.formula.library.operators import settle_decimal, settle_integer
from oak_ledger.formula.library.registry import MISSING, Run, function
from oak_ledger.formula.types import MAX_DIGITS, Type, decimal
from oak_ledger.formula.values import decimal_from_unscaled, mask_of, unscaled


def _rounded_type(types: Sequence[Type], constants: Sequence[Any]) -> Type:
    if types[0].kind != "decimal":
        return types[0]
    asked = constants[1] if len(constants) > 1 else 0
    if asked is MISSING or asked is None:
        return types[0]
    return decimal(min(max(int(asked), 0), MAX_DIGITS))


def _quantum(digits: int) -> Decimal:
    return Decimal(1).scaleb(-max(-400, min(digits, 400)))


def _round_exactly(value: Decimal, digits: int, mode: str) -> Decimal:
    with localcontext() as context:
        context.prec = 1000
        return value.quantize(_quantum(digits), rounding=mode)


def _round_number(value: float, digits: int, mode: str) -> float:
    """Round a float as it reads in 15 significant digits; asked for more than it has, leave it."""
    read = Decimal(f"{value:.15g}")
    if digits >= 15 - 1 - read.adjusted():
        return value
    return float(_round_exactly(read, digits, mode))


def _digits(run: Run, rest: tuple[Any, ...]) -> tuple[Any, ...]:
    return rest or (pa.scalar(0, pa.int64()),)


def _round(mode: str) -> Any:
    def run_round(run: Run, x: Any, *n: Any) -> Any:
        asked = run.constants[1] if len(run.constants) > 1 else 0
        if run.result.kind == "number" and type(asked) is int and -12 <= asked <= 12:
            return _round_floats(run.array(x), asked, mode)
        if run.result.kind == "decimal" and type(asked) is int:
            made = _round_wholes(run.array(x), asked, run.result.scale, mode)
            if made is not None:
                return made

        def compute(value: Any, digits: int) -> Any:
            if isinstance(value, float):
                return _round_number(value, digits, mode)
            if isinstance(value, int):
                return value if digits >= 0 else settle_integer(int(_round_exactly(Decimal(value), digits, mode)))
            return settle_decimal(_round_exactly(value, digits, mode), run.result.scale)

        return run.each(compute, x, *_digits(run, n))

    return run_round


def _round_floats(array: Any, digits: int, mode: str) -> Any:
    """The quick way: scale and floor, and the exact way only for values that lie close to a tie."""
    nulls = mask_of(pc.is_null(array))
    values = pc.fill_null(array, 0.0).to_numpy(zero_copy_only=False)
    unit = 10.0 ** abs(digits)
    scaled = np.abs(values) * unit if digits >= 0 else np.abs(values) / unit
    whole = np.floor(scaled)
    fraction = scaled - whole
    edge = 0.5 if mode == ROUND_HALF_UP else 1.0
    near = np.abs(fraction - edge) <= np.maximum(scaled, 1.0) * 1e-14
    if mode == ROUND_DOWN:
        near |= fraction <= np.maximum(scaled, 1.0) * 1e-14
    if mode == ROUND_HALF_UP:
        whole = np.where(fraction >= 0.5, whole + 1, whole)
    made = np.copysign(whole / unit if digits >= 0 else whole * unit, values)
    exact = near | (scaled >= 1e13)
    for row in np.flatnonzero(exact & ~nulls):
        made[row] = _round_number(float(values[row]), digits, mode)
    return pa.array(made + 0.0, mask=nulls)


def _round_wholes(array: Any, digits: int, scale: int, mode: str) -> Any | None:
    whole = unscaled(array)
    drop = array.type.scale - digits
    if whole is None or not 0 <= drop <= 17 or digits < 0:
        return None
    unit = 10**drop
    lifted = np.abs(whole) + (unit // 2 if mode == ROUND_HALF_UP else 0)
    made = np.sign(whole) * (lifted // unit)
    return decimal_from_unscaled(made, scale, mask_of(pc.is_null(array)))


round_half_up = function(
    "ROUND(x numeric, [n integer]) -> same",
    topic="number",
    sentence="The number rounded to n decimals (0 when left out), half away from zero.",
    examples=[
        ("ROUND(2.675, 2)", "2.68"),
        ("ROUND(-2.5)", "-3"),
        ("ROUND(2.675e0, 2)", "2.68"),
        ("ROUND(1234, -2)", "1200"),
    ],
    result=_rounded_type,
    can_fault=True,
)(_round(ROUND_HALF_UP))

truncate = function(
    "TRUNC(x numeric, [n integer]) -> same",
    topic="number",
    sentence="The number cut off after n decimals (0 when left out), towards zero.",
    examples=[("TRUNC(2.679, 2)", "2.67"), ("TRUNC(-2.9)", "-2"), ("TRUNC(2.3e0, 1)", "2.3")],
    result=_rounded_type,
    can_fault=True,
)(_round(ROUND_DOWN))


@function(
    "ABS(x numeric) -> same",
    topic="number",
    sentence="The number without its sign.",
    examples=[("ABS(-3)", "3"), ("ABS(2.50)", "2.50")],
    can_fault=True,
)
def absolute(run: Run, x: Any) -> Any:
    """The absolute value; the least integer has none."""
    if run.result.kind != "integer":
        return pc.abs(run.array(x))
    try:
        return pc.abs_checked(run.array(x))
    except pa.ArrowInvalid:
        return run.each(lambda value: settle_integer(abs(value)), x)


@function(
    "SQRT(x number) -> number",
    topic="number",
    sentence="The square root.",
    examples=[("SQRT(16)", "4"), ("ROUND(SQRT(2), 4)", "1.4142")],
    can_fault=True,
)
def square_root(run: Run, x: Any) -> Any:
    """The root; a negative number has none."""
    array = run.array(x)
    negative = pc.less(array, 0.0)
    made = pc.sqrt(pc.if_else(negative, pa.scalar(None, pa.float64()), array))
    return run.fault("root of a negative number", negative, made)
