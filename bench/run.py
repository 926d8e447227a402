"""The same workloads at every run: the second part of `make bench`.

Makes seeded data, checks that all engines give the same answers, then times them in turn, each piece of work in a process of its own, and
writes medians, ratios and peak memory as a table into docs/. The other engines come with the `bench` extra.
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
import reading

DOCS = Path(__file__).parent.parent / "docs"
ENGINES = ("oak", "duckdb", "polars", "pandas")
READING = "CSV: every row judged, against types guessed from a sample"
AIMS = {"duckdb": (0.60, 1.2), "polars": (0.90, 2.0)}  # the geometric mean of the ratios, and the worst
Runs = dict[tuple[str, str], list[dict[str, float]]]


# -- one piece of work, in a process of its own -----------------------------------------------------------------------


def one(folder: Path, who: str, name: str, out: str) -> None:
    """Ask one engine one workload in this process, and print seconds and peak memory."""
    if who not in ("oak", "floor"):
        import_module(who)
    else:  # as the command does
        from oak_ledger.cli.shared import startup

        startup.ENABLED = True
        startup.tune_process()
        startup.start()
        import oak_ledger as oak
        import oak_ledger.engine.hash_aggregate
        import oak_ledger.insight

        _ = (oak.intake, oak.open_source)
    import pyarrow.parquet as pq

    work = _reads if name == "H" else _panels if name == "L" else engine.ENGINES[who]
    before = time.perf_counter()
    answer = work(folder, who if name in "HL" else name)
    seconds = time.perf_counter() - before
    if out:
        pq.write_table(answer, out)
    peak = int(Path("/proc/self/status").read_text().partition("VmHWM:")[2].split()[0]) / 1024
    print(json.dumps({"seconds": seconds, "megabytes": peak}))


def _reads(folder: Path, who: str) -> Any:
    import pyarrow as pa

    rows, total = reading.WORK[f"read {'text' if who == 'floor' else who}"](folder / "loads.csv")
    return pa.table({"rows": [rows], "total": [total or None]})


def _panels(folder: Path, _who: str) -> Any:
    """All panels of the demo's reports."""
    import pyarrow as pa

    import oak_ledger as oak

    source = oak.open_source(folder / "day" / "loads.oak.toml")
    panels = [panel for report in oak.find_reports(folder / "day", source.name) for panel in report.view(source).panels]
    return pa.table({"panels": [len(panels)]})


def measured(folder: Path, who: str, name: str, out: str = "") -> dict[str, float]:
    """One engine and workload in a process of its own."""
    command = [sys.executable, __file__, "--one", who, name, "--folder", str(folder), "--out", out]
    done = subprocess.run(
        command,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "POLARS_MAX_THREADS": str(os.cpu_count()), "OPENBLAS_NUM_THREADS": "1"},
    )
    if done.returncode:
        raise SystemExit(f"{who} {name} failed:\n{done.stderr[-3000:]}")
    found: dict[str, float] = json.loads(done.stdout.splitlines()[-1])
    return found


# -- answers first, then times ------------------------------------------------------------------------------------------


def compare(folder: Path, names: list[str], engines: list[str]) -> Runs:
    """Stop where engines do not give the same answers; the runs that gave them."""
    import pyarrow.parquet as pq

    found: Runs = {}
    for name in names:
        answers = {}
        for who in engines:
            out = str(folder / f"answer_{who}.parquet")
            found[name, who] = [measured(folder, who, name, out)]
            answers[who] = pq.read_table(out)
        for who in engines[1:]:
            if name == "H":
                same = answers[who]["rows"] == answers["oak"]["rows"]
                said = "" if same else f"{answers[who]['rows']} rows"
            else:
                said = engine.different(answers["oak"], answers[who], ordered="rows" in engine.WORK[name])
            if said:
                raise SystemExit(f"{name}: oak and {who} differ: {said}")
        print(f"{name}: the same answers", flush=True)
    return found


def timed(folder: Path, names: list[str], engines: list[str], repeats: int, found: Runs) -> Runs:
    """Every workload by every engine, in turn, several times, beside the runs that there are."""
    for repeat in range(repeats):
        for name in names:
            for who in [*engines, "floor"] if name != "L" else ["oak"]:
                found.setdefault((name, who), []).append(measured(folder, who, name))
        print(f"run {repeat + 1} of {repeats}", flush=True)
    return found


def table(found: Runs, names: list[str], engines: list[str]) -> str:
    """Medians and ratios as a Markdown table, and what the ratios come to."""
    others = [who for who in engines if who != "oak"]
    head = "| | workload | oak, s | peak MB | reading alone, s | " + " | ".join(f"to {who}" for who in others) + " |"
    lines = [head, "|---|---|---:|---:|---:|" + "---:|" * len(others)]
    ratios: dict[str, list[float]] = {who: [] for who in others}
    for name in names:
        middle = {
            who: statistics.median(run["seconds"] for run in found[name, who])
            for who in (*engines, "floor")
            if (name, who) in found
        }
        cells = []
        for who in others:
            if who in middle:
                ratios[who].append(middle["oak"] / middle[who])
            cells.append(f"{middle['oak'] / middle[who]:.2f}" if who in middle else "")
        peak = max(run["megabytes"] for run in found[name, "oak"])
        alone = f"{middle['floor']:.2f}" if "floor" in middle else ""
        lines.append(f"| {name} | {says(name)} | {middle['oak']:.2f} | {peak:,.0f} | {alone} | {' | '.join(cells)} |")
    told = []
    for who, own in ratios.items():
        if own:
            aims = AIMS.get(who)
            aim = f" (aims: {aims[0]:.2f} and {aims[1]:.1f})" if aims else ""
            told.append(f"- {who}: geometric mean {statistics.geometric_mean(own):.2f}, worst {max(own):.2f}{aim}")
    return "\n".join([*lines, "", *told])


def says(name: str) -> str:
    """A workload in words."""
    if name in engine.WORK:
        return str(engine.WORK[name]["says"])
    return READING if name == "H" else "all panels of the demo's six reports, 60,000 loads from CSV"


# -- memory and growth --------------------------------------------------------------------------------------------------


def memory(folder: Path, rows: int, engines: list[str]) -> str:
    """Peak memory of workload B over many rows."""
    big = folder / "big"
    big.mkdir(exist_ok=True)
    if not (big / "loads.parquet").exists():
        engine.made(big, rows)
    lines = [f"| workload B, {rows:,} rows | seconds | peak MB |", "|---|---:|---:|"]
    for who in engines:
        found = measured(big, who, "B")
        lines.append(f"| {who} | {found['seconds']:.2f} | {found['megabytes']:,.0f} |")
    return "\n".join(lines)


def growth(folder: Path, rows: int) -> str:
    """How time grows with rows, fields and groups: 1, 2, 4, 8 times as many."""
    import pyarrow.parquet as pq

    lines = ["| what grows | 1 | 2 | 4 | 8 |", "|---|---:|---:|---:|---:|"]
    whole = pq.ParquetFile(folder / "loads.parquet")
    for name in "ABEGF":
        times = []
        for times_more in (1, 2, 4, 8):
            part = folder / f"part{times_more}"
            part.mkdir(exist_ok=True)
            if not (part / "loads.parquet").exists():
                groups = max(whole.num_row_groups * times_more // 8, 1)
                pq.write_table(whole.read_row_groups(range(groups)), part / "loads.parquet", row_group_size=1 << 17)
            times.append(_least(part, engine.WORK[name]))
        lines.append(f"| rows, {name} (8 is {rows:,}) | " + " | ".join(f"{one:.2f} s" for one in times) + " |")
    fields = []
    for count in (50, 100, 200, 400):
        chain = {f"f{at}": "volume" if at == 0 else f"f{at - 1} * 0.99e0 + {at}" for at in range(count)}
        fields.append(_least(folder / "part2", {"fields": chain, "show": [f"SUM(f{count - 1})"]}))
    lines.append(
        "| fields in a chain (8 is 400), a quarter of the rows | " + " | ".join(f"{one:.2f} s" for one in fields) + " |"
    )
    groups_times = [
        _least(folder / "part2", {"by": [f"load % {count}"], "show": ["SUM(value)"]})
        for count in (50_000, 100_000, 200_000, 400_000)
    ]
    lines.append(
        "| groups (8 is 400,000), a quarter of the rows | " + " | ".join(f"{one:.2f} s" for one in groups_times) + " |"
    )
    return "\n".join(lines)


def _least(folder: Path, work: engine.Question) -> float:
    found = []
    for _ in range(3):
        source = engine.oak_source(folder, work)
        before = time.perf_counter()
        source.tally(
            work.get("by", []), [(f"c{at}", one) for at, one in enumerate(work["show"])], where=work.get("where")
        )
        found.append(time.perf_counter() - before)
    return min(found)


ALONE = """import click, pydantic, tomlkit, rich.console, rich.table, pyarrow.compute, pyarrow.parquet
rows = pyarrow.parquet.ParquetFile("small.parquet").read().group_by("Mill").aggregate([("Volume", "sum")])
table = rich.table.Table()
for row in rows.to_pylist(): table.add_row(*map(str, row.values()))
rich.console.Console().print(table)
"""


def starting() -> str:
    """How long it takes to help, and to give a first small answer, against what cannot be avoided."""
    oak = str(Path(sys.executable).parent / "oak")
    with tempfile.TemporaryDirectory() as holder:
        import pyarrow as pa
        import pyarrow.parquet as pq

        folder = Path(holder)
        pq.write_table(pa.table({"Mill": ["a", "b"] * 500, "Volume": list(range(1000))}), folder / "small.parquet")
        subprocess.run([oak, "intake", "small.parquet", "--name", "Small"], cwd=folder, check=True, capture_output=True)
        commands = {
            "a bare click program": [
                sys.executable,
                "-c",
                "import click\n@click.command()\ndef a(): pass\na(['--help'], standalone_mode=False)",
            ],
            "oak --help": [oak, "--help"],
            "importing pyarrow": [sys.executable, "-c", "import pyarrow"],
            "the same libraries alone: read, group, print": [sys.executable, "-c", ALONE],
            "a first small oak tally": [oak, "tally", "small", "--by", "Mill", "--show", "Volume"],
        }
        times: dict[str, list[float]] = {name: [] for name in commands}
        usual = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
        for _ in range(9):
            for name, command in commands.items():
                before = time.perf_counter()
                subprocess.run(command, cwd=folder, check=True, capture_output=True, env=usual)
                times[name].append(time.perf_counter() - before)
    return "| starting up | seconds |\n|---|---:|\n" + "\n".join(
        f"| {name} | {statistics.median(each):.3f} |" for name, each in times.items()
    )


# -- all of it ------------------------------------------------------------------------------------------------------------


def prepared(folder: Path, rows: int, names: list[str]) -> None:
    """The data that the workloads need."""
    if not (folder / "loads.parquet").exists():
        engine.made(folder, rows)
    if "H" in names and not (folder / "loads.csv").exists():
        reading.made(folder, rows)
    if "L" in names and not (folder / "day").exists():
        command = [str(Path(sys.executable).parent / "oak"), "demo", str(folder / "day")]
        subprocess.run(command, check=True, capture_output=True)


def main() -> None:
    """Make the data, compare, time, write."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--rows", type=int, default=5_000_000)
    options.add_argument("--repeats", type=int, default=5)
    options.add_argument(
        "--quick",
        action="store_true",
        help="half a million rows, once beside the comparison, nothing written: a minute",
    )
    options.add_argument("--only", default="", help="letters of workloads")
    options.add_argument("--engines", default=",".join(ENGINES))
    options.add_argument("--unchecked", action="store_true", help="do not compare answers")
    options.add_argument("--big", type=int, default=30_000_000, help="rows for the comparison of memory")
    options.add_argument("--one", nargs=2)
    options.add_argument("--folder", default="")
    options.add_argument("--out", default="")
    given = options.parse_args()
    if given.one:
        one(Path(given.folder), *given.one, given.out)
        return
    rows, repeats = (500_000, 1) if given.quick else (given.rows, given.repeats)
    engines = given.engines.split(",")[: 3 if given.quick else None]
    names = [name for name in sorted([*engine.WORK, "H", "L"]) if not given.only or name in given.only]
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(given.folder or holder)
        folder.mkdir(parents=True, exist_ok=True)
        prepared(folder, rows, names)
        first = {} if given.unchecked else compare(folder, [name for name in names if name != "L"], engines)
        found = timed(folder, names, engines, repeats, first if given.quick else {})
        parts = [table(found, names, engines)]
        if not given.quick and not given.only:
            parts += [memory(folder, given.big, engines), growth(folder, rows), starting()]
            (DOCS / "benchmarks_measured.md").write_text(
                opening(rows, repeats, compared=not given.unchecked) + "\n\n".join(parts) + "\n", encoding="utf-8"
            )
    print("\n\n".join(parts))


def opening(rows: int, repeats: int, *, compared: bool) -> str:
    """What stands above the tables."""
    versions = ", ".join(
        f"{name} {import_module(name).__version__}" for name in ("duckdb", "polars", "pandas", "pyarrow")
    )
    said = "were compared before anything was timed" if compared else "were not compared in this run"
    return (
        f"# Measured by one run of `make bench`\n\n{rows:,} rows, {os.cpu_count()} cores, {repeats} repeats, medians; {versions}. Answers {said}. "
        "A ratio below 1 means that Oak Ledger is faster. 'Reading alone' is nothing but reading the columns (for H: all of the text), with the same "
        "reader and threads.\n\n"
    )


if __name__ == "__main__":
    main()
