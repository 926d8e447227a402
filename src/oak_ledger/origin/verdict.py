"""What a column of text is, from what was seen of its values: each decision with its reason, and what stays open."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from oak_ledger.formula.lexer import quote_literal
from oak_ledger.functions.casts import LONG_DIGITS
from oak_ledger.functions.registry import ComputeError
from oak_ledger.functions.templates import template
from oak_ledger.origin.evidence import ENOUGH_ZEROS, MISFIT_SHARE, SPACES, Context, Evidence, Shape
from oak_ledger.origin.shapes import DATES, MOMENT_OFFSET, MOMENT_Z, SHAPES
from oak_ledger.types import MAX_DIGITS

# Shapes of numbers with the decimal mark, the mark between thousands, and whether a minus may be elsewhere than before.
_MARKS: Mapping[str, tuple[str, str, bool]] = {
    "point": (".", "", False), "comma": (",", "", False), "comma thousands": (".", ",", False), "point thousands": (",", ".", False),
    "space thousands, comma": (",", " ", False), "space thousands, point": (".", " ", False), "quote thousands, point": (".", "'", False),
    "quote thousands, comma": (",", "'", False), "accounting, point": (".", ",", True), "accounting, comma": (",", ".", True),
}  # fmt: skip
_SAID = {".": "a decimal point", ",": "a decimal comma"}
_THOUSANDS = {",": "commas", ".": "points", " ": "spaces", "'": "apostrophes"}
EXACT_DECIMALS, FEW_DECIMALS = 19, 9
SHORT_DIGITS = 18
NEARLY = 0.9
PLAUSIBLE_EXPONENT = 30


class Seen(Protocol):
    """What was seen of a column's values: how many rows, words for nothing, shapes and marks there are."""

    rows: int
    nulls: int
    blanks: int
    zeros: int
    length: int
    stopped: int
    counting: bool
    null_words: dict[str, int]
    money: set[str]
    offsets: set[str]
    decimals: dict[str, int]
    whole: dict[str, int]
    shapes: dict[str, Shape]

    def known(self) -> dict[str, tuple[int, int]]:
        """The distinct values that were counted, with how often each came and the first row that has it."""


def judged(seen: Seen, context: Context) -> Evidence:
    """The evidence of a column."""
    return _Verdict(seen, context).evidence()


class _Verdict:
    """What was seen of a column, while it is judged."""

    def __init__(self, seen: Seen, context: Context) -> None:
        self.seen, self.context = seen, context
        self.known = seen.known()
        self.distinct = self.known if seen.counting else None
        self.words = tuple(sorted(seen.null_words))
        self.present = seen.rows - seen.nulls - seen.blanks - sum(seen.null_words.values())

    def fits(self, name: str) -> bool:
        """Whether all values have a shape."""
        shape = self.seen.shapes[name]
        return shape.alive and shape.fits == self.present

    def evidence(self) -> Evidence:
        """What the column is."""
        seen = self.seen
        if not self.present:
            return self.made("text", why="no value at all", words=self.words)
        fitting = [
            name
            for name, shape in seen.shapes.items()
            if shape.alive
            and self.present - shape.fits <= MISFIT_SHARE * self.present
            and (seen.money or "money" not in name)
        ]
        chosen = ([name for name in fitting if self.fits(name)] or fitting or ["text"])[0]
        code = self.code(chosen)
        if code:
            return self.made("text", why=code, words=())
        if chosen == "text":
            return self.text()
        if chosen in ("comma", "point"):
            return self.marked(chosen)
        if chosen in _MARKS:
            return self.decimal(chosen)
        return self.numeric_evidence(chosen)

    def code(self, chosen: str) -> str:
        """Why values that look like numbers are codes; empty where they are none."""
        zeros = self.seen.zeros
        numeric = chosen in ("integer", "point", "comma", "point or comma", "exponent")
        if zeros > ENOUGH_ZEROS or (zeros and numeric):
            more = f"more than {ENOUGH_ZEROS:,}" if zeros > ENOUGH_ZEROS else f"{zeros:,}"
            return f"digits with leading zeros in {more} rows; a number would lose them"
        if not numeric:
            return ""
        texts = [text.strip(SPACES) for text in self.known]
        plus = [text for text in texts if text.startswith("+") and len(text) > LONG_DIGITS]
        if chosen == "integer" and 2 * len(plus) > len(texts):
            return f"long digits that begin with +, such as {plus[0]}: phone numbers, not numbers"
        if chosen == "exponent":
            odd = [text for text in texts if re.fullmatch(r"[0-9]+[eE][0-9]+", text)]
            written = [text for text in texts if re.search(r"[eE]", text)]
            wide = [text for text in written if abs(int(re.split("[eE]", text)[1])) > PLAUSIBLE_EXPONENT]
            if odd and (len(odd) == len(written) or wide):
                return f"codes such as {odd[0]}: as a number it would be {float(odd[0]):g}"
        digits = max(self.seen.whole.values())
        if digits > MAX_DIGITS and chosen != "exponent":
            return f"numbers of {digits} digits; more than {MAX_DIGITS} would not stay exact"
        return ""

    def text(self) -> Evidence:
        """Text, with what nearly all values are, if they are."""
        if self.distinct is None or self.seen.stopped:
            many = "text, many distinct values"
            first = f" in the first {self.seen.stopped:,} rows" if self.seen.stopped else ""
            return self.made("text", why=f"{many}{first}", words=())
        near = max(
            (
                (shape.fits, -at, name)
                for at, (name, shape) in enumerate(self.seen.shapes.items())
                if shape.alive and "money" not in name
            ),
            default=(0, 0, ""),
        )
        name = near[2]
        why = f"text, {len(self.distinct):,} distinct value{'s' * (len(self.distinct) != 1)}"
        if not name or near[0] < NEARLY * self.present or near[0] == self.present or name == "yes-no":
            return self.made("text", why=why, words=())
        others = [
            (count, text.strip(SPACES))
            for text, (count, _) in self.distinct.items()
            if not re.match(_python(SHAPES[name]), text.strip(SPACES)) and text.strip(SPACES) not in (*self.words, "")
        ]
        shown = ", ".join(f"{text} × {count:,}" for count, text in sorted(others, reverse=True)[:3])
        kind = {"integer": "integer", "yes-no": "boolean"}.get(
            name, "decimal" if name in _MARKS else "date" if name in DATES else "number"
        )
        what = {"integer": "whole numbers", "date": "dates"}.get(kind, "numbers")
        share = int(100 * near[0] / self.present)
        return self.made(
            "text", why=f"text: {share} % {what}; not: {shown}", words=(), nearly=kind if len(others) <= 3 else ""
        )

    def marked(self, chosen: str) -> Evidence:
        """Numbers with one mark, which may be one of decimals or of thousands."""
        mark, thousands = (",", "comma thousands") if chosen == "comma" else (".", "point thousands")
        if not self.fits(thousands) or not self.fits(chosen):
            return self.decimal(chosen, proves=mark)
        small = self.seen.shapes["integer"].fits > 0
        proven = self.context.decimal_mark
        if (
            chosen == "point"
        ):  # a point is what programs write; only a file with decimal commas would have points between thousands
            if proven == "," or (small and self.context.separator == ";" and not proven):
                return self.decimal(thousands)
            if proven == "." or self.context.separator != ";":
                return self.decimal(chosen)
        elif proven == ",":
            return self.decimal(chosen)
        elif proven == "." or small or self.context.separator == ",":
            return self.decimal(thousands)
        value = next(text.strip(SPACES) for text in self.known if mark in text)
        one, other = value.replace(mark, ""), value.replace(mark, ".")
        why = f"text until you decide: {value} may be {one} or {other}, and nothing in the file decides"
        return self.made("text", why=why, words=(), ambiguous=(value, one, other))

    def decimal(self, chosen: str, *, proves: str = "") -> Evidence:
        """Decimals, by their marks."""
        mark, thousands, accounting = _MARKS[chosen]
        places = self.seen.decimals[mark]
        if thousands and not proves and places:
            proves = mark
        why = f"decimals with {_SAID[mark]}, up to {places} place{'s' * (places != 1)}" if places else "whole numbers"
        if thousands and not accounting:
            why += f", and thousands marks: {_THOUSANDS[thousands]}"
        if accounting:
            why += ", negative ones in parentheses or with a minus behind"
        precision = self.precision(mark, places)
        kind = "decimal" if places or precision > SHORT_DIGITS else "integer"
        if places > FEW_DECIMALS:
            texts = [text.strip(SPACES).replace(mark, ".") for text in self.known]
            if all(_same_digits(text) for text in texts) and not thousands:
                kind = "number"
            elif places > EXACT_DECIMALS or self.seen.whole[mark] + places > MAX_DIGITS:
                why = f"numbers of up to {places} decimals, which would not stay exact"
                return self.made("text", why=why, words=())
        clean = _read_clean(mark, thousands, "", _typed(kind, precision, places)) if accounting else ""
        return self.made(
            kind,
            chosen,
            marks=mark,
            scale=places,
            why=why,
            words=self.words,
            thousands="" if accounting else thousands,
            clean=clean,
            proves=proves,
        )

    def precision(self, mark: str, places: int) -> int:
        """The digits of a decimal: 18 where they are enough, else as many as there can be."""
        return SHORT_DIGITS if self.seen.whole[mark] + places <= SHORT_DIGITS else MAX_DIGITS

    def numeric_evidence(self, chosen: str) -> Evidence:
        """Everything else."""
        plain = {
            "yes-no": ("boolean", "only yes and no"),
            "integer": ("integer", "whole numbers"),
            "exponent": ("number", "numbers with exponents"),
        }
        if chosen in plain:
            kind, why = plain[chosen]
            return self.made(kind, chosen, why=why, words=self.words)
        if chosen == "point or comma":
            places = max(self.seen.decimals.values())
            why = f"decimals with a decimal point in some rows and a decimal comma in others, up to {places} place{'s' * (places != 1)}"
            precision = max(self.precision(mark, places) for mark in ".,")
            kind = _typed("decimal", precision, places)
            clean = f"CAST(REPLACE(BTRIM(VALUE), ',', '.') AS {kind})"
            return self.made("decimal", chosen, scale=places, marks=".,", why=why, words=self.words, clean=clean)
        if chosen == "percent":
            clean = "CAST(REPLACE(BTRIM(VALUE, ' %'), ',', '.') AS NUMBER) / 100"
            return self.made("number", chosen, why="percentages", words=self.words, clean=clean)
        if chosen.startswith("money"):
            return self.money(chosen)
        if chosen in (MOMENT_Z, MOMENT_OFFSET):
            return self.zoned(chosen)
        return self.dated(chosen)

    def money(self, chosen: str) -> Evidence:
        """Amounts with currencies."""
        mark = "," if chosen.endswith("comma") else "."
        currencies = tuple(sorted(self.seen.money))
        why = f"amounts of money with {', '.join(currencies)}, decimal mark {mark}"
        if len(currencies) > 1:
            why += "; a total would add up different currencies, so make sure"
        texts = list(self.known)
        thousands = next(
            (
                one
                for one in ("'", " ")
                if any(re.search(rf"[0-9]{one}[0-9]{{3}}", text.replace("\u2019", "'")) for text in texts)
            ),
            "." if mark == "," else ",",
        )
        clean = _read_clean(mark, thousands, " ".join(currencies), _typed("decimal", self.precision(mark, 2), 2))
        return self.made(
            "decimal", chosen, marks=mark, scale=2, why=why, words=self.words, money=currencies, clean=clean
        )

    def zoned(self, chosen: str) -> Evidence:
        """Moments with a time zone: kept as they are written, where all have one."""
        if chosen == MOMENT_Z:
            clean = "CAST(BTRIM(VALUE, ' Z') AS TIMESTAMP)"
            return self.made(
                "timestamp", chosen, why="moments with Z, kept in universal time", words=self.words, clean=clean
            )
        offsets = sorted(self.seen.offsets)
        if len(offsets) > 1:
            why = f"text: moments with different offsets, {', '.join(offsets[:3])}; they cannot be compared as written"
            return self.made("text", why=why, words=())
        clean = f"CAST(REPLACE(BTRIM(VALUE), {quote_literal(offsets[0])}, '') AS TIMESTAMP)"
        return self.made(
            "timestamp",
            chosen,
            why=f"moments with the offset {offsets[0]}, kept in that local time",
            words=self.words,
            clean=clean,
        )

    def dated(self, chosen: str) -> Evidence:
        """Dates and moments, by their template."""
        why = f"dates written {chosen}"
        turned = chosen.replace("DD", "?").replace("MM", "DD").replace("?", "MM")
        other = ""
        if turned != chosen and turned in self.seen.shapes:
            if self.seen.shapes[turned].alive and self.seen.shapes[turned].fits == self.seen.shapes[chosen].fits:
                why += f"; {'month' if chosen.startswith('DD') else 'day'} first would fit as well: no row shows which, so make sure"
                other = turned
            else:
                why += "; rows with a day above 12 decide it"
        if "YYYY" not in chosen:
            why += "; years 70 to 99 are taken for 1970 to 1999, others for 2000 to 2069"
        kind = "timestamp" if "HH" in chosen else "date"
        given = "" if chosen.startswith("YYYY-MM-DD") else chosen
        more = self.impossible(chosen) if kind == "date" else {}
        return self.made(kind, chosen, template=given, why=why, words=self.words, more=more, other_order=other)

    def impossible(self, chosen: str) -> dict[str, tuple[int, int]]:
        """Values of the right shape that are not a valid date."""
        read, wrong = template(chosen), {}
        for text, seen in (self.distinct or {}).items():
            if re.match(SHAPES[chosen], text.strip(SPACES)):
                try:
                    read.read(text.strip(SPACES))
                except ComputeError:
                    wrong[text] = seen
        return wrong

    def made(
        self,
        kind: str,
        shape: str = "",
        *,
        words: Sequence[str],
        more: Mapping[str, tuple[int, int]] | None = None,
        template: str = "",
        marks: str = "",
        scale: int = 0,
        **keys: Any,
    ) -> Evidence:
        """The evidence as it is reported."""
        seen, more = self.seen, more or {}
        own = seen.shapes[shape] if shape else Shape(fits=seen.rows)
        worded = sum(seen.null_words.get(word, 0) for word in words) + (seen.blanks if shape else 0)
        misfits = seen.rows - seen.nulls - worded - own.fits if shape else 0
        samples = own.samples[:3] if misfits else []
        samples += [(row, text) for text, (_, row) in more.items()]
        misfits += sum(count for count, _ in more.values())
        known = None if seen.stopped else self.distinct  # of all rows, or none
        values = sorted(known or (), key=_in_order if kind in ("integer", "decimal", "number") else None)
        return Evidence(
            kind, scale, max(self.precision(mark, scale) for mark in (marks or ".,")), template, marks, seen.rows, seen.nulls + worded, None if known is None else len(known), misfits,
            tuple(sorted(samples)[:3]), values[0] if values else "", values[-1] if values else "", null_words=tuple(words), **keys,
        )  # fmt: skip


def _python(pattern: str) -> str:
    """A pattern of numbers or dates for Python."""
    return pattern.replace(r"\p{Sc}", "[€$£¥]").replace("(?i:", "(?i:")


def _in_order(text: str) -> float:
    """A number as it is written, for the order of several."""
    bare = re.sub(r"[^0-9.,eE-]", "", text)
    try:
        return float(bare.replace(",", ".") if bare.count(",") == 1 and "." not in bare else bare.replace(",", ""))
    except ValueError:
        return 0.0


def _same_digits(text: str) -> bool:
    """Whether a float keeps a number's digits."""
    bare = text.lstrip("+")
    try:
        return float(bare) == 0 or repr(float(bare)).rstrip("0") == (bare.rstrip("0") if "." in bare else f"{bare}.")
    except ValueError:
        return False


def _typed(kind: str, precision: int, scale: int) -> str:
    """A type as a formula has it."""
    return f"DECIMAL({precision},{scale})" if kind == "decimal" else kind.upper()


def _read_clean(mark: str, thousands: str, currencies: str, kind: str) -> str:
    """The formula that reads numbers with marks."""
    more = f", {quote_literal(currencies)}" if currencies else ""
    return f"CAST(PLAIN_NUMBER(VALUE, {quote_literal(mark)}, {quote_literal(thousands)}{more}) AS {kind})"
