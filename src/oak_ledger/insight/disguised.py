"""Numbers and texts that are something else in disguise: no value, a day, a moment, yes or no."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

PLACEHOLDERS = (-1, -9, -99, -999, -9999, 99, 999, 9999, 99999, 999999, 9999999)
MIN_ROWS = 3  # in which a placeholder is
YES_NO = (("J", "N"), ("JA", "NEIN"), ("OUI", "NON"), ("O", "N"), ("S", "N"), ("SI", "NO"), ("SÍ", "NO"), ("SIM", "NÃO"), ("DA", "NE"), ("TAK", "NIE"), ("ANO", "NE"), ("KYLLÄ", "EI"))  # fmt: skip
_MOMENT = re.compile(r"(?i)(epoch|unix|time|stamp|created|updated|modified|seconds)|_at$| at$")
_SECONDS = (946_684_800, 4_102_444_800)  # from 2000 to 2100


class Disguise(NamedTuple):
    """What values likely are: in words, which of the different ones, and the clean over VALUE ({} is where it goes)."""

    what: str
    which: npt.NDArray[np.bool_]
    clean: str


def of_numbers(
    name: str, values: npt.NDArray[np.float64], rows: npt.NDArray[np.int64], *, whole: bool
) -> Iterator[Disguise]:
    """What different numbers of a field likely are, with the rows that have each."""
    for one in PLACEHOLDERS:
        at = values == one
        others = values[~at]
        if not at.any() or len(others) < 2 or rows[at].sum() < MIN_ROWS:
            continue
        low, high = others.min(), others.max()
        apart = low >= 0 if one < 0 else False  # the only number below zero
        if apart or one > high + (high - low) or one < low - (high - low):
            yield Disguise(f"a number that may mean no value, {one}", at, f"NULLIF({{}}, {one})")
    every = np.ones(len(values), np.bool_)
    if whole and len(values) > 1 and are_days(values):
        yield Disguise("days written as numbers", every, "CAST(CAST({} AS TEXT) AS DATE FORMAT 'YYYYMMDD')")
    if (
        whole
        and _MOMENT.search(name)
        and len(values) > 1
        and values.min() >= _SECONDS[0]
        and values.max() < _SECONDS[1]
    ):
        yield Disguise("seconds since 1970", every, "DATE '1970-01-01' + DIV({}, 86400)")


def are_days(values: npt.NDArray[np.float64]) -> bool:
    """Whether all numbers are days of the calendar as YYYYMMDD, from 1900 to 2100."""
    if values.min() < 19000101 or values.max() > 21001231:
        return False
    whole = values.astype(np.int64)
    months = (whole // 10000 - 1970) * 12 + whole // 100 % 100 - 1
    if ((whole // 100 % 100 < 1) | (whole // 100 % 100 > 12)).any():
        return False
    days = months.astype("datetime64[M]").astype("datetime64[D]") + (whole % 100 - 1)
    return bool(((whole % 100 >= 1) & (days.astype("datetime64[M]").astype(np.int64) == months)).all())


def yes_or_no(values: Sequence[str]) -> str:
    """The clean for texts that say yes and no in another language; empty for others."""
    if len({*values}) != 2:
        return ""
    said = {value.strip().upper(): value for value in values}
    pair = next((pair for pair in YES_NO if {*pair} == {*said}), None)
    if pair is None:
        return ""
    yes, no = (said[one].replace("'", "''") for one in pair)
    return f"CASE {{}} WHEN '{yes}' THEN TRUE WHEN '{no}' THEN FALSE END"
