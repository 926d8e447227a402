"""Thresholds at their edges: what is judged one way just below, and another just above."""

from __future__ import annotations

import unittest
from typing import Any

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.columns.judging import nice_name
from oak_ledger.columns.roles import role_of
from tests.support import D, FolderCase


def column(values: list[str]) -> str:
    """A file of a counter and the values, separated by tabs."""
    return "N\tX\n" + "".join(f"{at}\t{value}\n" for at, value in enumerate(values))


def some(good: str, count: int, other: str, others: int) -> list[str]:
    """So many good values and some others."""
    return [good] * count + [other] * others


# Values, and the type that a column of them gets.
TYPES: list[tuple[str, list[str], str]] = [
    ("five of a thousand do not fit", some("7", 995, "x", 5), "integer"),
    ("six of a thousand do not fit", some("7", 994, "x", 6), "text"),
    ("two of 400 do not fit", some("7", 398, "x", 2), "integer"),
    ("three of 400 do not fit", some("7", 397, "x", 3), "text"),
    ("one of ten does not fit", some("7", 9, "x", 1), "text"),
    ("a word for nothing is no misfit", some("7", 10, "n/a", 90), "integer"),
    ("empty ones are no misfits", some("7", 10, "", 500), "integer"),
    ("18 digits", ["9" * 18, "1"], "integer"),
    ("19 digits", ["9" * 19, "1"], "decimal(38,0)"),
    ("38 digits", ["9" * 38, "1"], "decimal(38,0)"),
    ("39 digits", ["9" * 39, "1"], "text"),
    ("16 digits and two behind the point", ["9" * 16 + ".25"], "decimal(18,2)"),
    ("17 digits and two behind the point", ["9" * 17 + ".25"], "decimal(38,2)"),
    ("9 places", ["1.123456789", "2"], "decimal(18,9)"),
    ("10 places that a float keeps", ["1.1234567891", "2"], "number"),
    ("19 places", ["0." + "1234567891234567891", "2"], "decimal(38,19)"),
    ("20 places", ["0." + "12345678912345678912", "2"], "text"),
    ("one zero before digits", ["7", "8", "09"], "text"),
    ("zero itself", ["7", "8", "0"], "integer"),
    ("minus zero before digits", ["7", "-09"], "text"),
    ("a point at the end", ["7.", "8.5"], "decimal(18,1)"),
    ("a point at the beginning", [".7", "8.5"], "decimal(18,1)"),
    ("a plus", ["+7", "8"], "integer"),
    ("long ones with a plus, most", ["+71234567", "+81234567", "9"], "text"),
    ("long ones with a plus, few", ["+71234567", "8", "9", "10"], "integer"),
    ("an exponent of 30", ["1e30", "2"], "text"),
    ("a point and an exponent", ["1.0e30", "2"], "number"),
    ("a sign and an exponent", ["1e-3", "2"], "number"),
    ("day 31", ["31.01.2026", "01.01.2026"], "date"),
    ("day 32", ["32.01.2026", "01.01.2026"], "text"),
    ("month 12", ["01.12.2026"], "date"),
    ("month 13", ["01.13.2026"], "text"),
    ("year 0", ["01.01.0000"], "text"),
    ("year 10000", ["01.01.10000"], "text"),
    ("hour 23", ["2026-01-01 23:59"], "timestamp"),
    ("hour 24", ["2026-01-01 24:00"], "text"),
    ("second 59", ["2026-01-01 23:59:59"], "timestamp"),
    ("second 60", ["2026-01-01 23:59:60"], "text"),
    ("six places of a second", ["2026-01-01 23:59:59.123456"], "timestamp"),
    ("yes and no", ["yes", "no"], "boolean"),
    ("yes and maybe", ["yes", "maybe"], "text"),
]  # fmt: skip

# Groups of three, their neighbours, and the values that must come out.
GROUPED: list[tuple[str, list[str], list[Any]]] = [
    ("one group", ["1,234", "12"], [1234, 12]),
    ("a short group", ["1,23", "12,5"], [D("1.23"), D("12.50")]),
    ("a long group", ["1,2345", "12,5"], [D("1.2345"), D("12.5000")]),
    ("four digits before", ["1234,567", "12,5"], [D("1234.567"), D("12.500")]),
    ("a zero before", ["0,123", "12"], [D("0.123"), D("12.000")]),
    ("two groups, the last short", ["1,234,56", "12"], ["1,234,56", "12"]),
    ("groups of two and three", ["1,23,456", "12"], [123456, 12]),
    ("groups and a point", ["1,234.5", "12"], [D("1234.5"), D("12.0")]),
]  # fmt: skip

# A name, a type, and its role and total.
ROLES: list[tuple[str, str, str, str]] = [
    ("Volume", "decimal", "measure", ""), ("Mill", "text", "dimension", ""), ("Load id", "integer", "dimension", ""), ("Identity", "integer", "measure", ""),
    ("Order no", "integer", "dimension", ""), ("Notes", "integer", "measure", ""), ("Year", "integer", "dimension", ""), ("Years", "integer", "measure", ""),
    ("Postal", "integer", "dimension", ""), ("Unit price", "decimal", "measure", "average"), ("Prices", "decimal", "measure", ""), ("Share", "number", "measure", "average"),
    ("Shared", "number", "measure", ""), ("Lat", "number", "dimension", ""), ("Flat", "number", "measure", ""), ("Age", "integer", "measure", "average"), ("Mileage", "integer", "measure", ""),
    ("Sent", "boolean", "dimension", ""), ("Day", "date", "dimension", ""),
]  # fmt: skip

# Last lines of a file of two columns, and how many of them are no rows.
LAST: list[tuple[str, str, int]] = [
    ("Total,7", "a total", 1), ("TOTAL,7", "in capitals", 1), ("Totals:,7", "with a colon", 1), ("Total of June,7", "of a month", 1), ("Totally,7", "another word", 0),
    ("Sum,7", "a sum", 1), ("Summer,7", "another word", 0), ("Summe,7", "German", 1), ("Итого,7", "Russian", 1), ("Count: 2", "a count", 1), ("County,7", "another word", 0),
    ("2 rows", "how many", 1), ("Row 2,7", "a name", 0), ("End of report", "the end", 1), ("Endless,7", "another word", 0), ("-,-", "dashes alone", 0), (",", "nothing alone", 0),
    ("===,===\nTotal,7", "a rule and a total", 2), ("\n\nTotal,7", "a gap and a total", 3), ("Total,7\nCount: 2", "two of them", 2), ("Total,7\nOak,7", "a row after it", 0),
]  # fmt: skip


class Edges(FolderCase):
    def took(self, content: str, **reading: Any) -> oak.Intake:
        """What intake makes of a file."""
        return oak.intake([self.write("t.csv", content)], definition="t.oak.toml", **reading)

    def test_types(self) -> None:
        for about, values, kind in TYPES:
            with self.subTest(about):
                found = self.took(column(values)).proposals[1]
                self.assertEqual(found.type, kind, found.evidence.why)

    def test_groups_of_three(self) -> None:
        for about, values, wanted in GROUPED:
            with self.subTest(about):
                self.assertEqual(self.took(column(values)).source.rows(["X"]).table.column(0).to_pylist(), wanted)

    def test_roles(self) -> None:
        for name, kind, role, total in ROLES:
            values = {
                "integer": "5",
                "decimal": "5.5",
                "number": "5.5e0",
                "text": "x",
                "boolean": "yes",
                "date": "2026-01-31",
            }[kind]
            found = self.took(column([values, values])).proposals[1]
            with self.subTest(name):
                self.assertEqual(found.type.partition("(")[0], kind)
                self.assertEqual(role_of(name, found.evidence)[:2], (role, total))

    def test_numbers_of_rows(self) -> None:
        for about, values, role in (
            ("one after the other", range(1, 9), "dimension"), ("with a gap", [*range(1, 8), 9], "measure"), ("one twice", [*range(1, 8), 7], "measure"), ("two alone", range(1, 3), "measure"),
            ("a hundred with gaps", range(0, 200, 2), "dimension"), ("ninety-nine with gaps", range(0, 198, 2), "measure"), ("a hundred, far apart", range(0, 300, 3), "measure"),
        ):  # fmt: skip
            with self.subTest(about):
                self.assertEqual(self.took(column([str(one) for one in values])).proposals[1].role, role)

    def test_last_lines(self) -> None:
        for last, about, count in LAST:
            with self.subTest(about, last=last):
                found = self.took(f"Wood,N\nAsh,3\nElm,4\n{last}\n", bad_rows="keep")
                self.assertEqual(found.source.origin.footer, count)
                self.assertEqual(
                    found.rows, 2 + last.count("\n") + 1 - count - (1 if last.startswith("\n") and not count else 0)
                )

    def test_the_edit_log_keeps_the_last_two_hundred(self) -> None:
        self.took("N,X\n1,2\n").save()
        for at in range(203):
            self.oak("field", "set", "t", "X", "--description", f"number {at}")
        edits = oak.edits_of(self.folder / "t.oak.toml")
        self.assertEqual((len(edits), edits[-1].what.split()[-1]), (200, "202'"))
        for _ in range(200):
            oak.undo(self.folder / "t.oak.toml")
        self.raises("nothing-to-undo", oak.undo, self.folder / "t.oak.toml")
        self.assertIn('description = "number 2"', (self.folder / "t.oak.toml").read_text())

    def test_what_a_missing_column_is_called_now(self) -> None:
        mills = ["Low Weir", "High Ford", "Stonebeck", "Ember Quay"]

        def content(*names: str, shift: int = 0) -> str:
            rows = "".join(
                f"{mills[at % 4]},{mills[(at + shift) % 4] if shift >= 0 else f'M{at}'},{at}\n" for at in range(40)
            )
            return ",".join(names) + "\n" + rows

        self.took(content("Mill", "Other", "N")).save()
        before = {"Mill": oak.open_source("t.oak.toml")}
        self.oak("publish", "t")
        published = oak.Catalogue.open("catalogue").source("T", 1)
        for about, text, best in (
            ("by its values, whatever its name", content("Zebra", "Other", "N"), "Zebra"),
            ("by its values before a like name", content("Works", "Mil", "N", shift=-1), "Works"),
            ("a like name alone is weak", content("X", "Mill2", "N", shift=-1), "X"),
        ):
            with self.subTest(about):
                self.write("t.csv", text)
                source = oak.open_source("t.oak.toml")
                found = oak.candidates(source, published)["Mill"]
                self.assertEqual(found[0].column, best)
                self.assertGreater(found[0].score, 0.65)
                self.assertTrue(all(one.score <= found[0].score for one in found))
        self.assertIn("Mill", before)

    def test_whole_numbers_that_nearly_fill_their_room(self) -> None:
        for size in (2**61, 2**62 - 1, 2**62, 2**62 + 1, 2**63 - 1):
            for other in (1, 2, 3, -7):
                cents = [D(size) / 100, D(-size) / 100, D(size - 1) / 100]
                table = pa.table(
                    {
                        "W": pa.array([size, -size, size - 1]),
                        "C": pa.array(cents, pa.decimal128(38, 2)),
                        "B": [other] * 3,
                    }
                )
                source = oak.Source.from_table(table, name="Large")
                answer = source.rows(
                    [
                        ("div", "DIV(W, B)"),
                        ("mod", "W % B"),
                        ("cents", "DIV(C, B)"),
                        ("sum", "CAST(W AS DECIMAL(38,4)) + 1"),
                        ("scaled", "CAST(C AS DECIMAL(38,12))"),
                    ]
                ).table.to_pydict()
                for at, (whole, cent) in enumerate(zip([size, -size, size - 1], cents, strict=True)):
                    with self.subTest(whole=whole, other=other):
                        self.assertEqual(
                            answer["div"][at], abs(whole) // abs(other) * (1 if whole * other >= 0 else -1)
                        )
                        self.assertEqual(answer["mod"][at], whole - answer["div"][at] * other)
                        exact = abs(cent) // abs(other) * (1 if cent * other >= 0 else -1)
                        self.assertEqual(answer["cents"][at], exact)
                        self.assertEqual((answer["sum"][at], answer["scaled"][at]), (whole + 1, cent))

    def test_one_name_where_several_may_stand(self) -> None:
        self.took("Mill,N\nLow,1\nAsh,2\n").save()
        source = oak.open_source(self.folder / "t")  # as the command line finds it
        self.assertEqual(source.rows("N", sort="-N").table.to_pydict(), {"N": [2, 1]})
        self.assertEqual(source.rows("N * 2").table.num_columns, 1)
        self.assertEqual(source.tally("Mill", "N").table.to_pydict(), {"Mill": ["Ash", "Low"], "N": [2, 1]})
        self.assertEqual(source.write("out.csv", "Mill").rows, 2)

    def test_names_as_people_write_them(self) -> None:
        for given, wanted in (
            ("LOAD_ID", "Load id"),
            ("grossValueEUR", "Gross value eur"),
            ("a", "A"),
            ("x1", "X1"),
            ("already Fine", "Already Fine"),
            ("__odd__", "Odd"),
            ("Größe_cm", "Größe cm"),
        ):
            with self.subTest(given):
                self.assertEqual(nice_name(given), wanted)


if __name__ == "__main__":
    unittest.main()
