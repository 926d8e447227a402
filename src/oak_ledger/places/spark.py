"""A question asked of a cluster that speaks Spark's SQL: over Parquet files, delimited text, or a published version of either.

A value that cannot be computed is null there and counted; which rows they are is asked here.
"""

from __future__ import annotations

import atexit
import datetime as dt
import os
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import uuid4

import pyarrow as pa
import pyarrow.compute as pc
from sqlglot import exp

from oak_ledger.columnar.arrays import arrow_type
from oak_ledger.engine import Query
from oak_ledger.engine.evaluate import Expression
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.query import Result
from oak_ledger.errors import UnusableInput
from oak_ledger.formula import checked as c
from oak_ledger.origin.files import FilesReader
from oak_ledger.origin.parquet import ParquetReader
from oak_ledger.origin.several import SeveralReader
from oak_ledger.origin.spec import ReadingSpec
from oak_ledger.places.counted import as_counts, conditions
from oak_ledger.places.dialects import SPARK
from oak_ledger.places.statement import GROUPS, in_settled_order, statement, trees_of
from oak_ledger.places.translate import NotSaid, as_it_reads, cast, finite, sql_type
from oak_ledger.types import TEXT, Type

if TYPE_CHECKING:
    from oak_ledger.source.source import Source

ADDRESS = "OAK_SPARK"
"""The variable that has the address of a cluster: sc://… of a Connect server, spark://… of a master, local[2] for this machine."""
_KINDS = {
    "text": ("string",), "integer": ("bigint", "int", "smallint", "tinyint"), "number": ("double", "float"), "boolean": ("boolean",),
    "date": ("date",), "timestamp": ("timestamp", "timestamp_ntz"),
}  # fmt: skip
_CAUSE = re.compile(r"^Caused by: [^:\n]+: (.+)$", re.MULTILINE)
_WHOLE_TEXT = {
    "mode": "FAILFAST", "multiLine": True, "enforceSchema": False, "columnPruning": False, "unescapedQuoteHandling": "RAISE_ERROR", "nullValue": "\0", "emptyValue": "",
}  # fmt: skip


def session() -> Any:
    """The session that is open in this program, or one at the address in OAK_SPARK. Raises UnusableInput where there is neither."""
    try:
        from pyspark.sql import SparkSession
    except ImportError:
        hint = "Install it: pip install 'oak-ledger[cluster]'; Java 17 or later is needed too."
        raise UnusableInput("no-cluster", "What asks a cluster is not installed.", hint=hint) from None
    active = SparkSession.getActiveSession()
    if active is not None:
        return active
    address = os.environ.get(ADDRESS, "")
    if not address:
        hint = (
            f"Set {ADDRESS}: sc://host for a Connect server, spark://host:7077 for a master, local[2] for this machine."
        )
        raise UnusableInput("no-cluster", "No cluster is named.", hint=hint)
    builder = SparkSession.builder.appName("oak")
    if address.startswith("sc://"):
        made = builder.remote(address).getOrCreate()
        atexit.register(made.stop)  # while its threads are still there
        return made
    quiet = {"spark.ui.enabled": "false", "spark.ui.showConsoleProgress": "false", "spark.log.level": "OFF"}
    for name, value in quiet.items():
        builder = builder.config(name, value)
    try:
        return builder.master(address).getOrCreate()
    except Exception as error:
        said = str(error).strip().splitlines()[0]
        raise UnusableInput("no-cluster", f"The cluster at {address} cannot be reached: {said}.", hint="Is Java 17 installed?") from None  # fmt: skip


@contextmanager
def settled(session: Any) -> Iterator[Any]:
    """A session of its own beside the user's, in which times are universal and a value out of range is an error."""
    own = session.newSession()
    try:
        own.conf.set("spark.sql.session.timeZone", "UTC")
        own.conf.set("spark.sql.ansi.enabled", "true")
        yield own
    finally:
        if ".connect." in type(own).__module__:  # else it shares what it would stop
            own.stop()


def asked(source: Source, query: Query) -> Result:
    """A question answered by the cluster. Raises NotSaid where it cannot be said, UnusableInput where the cluster cannot be reached or answer."""
    in_settled_order(query, source.about.key)
    wrong = conditions(query)
    of_rows, of_groups = (
        [condition for condition in wrong if condition.of_groups == groups] for groups in (False, True)
    )
    shown = len(query.by) + len(query.show)
    more = tuple(Expression(f"fault {at}", "", condition.tree) for at, condition in enumerate(of_groups))
    with _guarded(), settled(session()) as own:
        view, column = _rows(own, source, query)
        table = exp.Table(this=exp.to_identifier(view, quoted=True))

        def ask(one: Query) -> pa.Table:
            return own.sql(statement(one, table, column, guarded=True, dialect=SPARK).text()).toArrow()

        try:
            answer = ask(replace(query, show=(*query.show, *more), totals=False))
            whole = replace(query, by=(), sort=(), limit=None, totals=False)
            totals = ask(whole) if query.totals else None
            kept = ask(as_counts(query, of_rows))
            read = ask(Query(query.fields, (), grouped=True)) if query.always else None
        finally:
            own.catalog.dropTempView(view)
    faults = Faults()
    for at, one in enumerate(of_rows):
        faults.count(one.owner, one.what, kept.column(at + 1)[0].as_py())
    for at, one in enumerate(of_groups):
        faults.count(one.owner, one.what, pc.sum(answer.column(shown + at)).as_py() or 0)
    every = kept.column(kept.num_columns - 1)[0].as_py()
    read_rows = read.column(0)[0].as_py() if read is not None else every
    groups = None if not query.grouped else answer.column(GROUPS)[0].as_py() if query.by and len(answer) else len(answer)  # fmt: skip
    columns = [*query.by, *query.show]
    total = _typed(totals, query.show, query.by) if totals is not None else None
    return Result(_typed(answer, columns), total, faults, read_rows, kept.column(0)[0].as_py(), groups)


@contextmanager
def _guarded() -> Iterator[None]:
    """What the cluster says against a question, in the asker's words."""
    from py4j.protocol import Py4JError
    from pyspark.errors import (
        AnalysisException,
        ArithmeticException,
        DateTimeException,
        NumberFormatException,
        PySparkException,
    )

    try:
        yield
    except (PySparkException, Py4JError) as error:
        causes = _CAUSE.findall(str(error))
        said = (causes[-1] if causes else str(error)).strip().splitlines()[0].partition(" SQLSTATE")[0][:200]
        of_value = isinstance(error, (ArithmeticException, DateTimeException, NumberFormatException))
        if of_value or "[INVALID_INDEX" in str(error):
            raise NotSaid("A value", f"the cluster stops at it ({said})") from None
        if isinstance(error, AnalysisException):
            raise NotSaid("This question", f"the cluster does not take it ({said})") from None
        raise UnusableInput("database", f"The cluster cannot answer: {said}.", hint="Ask it here: --place here.") from None  # fmt: skip


def _typed(table: pa.Table, columns: Sequence[Expression], keys: Sequence[Expression] = ()) -> pa.Table:
    """What came back with the types of the question. Raises NotSaid for a number that is none and a date beyond the years 1 to 9999; `keys` are columns of nulls before them."""
    arrays = [pa.nulls(len(table), arrow_type(key.checked.type)) for key in keys]
    for at, expression in enumerate(columns):
        values = table.column(at).cast(arrow_type(expression.checked.type))
        if expression.checked.type.kind == "number" and pc.all(pc.is_finite(values)).as_py() not in (True, None):
            raise NotSaid(f"A value of {expression.name}", "it is too large for a number")
        ends = {"date": dt.date, "timestamp": dt.datetime}.get(expression.checked.type.kind)
        if ends and pc.any(pc.or_(pc.less(values, ends.min), pc.greater(values, ends.max))).as_py():
            raise NotSaid(f"A value of {expression.name}", "it is not a date of the calendar")
        arrays.append(values)
    return pa.table(arrays, names=[key.name for key in (*keys, *columns)])


def _rows(own: Any, source: Source, query: Query) -> tuple[str, Callable[[str], exp.Expression]]:
    """A view over the rows of a source, by its name, and how its columns are said."""
    reader = source.opened
    view = f"oak_{uuid4().hex}"
    if isinstance(reader, ParquetReader):
        paths = [reader.path]
    elif (
        isinstance(reader, SeveralReader)
        and reader.columns()
        and all(isinstance(one, ParquetReader) for one in reader.readers)
    ):
        paths = list(reader.paths)
    elif isinstance(reader, FilesReader):
        return view, _texts(own, reader, view, query)
    else:
        raise NotSaid("This source", "its rows are not in Parquet files or delimited text")
    frame = own.read.option("mergeSchema", "true").parquet(*map(_address, paths))
    frame.createOrReplaceTempView(view)
    kinds, found = reader.columns(), dict(frame.dtypes)
    return view, lambda name: _typed_column(name, kinds.get(name, TEXT), found)


def _typed_column(name: str, kind: Type, found: dict[str, str]) -> exp.Expression:
    """A column of Parquet files, with the values that reading it here gives."""
    there = found.get(name, "")
    fits = there.endswith(f",{kind.scale})") if kind.kind == "decimal" else there in _KINDS.get(kind.kind, ())
    if not fits:
        raise NotSaid(f"The column {name}", "its type is read in another way here")
    expression: exp.Expression = exp.column(exp.to_identifier(name, quoted=True))
    if there == "timestamp":
        return cast(expression, sql_type(kind))
    if there == "float":
        expression = as_it_reads(expression)
    return finite(expression, kind) if kind.kind == "number" else expression


def _texts(own: Any, reader: FilesReader, view: str, query: Query) -> Callable[[str], exp.Expression]:
    """A view over delimited text, every column a text; a row of another shape, or a broken quote, stops the question."""
    from pyspark.sql.functions import lit

    used = _columns_used(query)
    alike: dict[
        str, list[Path]
    ] = {}  # files that are written alike, and have the same in their names, as far as it is asked for
    for path in reader.paths:
        given = {name: text for name, text in reader.given(path).items() if name in used}
        alike.setdefault(repr((reader.written(path), reader.names_in(path), given)), []).append(path)
    frame = None
    for paths in alike.values():
        made = _file_frame(own, reader.written(paths[0]), reader.names_in(paths[0]), paths)
        for name, text in reader.given(paths[0]).items():
            made = made.withColumn(name, lit(text))
        frame = made if frame is None else frame.unionByName(made, allowMissingColumns=True)
    if frame is None:
        raise NotSaid("This source", "it has no files")
    frame.createOrReplaceTempView(view)
    return lambda name: exp.column(exp.to_identifier(name, quoted=True))


def _file_frame(own: Any, spec: ReadingSpec, names: Sequence[str], paths: Sequence[Path]) -> Any:
    """Files that are written alike."""
    more = spec.header_lines > 1 or spec.comment or spec.footer or spec.escape or spec.spaces or spec.renamed
    if more or spec.header != "first" or spec.quote != '"' or len(spec.separator) != 1 or spec.bad_rows != "stop":
        raise NotSaid("This source", "its files have more to them than a line of names and rows")
    schema = ", ".join(f"`{name.replace('`', '``')}` string" for name in names)
    options = {**_WHOLE_TEXT, "sep": spec.separator, "quote": '"', "escape": '"', "encoding": spec.encoding}
    return own.read.schema(schema).options(header=True, **options).csv([_address(path) for path in paths])


def _columns_used(query: Query) -> set[str]:
    trees = trees_of(query, [*query.asked, *query.always])
    return {node.column for tree in trees for node in c.walk(tree) if isinstance(node, c.ColumnRef)}


def _address(path: Path) -> str:
    return f"file://{path.resolve()}"
