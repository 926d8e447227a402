"""What is written with words and signs of its own rather than as a call: described by the same entries as functions.

The parser knows how they are written and `operators` and `casts` what they mean; help, search, pages and tests read these entries.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from oak_ledger.functions.registry import LIBRARY, Function

_SPREADS = "Null when either side is null."
_NEVER = "Never null."


def _no_call(*_: Any) -> Any:
    raise AssertionError("a construct is not called")


def _construct(
    name: str, topic: str, written: Sequence[str], sentence: str, nulls: str, examples: Sequence[tuple[str, str]]
) -> None:
    usage, grouped, window = " · ".join(written), topic in ("aggregate", "earlier state"), topic == "window"
    entry = Function(
        name, topic, (), sentence, nulls, tuple(examples), _no_call, aggregate=grouped, window=window, usage=usage
    )
    LIBRARY.constructs[name] = entry


_construct(
    "CASE", "condition", ["CASE WHEN condition THEN value … [ELSE value] END", "CASE x WHEN value THEN value … [ELSE value] END"],
    "The value of the first branch whose condition holds, or whose value is equal to x.",
    "A condition that is null does not hold; null when no branch holds and there is no ELSE.",
    [("CASE WHEN 12 < 10 THEN 'small' WHEN 12 < 30 THEN 'middle' ELSE 'large' END", "middle"), ("CASE 'b' WHEN 'a' THEN 1 WHEN 'b' THEN 2 END", "2"), ("CASE 'c' WHEN 'a' THEN 1 END", "null")],
)  # fmt: skip
_construct(
    "IF", "condition", ["IF(condition, then, else)"], "One value where the condition holds, another where it does not.",
    "A condition that is null does not hold.", [("IF(7 > 5, 'more', 'less')", "more"), ("IF(NULL, 1, 0)", "0")],
)  # fmt: skip
_construct(
    "CAST", "type", ["CAST(x AS type)", "CAST(x AS type FORMAT 'template')"],
    "The value in another type: TEXT, INTEGER, DECIMAL(digits, decimals), NUMBER, BOOLEAN, DATE, TIMESTAMP. A template says how a date is written: YYYY YY MM DD DDD HH24 HH12 MI SS FF1 to FF6 AM MON MONTH DY DAY.",
    "Null when x is null; what does not fit is null and recorded.",
    [("CAST('12.50' AS DECIMAL(10,2))", "12.50"), ("CAST('14/03/2026' AS DATE FORMAT 'DD/MM/YYYY')", "2026-03-14"), ("CAST(DATE '2026-03-14' AS TEXT FORMAT 'MON YYYY')", "MAR 2026"), ("CAST(2.5 AS INTEGER)", "3")],
)  # fmt: skip
_construct(
    "+ - * / %", "number", ["a + b", "a - b", "a * b", "a / b", "a % b"],
    "Arithmetic; / always gives a number, % is what is left of a division, with the sign of a. A date takes whole days: date + 3, date - date.",
    _SPREADS + " A division by zero and a result that is too large are null and recorded.",
    [("7 / 2", "3.5"), ("-7 % 3", "-1"), ("1.10 * 3", "3.30"), ("DATE '2026-03-01' - DATE '2026-02-01'", "28")],
)  # fmt: skip
_construct(
    "INTERVAL", "date", ["d + INTERVAL 'n' unit", "d - INTERVAL 'n' unit"],
    "A date or timestamp moved by whole YEAR, MONTH, DAY, HOUR, MINUTE or SECOND; months end where the month ends.",
    "Null when the date is null.", [("DATE '2026-01-31' + INTERVAL '1' MONTH", "2026-02-28"), ("TIMESTAMP '2026-03-01 07:30:00' - INTERVAL '90' MINUTE", "2026-03-01 06:00:00")],
)  # fmt: skip
_construct(
    "||", "text", ["a || b"], "The two texts joined.", _SPREADS,
    [("'oak' || '-' || '12'", "oak-12"), ("'oak' || NULL", "null")],
)  # fmt: skip
_construct(
    "= <> < <= > >=", "condition", ["a = b", "a <> b", "a < b", "a <= b", "a > b", "a >= b"],
    "Whether the values are equal, or which comes first; text goes by code point, so capitals come before small letters.", _SPREADS,
    [("1 = 1.0", "true"), ("'oak' = 'Oak'", "false"), ("DATE '2026-03-01' < DATE '2026-03-02'", "true")],
)  # fmt: skip
_construct(
    "AND OR NOT", "condition", ["a AND b", "a OR b", "NOT a"], "Conditions joined or turned round.",
    "As in standard SQL: FALSE AND NULL is false, TRUE OR NULL is true, else null with null.",
    [("TRUE AND NULL", "null"), ("FALSE AND NULL", "false"), ("NOT (1 > 2)", "true")],
)  # fmt: skip
_construct(
    "IS NULL", "condition", ["x IS [NOT] NULL", "x IS [NOT] TRUE", "x IS [NOT] FALSE", "x IS [NOT] UNKNOWN"],
    "Whether there is no value; for conditions, whether they hold, do not hold, or are null.", _NEVER,
    [("NULL IS NULL", "true"), ("'' IS NULL", "false"), ("(1 > NULL) IS NOT TRUE", "true")],
)  # fmt: skip
_construct(
    "IS DISTINCT FROM", "condition", ["a IS [NOT] DISTINCT FROM b"], "Whether the values differ, null counting as a value.", _NEVER,
    [("1 IS DISTINCT FROM NULL", "true"), ("NULL IS NOT DISTINCT FROM NULL", "true")],
)  # fmt: skip
_construct(
    "BETWEEN", "condition", ["x [NOT] BETWEEN low AND high"], "Whether the value lies from low to high, both ends included.",
    "As x >= low AND x <= high.", [("10 BETWEEN 1 AND 10", "true"), ("5 NOT BETWEEN 6 AND 9", "true")],
)  # fmt: skip
_construct(
    "IN", "condition", ["x [NOT] IN (value, …)"], "Whether the value is one of a list.",
    "Null when x is null, and when x is not found and the list holds a null.",
    [("'b' IN ('a', 'b')", "true"), ("3 NOT IN (1, NULL)", "null")],
)  # fmt: skip
_construct(
    "LIKE", "pattern", ["x [NOT] LIKE pattern [ESCAPE character]"],
    "Whether the whole text is as the pattern says: % means any characters, _ for one.", _SPREADS,
    [("'ST-0417' LIKE 'ST-%'", "true"), ("'50%' LIKE '50!%' ESCAPE '!'", "true")],
)  # fmt: skip
_construct(
    "CURRENT_DATE", "date", ["CURRENT_DATE", "CURRENT_TIMESTAMP"], "The day, or the moment, of the run's clock; OAK_CLOCK sets it.", _NEVER,
    [("CURRENT_DATE = CAST(CURRENT_TIMESTAMP AS DATE)", "true"), ("CURRENT_DATE - CURRENT_DATE", "0")],
)  # fmt: skip
_construct(
    "FILTER", "aggregate", ["aggregate(x) FILTER (WHERE condition)"], "The aggregate of those rows only for which the condition holds.",
    "A condition that is null does not hold.", [("SUM(Volume) FILTER (WHERE Mill = 'Low Weir')", "28.5"), ("COUNT(*) FILTER (WHERE Cost > 10)", "2")],
)  # fmt: skip
_construct(
    "DISTINCT", "aggregate", ["COUNT(DISTINCT x)", "SUM(DISTINCT x)"], "The aggregate of the distinct values, each taken once.",
    "Nulls are left out.", [("COUNT(DISTINCT Mill)", "2"), ("SUM(DISTINCT Cost)", "60")],
)  # fmt: skip
_construct(
    "BEFORE", "earlier state", ["BEFORE(x)"],
    "The value of x in the baseline, an earlier state of the source: for the same group, or in a formula for rows for the same key.",
    "Null when the baseline has no such group or key.", [("SUM(Cost) - BEFORE(SUM(Cost))", "30"), ("BEFORE(COUNT(*))", "4")],
)  # fmt: skip
_construct(
    "PER", "aggregate", ["aggregate(x PER (key, …))"],
    "An aggregate of aggregates: AVG(SUM(x) PER (Customer)) is the average of one total for each customer, among the rows of the group that the question's filters let through; in a FILTER it chooses customers. All values in one aggregate are of one level; PER may nest.",
    "As the aggregates say; a null key is a key like others.",
    [("AVG(SUM(Volume) PER (Mill))", "38.25"), ("COUNT(*) FILTER (WHERE COUNT(*) PER (Mill) > 2)", "2"), ("MAX(COUNT(*) PER (Mill))", "3")],
)  # fmt: skip
_construct(
    "OVER", "window", ["f(x) [IGNORE NULLS] OVER (PARTITION BY … ORDER BY … [NULLS FIRST|LAST] [ROWS|RANGE BETWEEN … AND …])"],
    "A value for each row from the rows around it: those with the same PARTITION BY, in the order of ORDER BY, within the frame; over aggregates, from the groups of the answer.",
    "As the function before OVER says.", [("SUM(Cost) OVER (ORDER BY Day)", "30"), ("COUNT(*) OVER (PARTITION BY Mill)", "3")],
)  # fmt: skip
