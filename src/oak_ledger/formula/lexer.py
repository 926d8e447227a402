"""Text to tokens. Every character is accounted for, and what is wrong is noted without stopping."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from oak_ledger.errors import Finding, Place

TokenKind = Literal["name", "quoted", "text", "integer", "decimal", "number", "symbol", "comment", "end"]
COMMENTS_TOO = True

# Words that cannot be a bare field name.
RESERVED = frozenset(
    [
        "AND",
        "OR",
        "NOT",
        "IS",
        "NULL",
        "TRUE",
        "FALSE",
        "CASE",
        "WHEN",
        "THEN",
        "ELSE",
        "END",
        "IN",
        "LIKE",
        "BETWEEN",
        "DISTINCT",
    ]
)


@dataclass(frozen=True, slots=True)
class Token:
    """A piece of a formula: its kind, its value (a name or text without its quotes), and where it is."""

    kind: TokenKind
    value: str
    start: int
    end: int

    @property
    def word(self) -> str:
        """The upper-case word of a bare name, else empty."""
        return self.value.upper() if self.kind == "name" else ""

    @property
    def reserved(self) -> bool:
        """Whether this is a keyword that cannot name a field."""
        return self.kind == "name" and self.word in RESERVED


_TOKEN = re.compile(
    r"""
    (?P<space>\s+)
  | (?P<line>--[^\n]*)
  | (?P<block>/\*)
  | (?P<name>[^\W\d]\w*)
  | (?P<number>(?:\d+(?:\.\d*)?|\.\d+)[eE][+-]?\d+)
  | (?P<decimal>\d+\.\d*|\.\d+)
  | (?P<integer>\d+)
  | (?P<text>'[^']*(?:''[^']*)*')
  | (?P<quoted>"[^"]*(?:""[^"]*)*")
  | (?P<symbol><>|<=|>=|==|!=|&&|\|\||[-+*/%(),=<>≥≤≠−×÷])
    """,
    re.VERBOSE,
)
_BLOCK_EDGE = re.compile(r"/\*|\*/")

# Symbols of other notations, and what is written here instead.
FOREIGN = {"==": "=", "!=": "<>", "&&": "AND", "≥": ">=", "≤": "<=", "≠": "<>", "−": "-", "×": "*", "÷": "/"}


def _block_end(text: str, start: int) -> int | None:
    """Where a block comment ends; comments nest, as in the standard. None when it is never closed."""
    depth = 0
    for edge in _BLOCK_EDGE.finditer(text, start):
        depth += 1 if edge.group() == "/*" else -1
        if depth == 0:
            return edge.end()
    return None


def tokenize(text: str, comments: bool = False) -> tuple[list[Token], list[Finding]]:
    """The tokens of a formula, ending with an `end` token, and what was wrong with the text itself.

    Comments are left out unless they are asked for.
    """
    tokens: list[Token] = []
    findings: list[Finding] = []
    position, size = 0, len(text)
    while position < size:
        match = _TOKEN.match(text, position)
        kind = match.lastgroup if match else None
        if match is None or kind is None:
            position = _skip_unknown(text, position, findings)
            continue
        end = match.end()
        if kind == "block":
            closed = _block_end(text, position)
            if closed is None:
                place = Place(text=text, start=position, end=position + 2)
                findings.append(Finding("open-comment", "This comment is never closed.", place, "End it with */."))
            end = closed or size
            if comments:
                tokens.append(Token("comment", text[position:end], position, end))
        elif kind == "line" and comments:
            tokens.append(Token("comment", match.group(), position, end))
        elif kind in ("text", "quoted"):
            raw = match.group()
            quote = raw[0]
            value = raw[1:-1].replace(quote * 2, quote)
            tokens.append(Token("text" if kind == "text" else "quoted", value, position, end))
        elif kind == "symbol":
            symbol = match.group()
            if symbol in FOREIGN:
                findings.append(_foreign(text, position, end, symbol))
            tokens.append(Token("symbol", FOREIGN.get(symbol, symbol), position, end))
        elif kind not in ("space", "line"):
            tokens.append(Token(kind, match.group(), position, end))  # type: ignore[arg-type]
        position = end
    tokens.append(Token("end", "", size, size))
    return tokens, findings


def _foreign(text: str, start: int, end: int, symbol: str) -> Finding:
    right = FOREIGN[symbol]
    before, after = text[:start], text[end:]
    apart = [" " if right.isalpha() and side and not side.isspace() else "" for side in (before[-1:], after[:1])]
    fixed = f"{before}{apart[0]}{right}{apart[1]}{after}"
    return Finding(
        "foreign-operator",
        f"{symbol} is not an operator here.",
        Place(text=text, start=start, end=end),
        f"Write {right}.",
        fixed=fixed,
        sure=True,
    )


def _skip_unknown(text: str, position: int, findings: list[Finding]) -> int:
    """Note a character that begins nothing, and say where to go on."""
    character = text[position]
    if character in "'\"":
        what = "text" if character == "'" else "name"
        place = Place(text=text, start=position, end=position + 1)
        message = f"This {what} is never closed."
        findings.append(Finding("open-quote", message, place, f"End it with {character}."))
        return len(text)
    end = position + 1
    while end < len(text) and text[end] == character:
        end += 1
    shown = character if character.isprintable() else f"U+{ord(character):04X}"
    hint = {
        "`": 'Put names in double quotes, as in "Unit price".',
        "[": 'Put names in double quotes, as in "Unit price".',
        "“": "Use straight quotes: \" for names, ' for text.",
        "”": "Use straight quotes: \" for names, ' for text.",
        "’": "Use straight quotes: ' for text.",
        "‘": "Use straight quotes: ' for text.",
        ";": "A formula is one expression; leave the semicolon out.",
        "&": "Text is joined with ||, conditions with AND.",
        "^": "Powers are POWER(x, y).",
    }.get(character, "")
    place = Place(text=text, start=position, end=end)
    findings.append(Finding("stray-character", f"{shown} means nothing here.", place, hint))
    return end


def quote_identifier(name: str) -> str:
    """How a field name is written in a formula: bare where that is allowed, else in double quotes."""
    if re.fullmatch(r"[^\W\d]\w*", name) and name.upper() not in RESERVED:
        return name
    return '"' + name.replace('"', '""') + '"'


def quote_literal(value: str) -> str:
    """How a text value is written in a formula."""
    return "'" + value.replace("'", "''") + "'"
