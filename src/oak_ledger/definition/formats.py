"""How values are shown: a sample of the look, such as ``0,000.00``, ``0.0 %`` or ``DD.MM.YYYY``. Never used in computing."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal
from functools import lru_cache
from typing import Any

from oak_ledger.columnar.texts import number_text, value_text
from oak_ledger.functions.templates import BadTemplate, Template, template

_NUMBER = re.compile(
    r"(?P<before>[^0]*?)(?P<whole>0(?P<mark>[,. '\u00a0\u202f])000|0)(?:(?P<point>[.,])(?P<decimals>0+))?(?P<after>[^0]*)"
)


class BadFormat(ValueError):
    """A format that cannot be used; its text says why."""


@dataclass(frozen=True, slots=True)
class Format:
    """A format, read once: for numbers the marks, decimals and what comes before and after; or a date template."""

    before: str = ""
    after: str = ""
    mark: str = ""
    point: str = "."
    decimals: int = 0
    percent: bool = False
    date: Template | None = None

    @staticmethod
    def read(text: str) -> Format:
        """Read a format; raises BadFormat."""
        match = _NUMBER.fullmatch(text)
        if match:
            mark, point = match["mark"] or "", match["point"] or ("," if match["mark"] == "." else ".")
            if mark and mark == point:
                raise BadFormat(f"the format {text!r} has the same thousands and decimal mark")
            return Format(
                match["before"], match["after"], mark, point, len(match["decimals"] or ""), "%" in match["after"]
            )
        try:
            return Format(date=template(text))
        except BadTemplate:
            raise BadFormat(
                f"the format {text!r} is neither a sample of a number, such as 0,000.00 or 0.0%, nor of a date, such as DD.MM.YYYY"
            ) from None

    def show(self, value: Any) -> str:
        """A value in this format; of another kind than the format's, as it is."""
        if self.date is not None:
            return self.date.write(value) if isinstance(value, dt.date) else plain(value)
        if isinstance(value, bool) or not isinstance(value, (int, float, Decimal)):
            return plain(value)
        exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
        if self.percent:
            exact *= 100
        rounded = exact.quantize(Decimal(1).scaleb(-self.decimals), rounding=ROUND_HALF_UP)
        text = f"{abs(rounded):,f}"
        text = text.translate({ord(","): self.mark, ord("."): self.point})
        sign = "-" if rounded < 0 else ""
        return f"{sign}{self.before}{text}{self.after}"


@lru_cache(maxsize=512)
def _read(text: str) -> Format:
    return Format.read(text)


def plain(value: Any) -> str:
    """A value without a format; null is empty."""
    if value is None:
        return ""
    if isinstance(value, float):
        return number_text(float(f"{value:.12g}"))
    return value_text(value) or ""


def show(value: Any, format_text: str = "") -> str:
    """A value as people read it; null is empty."""
    if value is None:
        return ""
    return _read(format_text).show(value) if format_text else plain(value)
