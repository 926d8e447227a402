"""All tests, module by module, as many at a time as there are cores. The same as `python -m unittest discover -s tests -t .`, only sooner."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent.parent


def run(module: Path) -> bool:
    """One module in a process of its own: a line where all went well, else all that it said."""
    begin = time.perf_counter()
    command = [sys.executable, "-W", "error", "-m", "unittest", f"tests.{module.stem}"]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
    lines = done.stderr.splitlines()
    ran = next((line for line in reversed(lines) if line.startswith("Ran ")), "nothing ran")
    good = done.returncode == 0 and not ran.startswith(("Ran 0", "nothing"))
    told = [line for line in lines if line.startswith("[")] if good else [done.stdout, *lines]
    said = [
        *told,
        f"{module.stem}: {ran}, {lines[-1] if lines else 'no word'} ({time.perf_counter() - begin:.0f} s with starting)",
    ]
    print("\n".join(said), flush=True)
    return good


def main() -> int:
    """All of them, the longest first."""
    modules = sorted((ROOT / "tests").glob("test_*.py"), key=lambda one: -one.stat().st_size)
    with ThreadPoolExecutor(min(os.cpu_count() or 1, 4)) as pool:
        results = [*pool.map(run, modules)]
    print(f"{sum(results)} of {len(results)} modules of tests went well")
    return 0 if results and all(results) else 1


if __name__ == "__main__":
    sys.exit(main())
