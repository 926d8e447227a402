"""The tests that need more than pip packages: Java for the cluster, a browser for pages, an editor. What is missing is installed from Debian where that is possible.

`python tools/outside.py [MODULE...]`. What could not be proven is said at the end, loudly; only a failed test makes it fail.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
PATH = os.pathsep.join([os.environ.get("PATH", ""), "/usr/local/bin", "/usr/bin", "/bin", "/usr/sbin", "/sbin"])
# Each module of tests, with the programs and files that it needs, and the Debian package that has each.
NEEDS = {
    "test_clients": {"psql": "postgresql-client", "javac": "default-jdk-headless", "/usr/share/java/postgresql.jar": "libpostgresql-jdbc-java"},
    "test_load": {"python3": "python3"},
    "test_nvim": {"nvim": "neovim"},
    "test_pages": {"chromium": "chromium"},
    "test_servers": {"mariadbd": "mariadb-server"},
    "test_spark": {"java": "default-jre-headless"},
}  # fmt: skip


def is_there(program: str) -> bool:
    """Whether a program is on the path; one with a folder is a file."""
    return Path(program).is_file() if "/" in program else shutil.which(program, path=PATH) is not None


def there(program: str, package: str) -> bool:
    """Whether a program is there, now or after Debian's package was installed."""
    if is_there(program):
        return True
    installer = shutil.which("apt-get", path=PATH)
    if installer is None:
        return False
    before = [] if os.geteuid() == 0 else ["sudo", "-n"]
    environment = {**os.environ, "PATH": PATH, "DEBIAN_FRONTEND": "noninteractive"}
    for words in (["update", "-q"], ["install", "-q", "-y", "--no-install-recommends", package]):
        print(f"{program} is missing: {installer} {' '.join(words)}", flush=True)
        try:
            subprocess.run([*before, installer, *words], env=environment, timeout=300, check=True, capture_output=True)
        except (OSError, subprocess.SubprocessError) as error:
            print(f"  it failed: {error}", flush=True)
    return is_there(program)


def main() -> int:
    """Run what can be run; 1 where a test failed."""
    failed, unproven = [], []
    for module, needs in NEEDS.items():
        if sys.argv[1:] and module not in sys.argv[1:]:
            continue
        missing = [
            f"no {program} (Debian's {package} could not be installed)"
            for program, package in needs.items()
            if not there(program, package)
        ]
        if missing:
            unproven.append(f"{module}: there is {', '.join(missing)}")
            continue
        begin = time.perf_counter()
        command = [sys.executable, "-m", "unittest", f"tests.outside.{module}"]
        done = subprocess.run(
            command, cwd=ROOT, env={**os.environ, "PATH": PATH}, capture_output=True, text=True, check=False
        )
        print(
            f"{module}: {'good' if done.returncode == 0 else 'FAILED'} ({time.perf_counter() - begin:.0f} s)",
            flush=True,
        )
        lines = [line for line in done.stderr.splitlines() if not line.startswith(("\tat ", "[Stage", "\r[Stage"))]
        print(
            "\n".join(
                line[line.find("[", 1) if line.startswith(".") else 0 :]
                for line in lines
                if done.returncode or line.startswith(("Ran", "["))
            )
        )
        failed += [module] if done.returncode else []
    if unproven:
        print("!" * 80, "NOT PROVEN on this machine:", *unproven, "!" * 80, sep="\n", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
