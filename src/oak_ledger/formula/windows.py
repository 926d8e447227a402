"""How windows and orders are read: `OVER (PARTITION BY … ORDER BY … ROWS BETWEEN …)`."""

from __future__ import annotations

from oak_ledger.formula import nodes
from oak_ledger.formula.cursor import ADD, Cursor
from oak_ledger.formula.lexer import Token


def opening(cursor: Cursor, after: str) -> Token | None:
    """The parenthesis that comes here, or a note that it is missing."""
    token = cursor.token
    if cursor.accept("("):
        return token
    cursor.problem("word-missing", f"{after} needs a parenthesis here.")
    return None


def order_by(cursor: Cursor, after: str) -> tuple[nodes.SortKey, ...]:
    """`ORDER BY` and its keys."""
    if not cursor.expect_word("ORDER", after=after):
        return ()
    cursor.expect_word("BY", after="ORDER")
    keys = [sort_key(cursor)]
    while cursor.accept(","):
        keys.append(sort_key(cursor))
    return tuple(keys)


def sort_key(cursor: Cursor) -> nodes.SortKey:
    """One key of an order, with its direction and the place of nulls."""
    key = cursor.expression()
    descending = cursor.is_word("DESC")
    cursor.accept_word("ASC", "DESC")
    nulls_first: bool | None = None
    if cursor.accept_word("NULLS"):
        nulls_first = cursor.is_word("FIRST")
        cursor.expect_word("FIRST", "LAST", after="NULLS")
    return nodes.SortKey(key.start, cursor.last_end, key, descending, nulls_first)


def window(cursor: Cursor) -> nodes.Over:
    """The contents of `OVER (…)`."""
    start = cursor.token.start
    opened = opening(cursor, "OVER")
    if opened is None:
        return nodes.Over(start, start, (), (), None)
    partition: list[nodes.Node] = []
    order: tuple[nodes.SortKey, ...] = ()
    rows: nodes.Frame | None = None
    if cursor.is_word("PARTITION") and cursor.peek().word == "BY":
        cursor.take(), cursor.take()
        partition = cursor.listed()
    elif not cursor.is_symbol(")") and not (
        cursor.is_word("ORDER", "ROWS", "RANGE") and cursor.peek().kind != "symbol"
    ):
        window_part(cursor, "PARTITION BY")
    if cursor.is_word("ORDER"):
        if cursor.peek().word == "BY":
            order = order_by(cursor, "OVER (")
        else:
            window_part(cursor, "ORDER BY")
    if cursor.is_word("ROWS", "RANGE") and cursor.peek().word in ("BETWEEN", "UNBOUNDED", "CURRENT"):
        rows = frame(cursor)
    return nodes.Over(start, cursor.close(opened), tuple(partition), order, rows)


def window_part(cursor: Cursor, words: str) -> None:
    """Note that a window names something without the words that say what for, and go on behind it."""
    token = cursor.token
    first = words.partition(" ")[0]
    given = token.end if token.word == first else token.start
    fixed = f"{cursor.text[: token.start]}{words} {cursor.text[given:].lstrip()}"
    cursor.note("word-missing", f"OVER needs {words} here.", token.start, token.end, f"Write {words}.", fixed)
    cursor.take()
    if token.word == first and not cursor.is_symbol(")"):
        cursor.listed()


def frame(cursor: Cursor) -> nodes.Frame:
    """The frame of a window."""
    unit = cursor.take()
    if cursor.accept_word("BETWEEN"):
        low = bound(cursor)
        cursor.expect_word("AND", after="BETWEEN")
        high = bound(cursor)
    else:
        low = bound(cursor)
        high = nodes.Bound(low.end, low.end, "current", False, None)
    return nodes.Frame(unit.start, cursor.last_end, unit.word, low, high)


def bound(cursor: Cursor) -> nodes.Bound:
    """An end of a frame."""
    start = cursor.token.start
    if cursor.is_word("CURRENT") and cursor.peek().word == "ROW":
        cursor.take(), cursor.take()
        return nodes.Bound(start, cursor.last_end, "current", False, None)
    offset = None if cursor.accept_word("UNBOUNDED") else cursor.expression(ADD)
    after = cursor.is_word("FOLLOWING")
    cursor.expect_word("PRECEDING", "FOLLOWING", after="A frame's end")
    return nodes.Bound(start, cursor.last_end, "offset" if offset else "unbounded", after, offset)
