"""An editor with the client that it brings: Neovim, played by a script, over files as they are typed."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

import oak_ledger as oak
from tests.service import OAK
from tests.support import FolderCase

SCRIPT = Path(__file__).with_name("nvim.lua")
REPORT = """\
[report]
name = "Volumes"
source = "Loads"

[[panel]]
kind = "table"
title = "Volumes"
by = ["Mill"]
show = ["Volume"]
"""


class InNeovim(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        if shutil.which("nvim") is None:
            raise unittest.SkipTest("NOT PROVEN: an editor's own client, since there is no nvim")

    def test_a_formula_is_written_repaired_renamed_and_saved(self) -> None:
        self.write("loads.csv", "Id,Mill,Volume\n1,Low Weir,4.5\n2,High Ford,7.0\n")
        self.oak("intake", "loads.csv", "--name", "Loads")
        self.oak("field", "add", "loads", "Twice", "Volume * 2")
        self.write("volumes.report.toml", REPORT)
        command = ["nvim", "-n", "--headless", "--clean", "-c", f"luafile {SCRIPT}"]
        played = subprocess.run(command, env={**os.environ, "OAK": OAK}, capture_output=True, text=True, timeout=180)
        seen = json.loads(Path("seen.json").read_text()) if Path("seen.json").exists() else played.stderr
        self.assertEqual(played.returncode, 0, seen)
        self.assertIn("There is no field Volum", seen["diagnostic"])
        self.assertEqual((seen["offered"], seen["action"]), ("Volume", "Write Volume * 2"))
        source = oak.open_source("loads")
        self.assertEqual(
            source.tally(show=["SUM(Twice)"]).value() or 0, source.tally(show=['SUM("Net volume") * 2']).value()
        )
        self.assertIn('show = ["Net volume"]', Path("volumes.report.toml").read_text())
