"""Whole questions against an independent server, as many as asked for, in every form of the rows: `python -m tests.longer.questions 5000 [SEED]`."""

from __future__ import annotations

import os
import subprocess
import sys


def main() -> None:
    """Draw them, and stop with what is wrong."""
    count = sys.argv[1] if len(sys.argv) > 1 else "2000"
    more = {"OAK_QUESTIONS": count, "OAK_ALL_FORMS": "1"} | ({"OAK_SEED": sys.argv[2]} if len(sys.argv) > 2 else {})
    command = [sys.executable, "-m", "unittest", "tests.test_questions"]
    sys.exit(subprocess.run(command, env={**os.environ, **more}, check=False).returncode)


if __name__ == "__main__":
    main()
