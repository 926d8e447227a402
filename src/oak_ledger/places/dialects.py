"""The databases that are spoken to: what each function and operator is in their SQL, as a template, or why there is none.

`{0}` is the first argument, `{all}` all of them with commas, `{rest}` all but the first. An entry with `:kind` is for a first argument of that
kind, one with a number for so many arguments. Templates are written as PostgreSQL reads them; the library that writes dialects turns them into
another where the meaning is the same. Where a database stops at a value that the language calls a fault (an overflow, a division by zero),
it may: the question is then answered here, where the fault is reported with its row.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from oak_ledger.places.texts import COUNTS, STOPS, Reading
from oak_ledger.types import KINDS

_BYTES = 'COLLATE "C"'  # texts are compared by code points
_PARTS = ("YEAR", "QUARTER", "MONTH", "WEEK", "DAY", "DOW", "ISODOW", "DOY", "ISOYEAR", "HOUR", "MINUTE")
_UNITS = ("YEAR", "QUARTER", "MONTH", "WEEK", "DAY", "HOUR", "MINUTE")
BUILT = ("CASE", "INTERVAL", "MEDIAN", "PERCENTILE_CONT", "PERCENTILE_DISC", "LISTAGG", "PER")
"""What is said without a template, unless it is refused."""


@dataclass(frozen=True, slots=True)
class SqlDialect:
    """A database that is spoken to.

    `title` is what people call it, `writes` what the library that writes SQL does; `kinds` are the types of values that it holds as the language does; `collated` says
    whether texts need a word to be compared by code points.
    """

    name: str
    title: str
    writes: str
    said: Mapping[str, str]
    refused: Mapping[str, str]
    kinds: frozenset[str] = frozenset(KINDS)
    wrong_kind: str = ""
    collated: bool = True
    dates: tuple[str, Mapping[str, str], str] | None = None
    """The function that writes a date by a template, how each element of ours is written in one, and the quote around letters in it."""
    reads_texts: Reading | None = None
    """How texts are read as values there; None where they are read in another way than here."""
    plain_windows: bool = False
    """Whether windows have no filter, and frames of one kind of interval."""


_COMMON: Mapping[str, str] = {
    # arithmetic
    "+": "{0} + {1}", "-": "{0} - {1}", "-1": "- {0}", "*": "{0} * {1}", "/": "CAST({0} AS DOUBLE PRECISION) / {1}",
    "+1": "{0}", "+:integer,date": "{1} + CAST({0} AS INT)", "%:integer": "{0} % {1}", "%:decimal": "{0} % {1}", "+:date": "{0} + CAST({1} AS INT)", "-:date": "{0} - CAST({1} AS INT)",
    "-:date,date": "CAST({0} - {1} AS BIGINT)",
    "ABS": "ABS({0})", "SIGN:integer": "CAST(SIGN({0}) AS BIGINT)", "CEILING:decimal": "CEIL({0})", "CEILING:number": "CEIL({0})",
    "CEILING:integer": "{0}", "FLOOR:decimal": "FLOOR({0})", "FLOOR:number": "FLOOR({0})", "FLOOR:integer": "{0}",
    "ROUND:decimal": "ROUND({0}, CAST({1} AS INT))", "ROUND:decimal,1": "ROUND({0})", "TRUNC:decimal": "TRUNC({0}, CAST({1} AS INT))", "TRUNC:decimal,1": "TRUNC({0})",
    "DIV:integer": "{0} / {1}", "MOD:integer": "{0} % {1}",
    # conditions
    "=": "{0} = {1}", "<>": "{0} <> {1}", "<": "{0} < {1}", "<=": "{0} <= {1}", ">": "{0} > {1}", ">=": "{0} >= {1}",
    "<:text": f"{{0}} {_BYTES} < {{1}}", "<=:text": f"{{0}} {_BYTES} <= {{1}}", ">:text": f"{{0}} {_BYTES} > {{1}}", ">=:text": f"{{0}} {_BYTES} >= {{1}}",
    "AND": "{0} AND {1}", "OR": "{0} OR {1}", "NOT": "NOT {0}", "IS NULL": "{0} IS NULL", "IS TRUE": "{0} IS TRUE", "IS FALSE": "{0} IS FALSE",
    "IS DISTINCT FROM": "{0} IS DISTINCT FROM {1}", "IS NOT DISTINCT FROM": "{0} IS NOT DISTINCT FROM {1}", "IN": "{0} IN ({rest})",
    "COALESCE": "COALESCE({all})", "NULLIF": "NULLIF({0}, {1})", "GREATEST": "GREATEST({all})", "LEAST": "LEAST({all})", **dict.fromkeys(("GREATEST,1", "GREATEST:text,1", "LEAST,1", "LEAST:text,1", "CAST text text"), "{0}"),
    "GREATEST:text": f"GREATEST({{0}} {_BYTES}, {{rest}})", "LEAST:text": f"LEAST({{0}} {_BYTES}, {{rest}})",
    # texts
    "||": "{0} || {1}", "CONCAT": "CONCAT({all})", "CHAR_LENGTH": "CAST(LENGTH({0}) AS BIGINT)", "POSITION": "CAST(POSITION(({0}) IN ({1})) AS BIGINT)",
    "REPLACE": "REPLACE({0}, {1}, {2})", "REVERSE": "REVERSE({0})", "REPEAT": "REPEAT({0}, CAST({1} AS INT))", "LEFT": "LEFT({0}, CAST({1} AS INT))",
    "RIGHT": "RIGHT({0}, CASE WHEN {1} < -2147483647 THEN -2147483647 ELSE CAST({1} AS INT) END)", "LPAD": "LPAD({0}, CAST({1} AS INT), {2})", "LPAD,2": "LPAD({0}, CAST({1} AS INT))",
    "RPAD": "RPAD({0}, CAST({1} AS INT), {2})", "RPAD,2": "RPAD({0}, CAST({1} AS INT))", "STARTS_WITH": "STARTS_WITH({0}, {1})",
    "CONTAINS": "POSITION(({1}) IN ({0})) > 0", "ENDS_WITH": "RIGHT({0}, CAST(LENGTH({1}) AS INT)) = {1}",
    "SUBSTRING": "SUBSTRING({0} FROM CAST({1} AS INT) FOR CAST({2} AS INT))", "SUBSTRING,2": "SUBSTRING({0} FROM CAST({1} AS INT))",
    "SPLIT_PART": "SPLIT_PART({0}, {1}, CAST({2} AS INT))", "BTRIM": "BTRIM({0})", "BTRIM,2": "BTRIM({0}, {1})", "LTRIM": "LTRIM({0})", "LTRIM,2": "LTRIM({0}, {1})",
    "RTRIM": "RTRIM({0})", "RTRIM,2": "RTRIM({0}, {1})",
    "LIKE": "{0} LIKE {1} ESCAPE ''",
    # dates
    **{f"EXTRACT {part}": f"EXTRACT({part} FROM {{1}})" for part in _PARTS},
    **{f"DATE_TRUNC {unit}": f"DATE_TRUNC('{unit.lower()}', {{1}})" for unit in _UNITS},
    "MAKE_DATE": "MAKE_DATE(CAST({0} AS INT), CAST({1} AS INT), CAST({2} AS INT))",
    # casts, from one kind to another
    "CAST integer decimal": "CAST({0} AS DECIMAL)", "CAST integer number": "CAST({0} AS DOUBLE PRECISION)", "CAST integer text": "CAST({0} AS TEXT)",
    "CAST decimal decimal": "CAST({0} AS DECIMAL)", "CAST decimal number": "CAST({0} AS DOUBLE PRECISION)", "CAST decimal text": "CAST({0} AS TEXT)",
    "CAST decimal integer": "CAST({0} AS BIGINT)", "CAST boolean text": "CAST({0} AS TEXT)", "CAST date text": "CAST({0} AS TEXT)",
    "CAST date timestamp": "CAST({0} AS TIMESTAMP)", "CAST timestamp date": "CAST({0} AS DATE)",
    # aggregates and windows
    "COUNT": "COUNT({0})", "COUNT,0": "COUNT(*)", "SUM": "SUM({0})", "MIN": "MIN({0})", "MAX": "MAX({0})", "MIN:boolean": "BOOL_AND({0})", "MAX:boolean": "BOOL_OR({0})", "MIN:text": f"MIN({{0}} {_BYTES})", "MAX:text": f"MAX({{0}} {_BYTES})",
    "AVG": "CAST(AVG({0}) AS DOUBLE PRECISION)", "BOOL_AND": "BOOL_AND({0})", "BOOL_OR": "BOOL_OR({0})",
    "STDDEV_SAMP": "CAST(STDDEV_SAMP({0}) AS DOUBLE PRECISION)", "STDDEV_POP": "CAST(STDDEV_POP({0}) AS DOUBLE PRECISION)",
    "VAR_SAMP": "CAST(VAR_SAMP({0}) AS DOUBLE PRECISION)", "VAR_POP": "CAST(VAR_POP({0}) AS DOUBLE PRECISION)",
    "ROW_NUMBER": "ROW_NUMBER()", "RANK": "RANK()", "DENSE_RANK": "DENSE_RANK()", "NTILE": "NTILE(CAST({0} AS INT))", "PERCENT_RANK": "PERCENT_RANK()", "CUME_DIST": "CUME_DIST()",
    "LAG": "LAG({0})", "LAG,2": "LAG({0}, CAST({1} AS INT))", "LAG,3": "LAG({0}, CAST({1} AS INT), {2})",
    "LEAD": "LEAD({0})", "LEAD,2": "LEAD({0}, CAST({1} AS INT))", "LEAD,3": "LEAD({0}, CAST({1} AS INT), {2})",
    "FIRST_VALUE": "FIRST_VALUE({0})", "LAST_VALUE": "LAST_VALUE({0})",
}  # fmt: skip
_DUCKDB: Mapping[
    str, str
] = {  # it counts a negative beginning from the end of a text, and divides whole numbers as numbers
    "SUBSTRING": "CASE WHEN {2} >= 0 AND {1} IS NOT NULL THEN SUBSTRING({0}, GREATEST({1}, 1), GREATEST({1} + {2} - GREATEST({1}, 1), 0)) END",
    "SUBSTRING,2": "CASE WHEN {1} IS NOT NULL THEN SUBSTRING({0}, GREATEST({1}, 1)) END",
    **{f"{sign}:number": f"CASE WHEN ISFINITE({{0}} {sign} {{1}}) THEN {{0}} {sign} {{1}} END" for sign in "+-*"},
    "/": "CASE WHEN ISFINITE(CAST({0} AS DOUBLE PRECISION) / {1}) THEN CAST({0} AS DOUBLE PRECISION) / {1} END",
    "DIV:integer": "DIVIDE({0}, {1})",
}

_FROM = "GREATEST({1}, 1)"  # where a part of a text begins
_INFINITE = "CAST('Infinity' AS DOUBLE PRECISION)"
_SPARK: Mapping[str, str] = {
    # a value that cannot be computed is null there, and counted
    "+": "TRY_ADD({0}, {1})", "-": "TRY_SUBTRACT({0}, {1})", "*": "TRY_MULTIPLY({0}, {1})", "/": f"CASE WHEN ABS(TRY_DIVIDE(CAST({{0}} AS DOUBLE PRECISION), {{1}})) < {_INFINITE} THEN TRY_DIVIDE(CAST({{0}} AS DOUBLE PRECISION), {{1}}) END",
    "%:integer": "TRY_MOD({0}, {1})", "%:decimal": "TRY_MOD({0}, {1})", "MOD:integer": "TRY_MOD({0}, {1})",
    "DIV:integer": "CAST(CAST({0} - TRY_MOD({0}, {1}) AS DECIMAL(38, 0)) / {1} AS BIGINT)",
    **{f"{sign}:number": f"CASE WHEN ABS({{0}} {sign} {{1}}) < {_INFINITE} THEN {{0}} {sign} {{1}} END" for sign in "+-*"},
    "+:date": "DATE_ADD({0}, CAST({1} AS INT))", "-:date": "DATE_SUB({0}, CAST({1} AS INT))", "-:date,date": "CAST(DATEDIFF({0}, {1}) AS BIGINT)",
    "CEILING:number": "CASE WHEN ABS({0}) < 9E15 THEN CAST(CEIL({0}) AS DOUBLE PRECISION) ELSE {0} END",
    "FLOOR:number": "CASE WHEN ABS({0}) < 9E15 THEN CAST(FLOOR({0}) AS DOUBLE PRECISION) ELSE {0} END",
    "TRUNC:decimal": "CASE WHEN {0} >= 0 THEN FLOOR({0}, CAST({1} AS INT)) ELSE CEIL({0}, CAST({1} AS INT)) END",
    "TRUNC:decimal,1": "CASE WHEN {0} >= 0 THEN FLOOR({0}) ELSE CEIL({0}) END",
    "CONCAT": "CONCAT_WS('', {all})", "STARTS_WITH": "STARTSWITH({0}, {1})", "LIKE": "{0} LIKE REPLACE({1}, '\\', '\\\\')",
    "LEFT": "SUBSTRING({0}, 1, CASE WHEN {1} < 0 THEN GREATEST(LENGTH({0}) + {1}, 0) ELSE {1} END)",
    "RIGHT": "CASE WHEN {1} >= 0 THEN RIGHT({0}, CAST({1} AS INT)) ELSE SUBSTRING({0}, 1 - {1}) END",
    "SUBSTRING": _DUCKDB["SUBSTRING"], "SUBSTRING,2": _DUCKDB["SUBSTRING,2"],
    "EXTRACT DOW": "EXTRACT(DOW FROM {1}) - 1", "EXTRACT ISODOW": "EXTRACT(DAYOFWEEK_ISO FROM {1})", "EXTRACT ISOYEAR": "EXTRACT(YEAROFWEEK FROM {1})",
    "PERCENTILE": "PERCENTILE({0}, {1})", "CAST decimal integer": "CAST(ROUND({0}) AS BIGINT)", "AVG": "AVG(CAST({0} AS DOUBLE PRECISION))",
}  # fmt: skip

_STOP = "ABS(-9223372036854775807 - 1)"  # SQLite stops at it: the absolute value of the least whole number


def _whole(text: str) -> str:
    """A whole number in SQLite, which goes on with an approximate one where it is too large."""
    return f"CASE WHEN TYPEOF({text}) = 'real' THEN {_STOP} ELSE {text} END"


def _divided(text: str) -> str:
    """A division in SQLite, which gives null for one by zero."""
    return f"CASE WHEN {{1}} = 0 OR TYPEOF({text}) = 'real' THEN {_STOP} ELSE {text} END"


_MOST = 2**31 - 1
_LENGTH = f"CASE WHEN {{1}} > {_MOST} THEN {_MOST} ELSE {{1}} END"
_AFTER = "LENGTH({0}) + 1"
_START = f"CASE WHEN {{1}} < 1 THEN 1 WHEN {{1}} > LENGTH({{0}}) THEN {_AFTER} ELSE {{1}} END"
_END = (
    f"CASE WHEN {{2}} < 0 THEN {_STOP} WHEN {{2}} IS NULL THEN NULL WHEN {{1}} > LENGTH({{0}}) OR {{1}} + {{2}} > LENGTH({{0}}) THEN {_AFTER}"
    " WHEN {1} + {2} < 1 THEN 1 ELSE {1} + {2} END"
)
"""Where a part of a text begins, and where it ends; SQLite counts negative places from the end."""

# SQLite is asked about whole numbers and texts, and nothing else.
_SQLITE: Mapping[str, str] = {
    "+": _whole("{0} + {1}"), "-": _whole("{0} - {1}"), "-1": _whole("- {0}"), "*": _whole("{0} * {1}"), "ABS": "ABS({0})",
    "SIGN:integer": "CASE WHEN {0} > 0 THEN 1 WHEN {0} < 0 THEN -1 ELSE {0} END", "CEILING:integer": "{0}", "FLOOR:integer": "{0}",
    "%": _divided("{0} % {1}"), "MOD": _divided("{0} % {1}"), "DIV": _divided("{0} / {1}"),
    **{one: _COMMON[one] for one in ("=", "<>", "<", "<=", ">", ">=", "AND", "OR", "NOT", "IS NULL", "IS TRUE", "IS FALSE", "IS DISTINCT FROM",
       "IS NOT DISTINCT FROM", "IN", "NULLIF", "||", "COUNT", "COUNT,0", "SUM", "MIN", "MAX", "ROW_NUMBER", "RANK", "DENSE_RANK",
       "NTILE", "LAG", "LAG,2", "LAG,3", "LEAD", "LEAD,2", "LEAD,3", "FIRST_VALUE", "LAST_VALUE", "BTRIM,2", "LTRIM,2", "RTRIM,2", "BTRIM", "LTRIM", "RTRIM")},
    "COALESCE": "COALESCE({all}, NULL)", "CHAR_LENGTH": "LENGTH({0})", "POSITION": "INSTR({1}, {0})", "STARTS_WITH": "SUBSTR({0}, 1, LENGTH({1})) = {1}", "CONTAINS": "INSTR({0}, {1}) > 0",
    "ENDS_WITH": "LENGTH({1}) <= LENGTH({0}) AND SUBSTR({0}, LENGTH({0}) - LENGTH({1}) + 1) = {1}",
    "REPLACE": "CASE WHEN {2} IS NOT NULL THEN REPLACE({0}, {1}, {2}) END",
    "LEFT": f"SUBSTR({{0}}, 1, CASE WHEN {{1}} >= 0 THEN {_LENGTH} WHEN {{1}} <= -LENGTH({{0}}) THEN 0 ELSE LENGTH({{0}}) + {{1}} END)",
    "SUBSTRING": f"SUBSTR({{0}}, {_START}, {_END} - {_START})", "SUBSTRING,2": f"SUBSTR({{0}}, {_START})",
    "CAST integer text": "CAST({0} AS TEXT)", "CAST boolean text": "CASE WHEN {0} THEN 'true' WHEN NOT {0} THEN 'false' END",
    "BOOL_AND": "MIN({0})", "BOOL_OR": "MAX({0})",
}  # fmt: skip
# Why a function or an operator is computed here, and in no database.
_REFUSED: Mapping[str, str] = {
    "%:number": "its last digits differ",
    "ROUND:number": "it rounds what a number is in binary, not as it reads",
    "ROUND:integer": "it gives another type",
    "TRUNC:number": "it cuts what a number is in binary, not as it reads",
    "TRUNC:integer": "it gives another type",
    "SIGN:decimal": "it gives another type",
    "SIGN:number": "it gives another type",
    "LOWER": "letter case follows other rules",
    "UPPER": "letter case follows other rules",
    "INITCAP": "letter case follows other rules",
    "CAST number text": "it writes numbers in another way",
    "CAST number integer": "it rounds in another way",
    "CAST number decimal": "it takes a number for what it is in binary, not as it reads",
    "CAST text": "it reads texts as values in its own way, and stops at what it cannot read",
    "CAST timestamp text": "it leaves out parts of a second in another way",
    "REGEXP_LIKE": "its regular expressions are of another kind",
    "REGEXP_COUNT": "its regular expressions are of another kind",
    "REGEXP_REPLACE": "its regular expressions are of another kind",
    "REGEXP_SUBSTR": "its regular expressions are of another kind",
    "PLAIN_NUMBER": "there is no such function",
    **dict.fromkeys(("DATE_DIFF", "AGE"), "it counts in another way"),
    "WIDTH_BUCKET": "its edges differ",
    "POWER": "its last digits differ",
    "EXP": "its last digits differ",
    "LN": "its last digits differ",
    "LOG10": "its last digits differ",
    "SQRT": "its last digits differ",
    "ANY_VALUE": "which value it takes is open",
    **dict.fromkeys(("MAX_BY", "MIN_BY", "MODE"), "which of several values it takes is open"),
    **dict.fromkeys(("SUM_AT_LAST", "SUM_AT_FIRST", "WORKING_DAYS"), "it is computed here"),
}
_SQLITE_REFUSED: Mapping[str, str] = {
    "LIKE": "it takes no notice of letter case",
    **dict.fromkeys(("GREATEST", "LEAST"), "one null makes its answer null"),
    "CONCAT": "it has nothing that leaves out nulls",
    "CAST text": "it makes a number of any text",
    **dict.fromkeys(("MEDIAN", "PERCENTILE_CONT", "PERCENTILE_DISC"), "it has no percentiles"),
    "LISTAGG": "it does not keep the order of a list",
    **dict.fromkeys(("EXTRACT", "DATE_TRUNC", "INTERVAL", "MAKE_DATE"), "it has no dates"),
    "REGEXP": "it has no regular expressions",
}
_TO_CHAR = {
    name: name
    for name in ("YYYY", "YY", "MM", "DD", "DDD", "HH24", "HH12", "MI", "SS", *(f"FF{size}" for size in range(1, 7)))
}
_DATE_FORMAT = {
    "YYYY": "yyyy",
    "YY": "yy",
    "MM": "MM",
    "DD": "dd",
    "DDD": "DDD",
    "HH24": "HH",
    "HH12": "hh",
    "MI": "mm",
    "SS": "ss",
}
_FIXED_DECIMALS = dict.fromkeys(
    ("ROUND:decimal,varying", "TRUNC:decimal,varying"), "the decimals must be the same in all rows"
)
_READ = {name: why for name, why in _REFUSED.items() if name not in ("CAST text", "PLAIN_NUMBER")}
POSTGRESQL = SqlDialect(
    "postgresql", "PostgreSQL", "postgres", _COMMON, _READ, reads_texts=STOPS, dates=("TO_CHAR", _TO_CHAR, '"')
)
DUCKDB = SqlDialect(
    "duckdb",
    "duckdb",
    "duckdb",
    {**_COMMON, **_DUCKDB},
    {
        **_REFUSED,
        **_FIXED_DECIMALS,
        "SPLIT_PART": "an empty separator means another thing",
        "MAKE_DATE": "it knows years before 1",
    },
)
SPARK = SqlDialect(
    "spark", "Spark", "spark", {**_COMMON, **_SPARK},
    _READ | {"PERCENTILE_DISC": "it has it of numbers only", **_FIXED_DECIMALS},
    collated=False, reads_texts=COUNTS, plain_windows=True, dates=("DATE_FORMAT", _DATE_FORMAT, "'"),
)  # fmt: skip
SQLITE = SqlDialect(
    "sqlite", "SQLite", "sqlite", _SQLITE, {**_REFUSED, **_SQLITE_REFUSED}, frozenset(("text", "integer", "boolean", "null")),
    "decimals, numbers and dates are kept in another way", collated=False,
)  # fmt: skip
DIALECTS: Mapping[str, SqlDialect] = {dialect.name: dialect for dialect in (POSTGRESQL, SQLITE, DUCKDB, SPARK)}
"""The databases that a question can be said to, by name."""
