"""An origin that changed under a definition: the column is there, but it is not what it was when last published.

Rows are matched where that can be done, and compared one by one; else values are compared by how they are spread.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.definition.document import Document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.definition.references import entry_name, with_replaced_values
from oak_ledger.errors import Finding
from oak_ledger.formula import Grain
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.insight.fingerprint import arrived_null
from oak_ledger.origin.files import FILE_COLUMN
from oak_ledger.reference.evidence import Matching, Side, Values, matching, matching_by_several, values_of
from oak_ledger.reference.units import (
    MIN_ROWS,
    SHIFT_ERRORS,
    common_factor,
    distinct_count,
    is_back,
    shifted_median,
    wide_enough,
)
from oak_ledger.reference.whole_states import changed_alike, exchanged, missing_rows, rows_twice, unmatched
from oak_ledger.source.source import Source
from oak_ledger.source.whole import unfiltered
from oak_ledger.types import NUMERIC

MAX_COMPARED_ROWS = 500_000
MAX_CATEGORIES = 60
MIN_NULL_SHARE = 0.02
RECODED_SHARE = 0.98  # of the rows of a value that have one other value now


def drift(
    source: Source,
    before: Source,
    since: str,
    documents: Sequence[Document] = (),
    *,
    skip: Collection[str] = (),
    arrived: Mapping[str, float] | None = None,
) -> list[Finding]:
    """How the plain fields differ from those of an earlier state; `since` says in words which. `documents` are reports that may use their
    values, `skip` has fields of which it is known that their column holds something else now. `arrived` has the share of rows without a
    value, by field, as it was before a clean filled them in."""
    found = _compared(source, before, since, documents, skip)
    if found is None:
        return []
    found = found.remembering()
    names = found.names
    known = {name: share for name, share in (arrived or {}).items() if name in names}
    filled = arrived_null(source) if known else {}
    fields = [finding for name in names for finding in found.of(name)]
    return [
        *found.whole(files_gone=any(field.code == "drift-files" for field in fields)),
        *fields,
        *(finding for name in known if name in filled for finding in found.filled(name, known[name], filled[name])),
    ]


def recoded(source: Source, before: Source, *, mended: bool = True) -> dict[str, dict[str, str]]:
    """The values that have other names now, by field (now: before), as matched rows show; without `mended` only those that the definition
    does not know of yet."""
    found = _compared(source, before, "", (), ())
    if found is not None and not mended:
        found = found.remembering()
    pairs = {name: found.recoded(name) for name in found.names} if found is not None else {}
    return {name: {new: old for old, new in own} for name, own in pairs.items() if own}


def _compared(
    source: Source, before: Source, since: str, documents: Sequence[Document], skip: Collection[str]
) -> _Drift | None:
    """The plain fields of two states beside each other; None where they share none."""
    plain = [
        state.name
        for state in source.fields
        if isinstance(state.spec, FieldSpec)
        and not state.spec.calculated
        and not state.broken
        and state.grain == Grain.ROW
        and state.name not in skip
    ]
    there = {
        field.name
        for field in before.fields
        if not field.broken and field.grain == Grain.ROW and not (before.reader and field.hidden)
    }
    names = [name for name in plain if name in there]
    if not names:
        return None
    read_as = _with_any_decimals(source)
    old, new = _side(before, names), _side(source, names, unfiltered(read_as, broken=True))
    if not new.rows:  # a filter of every question may need what is lost
        new = _side(source, names, unfiltered(read_as))
    return _Drift(source, since, [source.document, *documents], old, new, names)


def _with_any_decimals(source: Source) -> Source:
    """The source with its decimals as any numbers: that they have more digits now, or another mark, is what is looked for."""
    document = source.document
    for block in document.all("field"):
        if isinstance(block.spec, FieldSpec) and block.spec.column and block.spec.type.startswith("decimal"):
            document = document.replaced(block, {"type": "number"})
    return source.changed(document)


def _side(source: Source, names: Sequence[str], read_as: Source | None = None) -> Side:
    table = (read_as or source).rows([quote_identifier(name) for name in names], limit=MAX_COMPARED_ROWS).table
    values = {name: one for name in names if (one := values_of(table.column(name))) is not None}
    types = {name: state.type.kind for name in names if (state := source.state(name)).type is not None}
    nulls = {name: table.column(name).null_count / max(table.num_rows, 1) for name in names}
    return Side(types, values, nulls, table.num_rows)


@dataclass(slots=True)
class _Drift:
    source: Source
    since: str
    documents: Sequence[Document]
    old: Side
    new: Side
    names: Sequence[str]
    rows: Matching | None = None

    def __post_init__(self) -> None:
        same = {
            name: values
            for name, values in self.old.values.items()
            if name in self.new.values and values.kind == self.new.values[name].kind
        }
        now = {name: self.new.values[name] for name in same}
        self.rows = matching(same, now, self.source.about.key) if same else None
        if self.rows is None and len(same) > 1:
            steady = [name for name in same if not same[name].numeric]
            self.rows = (
                matching_by_several({name: same[name] for name in steady}, {name: now[name] for name in steady})
                if len(steady) > 1
                else None
            )

    def remembering(self) -> _Drift:
        """The same with values of before under the names that the definition says they have now."""
        values = dict(self.old.values)
        for name in self.names:
            spec = self.source.state(name).spec
            known = spec.renamed_values if isinstance(spec, FieldSpec) else {}
            if known and name in values and values[name].kind == "text":
                items = [known.get(item, item) for item in values[name].items.to_pylist()]
                values[name] = replace(values[name], items=pa.array(items, pa.string()))
        same = all(one is self.old.values[name] for name, one in values.items())
        return self if same else replace(self, old=replace(self.old, values=values))

    def whole(self, *, files_gone: bool) -> Iterator[Finding]:
        """What is found of the rows as a whole; that files are gone says already which rows are."""
        limited = MAX_COMPARED_ROWS in (self.old.rows, self.new.rows)
        place = self.source.document.place()
        for said, hint in (
            (
                "" if files_gone else missing_rows(self.old, self.new, self.since, self.rows),
                "Ask whether they were delivered.",
            ),
            (rows_twice(self.old, self.new, self.since), "See whether a file or a month came twice."),
        ):
            if said and not limited:
                yield Finding("drift-rows", said, place, hint, "warning", numbers={"before": self.old.rows, "now": self.new.rows})  # fmt: skip
        for name in self.source.about.key:
            before, now = self.old.values.get(name), self.new.values.get(name)
            if before is None or now is None or len(self.source.about.key) > 1:
                continue
            said, severity = unmatched(before, now, name, self.since)
            if said:
                yield self._warning("drift-keys", name, said, "If they are the same rows: clean the key.", severity)

    def of(self, name: str) -> Iterator[Finding]:
        """What is found in a field."""
        kinds = [side.types.get(name, "") for side in (self.old, self.new)]
        if self.new.nulls[name] == 1.0 and self.new.rows:  # a column without values has the type of none
            yield from self._nulls(name)
            return
        if kinds[0] != kinds[1] and not {*kinds} <= {*NUMERIC}:
            message = f"{name} was {self.old.types.get(name)} in {self.since} and is {self.new.types.get(name)} now."
            yield self._warning("drift-type", name, message, "Retype or clean it.")
            return
        yield from self._nulls(name)
        before, now = self.old.values.get(name), self.new.values.get(name)
        if before is None or now is None:
            return
        spec = self.source.state(name).spec
        if isinstance(spec, FieldSpec) and spec.column == FILE_COLUMN:
            yield from self._files(name, before, now)
            return
        counts = distinct_count(before), distinct_count(now)
        if counts[0] > 2 and counts[1] == 1 and self.new.rows >= MIN_ROWS:
            message = f"{name} has one value in all rows, where it had {counts[0]:,} in {self.since}."
            yield self._warning("drift-constant", name, message, "Ask whether the column is still delivered.")
            return
        if self.rows is not None and before.kind == now.kind and not self.recoded(name):
            said = changed_alike(name, before, now, self.rows, self.since)
            if said:
                code = "drift-moved" if before.kind == "date" else "drift-cut"
                yield self._warning(code, name, said, "Ask how the values are made now.")
                return
        if before.kind == "number":
            yield from self._numbers(name, before, now)
        elif before.kind == "text":
            yield from self._texts(name, before, now, counts)

    def _warning(
        self,
        code: str,
        name: str,
        message: str,
        hint: str,
        severity: Any = "warning",
        fixed: str | None = None,
        **numbers: float,
    ) -> Finding:
        return Finding(code, message, self.source.document.place("field", name), hint, severity, fixed, dict(numbers))

    def filled(self, name: str, before: float, now: float) -> Iterator[Finding]:
        """Values that are missing as they arrive, and filled in by a clean."""
        if self._is_more(before, now):
            message = f"{name} arrives without a value in {now:.1%} of the rows, and its clean fills them in; in {self.since} it was {before:.1%}."
            hint = "Ask whether the values are missing or no longer delivered; the clean hides it."
            yield self._warning("drift-nulls", name, message, hint, before=before, now=now)

    def _is_more(self, before: float, now: float) -> bool:
        """Whether a share of nulls differs by more than chance does."""
        error = float(np.sqrt(max(before * (1 - before), 1e-4) / max(min(self.old.rows, self.new.rows), 1)))
        return abs(now - before) > max(MIN_NULL_SHARE, SHIFT_ERRORS * error)

    def _nulls(self, name: str) -> Iterator[Finding]:
        before, now = self.old.nulls[name], self.new.nulls[name]
        if self._is_more(before, now):
            message = f"{name}: {now:.1%} of the rows have no value; in {self.since} it was {before:.1%}."
            hint = "Ask whether the values are missing or no longer delivered."
            yield self._warning("drift-nulls", name, message, hint, before=before, now=now)

    def _files(self, name: str, before: Values, now: Values) -> Iterator[Finding]:
        """Files that are not there any more; new ones are as it should be."""
        had, has = (set(pc.unique(values.items.drop_null()).to_pylist()) for values in (before, now))
        gone = sorted(had - has)
        if gone:
            rows = int(pc.sum(pc.is_in(before.items, pa.array(gone))).as_py() or 0)
            said = f"; new are {_listed(has - had)}" if has - had else ""
            message = f"{len(gone):,} {'file' if len(gone) == 1 else 'files'} of {self.since} {'is' if len(gone) == 1 else 'are'} missing: {_listed(set(gone))}, with {rows:,} rows{said}."
            yield self._warning(
                "drift-files",
                name,
                message,
                "Ask whether they are called otherwise now, or were not delivered.",
                rows=rows,
            )

    def _numbers(self, name: str, before: Values, now: Values) -> Iterator[Finding]:
        change = None
        if self.rows is not None and len(self.rows.before) >= MIN_ROWS:
            change = common_factor(name, before, now, self.rows, self.new.values, self.since)
        if change is None and name not in self.source.about.key:
            change = shifted_median(name, before, now, self.old.values, self.since)
        spec = self.source.state(name).spec
        if change is not None and isinstance(spec, FieldSpec) and is_back(change, spec.clean):
            message = f"{name} is delivered in the unit that it had before it was cleaned by {spec.clean}."
            hint = f"Remove the clean: oak field clean {self.source.as_argument} {shlex.quote(name)} ''"
            yield self._warning("unit-back", name, message, hint, fixed=None, **change.numbers)
            return
        cleaned = (
            spec.earlier_clean.get(change.back or "") if change is not None and isinstance(spec, FieldSpec) else None
        )
        if change is not None and cleaned is not None:
            change = replace(change, said=f"{change.said} Until {cleaned} it was cleaned by {change.back}.")
        if change is not None and change.back is not None and (more := self._more_decimals(name, now)):
            hint = f"If so, let it keep more decimals first: oak field retype {self.source.as_argument} {shlex.quote(name)} '{wide_enough(more)}'; then clean it: {change.back}"  # fmt: skip
            yield self._warning(
                "drift-unit", name, change.said, hint, fixed=change.back, decimals=more, **change.numbers
            )
        elif change is not None:
            yield self._warning("drift-unit", name, change.said, change.hint, fixed=change.back, **change.numbers)

    def _more_decimals(self, name: str, now: Values) -> int:
        """How many decimals the values have now, where the field keeps fewer; else 0."""
        spec = self.source.state(name).spec
        written = re.fullmatch(r"decimal\(\d+,\s*(\d+)\)", spec.type) if isinstance(spec, FieldSpec) else None
        if written is None:
            return 0
        some = now.items[now.present][: MIN_ROWS * 10]
        needed = max((-int(Decimal(repr(float(one))).normalize().as_tuple().exponent) for one in some), default=0)
        return needed if needed > int(written[1]) else 0

    def _texts(self, name: str, before: Values, now: Values, counts: tuple[int, int]) -> Iterator[Finding]:
        had, has = (set(pc.unique(values.items.drop_null()).to_pylist()) for values in (before, now))
        gone, new = had - has, has - had
        stripped = {one.lstrip("0"): one for one in gone if one.startswith("0") and one.strip("0").isdigit()}
        lost = [(stripped[one], one) for one in new if one in stripped]
        if len(lost) >= max(2, 0.5 * len(stripped)) and lost:
            old, short = min(lost)
            message = f"{name}: leading zeros are lost in {len(lost):,} distinct values, such as {short!r} for {old!r}."
            yield self._warning("drift-zeros", name, message, "Read the column as text, or ask for it as it was.")
            return
        pairs = self.recoded(name)
        if pairs and len(pairs) >= 0.5 * len(gone):
            shown = ", ".join(f"{old!r} → {one!r}" for old, one in pairs[:4])
            used = self._used(name, [old for old, _ in pairs])
            message = f"{name}: {len(pairs):,} value{'s have other names' if len(pairs) > 1 else ' has another name'} now, as matched rows show: {shown}{used}."
            yield self._warning("drift-values", name, message, _mend_values(self.source, name, pairs))
            return
        swapped = exchanged(before, now, self.rows) if self.rows is not None and counts[0] <= MAX_CATEGORIES else []
        if swapped:
            shown = ", ".join(f"{old!r} → {one!r}" for old, one in swapped[:4])
            message = f"{name}: values took each other's place in matched rows: {shown}."
            yield self._warning("drift-values", name, message, _mend_values(self.source, name, swapped))
            return
        folded = {one.casefold().strip(): one for one in gone}
        recased = sorted((folded[one.casefold().strip()], one) for one in new if one.casefold().strip() in folded)
        if recased and len(recased) >= 0.02 * len(had):
            shown = ", ".join(f"{old!r} → {one!r}" for old, one in recased[:3])
            used = self._used(name, [old for old, _ in recased])
            message = f"{name}: {len(recased):,} value{'s are' if len(recased) > 1 else ' is'} written otherwise: {shown}{used}."
            yield self._warning("drift-values", name, message, _mend_values(self.source, name, recased))
            return
        if counts[0] > MAX_CATEGORIES:
            return
        used = self._used(name, sorted(gone))
        if gone and (used or len(gone) >= 0.5 * len(had)):
            said = f", and there are {len(new):,} new ones, such as {min(new)!r}" if new else ""
            message = f"{name}: {_listed(gone)} {'is' if len(gone) == 1 else 'are'} in no row any more{used}{said}."
            yield self._warning(
                "drift-values",
                name,
                message,
                f"They may have other names now: oak mend {self.source.as_argument} --values {shlex.quote(name)} OLD=NEW.",
            )
        elif new:
            message = f"{name} has {len(new):,} value{'s' * (len(new) > 1)} that it did not have in {self.since}: {_listed(new)}."
            yield self._warning(
                "drift-values", name, message, "See whether filters, colours and CASE branches cover them.", "note"
            )

    def recoded(self, name: str) -> list[tuple[str, str]]:
        """The values that are in no row any more, each with the new one that nearly all of its rows have instead."""
        before, now = self.old.values.get(name), self.new.values.get(name)
        if before is None or now is None or before.kind != "text" or now.kind != "text" or self.rows is None:
            return []
        had, has = (set(pc.unique(values.items.drop_null()).to_pylist()) for values in (before, now))
        gone, new = had - has, has - had
        if not gone or not new or len(gone) > MAX_CATEGORIES:
            return []
        pairs = pa.table(
            [before.items.take(pa.array(self.rows.before)), now.items.take(pa.array(self.rows.now))], ["old", "new"]
        )
        counts = pairs.group_by(["old", "new"]).aggregate([([], "count_all")]).to_pylist()
        found: dict[str, tuple[str, int, int]] = {}
        for row in counts:
            if row["old"] in gone:
                to, most, rows = found.get(row["old"], ("", 0, 0))
                best = (row["new"], row["count_all"]) if row["count_all"] > most else (to, most)
                found[row["old"]] = (*best, rows + row["count_all"])
        sure = {old: to for old, (to, most, rows) in found.items() if to in new and most >= RECODED_SHARE * rows}
        return sorted(sure.items()) if len({*sure.values()}) == len(sure) else []

    def _used(self, name: str, values: Sequence[str]) -> str:
        """Where formulas, filters, recode lists and colours name these values."""
        if not values:
            return ""
        other = {value: f"{value}\x1f" for value in values}
        places = []
        for document in self.documents:
            after = with_replaced_values(document, name, other)
            places += [
                f"{entry_name(block)} of {document.where}"
                for block, two in zip(document.blocks, after.blocks, strict=True)
                if block.text != two.text
            ]
        return (
            f"; used by {', '.join(places[:4])}{f' and {len(places) - 4} more' if len(places) > 4 else ''}"
            if places
            else ""
        )


def _mend_values(source: Source, name: str, pairs: Sequence[tuple[str, str]]) -> str:
    said = " ".join(shlex.quote(f"{old}={new}") for old, new in pairs)
    return f"oak mend {source.as_argument} --values {shlex.quote(name)} {said}"


def _listed(values: set[str]) -> str:
    some = sorted(values)
    return ", ".join(map(repr, some[:3])) + (f" and {len(some) - 3} more" if len(some) > 3 else "")
