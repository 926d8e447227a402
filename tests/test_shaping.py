"""Shaping and cleaning: names by rule, order, recode lists, undo, before and after, profiles."""

from __future__ import annotations

import datetime as dt
import json
import struct
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.definition import edits
from oak_ledger.insight.profile import profile_of
from tests.support import D, FolderCase

CSV = "T_LOAD_ID,T_MILL,T_GROSS_VALUE,x\n1,Low Weir,1.50,a\n2,HIGH FORD,2.50,b\n3, Low Weir ,4.00,a\n"

# A rule for names, a name, and what it makes of it.
RULES: list[tuple[dict[str, Any], str, str]] = [
    ({"add_prefix": "New "}, "Mill", "New Mill"),
    ({"add_suffix": " €"}, "Price", "Price €"),
    ({"remove_prefix": "T_"}, "T_MILL", "MILL"),
    ({"remove_prefix": "T_"}, "MILL", "MILL"),
    ({"remove_suffix": "_V2"}, "MILL_V2", "MILL"),
    ({"underscores": True, "case": "sentence"}, "GROSS_VALUE", "Gross value"),
    ({"underscores": True, "case": "title"}, "GROSS_VALUE", "Gross Value"),
    ({"spaces": "_", "case": "lower"}, "Gross  value", "gross_value"),
    ({"spaces": ""}, "Gross value", "Grossvalue"),
    ({"case": "upper"}, "Mill", "MILL"),
    ({"pattern": r"^(\w+) (\w+)$", "by": r"\2 \1"}, "Gross value", "value Gross"),
    ({"pattern": "[0-9]+$"}, "Cost 2026", "Cost"),
    ({"columns": "COST*", "case": "lower"}, "MILL", "MILL"),
    ({"columns": "cost*", "case": "lower"}, "COST_A", "cost_a"),
    ({"remove_prefix": "Mill"}, "Mill", "Mill"),
]


class WithSource(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", CSV)
        oak.intake(["loads.csv"], definition="loads.oak.toml", name="Loads", keep_names=True).save()

    @property
    def source(self) -> oak.Source:
        return oak.open_source("loads.oak.toml")

    def names(self, source: oak.Source) -> list[str]:
        return [state.name for state in source.fields]


class Names(WithSource):
    def test_rules(self) -> None:
        for keys, name, wanted in RULES:
            with self.subTest(keys=keys, name=name):
                self.assertEqual(oak.NameRule(**keys).applied(name), wanted)

    def test_a_rule_for_some_fields_and_a_standing_one(self) -> None:
        rule = oak.NameRule(remove_prefix="T_", underscores=True, case="sentence")
        self.assertEqual(self.names(self.source.with_rule_names(rule)), ["Load id", "Mill", "Gross value", "X"])
        self.assertEqual(
            self.names(self.source.with_rule_names(rule, ["T_MILL"])), ["T_LOAD_ID", "Mill", "T_GROSS_VALUE", "x"]
        )
        made = self.source.with_rule_names(rule, standing=True)
        made.save()
        self.write("loads.csv", CSV.replace("x\n", "T_NEW_ONE\n", 1))
        grown = oak.restore_columns(oak.open_source("loads.oak.toml"), ["T_NEW_ONE"])
        self.assertEqual(self.names(grown)[-1], "New one")
        self.assertIn("[[naming]]", grown.document.text)
        self.raises("name-taken", self.source.with_rule_names, oak.NameRule(pattern=".*", by="same"))

    def test_names_from_a_list(self) -> None:
        made = self.source.with_listed_names(["Load", "Mill", "Value", "Class"])
        self.assertEqual(self.names(made), ["Load", "Mill", "Value", "Class"])
        self.raises("names-count", self.source.with_listed_names, ["A"])

    def test_order(self) -> None:
        source = self.source
        cases: list[tuple[Any, list[str]]] = [
            (source.with_moved(["x"], before="T_MILL"), ["T_LOAD_ID", "x", "T_MILL", "T_GROSS_VALUE"]),
            (source.with_moved(["x", "T_LOAD_ID"], after="T_MILL"), ["T_MILL", "x", "T_LOAD_ID", "T_GROSS_VALUE"]),
            (source.with_moved(["T_LOAD_ID"]), ["T_MILL", "T_GROSS_VALUE", "x", "T_LOAD_ID"]),
            (source.with_sorted(descending=True), ["x", "T_MILL", "T_LOAD_ID", "T_GROSS_VALUE"]),
            (source.with_sorted(by="type"), ["T_MILL", "x", "T_LOAD_ID", "T_GROSS_VALUE"]),
        ]
        for made, wanted in cases:
            self.assertEqual(self.names(made), wanted)
            self.assertEqual(
                sorted(map(str, tomllib.loads(made.document.text)["field"])),
                sorted(map(str, tomllib.loads(source.document.text)["field"])),
            )
        self.raises("moved-to-itself", source.with_moved, ["x"], before="x")

    def test_dropped_columns_come_back(self) -> None:
        source = self.source.without(["T_GROSS_VALUE"])
        self.assertEqual(source.new_columns(), ["T_GROSS_VALUE"])
        back = oak.restore_columns(source, ["t_gross_value"])
        self.assertEqual(
            str(back.state("Gross value").type if "gross value" in back.compiled.states else back.fields[-1].type),
            "decimal(38,2)",
        )
        self.raises("unknown-column", oak.restore_columns, source, ["zebra"])
        self.raises("column-taken", oak.restore_columns, source, ["T_MILL"])


class Recoding(WithSource):
    def test_a_list_in_the_definition_and_in_a_file(self) -> None:
        made = self.source.with_changed("T_MILL", values={"HIGH FORD": "High Ford"}, clean="TRIM(VALUE)")
        self.assertEqual([row["T_MILL"] for row in made.rows().to_dicts()], ["Low Weir", "High Ford", "Low Weir"])
        self.write("mills.csv", "found;meant\nHIGH FORD;Ford\n Low Weir ;Weir\n")
        listed = self.source.with_changed("T_MILL", values_from="mills.csv", values={"Low Weir": "Weir"})
        self.assertEqual([row["T_MILL"] for row in listed.rows().to_dicts()], ["Weir", "Ford", "Weir"])
        self.raises(
            "wrong-value", self.source.document.added, "field", {"name": "C", "formula": "1", "values": {"a": "b"}}
        )

    def test_rules_of_the_source(self) -> None:
        document = self.source.document.added("rule", {"name": "dear", "holds": "T_GROSS_VALUE < 3"})
        document = document.added("rule", {"name": "odd", "holds": "Zebra > 3"})
        found = {one.code: one for one in self.source.changed(document).check()}
        self.assertIn("in 1 rows, such as T_GROSS_VALUE 4.00", found["rule-broken"].message)
        self.assertIn("no field Zebra", found["bad-rule"].message)


class Undo(WithSource):
    def edit(self, **keys: Any) -> None:
        before = self.source
        after = before.with_changed("T_MILL", **keys)
        path = Path("loads.oak.toml")
        edits.write_edits(path, [edits.FileEdit(path, before.document.text, after.document.text)], f"set {keys}")

    def test_back_and_forth(self) -> None:
        texts = [Path("loads.oak.toml").read_text()]
        for at in range(3):
            self.edit(description=f"d{at}")
            texts.append(Path("loads.oak.toml").read_text())
        path = Path("loads.oak.toml")
        for wanted in (texts[2], texts[1]):
            oak.undo(path)
            self.assertEqual(path.read_text(), wanted)
        oak.redo(path)
        self.assertEqual(path.read_text(), texts[2])
        self.assertEqual([one.undone for one in oak.edits_of(path)], [False, False, True])
        self.edit(description="other")  # what was undone is forgotten
        self.raises("nothing-to-redo", oak.redo, path)
        for _ in range(3):
            oak.undo(path)
        self.assertEqual(path.read_text(), texts[0])
        self.raises("nothing-to-undo", oak.undo, path)

    def test_a_change_by_hand_is_never_overwritten(self) -> None:
        before = Path("loads.oak.toml").read_text()
        self.edit(description="d")
        path = Path("loads.oak.toml")
        path.write_text("# above\n" + path.read_text() + "# by hand\n")
        oak.undo(path)  # other lines
        self.assertEqual(path.read_text(), "# above\n" + before + "# by hand\n")
        oak.redo(path)
        path.write_text(path.read_text().replace('description = "d"', 'description = "e"'))  # the same line
        error = self.raises("changed-meanwhile", oak.undo, path)
        self.assertIn('description = "d"', error.message)
        self.assertIn('description = "e"', path.read_text())
        Path(".loads.oak.toml.edits").write_text("no log")
        self.raises("bad-log", oak.edits_of, path)

    def test_two_terminals_at_once(self) -> None:
        """Ten processes add a field each; each either succeeds whole or is told, and nothing is lost or mixed."""
        program = "import sys; from oak_ledger.cli import run; sys.exit(run(['field', 'add', 'loads', 'F' + sys.argv[1], '1 + ' + sys.argv[1]]))"
        running = [
            subprocess.Popen(
                [sys.executable, "-c", program, str(at)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
            )
            for at in range(6)
        ]
        codes = []
        for one in running:
            _, err = one.communicate(timeout=60)
            codes.append(one.returncode)
            self.assertTrue(one.returncode == 0 or "changed-meanwhile" in err, err)
        added = [name for name in self.names(self.source) if name.startswith("F")]
        self.assertEqual(len(added), codes.count(0))
        self.assertEqual(len(oak.edits_of(Path("loads.oak.toml"))), codes.count(0))
        self.assertGreaterEqual(codes.count(0), 1)


class Compared(WithSource):
    def test_fields_and_rows_side_by_side(self) -> None:
        before = self.source
        after = (
            before.with_renamed({"T_MILL": "Mill"})
            .with_changed("Mill", clean="TRIM(UPPER(VALUE))")
            .with_changed("x", type="integer")
            .without(["T_LOAD_ID"])
        )
        after = after.with_field("Twice", "T_GROSS_VALUE * 2")
        found = oak.compare(before, after)
        changes = {(one.before, one.after): one for one in found.fields}
        self.assertEqual(changes["T_MILL", "Mill"].changes, ("renamed", "clean"))
        self.assertEqual(
            (changes["x", "x"].type_after, changes["x", "x"].lost, changes["x", "x"].sample), ("integer", 3, "'a'")
        )
        self.assertEqual(changes[None, "Twice"].changes, ("new",))
        self.assertEqual(changes["T_LOAD_ID", None].changes, ("gone",))
        self.assertIn((1, "Mill", "Low Weir", "LOW WEIR"), list(found.cells()))
        self.raises("no-earlier", oak.previous, before)


class Profiles(FolderCase):
    def test_figures_of_numbers(self) -> None:
        values = [D(at % 50) for at in range(1000)] + [None] * 10
        found = profile_of("X", pa.array(values, pa.decimal128(10, 2)))
        self.assertEqual(
            (found.rows, found.nulls, found.distinct, found.minimum, found.maximum), (1010, 10, 50, D(0), D(49))
        )
        self.assertEqual((found.average, found.median, sum(rows for *_, rows in found.bins)), (24.5, 24.5, 1000))
        self.assertEqual([rows for _, rows in found.common], [20] * 8)
        self.assertEqual(profile_of("E", pa.array([], pa.float64())).bins, ())

    def test_shapes_and_ends_of_text(self) -> None:
        found = profile_of("X", pa.array(["AB-12", "CD-34", "e", "Überlänge 99999999", None]))
        self.assertEqual(dict(found.patterns), {"AA-99": 2, "a": 1, "Aa+ 9+": 1})
        self.assertEqual((found.shortest, found.longest), ("e", "Überlänge 99999999"))

    SUSPICIONS: tuple[tuple[list[str], str, int, str, int], ...] = (
        (["a", " a", "b "], "spaces at the ends", 2, "TRIM(VALUE)", 2),
        (["a  b", "c"], "several spaces in a row", 1, "REPLACE(VALUE, '  ', ' ')", 1),
        (["a", "", "  "], "empty text, which is not null", 2, "NULLIF(TRIM(VALUE), '')", 2),
        (
            ["a", "-", "NA"],
            "words that may mean no value",
            2,
            "CASE WHEN TRIM(VALUE) IN ('-', 'NA') THEN NULL ELSE VALUE END",
            2,
        ),
        (["12", "-3", "4"], "numbers stored as text", 3, "CAST(VALUE AS INTEGER)", 3),
        (["1.5", "2"], "numbers stored as text", 2, "CAST(VALUE AS NUMBER)", 2),
        (["Low Weir", "LOW WEIR", "Low Weir"], "spellings that differ by letter case", 1, "INITCAP(TRIM(VALUE))", 1),
        (["OAK", "oak", "OAK", "ASH"], "spellings that differ by letter case", 1, "UPPER(TRIM(VALUE))", 1),
    )

    def test_suspicions_propose_a_clean_that_does_what_is_said(self) -> None:
        for values, what, rows, clean, changes in self.SUSPICIONS:
            with self.subTest(what=what, values=values):
                array = pa.array(values)
                found = {one.what: one for one in profile_of("X", array).suspicions}
                self.assertEqual((found[what].rows, found[what].clean, found[what].changes), (rows, clean, changes))
                source = oak.Source.from_table(pa.table({"X": array}), name="S").with_changed("X", clean=clean)
                after = profile_of("X", source.rows().table.column(0))
                self.assertNotIn(what, [one.what for one in after.suspicions])
        for values, wanted in (
            (["oak", "ash"], ()),
            (["007", "12"], ()),
            (["007", "7", "12"], (("the same number with and without leading zeros", 1, ""),)),
        ):
            found = tuple((one.what, one.rows, one.clean) for one in profile_of("X", pa.array(values)).suspicions)
            self.assertEqual(found, wanted)
        self.assertIn("UPPER(VALUE)", profile_of("X", pa.array(["a "]), clean="UPPER(VALUE)").suspicions[0].clean)

    def test_dates_far_from_all_others(self) -> None:
        days: list[Any] = [dt.date(2026, 1, 1) + dt.timedelta(days=at % 90) for at in range(500)]
        self.assertEqual(profile_of("D", pa.array(days)).suspicions, ())
        odd = profile_of("D", pa.array([*days, dt.date(1900, 1, 1)])).suspicions[0]
        self.assertEqual((odd.rows, odd.samples), (1, ("1900-01-01",)))
        self.assertEqual(len(profile_of("D", pa.array(days)).bins), 3)

    def test_the_command_and_the_pictures(self) -> None:
        self.oak("demo", "d", "--rows", "2000", "--until", "intake")
        import os

        os.chdir("d")
        text = self.oak("profile", "loads", code=1)
        for words in ("suspicious: spaces at the ends", "oak field clean loads 'Mill' \"TRIM(VALUE)\"", "distribution"):
            self.assertIn(words, text)
        one = self.oak("profile", "loads", "Mill", code=1)
        self.assertIn("shapes:", one)
        self.assertIn("median", self.oak("profile", "loads", "Volume"))
        self.assertEqual(json.loads(self.oak("profile", "loads", "Species", "--json"))["fields"][0]["distinct"], 4)
        self.oak("profile", "loads", "--to", "all.png", code=1)
        self.oak("profile", "loads", "Mill", "--to", "one.png", code=1)
        for name, least in (("all.png", 700), ("one.png", 700)):
            content = Path(name).read_bytes()
            width, height = struct.unpack(">II", content[16:24])
            self.assertEqual(width, 1280)
            self.assertGreaterEqual(height, least)
        self.oak("profile", "loads", "--to", "all.pdf", code=2)
        # the proposal does what it says
        self.oak("field", "clean", "loads", "Mill", "INITCAP(TRIM(VALUE))")
        self.assertNotIn("suspicious", self.oak("profile", "loads", "Mill"))


class Commands(WithSource):
    CALLS: tuple[tuple[str, int, tuple[str, ...]], ...] = (
        ("field rename loads --remove-prefix T_ --underscores --case sentence --standing", 0, ("+ name = \"Gross value\"", "[[naming]]")),
        ("field rename loads --add-prefix N_ Mill", 0, ("N_Mill",)),
        ("undo loads", 0, ("undone: oak field rename loads --add-prefix N_ Mill",)),
        ("undo redo loads", 0, ("done again",)),
        ("undo loads", 0, ("undone",)),
        ("undo list loads", 0, ("(undone)", "--standing")),
        ("field rename loads", 2, ("Say what to rename",)),
        ("field rename loads --case upper Mill=X", 2, ("Say what to rename",)),
        ("field rename loads --from-file names.txt", 0, ("Works",)),
        ("undo compare loads", 0, ("renamed", "Works")),
        ("undo loads", 0, ("undone",)),
        ("field move loads X --first", 0, ("changed",)),
        ("field move loads X --first --before Mill", 2, ("Say one of",)),
        ("field move loads X --after Mill", 0, ("changed",)),
        ("field sort loads --by name", 0, ("changed",)),
        ("field set loads X --role measure", 0, ("measure",)),
        ("field set loads --type decimal --hidden", 0, ("hidden = true",)),
        ("field set loads --pattern ^Gross --shown", 0, ("- hidden = true",)),
        ("field set loads --pattern ( --shown", 2, ("cannot be used",)),
        ("field set loads --shown", 2, ("No field given",)),
        ("field set loads --type date --shown", 2, ("No field given",)),
        ("field drop loads X", 0, ("changed",)),
        ("field restore loads", 2, ("Unused columns: x",)),
        ("field restore loads --new", 0, ("+ column = \"x\"",)),
        ("field recode loads X a=A b=B q=Q", 0, ("'a' is in 2 rows", "'q' is in 0 rows")),
        ("undo compare loads", 0, ("values", "values differ in the first 3 rows")),
        ("field recode loads X --from nothing.csv", 3, ("no-file",)),
        ("undo compare loads --json", 0, ("\"changes\"",)),
        ("undo list loads --json", 0, ("\"undone\"",)),
        ("intake sheet.xlsx", 3, ("There is no file",)),
        ("intake", 2, ("Name the files",)),
        ("intake ragged.csv", 3, ("line 3", "--bad-rows drop")),
        ("intake ragged.csv --bad-rows drop", 1, ("1 row was left out", "ragged.bad_rows.csv")),
        ("peek ragged", 1, ("1 row was left out",)),
        ("join loads.csv other.csv --on x --name Both", 0, ("joined on x", "1 row before it without a partner")),
        ("join loads.csv --on x", 2, ("at least two files",)),
    )  # fmt: skip

    def test_calls(self) -> None:
        self.write("names.txt", "Load\nWorks\nValue\nClass\n")
        self.write("ragged.csv", "A,B\n1,2\n3\n4,5\n")
        self.write("other.csv", "x,Crew\na,First\nc,Third\n")
        for call, code, words in self.CALLS:
            with self.subTest(call):
                text = " ".join(self.oak(*call.split(), code=code).split())
                for word in words:
                    self.assertIn(word, text)
