"""All tests, module by module, as many at a time as there are cores: `python tools/test.py [MODULE...] [-k WORD] [--durations N]`.

The same as `python -m unittest discover -s tests -t .`, only sooner. A module is named as its file is, with or without `test_`.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent


def run(module: Path, word: str, durations: int) -> bool:
    """Run one module in a process of its own: print a line where all went well, else all that it said."""
    begin = time.perf_counter()
    command = [
        sys.executable,
        "-W",
        "error",
        __file__,
        "--one",
        module.stem,
        "--durations",
        str(durations),
        *(["-k", word] if word else []),
    ]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
    lines = done.stderr.splitlines()
    ran = next((line for line in reversed(lines) if line.startswith("Ran ")), "nothing ran")
    nothing = ran.startswith(("Ran 0", "nothing"))
    good = done.returncode == 0 and (bool(word) or not nothing)
    said = [line for line in lines if line.startswith("[")] if good else [done.stdout, *lines]
    said += done.stdout.splitlines() if good and durations else []
    if not (word and good and nothing):
        said.append(
            f"{module.stem}: {ran}, {lines[-1] if lines else 'no word'} ({time.perf_counter() - begin:.0f} s with starting)"
        )
        print("\n".join(said), flush=True)
    return good


class Timed(unittest.TextTestResult):
    """A result that remembers how long each test took."""

    seconds: dict[str, float] = {}  # noqa: RUF012

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        """Begin."""
        self.began = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        """End."""
        self.seconds[test.id()] = time.perf_counter() - self.began
        super().stopTest(test)


def one(module: str, word: str, durations: int) -> int:
    """Run the tests of one module here."""
    sys.path.insert(0, str(ROOT))
    loader = unittest.TestLoader()
    if word:
        loader.testNamePatterns = [word if "*" in word else f"*{word}*"]
    runner: Any = unittest.TextTestRunner
    result = runner(resultclass=Timed).run(loader.loadTestsFromName(f"tests.{module}"))
    slowest = sorted(Timed.seconds.items(), key=lambda item: -item[1])[:durations]
    for name, seconds in slowest:
        print(f"  {seconds:6.2f} s  {name}")
    return 0 if result.wasSuccessful() else 1


def main() -> int:
    """Run all of them, or those named; the longest first."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("modules", nargs="*", help="test modules, such as corpus or test_corpus")
    options.add_argument("-k", dest="word", default="", help="only tests whose names have this word")
    options.add_argument(
        "--durations", type=int, default=0, metavar="N", help="show the N slowest tests of each module"
    )
    options.add_argument("--one", default="", help=argparse.SUPPRESS)
    given = options.parse_args()
    if given.one:
        return one(given.one, given.word, given.durations)
    wanted = {name if name.startswith("test_") else f"test_{name}" for name in given.modules}
    there = sorted((ROOT / "tests").glob("test_*.py"), key=lambda one: -one.stat().st_size)
    unknown = wanted - {path.stem for path in there}
    if unknown:
        print(f"no such module: {', '.join(sorted(unknown))}")
        return 2
    modules = [path for path in there if not wanted or path.stem in wanted]
    with ThreadPoolExecutor(min(os.cpu_count() or 1, 4)) as pool:
        results = [*pool.map(lambda module: run(module, given.word, given.durations), modules)]
    print(f"{sum(results)} of {len(results)} modules of tests went well")
    return 0 if results and all(results) else 1


if __name__ == "__main__":
    sys.exit(main())
