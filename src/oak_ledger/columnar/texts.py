"""Values as text, and texts as bytes."""

from __future__ import annotations

import datetime as dt
import math
from decimal import Decimal
from typing import Any

import numpy as np


def is_ascii(texts: Any) -> bool:
    """Whether all texts of an array have one byte a character; then kernels that know no more can be used."""
    data = texts.buffers()[2]
    if data is None or not len(texts):
        return True
    edges = np.frombuffer(texts.buffers()[1], np.int32)
    begin, end = edges[texts.offset], edges[texts.offset + len(texts)]
    return bool(np.frombuffer(data, np.uint8)[begin:end].max(initial=0) < 128)


def number_text(value: float) -> str:
    """A number in the shortest form that reads back, with an exponent below 1e-4 and from 1e+15."""
    if value == 0:
        return "0"
    if math.isfinite(value) and 1e-4 <= abs(value) < 1e15:
        text = format(Decimal(repr(value)), "f")
        return text.rstrip("0").rstrip(".") if "." in text else text
    mantissa, _, exponent = f"{Decimal(repr(value)):e}".lower().partition("e")
    if "." in mantissa:
        mantissa = mantissa.rstrip("0").rstrip(".")
    power = int(exponent or 0)
    return f"{mantissa}e{'-' if power < 0 else '+'}{abs(power):02d}"


def value_text(value: Any) -> str | None:
    """A value as text, the way a cast to text writes it."""
    if value is None:
        return None
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return number_text(value)
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, dt.datetime):
        text = value.isoformat(" ")
        return text.rstrip("0") if value.microsecond else text
    return str(value)
