"""Two states of rows as wholes: rows that are missing or there twice, and values that changed in matched rows in one way."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.errors import Severity
from oak_ledger.reference.evidence import Matching, Side, Values

FEWER = 0.9  # of the rows before: as many are no fewer
MIN_ROWS = 20  # rows that make a group worth a word
MIN_SHARE = 0.04  # of all rows, for a value whose rows are missing
TWICE, STEADY = 1.9, 1.15  # how often rows of a month are there again, while other months are as they were
CHANGED_SHARE, ALIKE_SHARE = 0.05, 0.9  # of the matched rows that changed; of these that changed in the same way
EXCHANGED_SHARE = 0.98
MATCHED_SHARE = 0.8  # of the rows before, for those that are not there to be missing
MAX_CATEGORIES = 60
LISTED = 3
UNITS = ((1.0, "day"), (1 / 24, "hour"), (1 / 1440, "minute"), (1 / 86_400, "second"))


def missing_rows(old: Side, new: Side, since: str, rows: Matching | None) -> str:
    """What is said of rows that are missing: fewer than before, whole months, or all rows of a value; empty where nothing is. `rows` are those
    that are matched, if rows can be."""
    gone = [said for name in old.values for said in _gone(name, old, new)]
    gone = gone or ([*_gone_of_matched(old, rows)] if rows is not None else [])
    if new.rows >= FEWER * old.rows and not gone:
        return ""
    where = f": {'; '.join(gone[:LISTED])}" if gone else ""
    return f"{old.rows:,} rows in {since}, {new.rows:,} now{where}."


def _gone(name: str, old: Side, new: Side) -> Iterator[str]:
    """The months, or the values, of a field that had rows and have none, where nothing else took their place."""
    before, now = old.values[name], new.values.get(name)
    if now is None or now.kind != before.kind:
        return
    if before.kind == "date":
        had, has = _months(before), _months(now)
        last = max(has, default="")
        first = min(has, default="")
        slides = bool(has) and last > max(had, default="")  # old months go while new ones come
        missing = [one for one in had if one not in has and not (slides and one < first)]
        steady = all(had[one] / STEADY <= has[one] <= had[one] * STEADY for one in sorted(had)[:-1] if one in has)
        if steady and missing and sum(had[one] for one in missing) >= MIN_ROWS:
            yield f"none in {_listed(missing)} by {name}"
    elif before.kind == "text":
        had, has = _counts(before), _counts(now)
        if len(had) <= MAX_CATEGORIES and not {*has} - {*had}:
            least = max(MIN_ROWS, MIN_SHARE * old.rows)
            missing = [one for one, rows in had.items() if rows >= least and one not in has]
            if missing and new.rows <= old.rows - sum(had[one] for one in missing) / 2:
                yield f"none with {_listed(missing)} in {name}"


def _gone_of_matched(old: Side, rows: Matching) -> Iterator[str]:
    """Where nearly all rows of before are there again, what those have in common that are not."""
    missing = np.ones(old.rows, np.bool_)
    missing[rows.before] = False
    count = int(missing.sum())
    if not MIN_ROWS / 4 <= count <= (1 - MATCHED_SHARE) * old.rows:
        return
    for name, values in old.values.items():
        if values.kind != "text" or name == rows.column:
            continue
        found = pc.unique(values.items.filter(pa.array(missing)))
        if len(found) == 1 and found[0].is_valid and pc.sum(pc.equal(values.items, found[0])).as_py() == count:
            yield f"{count:,} rows are gone, all with {found[0].as_py()} in {name}"
            return


def rows_twice(old: Side, new: Side, since: str) -> str:
    """What is said of a month whose rows are there about twice, while the other months have as many as before."""
    for name, before in old.values.items():
        now = new.values.get(name)
        if before.kind != "date" or now is None or now.kind != "date":
            continue
        had, has = _months(before), _months(now)
        whole = sorted(one for one in had if had[one] >= MIN_ROWS)[:-1]  # the last month may have been unfinished
        again = [one for one in whole if has.get(one, 0) >= TWICE * had[one]]
        steady = [one for one in whole if had[one] / STEADY <= has.get(one, 0) <= had[one] * STEADY]
        if again and len(again) + len(steady) == len(whole) and len(steady) >= len(again):
            rows = sum(had[one] for one in again), sum(has[one] for one in again)
            return f"Rows of {_listed(again)} by {name} are there about twice: {rows[0]:,} in {since}, {rows[1]:,} now."
    return ""


def exchanged(before: Values, now: Values, rows: Matching) -> list[tuple[str, str]]:
    """Values that took each other's place in matched rows, as (before, now)."""
    pairs = pa.table([before.items.take(pa.array(rows.before)), now.items.take(pa.array(rows.now))], ["old", "new"])
    counts = pairs.group_by(["old", "new"]).aggregate([([], "count_all")]).to_pylist()
    total: dict[Any, int] = {}
    for count in counts:
        total[count["old"]] = total.get(count["old"], 0) + count["count_all"]
    moved = {
        count["old"]: count["new"]
        for count in counts
        if count["old"] != count["new"]
        and None not in (count["old"], count["new"])
        and count["count_all"] >= max(MIN_ROWS / 4, EXCHANGED_SHARE * total[count["old"]])
    }
    return sorted(moved.items()) if moved and {*moved} == {*moved.values()} else []


def changed_alike(name: str, before: Values, now: Values, rows: Matching, since: str) -> str:
    """What is said of values that changed in one way in matched rows: cut to whole numbers, texts cut, moments moved."""
    both = before.present[rows.before] & now.present[rows.now]
    at = rows.before[both], rows.now[both]
    if len(at[0]) < MIN_ROWS:
        return ""
    if before.kind == "text":
        return _texts_cut(name, before.items.take(pa.array(at[0])), now.items.take(pa.array(at[1])), since)
    left, right = before.items[at[0]], now.items[at[1]]
    if before.kind == "date":
        return _moved(name, right - left, since)
    broken = np.abs(left - np.round(left)) > 1e-9
    whole = (right == np.round(left)) | (right == np.trunc(left))
    if broken.sum() >= MIN_ROWS and whole[broken].mean() >= EXCHANGED_SHARE:
        return f"{name}: the decimals are cut off; in {int(broken.sum()):,} matched rows it had some in {since}."
    return ""


def _texts_cut(name: str, left: pa.StringArray, right: pa.StringArray, since: str) -> str:
    changed = pc.not_equal(left, right)
    count = pc.sum(changed).as_py() or 0
    if count < max(MIN_ROWS, CHANGED_SHARE * len(left)):
        return ""
    left, right = left.filter(changed), right.filter(changed)
    length = pc.utf8_length(right)
    most = pc.max(length).as_py()
    cut = pc.and_(pc.equal(pc.utf8_slice_codeunits(left, 0, most), right), pc.equal(length, most))
    if most and pc.mean(pc.cast(cut, pa.int64())).as_py() >= ALIKE_SHARE:
        return f"{name}: texts are cut after {most} characters in {count:,} matched rows, such as {right[0].as_py()!r} for {left[0].as_py()!r} in {since}."
    return ""


def _moved(name: str, moved: npt.NDArray[np.float64], since: str) -> str:
    changed = np.abs(moved) > 1e-6
    count = int(changed.sum())
    if count < max(MIN_ROWS, CHANGED_SHARE * len(moved)):
        return ""
    by = float(np.median(moved[changed]))
    if (np.abs(moved[changed] - by) < 1e-6).mean() < ALIKE_SHARE:
        return ""
    size, unit = next(((size, unit) for size, unit in UNITS if abs(by) >= size * 0.999), UNITS[-1])
    number = f"{abs(by) / size:.6g}"
    said = f"{number} {unit}{'s' * (number != '1')} {'later' if by > 0 else 'earlier'}"
    return f"{name} is {said} than in {since}, in {count:,} of {len(moved):,} matched rows. Another time zone may be meant."


def unmatched(before: Values, now: Values, name: str, since: str) -> tuple[str, Severity]:
    """What is said of a key of which no value is one that was there before: a note where the rows may all be new, empty where nothing is."""
    had, has = (values.items[values.present] if values.numeric else values.items.drop_null().to_numpy(zero_copy_only=False) for values in (before, now))  # fmt: skip
    if not len(had) or not len(has) or len(np.intersect1d(had, has)):
        return "", "note"
    said = f"None of the {len(has):,} values of {name} was there in {since}: rows cannot be compared one by one."
    if before.kind == now.kind == "text":
        for one, other, what in ((had, has, "without"), (has, had, "with")):
            start = _common_start(one)
            for length in range(1, len(start) + 1):
                shared = len(np.intersect1d([text[length:] for text in one], other))
                if shared >= min(len(had), len(has)) / 2:
                    return f"{said[:-1]}; they come {what} {start[:length]!r} at the beginning.", "warning"
    return said, "note"


def _common_start(texts: Sequence[str]) -> str:
    first, last = min(texts), max(texts)
    at = next((at for at, (one, other) in enumerate(zip(first, last, strict=False)) if one != other), min(len(first), len(last)))  # fmt: skip
    return first[:at].rstrip("0123456789")


def _months(values: Values) -> dict[str, int]:
    """How many rows each month has."""
    seconds = (values.items[values.present] * 86_400).astype("datetime64[s]").astype("datetime64[M]")
    months, counts = np.unique(np.datetime_as_string(seconds), return_counts=True)
    return dict(zip(months.tolist(), counts.tolist(), strict=True))


def _counts(values: Values) -> dict[str, int]:
    return {
        value_count["values"]: value_count["counts"]
        for value_count in values.items.drop_null().value_counts().to_pylist()
    }


def _listed(values: Sequence[str]) -> str:
    some = sorted(values)
    return ", ".join(some[:LISTED]) + (f" and {len(some) - LISTED} more" if len(some) > LISTED else "")
