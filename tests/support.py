"""What tests share: a small source, a folder to work in, the command line."""

from __future__ import annotations

import atexit
import contextlib
import datetime as dt
import fcntl
import hashlib
import io
import json
import os
import pty
import re
import select
import shutil
import struct
import subprocess
import sys
import tempfile
import termios
import time
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

import jsonschema
import pyarrow as pa

import oak_ledger as oak
from oak_ledger.cli import run
from oak_ledger.cli.shared.app import command_called, every_command, json_shape
from oak_ledger.cli.shared.shapes import schema

D = Decimal


def seed_of_the_code() -> int:
    """What draws begin with: the same for the same code wherever it runs, another after any change."""
    home = Path(__file__).parents[1]
    files = sorted(one for folder in ("src", "tests") for one in (home / folder).rglob("*.py"))
    return int.from_bytes(hashlib.sha256(b"".join(one.read_bytes() for one in files)).digest()[:4])


COMMANDS = every_command()
os.environ["OAK_CACHE_FOLDER"] = tempfile.mkdtemp(prefix="oak-tests-")
atexit.register(shutil.rmtree, os.environ["OAK_CACHE_FOLDER"], ignore_errors=True)
os.environ["XDG_CONFIG_HOME"] = os.environ["OAK_CACHE_FOLDER"]
LOADS = pa.table(
    {
        "Mill": ["Low Weir", "High Ford", "Low Weir", "High Ford", "Low Weir", None],
        "Volume": pa.array(
            [D("12.00"), D("24.00"), D("4.50"), D("11.50"), D("20.00"), D("4.50")], pa.decimal128(10, 2)
        ),
        "Cost": pa.array([10, 30, None, 20, 20, None], pa.int64()),
        "Fee": pa.array([1.5, None, 2.0, 0.5, None, 0.0], pa.float64()),
        "Day": pa.array([dt.date(2026, 3, day) for day in (1, 2, 3, 4, 5)] + [None], pa.date32()),
        "Sent": pa.array([True, False, None, True, True, False]),
        "Code": ["007", "oak", "", " x ", "Ünï", None],
    }
)


def loads() -> oak.Source:
    """Six rows with nulls in every column but one."""
    return oak.Source.from_table(LOADS, name="Loads")


class FolderCase(unittest.TestCase):
    """A test in a folder of its own, which is the working directory while it runs."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        back = Path.cwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, back)

    def write(self, name: str, content: str | bytes) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode("utf-8") if isinstance(content, str) else content)
        return path

    def oak(self, *arguments: str, code: int | None = 0) -> str:
        """Run a command, check its exit code, and give all that it printed."""
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            got = run(arguments)
        text = out.getvalue() + err.getvalue()
        if code is not None:
            self.assertEqual(got, code, f"oak {' '.join(arguments)}\n{text}")
        self.assertNotIn("Traceback", text)
        return text

    def oak_json(self, *arguments: str, code: int | None = 0) -> Any:
        """Run a command with `--json`, check its exit code and that the object has the documented shape, and give it."""
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()) as err:
            got = run([*arguments, "--json"])
        if code is not None:
            self.assertEqual(got, code, f"oak {' '.join(arguments)}\n{out.getvalue()}{err.getvalue()}")
        found = json.loads(out.getvalue())
        shape = json_shape(COMMANDS[command_called(arguments)])
        jsonschema.validate(found, schema(shape))
        self.assertEqual("errors" in found, got in (2, 3, 70), found)
        return found

    def raises(self, code: str, call: Any, *args: Any, **keys: Any) -> oak.OakError:
        """The error that a call raises, which must have this code."""
        with self.assertRaises(oak.OakError) as caught:
            call(*args, **keys)
        self.assertEqual(caught.exception.code, code, str(caught.exception))
        return caught.exception


class Terminal:
    """A command of `oak` in a real pseudo-terminal: typed into, and read from."""

    def __init__(self, case: unittest.TestCase, *arguments: str) -> None:
        self.case, self.seen = case, ""
        self.master, slave = pty.openpty()
        fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 120, 0, 0))
        environment = {**os.environ, "TERM": "xterm", "COLUMNS": "120", "LINES": "40"}
        code = f"import sys; from oak_ledger.cli import main; sys.argv[1:] = {list(arguments)!r}; main()"
        self.running = subprocess.Popen(
            [sys.executable, "-c", code], stdin=slave, stdout=slave, stderr=slave, env=environment, close_fds=True
        )
        os.close(slave)
        case.addCleanup(os.close, self.master)
        case.addCleanup(lambda: (self.running.kill(), self.running.wait()))

    def type(self, text: str) -> None:
        """Press keys."""
        os.write(self.master, text.encode())

    def expect(self, words: str) -> None:
        """Wait until the words have been shown."""
        until = time.monotonic() + 20
        while words not in re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", self.seen):
            self.case.assertLess(time.monotonic(), until, f"{words!r} never came: {self.seen[-600:]!r}")
            if not select.select([self.master], [], [], 0.2)[0]:
                continue
            try:
                came = os.read(self.master, 65536).decode("utf-8", "replace")
            except OSError:  # the program has ended
                self.case.assertIn(words, self.seen)
                return
            if "\x1b[6n" in came:  # a terminal answers where its cursor is
                os.write(self.master, b"\x1b[1;1R")
            self.seen += came

    def ended(self) -> int:
        """Wait for the end, and give the exit code."""
        return self.running.wait(timeout=20)
