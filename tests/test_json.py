"""What commands print with `--json`: the documented shape of each, for success and for failure."""

from __future__ import annotations

import shlex
import unittest
from pathlib import Path

import jsonschema

from oak_ledger.cli.shared.app import command_called, json_shape
from oak_ledger.cli.shared.shapes import SHAPES, parts, schema
from tests.support import COMMANDS, FolderCase
from tests.test_commands import CALLS, CSV, REPORT

WITHOUT = ("--json", "--help", "--to -", "zebra", "tallly")  # calls that print something else, or are no command
MORE: tuple[tuple[str, int], ...] = (
    ("intake loads.csv --name More", 0),
    ("field set more ID --role dimension", 0),
    ("step add more distinct", 0),
    ("step list more", 0),
    ("step drop more 1", 0),
    ("field recode more MILL 'Low Weir=Weir'", 0),
    ("field move more Cost --first", 0),
    ("field sort more --descending", 0),
    ("field drop more Volume", 0),
    ("field restore more --new", 0),
    ("filter list more", 0),
    ("export more --to more.parquet", 0),
    ("export dictionary more --to dictionary --as markdown", 0),
    ("check gone", 1),
    ("mend gone PRICE=Cost", 0),
    ("tally loads --by Mill --show Volume --totals --explain", 0),
    ("try loads 'Cost / (Volume - 1.5)'", 0),
    ("try loads \"CASE WHEN Volume > 3 THEN 'big' ELSE 'small' END\"", 0),
    ("try loads 'Cost / Volume' --explain", 0),
    ("try loads 'Volum + 1' --fix", 0),
    ("profile loads --to all.png", 0),
    ("peek loads Zebra", 2),
    ("peek loads --limit none", 2),
    ("publish loads --dry-run", 0),
)
UPKEEP: tuple[tuple[str, int], ...] = (
    ("catalogue add-area attic", 0),
    ("catalogue four-eyes", 0),
    ("catalogue readers", 0),
    ("catalogue backup kept", 0),
    ("catalogue restore kept --catalogue again", 0),
    ("catalogue remove-old-rows --keep 1 --yes", 0),
    ("catalogue hand-over nobody somebody --yes", 0),
    ("catalogue move source Loads attic --catalogue again", 0),
    ("catalogue remove source attic/Loads --catalogue again --yes", 0),
)


class Shapes(FolderCase):
    def test_every_command_prints_its_shape(self) -> None:
        """A day of calls, each with `--json`: its exit code is the same, and the object has the documented keys and no other."""
        self.write("loads.csv", CSV)
        self.write("r.report.toml", REPORT)
        self.write("schedule.toml", '[[snapshot]]\nsource = "loads.oak.toml"\nkeep = 3\nwatch = true\n')
        self.write("rows.jsonl", '{"Mill": "Low Weir"}\n')
        self.oak("intake", "loads.csv", "--name", "Loads")
        self.oak("field", "add", "loads", "Rate", "Cost / Volume")
        self.oak("intake", "loads.csv", "--name", "Gone")
        gone = Path("gone.oak.toml").read_text()
        Path("gone.oak.toml").write_text(gone.replace('column = "Cost"', 'column = "PRICE"'))
        seen: set[str] = set()
        calls = [(call.removeprefix("oak "), code) for call, code, _ in CALLS]
        last = [*UPKEEP, ("demo day --rows 1000 --until intake", 0), ("demo day --rows 1000", 2)]
        for call, code in [*MORE, *calls, *last]:
            if any(word in call for word in WITHOUT) or "book.xlsx" in call:
                continue
            with self.subTest(call):
                words = shlex.split(call)
                found = self.oak_json(*words, code=code)
                if "errors" not in found:
                    seen.add(command_called(words))
        self.assertEqual({*COMMANDS} - seen, {"serve", "language-server"})  # they do not end

    def test_shapes_are_closed_and_used(self) -> None:
        used = {part for command in COMMANDS.values() for part in parts(json_shape(command))} | {*parts("Failure")}
        self.assertEqual(used, {*SHAPES})
        for name in SHAPES:
            jsonschema.Draft202012Validator.check_schema(schema(name))
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate({"versions": [], "more": 1}, schema("Versions"))
        with self.assertRaises(jsonschema.ValidationError):
            jsonschema.validate({}, schema("Versions"))

    def test_values_are_exact(self) -> None:
        self.write("loads.csv", "Id,Volume,Day,Big\n1,0.10,2026-03-01,12345678901234567890.5\n2,,,\n")
        self.oak("intake", "loads.csv", "--name", "Loads")
        rows = self.oak_json("peek", "loads")["rows"]
        self.assertEqual(rows[0], {"Id": 1, "Volume": "0.10", "Day": "2026-03-01", "Big": "12345678901234567890.5"})
        self.assertEqual(rows[1], {"Id": 2, "Volume": None, "Day": None, "Big": None})

    def test_an_edit_says_what_it_wrote(self) -> None:
        self.write("loads.csv", CSV)
        self.oak("intake", "loads.csv", "--name", "Loads")
        tried = self.oak_json("field", "retype", "loads", "Cost", "text", "--dry-run")
        self.assertEqual((tried["written"], tried["facts"]["values_after"]), (False, 40))
        self.assertNotIn('type = "text"\n\n[[field]]\nname = "Cost"', Path("loads.oak.toml").read_text())
        done = self.oak_json("field", "rename", "loads", "Cost=Price")
        self.assertTrue(done["written"])
        lines = [line["after"] for file in done["files"] for line in file["lines"]]
        self.assertIn('name = "Price"', lines)
        self.assertEqual(self.oak_json("field", "rename", "loads", "Price=Price", code=None)["written"], False)
        self.assertEqual(self.oak_json("undo", "loads")["facts"]["what"], "oak field rename loads Cost=Price --json")

    def test_failures_have_one_shape(self) -> None:
        for call, code, name in (
            ("peek nothing.csv", 3, "no-file"),
            ("tally", 2, "usage"),
            ("tally nothing --zebra", 2, "usage"),
            ("versions --catalogue nowhere", 3, "no-catalogue"),
        ):
            with self.subTest(call):
                found = self.oak_json(*call.split(), code=code)
                self.assertEqual([one["code"] for one in found["errors"]], [name])


if __name__ == "__main__":
    unittest.main()
