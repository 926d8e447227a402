"""Texts read as values in SQL, as the language reads them: what does not fit is null there, and counted as a value that could not be computed."""

from __future__ import annotations

import re
from dataclasses import dataclass
from itertools import pairwise

from oak_ledger.formula import checked as c
from oak_ledger.functions.casts import FALSE_WORDS, LOST, TRUE_WORDS, CastTo, lost_in
from oak_ledger.functions.marks import pattern
from oak_ledger.functions.templates import SPACES, template

_NUMBER = r"^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$"
_DAY = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
_MOMENT = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?$"
_CLOCK = "([01][0-9]|2[0-3]):[0-5][0-9]"  # no 24:00, which some take for the next day
_MOMENT_OF_ONE_DAY = rf"^[0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}}[ T]{_CLOCK}(:[0-5][0-9](\.[0-9]{{1,6}})?)?$"
_IN_CALENDAR = {
    "YYYY": "([0-9]{3}[1-9]|[0-9]{2}[1-9]0|[0-9][1-9]00|[1-9]000)", "MM": "(0[1-9]|1[0-2])", "DD": "(0[1-9]|[12][0-9]|3[01])",
    "HH24": "([01][0-9]|2[0-3])", "MI": "[0-5][0-9]", "SS": "[0-5][0-9]",
}  # fmt: skip
"""What the parts of a date may be, where a function would make something of others: the day 0, the year 0."""
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


_TEXT = '"the text"'


def stop(text: str, kind: str) -> str:
    """What ends the statement at a text, which the server then names; of any type."""
    return f"CAST(CAST(CAST('?' || {text} AS BIGINT) AS TEXT) AS {kind})"


@dataclass(frozen=True, slots=True)
class Reading:
    """How a place reads texts: what does not fit is null and counted, or (`stops`) ends the statement, which is then computed here."""

    stops: bool

    def trimmed(self, around: str) -> str:
        """The text without what is around it; where it is looked at several times, `whole` has done that."""
        return _TEXT if self.stops else f"BTRIM({{0}}, {quoted(around)})"

    def whole(self, template: str, around: str) -> str:
        """A template whose text is computed once."""
        inner = f"SELECT BTRIM({{0}}, {quoted(around)}) AS {_TEXT} OFFSET 0"
        return f"(SELECT {template} FROM ({inner}) AS read)" if self.stops else template

    def cast(self, text: str, kind: str) -> str:
        """A text that has the right form as a value."""
        return f"{'CAST' if self.stops else 'TRY_CAST'}({text} AS {kind})"

    def chosen(self, text: str, *cases: str, kind: str) -> str:
        """The first case that holds."""
        last = f" ELSE {stop(text, kind)}" if self.stops else ""
        nothing = f"WHEN {text} IS NULL THEN NULL " if self.stops else ""
        return f"CASE {nothing}{' '.join(cases)}{last} END"


COUNTS, STOPS = Reading(stops=False), Reading(stops=True)


def cast_template(to: CastTo, how: Reading = COUNTS) -> str | None:
    """The template of a cast from text; None for a date template that has more than digits in it."""
    made = _cast_template(to, how)
    return None if made is None else how.whole(made, SPACES)


def _cast_template(to: CastTo, how: Reading) -> str | None:
    text, kind = how.trimmed(SPACES), to.type.kind
    lost = "|".join(LOST[what] for what in lost_in(to))
    keeps = f" AND NOT {text} ~ {quoted(lost)}" if lost else ""
    if kind == "integer":
        return how.chosen(text, f"WHEN {text} ~ '^[+-]?[0-9]+$'{keeps} THEN {how.cast(text, 'BIGINT')}", kind="BIGINT")
    if kind == "decimal":
        own = f"DECIMAL({to.precision}, {to.type.scale})"
        made = how.cast(text, own)
        exact = f" AND {made} = {how.cast(text, 'DECIMAL(38, 18)')}" if to.exact and to.type.scale < 18 else ""
        if exact and how.stops:  # a condition is not asked before the form is known
            made, exact = (
                f"CASE WHEN {exact.removeprefix(' AND ')} THEN {made} ELSE CAST('?' || {text} AS {own}) END",
                "",
            )
        return how.chosen(text, f"WHEN {text} ~ {quoted(_NUMBER)}{exact}{keeps} THEN {made}", kind=own)
    if kind == "number":
        own = "DOUBLE PRECISION"
        made = how.cast(text, own)
        finite = "" if how.stops else f" AND ABS({made}) < CAST('Infinity' AS {own})"
        return how.chosen(text, f"WHEN {text} ~ {quoted(_NUMBER)}{keeps}{finite} THEN {made}", kind=own)
    if kind == "boolean":
        true, false = (", ".join(map(quoted, sorted(words))) for words in (TRUE_WORDS, FALSE_WORDS))
        return how.chosen(
            text,
            f"WHEN LOWER({text}) IN ({true}) THEN TRUE",
            f"WHEN LOWER({text}) IN ({false}) THEN FALSE",
            kind="BOOLEAN",
        )
    name = "DATE" if kind == "date" else "TIMESTAMP"
    if to.template:
        return _by_template(to.template, text, name, how)
    day, moment = how.cast(text, "DATE"), how.cast(text, "TIMESTAMP")
    whole = f"CAST({moment} AS DATE)" if kind == "date" else moment
    only_day = day if kind == "date" else f"CAST({day} AS TIMESTAMP)"
    form = _MOMENT_OF_ONE_DAY if how.stops else _MOMENT
    cases = [f"WHEN {text} ~ '{_DAY}' THEN {only_day}", f"WHEN {text} ~ {quoted(form)} THEN {whole}"]
    if not how.stops:
        cases.append(f"WHEN {text} ~ '^[0-9]{{4}}-.{{5}}' THEN CAST(RAISE_ERROR('a date in another form') AS {name})")
    return how.chosen(text, *cases, kind=name)


def _by_template(written: str, text: str, name: str, how: Reading) -> str | None:
    """By a template of digits: its parts put in the order of the standard."""
    pieces = template(written).pieces
    names = [piece.name for piece in pieces if piece.name]
    if any(name not in _DIGITS for name in names) or "YYYY" not in names:
        return None
    shape = "".join(
        f"([0-9]{{{'4' if piece.name == 'YYYY' else '1,2'}}})" if piece.name else re.escape(piece.written)
        for piece in pieces
    )
    own = quoted(f"^{shape}$")
    if how.stops:  # the form is known then, and the function stops at a day that no calendar has
        apart = all(
            not (one.name and other.name) for one, other in pairwise(pieces)
        )  # else it takes two digits for each
        strict = "".join(_IN_CALENDAR[piece.name] if piece.name else re.escape(piece.written) for piece in pieces)
        strict = strict.replace("(0[1-9]", "(0?[1-9]").replace("([01][0-9]|2", "([01]?[0-9]|2") if apart else strict
        elements = quoted("".join(piece.name or f'"{piece.written}"' for piece in pieces))
        made = (
            f"TO_DATE({text}, {elements})" if name == "DATE" else f"CAST(TO_TIMESTAMP({text}, {elements}) AS TIMESTAMP)"
        )
        return how.chosen(text, f"WHEN {text} ~ {quoted(f'^{strict}$')} THEN {made}", kind=name)

    def part(one: str) -> str:
        if one not in names:
            return "'00'" if one in ("HH24", "MI", "SS") else "'01'"
        return f"LPAD(REGEXP_REPLACE({text}, {own}, '${names.index(one) + 1}'), {_DIGITS[one]}, '0')"

    day = " || '-' || ".join(map(part, ("YYYY", "MM", "DD")))
    moment = " || ':' || ".join(map(part, ("HH24", "MI", "SS")))
    made = f"TRY_CAST({day} AS DATE)" if name == "DATE" else f"TRY_CAST({day} || ' ' || {moment} AS TIMESTAMP)"
    return how.chosen(text, f"WHEN {text} ~ {own} THEN {made}", kind=name)


def plain_number(node: c.Call, how: Reading = COUNTS) -> str:
    """The template of PLAIN_NUMBER: the text must match as a whole, then all but digits, the mark and the exponent can go."""
    given = [str(arg.value or "") if isinstance(arg, c.Constant) else "" for arg in node.args[1:]]
    mark, thousands, currencies = [*given, "", ""][:3]
    text = bare = how.trimmed(_AROUND)
    for one in currencies.split():
        bare = f"REPLACE({bare}, {quoted(one)}, '')"
    own = re.escape(mark)
    digits = f"REGEXP_REPLACE({bare}, {quoted(f'^[^0-9{own}]+|[^0-9]+$|[^0-9eE+{own}-]')}, '', 'g')"
    sign = f"CASE WHEN {bare} ~ {quoted(_BELOW)} THEN '-' ELSE '' END"
    found = f"WHEN {text} ~ {quoted(pattern(mark, thousands, currencies))} THEN {sign} || REPLACE({digits}, {quoted(mark)}, '.')"
    return how.whole(how.chosen(text, found, kind="TEXT"), _AROUND)
