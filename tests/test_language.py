"""What formulas give, and what is said of wrong ones: tables, each case a line."""

from __future__ import annotations

import datetime as dt
import math
import unittest
from decimal import Decimal
from typing import Any

import pyarrow as pa

import oak_ledger as oak
from oak_ledger.columnar.texts import value_text
from oak_ledger.engine.options import overridden
from oak_ledger.formula import parse
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.formula.nodes import names, walk
from tests.support import loads

D, DAY, NOON = Decimal, dt.date, dt.datetime

# A formula without fields and its value. Each runs as a constant, as a row value, and over a column of many rows.
VALUES: list[tuple[str, Any]] = [
    ("1 + 2 * 3", 7),
    ("(1 + 2) * 3", 9),
    ("2 - 3 - 4", -5),
    ("7 / 2", 3.5),
    ("6 / 3", 2.0),
    ("7 % 3", 1),
    ("-7 % 3", -1),
    ("-7.5 % 2", D("-1.5")),
    ("7.5e0 % 2", 1.5),
    ("- -3", 3),
    ("-2 * -3", 6),
    ("1.10 + 2.205", D("3.305")),
    ("1.5 * 1.25", D("1.875")),
    ("1.5 * 2e0", 3.0),
    ("0.1 + 0.2", D("0.3")),
    ("0.1e0 + 0.2e0", 0.1 + 0.2),
    ("1.123456789 * 1.123456789", D("1.262155156750")),
    ("9223372036854775807", 2**63 - 1),
    ("9223372036854775808", D(2**63)),
    ("12345678901234567890.12 + 1", D("12345678901234567891.12")),
    ("99999999999999999999 * 9999999999", D(99999999999999999999 * 9999999999)),
    ("'oak' || ' ' || 'ash'", "oak ash"),
    ("'a' || NULL", None),
    ("'it''s'", "it's"),
    ("1 = 1.0", True),
    ("1 < 2.5e0", True),
    ("'a' < 'B'", False),
    ("'oak' = 'Oak'", False),
    ("'Z' < 'a'", True),
    ("NULL = NULL", None),
    ("1 <> 2", True),
    ("DATE '2026-03-01' < TIMESTAMP '2026-03-01 00:00:01'", True),
    ("TRUE AND NULL", None),
    ("FALSE AND NULL", False),
    ("TRUE OR NULL", True),
    ("FALSE OR NULL", None),
    ("NOT NULL", None),
    ("NOT TRUE OR TRUE", True),
    ("NOT (TRUE OR TRUE)", False),
    ("NULL IS NULL", True),
    ("1 IS NOT NULL", True),
    ("'' IS NULL", False),
    ("(1 = 2) IS FALSE", True),
    ("NULL IS UNKNOWN", True),
    ("(NULL = 1) IS NOT TRUE", True),
    ("1 IS DISTINCT FROM NULL", True),
    ("NULL IS NOT DISTINCT FROM NULL", True),
    ("1 IS DISTINCT FROM 1", False),
    ("3 BETWEEN 1 AND 3", True),
    ("3 NOT BETWEEN 1 AND 2", True),
    ("3 BETWEEN NULL AND 2", False),
    ("3 BETWEEN NULL AND 4", None),
    ("2 IN (1, 2)", True),
    ("3 IN (1, NULL)", None),
    ("1 IN (1, NULL)", True),
    ("3 NOT IN (1, 2)", True),
    ("NULL IN (1)", None),
    ("1.0 IN (1, 2)", True),
    ("'ST-0417' LIKE 'ST-%'", True),
    ("'oak' LIKE 'O%'", False),
    ("'50%' LIKE '50\\%'", False),
    ("'50%' LIKE '50!%' ESCAPE '!'", True),
    ("'a\nb' LIKE 'a_b'", True),
    ("WORKING_DAYS(DATE '2026-03-02', DATE '2026-03-09')", 5),
    ("WORKING_DAYS(DATE '2026-03-09', DATE '2026-03-02')", -5),
    ("WORKING_DAYS(DATE '2026-03-07', DATE '2026-03-08')", 0),
    ("WORKING_DAYS(DATE '2026-03-02', DATE '2026-03-09', '2026-03-04;2026-03-07')", 4),
    ("WORKING_DAYS(DATE '2026-03-02', DATE '2026-03-09', NULL)", None),
    ("AGE('year', DATE '2000-02-29', DATE '2001-02-28')", 0),
    ("AGE('year', DATE '2000-02-29', DATE '2001-03-01')", 1),
    ("AGE('month', DATE '2026-03-30', DATE '2026-01-31')", -1),
    ("'oak' NOT LIKE '_k'", True),
    ("'oak' LIKE 'o%' = TRUE", True),
    ("'oak' NOT LIKE 'o%' = FALSE", True),
    ("'oak' LIKE 'o' || 'a%'", True),
    ("2 BETWEEN 1 AND 3 = TRUE", True),
    ("2 IN (1, 2) = FALSE", False),
    ("CASE WHEN 1 > 2 THEN 'a' WHEN NULL THEN 'b' ELSE 'c' END", "c"),
    ("CASE 2 WHEN 1 THEN 'one' WHEN 2 THEN 'two' END", "two"),
    ("CASE 3 WHEN 1 THEN 'one' END", None),
    ("CASE WHEN TRUE THEN 1 ELSE 2.50 END", D("1.00")),
    ("IF(1 < 2, 'yes', 'no')", "yes"),
    ("IF(NULL, 1, 0)", 0),
    ("COALESCE(NULL, 2, 1)", 2),
    ("COALESCE(NULL, 1, 2.5)", D("1.0")),
    ("NULLIF(3, 3)", None),
    ("GREATEST(1, NULL, 3.5)", D("3.5")),
    ("LEAST('b', 'a')", "a"),
    ("UPPER('straße')", "STRAßE"),
    ("LOWER('ÄÖ')", "äö"),
    ("INITCAP('o''neil SAW-mill')", "O'Neil Saw-Mill"),
    ("TRIM('  x ')", "x"),
    ("TRIM(LEADING '0' FROM '0070')", "70"),
    ("TRIM(BOTH 'ab' FROM 'abxba')", "x"),
    ("REPLACE('aaa', 'a', 'bb')", "bbbbbb"),
    ("REPLACE('aaa', '', 'b')", "aaa"),
    ("SUBSTRING('Hollow' FROM 2 FOR 3)", "oll"),
    ("SUBSTRING('Hollow', -1, 4)", "Ho"),
    ("SUBSTRING('häß', 2)", "äß"),
    ("LEFT('oak', 0)", ""),
    ("RIGHT('oak', 0)", ""),
    ("CHAR_LENGTH('日本')", 2),
    ("POSITION('k' IN 'oak')", 3),
    ("CONTAINS('oak', '')", True),
    ("STARTS_WITH('oak', 'o')", True),
    ("ENDS_WITH('oak', 'ak')", True),
    ("ROUND(2.5)", D(3)),
    ("ROUND(-2.5)", D(-3)),
    ("ROUND(2.675, 2)", D("2.68")),
    ("ROUND(2.675e0, 2)", 2.68),
    ("ROUND(1.005e0, 2)", 1.01),
    ("ROUND(0.5e0)", 1.0),
    ("ROUND(-0.4e0)", 0.0),
    ("ROUND(1250, -2)", 1300),
    ("ROUND(1e300, 2)", 1e300),
    ("ROUND(1250e0, -2)", 1300.0),
    ("ROUND(-1249e0, -2)", -1200.0),
    ("TRUNC(1299e0, -2)", 1200.0),
    ("DIV(7.5e0, 1e0)", 7.0),
    ("CEILING(12345678901234567890.12)", D("12345678901234567891")),
    ("FLOOR(-12345678901234567890.12)", D("-12345678901234567891")),
    ("DIV(-7.5e0, 2)", -3.0),
    ("DATE '9999-12-30' + INTERVAL '1' DAY", DAY(9999, 12, 31)),
    ("DATE '0001-01-02' - INTERVAL '1' DAY", DAY(1, 1, 1)),
    ("TIMESTAMP '9999-12-31 00:00:00' + INTERVAL '23' HOUR", NOON(9999, 12, 31, 23)),
    ("TRUNC(-2.99)", D(-2)),
    ("TRUNC(2.3e0, 1)", 2.3),
    ("ABS(-2.5)", D("2.5")),
    ("SQRT(9)", 3.0),
    ("CAST('12' AS INTEGER)", 12),
    ("CAST(' +12 ' AS INTEGER)", 12),
    ("CAST('007' AS INTEGER)", 7),
    ("CAST('12.345' AS DECIMAL(10,2))", D("12.35")),
    ("CAST('-0.005' AS DECIMAL(10,2))", D("-0.01")),
    ("CAST('1e2' AS NUMBER)", 100.0),
    ("CAST('.5' AS DOUBLE PRECISION)", 0.5),
    ("CAST(2.5 AS INTEGER)", 3),
    ("CAST(-2.5e0 AS BIGINT)", -3),
    ("CAST(2.345e0 AS NUMERIC(5,2))", D("2.35")),
    ("CAST(7 AS DECIMAL(10,2))", D("7.00")),
    ("CAST('Yes' AS BOOLEAN)", True),
    ("CAST('off' AS BOOLEAN)", False),
    ("CAST(TRUE AS TEXT)", "true"),
    ("CAST(0.00001e0 AS TEXT)", "1e-05"),
    ("CAST(1e15 AS TEXT)", "1e+15"),
    ("CAST(123456789012345e0 AS TEXT)", "123456789012345"),
    ("CAST(2.50 AS TEXT)", "2.50"),
    ("CAST(1e0 / 3 AS TEXT)", "0.3333333333333333"),
    ("CAST('2026-03-14' AS DATE)", DAY(2026, 3, 14)),
    ("CAST('14.03.2026' AS DATE FORMAT 'DD.MM.YYYY')", DAY(2026, 3, 14)),
    ("CAST('3/4/2026' AS DATE FORMAT 'MM/DD/YYYY')", DAY(2026, 3, 4)),
    ("CAST('14 mar 26' AS DATE FORMAT 'DD MON YY')", DAY(2026, 3, 14)),
    ("CAST('2026-03' AS DATE FORMAT 'YYYY-MM')", DAY(2026, 3, 1)),
    ("CAST('2026-03-14 07:30' AS TIMESTAMP)", NOON(2026, 3, 14, 7, 30)),
    ("CAST('07:30 PM 14.03.2026' AS TIMESTAMP FORMAT 'HH12:MI PM DD.MM.YYYY')", NOON(2026, 3, 14, 19, 30)),
    ("CAST(DATE '2026-03-04' AS TEXT FORMAT 'Dy DD Mon YYYY')", "Wed 04 Mar 2026"),
    ("CAST(DATE '2026-03-04' AS TEXT FORMAT 'YYYY-MM')", "2026-03"),
    ("CAST(TIMESTAMP '2026-03-04 05:06:07.250' AS TEXT)", "2026-03-04 05:06:07.25"),
    ("CAST(TIMESTAMP '2026-03-04 23:59:59' AS DATE)", DAY(2026, 3, 4)),
    ("CAST(DATE '2026-03-04' AS TIMESTAMP)", NOON(2026, 3, 4)),
    ("CAST(NULL AS INTEGER) IS NULL", True),
    ("DATE '2026-03-01' + 30", DAY(2026, 3, 31)),
    ("DATE '2026-03-01' - 1", DAY(2026, 2, 28)),
    ("DATE '2026-03-01' - DATE '2026-02-01'", 28),
    ("DATE '2026-01-31' + INTERVAL '1' MONTH", DAY(2026, 2, 28)),
    ("DATE '2028-02-29' - INTERVAL '1' YEAR", DAY(2027, 2, 28)),
    ("DATE '2026-01-31' + INTERVAL '2' HOUR", NOON(2026, 1, 31, 2)),
    ("INTERVAL '1' WEEK + DATE '2026-01-01'", DAY(2026, 1, 8)),
    ("TIMESTAMP '2026-01-31 10:00:00' + INTERVAL '1' MONTH", NOON(2026, 2, 28, 10)),
    ("EXTRACT(QUARTER FROM DATE '2026-05-01')", 2),
    ("EXTRACT(WEEK FROM DATE '2027-01-01')", 53),
    ("EXTRACT(ISOYEAR FROM DATE '2027-01-01')", 2026),
    ("EXTRACT(DOW FROM DATE '2026-03-15')", 0),
    ("DATE_TRUNC('quarter', DATE '2026-05-17')", DAY(2026, 4, 1)),
    ("DATE_TRUNC('hour', TIMESTAMP '2026-05-17 08:59:01')", NOON(2026, 5, 17, 8)),
    ("MAKE_DATE(2028, 2, 29)", DAY(2028, 2, 29)),
    ("DATE_DIFF('week', DATE '2026-03-08', DATE '2026-03-09')", 1),
    ("DATE_DIFF('year', DATE '2026-12-31', DATE '2027-01-01')", 1),
    ("1 /* a /* nested */ comment */ + -- and one to the end\n 2", 3),
]

# A formula over the columns of `loads`, and its value in each of the six rows.
# Points that could have been settled otherwise; a list holds the codes of what is found wrong.
SETTLED: list[tuple[str, Any]] = [
    ("CAST('2026' AS DATE FORMAT 'YYYY')", DAY(2026, 1, 1)),
    ("CAST('2026-3-1' AS DATE FORMAT 'YYYY-MM-DD')", DAY(2026, 3, 1)),
    ("CAST('2026-03-01 x' AS DATE FORMAT 'YYYY-MM-DD')", ["constant-fault"]),
    ("CAST('2026-03' AS DATE FORMAT 'YYYY-MM-DD')", ["constant-fault"]),
    ("CAST('2026060' AS DATE FORMAT 'YYYYDDD')", DAY(2026, 3, 1)),
    ("CAST('1.2.70' AS DATE FORMAT 'DD.MM.YY')", DAY(1970, 2, 1)),
    ("CAST('1.2.69' AS DATE FORMAT 'DD.MM.YY')", DAY(2069, 2, 1)),
    ("CAST('MARCH 2026' AS DATE FORMAT 'Month YYYY')", DAY(2026, 3, 1)),
    ("CAST('01:30 pm 2026' AS TIMESTAMP FORMAT 'HH12:MI AM YYYY')", NOON(2026, 1, 1, 13, 30)),
    ("CAST('10:30' AS TIMESTAMP FORMAT 'HH12:MI')", ["bad-template"]),
    ("CAST('03-01' AS DATE FORMAT 'MM-DD')", ["bad-template"]),
    ("CAST(DATE '2026-03-05' AS TEXT FORMAT 'Month DY')", "March THU"),
    ("CAST(TIMESTAMP '2026-03-05 13:04:05.25' AS TEXT FORMAT 'HH12:MI:SS.FF3 AM')", "01:04:05.250 PM"),
    ("CAST(' 12 ' AS INTEGER)", 12),
    ("CAST('12.5' AS INTEGER)", ["constant-fault"]),
    ("CAST('maybe' AS BOOLEAN)", ["constant-fault"]),
    ("CAST('NaN' AS NUMBER)", ["constant-fault"]),
    ("CAST('1e400' AS NUMBER)", ["constant-fault"]),
    ("CAST(1e-5 AS TEXT)", "1e-05"),
    ("CAST(1e-4 AS TEXT)", "0.0001"),
    ("CAST(1.0e0 AS TEXT)", "1"),
    ("CAST(TIMESTAMP '2026-03-01 07:30:00.500' AS TEXT)", "2026-03-01 07:30:00.5"),
    ("ROUND(123456789.123456789e0, 12)", 123456789.123456789),
    ("DATE '2024-02-29' + INTERVAL '1' YEAR", DAY(2025, 2, 28)),
    ("DATE '2026-03-01' + INTERVAL '1' HOUR", NOON(2026, 3, 1, 1)),
    ("INTERVAL '1' DAY + DATE '2026-03-01'", DAY(2026, 3, 2)),
    ("DATE '9999-12-31' + 1", ["constant-fault"]),
    ("DATE '2026-02-30'", ["bad-literal"]),
    ("IF(TRUE, 1, 1 / 0)", ["constant-fault"]),
    ("CASE WHEN FALSE THEN SQRT(-1) ELSE 2 END", ["constant-fault"]),
    ("9223372036854775807 + 1", ["constant-fault"]),
    ("REGEXP_LIKE('a', '(?=a)')", ["bad-argument"]),
    ("WORKING_DAYS(CURRENT_DATE, CURRENT_DATE, '2026-02-30')", ["bad-argument"]),
    ("AGE('fortnight', CURRENT_DATE, CURRENT_DATE)", ["bad-argument"]),
    ("REGEXP_SUBSTR('a1b2', '([a-z])([0-9])', 2)", "1"),
    ("7 % -3", 1),
    ("EXTRACT(SECOND FROM TIMESTAMP '2026-03-01 07:30:15.5')", 15.5),
    ("DATE_DIFF('week', DATE '2026-03-01', DATE '2026-03-02')", 1),
    ("GREATEST(NULL, NULL)", None),
]


ROWS: list[tuple[str, list[Any]]] = [
    ("Cost + 1", [11, 31, None, 21, 21, None]),
    ("Volume * 2", [D("24.00"), D("48.00"), D("9.00"), D("23.00"), D("40.00"), D("9.00")]),
    ("Fee / Cost", [0.15, None, None, 0.025, None, None]),
    ("COALESCE(Cost, 0)", [10, 30, 0, 20, 20, 0]),
    ("Mill || '!'", ["Low Weir!", "High Ford!", "Low Weir!", "High Ford!", "Low Weir!", None]),
    ("Sent AND Cost > 15", [False, False, None, True, True, False]),
    ("NOT Sent", [False, True, None, False, False, True]),
    ("IF(Sent, 'sent', 'kept')", ["sent", "kept", "kept", "sent", "sent", "kept"]),
    ("CASE WHEN Volume < 10 THEN 'small' WHEN Volume < 20 THEN 'middle' ELSE 'large' END",
     ["middle", "large", "small", "middle", "large", "small"]),
    ("CASE WHEN Fee <> 0 THEN Cost / Fee END", [10 / 1.5, None, None, 40.0, None, None]),
    ("Code LIKE '%a%'", [False, True, False, False, False, None]),
    ("TRIM(Code)", ["007", "oak", "", "x", "Ünï", None]),
    ("Mill IN ('Low Weir', 'x')", [True, False, True, False, True, None]),
    ("Cost IS NULL", [False, False, True, False, False, True]),
    ("EXTRACT(DAY FROM Day)", [1, 2, 3, 4, 5, None]),
    ("Day + Cost", [DAY(2026, 3, 11), DAY(2026, 4, 1), None, DAY(2026, 3, 24), DAY(2026, 3, 25), None]),
    ("LEAST(Cost, 15)", [10, 15, 15, 15, 15, 15]),
    ("REPLACE(Mill, 'Weir', Code)", ["Low 007", "High Ford", "Low ", "High Ford", "Low Ünï", None]),
    ('"volume"', [D("12.00"), D("24.00"), D("4.50"), D("11.50"), D("20.00"), D("4.50")]),
]  # fmt: skip

# A formula for groups, and its value over all rows, by mill: High Ford, Low Weir, null.
GROUPS: list[tuple[str, Any, list[Any]]] = [
    ("COUNT(*)", 6, [2, 3, 1]),
    ("COUNT(Cost)", 4, [2, 2, 0]),
    ("COUNT(DISTINCT Volume)", 5, [2, 3, 1]),
    ("SUM(Cost)", 80, [50, 30, None]),
    ("SUM(Volume)", D("76.50"), [D("35.50"), D("36.50"), D("4.50")]),
    ("SUM(DISTINCT Cost)", 60, [50, 30, None]),
    ("AVG(Cost)", 20.0, [25.0, 15.0, None]),
    ("MIN(Day)", DAY(2026, 3, 1), [DAY(2026, 3, 2), DAY(2026, 3, 1), None]),
    ("MAX(Mill)", "Low Weir", ["High Ford", "Low Weir", None]),
    ("MEDIAN(Volume)", 11.75, [17.75, 12.0, 4.5]),
    ("SUM(Cost) FILTER (WHERE Sent)", 50, [20, 30, None]),
    ("COUNT(*) FILTER (WHERE Cost > 100)", 0, [0, 0, 0]),
    ("SUM(Cost) / SUM(Volume)", 80 / 76.5, [50 / 35.5, 30 / 36.5, None]),
    ("COALESCE(SUM(Cost), 0) + 1", 81, [51, 31, 1]),
    ("CASE WHEN SUM(Cost) > 40 THEN 'dear' ELSE 'cheap' END", "dear", ["dear", "cheap", "cheap"]),
    ("SUM(Cost * 2) - SUM(Cost)", 80, [50, 30, None]),
    ("COUNT(LAG(Cost) OVER (ORDER BY Day))", 4, [1, 2, 1]),
    ("SUM(Cost) * 1.0 / SUM(SUM(Cost)) OVER ()", 1.0, [0.625, 0.375, None]),
    ("LISTAGG(Code, '|') WITHIN GROUP (ORDER BY Day DESC)", "Ünï| x ||oak|007", [" x |oak", "Ünï||007", None]),
    ("PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY Cost)", 20, [20, 10, None]),
    ("STDDEV_SAMP(Cost)", 8.16496580927726, [50**0.5, 50**0.5, None]),
    ("ANY_VALUE(Mill)", "Low Weir", ["High Ford", "Low Weir", None]),
    ("BOOL_OR(Sent)", True, [True, True, False]),
]

# A wrong formula: the code of its first finding, the column and length it points at, and words of message or hint.
WRONG: list[tuple[str, str, int, int, str]] = [
    ("", "empty", 1, 1, "empty"),
    ("Volum", "unknown-field", 1, 5, "Did you mean Volume?"),
    ('Mill = "Low Weir"', "unknown-field", 8, 10, "'Low Weir'"),
    ("Zebra", "unknown-field", 1, 5, "no field Zebra"),
    ("UPER(Mill)", "unknown-function", 1, 4, "UPPER"),
    ("Volume + Mill", "wrong-type", 10, 4, "CAST(Mill AS NUMBER)"),
    ("Mill + 'x'", "text-added", 1, 10, "||"),
    ("Mill = 3", "wrong-type", 8, 1, "'3'"),
    ("Cost = '3'", "wrong-type", 8, 3, "Write 3"),
    ("Mill || Cost", "wrong-type", 9, 4, "CAST(Cost AS TEXT)"),
    ("Cost AND Sent", "condition-wanted", 1, 4, "condition"),
    ("NOT Cost", "condition-wanted", 5, 4, "condition"),
    ("-Mill", "wrong-type", 2, 4, "before a number"),
    ("Day + Day", "wrong-type", 1, 3, "date"),
    ("SUM(Cost) + Cost", "grain-mixed", 13, 4, "SUM(Cost)"),
    ("SUM(SUM(Cost))", "aggregate-nested", 5, 9, "per group already"),
    ("IF(Cost, 1, 2)", "condition-wanted", 4, 4, "condition"),
    ("IF(Sent)", "argument-count", 1, 2, "IF takes"),
    ("CASE WHEN Sent THEN 1 ELSE 'a' END", "wrong-type", 28, 3, "one type"),
    ("CASE WHEN Sent THEN 1", "open-case", 1, 4, "END"),
    ("CASE Sent END", "branch-missing", 1, 4, "WHEN"),
    ("CASE WHEN Sent 1 END", "word-missing", 16, 1, "THEN"),
    ("(Cost + 1", "open-parenthesis", 1, 1, "never closed"),
    ("Cost + 1)", "stray-parenthesis", 9, 1, "closes nothing"),
    ("ROUND(Cost", "open-parenthesis", 6, 1, "never closed"),
    ("Cost +", "value-missing", 6, 1, "needs a value"),
    ("* Cost", "value-missing", 1, 1, "missing"),
    ("Cost == 1", "foreign-operator", 6, 2, "Write ="),
    ("Cost != 1", "foreign-operator", 6, 2, "Write <>"),
    ("Sent && Sent", "foreign-operator", 6, 2, "Write AND"),
    ("1 < 2 < 3", "chained", 7, 1, "do not chain"),
    ("Haulage cost", "unexpected", 9, 4, '"Haulage cost"'),
    ("'abc", "open-quote", 1, 1, "never closed"),
    ('"abc', "open-quote", 1, 1, "never closed"),
    ("1 /* x", "open-comment", 3, 2, "*/"),
    ("Mill[1]", "stray-character", 5, 1, "double quotes"),
    ("“Mill”", "stray-character", 1, 1, "straight quotes"),
    ("Cost;", "stray-character", 5, 1, "semicolon"),
    ("Else + 1", "value-missing", 1, 4, "ELSE"),
    ("When", "value-missing", 1, 4, "WHEN"),
    ("Like", "value-missing", 1, 4, "LIKE"),
    ("Distinct + 1", "reserved-word", 1, 8, '"Distinct"'),
    ("Cost IN 1", "list-missing", 6, 2, "parentheses"),
    ("Cost IN (1, 'a')", "wrong-type", 13, 3, "one type"),
    ("Cost BETWEEN 1", "word-missing", 15, 1, "AND"),
    ("Day BETWEEN 1 AND 2", "wrong-type", 13, 1, "date"),
    ("Cost IS 3", "word-missing", 6, 2, "NULL"),
    ("Cost LIKE 'a'", "wrong-type", 1, 4, "CAST(Cost AS TEXT)"),
    ("CAST(Cost AS MONEY)", "unknown-type", 14, 5, "Types are"),
    ("CAST(Cost AS DECIMAL)", "bad-type", 14, 7, "DECIMAL(12,2)"),
    ("CAST(Cost AS DECIMAL(50,2))", "bad-type", 14, 13, "38"),
    ("CAST(Cost TEXT)", "word-missing", 11, 4, "AS"),
    ("CAST(Sent AS DATE)", "no-cast", 1, 18, "cannot become"),
    ("CAST(Code AS DATE FORMAT 'QQ')", "bad-template", 26, 4, "not a part of a date"),
    ("CAST(Code AS DATE FORMAT 'HH12')", "bad-template", 26, 6, "AM"),
    ("CAST(Cost AS TEXT FORMAT 'YYYY')", "stray-template", 26, 6, "FORMAT"),
    ("CAST('31.02.2026' AS DATE FORMAT 'DD.MM.YYYY')", "constant-fault", 1, 46, "not a valid date"),
    ("1 / 0", "constant-fault", 1, 5, "division by zero"),
    ("IF(Sent, 1 / 0, 1)", "constant-fault", 10, 5, "division by zero"),
    ("9223372036854775807 + 1", "constant-fault", 1, 23, "overflow"),
    ("DATE '2026-02-30'", "bad-literal", 6, 12, "not a valid"),
    ("INTERVAL '1.5' DAY + Day", "bad-literal", 10, 5, "whole number"),
    ("INTERVAL '1' DAY", "stray-interval", 1, 16, "date"),
    ("Cost + INTERVAL '1' DAY", "wrong-type", 1, 4, "date"),
    ("EXTRACT(AGE FROM Day)", "unknown-part", 9, 3, "Parts are"),
    ("DATE_TRUNC('age', Day)", "bad-argument", 12, 5, "not a unit"),
    ("DATE_TRUNC(Mill, Day)", "constant-wanted", 12, 4, "fixed"),
    ("ROUND(Mill)", "wrong-type", 7, 4, "numeric"),
    ("ROUND(Cost, 1, 2)", "argument-count", 1, 17, "ROUND(x numeric"),
    ("REPLACE(Mill, 'a')", "argument-count", 1, 18, "written"),
    ("UPPER(DISTINCT Mill)", "not-aggregate", 1, 5, "aggregates"),
    ("SUM(*)", "argument-count", 1, 6, "Only COUNT"),
    ("SUM(Mill)", "wrong-type", 5, 4, "numeric"),
    ("SUM(Cost) FILTER (WHERE Cost)", "condition-wanted", 25, 4, "FILTER"),
    ('"SUM"(Cost)', "quoted-function", 1, 5, "SUM"),
    ("LAG(Cost)", "over-missing", 1, 3, "OVER (ORDER BY"),
    ("LAG(Cost) OVER ()", "order-missing", 1, 3, "which row comes before"),
    ("RANK() OVER (PARTITION BY Mill)", "order-missing", 1, 4, "ORDER BY"),
    ("ROW_NUMBER() OVER Mill", "order-missing", 1, 10, "order"),
    ("SUM(Cost) OVER (ORDER BY Day ROWS BETWEEN CURRENT AND CURRENT ROW)", "bad-frame", 43, 7, "whole number"),
    ("MEDIAN(Cost) OVER (ORDER BY Day)", "not-window", 1, 6, "whole partitions"),
    ("UPPER(Mill) OVER ()", "not-window", 1, 5, "before OVER"),
    ("COUNT(DISTINCT Mill) OVER (ORDER BY Day)", "not-window", 1, 5, "DISTINCT"),
    ("SUM(Cost) OVER (ORDER BY Day ROWS BETWEEN 'a' PRECEDING AND CURRENT ROW)", "bad-frame", 43, 13, "whole number"),
    ("SUM(Cost) OVER (ORDER BY Mill RANGE BETWEEN 1 PRECEDING AND CURRENT ROW)", "bad-frame", 45, 11, "fits it"),
    (
        "SUM(Cost) OVER (ORDER BY Cost RANGE BETWEEN INTERVAL '1' DAY PRECEDING AND CURRENT ROW)",
        "bad-frame",
        45,
        26,
        "fits it",
    ),
    (
        "SUM(Cost) OVER (ORDER BY Day ROWS BETWEEN UNBOUNDED FOLLOWING AND CURRENT ROW)",
        "bad-frame",
        30,
        48,
        "begins before",
    ),
    ("SUM(Cost) OVER (ORDER Day)", "word-missing", 17, 5, "ORDER BY"),
    ("SUM(SUM(Cost)) OVER () + Cost", "grain-mixed", 26, 4, "per group"),
    ("LISTAGG(Mill, ', ')", "within-group", 1, 7, "WITHIN GROUP"),
    ("SUM(Cost) WITHIN GROUP (ORDER BY Day)", "within-group", 1, 3, "takes no WITHIN GROUP"),
    ("PERCENTILE_CONT(2) WITHIN GROUP (ORDER BY Cost)", "bad-argument", 17, 1, "0 to 1"),
    ("PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY Mill)", "wrong-type", 45, 4, "one number"),
    ("LISTAGG(Mill, Code) WITHIN GROUP (ORDER BY Day)", "constant-wanted", 15, 4, "fixed"),
    ("REGEXP_LIKE(Mill, '(')", "bad-argument", 19, 3, "pattern"),
    ("REGEXP_LIKE(Mill, Code)", "constant-wanted", 19, 4, "fixed"),
    ("REGEXP_LIKE(Mill, 'a', 'x')", "bad-argument", 24, 3, "flags"),
    ("REGEXP_REPLACE(Mill, '(a)', '\\2')", "bad-argument", 29, 4, "pattern"),
    ("NTILE(0) OVER (ORDER BY Day)", "bad-argument", 7, 1, "part"),
    ("LPAD(Mill)", "argument-count", 1, 10, "LPAD(x text"),
    ("SPLIT_PART(Mill, '-', '1')", "wrong-type", 23, 3, "integer"),
    ("POWER(Mill, 2)", "wrong-type", 7, 4, "number"),
    ("WIDTH_BUCKET(1, 2, 3)", "argument-count", 1, 21, "WIDTH_BUCKET"),
    ("BOOL_AND(Cost)", "wrong-type", 10, 4, "boolean"),
    ("MOD(Cost, Mill)", "wrong-type", 11, 4, "numeric"),
    ("COALESCE(Cost, Mill)", "wrong-type", 16, 4, "one type"),
    ("GREATEST(Day, Cost)", "wrong-type", 15, 4, "one type"),
    ("NULLIF(Mill, 1)", "wrong-type", 14, 1, "one type"),
    ("CONCAT()", "argument-count", 1, 8, "0 arguments"),
    ("DATE_DIFF('day', Day)", "argument-count", 1, 21, "DATE_DIFF"),
    ("DATE_DIFF('decade', Day, Day)", "bad-argument", 11, 8, "units are"),
    ("MAKE_DATE(2026, 2, 30)", "constant-fault", 1, 22, "not a valid date"),
    ("LN(0)", "constant-fault", 1, 5, "logarithm"),
    ("SQRT(-1)", "constant-fault", 1, 8, "root"),
    ("CAST('x' AS INTEGER)", "constant-fault", 1, 20, "whole number"),
    ("CAST('maybe' AS BOOLEAN)", "constant-fault", 1, 24, "yes or no"),
    ("CAST(Day AS BOOLEAN)", "no-cast", 1, 20, "cannot become"),
    ("CAST(Cost AS TEXT(5))", "bad-type", 14, 7, "takes no numbers"),
    ("CAST(Code AS DATE FORMAT YYYY)", "word-missing", 26, 4, "quotes"),
    ("CAST(Code AS DATE FORMAT 'DD.DD')", "bad-template", 26, 7, "twice"),
    ("POSITION('a', Mill)", "word-missing", 1, 8, "POSITION(part IN text)"),
    ("Mill LIKE 'a!' ESCAPE '!!'", "bad-escape", 23, 4, "one character"),
    ("Mill LIKE 'a!' ESCAPE '!'", "bad-pattern", 11, 4, "escape"),
    ("Cost BETWEEN 'a' AND 'b'", "wrong-type", 14, 3, "BETWEEN"),
    ("Cost IN ()", "value-missing", 9, 1, "needs a value"),
    ("Cost + (1, 2)", "stray-comma", 10, 1, "list"),
    ("TIMESTAMP '2026-13-01 00:00:00'", "bad-literal", 11, 21, "not a valid"),
    ("DATE '1.3.2026'", "bad-literal", 6, 10, "DATE '2026-03-31'"),
    ("INTERVAL '1' FORTNIGHT + Day", "bad-literal", 14, 9, "unit"),
    ("INTERVAL '1' DAY * 2", "stray-interval", 1, 16, "added to a date"),
    ("Day - Mill", "wrong-type", 7, 4, "text"),
    ("NOT Mill", "condition-wanted", 5, 4, "condition"),
    ("Mill IS TRUE", "condition-wanted", 1, 4, "condition"),
    ("CASE Mill WHEN 1 THEN 2 END", "wrong-type", 16, 1, "'1'"),
    ("COUNT(*, Cost)", "value-missing", 6, 1, "("),
    ("AVG()", "argument-count", 1, 5, "0 arguments"),
    ("Mill ||", "value-missing", 6, 2, "needs a value"),
    ("Cost = ", "value-missing", 6, 1, "needs a value"),
    ("AND Sent", "value-missing", 1, 3, "AND"),
    ("`Mill`", "stray-character", 1, 1, "double quotes"),
    ("Cost × 2", "foreign-operator", 6, 1, "*"),
    ("Cost ≠ 2", "foreign-operator", 6, 1, "<>"),
    ("Mill & Code", "foreign-operator", 6, 1, "||"),
    ("SUBSTRING(Cost, 1)", "wrong-type", 11, 4, "CAST(Cost AS TEXT)"),
    ("LEFT(Mill, 'a')", "wrong-type", 12, 3, "integer"),
    ("TRIM(Cost)", "wrong-type", 6, 4, "CAST(Cost AS TEXT)"),
    ("STARTS_WITH(Mill, 1)", "wrong-type", 19, 1, "'1'"),
    ("EXTRACT(DAY FROM Mill)", "wrong-type", 18, 4, "temporal"),
    ("DATE_TRUNC('month', Cost)", "wrong-type", 21, 4, "temporal"),
    ("SQRT(Sent)", "wrong-type", 6, 4, "a boolean"),
    ("LAG(Cost, 1, 'none') OVER (ORDER BY Day)", "wrong-type", 14, 6, "one type"),
    ("SUM(Cost) OVER (PARTITION BY Zebra)", "unknown-field", 30, 5, "Zebra"),
    ("COUNT(*) FILTER (WHERE Zebra)", "unknown-field", 24, 5, "Zebra"),
    ("COUNT(*) FILTER (Cost > 1)", "word-missing", 18, 4, "WHERE"),
    ("Cost NOT 5", "unexpected", 6, 3, "unexpected"),
    ("NULL + 'a'", "wrong-type", 8, 3, ""),
    ("'a' BETWEEN 1 AND 2", "wrong-type", 1, 3, "BETWEEN"),
    ("Sent > 1", "wrong-type", 8, 1, "boolean"),
    ("1e999", "too-large", 1, 5, "digits"),
    ("(" * 70 + "1" + ")" * 70, "too-deep", 65, 1, "levels deep"),
]


class Values(unittest.TestCase):
    def test_constants(self) -> None:
        source = loads()
        for formula, wanted in VALUES:
            with self.subTest(formula):
                checked = source.check_formula(formula)
                self.assertEqual(checked.findings, ())
                answer = source.rows([("x", formula)], limit=2)
                self.assertEqual(answer.faults, ())
                self.same(answer.table.column("x").to_pylist(), [wanted, wanted])

    def test_settled_points(self) -> None:
        source = loads()
        for formula, wanted in SETTLED:
            with self.subTest(formula):
                checked = source.check_formula(formula)
                if isinstance(wanted, list):
                    self.assertEqual([one.code for one in checked.findings], wanted)
                else:
                    self.same(source.rows([("x", formula)], limit=1).table.column(0).to_pylist(), [wanted])

    def test_rows(self) -> None:
        source = loads()
        for formula, wanted in ROWS:
            with self.subTest(formula):
                answer = source.rows([("x", formula)])
                self.same(answer.table.column("x").to_pylist(), wanted)
                many = source.rows([("x", f"IF(Volume > -1, {formula}, NULL)")])
                self.same(many.table.column("x").to_pylist(), wanted)

    def test_groups(self) -> None:
        source = loads()
        for formula, whole, by_mill in GROUPS:
            with self.subTest(formula):
                answer = source.tally(["Mill"], [("x", formula)], totals=True)
                self.same(answer.table.column("x").to_pylist(), by_mill)
                assert answer.totals is not None
                self.same(answer.totals.column("x").to_pylist(), [whole])
                self.same(source.tally(show=[("x", formula)]).table.column("x").to_pylist(), [whole])

    def same(self, got: list[Any], wanted: list[Any]) -> None:
        self.assertEqual(len(got), len(wanted))
        for one, other in zip(got, wanted, strict=True):
            self.assertIs(type(one), type(other), (got, wanted))
            if isinstance(one, float):
                self.assertTrue(math.isclose(one, other, rel_tol=1e-12), (got, wanted))
            else:
                self.assertEqual(one, other)
            if isinstance(one, Decimal):
                self.assertEqual(one.as_tuple().exponent, other.as_tuple().exponent, (got, wanted))

    def test_every_example_of_the_library(self) -> None:
        import pyarrow as pa

        table = pa.table({
            "Mill": ["Low Weir", "Low Weir", "High Ford", "High Ford", "Low Weir", "High Ford"],
            "Volume": pa.array([D("4.5"), D("12.0"), D("24.0"), D("11.5"), D("12.0"), D("12.5")]),
            "Cost": pa.array([10, 20, 10, None, None, 30]),
            "Day": [DAY(2026, 3, day) for day in (1, 2, 3, 4, 5, 5)],
        })  # fmt: skip
        source = oak.Source.from_table(table, name="Examples").with_baseline(table.slice(0, 4))
        entries = oak.find_functions()
        self.assertGreater(len(entries), 30)
        for entry in entries:
            self.assertGreaterEqual(len(entry.examples), 2, entry.name)
            self.assertTrue(entry.sentence.endswith("."), entry.name)
            for formula, wanted in entry.examples:
                with self.subTest(formula):
                    if entry.window:  # the examples show the second row
                        value = source.rows([("x", formula)], limit=2).table.column(0)[1].as_py()
                    else:
                        value = source.tally(show=[("x", formula if entry.aggregate else f"MAX({formula})")]).value()
                    shown = value_text(value) if value is not None else "null"
                    self.assertEqual(shown, wanted)

    def test_search(self) -> None:
        found = [entry.name for entry in oak.find_functions("replace")]
        self.assertEqual(found[0], "REPLACE")
        self.assertIn("SUBSTRING", [entry.name for entry in oak.find_functions("position")])
        self.assertEqual(
            [oak.find_functions(word)[0].name for word in ("case", "||", "<=", "not", "cast")],
            ["CASE", "||", "= <> < <= > >=", "AND OR NOT", "CAST"],
        )
        self.assertEqual(oak.find_functions("zebra"), [])


class Mistakes(unittest.TestCase):
    def test_each_is_told_in_its_place(self) -> None:
        source = loads()
        for formula, code, column, length, words in WRONG:
            with self.subTest(formula[:60]):
                checked = source.check_formula(formula)
                self.assertIsNone(checked.checked)
                first = checked.findings[0]
                self.assertEqual(
                    (first.code, first.place.column, first.place.length), (code, column, length), first.lines()
                )
                self.assertIn(words, f"{first.message} {first.hint}")
                self.assertTrue(first.message.endswith((".", "?")), first.message)

    def test_a_repair_that_is_offered_works(self) -> None:
        source = loads()
        offered = 0
        for formula, *_ in WRONG:
            for found in source.check_formula(formula).findings:
                if found.fixed is not None and len(source.check_formula(formula).findings) == 1:
                    offered += 1
                    with self.subTest(formula=formula, fixed=found.fixed):
                        left = [one for one in source.check_formula(found.fixed).findings if one.code == found.code]
                        self.assertEqual([one.place.start for one in left if one.place.start == found.place.start], [])
        self.assertGreater(offered, 15)

    def test_all_errors_at_once(self) -> None:
        codes = [found.code for found in loads().check_formula("Volum + UPER(Mill) + ROUND(Mil)").findings]
        self.assertEqual(codes, ["unknown-field", "unknown-function", "unknown-field"])

    def test_places_in_several_lines(self) -> None:
        found = loads().check_formula("Cost\n  + Volum\n  + 1").findings[0]
        self.assertEqual((found.place.line, found.place.column), (2, 5))
        self.assertEqual(found.place.pointed(), ["  + Volum", "    ^^^^^"])

    def test_long_chains_and_deep_ones(self) -> None:
        source = loads()
        chain = " + ".join(["Cost"] * 20_000)
        self.assertEqual(source.rows([("x", chain)], limit=1).value(), 200_000)
        cases = "CASE " + " ".join(f"WHEN Cost = {at} THEN {at}" for at in range(5_000)) + " END"
        self.assertIsNone(source.check_formula(cases).findings or None)
        deep = "(" * 100_000
        self.assertEqual(source.check_formula(deep).findings[0].code, "too-deep")


class Trees(unittest.TestCase):
    def test_spans_give_back_the_text(self) -> None:
        for formula, _ in VALUES:
            tree = parse(formula).tree
            for node in walk(tree):
                self.assertLessEqual(0, node.start)
                self.assertLessEqual(node.end, len(formula))
            self.assertEqual(parse(formula).findings, ())

    def test_names_are_found_where_they_stand(self) -> None:
        text = '"Haulage cost" + IF(Volume > 0, UPPER(mill) || \'Volume\', "a""b")'
        found = names(parse(text).tree)
        self.assertEqual([name.name for name in found], ["Haulage cost", "Volume", "mill", 'a"b'])
        self.assertEqual(
            [text[name.start : name.end] for name in found], ['"Haulage cost"', "Volume", "mill", '"a""b"']
        )

    def test_how_names_are_written(self) -> None:
        cases = {
            "Volume": "Volume",
            "Haulage cost": '"Haulage cost"',
            "End": '"End"',
            'a"b': '"a""b"',
            "m³": "m³",
            "Größe": "Größe",
        }
        for name, written in cases.items():
            self.assertEqual(quote_identifier(name), written)
            self.assertEqual([one.name for one in names(parse(written).tree)], [name])


class Faults(unittest.TestCase):
    CASES: tuple[tuple[str, str, int, dict[str, Any]], ...] = (
        ("1 / Fee", "division by zero", 1, {"Fee": 0.0}),
        ("CAST(Code AS INTEGER)", "not a whole number", 4, {"Code": "oak"}),
        ("CAST(Code AS DATE)", "not a date written as YYYY-MM-DD", 5, {"Code": "007"}),
        ("SQRT(Cost - 15)", "root of a negative number", 1, {"Cost - 15": -5}),
        ("Cost + 9223372036854775800", "integer overflow", 4, {"Cost": 10}),
        ("Cost * 9223372036854775800", "integer overflow", 4, {"Cost": 10}),
        ("Volume * 1e307", "number overflow", 2, {"Volume": 24.0}),
        ("Day + 99999999", "a date outside years 1 to 9999", 5, {"Day": dt.date(2026, 3, 1)}),
        ("CAST(Volume AS DECIMAL(3,2))", "more than 3 digits", 4, {"Volume": D("12.00")}),
        ("MAKE_DATE(2026, 2, Cost)", "not a valid date", 1, {"Cost": 30}),
        ("Cost % (Cost - 10)", "division by zero", 1, {"Cost": 10}),
    )

    def test_they_are_recorded_with_rows_and_inputs(self) -> None:
        for formula, what, rows, inputs in self.CASES:
            with self.subTest(formula):
                answer = loads().rows([("x", formula)])
                self.assertEqual([(one.field, one.what, one.rows) for one in answer.faults], [("x", what, rows)])
                first = answer.faults[0].samples[0]
                values = {key: value for key, value in first[1].items() if key in inputs}
                self.assertEqual(values, inputs, first)
                self.assertIsNone(answer.table.column("x")[first[0] - 1].as_py())

    def test_strict_makes_them_errors(self) -> None:
        with self.assertRaises(oak.FormulaError) as caught:
            loads().rows([("x", "1 / Fee")], strict=True)
        self.assertEqual(caught.exception.code, "fault")

    def test_a_branch_that_is_not_taken_faults_nothing(self) -> None:
        answer = loads().rows([("x", "IF(Fee <> 0, 1 / Fee, 0)")])
        self.assertEqual(answer.faults, ())

    def test_a_field_that_only_a_branch_needs_faults_in_its_rows_only(self) -> None:
        source = oak.Source.from_table(pa.table({"i": [1, 0, 2, None]}), name="R").with_field("x", "10 / i")
        source = source.with_field("y", "x + 1").with_field("z", "CASE WHEN i > 0 THEN y ELSE 0 END")
        cases: tuple[tuple[str, list[Any], int], ...] = (
            ("CASE WHEN i > 9 THEN x ELSE 0 END", [0, 0, 0, 0], 0),
            ("CASE WHEN i > 0 THEN x ELSE 0 END", [10.0, 0, 5.0, 0], 0),
            ("CASE WHEN i >= 0 THEN y END", [11.0, None, 6.0, None], 1),
            ("CASE WHEN i > 9 THEN 1 WHEN x > 5 THEN 2 END", [2, None, None, None], 1),
            ("CASE WHEN i > 0 THEN x ELSE 0 END + COALESCE(x, 0)", [20.0, 0, 10.0, 0], 1),
            ("z", [11.0, 0, 6.0, 0], 0),
            ("CASE WHEN i > 9 THEN CASE WHEN x > 1 THEN y END ELSE z END", [11.0, 0, 6.0, 0], 0),
        )
        for formula, wanted, faults in cases:
            for rows in (1, 1 << 17):
                with self.subTest(formula, rows=rows), overridden(rows=rows):
                    answer = source.rows([("c", formula)])
                    self.assertEqual(answer.table["c"].to_pylist(), wanted)
                    self.assertEqual(sum(one.rows for one in answer.faults), faults)
        self.assertEqual(source.tally(["i"], [("s", "SUM(z)")], where="z > 1").faults, ())

    def test_the_clock_stands_still_within_a_formula(self) -> None:
        source = oak.Source.from_table(pa.table({"i": [1]}), name="R")
        for formula in ("CURRENT_TIMESTAMP = CURRENT_TIMESTAMP", "CAST(CURRENT_TIMESTAMP AS DATE) = CURRENT_DATE"):
            self.assertIs(source.rows([("c", formula)]).value(), True)

    def test_a_cast_leaves_out_ascii_white_space_around_a_value(self) -> None:
        kinds = {"INTEGER": "12", "DECIMAL(5,2)": "1.5", "NUMBER": "1e3", "BOOLEAN": "yes", "DATE": "2026-03-01", "TIMESTAMP": "2026-03-01 07:30:00", "DATE FORMAT 'DD.MM.YYYY'": "01.03.2026"}  # fmt: skip
        for kind, text in kinds.items():
            texts = [text, f" {text}\t", f"\r\n{text}\x0b", f"\u00a0{text}", f"{text}\u2009", f"\u2003{text}"]
            answer = oak.Source.from_table(pa.table({"t": texts}), name="R").rows([("c", f"CAST(t AS {kind})")])
            with self.subTest(kind):
                values = answer.table["c"].to_pylist()
                self.assertEqual([one is None for one in values], [False] * 3 + [True] * 3)
                self.assertEqual(values[1:3], values[:1] * 2)

    def test_rows_that_are_filtered_out_fault_nothing(self) -> None:
        answer = loads().rows([("x", "1 / Fee")], where="Fee > 0")
        self.assertEqual((answer.faults, answer.table.num_rows), ((), 3))

    def test_a_field_is_named_as_the_maker(self) -> None:
        source = (
            loads()
            .with_field("Per fee", "Cost / Fee")
            .with_field("Twice", '"Per fee" * 2')
            .with_field("Zero", "1 / Fee")
        )
        answer = source.tally(show=["SUM(Twice)", "SUM(Zero)"])
        self.assertEqual([(one.field, one.rows) for one in answer.faults], [("Zero", 1)])


if __name__ == "__main__":
    unittest.main()
