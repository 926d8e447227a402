"""Definitions and edits: what a file may say, what an edit changes in it, and what it leaves alone."""

from __future__ import annotations

import threading
import tomllib
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.definition.document import parse_document
from oak_ledger.definition.formats import BadFormat, Format, show
from oak_ledger.definition.model import DEFINITION as SHAPE
from oak_ledger.names.compiled import literal_text
from oak_ledger.types import Type
from tests.support import D, FolderCase, loads

CSV = "ID,Mill,Vol,Cost,Day\n001,Low Weir,1.50,10,01.02.2026\n002,High Ford,2.25,,31.02.2026\n003,,4.00,30,03.02.2026\n"
DEFINITION = """\
# What this file is for: a comment at the top.
[source]
name = "Loads"   # beside a value
key = ["Id"]

[origin]
kind = "file"
path = "loads.csv"

# The identifier keeps its zeros.
[[field]]
name = "Id"
column = "ID"

[[field]]
name = "Mill"
column = "Mill"
clean = '''COALESCE(VALUE, 'unknown')'''

[[field]]
name = "Volume"
column = "Vol"
type = "decimal(10,2)"
rule = "VALUE > 0"

[[field]]
column = "Cost"
name = "Haulage cost"
type = "integer"
description = "What the haulier asks, [[field]] is no header here"

[[field]]
name = "Day"
column = "Day"
type = "date"
template = "DD.MM.YYYY"

# A long formula with a comment in it.
[[field]]
name = "Rate"
formula = '''
-- per cubic metre
[[field]]  '''

[[constant]]
name = "Surcharge"
value = 1.15

[[constant]]
name = "Crowns"
by = "Day"
values = { 2026-02-01 = 11.0, 2026-02-03 = 12.5 }

[[filter]]
name = "Known mill"
where = '''Mill <> 'unknown' '''
""".replace("[[field]]  '''", "\"Haulage cost\" / Volume * Surcharge   '''")


class WithLoads(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", CSV)
        self.path = self.write("loads.oak.toml", DEFINITION)

    @property
    def source(self) -> oak.Source:
        return oak.open_source(self.path)


class Reading(WithLoads):
    def test_values_come_as_the_definition_says(self) -> None:
        answer = self.source.rows(["Id", "Mill", "Volume", "Day", "Rate", "Crowns"])
        rows = answer.to_dicts()
        self.assertEqual([row["Id"] for row in rows], ["001", "002", "003"])
        self.assertEqual([row["Mill"] for row in rows], ["Low Weir", "High Ford", "unknown"])
        self.assertEqual([row["Volume"] for row in rows], [D("1.50"), D("2.25"), D("4.00")])
        self.assertEqual([row["Crowns"] for row in rows], [D("11.0"), None, D("12.5")])
        self.assertAlmostEqual(rows[0]["Rate"], 10 / 1.5 * 1.15)
        self.assertEqual([(fault.field, fault.rows, fault.samples[0][0]) for fault in answer.faults], [("Day", 1, 2)])

    def test_a_filter_by_name_and_by_formula(self) -> None:
        self.assertEqual(self.source.rows(["Id"], where='"Known mill"').table.num_rows, 2)
        self.assertEqual(self.source.rows(["Id"], where=["Volume > 2", '"Known mill"']).table.num_rows, 1)
        self.assertEqual(
            [one.code for one in self.source.rows(["Id"], where="Volume > 99").findings], ["filter-matches-nothing"]
        )
        self.assertEqual(
            [one.code for one in self.source.rows(["Id"], where="Volume > 0").findings], ["filter-matches-all"]
        )
        always = oak.open_source(
            self.write("a.oak.toml", DEFINITION.replace('name = "Known mill"', 'name = "Known mill"\nalways = true'))
        )
        self.assertEqual(always.tally().value(), 2)

    def test_order_and_limit(self) -> None:
        rows = self.source.rows(["Id", "Haulage cost"], sort=["-Haulage cost"]).to_dicts()
        self.assertEqual([row["Id"] for row in rows], ["002", "003", "001"])  # nulls first going down
        rows = self.source.rows(["Id", "Haulage cost"], sort=["Haulage cost"], limit=2).to_dicts()
        self.assertEqual([row["Id"] for row in rows], ["001", "003"])

    def test_wrong_questions(self) -> None:
        source = self.source
        self.raises("unknown-field", source.rows, ["Volum"])
        self.raises("grain-mixed", source.rows, ["SUM(Volume)"])
        self.raises("grain-mixed", source.tally, ["SUM(Volume)"], ["Volume"])
        self.raises("not-totalled", source.tally, [], ["Mill"])
        self.raises("unknown-sort", source.tally, ["Mill"], ["Volume"], sort=["Cost"])
        self.raises("condition-wanted", source.rows, ["Id"], where="Volume")
        self.raises("name-twice", source.tally, ["Mill"], [("Mill", "COUNT(*)")])
        self.assertIn("Did you mean Volume?", self.raises("unknown-field", source.rows, ["Volum"]).hint)
        self.assertIn("is the field Volume", self.raises("unknown-field", source.rows, ["Vol * 1"]).hint)

    def test_how_measures_are_totalled(self) -> None:
        source = self.source
        cases = {
            "sum": D("7.75"),
            "average": 7.75 / 3,
            "median": 2.25,
            "minimum": D("1.50"),
            "maximum": D("4.00"),
            "count": 3,
            "distinct": 3,
        }
        for how, wanted in cases.items():
            answer = source.with_changed("Volume", total=how).tally(show=["Volume"])
            self.assertEqual(answer.names, ["Volume" if how == "sum" else f"Volume, {how}"])
            self.assertAlmostEqual(answer.value(), wanted, msg=how)
        self.raises("not-totalled", source.with_changed("Volume", total="none").tally, [], ["Volume"])


class NamedKeys(unittest.TestCase):
    def test_a_formula_may_name_what_the_answer_is_grouped_by(self) -> None:
        table = pa.table({"t": ["a", "b", "b", None, "c", "a"], "i": [1, 2, 3, 4, 5, 6]})
        source = oak.Source.from_table(table, name="S")
        shown = [
            ("rank", "RANK() OVER (PARTITION BY odd ORDER BY COUNT(*) DESC, k)"),
            ("both", "SUM(COUNT(*)) OVER (PARTITION BY k)"),
            ("letters", "SUM(CHAR_LENGTH(k || 'x'))"),
        ]
        found = source.tally([("k", "COALESCE(t, '-')"), ("odd", "i % 2")], shown).to_dicts()
        wanted = [("-", 0, 1, 1, 2), ("a", 0, 2, 2, 2), ("a", 1, 1, 2, 2), ("b", 0, 3, 2, 2), ("b", 1, 2, 2, 2), ("c", 1, 3, 1, 2)]  # fmt: skip
        self.assertEqual([tuple(row.values()) for row in found], wanted)
        with self.assertRaises(oak.OakError) as caught:
            source.tally(["t"], [("x", "SUM(COUNT(*)) OVER (PARTITION BY i)")])
        self.assertEqual(caught.exception.code, "window-key")


class Edits(WithLoads):
    def test_only_what_is_edited_changes(self) -> None:
        edits = {
            "retype": lambda s: s.with_changed("Volume", type="number"),
            "describe": lambda s: s.with_changed("Mill", description="Where it went"),
            "hide": lambda s: s.with_changed("Id", hidden=True),
            "add": lambda s: s.with_field("Twice", "Volume * 2", format="0.00"),
            "drop": lambda s: s.without(["Rate"]),
        }
        lost = {"retype": 1, "describe": 0, "hide": 0, "add": 0, "drop": 7}
        for name, edit in edits.items():
            with self.subTest(name):
                before, after = DEFINITION.splitlines(), edit(self.source).document.text.splitlines()
                gone = [line for line in before if line.strip() and line not in after]
                self.assertLessEqual(len(gone), lost[name], gone)
                tomllib.loads("\n".join(after))

    def test_quotes_of_any_kind_do_not_hide_the_next_table(self) -> None:
        written = [
            "\"REPLACE(VALUE, '''', '')\"",
            '"x \'\'\' y" # """',
            "'\"\"\"' # it's",
            '"""a \\""" b\n[[field]]\n"""',
            "'''two\n[[field]]\n'' '''''",
        ]
        for one in written:
            text = f'[source]\nname = "S"\ndescription = {one}\n\n[origin]\nkind = "memory"\n\n# beside A\n[[field]]\nname = "A"\ncolumn = "a"\n'
            (block,) = parse_document(text, SHAPE, "s").all("field")
            self.assertTrue(block.text.startswith("# beside A\n[[field]]"), one)

    def test_a_source_is_a_value(self) -> None:
        source = self.source
        source.with_field("Twice", "Volume * 2")
        self.assertEqual(source.document.text, DEFINITION)
        self.assertNotIn("twice", source.compiled.states)

    def test_rename_is_followed_everywhere(self) -> None:
        made = self.source.with_renamed(
            {"Haulage cost": "Haulage", "Volume": "m³ in all", "Mill": "Works", "Id": "Load no", "Day": "Delivered"}
        )
        text = made.document.text
        self.assertIn("-- per cubic metre\nHaulage / \"m³ in all\" * Surcharge   '''", text)
        self.assertIn("Works <> 'unknown'", text)
        self.assertIn('key = ["Load no"]', text)
        self.assertIn('by = "Delivered"', text)
        self.assertIn('# The identifier keeps its zeros.\n[[field]]\nname = "Load no"', text)
        self.assertEqual([one.code for one in made.check() if one.severity == "error"], [])
        swapped = self.source.with_renamed({"Volume": "Haulage cost", "Haulage cost": "Volume"})
        self.assertIn('Volume / "Haulage cost" * Surcharge', swapped.document.text)
        back = made.with_renamed(
            {"Haulage": "Haulage cost", "m³ in all": "Volume", "Works": "Mill", "Load no": "Id", "Delivered": "Day"}
        )
        self.assertEqual(tomllib.loads(back.document.text), tomllib.loads(DEFINITION))

    def test_a_collision_is_refused_with_both_names(self) -> None:
        error = self.raises("name-taken", self.source.with_renamed, {"Volume": "mill"})
        self.assertIn("'Volume'", error.message)
        self.assertIn("'Mill'", error.message)
        self.raises("unknown-field", self.source.with_renamed, {"Zebra": "Horse"})
        self.raises("name-taken", self.source.with_renamed, {"Volume": "Surcharge"})

    def test_keep_and_drop(self) -> None:
        kept = self.source.with_kept(["Id", "Mill", "Volume", "Haulage cost", "Day", "Rate"])
        self.assertEqual([state.name for state in kept.fields], ["Id", "Mill", "Volume", "Haulage cost", "Day", "Rate"])
        error = self.raises("still-used", self.source.without, ["Volume"])
        self.assertIn("Rate needs Volume", error.message)
        self.assertEqual(self.source.without(["Id"]).about.key, ())

    def test_formulas_that_are_wrong_are_not_taken(self) -> None:
        source = self.source
        self.raises("unknown-field", source.with_field, "X", "Volum * 2")
        self.raises("name-taken", source.with_field, "Volume", "1 + 1")
        self.raises("cycle", source.with_field, "Rate", "Rate * 2")
        self.raises("wrong-type", source.with_changed, "Mill", clean="VALUE * 2")
        self.raises("wrong-value", source.with_changed, "Volume", type="money")
        self.raises("wrong-value", source.with_changed, "Volume", format="##")

    def test_retyped_tells_what_was_lost(self) -> None:
        made = oak.retype(self.source, "Id", "integer")
        self.assertEqual((made.type_before, made.type_after, made.rows, made.lost_rows), ("text", "integer", 3, 0))
        self.assertEqual(made.samples[0], ("001", 1))
        lost = oak.retype(self.source.with_changed("Mill", clean=None), "Mill", "integer")
        self.assertEqual((lost.lost_rows, lost.values_before, lost.values_after), (2, 2, 0))
        marks = oak.retype(self.source, "Volume", "decimal(10,1)")
        self.assertEqual(str(marks.type_after), "decimal(10,1)")

    def test_trial(self) -> None:
        found = oak.try_formula(self.source, '"Haulage cost" / Volume')
        self.assertEqual((found.type, found.grain, found.rows, found.nulls), ("number", "row", 3, 1))
        self.assertEqual(found.sample.names, ["Haulage cost", "Volume", "result"])
        grouped = oak.try_formula(self.source, "SUM(Volume)", by=("Mill",))
        self.assertEqual((grouped.type, grouped.grain, grouped.rows), ("decimal(38,2)", "group", 3))


class Writing(WithLoads):
    def test_a_full_disk_leaves_the_file_as_it_was(self) -> None:
        made = self.source.with_field("Twice", "Volume * 2")
        with mock.patch("os.fsync", side_effect=OSError(28, "No space left on device")):
            error = self.raises("not-written", made.save)
        self.assertEqual((error.exit_code, self.path.read_text()), (3, DEFINITION))
        self.assertEqual(sorted(path.name for path in self.folder.iterdir()), ["loads.csv", "loads.oak.toml"])
        made.save()
        self.assertIn("Twice", self.path.read_text())

    def test_a_reader_never_sees_half_a_file(self) -> None:
        source = self.source
        stop = threading.Event()
        seen: set[int] = set()

        def look() -> None:
            while not stop.is_set():
                seen.add(len(self.path.read_text()))

        reader = threading.Thread(target=look)
        reader.start()
        other = source.with_changed("Mill", description="x" * 5000)
        for _ in range(30):
            other.save()
            source.save()
        stop.set()
        reader.join()
        self.assertLessEqual(seen, {len(DEFINITION), len(other.document.text)})

    def test_a_source_without_a_file(self) -> None:
        self.raises("no-path", loads().save)
        target = loads().save(self.folder / "new.oak.toml")
        self.assertEqual(oak.open_source(target).name, "Loads")
        self.raises("memory-origin", oak.open_source(target).rows)


BAD_DEFINITIONS: list[tuple[str, str, str, str]] = [
    ('name = "Loads"   # beside', 'nam = "Loads"   # beside', "unknown-key", "Did you mean name?"),
    ('kind = "file"', 'kind = "folder"', "wrong-value", "kind should be 'file', 'files'"),
    ('kind = "file"', 'knid = "file"', "key-missing", "line 6"),
    ("[source]", "[sorce]", "unknown-table", "[source]"),
    ("[origin]", "[origin", "not-toml", "not well written"),
    ('type = "integer"', 'type = "money"', "wrong-value", "there is no type 'money'"),
    ('type = "integer"', "type = 3", "wrong-value", "type should be"),
    ('type = "integer"', 'type = "decimal(99,2)"', "wrong-value", "1 to 38"),
    ('column = "Cost"\n', "", "wrong-value", "neither a column nor a formula"),
    ('column = "Cost"\n', 'column = "Cost"\nformula = "1"\n', "wrong-value", "both a column and a formula"),
    ('name = "Mill"', 'name = "volume"', "name-twice", "line"),
    ("value = 1.15", "", "wrong-value", "either value or values"),
    ("2026-02-01 = 11.0", "february = 11.0", "wrong-value", "'february'"),
    ('name = "Id"\n', 'name = ""\n', "wrong-value", "at least 1 character"),
    ('rule = "VALUE > 0"', 'hidden = "maybe"', "wrong-value", "hidden should be"),
    ("# What this", "stray = 1\n# What this", "stray-key", "'stray'"),
]
BROKEN_FIELDS: list[tuple[str, str, str, str, str]] = [
    ('column = "Vol"', 'column = "Volume"', "Volume", "missing-column", "Did you mean Vol?"),
    ('"Haulage cost" / Volume', '"Haulage cst" / Volume', "Rate", "unknown-field", '"Haulage cost"'),
    ('"Haulage cost" / Volume', "SUM(Volume) / Volume", "Rate", "grain-mixed", "SUM(Volume)"),
    ('"Haulage cost" / Volume', "Rate / Volume", "Rate", "cycle", "Rate → Rate"),
    ("COALESCE(VALUE, 'unknown')", "COALESCE(VALUE, 0)", "Mill", "wrong-type", "one type"),
    ("COALESCE(VALUE, 'unknown')", "MAX(VALUE)", "Mill", "grain-mixed", "aggregates"),
    ("Mill <> 'unknown' ", "Volume + 1", "Known mill", "condition-wanted", "condition"),
]


class WrongDefinitions(WithLoads):
    def test_they_are_refused_with_place_and_hint(self) -> None:
        for old, new, code, words in BAD_DEFINITIONS:
            with self.subTest(new):
                self.assertIn(old, DEFINITION)
                path = self.write("bad.oak.toml", DEFINITION.replace(old, new, 1))
                with self.assertRaises(oak.UnusableInput) as caught:
                    oak.open_source(path)
                found = caught.exception.findings
                self.assertIn(code, [one.code for one in found], str(caught.exception))
                self.assertIn(words, str(caught.exception))
                self.assertIn("bad.oak.toml", str(caught.exception))

    def test_a_broken_field_leaves_the_others_working(self) -> None:
        for old, new, name, code, words in BROKEN_FIELDS:
            with self.subTest(new):
                source = oak.open_source(self.write("b.oak.toml", DEFINITION.replace(old, new, 1)))
                state = source.state(name)
                self.assertTrue(state.broken)
                self.assertEqual(state.findings[0].code, code)
                self.assertIn(words, "\n".join(state.findings[0].lines()))
                self.assertEqual(source.rows(["Id"]).table.num_rows, 3)
                self.assertIn(code, [one.code for one in source.check()])

    def test_a_cycle_is_shown_as_its_path(self) -> None:
        text = (
            DEFINITION
            + '\n[[field]]\nname = "A"\nformula = "B + 1"\n\n[[field]]\nname = "B"\nformula = "C"\n\n[[field]]\nname = "C"\nformula = "A"\n\n[[field]]\nname = "D"\nformula = "C * 2"\n'
        )
        source = oak.open_source(self.write("c.oak.toml", text))
        self.assertIn("A → B → C → A", source.state("A").findings[0].message)
        self.assertEqual(source.state("D").findings[0].code, "broken-field")
        self.assertEqual([one.name for one in oak.broken_names(source)], ["A", "B", "C"])

    def test_files_that_cannot_be_read(self) -> None:
        self.raises("no-file", oak.open_source, self.folder / "loods.oak.toml")
        self.assertIn("loads.oak.toml", self.raises("no-file", oak.open_source, self.folder / "lods.oak.toml").hint)
        self.raises("not-text", oak.open_source, self.write("x.oak.toml", b"\xff\xfe\x00\x01"))
        self.raises("table-missing", oak.open_source, self.write("y.oak.toml", ""))

    def test_a_long_formula_and_windows_line_ends(self) -> None:
        source = oak.open_source(self.write("w.oak.toml", DEFINITION.replace("\n", "\r\n").encode()))
        self.assertEqual(source.rows(["Rate"]).table.num_rows, 3)


class Shown(unittest.TestCase):
    CASES = (
        ("0,000.00", D("1234567.891"), "1,234,567.89"),
        ("0.000,0", 1234.56, "1.234,6"),
        ("0 000,00 €", -1234.5, "-1 234,50 €"),
        ("0.0%", 0.1234, "12.3%"),
        ("0.0 %", D("-0.0005"), "-0.1 %"),
        ("0", 2.5, "3"),
        ("kr 0,000", 1999.6, "kr 2,000"),
        ("", 0.1 + 0.2, "0.3"),
        ("", D("1.50"), "1.50"),
        ("", True, "true"),
        ("0.00", "text", "text"),
        ("0.00", None, ""),
    )

    def test_numbers(self) -> None:
        for text, value, wanted in self.CASES:
            self.assertEqual(show(value, text), wanted, (text, value))

    def test_dates(self) -> None:
        import datetime as dt

        self.assertEqual(show(dt.date(2026, 3, 4), "DD.MM.YYYY"), "04.03.2026")
        self.assertEqual(show(dt.datetime(2026, 3, 4, 5, 6), "YYYY-MM-DD HH24:MI"), "2026-03-04 05:06")

    def test_wrong_formats(self) -> None:
        for text in ("##", "x", "0,000,00", "0.000.0"):
            with self.assertRaises(BadFormat, msg=text):
                Format.read(text)

    def test_literals(self) -> None:
        import datetime as dt

        cases = {True: "TRUE", 5: "5", D("1.50"): "1.50", "it's": "'it''s'", dt.date(2026, 1, 2): "DATE '2026-01-02'"}
        for value, wanted in cases.items():
            self.assertEqual(literal_text(value), wanted)


class Rechecking(FolderCase):
    """An edit checks again what depends on it, and nothing else; what comes out is as if all had been checked."""

    def chained(self) -> oak.Source:
        self.write("loads.csv", CSV)
        source = oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").source
        for at in range(6):
            source = source.with_field(f"A{at}", "Vol + 1" if at == 0 else f"A{at - 1} + {at}")
            source = source.with_field(f"B{at}", "Cost" if at == 0 else f"B{at - 1} * 2")
        _ = source.compiled
        return source

    def test_only_what_depends_is_checked(self) -> None:
        import oak_ledger.names.compiled as compiled

        cases: list[tuple[str, Any, int]] = [
            ("a formula in a chain", lambda one: one.with_changed("A3", formula="A2 + 30"), 3),
            ("its end", lambda one: one.with_changed("B5", formula="B4"), 1),
            ("a description", lambda one: one.with_changed("A0", description="x"), 6),
            ("a clean", lambda one: one.with_changed("Mill", clean="UPPER(VALUE)"), 1),
            ("a type", lambda one: one.with_changed("Cost", type="decimal(9,2)"), 7),
            (
                "a broken reference",
                lambda one: one.changed(one.document.replaced(one.block("A4"), {"formula": "Nothing"})),
                2,
            ),
            ("a new field", lambda one: one.with_field("New", "A5 + B5"), 1),
            ("a name of the clock", lambda one: one.with_field("Current_date", "Cost"), 16),
        ]
        for what, edit, most in cases:
            with self.subTest(what):
                source = self.chained()
                with mock.patch.object(compiled, "check", side_effect=compiled.check) as checks:
                    made = edit(source)
                    states = made.compiled.states
                self.assertLessEqual(checks.call_count, most)
                fresh = oak.Source(made.document, made.folder, made.path).compiled.states
                for key, state in fresh.items():
                    got = states[key]
                    self.assertEqual((got.type, got.grain, got.uses), (state.type, state.grain, state.uses), key)
                    self.assertEqual([one.code for one in got.findings], [one.code for one in state.findings])
                if not any(state.broken for state in states.values()):
                    self.assertEqual(made.rows().to_dicts(), oak.Source(made.document, made.folder).rows().to_dicts())


class PublicNames(unittest.TestCase):
    def test_all_are_there_and_documented(self) -> None:
        for name in oak.__all__:
            with self.subTest(name):
                value = getattr(oak, name)
                self.assertTrue(isinstance(value, str) or value.__doc__, name)
        with self.assertRaises(AttributeError):
            oak.nothing_of_that_name  # noqa: B018
        self.assertEqual(sorted(set(dir(oak))), sorted(oak.__all__))

    def test_types_are_told_plainly(self) -> None:
        self.assertEqual([str(Type("text")), str(Type("decimal", 2))], ["text", "decimal(38,2)"])
        self.assertTrue(Path(oak.__file__ or "").exists())


if __name__ == "__main__":
    unittest.main()
