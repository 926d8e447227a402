"""Functions on text. Positions count characters from 1."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.texts import is_ascii, value_text
from oak_ledger.functions.registry import MISSING, CallContext, ComputeError, function

MAX_TEXT = 10_000_000


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
    made, begins = [], True
    for character in text:
        made.append(
            character.upper()
            if begins and len(character.upper()) == 1
            else character.lower()
            if len(character.lower()) == 1
            else character
        )
        begins = not character.isalnum()
    return "".join(made)


@function(
    "INITCAP(x text) -> text",
    topic="text",
    sentence="The text with a capital at the beginning of each word and small letters elsewhere.",
    examples=[("INITCAP('LOW WEIR')", "Low Weir"), ("INITCAP('oak-ash lot')", "Oak-Ash Lot")],
    costly=True,
)
def initcap(run: CallContext, x: Any) -> Any:
    """A capital where a word begins: after anything that is neither letter nor digit."""
    return run.each(_initial_capitals, x)


def _trim(run: CallContext, kernel: Any, x: Any, characters: Any, strip: str) -> Any:
    """Trim both ends, or as `kernel` and `strip` do one."""
    known = run.constants[1] if len(run.constants) > 1 else " "
    if known is None:
        return pa.nulls(run.length, pa.string())
    if known is not MISSING:
        return kernel(run.array(x), known) if known else run.array(x)
    return run.each(lambda text, chars: getattr(text, strip)(chars) if chars else text, x, characters)


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
    return _trim(run, pc.utf8_trim, x, characters, "strip")


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
    return _trim(run, pc.utf8_ltrim, x, characters, "lstrip")


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
    return _trim(run, pc.utf8_rtrim, x, characters, "rstrip")


@function(
    "REPLACE(x text, part text, by text) -> text",
    topic="text",
    sentence="The text with every occurrence of a part replaced. Letter case counts.",
    examples=[("REPLACE('3,5', ',', '.')", "3.5"), ("REPLACE('Oak oak', 'oak', 'ash')", "Oak ash")],
    costly=True,
)
def replace(run: CallContext, x: Any, part: Any, by: Any) -> Any:
    """Replace every occurrence; an empty part changes nothing."""
    if isinstance(run.constants[1], str) and isinstance(run.constants[2], str):
        texts = run.array(x)
        return pc.replace_substring(texts, run.constants[1], run.constants[2]) if run.constants[1] else texts
    return run.each(lambda text, old, new: text.replace(old, new) if old else text, x, part, by)


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
    known = run.constants[1:]
    if all(type(value) is int and abs(value) < 2**31 for value in known) and min(known[1:], default=0) >= 0:
        begin = max(known[0] - 1, 0)
        stop = max(known[0] - 1 + known[1], begin) if len(known) > 1 else None
        texts = run.array(x)
        if is_ascii(texts):
            end = _END if stop is None else stop  # without an end the kernel fails where nulls are
            return pc.binary_slice(texts.cast(pa.binary()), begin, end).cast(pa.string())
        return pc.utf8_slice_codeunits(texts, start=begin, stop=stop)

    def compute(text: str, begin: int, size: int | None = None) -> str:
        if size is not None and size < 0:
            raise ComputeError("a length below zero")
        return _slice(text, begin, size)

    return run.each(compute, x, start, *length)


def _by_position(run: CallContext, x: Any, begin: int, end: int | None) -> Any:
    """A part of each text from one position to another, counted from 0, or where below zero from the end."""
    texts = run.array(x)
    if is_ascii(texts):
        stop = _END if end is None else end  # without an end the kernel fails where nulls are
        return pc.binary_slice(texts.cast(pa.binary()), begin, stop).cast(pa.string())
    return pc.utf8_slice_codeunits(texts, start=begin, stop=end)


def _known_size(run: CallContext) -> int | None:
    size = run.constants[1]
    return size if type(size) is int and abs(size) < _END else None


@function(
    "LEFT(x text, n integer) -> text",
    topic="text",
    sentence="The first n characters; with n below zero, all but the last -n.",
    examples=[("LEFT('spruce', 3)", "spr"), ("LEFT('spruce', -2)", "spru")],
    costly=True,
)
def left(run: CallContext, x: Any, n: Any) -> Any:
    """The beginning."""
    size = _known_size(run)
    return run.each(lambda text, size: text[:size], x, n) if size is None else _by_position(run, x, 0, size)


@function(
    "RIGHT(x text, n integer) -> text",
    topic="text",
    sentence="The last n characters; with n below zero, all but the first -n.",
    examples=[("RIGHT('ST-0417', 4)", "0417"), ("RIGHT('spruce', -2)", "ruce")],
    costly=True,
)
def right(run: CallContext, x: Any, n: Any) -> Any:
    """The end."""
    size = _known_size(run)
    if size is None:
        return run.each(lambda text, size: text[-size:] if size else "", x, n)
    return _by_position(run, x, -size, None) if size else _by_position(run, x, 0, 0)


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
    sentence="Where a part first stands in the text, from 1; 0 when it does not.",
    examples=[("POSITION('-' IN 'ST-0417')", "3"), ("POSITION('x' IN 'oak')", "0")],
    usage="POSITION(part IN x)",
)
def position(run: CallContext, part: Any, x: Any) -> Any:
    """The first place of a part."""
    return run.each(lambda piece, text: text.find(piece) + 1, part, x)


@function(
    "CONTAINS(x text, part text) -> boolean",
    topic="text",
    sentence="Whether the part stands anywhere in the text. Letter case counts.",
    examples=[("CONTAINS('Low Weir mill', 'Weir')", "true"), ("CONTAINS('Low Weir mill', 'weir')", "false")],
)
def contains(run: CallContext, x: Any, part: Any) -> Any:
    """Whether a part occurs."""
    if isinstance(run.constants[1], str):
        return pc.match_substring(run.array(x), run.constants[1])
    return run.each(lambda text, piece: piece in text, x, part)


@function(
    "STARTS_WITH(x text, part text) -> boolean",
    topic="text",
    sentence="Whether the text begins with the part. Letter case counts.",
    examples=[("STARTS_WITH('ST-0417', 'ST-')", "true"), ("STARTS_WITH('oak', 'Oak')", "false")],
)
def starts_with(run: CallContext, x: Any, part: Any) -> Any:
    """Whether it begins so."""
    if isinstance(run.constants[1], str):
        return pc.starts_with(run.array(x), run.constants[1])
    return run.each(lambda text, piece: text.startswith(piece), x, part)


@function(
    "ENDS_WITH(x text, part text) -> boolean",
    topic="text",
    sentence="Whether the text ends with the part. Letter case counts.",
    examples=[("ENDS_WITH('larch', 'ch')", "true"), ("ENDS_WITH('oak', 'K')", "false")],
)
def ends_with(run: CallContext, x: Any, part: Any) -> Any:
    """Whether it ends so."""
    if isinstance(run.constants[1], str):
        return pc.ends_with(run.array(x), run.constants[1])
    return run.each(lambda text, piece: text.endswith(piece), x, part)


@function(
    "CONCAT(x any…) -> text",
    topic="text",
    sentence="All values as text, one after the other; nulls are left out.",
    nulls="Nulls are left out; never null.",
    examples=[("CONCAT('oak', NULL, 7)", "oak7"), ("CONCAT('a', 'b', 'c')", "abc")],
)
def concat(run: CallContext, *values: Any) -> Any:
    """Joined without nulls."""
    texts = [
        pc.fill_null(run.array(value) if pa.types.is_string(value.type) else _as_text(run, value), "")
        for value in values
    ]
    return pc.binary_join_element_wise(*texts, "")


def _as_text(run: CallContext, value: Any) -> Any:
    return pa.array([value_text(one) for one in run.array(value).to_pylist()], pa.string())


def _padded(left: bool) -> Any:
    def run_pad(run: CallContext, x: Any, n: Any, *fill: Any) -> Any:
        def compute(text: str, size: int, chars: str = " ") -> str:
            if size > MAX_TEXT:
                raise ComputeError(f"a text of more than {MAX_TEXT:,} characters")
            missing = max(0, size) - len(text)
            if missing <= 0:
                return text[: max(0, size)]
            more = (chars * (missing // len(chars) + 1))[:missing] if chars else ""
            return more + text if left else text + more

        return run.each(compute, x, n, *fill)

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

    def compute(text: str, mark: str, number: int) -> str:
        if number == 0:
            raise ComputeError("there is no part 0")
        parts = text.split(mark) if mark else [text]
        at = number - 1 if number > 0 else len(parts) + number
        return parts[at] if 0 <= at < len(parts) else ""

    return run.each(compute, x, separator, n)


@function(
    "REVERSE(x text) -> text",
    topic="text",
    sentence="The text from its end to its beginning.",
    examples=[("REVERSE('oak')", "kao"), ("REVERSE('')", "")],
    costly=True,
)
def reverse(run: CallContext, x: Any) -> Any:
    """Backwards, character by character."""
    return pc.utf8_reverse(run.array(x))


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

    def compute(text: str, times: int) -> str:
        if times > 0 and len(text) * times > MAX_TEXT:
            raise ComputeError(f"a text of more than {MAX_TEXT:,} characters")
        return text * max(0, times)

    return run.each(compute, x, n)
