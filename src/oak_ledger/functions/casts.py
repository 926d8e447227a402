"""Casts between types: what each can be, how text is read and written, and which values do not fit."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import all_finite, arrow_type, from_numpy, numpy_view, to_mask, validity
from oak_ledger.columnar.decimals import decimal_from_unscaled, decimal_to_number, divided_half_away, peak, unscaled
from oak_ledger.columnar.texts import fixed_width, number_text, text_bytes, value_text
from oak_ledger.functions.operators import settle_decimal, settle_integer
from oak_ledger.functions.registry import MISSING, CallContext, ComputeError, Function, internal_function
from oak_ledger.functions.templates import SPACES, Template, template
from oak_ledger.types import MAX_DIGITS, TEXT, Type

TRUE_WORDS = frozenset({"true", "t", "yes", "y", "on", "1"})
FALSE_WORDS = frozenset({"false", "f", "no", "n", "off", "0"})


@dataclass(frozen=True, slots=True)
class CastTo:
    """What a cast is given: the type, the digits of a decimal, the date template (may be empty); with `exact` more decimals than the type
    keeps are a fault, as where a column is read, and not rounded, and so are leading zeros; with `label` the numbers name something, and a plus before them says that they are none."""

    type: Type
    precision: int = MAX_DIGITS
    template: str = ""
    exact: bool = False
    label: bool = False


LONG_DIGITS = 7  # a plus before so many is that of a telephone
_AROUND = f"[{SPACES}]*"
LOST = {
    "a number would lose its leading zeros": rf"^{_AROUND}[+-]?0[0-9]+{_AROUND}$",
    "a number would lose its plus": rf"^{_AROUND}\+[0-9]{{{LONG_DIGITS},}}{_AROUND}$",
    "undecided between decimals and thousands": rf"^{_AROUND}[+-]?[1-9][0-9]{{0,2}}\.[0-9]{{3}}{_AROUND}$",
}
"""Texts that a column of numbers does not take, since reading them would lose something or guess."""


def lost_in(to: CastTo) -> Sequence[str]:
    """What may be lost where a column of texts is read as numbers."""
    zeros, plus, group = LOST
    fewer = to.type.kind == "decimal" and to.type.scale < 3
    return [] if not to.exact else [zeros, *([plus] if to.label else []), *([group] if fewer else [])]


def _that_lose_nothing(run: CallContext, text: Any) -> Any:
    """The texts of a column that say no more than the number that they are read as; the others are faults."""
    to: CastTo | None = run.extra
    if to is None or isinstance(text, pa.Scalar):
        return text
    for what in lost_in(to):
        if _may_have(text, what):
            text = run.fault(what, pc.match_substring_regex(text, LOST[what]), text)
    return text


def _may_have(texts: Any, what: str) -> bool:
    """Whether any text may lose something, by a look that is quicker than the pattern."""
    zeros, _, group = LOST
    if what == group:
        return bool(
            pc.any(
                pc.equal(pc.find_substring(texts, "."), pc.subtract(pc.binary_length(pc.ascii_rtrim(texts, SPACES)), 4))
            ).as_py()
        )
    begins = ("0", "+0", "-0", *SPACES) if what == zeros else ("+", *SPACES)
    return any(pc.any(pc.starts_with(texts, begin)).as_py() for begin in begins)


def _misfits(run: CallContext, text: Any, expression: str, what: str, convert: Callable[[Any], Any]) -> Any:
    """Convert the texts that match; the others are faults. `convert` takes trimmed matching texts only."""
    trimmed = pc.utf8_trim(run.array(text), SPACES)
    fits = pc.match_substring_regex(trimmed, expression)
    made = convert(pc.if_else(fits, trimmed, pa.scalar(None, pa.string())))
    return run.fault(what, pc.invert(fits), made)


def _text_to_integer(run: CallContext, text: Any) -> Any:
    text = _that_lose_nothing(run, text)
    made = _at_once(run, text, pa.int64())
    if made is not None and not _holds_x(text):  # not 0x1F
        return made

    def convert(texts: Any) -> Any:
        try:
            return pc.cast(pc.replace_substring_regex(texts, r"^\+", ""), pa.int64())
        except pa.ArrowInvalid:
            return run.each(lambda value: settle_integer(int(value)), texts)

    return _misfits(run, text, r"^[+-]?[0-9]+$", "not a whole number", convert)


def _holds_x(texts: Any) -> bool:
    offsets, data = text_bytes(texts)
    return bool(((data[offsets[0] : offsets[-1]] | 0x20) == ord("x")).any())


_PLAIN = r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)"


def _at_once(run: CallContext, text: Any, kind: Any) -> Any | None:
    """All texts by Arrow's own reader, where it takes every one of them; then it gives what the plain way gives."""
    if isinstance(text, pa.Scalar):
        return None
    try:
        return pc.cast(text, kind)
    except pa.ArrowInvalid:
        return None


def _text_to_number(run: CallContext, text: Any) -> Any:
    text = _that_lose_nothing(run, text)
    made = _at_once(run, text, pa.float64())
    if made is not None and all_finite(made) and not pc.any(pc.is_nan(made)).as_py():
        return made

    def convert(texts: Any) -> Any:
        bare = pc.replace_substring_regex(texts, r"^\+", "")
        try:
            made = pc.cast(bare, pa.float64())
        except pa.ArrowInvalid:
            made = run.each(float, bare)
        return run.fault("number overflow", pc.is_inf(made), made)

    return _misfits(run, text, rf"^{_PLAIN}(?:[eE][+-]?[0-9]+)?$", "not a number", convert)


def _text_to_decimal(run: CallContext, text: Any) -> Any:
    text = _that_lose_nothing(run, text)
    to: CastTo = run.extra
    scale = to.type.scale
    at_once = _at_once(run, text, arrow_type(to.type))
    if at_once is not None:
        whole = unscaled(at_once) if to.precision < MAX_DIGITS else np.zeros(0, np.int64)
        if whole is not None and to.precision < MAX_DIGITS:
            whole = np.where(to_mask(pc.is_null(at_once)), 0, whole)
        if whole is not None and peak(whole) < 10 ** min(to.precision, 18):
            return at_once

    def convert(texts: Any) -> Any:
        whole = _scaled_wholes(texts, scale)
        if whole is not None and whole[1] < 10 ** min(to.precision, 18):
            return decimal_from_unscaled(whole[0], scale, to_mask(pc.is_null(texts)))
        return run.each(lambda value: _held(_finite(value), to), texts)

    return _misfits(run, text, rf"^{_PLAIN}(?:[eE][+-]?[0-9]+)?$", "not a number", convert)


def _scaled_wholes(texts: Any, scale: int) -> tuple[Any, int] | None:
    """Plain short decimals as whole numbers over ten to `scale`, with the largest; None if any is otherwise."""
    if scale > 9 or not len(texts):
        return None
    plain = pc.match_substring_regex(texts, rf"^[+-]?[0-9]{{1,{17 - scale}}}(?:\.[0-9]{{0,{scale}}})?$")
    if pc.any(pc.invert(plain)).as_py():
        return None
    point = pc.find_substring(texts, ".")
    length = pc.utf8_length(texts)
    decimals = pc.if_else(pc.less(point, 0), 0, pc.subtract(pc.subtract(length, point), 1))
    digits = pc.replace_substring_regex(pc.replace_substring(texts, ".", ""), r"^\+", "")
    whole = numpy_view(pc.fill_null(pc.cast(digits, pa.int64()), 0))
    powers = 10 ** (scale - numpy_view(pc.fill_null(decimals, scale)).astype(np.int64))
    made = whole * powers
    return made, peak(made)


def _finite(text: str) -> Decimal:
    value = Decimal(text)
    if value.adjusted() > MAX_DIGITS and value:
        raise ComputeError("more than 38 digits")
    return value if value.adjusted() > -10 * MAX_DIGITS else Decimal(0)


def _held(value: Decimal, to: CastTo) -> Decimal:
    decimal = settle_decimal(value, to.type.scale)
    if to.exact and decimal != value:
        raise ComputeError(f"more than {to.type.scale} decimal{'s' * (to.type.scale != 1)}")
    if len(decimal.as_tuple().digits) > to.precision:
        raise ComputeError(f"more than {to.precision} digits")
    return decimal


def _text_to_boolean(run: CallContext, text: Any) -> Any:
    words = pc.utf8_lower(pc.utf8_trim(run.array(text), SPACES))
    true = pc.is_in(words, value_set=pa.array(sorted(TRUE_WORDS)))
    known = pc.is_in(words, value_set=pa.array(sorted(TRUE_WORDS | FALSE_WORDS)))
    made = pc.if_else(known, true, pa.scalar(None, pa.bool_()))
    return run.fault("not yes or no", pc.and_(pc.is_valid(words), pc.invert(known)), made)


def _read_date(text: str) -> dt.date:
    text = text.strip(SPACES)
    try:
        if len(text) == 10:
            return dt.date.fromisoformat(text)
        return _read_timestamp(text).date()
    except (ValueError, ComputeError) as error:
        raise ComputeError("not a date written as YYYY-MM-DD") from error


def _read_timestamp(text: str) -> dt.datetime:
    text = text.strip(SPACES)
    shaped = len(text) >= 10 and text[4] == text[7] == "-" and text[:4].isdecimal()
    try:
        moment = dt.datetime.fromisoformat(text) if shaped else None
    except ValueError:
        moment = None
    if moment is None or moment.tzinfo is not None:
        raise ComputeError("not a timestamp written as YYYY-MM-DD HH24:MI:SS")
    return moment


_ISO = {10: template("YYYY-MM-DD"), 19: template("YYYY-MM-DD HH24:MI:SS"), 26: template("YYYY-MM-DD HH24:MI:SS.FF6")}


def _text_to_moment(run: CallContext, text: Any) -> Any:
    """Texts that are all as wide as their template are read by their bytes; others, and those that do not fit, one by one."""
    to: CastTo = run.extra
    day, texts = to.type.kind == "date", run.array(text)
    if to.template:
        read = template(to.template).read
        compute: Callable[[str], Any] = (lambda value: read(value).date()) if day else read
    else:
        compute = _read_date if day else _read_timestamp
    known = texts.drop_null() if texts.null_count else texts
    widths = np.unique(np.diff(text_bytes(known)[0]))
    written = (template(to.template) if to.template else _ISO.get(int(widths[0]))) if len(widths) == 1 else None
    rows = fixed_width(known, written.width) if written is not None else None
    found = written.read_bytes(rows) if written is not None and rows is not None else None
    if found is None:
        return run.each(compute, text)
    micros, fits = found
    if not fits.all():
        if np.count_nonzero(fits) < len(fits) // 2:
            return run.each(compute, text)
        return _those_that_fit(run, texts, micros, fits, compute)
    numbers = np.zeros(len(texts), np.int64)
    nulls = to_mask(pc.is_null(texts))
    numbers[~nulls] = micros
    return _moments(numbers, nulls, day=day)


def _moments(micros: Any, nulls: Any, *, day: bool) -> Any:
    if day:
        return from_numpy((micros // _DAY).astype(np.int32), mask=nulls).cast(pa.date32())
    return from_numpy(micros.view("datetime64[us]"), mask=nulls)


def _those_that_fit(run: CallContext, texts: Any, micros: Any, fits: Any, compute: Callable[[str], Any]) -> Any:
    """The moments of texts that were read by their bytes, and of the others one by one."""
    there = np.flatnonzero(to_mask(pc.is_valid(texts)))
    numbers, nulls = np.zeros(len(texts), np.int64), np.ones(len(texts), np.bool_)
    numbers[there], nulls[there] = micros, ~fits
    slow = np.zeros(len(texts), np.bool_)
    slow[there] = ~fits
    rest = run.each(compute, pc.if_else(from_numpy(slow), texts, pa.scalar(None, pa.string())))
    return pc.if_else(from_numpy(slow), rest, _moments(numbers, nulls, day=run.result.kind == "date"))


def _to_text(run: CallContext, value: Any) -> Any:
    kind = value.type
    if run.extra.template:
        written = template(run.extra.template)
        spelled = _spelled(written, run.array(value))
        return run.each(written.write, value) if spelled is None else spelled
    if pa.types.is_integer(kind) or pa.types.is_decimal(kind) or pa.types.is_date(kind):
        return pc.cast(run.array(value), pa.string())
    if pa.types.is_boolean(kind) or pa.types.is_string(kind):
        return pc.cast(run.array(value), pa.string())
    return _float_texts(run, run.array(value)) if pa.types.is_floating(kind) else _moment_texts(run, run.array(value))


def _float_texts(run: CallContext, numbers: Any) -> Any:
    """Arrow's own shortest form where that has no exponent here or there; others one by one."""
    size = np.abs(numpy_view(numbers))
    plain = (size == 0) | ((size >= 1e-4) & (size < 1e10))
    if numbers.null_count:
        plain |= to_mask(pc.is_null(numbers))
    if np.count_nonzero(plain) < len(plain) // 2:
        return run.each(number_text, numbers)
    texts = pc.cast(pc.add(numbers, 0.0), pa.string())  # no zero below zero
    if plain.all():
        return texts
    rest = run.each(number_text, pc.if_else(from_numpy(plain), pa.scalar(None, pa.float64()), numbers))
    return pc.if_else(from_numpy(plain), texts, rest)


def _moment_texts(run: CallContext, moments: Any) -> Any:
    """Moments without zeros at the end of their fraction."""
    whole, exact = (
        _spelled(template(text), moments) for text in ("YYYY-MM-DD HH24:MI:SS", "YYYY-MM-DD HH24:MI:SS.FF6")
    )
    if whole is None or exact is None:
        return run.each(value_text, moments)
    return pc.if_else(from_numpy(numpy_view(moments) % _SECOND == 0), whole, pc.ascii_rtrim(exact, "0"))


_SECOND = 1_000_000  # microseconds
_DAY = 86_400 * _SECOND
_FIRST, _LAST = -719_162, 2_932_896  # days from 1970 to the first and the last that have four digits for the year


def _spelled(written: Template, moments: Any) -> Any | None:
    """Days or moments as text by a template of digits, all in one go; None where each must be written by itself."""
    days = pa.types.is_date32(moments.type)
    if not days and moments.type != pa.timestamp("us"):
        return None
    numbers = numpy_view(moments)
    if moments.null_count:
        numbers = np.where(to_mask(pc.is_null(moments)), 0, numbers)
    first, last = (_FIRST, _LAST) if days else (_FIRST * _DAY, (_LAST + 1) * _DAY - 1)
    if not (first <= numbers.min(initial=0) and numbers.max(initial=0) <= last):
        return None
    rows = written.spelled(numbers.astype("M8[D]" if days else "M8[us]").astype("M8[us]"))
    if rows is None or rows.size >= 2**31:
        return None
    edges = np.arange(len(rows) + 1, dtype=np.int32) * np.int32(rows.shape[1])
    buffers = [validity(moments), pa.py_buffer(edges), pa.py_buffer(np.ascontiguousarray(rows))]
    return pa.Array.from_buffers(pa.string(), len(rows), buffers, moments.null_count)


def _to_number(run: CallContext, value: Any) -> Any:
    array = run.array(value)
    if pa.types.is_decimal(array.type):
        return decimal_to_number(array)
    return pc.cast(array, pa.float64(), safe=False)


def _to_integer(run: CallContext, value: Any) -> Any:
    array = run.array(value)
    kind = array.type
    if pa.types.is_boolean(kind):
        return pc.cast(array, pa.int64())
    if pa.types.is_floating(kind):
        rounded = pc.round(array, ndigits=0, round_mode="half_towards_infinity")
        wide = pc.or_(pc.greater_equal(rounded, 2.0**63), pc.less(rounded, -(2.0**63)))
        return run.fault("integer overflow", wide, pc.cast(_without(rounded, wide), pa.int64(), safe=False))
    whole = unscaled(array)
    if whole is not None and kind.scale <= 17:
        unit = 10**kind.scale
        return from_numpy(divided_half_away(whole, unit), mask=to_mask(pc.is_null(array)))
    return run.each(lambda one: settle_integer(int(settle_decimal(one, 0))), array)


def _without(array: Any, mask: Any) -> Any:
    return pc.if_else(mask, pa.scalar(None, array.type), array)


def _to_decimal(run: CallContext, value: Any) -> Any:
    to: CastTo = run.extra
    array = run.array(value)
    scale = to.type.scale
    if pa.types.is_floating(array.type):
        return run.each(lambda one: _held(Decimal(repr(one)), to), array)
    whole = array.cast(pa.int64()).fill_null(0).to_numpy() if pa.types.is_integer(array.type) else unscaled(array)
    shift = scale - (0 if pa.types.is_integer(array.type) else array.type.scale)
    if whole is not None and 0 <= shift <= 18:
        nulls = to_mask(pc.is_null(array))
        largest = peak(whole[~nulls]) * 10**shift
        if largest < min(10**to.precision, 2**62):
            return decimal_from_unscaled(whole * 10**shift, scale, nulls)
    if whole is not None and -17 <= shift < 0:
        nulls = to_mask(pc.is_null(array))
        rounded = divided_half_away(whole, 10**-shift)
        exact = not to.exact or not np.any((rounded * 10**-shift != whole) & ~nulls)
        if exact and peak(rounded[~nulls]) < 10 ** min(to.precision, 18):
            return decimal_from_unscaled(rounded, scale, nulls)
    return run.each(lambda one: _held(Decimal(one), to), array)


def _day_to_moment(run: CallContext, value: Any) -> Any:
    return pc.cast(run.array(value), pa.timestamp("us"))


def _moment_to_day(run: CallContext, value: Any) -> Any:
    return pc.cast(pc.floor_temporal(run.array(value), unit="day"), pa.date32(), safe=False)


def _same(run: CallContext, value: Any) -> Any:
    return run.array(value)


def _nothing(run: CallContext, value: Any) -> Any:
    return pa.nulls(run.length, arrow_type(run.result))


_NUMBERS = ("integer", "decimal", "number")
_CASTS: dict[tuple[str, str], Function] = {
    ("text", "integer"): internal_function("CAST", _text_to_integer, can_fault=True, costly=True),
    ("text", "decimal"): internal_function("CAST", _text_to_decimal, can_fault=True, costly=True),
    ("text", "number"): internal_function("CAST", _text_to_number, can_fault=True, costly=True),
    ("text", "boolean"): internal_function("CAST", _text_to_boolean, can_fault=True, costly=True),
    ("text", "date"): internal_function("CAST", _text_to_moment, can_fault=True, costly=True),
    ("text", "timestamp"): internal_function("CAST", _text_to_moment, can_fault=True, costly=True),
    ("date", "timestamp"): internal_function("CAST", _day_to_moment),
    ("timestamp", "date"): internal_function("CAST", _moment_to_day),
    ("boolean", "integer"): internal_function("CAST", _to_integer),
    **{
        (kind, "text"): internal_function("CAST", _to_text, costly=True)
        for kind in (*_NUMBERS, "boolean", "date", "timestamp")
    },
    **{(kind, "number"): internal_function("CAST", _to_number) for kind in ("integer", "decimal")},
    **{(kind, "integer"): internal_function("CAST", _to_integer, can_fault=True) for kind in ("decimal", "number")},
    **{(kind, "decimal"): internal_function("CAST", _to_decimal, can_fault=True) for kind in _NUMBERS},
}
_SAME = internal_function("CAST", _same)
_NULL = internal_function("CAST", _nothing)


def cast(source: Type, target: Type) -> Function | None:
    """The conversion from one type to another, or None where there is none."""
    if source.kind == "null":
        return _NULL
    if source == target and source.kind != "decimal":
        return _SAME
    return _CASTS.get((source.kind, target.kind))


def text_of(values: Any, kind: Type) -> Any:
    """An array of values of a type as the language writes them as text."""
    run = CallContext(len(values), [kind], TEXT, [MISSING], lambda _what, _mask: None, CastTo(TEXT))
    return _to_text(run, values)
