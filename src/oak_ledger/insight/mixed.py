"""Texts that are dates in several forms, or numbers with units or currencies: said, and read as one where nothing is open."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from oak_ledger.formula.lexer import quote_literal
from oak_ledger.insight.disguised import are_days
from oak_ledger.origin.infer import TypeInferrer

MIN_SHARE = 0.95  # of rows that are such, for anything to be said
MOST_FORMS = 6
_NUMBER = re.compile(r"[+-]?\d[\d.,' ]*")
_PLAIN = re.compile(r"[+-]?\d+(\.\d+)?")
_CURRENCY = re.compile(r"[A-Z]{3}|[$€£¥₹₺₽₩zł]|Kč|kr\.?|Fr\.?|CHF")
SIZES: tuple[Mapping[str, str], ...] = (
    {"mg": "0.001", "g": "1", "kg": "1000", "t": "1000000"},
    {"mm": "1", "cm": "10", "dm": "100", "m": "1000", "km": "1000000"},
    {"ml": "1", "cl": "10", "l": "1000", "hl": "100000"},
    {"s": "1", "min": "60", "h": "3600"},
    {"W": "1", "kW": "1000", "MW": "1000000"},
    {"Wh": "1", "kWh": "1000", "MWh": "1000000"},
)
"""Units of one kind, each with how many of the smallest named it is."""


class Mixed(NamedTuple):
    """What texts are, and the clean over VALUE that reads them ({} is where it goes); empty where a decision is open."""

    what: str
    clean: str


def mixed(rows: Mapping[str, int]) -> Mixed | None:
    """What different texts, with the rows that have each, are mixed of; None where they are one thing, or none of these."""
    texts = {text.strip(): count for text, count in rows.items() if text.strip()}
    return _dates(texts) or _units(texts)


def _dates(rows: Mapping[str, int]) -> Mixed | None:
    """Dates in several forms, each shape of text read for itself."""
    shapes: dict[str, list[str]] = {}
    for text in rows:
        shapes.setdefault(re.sub(r"\d", "9", re.sub(r"[^\W\d_]+", "A", text)), []).append(text)
    found: dict[str, list[str]] = {}
    open_forms, read = [], 0
    total = sum(rows.values())
    for shape, own in sorted(shapes.items(), key=lambda one: -sum(rows[text] for text in one[1])):
        judge = TypeInferrer()
        judge.see(pa.array(own, pa.string()))
        verdict = judge.verdict()
        template = verdict.template or "YYYY-MM-DD"
        if shape == "99999999" and are_days(np.array(own, np.float64)):
            template = "YYYYMMDD"
        elif verdict.kind != "date" or verdict.clean or verdict.misfits:
            continue
        read += sum(rows[text] for text in own)
        found.setdefault(template, []).append(shape)
        open_forms += [template] if verdict.other_order else []
    if not 2 <= len(found) <= MOST_FORMS or read < MIN_SHARE * total:
        return None
    counts = {one: sum(rows[text] for shape in own for text in shapes[shape]) for one, own in found.items()}
    said = ", ".join(f"{one} × {count:,}" for one, count in counts.items())
    if open_forms:  # which is the day and which the month, only the curator knows
        return Mixed(f"dates in several forms ({said}); of {open_forms[0]} no value shows which is the day", "")
    cases = " ".join(
        f"WHEN REGEXP_LIKE({{0}}, {quote_literal(_pattern(own))}) THEN CAST(BTRIM({{0}}) AS DATE FORMAT {quote_literal(one)})"
        for one, own in found.items()
    )
    return Mixed(f"dates in several forms ({said})", f"CASE {cases} ELSE CAST({{0}} AS DATE) END")


def _pattern(shapes: Sequence[str]) -> str:
    """A regular expression for texts of some shapes."""
    made = []
    for shape in shapes:
        text = re.escape(shape).replace("A", "[[:alpha:]]+")
        made.append(re.sub(r"9+", lambda match: f"[0-9]{{{{{len(match[0])}}}}}", text))
    return "^\\s*(" + "|".join(made) + ")\\s*$"


def _units(rows: Mapping[str, int]) -> Mixed | None:
    """Numbers with a unit or a currency before or after them."""
    units: Counter[str] = Counter()
    bare, plain, matched = 0, True, 0
    for text, count in rows.items():
        number = _NUMBER.search(text)
        if number is None:
            continue
        before, after = text[: number.start()].strip(), text[number.end() :].strip()
        unit = before or after
        if (before and after) or re.search(r"\d", unit) or len(unit) > 6:
            continue
        matched += count
        plain = plain and bool(_PLAIN.fullmatch(number[0].strip())) and not before
        if unit:
            units[unit] += count
        else:
            bare += count
    if not units or matched < MIN_SHARE * sum(rows.values()) or len(units) > MOST_FORMS:
        return None
    said = ", ".join(f"{one} × {count:,}" for one, count in units.most_common())
    said += f", none × {bare:,}" if bare else ""
    if all(_CURRENCY.fullmatch(unit) for unit in units):
        return Mixed(f"amounts in several currencies ({said})", "") if len(units) > 1 else None
    amount = "CAST(REGEXP_SUBSTR({0}, '[0-9.+-]+') AS NUMBER)"
    if len(units) == 1 and not bare:
        return Mixed(f"numbers with a unit ({said})", amount if plain else "")
    sizes = next((one for one in SIZES if one.keys() >= units.keys()), None)
    if bare or not plain or sizes is None:
        return Mixed(f"numbers with several units ({said})", "")
    usual = units.most_common(1)[0][0]
    cases = " ".join(
        f"WHEN REGEXP_LIKE({{0}}, {quote_literal(f'[0-9] *{unit}$')}) THEN {amount} * {sizes[unit]} / {sizes[usual]}"
        for unit in units
        if unit != usual
    )
    return Mixed(f"numbers with several units ({said})", f"CASE {cases} ELSE {amount} END")
