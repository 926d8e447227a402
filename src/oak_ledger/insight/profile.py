"""A profile: per field what values there are, how they are distributed, and what about them is suspicious.

Everything is computed from the distinct values and how often each occurs, so that a column that repeats costs little.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import from_arrow_type, to_mask
from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import OakError
from oak_ledger.formula import Grain
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.functions.accumulators import as_floats
from oak_ledger.insight.disguised import of_numbers, yes_or_no
from oak_ledger.insight.mixed import mixed
from oak_ledger.insight.spellings import MOST_VALUES, likely_one
from oak_ledger.origin.evidence import NULL_WORDS
from oak_ledger.source.notebook import InNotebook
from oak_ledger.source.source import Source

COMMON = 8
BINS = 24
PATTERNS = 5
MAX_PROFILED_VALUES = 100_000  # distinct values of which patterns and spellings are looked at


@dataclass(frozen=True, slots=True)
class Suspicion:
    """Something odd about values: what, how many rows, samples, and the clean that would mend it (may be empty).

    `changes` says how many values that clean would change. `recode` has values with what they likely mean, to be taken over in part.
    """

    what: str
    rows: int
    samples: tuple[str, ...]
    clean: str = ""
    changes: int = 0
    recode: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class FieldProfile(InNotebook):
    """One field: counts, ends, commonest values, lengths, distribution, patterns, suspicions.

    `common` has (value, rows), the most frequent first. `shortest` and `longest` are texts. `bins` has the distribution of numbers and dates as
    (from, to, rows); of other values it is empty. `patterns` has shapes of text such as `AA-9999` with rows.
    """

    field: str
    type: str
    rows: int
    nulls: int
    distinct: int
    minimum: Any
    maximum: Any
    average: float | None
    median: float | None
    common: tuple[tuple[Any, int], ...]
    shortest: str
    longest: str
    bins: tuple[tuple[Any, Any, int], ...]
    patterns: tuple[tuple[str, int], ...]
    suspicions: tuple[Suspicion, ...]

    def __repr__(self) -> str:
        odd = ", ".join(suspicion.what for suspicion in self.suspicions) or "nothing"
        return f"Profile of {self.field!r}: {self.type}\n  {self.rows:,} rows, {self.nulls:,} null, {self.distinct:,} distinct; suspicious: {odd}"


def profile(source: Source, names: Sequence[str] = ()) -> list[FieldProfile]:
    """The profiles of fields with a value per row (all visible ones without names), in one reading of the rows."""
    chosen = [source.state(name) for name in names] if names else source.shown_fields
    grouped = next((state for state in chosen if state.grain == Grain.GROUP), None)
    if grouped is not None:
        raise OakError("grain-mixed", f"{grouped.name} has one value per group; a profile is of values per row.")
    table = source.rows([quote_identifier(state.name) for state in chosen]).table
    profiles = []
    for state in chosen:
        plain = isinstance(state.spec, FieldSpec) and not state.spec.calculated
        own = state.spec.clean if isinstance(state.spec, FieldSpec) else ""
        found = profile_of(state.name, table.column(state.name), cleanable=plain, clean=own)
        profiles.append(replace(found, type=state.type_name))
    return profiles


def profile_of(name: str, values: Any, *, cleanable: bool = True, clean: str = "") -> FieldProfile:
    """The profile of an array. `clean` is the clean that the field has already: a proposal is put around it."""
    array = values.combine_chunks() if isinstance(values, pa.ChunkedArray) else values
    kind = from_arrow_type(array.type)
    counted = array.drop_null().value_counts()
    different, counts = counted.field("values"), counted.field("counts").to_numpy(zero_copy_only=False)
    order = np.argsort(-counts, kind="stable")[:COMMON]
    common = tuple((different[int(at)].as_py(), int(counts[at])) for at in order)
    ends = pc.min_max(different).as_py() if len(different) else {"min": None, "max": None}
    average = median = None
    bins: tuple[tuple[Any, Any, int], ...] = ()
    if kind is not None and kind.numeric and len(different):
        average, median, bins = _numbers(as_floats(different), counts)
    elif kind is not None and kind.kind in ("date", "timestamp") and len(different):
        bins = _days(different, counts)
    text = kind is not None and kind.kind == "text" and len(different) > 0
    shortest, longest = _lengths(different) if text else ("", "")
    suspicions: tuple[Suspicion, ...] = ()
    patterns: tuple[tuple[str, int], ...] = ()
    if text:
        patterns = _patterns(different, counts)
        found = _text_suspicions(different, counts, clean) if cleanable else ()
        suspicions = tuple(sorted(found, key=lambda suspicion: -suspicion.rows))
    elif kind is not None and kind.numeric and len(different) and cleanable:
        numbers = np.asarray(as_floats(different), np.float64)
        inner = f"({clean})" if clean else "VALUE"
        suspicions = tuple(
            Suspicion(of_number.what, rows := int(counts[of_number.which].sum()), tuple(str(different[int(at)].as_py()) for at in np.flatnonzero(of_number.which)[:3]), of_number.clean.format(inner), rows)
            for of_number in of_numbers(name, numbers, counts, whole=kind.kind == "integer")
        )  # fmt: skip
    elif kind is not None and kind.kind in ("date", "timestamp") and len(different):
        suspicions = tuple(_odd_days(different, counts, str(kind)))
    return FieldProfile(
        name, str(kind), len(array), array.null_count, len(different), ends["min"], ends["max"], average, median, common,
        shortest, longest, bins, patterns, suspicions,
    )  # fmt: skip


def _numbers(values: Any, counts: Any) -> tuple[float, float, tuple[tuple[Any, Any, int], ...]]:
    order = np.argsort(values)
    ordered, weights = values[order], counts[order]
    running = np.cumsum(weights)
    total = int(running[-1])
    low, high = (float(ordered[np.searchsorted(running, at, "right")]) for at in ((total - 1) // 2, total // 2))
    average = float(np.average(values, weights=counts))
    array, edges = np.histogram(values, bins=_round_edges(float(ordered[0]), float(ordered[-1])), weights=counts)
    bins = tuple((float(edges[at]), float(edges[at + 1]), int(array[at])) for at in range(len(array)))
    return average, (low + high) / 2, bins


def _round_edges(low: float, high: float) -> Any:
    """At most so many bins as wanted, with round edges."""
    if high <= low:
        return np.array([low, low + 1.0])
    rough = (high - low) / BINS
    unit = 10.0 ** np.floor(np.log10(rough))
    step = next((unit * part for part in (1, 2, 2.5, 5) if unit * part >= rough), unit * 10)
    first = np.floor(low / step)
    return (first + np.arange(int(np.floor(high / step) - first) + 2)) * step


def _days(values: Any, counts: Any) -> tuple[tuple[Any, Any, int], ...]:
    """Dates by month, or by year where there are many months."""
    months = np.asarray(values.cast(pa.timestamp("us"))).astype("datetime64[M]")
    unit = "Y" if len(np.unique(months)) > 60 else "M"
    spans = months.astype(f"datetime64[{unit}]")
    first, last = spans.min(), spans.max()
    at = (spans - first).astype(int)
    array = np.bincount(at, weights=counts, minlength=int((last - first).astype(int)) + 1)
    if len(array) > 400:
        return ()
    return tuple((str(first + step), str(first + step + 1), int(rows)) for step, rows in enumerate(array))


def _lengths(values: Any) -> tuple[str, str]:
    lengths = pc.utf8_length(values).to_numpy(zero_copy_only=False)
    return values[int(lengths.argmin())].as_py(), values[int(lengths.argmax())].as_py()


_SHAPES = ((r"\p{Lu}", "A"), (r"\p{Ll}", "a"), (r"\p{Nd}", "9"))


def _patterns(values: Any, counts: Any) -> tuple[tuple[str, int], ...]:
    """Texts by their shape: capitals as A, small letters as a, digits as 9; runs of more than four are shortened."""
    part = values.slice(0, MAX_PROFILED_VALUES)
    shapes = part
    for expression, letter in _SHAPES:
        shapes = pc.replace_substring_regex(shapes, expression, letter)
    for letter in "Aa9":
        shapes = pc.replace_substring_regex(shapes, f"{letter}{{5,}}", f"{letter}+")
    encoded = shapes.dictionary_encode()
    rows = np.bincount(encoded.indices.to_numpy(zero_copy_only=False), weights=counts[: len(part)])
    order = np.argsort(-rows, kind="stable")[:PATTERNS]
    return tuple((encoded.dictionary[int(at)].as_py(), int(rows[at])) for at in order)


def _text_suspicions(values: Any, counts: Any, clean: str) -> Iterator[Suspicion]:
    part, weights = values.slice(0, MAX_PROFILED_VALUES), counts[:MAX_PROFILED_VALUES]
    inner = f"({clean})" if clean else "VALUE"

    def suspicion(what: str, mask: Any, template: str) -> Iterator[Suspicion]:
        rows = int(weights[mask].sum())
        if rows:
            samples = tuple(part[int(at)].as_py() for at in np.flatnonzero(mask)[:3])
            changes = _changed_rows(part, weights, template.format("VALUE")) if template else 0
            yield Suspicion(what, rows, samples, template.format(inner), changes)

    trimmed = pc.utf8_trim_whitespace(part)
    spaced = to_mask(pc.not_equal(trimmed, part))
    yield from suspicion("spaces at the ends", spaced, "TRIM({})")
    doubled = to_mask(pc.match_substring_regex(trimmed, r"\s\s"))
    yield from suspicion("several spaces in a row", doubled, "REPLACE({}, '  ', ' ')")
    yield from suspicion("empty text, which is not null", to_mask(pc.equal(trimmed, "")), "NULLIF(TRIM({}), '')")
    words = to_mask(pc.is_in(trimmed, value_set=pa.array(NULL_WORDS)))
    if words.any() and not words.all():
        listed = ", ".join(quote_literal(word) for word in sorted(set(trimmed.filter(pa.array(words)).to_pylist())))
        yield from suspicion(
            "words that may mean no value",
            words,
            "CASE WHEN TRIM({0}) IN (" + listed.replace("{", "{{") + ") THEN NULL ELSE {0} END",
        )
    zeros = to_mask(pc.match_substring_regex(trimmed, r"^0[0-9]+$"))
    without = pc.utf8_ltrim(trimmed, "0")
    both = zeros & to_mask(pc.is_in(without, value_set=trimmed.filter(pa.array(~zeros))))
    yield from suspicion(
        "the same number with and without leading zeros", both, ""
    )  # which is right, only the curator knows
    numbers = to_mask(pc.match_substring_regex(trimmed, r"^[+-]?[0-9]+(\.[0-9]+)?$"))
    if numbers.all() and not zeros.any():
        whole = bool(pc.all(pc.match_substring_regex(trimmed, r"^[+-]?[0-9]{1,18}$")).as_py())
        yield from suspicion("numbers stored as text", numbers, f"CAST({{}} AS {'INTEGER' if whole else 'NUMBER'})")
    said = yes_or_no(part.to_pylist()) if len(part) == 2 else ""
    if said:
        yield from suspicion("yes and no as texts", np.ones(len(part), np.bool_), said)
    found = mixed(dict(zip(part.to_pylist(), weights.astype(np.int64).tolist(), strict=True)))
    if found is not None:
        yield from suspicion(found.what, np.ones(len(part), np.bool_), found.clean)
    yield from _spellings(part, trimmed, weights, inner)
    if len(part) <= MOST_VALUES and not clean:
        rows = dict(zip(part.to_pylist(), weights.astype(np.int64).tolist(), strict=True))
        meant = likely_one(rows)
        if meant:
            pairs = tuple(sorted(meant.items(), key=lambda one: (one[1], -rows[one[0]])))
            samples = tuple(f"{found} / {wanted}" for found, wanted in pairs[:3])
            count = sum(rows[found] for found in meant)
            yield Suspicion("values that are likely one", count, samples, "", count, pairs)


def _spellings(part: Any, trimmed: Any, weights: Any, inner: str) -> Iterator[Suspicion]:
    """Values that differ only by letter case, and how most rows write them."""
    folded = pc.utf8_lower(trimmed).dictionary_encode()
    codes = folded.indices.to_numpy(zero_copy_only=False)
    spelled = trimmed.dictionary_encode()
    own = spelled.indices.to_numpy(zero_copy_only=False)
    rows = np.bincount(own, weights=weights)
    group = np.zeros(len(rows), np.int64)
    group[own] = codes
    several = np.bincount(group, minlength=len(folded.dictionary)) > 1
    if not several.any():
        return
    usual = np.zeros(len(folded.dictionary), np.int64)
    order = np.argsort(rows, kind="stable")
    usual[group[order]] = order  # the last written is the most frequent
    odd = several[codes] & (usual[codes] != own)
    samples = []
    for at in np.flatnonzero(several)[:3]:
        names = [spelled.dictionary[int(one)].as_py() for one in np.flatnonzero(group == at)]
        samples.append(" / ".join(names))
    kept = spelled.dictionary.take(pa.array(usual[several]))
    titled = re.compile(r"[^\W_][^\W_]*")
    initcap = all(
        titled.sub(lambda match: match[0][:1].upper() + match[0][1:].lower(), name) == name for name in kept.to_pylist()
    )
    made = (
        "INITCAP(TRIM({}))"
        if initcap
        else "UPPER(TRIM({}))"
        if pc.all(pc.equal(pc.utf8_upper(kept), kept)).as_py()
        else "LOWER(TRIM({}))"
    )
    changes = _changed_rows(part, weights, made.format("VALUE"))
    rows_odd = int(weights[odd].sum())
    yield Suspicion("spellings that differ by letter case", rows_odd, tuple(samples), made.format(inner), changes)


def _changed_rows(part: Any, weights: Any, clean: str) -> int:
    """In how many rows a clean changes the value: it is tried on every distinct value."""
    tried = Source.from_table(pa.table({"VALUE": part}), name="values")
    kind = tried.check_formula(clean).require().type
    same = f"({clean})" if kind.kind == "text" else f"CAST(({clean}) AS TEXT)"
    changed = to_mask(tried.rows([("changed", f"{same} IS DISTINCT FROM VALUE")]).table.column(0).combine_chunks())
    return int(weights[changed].sum()) if kind.kind == "text" else int(weights.sum())


def _odd_days(values: Any, counts: Any, kind: str) -> Iterator[Suspicion]:
    """Dates far outside of where nearly all are."""
    moments = np.asarray(values.cast(pa.timestamp("us"))).astype("datetime64[D]").astype(np.int64)
    order = np.argsort(moments)
    running = np.cumsum(counts[order])
    low, high = (moments[order][np.searchsorted(running, share * running[-1])] for share in (0.01, 0.99))
    slack = max(5 * (high - low), 3 * 365)
    odd = (moments < low - slack) | (moments > high + slack)
    if odd.any() and counts[odd].sum() < 0.02 * counts.sum():
        samples = tuple(str(values[int(at)].as_py()) for at in np.flatnonzero(odd)[:3])
        first, last = (np.datetime64(int(at), "D") for at in (low - slack, high + slack))
        literal = "DATE" if kind == "date" else "TIMESTAMP"
        clean = f"CASE WHEN VALUE BETWEEN {literal} '{first}' AND {literal} '{last}' THEN VALUE END"
        yield Suspicion("dates far from all others", int(counts[odd].sum()), samples, clean, int(counts[odd].sum()))
