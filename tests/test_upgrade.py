"""Files of earlier versions: read as they are, named by the check, rewritten by one command."""

from __future__ import annotations

import json
import tomllib
import unittest

import oak_ledger as oak
from tests.support import FolderCase

OLD = """\
# Bought loads.
[source]
name = "Loads"
kept = "loads.parquet"

[origin]
kind = "file"
path = "loads.csv"

[[field]]
name = "Volume"
column = "Volume"
type = "integer"
aggregate = "largest"   # the biggest load
format = "0,000"

# By hand: aggregate = "least" was tried.
[[field]]
name = "Share"
formula = \'\'\'
Volume /
  100
\'\'\'
"aggregate" = "average"
"""
NEW = OLD.replace('kept = "loads.parquet"\n', "").replace('aggregate = "largest"', 'total = "maximum"')
NEW = NEW.replace('"aggregate" = "average"', 'total = "average"')


class EarlierFiles(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", "Volume\n3\n9\n4\n")
        self.write("loads.oak.toml", OLD)

    def test_old_keys_mean_what_they_meant(self) -> None:
        source = oak.open_source("loads.oak.toml")
        self.assertEqual(source.tally(show=["Volume"]).value(), 9)
        self.assertEqual(source.document.text, OLD)
        found = [one for one in source.check() if one.code == "old-key"]
        self.assertEqual([one.severity for one in found], ["note"] * 3)
        self.assertEqual([one.place.where for one in found], [f"loads.oak.toml, line {line}" for line in (4, 14, 24)])

    def test_one_command_rewrites_them(self) -> None:
        self.assertIn("nothing was written", self.oak("upgrade", "loads", "--dry-run"))
        self.assertEqual((self.folder / "loads.oak.toml").read_text(), OLD)
        said = self.oak("upgrade", "loads")
        self.assertIn('- kept = "loads.parquet"', said)
        self.assertIn('+ total = "maximum"   # the biggest load', said)
        self.assertEqual((self.folder / "loads.oak.toml").read_text(), NEW)
        self.assertEqual(self.oak("upgrade", "loads"), "nothing to change\n")
        self.assertNotIn("old-key", self.oak("check", "loads", code=None))
        self.oak("undo", "loads")
        self.assertEqual((self.folder / "loads.oak.toml").read_text(), OLD)

    def test_an_edit_of_an_entry_rewrites_that_entry(self) -> None:
        self.oak("field", "total", "loads", "Volume", "--as", "minimum")
        first, second = tomllib.loads((self.folder / "loads.oak.toml").read_text())["field"]
        self.assertEqual((first["total"], "aggregate" in first), ("minimum", False))
        self.assertEqual(second["aggregate"], "average")

    def test_the_key_of_today_wins_where_both_are_there(self) -> None:
        self.write("loads.oak.toml", OLD.replace('format = "0,000"', 'total = "sum"'))
        self.assertEqual(oak.open_source("loads.oak.toml").tally(show=["Volume"]).value(), 16)
        self.oak("upgrade", "loads")
        first = tomllib.loads((self.folder / "loads.oak.toml").read_text())["field"][0]
        self.assertEqual((first["total"], "aggregate" in first), ("sum", False))

    def test_catalogues_and_logs_with_old_keys_still_open(self) -> None:
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        self.assertEqual(
            json.loads(self.oak("tally", "Loads", "--show", "Volume", "--json"))["rows"], [{"Volume, maximum": 9}]
        )
        self.oak("upgrade", "loads")
        self.oak("field", "describe", "loads", "Volume", "In tonnes")
        now = oak.open_source("loads.oak.toml")
        self.assertEqual([*oak.compare(oak.previous(now, 2), now).cells()], [])
        self.oak("undo", "loads")
        self.oak("undo", "loads")
        kept = OLD.replace('kept = "loads.parquet"\n', "base = 1\n")  # the publish has noted its version
        self.assertEqual((self.folder / "loads.oak.toml").read_text(), kept)


if __name__ == "__main__":
    unittest.main()
