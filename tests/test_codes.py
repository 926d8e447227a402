"""Every code that a finding or an error may have is registered, and every one that is registered is used."""

from __future__ import annotations

import ast
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

from oak_ledger.codes import CODES, TOPICS
from tests.support import FolderCase

SOURCE = Path(__file__).parent.parent / "src" / "oak_ledger"
MAKERS = {"Finding", "OakError", "UnusableInput", "FormulaError", "report", "problem", "_found", "_warning", "warn"}
CODE = re.compile(r"[a-z]+(?:-[a-z]+)*")


def used() -> Iterator[tuple[str, str]]:
    """Each code that is given where a finding or an error is made, with the module."""
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Call) and node.args:
                name = (
                    node.func.id
                    if isinstance(node.func, ast.Name)
                    else node.func.attr
                    if isinstance(node.func, ast.Attribute)
                    else ""
                )
                code = node.args[0]
                if (
                    name in MAKERS
                    and isinstance(code, ast.Constant)
                    and isinstance(code.value, str)
                    and CODE.fullmatch(code.value)
                ):
                    yield code.value, path.name


class Codes(FolderCase):
    def test_each_code_is_registered(self) -> None:
        found = [*used()]
        self.assertGreater(len(found), 200)
        self.assertEqual({(code, module) for code, module in found if code not in CODES}, set())

    def test_each_registered_code_is_used(self) -> None:
        text = "".join(path.read_text("utf-8") for path in SOURCE.rglob("*.py") if path.name != "codes.py")
        made = {f"unknown-{kind}" for kind in ("constant", "filter", "rule")} | {
            "holds-always",
            "holds-never",
            "nothing-to-undo",
            "nothing-to-redo",
        }
        self.assertEqual({code for code in CODES if f'"{code}"' not in text} - made, set())
        self.assertEqual(sum(map(len, TOPICS.values())), len(CODES))

    def test_the_command_lists_them(self) -> None:
        said = self.oak("help", "codes")
        for code in CODES:
            self.assertIn(code, said)


if __name__ == "__main__":
    unittest.main()
