"""Random questions over random data, by all engines in turn: the first part of `make bench`.

Draws tables and questions by a seed that changes with every run, unless it is given. Each engine works in a process of its own that stays; a question is asked of
one after the other, first for its answer, which is compared, then for its time. Now and then the processes begin anew: then the peak of memory beyond
what they have at rest is taken. Written to docs/benchmarks_random.md, unless --quick.
"""

from __future__ import annotations

import argparse
import json
import math
import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, field
from importlib import import_module
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))
import engine

import questions
from questions import FileSchema, Question

FRESH = 6  # so many questions are asked of a process, then it begins anew
DOCS = Path(__file__).parent.parent / "docs"


# -- in a process of its own ------------------------------------------------------------------------------------------


def serve(who: str) -> None:
    """Answer one question a line: `shape path`, question, where the answer goes (empty: it is only timed)."""
    ask = {"oak": _oak, "duckdb": _duckdb, "polars": _polars}[who]()
    print(json.dumps({"rest": _peak()}), flush=True)
    for line in sys.stdin:
        order = json.loads(line)
        asked = Question(**{key: _tuples(value) for key, value in order["question"].items()})
        Path("/proc/self/clear_refs").write_text("5")
        begin = time.perf_counter()
        try:
            table = ask(order["path"], asked)
        except Exception as error:
            print(json.dumps({"error": f"{type(error).__name__}: {error}"[:300]}), flush=True)
            continue
        seconds = time.perf_counter() - begin
        if order["out"]:
            import pyarrow.parquet as pq

            pq.write_table(_plain_types(table), order["out"])
        print(json.dumps({"seconds": seconds, "megabytes": _peak(), "rows": table.num_rows}), flush=True)
        del table


def _tuples(value: Any) -> Any:
    if isinstance(value, list):
        return tuple(_tuples(one) for one in value)
    return {key: _tuples(one) for key, one in value.items()} if isinstance(value, dict) else value


def _peak() -> float:
    return int(Path("/proc/self/status").read_text().partition("VmHWM:")[2].split()[0]) / 1024


def _plain_types(table: Any) -> Any:
    import pyarrow as pa

    kinds = {"string_view": pa.string(), "large_string": pa.string()}
    return table.cast(pa.schema([one.with_type(kinds.get(str(one.type), one.type)) for one in table.schema]))


def _oak() -> Any:

    from oak_ledger.cli.shared import startup

    startup.ENABLED = True
    startup.tune_process()
    startup.start()
    import oak_ledger as oak
    import oak_ledger.engine.hash_aggregate
    from oak_ledger.definition.document import parse_document
    from oak_ledger.definition.model import DEFINITION
    from oak_ledger.origin import ParquetReader

    def ask(path: str, asked: Question) -> Any:
        reader = ParquetReader(Path(path))
        text = '[source]\nname = "Loads"\n\n[origin]\nkind = "memory"\n'
        text += "".join(f'\n[[field]]\nname = "{name}"\ncolumn = "{name}"\n' for name in reader.columns())
        text += "".join(
            f"\n[[field]]\nname = \"{name}\"\nformula = '''{one[0]}'''\n" for name, one in asked.fields.items()
        )
        source = oak.Source(parse_document(text, DEFINITION, "loads"), Path(path).parent, feed=reader)
        shown = [(f"c{at}", str(one[0])) for at, one in enumerate(asked.show)]
        where = [str(one[0]) for one in asked.where] or None
        if asked.kind == "rows":
            return source.rows(shown, where=where).table
        return source.tally(list(asked.by), shown, where=where).table

    return ask


def _duckdb() -> Any:
    import duckdb

    database = duckdb.connect()
    database.execute(f"set threads = {os.cpu_count()}")

    def ask(path: str, asked: Question) -> Any:
        statement = asked.sql("duckdb")
        if statement is None:
            raise NotImplementedError("no word for it")
        database.execute(f"create or replace view loads as select * from '{path}'")
        return database.execute(statement).to_arrow_table()

    return ask


def _polars() -> Any:
    import polars as pl

    def ask(path: str, asked: Question) -> Any:
        statement = asked.sql("polars")
        if statement is None:
            raise NotImplementedError("no word for it")
        with pl.SQLContext(loads=pl.scan_parquet(path)) as context:
            return context.execute(statement, eager=True).to_arrow()

    return ask


# -- the one that asks ------------------------------------------------------------------------------------------------


class Engine:
    """An engine in a process of its own; begun again when it dies or takes too long."""

    def __init__(self, who: str) -> None:
        self.who = who
        self.begin()

    def begin(self) -> None:
        """Start the process."""
        environment = {**os.environ, "POLARS_MAX_THREADS": str(os.cpu_count()), "OPENBLAS_NUM_THREADS": "1"}
        command = [sys.executable, __file__, "--serve", self.who]
        self.process = subprocess.Popen(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
            env=environment,
        )
        assert self.process.stdout is not None  # noqa: S101 - it was asked for
        self.rest = json.loads(self.process.stdout.readline())["rest"]

    def ask(self, path: Path, asked: Question, out: str = "") -> dict[str, Any]:
        """Ask a question: seconds, peak memory beyond rest, rows; or an error."""
        order = {"path": str(path), "question": vars(asked), "out": out}
        assert self.process.stdin is not None  # noqa: S101
        assert self.process.stdout is not None  # noqa: S101
        self.process.stdin.write(json.dumps(order) + "\n")
        self.process.stdin.flush()
        line = self.process.stdout.readline()
        if not line:
            self.begin()
            return {"error": "the process ended"}
        found: dict[str, Any] = json.loads(line)
        return found

    def end(self) -> None:
        """Stop the process."""
        self.process.kill()
        self.process.wait()


@dataclass
class Outcome:
    """One question: seconds and peak memory by engine, or why there is none."""

    asked: Question
    seconds: dict[str, float] = field(default_factory=dict)
    megabytes: dict[str, float] = field(default_factory=dict)
    why: dict[str, str] = field(default_factory=dict)

    def ratio(self, other: str) -> float | None:
        """Oak's time to another's."""
        return self.seconds["oak"] / self.seconds[other] if other in self.seconds and "oak" in self.seconds else None


def run(shapes: list[FileSchema], asked: list[Question], folder: Path, repeats: int, *, until: float) -> list[Outcome]:
    """All questions, by all engines in turn; answers first."""
    engines = {who: Engine(who) for who in questions.ENGINES}
    outcomes = []
    try:
        for number, one in enumerate(asked):
            fresh = number % FRESH == 0
            for answering in engines.values() if fresh and number else ():
                answering.end()
                answering.begin()
            path = shapes[one.shape].path
            outcome, agreeing = compare(engines, one, path, folder, fresh=fresh)
            times: dict[str, list[float]] = {who: [] for who in agreeing}
            for _ in range(repeats):
                for who in agreeing:
                    times[who].append(engines[who].ask(path, one)["seconds"])
            outcome.seconds = {who: statistics.median(own) for who, own in times.items()}
            outcomes.append(outcome)
            if number % 20 == 19:
                print(f"{number + 1} questions", file=sys.stderr, flush=True)
            if time.monotonic() > until:
                break
    finally:
        for answering in engines.values():
            answering.end()
    return outcomes


def compare(
    engines: dict[str, Engine], one: Question, path: Path, folder: Path, *, fresh: bool
) -> tuple[Outcome, list[str]]:
    """What a question comes to before it is timed, and which engines gave the answer that Oak Ledger gives."""
    import pyarrow.parquet as pq

    outcome, answers = Outcome(one), {}
    for who, answering in engines.items():
        out = str(folder / f"{who}.parquet")
        found = answering.ask(path, one, out)
        if "error" in found:
            outcome.why[who] = found["error"]
            continue
        answers[who] = pq.read_table(out)
        if fresh:
            outcome.megabytes[who] = found["megabytes"] - answering.rest
    for who in [*answers]:
        if who != "oak" and "oak" in answers:
            said = engine.different(answers["oak"], answers[who], ordered=one.kind == "rows", keys=len(one.by))
            if said:
                outcome.why[who] = f"differs: {said}"
                del answers[who]
    return outcome, [*answers]


def summary(outcomes: list[Outcome], shapes: list[FileSchema], seed: int) -> str:
    """The tables."""
    total = len(outcomes)
    lines = [f"Seed {seed}; {total} questions over {len(shapes)} tables:", ""]
    lines += [f"- {one.says}" for one in shapes]
    lines += [
        "",
        "| oak's time to | questions | geometric mean | median | 95th percentile |",
        "|---|---:|---:|---:|---:|",
    ]
    kinds = sorted({one.asked.kind for one in outcomes})
    for who in questions.ENGINES[1:]:
        for kind in ("all", *kinds):
            ratios = sorted(ratio for one in outcomes if kind in ("all", one.asked.kind) and (ratio := one.ratio(who)))
            if ratios:
                mean = math.exp(statistics.fmean(map(math.log, ratios)))
                place = ratios[min(int(0.95 * len(ratios)), len(ratios) - 1)]
                lines.append(
                    f"| {who}, {kind} | {len(ratios)} | {mean:.2f} | {statistics.median(ratios):.2f} | {place:.2f} |"
                )
    lines += ["", "| engine | answered | median of peak MB beyond rest | 95th percentile |", "|---|---:|---:|---:|"]
    for who in questions.ENGINES:
        own = sorted(one.megabytes[who] for one in outcomes if who in one.megabytes)
        answered = sum(who not in one.why or one.why[who].startswith("differs") for one in outcomes)
        if own:
            lines.append(
                f"| {who} | {answered / total:.0%} | {statistics.median(own):,.0f} | {own[int(0.95 * len(own))]:,.0f} |"
            )
    for who in questions.ENGINES[1:]:
        worst = sorted((one for one in outcomes if one.ratio(who)), key=lambda one: -(one.ratio(who) or 0))[:5]
        lines += ["", f"The five worst against {who}:", ""]
        lines += [f"- {one.ratio(who):.1f} ({one.seconds['oak']:.2f} s): `{one.asked.text()}`" for one in worst]
    differ = [(who, one) for one in outcomes for who, why in one.why.items() if why.startswith("differs")]
    failed = [one for one in outcomes if "oak" in one.why]
    lines += ["", f"{len(differ)} answers differ, {len(failed)} questions that Oak Ledger could not answer."]
    lines += [f"- {who} {one.why[who]}: `{one.asked.text()}`" for who, one in differ]
    lines += [f"- {one.why['oak']}: `{one.asked.text()}`" for one in failed]
    return "\n".join(lines) + "\n"


def main() -> None:
    """Draw, ask, compare, time, write."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--rows", type=int, default=4_000_000)
    options.add_argument("--questions", type=int, default=300)
    options.add_argument("--shapes", type=int, default=6)
    options.add_argument("--repeats", type=int, default=3)
    options.add_argument("--seed", type=int, default=0, help="of this run; a new one without it")
    options.add_argument("--minutes", type=float, default=60.0)
    options.add_argument("--quick", action="store_true", help="a million rows, a minute, nothing written")
    options.add_argument("--json", default="", help="write each question's figures here")
    options.add_argument("--serve", default="")
    given = options.parse_args()
    if given.serve:
        serve(given.serve)
        return
    seed = given.seed or random.SystemRandom().randrange(1, 1_000_000)
    rows, count, minutes = (1_000_000, 120, 1.0) if given.quick else (given.rows, given.questions, given.minutes)
    repeats, drawn = (1, 2) if given.quick else (given.repeats, given.shapes)
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(holder)
        shapes = [questions.shape(folder, rng, number, rows) for number in range(drawn)]
        asked = [questions.question(rng, shapes) for _ in range(count)]
        outcomes = run(shapes, asked, folder, repeats, until=time.monotonic() + 60 * minutes)
    said = summary(outcomes, shapes, seed)
    if given.json:
        plain = [
            {
                "text": one.asked.text(),
                "kind": one.asked.kind,
                "seconds": one.seconds,
                "megabytes": one.megabytes,
                "why": one.why,
            }
            for one in outcomes
        ]
        Path(given.json).write_text(json.dumps(plain, indent=1))
    if not given.quick and not given.json:
        versions = ", ".join(f"{name} {import_module(name).__version__}" for name in ("duckdb", "polars", "pyarrow"))
        head = f"# Random questions, as measured\n\nOne run of `python bench/random_run.py --seed {seed}`: {os.cpu_count()} cores, {versions}. Below 1 means that Oak Ledger is faster.\n\n"
        (DOCS / "benchmarks_random.md").write_text(head + said, encoding="utf-8")
    print(said)


if __name__ == "__main__":
    main()
