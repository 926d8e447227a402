"""What each operator means: which types it takes, what it gives, and how it is computed. Said once, here."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal, localcontext
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import INTEGER_MAX, INTEGER_MIN, all_finite, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.calendar import FIRST_DAY, LAST_DAY
from oak_ledger.columnar.decimals import decimal_from_unscaled, divided_half_away, peak, unscaled
from oak_ledger.functions.registry import MISSING, CallContext, ComputeError, Function, internal_function
from oak_ledger.types import (
    BOOLEAN,
    DATE,
    INTEGER,
    MAX_DIGITS,
    MAX_PRODUCT_SCALE,
    NULL,
    NUMBER,
    TEXT,
    Type,
    common,
    decimal,
)

MAX_SAFE_SUM = 2**62  # whole numbers below it can be added without wrapping


@dataclass(frozen=True, slots=True)
class Meaning:
    """An operator on given types: what its operands are converted to, its result, its implementation."""

    left: Type
    right: Type
    result: Type
    function: Function


# -- arithmetic ------------------------------------------------------------------------------------------


def settle_decimal(value: Decimal, scale: int) -> Decimal:
    """The value with so many decimals, half away from zero; more than 38 digits cannot be held."""
    if value.adjusted() >= MAX_DIGITS:  # whatever its decimals
        raise ComputeError("more than 38 digits")
    with localcontext() as context:
        context.prec = 200
        rounded = value.quantize(Decimal(1).scaleb(-scale), rounding=ROUND_HALF_UP)
    if len(rounded.as_tuple().digits) > MAX_DIGITS:
        raise ComputeError("more than 38 digits")
    return rounded


def settle_integer(value: int) -> int:
    """The value if it fits in 64 bits."""
    if not INTEGER_MIN <= value <= INTEGER_MAX:
        raise ComputeError("integer overflow")
    return value


def _integers(kernel: Callable[..., Any], plain: Callable[[int, int], int]) -> Callable[..., Any]:
    def run(run: CallContext, left: Any, right: Any) -> Any:
        try:
            return kernel(left, right)
        except pa.ArrowInvalid:  # an overflow somewhere: find the rows
            return run.each(lambda a, b: settle_integer(plain(a, b)), left, right)

    return run


def _numbers(kernel: Callable[..., Any]) -> Callable[..., Any]:
    def run(run: CallContext, left: Any, right: Any) -> Any:
        made = kernel(left, right)
        return made if all_finite(made) else run.fault("number overflow", pc.is_inf(made), made)

    return run


def _decimals(plain: Callable[[Any, Any], Any]) -> Callable[..., Any]:
    """Whole numbers in 64 bits where they fit, Python's decimals where they do not."""

    def run(run: CallContext, left: Any, right: Any) -> Any:
        scale = run.result.scale
        wholes = _whole_operands(run, left, right)
        exact_scale = left.type.scale + right.type.scale if plain is operator.mul else left.type.scale
        if wholes is not None:
            a, b, nulls = wholes
            peaks = [peak(side) for side in (a, b)]
            if (peaks[0] * peaks[1] if plain is operator.mul else sum(peaks)) < MAX_SAFE_SUM:
                results = plain(a, b)
                if exact_scale > scale:  # more decimals than a product keeps
                    results = divided_half_away(results, 10 ** (exact_scale - scale))
                return decimal_from_unscaled(results, scale, nulls)

        def compute(a: Decimal, b: Decimal) -> Decimal:
            with localcontext() as context:
                context.prec = 100
                return settle_decimal(plain(a, b), scale)

        return run.each(compute, left, right)

    return run


def _whole_operands(run: CallContext, left: Any, right: Any) -> tuple[Any, Any, Any] | None:
    """Both sides as whole numbers, 0 where either is null, and where that is; None where they take more than 64 bits."""
    nulls: Any = None
    for side in (left, right):
        if isinstance(side, pa.Scalar):
            if not side.is_valid:
                return None
        elif side.null_count:
            own = to_mask(pc.is_null(side))
            nulls = own if nulls is None else nulls | own
    wholes = []
    for side in (left, right):
        whole = unscaled(pa.repeat(side, 1) if isinstance(side, pa.Scalar) else side)
        if whole is None:
            return None
        wholes.append(whole if nulls is None or len(whole) != run.length else np.where(nulls, 0, whole))
    a, b = wholes
    if len(a) == len(b) == 1 != run.length:
        a = np.repeat(a, run.length)
    return a, b, nulls if nulls is not None else np.zeros(run.length, np.bool_)


def _divide(run: CallContext, left: Any, right: Any) -> Any:
    zero = pc.equal(right, 0.0)
    if isinstance(zero, pa.Scalar):
        if zero.as_py() is False:
            made = pc.divide(run.array(left), right)
            return made if all_finite(made) else run.fault("number overflow", pc.is_inf(made), made)
        zero = run.array(zero)
    elif not pc.any(zero).as_py():
        made = pc.divide(run.array(left), right)
        return made if all_finite(made) else run.fault("number overflow", pc.is_inf(made), made)
    made = pc.divide(run.array(left), pc.if_else(zero, pa.scalar(None, pa.float64()), right))
    lost = pc.and_kleene(zero, pc.is_valid(left))
    made = run.fault("division by zero", lost, made)
    return made if all_finite(made) else run.fault("number overflow", pc.is_inf(made), made)


def _remainder(run: CallContext, left: Any, right: Any) -> Any:
    kind = run.result.kind
    if kind == "decimal":
        wholes = _whole_operands(run, left, right)
        if wholes is None:

            def compute(a: Decimal, b: Decimal) -> Decimal:
                if not b:
                    raise ComputeError("division by zero")
                with localcontext() as context:
                    context.prec = 100
                    return a % b

            return run.each(compute, left, right)
        a, b, nulls = wholes
    else:
        arrays = [run.array(left), run.array(right)]
        nulls = to_mask(pc.is_null(arrays[0])) | to_mask(pc.is_null(arrays[1]))
        a, b = (numpy_view(pc.fill_null(array, 1)) for array in arrays)
    zero = (b == 0) & ~nulls
    made = np.fmod(a, np.where(b == 0, 1, b))
    array = decimal_from_unscaled(made, run.result.scale, nulls) if kind == "decimal" else from_numpy(made, mask=nulls)
    return run.fault("division by zero", zero, array)


def _negate(run: CallContext, value: Any) -> Any:
    if run.result.kind != "integer":
        return pc.negate(value)
    try:
        return pc.negate_checked(value)
    except pa.ArrowInvalid:
        return run.each(lambda a: settle_integer(-a), value)


def _arithmetic(name: str, kernel: Any, checked: Any, plain: Any) -> dict[str, Function]:
    return {
        "integer": internal_function(name, _integers(checked, plain), can_fault=True),
        "decimal": internal_function(name, _decimals(plain), can_fault=True),
        "number": internal_function(name, _numbers(kernel), can_fault=True),
    }


_ARITHMETIC = {
    "+": _arithmetic("+", pc.add, pc.add_checked, operator.add),
    "-": _arithmetic("-", pc.subtract, pc.subtract_checked, operator.sub),
    "*": _arithmetic("*", pc.multiply, pc.multiply_checked, operator.mul),
    "%": dict.fromkeys(("integer", "decimal", "number"), internal_function("%", _remainder, can_fault=True)),
}
_DIVIDE = internal_function("/", _divide, can_fault=True)
_NEGATE = internal_function("-", _negate, can_fault=True)


# -- dates -----------------------------------------------------------------------------------------------


def _shift_days(sign: int) -> Callable[..., Any]:
    def run(run: CallContext, day: Any, days: Any) -> Any:
        arrays = [run.array(day), run.array(days)]
        nulls = to_mask(pc.is_null(arrays[0])) | to_mask(pc.is_null(arrays[1]))
        shift = np.clip(numpy_view(pc.fill_null(arrays[1], 0)), -(10**8), 10**8)
        base = numpy_view(pc.fill_null(arrays[0].cast(pa.int32()), 0)).astype(np.int64)
        made = base + sign * shift
        outside = ((made < FIRST_DAY) | (made > LAST_DAY)) & ~nulls
        days32 = np.where(outside, 0, made).astype(np.int32)
        return run.fault("a date outside years 1 to 9999", outside, from_numpy(days32, mask=nulls).cast(pa.date32()))

    return run


def _days_between(run: CallContext, left: Any, right: Any) -> Any:
    days = [pc.cast(value, pa.int32()) for value in (left, right)]
    return run.array(pc.cast(pc.subtract(*days), pa.int64()))


_PLUS_DAYS = internal_function("+", _shift_days(1), can_fault=True, costly=True)
_MINUS_DAYS = internal_function("-", _shift_days(-1), can_fault=True, costly=True)
_DAYS_BETWEEN = internal_function("-", _days_between)


def _days_first(run: CallContext, days: Any, day: Any) -> Any:
    return _shift_days(1)(run, day, days)


_DAYS_PLUS = internal_function("+", _days_first, can_fault=True, costly=True)


# -- text, comparison, logic ------------------------------------------------------------------------------


def _join(run: CallContext, left: Any, right: Any) -> Any:
    return pc.binary_join_element_wise(run.array(left), run.array(right), "", null_handling="emit_null")


def _compare(kernel: Any) -> Callable[..., Any]:
    return lambda run, left, right: run.array(kernel(left, right))


def _distinct(same: bool) -> Callable[..., Any]:
    def run(run: CallContext, left: Any, right: Any) -> Any:
        a, b = run.array(left), run.array(right)
        equal = pc.if_else(pc.is_null(a), pc.is_null(b), pc.fill_null(pc.equal(a, b), False))
        return equal if same else pc.invert(equal)

    return run


_JOIN = internal_function("||", _join, costly=False)
_COMPARE = {
    "=": internal_function("=", _compare(pc.equal)),
    "<>": internal_function("<>", _compare(pc.not_equal)),
    "<": internal_function("<", _compare(pc.less)),
    "<=": internal_function("<=", _compare(pc.less_equal)),
    ">": internal_function(">", _compare(pc.greater)),
    ">=": internal_function(">=", _compare(pc.greater_equal)),
    "IS DISTINCT FROM": internal_function("IS DISTINCT FROM", _distinct(same=False)),
    "IS NOT DISTINCT FROM": internal_function("IS NOT DISTINCT FROM", _distinct(same=True)),
}
_LOGIC = {
    "AND": internal_function("AND", lambda run, a, b: pc.and_kleene(run.array(a), b), settled=pc.invert),
    "OR": internal_function("OR", lambda run, a, b: pc.or_kleene(run.array(a), b), settled=lambda value: value),
}
NOT = internal_function("NOT", lambda _run, a: pc.invert(a))
IS_NULL = internal_function("IS NULL", lambda _run, a: pc.is_null(a))
IS_TRUE = internal_function("IS TRUE", lambda _run, a: pc.fill_null(a, False))
IS_FALSE = internal_function("IS FALSE", lambda _run, a: pc.fill_null(pc.invert(a), False))
ARITHMETIC = frozenset({"+", "-", "*", "/", "%"})
COMPARISON = frozenset(_COMPARE)


def binary(op: str, left: Type, right: Type) -> Meaning | None:
    """What an operator means for operands of these types; None where it means nothing."""
    if op in _LOGIC:
        fits = {left.kind, right.kind} <= {"boolean", "null"}
        return Meaning(BOOLEAN, BOOLEAN, BOOLEAN, _LOGIC[op]) if fits else None
    if op in _COMPARE:
        shared = common([left, right])
        if shared is None:
            return None
        shared = TEXT if shared == NULL else shared
        return Meaning(shared, shared, BOOLEAN, _COMPARE[op])
    if op == "||":
        fits = {left.kind, right.kind} <= {"text", "null"}
        return Meaning(TEXT, TEXT, TEXT, _JOIN) if fits else None
    return _arithmetic_meaning(op, left, right)


def _arithmetic_meaning(op: str, left: Type, right: Type) -> Meaning | None:
    pair = (left.kind, right.kind)
    if op == "+" and pair in (("date", "integer"), ("date", "null")):
        return Meaning(DATE, INTEGER, DATE, _PLUS_DAYS)
    if op == "+" and pair in (("integer", "date"), ("null", "date")):
        return Meaning(INTEGER, DATE, DATE, _DAYS_PLUS)
    if op == "-" and pair == ("date", "integer"):
        return Meaning(DATE, INTEGER, DATE, _MINUS_DAYS)
    if op == "-" and pair in (("date", "date"), ("date", "null"), ("null", "date")):
        return Meaning(DATE, DATE, INTEGER, _DAYS_BETWEEN)
    shared = common([left, right])
    if shared is None or not (shared.numeric or shared == NULL):
        return None
    if op == "/":
        return Meaning(NUMBER, NUMBER, NUMBER, _DIVIDE)
    if shared == NULL:
        shared = INTEGER
    if shared.kind != "decimal" or op != "*":
        return Meaning(shared, shared, shared, _ARITHMETIC[op][shared.kind])
    sides = [decimal(side.scale) for side in (left, right)]
    result = decimal(min(sides[0].scale + sides[1].scale, MAX_PRODUCT_SCALE))
    return Meaning(sides[0], sides[1], result, _ARITHMETIC["*"]["decimal"])


def sign(op: str, operand: Type) -> Meaning | None:
    """What a sign before a value means."""
    if not (operand.numeric or operand == NULL):
        return None
    kind = INTEGER if operand == NULL else operand
    return Meaning(kind, kind, kind, _NEGATE if op == "-" else _KEEP)


_KEEP = internal_function("+", lambda _run, value: value)


def _in_list(run: CallContext, value: Any, *items: Any) -> Any:
    """`IN`: true where equal to an item, null where a null item or a null value leaves it open."""
    x = run.array(value)
    if MISSING not in run.constants[1:]:
        known = [item for item in run.constants[1:] if item is not None]
        found = pc.is_in(x, value_set=pa.array(known, x.type))
        if len(known) < len(items):
            found = pc.if_else(found, True, pa.scalar(None, pa.bool_()))
        return pc.if_else(pc.is_valid(x), found, pa.scalar(None, pa.bool_()))
    made = pc.equal(x, items[0])
    for item in items[1:]:
        made = pc.or_kleene(made, pc.equal(x, item))
    return made


IN_LIST = internal_function("IN", _in_list)


def like_expression(pattern: str, escape: str | None) -> str:
    """The regular expression of a `LIKE` pattern; raises ComputeError for a bad escape."""
    out, position = [], 0
    while position < len(pattern):
        character = pattern[position]
        if escape and character == escape:
            position += 1
            if position == len(pattern):
                raise ComputeError("the pattern ends with its escape character")
            out.append(re.escape(pattern[position]))
        else:
            out.append({"%": ".*", "_": "."}.get(character) or re.escape(character))
        position += 1
    return "".join(out)


_PLAIN_ENDS = re.compile(r"(%?)([^%_]*)(%?)")


def _like(run: CallContext, value: Any, pattern: Any, *escape: Any) -> Any:
    def by_kernel(_: CallContext, texts: Any, like: str, mark: str | None = None) -> Any:
        ends = _PLAIN_ENDS.fullmatch(like) if not mark or mark not in like else None
        if ends is None:
            return pc.match_substring_regex(texts, f"(?s)^(?:{like_expression(like, mark)})$")
        before, part, after = ends.groups()
        if not part and (before or after):  # nothing but wildcards
            return pc.if_else(pc.is_valid(texts), True, pa.scalar(None, pa.bool_()))
        kernels = {
            ("", ""): pc.equal,
            ("", "%"): pc.starts_with,
            ("%", ""): pc.ends_with,
            ("%", "%"): pc.match_substring,
        }
        return kernels[before, after](texts, part)

    def compute(text: str, like: str, mark: str | None = None) -> bool:
        return re.fullmatch(like_expression(like, mark), text, re.DOTALL) is not None

    found = run.for_each_constant(by_kernel, value, pattern, *escape)
    return run.each(compute, value, pattern, *escape) if found is None else found


LIKE = internal_function("LIKE", _like, can_fault=True, costly=True)
LIKE_CHECKED = internal_function("LIKE", _like, costly=True)  # its pattern is known, and fit
