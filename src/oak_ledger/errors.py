"""What can be found wrong, said one way everywhere: a finding, and the one error that carries findings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True, slots=True)
class Place:
    """Where something is.

    `file` is the file, or what else is read ("the formula"); `kind` and `name` are the entry in it ("field", "Net"),
    `file_line` a line of the file, counted from 1, where that is all that is known. `text` is the formula or line
    concerned, and `start` and `end` are offsets into it in characters (`end` exclusive). An empty `text` means that
    there is no finer place.
    """

    file: str = ""
    kind: str = ""
    name: str = ""
    file_line: int = 0
    text: str = ""
    start: int = 0
    end: int = 0

    @property
    def where(self) -> str:
        """The file and the entry in words; a table of which there is one is written in brackets."""
        entry = (
            f"{self.kind} {self.name!r}" if self.kind and self.name else f"[{self.kind}]" if self.kind else self.name
        )
        line = f"line {self.file_line}" if self.file_line else ""
        return ", ".join(part for part in (self.file, entry, line) if part)

    @property
    def piece(self) -> str:
        """The piece of the text that is concerned, a name without its quotes."""
        return self.text[self.start : self.end].strip('"')

    def in_text(self, text: str, start: int, end: int) -> Place:
        """A piece of a text that is there."""
        return replace(self, text=text, start=start, end=end)

    @property
    def line(self) -> int:
        """The line in `text`, counted from 1."""
        return self.text.count("\n", 0, self.start) + 1

    @property
    def column(self) -> int:
        """The column in its line, counted from 1, in characters."""
        return self.start - (self.text.rfind("\n", 0, self.start) + 1) + 1

    @property
    def length(self) -> int:
        """How many characters are concerned; at least one."""
        return max(1, self.end - self.start)

    def pointed(self) -> list[str]:
        """The line concerned and a second one with carets under the piece; nothing when there is no text."""
        if not self.text:
            return []
        first = self.text.rfind("\n", 0, self.start) + 1
        last = self.text.find("\n", self.start)
        line = self.text[first : last if last >= 0 else len(self.text)]
        offset = self.start - first
        if len(line) > 160:  # a long formula: show the neighbourhood
            cut = max(0, offset - 60)
            line, offset = ("…" if cut else "") + line[cut : cut + 120], offset - cut + (1 if cut else 0)
        carets = min(self.length, max(1, len(line) - offset))
        return [line.replace("\t", " "), " " * offset + "^" * carets]


NOWHERE = Place()


@dataclass(frozen=True, slots=True)
class Finding:
    """Something a check found: a code, how bad, where, one plain sentence, and what to do about it.

    `fixed` is the whole repaired formula where one can be made, `sure` whether it means what was written. `numbers` holds the figures behind the
    sentence (rows lost, what a total says and what it should say), by name.
    """

    code: str
    message: str
    place: Place = NOWHERE
    hint: str = ""
    severity: Severity = "error"
    fixed: str | None = None
    numbers: dict[str, Any] = field(default_factory=dict)
    sure: bool = False

    def at(self, place: Place) -> Finding:
        """The same finding, in another file or entry; its piece of a text stays."""
        own = self.place
        return replace(self, place=place.in_text(own.text, own.start, own.end))

    def lines(self) -> list[str]:
        """The finding as plain lines: the sentence with its place, the text with carets, the hint."""
        place = self.place
        spot = place.where
        if place.text:
            spot += f"{', ' if spot else ''}line {place.line}, column {place.column}"
        head = f"{self.severity} {self.code}: {self.message}" + (f" ({spot})" if spot else "")
        lines = [head, *("    " + line for line in place.pointed())]
        if self.hint:
            lines.append(f"  hint: {self.hint}")
        return lines

    def as_json(self) -> dict[str, Any]:
        """Plain values for a script: codes, the place in lines and columns, the numbers."""
        place = self.place
        span = (place.line, place.column, place.length) if place.text else (None, None, None)
        return {
            "code": self.code,
            "severity": self.severity,
            "message": self.message,
            "hint": self.hint,
            "where": place.where,
            "file": place.file or None,
            "kind": place.kind or None,
            "name": place.name or None,
            "file_line": place.file_line or None,
            "text": place.text or None,
            **dict(zip(("line", "column", "length"), span, strict=True)),
            "fixed": self.fixed,
            "sure": self.sure,
            "numbers": dict(self.numbers),
        }


class OakError(Exception):
    """The one error of this library: at least one finding, and what the command line should exit with.

    `code`, `message`, `place` and `hint` are those of the first finding; `findings` has all of them.
    """

    exit_code = 2

    def __init__(self, code: str, message: str, *, hint: str = "", place: Place = NOWHERE) -> None:
        self.findings: tuple[Finding, ...] = (Finding(code, message, place, hint),)
        super().__init__(message)

    @classmethod
    def of(cls, findings: Sequence[Finding]) -> OakError:
        """One error for several findings, in the order given."""
        error = cls(findings[0].code, findings[0].message)
        error.findings = tuple(findings)
        return error

    @property
    def code(self) -> str:
        """The code of the first finding."""
        return self.findings[0].code

    @property
    def message(self) -> str:
        """The sentence of the first finding."""
        return self.findings[0].message

    @property
    def hint(self) -> str:
        """What to do about the first finding; may be empty."""
        return self.findings[0].hint

    @property
    def place(self) -> Place:
        """Where the first finding is."""
        return self.findings[0].place

    def __str__(self) -> str:
        return "\n".join(line for finding in self.findings for line in finding.lines())


class FormulaError(OakError):
    """A formula that cannot be computed; every error found in it is among the findings."""


class UnusableInput(OakError):
    """A file, a definition or a catalogue that cannot be read or written as it is."""

    exit_code = 3
