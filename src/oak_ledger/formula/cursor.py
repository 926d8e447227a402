"""Tokens one after the other, and how reading goes on where something is wrong."""

from __future__ import annotations

from oak_ledger.errors import Finding, Place
from oak_ledger.formula import nodes
from oak_ledger.formula.lexer import Token, quote_identifier

# Loosest first. NOT comes between AND and IS; the signs bind tightest.
OR, AND, NOT, IS, COMPARE, RANGE, JOIN, ADD, MULTIPLY, SIGN = range(1, 11)
INFIX: dict[str, int] = {
    "OR": OR,
    "AND": AND,
    "IS": IS,
    "=": COMPARE,
    "<>": COMPARE,
    "<": COMPARE,
    "<=": COMPARE,
    ">": COMPARE,
    ">=": COMPARE,
    "BETWEEN": RANGE,
    "IN": RANGE,
    "LIKE": RANGE,
    "||": JOIN,
    "+": ADD,
    "-": ADD,
    "*": MULTIPLY,
    "/": MULTIPLY,
    "%": MULTIPLY,
}
MAX_DEPTH = 64
# Words that end an operand without being part of it; used to go on after an error.
STOPS = frozenset({"WHEN", "THEN", "ELSE", "END", "AND", "OR"})


class Cursor:
    """Where a reader of tokens is, what it noted, and how it goes on after an error."""

    def __init__(self, text: str, tokens: list[Token], findings: list[Finding]) -> None:
        self.text, self.tokens, self.findings = text, tokens, findings
        self.at = 0
        self.depth = 0
        self.open: list[Token] = []  # what is open: CASE and parentheses, outermost first

    @property
    def token(self) -> Token:
        """The token that is here."""
        return self.tokens[self.at]

    @property
    def done(self) -> bool:
        """Whether nothing is left."""
        return self.tokens[self.at].kind == "end"

    @property
    def last_end(self) -> int:
        """Where the token before this one ended."""
        return self.tokens[self.at - 1].end if self.at else 0

    def take(self) -> Token:
        """Go on by a token and give it; the end stays."""
        token = self.tokens[self.at]
        if token.kind != "end":
            self.at += 1
        return token

    def peek(self, ahead: int = 1) -> Token:
        """A token further on."""
        return self.tokens[min(self.at + ahead, len(self.tokens) - 1)]

    def is_symbol(self, symbol: str) -> bool:
        """Whether this symbol is here."""
        return self.token.kind == "symbol" and self.token.value == symbol

    def is_word(self, *words: str) -> bool:
        """Whether one of these words is here, not in quotes."""
        return self.token.word in words and self.token.kind == "name"

    def accept(self, symbol: str) -> bool:
        """Take this symbol if it is here."""
        if self.is_symbol(symbol):
            self.take()
            return True
        return False

    def accept_word(self, *words: str) -> bool:
        """Take one of these words if it is here."""
        if self.is_word(*words):
            self.take()
            return True
        return False

    def problem(self, code: str, message: str, hint: str = "", *, at: Token | None = None) -> None:
        """Note what is wrong with a token, the present one if none is given."""
        token = at or self.token
        self.note(code, message, token.start, token.end, hint)

    def note(self, code: str, message: str, start: int, end: int, hint: str = "", fixed: str | None = None) -> None:
        """Note what is wrong with a piece of the text, once for each place."""
        if any(finding.place.start == start for finding in self.findings):
            return  # one error a place: the first is the cause
        if self.token.kind == "end" and any(finding.code == "open-quote" for finding in self.findings):
            return  # the quote took the rest
        place = Place(text=self.text, start=start, end=end)
        self.findings.append(Finding(code, message, place, hint, fixed=fixed, sure=fixed is not None))

    def expect_word(self, *words: str, after: str) -> bool:
        """Take one of these words, or note that it is missing."""
        if self.accept_word(*words):
            return True
        code = "from-missing" if words == ("FROM",) else "word-missing"
        self.problem(code, f"{after} needs {' or '.join(words)} here.")
        return False

    def close(self, opened: Token) -> int:
        """The closing parenthesis of `opened`; says where it opened when it is missing."""
        if self.is_symbol(")"):
            return self.take().end
        if self.token.kind == "end" or self.token.word in STOPS or self.is_symbol(","):
            message = "This parenthesis is never closed."
            fixed = self.text[: self.last_end] + ")" + self.text[self.last_end :]
            self.note("open-parenthesis", message, opened.start, opened.end, "Add a ).", fixed)
            return self.last_end
        self.unexpected("an operator, a comma or a closing parenthesis")
        self.skip_to_close()
        if self.is_symbol(")"):
            return self.take().end
        return self.last_end

    def skip_to_close(self) -> None:
        """Go on to the parenthesis that closes the present level, or to the end."""
        level = 0
        while not self.done:
            if self.is_symbol("("):
                level += 1
            elif self.is_symbol(")"):
                if level == 0:
                    return
                level -= 1
            self.take()

    def unexpected(self, wanted: str) -> None:
        """Note that something else should stand here."""
        token = self.token
        if token.kind == "end":
            self.note("unfinished", f"The formula ends where {wanted} should come.", token.start, token.end)
            return
        hint = ""
        previous = self.tokens[self.at - 1] if self.at else None
        beside = previous is not None and self.text[previous.end : token.start].isspace()
        if token.kind == "name" and previous and beside and previous.kind == "name" and not token.reserved:
            both = f"{previous.value} {token.value}"
            hint = f"A name of several words goes in double quotes: {quote_identifier(both)}."
        elif token.kind == "quoted" and previous and previous.kind in ("quoted", "name"):
            hint = "Text is joined with ||."
        self.note(
            "unexpected", f"{token.value!r} is unexpected; {wanted} should come here.", token.start, token.end, hint
        )

    def expression(self, floor: int = 0) -> nodes.Node:
        """What binds at least as tightly as `floor`; the grammar gives it."""
        raise NotImplementedError

    def listed(self) -> list[nodes.Node]:
        """Expressions with commas between them."""
        items = [self.expression()]
        while self.accept(","):
            items.append(self.expression())
        return items
