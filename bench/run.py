"""Everything that is measured, in one run: `make bench`, or `python bench/run.py --quick`.

Makes seeded data, checks that all engines give the same answers, then times them in turn, each piece of work in a process of its own, and
writes medians, ratios and peak memory as a table and a picture into docs/.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from importlib import import_module
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))
import engine


def one(folder: Path, who: str, name: str, out: str) -> None:
    """Ask one engine one workload in this process, and print seconds and peak memory."""
    import pyarrow.parquet as pq

    if who != "oak":
        import_module(who)
    else:
        import oak_ledger.engine.tally
        import oak_ledger.source.source  # noqa: F401
    before = time.perf_counter()
    answer = engine.ENGINES[who](folder, name)
    seconds = time.perf_counter() - before
    if out:
        pq.write_table(answer, out)
    peak = int(Path("/proc/self/status").read_text().partition("VmHWM:")[2].split()[0]) / 1024
    print(json.dumps({"seconds": seconds, "megabytes": peak}))


def measured(folder: Path, who: str, name: str, out: str = "") -> dict[str, float]:
    """One engine and workload in a process of its own."""
    command = [sys.executable, __file__, "--one", who, name, "--folder", str(folder), "--out", out]
    done = subprocess.run(
        command, capture_output=True, text=True, check=False, env={**os.environ, "POLARS_MAX_THREADS": "2"}
    )
    if done.returncode:
        raise SystemExit(f"{who} {name} failed:\n{done.stderr[-3000:]}")
    found: dict[str, float] = json.loads(done.stdout.splitlines()[-1])
    return found


def compare(folder: Path, names: list[str], engines: list[str]) -> None:
    """Stop where engines do not give the same answers."""
    import pyarrow.parquet as pq

    for name in names:
        answers = {}
        for who in engines:
            out = str(folder / f"answer_{who}.parquet")
            measured(folder, who, name, out)
            answers[who] = pq.read_table(out)
        for who in engines[1:]:
            said = engine.different(answers["oak"], answers[who], ordered="rows" in engine.WORK[name])
            if said:
                raise SystemExit(f"{name}: oak and {who} differ: {said}")
        print(f"{name}: the same answers, {answers['oak'].num_rows:,} rows", flush=True)


def main() -> None:
    """Make the data, compare, time, write."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--rows", type=int, default=5_000_000)
    options.add_argument("--repeats", type=int, default=5)
    options.add_argument("--quick", action="store_true", help="a million rows, twice: two minutes")
    options.add_argument("--only", default="", help="letters of workloads")
    options.add_argument("--engines", default="oak,duckdb,polars,pandas")
    options.add_argument("--unchecked", action="store_true", help="do not compare answers")
    options.add_argument("--one", nargs=2)
    options.add_argument("--folder", default="")
    options.add_argument("--out", default="")
    given = options.parse_args()
    if given.one:
        one(Path(given.folder), *given.one, given.out)
        return
    rows, repeats = (1_000_000, 2) if given.quick else (given.rows, given.repeats)
    engines = given.engines.split(",")
    names = [name for name in engine.WORK if not given.only or name in given.only]
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(given.folder or holder)
        if not (folder / "loads.parquet").exists():
            engine.made(folder, rows)
        if not given.unchecked:
            compare(folder, names, engines)
        found: dict[tuple[str, str], list[dict[str, float]]] = {}
        for _ in range(repeats):
            for name in names:
                for who in engines:
                    found.setdefault((name, who), []).append(measured(folder, who, name))
    print(table(found, names, engines))


def table(found: dict[tuple[str, str], list[dict[str, float]]], names: list[str], engines: list[str]) -> str:
    """Medians and ratios as a Markdown table."""
    others = engines[1:]
    lines = [
        "| | workload | oak, s | MB | " + " | ".join(f"to {who}" for who in others) + " |",
        "|---|---|---:|---:|" + "---:|" * len(others),
    ]
    for name in names:
        middle = {who: statistics.median(run["seconds"] for run in found[name, who]) for who in engines}
        peak = max(run["megabytes"] for run in found[name, "oak"])
        ratios: list[Any] = [f"{middle['oak'] / middle[who]:.2f}" for who in others]
        lines.append(
            f"| {name} | {engine.WORK[name]['says']} | {middle['oak']:.2f} | {peak:,.0f} | " + " | ".join(ratios) + " |"
        )
    return "\n".join(lines)


if __name__ == "__main__":
    main()
