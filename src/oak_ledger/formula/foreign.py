"""Formulas written in the forms of other notations: what each is called, and how it is written here.

Each form gives a rewritten formula; the checker offers it only where it is one that parses and checks.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

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
        for made in (straight, text.translate(dict.fromkeys(_CURLY, "'"))):
            yield _found("stray-character", f"{text[at]} means nothing here.", text, at, at + 1, hint, made)
    named = re.sub(r"\[([^\[\]\n\"]+)\]|`([^`\n\"]+)`", lambda match: f'"{match[1] or match[2]}"', text)
    if named != text:
        at = min(at for at in (text.find("["), text.find("`")) if at >= 0)
        yield _found(
            "stray-character", f"{text[at]} means nothing here.", text, at, at + 1, "Put names in double quotes.", named
        )
    yield from _decimal_commas(text, tokens)
    yield from _powers(text)
    bare = _outside_quotes(text)
    if "&" in bare.replace("&&", "  "):
        at = bare.replace("&&", "  ").index("&")
        for word in ("||", "AND"):
            parts = [text[slice(*match.span())].strip() for match in re.finditer(r"[^&]+", bare)]
            message = "& is not an operator here."
            yield _found("foreign-operator", message, text, at, at + 1, f"Write {word}.", f" {word} ".join(parts))
    if ";" in bare:
        at = bare.index(";")
        new = "".join("," if char == ";" else own for char, own in zip(bare.rstrip(" ;"), text, strict=False))
        hint = (
            "Put commas between arguments."
            if ";" in bare.rstrip(" ;")
            else "A formula is one expression; leave the semicolon out."
        )
        yield _found("stray-character", "; means nothing here.", text, at, at + 1, hint, new)
    yield from _called_words(text)


def _found(code: str, message: str, text: str, start: int, end: int, hint: str, fixed: str) -> Finding:
    return Finding(code, message, Place(text=text, start=start, end=end), hint, fixed=fixed, sure=True)


def _outside_quotes(text: str) -> str:
    """The text with blanks in the place of texts and names in quotes, as long as it was."""
    return re.sub(r"""'[^']*'|"[^"]*\"""", lambda match: " " * len(match[0]), text)


_OPERAND = r"""[\w.]+|"[^"]*"|'[^']*'"""


def _operand(text: str, *, before: int | None = None, after: int | None = None) -> str:
    """The operand that ends, or begins, at a place: a word, or what is in parentheses with the name before them; empty for none."""
    if before is not None:
        side = text[:before].rstrip()
        if not side.endswith(")"):
            match = re.search(rf"({_OPERAND})$", side)
            return text[match.start() : before] if match else ""
        start = _opened(side)
        name = re.search(r"\w*$", side[:start]) if start >= 0 else None
        return text[name.start() : before] if name else ""
    side = text[after:]
    match = re.match(rf"\s*[+-]?\s*({_OPERAND})?", side)
    end = match.end() if match else 0
    if side[end : end + 1] == "(":
        depth = 0
        for at in range(end, len(side)):
            depth += {"(": 1, ")": -1}.get(side[at], 0)
            if not depth:
                return side[: at + 1]
        return ""
    return side[:end]


def _opened(side: str) -> int:
    """Where the last parenthesis of a text was opened; -1 for nowhere."""
    depth = 0
    for at in range(len(side) - 1, -1, -1):
        depth += {")": 1, "(": -1}.get(side[at], 0)
        if not depth:
            return at
    return -1


def _powers(text: str) -> Iterator[Finding]:
    """Signs of powers, as POWER; of several the last one first, which is how they bind."""
    made, first = text, re.search(r"\^|\*\*", _outside_quotes(text))
    while signs := [*re.finditer(r"\^|\*\*", _outside_quotes(made))]:
        sign = signs[-1]
        left, right = _operand(made, before=sign.start()), _operand(made, after=sign.end())
        if not left.strip() or not right.strip():
            return
        made = (
            f"{made[: sign.start() - len(left)]}POWER({left.strip()}, {right.strip()}){made[sign.end() + len(right) :]}"
        )
    if first is not None:
        yield _found(
            "foreign-operator", f"{first[0]} is not an operator here.", text, *first.span(), f"Write {made}.", made
        )


def _called_words(text: str) -> Iterator[Finding]:
    """AND and OR written as functions of conditions, as operators between them."""
    calls = r"(?:^|(?<=[(,]))\s*\b(AND|OR)\s*\("
    made, first = text, re.search(calls, _outside_quotes(text), re.IGNORECASE)
    while found := [*re.finditer(calls, _outside_quotes(made), re.IGNORECASE)]:
        call = found[-1]
        inner = _operand(made, after=call.end() - 1)
        parts = _parts(inner[1:-1])
        if len(parts) < 2:
            return
        made = f"{made[: call.start()]}({f' {call[1].upper()} '.join(parts)}){made[call.end() - 1 + len(inner) :]}"
    if first is not None:
        message = f"{first[1].upper()} stands between conditions."
        yield _found("foreign-operator", message, text, first.start(1), first.end(1), f"Write {made}.", made)


def _parts(text: str) -> list[str]:
    """The arguments of a call, cut at its own commas."""
    parts, depth, begin = [], 0, 0
    bare = _outside_quotes(text)
    for at, char in enumerate(bare + ","):
        depth += {"(": 1, ")": -1}.get(char, 0)
        if char == "," and not depth:
            parts.append(text[begin:at].strip())
            begin = at + 1
    return parts


def _select(text: str, tokens: list[Token], words: list[str]) -> Finding:
    """The expression between SELECT and FROM."""
    end = tokens[words.index("FROM")].start if "FROM" in words else len(text)
    inner = text[tokens[0].end : end].strip()
    message = "A formula has no SELECT and no FROM: it is one expression over the rows of its source."
    hint = f"Write {inner}; conditions and groups are said beside the formula." if inner else ""
    finding = _found("select", message, text, tokens[0].start, tokens[0].end, hint, inner)
    return replace(finding, sure=not {"WHERE", "GROUP", "HAVING", "LIMIT", "ORDER"} & {*words})


def _if_then(text: str, tokens: list[Token], words: list[str]) -> Finding:
    """IF … THEN … ELSE as a CASE."""
    made, position, depth = "", 0, 0
    start = words.index("IF")
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
    for token, comma, other in zip(tokens, tokens[1:], tokens[2:], strict=False):
        close = token.end == comma.start and comma.end == other.start
        if close and comma.value == "," and token.kind in ("integer", "decimal") and other.kind == "integer":
            whole = text[token.start : token.end].replace(".", "")
            new = f"{whole}.{text[other.start : other.end]}"
            fixed = text[: token.start] + new + text[other.end :]
            yield _found(
                "decimal-comma",
                "Decimals have a point in a formula.",
                text,
                token.start,
                other.end,
                f"Write {new}.",
                fixed,
            )
