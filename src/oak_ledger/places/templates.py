"""What each function and operator is in the SQL of a database: a template a dialect, or why there is none.

`{0}` is the first argument, `{all}` all of them with commas. An entry with `:kind` is for a first argument of that kind. Where a database stops
at a value that the language calls a fault (an overflow, a division by zero), it may: the question is then answered here, where the fault
is reported with its row.
"""

from __future__ import annotations

from collections.abc import Mapping

_BYTES = 'COLLATE "C"'  # texts are compared by code points
_WHOLE = "CAST({0} AS BIGINT)"

POSTGRESQL: Mapping[str, str] = {
    # arithmetic
    "+": "{0} + {1}", "-": "{0} - {1}", "-1": "- {0}", "*": "{0} * {1}", "/": "CAST({0} AS DOUBLE PRECISION) / {1}",
    "%:integer": "{0} % {1}", "%:decimal": "{0} % {1}", "+:date": "{0} + CAST({1} AS INT)", "-:date": "{0} - CAST({1} AS INT)",
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
    "COALESCE": "COALESCE({all})", "NULLIF": "NULLIF({0}, {1})", "GREATEST": "GREATEST({all})", "LEAST": "LEAST({all})",
    "GREATEST:text": "", "LEAST:text": "",
    # texts
    "||": "{0} || {1}", "CONCAT": "CONCAT({all})", "CHAR_LENGTH": "CAST(LENGTH({0}) AS BIGINT)", "POSITION": "CAST(POSITION({0} IN {1}) AS BIGINT)",
    "REPLACE": "REPLACE({0}, {1}, {2})", "REVERSE": "REVERSE({0})", "REPEAT": "REPEAT({0}, CAST({1} AS INT))", "LEFT": "LEFT({0}, CAST({1} AS INT))",
    "RIGHT": "RIGHT({0}, CAST({1} AS INT))", "LPAD": "LPAD({0}, CAST({1} AS INT), {2})", "LPAD,2": "LPAD({0}, CAST({1} AS INT))",
    "RPAD": "RPAD({0}, CAST({1} AS INT), {2})", "RPAD,2": "RPAD({0}, CAST({1} AS INT))", "STARTS_WITH": "STARTS_WITH({0}, {1})",
    "SUBSTRING": "SUBSTRING({0} FROM CAST({1} AS INT) FOR CAST({2} AS INT))", "SUBSTRING,2": "SUBSTRING({0} FROM CAST({1} AS INT))",
    "SPLIT_PART": "SPLIT_PART({0}, {1}, CAST({2} AS INT))", "BTRIM": "BTRIM({0})", "BTRIM,2": "BTRIM({0}, {1})", "LTRIM": "LTRIM({0})", "LTRIM,2": "LTRIM({0}, {1})",
    "RTRIM": "RTRIM({0})", "RTRIM,2": "RTRIM({0}, {1})",
    # dates
    "MAKE_DATE": "MAKE_DATE(CAST({0} AS INT), CAST({1} AS INT), CAST({2} AS INT))",
    # casts, from one kind to another
    "CAST integer decimal": "CAST({0} AS DECIMAL)", "CAST integer number": "CAST({0} AS DOUBLE PRECISION)", "CAST integer text": "CAST({0} AS TEXT)",
    "CAST decimal decimal": "CAST({0} AS DECIMAL)", "CAST decimal number": "CAST({0} AS DOUBLE PRECISION)", "CAST decimal text": "CAST({0} AS TEXT)",
    "CAST decimal integer": "CAST({0} AS BIGINT)", "CAST boolean text": "CAST({0} AS TEXT)", "CAST date text": "CAST({0} AS TEXT)",
    "CAST date timestamp": "CAST({0} AS TIMESTAMP)", "CAST timestamp date": "CAST({0} AS DATE)",
    # aggregates and windows
    "COUNT": "COUNT({0})", "COUNT,0": "COUNT(*)", "SUM": "SUM({0})", "MIN": "MIN({0})", "MAX": "MAX({0})", "MIN:text": f"MIN({{0}} {_BYTES})", "MAX:text": f"MAX({{0}} {_BYTES})",
    "AVG": "CAST(AVG({0}) AS DOUBLE PRECISION)", "BOOL_AND": "BOOL_AND({0})", "BOOL_OR": "BOOL_OR({0})",
    "STDDEV_SAMP": "CAST(STDDEV_SAMP({0}) AS DOUBLE PRECISION)", "STDDEV_POP": "CAST(STDDEV_POP({0}) AS DOUBLE PRECISION)",
    "VAR_SAMP": "CAST(VAR_SAMP({0}) AS DOUBLE PRECISION)", "VAR_POP": "CAST(VAR_POP({0}) AS DOUBLE PRECISION)",
    "ROW_NUMBER": "ROW_NUMBER()", "RANK": "RANK()", "DENSE_RANK": "DENSE_RANK()", "NTILE": "NTILE(CAST({0} AS INT))",
    "LAG": "LAG({0})", "LAG,2": "LAG({0}, CAST({1} AS INT))", "LAG,3": "LAG({0}, CAST({1} AS INT), {2})",
    "LEAD": "LEAD({0})", "LEAD,2": "LEAD({0}, CAST({1} AS INT))", "LEAD,3": "LEAD({0}, CAST({1} AS INT), {2})",
    "FIRST_VALUE": "FIRST_VALUE({0})", "LAST_VALUE": "LAST_VALUE({0})",
}  # fmt: skip
# Where another database needs other words for the same meaning; all else is the same, as the library that writes dialects puts it.
OTHERS: Mapping[str, Mapping[str, str]] = {
    "duckdb": {  # it counts a negative beginning from the end of a text
        "SUBSTRING": "SUBSTRING({0}, GREATEST({1}, 1), GREATEST({1} + {2} - GREATEST({1}, 1), 0))",
        "SUBSTRING,2": "SUBSTRING({0}, GREATEST({1}, 1))",
    }
}
# Why a function or an operator is not said to PostgreSQL; then it is computed here.
NOT_POSTGRESQL: Mapping[str, str] = {
    "%:number": "it has no remainder of numbers",
    "ROUND:number": "it rounds halves to the even neighbour",
    "ROUND:integer": "it rounds whole numbers as decimals",
    "TRUNC:number": "it cuts what a number is in binary, not as it reads",
    "TRUNC:integer": "it cuts whole numbers as decimals",
    "SIGN:decimal": "its sign of a decimal has decimals",
    "SIGN:number": "its sign is a number, not a whole one",
    "LOWER": "letter case depends on the locale of the database",
    "UPPER": "letter case depends on the locale of the database",
    "INITCAP": "letter case depends on the locale of the database",
    "CAST number text": "it writes numbers in another way",
    "CAST number integer": "it rounds halves to the even neighbour",
    "CAST number decimal": "it takes a number for what it is in binary, not as it reads",
    "CAST text": "it reads texts as values in its own way, and stops at what it cannot read",
    "CAST timestamp text": "it leaves out parts of a second in another way",
    "CAST boolean integer": "",
    "GREATEST:text": "it compares by the locale of the database",
    "LEAST:text": "it compares by the locale of the database",
    "REGEXP_LIKE": "its regular expressions are of another kind",
    "REGEXP_COUNT": "its regular expressions are of another kind",
    "REGEXP_REPLACE": "its regular expressions are of another kind",
    "REGEXP_SUBSTR": "its regular expressions are of another kind",
    "PLAIN_NUMBER": "no such function",
    "CONTAINS": "no such function",
    "ENDS_WITH": "no such function",
    "DATE_DIFF": "no such function",
    "WIDTH_BUCKET": "its edges differ",
    "POWER": "its last digits differ",
    "EXP": "its last digits differ",
    "LN": "its last digits differ",
    "LOG10": "its last digits differ",
    "SQRT": "its last digits differ",
    "ANY_VALUE": "which value it takes is open",
    "DATE_TRUNC": "",
    "EXTRACT": "",
}
