"""What a check proves, with its numbers; drift; candidates; mending."""

from __future__ import annotations

from typing import Any
from unittest import mock

import pyarrow as pa

import oak_ledger as oak
from oak_ledger import files
from oak_ledger.insight.additivity import nature_of
from oak_ledger.insight.fingerprint import fingerprint, renamed_between, shared
from tests.support import D, FolderCase, loads

# A formula for a row over `loads`, and its nature.
NATURES: list[tuple[str, str]] = [
    ("Volume", "additive"),
    ("Volume + Cost", "additive"),
    ("Volume * 2", "additive"),
    ("Cost / 100", "additive"),
    ("Cost / Volume", "ratio"),
    ("ROUND(Cost / Volume, 2)", "ratio"),
    ("(Cost / Volume) * 100", "ratio"),
    ("COALESCE(Cost / Volume, 0)", "ratio"),
    ("IF(Volume > 0, Cost / Volume, 0)", "ratio"),
    ("CASE WHEN Sent THEN Cost ELSE 0 END", "additive"),
    ("Cost / Volume * Volume", "additive"),
    ("Cost / Volume / Fee", "rate"),
    ("Cost % 7", "rate"),
    ("1 + 1", "constant"),
    ("-(Cost / Volume)", "ratio"),
    ("CAST(Cost AS NUMBER) / Volume", "ratio"),
]


class Additivity(FolderCase):
    def test_the_nature_follows_from_the_formula(self) -> None:
        for formula, kind in NATURES:
            with self.subTest(formula):
                source = loads().with_field("X", formula)
                self.assertEqual(nature_of(source, source.state("X")).kind, kind)
                through = source.with_field("Y", "X + 0")
                self.assertEqual(nature_of(through, through.state("Y")).kind, kind if kind != "rate" else "rate")

    def found(self, source: oak.Source, code: str) -> list[oak.Finding]:
        return [one for one in source.check() if one.code == code]

    def test_a_ratio_in_each_row_is_found_with_both_totals(self) -> None:
        source = loads().with_field("Rate", "Cost / Volume")
        (found,) = self.found(source, "not-additive")
        self.assertAlmostEqual(found.numbers["wrong"], 10 / 12 + 30 / 24 + 20 / 11.5 + 20 / 20)
        self.assertAlmostEqual(found.numbers["right"], 80 / 76.5)
        self.assertEqual(found.fixed, "SUM(Cost) / SUM(Volume)")
        self.assertEqual(self.found(source.with_field("Rate", found.fixed or ""), "not-additive"), [])
        self.assertEqual(self.found(source.with_changed("Rate", total="average"), "not-additive"), [])

    def test_what_stands_around_the_division_is_kept(self) -> None:
        (found,) = self.found(loads().with_field("Rate", "ROUND((Cost / Volume) * 100, 1)"), "not-additive")
        self.assertEqual(found.fixed, "ROUND((SUM(Cost) / SUM(Volume)) * 100, 1)")
        self.assertAlmostEqual(found.numbers["right"], round(8000 / 76.5, 1))

    def test_a_sum_and_an_average_of_ratios_in_a_formula(self) -> None:
        source = loads().with_field("Rate", "Cost / Volume").with_changed("Rate", total="none")
        for name, formula in (("S", "SUM(Rate) * 2"), ("A", "AVG(Rate)"), ("I", "SUM(Cost / Volume)")):
            with self.subTest(formula):
                (found,) = self.found(source.with_field(name, formula), "not-additive")
                self.assertAlmostEqual(found.numbers["right"], 80 / 76.5)
                self.assertIn("SUM(Cost) / SUM(Volume)", found.fixed or "")
                self.assertEqual(found.place.pointed()[1].count("^"), len(formula.removesuffix(" * 2")))

    def test_a_tally_says_so_beside_the_total(self) -> None:
        source = loads().with_field("Rate", "Cost / Volume")
        answer = source.tally(["Mill"], ["Rate"], totals=True)
        self.assertEqual([one.code for one in answer.findings], ["not-additive"])
        self.assertEqual(source.tally(["Mill"], ["AVG(Rate)"]).findings, ())

    def test_values_of_windows(self) -> None:
        """What is one value in several rows is not added up unsaid; a share of all adds up to the share of the group."""
        cases = (
            ("SUM(Volume) OVER (PARTITION BY Mill)", "one value for each Mill", "SUM(Volume)"),
            (
                "SUM(Volume) FILTER (WHERE Sent) OVER (PARTITION BY Mill) * 2",
                "one value for each Mill",
                "SUM(Volume) FILTER (WHERE Sent)",
            ),
            ("SUM(Volume) OVER (ORDER BY Day)", "a running value", "SUM(Volume)"),
            ("COUNT(*) OVER ()", "one value over all rows", "COUNT(*)"),
            (
                "IF(Mill = 'groß over ß', 0, SUM(Volume) FILTER (WHERE Code <> 'ß over') OVER ())",
                "one value over all rows",
                "SUM(Volume) FILTER (WHERE Code <> 'ß over')",
            ),
            ("RANK() OVER (ORDER BY Volume)", "a rank", ""),
            ("FIRST_VALUE(Volume) OVER (ORDER BY Day)", "the value of one row", ""),
            ("EXTRACT(YEAR FROM Day)", "a part of a date", ""),
            (
                "CASE WHEN Sent THEN MAX(Volume) OVER (PARTITION BY Mill) ELSE 0 END",
                "one value for each Mill",
                "MAX(Volume)",
            ),
            ("Volume / SUM(Volume) OVER (PARTITION BY Mill)", "it divides in each row", ""),
            ("Volume / SUM(Volume) OVER ()", "", ""),
            ("100 * Volume / SUM(Volume) OVER ()", "", ""),
            ("Volume - LAG(Volume) OVER (ORDER BY Day)", "", ""),
            ("ABS(Cost) + COALESCE(Volume, 0)", "", ""),
        )
        for formula, why, meant in cases:
            with self.subTest(formula):
                source = loads().with_field("X", formula)
                said = source.tally(["Mill"], ["X"]).findings
                self.assertEqual([one.code for one in said], ["not-additive"] if why else [])
                self.assertIn(why, "".join(one.message for one in said))
                self.assertEqual([one.fixed or "" for one in said], [meant] if why else [])
                checked = [one for one in self.found(source, "not-additive") if "'X'" in str(one.place)]
                self.assertEqual(len(checked), bool(why))
        shares = loads().with_field("X", "Volume / SUM(Volume) OVER ()").tally(["Mill"], ["X"], totals=True)
        self.assertAlmostEqual(shares.totals.column(0 if shares.totals.num_columns == 1 else 1)[0].as_py(), 1.0)

    def test_a_percentage_in_the_origin(self) -> None:
        source = loads().with_changed("Fee", format="0.0%")
        self.assertEqual([one.code for one in source.tally(show=["Fee"]).findings], ["not-additive"])


class Nulls(FolderCase):
    def test_a_part_that_is_null_empties_the_total(self) -> None:
        source = loads().with_field("All", "Cost + Fee + Volume")
        (found,) = [one for one in source.check() if one.code == "nulls-spread"]
        self.assertEqual(found.numbers["rows_lost"], 4)
        self.assertAlmostEqual(float(found.numbers["wrong"]), 10 + 1.5 + 12 + 20 + 0.5 + 11.5)
        self.assertAlmostEqual(float(found.numbers["right"]), 80 + 4.0 + 76.5)
        self.assertEqual(found.fixed, "COALESCE(Cost, 0) + COALESCE(Fee, 0) + Volume")
        mended = source.with_field("All", found.fixed or "")
        self.assertEqual([one for one in mended.check() if one.code == "nulls-spread"], [])

    def test_inside_an_aggregate_and_never_without_loss(self) -> None:
        (found,) = [
            one for one in loads().with_field("Net", "SUM(Volume - Cost)").check() if one.code == "nulls-spread"
        ]
        self.assertEqual((found.numbers["rows_lost"], found.fixed), (2, "SUM(Volume - COALESCE(Cost, 0))"))
        clean = (
            loads()
            .with_field("Net", "SUM(Volume) - SUM(Cost)")
            .with_field("Twice", "Volume + Volume")
            .with_field("One", "Cost + 1")
        )
        self.assertEqual([one.code for one in clean.check()], [])


class Places(FolderCase):
    def test_a_finding_says_its_file_and_its_entry_apart(self) -> None:
        self.write("l.csv", "a,b\n1,2\n")
        self.oak("intake", "l.csv", "--name", "l")
        self.oak("field", "add", "l", "of both, here", "a + b")
        text = (self.folder / "l.oak.toml").read_text(encoding="utf-8")
        self.write("l.oak.toml", text.replace('column = "b"', 'column = "gone"'))
        (cause,) = self.oak_json("check", "l", code=1)["causes"]
        finding = cause["finding"]
        said = [finding[key] for key in ("file", "kind", "name", "where")]
        self.assertEqual(said, ["l.oak.toml", "field", "B", "l.oak.toml, field 'B'"])
        self.write("l.oak.toml", text.replace('column = "b"', 'colum = "b"'))
        (finding, *_) = self.oak_json("peek", "l", code=3)["errors"]
        self.assertEqual((finding["file"], finding["name"]), ("l.oak.toml", None))
        self.assertIn('colum = "b"', text.replace("column", "colum").splitlines()[finding["file_line"] - 1])


class RulesAndKeys(FolderCase):
    def test_rules_count_the_rows_that_break_them(self) -> None:
        cases = {
            "VALUE > 5": 2,
            "VALUE > 0": None,
            "VALUE IS NOT NULL AND Cost IS NOT NULL": 2,
            "VALUE + 1": "bad-rule",
            "Zebra > 1": "bad-rule",
        }
        for rule, wanted in cases.items():
            with self.subTest(rule):
                found = [one for one in loads().with_changed("Volume", rule=rule).check() if "rule" in one.code]
                got = (
                    None if not found else found[0].code if found[0].code == "bad-rule" else found[0].numbers["broken"]
                )
                self.assertEqual(got, wanted)

    def test_a_key_must_be_different_in_every_row(self) -> None:
        path = self.write("k.csv", "Id,Line\n1,1\n1,2\n1,2\n2,1\n")
        source = oak.intake([path], definition="k.oak.toml").source
        for key, rows in ((["Id", "Line"], 1), (["Id"], 2)):
            text = source.document.text.replace("[source]\n", f"[source]\nkey = {key}\n")
            keyed = oak.open_source(self.write("k.oak.toml", text))
            (found,) = [one for one in keyed.check() if one.code == "key-repeats"]
            self.assertEqual(found.numbers["rows"], rows)
        self.write("k.oak.toml", source.document.text.replace("[source]\n", '[source]\nkey = ["Nr"]\n'))
        self.assertIn("unknown-field", [one.code for one in oak.open_source("k.oak.toml").check()])

    def test_decimals_that_the_type_does_not_keep(self) -> None:
        source = oak.intake([self.write("d.csv", "X,Y\na,1.5\nb,2.5\n")], definition="d.oak.toml").source
        source.save()
        self.write("d.csv", "X,Y\na,1.55\nb,2.5\n")
        self.assertEqual(
            [(one.code, one.numbers["rows"]) for one in oak.open_source("d.oak.toml").check()], [("values-lost", 1)]
        )


class Fingerprints(FolderCase):
    def test_how_far_two_sets_of_values_are_the_same(self) -> None:
        many = [f"load {at}" for at in range(20_000)]
        cases: tuple[tuple[Any, Any, float, float], ...] = (
            (["a", "b"], ["b", "a", None, "a"], 1.0, 0.0),
            (["a", "b"], ["c"], 0.0, 0.0),
            (["a", "b", "c", "d"], ["a", "b", "x"], 0.5, 0.0),
            (many, [*many[5000:], "x"], 0.75, 0.06),
            (many[:100], many, 1.0, 0.0),
            ([], ["a"], 0.0, 0.0),
        )
        for one, other, wanted, slack in cases:
            left, right = fingerprint(pa.array(one, pa.string())), fingerprint(pa.array(other, pa.string()))
            self.assertAlmostEqual(shared(left, right), wanted, delta=slack + 1e-9)
            self.assertEqual(oak.Fingerprint.from_json(left.as_json()), left)

    def test_figures(self) -> None:
        made = fingerprint(pa.array([D("1.50"), None, D("4.50"), D("1.50")]))
        self.assertEqual(
            (made.rows, made.nulls, made.distinct, made.minimum, made.maximum, made.median),
            (4, 1, 2, "1.50", "4.50", 1.5),
        )

    def test_a_field_under_another_name_is_recognised(self) -> None:
        old = {
            "Stand": fingerprint(pa.array(["s1", "s2", "s3"])),
            "Mill": fingerprint(pa.array(["m1", "m2"])),
            "Gone": fingerprint(pa.array(["x", "y"])),
        }
        new = {"Compartment": old["Stand"], "Mill": old["Mill"], "New": fingerprint(pa.array(["q", "r"]))}
        self.assertEqual(renamed_between(old, new), {"Compartment": "Stand"})


BEFORE = "LOAD,STAND,MILL,WET,KM\n" + "".join(
    f"L{at},ST-{at % 40:03d},M{at % 3},{20 + at % 30}.5,{at % 90}\n" for at in range(300)
)
AFTER = "LOAD,COMPARTMENT,WORKS,MILL,WET\n" + "".join(
    f"L{at},ST-{at % 40:03d},W{at % 40},M{at % 3},0.{20 + at % 30}5\n" for at in range(300)
)
REPORT = """\
# Kept by the haulage desk.
[report]
name = "Stands"
source = "Loads"
text = "By {Stand}"

[[field]]
name = "Wet stands"
formula = '''COUNT(DISTINCT Stand) FILTER (WHERE Wet > 30)'''   # local

[[panel]]
kind = "bars"
title = "Loads by {Stand}"
by = ["Stand"]
show = [{ name = "Loads", formula = "COUNT(Stand)" }]
sort = ["-Loads"]

[[panel]]
kind = "table"
title = "Mills"
by = ["Mill"]
show = ["Wet stands", "SUM(Km)"]
where = '''Stand IS NOT NULL'''
sort = ["Mill"]
"""


class Broken(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", BEFORE)
        source = oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").source
        source = source.with_field("Place", "Mill || ' ' || Stand").with_field("Places", "COUNT(DISTINCT Place)")
        source.save()
        self.report = self.write("reports/stands.report.toml", REPORT)
        self.catalogue = oak.Catalogue.open("catalogue", create=True)
        self.catalogue.publish(oak.open_source("loads.oak.toml"))
        self.catalogue.release("Loads")
        self.write("loads.csv", AFTER)
        self.source = oak.open_source("loads.oak.toml")

    def others(self) -> list[Any]:
        return [(one.path, one.document) for one in oak.find_reports(self.folder) if one.path]

    def test_everything_that_is_hurt_is_listed(self) -> None:
        broken = {one.name: (one.finding.code, one.through) for one in oak.broken_names(self.source)}
        self.assertEqual(broken, {"Stand": ("missing-column", ("Place", "Places")), "Km": ("missing-column", ())})
        found = oak.check_reports([oak.open_report(self.report)], self.source)[0]
        self.assertEqual(
            [one.place.where.partition(", ")[2] for one in found],
            ["field 'Wet stands'", "panel 'Loads by Stand'", "panel 'Mills'"],
        )
        self.assertIn("Column 'STAND' is missing from the origin", found[0].message)

    def test_what_still_works_is_still_answered(self) -> None:
        self.assertEqual(self.source.tally(["Mill"], ["COUNT(*)"]).table.num_rows, 3)
        self.raises("missing-column", self.source.rows, ["Stand"])

    def test_candidates_are_ranked_by_values_before_names(self) -> None:
        best = oak.candidates(self.source, self.catalogue.source("Loads"))["Stand"][0]
        self.assertEqual((best.column, best.values, best.sure), ("COMPARTMENT", 1.0, True))
        self.assertIn("100%", best.sentence())
        without = oak.candidates(self.source, None)
        self.assertTrue(all(one.values is None for found in without.values() for one in found))

    def test_drift_is_compared_with_the_released_version(self) -> None:
        before = self.catalogue.source("Loads")
        source = self.source.with_changed("Wet", type="decimal(18,3)")
        found = {one.code: one for one in oak.drift(source, before, "version 1")}
        self.assertEqual(list(found), ["drift-unit"])
        self.assertIn("VALUE * 100", found["drift-unit"].hint)
        mended = source.with_changed("Wet", clean="VALUE * 100")
        self.assertEqual(oak.drift(mended, before, "version 1"), [])
        cases = {
            "drift-nulls": mended.with_changed("Mill", clean="NULLIF(VALUE, 'M1')"),
            "drift-values": mended.with_changed("Mill", clean="'x' || VALUE"),
            "drift-type": mended.with_changed("Mill", clean="CHAR_LENGTH(VALUE)"),
            "drift-constant": mended.with_changed("Mill", clean="SUBSTRING(VALUE, 1, 1)"),
        }
        for code, changed in cases.items():
            self.assertEqual([one.code for one in oak.drift(changed, before, "version 1")], [code])

    def test_a_mend_shows_each_line_and_then_writes_all(self) -> None:
        planned = oak.plan_mend(self.source, {"STAND": "compartment"}, self.others(), names={"Stand": "Compartment"})
        lines = {edit.path.name: edit.lines() for edit in planned.edits}
        self.assertEqual(
            len(lines["loads.oak.toml"]), 5
        )  # the name, the column, the formula, the name that the column had, and until when
        changed = [(before, after) for _, before, after in lines["stands.report.toml"]]
        self.assertIn(('text = "By {Stand}"', 'text = "By {Compartment}"'), changed)
        self.assertIn(("formula = '''COUNT(DISTINCT Stand) FILTER (WHERE Wet > 30)'''   # local",
                       'formula = "COUNT(DISTINCT Compartment) FILTER (WHERE Wet > 30)"   # local'), changed)  # fmt: skip
        self.assertEqual(len(changed), 6)
        self.assertEqual(self.report.read_text(), REPORT)
        planned.apply()
        self.assertEqual([one.name for one in oak.broken_names(oak.open_source("loads.oak.toml"))], ["Km"])
        self.assertTrue(self.report.read_text().startswith("# Kept by the haulage desk.\n"))
        self.assertEqual(
            [
                one.place.where.split("panel ")[-1]
                for one in oak.check_reports([oak.open_report(self.report)], planned.source)[0]
            ],
            ["'Mills'"],
        )

    def test_all_or_nothing(self) -> None:
        planned = oak.plan_mend(self.source, {"STAND": "COMPARTMENT"}, self.others(), names={"Stand": "Compartment"})
        before = {edit.path: edit.path.read_text() for edit in planned.edits}
        self.assertEqual(len(before), 2)
        real = files.write_text
        for failing in range(1, 6):  # the intent, what names it, the two files, the log
            calls: list[Any] = []

            def fails(path: Any, text: str, failing: int = failing, calls: list[Any] = calls) -> None:
                calls.append(path)
                if len(calls) == failing:
                    raise oak.UnusableInput("not-written", "No space left on device.")
                real(path, text)

            with mock.patch.object(files, "write_text", fails):
                self.raises("not-written", planned.apply)
            self.assertGreaterEqual(len(calls), failing)
            self.assertEqual({path: path.read_text() for path in before}, before)
            self.assertEqual([*self.folder.rglob(".*.intent"), *self.folder.rglob(".*.part")], [])
        self.report.write_text(REPORT + "\n# changed meanwhile\n")
        self.raises("changed-meanwhile", planned.apply)
        self.assertEqual(
            (self.folder / "loads.oak.toml").read_text(),
            before.get(self.folder / "loads.oak.toml", self.source.document.text),
        )

    def test_a_name_that_is_gone_from_the_definition(self) -> None:
        source = oak.open_source("loads.oak.toml").with_changed("Stand", column="COMPARTMENT", name="Plot")
        source.save()
        source = oak.open_source("loads.oak.toml")
        self.assertEqual({one.name for one in oak.broken_names(source)}, {"Place", "Km"})
        planned = oak.plan_mend(source, {"Stand": "Plot"}, self.others())
        self.assertEqual(len(planned.edits), 2)
        planned.apply()
        self.assertEqual({one.name for one in oak.broken_names(oak.open_source("loads.oak.toml"))}, {"Km"})

    def test_wrong_repairs(self) -> None:
        cases = {
            ("STAND", "COMPARTMNT"): "unknown-column",
            ("Zebra", "Mill"): "unknown-name",
            ("Mill", "Load"): "not-broken",
        }
        for (old, new), code in cases.items():
            self.raises(code, oak.plan_mend, self.source, {old: new}, self.others())
        self.assertIn(
            "COMPARTMENT", self.raises("unknown-column", oak.plan_mend, self.source, {"Stand": "COMPARTMNT"}).hint
        )
