"""Formulas written in the forms of other notations: what each is called, and how it is written here.

Each form gives a rewritten formula; the checker offers it only where it is one that parses and checks.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from oak_ledger.errors import Finding, Place
from oak_ledger.formula.lexer import Token, tokenize

_CURLY = str.maketrans({"\u2018": "'", "\u2019": "'", "\u201c": '"', "\u201d": '"'})


def foreign_forms(text: str) -> Iterator[Finding]:
    """What of another notation a formula that does not parse is written in, each with the formula rewritten."""
    tokens, _ = tokenize(text)
    words = [token.word if token.kind == "name" else "" for token in tokens]
    if words[0] == "SELECT":
        yield _select(text, tokens, words)
    if "THEN" in words and "CASE" not in words and "IF" in words:
        yield _if_then(text, tokens, words)
    straight = text.translate(_CURLY)
    if straight != text:
        at = next(at for at, (one, other) in enumerate(zip(text, straight, strict=True)) if one != other)
        hint = "Use straight quotes: ' for text, \" for names."
        yield _found("stray-character", f"{text[at]} means nothing here.", text, at, at + 1, hint, straight)
    named = re.sub(r"\[([^\[\]\n\"]+)\]|`([^`\n\"]+)`", lambda match: f'"{match[1] or match[2]}"', text)
    if named != text:
        at = min(at for at in (text.find("["), text.find("`")) if at >= 0)
        yield _found(
            "stray-character", f"{text[at]} means nothing here.", text, at, at + 1, "Put names in double quotes.", named
        )
    yield from _decimal_commas(text, tokens)


def _found(code: str, message: str, text: str, start: int, end: int, hint: str, fixed: str) -> Finding:
    return Finding(code, message, Place("", text, start, end), hint, fixed=fixed)


def _select(text: str, tokens: list[Token], words: list[str]) -> Finding:
    """The expression between SELECT and FROM."""
    end = tokens[words.index("FROM")].start if "FROM" in words else len(text)
    inner = text[tokens[0].end : end].strip()
    message = "A formula has no SELECT and no FROM: it is one expression over the rows of its source."
    hint = f"Write {inner}; conditions and groups are said beside the formula." if inner else ""
    return _found("select", message, text, tokens[0].start, tokens[0].end, hint, inner)


def _if_then(text: str, tokens: list[Token], words: list[str]) -> Finding:
    """IF … THEN … ELSE as a CASE."""
    made, position, depth = "", 0, 0
    for at, token in enumerate(tokens):
        word, after = words[at], words[at + 1] if at + 1 < len(words) else ""
        new = None
        if word in ("ELSEIF", "ELSIF", "ELIF"):
            new = "WHEN"
        elif word == "ELSE" and after == "IF":
            new, words[at + 1] = "WHEN", "skip"
        elif word == "skip":
            new = ""
        elif word == "IF":
            new, depth = "CASE WHEN", depth + 1
        elif word == "END":
            depth -= 1
            if after == "IF":
                words[at + 1] = "skip"
        if new is not None:
            made += text[position : token.start] + new
            position = token.end
    made = " ".join((made + text[position:]).split()) + " END" * max(depth, 0)
    start = next(at for at, word in enumerate(words) if word == "IF")
    hint = f"Write {made}, or IF(condition, value, otherwise)."
    return _found(
        "if-then",
        "IF is written with parentheses, or as a CASE.",
        text,
        tokens[start].start,
        tokens[start].end,
        hint,
        made,
    )


def _decimal_commas(text: str, tokens: list[Token]) -> Iterator[Finding]:
    """A number with a comma, where no list of values is."""
    for one, comma, other in zip(tokens, tokens[1:], tokens[2:], strict=False):
        close = one.end == comma.start and comma.end == other.start
        if close and comma.value == "," and one.kind in ("integer", "decimal") and other.kind == "integer":
            whole = text[one.start : one.end].replace(".", "")
            new = f"{whole}.{text[other.start : other.end]}"
            fixed = text[: one.start] + new + text[other.end :]
            yield _found(
                "decimal-comma",
                "Decimals have a point in a formula.",
                text,
                one.start,
                other.end,
                f"Write {new}.",
                fixed,
            )
