"""What is said of a column: its type, and why that is believed."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from oak_ledger.types import Type

NULL_WORDS = ("NA", "N/A", "n/a", "na", "NULL", "null", "None", "nan", "NaN", "#N/A", "-", "--", "?", "unknown")
MISFIT_SHARE = 0.005
SPACES = " \t\n\r\x0b\x0c\u00a0\u2009\u202f"  # what reading leaves out around a value
ENOUGH_ZEROS = 1_000


@dataclass(frozen=True, slots=True)
class Evidence:
    """What a column was found to be.

    `kind` is a type of the language with `scale` and `precision` (for decimals); `template` a date template, `marks` how decimals are written
    (`.`, `,` or `., `); `misfits` counts the values that do not fit and `samples` has the first as (row from 1, value);
    `why` says what decided, in a sentence; `distinct` counts distinct values (None where too many to keep).
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
    thousands: str = ""
    """The mark between thousands."""
    clean: str = ""
    """A formula over VALUE that reads the values, where a type alone does not."""
    ambiguous: tuple[str, str, str] | None = None
    """Where a mark may be one of decimals or of thousands: such a value, and its two readings."""
    nearly: str = ""
    """The type that nearly all values have, where it stayed text for the others."""
    proves: str = ""
    """The decimal mark that the column proves for the file."""
    other_order: str = ""
    """A date template with day and month the other way round, where no row shows which is which."""


def as_text(evidence: Evidence) -> Evidence:
    """What is said of values that are texts where they come from, and read as something else: they stay texts."""
    if evidence.kind == "text":
        return evidence
    why = f"cells of text, which read as {evidence.why}"
    return replace(
        evidence,
        kind="text",
        why=why,
        template="",
        marks="",
        thousands="",
        clean="",
        null_words=(),
        misfits=0,
        samples=(),
        nearly=evidence.kind,
        money=(),
    )


@dataclass(frozen=True, slots=True)
class Context:
    """What is known of the file that a column is in: the separator of its values, and the decimal mark that other columns prove."""

    separator: str = ""
    decimal_mark: str = ""


@dataclass(slots=True)
class Shape:
    """How many values have a shape, whether it is still looked for, and the first values that have it not, as (row from 1, value)."""

    fits: int = 0
    alive: bool = True
    samples: list[tuple[int, str]] = field(default_factory=list)
