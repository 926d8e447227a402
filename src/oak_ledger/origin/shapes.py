"""The shapes that values of a text column may have: patterns of numbers, dates, amounts of money."""

from __future__ import annotations

from collections.abc import Callable

from oak_ledger.columnar.arrays import Mask
from oak_ledger.origin.number_shapes import Mark, Numbers

_DAY, _MONTH, _YEAR = r"(?:0?[1-9]|[12][0-9]|3[01])", r"(?:0?[1-9]|1[0-2])", r"(?:1[0-9]{3}|2[0-9]{3})"
_CLOCK = r"[T ](?:[01]?[0-9]|2[0-3]):[0-5][0-9]"
_NAME = r"(?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)"
_MONEY = r"(?:[+-]? ?(?:\p{Sc}|EUR|USD|GBP|CHF|SEK|NOK|DKK|kr) ?)?"
MONEY_MARK = r"\p{Sc}|EUR|USD|GBP|CHF|SEK|NOK|DKK|kr"
# Shapes that a value may have. The order is the order of preference among those that fit.
SHAPES: dict[str, str] = {
    "yes-no": r"^(?i:true|false|yes|no)$",
    "integer": r"^[+-]?[0-9]{1,18}$",
    "point": r"^[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)$",
    "comma": r"^[+-]?(?:[0-9]+,?[0-9]*|,[0-9]+)$",
    "point or comma": r"^[+-]?[0-9]+(?:[.,][0-9]+)?$",
    "comma thousands": r"^[+-]?[0-9]{1,3}(?:,[0-9]{3})*(?:\.[0-9]+)?$",
    "point thousands": r"^[+-]?[0-9]{1,3}(?:\.[0-9]{3})*(?:,[0-9]+)?$",
    "exponent": r"^[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?$",
    "percent": r"^[+-]?[0-9]+(?:[.,][0-9]+)? ?%$",
    "YYYY-MM-DD": rf"^{_YEAR}-{_MONTH}-{_DAY}$",
    "DD.MM.YYYY": rf"^{_DAY}\.{_MONTH}\.{_YEAR}$",
    "DD/MM/YYYY": rf"^{_DAY}/{_MONTH}/{_YEAR}$",
    "MM/DD/YYYY": rf"^{_MONTH}/{_DAY}/{_YEAR}$",
    "DD-MM-YYYY": rf"^{_DAY}-{_MONTH}-{_YEAR}$",
    "YYYY/MM/DD": rf"^{_YEAR}/{_MONTH}/{_DAY}$",
    "DD MON YYYY": rf"^{_DAY} {_NAME} {_YEAR}$",
    "YYYY-MM-DD HH24:MI": rf"^{_YEAR}-{_MONTH}-{_DAY}{_CLOCK}$",
    "YYYY-MM-DD HH24:MI:SS": rf"^{_YEAR}-{_MONTH}-{_DAY}{_CLOCK}:[0-5][0-9](?:\.[0-9]{{1,6}})?$",
    "DD.MM.YYYY HH24:MI": rf"^{_DAY}\.{_MONTH}\.{_YEAR} {_CLOCK[4:]}$",
    "money with a point": rf"^{_MONEY}[0-9][0-9,' ]*(?:\.[0-9]{{1,2}})?{_MONEY}$",
    "money with a comma": rf"^{_MONEY}[0-9][0-9.' ]*(?:,[0-9]{{1,2}})?{_MONEY}$",
}
# Which kinds of plain numbers have a shape; of shapes that are not here, none has.
PLAIN: dict[str, Callable[[Numbers], Mask]] = {
    "integer": lambda one: one.mark == Mark.NONE,
    "point": lambda one: one.mark != Mark.COMMA,
    "comma": lambda one: one.mark != Mark.DOT,
    "point or comma": lambda one: one.mark >= Mark.NONE,
    "comma thousands": lambda one: (one.before <= 3) & ((one.mark != Mark.COMMA) | (one.after == 3)),
    "point thousands": lambda one: (one.before <= 3) & ((one.mark != Mark.DOT) | (one.after == 3)),
    "exponent": lambda one: one.mark != Mark.COMMA,
    "money with a point": lambda one: ~one.minus & ((one.mark != Mark.DOT) | (one.after <= 2)),
    "money with a comma": lambda one: ~one.minus & ((one.mark != Mark.COMMA) | (one.after <= 2)),
}
