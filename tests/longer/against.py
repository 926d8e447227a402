"""Any number of random formulas against a real PostgreSQL: `python -m tests.longer.against 100000 --seed 7`.

The same comparison that the tests make with a few thousand; a difference is brought down to the smallest formula that shows it.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from pathlib import Path

TEST = "tests.test_database.Against.test_random_formulas_over_rows"


def main() -> int:
    """Run the comparison, and give its exit code."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("formulas", type=int, nargs="?", default=20_000)
    options.add_argument("--seed", type=int, default=1)
    given = options.parse_args()
    environment = {**os.environ, "OAK_FORMULAS": str(given.formulas), "OAK_SEED": str(given.seed)}
    command = [sys.executable, "-m", "unittest", "-v", TEST]
    return subprocess.run(command, cwd=Path(__file__).parent.parent.parent, env=environment, check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
