"""Now against before: BEFORE over rows, groups and totals; snapshots written by `oak export`."""

from __future__ import annotations

import unittest

import pyarrow as pa
import pyarrow.parquet as pq

import oak_ledger as oak
from tests.support import D, FolderCase

NOW = "Id,Site,Mill,Volume,Note\n1,N,Low Weir,12.5,a\n2,N,High Ford,20.0,b\n3,S,Low Weir,5.0,\n4,S,,7.5,d\n"
THEN = "Id,Site,Mill,Volume,Note\n1,N,Low Weir,10.0,a\n2,N,Low Weir,20.0,\n3,S,Low Weir,,c\n9,S,Elm Bank,99.0,z\n"

# A formula for a row, and its values in the rows of NOW.
OVER_ROWS: list[tuple[str, list[object]]] = [
    ("BEFORE(Volume)", [D("10.0"), D("20.0"), None, None]),
    ("Volume - BEFORE(Volume)", [D("2.5"), D("0.0"), None, None]),
    ("COALESCE(BEFORE(Mill), 'new')", ["Low Weir", "Low Weir", "Low Weir", "new"]),
    ("Mill IS DISTINCT FROM BEFORE(Mill)", [False, True, False, False]),
    ("BEFORE(Double)", [D("20.0"), D("40.0"), None, None]),
    ("BEFORE(Volume * 2 + 1)", [D("21.0"), D("41.0"), None, None]),
    ("BEFORE(Note || Mill)", ["aLow Weir", None, "cLow Weir", None]),
    ("BEFORE(7)", [7, 7, 7, 7]),
    ("IF(BEFORE(Id) IS NULL, 'new', 'known')", ["known", "known", "known", "new"]),
]
# What is grouped by, a formula for the groups, its values by group in order, and over all rows.
OVER_GROUPS: list[tuple[list[str], str, list[object], object]] = [
    (["Mill"], "BEFORE(SUM(Volume))", [None, D("30.0"), None], D("129.0")),
    (["Mill"], "SUM(Volume) - BEFORE(SUM(Volume))", [None, D("-12.5"), None], D("-84.0")),
    (["Mill"], "BEFORE(COUNT(*))", [None, 3, None], 4),
    (["Mill"], "COUNT(*) - COALESCE(BEFORE(COUNT(*)), 0)", [1, -1, 1], 0),
    (["Site"], "BEFORE(Mean)", [15.0, 99.0], 43.0),
    (["Site", "Mill"], "BEFORE(COUNT(*))", [None, 2, 1, None], 4),
    (["UPPER(Mill)"], "BEFORE(MAX(Volume))", [None, D("20.0"), None], D("99.0")),
    ([], "SUM(BEFORE(Volume))", [D("30.0")], None),
    (["Site"], "RANK() OVER (ORDER BY BEFORE(SUM(Volume)))", [1, 2], None),
]
WRONG: list[tuple[str, str]] = [
    ("BEFORE()", "argument-count"),
    ("BEFORE(Volume, 2)", "argument-count"),
    ("BEFORE(BEFORE(Volume))", "before-nested"),
    ("BEFORE(Volum)", "unknown-field"),
    ("BEFORE(Volume) + SUM(Volume)", "grain-mixed"),
]


class Before(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", THEN)
        source = oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").source
        source = source.with_field("Double", "Volume * 2").with_field("Mean", "AVG(Volume)")
        source = source.changed(source.document.replaced(source.document.blocks[0], {"key": ["Id"]}))
        source.save()
        self.oak("export", "loads", "--to", "then.parquet", "--hidden")
        self.write("loads.csv", NOW)
        self.source = oak.open_source("loads.oak.toml")

    def test_after_a_rename(self) -> None:
        """A published state knows its fields by their columns, a file by their values where these tell."""
        self.write("loads.csv", THEN)
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        self.write("loads.csv", NOW)
        self.oak("field", "rename", "loads", "Volume=Cubic", "Mill=Sawmill")
        asked = ["tally", "loads.oak.toml", "--by", "Sawmill", "--show", "N = SUM(Cubic) - BEFORE(SUM(Cubic))"]
        rows = self.oak_json(*asked, "--baseline", "1")["rows"]
        self.assertEqual(
            {row["Sawmill"]: row["N"] for row in rows}, {None: None, "High Ford": None, "Low Weir": "-12.5"}
        )
        self.oak(*asked, "--baseline", "then.parquet", code=2)  # too few values to tell
        made = pa.table({"Id": [*range(50)], "Site": ["N"] * 50, "Weight": [float(one) for one in range(50)]})
        now = pa.table({"Id": [*range(50)], "Site": ["N"] * 50, "Mass": [float(one) for one in range(49)] + [99.0]})
        source = oak.Source.from_table(now, name="W").with_baseline(made)
        self.assertEqual(source.tally(show=["BEFORE(SUM(Mass))"]).value(), 1225.0)

    def test_rows_groups_and_totals(self) -> None:
        source = self.source.with_baseline("then.parquet")
        for formula, wanted in OVER_ROWS:
            with self.subTest(formula):
                self.assertEqual(source.rows([("x", formula)]).table.column("x").to_pylist(), wanted)
        for by, formula, wanted, overall in OVER_GROUPS:
            with self.subTest(formula=formula, by=by):
                answer = source.tally(by, [("x", formula)], totals=overall is not None)
                self.assertEqual(answer.table.column("x").to_pylist(), wanted)
                if answer.totals is not None:
                    self.assertEqual(answer.totals.column("x").to_pylist(), [overall])

    def test_filters_go_for_both_states(self) -> None:
        source = self.source.with_baseline("then.parquet")
        grown = source.rows(["Id"], where="Volume > BEFORE(Volume)").table.column(0).to_pylist()
        self.assertEqual(grown, [1])
        answer = source.tally(["Site"], [("x", "SUM(Volume) - BEFORE(SUM(Volume))")], where="Mill = 'Low Weir'")
        self.assertEqual(answer.to_dicts(), [{"Site": "N", "x": D("-17.5")}, {"Site": "S", "x": None}])

    def test_a_state_must_be_given_and_fit(self) -> None:
        self.raises("no-baseline", self.source.rows, ["BEFORE(Volume)"])
        found = self.source.check_formula("BEFORE(Volume)").findings[0]
        self.assertIn("--baseline FILE", found.hint)
        source = self.source.with_baseline("then.parquet")
        for formula, code in WRONG:
            with self.subTest(formula):
                self.assertEqual([one.code for one in source.check_formula(formula).findings], [code])
        then = pq.read_table("then.parquet")
        self.raises(
            "not-in-baseline", self.source.with_baseline(then.drop(["Volume"])).rows, ["BEFORE(Double + Volume)"]
        )
        twice = self.source.with_baseline(pa.concat_tables([then, then]))
        self.assertIn("such as 1", self.raises("baseline-key-repeats", twice.rows, ["BEFORE(Volume)"]).message)
        self.assertEqual(twice.tally(show=["BEFORE(COUNT(*))"]).value(), 8)
        keyless = source.changed(source.document.replaced(source.document.blocks[0], {"key": None}))
        self.raises("no-key", keyless.rows, ["BEFORE(Volume)"])
        self.raises("not-a-snapshot", source.with_baseline, "loads.csv")
        self.raises("no-file", source.with_baseline, "nothing.parquet")

    def test_named_in_the_definition_and_published(self) -> None:
        about = self.source.document.blocks[0]
        source = self.source.changed(self.source.document.replaced(about, {"baseline": "then.parquet"}))
        source = source.with_field("Grown", "Volume - BEFORE(Volume)").with_field(
            "Growth", "SUM(Volume) / BEFORE(SUM(Volume))"
        )
        source.save()
        self.assertEqual(source.tally(["Site"], ["Grown"]).table.column("Grown").to_pylist(), [D("2.5"), None])
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        (self.folder / "then.parquet").unlink()
        published = oak.Catalogue.open("catalogue").source("Loads")
        self.assertEqual(published.tally(["Site"], ["Grown"]).table.column("Grown").to_pylist(), [D("2.5"), None])
        self.assertEqual(published.tally(["Mill"], ["Growth"]).table.column("Growth").to_pylist()[1], 17.5 / 30)

    def test_from_the_command_line(self) -> None:
        said = self.oak("tally", "loads", "--by", "Site", "--show", "Change = SUM(Volume) - BEFORE(SUM(Volume))", "--baseline", "then.parquet")  # fmt: skip
        self.assertRegex(said, r"N +2\.5")
        self.assertRegex(self.oak("peek", "loads", "Id", "BEFORE(Mill)", "--baseline", "then.parquet"), r"2 +Low Weir")
        self.assertIn("no-baseline", self.oak("peek", "loads", "BEFORE(Mill)", code=2))
        self.oak("publish", "loads")
        self.write("loads.csv", THEN)
        said = self.oak("peek", "loads.oak.toml", "Id", "BEFORE(Mill)", "--baseline", "1", "-n", "2")
        self.assertRegex(said, r"2 +High Ford")


class WriteResult(FolderCase):
    def test_each_kind_of_file(self) -> None:
        self.write("loads.csv", NOW)
        source = oak.intake(["loads.csv"], name="Loads", definition="loads.oak.toml").source
        source = source.with_field("Rate", "Volume / 3").with_field("At", "CAST('2026-03-01 07:30' AS TIMESTAMP)")
        source = source.with_changed("Note", hidden=True)
        source.save()
        wanted = source.rows().to_dicts()
        for name in ("out.parquet", "out.arrow"):
            said = self.oak("export", "loads", "--to", name)
            self.assertIn("4 rows, 6 fields", said)
            again = oak.intake([name], definition=f"{name}.oak.toml", keep_names=True).source
            self.assertEqual(again.rows().to_dicts(), wanted)
        self.oak(
            "export",
            "loads",
            "--to",
            "out.csv",
            "--show",
            "Mill",
            "--show",
            "Twice = Volume * 2",
            "--where",
            "Volume > 6",
        )
        self.assertEqual(
            (self.folder / "out.csv").read_text(), '"Mill","Twice"\n"Low Weir",25.0\n"High Ford",40.0\n,15.0\n'
        )
        self.oak("export", "loads", "--to", "all.csv", "--hidden")
        first = (self.folder / "all.csv").read_text().splitlines()[1]
        self.assertEqual(first, '1,"N","Low Weir",12.5,"a",4.166666666666667,"2026-03-01 07:30:00"')
        self.assertIn("unknown-ending", self.oak("export", "loads", "--to", "out.xyz", code=3))
        before = (self.folder / "out.csv").read_bytes()
        self.write("loads.csv", NOW + "5,N,x\n")
        self.oak("export", "loads", "--to", "out.csv", code=3)
        self.assertEqual((self.folder / "out.csv").read_bytes(), before)
        self.assertEqual([path.name for path in self.folder.glob("*.tmp*")], [])


if __name__ == "__main__":
    unittest.main()
