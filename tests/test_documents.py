"""The working day of the demo, and every document: its commands, its Python, its pictures and links."""

from __future__ import annotations

import contextlib
import io
import os
import re
import runpy
import shlex
from pathlib import Path

from oak_ledger.cli.demo import DAY
from oak_ledger.cli.shared.app import command_called
from oak_ledger.cli.shared.sections import COMMANDS, MOVED
from tests.support import COMMANDS as KNOWN
from tests.support import FolderCase

ROOT = Path(__file__).parent.parent

ROOT = Path(__file__).parent.parent


class TheDay(FolderCase):
    def test_the_demo_walks_through_the_whole_day(self) -> None:
        text = self.oak("demo", "day", "--rows", "4000")
        self.assertIn("The day is done", text)
        self.assertNotIn("was expected", text)
        for step in DAY:
            self.assertIn(step.title, text)
        for words in (
            "nulls-spread",
            "not-additive",
            "drift-unit",
            "column 'STAND' is missing",
            "COMPARTMENT: 100%",
            "retired",
            "lines in 3 files changed",
        ):
            self.assertIn(words, text)
        self.assertTrue(Path("day/pages/mill_margins.png").stat().st_size > 10_000)
        self.assertIn("--again", self.oak("demo", "day", code=2))
        self.oak("demo", "day", "--again", "--rows", "1000", "--data-only")
        self.assertFalse(Path("day/loads.oak.toml").exists())


class Documents(FolderCase):
    def test_examples_run(self) -> None:
        wanted = {"frame.py": "not-additive", "mending.py": "2 stands", "publishing.py": "110.61 → 113.06"}
        self.assertEqual(sorted(path.name for path in (ROOT / "examples").glob("*.py")), sorted(wanted))
        for name, words in wanted.items():
            out = io.StringIO()
            with contextlib.redirect_stdout(out):
                runpy.run_path(str(ROOT / "examples" / name))
            self.assertIn(words, out.getvalue())

    def test_commands_that_are_named_are_there(self) -> None:
        """Wherever a page, a message or a docstring names a command, it is one, with its verb."""
        pages = [ROOT / "README.md", *(ROOT / "docs").glob("[!b]*.md"), *(ROOT / "src").rglob("*.py")]
        found = 0
        for page in pages:
            for line in page.read_text("utf-8").splitlines():
                for called in re.findall(
                    r"(?:[`:] ?|\bor |\band |, )oak ([a-z][a-z-]*(?: [a-z][a-z-]*)?(?: [a-z][a-z-]*)?)", line
                ):
                    words = called.split()
                    if words[0] in MOVED and "is now" in line:
                        continue
                    found += 1
                    with self.subTest(page=page.name, line=line.strip()[:150]):
                        self.assertIn(words[0], [*COMMANDS])
                        beginnings = [" ".join(words[:count]) for count in (1, 2, 3)]
                        group = any(f"{one} " in " ".join([*KNOWN]) for one in beginnings[len(words) - 1 :])
                        self.assertTrue(command_called(words) in KNOWN or group)
        self.assertGreater(found, 200)

    def test_commands_in_the_documents_run_on_the_demo_data(self) -> None:
        """Every `oak` line of a console block in the README and the guide, in order, as they stand."""
        for document in ("README.md", "docs/guide.md"):
            self.oak("demo", f"demo-{Path(document).stem}", "--rows", "2000", "--data-only")
            os.chdir(f"demo-{Path(document).stem}")
            lines = console_lines((ROOT / document).read_text("utf-8"))
            self.assertGreater(len(lines), 5, document)
            for line in lines:
                with self.subTest(document=document, line=line):
                    if line.startswith("cp delivery"):
                        for path in Path("delivery").glob("*.csv"):
                            (Path("intake") / path.name).write_bytes(path.read_bytes())
                    elif line.startswith("oak ") and not line.startswith("oak demo"):
                        call, _, code = line.partition("  # exits with ")
                        self.oak(*shlex.split(call)[1:], code=int(code or 0))
            os.chdir(self.folder)

    def test_python_in_the_documents_runs(self) -> None:
        for document in ("README.md", "docs/guide.md", "docs/architecture.md"):
            for block in re.findall(r"```python\n(.*?)```", (ROOT / document).read_text("utf-8"), re.DOTALL):
                with self.subTest(document), contextlib.redirect_stdout(io.StringIO()):
                    exec(compile(block, document, "exec"), {})  # noqa: S102 - the document is our own

    def test_pictures_and_links_are_there(self) -> None:
        readme = (ROOT / "README.md").read_text("utf-8")
        for path in (ROOT / "docs" / "screenshots").glob("*.png"):
            self.assertIn(path.name, readme)
        for document in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
            for link in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", document.read_text("utf-8")):
                self.assertTrue((document.parent / link).exists(), f"{document.name}: {link}")


def console_lines(text: str) -> list[str]:
    """The commands of all console blocks of a document."""
    blocks = re.findall(r"```console\n(.*?)```", text, re.DOTALL)
    return [
        line.removeprefix("$ ")
        for block in blocks
        for line in block.replace("\\\n", "").splitlines()
        if line.startswith("$ ")
    ]
