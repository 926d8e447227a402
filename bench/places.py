"""A tally over rows in PostgreSQL: in the database by our own SQL, by the same SQL written by hand, and here: `python -m bench.places [ROWS]`.

The answers are compared first. The server is the one that the tests start.
"""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import time
import unittest
from collections.abc import Callable

import psycopg
from tests import server

import oak_ledger as oak

HAND = """
with clean as (
    select mill, case when volume - volume = 0 then volume end as volume, case when cost - cost = 0 then cost end as cost from loads
)
select mill, sum(volume)::numeric(38,2), sum(cost - volume), sum(cost)::float8 / sum(volume)::float8, count(*)
from clean {where} group by mill order by 2 desc
"""
TIMES = 5


class Server(unittest.TestCase):
    """Whose server it is."""


def timed(work: Callable[..., object], *given: object) -> float:
    """Seconds that it takes."""
    begun = time.perf_counter()
    work(*given)
    return time.perf_counter() - begun


def asked(source: oak.Source, condition: str | None) -> oak.Answer:
    """The question."""
    return source.tally(["Mill"], ["Volume", "Net", "Rate"], where=condition, sort=["-Volume"])


def main() -> None:
    """Make the table, compare, and print the figures."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000_000
    uri = server.start(Server, "rows in PostgreSQL")
    mills = "(array['Low Weir', 'High Ford', 'Stonebeck', 'Fallow Wharf', 'Ember Quay'])[1 + ((g * 7919) % 5)::int]"
    values = "(((g * 104729) % 9000)::numeric / 100)::numeric(9,2) as volume, ((g * 15485863) % 100000)::float8 / 100 as cost"
    server.execute(
        uri,
        [
            f"create table loads as select g as id, {mills} as mill, {values} from generate_series(1::bigint, {rows}) g",
            "analyze loads",
        ],
    )
    with tempfile.TemporaryDirectory() as folder, psycopg.connect(uri, autocommit=True) as connection:
        os.chdir(folder)
        source = oak.intake(url=uri, table="loads", name="Loads", definition="loads.oak.toml", sample=1000).source
        source = source.with_field("Rate", "SUM(Cost) / SUM(Volume)").with_field("Net", "Cost - Volume")
        there, here = source.computed("origin"), source.computed("here")
        for where, condition in (("", None), ("where cost > 100", "Cost > 100")):
            hand = HAND.format(where=where)
            for got, wanted in zip(
                asked(there, condition).to_dicts(), connection.execute(hand).fetchall(), strict=True
            ):
                if got["Volume"] != wanted[1] or abs(got["Rate"] - wanted[3]) > 1e-9:
                    raise SystemExit(f"the answers differ: {got}, {wanted}")
            pairs = [
                (timed(asked, there, condition), timed(lambda text: connection.execute(text).fetchall(), hand))
                for _ in range(TIMES)
            ]
            own, by_hand = (statistics.median(one) for one in zip(*pairs, strict=True))
            print(
                f"{rows:,} rows {where or 'without a filter'}: in the database {own:.2f} s, by hand {by_hand:.2f} s, ratio {own / by_hand:.2f}"
            )
        print(f"here: {timed(asked, here, None):.1f} s")
    Server.doClassCleanups()


if __name__ == "__main__":
    main()
