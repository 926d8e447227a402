"""An entry of the function library, and the decorators that make one beside its implementation.

A signature is written as people read it: ``ROUND(x numeric, [n integer]) -> same``. Kinds are the types of the
language, `numeric` (integer, decimal or number), `temporal` (date or timestamp) and `any`; several are joined with `|`. `...` after a
parameter repeats it. The result is a type, `same` (as the first argument) or `common` (what all `any` or
`numeric` arguments widen to); a function whose result depends on more says so with `result=`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import pyarrow as pa

from oak_ledger.columnar.arrays import Mask, arrow_type, to_mask, with_nulls
from oak_ledger.types import KINDS, NUMERIC, TEMPORAL, Type

MISSING: Any = object()
_GROUPS: Mapping[str, frozenset[str]] = {"numeric": NUMERIC, "temporal": TEMPORAL, "any": frozenset(KINDS)}


class FaultSink(Protocol):
    """Takes note of values that could not be computed."""

    def __call__(self, what: str, mask: Mask) -> None:
        """Record that `what` went wrong wherever the mask is true."""


@dataclass(slots=True)
class CallContext:
    """What an implementation may know about its call besides the values.

    `constants` has the Python value of each argument that is a constant, else `MISSING`.
    """

    length: int
    types: Sequence[Type]
    result: Type
    constants: Sequence[Any]
    record: FaultSink
    extra: Any = None

    def array(self, value: Any) -> Any:
        """The value as an array, one item a row."""
        return pa.repeat(value, self.length) if isinstance(value, pa.Scalar) else value

    def fault(self, what: str, where: Any, result: Any) -> Any:
        """Record a fault wherever `where` holds (a boolean array or a mask), and blank the result there."""
        mask = where if not isinstance(where, (pa.Array, pa.ChunkedArray)) else to_mask(where)
        if not mask.any():
            return result
        self.record(what, mask)
        return with_nulls(self.array(result), mask)

    def each(self, compute: Callable[..., Any], *args: Any) -> Any:
        """One Python call a row; null where any argument is null, a fault where `ComputeError` is raised.

        This is the plain meaning of a function, used where no faster way is known.
        """
        columns = [self.array(value).to_pylist() for value in args]
        made: list[Any] = []
        wrong: dict[str, list[int]] = {}
        seen: dict[tuple[Any, ...], Any] = {}
        for row, values in enumerate(zip(*columns, strict=True)):
            if None in values:
                made.append(None)
                continue
            value = seen.get(values, MISSING)
            if value is MISSING:
                try:
                    value = compute(*values)
                except ComputeError as unfit:
                    value = unfit
                if len(seen) < 10_000:
                    seen[values] = value
            if isinstance(value, ComputeError):
                wrong.setdefault(str(value), []).append(row)
                value = None
            made.append(value)
        for what, rows in wrong.items():
            import numpy as np

            mask = np.zeros(len(made), np.bool_)
            mask[rows] = True
            self.record(what, mask)
        return pa.array(made, arrow_type(self.result))


class ComputeError(Exception):
    """A value that cannot be computed; its text says why."""


@dataclass(frozen=True, slots=True)
class Parameter:
    """One parameter: its name, the kinds it takes, whether it may be left out or repeated."""

    name: str
    kinds: frozenset[str]
    kind_text: str
    optional: bool
    repeated: bool


@dataclass(frozen=True, slots=True)
class Signature:
    """One way to call a function."""

    text: str
    parameters: tuple[Parameter, ...]
    result: str

    def fits_count(self, count: int) -> bool:
        """Whether it can be called with so many arguments."""
        least = sum(not parameter.optional for parameter in self.parameters)
        most = 1_000_000 if self.parameters and self.parameters[-1].repeated else len(self.parameters)
        return least <= count <= most

    def parameter(self, index: int) -> Parameter:
        """The parameter that takes the argument of that index; the last one repeats."""
        return self.parameters[min(index, len(self.parameters) - 1)]


_SIGNATURE = re.compile(r"(?P<name>[A-Z_0-9]+)\((?P<parameters>.*)\) -> (?P<result>\w+)")
_PARAMETER = re.compile(r"(?P<open>\[)?(?P<name>\w+) (?P<kinds>[\w|]+)(?P<repeated>…)?\]?")


def signature(text: str) -> Signature:
    """Read a signature; a mistake in one is a mistake of the library and raises ValueError."""
    match = _SIGNATURE.fullmatch(text)
    if match is None:
        raise ValueError(text)
    parameters = []
    for part in filter(None, re.split(r",\s*", match["parameters"])):
        found = _PARAMETER.fullmatch(part)
        if found is None:
            raise ValueError(text)
        kinds = frozenset[str]().union(*(_GROUPS.get(kind, {kind}) for kind in found["kinds"].split("|")))
        if not kinds <= set(KINDS):
            raise ValueError(text)
        repeated = found["repeated"] is not None
        parameters.append(Parameter(found["name"], kinds, found["kinds"], found["open"] is not None, repeated))
    return Signature(text, tuple(parameters), match["result"])


@dataclass(frozen=True, slots=True, eq=False)
class Function:
    """One function of the language: everything help, checks, documentation and the engine need to know."""

    name: str
    topic: str
    signatures: tuple[Signature, ...]
    sentence: str
    nulls: str
    examples: tuple[tuple[str, str], ...]
    run: Callable[..., Any]
    result: Callable[[Sequence[Type], Sequence[Any]], Type] | None = None
    aggregate: bool = False
    window: bool = False
    ordered: bool = False
    """Takes `WITHIN GROUP (ORDER BY …)`."""
    can_fault: bool = False
    costly: bool = False
    """Worth computing once per distinct value: text and dates."""
    constant_args: frozenset[int] = frozenset()
    """Arguments that must be constants."""
    accumulator: Any = None
    """For an aggregate that can be computed slice by slice: how (see `accumulators.Accumulator`)."""
    counts_values: bool = False
    """Whether it tells how many values there are, so that `DISTINCT` asks for how many different ones."""
    usage: str = ""
    """How it is written, where that is not its signature."""

    @property
    def written(self) -> tuple[str, ...]:
        """How a call is written, one line a form."""
        return (self.usage,) if self.usage else tuple(one.text for one in self.signatures)


@dataclass(slots=True)
class Library:
    """All entries by name."""

    entries: dict[str, Function] = field(default_factory=dict)
    constructs: dict[str, Function] = field(default_factory=dict)
    """What is written with words and signs of its own: CASE, CAST, LIKE, operators. Told of, never called."""

    def add(self, entry: Function) -> None:
        """Take in an entry; two of one name are a mistake of the library."""
        if entry.name in self.entries:
            raise ValueError(entry.name)
        self.entries[entry.name] = entry


LIBRARY = Library()
Implementation = Callable[..., Any]


def function(
    *signatures: str,
    topic: str,
    sentence: str,
    examples: Sequence[tuple[str, str]],
    nulls: str = "Null when any argument is null.",
    **more: Any,
) -> Callable[[Implementation], Implementation]:
    """Register the decorated implementation as a function of the language."""

    def register(run: Implementation) -> Implementation:
        read = tuple(signature(text) for text in signatures)
        name = read[0].text.partition("(")[0]
        if "constant_args" in more:
            more["constant_args"] = frozenset(more["constant_args"])
        LIBRARY.add(Function(name, topic, read, sentence, nulls, tuple(examples), run, **more))
        return run

    return register


def internal_function(name: str, run: Implementation, *, can_fault: bool = False, costly: bool = False) -> Function:
    """An entry for an operator or a conversion: it has a run, and is written in its own way."""
    return Function(name, "operator", (), "", "", (), run, can_fault=can_fault, costly=costly)
