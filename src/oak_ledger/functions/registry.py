"""An entry of the function library, and the decorators that make one beside its implementation.

A signature is written as people read it: ``ROUND(x numeric, [n integer]) -> same``. Kinds are the types of the
language, `numeric` (integer, decimal or number), `temporal` (date or timestamp) and `any`; several are joined with `|`. `...` after a
parameter repeats it. The result is a type, `same` (as the first argument) or `common` (what all `any` or
`numeric` arguments widen to); a function whose result depends on more says so with `result=`.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.columnar.arrays import Mask, arrow_type, from_numpy, numpy_view, to_mask, with_nulls
from oak_ledger.types import KINDS, NUMERIC, TEMPORAL, Type

MISSING: Any = object()
MAX_CONSTANTS = 32  # combinations of arguments, for each of which a kernel is called
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
        """One Python call for each distinct value (or combination of values); null where any argument is null, a fault where ComputeError is raised.

        This is the plain meaning of a function, used where no kernel has it.
        """
        varying = [at for at, value in enumerate(args) if not isinstance(value, pa.Scalar)]
        if len(varying) == 1 and not pa.types.is_dictionary(args[varying[0]].type):
            encoded = args[varying[0]].dictionary_encode()
            once = list(args)
            once[varying[0]] = encoded.dictionary
            results, wrong = self._called(compute, once, len(encoded.dictionary))
            if not encoded.indices.null_count and len(encoded.dictionary) == self.length:
                return self._recorded(results, wrong)
            codes = numpy_view(pc.fill_null(encoded.indices, len(encoded.dictionary)))
            found = {what: np.append(mask, False)[codes] for what, mask in wrong.items()}
            return self._recorded(results.take(encoded.indices), found)
        return self._recorded(*self._called(compute, args, self.length))

    def _called(self, compute: Callable[..., Any], args: Sequence[Any], length: int) -> tuple[Any, dict[str, Mask]]:
        """The results of calls, and where which of them went wrong."""
        columns = [
            [value.as_py()] * length if isinstance(value, pa.Scalar) else value.to_pylist() for value in args
        ]  # fmt: skip
        results: list[Any] = []
        wrong: dict[str, list[int]] = {}
        for row, values in enumerate(zip(*columns, strict=True)):
            value = None
            if None not in values:
                try:
                    value = compute(*values)
                except ComputeError as error:
                    wrong.setdefault(str(error), []).append(row)
            results.append(value)
        masks = {what: np.isin(np.arange(length), rows) for what, rows in wrong.items()}
        return pa.array(results, arrow_type(self.result)), masks

    def _recorded(self, results: Any, wrong: Mapping[str, Mask]) -> Any:
        for what, mask in wrong.items():
            self.record(what, mask)
        return results

    def for_each_constant(self, compute: Callable[..., Any], x: Any, *rest: Any) -> Any | None:
        """`compute(call, x, *constants)` for each different combination of the other arguments, over the rows that have it.

        `compute` gives None for constants that it cannot work with. None also where there are many combinations.
        """
        varying = [value for value in rest if not isinstance(value, pa.Scalar)]
        if not varying:
            constants = [value.as_py() for value in rest]
            return (
                pa.nulls(self.length, arrow_type(self.result))
                if None in constants
                else compute(self, self.array(x), *constants)
            )
        keys = [value.dictionary_encode() for value in varying]
        if math.prod(len(key.dictionary) + 1 for key in keys) > MAX_CONSTANTS or not self.length:
            return None
        codes = np.zeros(self.length, np.int64)
        for key in keys:
            size = len(key.dictionary)
            codes = codes * (size + 1) + numpy_view(pc.fill_null(key.indices, size))
        texts, parts, order = self.array(x), [], []
        for code in np.flatnonzero(np.bincount(codes)).tolist():
            rows = np.flatnonzero(codes == code)
            constants = [
                value.as_py() if isinstance(value, pa.Scalar) else value[int(rows[0])].as_py() for value in rest
            ]

            def record(what: str, mask: Mask, rows: Any = rows) -> None:
                whole = np.zeros(self.length, np.bool_)
                whole[rows[mask]] = True
                self.record(what, whole)

            inner = replace(self, length=len(rows), constants=[MISSING, *constants], record=record)
            some = pa.nulls(len(rows), arrow_type(self.result))
            if None not in constants:
                some = compute(inner, texts.take(from_numpy(rows)), *constants)
                if some is None:
                    return None
            parts.append(some)
            order.append(rows)
        back = np.empty(self.length, np.int64)
        back[np.concatenate(order)] = np.arange(self.length)
        return pa.chunked_array(parts, arrow_type(self.result)).combine_chunks().take(from_numpy(back))


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
class CallSignature:
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


def signature(text: str) -> CallSignature:
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
    return CallSignature(text, tuple(parameters), match["result"])


@dataclass(frozen=True, slots=True, eq=False)
class Function:
    """One function of the language: everything help, checks, documentation and the engine need to know."""

    name: str
    topic: str
    signatures: tuple[CallSignature, ...]
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
    settled: Callable[[Any], Any] | None = None
    """Where the value of an argument settles the answer, so that the arguments after it do not count: of AND, OR and COALESCE."""
    accumulator: Any = None
    """For an aggregate that can be computed slice by slice: how (see `accumulators.Accumulator`)."""
    counts_values: bool = False
    """Whether it says how many values there are, so that `DISTINCT` asks for how many different ones."""
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


def internal_function(name: str, run: Implementation, **traits: Any) -> Function:
    """An entry for an operator or a conversion: it has a run, and is written in its own way."""
    return Function(name, "operator", (), "", "", (), run, **traits)
