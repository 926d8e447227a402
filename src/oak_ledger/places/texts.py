"""Texts read as values in SQL, as the language reads them: what does not fit is null there, and counted as a value that could not be computed."""

from __future__ import annotations

import re

from oak_ledger.formula import checked as c
from oak_ledger.functions.casts import FALSE_WORDS, LOST, TRUE_WORDS, CastTo, lost_in
from oak_ledger.functions.marks import pattern
from oak_ledger.functions.templates import SPACES, template

_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"
_DAY = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
_MOMENT = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?$"
_DIGITS = {"YYYY": 4, "MM": 2, "DD": 2, "HH24": 2, "MI": 2, "SS": 2}
_AROUND = f"{SPACES}\u00a0\u2009\u202f"  # what is left out around a number that people wrote
_BELOW = "^[^0-9]*[(\u2212-]|-[^0-9]*$"  # how one below zero looks
WRONG = {
    "integer": "not a whole number", "decimal": "not a number", "number": "not a number", "boolean": "not yes or no",
    "date": "not a date written that way", "timestamp": "not a timestamp written that way",
}  # fmt: skip
"""What is wrong with a text that is not a value of a type."""


def quoted(text: str) -> str:
    """A text as a literal of SQL."""
    return "'" + text.replace("'", "''") + "'"


def cast_template(to: CastTo) -> str | None:
    """The template of a cast from text; None for a date template that has more than digits in it."""
    text, kind = f"BTRIM({{0}}, {quoted(SPACES)})", to.type.kind
    keeps = "".join(f" AND NOT {text} ~ {quoted(LOST[what])}" for what in lost_in(to))
    if kind == "integer":
        return f"CASE WHEN {text} ~ '^[+-]?[0-9]+$'{keeps} THEN TRY_CAST({text} AS BIGINT) END"
    if kind == "decimal":
        made = f"TRY_CAST({text} AS DECIMAL({to.precision}, {to.type.scale}))"
        exact = f" AND {made} = TRY_CAST({text} AS DECIMAL(38, 18))" if to.exact and to.type.scale < 18 else ""
        return f"CASE WHEN {text} ~ {quoted(_NUMBER)}{exact}{keeps} THEN {made} END"
    if kind == "number":
        made = f"TRY_CAST({text} AS DOUBLE PRECISION)"
        return f"CASE WHEN {text} ~ {quoted(_NUMBER)}{keeps} AND ABS({made}) < CAST('Infinity' AS DOUBLE PRECISION) THEN {made} END"
    if kind == "boolean":
        true, false = (", ".join(map(quoted, sorted(words))) for words in (TRUE_WORDS, FALSE_WORDS))
        return f"CASE WHEN LOWER({text}) IN ({true}) THEN TRUE WHEN LOWER({text}) IN ({false}) THEN FALSE END"
    name = "DATE" if kind == "date" else "TIMESTAMP"
    if to.template:
        return _by_template(to.template, text, name)
    day, moment = f"TRY_CAST({text} AS DATE)", f"TRY_CAST({text} AS TIMESTAMP)"
    whole = f"CAST({moment} AS DATE)" if kind == "date" else moment
    only_day = day if kind == "date" else f"CAST({day} AS TIMESTAMP)"
    other = f"WHEN {text} ~ '^[0-9]{{4}}-.{{5}}' THEN CAST(RAISE_ERROR('a date in another form') AS {name})"
    return f"CASE WHEN {text} ~ '{_DAY}' THEN {only_day} WHEN {text} ~ {quoted(_MOMENT)} THEN {whole} {other} END"


def _by_template(written: str, text: str, name: str) -> str | None:
    """By a template of digits: its parts put in the order of the standard."""
    pieces = template(written).pieces
    names = [piece.name for piece in pieces if piece.name]
    if any(one not in _DIGITS for one in names) or "YYYY" not in names:
        return None
    shape = "".join(
        f"([0-9]{{{'4' if one.name == 'YYYY' else '1,2'}}})" if one.name else re.escape(one.written) for one in pieces
    )
    own = quoted(f"^{shape}$")

    def part(one: str) -> str:
        if one not in names:
            return "'00'" if one in ("HH24", "MI", "SS") else "'01'"
        return f"LPAD(REGEXP_REPLACE({text}, {own}, '${names.index(one) + 1}'), {_DIGITS[one]}, '0')"

    day = " || '-' || ".join(map(part, ("YYYY", "MM", "DD")))
    moment = " || ':' || ".join(map(part, ("HH24", "MI", "SS")))
    made = f"TRY_CAST({day} AS DATE)" if name == "DATE" else f"TRY_CAST({day} || ' ' || {moment} AS TIMESTAMP)"
    return f"CASE WHEN {text} ~ {own} THEN {made} END"


def plain_number(node: c.Call) -> str:
    """The template of PLAIN_NUMBER: the text must match as a whole, then all but digits, the mark and the exponent can go."""
    given = [str(one.value or "") if isinstance(one, c.Constant) else "" for one in node.args[1:]]
    mark, thousands, currencies = [*given, "", ""][:3]
    text = bare = f"BTRIM({{0}}, {quoted(_AROUND)})"
    for one in currencies.split():
        bare = f"REPLACE({bare}, {quoted(one)}, '')"
    own = re.escape(mark)
    digits = f"REGEXP_REPLACE({bare}, {quoted(f'^[^0-9{own}]+|[^0-9]+$|[^0-9eE+{own}-]')}, '', 'g')"
    sign = f"CASE WHEN {bare} ~ {quoted(_BELOW)} THEN '-' ELSE '' END"
    return f"CASE WHEN {text} ~ {quoted(pattern(mark, thousands, currencies))} THEN {sign} || REPLACE({digits}, {quoted(mark)}, '.') END"
