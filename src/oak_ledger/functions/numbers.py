"""Functions on numbers."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import ROUND_CEILING, ROUND_DOWN, ROUND_FLOOR, ROUND_HALF_UP, Decimal, localcontext
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask
from oak_ledger.columnar.decimals import decimal_from_unscaled, divided_half_away, divided_towards_zero, peak, unscaled
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
    if value.adjusted() < -digits - 1:  # less than half of what is rounded to, however large that is
        return Decimal(0)
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
        def at_once(_: CallContext, array: Any, digits: int = 0) -> Any | None:
            if run.result.kind == "number":
                return _round_floats(array, digits, mode) if -12 <= digits <= 12 else None
            return _round_wholes(array, digits, run.result, mode)

        def compute(value: Any, digits: int) -> Any:
            if isinstance(value, float):
                return _round_number(value, digits, mode) + 0.0  # no zero below zero
            if isinstance(value, int):
                return value if digits >= 0 else settle_integer(int(_round_exactly(Decimal(value), digits, mode)))
            return settle_decimal(_round_exactly(value, digits, mode), run.result.scale)

        found = run.for_each_constant(at_once, x, *n)
        return run.each(compute, x, *_digits(run, n)) if found is None else found

    return run_round


_READ_ERROR = 3e-16  # of a scaled float, at most: of the multiplication, and of the float itself


def _round_floats(array: Any, digits: int, mode: str) -> Any:
    """Scale and floor; a float that reads in 15 digits as the edge between two results is taken for it, and what is not clear is rounded as it reads."""
    nulls = to_mask(pc.is_null(array))
    values = np.where(nulls, 0.0, numpy_view(array))
    unit = 10.0 ** abs(digits)
    edge = 0.5 if mode == ROUND_HALF_UP else 1.0
    with np.errstate(over="ignore", invalid="ignore"):  # what is very large is rounded as it reads
        scaled = np.abs(values) * unit if digits >= 0 else np.abs(values) / unit
        whole = np.floor(scaled)
        away = np.abs(scaled - whole - edge)
        if mode == ROUND_HALF_UP:
            whole += scaled - whole >= edge
        close = np.flatnonzero((away <= np.maximum(scaled, 1.0) * 1e-14) & (scaled < 1e13))
        slow = scaled >= 1e13
        if len(close):
            near = scaled[close]
            half_digit = 0.5 * 10.0 ** (np.floor(np.log10(np.maximum(near, 1e-300))) - 14)
            at_edge = away[close] + _READ_ERROR * near < half_digit
            whole[close] = np.where(at_edge, np.floor(near) + 1, whole[close])
            slow[close] |= ~at_edge & (away[close] - _READ_ERROR * near <= half_digit)
        results = np.copysign(whole / unit if digits >= 0 else whole * unit, values)
    for row in np.flatnonzero(slow & ~nulls):
        results[row] = _round_number(float(values[row]), digits, mode)
    return from_numpy(results + 0.0, mask=nulls)


def _round_wholes(array: Any, digits: int, result: Type, mode: str) -> Any | None:
    """Integers and decimals as whole numbers of 64 bits; None where these do not do."""
    decimals = result.kind == "decimal"
    whole = unscaled(array) if decimals else numpy_view(array)
    drop = (array.type.scale if decimals else 0) - digits
    if not decimals and digits >= 0:
        return array
    if whole is None or not -18 <= drop <= 18:
        return None
    nulls = to_mask(pc.is_null(array))
    whole = np.where(nulls, 0, whole)
    if drop >= 0:
        divide = divided_half_away if mode == ROUND_HALF_UP else divided_towards_zero
        whole = divide(whole, 10**drop)
    more = result.scale - digits - min(drop, 0)
    if peak(whole) * 10**more >= 2**62:
        return None
    whole = whole * 10**more
    return decimal_from_unscaled(whole, result.scale, nulls) if decimals else from_numpy(whole, mask=nulls)


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
        whole = unscaled(array)
        if whole is None or array.type.scale > 18:
            return run.each(lambda value: settle_decimal(_round_exactly(value, 0, mode), 0), array)
        unit = 10**array.type.scale
        below = whole // unit
        if mode == ROUND_CEILING:
            below += below * unit != whole
        return decimal_from_unscaled(below, 0, to_mask(pc.is_null(array)))

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
    sentence="The quotient of x and y as a whole number, cut towards zero.",
    examples=[("DIV(7, 2)", "3"), ("DIV(-7, 2)", "-3")],
    can_fault=True,
)
def whole_division(run: CallContext, x: Any, y: Any) -> Any:
    """Division without a rest."""
    left, right = run.array(x), run.array(y)
    nulls = to_mask(pc.is_null(left)) | to_mask(pc.is_null(right))
    if run.result.kind == "number":
        a, b = np.where(nulls, 0.0, numpy_view(left)), np.where(nulls, 1.0, numpy_view(right))
        zero = b == 0
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            quotients = np.trunc(a / np.where(zero, 1.0, b))
        lost = np.isinf(quotients)
        result = from_numpy(np.where(lost, 0.0, quotients) + 0.0, mask=nulls)
        return run.fault("number overflow", lost, run.fault("division by zero", zero, result))
    decimals = run.result.kind == "decimal"
    sides = [unscaled(side) if decimals else numpy_view(side) for side in (left, right)]
    if sides[0] is not None and sides[1] is not None:
        a, b = np.where(nulls, 0, sides[0]), np.where(nulls, 1, sides[1])
        zero, unit = b == 0, 10**run.result.scale
        b = np.where(zero, 1, b)
        if peak(a) * unit < 2**62 and peak(b) < 2**62:
            quotients = a // b
            quotients += (quotients * b != a) & ((a < 0) != (b < 0))
            whole = quotients * unit
            found = decimal_from_unscaled(whole, run.result.scale, nulls) if decimals else from_numpy(whole, mask=nulls)
            return run.fault("division by zero", zero, found)

    def compute(a: Any, b: Any) -> Any:
        if not b:
            raise ComputeError("division by zero")
        if isinstance(a, int):
            return settle_integer(abs(a) // abs(b) * (1 if (a < 0) == (b < 0) else -1))
        with localcontext() as context:
            context.prec = 100
            return settle_decimal(Decimal(int(a / b)), run.result.scale)

    return run.each(compute, x, y)


@function(
    "POWER(x number, y number) -> number",
    topic="number",
    sentence="x raised to the power y.",
    examples=[("POWER(2, 10)", "1024"), ("POWER(4, 0.5)", "2")],
    can_fault=True,
)
def power(run: CallContext, x: Any, y: Any) -> Any:
    """A power; a negative number has only whole ones, and zero no negative ones."""
    base, exponent = run.array(x), run.array(y)
    nulls = to_mask(pc.is_null(base)) | to_mask(pc.is_null(exponent))
    a, b = np.where(nulls, 1.0, numpy_view(base)), np.where(nulls, 1.0, numpy_view(exponent))
    of_zero, broken = (a == 0) & (b < 0), (a < 0) & (b != np.trunc(b))
    with np.errstate(over="ignore", under="ignore"):
        powers = np.where(of_zero | broken, 0.0, np.power(np.where(of_zero | broken, 1.0, a), b))
    lost = np.isinf(powers)
    result = from_numpy(np.where(lost, 0.0, powers), mask=nulls)
    result = run.fault("zero raised to a negative power", of_zero, result)
    result = run.fault("a negative number raised to a power that is not whole", broken, result)
    return run.fault("number overflow", lost, result)


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
    """The bucket that a value belongs to."""
    arrays = [run.array(one) for one in (x, low, high, n)]
    nulls = np.logical_or.reduce([to_mask(pc.is_null(array)) for array in arrays])
    value, first, last = (np.where(nulls, at, numpy_view(one)) for at, one in enumerate(arrays[:3]))
    count = np.where(nulls, 1, numpy_view(arrays[3]))
    few, flat, down = count <= 0, first == last, first > last
    value, first, last = (np.where(down, -array, array) for array in (value, first, last))
    with np.errstate(invalid="ignore", over="ignore"):
        inside = np.floor((value - first) * count / np.where(flat, 1.0, last - first)) + 1
    buckets = np.where(value < first, 0, np.where(value >= last, count + 1, inside))
    result = from_numpy(np.where(few | flat, 0, buckets).astype(np.int64), mask=nulls)
    result = run.fault("fewer than one bucket", few, result)
    return run.fault("buckets without width", flat & ~few, result)
