"""Plant bugs one at a time in a copy of the sources and see whether the tests of their room notice: `python tools/mutants.py [--seed N] [--count N]`.

Each bug is one comparison, operator, condition or number changed, a part of a condition dropped, or a check left out. What survives is listed with its place: it asks for a test, or changes nothing that can be seen.
"""

from __future__ import annotations

import argparse
import ast
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parent.parent
SECONDS = 150  # for the tests of one bug
# The tests of each room, those that fail soonest first.
TESTS = {
    "formula": ("language", "mending", "lint", "assist", "levels", "properties", "questions"),
    "functions": (
        "language",
        "texts",
        "dates",
        "columnar",
        "properties",
        "arguments",
        "windows",
        "edges",
        "database",
        "questions",
    ),
    "columnar": ("columnar", "texts", "dates", "windows", "language"),
    "engine": ("source", "windows", "filtered", "noticed", "levels", "fill", "properties", "engine", "questions"),
    "origin": (
        "noticed",
        "intake",
        "delimited",
        "arrival",
        "steps",
        "joined",
        "typed_files",
        "parquet",
        "held",
        "ends",
        "corpus",
        "whole",
    ),
    "editor": ("editor",),
    "definition": ("shaping", "edits", "merging", "cleans", "repair", "source"),
    "columns": ("intake", "arrival", "likely_one", "held", "corpus"),
    "names": ("source", "language", "cleans", "shaping", "held"),
    "source": ("source", "whole", "cache", "baseline", "export", "levels", "held", "questions"),
    "first_look": ("intake", "steps", "joined", "arrival", "corpus"),
    "explain": ("shaping", "source", "why", "differences", "commands"),
    "insight": ("checks", "silent", "lint", "mixed", "evidence", "spellings", "shaping"),
    "places": ("places", "database", "questions"),
    "reference": (
        "graft",
        "judged",
        "drift",
        "whole_states",
        "repair",
        "candidates",
        "differences",
        "checks",
        "publish",
        "deliveries",
    ),
    "report": ("panels", "noticed", "why", "fill", "publish", "commands", "questions"),
    "catalogue": ("catalogue", "noticed", "differences", "publish", "team", "attacked", "rights"),
    "present": ("panels", "noticed", "publish", "notebook", "commands"),
    "service": ("sql", "service", "rights", "team"),
    "cli": ("json", "shaping", "repair", "commands", "documents"),
}
COMPARED = {ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In}  # fmt: skip
GUARDS = ("require", "refuse", "check", "must", "allow", "need")
RECKONED = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Add, ast.FloorDiv: ast.Mult}


def sites(tree: ast.AST) -> Iterator[ast.AST]:
    """What can be changed."""
    for node in ast.walk(tree):
        compared = isinstance(node, ast.Compare) and type(node.ops[0]) in COMPARED
        reckoned = isinstance(node, ast.BinOp) and type(node.op) in RECKONED
        negated = isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not)
        number = isinstance(node, ast.Constant) and type(node.value) is int and node.value < 100
        if compared or reckoned or negated or number or isinstance(node, ast.BoolOp) or is_guard(node):
            yield node


def is_guard(node: ast.AST) -> bool:
    """Whether a statement only refuses what must not be, such as a check of rights."""
    call = node.value if isinstance(node, ast.Expr) else None
    name = ast.unparse(call.func).rsplit(".", 1)[-1] if isinstance(call, ast.Call) else ""
    return name.lstrip("_").startswith(GUARDS)


def change(node: ast.AST, chance: random.Random) -> str:
    """Change a place in its tree, and say how."""
    before = ast.unparse(node)
    if isinstance(node, ast.Compare):
        node.ops[0] = COMPARED[type(node.ops[0])]()
    elif isinstance(node, ast.BinOp):
        node.op = RECKONED[type(node.op)]()
    elif isinstance(node, ast.BoolOp):
        if chance.random() < 0.5:
            node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        else:
            node.values.pop(chance.randrange(len(node.values)))
    elif isinstance(node, ast.UnaryOp):
        node.operand = ast.UnaryOp(ast.Not(), node.operand)
    elif isinstance(node, ast.Expr):
        node.value = ast.Constant(None)
    elif isinstance(node, ast.Constant):
        node.value += 1  # type: ignore[operator]
    return f"{before[:60]} became {ast.unparse(node)[:60]}"


def noticed(copy: Path, room: str) -> str:
    """The test module that notices, if one does."""
    for module in TESTS[room]:
        command = [sys.executable, "-m", "unittest", "-f", f"tests.test_{module}"]
        try:
            done = subprocess.run(
                command,
                cwd=copy,
                env={"PYTHONPATH": str(copy / "src"), "PATH": "/usr/bin:/bin"},
                capture_output=True,
                check=False,
                timeout=SECONDS,
            )
        except subprocess.TimeoutExpired:
            return f"{module}, by never ending"
        if done.returncode:
            return module
    return ""


def main() -> int:
    """Plant the bugs; exit code 1 where more than a tenth survive."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--count", type=int, default=60)
    given = options.parse_args()
    chance = random.Random(given.seed)  # noqa: S311
    files = [
        path
        for path in sorted((ROOT / "src" / "oak_ledger").rglob("*.py"))
        if path.relative_to(ROOT / "src" / "oak_ledger").parts[0] in TESTS
    ]
    weights = [len(path.read_text("utf-8").splitlines()) for path in files]
    survived = []
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "copy"
        shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".venv", ".git", "demo", "*.png"))
        for number in range(given.count):
            path = chance.choices(files, weights)[0]
            text = path.read_text("utf-8")
            tree = ast.parse(text)
            places = [*sites(tree)]
            if not places:
                continue
            node = chance.choice(places)
            line = getattr(node, "lineno", 0)
            said = change(node, chance)
            target = copy / path.relative_to(ROOT)
            target.write_text(ast.unparse(tree), "utf-8")
            found = noticed(copy, path.relative_to(ROOT / "src" / "oak_ledger").parts[0])
            target.write_text(text, "utf-8")
            label = f"{path.relative_to(ROOT / 'src' / 'oak_ledger')}:{line}  {said}"
            print(f"{number + 1:3}  {'noticed by ' + found if found else 'SURVIVED'}  {label}", flush=True)
            survived += [] if found else [label]
    print(f"{given.count - len(survived)} of {given.count} noticed")
    return 1 if len(survived) > given.count // 10 else 0


if __name__ == "__main__":
    sys.exit(main())
