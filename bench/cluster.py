"""A tally over Parquet files here and on a cluster of two workers on this machine: `python -m bench.cluster [ROWS]`.

The answers are compared first. The cluster is the one that the tests start; Java is needed.
"""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import time
import unittest
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from tests.outside.test_spark import session

import oak_ledger as oak

TIMES = 3
QUESTIONS: dict[str, dict[str, Any]] = {
    "sums and a ratio by mill": {"by": ["Mill"], "show": ["Volume", ("Rate", "SUM(Cost) / SUM(Volume)")]},
    "distinct stands by mill": {"by": ["Mill"], "show": [("Stands", "COUNT(DISTINCT Stand)")]},
    "the median by mill": {"by": ["Mill"], "show": [("Middle", "MEDIAN(Cost)")]},
    "the load before, by stand": {"show": [("Rise", "MAX(Volume - Before)")]},
}


def main() -> None:
    """Make the files, compare, and print the figures."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000_000
    rng = np.random.default_rng(7)
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        for part in range(4):
            count = rows // 4
            table = pa.table(
                {
                    "Id": np.arange(count) + part * count,
                    "Mill": rng.choice(["Low Weir", "High Ford", "Stonebeck", "Ember Quay"], count),
                    "Stand": rng.integers(0, 40_000, count),
                    "Volume": rng.integers(0, 9_000, count),
                    "Cost": rng.uniform(0, 900, count),
                }
            )
            pq.write_table(table, f"loads_{part}.parquet")
        source = oak.intake(
            "loads_*.parquet", name="Loads", definition="l.oak.toml", keep_names=True, sample=1000
        ).source
        source = source.with_field("Before", "LAG(Volume) OVER (PARTITION BY Stand ORDER BY Id)")
        begin = time.perf_counter()
        session()
        print(f"{rows:,} rows; starting the master, two workers and a session: {time.perf_counter() - begin:.1f} s")
        for name, question in QUESTIONS.items():
            taken: dict[str, list[float]] = {"here": [], "spark": []}
            answers = {}
            for _ in range(TIMES):
                for place, seconds in taken.items():
                    begin = time.perf_counter()
                    answers[place] = source.computed(place).tally(**question).to_dicts()
                    seconds.append(time.perf_counter() - begin)
            if not all(alike(one, other) for one, other in zip(*answers.values(), strict=True)):
                raise SystemExit(f"the answers differ: {answers}")
            here, there = (statistics.median(seconds) for seconds in taken.values())
            print(f"{name}: here {here:.2f} s, on the cluster {there:.2f} s")
    unittest.case.doModuleCleanups()


def alike(one: dict[str, Any], other: dict[str, Any]) -> bool:
    """Whether two rows have the same values, but for the last digits of numbers."""
    pairs = zip(one.values(), other.values(), strict=True)
    return all(a == b or (isinstance(a, float) and abs(a - b) <= 1e-9 * abs(a)) for a, b in pairs)


if __name__ == "__main__":
    main()
