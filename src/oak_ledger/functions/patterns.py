"""Functions on text by regular expressions: RE2's, which take time linear in the text, whatever the pattern.

The pattern is fixed in the formula, so that a wrong one is reported before any data is read.
"""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.functions.registry import CallContext, ComputeError, function


def _pattern(run: CallContext, index: int = 1, flags: str = "") -> str:
    pattern = run.constants[index]
    if pattern is None:
        return ""
    return f"(?{''.join(sorted(set(flags) - {'g'}))}){pattern}" if set(flags) - {"g"} else str(pattern)


def _flags(run: CallContext, index: int, known: str) -> str:
    flags = str(run.constants[index] or "") if len(run.constants) > index else ""
    if set(flags) - set(known):
        raise ComputeError(f"'{flags}' holds no flags; flags are {' and '.join(known)}")
    return flags


def _checked(run: CallContext, compute: Any) -> Any:
    if any(constant is None for constant in run.constants[1:]):
        return pa.nulls(
            run.length,
            pa.string() if run.result.kind == "text" else pa.bool_() if run.result.kind == "boolean" else pa.int64(),
        )
    try:
        return compute()
    except pa.ArrowInvalid as error:
        said = str(error).partition("regular expression: ")[2] or str(error)
        raise ComputeError(f"the pattern cannot be used: {said.splitlines()[0]}") from error


@function(
    "REGEXP_LIKE(x text, pattern text, [flags text]) -> boolean",
    topic="pattern",
    sentence="Whether the pattern matches anywhere in the text; the flag 'i' lets letter case not count.",
    examples=[("REGEXP_LIKE('ST-0417', '^ST-[0-9]+$')", "true"), ("REGEXP_LIKE('Oak', 'OAK', 'i')", "true")],
    constant_args=(1, 2),
    costly=True,
)
def regexp_like(run: CallContext, x: Any, pattern: Any, *flags: Any) -> Any:
    """Whether a pattern matches."""
    asked = _flags(run, 2, "i")
    return _checked(run, lambda: pc.match_substring_regex(run.array(x), _pattern(run, flags=asked)))


@function(
    "REGEXP_REPLACE(x text, pattern text, by text, [flags text]) -> text",
    topic="pattern",
    sentence="The text with the first match of the pattern replaced, with the flag 'g' every match; \\1 in the replacement is "
    "what the first group matched.",
    examples=[
        ("REGEXP_REPLACE('a1b22', '[0-9]+', '#')", "a#b22"),
        ("REGEXP_REPLACE('a1b22', '([a-z])[0-9]+', '\\1', 'g')", "ab"),
    ],
    constant_args=(1, 2, 3),
    costly=True,
)
def regexp_replace(run: CallContext, x: Any, pattern: Any, by: Any, *flags: Any) -> Any:
    """The first match replaced, or all."""
    asked = _flags(run, 3, "gi")
    most = -1 if "g" in asked else 1
    return _checked(
        run,
        lambda: pc.replace_substring_regex(
            run.array(x), _pattern(run, flags=asked), run.constants[2] or "", max_replacements=most
        ),
    )


@function(
    "REGEXP_SUBSTR(x text, pattern text, [group integer]) -> text",
    topic="pattern",
    sentence="What the pattern first matches, or what one of its groups matches; null where it does not match.",
    nulls="Null when any argument is null, or nothing matches.",
    examples=[
        ("REGEXP_SUBSTR('load 417, bay 3', '[0-9]+')", "417"),
        ("REGEXP_SUBSTR('2026-03', '([0-9]+)-([0-9]+)', 2)", "03"),
    ],
    constant_args=(1, 2),
    costly=True,
)
def regexp_substr(run: CallContext, x: Any, pattern: Any, *group: Any) -> Any:
    """What a pattern matches."""
    number = run.constants[2] if len(run.constants) > 2 else 0
    if number is not None and not 0 <= number <= 8:
        raise ComputeError("a group is a number from 0 to 8")

    def compute() -> Any:
        texts = run.array(x)
        if "(" not in _pattern(run):  # a pattern without groups can be one itself
            return pc.struct_field(pc.extract_regex(texts, f"(?P<whole>{_pattern(run)})"), 0)
        found = pc.match_substring_regex(texts, _pattern(run))
        part = pc.replace_substring_regex(
            texts, rf"(?s:\A.*?)({_pattern(run)})(?s:.*\z)", rf"\{number + 1}", max_replacements=1
        )
        return pc.if_else(found, part, pa.scalar(None, pa.string()))

    return _checked(run, compute)


@function(
    "REGEXP_COUNT(x text, pattern text) -> integer",
    topic="pattern",
    sentence="How often the pattern matches, one match after the other.",
    examples=[("REGEXP_COUNT('a1b22c', '[0-9]+')", "2"), ("REGEXP_COUNT('oak', 'z')", "0")],
    constant_args=(1,),
    costly=True,
)
def regexp_count(run: CallContext, x: Any, pattern: Any) -> Any:
    """How often a pattern matches."""
    return _checked(run, lambda: pc.cast(pc.count_substring_regex(run.array(x), _pattern(run)), pa.int64()))
