"""The house itself: what importing does and does not do, and how the rooms lie."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from pathlib import Path
from typing import get_args

from tools import rooms

SOURCE = Path(__file__).parent.parent / "src" / "oak_ledger"
LONGEST = 450  # lines of a module


def python(code: str) -> str:
    """What Python prints in a fresh process."""
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.strip()


class Rooms(unittest.TestCase):
    def test_a_source_alone_has_all_its_checks(self) -> None:
        code = """
from oak_ledger.source.source import Source
import pyarrow as pa
source = Source.from_table(pa.table({"a": [1, 2, 4], "b": [3, 0, 5]}), name="x").with_field("rate", "b / a")
print([one.code for one in source.check()], [one.code for one in source.tally(show=["rate"]).findings])
"""
        self.assertEqual(python(code), "['not-additive'] ['not-additive']")

    def test_the_engine_alone_knows_all_functions(self) -> None:
        code = (
            "from oak_ledger.functions import LIBRARY; print('MEDIAN' in LIBRARY.entries, 'CONCAT' in LIBRARY.entries)"
        )
        self.assertEqual(python(code), "True True")

    def test_every_kind_of_origin_has_a_reader(self) -> None:
        from oak_ledger.origin.formats import READERS
        from oak_ledger.origin.spec import OriginKind

        self.assertEqual({*READERS}, {*get_args(OriginKind)})

    def test_the_command_line_starts_without_what_it_does_not_need(self) -> None:
        code = "import oak_ledger.cli, sys; print([m for m in ('pyarrow', 'numpy', 'pandas', 'duckdb', 'matplotlib') if m in sys.modules])"
        self.assertEqual(python(code), "[]")

    def test_the_drawing_of_the_house_is_true(self) -> None:
        """The picture in the documents is what the imports give; no arrow points up, and no room is named by a string."""
        order = rooms.rooms()
        for room, below in rooms.imports().items():
            for other in below:
                self.assertLess(order.index(room), order.index(other), f"{room} imports {other}")
        self.assertEqual(rooms.DRAWING.read_text("utf-8"), rooms.drawing(), "run tools/rooms.py")
        for path in SOURCE.rglob("*.py"):
            if path.name != "__init__.py" or path.parent != SOURCE:
                for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                    if isinstance(node, ast.Constant) and isinstance(node.value, str):
                        self.assertNotRegex(node.value, r"^oak_ledger\.\w+[.:]\w", path)

    def test_no_module_is_too_long(self) -> None:
        for path in SOURCE.rglob("*.py"):
            name = path.relative_to(SOURCE).as_posix()
            with self.subTest(name):
                lines = len(path.read_text(encoding="utf-8").splitlines())
                self.assertTrue(lines <= LONGEST, f"{name} has {lines} lines")

    def test_every_module_says_what_it_is_for(self) -> None:
        for path in SOURCE.rglob("*.py"):
            with self.subTest(path.name):
                self.assertTrue(ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))))
