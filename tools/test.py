"""All tests, module by module, as many at a time as there are cores: `python tools/test.py [MODULE...] [-k WORD] [--durations N]`.

The same as `python -m unittest discover -s tests -t .`, only sooner. A module is named as its file is, with or without `test_`.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import traceback
import unittest
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent


LONGEST = (
    "test_documents",
    "test_commands",
    "test_questions",
    "test_places",
    "test_service",
    "test_rights",
    "test_engine",
)  # begun first
MEMORY, ROOM = "/dev/shm", 4 * 2**30  # noqa: S108  it is where the system has it
END = "\x1e"


class Worker:
    """A process that runs one module of tests after the other, so that what they need is imported once."""

    def __init__(self, options: Sequence[str]) -> None:
        self.command = [sys.executable, "-W", "error", __file__, "--worker", *options]
        self.process: Any = None

    def run(self, module: str) -> tuple[int, str]:
        """The exit code of a module, and all that it said. A process that ends on the way is followed by a new one."""
        if self.process is None:
            self.process = subprocess.Popen(
                self.command, cwd=ROOT, text=True, stdin=subprocess.PIPE, stdout=subprocess.PIPE
            )
        self.process.stdin.write(module + "\n")
        self.process.stdin.flush()
        said: list[str] = []
        for line in self.process.stdout:
            if line.startswith(END):
                return int(line[1:]), "".join(said)
            said.append(line)
        code, self.process = self.process.wait(), None
        return code or 1, "".join([*said, f"the process of the tests ended with {code}\n"])

    def end(self) -> None:
        """Let the process end by itself."""
        if self.process is not None:
            self.process.stdin.close()
            self.process.wait()


def run(worker: Worker, module: str, word: str) -> bool:
    """Run one module: print a line where all went well, else all that it said."""
    begin = time.perf_counter()
    code, text = worker.run(module)
    lines = text.splitlines()
    ran = next((line for line in reversed(lines) if line.startswith("Ran ")), "nothing ran")
    nothing = ran.startswith(("Ran 0", "nothing"))
    good = code == 0 and (bool(word) or not nothing)
    said = [line for line in lines if line.startswith(("[", "  "))] if good else lines
    if not (word and good and nothing):
        last = next((line for line in reversed(lines) if line.startswith(("OK", "FAILED"))), "no word")
        said.append(f"{module}: {ran}, {last} ({time.perf_counter() - begin:.0f} s with importing)")
        print("\n".join(said), flush=True)
    return good


def work(word: str, durations: int) -> int:
    """Run the modules that are named on the standard input; what they and their children say goes back in one piece each."""
    back = os.fdopen(os.dup(1), "w")
    for line in sys.stdin:
        with tempfile.TemporaryFile("w+") as said:
            for number in (1, 2):
                os.dup2(said.fileno(), number)
            try:
                code = one(line.strip(), word, durations)
            except BaseException:
                traceback.print_exc()
                code = 1
            sys.stdout.flush()
            sys.stderr.flush()
            said.seek(0)
            back.write(said.read().replace(END, ""))
            back.write(f"\n{END}{code}\n")
            back.flush()
    return 0


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
    Timed.seconds.clear()
    runner: Any = unittest.TextTestRunner
    result = runner(resultclass=Timed).run(loader.loadTestsFromName(f"tests.{module}"))
    slowest = sorted(Timed.seconds.items(), key=lambda item: -item[1])[:durations]
    for name, seconds in slowest:
        print(f"  {seconds:6.2f} s  {name}")
    return 0 if result.wasSuccessful() else 1


def _quick_folder() -> str | None:
    """A folder in memory, where there is one with room: tests write and remove thousands of small files."""
    there = Path(MEMORY)
    room = shutil.disk_usage(there).free if there.is_dir() and os.access(there, os.W_OK) else 0
    return MEMORY if room > ROOM and "TMPDIR" not in os.environ else None


def main() -> int:
    """Run all of them, or those named; the longest first."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("modules", nargs="*", help="test modules, such as corpus or test_corpus")
    options.add_argument("-k", dest="word", default="", help="only tests whose names have this word")
    options.add_argument(
        "--durations", type=int, default=0, metavar="N", help="show the N slowest tests of each module"
    )
    options.add_argument("--worker", action="store_true", help=argparse.SUPPRESS)
    given = options.parse_args()
    if given.worker:
        return work(given.word, given.durations)
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # processes that tests start would compile every module anew
    wanted = {name if name.startswith("test_") else f"test_{name}" for name in given.modules}
    sizes = {path.stem: path.stat().st_size for path in (ROOT / "tests").glob("test_*.py")}
    there = sorted(sizes, key=lambda one: (one not in LONGEST, LONGEST.index(one) if one in LONGEST else -sizes[one]))
    unknown = wanted - {*there}
    if unknown:
        print(f"no such module: {', '.join(sorted(unknown))}")
        return 2
    modules = iter([module for module in there if not wanted or module in wanted])
    taking = threading.Lock()

    def in_turn(worker: Worker) -> list[bool]:
        results: list[bool] = []
        while True:
            with taking:
                module = next(modules, None)
            if module is None:
                worker.end()
                return results
            results.append(run(worker, module, given.word))

    count = min(os.cpu_count() or 1, 4, len(wanted) or len(there))
    workers = [
        Worker(["--durations", str(given.durations), *(["-k", given.word] if given.word else [])]) for _ in range(count)
    ]
    with tempfile.TemporaryDirectory(prefix="oak-tests-", dir=_quick_folder(), ignore_cleanup_errors=True) as folder:
        os.environ["TMPDIR"] = folder
        with ThreadPoolExecutor(count) as pool:
            results = [one for many in pool.map(in_turn, workers) for one in many]
    print(f"{sum(results)} of {len(results)} modules of tests went well")
    return 0 if results and all(results) else 1


if __name__ == "__main__":
    sys.exit(main())
