"""A column of numbers or dates that has other texts now: words for null, numbers with their unit, labels in place of codes; and how it is read then."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.definition.model import FieldSpec
from oak_ledger.names.compiled import ResolvedName, literal_text
from oak_ledger.origin.evidence import NULL_WORDS
from oak_ledger.reference.units import MOST_DECIMALS

MAX_WORDS = 5  # distinct words that may say that there is nothing
MAX_LABELS = 50
LABEL_SHARE = 0.95  # of the rows with a label must have had the same code
_NUMBER = re.compile(r"((?:\D*\s)?|[^\w\s+-])([-+]?\d+(?:[.,]\d+)?)((?:[^\d.,].*)?)")


def unread(arrived: Any, read: Any, spec: FieldSpec) -> Counter[str]:
    """The texts that arrive and cannot be read, with how many rows have each; both are columns of the same rows."""
    if pa.types.is_dictionary(arrived.type):
        arrived = arrived.cast(arrived.type.value_type)
    if not (pa.types.is_string(arrived.type) or pa.types.is_large_string(arrived.type)):
        return Counter()
    pairs = zip(arrived.to_pylist(), read.is_null().to_pylist(), strict=True)
    known = {"", *spec.null_words}
    return Counter(text for text, null in pairs if null and text is not None and text.strip() not in known)


def with_null_words(lost: Mapping[str, int], spec: FieldSpec) -> tuple[dict[str, Any], bool] | None:
    """A reading in which words are null, and whether they are known to mean it."""
    words = sorted({text.strip() for text in lost})
    if not words or len(words) > MAX_WORDS or any(any(one.isdigit() for one in word) for word in words):
        return None
    return {"null_words": [*spec.null_words, *words]}, {*words} <= {*NULL_WORDS}


def without_unit(lost: Collection[str], kind: str) -> tuple[dict[str, Any], str] | None:
    """A reading in which what stands before or after each number, the same everywhere, is taken away; and what that is."""
    found = [_NUMBER.fullmatch(text.strip()) for text in lost]
    around = {(match[1], match[3]) for match in found if match is not None}
    if not kind_of_number(kind) or None in found or len(around) != 1 or around == {("", "")}:
        return None
    value = "VALUE"
    for piece in filter(None, (one.strip() for one in next(iter(around)))):
        value = f"REPLACE({value}, {literal_text(piece)}, '')"
    if any("," in match[2] for match in found if match is not None):
        value = f"REPLACE({value}, ',', '.')"
    unit = " ".join(next(iter(around))).strip()
    return {**_AS_TEXT, "clean": f"CAST(BTRIM({value}) AS {kind.upper()})"}, unit


def whole_with_unit(texts: Any) -> dict[str, Any]:
    """The keys by which a column of nothing but numbers with their unit is read; none for another column."""
    if pa.types.is_dictionary(texts.type):
        texts = texts.cast(texts.type.value_type)
    if not (pa.types.is_string(texts.type) or pa.types.is_large_string(texts.type)):
        return {}
    found = dict.fromkeys(text for text in pc.unique(texts).to_pylist() if text is not None and text.strip())
    decimals = max((len(re.split("[.,]", number[2])[-1]) for one in found if (number := _NUMBER.fullmatch(one.strip())) and not number[2].lstrip("+-").isdigit()), default=0)  # fmt: skip
    kind = "integer" if not decimals else f"decimal(18,{decimals})" if decimals <= MOST_DECIMALS else "number"
    taken = without_unit(found, kind) if found else None
    return taken[0] if taken is not None else {}


def with_codes(pairs: Sequence[tuple[Any, Any]], kind: str) -> Iterator[dict[str, Any]]:
    """A reading in which labels stand for the codes that they had, where rows before and now (code, label) show one for each."""
    codes: dict[str, Counter[Any]] = defaultdict(Counter)
    for code, label in pairs:
        if code is not None and label is not None:
            codes[label][code] += 1
    best = {label: some.most_common(1)[0] for label, some in codes.items()}
    clear = all(count >= 2 and count >= LABEL_SHARE * codes[label].total() for label, (_, count) in best.items())
    labels = {label: str(code) for label, (code, _) in best.items()}
    if kind_of_number(kind) and clear and 1 < len(labels) <= MAX_LABELS and len({*labels.values()}) == len(labels):
        yield {**_AS_TEXT, "values": labels, "clean": f"CAST(VALUE AS {kind.upper()})"}


def kind_of_number(kind: str) -> bool:
    """Whether a type of a definition is one of numbers."""
    return kind in ("integer", "number") or kind.startswith("decimal")


def type_of(state: ResolvedName, before: ResolvedName | None) -> str:
    """The type that a field has by its definition, else the one that it had."""
    spec = state.spec
    return (spec.type if isinstance(spec, FieldSpec) else "") or (str(before.type) if before is not None else "")


_AS_TEXT: dict[str, Any] = {"type": None, "template": None, "decimal_mark": None, "thousands_mark": None}
