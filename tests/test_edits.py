"""Edits as differences: applied, taken back, and applied again where other lines have changed; line ends and marks of files stay."""

from __future__ import annotations

import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

import oak_ledger as oak
from oak_ledger.definition.document import parse_document
from oak_ledger.definition.edits import FileEdit, hunks_of, patched
from oak_ledger.definition.references import renamed_references, with_replaced_values
from oak_ledger.report.definition import REPORT
from oak_ledger.report.local import formula_key
from tests.support import FolderCase

LINES = st.lists(
    st.sampled_from(["", "[[field]]", 'name = "A"', 'name = "B"', 'type = "text"', "# by hand", "hidden = true"]),
    max_size=14,
)
HERE = Path("t.oak.toml")


class Hunks(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(LINES, LINES)
    def test_there_and_back(self, before: list[str], after: list[str]) -> None:
        old, new = "\n".join(before), "\n".join(after)
        hunks = hunks_of(old, new)
        self.assertEqual(patched(HERE, old, hunks), new)
        self.assertEqual(patched(HERE, new, [hunk.turned() for hunk in hunks]), old)

    @settings(max_examples=100, deadline=None)
    @given(st.integers(0, 12), st.integers(0, 12), st.integers(1, 4))
    def test_lines_that_came_elsewhere_stay(self, at: int, added: int, count: int) -> None:
        old = [f"line {number}" for number in range(13)]
        new = [*old[:at], "changed", *old[at + 1 :]]
        new_later = [*new[:added], *[f"# more {number}" for number in range(count)], *new[added:]]
        old_later = [*old[:added], *[f"# more {number}" for number in range(count)], *old[added:]]
        hunks = hunks_of("\n".join(old), "\n".join(new))
        self.assertEqual(patched(HERE, "\n".join(new_later), [one.turned() for one in hunks]), "\n".join(old_later))

    def test_the_nearest_of_equal_places_is_taken(self) -> None:
        block = ["[[field]]", 'name = "A"', 'type = "text"', ""]
        old = block * 5
        new = [*old[:10], 'type = "date"', *old[11:]]
        hunks = hunks_of("\n".join(old), "\n".join(new))
        self.assertEqual(patched(HERE, "\n".join(["# top", *old]), hunks), "\n".join(["# top", *new]))

    def test_the_same_lines_changed_are_named(self) -> None:
        hunks = hunks_of("a\nb\nc\nd", "a\nB\nc\nd")
        with self.assertRaises(oak.UnusableInput) as caught:
            patched(HERE, "a\nother\nc\nd", hunks)
        self.assertEqual(caught.exception.code, "changed-meanwhile")
        self.assertIn("line 2: b → B", caught.exception.message)

    def test_lines_of_an_edit(self) -> None:
        self.assertEqual(FileEdit(HERE, "a\nb\nc", "a\nB\nc\nd").lines(), [(2, "b", "B"), (4, "", "d")])
        self.assertEqual(FileEdit(HERE, "a\nb\nc", "a\nc").lines(), [(2, "b", "")])


class Files(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("t.csv", "Mill,Volume\na,1\nb,2\n")
        oak.intake(["t.csv"], name="T", definition="t.oak.toml").save()

    def test_line_ends_and_the_mark_at_the_beginning_stay(self) -> None:
        plain = HERE.read_bytes()
        for mark, end in ((b"", b"\r\n"), (b"\xef\xbb\xbf", b"\n"), (b"\xef\xbb\xbf", b"\r\n")):
            with self.subTest(mark=mark, end=end):
                before = mark + plain.replace(b"\n", end)
                HERE.write_bytes(before)
                self.oak("field", "set", "t", "Volume", "--description", "In tonnes")
                after = HERE.read_bytes()
                self.assertTrue(after.startswith(mark + b"[source]"))
                self.assertEqual(after.count(b"\r\n"), after.count(b"\n") if end == b"\r\n" else 0)
                self.assertIn(b'description = "In tonnes"' + end, after)
                self.oak("undo", "t")
                self.assertEqual(HERE.read_bytes(), before)

    def test_the_log_has_a_bound(self) -> None:
        self.oak("field", "set", "t", "Volume", "--description", "x" * 300_000)
        for number in range(12):
            self.oak("field", "set", "t", "Volume", "--description", f"{number}" + "y" * 300_000)
        self.assertLess(Path(".t.oak.toml.edits").stat().st_size, 2_100_000)
        self.assertGreaterEqual(len(oak.edits_of(HERE)), 2)

    def test_a_dry_run_of_publishing_stores_nothing(self) -> None:
        self.assertIn("would be published", self.oak("publish", "t", "--dry-run"))
        self.assertFalse(Path("catalogue").exists())
        self.oak("publish", "t")
        self.oak("release", "T", "--yes")
        self.write(
            "r.report.toml",
            '[report]\nname = "R"\nsource = "T"\n\n[[panel]]\nkind = "figure"\ntitle = "V"\nshow = ["Volume"]\n',
        )
        self.write("t.csv", "Mill,Volume\na,1\nb,5\n")
        dry = self.oak_json("publish", "t", "--dry-run")
        self.assertEqual((dry["version"], [one["after"] for one in dry["changes"]]), (None, [6]))
        self.assertEqual(len(self.oak_json("versions")["versions"]), 1)
        self.assertEqual(self.oak_json("publish", "t")["changes"], dry["changes"])


# Formulas that mean the same, and formulas that do not.
SAME = (
    ("SUM(Cost) / SUM(Volume)", 'sum( cost )/sum( "Volume" )'),
    ("Cost + Fee", "Fee + Cost"),
    ("Cost + Fee + 1", "1 + (Fee + Cost)"),
    ("(Cost)", "Cost"),
    ("Cost = 1 AND Sent", "Sent AND 1 = Cost"),
    ("CASE WHEN Cost > 1 THEN 'a' END", "case when (Cost > 1) then 'a' end"),
)
OTHER = (
    ("Cost - Fee", "Fee - Cost"),
    ("Cost / Fee", "Fee / Cost"),
    ("Cost + Fee", "Cost * Fee"),
    ("'a'", "'A'"),
    ("SUM(Cost)", "SUM(DISTINCT Cost)"),
    ("Cost < Fee", "Fee < Cost"),
    ("Mill || Code", "Code || Mill"),
    ("(Cost = Fee) = Sent", "Cost = (Fee = Sent)"),
)


class Keys(unittest.TestCase):
    def test_formulas_that_mean_the_same(self) -> None:
        for one, other in SAME:
            self.assertEqual(formula_key(one), formula_key(other), (one, other))
        for one, other in OTHER:
            self.assertNotEqual(formula_key(one), formula_key(other), (one, other))


class Form(unittest.TestCase):
    def test_what_an_edit_does_not_touch_keeps_its_form(self) -> None:
        """In lists and inline tables, too: spaces, quotes, comments, line breaks."""
        text = """\
[report]
name = "R"
source = "L"

[[panel]]
kind = "table"
title = 'T'
by = [ "Mill",  { name = "Month", formula = "DATE_TRUNC('month', Day)" } ]   # of delivery
show = ["Volume", { name = 'Oak', formula = "COUNT(*) FILTER (WHERE Species = 'oak')" },
        "Cost" ]
where = 'Mill IS NULL'
"""
        document = parse_document(text, REPORT, "r")
        for made, pairs in (
            (renamed_references(document, {"volume": "Cubic", "mill": "Works"}), (('"Volume"', '"Cubic"'), ('"Mill"', '"Works"'), ("'Mill ", "'Works "))),
            (with_replaced_values(document, "Species", {"oak": "Eiche"}), (("'oak'", "'Eiche'"),)),
            (document.replaced(document.all("panel")[0], {"limit": None, "title": "U"}), (("'T'", "'U'"),)),
        ):  # fmt: skip
            wanted = text
            for old, new in pairs:
                wanted = wanted.replace(old, new)
            self.assertEqual(made.text, wanted)


if __name__ == "__main__":
    unittest.main()
