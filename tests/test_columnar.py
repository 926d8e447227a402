"""What the engine is built on, against plain Python: codes, orders, decimals as whole numbers, bytes of texts, views of arrays."""

from __future__ import annotations

import itertools
import unittest
from decimal import Decimal
from typing import Any
from unittest import mock

import hypothesis
import numpy as np
import pyarrow as pa
from hypothesis import strategies as st

from oak_ledger.columnar import arrays, codes, decimals, ordering, texts

SETTINGS = hypothesis.settings(deadline=None, max_examples=120, derandomize=True)
TEXT = (
    st.none() | st.text(alphabet="abé€😀 ", max_size=12) | st.sampled_from(["", "a", "aaaaaaaa", "aaaaaaaab", "x" * 32])
)
WHOLE = st.integers(-(2**63), 2**63 - 1) | st.integers(-5, 5)
VALUES: dict[str, tuple[pa.DataType, st.SearchStrategy[Any]]] = {
    "integer": (pa.int64(), WHOLE),
    "number": (
        pa.float64(),
        st.floats(allow_nan=False, allow_infinity=False) | st.sampled_from([0.0, -0.0, 0.25, 1.5]),
    ),
    "decimal": (pa.decimal128(38, 2), st.integers(-(10**30), 10**30).map(lambda whole: Decimal(whole).scaleb(-2))),
    "date": (pa.date32(), st.dates()),
    "timestamp": (pa.timestamp("us"), st.datetimes()),
    "boolean": (pa.bool_(), st.booleans()),
    "text": (pa.string(), TEXT.filter(lambda one: one is not None)),
}


@st.composite
def column(draw: Any) -> tuple[pa.Array, list[Any]]:
    """A column of any type, maybe with nulls, maybe the middle of a longer one; and its values."""
    kind, values = VALUES[draw(st.sampled_from([*VALUES]))]
    every = draw(st.lists(st.none() | values, max_size=30))
    cut = draw(st.integers(0, min(len(every), 9)))
    return pa.array(every, kind).slice(cut), every[cut:]


class Codes(unittest.TestCase):
    def numbered(self, given: Any, values: list[Any]) -> None:
        """Equal values have one number, different ones do not, and each number leads to its value."""
        numbers, rows = given
        self.assertEqual(len(set(zip(numbers.tolist(), values, strict=True))), len(set(values)))
        self.assertEqual(len(set(numbers.tolist())), len(set(values)))
        self.assertEqual([rows[one] for one in numbers.tolist()], values)

    @SETTINGS
    @hypothesis.given(column())
    def test_a_number_for_each_different_value(self, given: tuple[pa.Array, list[Any]]) -> None:
        array, values = given
        numbers, found = codes.encode(array)
        self.numbered((numbers, found.to_pylist()), values)

    @SETTINGS
    @hypothesis.given(st.lists(TEXT, max_size=40), st.sampled_from([int(texts._MULTIPLIER), 0, 2**40]))
    def test_texts_by_their_hash_whatever_it_is(self, values: list[str | None], multiplier: int) -> None:
        array = pa.array(values, pa.string())
        with mock.patch.object(texts, "_MULTIPLIER", np.int64(multiplier)):
            found = texts.text_codes(array)
        if found is None:
            self.assertGreater(max(len((one or "").encode()) for one in values), 32)
            return
        numbers, first = found
        self.numbered((numbers, [values[row] for row in first]), values)

    def test_texts_too_long_for_it_are_left_to_a_dictionary(self) -> None:
        self.assertIsNone(texts.text_codes(pa.array(["a" * 33, "b"])))
        values = [f"{'x' * 40}{at}" for at in range(6000)]
        numbers, found = codes.encode(pa.array(values))
        self.assertEqual([found[one].as_py() for one in numbers.tolist()[:50]], values[:50])


class Orders(unittest.TestCase):
    @SETTINGS
    @hypothesis.given(column(), st.booleans(), st.booleans())
    def test_sort_numbers_lie_as_values_do(self, given: tuple[pa.Array, list[Any]], down: bool, first: bool) -> None:
        array, values = given
        numbers, bits = ordering.sort_numbers(array, descending=down, nulls_first=first)
        present = sorted({one for one in values if one is not None}, reverse=down)
        place = {value: at for at, value in enumerate(present)} | {None: -1 if first else len(present)}
        wanted = [place[one] for one in values]
        got = {one: at for at, one in enumerate(sorted(set(numbers.tolist())))}
        said = [got[one] for one in numbers.tolist()]
        self.assertEqual([one - min(wanted) for one in wanted], said) if values else self.assertEqual(said, [])
        if bits <= 62 and len(numbers):
            self.assertTrue(int(numbers.min()) >= 0 and int(numbers.max()) < 2**bits)

    @SETTINGS
    @hypothesis.given(st.lists(st.tuples(WHOLE, st.integers(0, 3)), max_size=40))
    def test_rows_in_the_order_of_several_keys(self, rows: list[tuple[int, int]]) -> None:
        keys = [ordering.sort_numbers(pa.array([row[at] for row in rows], pa.int64())) for at in range(2)]
        found = ordering.sorted_rows(keys, len(rows)).tolist()
        self.assertEqual(found, sorted(range(len(rows)), key=lambda at: rows[at]))

    @SETTINGS
    @hypothesis.given(st.lists(st.integers(0, 2**40), max_size=50) | st.lists(st.integers(0, 6), max_size=50))
    def test_dense_numbers_leave_no_gap(self, numbers: list[int]) -> None:
        bits = max([one.bit_length() for one in numbers], default=1)
        for more in (bits, 62):
            dense, first = ordering.dense_numbers(np.array(numbers, np.int64), more)
            order = sorted(set(numbers))
            self.assertEqual([order[one] for one in dense.tolist()], numbers)
            self.assertEqual([numbers[row] for row in first], order)
            self.assertEqual(first.tolist(), [numbers.index(one) for one in order])


class Decimals(unittest.TestCase):
    @SETTINGS
    @hypothesis.given(st.lists(st.none() | WHOLE, max_size=20), st.integers(0, 12))
    def test_there_and_back(self, wholes: list[int | None], scale: int) -> None:
        nulls = np.array([one is None for one in wholes], np.bool_)
        made = decimals.decimal_from_unscaled(np.array([one or 0 for one in wholes], np.int64), scale, nulls)
        wanted = [None if one is None else Decimal(one).scaleb(-scale) for one in wholes]
        self.assertEqual(made.to_pylist(), wanted)
        back = decimals.unscaled(made)
        assert back is not None
        self.assertEqual([None if null else one for one, null in zip(back.tolist(), nulls, strict=True)], wholes)
        floats = decimals.decimal_to_number(made).to_pylist()
        self.assertEqual(floats, [None if one is None else float(one) for one in wanted])

    def test_more_than_a_word(self) -> None:
        wide = pa.array([Decimal(2**63), None, Decimal(-1)], pa.decimal128(38, 0))
        self.assertIsNone(decimals.unscaled(wide))
        self.assertEqual(decimals.decimal_to_number(wide).to_pylist(), [2.0**63, None, -1.0])
        self.assertEqual(decimals.unscaled(wide.slice(1)).tolist()[1], -1)  # type: ignore[union-attr]

    def test_the_largest_of_whole_numbers(self) -> None:
        for numbers, most in (([], 0), ([-(2**63), 2**63 - 1], 2**63), ([-3, 2], 3), ([5], 5)):
            self.assertEqual(decimals.peak(np.array(numbers, np.int64)), most)

    @SETTINGS
    @hypothesis.given(st.lists(WHOLE, min_size=1), st.integers(0, 18))
    def test_divisions(self, numbers: list[int], places: int) -> None:
        unit, given = 10**places, np.array(numbers, np.int64)
        away = [(abs(one) + unit // 2) // unit * (1 if one > 0 else -1) for one in numbers]
        towards = [abs(one) // unit * (1 if one > 0 else -1) for one in numbers]
        if places:
            self.assertEqual(decimals.divided_half_away(given, unit).tolist(), away)
        self.assertEqual(decimals.divided_towards_zero(given, unit).tolist(), towards)


class Views(unittest.TestCase):
    @SETTINGS
    @hypothesis.given(column())
    def test_masks_and_nulls(self, given: tuple[pa.Array, list[Any]]) -> None:
        array, values = given
        self.assertEqual(arrays.to_mask(array.is_null()).tolist(), [one is None for one in values])
        bitmap = arrays.validity(array)
        if bitmap is not None:
            bits = np.unpackbits(np.frombuffer(bitmap, np.uint8), bitorder="little")[: len(values)]
            self.assertEqual(bits.tolist(), [one is not None for one in values])
        if pa.types.is_boolean(array.type):
            self.assertEqual(arrays.to_mask(array).tolist(), [bool(one) for one in values])
        hidden = np.arange(len(values)) % 2 == 0
        shown = arrays.with_nulls(array, hidden).to_pylist()
        self.assertEqual(shown, [None if at % 2 == 0 else one for at, one in enumerate(values)])

    @SETTINGS
    @hypothesis.given(st.lists(st.none() | WHOLE, max_size=20))
    def test_distances_from_the_least(self, values: list[int | None]) -> None:
        distances, least, count = arrays.offsets_from_min(pa.array(values, pa.int64()))
        present = [one for one in values if one is not None]
        if present and max(present) - min(present) < 2**62:
            self.assertEqual((least, count), (min(present), max(present) - min(present) + 1))
            found = [int(one) for one, value in zip(distances, values, strict=True) if value is not None]
            self.assertEqual(found, [one - least for one in present])

    @SETTINGS
    @hypothesis.given(st.lists(TEXT, max_size=20), st.integers(0, 5))
    def test_bytes_of_texts(self, values: list[str | None], cut: int) -> None:
        array = pa.array(values, pa.string()).slice(cut)
        values = values[cut:]
        offsets, data = texts.text_bytes(array)
        self.assertEqual([bytes(data[a:b]) for a, b in itertools.pairwise(offsets)], [(one or "").encode() for one in values])  # fmt: skip
        self.assertEqual(texts.is_ascii(array), all((one or "").isascii() for one in values))
        self.assertEqual(
            texts.texts_like(array, offsets - offsets[0], data[offsets[0] : offsets[-1]]).to_pylist(), values
        )
