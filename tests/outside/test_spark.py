"""The same questions on a cluster: a real master with two workers on loopback, started here."""

from __future__ import annotations

import datetime as dt
import json
import os
import random
import socket
import subprocess
import sys
import time
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.csv as pc
import pyarrow.parquet as pq
import pyspark
from py4j.protocol import Py4JError
from pyspark.errors import ArithmeticException, DateTimeException, NumberFormatException, PySparkException
from pyspark.sql import SparkSession

import oak_ledger as oak
from tests import every_place
from tests.every_place import FORMULAS, R, alike, table_of_literals
from tests.support import FolderCase

CLASSES = "org.apache.spark.deploy"


def free_port() -> int:
    """A port that nobody listens at."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


def spark_class(*words: str) -> subprocess.Popen[bytes]:
    """One of Spark's own programs, of the package that is installed."""
    home = Path(pyspark.__file__).parent
    environment = {**os.environ, "SPARK_HOME": str(home), "SPARK_LOCAL_IP": "127.0.0.1", "SPARK_NO_DAEMONIZE": "1"}
    environment["PYSPARK_PYTHON"] = sys.executable
    return subprocess.Popen(
        [str(home / "bin" / "spark-class"), *words], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )  # fmt: skip


def answers(port: int) -> None:
    """Wait until somebody listens."""
    for _ in range(600):
        with socket.socket() as there:
            if there.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.1)
    raise TimeoutError(f"nothing listens at {port}")


def cluster() -> tuple[str, list[subprocess.Popen[bytes]]]:
    """The address of a master that has two workers, and the processes."""
    port = free_port()
    address = f"spark://127.0.0.1:{port}"
    running = [spark_class(f"{CLASSES}.master.Master", "--host", "127.0.0.1", "--port", str(port), "--webui-port", "0")]
    answers(port)
    worker = (
        f"{CLASSES}.worker.Worker",
        "--host",
        "127.0.0.1",
        "--cores",
        "1",
        "--memory",
        "1g",
        "--webui-port",
        "0",
        address,
    )
    running += [spark_class(*worker) for _ in range(2)]
    return address, running


SESSION: list[SparkSession] = []


def session() -> SparkSession:
    """A session of the cluster, which all tests share."""
    if not SESSION:
        address, running = cluster()
        for one in running:
            unittest.addModuleCleanup(one.wait)
            unittest.addModuleCleanup(one.terminate)
        builder = SparkSession.builder.master(address).appName("oak ledger's tests")
        for name, value in {
            "spark.ui.enabled": "false",
            "spark.driver.host": "127.0.0.1",
            "spark.driver.bindAddress": "127.0.0.1",
            "spark.executor.memory": "700m",
            "spark.sql.shuffle.partitions": "2",
            "spark.log.level": "OFF",
        }.items():
            builder = builder.config(name, value)
        SESSION.append(builder.getOrCreate())
        unittest.addModuleCleanup(SESSION[0].stop)
    return SESSION[0]


class InSpark(every_place.EveryPlace):
    """Random formulas as the cluster computes them: fewer, since each takes it a good part of a second."""

    dialect, stops, formulas, least, every = (
        "spark",
        (PySparkException, Py4JError, OverflowError),
        max(FORMULAS // 8, 60),
        0.85,
        9,
    )

    def at_value(self, error: Exception) -> bool:
        """Also at dates that no calendar has; and it fails by itself at a sorted LISTAGG beside distinct values."""
        of_value = isinstance(error, (ArithmeticException, DateTimeException, NumberFormatException, OverflowError))
        return of_value or any(
            one in str(error) for one in ("[INVALID_INDEX", "catalyst.expressions.aggregate.ListAgg")
        )

    def test_every_function_with_edge_values(self) -> None:
        self.skipTest(
            "NOT PROVEN: edge values on the cluster, where each statement takes a second; OAK_EDGES=1 asks them"
        ) if not os.environ.get("OAK_EDGES") else super().test_every_function_with_edge_values()

    @classmethod
    def setUpClass(cls) -> None:
        from oak_ledger.places.spark import settled

        super().setUpClass()
        own = cls.enterClassContext(settled(session()))
        for name, table in (("r", R), ("v", table_of_literals()), ("e", cls.table)):
            own.createDataFrame(table).createOrReplaceTempView(name)
        cls.ask = lambda _, text: [tuple(row.values()) for row in own.sql(text).toArrow().to_pylist()]  # type: ignore[assignment,misc]


class AskedOfTheCluster(FolderCase):
    """Sources over files are asked there as they are here: the same values, the same counts, faults counted."""

    QUESTIONS: tuple[dict[str, Any], ...] = (
        {"show": ["COUNT(*)"]},
        {"by": ["Mill"], "show": ["Volume", ("Rate", "SUM(Cost) / SUM(Volume)")], "totals": True},
        {"by": [("Month", "DATE_TRUNC('month', Day)")], "show": ["Volume", ("Share", "SUM(Volume) / SUM(SUM(Volume)) OVER ()")], "where": "Volume > 3"},
        {"by": ["Mill"], "show": [("Middle", "MEDIAN(Cost)"), ("High", "PERCENTILE_CONT(0.9) WITHIN GROUP (ORDER BY Cost DESC)")], "sort": ["-High"], "limit": 2},
        {"by": [("First", "LEFT(Mill, 1)")], "show": [("Odd", "SUM(CASE WHEN Id % 2 = 1 THEN 100 / (Id - 7) END)")]},
        {"by": ["Mill"], "show": [("Odd", "1 / (COUNT(*) - 400)"), "COUNT(DISTINCT Day)"], "where": ["Id > 10"]},
        {"show": [("x", "COUNT(*) FILTER (WHERE Id > 7 AND 100 / (Id - 7) > 3)"), ("y", "SUM(100 / (Id - 7)) FILTER (WHERE Id <> 7)"), ("z", "SUM(COALESCE(Volume, 1 / (Id - 8)))"), ("d", "SUM(DIV(Id * 9007199254, 7))")]},
        {"show": [("x", "COUNT(*)")], "where": "Id = 7 OR 1 / (Id - 7) > 0.01"},
    )  # fmt: skip

    def rows(self) -> list[tuple[Any, ...]]:
        chance = random.Random(8)
        mills = ["Low Weir", 'The "Ford"', "Ember;Quay", "Süd\nzwei lines", "", None]
        return [
            (at, chance.choice(mills), chance.choice([None, round(chance.uniform(0, 4000), 2)]), round(chance.uniform(-5, 90), 3), dt.date(2026, 1, 1) + dt.timedelta(chance.randrange(300)))
            for at in range(1, 2001)
        ]  # fmt: skip

    def check(self, source: oak.Source, more: tuple[dict[str, Any], ...] = ()) -> None:
        session()
        for question in (*self.QUESTIONS, *more):
            with self.subTest(question):
                there, here = (source.computed(place).tally(**question) for place in ("spark", "here"))
                self.assertEqual((there.place, there.table.schema), ("spark", here.table.schema))
                self.same(there.to_dicts(), here.to_dicts())
                if question.get("totals"):
                    self.same(there.totals.to_pylist(), here.totals.to_pylist())  # type: ignore[union-attr]
                self.assertEqual(
                    (there.rows_read, there.rows_used, there.groups), (here.rows_read, here.rows_used, here.groups)
                )
                self.assertEqual(
                    {(one.field, one.rows) for one in there.faults}, {(one.field, one.rows) for one in here.faults}
                )

    def same(self, left: list[dict[str, Any]], right: list[dict[str, Any]]) -> None:
        self.assertEqual(len(left), len(right))
        for one, other in zip(left, right, strict=True):
            for name in other:
                self.assertTrue(alike(other[name], one[name]), (one, other))

    def test_parquet_files(self) -> None:
        columns = list(zip(*self.rows(), strict=True))
        table = pa.table(
            {"Id": columns[0], "Mill": columns[1], "Volume": pa.array([None if one is None else Decimal(str(one)) for one in columns[2]], pa.decimal128(9, 2)),
             "Cost": pa.array([float("nan") if at % 50 == 0 else one for at, one in enumerate(columns[3])], pa.float64()), "Day": columns[4],
             "When": pa.array([dt.datetime(2026, 3, 1, 23, 30)] * 2000, pa.timestamp("us", "UTC"))}
        )  # fmt: skip
        for at in range(2):
            pq.write_table(table.slice(at * 1000, 1000), f"part_{at}.parquet")
        source = oak.intake("part_*.parquet", name="Parts", definition="p.oak.toml", keep_names=True).source
        self.check(
            source, ({"by": [("Hour", 'EXTRACT(HOUR FROM "When")')], "show": [("Days", 'MAX(CAST("When" AS DATE))')]},)
        )

    def test_delimited_text_with_marks_and_faults(self) -> None:
        lines = ["Id;Mill;Volume;Cost;Day;Note"]
        for at, mill, volume, cost, day in self.rows():
            text = "" if mill is None else '"' + mill.replace('"', '""') + '"'
            number = "" if volume is None else f"{volume:,.2f}".replace(",", "_").replace(".", ",").replace("_", ".")
            number = {13: "-", 14: "n/a", 15: f"({number})" if number else ""}.get(at, number)
            lines.append(
                f"{at};{text};{number};{f'{cost}' if at != 20 else '1e400'};{day:%d.%m.%Y};{'' if at % 3 else 'x '}"
            )
        lines[30] = lines[30].replace("2026", "0026").replace(lines[30].split(";")[4], "31.02.2026")
        self.write("a.csv", "\n".join(lines[:1000]) + "\n")
        self.write(
            "b.csv",
            "\n".join([lines[0].replace(";Note", ""), *(one.rpartition(";")[0] for one in lines[1000:])]) + "\n",
        )
        text = '[source]\nname = "T"\n\n[origin]\nkind = "files"\npath = "*.csv"\nseparator = ";"\n'
        for name, more in (("Id", 'type = "integer"'), ("Mill", 'type = "text"'), ("Volume", 'type = "decimal(18,2)"\ndecimal_mark = ","\nthousands_mark = "."'),
                           ("Cost", 'type = "number"'), ("Day", 'type = "date"\ntemplate = "DD.MM.YYYY"'), ("Note", 'type = "text"'), ("File", 'type = "text"')):  # fmt: skip
            text += f'\n[[field]]\nname = "{name}"\ncolumn = "{name}"\n{more}\n'
        self.write("t.oak.toml", text)
        source = oak.open_source("t.oak.toml")
        self.check(
            source,
            (
                {"by": ["File", "Note"], "show": ["COUNT(*)", ("Lines", "COUNT(DISTINCT Mill)")]},
                {"by": ["Mill"], "show": [("n", "COUNT(Note)")], "where": "Mill <> ''"},
            ),
        )
        self.write("c.csv", lines[0] + "\n1;a;2;3;01.02.2026\n")
        error = self.raises("database", source.computed("spark").tally, show=["COUNT(*)"])
        self.assertIn("1;a;2;3;01.02.2026", str(error))

    def test_a_published_version_and_the_command(self) -> None:
        pc.write_csv(pa.table({"Id": range(50), "Mill": ["a", "b"] * 25}), "x.csv")
        oak.intake("x.csv", name="Loads", definition="x.oak.toml", keep_names=True).source.save("x.oak.toml")
        self.oak("publish", "x")
        self.oak("release", "Loads", "--yes")
        source = oak.Catalogue.open("catalogue").source("Loads")
        session()
        self.assertEqual(
            source.computed("spark").tally(["Mill"], ["COUNT(*)"]).to_dicts(),
            source.tally(["Mill"], ["COUNT(*)"]).to_dicts(),
        )

    def test_a_connect_server_by_the_command(self) -> None:
        """A program that only knows an address."""
        pc.write_csv(pa.table({"Id": range(50), "Mill": ["a", "b"] * 25}), "x.csv")
        oak.intake("x.csv", name="X", definition="x.oak.toml", keep_names=True).source.with_key(["Id"]).save(
            "x.oak.toml"
        )
        port = free_port()
        server = spark_class(
            "org.apache.spark.deploy.SparkSubmit", "--class", "org.apache.spark.sql.connect.service.SparkConnectServer", "--master", "local[1]",
            "--conf", f"spark.connect.grpc.binding.port={port}", "--conf", "spark.ui.enabled=false", "spark-internal",
        )  # fmt: skip
        self.addCleanup(server.wait)
        self.addCleanup(server.terminate)
        answers(port)
        environment = {**os.environ, "OAK_SPARK": f"sc://127.0.0.1:{port}"}
        program = str(Path(sys.executable).parent / "oak")

        def said(*words: str) -> subprocess.CompletedProcess[str]:
            return subprocess.run(
                [program, *words, "--place", "spark"],
                env=environment,
                capture_output=True,
                text=True,
                timeout=120,
                check=False,
            )

        tally = said("tally", "x", "--by", "Mill", "--show", "n = COUNT(*)", "--json")
        self.assertEqual(
            json.loads(tally.stdout)["rows"], [{"Mill": "a", "n": 25}, {"Mill": "b", "n": 25}], tally.stderr
        )
        self.assertIn("computed on the cluster", said("tally", "x", "--show", "COUNT(*)").stdout)
        self.assertIn(
            "too large for * in 48 rows", said("tally", "x", "--show", "x = SUM(Id * 9000000000000000000)").stdout
        )

    def test_without_an_address_the_command_says_what_to_set(self) -> None:
        self.write("x.csv", "a\n1\n")
        oak.intake("x.csv", name="X", definition="x.oak.toml").source.save("x.oak.toml")
        program = str(Path(sys.executable).parent / "oak")
        done = subprocess.run(
            [program, "tally", "x", "--place", "spark"],
            env={**os.environ, "OAK_SPARK": ""},
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 3)
        self.assertIn("OAK_SPARK", done.stderr)

    def test_refusals(self) -> None:
        session()
        source = oak.Source.from_table(pa.table({"a": [1]}), name="A").computed("spark")
        self.assertIn(
            "Parquet files or delimited text", str(self.raises("not-in-database", source.tally, show=["COUNT(*)"]))
        )
