"""Values that could not be computed: recorded with the rows and what went in, never silent."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

SAMPLES = 5
Rows = npt.NDArray[np.int64]
Kind = tuple[str, str, bool]
"""The field, what happened, and whether it happened in groups."""


@dataclass(frozen=True, slots=True)
class Fault:
    """One kind of fault of one formula.

    `field` is the field whose formula made it, `what` what happened, `rows` in how many rows, or groups (`of_groups`); `samples` has
    the first few as (number of the row or group from 1, what went in by its text in the formula).
    """

    field: str
    what: str
    rows: int
    samples: tuple[tuple[int, dict[str, Any]], ...]
    of_groups: bool = False

    def sentence(self) -> str:
        """The fault as a sentence with its field and its first sample."""
        return f"{self.field}: {self.said()}"

    def said(self) -> str:
        """What happened, in how many rows, with the first sample."""
        first = ""
        if self.samples:
            row, inputs = self.samples[0]
            shown = ", ".join(repr(value) if isinstance(value, str) else str(value) for value in inputs.values())
            place = "" if self.of_groups else f" in row {row:,}"
            first = f", first{place}" + (f": {shown}" if shown else "") if place or shown else ""
        unit = "group" if self.of_groups else "row"
        return f"{self.what} in {self.rows:,} {unit}{'s' * (self.rows != 1)}{first}"

    def as_json(self) -> dict[str, Any]:
        """Plain values for a script."""
        samples = [
            {"row": row, "inputs": {key: _plain(value) for key, value in inputs.items()}}
            for row, inputs in self.samples
        ]
        of = "groups" if self.of_groups else "rows"
        return {"field": self.field, "what": self.what, "rows": self.rows, "of": of, "samples": samples}


def _plain(value: Any) -> Any:
    return value if isinstance(value, (str, int, float, bool, type(None))) else str(value)


@dataclass(slots=True)
class Faults:
    """Collects faults of a run; a row counts once for a field and kind, however often it was computed."""

    of_groups: bool = False
    """Whether what is recorded are groups, and not rows."""
    kept: dict[Kind, list[Rows]] = field(default_factory=dict)
    samples: dict[Kind, dict[int, dict[str, Any]]] = field(default_factory=dict)
    counted: dict[tuple[str, str], int] = field(default_factory=dict)
    """How often, where it is not known in which rows."""

    def count(self, owner: str, what: str, rows: int) -> None:
        """Note a fault in so many rows, of which nothing else is known."""
        if rows:
            self.counted[owner, what] = self.counted.get((owner, what), 0) + rows

    def record(self, owner: str, what: str, rows: Rows, inputs: Callable[[int], dict[str, Any]]) -> None:
        """Note a fault in these rows; `inputs` says what went into the row with an index among them."""
        if not len(rows):
            return
        key = (owner, what, self.of_groups)
        self.kept.setdefault(key, []).append(rows)
        known = self.samples.setdefault(key, {})
        for index, row in enumerate(rows[:SAMPLES].tolist()):
            if row + 1 not in known:
                known[row + 1] = inputs(index)
        self._keep_first(known)

    def absorb(self, other: Faults, base: int) -> None:
        """Take over what a slice found whose rows begin after so many others."""
        for key, rows in other.kept.items():
            self.kept.setdefault(key, []).extend(row + base for row in rows)
            known = self.samples.setdefault(key, {})
            for row, inputs in other.samples[key].items():
                known.setdefault(row + base, inputs)
            self._keep_first(known)

    @staticmethod
    def _keep_first(samples: dict[int, dict[str, Any]]) -> None:
        """Keep the samples of the first rows, whatever the order in which they came."""
        for row in sorted(samples)[SAMPLES:]:
            del samples[row]

    def merge_missing(self, other: Faults) -> None:
        """Take over the kinds that are not known here."""
        for key, rows in other.kept.items():
            if key not in self.kept:
                self.kept[key], self.samples[key] = rows, other.samples[key]

    def found(self) -> tuple[Fault, ...]:
        """All faults, the most frequent first."""
        faults = [
            Fault(
                key[0],
                key[1],
                _different(rows),
                tuple(sorted(self.samples[key].items(), key=lambda one: one[0])),
                key[2],
            )
            for key, rows in self.kept.items()
        ]
        faults += [Fault(owner, what, rows, ()) for (owner, what), rows in self.counted.items()]
        return tuple(sorted(faults, key=lambda fault: (-fault.rows, fault.field, fault.what)))


def _different(rows: list[Rows]) -> int:
    """How many different rows there are."""
    together = np.sort(np.concatenate(rows))
    return int(np.count_nonzero(np.diff(together))) + 1 if len(together) else 0
