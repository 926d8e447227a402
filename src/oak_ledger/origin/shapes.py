"""The shapes that values of a text column may have: patterns of numbers, dates, amounts of money."""

from __future__ import annotations

import re
from collections.abc import Callable

from oak_ledger.columnar.arrays import Mask
from oak_ledger.origin.number_shapes import Mark, Numbers

_SIGN = r"[+-]?"
SPACE = " \u00a0\u2009\u202f"  # what may separate thousands
MINUS = "\u2212"
QUOTE = "'\u2019"
CURRENCIES = "EUR|USD|GBP|CHF|SEK|NOK|DKK|PLN|CZK|HUF|JPY|CNY|INR|CAD|AUD|kr|Kč|zł|Ft"
MONEY_MARK = rf"\p{{Sc}}|{CURRENCIES}"
_MONEY = rf"(?:{_SIGN} ?(?:{MONEY_MARK}) ?)?"


def _grouped(mark: str) -> str:
    """Whole numbers with marks between groups of three, or of two before the last three; small ones have none."""
    return rf"(?:[1-9][0-9]{{0,2}}(?:[{mark}][0-9]{{3}})+|[1-9][0-9]?(?:[{mark}][0-9]{{2}})+[{mark}][0-9]{{3}}|[0-9]{{1,3}})"


def _accounting(mark: str, point: str) -> str:
    """Numbers with a minus behind, or in parentheses where they are below zero."""
    number = rf"(?:{_grouped(mark)}|[0-9]+)(?:[{point}][0-9]+)?"
    return rf"^(?:\({number}\)|{number}-|[+{MINUS}-]?{number})$"


_PARTS = {
    "YYYY": r"(?:[1-9][0-9]{3}|0[0-9]{2}[1-9])", "YY": "[0-9]{2}", "MM": "(?:0?[1-9]|1[0-2])", "DD": "(?:0?[1-9]|[12][0-9]|3[01])",
    "MON": "(?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)",
    "MONTH": "(?i:january|february|march|april|may|june|july|august|september|october|november|december)",
    "HH24": "(?:[01]?[0-9]|2[0-3])", "HH12": "(?:0?[1-9]|1[0-2])", "MI": "[0-5][0-9]", "SS": "[0-5][0-9]", "AM": "(?i:am|pm)",
}  # fmt: skip
_DAYS = (
    "YYYY-MM-DD", "DD.MM.YYYY", "DD/MM/YYYY", "MM/DD/YYYY", "DD-MM-YYYY", "MM-DD-YYYY", "YYYY/MM/DD", "YYYY.MM.DD", "DD/MM/YY", "MM/DD/YY", "DD.MM.YY",
    "DD MON YYYY", "DD-MON-YYYY", "DD-MON-YY", "MON DD YYYY", "MON DD, YYYY", "DD MONTH YYYY", "MONTH DD, YYYY",
)  # fmt: skip
_CLOCKS = ("HH24:MI", "HH24:MI:SS", "HH12:MI AM", "HH12:MI:SS AM")
_ISO = rf"{_PARTS['YYYY']}-{_PARTS['MM']}-{_PARTS['DD']}[T ]{_PARTS['HH24']}:[0-5][0-9]"


def _dated(template: str) -> str:
    """The pattern of what a template writes."""
    pieces = re.split("(YYYY|YY|MONTH|MON|MM|DD|HH24|HH12|MI|SS|AM)", template)
    return f"^{''.join(_PARTS.get(piece) or re.escape(piece) for piece in pieces)}$"


DATES = {
    **{template: _dated(template) for template in _DAYS},
    "YYYY-MM-DD HH24:MI": rf"^{_ISO}$",
    "YYYY-MM-DD HH24:MI:SS": rf"^{_ISO}:[0-5][0-9](?:\.[0-9]{{1,6}})?$",
    **{f"{day} {clock}": _dated(f"{day} {clock}") for day in _DAYS[1:11] for clock in _CLOCKS},
}
MOMENT_Z = "a moment with Z"
MOMENT_OFFSET = "a moment with an offset"
DATED = {*DATES, MOMENT_Z, MOMENT_OFFSET}
WORDS = {"yes-no"}  # the only shapes without a digit
MAYBE_DATE = r"^(?:[0-9]{1,4}[-/. ][0-9A-Za-z]|[A-Za-z]{3,9} [0-9])"  # what all of those begin with
# Shapes that a value may have. The order is the order of preference among those that fit.
SHAPES: dict[str, str] = {
    "yes-no": r"^(?i:true|false|yes|no)$",
    "integer": r"^[+-]?[0-9]{1,18}$",
    "point": r"^[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)$",
    "comma": r"^[+-]?(?:[0-9]+,?[0-9]*|,[0-9]+)$",
    "comma thousands": rf"^{_SIGN}{_grouped(',')}(?:\.[0-9]+)?$",
    "point thousands": rf"^{_SIGN}{_grouped('.')}(?:,[0-9]+)?$",
    "space thousands, comma": rf"^{_SIGN}{_grouped(SPACE)}(?:,[0-9]+)?$",
    "space thousands, point": rf"^{_SIGN}{_grouped(SPACE)}(?:\.[0-9]+)?$",
    "quote thousands, point": rf"^{_SIGN}{_grouped(QUOTE)}(?:\.[0-9]+)?$",
    "quote thousands, comma": rf"^{_SIGN}{_grouped(QUOTE)}(?:,[0-9]+)?$",
    "point or comma": r"^[+-]?[0-9]+(?:[.,][0-9]+)?$",
    "exponent": r"^[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?$",
    "accounting, point": _accounting(",", "."),
    "accounting, comma": _accounting(".", ","),
    "percent": r"^[+-]?[0-9]+(?:[.,][0-9]+)? ?%$",
    **DATES,
    MOMENT_Z: rf"^{_ISO}(?::[0-5][0-9](?:\.[0-9]{{1,6}})?)?Z$",
    MOMENT_OFFSET: rf"^{_ISO}(?::[0-5][0-9](?:\.[0-9]{{1,6}})?)?[+-][0-9]{{2}}:?[0-9]{{2}}$",
    "money with a point": rf"^(?:{_MONEY}-?(?:{_grouped(',')}|{_grouped(SPACE)}|{_grouped(QUOTE)}|[0-9]+)(?:\.[0-9]{{1,2}})?-?{_MONEY}|\({_MONEY}[0-9][0-9,]*(?:\.[0-9]{{1,2}})?{_MONEY}\))$",
    "money with a comma": rf"^(?:{_MONEY}-?(?:{_grouped('.')}|{_grouped(SPACE)}|{_grouped(QUOTE)}|[0-9]+)(?:,[0-9]{{1,2}})?-?{_MONEY}|\({_MONEY}[0-9][0-9.]*(?:,[0-9]{{1,2}})?{_MONEY}\))$",
}  # fmt: skip


def _thousands(mark: Mark) -> Callable[[Numbers], Mask]:
    """Of plain numbers, those that may be written with such a mark between thousands: with it before three digits, or small and without."""
    return lambda numbers: (numbers.before <= 3) & ((numbers.mark != mark) | ((numbers.after == 3) & ~numbers.zero))


def _small(mark: Mark) -> Callable[[Numbers], Mask]:
    """Of plain numbers, those that another mark between thousands leaves as they are; `mark` is not the decimal mark then."""
    return lambda numbers: (numbers.before <= 3) & (numbers.mark != mark)


def _accounted(mark: Mark) -> Callable[[Numbers], Mask]:
    return lambda numbers: (numbers.mark != mark) | ((numbers.before <= 3) & (numbers.after == 3) & ~numbers.zero)


# Which kinds of plain numbers have a shape; of shapes that are not here, none has.
PLAIN: dict[str, Callable[[Numbers], Mask]] = {
    "integer": lambda numbers: numbers.mark == Mark.NONE,
    "point": lambda numbers: numbers.mark != Mark.COMMA,
    "comma": lambda numbers: numbers.mark != Mark.DOT,
    "point or comma": lambda numbers: numbers.mark >= Mark.NONE,
    "comma thousands": _thousands(Mark.COMMA),
    "point thousands": _thousands(Mark.DOT),
    "space thousands, comma": _small(Mark.DOT),
    "space thousands, point": _small(Mark.COMMA),
    "quote thousands, point": _small(Mark.COMMA),
    "quote thousands, comma": _small(Mark.DOT),
    "accounting, point": _accounted(Mark.COMMA),
    "accounting, comma": _accounted(Mark.DOT),
    "exponent": lambda numbers: numbers.mark != Mark.COMMA,
    "money with a point": lambda numbers: (
        ((numbers.mark != Mark.DOT) | (numbers.after <= 2)) & _accounted(Mark.COMMA)(numbers)
    ),
    "money with a comma": lambda numbers: (
        ((numbers.mark != Mark.COMMA) | (numbers.after <= 2)) & _accounted(Mark.DOT)(numbers)
    ),
}
