"""What type a column of text has, judged from its values, with the evidence."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, dictionary_decode, from_numpy, numpy_view, to_mask
from oak_ledger.columnar.texts import value_text
from oak_ledger.engine.aggregate.groups import LabelDictionary
from oak_ledger.functions.registry import ComputeError
from oak_ledger.functions.templates import template
from oak_ledger.origin.number_shapes import Numbers, plain_numbers
from oak_ledger.origin.shapes import MONEY_MARK, PLAIN, SHAPES
from oak_ledger.types import Type

NULL_WORDS = ("NA", "N/A", "n/a", "na", "NULL", "null", "None", "nan", "NaN", "#N/A", "-", "--", "?", "unknown")
MISFIT_SHARE = 0.005
_LEADING_ZERO = r"^[+-]?0[0-9]+$"
KNOWN = 50_000  # so many different values are counted, and need no second look
STUDIED = 4_000  # rows that are looked at by pattern in any case
SPACES = " \t\n\r\x0b\x0c\u00a0"  # what reading leaves out around a value
FEW = 1_500  # a batch with so few different values is judged by these at once
PICKED = 1_000  # values by which shapes are ruled out where the first batch has very many different ones
TEXT_STUDIED = 500_000  # rows after which the values of a text are no longer counted
ENOUGH_ZEROS = 1_000
SHOWN = 3  # values that do not fit


@dataclass(frozen=True, slots=True)
class Evidence:
    """What a column was found to be.

    `kind` is a type of the language with `scale` and `precision` (for decimals); `template` a date template, `marks` how decimals are written
    (`.`, `,` or `., `); `misfits` counts the values that do not fit and `samples` has the first as (row from 1, value);
    `why` says what decided, in a sentence; `distinct` counts different values (None where too many to keep).
    """

    kind: str
    scale: int
    precision: int
    template: str
    marks: str
    rows: int
    nulls: int
    distinct: int | None
    misfits: int
    samples: tuple[tuple[int, str], ...]
    least: str
    most: str
    why: str
    null_words: tuple[str, ...] = ()
    money: tuple[str, ...] = ()
    typed: Type | None = None
    """The type that the column arrives in, where it is not text to be judged."""


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
            if len(self.distinct) > KNOWN:
                self.distinct = None
        ends = pc.min_max(values).as_py()
        if ends["min"] is not None:
            self.least = ends["min"] if self.least is None else min(self.least, ends["min"])
            self.most = ends["max"] if self.most is None else max(self.most, ends["max"])

    def verdict(self) -> Evidence:
        """What the column is: as it arrives."""
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


@dataclass(slots=True)
class _Shape:
    fits: int = 0
    alive: bool = True
    samples: list[tuple[int, str]] = field(default_factory=list)


def _different(values: Any) -> tuple[Any, Any, Any]:
    """A number for each different value (-1 for null), how often each comes, and the first row that has it."""
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
    length: int = 0
    decimals: int = 0

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
        texts = pc.utf8_trim(fresh, SPACES)
        self.texts = texts if self.texts is None else pa.concat_arrays([self.texts, texts])
        self.word = np.append(self.word, to_mask(pc.is_in(texts, value_set=pa.array(NULL_WORDS))))
        self.blank = np.append(self.blank, to_mask(pc.equal(texts, "")))
        self.zeros = np.append(self.zeros, to_mask(pc.match_substring_regex(texts, _LEADING_ZERO)))
        for name in shapes:
            fits = to_mask(pc.match_substring_regex(texts, SHAPES[name]))
            self.fits[name] = np.append(self.fits.get(name, _none()), fits)
        marks = pc.drop_null(pc.struct_field(pc.extract_regex(texts, f"(?P<mark>{MONEY_MARK})"), 0)).unique()
        self.money |= set(marks.to_pylist())
        ends = pc.extract_regex(texts, r"[.,](?P<decimals>[0-9]+)$")
        self.length = max(self.length, pc.max(pc.utf8_length(texts)).as_py() or 0)
        self.decimals = max(self.decimals, pc.max(pc.utf8_length(pc.struct_field(ends, 0))).as_py() or 0)


@dataclass(slots=True)
class TypeInferrer:
    """Sees all batches of one column and then says what it is."""

    rows: int = 0
    nulls: int = 0
    zeros: int = 0
    decimals: int = 0
    length: int = 0
    repeats: bool = True
    stopped: int = 0
    blanks: int = 0
    null_words: dict[str, int] = field(default_factory=dict)
    money: set[str] = field(default_factory=set)
    shapes: dict[str, _Shape] = field(default_factory=lambda: {name: _Shape() for name in SHAPES})
    facts: _Facts = field(default_factory=lambda: _Facts())
    counting: bool = True
    """Whether all values so far are counted in `facts`."""
    distinct: dict[str, tuple[int, int]] | None = None
    """Each different value with how often it occurs and the first row that has it; None where too many to keep."""

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
        if not self.rows and len(different) > 2 * PICKED:
            self._rule_out(values)
        self._study(values, different, counts, first, codes)

    def _count(self, values: Any) -> None:
        self.rows += len(values)
        self.nulls += values.null_count

    def _alive(self) -> list[tuple[str, _Shape]]:
        return [(name, shape) for name, shape in self.shapes.items() if shape.alive]

    def _take_plain(self, values: Any, found: Numbers) -> bool:
        """A batch of plain numbers, by their kinds; False where the first values are still to be shown that have not a shape."""
        present, alive = len(values) - values.null_count, self._alive()
        fits = {name: found.count(PLAIN[name](found)) if name in PLAIN else 0 for name, _ in alive}
        if any(fits[name] < present and len(shape.samples) < SHOWN for name, shape in alive):
            return False
        self._count(values)
        self.decimals, self.length = max(self.decimals, found.decimals), max(self.length, found.longest)
        self.counting = False
        for name, shape in alive:
            self._fit(shape, fits[name])
        return True

    def _fit(self, shape: _Shape, fits: int) -> None:
        """So many values more have a shape; when too few have it, it is no longer looked for."""
        shape.fits += fits
        present = self.rows - self.nulls
        if present > 200 and shape.fits < 0.9 * (present - self.blanks - sum(self.null_words.values())):
            shape.alive = False

    def _study(self, values: Any, different: Any, counts: Any, first: Any, codes: Any) -> None:
        """A batch by its different values: which shapes they have, and how often. `codes` says which of them each row has."""
        before = self.rows
        self._count(values)
        self.repeats = len(counts) <= FEW
        self.counting = self.counting and len(self.facts) + len(different) <= KNOWN
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
        self.length, self.decimals = max(self.length, facts.length), max(self.decimals, facts.decimals)
        nothing = facts.word[at] | facts.blank[at]
        for name, shape in alive:
            fits = facts.fits[name][at]
            misfit = ~fits & ~nothing
            if len(shape.samples) < SHOWN and misfit.any():
                for row in np.flatnonzero(np.append(misfit, False)[codes])[
                    :3
                ].tolist():  # the last is for null, which is -1
                    shape.samples.append((before + row + 1, facts.texts[int(at[codes[row]])].as_py()))
            self._fit(shape, int(counts[fits].sum()))

    def _rule_out(self, values: Any) -> None:
        """Shapes that not even half of some values have, picked at random from the first batch, would not stay: they are not looked for in the others."""
        rows = np.arange(PICKED) * 2_654_435_761 % len(values)
        texts = pc.utf8_trim(pc.drop_null(values.take(from_numpy(rows))), SPACES)
        texts = texts.filter(pc.invert(pc.is_in(texts, value_set=pa.array(["", *NULL_WORDS]))))
        if len(texts) < PICKED // 4:
            return
        for name, shape in self._alive():
            shape.alive = 2 * pc.match_substring_regex(texts, SHAPES[name]).true_count >= len(texts)

    def verdict(self) -> Evidence:
        """What the column is."""
        if self.counting:
            known = self.facts.labels.values.to_pylist() if len(self.facts) else []
            seen = zip(self.facts.counts.tolist(), self.facts.first.tolist(), strict=True)
            self.distinct = dict(zip(known, seen, strict=True))
        words = tuple(sorted(self.null_words))
        present = self.rows - self.nulls - self.blanks - sum(self.null_words.values())
        fitting = [
            name
            for name, shape in self.shapes.items()
            if shape.alive
            and present
            and (present - shape.fits) <= MISFIT_SHARE * present
            and (self.money or "money" not in name)
        ]
        exact = [name for name in fitting if self.shapes[name].fits == present]
        chosen = (exact or fitting or ["text"])[0]
        if not present:
            return self._evidence("text", why="no value at all", words=words)
        if self.zeros > ENOUGH_ZEROS or (
            self.zeros and chosen in ("integer", "point", "comma", "point or comma", "exponent")
        ):
            more = "more than " if self.zeros > ENOUGH_ZEROS else ""
            why = f"digits with leading zeros in {more}{min(self.zeros, ENOUGH_ZEROS) if more else self.zeros:,} rows; a number would lose them"
            return self._evidence("text", why=why, words=())
        if chosen in ("comma thousands", "point thousands") and "point or comma" in exact:
            chosen = "point or comma"
        return self._told(chosen, present, words)

    def _told(self, chosen: str, present: int, words: tuple[str, ...]) -> Evidence:
        if chosen == "text":
            return self._evidence("text", why=self._text_reason(), words=())
        if chosen == "yes-no":
            return self._evidence("boolean", chosen, why="only yes and no", words=words)
        if chosen == "integer":
            return self._evidence("integer", chosen, why="whole numbers", words=words)
        if chosen == "exponent":
            return self._evidence("number", chosen, why="numbers with exponents", words=words)
        marks = {"point": ".", "comma": ",", "point or comma": ".,", "comma thousands": ".", "point thousands": ","}
        if chosen in marks:
            said = {
                ".": "a decimal point",
                ",": "a decimal comma",
                ".,": "a decimal point in some rows and a decimal comma in others",
            }
            why = f"decimals with {said[marks[chosen]]}, up to {self.decimals} place{'s' * (self.decimals != 1)}"
            if chosen.endswith("thousands"):
                why += ", and thousands marks"
            return self._evidence("decimal", chosen, marks=marks[chosen], scale=self.decimals, why=why, words=words)
        if chosen == "percent":
            return self._evidence("number", chosen, why="percentages", words=words)
        if chosen.startswith("money"):
            mark = "," if chosen.endswith("comma") else "."
            why = f"amounts of money with {', '.join(sorted(self.money))}, decimal mark {mark}"
            return self._evidence(
                "decimal", chosen, marks=mark, scale=2, why=why, words=words, money=tuple(sorted(self.money))
            )
        return self._dated(chosen, words)

    def _text_reason(self) -> str:
        if self.distinct is None:
            return "text, many different values"
        first = f" in the first {self.stopped:,} rows" if self.stopped else ""
        return f"text, {len(self.distinct):,} different value{'s' * (len(self.distinct) != 1)}{first}"

    def _dated(self, chosen: str, words: tuple[str, ...]) -> Evidence:
        why = f"dates written {chosen}"
        if chosen in ("DD/MM/YYYY", "MM/DD/YYYY"):
            other = "MM/DD/YYYY" if chosen == "DD/MM/YYYY" else "DD/MM/YYYY"
            if self.shapes[other].alive and self.shapes[other].fits == self.shapes[chosen].fits:
                why += "; month first would fit as well: no row can tell, so make sure"
            else:
                why += "; rows with a day above 12 decide it"
        kind = "timestamp" if "HH24" in chosen else "date"
        given = "" if chosen.startswith("YYYY-MM-DD") else chosen
        made = self._evidence(kind, chosen, template=given, why=why, words=words)
        impossible = self._impossible(chosen) if kind == "date" else {}
        if not impossible:
            return made
        return self._evidence(kind, chosen, template=given, why=why, words=words, more=impossible)

    def _impossible(self, chosen: str) -> dict[str, tuple[int, int]]:
        """Values of the right shape that are no day of the calendar."""
        read, wrong = template(chosen), {}
        for text, seen in (self.distinct or {}).items():
            if re.match(SHAPES[chosen], text.strip(SPACES)):
                try:
                    read.read(text)
                except ComputeError:
                    wrong[text] = seen
        return wrong

    def _evidence(
        self,
        kind: str,
        shape: str = "",
        *,
        why: str,
        words: Sequence[str],
        scale: int = 0,
        template: str = "",
        marks: str = "",
        more: Mapping[str, tuple[int, int]] = MappingProxyType({}),
        money: tuple[str, ...] = (),
    ) -> Evidence:
        seen = self.shapes[shape] if shape else _Shape(fits=self.rows)
        worded = sum(self.null_words.get(word, 0) for word in words) + (self.blanks if shape else 0)
        misfits = self.rows - self.nulls - worded - seen.fits if shape else 0
        samples = seen.samples[:3] if misfits else []
        samples += [(row, text) for text, (_, row) in more.items()]
        misfits += sum(count for count, _ in more.values())
        known = None if self.stopped else self.distinct  # of all rows, or none
        values = sorted(known or ())
        return Evidence(
            kind,
            scale,
            18 if self.length <= 18 else 38,
            template,
            marks,
            self.rows,
            self.nulls + worded,
            None if known is None else len(known),
            misfits,
            tuple(sorted(samples)[:3]),
            values[0] if values else "",
            values[-1] if values else "",
            why,
            tuple(words),
            money=money,
        )
