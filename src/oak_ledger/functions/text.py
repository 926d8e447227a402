"""Functions on text. Positions count characters from 1."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_numpy, numpy_view, to_mask
from oak_ledger.columnar.texts import characters_before, is_ascii, list_element, text_bytes, texts_like
from oak_ledger.functions.casts import text_of
from oak_ledger.functions.registry import CallContext, ComputeError, function

MAX_TEXT = 10_000_000
MAX_PADDED = 10_000  # characters of a text that kernels are asked to make


@function(
    "UPPER(x text) -> text",
    topic="text",
    sentence="The text in capitals.",
    examples=[("UPPER('oak')", "OAK"), ("UPPER('Señor 7')", "SEÑOR 7")],
    costly=True,
)
def upper(run: CallContext, x: Any) -> Any:
    """Capitals, one character to one character: ß, which has no capital of its own in Unicode's simple mapping, stays."""
    texts = run.array(x)
    if is_ascii(texts):
        return pc.ascii_upper(texts)
    if not pc.any(pc.match_substring(texts, "ß")).as_py():
        return pc.utf8_upper(texts)
    kept = pc.replace_substring(texts, "ß", _HELD)
    return pc.replace_substring(pc.utf8_upper(kept), _HELD, "ß")


@function(
    "LOWER(x text) -> text",
    topic="text",
    sentence="The text in small letters.",
    examples=[("LOWER('OAK')", "oak"), ("LOWER('Ash-7')", "ash-7")],
    costly=True,
)
def lower(run: CallContext, x: Any) -> Any:
    """Small letters, one character to one character."""
    texts = run.array(x)
    return pc.ascii_lower(texts) if is_ascii(texts) else pc.utf8_lower(texts)


_END = 2**31 - 1
_HELD = "\ufdd0"  # a code point that no text has


def _initial_capitals(text: str) -> str:
    letters, begins = [], True
    for character in text:
        changed = character.upper() if begins else character.lower()
        letters.append(changed if len(changed) == 1 else character)
        begins = not character.isalnum()
    return "".join(letters)


@function(
    "INITCAP(x text) -> text",
    topic="text",
    sentence="The text with a capital at the beginning of each word and small letters elsewhere.",
    examples=[("INITCAP('LOW WEIR')", "Low Weir"), ("INITCAP('oak-ash lot')", "Oak-Ash Lot")],
    costly=True,
)
def initcap(run: CallContext, x: Any) -> Any:
    """A capital where a word begins: after anything that is neither letter nor digit. Of ASCII by its bytes."""
    texts = run.array(x)
    if not is_ascii(texts):
        return run.each(_initial_capitals, x)
    offsets, data = text_bytes(pc.ascii_lower(texts))
    letter = (data - np.uint8(ord("a"))) < 26
    in_word = letter | ((data - np.uint8(ord("0"))) < 10)
    begins = letter.copy()
    begins[1:] &= ~in_word[:-1]
    starts = offsets[:-1][offsets[:-1] < len(data)]
    begins[starts] = letter[starts]
    return texts_like(texts, offsets, data - (begins.view(np.uint8) << 5))  # capitals come 32 before


def _trim(run: CallContext, x: Any, characters: Any, ends: str) -> Any:
    """Trim `""` both ends, `"l"` the beginning or `"r"` the end."""
    kernels = {one: getattr(pc, f"{one}_{ends}trim") for one in ("ascii", "utf8")}

    def trimmed(_: CallContext, texts: Any, chars: str) -> Any:
        kind = "ascii" if chars.isascii() and is_ascii(texts) else "utf8"
        return kernels[kind](texts, chars) if chars else texts

    if characters is None:
        return trimmed(run, run.array(x), " ")
    found = run.for_each_constant(trimmed, x, characters)
    method = f"{ends}strip"
    if found is not None:
        return found
    return run.each(lambda text, chars: getattr(text, method)(chars) if chars else text, x, characters)


@function(
    "BTRIM(x text, [characters text]) -> text",
    topic="text",
    sentence="The text without spaces, or without the given characters, at both ends; also written TRIM(x) "
    "or TRIM(characters FROM x).",
    examples=[("BTRIM('  oak ')", "oak"), ("TRIM(BOTH '*' FROM '**ash*')", "ash"), ("TRIM(' elm')", "elm")],
    costly=True,
)
def btrim(run: CallContext, x: Any, characters: Any = None) -> Any:
    """Trim both ends."""
    return _trim(run, x, characters, "")


@function(
    "LTRIM(x text, [characters text]) -> text",
    topic="text",
    sentence="The text without spaces, or without the given characters, at its beginning; also written "
    "TRIM(LEADING characters FROM x).",
    examples=[("TRIM(LEADING '0' FROM '000417')", "417"), ("LTRIM('  oak ')", "oak ")],
    costly=True,
)
def ltrim(run: CallContext, x: Any, characters: Any = None) -> Any:
    """Trim the beginning."""
    return _trim(run, x, characters, "l")


@function(
    "RTRIM(x text, [characters text]) -> text",
    topic="text",
    sentence="The text without spaces, or without the given characters, at its end; also written "
    "TRIM(TRAILING characters FROM x).",
    examples=[("TRIM(TRAILING '.' FROM 'end..')", "end"), ("RTRIM(' oak ')", " oak")],
    costly=True,
)
def rtrim(run: CallContext, x: Any, characters: Any = None) -> Any:
    """Trim the end."""
    return _trim(run, x, characters, "r")


@function(
    "REPLACE(x text, part text, by text) -> text",
    topic="text",
    sentence="The text with every occurrence of a part replaced. Letter case counts.",
    examples=[("REPLACE('3,5', ',', '.')", "3.5"), ("REPLACE('Oak oak', 'oak', 'ash')", "Oak ash")],
    can_fault=True,
    costly=True,
)
def replace(run: CallContext, x: Any, part: Any, by: Any) -> Any:
    """Replace every occurrence; an empty part changes nothing."""

    def by_kernel(_: CallContext, texts: Any, old: str, new: str) -> Any | None:
        if not old:
            return texts
        longest = pc.max(pc.binary_length(texts)).as_py() or 0
        return pc.replace_substring(texts, old, new) if longest // len(old) * len(new) <= MAX_TEXT else None

    def compute(text: str, old: str, new: str) -> str:
        if old and len(text) + text.count(old) * (len(new) - len(old)) > MAX_TEXT:
            raise ComputeError(f"a text of more than {MAX_TEXT:,} characters")
        return text.replace(old, new) if old else text

    found = run.for_each_constant(by_kernel, x, part, by)
    return found if found is not None else run.each(compute, x, part, by)


def _slice(text: str, start: int, length: int | None = None) -> str:
    begin = max(start - 1, 0)
    return text[begin:] if length is None else text[begin : max(start - 1 + length, begin)]


@function(
    "SUBSTRING(x text, start integer, [length integer]) -> text",
    topic="text",
    sentence="The part of the text from a position, as long as said or to the end; also written "
    "SUBSTRING(x FROM start FOR length).",
    examples=[
        ("SUBSTRING('Hollowmere', 1, 6)", "Hollow"),
        ("SUBSTRING('ST-0417' FROM 4)", "0417"),
        ("SUBSTRING('oak', 0, 2)", "o"),
    ],
    can_fault=True,
    costly=True,
)
def substring(run: CallContext, x: Any, start: Any, *length: Any) -> Any:
    """A part by position; a position before the text uses up length, as the standard says."""

    def by_position(_: CallContext, texts: Any, begin: int, size: int | None = None) -> Any | None:
        if abs(begin) >= _END or (size is not None and not 0 <= size < _END):
            return None
        first = max(begin - 1, 0)
        return _between(texts, first, None if size is None else max(begin - 1 + size, first))

    def compute(text: str, begin: int, size: int | None = None) -> str:
        if size is not None and size < 0:
            raise ComputeError("a length below zero")
        return _slice(text, begin, size)

    found = run.for_each_constant(by_position, x, start, *length)
    return run.each(compute, x, start, *length) if found is None else found


def _between(texts: Any, begin: int, end: int | None) -> Any:
    """A part of each text from one position to another, counted from 0, or where below zero from the end."""
    if is_ascii(texts):
        stop = _END if end is None else end  # without an end the kernel fails where nulls are
        return pc.binary_slice(texts.cast(pa.binary()), begin, stop).cast(pa.string())
    return pc.utf8_slice_codeunits(texts, start=begin, stop=end)


@function(
    "LEFT(x text, n integer) -> text",
    topic="text",
    sentence="The first n characters; with n below zero, all but the last -n.",
    examples=[("LEFT('spruce', 3)", "spr"), ("LEFT('spruce', -2)", "spru")],
    costly=True,
)
def left(run: CallContext, x: Any, n: Any) -> Any:
    """The beginning."""
    found = run.for_each_constant(lambda _, texts, size: _between(texts, 0, size) if abs(size) < _END else None, x, n)
    return run.each(lambda text, size: text[:size], x, n) if found is None else found


@function(
    "RIGHT(x text, n integer) -> text",
    topic="text",
    sentence="The last n characters; with n below zero, all but the first -n.",
    examples=[("RIGHT('ST-0417', 4)", "0417"), ("RIGHT('spruce', -2)", "ruce")],
    costly=True,
)
def right(run: CallContext, x: Any, n: Any) -> Any:
    """The end."""

    def ending(_: CallContext, texts: Any, size: int) -> Any | None:
        return None if abs(size) >= _END else _between(texts, -size, None) if size else _between(texts, 0, 0)

    found = run.for_each_constant(ending, x, n)
    return run.each(lambda text, size: text[-size:] if size else "", x, n) if found is None else found


@function(
    "CHAR_LENGTH(x text) -> integer",
    topic="text",
    sentence="How many characters the text has.",
    examples=[("CHAR_LENGTH('larch')", "5"), ("CHAR_LENGTH('')", "0")],
)
def char_length(run: CallContext, x: Any) -> Any:
    """The length in characters."""
    texts = run.array(x)
    return pc.cast(pc.binary_length(texts) if is_ascii(texts) else pc.utf8_length(texts), pa.int64())


@function(
    "POSITION(part text, x text) -> integer",
    topic="text",
    sentence="Where a part first occurs in the text, from 1; 0 when it does not.",
    examples=[("POSITION('-' IN 'ST-0417')", "3"), ("POSITION('x' IN 'oak')", "0")],
    usage="POSITION(part IN x)",
)
def position(run: CallContext, part: Any, x: Any) -> Any:
    """The first place of a part."""

    def first(_: CallContext, texts: Any, wanted: str) -> Any:
        at = pc.find_substring(texts, wanted)
        if is_ascii(texts):
            return pc.cast(pc.add(at, 1), pa.int64())
        ends = numpy_view(pc.fill_null(at, 0))
        characters = characters_before(texts, np.maximum(ends, 0))
        return from_numpy(np.where(ends < 0, 0, characters + 1), mask=to_mask(pc.is_null(at)))

    found = run.for_each_constant(first, x, part)
    return run.each(lambda piece, text: text.find(piece) + 1, part, x) if found is None else found


@function(
    "CONTAINS(x text, part text) -> boolean",
    topic="text",
    sentence="Whether the part occurs anywhere in the text. Letter case counts.",
    examples=[("CONTAINS('Low Weir mill', 'Weir')", "true"), ("CONTAINS('Low Weir mill', 'weir')", "false")],
)
def contains(run: CallContext, x: Any, part: Any) -> Any:
    """Whether a part occurs."""
    found = run.for_each_constant(lambda _, texts, piece: pc.match_substring(texts, piece), x, part)
    return run.each(lambda text, piece: piece in text, x, part) if found is None else found


@function(
    "STARTS_WITH(x text, part text) -> boolean",
    topic="text",
    sentence="Whether the text begins with the part. Letter case counts.",
    examples=[("STARTS_WITH('ST-0417', 'ST-')", "true"), ("STARTS_WITH('oak', 'Oak')", "false")],
)
def starts_with(run: CallContext, x: Any, part: Any) -> Any:
    """Whether it begins so."""
    found = run.for_each_constant(lambda _, texts, piece: pc.starts_with(texts, piece), x, part)
    return run.each(lambda text, piece: text.startswith(piece), x, part) if found is None else found


@function(
    "ENDS_WITH(x text, part text) -> boolean",
    topic="text",
    sentence="Whether the text ends with the part. Letter case counts.",
    examples=[("ENDS_WITH('larch', 'ch')", "true"), ("ENDS_WITH('oak', 'K')", "false")],
)
def ends_with(run: CallContext, x: Any, part: Any) -> Any:
    """Whether it ends so."""
    found = run.for_each_constant(lambda _, texts, piece: pc.ends_with(texts, piece), x, part)
    return run.each(lambda text, piece: text.endswith(piece), x, part) if found is None else found


@function(
    "CONCAT(x any…) -> text",
    topic="text",
    sentence="All values as text, one after the other; nulls are left out.",
    nulls="Nulls are left out; never null.",
    examples=[("CONCAT('oak', NULL, 7)", "oak7"), ("CONCAT('a', 'b', 'c')", "abc")],
)
def concat(run: CallContext, *values: Any) -> Any:
    """Joined without nulls."""
    texts = [text_of(run.array(value), kind) for value, kind in zip(values, run.types, strict=True)]
    return pc.binary_join_element_wise(*(pc.fill_null(text, "") for text in texts), "")


def _padded(left: bool) -> Any:
    side = "l" if left else "r"
    kernels = {one: getattr(pc, f"{one}_{side}pad") for one in ("ascii", "utf8")}

    def by_kernel(_: CallContext, texts: Any, size: int, fill: str = " ") -> Any | None:
        if not 0 <= size <= MAX_PADDED or len(fill) != 1:
            return None
        kind = "ascii" if fill.isascii() and is_ascii(texts) else "utf8"
        padded = kernels[kind](texts, width=size, padding=fill)
        longest = pc.max(pc.utf8_length(padded)).as_py() or 0
        return padded if longest <= size else _between(padded, 0, size)

    def compute(text: str, size: int, fill: str = " ") -> str:
        if size > MAX_TEXT:
            raise ComputeError(f"a text of more than {MAX_TEXT:,} characters")
        missing = max(0, size) - len(text)
        if missing <= 0:
            return text[: max(0, size)]
        more = (fill * (missing // len(fill) + 1))[:missing] if fill else ""
        return more + text if left else text + more

    def run_pad(run: CallContext, x: Any, n: Any, *fill: Any) -> Any:
        found = run.for_each_constant(by_kernel, x, n, *fill)
        return run.each(compute, x, n, *fill) if found is None else found

    return run_pad


lpad = function(
    "LPAD(x text, n integer, [fill text]) -> text",
    topic="text",
    sentence="The text filled up to n characters at the left, with spaces or with the text given; a longer one is cut.",
    examples=[("LPAD('417', 6, '0')", "000417"), ("LPAD('Hollow', 3)", "Hol")],
    can_fault=True,
    costly=True,
)(_padded(left=True))

rpad = function(
    "RPAD(x text, n integer, [fill text]) -> text",
    topic="text",
    sentence="The text filled up to n characters at the right, with spaces or with the text given; a longer one is cut.",
    examples=[("RPAD('oak', 5, '.')", "oak.."), ("RPAD('Hollow', 3)", "Hol")],
    can_fault=True,
    costly=True,
)(_padded(left=False))


@function(
    "SPLIT_PART(x text, separator text, n integer) -> text",
    topic="text",
    sentence="The n-th part of the text between separators, from 1; from the end with n below zero; empty where there is none.",
    examples=[
        ("SPLIT_PART('a-b-c', '-', 2)", "b"),
        ("SPLIT_PART('a-b-c', '-', -1)", "c"),
        ("SPLIT_PART('a', '-', 3)", ""),
    ],
    can_fault=True,
    costly=True,
)
def split_part(run: CallContext, x: Any, separator: Any, n: Any) -> Any:
    """One part between separators."""

    def by_kernel(_: CallContext, texts: Any, mark: str, number: int) -> Any | None:
        if not mark or not 0 < abs(number) < MAX_PADDED:
            return None
        return list_element(pc.split_pattern(texts, mark, max_splits=abs(number), reverse=number < 0), number)

    def compute(text: str, mark: str, number: int) -> str:
        if number == 0:
            raise ComputeError("there is no part 0")
        parts = text.split(mark) if mark else [text]
        at = number - 1 if number > 0 else len(parts) + number
        return parts[at] if 0 <= at < len(parts) else ""

    found = run.for_each_constant(by_kernel, x, separator, n)
    return run.each(compute, x, separator, n) if found is None else found


@function(
    "REVERSE(x text) -> text",
    topic="text",
    sentence="The text from its end to its beginning.",
    examples=[("REVERSE('oak')", "kao"), ("REVERSE('')", "")],
    costly=True,
)
def reverse(run: CallContext, x: Any) -> Any:
    """Backwards, character by character."""
    texts = run.array(x)
    return pc.ascii_reverse(texts) if is_ascii(texts) else pc.utf8_reverse(texts)


@function(
    "REPEAT(x text, n integer) -> text",
    topic="text",
    sentence="The text n times; empty with n of zero or less.",
    examples=[("REPEAT('ab', 3)", "ababab"), ("REPEAT('ab', 0)", "")],
    can_fault=True,
    costly=True,
)
def repeat(run: CallContext, x: Any, n: Any) -> Any:
    """The text several times."""

    def by_kernel(_: CallContext, texts: Any, times: int) -> Any | None:
        longest = pc.max(pc.binary_length(texts)).as_py() or 0
        return pc.binary_repeat(texts, max(times, 0)) if longest * max(times, 0) <= MAX_PADDED else None

    def compute(text: str, times: int) -> str:
        if times > 0 and len(text) * times > MAX_TEXT:
            raise ComputeError(f"a text of more than {MAX_TEXT:,} characters")
        return text * max(0, times)

    found = run.for_each_constant(by_kernel, x, n)
    return run.each(compute, x, n) if found is None else found
