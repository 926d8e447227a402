"""Compiles the loops in C when the package is built; without a compiler it is built all the same, and computes by NumPy and Arrow alone."""

from __future__ import annotations

import os
import platform
import subprocess
import sys
import sysconfig
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

LOOPS = Path("src", "oak_ledger", "loops")
FLAGS = ("-O3", "-std=c11", "-Wall", "-Wextra", "-shared", "-fno-math-errno", "-ffp-contract=off")
ANYWHERE = () if sys.platform == "win32" else ("-fPIC",)


class Loops(BuildHookInterface[Any]):
    """One shared library from all of the C files, beside them."""

    PLUGIN_NAME = "custom"

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile, and tell that what is built fits this kind of machine only."""
        if self.target_name != "wheel":
            return
        folder = Path(self.root) / LOOPS
        made = folder / ("loops.dll" if sys.platform == "win32" else "loops.so")
        sources = sorted(str(path) for path in folder.glob("*.c"))
        partly = made.with_suffix(".part")
        command = [sys.executable, "-m", "ziglang", "cc", *FLAGS, *ANYWHERE, *_machine(), "-o", str(partly), *sources]
        try:
            subprocess.run(command, check=True, capture_output=True, text=True)  # noqa: S603
        except (OSError, subprocess.CalledProcessError) as error:
            made.unlink(missing_ok=True)
            self.app.display_warning(f"the loops in C are left out: {getattr(error, 'stderr', '') or error}")
            return
        partly.replace(made)
        build_data["artifacts"].append(f"/{LOOPS.as_posix()}/{made.name}")
        build_data["pure_python"] = False
        machine = sysconfig.get_platform().replace("-", "_").replace(".", "_")
        build_data["tag"] = f"py3-none-{machine}"


def _machine() -> list[str]:
    """For which processors: those like this one, or what OAK_LEDGER_CPU names, for packages that others install.

    On many of them, as they are told to guard against leaks, gathering several words in one step takes longer than one after the other.
    """
    told = os.environ.get("OAK_LEDGER_CPU", "native")
    apart = "+prefer_no_gather" if platform.machine().lower() in ("x86_64", "amd64") else ""
    return [f"-mcpu={told}{apart}"]
