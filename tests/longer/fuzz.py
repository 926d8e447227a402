"""Any text at all gives a result or an error that is told: random mixtures of pieces of formulas, as many as asked for.

`python -m tests.longer.fuzz 1000000 [SEED]`. Stops at the first text that does anything else, and prints it.
"""

from __future__ import annotations

import random
import sys
import time

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.formula.lint import lint

PIECES = [
    "Cost",
    "Volume",
    '"Mill"',
    "Day",
    "'x'",
    "1",
    "2.5",
    "1e3",
    "(",
    ")",
    "",
    "",
    "+",
    "-",
    "*",
    "/",
    "%",
    "||",
    "=",
    "<>",
    "<",
    "AND",
    "OR",
    "NOT",
    "IS NULL",
    "IS NOT",
    "CASE",
    "WHEN",
    "THEN",
    "ELSE",
    "END",
    "SUM(",
    "AVG(",
    "COUNT(*)",
    "ROUND(",
    "CAST(",
    "AS TEXT)",
    "AS DATE FORMAT",
    "IN (",
    "LIKE",
    "ESCAPE",
    "BETWEEN",
    "--",
    "/*",
    "*/",
    "'",
    '"',
    "OVER (",
    "PARTITION BY",
    "ORDER BY",
    "ROWS BETWEEN",
    "UNBOUNDED PRECEDING",
    "FILTER (WHERE",
    "WITHIN GROUP (",
    "DATE '2026-01-01'",
    "INTERVAL '1' DAY",
    "é",
    "\x00",
    "💧",
    "EXTRACT(YEAR FROM",
    "TRIM(LEADING",
    "FROM",
    "SUBSTRING(",
    "POSITION(",
    "REGEXP_LIKE(",
    "LAG(",
    "NULL",
    "TRUE",
    "DISTINCT",
    "\n",
    "&&",
    "==",
    "!=",
    "[",
    "]",
    ";",
    "$1",
    "REPEAT(",
    "BEFORE(",
    "IF(",
    "LPAD(",
    "9223372036854775807",
    "-1",
]


def main() -> None:
    """Check so many random texts, and compute those that are formulas."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    rng = random.Random(seed)
    table = pa.table(
        {
            "Cost": [1, None, 3],
            "Volume": [1.5, 0.0, None],
            "Mill": ["a", "", None],
            "Day": pa.array([0, None, 20_000], pa.date32()),
        }
    )
    source = oak.Source.from_table(table, name="Fuzz").with_baseline(table)
    source = source.changed(source.document.replaced(source.document.blocks[0], {"key": ["Cost"]}))
    computed = 0
    started = time.monotonic()
    for number in range(count):
        text = (
            " ".join(rng.choices(PIECES, k=rng.randint(1, 12)))
            if number % 4
            else "".join(
                chr(rng.choice((rng.randint(0, 127), rng.randint(0, 0x2FFF)))) for _ in range(rng.randint(0, 30))
            )
        )
        try:
            formula = source.check_formula(text)
            if formula.checked is not None:
                computed += 1
                list(lint(formula.checked, text))
                source.tally(show=[("x", text)]) if formula.checked.grain == 2 else source.rows([("x", text)])
            else:
                assert formula.findings, "neither a result nor a finding"
        except oak.OakError:
            continue
        except BaseException:
            print(f"seed {seed}, text {number}: {text!r}")
            raise
        if number % 100_000 == 99_999:
            print(f"{number + 1:,} texts, {time.monotonic() - started:.0f} s", flush=True)
    print(
        f"{count:,} texts, {computed:,} of them formulas, nothing else found; seed {seed}, {time.monotonic() - started:.0f} s"
    )


if __name__ == "__main__":
    main()
