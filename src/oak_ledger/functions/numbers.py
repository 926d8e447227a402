"""Functions on numbers."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import ROUND_CEILING, ROUND_DOWN, ROUND_FLOOR, ROUND_HALF_UP, Decimal, localcontext
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask
from oak_ledger.columnar.decimals import decimal_from_unscaled, divided_half_away, divided_towards_zero, unscaled
from oak_ledger.functions.operators import binary, settle_decimal, settle_integer
from oak_ledger.functions.registry import MISSING, CallContext, ComputeError, function
from oak_ledger.types import MAX_DIGITS, Type, decimal


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


def _digits(run: CallContext, rest: tuple[Any, ...]) -> tuple[Any, ...]:
    return rest or (pa.scalar(0, pa.int64()),)


def _round(mode: str) -> Any:
    def run_round(run: CallContext, x: Any, *n: Any) -> Any:
        asked = run.constants[1] if len(run.constants) > 1 else 0
        if run.result.kind == "number" and type(asked) is int and -12 <= asked <= 12:
            return _round_floats(run.array(x), asked, mode)
        if run.result.kind == "decimal" and type(asked) is int:
            made = _round_wholes(run.array(x), asked, run.result.scale, mode)
            if made is not None:
                return made

        def compute(value: Any, digits: int) -> Any:
            if isinstance(value, float):
                return _round_number(value, digits, mode) + 0.0  # no zero below zero
            if isinstance(value, int):
                return value if digits >= 0 else settle_integer(int(_round_exactly(Decimal(value), digits, mode)))
            return settle_decimal(_round_exactly(value, digits, mode), run.result.scale)

        return run.each(compute, x, *_digits(run, n))

    return run_round


def _round_floats(array: Any, digits: int, mode: str) -> Any:
    """The quick way: scale and floor, and the exact way only for values that lie close to a tie."""
    nulls = to_mask(pc.is_null(array))
    values = numpy_view(pc.fill_null(array, 0.0))
    unit = 10.0 ** abs(digits)
    with np.errstate(over="ignore", invalid="ignore"):  # what is very large is rounded as it reads
        scaled = np.abs(values) * unit if digits >= 0 else np.abs(values) / unit
        whole = np.floor(scaled)
        fraction = scaled - whole
        edge = 0.5 if mode == ROUND_HALF_UP else 1.0
        near = np.abs(fraction - edge) <= np.maximum(scaled, 1.0) * 1e-14
        if mode == ROUND_DOWN:
            near |= fraction <= np.maximum(scaled, 1.0) * 1e-14
        if mode == ROUND_HALF_UP:
            whole += fraction >= 0.5
        made = np.copysign(whole / unit if digits >= 0 else whole * unit, values)
    exact = near | (scaled >= 1e13)
    for row in np.flatnonzero(exact & ~nulls):
        made[row] = _round_number(float(values[row]), digits, mode)
    return from_numpy(made + 0.0, mask=nulls)


def _round_wholes(array: Any, digits: int, scale: int, mode: str) -> Any | None:
    whole = unscaled(array)
    drop = array.type.scale - digits
    if whole is None or not 0 <= drop <= 17 or digits < 0:
        return None
    unit = 10**drop
    made = divided_half_away(whole, unit) if mode == ROUND_HALF_UP else divided_towards_zero(whole, unit)
    return decimal_from_unscaled(made, scale, to_mask(pc.is_null(array)))


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
def absolute(run: CallContext, x: Any) -> Any:
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
def square_root(run: CallContext, x: Any) -> Any:
    """The root; a negative number has none."""
    array = run.array(x)
    negative = pc.less(array, 0.0)
    made = pc.sqrt(pc.if_else(negative, pa.scalar(None, pa.float64()), array))
    return run.fault("root of a negative number", negative, made)


def _whole(mode: str) -> Any:
    """CEILING and FLOOR: a decimal loses its decimals, a number and an integer keep their type."""

    def run_whole(run: CallContext, x: Any) -> Any:
        array = run.array(x)
        if run.result.kind == "integer":
            return array
        if run.result.kind == "number":
            made = pc.ceil(array) if mode == ROUND_CEILING else pc.floor(array)
            return pc.add(made, 0.0)
        return run.each(lambda value: settle_decimal(_round_exactly(value, 0, mode), 0), array)

    return run_whole


ceiling = function(
    "CEILING(x numeric) -> same",
    topic="number",
    sentence="The next whole number that is not below x; also written CEIL.",
    examples=[("CEILING(2.1)", "3"), ("CEILING(-2.1)", "-2")],
    result=_rounded_type,
    can_fault=True,
)(_whole(ROUND_CEILING))

floor = function(
    "FLOOR(x numeric) -> same",
    topic="number",
    sentence="The next whole number that is not above x.",
    examples=[("FLOOR(2.9)", "2"), ("FLOOR(-2.1)", "-3")],
    result=_rounded_type,
    can_fault=True,
)(_whole(ROUND_FLOOR))


@function(
    "SIGN(x numeric) -> integer",
    topic="number",
    sentence="-1, 0 or 1, as x is below, at or above zero.",
    examples=[("SIGN(-2.5)", "-1"), ("SIGN(0)", "0")],
)
def sign_of(run: CallContext, x: Any) -> Any:
    """The sign as an integer."""
    return pc.cast(pc.sign(run.array(x)), pa.int64())


@function(
    "MOD(x numeric, y numeric) -> common",
    topic="number",
    sentence="The remainder of x divided by y, with the sign of x; the same as x % y.",
    examples=[("MOD(7, 3)", "1"), ("MOD(-7.5, 2)", "-1.5")],
    can_fault=True,
)
def modulo(run: CallContext, x: Any, y: Any) -> Any:
    """The remainder."""
    meaning = binary("%", run.result, run.result)
    return meaning.function.run(run, x, y) if meaning else None


@function(
    "DIV(x numeric, y numeric) -> common",
    topic="number",
    sentence="How often y goes into x as a whole, towards zero.",
    examples=[("DIV(7, 2)", "3"), ("DIV(-7, 2)", "-3")],
    can_fault=True,
)
def whole_division(run: CallContext, x: Any, y: Any) -> Any:
    """Division without a rest."""

    def compute(a: Any, b: Any) -> Any:
        if not b:
            raise ComputeError("division by zero")
        if isinstance(a, int):
            return settle_integer(abs(a) // abs(b) * (1 if (a < 0) == (b < 0) else -1))
        if isinstance(a, Decimal):
            with localcontext() as context:
                context.prec = 100
                return settle_decimal(Decimal(int(a / b)), run.result.scale)
        return _finite(float(np.trunc(a / b)))

    return run.each(compute, x, y)


def _finite(value: float) -> float:
    if not np.isfinite(value):
        raise ComputeError("number overflow")
    return value


@function(
    "POWER(x number, y number) -> number",
    topic="number",
    sentence="x raised to the power y.",
    examples=[("POWER(2, 10)", "1024"), ("POWER(4, 0.5)", "2")],
    can_fault=True,
)
def power(run: CallContext, x: Any, y: Any) -> Any:
    """A power; a negative number has only whole ones, and zero no negative ones."""

    def compute(base: float, exponent: float) -> float:
        if base == 0 and exponent < 0:
            raise ComputeError("zero raised to a negative power")
        if base < 0 and not exponent.is_integer():
            raise ComputeError("a negative number raised to a power that is not whole")
        try:
            return _finite(float(base**exponent))
        except OverflowError:
            raise ComputeError("number overflow") from None

    return run.each(compute, x, y)


@function(
    "EXP(x number) -> number",
    topic="number",
    sentence="e raised to the power x.",
    examples=[("EXP(0)", "1"), ("ROUND(EXP(1), 4)", "2.7183")],
    can_fault=True,
)
def exponential(run: CallContext, x: Any) -> Any:
    """The exponential function."""
    made = pc.exp(run.array(x))
    return run.fault("number overflow", pc.is_inf(made), made)


def _logarithm(kernel: Any) -> Any:
    def run_log(run: CallContext, x: Any) -> Any:
        array = run.array(x)
        wrong = pc.less_equal(array, 0.0)
        made = kernel(pc.if_else(wrong, pa.scalar(None, pa.float64()), array))
        return run.fault("logarithm of a number that is not above zero", wrong, made)

    return run_log


natural_logarithm = function(
    "LN(x number) -> number",
    topic="number",
    sentence="The natural logarithm.",
    examples=[("LN(1)", "0"), ("ROUND(LN(10), 4)", "2.3026")],
    can_fault=True,
)(_logarithm(pc.ln))

common_logarithm = function(
    "LOG10(x number) -> number",
    topic="number",
    sentence="The logarithm to base 10.",
    examples=[("LOG10(1000)", "3"), ("LOG10(1)", "0")],
    can_fault=True,
)(_logarithm(pc.log10))


@function(
    "WIDTH_BUCKET(x number, low number, high number, n integer) -> integer",
    topic="number",
    sentence="In which of n equally wide buckets from low to high x lies: 0 below, n + 1 above; counted downwards where low is above high.",
    examples=[("WIDTH_BUCKET(5.35, 0, 10, 5)", "3"), ("WIDTH_BUCKET(10, 0, 10, 5)", "6")],
    can_fault=True,
)
def width_bucket(run: CallContext, x: Any, low: Any, high: Any, n: Any) -> Any:
    """The bucket that a value lies in."""

    def compute(value: float, first: float, last: float, count: int) -> int:
        if count <= 0:
            raise ComputeError("fewer than one bucket")
        if first == last:
            raise ComputeError("buckets without width")
        if first > last:
            value, first, last = -value, -first, -last
        if value < first:
            return 0
        return count + 1 if value >= last else int((value - first) * count / (last - first)) + 1

    return run.each(compute, x, low, high, n)
