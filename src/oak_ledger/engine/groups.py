"""Rows to groups: dense group numbers from key columns, and aggregates over them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from oak_ledger.engine.pool import ordered
from oak_ledger.engine.tuning import tuning
from oak_ledger.formula import checked as c
from oak_ledger.formula.library.aggregates import Groups
from oak_ledger.formula.library.registry import MISSING, Recorder, Run
from oak_ledger.formula.values import Mask, array_of, held, mask_of, near
from oak_ledger.loops.groups import Piece, different, numbered, sorted_out
from oak_ledger.loops.text import FEW, few

_LIMIT = 2**62
_PACKED_BITS = 62
_CLOSE = 2**36
CLOSE = 64  # so many whole numbers from the least to the largest may always be numbered by their distance
DENSE = 1 << 16  # combinations of keys that may always be counted one by one
Rows = npt.NDArray[np.int64]


def encode(values: Any) -> tuple[np.ndarray[Any, np.dtype[np.int64]], Any]:
    """A number for each different value (null is one of them), and the values by number."""
    if pa.types.is_floating(values.type):
        values = pc.add(values, 0.0)  # so that -0.0 and 0.0 are one value
    encoded = values.dictionary_encode(null_encoding="encode")
    return held(encoded.indices).astype(np.int64), encoded.dictionary


def group(keys: Sequence[Any], rows: int) -> tuple[Groups, list[Any]]:
    """The group of each row, and each key's value per group. Without keys all rows are one group.

    Keys and row number are packed into one number where they fit, and sorted by value: that is much faster than sorting places.
    """
    if not keys:
        return Groups(np.zeros(rows, np.int64), 1), []
    columns = [_bits(key) for key in keys]
    row_bits = max(rows - 1, 1).bit_length()
    if sum(bits for _, bits in columns) + row_bits <= _PACKED_BITS:
        packed = np.zeros(rows, np.int64)
        for numbers, bits in columns:
            packed = packed << bits | numbers
        packed = packed << row_bits | np.arange(rows)
        packed.sort()
        at = packed & ((1 << row_bits) - 1)
        packed >>= row_bits
        begins = np.ones(rows, np.bool_)
        np.not_equal(packed[1:], packed[:-1], out=begins[1:])
        dense = np.empty(rows, np.int64)
        dense[at] = np.cumsum(begins) - 1
        first = at[begins]
    else:
        codes, cardinality = encode(keys[0])[0], 1 << columns[0][1]
        for key, (_, bits) in zip(keys[1:], columns[1:], strict=True):
            if cardinality << bits >= _LIMIT:
                _, codes = np.unique(codes, return_inverse=True)
                cardinality = int(codes.max(initial=0)) + 1
            codes, cardinality = (codes << bits) + encode(key)[0], cardinality << bits
        _, first, dense = np.unique(codes, return_index=True, return_inverse=True)
    index = array_of(first)
    return Groups(np.asarray(dense, np.int64), len(first)), [key.take(index) for key in keys]


def _bits(values: Any) -> tuple[Rows, int]:
    """A number from 0 for each different value, and how many bits they take; whole numbers close together are taken as they are."""
    if pa.types.is_integer(values.type) and not values.null_count and len(values):
        numbers = held(values)
        low, high = int(numbers.min()), int(numbers.max())
        if high - low < _CLOSE:
            return numbers.astype(np.int64) - low, (high - low).bit_length()
    codes, different = encode(values)
    return codes, max(len(different) - 1, 1).bit_length()


def local_groups(keys: Sequence[Any], rows: int, alive: Mask | None) -> tuple[Rows, int, list[tuple[Any, Any]]]:
    """The groups of one slice: the group of each row, how many there are, and for each key (a code for each group, the values).

    Rows that do not count get the number after the last group.
    """
    if not keys:
        return (np.zeros(rows, np.int64) if alive is None else (~alive).astype(np.int64)), 1, []
    columns, dictionaries = zip(*(_numbered(key) for key in keys), strict=True)
    sizes = [len(one) for one in dictionaries]
    size = math.prod(max(one, 1) for one in sizes)
    if size >= _LIMIT:
        raise OverflowError("too many different keys in one slice")
    quick = numbered(columns, sizes, rows, alive, max(4 * rows, DENSE))
    if quick is not None:
        return quick[0], len(quick[1]), _codes_of(quick[1], size, sizes, dictionaries)
    codes = columns[0].astype(np.int64)
    for column, own in zip(columns[1:], sizes[1:], strict=True):
        codes = codes * own + column
    if size <= max(4 * rows, DENSE):
        if alive is not None:
            codes[np.flatnonzero(~alive)] = size
        present = np.bincount(codes, minlength=size + 1) > 0
        present[size] = True  # where the rows go that do not count
        local = (np.cumsum(present) - 1)[codes]
        index = np.flatnonzero(present[:size])
    else:
        index, inverse = np.unique(codes if alive is None else codes[alive], return_inverse=True)
        local = np.full(rows, len(index))
        local[slice(None) if alive is None else alive] = inverse
    return local, len(index), _codes_of(index, size, sizes, dictionaries)


def _codes_of(index: Rows, size: int, sizes: Sequence[int], dictionaries: Sequence[Any]) -> list[tuple[Any, Any]]:
    """For each key a code for each group, from the groups' combinations, and the values."""
    found, after = [], size
    for own, dictionary in zip(sizes, dictionaries, strict=True):
        after //= max(own, 1)
        found.append((index // max(after, 1) % max(own, 1), dictionary))
    return found


def _numbered(values: Any) -> tuple[Any, Any]:
    """A number for each row by its value, and the values by number: each once, null one of them."""
    found = numbered_cheaply(values)
    return encode(values) if found is None else found


def numbered_cheaply(values: Any) -> tuple[Any, Any] | None:
    """The same where that is cheap: codes, whole numbers and days close together, true and false, a few different texts."""
    if pa.types.is_dictionary(values.type):
        known = values.dictionary
        if not (values.null_count or known.null_count) and len(known.unique()) == len(
            known
        ):  # each value is there once
            return held(values.indices), known
        once = known.dictionary_encode(null_encoding="encode")
        numbers, different = held(once.indices).astype(np.int64), once.dictionary
        indices = values.indices
        if indices.null_count:
            if not different.null_count:
                different = pa.concat_arrays([different, pa.nulls(1, different.type)])
            null = pc.index_in(pa.nulls(1, different.type), different)[0].as_py()
            numbers = np.append(numbers, null)
            indices = pc.fill_null(indices, len(values.dictionary))
        return numbers[held(indices)], different
    if pa.types.is_integer(values.type) or pa.types.is_date32(values.type):
        found, low, span = near(values)
        if span <= max(len(values) // 8, CLOSE):
            different = array_of(low + np.arange(span, dtype=np.int64))
            if values.type.bit_width < 64:
                different = different.cast(pa.int32())
            if not values.null_count:
                return found, different.cast(values.type)
            codes = np.where(mask_of(pc.is_null(values)), span, found)
            return codes, pa.concat_arrays([different.cast(values.type), pa.nulls(1, values.type)])
    if pa.types.is_boolean(values.type):
        values = values.cast(pa.int8())
        numbers, different = encode(values)
        return numbers, different.cast(pa.bool_())
    found_few = few(values, FEW)
    if found_few is None:
        return None
    codes, _, first = found_few
    different = values.take(array_of(first))
    if not values.null_count:
        return codes, different
    return np.where(codes < 0, len(first), codes), pa.concat_arrays([different, pa.nulls(1, values.type)])


class Labels:
    """Different values of all slices so far, by number, in the order in which they were found."""

    def __init__(self) -> None:
        self.values: Any = None
        self._last: tuple[Any, Rows] | None = None
        self._texts: dict[str | None, int] | None = {}  # while they are texts, and few a slice

    def numbers(self, dictionary: Any) -> Rows:
        """The numbers of a slice's different values among all."""
        if self._last is not None and self._last[0].equals(dictionary):
            return self._last[1]
        numbers = self._by_text(dictionary)
        if numbers is None:
            numbers, self._texts = self._by_kernel(dictionary), None
        self._last = (dictionary, numbers)
        return numbers

    def _by_text(self, dictionary: Any) -> Rows | None:
        known = self._texts
        if known is None or len(dictionary) > FEW or dictionary.type != pa.string():
            return None
        try:
            texts = dictionary.to_pylist()
        except UnicodeDecodeError:  # a broken file
            return None
        before = len(known)
        numbers = np.array([known.setdefault(text, len(known)) for text in texts], np.int64)
        if self.values is None or len(known) > before:
            self._more(dictionary, np.flatnonzero(numbers >= before))
        return numbers

    def _by_kernel(self, dictionary: Any) -> Rows:
        if self.values is None:
            self.values = dictionary
            return np.arange(len(dictionary))
        numbers: Rows = held(pc.fill_null(pc.index_in(dictionary, self.values), -1)).astype(np.int64)
        new = np.flatnonzero(numbers < 0)
        if len(new):
            numbers[new] = len(self.values) + np.arange(len(new))
            self._more(dictionary, new)
        return numbers

    def _more(self, dictionary: Any, new: Rows) -> None:
        more = dictionary.take(array_of(new))
        self.values = more if self.values is None else pa.concat_arrays([self.values, more])


class _Numbered:
    """Different whole numbers, each by the number that it got when it was found."""

    def __init__(self) -> None:
        self._known, self._numbers = np.zeros(0, np.int64), np.zeros(0, np.int64)

    def numbers(self, values: Rows) -> tuple[Rows, Rows]:
        """The number of each value, and where those stand that are new."""
        at = np.searchsorted(self._known, values)
        there = np.zeros(len(values), np.bool_)
        inside = at < len(self._known)
        there[inside] = self._known[at[inside]] == values[inside]
        if there.all():
            return self._numbers[at], np.zeros(0, np.int64)
        apart = np.flatnonzero(~there)
        new, first = np.unique(values[apart], return_index=True)
        rank = np.empty(len(new), np.int64)
        order = np.argsort(first)
        rank[order] = len(self._known) + np.arange(len(new))  # in the order in which they come
        to = np.searchsorted(self._known, new)
        self._known, self._numbers = np.insert(self._known, to, new), np.insert(self._numbers, to, rank)
        return self._numbers[np.searchsorted(self._known, values)], apart[first[order]]


class GroupTable:
    """The groups of all slices so far, by number, in the order in which they were found."""

    def __init__(self, keys: int) -> None:
        self.count = 0 if keys else 1
        self._labels = [Labels() for _ in range(keys)]
        self._pairs = [_Numbered() for _ in range(keys)]  # of the number of what comes before, and of a key
        self._rows: list[list[Rows]] = [[] for _ in range(keys)]
        self._last: tuple[list[Rows], Rows] = [], np.zeros(0, np.int64)

    def absorb(self, keys: Sequence[tuple[Any, Any]], count: int) -> Rows:
        """Take in the groups of a slice; the number of each."""
        if not keys:
            return np.zeros(count, np.int64)
        columns = [own.numbers(dictionary)[codes] for own, (codes, dictionary) in zip(self._labels, keys, strict=True)]
        if count == len(self._last[1]) and all(map(np.array_equal, columns, self._last[0])):  # as in the slice before
            return self._last[1]
        places, new = np.zeros(count, np.int64), np.zeros(0, np.int64)
        for pairs, column in zip(self._pairs, columns, strict=True):
            places, new = pairs.numbers(places << 32 | column)
        if len(new):
            self.count += len(new)
            for into, column in zip(self._rows, columns, strict=True):
                into.append(column[new])
        self._last = columns, places
        return places

    def values(self, key: int, kind: Any) -> Any:
        """The value of a key for each group."""
        different = self._labels[key].values
        if different is None:
            return pa.array([], kind)
        return different.take(array_of(np.concatenate([np.zeros(0, np.int64), *self._rows[key]])))


def aggregate(
    node: c.Aggregate,
    args: Sequence[Any],
    where: Any | None,
    groups: Groups,
    record: Recorder,
    order: Sequence[Any] = (),
) -> Any:
    """One aggregate by group: its filter and its `DISTINCT` first, then its own implementation."""
    if where is not None:
        keep = mask_of(where)
        groups = groups.where(keep)
        args = [arg.filter(array_of(keep)) for arg in args]
        order = [key.filter(array_of(keep)) for key in order]
    if node.distinct and args:
        keep = _first_of_each(args[0], groups)
        groups = groups.where(keep)
        args = [arg.filter(array_of(keep)) for arg in args]
        order = [key.filter(array_of(keep)) for key in order]
    constants = [arg.value if isinstance(arg, c.Constant) else MISSING for arg in node.args]
    run = Run(groups.count, [arg.type for arg in node.args], node.type, constants, record)
    if node.function.ordered:
        keys = [(values, key.descending, key.nulls_first) for values, key in zip(order, node.order, strict=True)]
        return node.function.run(run, *args, groups, keys)
    return node.function.run(run, args[0] if args else None, *args[1:], groups)


def _first_of_each(values: Any, groups: Groups) -> Mask:
    """Where a value stands for the first time in its group."""
    codes, different = encode(values)
    _, first = np.unique(groups.codes * max(len(different), 1) + codes, return_index=True)
    keep = np.zeros(len(codes), np.bool_)
    keep[first] = True
    return keep


def distinct_counts(pieces: Sequence[tuple[Any, Rows]], groups: int) -> Any:
    """How many different values each group has, from stretches of values with the group of each row; nulls are left out."""
    counted = _counted(pieces, groups)
    if counted is not None:
        return array_of(counted)
    kind = max((one.type for one, _ in pieces), key=lambda one: one.bit_width) if is_plain(pieces[0][0].type) else None
    values = pa.chunked_array([one if kind is None else one.cast(kind) for one, _ in pieces]).combine_chunks()
    codes = np.concatenate([own for _, own in pieces]).astype(np.int64)
    if values.null_count:
        valid = mask_of(pc.is_valid(values))
        values, codes = values.filter(array_of(valid)), codes[valid]
    if not len(values):
        return array_of(np.zeros(groups, np.int64))
    numbers = _as_whole(values)
    counted = None if is_plain(values.type) else _counted([(array_of(numbers), codes)], groups)
    if counted is not None:
        return array_of(counted)
    low, high = int(numbers.min()), int(numbers.max())
    if (high - low + 1) * groups >= _LIMIT:
        _, numbers = np.unique(numbers, return_inverse=True)
        low, high = 0, int(numbers.max())
    span = high - low + 1
    packed = codes * span  # groups and values as one number a row
    packed += numbers
    packed -= low
    packed.sort()
    first = np.ones(len(packed), np.bool_)
    np.not_equal(packed[1:], packed[:-1], out=first[1:])
    edges = np.searchsorted(packed, np.arange(groups + 1) * span)
    before = np.append(0, np.cumsum(first))
    return array_of(before[edges[1:]] - before[edges[:-1]])


def _counted(pieces: Sequence[tuple[Any, Rows]], groups: int) -> Rows | None:
    """The same by compiled loops that several threads share; None where there are none."""
    if not is_plain(pieces[0][0].type):
        return None
    threads = tuning().threads
    counts = _counted_sorted([(values, _as_kept(values), codes) for values, codes in pieces], groups)
    if counts is None:  # not sorted out yet
        told = [(values, _as_whole(values), codes) for values, codes in pieces]
        found = [*ordered(lambda one: sorted_out(*one, groups), told, threads)]
        laid = [(array_of(one[0]), *one) for one in found if one is not None]
        counts = _counted_sorted(laid, groups) if len(laid) == len(found) else None
    return counts


def _counted_sorted(pieces: Sequence[Piece], groups: int) -> Rows | None:
    """The same of words that are sorted out; None where they are not."""
    threads = tuning().threads
    counts = [*ordered(lambda part: different(pieces, groups, part, threads), range(threads), threads)]
    known = [one for one in counts if one is not None]
    return np.sum(known, axis=0, dtype=np.int64) if len(known) == threads else None


def sorted_values(values: Any, codes: Rows, groups: int) -> tuple[Any, Any] | None:
    """Values of a slice, and the group of each, in an order in which different ones are soon counted; without nulls, and rows of no group.

    Whole numbers may become narrower. None where that cannot be done.
    """
    if not is_plain(values.type) or values.type.bit_width != 64:
        return None
    found = sorted_out(values, _as_whole(values), codes, groups)
    if found is None:
        return None
    words, of = found
    if words.itemsize == 4 and not pa.types.is_integer(values.type):
        words = words.astype(np.int64)
    kind = pa.int32() if words.itemsize == 4 else values.type
    return pa.Array.from_buffers(kind, len(words), [None, pa.py_buffer(words)]), of


def is_plain(kind: Any) -> bool:
    """Whether values are numbers, days or moments of at most 64 bits, each by itself."""
    return bool(pa.types.is_integer(kind) or pa.types.is_temporal(kind) or pa.types.is_floating(kind))


def _as_kept(values: Any) -> Any:
    """The same, of whole numbers as they lie in memory."""
    return held(values) if pa.types.is_integer(values.type) else _as_whole(values)


def _as_whole(values: Any) -> Rows:
    """Numbers that are equal where the values are."""
    kind = values.type
    if pa.types.is_integer(kind):
        return np.asarray(held(values), np.int64)
    if pa.types.is_temporal(kind):
        bits = pa.int32() if pa.types.is_date32(kind) else pa.int64()
        return np.asarray(held(values.cast(bits)), np.int64)
    if pa.types.is_floating(kind):
        return np.asarray((held(values) + 0.0).view(np.int64))  # -0.0 becomes 0.0
    return encode(values)[0]
