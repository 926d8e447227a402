"""Date templates, as in the standard's ``CAST … FORMAT``: reading text by one, writing dates by one."""

from __future__ import annotations

import calendar
import datetime as dt
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache, partial
from typing import Any

import numpy as np
import numpy.typing as npt

from oak_ledger.columnar.calendar import days_of
from oak_ledger.functions.registry import ComputeError

_ELEMENT = re.compile(r"YYYY|YY|MONTH|MON|MM|DDD|DD|DAY|DY|HH24|HH12|MI|SS|FF[1-6]|AM|PM", re.IGNORECASE)
MONTHS = list(calendar.month_name)[1:]
DAYS = list(calendar.day_name)
_WIDTH = {"YYYY": 4, "YY": 2, "MM": 2, "DD": 2, "DDD": 3, "HH24": 2, "HH12": 2, "MI": 2, "SS": 2}
_NAMES = {
    "MONTH": MONTHS,
    "MON": [name[:3] for name in MONTHS],
    "DAY": DAYS,
    "DY": [name[:3] for name in DAYS],
    "AM": ["AM", "PM"],
    "PM": ["AM", "PM"],
}


class BadTemplate(ValueError):
    """A template that cannot be used; its text says why."""


@dataclass(frozen=True, slots=True)
class TemplatePiece:
    """An element of a template (`name` in capitals, `written` as in the text), or a delimiter (no name)."""

    name: str
    written: str


@dataclass(frozen=True, slots=True)
class Template:
    """A template, read once."""

    text: str
    pieces: tuple[TemplatePiece, ...]
    pattern: re.Pattern[str]
    known: dict[dt.date, str] = field(default_factory=dict, compare=False, repr=False)
    """Moments written before: the same days come again in every slice of rows."""

    @property
    def names(self) -> list[str]:
        """The elements, in order."""
        return [piece.name for piece in self.pieces if piece.name]

    def read(self, text: str) -> dt.datetime:
        """The moment that the text says; raises ComputeError where it does not match or names no real day."""
        match = self.pattern.fullmatch(text.strip(SPACES))
        if match is None:
            raise ComputeError(f"not written as {self.text}")
        parts = {name.upper(): value for name, value in match.groupdict().items()}
        try:
            return _moment(parts)
        except ValueError as error:
            raise ComputeError("not a valid date") from error

    def read_bytes(self, rows: npt.NDArray[np.uint8]) -> tuple[Any, Any] | None:
        """Microseconds since 1970 of texts that are all as wide as the template (their bytes, a row each), and where they are read so.

        None for a template of anything but digits and ASCII delimiters.
        """
        parts: dict[str, Any] = {}
        at, fits = 0, np.ones(len(rows), np.bool_)
        for piece in self.pieces:
            width = _width(piece.name) if piece.name in _DIGITS else len(piece.written)
            field_bytes = rows[:, at : at + width]
            at += width
            if piece.name in _READ_AT_ONCE:
                digits = field_bytes - np.uint8(ord("0"))
                fits &= (digits < 10).all(axis=1)
                number = np.zeros(len(rows), np.int64)
                for column in range(width):
                    number = number * 10 + digits[:, column]
                parts[piece.name] = number
            elif piece.name or not piece.written.isascii():
                return None
            else:
                fits &= (field_bytes == np.frombuffer(piece.written.upper().encode(), np.uint8)).all(axis=1)
        if "YYYY" not in parts:
            return None
        array = np.ones(len(rows), np.int64)
        days, calendar_days = days_of(parts["YYYY"], parts.get("MM", array), parts.get("DD", array))
        hour, minute, second = (parts.get(name, 0 * array) for name in ("HH24", "MI", "SS"))
        fits &= calendar_days & (hour < 24) & (minute < 60) & (second < 60)
        fraction = sum(
            (parts[f"FF{size}"] * 10 ** (6 - size) for size in range(1, 7) if f"FF{size}" in parts), 0 * array
        )
        return days * _DAY + ((hour * 60 + minute) * 60 + second) * _SECOND + fraction, fits

    @property
    def width(self) -> int:
        """How many characters a text has that is written by it, if it is of digits."""
        return sum(_width(piece.name) if piece.name in _DIGITS else len(piece.written) for piece in self.pieces)

    def write(self, moment: dt.date) -> str:
        """The moment as text."""
        made = self.known.get(moment)
        if made is None:
            whole = moment if isinstance(moment, dt.datetime) else dt.datetime(moment.year, moment.month, moment.day)
            made = "".join([piece.written if not piece.name else _write(piece, whole) for piece in self.pieces])
            if len(self.known) < REMEMBERED:
                self.known[moment] = made
        return made

    def spelled(self, moments: npt.NDArray[np.datetime64]) -> npt.NDArray[np.uint8] | None:
        """The bytes of many moments (microseconds, years 1 to 9999) as text, a row each: as `write` does, where all pieces are digits; else None."""
        if not all(piece.name in _DIGITS or (piece.written.isascii() and not piece.name) for piece in self.pieces):
            return None
        day, month, year = (moments.astype(f"M8[{unit}]") for unit in "DMY")
        moment = _Moments(day, month, year, (moments - day).astype(np.int64))
        columns: list[Any] = []
        for piece in self.pieces:
            if piece.name:
                value = _DIGITS[piece.name](moment)
                columns += [value // 10**place % 10 + ord("0") for place in reversed(range(_width(piece.name)))]
            else:
                columns += [np.full(len(moments), byte) for byte in piece.written.encode()]
        return np.stack(columns, axis=1).astype(np.uint8)


@dataclass(frozen=True, slots=True)
class _Moments:
    """Moments as days, months, years, and the microseconds of the day."""

    day: Any
    month: Any
    year: Any
    time: npt.NDArray[np.int64]


def _fraction(unit: int, moments: _Moments) -> Any:
    return moments.time % _SECOND // unit


REMEMBERED = 20_000
SPACES = " \t\n\r\x0b\x0c"  # what a cast leaves out around a value
_SECOND = 1_000_000
_DAY = 86_400 * _SECOND
_READ_AT_ONCE = frozenset({"YYYY", "MM", "DD", "HH24", "MI", "SS", *(f"FF{digits}" for digits in range(1, 7))})
_DIGITS: dict[str, Callable[[_Moments], Any]] = {
    "YYYY": lambda moments: moments.year.astype(np.int64) + 1970,
    "YY": lambda moments: (moments.year.astype(np.int64) + 1970) % 100,
    "MM": lambda moments: moments.month.astype(np.int64) % 12 + 1,
    "DD": lambda moments: (moments.day - moments.month.astype("M8[D]")).astype(np.int64) + 1,
    "DDD": lambda moments: (moments.day - moments.year.astype("M8[D]")).astype(np.int64) + 1,
    "HH24": lambda moments: moments.time // (3600 * _SECOND),
    "HH12": lambda moments: (moments.time // (3600 * _SECOND) + 11) % 12 + 1,
    "MI": lambda moments: moments.time // (60 * _SECOND) % 60,
    "SS": lambda moments: moments.time // _SECOND % 60,
    **{f"FF{digits}": partial(_fraction, 10 ** (6 - digits)) for digits in range(1, 7)},
}


def _width(name: str) -> int:
    return int(name[2]) if name.startswith("FF") else _WIDTH[name]


@lru_cache(maxsize=512)
def template(text: str) -> Template:
    """Read a template; raises BadTemplate where it cannot be used."""
    pieces = tuple(_pieces(text))
    names = [("PM" if piece.name == "AM" else piece.name) for piece in pieces if piece.name]
    if not names:
        raise BadTemplate(f"'{text}' has no part of a date in it; parts are YYYY MM DD HH24 MI SS and others.")
    if len(set(names)) < len(names):
        raise BadTemplate(f"'{text}' has a part twice.")
    if "HH12" in names and "PM" not in names:
        raise BadTemplate("HH12 needs AM beside it, else morning and afternoon are the same.")
    return Template(text, pieces, re.compile("".join(_expressions(pieces)), re.IGNORECASE))


def _pieces(text: str) -> Iterator[TemplatePiece]:
    position = 0
    for match in _ELEMENT.finditer(text):
        if match.start() > position:
            yield _delimiter(text[position : match.start()])
        yield TemplatePiece(match.group().upper(), match.group())
        position = match.end()
    if position < len(text):
        yield _delimiter(text[position:])


def _delimiter(text: str) -> TemplatePiece:
    letters = re.search(r"[^\W_]+", text)
    if letters and text != "T":
        raise BadTemplate(
            f"{letters.group()!r} is not a part of a date; parts are YYYY YY MM DD MON HH24 MI SS FF3 and others."
        )
    return TemplatePiece("", text)


def _expressions(pieces: tuple[TemplatePiece, ...]) -> Iterator[str]:
    for index, piece in enumerate(pieces):
        name = piece.name
        if not name:
            yield re.escape(piece.written)
        elif name in _NAMES:
            yield f"(?P<{name}>{'|'.join(sorted(_NAMES[name], key=len, reverse=True))})"
        elif name.startswith("FF"):
            yield rf"(?P<FF>\d{{1,{name[2]}}})"
        else:
            width = _WIDTH[name]
            free = index + 1 == len(pieces) or not pieces[index + 1].name
            least = 1 if free and name != "YYYY" else width
            yield rf"(?P<{name}>\d{{{least},{width}}})"


def _moment(parts: dict[str, str]) -> dt.datetime:
    if "YYYY" in parts:
        year = int(parts["YYYY"])
    elif "YY" in parts:
        short = int(parts["YY"])
        year = short + (1900 if short >= 70 else 2000)
    else:
        raise ValueError("no year")
    month = int(parts.get("MM", 1))
    for name in ("MON", "MONTH"):
        if name in parts:
            month = [one[:3].upper() for one in MONTHS].index(parts[name][:3].upper()) + 1
    hour = int(parts.get("HH24", 0))
    if "HH12" in parts:
        twelve = int(parts["HH12"])
        if not 1 <= twelve <= 12:
            raise ValueError("hour")
        hour = twelve % 12 + (12 if (parts.get("AM") or parts.get("PM", "")).upper() == "PM" else 0)
    micros = int(parts.get("FF", "0").ljust(6, "0"))
    moment = dt.datetime(
        year, month, int(parts.get("DD", 1)), hour, int(parts.get("MI", 0)), int(parts.get("SS", 0)), micros
    )
    if "DDD" in parts:
        moment += dt.timedelta(days=int(parts["DDD"]) - 1)
        if moment.year != year or int(parts["DDD"]) < 1:
            raise ValueError("day of the year")
    return moment


def _cased(text: str, written: str) -> str:
    if written.isupper():
        return text.upper()
    return text.lower() if written.islower() else text.capitalize()


_NUMBERS: dict[str, Callable[[dt.datetime], int]] = {
    "YYYY": lambda moment: moment.year,
    "YY": lambda moment: moment.year % 100,
    "MM": lambda moment: moment.month,
    "DD": lambda moment: moment.day,
    "DDD": lambda moment: moment.timetuple().tm_yday,
    "HH24": lambda moment: moment.hour,
    "HH12": lambda moment: moment.hour % 12 or 12,
    "MI": lambda moment: moment.minute,
    "SS": lambda moment: moment.second,
}


def _write(piece: TemplatePiece, moment: dt.datetime) -> str:
    name = piece.name
    if name in _NUMBERS:
        return str(_NUMBERS[name](moment)).rjust(_WIDTH[name], "0")
    if name.startswith("FF"):
        return f"{moment.microsecond:06d}"[: int(name[2])]
    chosen = moment.month - 1 if name in ("MON", "MONTH") else moment.weekday()
    if name in ("AM", "PM"):
        chosen = moment.hour // 12
    return _cased(_NAMES[name][chosen], piece.written)
