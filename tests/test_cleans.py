"""Cleaning formulas that need other fields: what they need is known, shown, followed, and never a circle."""

from __future__ import annotations

import oak_ledger as oak
from tests.support import FolderCase

ROWS = "Value,Unit,Town\n1.5,kg,Elm\n2000,g,Fen\n3,kg,Elm\n500,g,Fen\n"


class Cleans(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("w.csv", ROWS)
        self.oak("intake", "w.csv")
        self.oak("field", "clean", "w", "Value", "CASE WHEN Unit = 'g' THEN VALUE / 1000 ELSE VALUE END")

    def test_another_field_decides(self) -> None:
        source = oak.open_source("w").with_field("Twice", "Value * 2")
        self.assertEqual(source.rows(["Value", "Twice"]).to_dicts()[1], {"Value": 2.0, "Twice": 4.0})
        self.assertEqual(source.with_order(["Twice", "Unit", "Value"]).tally(show=["SUM(Value)"]).value(), 7.0)
        self.assertEqual(source.state("Value").uses, ("Unit",))

    def test_names_follow_and_value_stays_value(self) -> None:
        """Also where a field itself is called Value."""
        self.oak("field", "rename", "w", "Unit=In what", "Value=Net")
        source = oak.open_source("w")
        spec = source.state("Net").spec
        self.assertEqual(spec.clean, """CASE WHEN "In what" = 'g' THEN VALUE / 1000 ELSE VALUE END""")
        self.assertEqual(source.tally(show=["SUM(Net)"]).value(), 7.0)
        said = self.oak("trace", "w", "In what")
        self.assertIn("Net cleaned by", said)

    def test_dropping_and_circles(self) -> None:
        before = (self.folder / "w.oak.toml").read_bytes()
        self.assertIn("Value needs Unit", self.oak("field", "drop", "w", "Unit", code=2))
        self.oak("field", "rename", "w", "Value=Net")
        said = self.oak("field", "clean", "w", "Unit", "COALESCE(VALUE, CAST(Net AS TEXT))", code=2)
        self.assertIn("Net → Unit → Net", said)
        self.oak("undo", "w")
        self.assertEqual((self.folder / "w.oak.toml").read_bytes(), before)

    def test_a_broken_field_breaks_what_it_cleans(self) -> None:
        self.write("w.csv", ROWS.replace("Unit", "Measured in"))
        said = self.oak("check", "w", code=1)
        self.assertIn("column 'Unit' is missing", said)
        self.assertIn("Unit, Value", said)
        self.oak("mend", "w", "Unit=Measured in")
        self.assertEqual(oak.open_source("w").tally(show=["SUM(Value)"]).value(), 7.0)

    def test_changed_values_are_of_rows_not_of_reports(self) -> None:
        """A mend of values changes a clean where it compares the field, and VALUE only in the field's own."""
        self.oak("field", "rename", "w", "Unit=Value 2")
        self.oak("mend", "w", "--values", "Value 2", "g=gram")
        self.assertIn("'gram'", (self.folder / "w.oak.toml").read_text("utf-8"))


class NamedConstants(FolderCase):
    """A constant stands where a function needs what does not vary; it is followed by edits as everywhere."""

    def test_days_off(self) -> None:
        self.write("w.csv", "Id,From,Until\n1,2026-04-01,2026-04-08\n2,2026-03-30,2026-04-03\n")
        self.oak("intake", "w.csv")
        self.oak("constant", "set", "w", "Off", "2026-04-03, 2026-04-06")
        self.oak("field", "add", "w", "Took", "WORKING_DAYS(From, Until, Off)")
        self.oak("field", "rename", "w", "Off=Days off", code=None)
        source = oak.open_source("w")
        name = "Off" if source.entry("constant", "Off") is not None else "Days off"
        self.assertEqual([row["Took"] for row in source.rows(["Took"]).to_dicts()], [3, 4])
        self.assertEqual(source.state("Took").uses, ("From", "Until", name))
        self.oak("constant", "set", "w", name, "2026-04-02")
        self.assertEqual([row["Took"] for row in oak.open_source("w").rows(["Took"]).to_dicts()], [4, 3])
        self.assertIn(
            "Took", self.oak("constant", "set", "w", name, "soon", code=None) + self.oak("check", "w", code=1)
        )
