"""What type a column of text has, judged from its values, with the evidence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, dictionary_decode, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.texts import value_text
from oak_ledger.engine.aggregate.groups import LabelDictionary
from oak_ledger.origin.evidence import ENOUGH_ZEROS, NULL_WORDS, SPACES, Context, Evidence, Shape
from oak_ledger.origin.number_shapes import Mark, Numbers, plain_numbers
from oak_ledger.origin.shapes import DATED, MAYBE_DATE, MOMENT_OFFSET, MONEY_MARK, PLAIN, SHAPES, WORDS
from oak_ledger.origin.verdict import judged
from oak_ledger.types import Type

_LEADING_ZERO = r"^[+-]?0[0-9]+$"
MAX_COUNTED_VALUES = 50_000  # so many distinct values are counted, and need no second look
STUDIED = 4_000  # rows that are looked at by pattern in any case
SMALL_DICTIONARY = 1_500  # a batch with so few distinct values is judged by these at once
SAMPLED_VALUES = 1_000  # values by which shapes are ruled out where the first batch has very many different ones
TEXT_STUDIED = 500_000  # rows after which the values of a text are not counted any more
MAX_SAMPLES = 3  # values that do not fit


@dataclass(slots=True)
class TypedColumn:
    """Sees a column that has a type of its own, and only counts."""

    kind: Type
    rows: int = 0
    nulls: int = 0
    least: Any = None
    most: Any = None
    distinct: set[Any] | None = field(default_factory=set)

    def see(self, values: Any) -> None:
        """Take in the next batch."""
        self.rows += len(values)
        self.nulls += values.null_count
        if self.distinct is not None:
            self.distinct.update(values.unique().to_pylist())
            self.distinct.discard(None)
            if len(self.distinct) > MAX_COUNTED_VALUES:
                self.distinct = None
        ends = pc.min_max(values).as_py()
        if ends["min"] is not None:
            self.least = ends["min"] if self.least is None else min(self.least, ends["min"])
            self.most = ends["max"] if self.most is None else max(self.most, ends["max"])

    def verdict(self, context: Context | None = None) -> Evidence:
        """What the column is: as it arrives, whatever else is known."""
        said = None if self.distinct is None else len(self.distinct)
        least, most = value_text(self.least) or "", value_text(self.most) or ""
        why = f"arrives as {self.kind.kind}" + (f", {least} to {most}" if least else "")
        return Evidence(
            self.kind.kind,
            self.kind.scale,
            38,
            "",
            "",
            self.rows,
            self.nulls,
            said,
            0,
            (),
            least,
            most,
            why,
            typed=self.kind,
        )


def _different(values: Any) -> tuple[Any, Any, Any]:
    """A number for each distinct value (-1 for null), how often each comes, and the first row that has it."""
    encoded = values.dictionary_encode()
    codes = numpy_view(pc.fill_null(encoded.indices, -1))
    counts = np.bincount(codes[codes >= 0], minlength=len(encoded.dictionary))
    first = np.zeros(len(counts) + 1, np.int64)  # the last place is that of null
    first[codes[::-1]] = np.arange(len(codes) - 1, -1, -1)
    return codes, counts, first[:-1]


def _none() -> npt.NDArray[np.bool_]:
    return np.zeros(0, np.bool_)


@dataclass(slots=True)
class _Facts:
    """What is known of different texts, each looked at once: whether it is a word for nothing, blank, a code with leading zeros; which shapes it has."""

    labels: LabelDictionary = field(default_factory=LabelDictionary)
    counts: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    """How often each comes; and the first row that has it, from 1."""
    first: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    texts: Any = None
    word: Mask = field(default_factory=_none)
    blank: Mask = field(default_factory=_none)
    zeros: Mask = field(default_factory=_none)
    fits: dict[str, Mask] = field(default_factory=dict)
    money: set[str] = field(default_factory=set)
    offsets: set[str] = field(default_factory=set)
    length: int = 0
    decimals: dict[str, int] = field(default_factory=lambda: {".": 0, ",": 0})
    """The most digits behind each mark, and before it."""
    whole: dict[str, int] = field(default_factory=lambda: {".": 0, ",": 0})

    def __len__(self) -> int:
        return 0 if self.labels.values is None else len(self.labels.values)

    def counted(self, different: Any, counts: Any, rows: Any) -> Any:
        """The places of some texts among all that are known, which are counted; `rows` are the first that have them."""
        places = self.labels.numbers(different)
        more = np.zeros(len(self) - len(self.counts), np.int64)
        self.counts, self.first = np.append(self.counts, more), np.append(self.first, more)
        self.counts[places] += counts
        self.first[places] = np.where(self.first[places] > 0, self.first[places], rows)
        return places

    def look(self, shapes: Sequence[str]) -> None:
        """Look at those that are new, for these shapes."""
        fresh = self.labels.values.slice(len(self.word))
        if not len(fresh) and self.texts is not None:
            return
        texts, before = pc.utf8_trim(fresh, SPACES), len(self.word)
        self.texts = texts if self.texts is None else pa.concat_arrays([self.texts, texts])
        self.word = np.append(self.word, to_mask(pc.is_in(texts, value_set=pa.array(NULL_WORDS))))
        self.blank = np.append(self.blank, to_mask(pc.equal(texts, "")))
        self.zeros = np.append(self.zeros, to_mask(pc.match_substring_regex(texts, _LEADING_ZERO)))
        digits = pc.any(pc.match_substring_regex(texts, "[0-9]")).as_py()
        dates = digits and pc.any(pc.match_substring_regex(texts, MAYBE_DATE)).as_py()
        none = np.zeros(len(texts), np.bool_)
        for name in shapes:
            possible = dates if name in DATED else digits or name in WORDS
            if possible or name in self.fits:
                fits = to_mask(pc.match_substring_regex(texts, SHAPES[name])) if possible else none
                self.fits[name] = np.append(self.fits.get(name, np.zeros(before, np.bool_)), fits)
        marks = pc.drop_null(pc.struct_field(pc.extract_regex(texts, f"(?P<mark>{MONEY_MARK})"), 0)).unique()
        self.money |= set(marks.to_pylist())
        if dates and MOMENT_OFFSET in shapes:
            offsets = pc.struct_field(pc.extract_regex(texts, r"(?P<offset>[+-][0-9]{2}:?[0-9]{2})$"), 0)
            self.offsets |= set(pc.drop_null(offsets).unique().to_pylist()[:9])
        self.length = max(self.length, pc.max(pc.utf8_length(texts)).as_py() or 0)
        if not digits:
            return
        digits = pc.utf8_length(pc.replace_substring_regex(texts, "[^0-9]+", ""))
        for mark in self.decimals:
            ends = pc.struct_field(pc.extract_regex(texts, rf"[{mark}](?P<decimals>[0-9]+)[^0-9]*$"), 0)
            after = pc.fill_null(pc.utf8_length(ends), 0)
            self.decimals[mark] = max(self.decimals[mark], pc.max(after).as_py() or 0)
            self.whole[mark] = max(self.whole[mark], pc.max(pc.subtract(digits, after)).as_py() or 0)


@dataclass(slots=True)
class TypeInferrer:
    """Sees all batches of one column and then says what it is."""

    rows: int = 0
    nulls: int = 0
    zeros: int = 0
    decimals: dict[str, int] = field(default_factory=lambda: {".": 0, ",": 0})
    """The most digits behind each mark, and before it."""
    whole: dict[str, int] = field(default_factory=lambda: {".": 0, ",": 0})
    offsets: set[str] = field(default_factory=set)
    length: int = 0
    repeats: bool = True
    stopped: int = 0
    blanks: int = 0
    null_words: dict[str, int] = field(default_factory=dict)
    money: set[str] = field(default_factory=set)
    shapes: dict[str, Shape] = field(default_factory=lambda: {name: Shape() for name in SHAPES})
    facts: _Facts = field(default_factory=lambda: _Facts())
    counting: bool = True
    """Whether all values so far are counted in `facts`."""

    def _settled(self) -> bool:
        """Whether it stays text whatever comes."""
        return self.zeros > ENOUGH_ZEROS or (self.rows > TEXT_STUDIED and not self._alive())

    def see(self, values: Any) -> None:
        """Take in the next batch of text values."""
        if self._settled():
            self.stopped = self.stopped or self.rows
            self._count(values)
            return
        values, cut = dictionary_decode(values), STUDIED - self.rows
        if 0 < cut < len(values):  # the first rows are looked at by pattern, the rest of the batch more quickly
            self.see(values.slice(0, cut))
            self.see(values.slice(cut))
            return
        known = plain_numbers(values) if self.rows >= STUDIED and not self.repeats else None
        if known is not None and self._take_plain(values, known):
            return
        codes, counts, first = _different(values)
        different = values.take(from_numpy(first))
        if not self.rows and len(different) > 2 * SAMPLED_VALUES:
            self._rule_out(values)
        self._study(values, different, counts, first, codes)

    def _count(self, values: Any) -> None:
        self.rows += len(values)
        self.nulls += values.null_count

    def _alive(self) -> list[tuple[str, Shape]]:
        return [(name, shape) for name, shape in self.shapes.items() if shape.alive]

    def _take_plain(self, values: Any, numbers: Numbers) -> bool:
        """A batch of plain numbers, by their kinds; False where the first values are still to be shown that have not a shape."""
        present, alive = len(values) - values.null_count, self._alive()
        fits = {name: numbers.count(PLAIN[name](numbers)) if name in PLAIN else 0 for name, _ in alive}
        if any(fits[name] < present and len(shape.samples) < MAX_SAMPLES for name, shape in alive):
            return False
        self._count(values)
        self.length = max(self.length, numbers.longest)
        for mark, kind in ((".", Mark.DOT), (",", Mark.COMMA)):
            self.decimals[mark] = max(self.decimals[mark], numbers.decimals(kind))
            self.whole[mark] = max(self.whole[mark], numbers.wholes)
        self.counting = False
        for name, shape in alive:
            self._fit(shape, fits[name])
        return True

    def _fit(self, shape: Shape, fits: int) -> None:
        """So many values more have a shape; when too few have it, it is given up."""
        shape.fits += fits
        present = self.rows - self.nulls
        if present > 200 and shape.fits < 0.9 * (present - self.blanks - sum(self.null_words.values())):
            shape.alive = False

    def _study(self, values: Any, different: Any, counts: Any, first: Any, codes: Any) -> None:
        """A batch by its distinct values: which shapes they have, and how often. `codes` says which of them each row has."""
        before = self.rows
        self._count(values)
        self.repeats = len(counts) <= SMALL_DICTIONARY
        self.counting = self.counting and len(self.facts) + len(different) <= MAX_COUNTED_VALUES
        facts = self.facts if self.counting else _Facts()
        at = facts.counted(different, counts, first + before + 1)
        alive = self._alive()
        if not alive:
            return
        facts.look([name for name, _ in alive])
        self.money |= facts.money if len(self.money) < 9 else set()
        for place in np.flatnonzero(facts.word[at]):
            word = facts.texts[int(at[place])].as_py()
            self.null_words[word] = self.null_words.get(word, 0) + int(counts[place])
        self.blanks += int(counts[facts.blank[at]].sum())
        self.zeros += int(counts[facts.zeros[at]].sum())
        self.length = max(self.length, facts.length)
        self.decimals = {mark: max(count, facts.decimals[mark]) for mark, count in self.decimals.items()}
        self.whole = {mark: max(count, facts.whole[mark]) for mark, count in self.whole.items()}
        self.offsets |= facts.offsets
        nothing = facts.word[at] | facts.blank[at]
        for name, shape in alive:
            if name not in facts.fits:
                self._fit(shape, 0)
                continue
            fits = facts.fits[name][at]
            misfit = ~fits & ~nothing
            if len(shape.samples) < MAX_SAMPLES and misfit.any():
                for row in np.flatnonzero(np.append(misfit, False)[codes])[
                    :3
                ].tolist():  # the last is for null, which is -1
                    shape.samples.append((before + row + 1, facts.texts[int(at[codes[row]])].as_py()))
            self._fit(shape, int(counts[fits].sum()))

    def _rule_out(self, values: Any) -> None:
        """Shapes that not even half of some values have, picked at random from the first batch, would not stay: they are not looked for in the others."""
        rows = np.arange(SAMPLED_VALUES) * 2_654_435_761 % len(values)
        texts = pc.utf8_trim(pc.drop_null(values.take(from_numpy(rows))), SPACES)
        texts = texts.filter(pc.invert(pc.is_in(texts, value_set=pa.array(["", *NULL_WORDS]))))
        if len(texts) < SAMPLED_VALUES // 4:
            return
        for name, shape in self._alive():
            shape.alive = 2 * pc.match_substring_regex(texts, SHAPES[name]).true_count >= len(texts)

    def known(self) -> dict[str, tuple[int, int]]:
        """The distinct values that were counted, with how often each came and the first row that has it: all, or those of the first rows."""
        values = self.facts.labels.values.to_pylist() if len(self.facts) else []
        return dict(zip(values, zip(self.facts.counts.tolist(), self.facts.first.tolist(), strict=True), strict=True))

    def verdict(self, context: Context | None = None) -> Evidence:
        """What the column is; `context` says what else is known of the file."""
        return judged(self, context or Context())
