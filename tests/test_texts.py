"""Functions of texts against plain Python: of texts that repeat and that do not, of ASCII and of all letters, with constants and with columns."""

from __future__ import annotations

import random
import re
import unittest
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import pyarrow as pa

import oak_ledger as oak


def like(text: str, pattern: str) -> bool:
    """Whether a text is like a pattern."""
    parts = [{"%": ".*", "_": "."}.get(one, re.escape(one)) for one in pattern]
    return re.fullmatch("".join(parts), text, re.DOTALL) is not None


def padded(text: str, width: int, fill: str, *, left: bool) -> str:
    """A text cut or filled up to a width."""
    more = (fill * width)[: max(width - len(text), 0)]
    return (more + text if left else text + more)[:width] if len(text) < width else text[:width]


def capitals(text: str) -> str:
    """A capital after anything that is neither letter nor digit."""
    return "".join(one.upper() if at == 0 or not text[at - 1].isalnum() else one.lower() for at, one in enumerate(text))


# A formula over texts A and S and a number N from 0 to 3, and what Python says of them.
TOLD: list[tuple[str, Callable[[str, str, int], Any]]] = [
    ("UPPER(A)", lambda a, s, n: a.upper()),
    ("LOWER(A)", lambda a, s, n: a.lower()),
    ("INITCAP(A)", lambda a, s, n: capitals(a)),
    ("REVERSE(A)", lambda a, s, n: a[::-1]),
    ("CHAR_LENGTH(A)", lambda a, s, n: len(a)),
    ("LEFT(A, 2)", lambda a, s, n: a[:2]),
    ("LEFT(A, N)", lambda a, s, n: a[:n]),
    ("RIGHT(A, 2)", lambda a, s, n: a[-2:]),
    ("RIGHT(A, N)", lambda a, s, n: a[-n:] if n else ""),
    ("SUBSTRING(A, 2)", lambda a, s, n: a[1:]),
    ("SUBSTRING(A, 2, 3)", lambda a, s, n: a[1:4]),
    ("SUBSTRING(A, N + 1, N)", lambda a, s, n: a[n : 2 * n]),
    ("REPLACE(A, 'a', 'bb')", lambda a, s, n: a.replace("a", "bb")),
    ("REPLACE(A, S, '*')", lambda a, s, n: a.replace(s, "*") if s else a),
    ("POSITION('a' IN A)", lambda a, s, n: a.find("a") + 1),
    ("POSITION(S IN A)", lambda a, s, n: a.find(s) + 1),
    ("CONTAINS(A, '-')", lambda a, s, n: "-" in a),
    ("CONTAINS(A, S)", lambda a, s, n: s in a),
    ("STARTS_WITH(A, S)", lambda a, s, n: a.startswith(s)),
    ("ENDS_WITH(A, 'é')", lambda a, s, n: a.endswith("é")),
    ("A LIKE 'a%'", lambda a, s, n: like(a, "a%")),
    ("A LIKE '%7'", lambda a, s, n: like(a, "%7")),
    ("A LIKE '%-%'", lambda a, s, n: like(a, "%-%")),
    ("A LIKE '_é%'", lambda a, s, n: like(a, "_é%")),
    ("A LIKE 'a%7%'", lambda a, s, n: like(a, "a%7%")),
    ("A LIKE '__'", lambda a, s, n: like(a, "__")),
    ("A NOT LIKE '%.%'", lambda a, s, n: not like(a, "%.%")),
    ("BTRIM(A)", lambda a, s, n: a.strip(" ")),
    ("LTRIM(A, 'a ')", lambda a, s, n: a.lstrip("a ")),
    ("RTRIM(A, S)", lambda a, s, n: a.rstrip(s) if s else a),
    ("LPAD(A, 4, 'xy')", lambda a, s, n: padded(a, 4, "xy", left=True)),
    ("RPAD(A, 4, 'é')", lambda a, s, n: padded(a, 4, "é", left=False)),
    ("RPAD(A, N)", lambda a, s, n: padded(a, n, " ", left=False)),
    ("SPLIT_PART(A, '-', 1)", lambda a, s, n: a.split("-")[0]),
    ("SPLIT_PART(A, '-', -1)", lambda a, s, n: a.split("-")[-1]),
    ("SPLIT_PART(A, '-', 2)", lambda a, s, n: [*a.split("-"), ""][1]),
    ("REPEAT(A, N)", lambda a, s, n: a * n),
    ("A || '-' || S", lambda a, s, n: f"{a}-{s}"),
    ("CONCAT(A, N, S)", lambda a, s, n: f"{a}{n}{s}"),
    ("A < S", lambda a, s, n: a.encode() < s.encode()),
    ("A >= 'b'", lambda a, s, n: a.encode() >= b"b"),
    ("A = S", lambda a, s, n: a == s),
    ("A IN ('a', 'é', '')", lambda a, s, n: a in ("a", "é", "")),
    ("GREATEST(A, S)", lambda a, s, n: max(a, s, key=str.encode)),
    ("REGEXP_LIKE(A, '[0-9]')", lambda a, s, n: re.search("[0-9]", a) is not None),
    ("REGEXP_REPLACE(A, '[a7]+', '#')", lambda a, s, n: re.sub("[a7]+", "#", a, count=1)),
    ("REGEXP_REPLACE(A, '[a7]+', '#', 'g')", lambda a, s, n: re.sub("[a7]+", "#", a)),
    ("REGEXP_COUNT(A, 'a')", lambda a, s, n: a.count("a")),
    ("REGEXP_SUBSTR(A, '[0-9]+')", lambda a, s, n: found[0] if (found := re.search("[0-9]+", a)) else None),
    ("NULLIF(A, S)", lambda a, s, n: None if a == s else a),
    ("CASE WHEN A < S THEN A ELSE S END", lambda a, s, n: min(a, s, key=str.encode)),
    ("CAST(CAST(N AS TEXT) || '7' AS INTEGER)", lambda a, s, n: n * 10 + 7),
]


class Texts(unittest.TestCase):
    def test_against_plain_python(self) -> None:
        for name, letters, different, rows in (
            ("ASCII, few", "aB7- .", 12, 900),
            ("ASCII, many", "aB7- .", 5000, 5000),
            ("all letters, few", "aé7-Ж 😀", 12, 900),
            ("all letters, many", "aé7-Ж 😀", 5000, 5000),
        ):
            chance = random.Random(name)
            words = ["".join(chance.choices(letters, k=chance.randrange(7))) for _ in range(different)]
            first, second = ([chance.choice([*words, None]) for _ in range(rows)] for _ in range(2))
            numbers = [chance.randrange(4) for _ in range(rows)]
            search = [one if one is None else one[:2] for one in second]
            table = pa.table({"A": first, "S": search, "N": numbers})
            coded = table.set_column(0, "A", table.column("A").dictionary_encode())
            for how, given in (("as they are", table), ("as codes", coded)):
                source = oak.Source.from_table(given, name="Texts")
                answer = source.rows([(f"c{at}", formula) for at, (formula, _) in enumerate(TOLD)]).table
                for at, (formula, wanted) in enumerate(TOLD):
                    with self.subTest(formula, texts=name, how=how):
                        for a, s, n, found in zip(first, search, numbers, answer.column(at).to_pylist(), strict=True):
                            if a is not None and s is not None:
                                self.assertEqual(found, wanted(a, s, n), (a, s, n))

    def test_numbers_with_marks_come_back(self) -> None:
        chance = random.Random(20261129)
        for mark, thousands in ((".", ","), (",", "."), (",", " "), (".", "'"), (".", "")):
            values = [Decimal(chance.randrange(-(10**9), 10**9)) / 10 ** chance.randrange(4) for _ in range(300)]
            ways: list[Callable[[str, str], str]] = [
                lambda sign, bare: sign + bare,
                lambda sign, bare: bare + sign,
                lambda sign, bare: f"({bare})" if sign else bare,
                lambda sign, bare: f"{sign}EUR {bare}",
                lambda sign, bare: f" {sign}{bare} €\u00a0",
            ]
            texts = []
            for value in values:
                whole, _, rest = f"{abs(value):,f}".partition(".")
                bare = whole.replace(",", thousands) + (f"{mark}{rest}" if rest else "")
                texts.append(chance.choice(ways)("-" if value < 0 else "", bare))
            source = oak.Source.from_table(pa.table({"A": texts}), name="Amounts")
            formula = f"CAST(PLAIN_NUMBER(A, '{mark}', '{thousands.replace(chr(39), chr(39) * 2)}', 'EUR €') AS DECIMAL(18,3))"
            answer = source.rows([("x", formula)])
            self.assertEqual(answer.table.column(0).to_pylist(), values)
            self.assertEqual(answer.faults, ())

    def test_what_is_no_number_with_these_marks_is_a_fault(self) -> None:
        wrong = {
            ("1.5", ",", "."), ("12,34", ".", ","), ("1.234.56", ",", "."), ("1,2345", ".", ","), ("1 234", ".", ","), ("(5", ".", ""), ("5)", ".", ""),
            ("5 EUR", ".", ""), ("--5", ".", ""), ("", ".", ""), (".", ".", ""), ("x", ".", ""), ("1,,234", ".", ","), ("1.2.3", ".", ","), ("0x1F", ".", ","), ("٣", ".", ","),
        }  # fmt: skip
        for text, mark, thousands in sorted(wrong):
            with self.subTest(text, mark=mark, thousands=thousands):
                source = oak.Source.from_table(pa.table({"A": [text]}), name="Amounts")
                answer = source.rows([("x", f"PLAIN_NUMBER(A, '{mark}', '{thousands}')")])
                self.assertEqual(answer.table.column(0).to_pylist(), [None])
                self.assertEqual(sum(one.rows for one in answer.faults), 1)
