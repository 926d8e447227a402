"""Numbers as people write them, with marks between thousands, minus signs behind, and currencies."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.functions.registry import CallContext, ComputeError, function

_SPACES = " \u00a0\u2009\u202f"
_MINUS = "\u2212"
_TRIMMED = f"{_SPACES}\t\n\r\x0b\x0c"
_ALIKE = {" ": _SPACES, "'": "'\u2019"}  # marks that cover several characters


@lru_cache(maxsize=64)
def pattern(mark: str, thousands: str, currencies: str) -> str:
    """What a number looks like with these marks."""
    digits = "[0-9]+"
    if thousands:
        own = "".join(re.escape(one) for one in _ALIKE.get(thousands, thousands))
        digits = rf"(?:[0-9]{{1,3}}(?:[{own}][0-9]{{3}})+|[0-9]{{1,2}}(?:[{own}][0-9]{{2}})+[{own}][0-9]{{3}}|[0-9]+)"
    point = re.escape(mark)
    number = rf"(?:{digits}(?:{point}[0-9]*)?|{point}[0-9]+)(?:[eE][+-]?[0-9]+)?"
    money = f"(?:{'|'.join(re.escape(one) for one in currencies.split())})" if currencies else ""
    before, after = (rf"(?:{money}[{_SPACES}]?)?", rf"(?:[{_SPACES}]?{money})?") if money else ("", "")
    sign = f"[+{_MINUS}-]?"
    return rf"^(?:(?:{sign}{before}|{before}{sign}){number}{after}-?{after}|\({before}{number}{after}\))$"


@function(
    "PLAIN_NUMBER(x text, decimal_mark text, [thousands_mark text], [currencies text]) -> text",
    topic="text",
    sentence=(
        "A number as people write it, as the language writes it: with a point and without marks between thousands; a minus behind it or "
        "parentheses around it become a minus before it, currencies that are named (with spaces between) are left out."
    ),
    nulls="Null when x is null; a fault where x is not a number written that way.",
    examples=[
        ("PLAIN_NUMBER('1.234,50', ',', '.')", "1234.50"),
        ("PLAIN_NUMBER('(12.5)', '.')", "-12.5"),
        ("CAST(PLAIN_NUMBER('1 200 EUR', ',', ' ', 'EUR') AS INTEGER)", "1200"),
    ],
    constant_args=(1, 2, 3),
    can_fault=True,
    costly=True,
)
def plain_number(run: CallContext, x: Any, *_marks: Any) -> Any:
    """Every text must match as a whole; then all but digits, the decimal mark and the exponent can go."""
    mark, thousands, currencies = [*(str(constant or "") for constant in run.constants[1:]), "", ""][:3]
    if len(mark) != 1 or mark == thousands:
        raise ComputeError("the decimal mark is one character, and not the thousands mark")
    texts = pc.utf8_trim(run.array(x), _TRIMMED)
    fits = pc.match_substring_regex(texts, pattern(mark, thousands, currencies))
    texts = pc.if_else(fits, texts, pa.scalar(None, pa.string()))
    bare = texts
    for one in currencies.split():
        bare = pc.replace_substring(bare, one, "")
    below = pc.match_substring_regex(bare, f"^[^0-9]*[({_MINUS}-]|-[^0-9]*$")
    bare = pc.replace_substring_regex(bare, rf"^[^0-9{re.escape(mark)}]+|[^0-9]+$|[^0-9eE+\-{re.escape(mark)}]", "")
    bare = pc.replace_substring(bare, mark, ".") if mark != "." else bare
    made = pc.if_else(below, pc.binary_join_element_wise("-", bare, ""), bare)
    what = f"not a number with the decimal mark {mark}" + (f" and the thousands mark {thousands}" if thousands else "")
    return run.fault(what, pc.invert(fits), made)
