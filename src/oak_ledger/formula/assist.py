"""Help while a formula is written: completion, the signature of the call around the cursor, one look for all formulas.

All of it works on text and a position in it, for any editor, and on text that cannot be read yet.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from oak_ledger.errors import FormulaError
from oak_ledger.formula.builder import Scope
from oak_ledger.formula.cursor import INFIX
from oak_ledger.formula.lexer import COMMENTS_TOO, RESERVED, Token, quote_identifier, tokenize
from oak_ledger.formula.parser import parse
from oak_ledger.formula.special import SPECIAL
from oak_ledger.functions import LIBRARY, Function
from oak_ledger.functions.registry import Parameter
from oak_ledger.types import Grain

LINE = 100  # a formula up to this length stays on one line
_AFTER_VALUE = ("AND", "OR", "IS NULL", "IS NOT NULL", "BETWEEN", "IN", "LIKE", "NOT", "THEN", "WHEN", "ELSE", "END")
_BEFORE_VALUE = ("CASE", "CAST", "IF", "NOT", "NULL", "TRUE", "FALSE", "DATE", "TIMESTAMP", "INTERVAL")


@dataclass(frozen=True, slots=True)
class Completion:
    """One proposal: what it is (`field`, `function`, `keyword`), what is put in place of the text from `start` to `end`, and a detail."""

    kind: Literal["field", "function", "keyword"]
    text: str
    detail: str
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class SignatureHelp:
    """The call that a position is in: the function, how it is written, and which argument one is at, from 0."""

    function: Function
    written: str
    argument: int

    @property
    def parameter(self) -> Parameter | None:
        """The parameter of that argument, if there is one."""
        signature = self.function.signatures[0]
        return signature.parameter(self.argument) if signature.parameters else None


def complete(text: str, position: int, scope: Scope) -> list[Completion]:
    """Proposals at a position: fields first, those that fit the call around the cursor before the others, then functions, then keywords."""
    before = text[:position]
    quoted = before.count('"') % 2 == 1 and before.count("'") % 2 == 0
    if not quoted and before.count("'") % 2 == 1:
        return []  # inside a text value there is nothing to propose
    start = before.rindex('"') if quoted else position - len(_word_before(before))
    prefix = before[start + quoted :].casefold()
    tokens = tokenize(text[:start])[0][:-1]
    if tokens and _ends_value(tokens[-1]):
        return [
            Completion("keyword", word, "", start, position)
            for word in _AFTER_VALUE
            if word.casefold().startswith(prefix)
        ]
    help_here = signature_at(text, start)
    wanted = help_here.parameter.kinds if help_here and help_here.parameter else frozenset[str]()
    fields = []
    for name in scope.names():
        known = scope.find(name)
        if known is not None and known.type is not None and _matches(name, prefix):
            nested = help_here is not None and help_here.function.aggregate and known.grain == Grain.GROUP
            fits = not nested and (not wanted or known.type.kind in wanted)
            fields.append(
                (not fits, not name.casefold().startswith(prefix), name, f"{known.type}, {_per(known.grain)}")
            )
    completions = [
        Completion("field", quote_identifier(name), detail, start, position) for *_, name, detail in sorted(fields)
    ]
    if quoted:
        return completions
    functions = sorted(name for name in LIBRARY.entries if name.casefold().startswith(prefix))
    completions += [Completion("function", name, LIBRARY.entries[name].sentence, start, position) for name in functions]
    return completions + [
        Completion("keyword", word, "", start, position)
        for word in _BEFORE_VALUE
        if prefix and word.casefold().startswith(prefix)
    ]


def _word_before(text: str) -> str:
    at = len(text)
    while at and (text[at - 1].isalnum() or text[at - 1] == "_"):
        at -= 1
    return text[at:]


def _matches(name: str, prefix: str) -> bool:
    """Whether a name begins so, or one of its words does."""
    folded = name.casefold()
    return folded.startswith(prefix) or any(word.startswith(prefix) for word in folded.split())


def _per(grain: Grain) -> str:
    return "constant" if grain == Grain.CONSTANT else f"per {grain}"


def _ends_value(token: Token) -> bool:
    if token.kind == "symbol":
        return token.value == ")"
    return not token.reserved or token.word in ("NULL", "TRUE", "FALSE", "END")


def signature_at(text: str, position: int) -> SignatureHelp | None:
    """The innermost call of a known function that a position is in; None outside of any."""
    open_calls: list[tuple[Token | None, int]] = []
    previous: Token | None = None
    for token in tokenize(text[:position])[0]:
        if token.kind == "symbol" and token.value == "(":
            open_calls.append((previous if previous is not None and previous.kind == "name" else None, 0))
        elif token.kind == "symbol" and token.value == ")" and open_calls:
            open_calls.pop()
        elif token.kind == "symbol" and token.value == "," and open_calls:
            open_calls[-1] = (open_calls[-1][0], open_calls[-1][1] + 1)
        previous = token
    for name, argument in reversed(open_calls):
        entry = LIBRARY.entries.get(name.word) if name is not None else None
        if entry is not None:
            return SignatureHelp(entry, entry.written[0], argument)
    return None


def format_formula(text: str) -> str:
    """A formula in the one look that all can have: keywords and functions in capitals, single spaces, a long CASE on several lines.

    Names, values and comments stay as they are. Raises FormulaError for a formula that cannot be read.
    """
    parsed = parse(text)
    if parsed.findings:
        raise FormulaError.of(parsed.findings)
    pieces = [_written(token, following) for token, following in _pairs(text)]
    line = _joined(pieces, several=False)
    comments = any(piece.startswith("--") for piece in pieces)
    return line if len(line) <= LINE and not comments else _joined(pieces, several=True)


def _pairs(text: str) -> list[tuple[Token, Token | None]]:
    tokens = tokenize(text, COMMENTS_TOO)[0][:-1]
    return [(token, tokens[at + 1] if at + 1 < len(tokens) else None) for at, token in enumerate(tokens)]


def _written(token: Token, following: Token | None) -> str:
    if token.kind == "text":
        return "'" + token.value.replace("'", "''") + "'"
    if token.kind == "quoted":
        return '"' + token.value.replace('"', '""') + '"'
    calls = (
        following is not None and following.value == "(" and (token.word in LIBRARY.entries or token.word in SPECIAL)
    )
    return token.word if token.word in RESERVED or (token.kind == "name" and calls) else token.value


def _joined(pieces: list[str], *, several: bool) -> str:
    made = ""
    depth = 0
    for at, piece in enumerate(pieces):
        before = pieces[at - 1] if at else ""
        if piece == "END":
            depth -= 1
        if several and piece in ("WHEN", "ELSE", "END") and depth >= 0 and made and not made.endswith("\n"):
            made = made.rstrip(" ") + "\n"
        if made.endswith("\n"):
            made += "  " * depth
        elif at and not _tight(before, piece, pieces[at - 2] if at > 1 else ""):
            made += " "
        made += piece
        if piece == "CASE":
            depth += 1
        if piece.startswith("--"):
            made += "\n"
    return made.rstrip()


def _tight(before: str, piece: str, earlier: str) -> bool:
    """Whether two pieces are side by side without a space."""
    if before == "(" or piece in (")", ","):
        return True
    if before == "-" and piece == "-":
        return False  # two of them side by side would begin a comment
    if before in ("+", "-") and (earlier in ("", "(", ",") or earlier in INFIX or earlier in RESERVED):
        return True  # a sign, and not an operator
    return piece == "(" and (before in LIBRARY.entries or before in SPECIAL)


@dataclass(frozen=True, slots=True)
class Compared:
    """A text value that is being written: the name that it is compared with, and where the text begins and ends."""

    name: str
    start: int
    end: int


def compared_with(text: str, position: int) -> Compared | None:
    """The text value around a position and the name that it is compared with, by =, <>, IN or LIKE; None where there is none."""
    start = _open_text(text, position)
    if start is None:
        return None
    closing = re.compile(r"'(?:[^']|'')*('|$)").match(text, start)
    end = closing.end() if closing is not None and closing[1] and "\n" not in closing[0] else position
    tokens = [token for token in tokenize(text[:start])[0] if token.kind != "end"]
    while len(tokens) > 1 and tokens[-1].value == "," and tokens[-2].kind == "text":
        del tokens[-2:]
    if tokens and tokens[-1].value == "(":
        tokens.pop()
    while tokens and tokens[-1].word in ("NOT", "IN", "LIKE"):
        tokens.pop()
    if tokens and tokens[-1].value in ("=", "<>"):
        tokens.pop()
    if (
        not tokens
        or text[tokens[-1].end : start].strip() in ("", "(", ",")
        or tokens[-1].kind not in ("name", "quoted")
    ):
        return None
    return Compared(tokens[-1].value, start, end)


def _open_text(text: str, position: int) -> int | None:
    """Where the text value begins that is open at a position."""
    quote, start = "", 0
    for at, sign in enumerate(text[:position]):
        if not quote and sign in "'\"":
            quote, start = sign, at
        elif sign == quote:
            quote = ""
    return start if quote == "'" else None
